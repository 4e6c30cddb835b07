"""Fitting a held picture: dragged, turned, sized and bent by its points."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter

from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode, dot, line
from kneten.core.arrays import F64
from kneten.core.paint.held import HeldPicture, found_on, places_of

if TYPE_CHECKING:
    from kneten.app.benches.colour.held import PictureHolder
    from kneten.app.view.canvas import Canvas

GRIP = 12.0
"""Pixels around a point that count as on it."""

EDGE = 13
"""Places along each side of the outline that is drawn."""


class HoldMode(Mode):
    """A held picture follows the pointer; its nine points bend it."""

    key = "held.fit"
    hint = (
        "Drag the picture to move it, its points to bend it · Shift turns and sizes it · beside it the clay turns · "
        "Esc leaves"
    )

    def __init__(self, view: Canvas, pictures: PictureHolder) -> None:
        super().__init__(view)
        self.pictures = pictures

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        held = self.pictures.chosen
        if held is None or not held.shown:
            return None
        turns = bool(keys & Qt.KeyboardModifier.ShiftModifier)
        points = self.pictures.to_pixels(np.array(held.net))
        far = np.hypot(points[:, 0] - press.x, points[:, 1] - press.y)
        nearest = int(np.argmin(far))
        if far[nearest] <= GRIP and not turns:
            return self._drag(held, press, lambda event: held.with_point(nearest, self._place(event)))
        start = np.array(self._place(press))
        if not turns and not found_on(held.net, start[None])[1][0]:
            return None
        if turns:
            return self._drag(
                held, press, lambda event: self._turned(held, start, np.array(self._place(event)))
            )
        return self._drag(
            held, press, lambda event: held.moved(np.c_[np.eye(2), np.array(self._place(event)) - start])
        )

    def _place(self, event: Pointer) -> tuple[float, float]:
        return self.pictures.to_view(event.x, event.y)

    @staticmethod
    def _turned(held: HeldPicture, start: F64, at: F64) -> HeldPicture:
        """Turned and sized about its middle, so that what was under the pointer still is."""
        middle = np.array(held.net)[4]
        a, b = start - middle, at - middle
        size = float(a @ a)
        if size < 1e-8 or float(b @ b) < 1e-8:
            return held
        c, s = float(a @ b) / size, float(a[0] * b[1] - a[1] * b[0]) / size
        turn = np.array([[c, -s], [s, c]])
        return held.moved(np.c_[turn, middle - turn @ middle])

    def _drag(self, held: HeldPicture, press: Pointer, moved: object) -> Hand:
        now = held
        assert callable(moved)
        while True:
            event = yield None
            if event is None or event.kind == "cancel":
                self._show(None)
                return
            now = moved(event)
            if event.kind == "release":
                break
            self._show(now)
        self._show(None)
        if now != held:
            self.pictures.change("Fit", net=now.net)

    def _show(self, trial: HeldPicture | None) -> None:
        self.pictures.trial = trial
        self.view.repaint_over()

    def paint(self, painter: QPainter) -> None:
        """Its outline and its points."""
        held = self.pictures.trial or self.pictures.chosen
        if held is None or not held.shown:
            return
        t = np.linspace(0, 1, EDGE)
        zero, one = np.zeros(EDGE), np.ones(EDGE)
        for u, v in ((t, zero), (one, t), (t, one), (zero, t)):
            edge = self.pictures.to_pixels(places_of(held.net, np.stack([u, v], axis=1)))
            line(painter, edge, self.view.ring_colour, 1.2)
        for index, at in enumerate(self.pictures.to_pixels(np.array(held.net))):
            dot(painter, at, self.view.ring_colour, 4.5, filled=index % 2 == 0)
