"""Poses as layers: what lies above goes along, strokes are told from before, all of it is undone, saved and found again."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.live.armature import Armature, Joint
from kneten.core.live.primitive import Primitive
from kneten.core.mesh import Mesh
from kneten.core.pose.chain import Pose, course_of
from kneten.core.pose.limb import LimbError
from kneten.core.relief import packed
from kneten.core.stack import Layer, Stack
from kneten.core.transform import Transform
from kneten.document.layering import change_layer, change_layers
from kneten.document.opening import stack_of
from kneten.document.posing import (
    LowClay,
    add_pose,
    chain_of,
    change_pose,
    find_limb,
    joints_of,
    low_clay,
    pose_along,
    posed_name,
    sitting,
    with_hinges,
)
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.scene import Part, Scene
from tests.conftest import make_ball

GO = Progress()
SPOT = np.array([0.0, 30.0, 20.0])


def arm() -> Mesh:
    return Primitive("capsule", (40.0, 240.0, 40.0), (12, 40, 12)).made().mesh()


def with_levels(count: int) -> Project:
    """An arm with so many levels above its lowest, the highest in hand."""
    mesh = arm()
    stack = Stack.of(mesh)
    for _ in range(count):
        stack, mesh = stack.added(mesh, GO)
    part = Part("Arm", mesh, id="arm", stack=None if stack.plain else stack)
    return Project(Scene((part,)))


def the(project: Project, part_id: str = "arm") -> Part:
    return project.scene.part(part_id)


def found_on(project: Project, mirror: int | None = None) -> tuple[LowClay, Pose]:
    low = low_clay(the(project))
    return low, find_limb(low.mesh, SPOT, mirror, 0.0).pose


def bent(pose: Pose, degrees: float, **more: float) -> Pose:
    return replace(pose, hinges=(replace(pose.hinges[0], bend=(degrees, 0.0, 0.0), **more),))  # type: ignore[arg-type]


def away(a: np.ndarray, b: np.ndarray) -> float:
    return float(np.abs(a.astype(float) - b).max())


def test_a_pose_is_a_layer_that_is_dialled_hidden_and_undone() -> None:
    project = with_levels(0)
    before = the(project).mesh.positions.copy()
    low, pose = found_on(project)
    made = add_pose(project, {"arm": (low, bent(pose, 80.0))}, "Pose")
    assert away(the(project).mesh.positions, bent(pose, 80.0).posed(before, 1.0)) < 1e-4
    # Half of it is half of the angle: the limb is as long as it was.
    change_layer(project, the(project), made["arm"], "Dial", strength=0.5)
    assert away(the(project).mesh.positions, bent(pose, 40.0).posed(before, 1.0)) < 0.35
    tip = the(project).mesh.positions[int(np.argmax(before[:, 1]))]
    assert np.linalg.norm(tip - pose.limbs[0].line[0]) == pytest.approx(np.linalg.norm(before[int(np.argmax(before[:, 1]))] - pose.limbs[0].line[0]), rel=0.05)  # fmt: skip
    change_layer(project, the(project), made["arm"], "Hide", shown=False)
    assert away(the(project).mesh.positions, before) < 1e-4
    for _ in range(3):
        project.undo()
    assert np.array_equal(the(project).mesh.positions, before)
    assert the(project).stack is None
    for _ in range(3):
        project.redo()
    change_layer(project, the(project), made["arm"], "Show", shown=True, strength=1.0)
    assert away(the(project).mesh.positions, bent(pose, 80.0).posed(before, 1.0)) < 1e-4


def test_detail_above_goes_along_without_swelling() -> None:
    project = with_levels(2)
    part = the(project)
    mesh = part.mesh
    lift = np.where(mesh.positions[:, 1] > 60, np.random.default_rng(1).normal(0, 0.4, mesh.n_vertices), 0)
    project.move_vertices("arm", (mesh.positions + mesh.normals * lift[:, None]).astype(np.float32), "Pores")
    before = the(project).mesh.positions.copy()
    low, pose = found_on(project)
    assert low.mesh.n_vertices < mesh.n_vertices
    add_pose(project, {"arm": (low, bent(pose, 90.0))}, "Pose")
    now = the(project).mesh.positions
    far = np.flatnonzero(before[:, 1] > 90)
    one, other = (p[far].astype(np.float64) - p[far].mean(axis=0) for p in (before, now))
    u, _, vt = np.linalg.svd(one.T @ other)
    assert np.linalg.det(u @ vt) > 0
    # Far from the bend it is turned exactly: off by 1 % of its height at most.
    assert np.abs(one @ (u @ vt) - other).max() < 0.01 * 0.4 * 3
    project.undo()
    assert np.array_equal(the(project).mesh.positions, before)


def test_what_was_pulled_out_above_has_a_limb_below() -> None:
    """The lowest level sees what was done on higher ones before its limbs are looked for."""
    mesh = make_ball(60.0, 10)
    stack = Stack.of(mesh)
    for _ in range(2):
        stack, mesh = stack.added(mesh, GO)
    project = Project(Scene((Part("Ball", mesh, id="arm", stack=stack),)))
    out = np.clip((mesh.positions[:, 0] - 40) / 20, 0, 1) ** 2
    pulled = mesh.positions + np.float32([1, 0, 0]) * (out * 160)[:, None].astype(np.float32)
    project.move_vertices("arm", pulled.astype(np.float32), "Pull out")
    before = the(project).mesh.positions.copy()
    low = low_clay(the(project))
    assert low.mesh.positions[:, 0].max() > 150
    pose = find_limb(low.mesh, np.array([110.0, 0.0, 12.0]), None, 0.0).pose
    add_pose(project, {"arm": (low, bent(pose, 60.0))}, "Pose")
    now = the(project).mesh.positions
    assert np.linalg.norm(now - before, axis=1).max() > 30
    assert away(now[before[:, 0] < 20], before[before[:, 0] < 20]) < 0.2


def test_strokes_on_posed_clay_stay_where_they_were_made() -> None:
    project = with_levels(0)
    low, pose = found_on(project)
    plain = the(project).mesh.positions.copy()
    made = add_pose(project, {"arm": (low, bent(pose, 90.0))}, "Pose")
    there = the(project).mesh.positions.copy()
    tip = np.argsort(-plain[:, 1])[:20].astype(np.int32)
    moved = there.copy()
    moved[tip] += np.float32([3.0, 1.0, -2.0])
    project.move_vertices("arm", moved, "Stroke")
    # Taken over, and back to before the pose: the stroke has turned with the limb.
    change_layer(project, the(project), made["arm"], "Hide", shown=False)
    hidden = the(project).mesh.positions
    still = np.setdiff1d(np.arange(len(plain)), tip)
    assert away(hidden[still], plain[still]) < 2e-4
    assert np.linalg.norm(hidden[tip] - plain[tip], axis=1) == pytest.approx(np.sqrt(14.0), rel=1e-3)
    assert away(hidden[tip] - plain[tip], np.tile(np.float32([3.0, 1.0, -2.0]), (20, 1))) > 1
    change_layer(project, the(project), made["arm"], "Show", shown=True)
    assert away(the(project).mesh.positions, moved) < 2e-4


def test_other_layers_of_the_lowest_level_turn_with_the_limb() -> None:
    project = with_levels(0)
    part = the(project)
    plain = part.mesh.positions.copy()
    lump = np.zeros_like(plain)
    lump[plain[:, 1] > 80] = (0.0, 0.0, 4.0)
    layer = Layer("Lump", reliefs=(packed(lump),))
    change_layers(project, part, lambda now: replace(now, layers=(*now.layers, layer)), "Lump")
    low, pose = found_on(project)
    add_pose(project, {"arm": (low, bent(pose, 70.0))}, "Pose")
    change_layer(project, the(project), layer.id, "Dial", strength=2.0)
    expected = bent(pose, 70.0).posed((plain + 2 * lump).astype(np.float32), 1.0)
    assert away(the(project).mesh.positions, expected) < 1e-3
    # What is recorded on it then is part of it.
    stack = stack_of(the(project))
    recording = replace(stack, recording=layer.id)
    moved = the(project).mesh.positions + np.float32([0.5, 0.0, 0.0])
    taken = recording.taken(moved)
    assert away(taken.form(0), moved) < 1e-3
    assert away(taken.without_recorded(moved), bent(pose, 70.0).posed(plain, 1.0)) < 1e-3


def test_baking_a_pose_keeps_the_form_and_all_layers() -> None:
    project = with_levels(1)
    part = the(project)
    n = stack_of(part).levels[0].topology.n_vertices
    lump = np.zeros((n, 3), np.float32)
    lump[:40] = (0.0, 2.0, 1.0)
    layer = Layer("Lump", reliefs=(packed(lump),), strength=0.5)
    change_layers(project, part, lambda now: replace(now, layers=(*now.layers, layer)), "Lump")
    low, pose = found_on(project)
    first = add_pose(project, {"arm": (low, bent(pose, 60.0))}, "Pose")["arm"]
    low = low_clay(the(project))
    second = add_pose(project, {"arm": (low, bent(pose, 0.0, twist=50.0))}, "Pose 2")["arm"]
    now = the(project).mesh.positions.copy()
    stack = stack_of(the(project))
    assert "bake Pose first" in stack.no_bake(stack.layer(second))
    with pytest.raises(ValueError, match="first"):
        stack.baked(second)
    for key in (first, second):
        change_layers(project, the(project), lambda held, key=key: held.baked(key), "Bake")  # type: ignore[misc]
        assert away(the(project).mesh.positions, now) < 2e-3
    assert [one.name for one in stack_of(the(project)).layers] == ["Lump"]
    assert all(one.pose is None for one in stack_of(the(project)).layers)


def test_a_pose_of_level_zero_is_a_difference_once_that_is_gone() -> None:
    project = with_levels(2)
    low, pose = found_on(project)
    add_pose(project, {"arm": (low, bent(pose, 60.0))}, "Pose")
    part = the(project)
    stack, mesh = stack_of(part).stepped(part.mesh, 1)
    form = mesh.positions.copy()
    fewer = stack.without_below(mesh, GO)
    assert fewer.layers[0].pose is None
    assert away(fewer.form(0), form) < 1e-3


def test_it_is_saved_opened_and_bent_further(tmp_path: Path) -> None:
    project = with_levels(1)
    low, pose = found_on(project)
    pose = replace(pose, hinges=chain_of(pose.hinges[0], pose.limbs[0], low.mesh.positions, 3))
    made = add_pose(project, {"arm": (low, with_bends(pose, 30.0))}, "Pose")
    path = tmp_path / "posed.kneten"
    save_project(project, path)
    again = open_project(path)
    layer = stack_of(the(again)).layer(made["arm"])
    assert layer.pose is not None
    assert layer.pose.hinges == with_bends(pose, 30.0).hinges
    assert np.array_equal(layer.pose.limbs[0].station, pose.limbs[0].station)
    assert np.array_equal(the(again).mesh.positions, the(project).mesh.positions)
    # It may be bent further, and back.
    change_pose(again, {"arm": made["arm"]}, {"arm": with_bends(layer.pose, 0.0)}, "Straighten")
    assert away(the(again).mesh.positions, the(with_levels(1)).mesh.positions) < 1e-3


def with_bends(pose: Pose, degrees: float) -> Pose:
    return replace(pose, hinges=tuple(replace(hinge, bend=(degrees, 0.0, 0.0)) for hinge in pose.hinges))


def two_arms() -> Mesh:
    """A body with an arm on each side."""
    mesh = make_ball(50.0, 28)
    x = mesh.positions[:, 0]
    out = np.clip((np.abs(x) - 38) / 12, 0, 1)
    places = mesh.positions.astype(np.float64)
    places[:, 0] += np.sign(x) * out * 130
    return Mesh(mesh.topology, places.astype(np.float32))


def test_a_limb_and_its_twin_are_bent_as_mirror_images() -> None:
    project = Project(Scene((Part("Body", two_arms(), id="arm"),)))
    low = low_clay(the(project))
    found = find_limb(low.mesh, np.array([95.0, 0.0, 10.0]), 0, 0.0)
    assert len(found.pose.limbs) == 2
    before = the(project).mesh.positions.copy()
    add_pose(project, {"arm": (low, bent(found.pose, 50.0))}, "Pose")
    now = the(project).mesh.positions
    flip = np.float32([-1, 1, 1])
    order = np.lexsort((before * flip).round(3).T)
    back = np.lexsort(before.round(3).T)
    assert away(now[back], (now * flip)[order]) < 0.05
    assert np.linalg.norm(now - before, axis=1).max() > 30
    # A limb in the middle has none.
    middle = find_limb(low.mesh, np.array([0.0, 48.0, 5.0]), 0, 0.0)
    assert len(middle.pose.limbs) == 1


def test_what_sits_on_the_limb_goes_along_softly_or_stiffly() -> None:
    ring = Primitive("torus", (52.0, 8.0, 52.0), (24, 8, 8), 0.85).made().mesh()
    lamp = make_ball(8.0, 6)
    far = make_ball(10.0, 6)
    scene = Scene(
        (
            Part("Arm", arm(), id="arm"),
            Part("Ring", ring, id="ring", transform=Transform((0.0, 70.0, 0.0))),
            Part("Lamp", lamp, id="lamp", transform=Transform((30.0, 95.0, 0.0)), group="g"),
            Part("Chain", make_ball(3.0, 4), id="chain", transform=Transform((44.0, 95.0, 0.0))),
            Part("Hat", make_ball(5.0, 4), id="hat", transform=Transform((0.0, 160.0, 0.0)), group="g"),
            Part("Far", far, id="far", transform=Transform((200.0, 0.0, 0.0))),
        )
    )
    project = Project(scene)
    low, pose = found_on(project)
    near = sitting(scene.parts, the(project), low.mesh, pose)
    assert [(one.part_id, one.on) for one in near] == [
        ("ring", "arm"),
        ("lamp", "arm"),
        ("chain", "lamp"),
        ("hat", "arm"),
    ]
    poses = {"arm": (low, bent(pose, 80.0))}
    before = {key: the(project, key).mesh.positions.copy() for key in ("ring", "lamp", "far")}
    for key, as_one in (("ring", False), ("lamp", True)):
        other = low_clay(the(project, key))
        own = pose_along(
            pose, the(project).transform, low.mesh, the(project, key).transform, other.mesh, as_one
        )
        assert own is not None
        poses[key] = (other, with_hinges(own, bent(pose, 80.0).hinges))
    add_pose(project, poses, posed_name(project, list(poses)))
    assert len(project.history.names()[0]) == 1
    # Stiff: as it was, only turned. Soft and beyond the bend: nearly so.
    for key, most in (("lamp", 1e-3), ("ring", 2.5)):
        one, other_ = (p - p.mean(axis=0) for p in (before[key], the(project, key).mesh.positions))
        u, _, vt = np.linalg.svd(one.astype(np.float64).T @ other_)
        assert np.abs(one @ (u @ vt) - other_).max() < most
        assert np.linalg.norm(the(project, key).mesh.positions - before[key], axis=1).min() > 10
    assert np.array_equal(the(project, "far").mesh.positions, before["far"])
    gone = pose_along(pose, the(project).transform, low.mesh, Transform((0.0, -80.0, 0.0)), lamp, False)
    assert gone is None
    project.undo()
    assert all(np.array_equal(the(project, key).mesh.positions, before[key]) for key in before)


@pytest.mark.parametrize("mirror", [False, True])
def test_a_rider_in_axes_of_its_own_goes_the_same_way(mirror: bool) -> None:
    arm_part = Part(
        "Arm", arm(), id="arm", transform=Transform((5.0, 0.0, 0.0), (0.0, 0.38268343, 0.0, 0.92387953), 1.5)
    )
    ball = make_ball(8.0, 6)
    place = Transform((40.0, 140.0, 3.0), (0.5, 0.5, 0.5, 0.5), 0.7, mirror=mirror)
    project = Project(Scene((arm_part, Part("Ball", ball, id="ball", transform=place))))
    low, pose = found_on(project)
    other = low_clay(the(project, "ball"))
    own = pose_along(pose, arm_part.transform, low.mesh, place, other.mesh, True)
    assert own is not None
    before = place.to_scene(ball.positions.astype(np.float64))
    turned = with_hinges(own, bent(pose, 60.0, twist=30.0).hinges)
    after = place.to_scene(turned.posed(ball.positions, 1.0).astype(np.float64))
    course = course_of(pose.limbs[0], bent(pose, 60.0, twist=30.0).hinges)
    at = float(own.limbs[0].station[0]) * 0.7 / 1.5
    wanted = [course.moved(one, at) for one in arm_part.transform.to_part(before)]
    assert away(after, arm_part.transform.to_scene(np.array(wanted))) < 0.02


def test_a_limb_begins_at_the_joint_of_its_armature() -> None:
    balls = tuple(Joint(k, k - 1, (0.0, 60.0 * k, 0.0), 20.0, k) for k in range(4))
    armature = Armature(balls, edge=5.0)
    part = Part("Arm", armature.made().mesh(), id="arm", was=armature)
    joints = joints_of(part)
    assert joints is not None
    low = low_clay(part).mesh
    # Pressed beside the second joint, and between two where none is near.
    near = find_limb(low, np.array([0.0, 76.0, 20.0]), None, 0.7, joints=joints)
    assert near.cut.middle[1] == pytest.approx(60.0, abs=4.0)
    # It curls the same way as it was pressed, whatever side of the joint the clay's vertices lie on.
    for side in (1.0, -1.0):
        pressed = find_limb(low, np.array([0.0, 76.0, 20.0 * side]), None, 0.7, joints=joints)
        assert (pressed.cut.points[0] - pressed.cut.middle)[2] * side > 0.9 * pressed.cut.radius
        assert abs(pressed.pose.limbs[0].across[0]) > 0.9
        assert pressed.pose.limbs[0].across[0] * side == pytest.approx(near.pose.limbs[0].across[0], abs=0.2)
    between = find_limb(low, np.array([0.0, 92.0, 20.0]), None, 0.2, joints=joints)
    assert abs(between.cut.middle[1] - 92.0) < 10
    # Where the user has moved the hinge by hand it stays.
    assert find_limb(low, np.array([0.0, 76.0, 20.0]), None, 0.0, joints=joints).cut.middle[1] > 70
    assert joints_of(Part("Ball", make_ball(10.0, 4))) is None


def test_where_nothing_can_be_posed_is_said() -> None:
    with pytest.raises(LimbError):
        find_limb(Primitive("plane", (90.0, 1.0, 90.0), (9, 1, 9)).made().mesh(), np.zeros(3), None, 0.0)


def test_hinges_of_a_chain_are_as_thick_as_the_limb_is_there() -> None:
    mesh = arm()
    high = (mesh.positions[:, 1:2] + 120) / 240
    cone = mesh.with_positions(
        (mesh.positions * np.concatenate([1.3 - high, 1 + 0 * high, 1.3 - high], axis=1)).astype(np.float32)
    )
    project = Project(Scene((Part("Arm", cone, id="arm"),)))
    low, pose = found_on(project)
    chain = chain_of(pose.hinges[0], pose.limbs[0], low.mesh.positions, 4)
    begins = pose.limbs[0].line[0, 1]
    for hinge in chain[1:]:
        wanted = 20.0 * (1.3 - (begins + hinge.at + 120) / 240)
        assert hinge.radius == pytest.approx(wanted, rel=0.12)
    assert [hinge.radius for hinge in chain] == sorted((hinge.radius for hinge in chain), reverse=True)
