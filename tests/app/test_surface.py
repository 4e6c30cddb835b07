"""Presses through the real window: the shelf, strokes, making and changing them."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PySide6.QtCore import Qt
from PySide6.QtGui import QFont, QImage
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from kneten.app.benches.surface.making_panels import letters
from kneten.app.shell.window import Window
from kneten.app.work import dialogs, press_files
from kneten.app.work.preferences import Preferences, load_preferences, save_preferences
from kneten.app.work.press_shelf import ACROSS, PICTURE, SHEET, shaded
from kneten.core.mesh import Mesh
from kneten.core.press import PressError, Tip
from kneten.core.presses.library import library
from kneten.document.blocking import copy
from kneten.document.presses import presses_of
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.scene import Part, Scene
from kneten.document.things import guide_of, kept_press
from tests.app.windows import clay, drag, middle, run, said, settle, steps
from tests.conftest import make_ball
from tests.long import few


@pytest.fixture
def surface(window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Window:
    """The stage Surface with Press in hand, and a folder of presses of its own."""
    monkeypatch.setattr(press_files, "user_folder", lambda: tmp_path / "presses")
    run(window, "stage.surface")
    window.studio.project.change_settings(symmetry=(False, False, False))
    window.choose_tool("press")
    return window


def on_tip(window: Window, key: str, **tip: object) -> None:
    window.studio.presses.made(key)
    window.presses.choose(key)
    window.studio.set_tip(**tip)
    settle(window)


def lift(window: Window) -> np.ndarray:
    return np.linalg.norm(clay(window), axis=1) - 100.0


def test_a_press_is_dragged_to_its_place(surface: Window) -> None:
    on_tip(surface, "plain-dome", height=5.0, height_mm=True)
    x, y = middle(surface)
    drag(surface, [(x - 120, y), (x + 40, y + 20)])
    settle(surface)
    # 4 mm from vertex to vertex leave a tenth of the dome's top out.
    assert lift(surface).max() == pytest.approx(5.0, rel=0.12)
    assert (lift(surface) > 1).sum() < 0.3 * len(lift(surface))
    assert steps(surface) == ["Press on Ball"]
    run(surface, "edit.undo")
    assert np.abs(lift(surface)).max() < 1e-4


@pytest.mark.some
def test_every_kind_of_stroke_presses(surface: Window) -> None:
    on_tip(surface, "plain-dome", turn_chance=0.5, size_chance=0.5, flip_chance=True, strength_chance=0.3)
    x, y = middle(surface)
    for kind in ("continuous", "spaced", "line", "scattered", "dragged", "sized"):
        surface.studio.set_brush(kind=kind, size=30)
        for turned in few(("view", "stroke", "pen", "chance"), 3):
            surface.studio.set_tip(turned=turned)
            drag(surface, [(x - 60, y - 30), (x + 20, y + 40), (x + 70, y - 10)])
            settle(surface)
            assert lift(surface).max() > 0.5, (kind, turned)
            run(surface, "edit.undo")
            assert np.abs(lift(surface)).max() < 1e-4, (kind, turned)


def test_rolled_strokes_run_free_straight_and_along_guides(surface: Window) -> None:
    surface.studio.take(Project(Scene((Part("Ball", make_ball(100.0, 150)),))))
    surface.studio.project.change_settings(symmetry=(False, False, False))
    surface.views.frame_all()
    on_tip(surface, "rivet-row", height=3.0, height_mm=True)
    tip = surface.studio.settings().tip
    assert tip.rolled
    x, y = middle(surface)
    surface.studio.set_brush(kind="continuous", size=60)
    drag(surface, [(x - 8, y), (x + 8, y)])
    settle(surface)
    assert "hardly begun" in said(surface)
    run(surface, "edit.undo")
    for kind in ("continuous", "line"):
        surface.studio.set_brush(kind=kind, size=26)
        drag(surface, [(x - 120, y + 30), (x, y - 20), (x + 120, y + 30)])
        settle(surface)
        assert lift(surface).max() == pytest.approx(3.0, rel=0.25), kind
        run(surface, "edit.undo")
    part = surface.studio.project.active
    assert part is not None
    assert "guide pen" in surface.registry.commands["press.along-guides"].blocked()
    t = np.linspace(0, 2 * np.pi, 80, endpoint=False)
    rings = [
        100 * np.stack([np.cos(t) * np.cos(a), 0 * t + np.sin(a), np.sin(t) * np.cos(a)], -1)
        for a in (0.0, 0.5)
    ]
    guides = tuple(guide_of(part, ring, True) for ring in rings)
    surface.studio.project.change("Guides", surface.studio.project.scene.with_things("guides", guides))
    run(surface, "press.along-guides")
    for _ in range(400):
        QApplication.processEvents()
        if not surface.view.at_work:
            break
    settle(surface)
    assert steps(surface)[-1] == "Press along guides on Ball"
    high = clay(surface)[lift(surface) > 1.5]
    # All round, on the far side too, and on both rings.
    assert len(np.unique(np.floor(np.arctan2(high[:, 2], high[:, 0])))) >= 7
    assert high[:, 1].max() > 40
    run(surface, "edit.undo")
    assert np.abs(lift(surface)).max() < 1e-4


def test_strokes_of_presses_last_and_keep_linked_copies_layers_and_masks(
    surface: Window, tmp_path: Path
) -> None:
    project = surface.studio.project
    copy(project, project.scene.parts[:1], linked=True, way=np.array([250.0, 0.0, 0.0]))
    project.choose(project.scene.parts[0].id)
    on_tip(surface, "plain-dome")
    run(surface, "density.subdivide")
    run(surface, "layer.add")
    x, y = middle(surface)
    drag(surface, [(x - 100, y), (x - 90, y)])
    settle(surface)
    part = project.active
    assert part is not None
    assert part.stack is not None
    assert np.abs(np.linalg.norm(part.mesh.positions, axis=1) - 100).max() > 2
    assert all(other.mesh is part.mesh for other in project.scene.parts)
    before = part.mesh.positions.copy()
    save_project(project, tmp_path / "a.kneten")
    assert np.array_equal(open_project(tmp_path / "a.kneten").scene.parts[0].mesh.positions, before)


def test_a_press_that_is_not_there_is_told_of(surface: Window, qtbot: QtBot) -> None:
    surface.studio.set_tip(press="own:nobody")
    x, y = middle(surface)
    drag(surface, [(x, y), (x + 5, y)])
    assert "not here any more" in said(surface)
    surface.studio.set_tip(press="")
    drag(surface, [(x, y), (x + 5, y)])
    assert "Choose a press first" in said(surface)
    assert steps(surface) == []
    surface.studio.set_tip(press="hair-wavy")
    qtbot.waitUntil(lambda: surface.studio.presses.found("hair-wavy") is not None, timeout=20_000)
    drag(surface, [(x, y), (x + 5, y)])
    assert steps(surface) == ["Press on Ball"]


def test_the_shelf_finds_by_words_family_and_stars(surface: Window) -> None:
    run(surface, "press.shelf")
    panel = surface.press_panel

    def shown() -> list[str]:
        items = [panel.list.item(row) for row in range(panel.list.count())]
        return [str(item.data(Qt.ItemDataRole.UserRole)) for item in items if not item.isHidden()]

    assert len(shown()) == len(library())
    panel.search.setText("wet otter")
    assert shown() == ["fur-wet"]
    panel.star.click()
    assert surface.studio.preferences.favourite_presses == ["fur-wet"]
    panel.search.clear()
    assert shown()[0] == "fur-wet"
    panel.family.setCurrentText("Favourites")
    assert shown() == ["fur-wet"]
    panel.family.setCurrentText("Rope")
    assert shown() == [key for key, entry in library().items() if entry.family == "rope"]
    panel.family.setCurrentText("All")
    panel.search.setText("no such press")
    assert shown() == []
    panel.search.setText("pierced")
    panel.use()
    assert surface.studio.settings().tip.press == "pierced-star"
    assert not panel.isVisible()


def test_own_presses_are_edited_kept_and_taken_away(surface: Window, qtbot: QtBot, tmp_path: Path) -> None:
    run(surface, "press.shelf")
    panel, project = surface.press_panel, surface.studio.project
    panel.show_press("rivet")
    panel.copy.click()
    settle(surface)
    (press,) = presses_of(project)
    assert panel.current() == f"own:{press.id}"
    qtbot.waitUntil(lambda: len(list((tmp_path / "presses").glob("Rivet*.png"))) == 1, timeout=5000)
    panel.fields.checks["invert"].setChecked(True)
    panel.fields.turn.click()
    panel.fields.blur.changed.emit(2.0)
    qtbot.waitUntil(lambda: presses_of(project)[0].edits.blur == 2.0, timeout=5000)
    assert presses_of(project)[0].edits.invert
    assert presses_of(project)[0].edits.turn == 90
    assert steps(surface) == ["Copy press Rivet", "Edit press Rivet"]
    panel.title.setText("Nail")
    panel.title.editingFinished.emit()
    assert presses_of(project)[0].name == "Nail"
    panel.use()
    assert surface.studio.settings().tip.press == f"own:{press.id}"
    # Another project finds it in the user's folder.
    qtbot.waitUntil(lambda: len(list((tmp_path / "presses").glob("Nail*.png"))) == 1, timeout=5000)
    found = press_files.read_press(next((tmp_path / "presses").glob("Nail*.png")))
    assert (found.id, found.name, found.edits) == (press.id, "Nail", presses_of(project)[0].edits)
    assert np.array_equal(found.steps, press.steps)
    surface.studio.take(Project(Scene((Part("Ball", make_ball(100.0, 24)),))))
    assert press.id in surface.studio.presses.owned()
    surface.presses.choose(f"own:{press.id}")
    assert [one.name for one in presses_of(surface.studio.project)] == ["Nail"]
    run(surface, "press.shelf")
    panel.show_press(f"own:{press.id}")
    panel.drop.click()
    assert presses_of(surface.studio.project) == ()
    assert list((tmp_path / "presses").glob("*.png")) == []


def test_pictures_are_imported_and_exported(
    surface: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    ramp = np.arange(65536, dtype=np.uint16).reshape(256, 256)
    Image.fromarray(ramp).save(tmp_path / "ramp.png")
    (tmp_path / "broken.png").write_bytes(b"hello")
    monkeypatch.setattr(
        dialogs, "ask_presses", lambda parent: [tmp_path / "ramp.png", tmp_path / "broken.png"]
    )
    run(surface, "press.import")
    (press,) = presses_of(surface.studio.project)
    assert press.name == "ramp"
    assert len(np.unique(press.steps)) == 65536
    assert "broken.png is not a picture" in said(surface)
    monkeypatch.setattr(dialogs, "ask_save", lambda *a, **k: tmp_path / "out.exr")
    run(surface, "press.shelf")
    surface.press_panel.show_press(f"own:{press.id}")
    surface.press_panel.save.click()
    settle(surface)
    assert (tmp_path / "out.exr").stat().st_size > 10_000
    monkeypatch.setattr(dialogs, "ask_save", lambda *a, **k: tmp_path / "no" / "out.png")
    surface.press_panel.save.click()
    settle(surface)
    assert "cannot be written" in said(surface)


def test_a_press_is_taken_from_the_clay_and_from_its_mask(surface: Window) -> None:
    part = surface.studio.project.active
    assert part is not None
    mesh: Mesh = part.mesh
    near = np.linalg.norm(mesh.positions - [0, 0, 100], axis=1) < 25
    mesh.positions[near] *= 1.08
    mesh.refresh_all()
    surface.studio.project.set_values(part.id, "mask", near.astype(np.float32), "Mask")
    surface.views.frame_all()
    x, y = middle(surface)
    for key, name in (("press.from-view", "From the clay"), ("press.from-mask", "Mask")):
        run(surface, key)
        assert surface.view.mode is not None
        drag(surface, [(x - 90, y - 90), (x + 90, y + 90)])
        settle(surface)
        assert surface.view.mode is None
        press = presses_of(surface.studio.project)[-1]
        assert press.name == name
        picture = press.picture
        assert picture[picture.shape[0] // 2, picture.shape[1] // 2] > 0.6 * picture.max()
    run(surface, "press.from-view")
    drag(surface, [(4, 60), (60, 100)])
    settle(surface)
    assert "no clay in the frame" in said(surface)
    drag(surface, [(x, y), (x + 3, y + 3)])
    assert "too small" in said(surface)
    surface.view.take_mode(None)


def test_text_and_unevenness_become_presses(surface: Window, qtbot: QtBot) -> None:
    run(surface, "press.text")
    panel = surface.text_panel
    panel.text.setText("Tarn")
    for form in ("flat", "bevelled", "round"):
        panel.form.setCurrentIndex(panel.form.findData(form))
    qtbot.waitUntil(lambda: not panel._trying and not panel.picture.pixmap().isNull(), timeout=10_000)
    panel.make()
    settle(surface)
    run(surface, "press.noise")
    noise = surface.noise_panel
    noise.another.click()
    qtbot.waitUntil(lambda: not noise._trying, timeout=20_000)
    noise.make()
    settle(surface)
    assert [press.name for press in presses_of(surface.studio.project)] == ["Tarn", "Clouds"]
    assert presses_of(surface.studio.project)[1].tiles
    panel.text.setText("   ")
    assert not panel.isVisible() or not panel.button.isEnabled()


def test_a_press_just_made_is_the_one_that_the_shelf_offers(surface: Window, qtbot: QtBot) -> None:
    surface.registry.run("tool.press")
    surface.presses.choose("plain-dome")
    qtbot.waitUntil(lambda: surface.studio.settings().tip.press == "plain-dome", timeout=20_000)
    surface.press_panel.leave()
    run(surface, "press.text")
    surface.text_panel.make()
    settle(surface)
    made = presses_of(surface.studio.project)[-1]
    assert surface.press_panel.isVisible()
    assert surface.press_panel.current() == f"own:{made.id}"
    surface.press_panel.use()
    settle(surface)
    assert surface.studio.settings().tip.press == f"own:{made.id}"


def test_letters_are_flat_bevelled_or_round_and_bad_ones_refused(surface: Window) -> None:
    font = QFont("Lato")
    flat, slope, cord = (letters("O", font, form, 0.1) for form in ("flat", "bevelled", "round"))
    assert flat.max() == 1.0
    assert 0.5 < slope.max() <= 1.0
    assert flat.mean() > cord.mean() > slope.mean()
    assert len(np.unique(cord)) > 200
    with pytest.raises(PressError, match="Type what"):
        letters("  ", font, "flat", 0.1)
    with pytest.raises(PressError, match="has no drawing for"):
        letters("\U000e0041", font, "flat", 0.1)


def test_the_card_says_what_is_held(surface: Window) -> None:
    card = surface.press_card
    on_tip(surface, "scales-round", height=0.2)
    assert card.name.text() == "Round scales"
    card.in_mm.setChecked(True)
    card.height_field.changed.emit(1.5)
    assert surface.studio.settings().tip.height == 1.5
    card.turned.setCurrentIndex(card.turned.findData("stroke"))
    card.turned.activated.emit(0)
    assert surface.studio.settings().tip.turned == "stroke"
    surface.studio.set_brush(kind="continuous")
    card.rolled.setChecked(True)
    assert surface.studio.settings().tip.rolled
    assert not card.whole.isEnabled()
    surface.choose_tool("raise")
    assert not card.height_row.isVisibleTo(card)
    assert card.name.text() == "No press on the tip"
    on_tip(surface, "rivet")
    assert card.off.isVisibleTo(card)
    run(surface, "press.none")
    assert surface.studio.settings().tip == Tip()


def test_how_a_press_is_held_is_kept_and_checked(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("KNETEN_CONFIG", str(tmp_path))
    kept = Preferences()
    held = kept.settings("press")
    tip = Tip("rope", turned="stroke", height=0.7, rolled=True, flip_chance=True)
    kept.hold("press", replace(held, tip=tip))
    save_preferences(kept)
    assert load_preferences().settings("press").tip == tip
    path = tmp_path / "preferences.json"
    path.write_text(path.read_text().replace('"stroke"', '"sideways"'))
    assert load_preferences().settings("press").tip == held.tip


def test_our_own_come_from_the_cache_and_their_pictures_along(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(press_files, "cache_folder", lambda: tmp_path / "presses" / "now")
    (tmp_path / "presses" / "before").mkdir(parents=True)
    made = press_files.own_press("rivet")
    assert [path.name for path in (tmp_path / "presses").iterdir()] == ["now"]
    monkeypatch.setattr(type(library()["rivet"]), "made", lambda self: pytest.fail("it was made anew"))
    again = press_files.own_press("rivet")
    assert np.abs(again.heights - made.heights).max() <= 2.0 / 65535
    sheet = QImage(str(SHEET))
    assert sheet.width() == ACROSS * PICTURE
    assert sheet.height() == -(-len(library()) // ACROSS) * PICTURE
    at = list(library()).index("rivet")
    cell = sheet.copy(at % ACROSS * PICTURE, at // ACROSS * PICTURE, PICTURE, PICTURE)
    cell = cell.convertToFormat(QImage.Format.Format_RGB888)
    pixels = np.frombuffer(cell.constBits(), np.uint8).reshape(PICTURE, cell.bytesPerLine())[:, : 3 * PICTURE]
    assert np.abs(pixels.reshape(PICTURE, PICTURE, 3).astype(int) - shaded(made)).mean() < 8


def test_a_folder_with_bad_files_is_read_all_the_same(surface: Window, qtbot: QtBot, tmp_path: Path) -> None:
    folder = tmp_path / "presses"
    folder.mkdir()
    press_files.write_press(kept_press("Good", np.eye(16, dtype=np.float32)), folder)
    (folder / "bad.png").write_bytes(b"nothing")
    run(surface, "press.shelf")
    qtbot.waitUntil(lambda: len(surface.studio.presses.owned()) == 1, timeout=5000)
    assert "bad.png is not a picture" in said(surface)


def test_a_deep_press_is_dragged_to_size_with_a_word_about_its_density(surface: Window) -> None:
    on_tip(surface, "deep-horn")
    tip = surface.studio.settings().tip
    assert surface.studio.settings().kind in ("dragged", "sized")
    assert tip.height == pytest.approx(surface.studio.presses.made("deep-horn").natural, abs=1e-3)
    surface.studio.set_brush(kind="sized")
    x, y = middle(surface)
    drag(surface, [(x, y), (x + 60, y)])
    settle(surface)
    assert "deep" in surface.press_card.state.text()
    assert "needs some 6000" in said(surface).replace("\u202f", "").replace(",", "")
    assert lift(surface).max() > 15
    run(surface, "edit.undo")
    assert np.abs(lift(surface)).max() < 1e-4
    # Of other tools it shapes the tip by its heights.
    surface.choose_tool("mask")
    on_tip(surface, "deep-horn")
    drag(surface, [(x, y), (x + 4, y)])
    part = surface.studio.project.active
    assert part is not None
    assert part.mesh.mask is not None


def test_a_piece_of_a_part_becomes_a_deep_press(
    surface: Window, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    surface.studio.take(Project(Scene((Part("Ball", make_ball(100.0, 110)),))))
    surface.studio.project.change_settings(symmetry=(False, False, False))
    surface.views.frame_all()
    on_tip(surface, "deep-wart")
    surface.studio.set_brush(kind="sized")
    x, y = middle(surface)
    drag(surface, [(x, y), (x + 70, y)])
    settle(surface)
    run(surface, "press.deep-from-view")
    drag(surface, [(x - 90, y - 90), (x + 90, y + 90)])
    settle(surface)
    deep = surface.studio.project.scene.things("deep_presses")
    assert [one.name for one in deep] == ["From Ball"]
    key = f"own:{deep[0].id}"
    qtbot.waitUntil(lambda: len(list((tmp_path / "presses").glob("From Ball*.exr"))) == 1, timeout=5000)
    kept = press_files.read_deep_press(next((tmp_path / "presses").glob("*.exr")))
    assert (kept.id, kept.name) == (deep[0].id, "From Ball")
    monkeypatch.setattr(dialogs, "ask_save", lambda *a, **k: tmp_path / "out.exr")
    run(surface, "press.shelf")
    panel = surface.press_panel
    panel.show_press(key)
    assert not panel.fields.isVisibleTo(panel)
    panel.save.click()
    settle(surface)
    panel.title.setText("Bud")
    panel.title.editingFinished.emit()
    panel.copy.click()
    settle(surface)
    panel.use()
    assert [one.name for one in surface.studio.project.scene.things("deep_presses")] == ["Bud", "Bud 2"]
    (tmp_path / "colour.png").write_bytes((SHEET.parent / "icons" / "press.svg").read_bytes())
    monkeypatch.setattr(
        dialogs, "ask_deep_presses", lambda parent: [tmp_path / "out.exr", tmp_path / "colour.png"]
    )
    run(surface, "press.import-deep")
    assert [one.name for one in surface.studio.project.scene.things("deep_presses")][-1] == "out"
    assert "colour.png is not a picture" in said(surface)


def test_what_a_stroke_lays_does_not_shorten_its_way(surface: Window) -> None:
    """Spaced dabs lie as far apart over the clay, however high each stands out."""
    surface.studio.take(Project(Scene((Part("Ball", make_ball(100.0, 150)),))))
    surface.studio.project.change_settings(symmetry=(False, False, False))
    surface.views.frame_all()
    on_tip(surface, "plain-dome", height=1.2)
    surface.studio.set_brush(kind="spaced", size=26)
    x, y = middle(surface)
    drag(surface, [(x - 130, y), (x + 130, y)])
    settle(surface)
    lifted, places = lift(surface), clay(surface)
    on = lifted > 0.8 * lifted.max()
    angles = np.sort(np.degrees(np.arctan2(places[on, 0], places[on, 2])))
    peaks = np.split(angles, np.flatnonzero(np.diff(angles) > 2) + 1)
    steps_apart = np.diff([peak.mean() for peak in peaks])
    assert len(peaks) >= 4
    # A picture that is seen from near shows less of what faces aside.
    assert np.ptp(steps_apart) < 0.4 * steps_apart.mean()
