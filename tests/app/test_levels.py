"""Levels and layers in the real window: stepped through, recorded on, dialled, taken away."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QInputDialog

from kneten.app.benches.density import levels as levels_module
from kneten.app.benches.density.levels_card import ROW, GroupRow
from kneten.app.shell.window import Window
from kneten.app.work import memory as memory_module
from tests.app.windows import LEFT, NONE, clay, drag, middle, run, said, settle, steps


def stroke(window: Window, key: str = "raise", lift: float = 0.0) -> None:
    x, y = middle(window)
    run(window, f"tool.{key}")
    window.studio.set_brush(size=30.0, strength=0.8)
    drag(window, [(x + 10, y - lift), (x + 50, y - lift)])
    settle(window)


def click_level(window: Window, level: int) -> None:
    strata, stack = window.levels_card.strata, window.levels.stack
    at = QPointF(20, 2 + ROW * (stack.top - level) + ROW / 2)
    event = QMouseEvent(QEvent.Type.MouseButtonPress, at, strata.mapToGlobal(at), LEFT, LEFT, NONE)
    QApplication.sendEvent(strata, event)
    settle(window)


def test_levels_are_added_and_stepped_through(window: Window, tmp_path: Path) -> None:
    window.choose_stage("Form")
    counts = [len(clay(window))]
    for _ in range(2):
        run(window, "density.subdivide")
        counts.append(len(clay(window)))
    assert counts[2] > 15 * counts[0]
    assert "level 2 of 2" in window.chip.text()
    stroke(window)
    fine = clay(window).copy()
    click_level(window, 0)
    assert len(clay(window)) == counts[0]
    assert "level 0 of 2" in window.chip.text()
    # The broad change is there; a change here carries the fine form.
    assert clay(window)[:, 2].max() > 100.5
    low = clay(window).copy()
    stroke(window, "inflate", 60.0)
    moved = np.abs(clay(window) - low).max()
    window.levels_card.strata.setFocus()
    QTest.keyClick(window.levels_card.strata, Qt.Key.Key_Up)
    settle(window)
    run(window, "level.up")
    assert len(clay(window)) == counts[2]
    assert np.abs(clay(window) - fine).max() == pytest.approx(moved, rel=0.6)
    run(window, "level.up")
    assert "highest level" in said(window)
    wanted = clay(window).copy()
    window.studio.save_path(tmp_path / "levels.kneten")
    settle(window)
    window.studio.open_path(tmp_path / "levels.kneten")
    settle(window)
    assert np.array_equal(clay(window), wanted)
    assert "carries" in window.levels_card.strata.told(1) or "details" in window.levels_card.strata.told(1)
    run(window, "level.down")
    assert len(clay(window)) == counts[1]


def test_every_level_step_is_undone(window: Window) -> None:
    before = clay(window).copy()
    run(window, "density.subdivide")
    stroke(window)
    after = clay(window).copy()
    run(window, "level.down")
    stroke(window)
    for _ in range(2):
        run(window, "edit.undo")
    assert np.array_equal(clay(window), after)
    for _ in range(2):
        run(window, "edit.undo")
    assert np.array_equal(clay(window), before)
    assert window.levels.stack is None
    run(window, "edit.redo")
    assert window.levels.stack.top == 1


@pytest.mark.long
def test_levels_are_dropped_and_found_again(window: Window) -> None:
    run(window, "density.subdivide")
    run(window, "density.subdivide")
    form = clay(window).copy()
    run(window, "level.down")
    run(window, "level.delete-above")
    assert window.levels.stack.top == 1
    run(window, "edit.undo")
    run(window, "level.up")
    run(window, "level.delete-below")
    assert window.levels.stack is None
    assert np.array_equal(clay(window), form)
    run(window, "level.rebuild")
    assert "levels now" in said(window)
    assert window.levels.stack.top >= 2
    assert np.sort(clay(window), axis=0) == pytest.approx(np.sort(form, axis=0), abs=1e-3)
    run(window, "level.rebuild")
    assert "has levels already" in said(window)
    # Clay that never was subdivided.
    window.studio.remesh_active(None, 3000)
    settle(window)
    run(window, "level.rebuild")
    assert "no lower levels to be found" in said(window) or window.levels.stack is not None


def test_one_level_more_than_there_is_memory_for_is_refused(
    window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(memory_module, "free_memory", lambda: 1_000_000)
    run(window, "density.subdivide")
    assert "1 MB are left" in said(window)
    monkeypatch.setattr(levels_module, "MOST_VERTICES", 1000)
    run(window, "density.subdivide")
    assert "is the most" in said(window)
    assert steps(window) == []
    assert memory_module.free_memory() > 0


def test_a_layer_is_recorded_dialled_and_taken_away(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    window.choose_stage("Form")
    run(window, "density.subdivide")
    plain = clay(window).copy()
    run(window, "layer.add")
    assert [b.text().split("   ")[0] for b in window.states.buttons] == ["Recording Layer"]
    stroke(window)
    full = clay(window).copy()
    assert np.abs(full - plain).max() > 1
    row = window.layers_card.rows[0]
    count = len(steps(window))
    for value in (150.0, 60.0, 50.0):
        row.strength._take(value, False)
        QApplication.processEvents()
    assert clay(window) == pytest.approx(plain + (full - plain) * 0.5, abs=1e-3)
    assert len(steps(window)) == count
    row.strength.settled.emit(50.0)
    settle(window)
    assert steps(window)[count:] == ["Layer Layer at 50 %"]
    assert clay(window) == pytest.approx(plain + (full - plain) * 0.5, abs=1e-4)
    run(window, "edit.undo")
    assert np.array_equal(clay(window), full)
    run(window, "layer.before")
    assert np.array_equal(clay(window), plain)
    assert window.levels.stack.recording == ""
    run(window, "layer.before")
    assert clay(window) == pytest.approx(full, abs=1e-5)
    window.layers_card.rows[0].eye.click()
    settle(window)
    run(window, "layer.record")
    assert "hidden" in said(window)
    window.layers_card.rows[0].eye.click()
    settle(window)
    window.layers_card.rows[0].record.click()
    settle(window)
    assert window.levels.stack.recording
    monkeypatch.setattr(QInputDialog, "getText", staticmethod(lambda *a, **k: ("Veins", True)))
    run(window, "layer.rename")
    assert window.layers_card.rows[0].name.text() == "Veins"
    run(window, "layer.delete")
    assert np.array_equal(clay(window), plain)
    run(window, "layer.delete")
    assert "no layer yet" in said(window)


def test_layers_are_ordered_merged_mirrored_and_baked(window: Window) -> None:
    project = window.studio.project
    project.change_settings(symmetry=(False, False, False))
    plain = clay(window).copy()
    run(window, "layer.add")
    stroke(window)
    run(window, "layer.add")
    stroke(window, "inflate", -50.0)
    both = clay(window).copy()
    names = [layer.name for layer in window.levels.stack.layers]
    run(window, "layer.lower")
    assert [layer.name for layer in window.levels.stack.layers] == names[::-1]
    run(window, "layer.lower")
    assert "at the end" in said(window)
    run(window, "layer.merge")
    assert "no layer below" in said(window)
    run(window, "layer.higher")
    run(window, "layer.solo")
    assert not np.array_equal(clay(window), both)
    run(window, "layer.solo")
    assert clay(window) == pytest.approx(both, abs=1e-4)
    run(window, "layer.mirror")
    assert clay(window)[:, 2][plain[:, 0] < -10].max() > 90
    run(window, "edit.undo")
    run(window, "layer.copy")
    assert len(window.levels.stack.layers) == 3
    run(window, "layer.delete")
    window.levels.choose(window.levels.stack.layers[1].id)
    run(window, "layer.merge")
    assert len(window.levels.stack.layers) == 1
    assert clay(window) == pytest.approx(both, abs=1e-4)
    run(window, "layer.off-mask")
    assert "Nothing is masked" in said(window)
    run(window, "mask.invert")
    run(window, "layer.off-mask")
    assert clay(window) == pytest.approx(plain, abs=1e-4)
    run(window, "edit.undo")
    run(window, "layer.show")
    run(window, "layer.bake")
    assert "hidden or has no strength" in said(window)
    run(window, "layer.show")
    run(window, "layer.bake")
    assert window.levels.stack is None
    assert clay(window) == pytest.approx(both, abs=1e-4)


def test_live_density_and_levels_keep_out_of_each_others_way(window: Window) -> None:
    run(window, "layer.add")
    run(window, "density.live")
    assert "levels or layers" in said(window)
    stroke(window, "tease")
    assert not window.studio.project.active.live_density
    run(window, "edit.undo")
    run(window, "density.live")
    run(window, "density.subdivide")
    assert "live density" in said(window)


def test_a_group_is_dialled_folded_and_hidden_as_one(window: Window) -> None:
    window.choose_stage("Form")
    window.side.bring("Layers")
    plain = clay(window).copy()
    for lift in (0.0, 40.0):
        run(window, "layer.add")
        stroke(window, "raise", lift)
    whole = clay(window).copy()
    run(window, "layer.ungroup")
    assert "is in no group" in said(window)
    run(window, "layer.group")
    rows = window.layers_card.rows
    assert isinstance(rows[0], GroupRow)
    assert len(rows) == 3
    group = window.levels.group
    window.levels.dial(group.id, 0.5)
    middle_way = clay(window).copy()
    window.levels.keep_dial(group.id, 0.5)
    settle(window)
    np.testing.assert_allclose(middle_way, (plain + whole) / 2, atol=1e-3)
    np.testing.assert_allclose(clay(window), middle_way, atol=1e-3)
    assert steps(window)[-1] == "Group 1 at 50 %"
    rows = window.layers_card.rows
    rows[0].fold.click()
    settle(window)
    assert len(window.layers_card.rows) == 1
    window.layers_card.rows[0].eye.click()
    settle(window)
    np.testing.assert_allclose(clay(window), plain, atol=1e-4)
    run(window, "layer.group-show")
    run(window, "layer.ungroup")
    assert window.levels.stack.groups != ()
    run(window, "edit.undo")
    assert len(window.levels.stack.groups) == 1


def test_a_layer_without_effect_says_where_strokes_go(window: Window) -> None:
    window.choose_stage("Form")
    run(window, "density.subdivide")
    run(window, "layer.add")
    row = window.layers_card.rows[0]
    row.strength._take(0.0, False)
    row.strength.settled.emit(0.0)
    settle(window)
    stroke(window)
    assert "strokes go to the clay itself" in said(window)
