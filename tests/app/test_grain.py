"""Grain through the real window: laid, dragged, placed, baked."""

from __future__ import annotations

import numpy as np
import pytest

from kneten.app.fields.fields import NumberField
from kneten.app.shell.window import Window
from kneten.core.grain import KINDS
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.document.grains import grains_of
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from tests.app.windows import clay, drag, middle, run, said, settle, steps


@pytest.fixture
def grained(window: Window) -> Window:
    """A ball with a first grain on it."""
    run(window, "stage.surface")
    run(window, "grain.add")
    rest(window)
    return window


def rest(window: Window) -> None:
    window.studio.wait(60)
    settle(window)


def lift(window: Window) -> np.ndarray:
    return np.linalg.norm(clay(window), axis=1) - 100.0


def pick(window: Window, box: str, key: str) -> None:
    """Choose an entry of one of the card's lists by hand."""
    field = getattr(window.grain_card, box)
    field.setCurrentIndex(field.findData(key))
    field.activated.emit(field.currentIndex())
    rest(window)


def typed(window: Window, field: str, value: float) -> None:
    box: NumberField = window.grain_card.numbers[field]
    box.set_value(value)
    box.changed.emit(value)
    box.settled.emit(value)
    rest(window)


def test_a_pattern_is_laid_changed_and_undone(grained: Window) -> None:
    assert 0.2 < np.abs(lift(grained)).max() < 2.0
    (layer,) = grained.grains.all
    assert steps(grained) == [f"Add grain {layer.name}"]
    pick(grained, "kind", "pebbles")
    typed(grained, "scale", 60.0)
    typed(grained, "height", 4.0)
    typed(grained, "roughness", 0.0)
    assert grained.grains.chosen.grain.scale == 60.0
    assert 3.2 < lift(grained).max() <= 4.01
    assert lift(grained).min() > -0.01
    for _ in range(5):
        run(grained, "edit.undo")
        rest(grained)
    assert np.abs(lift(grained)).max() < 1e-3
    assert not grained.grains.all


def test_while_a_number_is_dragged_the_clay_shows_it_and_nothing_is_kept(grained: Window) -> None:
    before, kept = clay(grained).copy(), steps(grained)
    box = grained.grain_card.numbers["height"]
    box.changed.emit(9.0)
    settle(grained)
    assert np.abs(clay(grained) - before).max() > 3.0
    assert steps(grained) == kept
    # Whatever comes in between puts it back first.
    run(grained, "edit.milestone")
    rest(grained)
    assert np.array_equal(clay(grained), before)
    typed(grained, "height", 9.0)
    assert np.abs(lift(grained)).max() > 6.0


def test_a_large_part_is_tried_by_what_stands_in_for_it(window: Window) -> None:
    mesh = Mesh.from_faces(*ball(100.0, 160))
    window.studio.take(Project(Scene((Part("Ball", mesh),))))
    settle(window)
    run(window, "grain.add")
    rest(window)
    before = clay(window).copy()
    window.grain_card.numbers["height"].changed.emit(12.0)
    moved = np.abs(clay(window) - before).max(axis=1) > 0
    assert 0 < moved.sum() < 0.5 * len(before)
    # The hand rests: all of it follows.
    settle(window)
    window.grains._rested()
    assert (np.abs(clay(window) - before).max(axis=1) > 0).mean() > 0.9
    window.studio.project.end_trials()
    assert np.array_equal(clay(window), before)


@pytest.mark.parametrize("kind", KINDS)
def test_every_kind_can_be_chosen(grained: Window, kind: str) -> None:
    grained.studio.presses.made("pores-two")
    grained.presses.choose("pores-two")
    pick(grained, "kind", kind)
    assert grained.grains.chosen.grain.kind == kind
    # What is too fine for this mesh is seen without being there.
    assert np.abs(lift(grained)).max() > 0.1 or "too coarse" in grained.grains.words()


def test_the_press_on_the_tip_is_laid(window: Window) -> None:
    assert "Choose a press" in window.grains.no_press()
    window.presses.choose("plain-dome")
    assert "does not go on at its edges" in window.grains.no_press()
    window.presses.choose("deep-wart")
    assert "deep press" in window.grains.no_press()
    window.presses.choose("pores-broad")
    assert not window.grains.no_press()
    run(window, "grain.add-press")
    rest(window)
    grain = window.grains.chosen.grain
    assert (grain.kind, grain.press) == ("press", "pores-broad")
    assert np.abs(lift(window)).max() > 0.05


def test_it_lies_where_it_is_told(grained: Window) -> None:
    pick(grained, "kind", "pebbles")
    pick(grained, "where", "height")
    typed(grained, "low", 60.0)
    typed(grained, "high", 100.0)
    at = clay(grained)
    assert np.abs(lift(grained))[at[:, 1] < 0].max() < 0.01
    assert lift(grained)[at[:, 1] > 40].max() > 0.3
    # On a mask where there is none it stays as it was, and says so.
    before, kept = clay(grained).copy(), steps(grained)
    pick(grained, "where", "mask")
    assert "mask first" in said(grained)
    assert grained.grain_card.where.currentData() == "height"
    assert np.array_equal(clay(grained), before)
    assert steps(grained) == kept


