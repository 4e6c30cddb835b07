"""Drag a frame over the clay; what is in it is made something of."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter

from kneten.app.view.canvas import Canvas
from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode, label, line
from kneten.core.arrays import F64
from kneten.document.scene import Part

LEAST = 8.0
"""Pixels of a frame's sides, at least."""


@dataclass(frozen=True)
class Frame:
    """A frame in the scene, square to the picture.

    Attributes
    ----------
    middle : (3,) float64
    axes : (3, 3) float64
        Its right, its top, and the way to the eye.
    size : two floats
        Millimetres.
    part : Part
        The one under its middle.
    """

    middle: F64
    axes: F64
    size: tuple[float, float]
    part: Part


class FrameMode(Mode):
    """Drags one frame, and is left."""

    key = "press.from-view"
    hint = "Drag a frame over the clay · Shift keeps it square · Esc leaves"

    def __init__(self, view: Canvas, key: str, taken: Callable[[Frame], object]) -> None:
        super().__init__(view)
        self.key = key
        self._taken = taken
        self._box: tuple[float, float, float, float] | None = None

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        """Drag the frame."""
        return self._drag(press, bool(keys & Qt.KeyboardModifier.ShiftModifier))

    def _drag(self, press: Pointer, square: bool) -> Hand:
        try:
            while True:
                event = yield None
                if event is None:
                    continue
                if event.kind == "cancel":
                    return
                dx, dy = event.x - press.x, event.y - press.y
                if square:
                    side = max(abs(dx), abs(dy))
                    dx, dy = float(np.copysign(side, dx)), float(np.copysign(side, dy))
                left, right = sorted((press.x, press.x + dx))
                top, low = sorted((press.y, press.y + dy))
                self._box = (left, top, right, low)
                self.view.repaint_over()
                if event.kind == "release":
                    break
            frame = self.frame(left, top, right, low)
        finally:
            self._box = None
            self.view.repaint_over()
        if frame is not None:
            self.view.end_mode()
            self._taken(frame)

    def frame(self, left: float, top: float, right: float, low: float) -> Frame | None:
        """The frame of some pixels; None, and a word, where there is no clay or it is too small."""
        if right - left < LEAST or low - top < LEAST:
            self.studio.say(
                "The frame is too small: drag it over the piece of clay that is meant.", "warning"
            )
            return None
        x, y = 0.5 * (left + right), 0.5 * (top + low)
        spots = [(x, y)]
        spots += [
            (left + a * (right - left), top + b * (low - top))
            for a in (0.3, 0.7, 0.1, 0.9)
            for b in (0.3, 0.7, 0.1, 0.9)
        ]
        for px, py in spots:
            found = self.view.part_at(px, py)
            if found is not None:
                break
        else:
            self.studio.say("There is no clay in the frame.", "warning")
            return None
        at = found[1]
        middle = self.on_plane(x, y, at)
        pixel = self.view.camera.pixel_size(at, self.view.high)
        size = ((right - left) * pixel, (low - top) * pixel)
        return Frame(middle, self.view.camera.axes(), size, found[0])

    def paint(self, painter: QPainter) -> None:
        if self._box is None:
            return
        left, top, right, low = self._box
        corners = np.array([[left, top], [right, top], [right, low], [left, low], [left, top]])
        line(painter, corners, QColor(self.view.ring_colour), 1.6, True)
        label(
            painter,
            self.view,
            QRectF(left, top, right - left, low - top).bottomRight(),
            self._words(left, top, right, low),
        )

    def _words(self, left: float, top: float, right: float, low: float) -> str:
        return f"{right - left:.0f} x {low - top:.0f} px"
