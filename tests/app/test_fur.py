"""Fur through the real window: laid, dialled, combed, cut, made into strands."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication

from kneten.app.benches.surface.comb_mode import TOOLS
from kneten.app.shell.window import Window
from kneten.core.loose import LooseMesh
from kneten.document.project_file import open_project, save_project
from kneten.document.things import Fur, leads_of
from tests.app.windows import drag, middle, run, said, settle, shown, steps, until
from tests.long import few


@pytest.fixture
def furry(window: Window) -> Window:
    """A ball with fur on it."""
    run(window, "stage.surface")
    run(window, "fur.add")
    rest(window)
    window.furs.change(count=8000)
    grown(window)
    window.studio.set_brush(size=60.0, strength=0.9)
    return window


def rest(window: Window) -> None:
    window.studio.wait(60)
    settle(window)


def shelf(window: Window):  # type: ignore[no-untyped-def]
    return window.view.panes[0].renderer.shelf.furs


def grown(window: Window) -> None:
    """Until all fibres have found where they grow."""
    settle(window)
    until(lambda: not shelf(window)._rooting, 30)
    settle(window)


def only(window: Window) -> Fur:
    (fur,) = window.studio.project.scene.things("furs")
    return fur  # type: ignore[no-any-return]


def typed(window: Window, field: str, value: float) -> None:
    box = window.fur_card.numbers[field]
    box.set_value(value)
    box.changed.emit(value)
    box.settled.emit(value)
    grown(window)


def test_fur_is_laid_changed_and_undone(furry: Window) -> None:
    project, card = furry.studio.project, furry.fur_card
    assert steps(furry) == ["Add Fur", "Change Fur"]
    assert "8,000 fibres" in card.words.text()
    bare = only(furry).numbers
    long = card.length.value()
    typed(furry, "curl", 40)
    typed(furry, "length", 2 * long)
    assert only(furry).numbers.curl == pytest.approx(0.4)
    assert furry.furs.length() == pytest.approx(2 * long, rel=0.01)
    card.tip.setCurrentIndex(card.tip.findData("milk"))
    card.tip.activated.emit(card.tip.currentIndex())
    grown(furry)
    assert only(furry).numbers.tip == (0.93, 0.90, 0.85)
    card.switches["from_clay"].click()
    grown(furry)
    assert only(furry).numbers.from_clay
    assert not card.tones[0].isVisibleTo(card)
    for _ in range(4):
        run(furry, "edit.undo")
    assert only(furry).numbers == bare
    assert card.length.value() == pytest.approx(long, rel=0.01)
    run(furry, "edit.undo")
    run(furry, "edit.undo")
    grown(furry)
    assert not project.scene.things("furs")
    assert card.none.isVisibleTo(card)


def test_fur_is_seen_and_hidden(furry: Window) -> None:
    with_fur = shown(furry)
    furry.fur_card.switches["shown"].click()
    grown(furry)
    without = shown(furry)
    changed = np.abs(with_fur.astype(int) - without.astype(int)).max(axis=2) > 12
    assert changed.mean() > 0.1
    furry.fur_card.switches["shown"].click()
    grown(furry)
    assert np.abs(shown(furry).astype(int) - with_fur.astype(int)).max() <= 2


def test_fur_is_seen_on_clay_with_live_density_and_comes_after_each_stroke(furry: Window) -> None:
    run(furry, "density.live")
    run(furry, "tool.raise")
    x, y = middle(furry)
    held = shelf(furry)._drawn[only(furry).id][1]
    drag(furry, [(x - 40, y), (x + 40, y)], release=False)
    mesh = furry.studio.project.active.mesh
    assert isinstance(mesh, LooseMesh)
    # While the hand is at work it stands where it was.
    assert shelf(furry)._drawn[only(furry).id][1] is held
    assert len(list(shelf(furry).on(furry.studio.project.scene, furry.studio.project.active))) == 1
    furry.view.cancel_hand()
    drag(furry, [(x - 40, y), (x + 40, y)])
    grown(furry)
    want, drawn = shelf(furry)._drawn[only(furry).id]
    assert drawn is not held
    assert want.loose == mesh.shape_version
    assert drawn.mesh.n_vertices == mesh.count
    _, high = drawn.mesh.bounds()
    assert float(high[2]) > 100.5
    with_fur = shown(furry).astype(int)
    furry.fur_card.switches["shown"].click()
    grown(furry)
    bald = shown(furry).astype(int)
    assert (np.abs(with_fur - bald).max(axis=2) > 12).mean() > 0.1


def test_a_dragged_number_is_shown_before_it_is_kept(furry: Window) -> None:
    before = only(furry)
    box = furry.fur_card.numbers["clump"]
    box.changed.emit(90.0)
    assert furry.view.shown_things["furs"][0].numbers.clump == pytest.approx(0.9)
    assert only(furry) is before
    box.settled.emit(90.0)
    settle(furry)
    assert not furry.view.shown_things
    assert only(furry).numbers.clump == pytest.approx(0.9)


@pytest.mark.some
def test_fur_is_worked_on_in_the_view(furry: Window) -> None:
    part = furry.studio.project.active
    before = leads_of(only(furry), part.mesh)
    front = before.roots[:, 2] > 80
    x, y = middle(furry)
    for tool, (name, _) in few(TOOLS.items(), 2):
        run(furry, f"fur.{tool}")
        assert furry.view.mode is not None
        drag(furry, [(x - 50, y), (x + 50, y)], events=6)
        settle(furry)
        after = leads_of(only(furry), part.mesh)
        moved = np.linalg.norm(after.tips - before.tips, axis=1)
        assert steps(furry)[-1] == f"{name} Fur", tool
        changed = moved + np.abs(after.own - before.own).max(axis=1)
        assert changed[front].max() > 0.05, tool
        assert changed[before.roots[:, 2] < -10].max() < 1e-5, tool
        if tool == "cut":
            assert after.lengths()[front].min() < 0.9 * before.lengths()[front].min()
        run(furry, "edit.undo")
        np.testing.assert_allclose(only(furry).tips, before.tips, atol=1e-5)
    run(furry, "fur.even")
    assert furry.view.mode is None


def test_a_fur_tool_does_the_opposite_while_the_key_is_held(furry: Window) -> None:
    x, y = middle(furry)
    run(furry, "fur.curl")
    drag(furry, [(x - 50, y), (x + 50, y)], events=6)
    settle(furry)
    curled = only(furry).own[:, 0].max()
    assert curled > 0.1
    drag(furry, [(x - 50, y), (x + 50, y)], events=3, keys=Qt.KeyboardModifier.ControlModifier)
    settle(furry)
    assert only(furry).own[:, 0].max() < curled
    assert only(furry).own[:, 0].min() >= -1


def test_a_drag_broken_off_leaves_the_fur_as_it_was(furry: Window) -> None:
    before = only(furry)
    run(furry, "fur.comb")
    x, y = middle(furry)
    drag(furry, [(x - 50, y), (x + 50, y)], release=False)
    assert furry.view.shown_things
    furry.view.cancel_hand()
    settle(furry)
    assert only(furry) is before
    assert not furry.view.shown_things
    # Beside the clay the camera turns.
    camera = furry.view.camera
    drag(furry, [(4, 300), (40, 320)])
    settle(furry)
    assert furry.view.camera != camera
    assert only(furry) is before


def test_fur_follows_a_stroke(furry: Window) -> None:
    project = furry.studio.project
    part = project.active
    before = leads_of(only(furry), part.mesh)
    run(furry, "tool.raise")
    furry.studio.set_brush(size=90.0, strength=1.0)
    x, y = middle(furry)
    drag(furry, [(x - 30, y), (x + 30, y)])
    grown(furry)
    after = leads_of(only(furry), part.mesh)
    assert np.linalg.norm(after.roots - before.roots, axis=1).max() > 1.0
    assert steps(furry)[-1] == "Raise on Ball"


def test_fur_on_the_mask(window: Window) -> None:
    project = window.studio.project
    part = project.active
    project.set_values(part.id, "mask", (part.mesh.positions[:, 1] > 40).astype(np.float32), "Mask")
    run(window, "fur.add")
    rest(window)
    assert only(window).places[:, 1].min() > 30
    assert [mask.name for mask in project.scene.kept_masks] == ["Under Fur"]
    project.set_values(part.id, "mask", (part.mesh.positions[:, 1] < -40).astype(np.float32), "Mask")
    run(window, "fur.mask")
    rest(window)
    assert only(window).places[:, 1].max() < -30
    run(window, "fur.anew")
    rest(window)
    assert only(window).places[:, 1].max() < -30
    run(window, "edit.undo")
    run(window, "edit.undo")
    assert only(window).places[:, 1].min() > 30


def test_strands_are_made_of_it_and_it_is_taken_off(furry: Window) -> None:
    project = furry.studio.project
    ground = project.active
    run(furry, "fur.strands")
    rest(furry)
    assert len(project.scene.parts) == 2
    assert not only(furry).numbers.shown
    run(furry, "edit.undo")
    assert len(project.scene.parts) == 1
    assert only(furry).numbers.shown
    project.choose(ground.id)
    run(furry, "fur.remove")
    assert not project.scene.things("furs")
    assert "no fur yet" in furry.furs.no_fur()


def test_two_furs_and_what_cannot_be(furry: Window) -> None:
    run(furry, "fur.add")
    rest(furry)
    assert [fur.name for fur in furry.furs.all] == ["Fur", "Fur 2"]
    furry.furs.choose(furry.furs.all[0].id)
    assert furry.furs.chosen.name == "Fur"
    furry.furs.change(count=0)
    assert "1 to" in said(furry)
    assert furry.furs.chosen.numbers.count == 8000
    assert "masked" in furry.furs.no_mask()


def test_it_is_opened_as_it_was_saved(furry: Window, tmp_path: Path) -> None:
    before = only(furry)
    save_project(furry.studio.project, tmp_path / "a.kneten")
    furry.studio.take(open_project(tmp_path / "a.kneten"))
    grown(furry)
    assert np.array_equal(only(furry).tips, before.tips)
    assert furry.fur_card.numbers["count"].value() == 8000
    assert shelf(furry).any


def test_the_ring_of_the_comb_goes_along(furry: Window) -> None:
    run(furry, "fur.comb")
    x, y = middle(furry)
    assert furry.view.mode.hover(x, y)
    furry.view.repaint()
    QApplication.processEvents()
    assert furry.view.mode.key == "fur.comb"
    QApplication.sendEvent(furry.view, _escape())
    assert furry.view.mode is None


def _escape():  # type: ignore[no-untyped-def]
    from PySide6.QtCore import QEvent
    from PySide6.QtGui import QKeyEvent

    return QKeyEvent(QEvent.Type.KeyPress, Qt.Key.Key_Escape, Qt.KeyboardModifier.NoModifier)
