"""Holes drilled into hollow clay by a press."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode
from kneten.core.picking import pick

if TYPE_CHECKING:
    from kneten.app.benches.deliver.printing import Printing
    from kneten.app.view.canvas import Canvas


class DrainMode(Mode):
    """A press drills straight in."""

    key = "print.drain"
    hint = "Press where a hole is to be; dragging moves it · its size stands on the card Print parts · Esc leaves"

    def __init__(self, view: Canvas, printing: Printing) -> None:
        super().__init__(view)
        self._printing = printing
        self._at: tuple[float, float, float] | None = None

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        """A press on the part in hand; beside it the camera is turned."""
        if self._printing.no_solid() or self._under(press) is None:
            return None
        return self._drill(press)

    def _under(self, event: Pointer) -> tuple[np.ndarray, np.ndarray] | None:
        """What lies under the pointer: a place and the way in, (3,) each, in the part's own space."""
        part = self.studio.project.active
        if part is None:
            return None
        view = self.view
        origin, way = view.camera.ray(event.x, event.y, view.wide, view.high)
        hit = pick(part.mesh, part.transform.to_part(origin[None])[0], part.transform.way_to_part(way))
        if hit is None:
            return None
        return np.asarray(hit.point, np.float64), -np.asarray(hit.normal, np.float64)

    def _drill(self, press: Pointer) -> Hand:
        event: Pointer | None = press
        found = self._under(press)
        while event is not None and event.kind not in ("release", "cancel"):
            under = self._under(event)
            if under is not None:
                found = under
                part = self.studio.project.active
                assert part is not None
                x, y, z = part.transform.to_scene(found[0][None])[0].tolist()
                self._at = (x, y, z)
                self.view.update()
            event = yield None
        self._at = None
        if event is not None and event.kind == "release" and found is not None:
            self._printing.drain([found])

    def paint(self, painter: QPainter) -> None:
        """A circle where the hole would be."""
        if self._at is None:
            return
        x, y = self.pixels(np.array([self._at]))[0]
        for colour, width in ((QColor(0, 0, 0, 150), 3.0), (self.view.ring_colour, 1.5)):
            painter.setPen(QPen(colour, width))
            painter.drawEllipse(QPointF(x, y), 8.0, 8.0)
            painter.drawLine(QPointF(x - 12, y), QPointF(x + 12, y))
            painter.drawLine(QPointF(x, y - 12), QPointF(x, y + 12))
