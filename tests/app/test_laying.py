"""Rows and scatter through the real window: laid, dragged, following, baked."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from kneten.app.shell.window import Window
from kneten.app.work.following import follow
from kneten.core.live.primitive import Primitive
from kneten.core.mesh import Mesh
from kneten.core.motion import Motion
from kneten.core.primitives import ball
from kneten.core.scatter.numbers import Row, Scatter
from kneten.core.transform import Transform
from kneten.document.blocking import add_live
from kneten.document.guides import add_guides
from kneten.document.laying import sites_of
from kneten.document.project_file import open_project, save_project
from kneten.document.scene import Part
from tests.app.windows import drag, middle, run, said, settle, steps, until


@pytest.fixture
def scaled(window: Window) -> Window:
    """A ball with scales on it, the scales in hand."""
    run(window, "stage.surface")
    run(window, "laying.scatter")
    rest(window)
    return window


def rest(window: Window) -> None:
    window.studio.wait(60)
    settle(window)


def following(window: Window) -> None:
    """Until all rows and scatter have followed."""
    layings = window.layings._following
    until(lambda: not layings._busy and not layings._soon.isActive(), 30)
    settle(window)


def laid(window: Window) -> Part:
    return next(part for part in window.studio.project.scene.parts if isinstance(part.recipe, Scatter | Row))


def places(window: Window) -> np.ndarray:
    return laid(window).mesh.source_arrays()[0].copy()


def typed(window: Window, field: str, value: float) -> None:
    box = window.pieces_card.numbers[field]
    box.set_value(value)
    box.changed.emit(value)
    box.settled.emit(value)
    rest(window)


def pick(window: Window, box: str, key: str) -> None:
    field = (
        window.pieces_card.choices[box]
        if box in window.pieces_card.choices
        else getattr(window.pieces_card, box)
    )
    field.setCurrentIndex(field.findData(key))
    field.activated.emit(field.currentIndex())
    rest(window)


def test_pieces_are_scattered_changed_and_undone(scaled: Window) -> None:
    project, card = scaled.studio.project, scaled.pieces_card
    part = laid(scaled)
    assert project.active is part
    assert steps(scaled) == ["Add Scatter"]
    assert "no more have room" in card.words.text()
    assert card.numbers["size"].value() == pytest.approx(part.recipe.size, rel=0.01)
    first = places(scaled)
    typed(scaled, "size", 15.0)
    assert laid(scaled).recipe.size == pytest.approx(15.0)
    assert len(places(scaled)) < len(first)
    pick(scaled, "piece", "rivet")
    pick(scaled, "flow", "chance")
    card.switches["bend"].click()
    rest(scaled)
    recipe = laid(scaled).recipe
    assert (recipe.sources, recipe.flow, recipe.bend) == (("rivet",), "chance", False)
    assert steps(scaled) == ["Add Scatter"] + ["Change Scatter"] * 4
    for _ in range(4):
        run(scaled, "edit.undo")
    assert np.array_equal(places(scaled), first)
    assert card.numbers["size"].value() == pytest.approx(laid(scaled).recipe.size, rel=0.01)
    run(scaled, "edit.undo")
    assert len(project.scene.parts) == 1
    assert card.none.isVisibleTo(card)


def test_a_dragged_number_is_shown_before_it_is_kept(scaled: Window) -> None:
    part, box = laid(scaled), scaled.pieces_card.numbers["lean"]
    before = places(scaled)
    box.changed.emit(30.0)
    until(lambda: part.id in scaled.view.preview)
    shown = scaled.view.preview[part.id]
    assert shown.mesh.n_vertices == part.mesh.n_vertices
    assert not np.array_equal(shown.mesh.source_arrays()[0], before)
    assert np.array_equal(places(scaled), before)
    box.settled.emit(30.0)
    rest(scaled)
    assert not scaled.view.preview
    # Pieces that only lean stay where they sit.
    assert np.array_equal(
        sites_of(scaled.studio.project.scene, part.id).corners.shape, (len(before) // 172, 3)
    )
    assert laid(scaled).recipe.lean == 30.0


def test_pieces_follow_a_stroke_on_their_clay_and_its_undo(scaled: Window) -> None:
    project = scaled.studio.project
    ground, part = project.scene.parts
    first = places(scaled)
    project.choose(ground.id)
    run(scaled, "tool.raise")
    scaled.studio.set_brush(size=180.0, strength=1.0)
    part_before = part.mesh
    project.show(part.id, False)
    x, y = middle(scaled)
    drag(scaled, [(x - 40, y), (x + 40, y)])
    following(scaled)
    project.show(part.id, True)
    assert laid(scaled).mesh is part_before
    moved = np.linalg.norm(places(scaled) - first, axis=1)
    assert moved.max() > 1.0
    assert (moved == 0).mean() > 0.3
    run(scaled, "edit.undo")
    run(scaled, "edit.undo")
    following(scaled)
    assert np.array_equal(places(scaled), first)


def test_pieces_stand_where_their_ground_is_put(scaled: Window) -> None:
    project = scaled.studio.project
    ground = project.scene.parts[0]
    project.place(ground.id, ground.transform.moved(np.array([40.0, 0.0, 0.0])))
    following(scaled)
    assert laid(scaled).transform.place == (40.0, 0.0, 0.0)
    run(scaled, "edit.undo")
    following(scaled)
    assert laid(scaled).transform.place == (0.0, 0.0, 0.0)


def test_a_mask_says_where_they_lie(window: Window) -> None:
    project = window.studio.project
    ground = project.active
    project.set_values(ground.id, "mask", (ground.mesh.positions[:, 1] > 30).astype(np.float32), "Mask")
    run(window, "laying.scatter")
    rest(window)
    assert laid(window).recipe.over == "mask"
    assert len(project.scene.kept_masks) == 1
    assert places(window)[:, 1].min() > 20
    project.set_values(ground.id, "mask", (ground.mesh.positions[:, 1] < -30).astype(np.float32), "Mask")
    run(window, "laying.mask")
    rest(window)
    assert places(window)[:, 1].max() < -20
    project.set_values(ground.id, "mask", None, "Clear")
    settle(window)
    assert "masked" in window.layings.no_mask()


def test_a_row_follows_its_guide(window: Window) -> None:
    project = window.studio.project
    ground = project.active
    assert "draw a guide" in window.layings.no_line()
    t = np.linspace(0, 2 * np.pi, 100, endpoint=False)
    add_guides(project, ground, [100 * np.stack([np.cos(t), np.zeros(100), np.sin(t)], -1)], True)
    run(window, "laying.row")
    rest(window)
    assert isinstance(laid(window).recipe, Row)
    first = places(window)
    assert np.abs(first[:, 1]).max() < 5
    typed(window, "count", 12)
    assert len(places(window)) == 12 * 130
    # Another guide: the row follows that as well.
    t = np.linspace(0.2, 2, 40)
    add_guides(project, ground, [100 * np.stack([np.zeros(40), np.sin(t), np.cos(t)], -1)], False)
    following(window)
    assert len(places(window)) == 24 * 130
    project.change("Erase", project.scene.with_things("guides", ()))
    following(window)
    assert "stays as it is" in said(window)
    assert len(places(window)) == 24 * 130


def test_chosen_parts_are_laid_in_turn(scaled: Window) -> None:
    project = scaled.studio.project
    part = laid(scaled)
    tooth = add_live(
        project,
        "Tooth",
        Primitive("cone", (4.0, 9.0, 4.0)),
        Primitive("cone", (4.0, 9.0, 4.0)).made().mesh(),
        Transform(),
    )
    pebble = Part("Pebble", Mesh.from_faces(*ball(3.0, 4)))
    project.change("Add", project.scene.with_parts((*project.scene.parts, pebble)))
    project.choose_all([tooth.id, pebble.id])
    assert "as well" in scaled.layings.no_others()
    project.choose_also(part.id)
    run(scaled, "laying.parts")
    rest(scaled)
    assert laid(scaled).recipe.sources == (tooth.id, pebble.id)
    assert scaled.pieces_card.piece.currentText() == "2 parts in turn"
    before = np.linalg.norm(places(scaled), axis=1).max()
    project.move_vertices(pebble.id, pebble.mesh.positions * np.array([1, 4, 1], np.float32), "Longer")
    following(scaled)
    assert np.linalg.norm(places(scaled), axis=1).max() > before + 5


def test_baked_pieces_are_clay_and_split(scaled: Window) -> None:
    project = scaled.studio.project
    typed(scaled, "most", 6)
    part = laid(scaled)
    assert "Bake" in scaled.studio.stroke_blocked(part)
    run(scaled, "live.bake")
    assert project.scene.part(part.id).recipe is None
    assert not scaled.studio.stroke_blocked(project.scene.part(part.id))
    run(scaled, "join.split-pieces")
    rest(scaled)
    assert len(project.scene.parts) >= 6
    assert not scaled.pieces_card.details[0].isVisibleTo(scaled.pieces_card)


def test_what_cannot_be_laid_is_told_and_nothing_changes(scaled: Window) -> None:
    before, names = places(scaled), steps(scaled)
    typed(scaled, "size", 0.02)
    typed(scaled, "most", 1_000_000)
    rest(scaled)
    assert "the most" in said(scaled) or "most:" in said(scaled)
    while steps(scaled) != names:
        run(scaled, "edit.undo")
    assert np.array_equal(places(scaled), before)
    pick(scaled, "over", "region")
    assert "region" in said(scaled)
    assert steps(scaled) == names
    assert scaled.pieces_card.choices["over"].currentData() == "all"
    ground = scaled.studio.project.scene.parts[0]
    scaled.studio.project.delete(ground.id)
    following(scaled)
    assert "not there any more" in scaled.pieces_card.words.text()
    assert "not there any more" in scaled.layings.no_laid()
    assert np.array_equal(places(scaled), before)


def test_it_is_opened_as_it_was_saved_and_lives_on(scaled: Window, tmp_path: Path) -> None:
    before = places(scaled)
    save_project(scaled.studio.project, tmp_path / "a.kneten")
    scaled.studio.take(open_project(tmp_path / "a.kneten"))
    following(scaled)
    assert np.array_equal(places(scaled), before)
    assert not scaled.studio.project.unsaved
    project = scaled.studio.project
    ground = project.scene.parts[0]
    project.move_vertices(ground.id, ground.mesh.positions * np.array([1, 1.2, 1], np.float32), "Draw out")
    following(scaled)
    assert places(scaled)[:, 1].max() > before[:, 1].max() + 10
    settle(scaled)


def test_pieces_go_with_their_ground_and_not_alone(scaled: Window) -> None:
    project = scaled.studio.project
    part, names = laid(scaled), steps(scaled)
    motion = Motion(way=np.array([10.0, 0, 0]))
    assert not follow(scaled.studio, [part], motion, "Move")
    assert "sits on Ball" in said(scaled)
    assert steps(scaled) == names
    assert follow(scaled.studio, project.scene.parts, motion, "Move")
    following(scaled)
    assert laid(scaled).transform.place == (10.0, 0.0, 0.0)
    assert laid(scaled).transform == project.scene.parts[0].transform
