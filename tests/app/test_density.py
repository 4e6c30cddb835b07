"""Live density, Tease, guides and the handles of deformers in the real window."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import trimesh
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication

from kneten.app.benches.form.deform_mode import DeformMode
from kneten.app.benches.form.guide_mode import GuideMode
from kneten.app.fields.quantities import count_text
from kneten.app.shell.window import Window
from kneten.core.loose import LooseMesh
from kneten.core.mesh import Mesh
from kneten.document.guides import lines_of, note_on
from kneten.document.marks import place_of
from kneten.document.project import Project
from kneten.document.recovery import left_journals, recover
from kneten.document.scene import Part, Scene
from tests.app.windows import (
    NONE,
    answer_dialogs,
    drag,
    middle,
    pixel,
    run,
    said,
    send,
    settle,
    shown,
    steps,
    until,
)
from tests.conftest import make_ball

SHIFT = Qt.KeyboardModifier.ShiftModifier


def mesh_of(window: Window) -> Mesh:
    part = window.studio.project.active
    assert part is not None
    return part.mesh


def stroke(window: Window, key: str, line: list[tuple[float, float]], **brush: float) -> None:
    run(window, f"tool.{key}")
    window.studio.set_brush(**brush)
    drag(window, line)
    until(lambda: not window.view.at_work)
    settle(window)


def ring(x: float, y: float, radius: float) -> list[tuple[float, float]]:
    return [(x + radius * np.cos(a), y + radius * np.sin(a)) for a in np.linspace(-1.5, 4.75, 36)]


def whole(mesh: Mesh) -> bool:
    positions, faces = mesh.settled().source_arrays()
    solid = trimesh.Trimesh(positions, faces[:, :3], process=False)
    return bool(solid.is_watertight and solid.is_winding_consistent)


def test_strokes_refine_undo_exactly_and_are_drawn(window: Window) -> None:
    x, y = middle(window)
    run(window, "density.live")
    count = mesh_of(window).count
    before = shown(window)
    stroke(window, "pellet", [(x + 40, y), (x + 90, y + 30)], size=40.0, strength=1.0)
    mesh = mesh_of(window)
    assert isinstance(mesh, LooseMesh)
    assert mesh.count > count
    assert whole(mesh)
    after = shown(window)
    assert np.abs(after - before).max(axis=2).mean() > 0.2
    assert steps(window) == ["Live density on for Ball", "Pellet on Ball"]
    finer = mesh.count
    run(window, "edit.undo")
    assert mesh_of(window).count == count
    assert np.abs(shown(window) - before).max(axis=2).mean() < 0.05
    run(window, "edit.redo")
    assert mesh_of(window).count == finer
    assert (np.abs(shown(window) - after).max(axis=2) > 12).mean() < 0.004


@pytest.mark.parametrize("by", ["brush", "screen", "model"])
def test_the_detail_size_is_told_in_three_ways(window: Window, by: str) -> None:
    x, y = middle(window)
    rows = window.density_card.live
    rows.by.setCurrentIndex(rows.by.findData(by))
    rows.by.activated.emit(rows.by.currentIndex())
    rows.size._take({"brush": 10.0, "screen": 5.0, "model": 1.5}[by], False)
    stroke(window, "refine", [(x, y), (x + 30, y)], size=50.0)
    mesh = mesh_of(window)
    pixel = window.view.camera.pixel_size(np.array([0.0, 0.0, 100.0]), window.view.high)
    wanted = {"brush": 5.0 * pixel, "screen": 5.0 * pixel, "model": 1.5}[by]
    settled = mesh.settled()
    faces = settled.topology.faces[:, :3]
    ends = settled.positions[faces]
    near = np.linalg.norm(ends.mean(axis=1) - [0, 0, 100], axis=1) < 30 * pixel
    edges = np.linalg.norm(ends[near] - np.roll(ends[near], 1, axis=1), axis=2)
    assert wanted * 0.6 < edges.mean() < wanted * 1.2


def test_coarsen_takes_vertices_away_and_says_so_in_the_list(window: Window) -> None:
    x, y = middle(window)
    rows = window.density_card.live
    rows.by.setCurrentIndex(rows.by.findData("model"))
    rows.by.activated.emit(rows.by.currentIndex())
    rows.size._take(20.0, False)
    count = mesh_of(window).n_vertices
    stroke(window, "coarsen", [(x - 60, y), (x + 60, y), (x, y + 60)], size=120.0)
    assert mesh_of(window).count < count - 800
    assert whole(mesh_of(window))
    item = window.parts_card.list.topLevelItem(0)
    assert item is not None
    assert item.text(3) == count_text(mesh_of(window).count)


def test_a_horn_is_teased_out_with_good_triangles(window: Window) -> None:
    x, y = middle(window)
    window.studio.project.change_settings(symmetry=(False, False, False))
    # As far out in the clay's own lengths, however large the view is.
    k = window.view.high / 640
    line = [(x, y - 60 * k), (x + 60 * k, y - 200 * k), (x + 80 * k, y - 300 * k)]
    stroke(window, "tease", line, size=40.0 * k, strength=0.5)
    mesh = mesh_of(window)
    assert whole(mesh)
    top = float(mesh.settled().positions[:, 1].max())
    pixel = window.view.camera.pixel_size(np.array([0.0, 0.0, 100.0]), window.view.high)
    # The tip is where the pointer let go of it, but for the little that its point is rounded.
    assert top == pytest.approx(300 * k * pixel, rel=0.12)
    positions, faces = mesh.settled().source_arrays()
    horn = positions[faces[:, :3]].mean(axis=1)[:, 1] > 102
    assert horn.sum() > 200
    solid = trimesh.Trimesh(positions, faces[horn, :3], process=False)
    assert np.percentile(np.degrees(solid.face_angles.min(axis=1)), 5) > 15
    assert steps(window)[-1] == "Tease on Ball"
    run(window, "edit.undo")
    assert mesh_of(window).settled().positions[:, 1].max() < 101


def test_pulling_refines_what_it_has_stretched(window: Window) -> None:
    x, y = middle(window)
    run(window, "density.live")
    before = mesh_of(window).count
    stroke(window, "pull", [(x, y - 100), (x, y - 260)], size=40.0)
    assert mesh_of(window).count > before
    assert whole(mesh_of(window))


def test_other_commands_settle_loose_clay_and_strokes_loosen_it_again(window: Window) -> None:
    x, y = middle(window)
    run(window, "density.live")
    stroke(window, "raise", [(x, y), (x + 40, y)], size=40.0)
    assert isinstance(mesh_of(window), LooseMesh)
    run(window, "mask.invert")
    settled = mesh_of(window)
    assert not isinstance(settled, LooseMesh)
    assert settled.mask is not None
    run(window, "mask.clear")
    stroke(window, "raise", [(x, y), (x - 40, y)], size=40.0)
    assert isinstance(mesh_of(window), LooseMesh)
    # What is only loosened and settled is no step of its own.
    assert steps(window) == [
        "Live density on for Ball", "Raise on Ball", "Invert the mask of Ball", "Unmask Ball", "Raise on Ball",
    ]  # fmt: skip
    for _ in range(5):
        run(window, "edit.undo")
    assert steps(window) == []
    assert mesh_of(window).count == settled.n_vertices or not isinstance(mesh_of(window), LooseMesh)
    for _ in range(5):
        run(window, "edit.redo")
    assert len(steps(window)) == 5


def test_live_density_survives_saving_and_a_crash(window: Window, tmp_path: Path) -> None:
    x, y = middle(window)
    run(window, "density.live")
    stroke(window, "raise", [(x, y), (x + 40, y)], size=40.0)
    window.studio.save_path(tmp_path / "a.kneten")
    settle(window)
    stroke(window, "raise", [(x, y), (x - 40, y + 20)], size=40.0)
    journal = window.studio.journal
    assert journal is not None
    now = mesh_of(window).settled()
    (journal.folder / "owner").write_text("1 0")
    left = next(one for one in left_journals() if one.folder == journal.folder)
    again = recover(left).scene.parts[0]
    assert again.live_density
    assert sorted(map(tuple, again.mesh.positions.tolist())) == sorted(map(tuple, now.positions.tolist()))
    window.studio.open_path(tmp_path / "a.kneten")
    settle(window)
    assert window.studio.project.active.live_density


def test_the_guide_pen_draws_mirrors_erases_and_is_followed(
    window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    x, y = middle(window)
    project = window.studio.project
    answer_dialogs(monkeypatch)
    run(window, "guide.mask")
    assert project.active.mesh.mask is None
    before = shown(window)
    run(window, "guide.draw")
    mode = window.view.mode
    assert isinstance(mode, GuideMode)
    drag(window, ring(x + 110, y - 20, 45))
    settle(window)
    assert steps(window) == ["Guide on Ball"]
    assert [guide.closed for guide in project.scene.guides] == [True, True]
    left, right = (points for _, points in lines_of(project.scene, project.active))
    assert left == pytest.approx(right * [-1, 1, 1], abs=0.05)
    assert (np.abs(shown(window) - before).max(axis=2) > 40).sum() > 200
    assert np.linalg.norm(left, axis=1) == pytest.approx(100, abs=0.5)
    mode.double(x + 155, y - 20)
    assert any(guide.note == "Name" for guide in project.scene.guides)
    window.view.take_mode(None)
    run(window, "guide.mask")
    mask = mesh_of(window).mask
    assert mask is not None
    inside = mesh_of(window).positions[mask > 0.5]
    assert np.abs(inside[:, 0]).min() > 10
    run(window, "mask.clear")
    run(window, "guide.region")
    assert mesh_of(window).regions is not None
    run(window, "guide.strand")
    assert project.active.recipe.kind == "strand"
    run(window, "edit.undo")
    project.choose(project.scene.parts[0].id)
    run(window, "guide.peel")
    assert "shell" in project.active.name
    run(window, "edit.undo")
    project.choose(project.scene.parts[0].id)
    run(window, "guide.cut")
    assert len(project.scene.parts) == 2
    assert all(not part.mesh.topology.has_border for part in project.scene.parts)
    run(window, "edit.undo")
    run(window, "guide.draw")
    drag(window, [(x + 155, y - 20), (x + 157, y - 20)], keys=SHIFT)
    settle(window)
    assert len(project.scene.guides) == 1
    window.view.take_mode(None)
    run(window, "guide.clear")
    assert not project.scene.guides


def test_a_deformer_is_dragged_by_its_handles(window: Window) -> None:
    card = window.deform_card
    card.kind.setCurrentIndex(card.kind.findData("bend"))
    card.kind.activated.emit(card.kind.currentIndex())
    run(window, "form.deform")
    mode = window.view.mode
    assert isinstance(mode, DeformMode)
    before = mesh_of(window).positions.copy()
    end = tuple(mode.pixels(mode._points())[1])
    drag(window, [end, (end[0], end[1] + 60)])
    settle(window)
    assert 50 < card.end.value() < 98
    amount = tuple(mode.pixels(mode._points())[2])
    drag(window, [amount, (amount[0] + 120, amount[1])])
    settle(window)
    assert steps(window) == ["Bend Ball"]
    assert not np.array_equal(mesh_of(window).positions, before)
    run(window, "edit.undo")
    card.kind.setCurrentIndex(card.kind.findData("lattice"))
    card.kind.activated.emit(card.kind.currentIndex())
    corner = tuple(mode.pixels(mode._points())[26])
    drag(window, [corner, (corner[0] + 50, corner[1] - 40)])
    settle(window)
    assert steps(window) == ["Lattice Ball"]
    moved = np.linalg.norm(mesh_of(window).positions - before, axis=1)
    assert before[np.argmax(moved)] @ [1, 1, 1] > 100
    # Broken off: nothing has changed.
    corner = tuple(mode.pixels(mode._points())[26])
    now = mesh_of(window).positions.copy()
    drag(window, [corner, (corner[0] + 50, corner[1] - 40)], release=False)
    window.view.feed(type(window.view._queue[0])("cancel", 0, 0) if window.view._queue else _cancel())
    settle(window)
    assert np.allclose(mesh_of(window).positions, now, atol=1e-4)


def _cancel():  # type: ignore[no-untyped-def]
    from kneten.app.view.hands import Pointer

    return Pointer("cancel", 0.0, 0.0)


def test_projecting_needs_another_part(window: Window) -> None:
    card = window.deform_card
    card.kind.setCurrentIndex(card.kind.findData("project"))
    card.kind.activated.emit(card.kind.currentIndex())
    card.amount._take(50.0, False)
    card.amount.settled.emit(50.0)
    settle(window)
    assert steps(window) == []
    run(window, "live.sphere")
    window.studio.project.choose(window.studio.project.scene.parts[0].id)
    card.amount._take(100.0, False)
    card.amount.settled.emit(100.0)
    settle(window)
    assert steps(window)[-1] == "Project Ball"


def test_the_trial_ball_shows_the_tool_in_hand(window: Window) -> None:
    for key in ("raise", "pull", "twist", "mask", "region", "smooth", "restore", "tease", "refine", "press"):
        trial = window.tool_card.trial
        run(window, f"tool.{key}")
        # Presses are drawn aside: without one the ball stays as it is.
        tip = window.studio.settings().tip.press
        until(lambda tip=tip: not window.studio.tool.presses or window.studio.presses.found(tip) is not None)
        trial.sample()
        sampled = trial.grab().toImage()
        trial.fresh()
        assert trial.grab().toImage() != sampled
        # Taken again, it shows the same picture at once.
        trial.sample()
        assert trial.grab().toImage() == sampled
        assert trial.mesh is None
        # And by hand.
        at = QPointF(trial.width() / 2, trial.height() / 2)
        before = trial.grab().toImage()
        for kind, step in (
            (QEvent.Type.MouseButtonPress, 0), (QEvent.Type.MouseMove, 9), (QEvent.Type.MouseMove, 18),
            (QEvent.Type.MouseButtonRelease, 18),
        ):  # fmt: skip
            spot = at + QPointF(step, 0)
            button = Qt.MouseButton.LeftButton
            QApplication.sendEvent(
                trial, QMouseEvent(kind, spot, trial.mapToGlobal(spot), button, button, NONE)
            )
        assert trial.grab().toImage() != before or key in ("smooth", "refine")
        assert steps(window) == []


def test_a_guide_is_gone_on_with_from_another_side_and_closed_round_the_clay(window: Window) -> None:
    project = window.studio.project
    project.change_settings(symmetry=(False, False, False))
    x, y = middle(window)
    window.registry.run("view.front")
    settle(window)
    run(window, "guide.draw")
    drag(window, [(x - 140, y), (x - 60, y + 5), (x + 60, y + 5), (x + 140, y)])
    settle(window)
    (first,) = lines_of(project.scene, project.active)
    end = first[1][-1]
    note_on(project, first[0], "belt")
    window.registry.run("view.right")
    settle(window)
    at = pixel(window, tuple(end))
    drag(window, [(at[0] + 4, at[1]), (at[0] + 30, at[1]), (at[0] + 60, at[1])])
    settle(window)
    ((guide, points),) = lines_of(project.scene, project.active)
    assert guide.note == "belt"
    assert not guide.closed
    assert np.linalg.norm(points[0] - first[1][0]) < 2
    assert points[-1][2] < end[2] - 15
    assert np.linalg.norm(np.diff(points, axis=0), axis=1).max() < 8
    run(window, "guide.close")
    ((guide, points),) = lines_of(project.scene, project.active)
    assert guide.closed
    assert points[:, 2].min() < -80
    assert np.linalg.norm(points, axis=1) == pytest.approx(100, abs=0.6)
    assert np.linalg.norm(points - np.roll(points, 1, axis=0), axis=1).max() < 8
    run(window, "guide.close")
    assert "is open" in said(window)
    run(window, "guide.landmarks")
    names = [mark.name for mark in project.scene.landmarks]
    assert names == ["belt", "belt 2", "belt 3", "belt 4"]
    across = [place_of(mark, project.scene) for mark in project.scene.landmarks]
    assert np.linalg.norm(across[0] - across[2]) > 150
    for _ in range(3):
        run(window, "edit.undo")
    assert not project.scene.landmarks
    assert not lines_of(project.scene, project.active)[0][0].closed


@pytest.mark.long
def test_moving_over_clay_with_guides_hidden_draws_none(window: Window) -> None:
    x, y = middle(window)
    before = shown(window)
    run(window, "guide.draw")
    drag(window, ring(x, y, 60))
    window.view.take_mode(None)
    run(window, "guide.show")
    send(window, QEvent.Type.MouseMove, 5, 5, Qt.MouseButton.NoButton, NONE)
    assert (np.abs(shown(window) - before).max(axis=2) > 30).sum() < 60
    run(window, "guide.show")
    assert (np.abs(shown(window) - before).max(axis=2) > 30).sum() > 100


def test_decimating_is_foretold_shown_and_done(window: Window) -> None:
    rows = window.density_card.decimate
    before = mesh_of(window).topology.n_triangles
    rows.goal.setCurrentIndex(rows.goal.findData("share"))
    rows.goal.activated.emit(rows.goal.currentIndex())
    rows.amount._take(20.0, False)
    run(window, "density.decimate-preview")
    assert mesh_of(window).topology.n_triangles == before
    (preview,) = window.view.preview.values()
    assert preview.mesh.topology.n_triangles <= before * 0.2 + 1
    drag(window, [(5.0, 5.0), (8.0, 5.0)])
    settle(window)
    assert not window.view.preview
    assert steps(window) == []
    run(window, "density.decimate-error")
    assert window.view.distances
    run(window, "density.decimate-error")
    assert not window.view.distances
    run(window, "density.decimate-run")
    assert steps(window) == ["Decimate Ball"]
    assert before * 0.19 < mesh_of(window).topology.n_triangles <= before * 0.2 + 1
    rows.goal.setCurrentIndex(rows.goal.findData("count"))
    rows.goal.activated.emit(rows.goal.currentIndex())
    run(window, "density.decimate-run")
    assert any("fewer" in notice.text for notice in window.notices.notices)
    assert len(steps(window)) == 1
    rows.goal.setCurrentIndex(rows.goal.findData("budget"))
    rows.goal.activated.emit(rows.goal.currentIndex())
    project = window.studio.project
    project.change_settings(budget=1000)
    run(window, "density.decimate-run")
    assert mesh_of(window).count <= 1000
    run(window, "edit.undo")
    run(window, "edit.undo")
    assert mesh_of(window).topology.n_triangles == before


def test_large_loose_clay_is_settled_aside_and_the_command_goes_on(
    window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    x, y = middle(window)
    run(window, "density.live")
    stroke(window, "raise", [(x, y), (x + 40, y)], size=40.0)
    assert isinstance(mesh_of(window), LooseMesh)
    monkeypatch.setattr("kneten.app.work.live_density.AT_ONCE", 1000)
    window.registry.run("mask.invert")
    assert any("brought to rest" in notice.text for notice in window.notices.notices)
    until(lambda: mesh_of(window).mask is not None)
    assert not isinstance(mesh_of(window), LooseMesh)
    assert steps(window)[-1] == "Invert the mask of Ball"
    # And loosened aside for the next stroke, which waits for that.
    run(window, "mask.clear")
    stroke(window, "raise", [(x, y), (x + 40, y)], size=40.0)
    settle(window)
    assert isinstance(mesh_of(window), LooseMesh)
    assert steps(window)[-1] == "Unmask Ball"
    stroke(window, "raise", [(x, y), (x + 40, y)], size=40.0)
    assert steps(window)[-1] == "Raise on Ball"


def test_clay_is_made_finer_under_the_brush_by_a_click(window: Window) -> None:
    offered: list[list[str]] = []
    window.studio.advised.connect(lambda _, ways: offered.append([name for name, _ in ways]))
    assert window.view.no_finer_here()
    window.studio.take(Project(Scene((Part("Ball", make_ball(100.0, 16)),))))
    window.views.frame_all()
    run(window, "stage.colour")
    run(window, "tool.paint")
    window.studio.set_brush(size=30.0)
    x, y = middle(window)
    drag(window, [(x + 40, y - 20), (x + 44, y - 20)])
    settle(window)
    assert "Finer here" in offered[0]
    mesh = mesh_of(window)
    colour, count, behind = mesh.colour.copy(), mesh.count, (mesh.positions[:, 2] < 0).sum()
    run(window, "density.finer-here")
    fine = mesh_of(window)
    assert fine.count > count + 60
    assert whole(fine)
    # Only there: the other side is as it was, and so is what had been painted.
    now = fine.settled().source_arrays()[0]
    assert (now[:, 2] < 0).sum() == behind
    assert len(np.unique(fine.settled().colour, axis=0)) >= len(np.unique(colour, axis=0)) > 1
    assert steps(window)[-1] == "Refine on Ball"
    run(window, "edit.undo")
    assert mesh_of(window).count == count
