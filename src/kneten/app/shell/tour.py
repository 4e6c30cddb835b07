"""The tour: seven things, each of which is really done before the next is told."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QProgressBar, QPushButton, QVBoxLayout

if TYPE_CHECKING:
    from kneten.app.shell.frame import Frame


@dataclass(frozen=True)
class Step:
    """What is told, and how one sees that it was done."""

    text: str
    begin: Callable[[Frame], object]
    done: Callable[[Frame, Any], bool]


def _strokes(w: Frame) -> int:
    return len(w.studio.project.history.names()[0])


STEPS = (
    Step(
        "Turn the clay: drag beside it, or anywhere with the right mouse button.",
        lambda w: w.studio.project.settings.camera,
        lambda w, before: bool(
            (w.studio.project.settings.camera.yaw, w.studio.project.settings.camera.pitch)
            != (before.yaw, before.pitch)
        ),
    ),
    Step(
        "Go nearer: turn the wheel over the place you want to see.",
        lambda w: w.studio.project.settings.camera.distance,
        lambda w, before: w.studio.project.settings.camera.distance != before,
    ),
    Step(
        "Raise is in your hand. Drag on the clay.",
        lambda w: (w.registry.run("tool.raise"), _strokes(w))[1],
        lambda w, before: _strokes(w) > before,
    ),
    Step(
        "Now hold Ctrl while you drag: the tool does the opposite.",
        lambda w: _strokes(w),
        lambda w, before: _strokes(w) > before and "reversed" in w.studio.project.history.names()[0][-1],
    ),
    Step(
        "Hold E and drag on the canvas: sideways changes the size, upwards the strength.",
        lambda w: (w.studio.settings().size, w.studio.settings().strength),
        lambda w, before: (w.studio.settings().size, w.studio.settings().strength) != before,
    ),
    Step(
        "Hold Shift and drag: it smooths, whatever tool you hold.",
        lambda w: _strokes(w),
        lambda w, before: (
            _strokes(w) > before and w.studio.project.history.names()[0][-1].startswith("Smooth")
        ),
    ),
    Step(
        "Keep this state: press Ctrl+M. It is kept as a picture in the bar below, to compare with and to go back to.",
        lambda w: len(w.studio.project.scene.milestones),
        lambda w, before: len(w.studio.project.scene.milestones) > before,
    ),
    Step(
        "Anything else: press Ctrl+K and type what you want to do. Then press Enter or Esc.",
        lambda w: False,
        lambda w, before: w.finder.isVisible(),
    ),
)


class Tour(QObject):
    """Runs through the steps; it may be left at any time.

    Attributes
    ----------
    at : int
        The present step; -1 while there is no tour.
    """

    def __init__(self, window: Frame) -> None:
        super().__init__(window)
        self._window = window
        self.at = -1
        self._before: object = None
        self.card = QFrame(window)
        self.card.setObjectName("notice")
        self.card.setAccessibleName("Tour")
        column = QVBoxLayout(self.card)
        column.setContentsMargins(16, 12, 16, 12)
        self.label = QLabel()
        self.label.setWordWrap(True)
        column.addWidget(self.label)
        row = QHBoxLayout()
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setRange(0, len(STEPS))
        self.bar.setAccessibleName("Steps done")
        row.addWidget(self.bar, 1)
        for name, tip, run in (
            ("Skip", "Goes on to the next step", self.next),
            ("End tour", "Ends the tour", self.end),
        ):
            button = QPushButton(name)
            button.setAccessibleName(name)
            button.setToolTip(tip)
            button.clicked.connect(run)
            row.addWidget(button)
        column.addLayout(row)
        self.card.hide()
        self._watch = QTimer(self)
        self._watch.setInterval(150)
        self._watch.timeout.connect(self.look)

    def start(self) -> None:
        """Begin."""
        self.at = -1
        self._watch.start()
        self.next()

    def next(self) -> None:
        """Tell the next step."""
        self.at += 1
        if self.at >= len(STEPS):
            self.end()
            self._window.studio.say(
                "That was the tour. Every control tells what it does when you rest on it."
            )
            return
        self._before = STEPS[self.at].begin(self._window)
        self.label.setText(f"{self.at + 1} of {len(STEPS)}   {STEPS[self.at].text}")
        self.bar.setValue(self.at)
        window = self._window
        self.card.setFixedWidth(min(460, window.view.width() - 40))
        self.card.adjustSize()
        place = window.view.mapTo(window, window.view.rect().center())
        bottom = window.view.mapTo(window, window.view.rect().bottomLeft()).y()
        self.card.move(place.x() - self.card.width() // 2, bottom - self.card.height() - 24)
        self.card.show()
        self.card.raise_()

    def look(self) -> None:
        """Go on when the step was done and the hand is free."""
        if self.at < 0 or self._window.view.at_work:
            return
        if STEPS[self.at].done(self._window, self._before):
            self.next()

    def end(self) -> None:
        """Leave the tour."""
        self.at = -1
        self._watch.stop()
        self.card.hide()
        self._window.studio.preferences.welcomed = True
