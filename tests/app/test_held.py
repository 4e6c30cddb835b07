"""Pictures held before the view, through the real window: held, bent, laid, brushed, raised, let go."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PySide6.QtCore import Qt

from kneten.app.shell.window import Window
from kneten.core.paint.held import flat_net
from kneten.core.values import CLAY
from tests.app.windows import drag, middle, picture, run, said, settle, steps, until


@pytest.fixture
def holds(window: Window, tmp_path: Path) -> Window:
    """The stage of colour, with a picture on the board: red at the left, blue at the right."""
    halves = np.zeros((60, 80, 3), np.uint8)
    halves[:, :40], halves[:, 40:] = (240, 20, 20), (20, 20, 240)
    Image.fromarray(halves).save(tmp_path / "halves.png")
    assert "Gather" in window.registry.commands["held.hold"].blocked()
    window.references.add_files([tmp_path / "halves.png"])
    until(lambda: len(window.studio.project.scene.references) == 1)
    run(window, "stage.colour")
    run(window, "board.show")
    settle(window)
    return window


def colours(window: Window) -> np.ndarray:
    return window.studio.project.active.mesh.value("colour")[:, :3].astype(int)


def points(window: Window) -> np.ndarray:
    return window.held.to_pixels(np.array(window.held.chosen.net))


def test_a_picture_is_held_moved_turned_and_bent(holds: Window) -> None:
    run(holds, "held.hold")
    settle(holds)
    assert holds.view.mode is not None
    before = points(holds)
    assert np.allclose(before[4], middle(holds), atol=1)
    x, y = before[4]
    drag(holds, [(x + 30, y + 20), (x + 60, y + 50)])
    assert np.allclose(points(holds), before + 30, atol=0.5)
    run(holds, "edit.undo")
    assert np.allclose(points(holds), before, atol=0.5)
    drag(holds, [tuple(before[8]), (before[8][0] + 25, before[8][1] - 15)])
    assert np.allclose(points(holds)[8], before[8] + (25, -15), atol=0.5)
    assert np.allclose(points(holds)[0], before[0], atol=0.5)
    run(holds, "edit.undo")
    # Shift turns it, and sizes it by how far the pointer is from its middle.
    drag(holds, [(x + 60, y), (x, y - 120)], keys=Qt.KeyboardModifier.ShiftModifier)
    width, height = np.ptp(before, axis=0)
    assert np.allclose(np.ptp(points(holds), axis=0), (2 * height, 2 * width), atol=3)
    assert steps(holds)[-2:] == ["Hold halves", "Fit halves"]
    turned = points(holds)
    run(holds, "held.turn-over")
    assert np.allclose(points(holds)[[0, 2, 4]], turned[[2, 0, 4]], atol=0.5)
    # Beside it the camera turns.
    holds.held.change(net=flat_net(0.2, 0.2))
    camera = holds.view.camera
    drag(holds, [(20, 20), (60, 20)])
    assert holds.view.camera != camera
    run(holds, "held.fit")
    assert holds.view.mode is None


def test_it_is_laid_through_on_what_is_seen_and_undone(holds: Window) -> None:
    run(holds, "held.hold")
    run(holds, "held.fit")
    before = picture(holds)
    run(holds, "held.lay")
    settle(holds)
    found = colours(holds)
    positions = holds.studio.project.active.mesh.positions
    near = (positions[:, 2] > 0.9 * positions[:, 2].max()) & (np.abs(positions[:, 0]) > 4)
    assert (found[near & (positions[:, 0] < 0)] == (240, 20, 20)).all()
    assert (found[near & (positions[:, 0] > 0)] == (20, 20, 240)).all()
    assert (found[positions[:, 2] < 0] == CLAY).all()
    assert (picture(holds) != before).any()
    run(holds, "edit.undo")
    settle(holds)
    assert np.array_equal(picture(holds), before)
    # Turned over, red is at the right.
    run(holds, "held.turn-over")
    run(holds, "held.lay")
    settle(holds)
    assert (colours(holds)[near & (positions[:, 0] > 0)] == (240, 20, 20)).all()


def test_paint_brushes_it_where_that_is_wanted(holds: Window) -> None:
    run(holds, "held.hold")
    run(holds, "held.fit")
    holds.held_card.brush.click()
    holds.studio.set_brush(size=40.0, strength=1.0)
    holds.studio.project.change_settings(symmetry=(False, False, False))
    x, y = middle(holds)
    drag(holds, [(x - 60, y), (x - 20, y)])
    found, positions = colours(holds), holds.studio.project.active.mesh.positions
    painted = (found != CLAY).any(axis=1)
    assert painted.any()
    reds = found[painted & (positions[:, 0] < -2)]
    assert (reds[:, 0] >= reds[:, 2]).all()
    assert reds[:, 2].min() < 60
    holds.held_card.brush.click()
    assert holds.studio.brush_by is None
    run(holds, "held.show")
    assert not holds.held.chosen.shown


def test_it_is_raised_as_a_relief(holds: Window) -> None:
    run(holds, "held.hold")
    run(holds, "held.fit")
    before = holds.studio.project.active.mesh.positions.copy()
    holds.held_card.relief.settled.emit(4.0)
    run(holds, "held.relief")
    settle(holds)
    moved = np.linalg.norm(holds.studio.project.active.mesh.positions - before, axis=1)
    assert 1.0 < moved.max() < 4.0
    assert steps(holds)[-1] == "Raise a picture on Ball"
    run(holds, "edit.undo")
    assert np.array_equal(holds.studio.project.active.mesh.positions, before)


def test_what_cannot_be_laid_is_told(holds: Window) -> None:
    assert "hold one first" in holds.registry.commands["held.lay"].blocked()
    run(holds, "held.hold")
    run(holds, "held.fit")
    holds.held.change(net=tuple((x + 8, y) for x, y in holds.held.chosen.net))
    run(holds, "held.lay")
    settle(holds)
    assert "lies over nothing" in said(holds)
    run(holds, "held.let-go")
    assert holds.held.chosen is None
    assert not holds.held_card.which.isVisibleTo(holds.held_card)
    run(holds, "edit.undo")
    assert holds.held.chosen is not None
    # Its picture off the board, it is held no longer.
    holds.references.delete([holds.studio.project.scene.references[0].id])
    assert holds.held.chosen is None


def test_a_tiled_picture_is_laid_all_over_and_brushed(holds: Window) -> None:
    run(holds, "held.hold")
    run(holds, "held.fit")
    card = holds.cards["Picture"]
    assert card.rows["fade"].isVisibleTo(card)
    card.switches["tiled"].click()
    card.numbers["size"].settled.emit(12.0)
    settle(holds)
    assert (holds.held.chosen.tiled, holds.held.chosen.size) == (True, 12.0)
    assert card.rows["size"].isVisibleTo(card)
    assert not card.rows["fade"].isVisibleTo(card)
    # It no longer stands before the clay: what moves it there says so.
    assert "tiled" in holds.registry.commands["held.fit"].blocked()
    run(holds, "held.lay")
    settle(holds)
    found, positions = colours(holds), holds.studio.project.active.mesh.positions
    red, blue = found[:, 0] > 200, found[:, 2] > 200
    # On all sides, the far one too.
    for side in (positions[:, 2] > 40, positions[:, 2] < -40):
        assert 0.3 < red[side].mean() < 0.7
        assert 0.3 < blue[side].mean() < 0.7
    run(holds, "edit.undo")
    assert (colours(holds) == CLAY[:3]).all()
    holds.held.brush(True)
    run(holds, "tool.paint")
    x, y = middle(holds)
    drag(holds, [(x - 40, y), (x + 40, y)])
    found = colours(holds)
    assert (found[:, 0] > 200).any()
    assert (found[:, 2] > 200).any()
