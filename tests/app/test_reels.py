"""Sheets, numbered pictures and the reel through the real window."""

from __future__ import annotations

import re
from pathlib import Path

import av
import numpy as np
import pytest
from PIL import Image
from PySide6.QtWidgets import QDialog, QFileDialog, QMessageBox

from kneten.app.benches.show.asking import ReelDialog, SheetDialog
from kneten.app.shell.window import Window
from kneten.core.light.reel import Reel
from kneten.core.light.turntable import Turntable
from kneten.core.primitives import ball
from tests.app.windows import answer_dialogs, drag, middle, run, said, settle, small_view


@pytest.fixture
def shows(window: Window) -> Window:
    """The stage Show, a small view."""
    run(window, "stage.show")
    small_view(window)
    settle(window)
    return window


def size_of(path: Path) -> tuple[int, int]:
    with Image.open(path) as picture:
        return picture.size


def raise_here(window: Window, by: float = 0.0) -> None:
    window.choose_tool("raise")
    x, y = middle(window)
    drag(window, [(x - 20, y + by), (x + 20, y + by)])
    settle(window)


def test_a_sheet_of_cameras_milestones_and_parts(shows: Window, tmp_path: Path) -> None:
    shows.sheets.export(tmp_path / "none.png", "cameras", "Tarn")
    shows.sheets.export(tmp_path / "none.png", "before-after", "Tarn")
    assert "no camera yet" in said(shows)
    assert "no milestone yet" in said(shows)
    run(shows, "camera.add")
    run(shows, "camera.add")
    shows.studio.project.keep_milestone("First clay", b"")
    raise_here(shows)
    for shown in ("cameras", "milestones", "parts", "before-after"):
        path = tmp_path / f"{shown}.png"
        shows.sheets.export(path, shown, "Tarn", "screen", 800)
        shows.studio.wait()
        found = np.asarray(Image.open(path).convert("RGB")).astype(int)
        assert found.shape == (450, 800, 3)
        # Paper around, pictures with clay on it.
        assert found[2, 2].min() > 240
        assert (found.max(axis=2) < 160).mean() > 0.05
    assert "shows 2 pictures" in said(shows)
    first = shows.pictures.shots[0]
    shows.sheets.export(tmp_path / "one.png", "cameras", "", across=600, only={first.id})
    shows.studio.wait()
    assert "one.png shows 1 picture." in said(shows)
    shows.sheets.export(tmp_path / "nothing.png", "cameras", "", across=600, only=set())
    shows.studio.wait()
    assert "Nothing was chosen" in said(shows)
    left, right = (np.asarray(Image.open(tmp_path / "before-after.png"))[:, k : k + 400] for k in (0, 400))
    assert not np.array_equal(left, right)


@pytest.mark.long
def test_a_sheet_is_a_document_too_and_says_what_is_wrong(
    shows: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    shows.sheets.export(tmp_path / "parts.pdf", "parts", "Tarn, all parts", "a4-high")
    shows.studio.wait()
    document = (tmp_path / "parts.pdf").read_bytes()
    assert document.startswith(b"%PDF-")
    boxes = re.findall(rb"/MediaBox \[0 0 ([0-9.]+) ([0-9.]+)\]", document)
    assert [[round(float(side) / 72 * 25.4) for side in box] for box in boxes] == [[210, 297]]
    assert b"/FontFile2" in document
    shows.sheets.export(tmp_path / "parts.docx", "parts", "")
    shows.sheets.export(tmp_path / "no" / "parts.png", "parts", "")
    shows.studio.wait()
    assert "a sheet is written as .png or .pdf" in said(shows)
    # Asked for through the dialog.
    path = tmp_path / "asked.png"
    answer_dialogs(monkeypatch)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", staticmethod(lambda *a, **k: (str(path), "")))

    def choose(dialog: QDialog) -> int:
        if isinstance(dialog, SheetDialog):
            dialog.shown.setCurrentIndex(dialog.shown.findData("parts"))
            dialog.across.setValue(400)
            assert dialog.chosen() == {part.id for part in shows.studio.project.scene.parts}
        if isinstance(dialog, ReelDialog):
            dialog.seconds.setValue(1.0)
            dialog.rest.setValue(0.5)
            dialog.pace.setValue(4)
            dialog.wide.setValue(64)
            dialog.high.setValue(48)
        return 1

    monkeypatch.setattr(QDialog, "exec", choose)
    run(shows, "file.sheet")
    shows.studio.wait()
    assert size_of(path)[0] == 400
    path = tmp_path / "asked.mp4"
    raise_here(shows)
    run(shows, "file.reel")
    shows.studio.wait()
    with av.open(str(path)) as film:
        assert sum(1 for _ in film.decode(video=0)) == 4


def test_the_reel_plays_the_work_over_saves(
    shows: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert "nothing to play" in shows.registry.commands["file.reel"].blocked()
    assert "No steps" in shows.registry.commands["reel.forget"].blocked()
    raise_here(shows)
    shows.studio.save_path(tmp_path / "work.kneten")
    shows.studio.wait()
    raise_here(shows, 15)
    project = shows.studio.project
    project.add_meshes(
        "Add",
        [
            (
                "Small",
                project.scene.parts[0].mesh.from_faces(*ball(40.0, 12)),
                project.scene.parts[0].transform,
            )
        ],
    )
    shows.output_card.fill()
    words = shows.reels.words()
    assert words.startswith("3 steps"), words
    assert "MB" in words
    shows.reels.export(tmp_path / "reel.webm", Reel(seconds=2, pace=6, rest=0.5), 96, 64)
    shows.studio.wait()
    with av.open(str(tmp_path / "reel.webm")) as film:
        frames = [frame.to_ndarray(format="rgb24").astype(int) for frame in film.decode(video=0)]
    assert len(frames) == 12
    assert np.abs(frames[0] - frames[-1]).mean() > 1
    # The end rests, but for what the camera still goes round.
    shows.reels.export(tmp_path / "bad.webm", Reel(seconds=2, rest=3), 96, 64)
    assert "shorter than the reel" in said(shows)
    assert not list((tmp_path / "bad.webm").parent.glob("*.half*"))
    monkeypatch.setattr(QMessageBox, "question", staticmethod(lambda *a, **k: QMessageBox.StandardButton.Yes))
    run(shows, "reel.forget")
    assert shows.reels.words().startswith("2 steps")
    run(shows, "reel.keep")
    assert "forgotten" in shows.reels.words()
    shows.studio.save_path(tmp_path / "work.kneten")
    shows.studio.wait()
    assert shows.reels.words().startswith("0 steps")


def test_a_turntable_as_numbered_pictures(shows: Window, tmp_path: Path) -> None:
    shows.files.export_turntable(tmp_path / "turn.png", Turntable(5), 64, 48)
    shows.studio.wait()
    names = sorted(path.name for path in tmp_path.glob("turn-*.png"))
    assert names == [f"turn-{number:04d}.png" for number in range(1, 6)]
    assert size_of(tmp_path / names[0]) == (64, 48)
    # What is there is not written over, and what was begun is taken away.
    (tmp_path / "turn-0002.png").rename(tmp_path / "again-0003.png")
    shows.files.export_turntable(tmp_path / "again.png", Turntable(5), 64, 48)
    shows.studio.wait()
    assert "there already" in said(shows)
    assert sorted(path.name for path in tmp_path.glob("again-*.png")) == ["again-0003.png"]
