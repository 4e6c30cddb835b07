"""UVs and maps in the real window: seams cut, laid flat, islands changed in the pane, shown, baked, wiped, written."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog

from kneten.app.benches.net import unwrapping
from kneten.app.shell.window import Window
from kneten.app.start import cli
from kneten.app.work import memory
from kneten.core.arrays import Progress
from kneten.core.mesh import Mesh
from kneten.core.primitives import lattice
from kneten.core.stack import Stack
from kneten.core.uv.measure import measured, tiles_of
from kneten.document.mapping import maps_of
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.scene import Part, Scene
from kneten.document.unwrapping import cage_of, seams_of
from kneten.formats.exchange import read_file
from kneten.formats.maps import from_png
from kneten.render.laid import Sheets
from tests.app.windows import LEFT, NONE, drag, middle, pixel, run, said, send, settle, shown, steps
from tests.conftest import make_ball

SHIFT = Qt.KeyboardModifier.ShiftModifier


def take(window: Window, mesh: Mesh | None = None, levels: int = 0) -> Part:
    """A part in hand, in the stage of nets."""
    mesh = mesh or make_ball(50.0, 6)
    stack = Stack.of(mesh)
    for _ in range(levels):
        stack, mesh = stack.added(mesh, Progress())
    part = Part("Ball", mesh, stack=None if stack.plain else stack)
    window.studio.take(Project(Scene((part,))))
    window.studio.project.choose(part.id)
    window.choose_stage("Net")
    window.views.frame_all()
    settle(window)
    return part


def cube() -> Mesh:
    points, faces = lattice(4, 4, 4)
    return Mesh.from_faces(((points - 2) * 10.0).astype(np.float32), faces)


def hand(window: Window) -> Part:
    part = window.studio.project.active
    assert part is not None
    return part


def press(window: Window, place: np.ndarray, keys: Qt.KeyboardModifier = NONE) -> None:
    """Press and let go where a place of the scene is."""
    x, y = pixel(window, place)
    send(window, QEvent.Type.MouseButtonPress, x, y, LEFT, keys)
    send(window, QEvent.Type.MouseButtonRelease, x, y, LEFT, keys)
    settle(window)


def front_edges(window: Window) -> np.ndarray:
    """Middles of the cage's edges that face the camera best, the nearest first."""
    cage = cage_of(hand(window))
    middles = cage.mesh.positions[cage.edges.ends].mean(axis=1)
    eye = window.view.camera.eye()
    return np.argsort(np.linalg.norm(middles - eye, axis=1))


def unwrap(window: Window, key: str = "uv.unwrap") -> None:
    run(window, key)
    window.studio.wait(60)
    settle(window)


def test_seams_are_cut_by_pressing_edges_the_shortest_way_and_loops(window: Window) -> None:
    take(window, make_ball(50.0, 6))
    run(window, "symmetry.x") if "symmetry.x" in window.registry.commands else None
    window.studio.project.change_settings(symmetry=(False, False, False))
    run(window, "uv.seams")
    cage = cage_of(hand(window))
    edge = int(front_edges(window)[0])
    at = cage.mesh.positions[cage.edges.ends[edge]].mean(axis=0)
    plain = shown(window)
    send(window, QEvent.Type.MouseMove, *pixel(window, at), Qt.MouseButton.NoButton, NONE)
    # The edge that a press would cut is seen before.
    before = shown(window)
    assert (np.abs(before - plain) > 30).any(axis=2).sum() > 10
    press(window, at)
    assert np.flatnonzero(seams_of(cage_of(hand(window)))).tolist() == [edge]
    assert steps(window) == ["Seam"]
    assert (np.abs(shown(window) - before) > 30).any(axis=2).sum() > 10
    # The same again mends it.
    press(window, at)
    assert not seams_of(cage_of(hand(window))).any()
    assert steps(window)[-1] == "Mend seam"
    press(window, at)
    # Shift goes on from there by the shortest way.
    far = cage.mesh.positions[cage.edges.ends[int(front_edges(window)[24])]][0]
    press(window, far, SHIFT)
    assert seams_of(cage_of(hand(window))).sum() >= 2
    run(window, "uv.no-seams")
    assert hand(window).mesh.seams is None
    # A double click goes round.
    x, y = pixel(window, at)
    press(window, at)
    window.view.mode.double(x, y)
    assert seams_of(cage_of(hand(window))).sum() > 4
    run(window, "edit.undo")
    assert seams_of(cage_of(hand(window))).sum() == 1


