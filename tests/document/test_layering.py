"""Levels and layers as part of a project: undone, saved, journalled."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.stack import Stack
from kneten.document.arrays_file import ProjectFileError, read_content
from kneten.document.journal import Journal
from kneten.document.layering import (
    add_layer,
    change_group,
    change_layer,
    change_layers,
    copy_layer,
    exchange_level,
    group_layers,
    masked_layer,
    mirrored_layer,
    move_layer,
    record,
    ungroup_layer,
)
from kneten.document.opening import StackError, stack_of
from kneten.document.placing import resize
from kneten.document.project import Project
from kneten.document.project_file import open_project, restore, save_project
from kneten.document.recovery import left_journals, recover
from kneten.document.scene import Part, Scene
from tests.conftest import FRONT, make_ball

GO = Progress()


def stroke(project: Project, z: float = 100.0, key: str = "raise") -> None:
    """A dab at the front of the part in hand."""
    part = project.active
    assert part is not None
    made = project.begin_stroke(part.id, TOOLS[key], TOOLS[key].defaults)
    made.dab(Dab(np.array([20.0, 10.0, z]), np.array([1.0, 0, 0]), FRONT, 40.0, 0.8, 0.5, 50.0))
    assert project.end_stroke(part.id, made, key)


def level(project: Project, to: int) -> None:
    part = project.active
    stack, mesh = stack_of(part).stepped(part.mesh, to)
    exchange_level(project, part.id, stack, mesh, f"Level {to}")


def add_level(project: Project) -> None:
    part = project.active
    stack, mesh = stack_of(part).added(part.mesh, GO)
    exchange_level(project, part.id, stack, mesh, "Add level")


def built() -> Project:
    """Two levels, strokes on each, two layers, one recorded on."""
    project = Project(Scene((Part("Ball", make_ball(100.0, 10)),)))
    stroke(project)
    add_level(project)
    stroke(project)
    add_layer(project, project.active, "Veins")
    stroke(project)
    level(project, 0)
    stroke(project, 97.0)
    add_layer(project, project.active, "Posture")
    stroke(project)
    level(project, 1)
    first = project.active.stack.layers[0]
    change_layer(project, project.active, first.id, "Strength", strength=0.5)
    stroke(project)
    return project


def state(project: Project) -> list[np.ndarray]:
    """The form of every level, and of the mesh in hand."""
    part = project.active
    stack = stack_of(part).taken(part.mesh.positions)
    return [part.mesh.positions.copy(), *(stack.form(k) for k in range(stack.top + 1))]


def same(one: list[np.ndarray], other: list[np.ndarray]) -> bool:
    return len(one) == len(other) and all(np.array_equal(a, b) for a, b in zip(one, other, strict=True))


def test_every_step_is_undone_and_redone_to_the_bit() -> None:
    project = built()
    names = project.history.names()[0]
    states = [state(project)]
    for _ in names:
        project.undo()
        states.append(state(project))
    assert project.active.stack is None
    for wanted in reversed(states[:-1]):
        project.redo()
        assert same(state(project), wanted)


def test_linked_copies_share_levels_and_layers() -> None:
    project = built()
    part = project.active
    twin = replace(part, name="Twin", id="twin")
    project.change("Link", project.scene.with_parts((*project.scene.parts, twin)))
    change_layer(project, part, part.stack.layers[0].id, "Strength", strength=2.0)
    level(project, 0)
    parts = project.scene.parts
    assert parts[0].mesh is parts[1].mesh
    assert parts[0].stack is parts[1].stack


def test_another_shape_has_no_levels_and_the_old_one_keeps_its() -> None:
    project = built()
    part = project.active
    project.replace_mesh(part.id, make_ball(90.0, 8), "Remesh")
    assert project.active.stack is None
    project.undo()
    assert isinstance(project.active.stack, Stack)
    # The same shape in another place keeps them.
    resize(project, [part], (1.0, 1.0, 1.5))
    assert project.active.stack is not None
    level(project, 0)
    assert np.ptp(project.active.mesh.positions[:, 2]) == pytest.approx(300, abs=20)


def test_saved_and_opened_it_is_the_same(tmp_path: Path) -> None:
    project = built()
    stroke(project)
    project.keep_milestone("Half way", b"")
    wanted = state(project)
    save_project(project, tmp_path / "levels.kneten")
    again = open_project(tmp_path / "levels.kneten")
    assert same(state(again), wanted)
    stack = again.active.stack
    assert [layer.name for layer in stack.layers] == ["Veins", "Posture"]
    assert stack.recording == project.active.stack.recording
    level(again, 0)
    level(again, 1)
    assert np.abs(again.active.mesh.positions - wanted[0]).max() < 1e-3
    again.go_back(again.scene.milestones[0].id)
    assert same(state(again), wanted)


def damaged(words: dict, arrays: dict[str, np.ndarray], how: str) -> None:
    stack = words["parts"][0]["stack"]
    if how == "level":
        stack["level"] = 9
    elif how == "strength":
        stack["layers"][0]["strength"] = 80.0
    elif how == "rows":
        name = next(r["rows"] for layer in stack["layers"] for r in layer["reliefs"] if r and "rows" in r)
        arrays[name] = arrays[name] + 10**6
    elif how == "base":
        arrays[stack["base"]] = np.full_like(arrays[stack["base"]], np.nan)
    elif how == "shape":
        stack["levels"][0]["topology"] = stack["levels"][1]["topology"]


@pytest.mark.parametrize("how", ["level", "strength", "rows", "base", "shape"])
def test_damage_is_told(tmp_path: Path, how: str) -> None:
    save_project(built(), tmp_path / "levels.kneten")
    content = read_content(tmp_path / "levels.kneten", GO)
    damaged(content.document, content.arrays, how)
    with pytest.raises(ProjectFileError, match="damaged"):
        restore(content, "levels.kneten")


@pytest.mark.parametrize("saved", [False, True])
def test_a_crash_loses_nothing(tmp_path: Path, saved: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    project = Project(Scene((Part("Ball", make_ball(100.0, 10)),)))
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    stroke(project)
    part = project.active
    stack, mesh = stack_of(part).added(part.mesh, GO)
    journal.stage(mesh, stack)
    exchange_level(project, part.id, stack, mesh, "Add level")
    add_layer(project, project.active, "Veins")
    stroke(project)
    if saved:
        save_project(project, tmp_path / "levels.kneten")
        journal.start(tmp_path / "levels.kneten")
        stroke(project)
    level(project, 0)
    stroke(project)
    level(project, 1)
    project.undo()
    stroke(project)
    record(project, project.active, "")
    stroke(project)
    wanted = state(project)
    journal._record.close()
    (journal.folder / "owner").write_text("1 0")
    left = left_journals(tmp_path / "journals")
    assert len(left) == 1
    assert same(state(recover(left[0])), wanted)


def test_recording_needs_a_layer_that_is_seen() -> None:
    project = built()
    veins = project.active.stack.layers[0]
    change_layer(project, project.active, veins.id, "Hide", shown=False)
    with pytest.raises(StackError, match="hidden"):
        record(project, project.active, veins.id)
    record(project, project.active, project.active.stack.layers[1].id)
    change_layer(project, project.active, project.active.stack.recording, "Strength", strength=0.0)
    assert project.active.stack.recording == ""


def test_layers_move_copy_and_give_way_to_a_mask() -> None:
    project = built()
    part = project.active
    veins = part.stack.layers[0]
    form = part.mesh.positions.copy()
    move_layer(project, part, veins.id, 1)
    assert [layer.name for layer in project.active.stack.layers] == ["Posture", "Veins"]
    with pytest.raises(StackError):
        move_layer(project, project.active, veins.id, 1)
    copy_layer(project, project.active, veins.id)
    assert [layer.name for layer in project.active.stack.layers] == ["Posture", "Veins", "Veins 2"]
    assert np.array_equal(project.active.mesh.positions, form)
    with pytest.raises(StackError, match="Nothing is masked"):
        masked_layer(project, project.active, veins.id)
    project.active.mesh.need("mask")[:] = 1.0
    masked_layer(project, project.active, veins.id)
    assert not project.active.stack.layer(veins.id).relief(1)


def test_a_mirrored_layer_is_symmetric() -> None:
    project = Project(Scene((Part("Ball", make_ball(100.0, 12)),)))
    add_level(project)
    before = project.active.mesh.positions.copy()
    layer = add_layer(project, project.active, "Scar")
    project.change_settings(symmetry=(False, False, False))
    stroke(project)
    places = {tuple(np.round(p, 2)): k for k, p in enumerate(before.tolist())}
    twin = np.array(
        [places.get((round(-x, 2) + 0.0, round(y, 2), round(z, 2)), -1) for x, y, z in before.tolist()]
    )
    mirrored_layer(project, project.active, layer.id, twin)
    moves = project.active.mesh.positions - before
    moved = np.abs(moves).max(axis=1) > 1e-3
    assert moved.any()
    pairs = np.flatnonzero((twin >= 0) & moved)
    assert np.abs(moves[twin[pairs]] * [-1, 1, 1] - moves[pairs]).max() < 1e-4


def test_changes_to_layers_say_when_nothing_changes_in_the_clay() -> None:
    project = built()
    count = len(project.history.names()[0])
    change_layers(project, project.active, lambda stack: stack, "Nothing")
    assert len(project.history.names()[0]) == count + 1


def test_restore_takes_away_what_the_layer_did() -> None:
    project = Project(Scene((Part("Ball", make_ball(100.0, 10)),)))
    project.change_settings(symmetry=(False, False, False))
    add_level(project)
    stroke(project)
    before = project.active.mesh.positions.copy()
    add_layer(project, project.active, "Veins")
    stroke(project)
    stroke(project)
    full = np.abs(project.active.mesh.positions - before).max()
    for _ in range(25):
        stroke(project, key="restore")
    assert np.abs(project.active.mesh.positions - before).max() < 0.1 * full
    # On the clay itself it needs a milestone.
    record(project, project.active, "")
    assert project.before(project.active) is None


def test_layers_are_grouped_dialled_moved_and_ungrouped(tmp_path: Path) -> None:
    project = Project(Scene((Part("Ball", make_ball()),)))
    project.choose(project.scene.parts[0].id)
    ids = []
    for z in (100.0, 98.0, 96.0):
        ids.append(add_layer(project, project.active, "Layer").id)
        stroke(project, z)
    with pytest.raises(StackError, match="no layer below"):
        group_layers(project, project.active, ids[0])
    whole = project.active.mesh.positions.copy()
    group = group_layers(project, project.active, ids[2])
    with pytest.raises(StackError, match="one group already"):
        group_layers(project, project.active, ids[2])
    assert np.array_equal(project.active.mesh.positions, whole)
    change_group(project, project.active, group.id, "Half", strength=0.5)
    stack = stack_of(project.active)
    assert [stack.strength(layer) for layer in stack.layers] == [1.0, 0.5, 0.5]
    half = project.active.mesh.positions.copy()
    change_group(project, project.active, group.id, "Hide", shown=False)
    # Recording ends where it would not be seen.
    assert stack_of(project.active).recording == ""
    change_group(project, project.active, group.id, "Fold", folded=True)
    save_project(project, tmp_path / "groups.kneten")
    again = open_project(tmp_path / "groups.kneten").scene.parts[0].stack
    assert again.groups == stack_of(project.active).groups
    assert [layer.group for layer in again.layers] == ["", group.id, group.id]
    change_group(project, project.active, group.id, "Show", shown=True)
    np.testing.assert_allclose(project.active.mesh.positions, half, atol=1e-5)
    # The first layer, moved between the two, is one of them; moved on, it is not any more.
    move_layer(project, project.active, ids[0], 1)
    assert [layer.group for layer in stack_of(project.active).layers] == [group.id] * 3
    ungroup_layer(project, project.active, ids[0])
    assert [layer.id for layer in stack_of(project.active).layers] == [ids[1], ids[2], ids[0]]
    assert stack_of(project.active).layer(ids[0]).group == ""
    while project.undo():
        pass
    assert project.active.stack is None
