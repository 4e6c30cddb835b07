"""Paint as part of a project: on layers, undone, saved, recovered, kept by milestones and linked copies."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial import cKDTree

from kneten.core.arrays import Progress
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.loose import LooseMesh, loosened
from kneten.core.paint.ink import Ink
from kneten.core.paint.into import Into, told
from kneten.core.paint.layers import open_paint, seen, seen_values
from kneten.core.paint.shifting import Shift
from kneten.core.paint.wash import Wash
from kneten.core.remesh import forecast, remesh, soup_of
from kneten.core.values import CLAY
from kneten.document.arrays_file import read_content, write_content
from kneten.document.becoming import become
from kneten.document.blocking import copy
from kneten.document.incoming import bring_in, own_scene
from kneten.document.journal import Journal
from kneten.document.layering import (
    add_layer,
    change_layer,
    change_layers,
    copy_layer,
    exchange_level,
    group_layers,
    mask_like_layer,
    masked_layer,
    mirrored_layer,
    move_layer,
    record,
    set_layer_mask,
)
from kneten.document.opening import StackError, stack_of
from kneten.document.painting import (
    add_palette,
    cleared,
    filled,
    has_paint,
    lay_wash,
    measured_on,
    newly_washed,
    paint_at,
    recolour,
    recoloured,
    remove_palette,
    renew_washes,
    set_blend,
    set_ink,
    with_paints,
)
from kneten.document.project import Project
from kneten.document.project_file import ProjectFileError, open_project, save_project
from kneten.document.recovery import left_journals, recover
from kneten.document.scene import Part, Scene
from tests.conftest import make_ball

GO = Progress()
VIEW = np.array([0.0, 0.0, -1.0])


def ball() -> Project:
    project = Project(Scene((Part("Ball", make_ball(50.0, 20)),)))
    project.change_settings(symmetry=(False, False, False))
    return project


def the(project: Project) -> Part:
    return project.scene.parts[0]


def paint(
    project: Project, colour: tuple[int, int, int] = (200, 60, 40), x: float = 0.0, key: str = "paint"
) -> bool:
    """One stroke across the front."""
    set_ink(project, colour=colour)
    tool = TOOLS[key]
    made = project.begin_stroke(the(project).id, tool, tool.defaults)
    for k in range(6):
        at = np.array([x + 2.0 * k, 0.0, 48.0])
        made.dab(Dab(at, np.array([2.0, 0, 0]), VIEW, 15.0, 0.7, 0.12, 2.0 * k))
    return project.end_stroke(the(project).id, made, tool.name)


def values(project: Project) -> tuple[bytes, bytes]:
    mesh = the(project).mesh
    return mesh.value("colour").tobytes(), mesh.value("paint").tobytes()


def shows_its_layers(project: Project) -> bool:
    """Whether the colours are what base and layers give."""
    part = the(project)
    if part.stack is None or part.stack.tint is None:
        return True
    colour = part.mesh.value("colour")
    return bool(np.array_equal(seen(part.stack, open_paint(part.stack, part.mesh), colour), colour))


def painted() -> Project:
    """A ball with a base coat, and two layers painted on."""
    project = ball()
    paint(project)
    for name, colour in (("Warm", (220, 150, 60)), ("Cold", (60, 90, 150))):
        add_layer(project, the(project), name)
        paint(project, colour, -6.0)
    return project


def test_every_step_is_undone_and_made_again_to_the_bit() -> None:
    project = ball()
    states, names = [values(project)], []

    def did(run: object) -> None:
        del run
        states.append(values(project))
        names.append(project.history.names()[0][-1])
        assert shows_its_layers(project)

    did(paint(project))
    did(filled(project, the(project), Ink((90, 80, 70)), None, "Fill Ball"))
    layer = add_layer(project, the(project), "Warm")
    did(None)
    did(paint(project, (220, 150, 60)))
    did(change_layer(project, the(project), layer.id, "Half", strength=0.5))
    did(set_blend(project, the(project), layer.id, "multiply"))
    did(paint(project, (20, 150, 60), 5.0, "smudge"))
    did(record(project, the(project), ""))
    did(paint(project, (250, 250, 60), -8.0))
    did(record(project, the(project), layer.id))
    did(
        filled(
            project,
            the(project),
            Ink((10, 20, 30)),
            np.linspace(0, 1, the(project).mesh.n_vertices),
            "Wash Ball",
        )
    )
    did(copy_layer(project, the(project), layer.id))
    did(move_layer(project, the(project), layer.id, 1))
    did(group_layers(project, the(project), layer.id))
    did(cleared(project, the(project), layer.id))
    did(change_layer(project, the(project), layer.id, "Hide", shown=False))
    assert project.history.names()[0] == names
    for state in reversed(states[:-1]):
        project.undo()
        assert values(project) == state
        assert shows_its_layers(project)
    assert project.undo() is None
    for state in states[1:]:
        project.redo()
        assert values(project) == state


def test_paint_goes_to_the_layer_recorded_on_and_the_base_stays() -> None:
    project = ball()
    paint(project)
    base = the(project).mesh.value("colour").copy()
    layer = add_layer(project, the(project))
    paint(project, (0, 0, 250))
    part = the(project)
    assert part.stack is not None
    assert part.stack.tint is not None
    assert np.array_equal(part.stack.tint[:, :3], base[:, :3])
    assert has_paint(part.stack.layer(layer.id), part.stack, part)
    change_layer(project, part, layer.id, "Hide", shown=False)
    assert np.array_equal(the(project).mesh.value("colour"), base)
    # Hidden layers are not painted on unseen: strokes go to the base again.
    assert stack_of(the(project)).recorded is None
    paint(project, (0, 250, 0))
    assert not np.array_equal(the(project).mesh.value("colour"), base)
    change_layers(project, the(project), lambda now: now.without(layer.id), "Delete")
    # With the last painted layer the base is all there is.
    assert the(project).mesh.paint is None
    assert stack_of(the(project)).tint is None


def test_saved_and_opened_packed_or_not(tmp_path: Path) -> None:
    project = painted()
    add_palette(project, "Moor", ((10, 20, 30), (200, 190, 180)))
    for small in (False, True):
        path = tmp_path / f"{small}.kneten"
        save_project(project, path, small=small)
        back = open_project(path)
        assert values(back) == values(project)
        assert shows_its_layers(back)
        assert back.settings.ink == project.settings.ink
        assert [one.colours for one in back.settings.palettes] == [((10, 20, 30), (200, 190, 180))]
        first, second = (stack_of(the(one)) for one in (project, back))
        for a, b in zip(first.layers, second.layers, strict=True):
            assert np.array_equal(a.paint.values, b.paint.values)
            assert a.blend == b.blend
        # It goes on from there.
        paint(back, (1, 2, 3), 4.0)
        back.undo()
        assert values(back) == values(project)
    remove_palette(project, project.settings.palettes[0].id)
    assert not project.settings.palettes


def test_a_crash_loses_no_stroke(tmp_path: Path) -> None:
    project = ball()
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    paint(project)
    add_layer(project, the(project), "Warm")
    for x in (-6.0, 0.0, 6.0):
        paint(project, (220, 150, 60), x)
    project.undo()
    record(project, the(project), "")
    paint(project, (20, 150, 60), 3.0, "darken")
    journal._record.close()
    (journal.folder / "owner").write_text("1 0")
    (left,) = left_journals(tmp_path / "journals")
    back = recover(left)
    assert values(back) == values(project)
    assert shows_its_layers(back)
    assert stack_of(the(back)).hand == stack_of(the(project)).hand


def test_layers_are_painted_on_the_highest_level_only() -> None:
    project = painted()
    exchange_level(
        project, the(project).id, *stack_of(the(project)).added(the(project).mesh, GO), "Subdivide"
    )
    assert shows_its_layers(project)
    fine = values(project)
    paint(project, (1, 200, 3), 4.0)
    project.undo()
    assert values(project) == fine
    stack, mesh = stack_of(the(project)).stepped(the(project).mesh, 0)
    exchange_level(project, the(project).id, stack, mesh, "Down")
    low = the(project).mesh.value("colour").copy()
    with pytest.raises(StackError, match="highest level, 1"):
        project.begin_stroke(the(project).id, TOOLS["paint"], TOOLS["paint"].defaults)
    # Dialling works from there, and undo too.
    layer = stack_of(the(project)).layers[0]
    change_layer(project, the(project), layer.id, "Half", strength=0.2)
    assert not np.array_equal(the(project).mesh.value("colour"), low)
    stack, mesh = stack_of(the(project)).stepped(the(project).mesh, 1)
    exchange_level(project, the(project).id, stack, mesh, "Up")
    assert shows_its_layers(project)
    for _ in range(3):
        project.undo()
    assert values(project) == fine


def test_layers_lose_paint_where_it_is_masked_and_are_mirrored() -> None:
    project = painted()
    layer = stack_of(the(project)).layers[0]
    mesh = the(project).mesh
    before = values(project)
    mask = (mesh.positions[:, 1] > 0).astype(np.float32)
    project.set_values(the(project).id, "mask", mask, "Mask")
    masked_layer(project, the(project), layer.id)
    dense = stack_of(the(project)).layer(layer.id).paint.dense(mesh.n_vertices)
    assert dense[mask == 1, 3].max() == 0
    assert dense[mask == 0, 3].max() > 0
    assert shows_its_layers(project)
    project.undo()
    assert values(project) == before
    twin = _across(mesh.positions)
    mirrored_layer(project, the(project), layer.id, twin)
    dense = stack_of(the(project)).layer(layer.id).paint.dense(mesh.n_vertices)
    assert np.array_equal(dense[twin], dense)
    assert shows_its_layers(project)


def test_a_layers_mask_hides_its_paint_and_keeps_it(tmp_path: Path) -> None:
    project = painted()
    layer = stack_of(the(project)).layers[0]
    mesh = the(project).mesh
    before, shown = values(project), mesh.value("colour").copy()
    change_layer(project, the(project), layer.id, "Hide", shown=False)
    without = the(project).mesh.value("colour").copy()
    project.undo()
    mask = (mesh.positions[:, 0] > 0).astype(np.float32)
    set_layer_mask(project, the(project), layer.id, mask)
    found = the(project).mesh.value("colour")
    assert np.array_equal(found[mask == 1], without[mask == 1])
    assert np.array_equal(found[mask == 0], shown[mask == 0])
    assert not np.array_equal(found, shown)
    assert shows_its_layers(project)
    assert project.history.names()[0][-1] == "Mask layer Warm"
    masked = values(project)
    # A stroke on the layer is hidden there too, and on the layers above it is not.
    record(project, the(project), layer.id)
    paint(project, (0, 250, 0))
    assert shows_its_layers(project)
    assert np.array_equal(the(project).mesh.value("colour")[mask == 1], found[mask == 1])
    project.undo()
    project.undo()
    assert values(project)[0] == masked[0]
    # Copied, saved, opened, recovered: with its mask.
    made = copy_layer(project, the(project), layer.id)
    assert made.mask is stack_of(the(project)).layer(layer.id).mask
    assert (made.blend, made.leaves, made.strength) == (layer.blend, layer.leaves, layer.strength)
    assert made.id != layer.id
    for small in (False, True):
        save_project(project, tmp_path / "masked.kneten", small=small)
        back = open_project(tmp_path / "masked.kneten")
        assert shows_its_layers(back)
        assert values(back)[0] == values(project)[0]
        kept = stack_of(the(back)).layer(layer.id).mask
        assert np.array_equal(kept.values, stack_of(the(project)).layer(layer.id).mask.values)
    project.undo()
    # To be worked on it becomes the clay's mask, and is given back.
    mask_like_layer(project, the(project), layer.id)
    assert np.array_equal(the(project).mesh.mask, mask)
    set_layer_mask(project, the(project), layer.id, None)
    assert np.array_equal(the(project).mesh.value("colour"), shown)
    assert not stack_of(the(project)).layer(layer.id).mask
    for _ in range(3):
        project.undo()
    assert values(project) == before


def test_a_wash_goes_on_living_under_a_mask() -> None:
    project = ball()
    wash = Wash("up", 0.0, 0.6, 0.2, (200, 30, 20), 1.0)
    layer = lay_wash(project, the(project), wash, measured_on(the(project), wash, GO))
    mesh = the(project).mesh
    mask = (mesh.positions[:, 0] > 0).astype(np.float32)
    set_layer_mask(project, the(project), layer.id, mask)
    bare = the(project).mesh.value("colour")[mask == 1]
    assert (bare[:, :3] == CLAY).all()
    other = replace(wash, low=0.4, high=1.0)
    lay_wash(project, the(project), other, measured_on(the(project), other, GO), layer.id)
    held = stack_of(the(project)).layer(layer.id)
    assert held.wash == other
    assert held.mask
    assert (the(project).mesh.value("colour")[mask == 1, :3] == CLAY).all()
    assert shows_its_layers(project)
    stack, mesh = stack_of(the(project)).added(the(project).mesh, GO)
    exchange_level(project, the(project).id, stack, mesh, "Subdivide")
    assert shows_its_layers(project)
    stack, mesh = stack_of(the(project)).stepped(the(project).mesh, 0)
    exchange_level(project, the(project).id, stack, mesh, "Down")
    for wrong in (
        lambda: set_layer_mask(project, the(project), layer.id, mask),
        lambda: mask_like_layer(project, the(project), layer.id),
    ):
        with pytest.raises(StackError, match="highest level"):
            wrong()
    set_layer_mask(project, the(project), layer.id, None)
    assert not stack_of(the(project)).layer(layer.id).mask


def test_renewed_washes_go_with_the_step_before_and_survive_a_crash(tmp_path: Path) -> None:
    project = ball()
    wash = Wash("up", 0.0, 0.6, 0.2, (200, 30, 20), 1.0)
    layer = lay_wash(project, the(project), wash, measured_on(the(project), wash, GO))
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    tool = TOOLS["raise"]
    made = project.begin_stroke(the(project).id, tool, tool.defaults)
    for k in range(6):
        made.dab(Dab(np.array([2.0 * k, 0.0, 48.0]), np.array([2.0, 0, 0]), VIEW, 25.0, 1.0, 0.12, 2.0 * k))
    before = values(project)
    project.end_stroke(the(project).id, made, tool.name)
    part = the(project)
    assert values(project) == before
    paints = newly_washed(part, part.mesh, GO)
    assert set(paints) == {layer.id}
    new = with_paints(stack_of(part), paints)
    shown = seen_values(new, open_paint(new, part.mesh), part.mesh.value("colour"))
    renew_washes(project, part, paints, shown)
    after = values(project)
    assert after[0] != before[0]
    assert shows_its_layers(project)
    assert project.history.names()[0][-1] == "Raise on Ball"
    # What lies near a mask that is gone stays as it was laid.
    masked = replace(
        the(project), stack=stack_of(the(project)).with_layer(replace(layer, wash=replace(wash, kind="mask")))
    )
    assert not newly_washed(masked, the(project).mesh, GO)
    # Followed already: there is nothing to do.
    assert not newly_washed(the(project), the(project).mesh, GO)
    assert project.undo() == "Raise on Ball"
    assert values(project)[0] == before[0]
    assert shows_its_layers(project)
    project.redo()
    assert values(project) == after
    journal._record.close()
    (journal.folder / "owner").write_text("1 0")
    (left,) = left_journals(tmp_path / "journals")
    back = recover(left)
    assert values(back) == after
    assert shows_its_layers(back)


def _across(positions: np.ndarray) -> np.ndarray:
    """The vertex across x = 0 from each."""
    return cKDTree(positions).query(positions * [-1, 1, 1])[1].astype(np.int32)


@pytest.mark.parametrize("layered", [False, True])
def test_colours_are_made_others_in_one_step(layered: bool) -> None:
    project = painted()
    if not layered:
        record(project, the(project), "")
    before, kept = values(project), len(project.history.names()[0])
    wanted = recoloured(the(project), Shift(hue=90.0))
    assert recolour(project, the(project), Shift(hue=90.0))
    assert np.array_equal(the(project).mesh.value("colour"), wanted)
    assert shows_its_layers(project)
    assert len(project.history.names()[0]) == kept + 1
    project.undo()
    assert values(project) == before
    assert not recolour(project, the(project), Shift())


def test_linked_copies_share_their_paint() -> None:
    project = painted()
    other = copy(project, [the(project)], linked=True)[0]
    paint(project, (9, 9, 9), 8.0)
    there = project.scene.part(other.id)
    assert there.mesh is the(project).mesh
    assert there.stack is the(project).stack
    project.undo()
    project.undo()
    assert shows_its_layers(project)


def test_milestones_and_libraries_keep_paint(tmp_path: Path) -> None:
    project = painted()
    before = values(project)
    milestone = project.keep_milestone("Painted", b"")
    paint(project, (9, 9, 9), 8.0)
    change_layers(project, the(project), lambda now: now.without(now.layers[0].id), "Delete")
    project.go_back(milestone.id)
    assert values(project) == before
    assert shows_its_layers(project)
    paint(project, (9, 9, 9), -8.0)
    assert shows_its_layers(project)
    other = Project()
    bring_in(other, "Bring in", own_scene(project.scene, [the(project)]))
    assert values(other) == values(project)
    assert shows_its_layers(other)


def test_what_makes_clay_anew_keeps_what_is_seen() -> None:
    project = painted()
    part = the(project)
    edge = forecast(part.mesh.positions, part.mesh.topology.faces, 3.0, None).edge
    seen_before = part.mesh.value("colour")[np.argmax(part.mesh.positions[:, 2]), :3].astype(int)
    project.replace_mesh(part.id, remesh(soup_of([part.mesh]), edge, GO), "Remesh")
    mesh = the(project).mesh
    assert the(project).stack is None
    assert mesh.paint is None
    found = mesh.value("colour")[np.argmax(mesh.positions[:, 2]), :3].astype(int)
    assert np.abs(found - seen_before).max() < 40
    paint(project, (5, 5, 5))
    project.undo()
    project.undo()
    assert shows_its_layers(project)


def test_loose_clay_is_painted_as_it_is() -> None:
    project = ball()
    project.exchange(the(project).id, loosened(the(project).mesh))
    assert isinstance(the(project).mesh, LooseMesh)
    assert paint(project)
    colour = the(project).mesh.settled().value("colour")
    assert (colour[:, :3] != CLAY).any()
    project.undo()
    assert not (the(project).mesh.settled().value("colour")[:, :3] != CLAY).any()


def test_filling_keeps_to_the_mask_or_goes_by_it() -> None:
    project = ball()
    mesh = the(project).mesh
    mesh.mask = (mesh.positions[:, 1] > 0).astype(np.float32)
    filled(project, the(project), Ink((10, 200, 30)), None, "Fill")
    dark = mesh.value("colour")[:, 0] == 10
    assert np.array_equal(dark, mesh.mask == 0)
    filled(project, the(project), Ink((200, 10, 30)), mesh.mask.copy(), "Fill", masked=True)
    assert np.array_equal(mesh.value("colour")[:, 1] == 10, mesh.mask == 1)
    assert not filled(project, the(project), Ink((10, 200, 30)), np.zeros(mesh.n_vertices), "Nothing")
    layer = add_layer(project, the(project))
    with pytest.raises(StackError, match="no paint"):
        cleared(project, the(project), layer.id)


def test_a_colour_is_picked_where_it_is_seen() -> None:
    project = ball()
    mesh = the(project).mesh
    mesh.colour = np.full((mesh.n_vertices, 4), 255, np.uint8)
    face = 17
    corner = mesh.topology.faces[face, 2]
    mesh.colour[corner] = (12, 34, 56, 255)
    mesh.material = np.tile(np.uint8([115, 0, 0, 0]), (mesh.n_vertices, 1))
    mesh.material[corner] = (9, 8, 7, 6)
    mesh.colour[corner, 3] = 77
    assert paint_at(the(project), face, mesh.positions[corner] * 0.99) == ((12, 34, 56), (9, 8, 7, 6), 77)


@pytest.mark.parametrize("layered", [False, True])
def test_opacity_is_filled_and_kept_by_what_layers_do(layered: bool, tmp_path: Path) -> None:
    project = painted() if layered else ball()
    n = the(project).mesh.n_vertices
    share = np.linspace(0, 1, n).astype(np.float32)
    before = the(project).mesh.value("colour").copy()
    assert filled(project, the(project), Ink(channels=("opacity",), opacity=55), share, "Fill")
    clear = the(project).mesh.value("colour")[:, 3].copy()
    assert np.array_equal(clear, np.rint(255 - 200 * share).astype(np.uint8))
    assert np.array_equal(the(project).mesh.value("colour")[:, :3], before[:, :3])
    # Whatever is laid over it afterwards, the clay stays as clear.
    assert filled(project, the(project), Ink((9, 90, 200)), share, "Fill")
    layer = add_layer(project, the(project))
    assert paint(project)
    set_blend(project, the(project), layer.id, "multiply")
    cleared(project, the(project), layer.id)
    assert np.array_equal(the(project).mesh.value("colour")[:, 3], clear)
    save_project(project, tmp_path / "clear.kneten")
    assert np.array_equal(the(open_project(tmp_path / "clear.kneten")).mesh.value("colour")[:, 3], clear)
    while project.history.names()[0]:
        project.undo()
    assert (the(project).mesh.value("colour")[:, 3] == 255).all()
    while project.history.names()[1]:
        project.redo()
    assert np.array_equal(the(project).mesh.value("colour")[:, 3], clear)


def test_what_is_masked_becomes_clear_and_clear_a_mask() -> None:
    project = ball()
    mesh = the(project).mesh
    mesh.mask = (mesh.positions[:, 1] > 0).astype(np.float32)
    set_ink(project, opacity=255)
    assert become(project, the(project), Into("mask", "opacity", inverted=True))
    found = the(project).mesh.value("colour")[:, 3]
    assert np.array_equal(found == 0, mesh.mask == 1)
    assert np.array_equal(found == 255, mesh.mask == 0)
    told_back = told(Into("opacity", "mask"), the(project).mesh, None)
    assert np.array_equal(told_back, (1 - mesh.mask).astype(np.float32))


@pytest.mark.parametrize(
    ("what", "words"),
    [
        ("blend", "way that is not known"),
        ("leaves", "channels that are not known"),
        ("patches", "does not fit"),
        ("tint", "wrong shape"),
        ("hand", "not one of"),
        ("ink", "not usable"),
    ],
)
def test_damaged_paint_is_refused_with_words(tmp_path: Path, what: str, words: str) -> None:
    project = painted()
    paint(project)
    save_project(project, tmp_path / "a.kneten")
    content = read_content(tmp_path / "a.kneten", GO)
    told = content.document["parts"][0]["stack"]
    arrays = dict(content.arrays)
    if what == "blend":
        told["layers"][0]["blend"] = "sideways"
    elif what == "leaves":
        told["layers"][0]["leaves"] = ["colour", "smell"]
    elif what == "hand":
        told["hand"] = "nobody"
    elif what == "ink":
        content.document["ink"]["colour"] = [1, 2, 3000]
    elif what == "tint":
        arrays[told["tint"]] = arrays[told["tint"]][:-3]
    else:
        name = told["layers"][0]["paint"]["patches"]
        arrays[name] = arrays[name] + 100_000
    write_content(tmp_path / "b.kneten", replace(content, arrays=arrays), GO)
    with pytest.raises(ProjectFileError) as caught:
        open_project(tmp_path / "b.kneten")
    assert words in str(caught.value)
