"""Small drawing boards in the card: a strand's profile and a lathe's curve."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from kneten.core.arrays import F64
from kneten.core.live.curves import catmull_rom
from kneten.core.live.lathe import Lathe, LathePoint

NEAR = 11.0


class DrawingField(QWidget):
    """Points on a board: drag them, click the line to add one, Delete takes one out.

    Signals
    -------
    changed(list)
        The new points, while dragging.
    settled(list)
        Once a change is complete.
    """

    changed = Signal(object)
    settled = Signal(object)
    least = 3

    def __init__(self, name: str, tip: str, height: int) -> None:
        super().__init__()
        self.points: list[tuple[float, float]] = []
        self._held = -1
        self._moved = False
        self.setAccessibleName(name)
        self.setToolTip(tip)
        self.setFixedHeight(height)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(200, self.height())

    def set_points(self, points: Sequence[tuple[float, float]]) -> None:
        """Show other points without telling anyone."""
        if not self._moved:
            self.points = [(float(x), float(y)) for x, y in points]
            self._held = min(self._held, len(self.points) - 1)
            self.update()

    def place(self, point: tuple[float, float]) -> QPointF:
        """Where a point is on the board."""
        raise NotImplementedError

    def unit(self, at: QPointF) -> tuple[float, float]:
        """The point at a place of the board."""
        raise NotImplementedError

    def curve(self) -> F64:
        """The line through the points, as drawn."""
        raise NotImplementedError

    def _nearest(self, at: QPointF) -> int:
        far = [(self.place(p) - at) for p in self.points]
        long = [np.hypot(w.x(), w.y()) for w in far]
        best = int(np.argmin(long)) if long else -1
        return best if best >= 0 and long[best] < NEAR else -1

    def _span(self, at: QPointF) -> int:
        """The point after which a new one at a place goes."""
        closed = self.least == 3
        best, found = np.inf, 0
        count = len(self.points) if closed else len(self.points) - 1
        for i in range(count):
            a, b = self.place(self.points[i]), self.place(self.points[(i + 1) % len(self.points)])
            way = b - a
            long = way.x() ** 2 + way.y() ** 2
            t = ((at.x() - a.x()) * way.x() + (at.y() - a.y()) * way.y()) / long if long > 0 else 0.0
            spot = a + way * min(max(t, 0.0), 1.0)
            off = np.hypot(spot.x() - at.x(), spot.y() - at.y())
            if off < best:
                best, found = off, i
        return found

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self._held = self._nearest(event.position())
        self._moved = False
        if self._held < 0 and len(self.points) < 40:
            at = self._span(event.position())
            self.inserted(at + 1, self.unit(event.position()))
            self._held = at + 1
            self._moved = True
        self.update()

    def inserted(self, at: int, point: tuple[float, float]) -> None:
        """A new point has come in at a place of the row."""
        self.points.insert(at, point)
        self.changed.emit(list(self.points))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._held >= 0 and event.buttons():
            self.points[self._held] = self.unit(event.position())
            self._moved = True
            self.update()
            self.changed.emit(list(self.points))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if self._moved:
            self._moved = False
            self.settled.emit(list(self.points))

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        steps = {
            Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1),
        }  # fmt: skip
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.remove()
        elif event.key() in steps and 0 <= self._held < len(self.points):
            way = QPointF(*steps[Qt.Key(event.key())]) * 2
            self.points[self._held] = self.unit(self.place(self.points[self._held]) + way)
            self.update()
            self.settled.emit(list(self.points))
        elif event.key() == Qt.Key.Key_Space and self.points:
            self._held = (self._held + 1) % len(self.points)
            self.update()
        else:
            super().keyPressEvent(event)

    def remove(self) -> None:
        """Take the point out that was touched last."""
        if 0 <= self._held < len(self.points) and len(self.points) > self.least:
            self.removed(self._held)
            self._held = -1
            self.update()
            self.settled.emit(list(self.points))

    def removed(self, at: int) -> None:
        """A point goes."""
        self.points.pop(at)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        palette = self.palette()
        rim = palette.highlight().color() if self.hasFocus() else palette.mid().color()
        painter.setPen(QPen(rim, 1))
        painter.setBrush(palette.base())
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 6, 6)
        self.paint_ground(painter)
        accent = palette.highlight().color()
        shape = QPolygonF([self.place((float(x), float(y))) for x, y in self.curve()])
        fill = QColor(accent)
        fill.setAlpha(40)
        painter.setPen(QPen(accent, 1.8))
        painter.setBrush(fill)
        self.paint_curve(painter, shape)
        for i, point in enumerate(self.points):
            painter.setPen(QPen(accent, 1.4))
            painter.setBrush(accent if i == self._held else palette.base())
            self.paint_point(painter, i, self.place(point))

    def paint_ground(self, painter: QPainter) -> None:
        """What lies under the curve."""

    def paint_curve(self, painter: QPainter, shape: QPolygonF) -> None:
        """The curve itself."""
        painter.drawPolygon(shape)

    def paint_point(self, painter: QPainter, index: int, at: QPointF) -> None:
        """One point."""
        painter.drawEllipse(at, 4, 4)


class ProfileField(DrawingField):
    """A strand's cross-section: 1 is the strand's thickness."""

    REACH = 1.35

    def _scale(self) -> float:
        return (min(self.width(), self.height()) - 12) / (2 * self.REACH)

    def place(self, point: tuple[float, float]) -> QPointF:
        middle = QRectF(self.rect()).center()
        return middle + QPointF(point[0], -point[1]) * self._scale()

    def unit(self, at: QPointF) -> tuple[float, float]:
        way = (at - QRectF(self.rect()).center()) / self._scale()
        return float(np.clip(way.x(), -self.REACH, self.REACH)), float(
            np.clip(-way.y(), -self.REACH, self.REACH)
        )

    def curve(self) -> F64:
        return catmull_rom(np.array(self.points), True, 10)

    def paint_ground(self, painter: QPainter) -> None:
        pen = QPen(self.palette().mid().color(), 1)
        pen.setDashPattern([2, 3])
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(QRectF(self.rect()).center(), self._scale(), self._scale())


class LatheField(DrawingField):
    """A lathe's curve beside its axis; a double click makes a point sharp or smooth."""

    least = 2

    def __init__(self, name: str, tip: str, height: int) -> None:
        super().__init__(name, tip, height)
        self.sharp: list[bool] = []
        self._box = (0.0, -50.0, 50.0, 50.0)

    def set_lathe(self, lathe: Lathe) -> None:
        """Show a lathe's curve."""
        if self._moved:
            return
        self.sharp = [p.sharp for p in lathe.points]
        wide = max(p.radius for p in lathe.points)
        low = min(p.height for p in lathe.points)
        high = max(p.height for p in lathe.points)
        size = max(wide * 1.25, (high - low) * 0.6, 1.0)
        middle = (low + high) / 2
        self._box = (0.0, middle - max(high - low, size) * 0.62, size, middle + max(high - low, size) * 0.62)
        self.set_points([(p.radius, p.height) for p in lathe.points])

    def lathe_points(self) -> tuple[LathePoint, ...]:
        """The points as a lathe has them."""
        return tuple(LathePoint(x, y, s) for (x, y), s in zip(self.points, self.sharp, strict=True))

    def _scale(self) -> float:
        _, low, wide, high = self._box
        return min((self.width() - 28) / wide, (self.height() - 14) / (high - low))

    def place(self, point: tuple[float, float]) -> QPointF:
        _, low, _, high = self._box
        middle = (low + high) / 2
        return QPointF(18 + point[0] * self._scale(), self.height() / 2 - (point[1] - middle) * self._scale())

    def unit(self, at: QPointF) -> tuple[float, float]:
        _, low, _, high = self._box
        x = max((at.x() - 18) / self._scale(), 0.0)
        # Near the axis a point snaps onto it.
        if at.x() - 18 < 6:
            x = 0.0
        return float(x), float((self.height() / 2 - at.y()) / self._scale() + (low + high) / 2)

    def curve(self) -> F64:
        return replace(Lathe(), points=self.lathe_points(), spans=10).curve()

    def inserted(self, at: int, point: tuple[float, float]) -> None:
        self.sharp.insert(at, False)
        super().inserted(at, point)

    def removed(self, at: int) -> None:
        self.sharp.pop(at)
        super().removed(at)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        at = self._nearest(event.position())
        if at >= 0:
            self.sharp[at] = not self.sharp[at]
            self._held = at
            self.update()
            self.settled.emit(list(self.points))

    def paint_ground(self, painter: QPainter) -> None:
        pen = QPen(self.palette().mid().color(), 1)
        pen.setDashPattern([3, 3])
        painter.setPen(pen)
        painter.drawLine(QPointF(18, 6), QPointF(18, self.height() - 6))

    def paint_curve(self, painter: QPainter, shape: QPolygonF) -> None:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(shape)

    def paint_point(self, painter: QPainter, index: int, at: QPointF) -> None:
        if self.sharp[index]:
            painter.drawPolygon(
                QPolygonF(
                    [at + QPointF(0, -5.5), at + QPointF(5.5, 0), at + QPointF(0, 5.5), at + QPointF(-5.5, 0)]
                )
            )
        else:
            painter.drawEllipse(at, 4, 4)
