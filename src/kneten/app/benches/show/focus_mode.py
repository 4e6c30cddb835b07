"""What is sharp in a picture, by a click on it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode

if TYPE_CHECKING:
    from kneten.app.benches.show.pictures import Pictures
    from kneten.app.view.canvas import Canvas


class FocusMode(Mode):
    """A press on the clay makes what is there sharp; dragging shows it go along."""

    key = "finish.focus"
    hint = "Click on what is to be sharp, or drag to see it go along · Esc leaves"

    def __init__(self, view: Canvas, pictures: Pictures) -> None:
        super().__init__(view)
        self._pictures = pictures
        self._at: tuple[float, float, float] | None = None

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        """A press on clay; beside it the camera is turned."""
        return self._follow(press) if self.view.part_at(press.x, press.y) is not None else None

    def _follow(self, press: Pointer) -> Hand:
        event: Pointer | None = press
        while event is not None and event.kind not in ("release", "cancel"):
            found = self.view.part_at(event.x, event.y)
            if found is not None:
                x, y, z = (float(v) for v in found[1])
                self._at = (x, y, z)
                self._pictures.dial_finish(blurs=True, focus=self._at)
            event = yield None
        if event is None or event.kind == "cancel" or self._at is None:
            self._pictures.show_again()
            return
        self._pictures.change_finish(blurs=True, focus=self._at)

    def paint(self, painter: QPainter) -> None:
        """A cross at what is sharp."""
        finish = self._pictures.finish
        if not finish.blurs and self._at is None:
            return
        import numpy as np

        x, y = self.pixels(np.array([self._at or finish.focus]))[0]
        for colour, width in ((QColor(0, 0, 0, 150), 3.0), (self.view.ring_colour, 1.5)):
            painter.setPen(QPen(colour, width))
            for dx, dy in ((1, 0), (-1, 0), (0, 1), (0, -1)):
                painter.drawLine(QPointF(x + 4 * dx, y + 4 * dy), QPointF(x + 11 * dx, y + 11 * dy))
