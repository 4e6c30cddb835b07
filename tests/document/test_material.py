"""Material in a project: filled, undone, saved, crashed, carried through what makes clay anew; materials as files."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.loose import loosened
from kneten.core.paint.ink import CHANNELS, Ink
from kneten.core.paint.layers import open_paint, seen_values
from kneten.core.paint.materials import PRESETS, Preset
from kneten.core.remesh import forecast, remesh, soup_of
from kneten.core.values import CLAY, PLAIN
from kneten.document.arrays_file import read_content, write_content
from kneten.document.journal import Journal
from kneten.document.layering import (
    add_layer,
    change_layer,
    change_layers,
    exchange_level,
    masked_layer,
    record,
)
from kneten.document.opening import stack_of
from kneten.document.painting import add_materials, filled, remove_material, set_ink, set_leaves
from kneten.document.project import Project
from kneten.document.project_file import ProjectFileError, open_project, save_project
from kneten.document.recovery import left_journals, recover
from kneten.document.scene import Part, Scene
from kneten.formats.materials import read_materials, write_materials
from kneten.formats.pieces import FormatError
from tests.conftest import make_ball

VIEW = np.array([0.0, 0.0, -1.0])
WET = Ink((60, 120, 80), material=(40, 30, 120, 255), channels=tuple(CHANNELS))
GO = Progress()


def ball() -> Project:
    project = Project(Scene((Part("Ball", make_ball(50.0, 20)),)))
    project.change_settings(symmetry=(False, False, False))
    return project


def the(project: Project) -> Part:
    return project.scene.parts[0]


def paint(project: Project, ink: Ink = WET, key: str = "paint") -> bool:
    """One stroke across the front."""
    set_ink(project, colour=ink.colour, material=ink.material, channels=ink.channels)
    tool = TOOLS[key]
    made = project.begin_stroke(the(project).id, tool, tool.defaults)
    for k in range(6):
        at = np.array([2.0 * k, 0.0, 48.0])
        made.dab(Dab(at, np.array([2.0, 0, 0]), VIEW, 15.0, 0.7, 0.12, 2.0 * k))
    return project.end_stroke(the(project).id, made, tool.name)


def values(project: Project) -> tuple[bytes, ...]:
    mesh = the(project).mesh
    return tuple(mesh.value(name).tobytes() for name in ("colour", "material", "paint"))


def shows_its_layers(project: Project) -> bool:
    """Whether colour and material are what base and layers give."""
    part = the(project)
    mesh, stack = part.mesh, part.stack
    if stack is None or stack.tint is None or stack.level < stack.top:
        return True
    shown = seen_values(stack, open_paint(stack, mesh), mesh.value("colour"))
    blank = np.tile(np.array(PLAIN, np.uint8), (mesh.n_vertices, 1))
    material = blank if shown["material"] is None else shown["material"]
    assert shown["colour"] is not None
    return np.array_equal(shown["colour"], mesh.value("colour")) and np.array_equal(
        material, mesh.value("material")
    )


def layered() -> Project:
    """A ball with material on the base and on two layers."""
    project = ball()
    paint(project)
    for name in ("Skin", "Slime"):
        add_layer(project, the(project), name)
        paint(project, replace(WET, channels=("wet", "roughness") if name == "Slime" else ("colour", "wet")))
    return project


def test_every_step_with_material_is_undone_and_made_again_to_the_bit() -> None:
    project = ball()
    states = [values(project)]

    def did(run: object) -> None:
        del run
        states.append(values(project))
        assert shows_its_layers(project)

    did(paint(project))
    did(filled(project, the(project), replace(WET, channels=("metalness",)), None, "Fill"))
    layer = add_layer(project, the(project), "Wet")
    did(None)
    did(paint(project))
    did(paint(project, replace(WET, channels=("wet",), material=(0, 0, 0, 0)), "smudge"))
    did(change_layer(project, the(project), layer.id, "Half", strength=0.4))
    did(paint(project, WET, "blend"))
    did(record(project, the(project), ""))
    did(paint(project, replace(WET, material=(200, 255, 0, 0))))
    share = np.linspace(0, 1, the(project).mesh.n_vertices).astype(np.float32)
    did(filled(project, the(project), replace(WET, channels=("roughness",)), share, "Wash"))
    did(change_layer(project, the(project), layer.id, "Hide", shown=False))
    did(change_layer(project, the(project), layer.id, "Show", shown=True))
    for state in reversed(states[:-1]):
        project.undo()
        assert values(project) == state
        assert shows_its_layers(project)
    for state in states[1:]:
        project.redo()
        assert values(project) == state


def test_filling_a_layer_changes_what_is_chosen_and_nothing_else() -> None:
    project = layered()
    mesh = the(project).mesh
    before = mesh.value("material").astype(int)
    share = np.full(mesh.n_vertices, 0.5, np.float32)
    assert filled(
        project, the(project), replace(WET, channels=("metalness",), material=(0, 255, 0, 0)), share, "Half"
    )
    off = np.abs(the(project).mesh.value("material").astype(int) - before)
    assert off[:, 1].min() > 100
    assert off[:, [0, 2, 3]].max() <= 2
    assert np.array_equal(the(project).mesh.value("colour"), mesh.value("colour"))


def test_material_is_saved_and_opened_packed_or_not(tmp_path: Path) -> None:
    project = layered()
    add_materials(project, (Preset("Toad", (1, 2, 3), (4, 5, 6, 7)),))
    for small in (False, True):
        path = tmp_path / f"{small}.kneten"
        save_project(project, path, small=small)
        back = open_project(path)
        assert values(back) == values(project)
        assert shows_its_layers(back)
        assert back.settings.materials == project.settings.materials
        assert back.settings.ink == project.settings.ink
        paint(back)
        back.undo()
        assert values(back) == values(project)
    add_materials(project, (Preset("Toad", (9, 9, 9), PLAIN),))
    (only,) = project.settings.materials
    assert only.colour == (9, 9, 9)
    remove_material(project, only.id)
    assert not project.settings.materials


def test_a_crash_loses_no_material(tmp_path: Path) -> None:
    project = ball()
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    paint(project)
    add_layer(project, the(project), "Wet")
    paint(project, replace(WET, channels=("wet",)))
    paint(project, replace(WET, channels=("roughness", "subsurface")))
    project.undo()
    paint(project, WET, "blend")
    journal._record.close()
    (journal.folder / "owner").write_text("1 0")
    (left,) = left_journals(tmp_path / "journals")
    back = recover(left)
    assert values(back) == values(project)
    assert shows_its_layers(back)


def test_levels_keep_material() -> None:
    project = layered()
    exchange_level(
        project, the(project).id, *stack_of(the(project)).added(the(project).mesh, GO), "Subdivide"
    )
    assert shows_its_layers(project)
    fine = values(project)
    stack, mesh = stack_of(the(project)).stepped(the(project).mesh, 0)
    exchange_level(project, the(project).id, stack, mesh, "Down")
    low = the(project).mesh.value("material").copy()
    assert (low != PLAIN).any()
    # Dialled below, it is seen there, and above.
    layer = stack_of(the(project)).layers[-1]
    change_layer(project, the(project), layer.id, "Less", strength=0.1)
    assert not np.array_equal(the(project).mesh.value("material"), low)
    stack, mesh = stack_of(the(project)).stepped(the(project).mesh, 1)
    exchange_level(project, the(project).id, stack, mesh, "Up")
    assert shows_its_layers(project)
    for _ in range(3):
        project.undo()
    assert values(project) == fine


def test_a_layer_loses_material_where_it_is_masked() -> None:
    project = layered()
    mesh = the(project).mesh
    project.set_values(the(project).id, "mask", np.ones(mesh.n_vertices, np.float32), "Mask")
    layer = stack_of(the(project)).layers[-1]
    masked_layer(project, the(project), layer.id)
    assert not stack_of(the(project)).layer(layer.id).paint
    assert shows_its_layers(project)


def test_what_makes_clay_anew_keeps_the_material_that_is_seen() -> None:
    project = layered()
    part = the(project)
    edge = forecast(part.mesh.positions, part.mesh.topology.faces, 3.0, None).edge
    before = part.mesh.value("material")[np.argmax(part.mesh.positions[:, 2])].astype(int)
    project.replace_mesh(part.id, remesh(soup_of([part.mesh]), edge, GO), "Remesh")
    mesh = the(project).mesh
    found = mesh.value("material")[np.argmax(mesh.positions[:, 2])].astype(int)
    assert np.abs(found - before).max() < 40
    project.exchange(part.id, loosened(mesh))
    assert paint(project, replace(WET, channels=("metalness",), material=(0, 255, 0, 0)))
    settled = the(project).mesh.settled()
    assert settled.value("material")[:, 1].max() > 150
    project.undo()
    assert the(project).mesh.settled().value("material")[:, 1].max() < 40


@pytest.mark.parametrize(
    ("what", "words"), [("material", "wrong shape"), ("colours", "wrong shape"), ("ink", "not usable")]
)
def test_damaged_material_is_refused_with_words(tmp_path: Path, what: str, words: str) -> None:
    project = layered()
    save_project(project, tmp_path / "a.kneten")
    content = read_content(tmp_path / "a.kneten", GO)
    told = content.document["parts"][0]["stack"]
    arrays = dict(content.arrays)
    if what == "material":
        arrays[told["material"]] = arrays[told["material"]][:, :3]
    elif what == "colours":
        told["layers"][0]["paint"]["wide"] = False
    else:
        content.document["ink"]["channels"] = ["smell"]
    write_content(tmp_path / "b.kneten", replace(content, arrays=arrays), GO)
    with pytest.raises(ProjectFileError, match=words):
        open_project(tmp_path / "b.kneten")


# -- as files ----------------------------------------------------------------------------------------


def test_materials_are_written_and_read_again(tmp_path: Path) -> None:
    path = tmp_path / "all.json"
    presets = tuple(PRESETS.values())
    write_materials(path, presets)
    back = read_materials(path)
    assert [(one.name, one.colour, one.material, one.opacity) for one in back] == [
        (one.name, one.colour, one.material, one.opacity) for one in presets
    ]
    assert any(one.opacity < 255 for one in back)
    assert [one.name for one in tmp_path.iterdir()] == ["all.json"]


GOOD = {"name": "A", "colour": "#102030", "roughness": 0.5}


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("not json", "no JSON"),
        ("[" * 100_000, "no JSON"),
        ("[]", "holds no materials"),
        ('{"kneten": "materials", "version": 2}', "newer"),
        ('{"kneten": "materials", "version": 1, "materials": []}', "no materials in it"),
        (
            json.dumps({"kneten": "materials", "version": 1, "materials": [{**GOOD, "colour": "red"}]}),
            "no colour",
        ),
        (
            json.dumps({"kneten": "materials", "version": 1, "materials": [{**GOOD, "wet": 1.5}]}),
            "between 0 and 1",
        ),
        (
            json.dumps({"kneten": "materials", "version": 1, "materials": [{**GOOD, "wet": float("nan")}]}),
            "between",
        ),
        (json.dumps({"kneten": "materials", "version": 1, "materials": [{"name": "A"}]}), "not usable"),
        (json.dumps({"kneten": "materials", "version": 1, "materials": [7]}), "not usable"),
        (json.dumps({"kneten": "materials", "version": 1, "materials": [{**GOOD, "name": " "}]}), "name"),
    ],
)
def test_files_without_usable_materials_are_refused_with_words(tmp_path: Path, text: str, words: str) -> None:
    path = tmp_path / "bad.json"
    path.write_text(text)
    with pytest.raises(FormatError, match=words):
        read_materials(path)


def test_files_that_cannot_be_read_or_written_are_told(tmp_path: Path) -> None:
    with pytest.raises(FormatError, match="cannot be read"):
        read_materials(tmp_path / "none.json")
    with pytest.raises(FormatError, match="could not be written"):
        write_materials(tmp_path / "no" / "a.json", tuple(PRESETS.values())[:1])
    (tmp_path / "big.json").write_bytes(b" " * 4_000_001)
    with pytest.raises(FormatError, match="too large"):
        read_materials(tmp_path / "big.json")


# -- with the form -----------------------------------------------------------------------------------


@pytest.mark.parametrize("layer", [False, True])
def test_form_and_paint_are_one_stroke_and_one_step(layer: bool) -> None:
    project = ball()
    if layer:
        add_layer(project, the(project), "Grooves")
    set_ink(project, colour=(30, 20, 10), along=True, channels=("colour", "wet"), material=(0, 0, 0, 255))
    before, places = values(project), the(project).mesh.positions.copy()
    steps = len(project.history.names()[0])
    assert paint_like(project, "score")
    mesh = the(project).mesh
    moved = np.linalg.norm(mesh.positions - places, axis=1)
    dark = CLAY[0] - mesh.value("colour")[:, 0].astype(int)
    assert moved.max() > 0.2
    assert dark.max() > 25
    # It is darkest where the groove is, and as wet.
    assert np.corrcoef(moved, dark)[0, 1] > 0.6
    assert mesh.value("material")[np.argmax(dark), 3] > 50
    assert len(project.history.names()[0]) == steps + 1
    assert shows_its_layers(project)
    after, there = values(project), mesh.positions.copy()
    project.undo()
    assert values(project) == before
    assert np.array_equal(the(project).mesh.positions, places)
    project.redo()
    assert values(project) == after
    assert np.array_equal(the(project).mesh.positions, there)
    # Reversed it paints as well; taken back, and broken off, nothing stays of either.
    tool = TOOLS["raise"]
    made = project.begin_stroke(the(project).id, tool, tool.defaults)
    made.dab(Dab(np.array([0.0, 20, 45]), np.zeros(3), VIEW, 12.0, -0.8, 0.3))
    assert values(project) != after
    made.take_back()
    assert values(project) == after
    assert np.array_equal(the(project).mesh.positions, there)
    made.dab(Dab(np.array([0.0, 20, 45]), np.zeros(3), VIEW, 12.0, 0.8, 0.3))
    made.cancel()
    assert values(project) == after
    assert np.array_equal(the(project).mesh.positions, there)


def paint_like(project: Project, key: str) -> bool:
    tool = TOOLS[key]
    made = project.begin_stroke(the(project).id, tool, tool.defaults)
    for k in range(8):
        at = np.array([2.0 * k, 0.0, np.sqrt(2500 - 4.0 * k * k)])
        made.dab(Dab(at, np.array([2.0, 0, 0]), VIEW, 9.0, 0.8, 0.3, 2.0 * k))
    return project.end_stroke(the(project).id, made, tool.name)


def test_below_the_highest_level_and_on_loose_clay_the_form_alone_is_changed() -> None:
    project = layered()
    set_ink(project, along=True)
    exchange_level(
        project, the(project).id, *stack_of(the(project)).added(the(project).mesh, GO), "Subdivide"
    )
    stack, mesh = stack_of(the(project)).stepped(the(project).mesh, 0)
    exchange_level(project, the(project).id, stack, mesh, "Down")
    before = values(project)
    assert paint_like(project, "score")
    assert values(project) == before
    loose = ball()
    set_ink(loose, along=True)
    loose.exchange(the(loose).id, loosened(the(loose).mesh))
    assert paint_like(loose, "score")
    assert the(loose).mesh.colour is None


@pytest.mark.parametrize("key", ["smooth", "pull", "mask", "restore"])
def test_tools_that_hold_smooth_or_paint_anyway_paint_nothing_more(key: str) -> None:
    project = ball()
    set_ink(project, along=True)
    made = project.begin_stroke(the(project).id, TOOLS[key], TOOLS[key].defaults)
    made.cancel()
    assert the(project).mesh.colour is None
    assert type(made).__name__ != "PaintedStroke"


def test_a_layer_leaves_what_it_is_told_to_leave(tmp_path: Path) -> None:
    project = layered()
    skin = stack_of(the(project)).layers[0]
    before, mesh = values(project), the(project).mesh
    whole = {name: mesh.value(name).copy() for name in ("colour", "material")}
    change_layers(project, the(project), lambda now: now.without(skin.id), "Without")
    bare = {name: the(project).mesh.value(name).copy() for name in ("colour", "material")}
    project.undo()
    assert values(project) == before
    set_leaves(project, the(project), skin.id, ("colour", "wet"))
    assert shows_its_layers(project)
    colour, material = (the(project).mesh.value(name) for name in ("colour", "material"))
    # Skin lays colour and wet alone: nothing of it is left.
    assert np.array_equal(colour, bare["colour"])
    assert np.array_equal(material, bare["material"])
    set_leaves(project, the(project), skin.id, ("wet",))
    assert np.array_equal(the(project).mesh.value("colour"), whole["colour"])
    assert np.array_equal(the(project).mesh.value("material"), bare["material"])
    # A stroke on it changes nothing of what it leaves, and keeps it for later.
    record(project, the(project), skin.id)
    paint(project, replace(WET, channels=("wet",), material=(0, 0, 0, 90)))
    assert shows_its_layers(project)
    assert np.array_equal(the(project).mesh.value("material"), bare["material"])
    state = values(project)
    path = tmp_path / "left.kneten"
    save_project(project, path)
    again = open_project(path)
    assert stack_of(the(again)).layers[0].leaves == ("wet",)
    assert values(again) == state
    set_leaves(project, the(project), skin.id, ())
    assert not np.array_equal(the(project).mesh.value("material"), bare["material"])
    while project.undo():
        assert shows_its_layers(project)
    while project.redo():
        assert shows_its_layers(project)


def test_layers_that_leave_the_same_become_one_and_baked_ones_stay_as_seen() -> None:
    for ended in ("merged", "baked"):
        project = layered()
        skin, slime = stack_of(the(project)).layers
        for one in (skin, slime):
            set_leaves(project, the(project), one.id, ("roughness",))
        before = [the(project).mesh.value(name).astype(int) for name in ("colour", "material")]
        both = [skin.id, slime.id]
        if ended == "merged":
            change_layers(project, the(project), lambda now, ids=both: now.merged(ids, "Both"), "Merge")
            assert stack_of(the(project)).layers[0].leaves == ("roughness",)
        else:
            for one in (skin, slime):
                change_layers(project, the(project), lambda now, one=one: now.baked(one.id), "Bake")
        for name, was in zip(("colour", "material"), before, strict=True):
            assert np.abs(the(project).mesh.value(name).astype(int) - was).max() <= 2
