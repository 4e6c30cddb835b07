"""The frame of the camera that is looked through, over the view: what its picture shows, and where it is safe."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from PySide6.QtCore import QLineF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from kneten.document.things import Shot

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

SAFE = 0.9
"""Share of the picture, each way, that no frame or player cuts off."""


class Seen(Protocol):
    """What the frame needs to know of cameras."""

    @property
    def through(self) -> Shot | None:
        """The camera that is looked through."""

    def widened_by(self, shot: Shot) -> float:
        """How much higher than a camera's the view's picture is now."""

    def is_there(self, shot: Shot) -> bool:
        """Whether the view stands where a camera does."""


class CameraFrame:
    """Painted over the view in the stage Show, as long as the view stands where the camera does.

    Attributes
    ----------
    lines : bool
        Thirds and the safe part are drawn, too.
    """

    def __init__(self, view: Canvas, pictures: Seen) -> None:
        self._view = view
        self._pictures = pictures
        self.lines = False

    def rect(self) -> QRectF | None:
        """Where the camera's picture lies in the pane; None while that is not seen."""
        view, shot = self._view, self._pictures.through
        if shot is None or view.studio.stage != "Show" or not self._pictures.is_there(shot):
            return None
        high = view.high / self._pictures.widened_by(shot)
        wide = high * shot.aspect
        return QRectF((view.wide - wide) / 2, (view.high - high) / 2, wide, high)

    def paint(self, painter: QPainter) -> None:
        """What is outside of the picture darker, its frame, and on demand thirds and what is safe."""
        rect = self.rect()
        if rect is None:
            return
        view = self._view
        outside = QColor(0, 0, 0, 96)
        painter.fillRect(QRectF(0, 0, view.wide, rect.top()), outside)
        painter.fillRect(QRectF(0, rect.bottom(), view.wide, view.high - rect.bottom()), outside)
        painter.fillRect(QRectF(0, rect.top(), rect.left(), rect.height()), outside)
        painter.fillRect(QRectF(rect.right(), rect.top(), view.wide - rect.right(), rect.height()), outside)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(255, 255, 255, 130), 1))
        painter.drawRect(rect)
        if not self.lines:
            return
        painter.setPen(QPen(QColor(255, 255, 255, 70), 1))
        for share in (1 / 3, 2 / 3):
            x, y = rect.left() + share * rect.width(), rect.top() + share * rect.height()
            painter.drawLine(QLineF(x, rect.top(), x, rect.bottom()))
            painter.drawLine(QLineF(rect.left(), y, rect.right(), y))
        painter.setPen(QPen(QColor(255, 255, 255, 110), 1, Qt.PenStyle.DashLine))
        off = (1 - SAFE) / 2
        painter.drawRect(
            rect.adjusted(off * rect.width(), off * rect.height(), -off * rect.width(), -off * rect.height())
        )