def test_on_a_mask_painted_by_hand_and_after_it_is_cleared(grained: Window) -> None:
    pick(grained, "kind", "pebbles")
    grained.studio.project.change_settings(symmetry=(False, False, False))
    grained.choose_tool("mask")
    grained.studio.set_brush(size=60.0)
    x, y = middle(grained)
    drag(grained, [(x - 10, y), (x + 10, y)])
    run(grained, "grain.mask")
    rest(grained)
    assert grained.grains.chosen.grain.where == "mask"
    masked = grained.studio.project.active.mesh.mask > 0
    assert 0 < masked.sum() < 0.5 * len(masked)
    assert np.abs(lift(grained))[~masked].max() < 0.01
    run(grained, "mask.clear")
    typed(grained, "height", 5.0)
    assert lift(grained).max() > 2.0
    assert np.abs(lift(grained))[~masked].max() < 0.01


def test_baked_it_is_a_layer_that_strokes_go_to(grained: Window) -> None:
    (layer,) = grained.grains.all
    grained.levels.record(layer.id)
    assert "bake it" in said(grained)
    run(grained, "grain.bake")
    rest(grained)
    assert not grains_of(grained.studio.project.active)
    assert grained.studio.project.active.mesh.seat is None
    grained.levels.record(layer.id)
    assert grained.levels.stack.recording == layer.id
    run(grained, "edit.undo")
    run(grained, "edit.undo")
    rest(grained)
    assert grains_of(grained.studio.project.active)


def test_strokes_go_to_the_clay_and_levels_are_told_of(grained: Window) -> None:
    (layer,) = grained.grains.all
    grained.studio.project.change_settings(symmetry=(False, False, False))
    grained.choose_tool("raise")
    x, y = middle(grained)
    drag(grained, [(x - 40, y), (x + 40, y)])
    raised = clay(grained).copy()
    run(grained, "grain.renew")
    rest(grained)
    assert np.abs(clay(grained) - raised).max() < 1.0
    run(grained, "density.subdivide")
    rest(grained)
    assert grained.grains.words() == "It lies on level 0: lay it anew."
    assert grained.grain_card.words.text() == grained.grains.words()
    run(grained, "grain.renew")
    rest(grained)
    assert [bool(relief) for relief in grained.grains.chosen.reliefs] == [False, True]
    run(grained, "level.down")
    rest(grained)
    assert "go up to level 1" in grained.grains.none()
    assert layer.id == grained.grains.chosen.id


def test_what_the_mesh_is_too_coarse_for_is_told(grained: Window) -> None:
    typed(grained, "scale", 3.0)
    assert "too coarse" in grained.grains.words()
    assert "too coarse" in said(grained)
    typed(grained, "scale", 80.0)
    assert not grained.grains.words()


def test_what_the_mesh_is_too_coarse_for_is_seen_as_shading(grained: Window) -> None:
    def uneven() -> float:
        settle(grained)
        pane = grained.view.main
        assert pane is not None
        grained.view.makeCurrent()
        pixels = pane.renderer.read()[..., :3].astype(float).mean(axis=2)
        h, w = pixels.shape
        return float(np.abs(np.diff(pixels[h // 3 : -h // 3, w // 3 : -w // 3], axis=1)).mean())

    layer = grained.grains.chosen
    assert layer is not None
    grained.grains.change(kind="pebbles", scale=5.0, height=0.5)
    rest(grained)
    with_it = uneven()
    run(grained, "edit.undo")
    run(grained, "edit.undo")
    bare = uneven()
    assert with_it > 2 * bare
    run(grained, "edit.redo")
    run(grained, "edit.redo")
    assert uneven() == pytest.approx(with_it, rel=0.05)
    grained.grains.dial(height=2.5)
    assert uneven() > 1.3 * with_it
    grained.studio.project.end_trials()
    assert uneven() == pytest.approx(with_it, rel=0.05)
    # Nothing of it is in the clay.
    assert np.abs(lift(grained)).max() < 0.35
    run(grained, "grain.bake")
    rest(grained)
    assert uneven() < 0.6 * with_it


def test_a_press_that_is_gone_is_told_of(window: Window) -> None:
    window.presses.choose("pores-broad")
    run(window, "grain.add-press")
    rest(window)
    before = clay(window).copy()
    window.grains.change(press="own:gone")
    rest(window)
    assert "first" in said(window) or "not here" in said(window)
    assert np.array_equal(clay(window), before)


def test_taking_it_off_leaves_the_clay_as_it_was(grained: Window) -> None:
    run(grained, "grain.add")
    rest(grained)
    assert len(grained.grains.all) == 2
    assert grained.grain_card.which.count() == 2
    run(grained, "grain.remove")
    run(grained, "grain.remove")
    rest(grained)
    assert np.abs(lift(grained)).max() < 1e-3
    assert not grained.grain_card.which.isVisible()
