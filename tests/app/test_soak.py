"""Random actions through the real window: nothing raised, nothing printed, nothing leaked.

Four hundred in every run of the tests; `KNETEN_SOAK=2000` has as many more as one likes to wait for.
"""

from __future__ import annotations

import gc
import os
import random
from collections.abc import Callable

import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kneten.app.shell.window import Window
from kneten.core.brushes.toolbox import TOOLS
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from tests.app.windows import DEMOS, LEFT, NONE, answer_dialogs, send, settle, small_view, tablet
from tests.conftest import make_ball

ROOM = 600e6
"""Bytes that the second half may keep beyond what undo holds. Clay that was loosened or settled last, and pictures of
it, are a few hundred million; a leak in any of a thousand actions would be more."""

ACTIONS = int(os.environ.get("KNETEN_SOAK", "400"))

LEFT_OUT = {
    "file.quit",  # ends the window
    "density.subdivide",  # four times the clay each time
    "density.remesh",
    "parts.fuse",
}


def resident() -> int:
    """Bytes of memory this process holds."""
    with open("/proc/self/statm") as file:
        return int(file.read().split()[1]) * os.sysconf("SC_PAGE_SIZE")


def small_project() -> Project:
    return Project(Scene((Part("Ball", make_ball(100.0, 24)),)))


class Hands:
    """Does something at random."""

    def __init__(self, window: Window, seed: int) -> None:
        self.window = window
        self.random = random.Random(seed)
        self.commands = [
            key for key in window.registry.commands if key not in LEFT_OUT and not key.startswith(DEMOS)
        ]

    def at(self) -> tuple[float, float]:
        view = self.window.view
        return self.random.uniform(1, view.width() - 2), self.random.uniform(1, view.height() - 2)

    def stroke(self) -> None:
        keys = self.random.choice(
            [NONE, NONE, NONE, Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier]
        )
        x, y = self.at()
        send(self.window, QEvent.Type.MouseButtonPress, x, y, LEFT, keys)
        for _ in range(self.random.randint(1, 6)):
            x, y = x + self.random.gauss(0, 25), y + self.random.gauss(0, 25)
            send(self.window, QEvent.Type.MouseMove, x, y, LEFT, keys)
            QApplication.processEvents()
        send(self.window, QEvent.Type.MouseButtonRelease, x, y, LEFT, keys)

    def camera(self) -> None:
        button = self.random.choice([Qt.MouseButton.RightButton, Qt.MouseButton.MiddleButton])
        x, y = self.at()
        send(self.window, QEvent.Type.MouseButtonPress, x, y, button, NONE)
        for _ in range(3):
            x, y = x + self.random.gauss(0, 12), y + self.random.gauss(0, 12)
            send(self.window, QEvent.Type.MouseMove, x, y, button, NONE)
        send(self.window, QEvent.Type.MouseButtonRelease, x, y, button, NONE)

    def wheel(self) -> None:
        at, view = QPointF(*self.at()), self.window.view
        steps = QPoint(0, self.random.choice([-120, 120]))
        none = Qt.MouseButton.NoButton
        event = QWheelEvent(
            at, view.mapToGlobal(at), QPoint(), steps, none, NONE, Qt.ScrollPhase.NoScrollPhase, False
        )
        QApplication.sendEvent(view, event)

    def pen(self) -> None:
        x, y = self.at()
        tablet(self.window, QEvent.Type.TabletPress, x, y, self.random.random())
        tablet(self.window, QEvent.Type.TabletMove, x + 9, y, self.random.random())
        tablet(self.window, QEvent.Type.TabletRelease, x + 9, y, 0.1)

    def command(self) -> None:
        self.window.registry.run(self.random.choice(self.commands))

    def tool(self) -> None:
        self.window.registry.run(f"tool.{self.random.choice(list(TOOLS))}")

    def undo(self) -> None:
        self.window.registry.run(self.random.choice(["edit.undo", "edit.undo", "edit.redo"]))

    def escape(self) -> None:
        for panel in (self.window.shortcuts, self.window.setup, self.window.pen, self.window.welcome):
            panel.leave()
        self.window.overview.leave()
        self.window.quick.leave()
        self.window.finder.hide()
        QTest.keyClick(self.window.view, Qt.Key.Key_Escape)

    def frame(self) -> None:
        self.window.registry.run("view.frame-all")

    def tidy(self) -> None:
        """Few parts and milestones: how many there are is not what this is about."""
        project = self.window.studio.project
        while len(project.scene.parts) > 3:
            project.delete(project.scene.parts[-1].id)
        while len(project.scene.milestones) > 3:
            project.delete_milestone(project.scene.milestones[0].id)

    def act(self) -> None:
        choices: list[tuple[Callable[[], None], int]] = [
            (self.stroke, 34), (self.camera, 10), (self.wheel, 6), (self.pen, 6), (self.command, 22),
            (self.tool, 8), (self.undo, 10), (self.escape, 6), (self.frame, 3), (self.tidy, 3),
        ]  # fmt: skip
        (act,) = self.random.choices([c[0] for c in choices], [c[1] for c in choices])
        act()
        # Some follow each other faster than the window can draw.
        if self.random.random() < 0.3:
            QApplication.processEvents()
            # Outside of a running event loop Qt does not delete by itself what is to be deleted later.
            QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


@pytest.mark.long
@pytest.mark.timeout(3000)
def test_random_actions(
    window: Window, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    answer_dialogs(monkeypatch)
    # As small as it gets: software OpenGL draws every one of these pictures.
    small_view(window)
    monkeypatch.setattr(Project, "with_ball", staticmethod(small_project))
    window.studio.take(small_project())
    window.view.set_effects(1)
    hands = Hands(window, 7)
    # By the middle nearly everything has been used once: caches are filled, programs compiled.
    for _ in range(ACTIONS // 2):
        hands.act()
    hands.escape()
    settle(window)
    gc.collect()
    before, kept = resident(), window.studio.project.history.nbytes
    for _ in range(ACTIONS - ACTIONS // 2):
        hands.act()
    hands.escape()
    window.views.stop()
    hands.tidy()
    settle(window)
    gc.collect()
    grown = resident() - before
    allowed = max(window.studio.project.history.nbytes - kept, 0) + ROOM
    assert grown < allowed, f"{grown / 1e6:.0f} MB more, {allowed / 1e6:.0f} allowed"
    assert capfd.readouterr().err == ""
