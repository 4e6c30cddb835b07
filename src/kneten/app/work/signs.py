"""Small drawn signs of rows, and their names."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QPushButton, QSizePolicy, QToolButton


class Sign(QToolButton):
    """A drawn sign: whether strokes go to a layer (a lump on the ground), whether it is shown (an eye)."""

    def __init__(self, kind: str, on: bool, colour: str) -> None:
        super().__init__()
        self._kind, self._on, self._colour = kind, on, QColor(colour)
        self.setFixedSize(26, 26)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.underMouse() or self.hasFocus():
            painter.setPen(QPen(self.palette().mid().color(), 1))
            painter.drawRoundedRect(QRectF(1, 1, 24, 24), 5, 5)
        painter.setPen(QPen(self._colour, 1.6, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
        path = QPainterPath(QPointF(5, 17))
        if self._kind == "record":
            # A layer laid over the ground: filled while it takes strokes.
            path.cubicTo(QPointF(9, 17), QPointF(8, 8), QPointF(13, 8))
            path.cubicTo(QPointF(18, 8), QPointF(17, 17), QPointF(21, 17))
            if self._on:
                painter.setBrush(self._colour)
            painter.drawPath(path)
            painter.drawLine(QPointF(4, 19.5), QPointF(22, 19.5))
            return
        path = QPainterPath(QPointF(5, 13))
        path.quadTo(QPointF(13, 5.5 if self._on else 13), QPointF(21, 13))
        path.quadTo(QPointF(13, 20.5), QPointF(5, 13))
        painter.drawPath(path)
        if self._on:
            painter.setBrush(self._colour)
            painter.drawEllipse(QPointF(13, 13), 2, 2)


class NameButton(QPushButton):
    """A name to press on that gives way where there is no room: cut short with dots."""

    def __init__(self, name: str) -> None:
        super().__init__(name)
        self._whole = name
        self.setFlat(True)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        room = self.width() - 6
        self.setText(self.fontMetrics().elidedText(self._whole, Qt.TextElideMode.ElideRight, room))
        super().resizeEvent(event)
