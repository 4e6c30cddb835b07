"""Hands for tests of the real window: press, drag, wait, look."""

from __future__ import annotations

import itertools
import time

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QColor, QInputDevice, QMouseEvent, QPointingDevice, QTabletEvent
from PySide6.QtWidgets import (
    QApplication,
    QColorDialog,
    QDialog,
    QFileDialog,
    QFontDialog,
    QInputDialog,
    QMenu,
    QMessageBox,
    QWidget,
)

from kneten.app.benches.block.dialogs import ArrayDialog
from kneten.app.shell.window import Window
from kneten.app.work import dialogs

DEMOS = "file.demo"
"""What the keys of commands begin with that open a demo: with 160,000 vertices and more every later action takes ten times as long."""

NONE = Qt.KeyboardModifier.NoModifier
LEFT = Qt.MouseButton.LeftButton


def small_view(window: Window) -> None:
    """Every picture is drawn in software: where none is looked at, small ones will do."""
    window.resize(window.minimumSize())
    window.view.setMaximumSize(280, 210)


def settle(window: Window) -> None:
    """Until long work has landed and the picture is whole."""
    window.studio.wait()
    view = window.view
    for _ in range(600):
        QApplication.processEvents()
        if view.resting:
            return
        # Waiting in Qt would keep the interpreter from the threads that work for the window.
        time.sleep(0.005)
    raise AssertionError(f"the picture does not come to rest {view.failed}")


def run(window: Window, key: str) -> None:
    """A command, until what it does has landed."""
    window.registry.run(key)
    settle(window)


def steps(window: Window) -> list[str]:
    """The names of what can be undone."""
    return window.studio.project.history.names()[0]


def said(window: Window) -> str:
    """All notices."""
    return " | ".join(n.text for n in window.notices.notices)


def send(
    window: Window, kind: QEvent.Type, x: float, y: float, button: Qt.MouseButton, keys: Qt.KeyboardModifier
) -> None:
    view = window.view
    at = QPointF(x, y)
    held = Qt.MouseButton.NoButton if kind == QEvent.Type.MouseButtonRelease else button
    pressed = Qt.MouseButton.NoButton if kind == QEvent.Type.MouseMove else button
    QApplication.sendEvent(view, QMouseEvent(kind, at, view.mapToGlobal(at), pressed, held, keys))


def drag(
    window: Window,
    line: list[tuple[float, float]],
    button: Qt.MouseButton = LEFT,
    keys: Qt.KeyboardModifier = NONE,
    release: bool = True,
    events: int = 12,
) -> None:
    """Press, move along a line in so many events to a leg, release."""
    send(window, QEvent.Type.MouseButtonPress, *line[0], button, keys)
    for (x0, y0), (x1, y1) in itertools.pairwise(line):
        for t in np.linspace(0, 1, events + 1)[1:]:
            send(window, QEvent.Type.MouseMove, x0 + (x1 - x0) * t, y0 + (y1 - y0) * t, button, keys)
            QApplication.processEvents()
    if release:
        while window.view._queue or window.view._busy:
            QApplication.processEvents()
        send(window, QEvent.Type.MouseButtonRelease, *line[-1], button, keys)
        QApplication.processEvents()


def middle(window: Window) -> tuple[float, float]:
    return window.view.width() / 2, window.view.height() / 2


def picture(window: Window) -> np.ndarray:
    settle(window)
    view = window.view
    assert view.renderer is not None
    view.makeCurrent()
    pixels = view.renderer.read()
    view.doneCurrent()
    return pixels.astype(int)


def clay(window: Window) -> np.ndarray:
    part = window.studio.project.active
    assert part is not None
    return part.mesh.positions