def test_seams_are_cut_on_both_sides_where_symmetry_is_on(window: Window) -> None:
    take(window)
    window.studio.project.change_settings(symmetry=(True, False, False))
    run(window, "uv.seams")
    cage = cage_of(hand(window))
    middles = cage.mesh.positions[cage.edges.ends].mean(axis=1)
    edge = next(int(e) for e in front_edges(window) if abs(middles[e, 0]) > 5)
    press(window, middles[edge])
    marked = np.flatnonzero(seams_of(cage_of(hand(window))))
    assert len(marked) == 2
    assert np.allclose(middles[marked[0]], middles[marked[1]] * [-1, 1, 1], atol=1e-3)


def test_a_cube_is_laid_along_its_sharp_edges_and_undone(window: Window) -> None:
    take(window, cube())
    run(window, "uv.sharp")
    assert seams_of(cage_of(hand(window))).sum() == 48
    run(window, "uv.sharp")
    assert "none that are no seams already" in said(window)
    unwrap(window)
    assert "6 islands" in said(window)
    assert steps(window)[-1] == "Unwrap Ball"
    laid = measured(hand(window).mesh)
    assert laid.stretch()[0] < 1.001
    run(window, "edit.undo")
    assert hand(window).mesh.uv is None
    run(window, "edit.redo")
    assert hand(window).mesh.uv is not None
    window.uv_card.fill()
    assert "6 islands" in window.uv_card.says.text()
    run(window, "uv.drop")
    assert hand(window).mesh.uv is None


def test_seams_find_themselves_and_islands_follow_borders(window: Window) -> None:
    take(window, make_ball(50.0, 10), levels=1)
    window.uv_card.stretch.set_value(20)
    unwrap(window, "uv.unwrap-found")
    assert measured(hand(window).mesh).stretch()[0] < 1.2
    assert hand(window).mesh.seams is not None
    part = take(window)
    assert "no regions" in window.registry.commands["uv.borders"].blocked()
    window.studio.project.set_values(part.id, "regions", (np.arange(part.mesh.topology.n_faces) % 2).astype(np.uint16), "Regions")  # fmt: skip
    run(window, "uv.borders")
    assert hand(window).mesh.seams is not None


@pytest.fixture
def laid(window: Window) -> Window:
    """A cube of six islands, its pane open."""
    take(window, cube())
    run(window, "uv.sharp")
    unwrap(window)
    run(window, "uv.pane")
    settle(window)
    return window


def island_at(window: Window, number: int) -> QPoint:
    """A pixel of the pane on an island."""
    window.uv_pane.sheet.grab()
    of = window.unwrapping.shown().islands.of_face
    faces = window.uv_pane.sheet._image[2]
    y, x = np.nonzero((faces >= 0) & (of[np.maximum(faces, 0)] == number))
    k = len(x) // 2
    return QPoint(int(x[k]), int(y[k]))


def test_islands_are_chosen_dragged_turned_and_sized_in_the_pane(laid: Window) -> None:
    sheet = laid.uv_pane.sheet
    a, b = island_at(laid, 0), island_at(laid, 1)
    QTest.mouseClick(sheet, Qt.MouseButton.LeftButton, NONE, a)
    assert len(laid.unwrapping.chosen) == 1
    QTest.mouseClick(sheet, Qt.MouseButton.LeftButton, SHIFT, b)
    assert len(laid.unwrapping.chosen) == 2
    QTest.mouseClick(sheet, Qt.MouseButton.LeftButton, SHIFT, b)
    assert len(laid.unwrapping.chosen) == 1
    assert "1 chosen" in laid.unwrapping.words()
    before = hand(laid).mesh.uv.copy()
    for keys, name in (
        (NONE, "Move islands"),
        (Qt.KeyboardModifier.ControlModifier, "Turn islands"),
        (Qt.KeyboardModifier.AltModifier, "Size islands"),
    ):
        QTest.mousePress(sheet, Qt.MouseButton.LeftButton, keys, a)
        QTest.mouseMove(sheet, a + QPoint(12, 5))
        QTest.mouseMove(sheet, a + QPoint(30, 14))
        sheet.grab()
        QTest.mouseRelease(sheet, Qt.MouseButton.LeftButton, keys, a + QPoint(30, 14))
        assert steps(laid)[-1] == name
        rows = laid.unwrapping.rows(laid.unwrapping.shown())
        now = hand(laid).mesh.uv
        assert (now[rows] != before[rows]).any()
        others = np.setdiff1d(np.arange(len(now)), rows)
        assert np.array_equal(now[others], before[others])
        run(laid, "edit.undo")
        assert np.array_equal(hand(laid).mesh.uv, before)
    # Escape breaks a drag off.
    QTest.mousePress(sheet, Qt.MouseButton.LeftButton, NONE, a)
    QTest.mouseMove(sheet, a + QPoint(12, 5))
    QTest.mouseMove(sheet, a + QPoint(30, 14))
    QTest.keyClick(sheet, Qt.Key.Key_Escape)
    QTest.mouseRelease(sheet, Qt.MouseButton.LeftButton, NONE, a + QPoint(30, 14))
    assert np.array_equal(hand(laid).mesh.uv, before)
    # Beside all islands nothing is chosen.
    QTest.mouseClick(sheet, Qt.MouseButton.LeftButton, NONE, QPoint(2, 2))
    assert not laid.unwrapping.chosen
    assert "No island is chosen" in laid.registry.commands["uv.turn"].blocked()


