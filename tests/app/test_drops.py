"""Files and pictures dragged onto the window by another program: real drags, the pointer moved as a hand would."""

from __future__ import annotations

import ctypes
import ctypes.util
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QMimeData, QPoint, QUrl
from PySide6.QtGui import QColor, QGuiApplication, QImage
from PySide6.QtWidgets import QApplication, QWidget

from kneten.app.shell.window import Window
from kneten.document.project import Project
from kneten.document.project_file import save_project
from kneten.document.scene import Part
from kneten.formats.exchange import pieces_of, write_file
from kneten.formats.space import Space
from tests.app.windows import run, said, settle
from tests.conftest import make_ball


class Pointer:
    """The X server's own pointer: presses and moves as a device does."""

    def __init__(self) -> None:
        self._x = ctypes.CDLL(ctypes.util.find_library("X11"))
        self._test = ctypes.CDLL(ctypes.util.find_library("Xtst"))
        self._x.XOpenDisplay.restype = ctypes.c_void_p
        self._display = ctypes.c_void_p(self._x.XOpenDisplay(None))

    def move(self, x: int, y: int) -> None:
        self._test.XTestFakeMotionEvent(self._display, -1, x, y, 0)
        self._x.XFlush(self._display)

    def press(self, down: bool) -> None:
        self._test.XTestFakeButtonEvent(self._display, 1, int(down), 0)
        self._x.XFlush(self._display)

    def close(self) -> None:
        self._x.XCloseDisplay(self._display)


@pytest.fixture
def pointer() -> Iterator[Pointer]:
    if QGuiApplication.platformName() != "xcb" or ctypes.util.find_library("Xtst") is None:
        pytest.skip("there is no X server whose pointer can be moved")
    made = Pointer()
    yield made
    made.press(False)
    made.close()


def wait(seconds: float) -> None:
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        QApplication.processEvents()
        time.sleep(0.002)


def dragged(pointer: Pointer, onto: QWidget, *offer: str) -> str:
    """What another program offers, dragged onto the middle of a widget; what it says became of it."""
    command = [sys.executable, "-m", "tests.app.drag_source", *offer]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as source:
        assert source.stdout is not None
        try:
            assert source.stdout.readline().strip() == "ready"
            goal = onto.mapToGlobal(QPoint(onto.width() // 2, onto.height() // 2))
            pointer.move(30, 30)
            wait(0.2)
            pointer.press(True)
            wait(0.3)
            for step in range(1, 21):
                pointer.move(30 + (goal.x() - 30) * step // 20, 30 + (goal.y() - 30) * step // 20)
                wait(0.02)
            wait(0.2)
            pointer.press(False)
            wait(0.5)
            return source.stdout.readline().strip()
        finally:
            source.kill()


@pytest.fixture
def placed(window: Window) -> Window:
    """The window beside where is dragged from."""
    window.move(100, 100)
    settle(window)
    return window


def test_a_file_manager_drops_pictures_and_models_at_once(
    placed: Window, pointer: Pointer, tmp_path: Path
) -> None:
    folder = tmp_path / "to read"
    folder.mkdir()
    names = []
    for number in range(12):
        path = (folder if number < 5 else tmp_path) / f"view {number}.png"
        image = QImage(80 + number, 60, QImage.Format.Format_RGB32)
        image.fill(QColor(20 * number, 90, 40))
        image.save(str(path))
        names.append(str(path))
    for number in range(3):
        path = tmp_path / f"tooth {number}.obj"
        write_file(path, pieces_of([Part(f"Tooth {number}", make_ball(5.0 + number, 6))], Space()))
    (folder / "notes.txt").write_text("not for Kneten")
    scene = placed.studio.project.scene
    offer = [str(folder), *names[5:], *(str(tmp_path / f"tooth {number}.obj") for number in range(3))]
    assert dragged(pointer, placed.view, "files", *offer) == "CopyAction"
    settle(placed)
    now = placed.studio.project.scene
    assert len(now.references) == len(scene.references) + 12
    assert len(now.parts) == len(scene.parts) + 3
    assert {part.name for part in now.parts} >= {"Tooth 0", "Tooth 1", "Tooth 2"}
    assert "notes" not in said(placed)


def test_files_dropped_on_the_board_go_where_they_belong(
    placed: Window, pointer: Pointer, tmp_path: Path
) -> None:
    placed.board.show_board()
    settle(placed)
    path, model = tmp_path / "side.png", tmp_path / "horn.obj"
    QImage(50, 50, QImage.Format.Format_RGB32).save(str(path))
    write_file(model, pieces_of([Part("Horn", make_ball(8.0, 6))], Space()))
    scene = placed.studio.project.scene
    assert dragged(pointer, placed.board, "files", str(path), str(model)) == "CopyAction"
    settle(placed)
    now = placed.studio.project.scene
    assert len(now.references) == len(scene.references) + 1
    assert len(now.parts) == len(scene.parts) + 1


@pytest.mark.parametrize("onto", ["view", "board"])
def test_a_picture_out_of_a_browser_lands_on_the_board(placed: Window, pointer: Pointer, onto: str) -> None:
    placed.board.show_board()
    settle(placed)
    before = placed.studio.project.scene.references
    assert dragged(pointer, getattr(placed, onto), "picture") == "CopyAction"
    settle(placed)
    (new,) = [one for one in placed.studio.project.scene.references if one not in before]
    image = placed.references.image(new)
    assert (image.width(), image.height()) == (60, 40)
    assert image.pixelColor(5, 5) == QColor(180, 90, 40)


def test_a_link_alone_is_told(placed: Window, pointer: Pointer) -> None:
    before = placed.studio.project.scene
    dragged(pointer, placed.view, "link")
    settle(placed)
    assert placed.studio.project.scene is before
    assert "sedge.png is a link, not a picture" in said(placed)


def test_what_is_pasted_is_taken_alike(placed: Window, tmp_path: Path) -> None:
    path = tmp_path / "front.png"
    image = QImage(30, 20, QImage.Format.Format_RGB32)
    image.fill(QColor(10, 200, 90))
    image.save(str(path))
    files, picture, link = QMimeData(), QMimeData(), QMimeData()
    files.setUrls([QUrl.fromLocalFile(str(path))])
    picture.setImageData(image)
    picture.setUrls([QUrl("https://pictures.example/front.png")])
    link.setUrls([QUrl("https://pictures.example/front.png")])
    for data, more in ((files, 1), (picture, 1), (link, 0)):
        before = placed.studio.project.scene.references
        QGuiApplication.clipboard().setMimeData(data)
        run(placed, "board.paste")
        assert len(placed.studio.project.scene.references) == len(before) + more
    assert "is a link, not a picture" in said(placed)


def test_of_several_projects_one_is_opened_and_told(placed: Window, tmp_path: Path) -> None:
    paths = [tmp_path / "one.kneten", tmp_path / "two.kneten"]
    for path in paths:
        save_project(Project.with_ball(), path)
    placed.studio.ask_unsaved = lambda: "discard"  # type: ignore[method-assign]
    placed.files.open_paths([tmp_path])
    settle(placed)
    assert placed.studio.project.path == paths[0]
    assert "one.kneten it is" in said(placed)
