"""Handles on a part in the view: move, turn and scale it by dragging."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from kneten.app.hands import Hand, Pointer
from kneten.core.arrays import F64
from kneten.core.transform import Transform
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.viewport import Viewport

LENGTH = 86.0
"""Pixels from the pivot to a handle's end."""

REACH = 9.0
"""Pixels around a handle that count as on it."""

AXIS_COLOURS = ("#d9705f", "#8fb35c", "#6f9fd8")
"""Red, green, blue for x, y, z, in the warmth of the rest."""


class Handles:
    """Draws the handles of the part in hand and tells which one a pixel is on.

    Attributes
    ----------
    mode : str
        move, turn, scale, or empty while sculpting.
    hot : int
        The handle under the cursor: 0, 1, 2 for an axis, 3 for the middle, -1 for none.
    """

    def __init__(self, view: Viewport) -> None:
        self._view = view
        self.mode = ""
        self.hot = -1

    def _axes(self, part: Part) -> F64:
        """Directions of the handles: scaling goes along the part's own axes."""
        return part.transform.rotation().T if self.mode == "scale" else np.eye(3)

    def _pivot(self, part: Part) -> F64:
        return np.array(part.transform.place)

    def _size(self, part: Part) -> float:
        view = self._view
        return LENGTH * view.camera.pixel_size(self._pivot(part), view.high)

    def _ends(self, part: Part) -> F64:
        pivot = self._pivot(part)
        return pivot + self._axes(part) * self._size(part)

    def _ring(self, part: Part, axis: int) -> F64:
        axes = self._axes(part)
        a, b = axes[(axis + 1) % 3], axes[(axis + 2) % 3]
        t = np.linspace(0, 2 * np.pi, 65)[:, None]
        return self._pivot(part) + (np.cos(t) * a + np.sin(t) * b) * self._size(part)

    def _pixels(self, points: F64) -> F64:
        view = self._view
        return view.camera.project(points, view.wide, view.high)[:, :2]

    def under(self, part: Part, x: float, y: float) -> int:
        """The handle at a pixel, or -1."""
        at = np.array([x, y])
        middle = self._pixels(self._pivot(part)[None])[0]
        if self.mode != "turn" and np.hypot(*(middle - at)) < REACH + 3:
            return 3
        best, found = REACH, -1
        for axis in range(3):
            line = (
                self._pixels(self._ring(part, axis))
                if self.mode == "turn"
                else np.array([middle, self._pixels(self._ends(part))[axis]])
            )
            far = _distance(line, at)
            if far < best:
                best, found = far, axis
        return found

    def paint(self, painter: QPainter, part: Part) -> None:
        """Draw the handles."""
        middle = QPointF(*self._pixels(self._pivot(part)[None])[0])
        ends = self._pixels(self._ends(part))
        for axis in range(3):
            colour = QColor(AXIS_COLOURS[axis])
            if axis == self.hot:
                colour = colour.lighter(135)
            pen = QPen(colour, 3.0 if axis == self.hot else 2.0)
            pen.setCapStyle(Qt.PenCapStyle.RoundCap)
            painter.setPen(pen)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            if self.mode == "turn":
                ring = self._pixels(self._ring(part, axis))
                painter.drawPolyline(QPolygonF([QPointF(*p) for p in ring]))
                continue
            end = QPointF(*ends[axis])
            painter.drawLine(middle, end)
            painter.setBrush(colour)
            painter.setPen(Qt.PenStyle.NoPen)
            if self.mode == "move":
                way = end - middle
                length = max(float(np.hypot(way.x(), way.y())), 1e-6)
                way /= length
                side = QPointF(-way.y(), way.x())
                tip = [end + way * 9, end + side * 4.5, end - side * 4.5]
                painter.drawPolygon(QPolygonF(tip))
            else:
                painter.drawEllipse(end, 5.0, 5.0)
        if self.mode != "turn":
            colour = QColor("#ece5db" if self.hot != 3 else "#ffffff")
            painter.setPen(QPen(QColor(0, 0, 0, 120), 1))
            painter.setBrush(colour)
            painter.drawEllipse(middle, 5.5, 5.5)

    def drag(self, part: Part, handle: int, press: Pointer) -> Hand:
        """Follow the pointer with the part; one undo step at the release."""
        view = self._view
        project = view.studio.project
        change = Transform()
        factors = (1.0, 1.0, 1.0)
        for event, result in self._changes(part, handle, press):
            change, factors = result
            if event is None:
                view.preview = (part.id, change)
                view.moved()
                event = yield None
                if event is None or event.kind == "cancel":
                    view.preview = None
                    view.refresh()
                    return
                self._event = event
        view.preview = None
        if max(factors) - min(factors) > 1e-9:
            project.resize(part.id, factors)
        else:
            project.place(part.id, change, self.mode.capitalize())
        view.refresh()

    def _changes(
        self, part: Part, handle: int, press: Pointer
    ) -> Iterator[tuple[Pointer | None, tuple[Transform, tuple[float, float, float]]]]:
        """For each event, the part's new place and the uneven factors of its size."""
        view = self._view
        start = part.transform
        pivot = self._pivot(part)
        axes = self._axes(part)
        camera = view.camera
        middle = self._pixels(pivot[None])[0]
        size = camera.pixel_size(pivot, view.high)
        self._event = press
        result = (start, (1.0, 1.0, 1.0))
        while True:
            event = self._event
            dx, dy = event.x - press.x, event.y - press.y
            if self.mode == "move":
                if handle == 3:
                    eye = camera.axes()
                    way = (eye[0] * dx - eye[1] * dy) * size
                else:
                    way = axes[handle] * self._along(pivot, axes[handle], event, press)
                result = (start.moved(way), (1.0, 1.0, 1.0))
            elif self.mode == "turn":
                a = np.array([press.x, press.y]) - middle
                b = np.array([event.x, event.y]) - middle
                angle = np.degrees(np.arctan2(a[0] * b[1] - a[1] * b[0], a @ b))
                towards = float(axes[handle] @ camera.axes()[2])
                angle = -angle if towards >= 0 else angle
                result = (start.turned_about(axes[handle], float(angle), pivot), (1.0, 1.0, 1.0))
            elif handle == 3:
                factor = float(np.exp((dx - dy) * 0.006))
                result = (start.scaled_about(factor, pivot), (1.0, 1.0, 1.0))
            else:
                way = self._along(pivot, axes[handle], event, press)
                factor = max(1.0 + way / (LENGTH * size), 0.02)
                factors = [1.0, 1.0, 1.0]
                factors[handle] = factor
                result = (start, (factors[0], factors[1], factors[2]))
            if event.kind == "release":
                yield event, result
                return
            yield None, result

    def _along(self, pivot: F64, axis: F64, event: Pointer, press: Pointer) -> float:
        """How far a drag goes along an axis of the scene."""
        ends = self._pixels(np.array([pivot, pivot + axis]))
        way = ends[1] - ends[0]
        length2 = float(way @ way)
        if length2 < 1e-12:
            return 0.0
        return float(np.array([event.x - press.x, event.y - press.y]) @ way) / length2


def _distance(line: F64, at: F64) -> float:
    """Distance from a point to a polyline."""
    a, b = line[:-1], line[1:]
    way = b - a
    t = np.clip(((at - a) * way).sum(1) / np.maximum((way * way).sum(1), 1e-9), 0, 1)
    return float(np.linalg.norm(a + way * t[:, None] - at, axis=1).min())
