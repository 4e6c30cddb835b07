"""Shapes over parts: dialled, recorded, corrected, split, mirrored, taken along; undone, saved, read again, refused where they are wrong."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import F32
from kneten.core.live.primitive import Primitive
from kneten.core.mesh import Mesh
from kneten.core.pose.rig import Joint, Rig
from kneten.core.pose.shapes import Driver, Shape, ShapeError
from kneten.core.relief import Relief
from kneten.core.stack import Layer
from kneten.core.transform import Transform
from kneten.document.arrays_file import ProjectFileError
from kneten.document.driving import shape_layer, shapes_of
from kneten.document.layering import change_layer, copy_layer, record
from kneten.document.opening import stack_of
from kneten.document.posing import low_clay
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.rigging import add_rigs, made_rig, pose_rigs, posed_alike, rig_of
from kneten.document.scene import Part, Scene
from kneten.document.shape_sides import (
    clean_shape,
    even_shape,
    mirror_shape,
    other_side,
    shape_of_pose,
    sided,
    split_shape,
    take_along,
)
from kneten.document.shapes import (
    add_part,
    add_shape,
    between_driver,
    copy_shape,
    dial,
    drivers_now,
    joint_drivers,
    merge_shapes,
    neutral,
    record_shape,
    recorded_shape,
    remove_shape,
    rename_shape,
    set_drivers,
    where_seen,
    with_dials,
)
from tests.conftest import make_ball
from tests.document.test_painting import paint, painted, shows_its_layers, the

MOVED = Transform((70.0, 0.0, 0.0), (0.0, 0.38268343, 0.0, 0.92387953), 1.5)


def face() -> Project:
    """A ball and a smaller one above it, as head and hat, with a shape over both."""
    head = Part("Head", make_ball(divisions=12))
    hat = Part("Hat", make_ball(20.0, 6), transform=Transform((0.0, 115.0, 0.0)))
    project = Project(Scene((head, hat)))
    project.choose(head.id)
    return project


def part_called(project: Project, name: str) -> Part:
    return next(part for part in project.scene.parts if part.name == name)


def head_of(project: Project) -> Part:
    return part_called(project, "Head")


def push(project: Project, part: Part, moves: F32, name: str = "Stroke") -> None:
    """What a stroke does: the clay in hand moved, (n, 3)."""
    project.move_vertices(part.id, (part.mesh.positions + moves).astype(np.float32), name)


def bump(part: Part, at: tuple[float, float, float], size: float = 30.0, high: float = 10.0) -> F32:
    """Moves outwards near a place."""
    off = np.linalg.norm(part.mesh.positions - np.array(at), axis=1)
    return (np.exp(-((off / size) ** 2))[:, None] * high * part.mesh.normals).astype(np.float32)


def with_shape(
    name: str = "Puff", at: tuple[float, float, float] = (60.0, 0.0, 80.0)
) -> tuple[Project, str, F32]:
    """A face whose head has a shape, at rest; what it does to it."""
    project = face()
    key = add_shape(project, [head_of(project).id], name)
    moves = bump(head_of(project), at)
    push(project, head_of(project), moves)
    record_shape(project, "")
    neutral(project, [head_of(project).id])
    return project, key, moves


def test_strokes_on_all_parts_go_to_the_shape_and_its_dial_moves_them() -> None:
    project = face()
    rest = {part.id: part.mesh.positions.copy() for part in project.scene.parts}
    key = add_shape(project, [part.id for part in project.scene.parts], "Puff", "34")
    moves = {}
    for part in project.scene.parts:
        assert recorded_shape(part) == key
        moves[part.id] = bump(part, (0.0, 0.0, 0.0), 1e6, 3.0)
        push(project, part, moves[part.id])
    for value in (-0.5, 0.0, 0.5, 1.5):
        dial(project, {key: value}, "Puff")
        for part in project.scene.parts:
            wanted = rest[part.id] + moves[part.id] * np.float32(value)
            assert np.abs(part.mesh.positions - wanted).max() < 1e-4
    assert shapes_of(project.scene)[key].dial == 1.5
    dial(project, {key: 9.0}, "Puff")
    assert shapes_of(project.scene)[key].dial == 1.5
    names = project.history.names()
    dial(project, {key: 1.5}, "Puff")
    assert project.history.names() == names
    while project.undo() is not None:
        pass
    assert not shapes_of(project.scene)
    assert all(np.array_equal(part.mesh.positions, rest[part.id]) for part in project.scene.parts)


def test_a_shape_at_rest_takes_no_strokes_and_is_dialled_up_to_take_them() -> None:
    project, key, _ = with_shape()
    assert recorded_shape(head_of(project)) == ""
    record_shape(project, key)
    assert shapes_of(project.scene)[key].dial == 1.0
    assert recorded_shape(head_of(project)) == key
    dial(project, {key: 0.0}, "Puff")
    assert stack_of(head_of(project)).recording == ""


def test_a_project_keeps_its_shapes(tmp_path: Path) -> None:
    project, key, _ = with_shape()
    dial(project, {key: 0.7}, "Puff")
    other = add_shape(
        project, [head_of(project).id], "Puffed more", drivers=drivers_now(project.scene, [key]), on={}
    )
    save_project(project, tmp_path / "face.kneten")
    again = open_project(tmp_path / "face.kneten")
    now, then = shapes_of(again.scene), shapes_of(project.scene)
    assert [(one.name, one.dial, one.shape) for one in now.values()] == [
        (one.name, one.dial, one.shape) for one in then.values()
    ]
    assert now[other].shape.drivers[0].source == key
    assert np.array_equal(head_of(again).mesh.positions, head_of(project).mesh.positions)


def test_a_file_with_a_wrong_driver_is_refused(tmp_path: Path) -> None:
    project, key, _ = with_shape()
    head = head_of(project)
    stack = stack_of(head)
    wrong = replace(stack.layers[0], shape=Shape(id=key, drivers=(Driver(key),)))
    project.change("Wrong", project.scene.with_part(replace(head, stack=replace(stack, layers=(wrong,)))))
    save_project(project, tmp_path / "face.kneten")
    with pytest.raises(ProjectFileError, match="shape of layer Puff"):
        open_project(tmp_path / "face.kneten")


def test_a_correction_is_what_was_sculpted_and_fades_as_either_leaves() -> None:
    project, a, first = with_shape("Jaw", (0.0, -60.0, 80.0))
    head = head_of(project)
    rest = head.mesh.positions.copy()
    b = add_shape(project, [head.id], "Corner")
    second = bump(head_of(project), (60.0, 0.0, 80.0))
    push(project, head_of(project), second)
    dial(project, {a: 0.8}, "Jaw")
    both = add_shape(project, [head.id], "Both", drivers=drivers_now(project.scene, [a, b]))
    assert shapes_of(project.scene)[both].dial == 1.0
    third = bump(head_of(project), (60.0, -50.0, 60.0))
    push(project, head_of(project), third)
    wanted = head_of(project).mesh.positions.copy()
    record_shape(project, "")
    dial(project, {b: 0.5}, "Corner")
    assert shapes_of(project.scene)[both].dial == pytest.approx(0.5)
    now = rest + 0.8 * first + 0.5 * second + 0.5 * third
    assert np.abs(head_of(project).mesh.positions - now).max() < 1e-4
    dial(project, {a: 0.0}, "Jaw")
    assert shapes_of(project.scene)[both].dial == 0.0
    assert np.abs(head_of(project).mesh.positions - (rest + 0.5 * second)).max() < 1e-4
    dial(project, where_seen(project.scene, both), "Show")
    assert np.abs(head_of(project).mesh.positions - wanted).max() < 1e-4
    with pytest.raises(ShapeError, match="follows others"):
        dial(project, {both: 0.3}, "Both")
    with pytest.raises(ShapeError, match="circle"):
        set_drivers(project, a, (Driver(both),))
    set_drivers(project, both, ())
    dial(project, {both: 0.3}, "Both")
    assert shapes_of(project.scene)[both].dial == pytest.approx(0.3)


def test_a_shape_that_follows_takes_no_strokes_at_rest() -> None:
    project, a, _ = with_shape()
    dial(project, {a: 0.5}, "Puff")
    between = between_driver(shapes_of(project.scene)[a])
    key = add_shape(project, [head_of(project).id], "Half", drivers=(between,))
    assert recorded_shape(head_of(project)) == key
    dial(project, {a: 1.0}, "Puff")
    assert recorded_shape(head_of(project)) == ""
    with pytest.raises(ShapeError, match="at rest"):
        record_shape(project, key)
    with pytest.raises(ShapeError, match="between 0 and 1"):
        between_driver(shapes_of(project.scene)[a])
    dial(project, {a: 0.0}, "Puff")
    with pytest.raises(ShapeError, match="at rest"):
        drivers_now(project.scene, [a])
    with pytest.raises(ShapeError, match="Choose"):
        drivers_now(project.scene, [])


def arm() -> tuple[Project, Part]:
    """A capsule with an elbow."""
    mesh = Primitive("capsule", (40.0, 240.0, 40.0), (16, 24, 1)).made().mesh()
    part = Part("Arm", mesh)
    project = Project(Scene((part,)))
    joints = (
        Joint("Root", -1, (0.0, -110.0, 0.0)),
        Joint("Elbow", 0, (0.0, 0.0, 0.0)),
        Joint("End", 1, (0.0, 110.0, 0.0)),
    )
    low = low_clay(part)
    add_rigs(project, {part.id: (low, made_rig(low, joints))}, "Rig")
    return project, project.scene.parts[0]


def bent(project: Project, degrees: float) -> None:
    part = project.scene.parts[0]
    rig = rig_of(part)
    assert isinstance(rig, Rig)
    new = rig.with_turn(1, np.array([0.0, 0.0, degrees]))
    pose_rigs(project, posed_alike(project.scene, part, new), "Bend")


def test_a_correction_of_a_joint_is_there_where_it_was_made_and_gone_at_rest() -> None:
    project, part = arm()
    rest = part.mesh.positions.copy()
    with pytest.raises(ShapeError, match="Elbow rests"):
        joint_drivers(part, ["Elbow"])
    bent(project, 90.0)
    part = project.scene.parts[0]
    key = add_shape(project, [part.id], "Elbow bent", drivers=joint_drivers(part, ["Elbow"]))
    part = project.scene.parts[0]
    push(project, part, bump(part, (20.0, 0.0, 0.0), 25.0, 6.0))
    wanted = project.scene.parts[0].mesh.positions.copy()
    record_shape(project, "")
    for degrees, there in ((0.0, 0.0), (45.0, 0.5), (90.0, 1.0), (120.0, 1.0), (-40.0, 0.0)):
        bent(project, degrees)
        assert shapes_of(project.scene)[key].dial == pytest.approx(there)
        positions = project.scene.parts[0].mesh.positions
        if degrees == 0.0:
            assert np.abs(positions - rest).max() < 1e-3
        if degrees == 90.0:
            assert np.abs(positions - wanted).max() < 1e-3
    bent(project, 0.0)
    project.undo()
    assert shapes_of(project.scene)[key].dial == pytest.approx(0.0)
    project.undo()
    assert shapes_of(project.scene)[key].dial == pytest.approx(1.0)


def test_left_and_right_are_the_whole_over_all_parts() -> None:
    project = face()
    head, hat = project.scene.parts
    project.change("Aside", project.scene.with_part(replace(hat, transform=MOVED)))
    key = add_shape(project, [head.id, hat.id], "Frown")
    for part in project.scene.parts:
        push(project, part, bump(part, (0.0, 0.0, 0.0), 1e6, 4.0))
    record_shape(project, "")
    whole = {part.id: part.mesh.positions.copy() for part in project.scene.parts}
    left, right = split_shape(project, head_of(project), key, 30.0)
    held = shapes_of(project.scene)
    assert {held[left].name, held[right].name} == {"Frown left", "Frown right"}
    assert held[left].dial == held[right].dial == 1.0
    for part in project.scene.parts:
        assert np.abs(part.mesh.positions - whole[part.id]).max() < 1e-4
    # All of the hat is on the left: it takes no part in the right half.
    assert set(held[right].layers) == {head_of(project).id}
    dial(project, {left: 0.0, right: 1.0}, "Right")
    hat = part_called(project, "Hat")
    assert np.abs(hat.mesh.positions - make_ball(20.0, 6).positions).max() < 1e-4
    project.undo()
    project.undo()
    assert list(shapes_of(project.scene)) == [key]


def test_a_shape_that_others_follow_is_not_split() -> None:
    project, key, _ = with_shape()
    dial(project, {key: 1.0}, "Puff")
    driver = drivers_now(project.scene, [key])
    other = add_shape(project, [head_of(project).id], "More", drivers=driver, on={})
    with pytest.raises(ShapeError, match="More follows Puff"):
        split_shape(project, head_of(project), key, 10.0)
    with pytest.raises(ShapeError, match="follows others"):
        split_shape(project, head_of(project), other, 10.0)
    assert remove_shape(project, key) == ["More"]
    assert not shapes_of(project.scene)


def test_a_mirror_image_is_on_the_other_side_and_on_twin_parts() -> None:
    head = Part("Head", make_ball(divisions=12))
    eyes = [
        Part(f"Eye {side}", make_ball(10.0, 4), transform=Transform((x, 30.0, 90.0)))
        for side, x in (("left", 40.0), ("right", -40.0))
    ]
    project = Project(Scene((head, *eyes)))
    key = add_shape(project, [head.id, eyes[0].id], "Wink left", "46")
    push(project, head_of(project), bump(head_of(project), (40.0, 30.0, 80.0), 20.0))
    eye = part_called(project, "Eye left")
    push(project, eye, np.full_like(eye.mesh.positions, 2.0))
    record_shape(project, "")
    neutral(project, [head.id])
    other, without = mirror_shape(project, head_of(project), key)
    assert without == []
    made = shapes_of(project.scene)[other]
    assert (made.name, made.shape.action, made.dial) == ("Wink right", "46", 0.0)
    assert set(made.layers) == {head.id, eyes[1].id}
    rest = make_ball(10.0, 4).positions
    dial(project, {other: 1.0}, "Wink right")
    eye = part_called(project, "Eye right")
    assert np.abs(eye.mesh.positions - rest - [-2.0, 2.0, 2.0]).max() < 1e-4
    dial(project, {key: 1.0}, "Wink left")
    mesh = head_of(project).mesh
    image = mesh.positions * [-1, 1, 1]
    gap = np.linalg.norm(image[:, None] - mesh.positions[None], axis=2).min(axis=1)
    assert gap.max() < 1e-3


def test_a_shape_without_a_mirror_image_says_so() -> None:
    project, key, _ = with_shape()
    head = head_of(project)
    crooked = head.mesh.copy()
    crooked.positions[:] += np.random.default_rng(1).normal(0, 9, crooked.positions.shape).astype(np.float32)
    faces = head.mesh.topology.faces[:-3]
    lone = Part("Head", Mesh.from_faces(crooked.positions, faces))
    project = Project(Scene((lone,)))
    key = add_shape(project, [lone.id], "Puff")
    for act in (mirror_shape, even_shape):
        with pytest.raises(ShapeError, match="not meshed alike"):
            act(project, project.scene.parts[0], key)


def test_both_sides_do_what_the_left_does() -> None:
    project, key, _ = with_shape("Puff", (60.0, 0.0, 80.0))
    assert even_shape(project, head_of(project), key) == []
    dial(project, {key: 1.0}, "Puff")
    moved = head_of(project).mesh.positions - make_ball(divisions=12).positions
    x = make_ball(divisions=12).positions[:, 0]
    assert np.abs(moved[x < -1]).max() == pytest.approx(np.abs(moved[x > 1]).max(), rel=1e-4)


def test_a_shape_goes_where_it_is_masked() -> None:
    project, key, _ = with_shape()
    with pytest.raises(ShapeError, match="Nothing is masked"):
        clean_shape(project, head_of(project), key)
    mask = (head_of(project).mesh.positions[:, 0] > 0).astype(np.float32)
    project.set_values(head_of(project).id, "mask", mask, "Mask")
    with pytest.raises(ShapeError, match="no part"):
        clean_shape(project, head_of(project), "other")
    clean_shape(project, head_of(project), key)
    layer = shape_layer(head_of(project), key)
    assert layer is not None
    assert not layer.relief(0).dense(head_of(project).mesh.n_vertices)[mask > 0].any()


@pytest.mark.parametrize("stiff", [True, False])
def test_what_sits_on_the_head_goes_along(stiff: bool) -> None:
    project, key, _ = with_shape("Rise", (0.0, 100.0, 0.0))
    rest = part_called(project, "Hat").mesh.positions.copy()
    take_along(project, head_of(project), key, [part.id for part in project.scene.parts], lambda _: stiff)
    dial(project, {key: 1.0}, "Rise")
    moved = part_called(project, "Hat").mesh.positions - rest
    assert moved[:, 1].mean() > 3.0
    if stiff:
        assert np.ptp(moved[:, 1]) < 0.1
    other = add_shape(project, [head_of(project).id], "Other")
    with pytest.raises(ShapeError, match="no part"):
        take_along(project, part_called(project, "Hat"), other, [head_of(project).id], lambda _: stiff)


def test_copies_names_and_merging() -> None:
    project, key, moves = with_shape()
    other = copy_shape(project, key)
    held = shapes_of(project.scene)
    assert (held[other].name, held[other].dial) == ("Puff 2", 0.0)
    rename_shape(project, other, "Puff", "34")
    assert shapes_of(project.scene)[other].name == "Puff 3"
    assert shapes_of(project.scene)[other].shape.action == "34"
    with pytest.raises(ShapeError, match="two shapes"):
        merge_shapes(project, [key], "One")
    with pytest.raises(ShapeError, match="at rest"):
        merge_shapes(project, [key, other], "One")
    dial(project, {key: 0.5, other: 1.0}, "Both")
    before = head_of(project).mesh.positions.copy()
    one = merge_shapes(project, [key, other], "Puff")
    assert list(shapes_of(project.scene)) == [one]
    assert np.abs(head_of(project).mesh.positions - before).max() < 1e-4
    dial(project, {one: 0.0}, "Rest")
    assert np.abs(head_of(project).mesh.positions - (before - 1.5 * moves)).max() < 1e-4
    # A copied layer is no second layer of the shape.
    layer = shape_layer(head_of(project), one)
    assert layer is not None
    assert copy_layer(project, head_of(project), layer.id).shape is None
    assert (sided("Blink", "left"), other_side("Blink left"), other_side("Blink")) == (
        "Blink left",
        "Blink right",
        "Blink",
    )


def test_more_parts_take_part_and_wrong_ones_are_refused() -> None:
    project, key, _ = with_shape()
    hat = part_called(project, "Hat")
    add_part(project, key, [hat.id])
    assert hat.id in shapes_of(project.scene)[key].layers
    with pytest.raises(ShapeError, match="Choose the parts"):
        add_shape(project, [], "Nothing")
    with pytest.raises(ShapeError, match="no action"):
        add_shape(project, [hat.id], "Unknown", "999")
    with pytest.raises(ShapeError, match="not there"):
        dial(project, {"gone": 1.0}, "Gone")


def test_what_a_pose_does_becomes_a_shape() -> None:
    project, part = arm()
    rest = part.mesh.positions.copy()
    bent(project, 30.0)
    posed = project.scene.parts[0].mesh.positions.copy()
    layer = stack_of(project.scene.parts[0]).layers[0]
    key = shape_of_pose(project, "Nod", {part.id: layer.id})
    assert np.abs(project.scene.parts[0].mesh.positions - posed).max() < 1e-3
    assert rig_of(project.scene.parts[0]) is None
    dial(project, {key: 0.0}, "Rest")
    assert np.abs(project.scene.parts[0].mesh.positions - rest).max() < 1e-3
    project.undo()
    project.undo()
    assert rig_of(project.scene.parts[0]) is not None


def test_other_dials_leave_the_scene_as_it_is() -> None:
    project, key, moves = with_shape()
    before = head_of(project).mesh.positions.copy()
    other = with_dials(project.scene, {key: 1.0})
    assert np.array_equal(head_of(project).mesh.positions, before)
    head = next(part for part in other.parts if part.name == "Head")
    assert np.abs(head.mesh.positions - before - moves).max() < 1e-4


def test_a_shape_of_a_layer_that_was_made_elsewhere_is_found_on_all_parts() -> None:
    parts = tuple(Part(name, make_ball(divisions=4)) for name in ("A", "B"))
    layer = Layer("Same", 0.0, reliefs=(Relief.none(),), shape=Shape("s"))
    scene = Scene(tuple(replace(part, stack=replace(stack_of(part), layers=(layer,))) for part in parts))
    assert len(shapes_of(scene)["s"].layers) == 2


def test_paint_that_lies_open_stays_what_it_is_whatever_shapes_do() -> None:
    project = painted()
    ball = the(project)
    key = add_shape(project, [ball.id], "Puff")
    push(project, the(project), bump(the(project), (60.0, 0.0, 80.0)))
    record_shape(project, "")
    slime = next(layer for layer in stack_of(the(project)).layers if layer.shape is None)
    record(project, the(project), slime.id)
    paint(project, (20, 200, 90))
    seen = the(project).mesh.value("colour").copy()

    def same() -> bool:
        return shows_its_layers(project) and np.array_equal(the(project).mesh.value("colour"), seen)

    for value in (0.3, 0.0, 1.0):
        dial(project, {key: value}, "Puff")
        assert same()
    other = add_shape(project, [ball.id], "More", drivers=drivers_now(project.scene, [key]))
    push(project, the(project), bump(the(project), (0.0, 80.0, 50.0)))
    record_shape(project, "")
    assert same()
    # Whatever changes paint brings what follows along, and keeps its paint.
    change_layer(project, the(project), slime.id, "Dial", strength=0.5)
    change_layer(project, the(project), slime.id, "Dial", strength=1.0)
    assert same()
    copy_shape(project, key)
    dial(project, {key: 0.5}, "Puff")
    assert shapes_of(project.scene)[other].dial == pytest.approx(0.5)
    assert same()
    while project.undo() is not None:
        assert shows_its_layers(project)