def tablet(
    window: Window,
    kind: QEvent.Type,
    x: float,
    y: float,
    pressure: float,
    eraser: bool = False,
    tilt: float = 0.0,
    button: Qt.MouseButton = LEFT,
    held: Qt.MouseButton = LEFT,
    target: QWidget | None = None,
) -> None:
    """A pen's event, as Qt passes them on."""
    device = QPointingDevice(
        "pen",
        7,
        QInputDevice.DeviceType.Stylus,
        QPointingDevice.PointerType.Eraser if eraser else QPointingDevice.PointerType.Pen,
        QInputDevice.Capability.Pressure | QInputDevice.Capability.Position,
        1,
        3,
    )
    at = QPointF(x, y)
    changed = button if kind != QEvent.Type.TabletMove else Qt.MouseButton.NoButton
    over = target or window.view
    event = QTabletEvent(
        kind, device, at, over.mapToGlobal(at), pressure, tilt, 0, 0, 0, 0, NONE, changed, held
    )
    QApplication.sendEvent(over, event)
    QApplication.processEvents()


def nobody_there(monkeypatch: pytest.MonkeyPatch) -> None:
    """Have every question that would hold the window until a person answers it fail instead, at once."""

    def refuse(*_: object, **__: object) -> None:
        raise AssertionError("a question is asked, and nobody sits before this window")

    for kind in (QFileDialog, QInputDialog, QColorDialog, QFontDialog, QMessageBox):
        for name in QUESTIONS & set(vars(kind)):
            monkeypatch.setattr(kind, name, staticmethod(refuse))
    for kind in (QDialog, QMessageBox, QMenu):
        monkeypatch.setattr(kind, "exec", refuse)


# What Qt asks a person in a window of its own, and waits for.
QUESTIONS = {
    "getOpenFileName",
    "getOpenFileNames",
    "getSaveFileName",
    "getExistingDirectory",
    "getText",
    "getMultiLineText",
    "getInt",
    "getDouble",
    "getItem",
    "getColor",
    "getFont",
    "question",
    "information",
    "warning",
    "critical",
}


def answer_dialogs(monkeypatch: pytest.MonkeyPatch) -> None:
    """Have everything that would ask a person answer by itself: no file, a name, a number, the first of a list.

    The answers stand where Qt asks, so a question that is new is answered too.
    """
    answers = {
        QFileDialog: {
            "getOpenFileName": ("", ""),
            "getOpenFileNames": ([], ""),
            "getSaveFileName": ("", ""),
            "getExistingDirectory": "",
        },
        QInputDialog: {
            "getText": ("Name", True),
            "getMultiLineText": ("Note", True),
            "getInt": (1000, True),
            "getDouble": (100.0, True),
        },
        QMessageBox: {"question": QMessageBox.StandardButton.No},
        QColorDialog: {"getColor": QColor()},
    }
    for kind, said in answers.items():
        for name, answer in said.items():
            monkeypatch.setattr(kind, name, staticmethod(lambda *_, answer=answer, **__: answer))
    monkeypatch.setattr(QInputDialog, "getItem", staticmethod(lambda *a, **__: (a[3][0], True)))
    monkeypatch.setattr(dialogs, "ask_unsaved", lambda *a: "discard")
    monkeypatch.setattr(QDialog, "exec", lambda self: 0)
    monkeypatch.setattr(QMenu, "exec", lambda *a: None)
    monkeypatch.setattr(ArrayDialog, "exec", lambda self: 1)


def until(condition, seconds: float = 10.0) -> None:  # type: ignore[no-untyped-def]
    """Let the window live until something holds."""
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "it does not happen"
        QApplication.processEvents()
        time.sleep(0.005)


def shown(window: Window) -> np.ndarray:
    """What the viewport shows on the screen, overlays included, (h, w, 3)."""
    settle(window)
    view = window.view
    view.repaint()
    image = view.grabFramebuffer()
    image = image.convertToFormat(image.Format.Format_RGB888)
    data = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
    return data[:, : image.width() * 3].reshape(image.height(), image.width(), 3).astype(int)


def pixel(window: Window, place: tuple[float, float, float] | np.ndarray) -> tuple[float, float]:
    """Where a place of the scene is in the pane."""
    view = window.view
    x, y = view.camera.project(np.array([place], float), view.wide, view.high)[0, :2]
    return float(x), float(y)