def test_the_pane_zooms_moves_and_frames(laid: Window) -> None:
    sheet = laid.uv_pane.sheet
    scale, corner = sheet.scale, sheet.corner.copy()
    place = sheet.plane(QPointF(40, 60))
    from PySide6.QtGui import QWheelEvent
    from PySide6.QtWidgets import QApplication

    at = QPointF(40, 60)
    wheel = QWheelEvent(at, sheet.mapToGlobal(at), QPoint(), QPoint(0, 240), Qt.MouseButton.NoButton, NONE, Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
    QApplication.sendEvent(sheet, wheel)
    assert sheet.scale > scale
    assert np.allclose(sheet.plane(at), place)
    QTest.mousePress(sheet, Qt.MouseButton.RightButton, NONE, QPoint(50, 50))
    QTest.mouseMove(sheet, QPoint(70, 80))
    QTest.mouseRelease(sheet, Qt.MouseButton.RightButton, NONE, QPoint(70, 80))
    assert not np.allclose(sheet.corner, corner)
    sheet.frame()
    assert np.isclose(sheet.scale, scale)
    run(laid, "uv.pane")
    assert not laid.uv_pane.shown


def test_commands_change_the_chosen_islands(laid: Window) -> None:
    run(laid, "uv.all")
    assert len(laid.unwrapping.chosen) == 6
    run(laid, "uv.all")
    assert not laid.unwrapping.chosen
    laid.unwrapping.choose([0])
    rows = laid.unwrapping.rows(laid.unwrapping.shown())
    before = measured(hand(laid).mesh)
    laid.uv_card.grow.set_value(200)
    run(laid, "uv.size")
    after = measured(hand(laid).mesh)
    assert np.allclose(after.flat[rows] / before.flat[rows], 4, rtol=1e-3)
    run(laid, "uv.mirror")
    assert measured(hand(laid).mesh).turned.sum() == len(rows)
    for key in ("uv.turn", "uv.square-up", "uv.stand", "uv.straighten", "uv.next-tile", "uv.even"):
        done = len(steps(laid))
        run(laid, key)
        assert len(steps(laid)) >= done, key
    assert (1, 0) in tiles_of(hand(laid).mesh.uv)
    run(laid, "uv.pack")
    laid.studio.wait(60)
    settle(laid)
    assert tiles_of(hand(laid).mesh.uv) == [(0, 0)]


@pytest.mark.parametrize("what", list(unwrapping.SHOWN))
def test_uvs_are_shown_on_the_clay_and_in_the_pane(laid: Window, what: str) -> None:
    plain = shown(laid)
    laid.unwrapping.choose([0])
    laid.uv_card.grow.set_value(300)
    run(laid, "uv.size")
    run(laid, f"uv.{what}")
    settle(laid)
    seen = shown(laid)
    assert (np.abs(seen - plain) > 25).any(axis=2).sum() > 500
    assert laid.view.laid
    laid.uv_pane.sheet.grab()
    # Turning the view and sculpting go on meanwhile.
    run(laid, "view.left")
    settle(laid)
    run(laid, f"uv.{what}")
    settle(laid)
    assert not laid.view.laid


def small(window: Window) -> None:
    card = window.maps_card
    card.size_choice.setCurrentIndex(card.size_choice.findData("256"))
    card.rays.set_value(4)


def test_maps_are_baked_shown_wiped_written_and_kept(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    take(window, levels=2)
    unwrap(window)
    run(window, "level.down")
    run(window, "level.down")
    settle(window)
    small(window)
    plain = shown(window)
    run(window, "maps.bake")
    window.studio.wait(60)
    settle(window)
    assert "3 maps of 256 texels" in said(window)
    assert sorted(maps_of(window.studio.project.scene, hand(window).id)[0, 0]) == [
        "colour",
        "normal",
        "occlusion",
    ]
    # A ball has no more on its finer levels than a rounder outline.
    assert (np.abs(shown(window) - plain) > 4).any(axis=2).sum() > 60
    run(window, "maps.show")
    settle(window)
    assert not window.view.laid
    run(window, "maps.compare")
    window.studio.wait(60)
    settle(window)
    assert window.view.compare_mode == "wipe"
    assert window.view.laid
    run(window, "maps.compare")
    assert not window.view.compare_mode
    monkeypatch.setattr(
        QFileDialog, "getExistingDirectory", staticmethod(lambda *_, **__: str(tmp_path / "maps"))
    )
    (tmp_path / "maps").mkdir()
    run(window, "maps.write")
    window.studio.wait(60)
    settle(window)
    assert "4 files written" in said(window)
    save_project(window.studio.project, tmp_path / "a.kneten")
    again = open_project(tmp_path / "a.kneten")
    assert len(again.scene.maps) == 3
    run(window, "maps.none")
    assert not window.studio.project.scene.maps
    run(window, "edit.undo")
    assert len(window.studio.project.scene.maps) == 3


def test_the_tools_paint_a_picture_texel_by_texel(window: Window) -> None:
    part = take(window)
    unwrap(window)
    small(window)
    run(window, "maps.paint")
    window.studio.wait(60)
    settle(window)
    skin = hand(window)
    assert skin.name == "Ball, picture"
    assert "texels to paint on" in said(window)
    assert "beside it already" in window.registry.commands["maps.paint"].blocked() or "picture to paint on" in window.registry.commands["maps.paint"].blocked()  # fmt: skip
    run(window, "tool.paint")
    window.studio.project.change_settings(
        ink=replace(window.studio.project.settings.ink, colour=(250, 20, 20))
    )
    x, y = middle(window)
    drag(window, [(x - 20, y), (x + 20, y)], events=6)
    settle(window)
    assert skin.mesh.colour is not None
    run(window, "maps.take")
    window.studio.wait(60)
    settle(window)
    assert hand(window).id == part.id
    assert [one.name for one in window.studio.project.scene.parts] == ["Ball"]
    kept = maps_of(window.studio.project.scene, part.id)[0, 0]
    assert sorted(kept) == ["colour"]
    picture = from_png(kept["colour"].data)
    assert ((picture[:, :, 0] > 200) & (picture[:, :, 1] < 90)).sum() > 5
    assert window.view.laid
    run(window, "edit.undo")
    assert len(window.studio.project.scene.parts) == 2
    window.studio.project.choose(None)
    assert window.registry.commands["maps.take"].blocked() == "There is no part in hand."


def test_a_preset_ticks_its_maps_and_misses_are_marked(window: Window) -> None:
    part = take(window)
    unwrap(window)
    card = window.maps_card
    card.preset.setCurrentIndex(card.preset.findData("web"))
    assert card.wish().maps == ("normal", "occlusion", "colour", "roughness")
    assert card.wish().size == 1024
    card.preset.setCurrentIndex(0)
    small(window)
    window.studio.project.add_meshes("Fine", [("Fine", make_ball(56.0, 12), part.transform)])
    window.studio.project.choose(part.id)
    card.origin.setCurrentIndex(card.origin.findData("chosen"))
    run(window, "maps.bake")
    assert "Choose the parts that have the detail first" in said(window)
    window.studio.project.choose(window.studio.project.scene.parts[1].id)
    window.studio.project.choose_also(part.id)
    card.ahead.set_value(1)
    card.behind.set_value(1)
    run(window, "maps.bake")
    window.studio.wait(60)
    settle(window)
    assert "met nothing" in said(window)
    run(window, "maps.missed")
    settle(window)
    assert "have places for which rays met nothing" in said(window)
    assert next(iter(window.view.laid.values())).tints is not None


def test_what_cannot_be_done_is_said(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    take(window)
    for key, words in (
        ("uv.pack", "no UVs yet"), ("uv.turn", "no UVs yet"), ("uv.checker", "no UVs yet"), ("maps.bake", "no UVs yet"),
        ("maps.show", "no maps yet"), ("maps.write", "Nothing was baked"), ("uv.no-seams", "no seams"),
    ):  # fmt: skip
        assert words in window.registry.commands[key].blocked(), key
    monkeypatch.setattr(unwrapping, "MOST", 10)
    assert "Retopologise it" in window.registry.commands["uv.unwrap"].blocked()
    monkeypatch.undo()
    unwrap(window)
    monkeypatch.setattr(memory, "free_memory", lambda: 1000)
    run(window, "maps.bake")
    assert "Baking needs about" in said(window)
    window.studio.project.choose(None)
    for key in ("uv.unwrap", "uv.pack", "maps.bake", "maps.show", "uv.seams"):
        assert window.registry.commands[key].blocked() == "There is no part in hand."


def test_on_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    save_project(Project(Scene((Part("Ball", make_ball(50.0, 8)),))), tmp_path / "low.kneten")
    save_project(Project(Scene((Part("Fine", make_ball(51.0, 24)),))), tmp_path / "high.kneten")
    low, high, laid_ = (str(tmp_path / name) for name in ("low.kneten", "high.kneten", "laid.obj"))
    assert cli.run("unwrap", [low, laid_, "--stretch", "40"]) == 0
    assert "lengths off by" in capsys.readouterr().out
    ((_, mesh, _),), _ = read_file(Path(laid_))
    assert mesh.uv is not None
    assert measured(mesh).stretch()[0] < 1.4
    words = [high, laid_, str(tmp_path / "maps"), "--maps", "normal,displacement", "--size", "128"]
    assert cli.run("bake", words) == 0
    out = capsys.readouterr().out.split()
    assert len(out) == 4
    assert all(Path(line).stat().st_size > 0 for line in out)
    for bad in (
        ["unwrap", low, str(tmp_path / "a.stl")],
        ["unwrap", low, laid_, "--tiles", "0"],
        ["bake", high, low, str(tmp_path / "maps")],
        ["bake", high, laid_, str(tmp_path / "maps"), "--size", "7"],
        ["bake", high, laid_, str(tmp_path / "maps"), "--maps", "sparkle"],
    ):
        assert cli.run(bad[0], bad[1:]) == 2, bad
        assert capsys.readouterr().err.startswith("kneten: ")


@pytest.mark.parametrize(("key", "lost"), [("density.remesh", True), ("density.decimate-run", False)])
def test_what_becomes_of_uvs_is_said_before(window: Window, key: str, lost: bool) -> None:
    run(window, "uv.unwrap-found")
    window.studio.wait(60)
    assert window.studio.project.active.mesh.uv is not None
    run(window, key)
    window.studio.wait(60)
    assert ("UVs cannot go along" in said(window)) is lost
    assert (window.studio.project.active.mesh.uv is None) is lost
    run(window, "edit.undo")
    assert window.studio.project.active.mesh.uv is not None


def test_the_cage_is_drawn_as_far_out_as_the_card_and_the_mask_say(window: Window) -> None:
    from kneten.app.benches.net.cage_layer import cage_places

    window.studio.take(Project(Scene((Part("Ball", make_ball(100.0, 12)),))))
    window.views.frame_all()
    window.choose_stage("Net")
    card = window.maps_card
    run(window, "maps.cage")
    assert "how far outwards" in said(window)
    before = shown(window)
    card.ahead.set_value(20.0)
    window.view.update()
    settle(window)
    after = shown(window)
    assert np.abs(after.astype(int) - before.astype(int)).max() > 40
    part = window.studio.project.active
    off = np.linalg.norm(cage_places(part.mesh, card.cage()), axis=1)
    assert off == pytest.approx(120.0, abs=0.5)
    part.mesh.mask = np.where(part.mesh.positions[:, 1] > 0, 1.0, 0.0).astype(np.float32)
    card.masked.set_value(100.0)
    off = np.linalg.norm(cage_places(part.mesh, card.cage()), axis=1)
    assert off.max() == pytest.approx(140.0, abs=0.5)
    assert off.min() == pytest.approx(120.0, abs=0.5)
    run(window, "maps.cage")
    assert window.mapping.cage_shown() is None


def test_colours_told_of_other_faces_are_not_laid_on_clay_that_has_changed(laid: Window) -> None:
    part = hand(laid)
    tints = np.full((part.mesh.topology.n_faces, 4), 200, np.uint8)
    laid.view.show_laid({part.id: Sheets(tints=tints)})
    settle(laid)
    run(laid, "density.subdivide")
    assert hand(laid).mesh.topology.n_faces != len(tints)
    laid.view.show_laid({part.id: Sheets(tints=tints)})
    settle(laid)
    assert not laid.studio.mishaps
    assert not Sheets(tints=tints).fits(len(tints) + 1)
    assert Sheets(tints=tints).fits(len(tints))
    assert Sheets(squares=8).fits(5)
