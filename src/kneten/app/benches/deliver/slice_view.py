"""A layer of a print as it will be laid, drawn on the card."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF, QWheelEvent
from PySide6.QtWidgets import QWidget

from kneten.core.arrays import F64


class SliceView(QWidget):
    """The outlines of one layer, filled, seen from above; the wheel goes through them."""

    stepped = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(132)
        self.setAccessibleName("Layer of the print")
        self.setToolTip("What the printer lays in this layer, seen from above; the wheel goes up and down")
        self._loops: list[F64] = []
        self._room = (np.zeros(2), np.ones(2))

    def show_loops(self, loops: Sequence[F64], low: F64, high: F64) -> None:
        """Draw outlines (k, 2) within a box that stays the same from layer to layer."""
        self._loops, self._room = list(loops), (low, high)
        self.update()

    def wheelEvent(self, event: QWheelEvent) -> None:  # noqa: N802
        self.stepped.emit(1 if event.angleDelta().y() > 0 else -1)
        event.accept()

    def paintEvent(self, _: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        palette = self.palette()
        painter.fillRect(self.rect(), palette.base())
        low, high = self._room
        size = np.maximum(high - low, 1e-9)
        room = QRectF(self.rect()).adjusted(8, 8, -8, -8)
        scale = min(room.width() / size[0], room.height() / size[1])
        middle = (low + high) / 2
        path = QPainterPath()
        path.setFillRule(Qt.FillRule.OddEvenFill)
        for loop in self._loops:
            flat = (loop - middle) * scale
            path.addPolygon(
                QPolygonF([QPointF(room.center().x() + x, room.center().y() + y) for x, y in flat.tolist()])
            )
            path.closeSubpath()
        painter.setPen(QPen(palette.text().color(), 1.0))
        painter.setBrush(palette.mid())
        painter.drawPath(path)
