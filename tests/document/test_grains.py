"""Grain as part of a project: each step undone, kept in files and journals, carried by what makes clay anew."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.grain import KINDS, MOST, Grain
from kneten.core.mesh import Mesh
from kneten.core.press import Press, press_of
from kneten.core.remesh import forecast, remesh, soup_of
from kneten.document.grains import add_grain, bake_grain, change_grain, grains_of, remove_grain
from kneten.document.journal import Journal
from kneten.document.layering import (
    change_layer,
    change_layers,
    copy_layer,
    exchange_level,
    masked_layer,
    record,
)
from kneten.document.masks import with_mask
from kneten.document.opening import StackError, stack_of
from kneten.document.project import Project
from kneten.document.project_file import ProjectFileError, open_project, save_project
from kneten.document.recovery import left_journals, recover
from kneten.document.scene import Part, Scene
from tests.conftest import make_ball

GO = Progress()
PEBBLES = Grain(kind="pebbles", scale=30.0, height=1.5, roughness=0.0)


def ball_project(rings: int = 16) -> Project:
    return Project(Scene((Part("Ball", make_ball(100.0, rings)),)))


def clay(project: Project) -> np.ndarray:
    return project.active.mesh.positions.copy()


def lift(project: Project) -> np.ndarray:
    return np.linalg.norm(clay(project), axis=1) - 100.0


def waves() -> Press:
    x = np.linspace(0, 2 * np.pi, 64, endpoint=False)
    return press_of(np.tile(np.sin(x), (64, 1)).astype(np.float32), tiles=True)


def subdivided(project: Project) -> None:
    part = project.active
    stack, mesh = stack_of(part).added(part.mesh, GO)
    exchange_level(project, part.id, stack, mesh, "Subdivide")


def test_each_step_is_undone_to_the_bit() -> None:
    project = ball_project()
    states = [clay(project)]
    layer = add_grain(project, project.active, PEBBLES, None, "Scales")
    states.append(clay(project))
    change_grain(project, project.active, layer.id, replace(PEBBLES, kind="press", press="x"), waves())
    states.append(clay(project))
    change_layer(project, project.active, layer.id, "Dial", strength=-0.5)
    states.append(clay(project))
    bake_grain(project, project.active, layer.id)
    assert not grains_of(project.active)
    assert project.active.mesh.seat is None
    assert len(project.active.stack.layers) == 1
    states.append(clay(project))
    assert np.array_equal(states[-1], states[-2])
    for k in range(len(states) - 1):
        assert not np.allclose(states[0], states[k + 1]), k
    for state in reversed(states[:-1]):
        assert project.undo()
        assert np.array_equal(clay(project), state)
    assert project.active.mesh.seat is None
    for state in states[1:]:
        assert project.redo()
        assert np.array_equal(clay(project), state)


def test_it_is_saved_and_comes_back_as_it_was(tmp_path: Path) -> None:
    project = ball_project()
    grain = replace(PEBBLES, curve=((0.0, 0.1), (0.4, 0.2), (1.0, 1.0)), where="height", low=0.2, high=0.9)
    layer = add_grain(project, project.active, grain, None, "Scales")
    save_project(project, tmp_path / "grain.kneten")
    back = open_project(tmp_path / "grain.kneten")
    (found,) = grains_of(back.active)
    assert found.grain == grain
    assert np.array_equal(clay(back), clay(project))
    assert np.array_equal(back.active.mesh.seat, project.active.mesh.seat)
    # Laid anew it is what it is.
    before = clay(back)
    change_grain(back, back.active, layer.id, grain, None)
    assert np.abs(clay(back) - before).max() < 1e-4


def test_a_crash_loses_nothing(tmp_path: Path) -> None:
    project = ball_project()
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    layer = add_grain(project, project.active, PEBBLES, None, "Scales")
    change_grain(project, project.active, layer.id, replace(PEBBLES, height=-2.0), None)
    wanted = clay(project)
    journal._record.close()
    (journal.folder / "owner").write_text("1 0")
    (left,) = left_journals(tmp_path / "journals")
    back = recover(left)
    assert np.array_equal(clay(back), wanted)
    assert grains_of(back.active)[0].grain.height == -2.0
    assert np.array_equal(back.active.mesh.seat, project.active.mesh.seat)


@pytest.mark.parametrize("words", [{"kind": "moss"}, {"scale": -1.0}, {"high": 7.0}])
def test_grain_that_makes_no_sense_is_told_when_it_is_opened(
    tmp_path: Path, words: dict[str, object], monkeypatch: pytest.MonkeyPatch
) -> None:
    project = ball_project()
    layer = add_grain(project, project.active, PEBBLES, None, "Scales")
    bad = replace(layer, grain=replace(PEBBLES, **words))
    change_layers(project, project.active, lambda now: now.with_layer(bad), "Bad")
    save_project(project, tmp_path / "bad.kneten")
    with pytest.raises(ProjectFileError, match="damaged"):
        open_project(tmp_path / "bad.kneten")


def test_it_lies_where_the_clay_was_masked_whatever_becomes_of_the_mask() -> None:
    project = ball_project()
    part = project.active
    with pytest.raises(StackError, match="Nothing is masked"):
        add_grain(project, part, replace(PEBBLES, where="mask"), None, "Scales")
    upper = (part.mesh.positions[:, 1] > 0).astype(np.float32)
    with_mask(project, part, upper, "Mask")
    layer = add_grain(project, project.active, replace(PEBBLES, where="mask"), None, "Scales")
    assert [mask.name for mask in project.scene.kept_masks] == ["Under Scales"]
    with_mask(project, project.active, None, "Clear")
    grain = grains_of(project.active)[0].grain
    change_grain(project, project.active, layer.id, replace(grain, height=3.0), None)
    assert lift(project)[upper > 0].max() > 2.5
    assert np.abs(lift(project)[upper == 0]).max() < 1e-3


def test_baked_within_the_mask_only_that_stays() -> None:
    project = ball_project()
    part = project.active
    layer = add_grain(project, part, PEBBLES, None, "Scales")
    with pytest.raises(StackError, match="Nothing is masked"):
        bake_grain(project, project.active, layer.id, inside=True)
    upper = (project.active.mesh.positions[:, 1] > 0).astype(np.float32)
    whole = lift(project)
    with_mask(project, project.active, upper, "Mask")
    bake_grain(project, project.active, layer.id, inside=True)
    assert np.allclose(lift(project)[upper > 0], whole[upper > 0], atol=1e-4)
    assert np.abs(lift(project)[upper == 0]).max() < 1e-4
    assert not grains_of(project.active)


def test_strokes_below_it_stay_and_it_goes_along() -> None:
    project = ball_project()
    layer = add_grain(project, project.active, PEBBLES, None, "Scales")
    with pytest.raises(StackError, match="bake it"):
        record(project, project.active, layer.id)
    moved = clay(project)
    out = moved / np.linalg.norm(moved, axis=1)[:, None]
    bump = 20 * np.exp(-((np.linalg.norm(moved - [100, 0, 0], axis=1) / 40) ** 2))
    project.move_vertices(project.active.id, (moved + out * bump[:, None]).astype(np.float32), "Bump")
    sculpted = clay(project)
    change_grain(project, project.active, layer.id, PEBBLES, None)
    # On level 0 it stands along the clay's own normals, which the bump has turned a little.
    assert np.abs(clay(project) - sculpted).max() < 0.6
    remove_grain(project, project.active, layer.id)
    bare = clay(project)
    assert np.abs(np.linalg.norm(bare, axis=1) - 100.0 - bump).max() < 1.0
    assert project.active.mesh.seat is None


def test_on_levels_it_lies_on_the_finest_and_is_laid_anew_there() -> None:
    project = ball_project(10)
    subdivided(project)
    layer = add_grain(project, project.active, PEBBLES, None, "Scales")
    subdivided(project)
    assert project.active.mesh.seat is not None
    change_grain(project, project.active, layer.id, PEBBLES, None)
    (grained,) = grains_of(project.active)
    assert [bool(relief) for relief in grained.reliefs] == [False, False, True]
    part = project.active
    stack, mesh = stack_of(part).stepped(part.mesh, 0)
    exchange_level(project, part.id, stack, mesh, "Down")
    with pytest.raises(StackError, match="go up to level 2"):
        change_grain(project, project.active, layer.id, PEBBLES, None)


def test_eight_at_most() -> None:
    project = ball_project(6)
    for k in range(MOST):
        add_grain(project, project.active, replace(PEBBLES, kind=list(KINDS)[k % 7]), None, f"Grain {k}")
    with pytest.raises(StackError, match="8 grains already"):
        add_grain(project, project.active, PEBBLES, None, "One more")
    assert len(grains_of(project.active)) == MOST


def test_a_press_that_is_gone_is_told_and_nothing_changes() -> None:
    project = ball_project()
    before = clay(project)
    with pytest.raises(StackError, match="no press"):
        add_grain(project, project.active, Grain(kind="press", press="gone"), None, "Gone")
    assert np.array_equal(clay(project), before)
    assert not project.history.names()[0]


def test_copies_stay_grain_and_what_is_taken_out_by_hand_does_not() -> None:
    project = ball_project()
    layer = add_grain(project, project.active, PEBBLES, None, "Scales")
    made = copy_layer(project, project.active, layer.id)
    assert made.grain == PEBBLES
    with_mask(project, project.active, (clay(project)[:, 1] > 0).astype(np.float32), "Mask")
    masked_layer(project, project.active, layer.id)
    assert project.active.stack.layer(layer.id).grain is None


def test_clay_made_anew_still_knows_where_it_was() -> None:
    """Remeshed clay keeps the places that the pattern hangs on, so that it is found where it was."""
    project = ball_project(24)
    add_grain(project, project.active, replace(PEBBLES, height=0.5), None, "Scales")
    mesh = project.active.mesh
    made = remesh(soup_of([mesh]), forecast(mesh.positions, mesh.topology.faces, vertices=3000).edge, GO)
    assert isinstance(made, Mesh)
    assert made.seat is not None
    assert np.abs(np.linalg.norm(made.seat, axis=1) - 100.0).max() < 1.5
    way = made.positions / np.linalg.norm(made.positions, axis=1)[:, None]
    assert np.linalg.norm(made.seat - 100 * way, axis=1).max() < 2.0
