"""Rows and scatter as part of a project: undone, kept, following what they are made of."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.live.clay import RecipeError
from kneten.core.live.recipes import Laid
from kneten.core.live.strand import Knot, Strand, Strands
from kneten.core.loose import loosened
from kneten.core.mesh import Mesh
from kneten.core.remesh import forecast, remesh, soup_of
from kneten.core.scatter.numbers import Row, Scatter
from kneten.core.scatter.pieces import own_piece
from kneten.document import blocking
from kneten.document.guides import add_guides
from kneten.document.incoming import bring_in, own_scene
from kneten.document.journal import Journal
from kneten.document.laying import (
    add_laid,
    change_laid,
    follow,
    gathered,
    gone_along,
    lacking,
    made_from,
    maker,
    shapes_of,
    sites_of,
)
from kneten.document.masks import keep_mask, with_mask
from kneten.document.project import Project
from kneten.document.project_file import ProjectFileError, open_project, save_project
from kneten.document.recovery import left_journals, recover
from kneten.document.scene import Part, Scene
from kneten.document.things import guide_places
from tests.conftest import make_ball

GO = Progress()
PIECE = len(own_piece("scale").positions)


def ball_project(rings: int = 24) -> Project:
    return Project(Scene((Part("Ball", make_ball(100.0, rings)),)))


def scattered(project: Project, **numbers: object) -> Part:
    """The ball with scales on it."""
    ground = project.scene.parts[0]
    recipe = Scatter(ground=ground.id, **{"size": 14.0, **numbers})  # type: ignore[arg-type]
    return add_laid(project, "Scales", recipe, gathered(project.scene, "", recipe).worked_out(GO))


def changed(project: Project, part: Part, **numbers: object) -> Part:
    recipe = replace(part.recipe, **numbers)  # type: ignore[type-var]
    assert isinstance(recipe, Laid)
    made = gathered(project.scene, part.id, recipe).worked_out(GO)
    change_laid(project, part, recipe, made, f"Change {part.name}")
    return project.scene.part(part.id)


def followed(project: Project, part: Part) -> Part:
    """A part brought to what follows from the rest."""
    assert isinstance(part.recipe, Laid)
    held = sites_of(project.scene, part.id)
    places_only = held is not None
    follow(project, part, gathered(project.scene, part.id, part.recipe, held).worked_out(GO, places_only))
    return project.scene.part(part.id)


def clay(part: Part) -> np.ndarray:
    return part.mesh.source_arrays()[0].copy()


def centres(part: Part) -> np.ndarray:
    return clay(part).reshape(-1, PIECE, 3).mean(axis=1)


def pull_up(project: Project) -> None:
    """The ball drawn out upwards, as a stroke would."""
    ground = project.scene.parts[0]
    moved = ground.mesh.positions * np.array([1.0, 1.3, 1.0], np.float32)
    project.move_vertices(ground.id, moved, "Draw out")


def test_each_step_is_undone_and_made_again() -> None:
    project = ball_project()
    part = scattered(project)
    first = clay(part)
    held = sites_of(project.scene, part.id)
    assert held is not None
    assert len(held.which) * PIECE == len(first)
    part = changed(project, part, size=9.0)
    assert len(clay(part)) > len(first)
    assert project.undo() == "Change Scales"
    assert np.array_equal(clay(project.scene.part(part.id)), first)
    assert sites_of(project.scene, part.id) is held
    assert project.undo() == "Add Scales"
    assert len(project.scene.parts) == 1
    assert not project.scene.things("sites")
    project.redo()
    assert np.array_equal(clay(project.scene.part(part.id)), first)
    assert sites_of(project.scene, part.id) is not None


def test_pieces_follow_strokes_on_their_clay_and_undo() -> None:
    project = ball_project()
    part = scattered(project)
    first, uid = clay(part), part.mesh.topology.uid
    state = made_from(project.scene, part.recipe)
    assert followed(project, part) is part
    assert np.array_equal(clay(part), first)
    pull_up(project)
    assert made_from(project.scene, part.recipe) != state
    part = followed(project, part)
    assert part.mesh.topology.uid == uid
    top = centres(part)[:, 1].max()
    assert top > 125
    # What follows is no step of its own: one undo takes the stroke back, and the pieces follow again.
    assert project.undo() == "Draw out"
    part = followed(project, part)
    assert np.array_equal(clay(part), first)
    assert project.redo() == "Draw out"
    part = followed(project, part)
    assert centres(part)[:, 1].max() == pytest.approx(top)


def test_it_is_saved_and_comes_back_as_it_was(tmp_path: Path) -> None:
    project = ball_project()
    part = scattered(project, vary=0.3, mirrored=True)
    save_project(project, tmp_path / "a.kneten")
    again = open_project(tmp_path / "a.kneten")
    there = again.scene.part(part.id)
    assert there.recipe == part.recipe
    assert np.array_equal(clay(there), clay(part))
    # Where pieces sit came along: nothing moves when they follow anew.
    assert followed(again, there) is there
    assert np.array_equal(clay(there), clay(part))
    assert not again.unsaved


def test_a_crash_loses_nothing(tmp_path: Path) -> None:
    project = ball_project()
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    part = scattered(project)
    pull_up(project)
    part = followed(project, part)
    journal._record.close()
    (journal.folder / "owner").write_text("1 0")
    (left,) = left_journals(tmp_path / "journals")
    back = recover(left)
    there = back.scene.part(part.id)
    assert np.array_equal(clay(there), clay(part))
    held, wanted = sites_of(back.scene, part.id), sites_of(project.scene, part.id)
    assert held is not None
    assert wanted is not None
    np.testing.assert_allclose(held.numbers, wanted.numbers)


@pytest.mark.parametrize("values", [{"size": -1}, {"sources": []}, {"over": "moon"}, {"most": 10**9}])
def test_numbers_that_make_no_sense_are_told_when_it_is_opened(
    values: dict[str, object], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from kneten.core.live import recipes

    project = ball_project()
    scattered(project)
    plain = recipes.words_of
    monkeypatch.setattr(recipes, "words_of", lambda thing: {**plain(thing), **values})
    save_project(project, tmp_path / "a.kneten")
    with pytest.raises(ProjectFileError):
        open_project(tmp_path / "a.kneten")


def test_sites_are_found_again_on_clay_made_anew() -> None:
    project = ball_project()
    part = scattered(project)
    before = centres(part)
    ground = project.scene.parts[0]
    wanted = forecast(ground.mesh.positions, ground.mesh.topology.faces, 5.0, None).edge
    project.replace_mesh(ground.id, remesh(soup_of([ground.mesh]), wanted, GO), "Remesh")
    held = sites_of(project.scene, part.id)
    assert held is not None
    assert held.topology == project.scene.parts[0].mesh.topology.uid
    after = centres(followed(project, part))
    assert np.linalg.norm(after - before, axis=1).max() < 1.5


def test_sites_found_again_follow_further_strokes() -> None:
    project = ball_project()
    part = scattered(project)
    ground = project.scene.parts[0]
    # Clay that has come without its things being moved, as what is joined does.
    other = replace(ground, mesh=make_ball(100.0, 31), mesh_id="other")
    project.change("Join", project.scene.with_part(other))
    part = followed(project, part)
    held = sites_of(project.scene, part.id)
    assert held is not None
    assert held.topology == project.scene.parts[0].mesh.topology.uid
    pull_up(project)
    assert centres(followed(project, part))[:, 1].max() > 125


def test_sites_hold_on_to_loose_clay() -> None:
    project = ball_project()
    part = scattered(project)
    before = centres(part)
    ground = project.scene.parts[0]
    project.exchange(ground.id, loosened(ground.mesh))
    part = project.scene.part(part.id)
    after = centres(followed(project, part))
    assert np.linalg.norm(after - before, axis=1).max() < 0.5


def test_pieces_stand_where_their_ground_stands() -> None:
    project = ball_project()
    part = scattered(project)
    assert gone_along(project.scene) is project.scene
    ground = project.scene.parts[0]
    project.place(ground.id, ground.transform.moved(np.array([50.0, 0, 0])))
    scene = gone_along(project.scene)
    assert scene.part(part.id).transform == scene.parts[0].transform
    project.derive(scene)
    assert project.undo() == "Move Ball"
    assert project.scene.part(part.id).transform == project.scene.parts[0].transform


def test_a_changed_piece_changes_all_of_them() -> None:
    project = ball_project()
    tooth = Part("Tooth", make_ball(5.0, 6))
    project.change("Add", project.scene.with_parts((*project.scene.parts, tooth)))
    part = scattered(project, sources=(tooth.id, "rivet"))
    before, shapes = clay(part), shapes_of(project.scene, part.recipe)
    state = made_from(project.scene, part.recipe)
    project.move_vertices(tooth.id, tooth.mesh.positions * np.array([1, 3, 1], np.float32), "Longer")
    assert made_from(project.scene, part.recipe) != state
    assert shapes_of(project.scene, part.recipe) == shapes
    part = followed(project, project.scene.part(part.id))
    high = np.linalg.norm(clay(part), axis=1).max() - 100
    assert high > 1.8 * (np.linalg.norm(before, axis=1).max() - 100)


def test_what_is_gone_is_told_and_the_clay_stays() -> None:
    project = ball_project()
    tooth = Part("Tooth", make_ball(5.0, 6))
    project.change("Add", project.scene.with_parts((*project.scene.parts, tooth)))
    part = scattered(project, sources=(tooth.id,))
    kept = clay(part)
    project.delete(tooth.id)
    assert "made of" in lacking(project.scene, part.id, part.recipe)
    with pytest.raises(RecipeError, match="another piece"):
        gathered(project.scene, part.id, part.recipe)
    project.undo()
    project.delete(project.scene.parts[0].id)
    assert "lies on" in lacking(project.scene, part.id, project.scene.part(part.id).recipe)
    assert not project.scene.things("sites")
    assert np.array_equal(clay(project.scene.part(part.id)), kept)
    project.undo()
    assert sites_of(project.scene, part.id) is not None


def test_a_scatter_of_itself_is_refused() -> None:
    project = ball_project()
    part = scattered(project)
    loop = replace(part.recipe, sources=(part.id,))
    with pytest.raises(RecipeError, match="of itself"):
        gathered(project.scene, part.id, loop)
    row = Row(ground=part.id, sources=("rivet",))
    other = Part("Row", make_ball(1.0, 4), recipe=row)
    project.change("Add", project.scene.with_parts((*project.scene.parts, other)))
    with pytest.raises(RecipeError, match="of itself"):
        gathered(project.scene, part.id, replace(part.recipe, sources=(other.id,)))


def test_the_mask_it_lies_on_is_kept() -> None:
    project = ball_project()
    ground = project.scene.parts[0]
    with_mask(project, ground, (ground.mesh.positions[:, 1] > 20).astype(np.float32), "Mask")
    kept = keep_mask(project, ground, "Back")
    part = scattered(project, over="mask", mask=kept.id)
    with_mask(project, ground, None, "Clear")
    assert centres(followed(project, part))[:, 1].min() > 5
    with pytest.raises(RecipeError, match="mask"):
        gathered(project.scene, part.id, replace(part.recipe, mask="gone"))


def test_rows_follow_guides_rims_borders_and_strands() -> None:
    project = ball_project()
    ground = project.scene.parts[0]
    t = np.linspace(0, 2 * np.pi, 120, endpoint=False)
    ring = 100 * np.stack([np.cos(t), np.zeros(120), np.sin(t)], -1)
    row = Row(ground=ground.id, sources=("rivet",), size=6.0, gap=0.5)
    with pytest.raises(RecipeError, match="no guide"):
        gathered(project.scene, "", row)
    with pytest.raises(RecipeError, match="open rim"):
        gathered(project.scene, "", replace(row, along="rims"))
    with pytest.raises(RecipeError, match="region"):
        gathered(project.scene, "", replace(row, along="border", of="7"))
    with pytest.raises(RecipeError, match="strand"):
        gathered(project.scene, "", replace(row, along="strands", of="gone"))
    (guide,) = add_guides(project, ground, [ring], True)
    part = add_laid(project, "Rivets", row, gathered(project.scene, "", row).worked_out(GO))
    n = len(own_piece("rivet").positions)
    middles = clay(part).reshape(-1, n, 3).mean(axis=1)
    assert np.abs(middles[:, 1]).max() < 1.0
    pull_up(project)
    assert np.abs(guide_places(guide, ground.mesh)[:, 1]).max() < 1
    project.undo()
    faces = ground.mesh.topology.faces
    regions = (ground.mesh.positions[faces[:, 0], 1] > 60).astype(np.uint16) * 5
    project.set_values(ground.id, "regions", regions, "Region")
    border = gathered(project.scene, "", replace(row, along="border", of="5")).worked_out(GO)
    assert border.count > 20
    rope = Strands((Strand(tuple(Knot((float(x), 105.0, 0.0), 2.0) for x in (-30, 0, 30))),))
    strand = blocking.add_live(project, "Rope", rope, rope.made().mesh(), ground.transform)
    along = gathered(project.scene, "", replace(row, along="strands", of=strand.id)).worked_out(GO)
    assert 5 <= along.count <= 9


def test_baked_it_is_clay_and_can_be_begun_again() -> None:
    project = ball_project()
    part = scattered(project)
    before = clay(part)
    blocking.bake(project, [part])
    baked = project.scene.part(part.id)
    assert baked.recipe is None
    assert np.array_equal(clay(baked), before)
    again = maker(project.scene, baked.was)(GO)
    np.testing.assert_allclose(again.source_arrays()[0], before, atol=1e-5)
    plain = maker(project.scene, Strands((Strand((Knot((0, 0, 0), 1.0), Knot((5, 0, 0), 1.0))),)))(GO)
    assert plain.n_vertices > 8


def test_a_copy_of_it_is_clay() -> None:
    project = ball_project()
    part = scattered(project)
    (twin,) = blocking.copy(project, [part])
    assert twin.recipe is None
    assert np.array_equal(clay(twin), clay(part))


def test_brought_into_another_project_it_lies_on_what_came_along() -> None:
    project = ball_project()
    part = scattered(project)
    scene = own_scene(project.scene, project.scene.parts)
    other = Project()
    ground, scales = bring_in(other, "Bring in", scene)
    assert isinstance(scales.recipe, Scatter)
    assert scales.recipe.ground == ground.id != part.recipe.ground
    held = sites_of(other.scene, scales.id)
    assert held is not None
    assert held.part == ground.id
    assert followed(other, scales) is scales
    # Alone it keeps its clay, and says what it lacks.
    alone = Project()
    (lonely,) = bring_in(alone, "Bring in", own_scene(project.scene, [part]))
    assert not alone.scene.things("sites")
    assert lacking(alone.scene, lonely.id, lonely.recipe)
    assert np.array_equal(clay(lonely), clay(part))


def test_damaged_sites_are_refused(tmp_path: Path) -> None:
    project = ball_project()
    part = scattered(project)
    held = sites_of(project.scene, part.id)
    assert held is not None
    bad = replace(held, numbers=-held.numbers)
    project.derive(project.scene.with_things("sites", (bad,)))
    save_project(project, tmp_path / "a.kneten")
    with pytest.raises(ProjectFileError, match="places"):
        open_project(tmp_path / "a.kneten")


def test_a_milestone_brings_it_back() -> None:
    project = ball_project()
    part = scattered(project)
    before = clay(part)
    milestone = project.keep_milestone("Scales", b"")
    pull_up(project)
    followed(project, part)
    project.go_back(milestone.id)
    there = project.scene.part(part.id)
    assert np.array_equal(clay(there), before)
    assert isinstance(there.recipe, Scatter)
    assert isinstance(there.mesh, Mesh)
