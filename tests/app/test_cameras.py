"""Cameras and the finish through the real window: looked through, moved, locked, focused by clicks, written to files."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import av
import numpy as np
import OpenEXR
import pytest
from PIL import Image
from PySide6.QtWidgets import QFileDialog, QInputDialog

from kneten.app.benches.show.camera_frame import CameraFrame
from kneten.app.benches.show.pictures import ROOM
from kneten.app.shell.window import Window
from kneten.app.work.dialogs import StillDialog, TurntableDialog
from kneten.core.camera import Camera
from kneten.core.light.finish import Finish
from kneten.core.light.turntable import Turntable
from kneten.document.look import Look
from kneten.document.picturing import add_shot, finish_of, shots_of
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from tests.app.windows import drag, middle, picture, run, settle, steps


@pytest.fixture
def shows(window: Window) -> Window:
    """The stage Show in the look Lit, small, under an even light."""
    run(window, "stage.show")
    window.studio.set_look(kind="lit", cavity=False, cover=False)
    run(window, "light.set-window")
    settle(window)
    return window


def names(window: Window) -> list[str]:
    return [shot.name for shot in shots_of(window.studio.project.scene)]


def apart(one: np.ndarray, other: np.ndarray) -> float:
    return float(np.abs(one[..., :3].astype(int) - other[..., :3]).mean())


def test_a_camera_is_added_gone_away_from_and_back_to(shows: Window) -> None:
    run(shows, "camera.add")
    settle(shows)
    card = shows.cameras_card
    assert names(shows) == ["Camera 1"]
    assert card.which.currentText() == "Camera 1"
    assert not card.words.isVisibleTo(card)
    there = shows.studio.project.settings.camera
    run(shows, "view.left")
    settle(shows)
    assert "gone on" in card.words.text()
    run(shows, "camera.back")
    settle(shows)
    assert shows.studio.project.settings.camera == there
    run(shows, "edit.undo")
    assert names(shows) == []
    run(shows, "edit.redo")
    assert shows.pictures.through is not None


def test_a_camera_is_set_locked_copied_renamed_and_taken_away(
    shows: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    run(shows, "camera.add")
    run(shows, "view.right")
    run(shows, "camera.set")
    shot = shows.pictures.through
    assert shot is not None
    assert shot.camera.yaw == pytest.approx(90)
    assert shows.pictures.is_there(shot)
    run(shows, "camera.lock")
    run(shows, "view.front")
    before = shows.studio.project.scene
    run(shows, "camera.set")
    assert shows.studio.project.scene is before
    run(shows, "camera.copy")
    assert names(shows) == ["Camera 1", "Camera 1 2"]
    assert shows.pictures.through is not None
    assert not shows.pictures.through.locked
    monkeypatch.setattr(QInputDialog, "getText", staticmethod(lambda *a, **k: ("  Hands ", True)))
    run(shows, "camera.rename")
    assert names(shows) == ["Camera 1", "Hands"]
    run(shows, "camera.next")
    assert shows.pictures.through.name == "Camera 1"
    run(shows, "camera.lock")
    run(shows, "camera.frame")
    run(shows, "camera.remove")
    assert names(shows) == ["Hands"]
    assert steps(shows)[-1] == "Take away Camera 1"


def test_a_project_that_comes_shows_all_of_its_cameras_picture(shows: Window) -> None:
    project = Project(shows.studio.project.scene)
    shot = add_shot(project, "High", Camera(distance=700.0), Finish(), 0.4)
    project.try_settings(camera=shot.camera, through=shot.id, look=Look("lit"))
    shows.studio.take(project)
    settle(shows)
    rect = CameraFrame(shows.view, shows.pictures).rect()
    assert rect is not None
    assert rect.height() < shows.view.high
    assert rect.height() == pytest.approx(shows.view.high / ROOM, rel=0.01)
    # Frame and picture go together whatever the view's own lens is.
    shows.view.set_main(replace(shot.camera, angle=2 * shot.camera.angle))
    rect = CameraFrame(shows.view, shows.pictures).rect()
    assert rect is not None
    assert rect.height() < 0.55 * shows.view.high


def test_the_frame_shows_what_a_still_will(shows: Window, tmp_path: Path) -> None:
    run(shows, "camera.add")
    shows.pictures.change(aspect=0.8)
    run(shows, "camera.frame")
    settle(shows)
    frame = CameraFrame(shows.view, shows.pictures)
    rect = frame.rect()
    assert rect is not None
    assert rect.width() / rect.height() == pytest.approx(0.8)
    shows.files.export_still(tmp_path / "a.png", 160, 200, False)
    shows.studio.wait()
    still = np.asarray(Image.open(tmp_path / "a.png").convert("RGB")).astype(float)
    seen = Image.fromarray(picture(shows)[..., :3].astype(np.uint8))
    box = (rect.left(), rect.top(), rect.right(), rect.bottom())
    cut = np.asarray(seen.resize((160, 200), Image.Resampling.BOX, box=box)).astype(float)
    assert np.abs(cut - still).mean() < 4
    # The shape of the card's list is the camera's.
    assert shows.cameras_card.aspect.currentData() == "4:5"
    run(shows, "view.left")
    assert frame.rect() is None


def test_the_lens_is_dialled(shows: Window) -> None:
    run(shows, "camera.add")
    card = shows.cameras_card
    card.focal.changed.emit(85.0)
    assert shows.pictures.through.camera.focal_length != pytest.approx(85.0)
    card.focal.settled.emit(85.0)
    settle(shows)
    assert shows.pictures.through.camera.focal_length == pytest.approx(85.0)
    assert shows.pictures.is_there(shows.pictures.through)
    card.lines.setChecked(True)


def test_a_finish_is_dialled_and_undone(shows: Window) -> None:
    for field, value, is_ in (
        ("exposure", 1.0, 1.0),
        ("white", 3000, 3000),
        ("bloom", 60, 0.6),
        ("vignette", 80, 0.8),
        ("grain", 50, 0.5),
    ):
        before = picture(shows)
        box = shows.finish_card.numbers[field]
        box.changed.emit(value)
        settle(shows)
        assert finish_of(shows.studio.project.scene) == Finish()
        box.settled.emit(value)
        settle(shows)
        assert getattr(finish_of(shows.studio.project.scene), field) == pytest.approx(is_)
        assert apart(picture(shows), before) > 0.2
        run(shows, "edit.undo")
        settle(shows)
        assert np.array_equal(picture(shows), before)


def test_tones_are_graded_each(shows: Window) -> None:
    card = shows.finish_card
    for row, key in enumerate(("lift", "gamma", "gain")):
        card.tone.setCurrentIndex(row)
        card.tone.activated.emit(row)
        card.mixed[2].settled.emit(150.0)
        assert getattr(finish_of(shows.studio.project.scene), key)[2] == pytest.approx(
            1.0 if key == "lift" else 1.5
        )
    run(shows, "finish.plain")
    assert finish_of(shows.studio.project.scene) == Finish()


def test_what_is_clicked_is_sharp(shows: Window) -> None:
    run(shows, "finish.focus")
    x, y = middle(shows)
    drag(shows, [(x, y), (x + 12, y - 9)])
    settle(shows)
    finish = finish_of(shows.studio.project.scene)
    assert finish.blurs
    assert steps(shows)[-1] == "Change the finish"
    at = shows.view.camera.project(np.array([finish.focus]), shows.view.wide, shows.view.high)[0]
    assert np.hypot(at[0] - x - 12, at[1] - y + 9) < 2
    assert shows.view.mode is not None
    run(shows, "finish.focus")
    assert shows.view.mode is None


def test_before_and_after_by_one_key(shows: Window) -> None:
    plain = picture(shows)
    shows.pictures.change_finish(exposure=1.5, grain=0.4)
    settle(shows)
    finished = picture(shows)
    run(shows, "finish.compare")
    settle(shows)
    assert np.array_equal(picture(shows), plain)
    run(shows, "finish.compare")
    settle(shows)
    assert np.array_equal(picture(shows), finished)


def test_each_camera_has_a_finish_of_its_own(shows: Window, tmp_path: Path) -> None:
    run(shows, "camera.add")
    shows.pictures.change_finish(exposure=-2.0)
    dark = shows.pictures.through
    run(shows, "camera.copy")
    shows.pictures.change_finish(exposure=1.0)
    shows.pictures.look(dark.id)
    assert shows.pictures.finish.exposure == -2.0
    save_project(shows.studio.project, tmp_path / "a.kneten")
    again = open_project(tmp_path / "a.kneten")
    assert [shot.finish.exposure for shot in shots_of(again.scene)] == [-2.0, 1.0]
    shows.pictures.look("")
    assert shows.pictures.finish == Finish()


def test_a_colour_table_is_loaded_shared_and_left_out(
    shows: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    rows = "\n".join(f"{b} {g} {r}" for b in (0, 1) for g in (0, 1) for r in (0, 1))
    (tmp_path / "swap.cube").write_text(f"LUT_3D_SIZE 2\n{rows}\n")
    (tmp_path / "bad.cube").write_text("LUT_3D_SIZE 2\n")
    before = picture(shows)
    monkeypatch.setattr(
        QFileDialog, "getOpenFileName", staticmethod(lambda *a, **k: (str(tmp_path / "bad.cube"), ""))
    )
    run(shows, "finish.table-load")
    shows.studio.wait()
    assert finish_of(shows.studio.project.scene) == Finish()
    shows.pictures.load_table(tmp_path / "swap.cube")
    settle(shows)
    assert shows.finish_card.table.currentText() == "swap"
    turned = picture(shows).astype(int)
    assert np.abs(turned[..., 0] - before[..., 2].astype(int)).mean() < 2
    run(shows, "finish.table-drop")
    settle(shows)
    assert np.array_equal(picture(shows), before)


def test_a_still_with_passes_is_asked_for_and_written(
    shows: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def fill(dialog: StillDialog) -> int:
        dialog.wide.setValue(96)
        dialog.high.setValue(64)
        for key in ("depth", "mask"):
            dialog.passes[key].setChecked(True)
        return 1

    monkeypatch.setattr(StillDialog, "exec", fill)
    for name in ("a.exr", "a.png"):
        path = tmp_path / name
        monkeypatch.setattr(
            QFileDialog, "getSaveFileName", staticmethod(lambda *a, path=path, **k: (str(path), ""))
        )
        run(shows, "file.still")
        shows.studio.wait()
    assert sorted(one.name for one in tmp_path.glob("a*")) == ["a depth.exr", "a mask.exr", "a.exr", "a.png"]
    with OpenEXR.File(str(tmp_path / "a.exr"), separate_channels=True) as file:
        assert {"R", "G", "B", "depth", "mask"} == set(file.channels())
        depth, mask = (file.channels()[key].pixels for key in ("depth", "mask"))
    assert depth.shape == (64, 96)
    assert np.isfinite(depth[mask == 1]).all()


def test_a_film_is_asked_for_and_written(
    shows: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def fill(dialog: TurntableDialog) -> int:
        for box, value in ((dialog.wide, 64), (dialog.high, 48), (dialog.pictures, 5)):
            box.setValue(value)
        return 1

    monkeypatch.setattr(TurntableDialog, "exec", fill)
    path = tmp_path / "a.webm"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", staticmethod(lambda *a, **k: (str(path), "")))
    run(shows, "file.turntable")
    shows.studio.wait()
    with av.open(str(path)) as film:
        assert sum(1 for _ in film.decode(video=0)) == 5
    # What cannot be is said, and writes nothing.
    shows.files.export_turntable(tmp_path / "b.webm", Turntable(24, pauses=4, pause=1.0), 64, 48)
    shows.files.export_turntable(tmp_path / "no" / "c.webm", replace(Turntable(), pictures=2), 64, 48)
    shows.studio.wait()
    assert [one.name for one in tmp_path.glob("*.webm")] == ["a.webm"]
