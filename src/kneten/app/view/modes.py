"""What the pointer does in the viewport when it is not sculpting: one class for each way of working.

A mode gets the presses that fall on clay or beside it, paints what it needs over the picture, and is left
with Escape. Turning, panning and zooming work in all of them.
"""

from __future__ import annotations

from collections.abc import Callable, Generator
from typing import TYPE_CHECKING, TypeVar

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from kneten.app.view.hands import Hand, Pointer
from kneten.core.arrays import F64

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

REACH = 11.0
"""Pixels around a point that count as on it."""


class Mode:
    """A way of working in the view.

    Attributes
    ----------
    key : str
        The command that begins it.
    hint : str
        What to do, in one line, shown below the picture.
    """

    key = ""
    hint = ""

    def __init__(self, view: Canvas) -> None:
        self.view = view
        self.studio = view.studio

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        """The hand for a press; None turns the camera."""
        return None

    def double(self, x: float, y: float) -> None:
        """A double click."""

    def hover(self, x: float, y: float) -> bool:
        """The pointer moves without being pressed; whether something is to be painted anew."""
        return False

    def pressed_key(self, key: int) -> bool:
        """A key; whether it was taken."""
        return False

    def paint(self, painter: QPainter) -> None:
        """Paint over the picture, in pixels of the pane."""

    def leave(self) -> None:
        """The mode ends; nothing of it stays behind."""

    # -- for heirs ------------------------------------------------------------------------------

    def pixels(self, points: F64) -> F64:
        """Where points (k, 3) of the scene are in the pane, (k, 2)."""
        return self.view.camera.project(points, self.view.wide, self.view.high)[:, :2]

    def near(self, points: F64, x: float, y: float, reach: float = REACH) -> int:
        """The index of the point of the scene under a pixel, the nearest to the camera first; or -1."""
        if len(points) == 0:
            return -1
        at = self.view.camera.project(points, self.view.wide, self.view.high)
        far = np.hypot(at[:, 0] - x, at[:, 1] - y)
        hit = np.flatnonzero(far < reach)
        return -1 if len(hit) == 0 else int(hit[np.argmin(far[hit])])

    def on_plane(self, x: float, y: float, through: F64) -> F64:
        """The place under a pixel on the plane of the picture through a point."""
        view = self.view
        origin, way = view.camera.ray(x, y, view.wide, view.high)
        back = view.camera.axes()[2]
        return origin + way * float((through - origin) @ back / (way @ back))


def nothing() -> Hand:
    """Swallow the rest of a press."""
    while True:
        event = yield None
        if event is None or event.kind in ("release", "cancel"):
            return


MOVED = 3.0
"""Pixels from which on a press is a drag."""

Made = TypeVar("Made")


def let_go() -> Generator[str | None, Pointer | None, Pointer | None]:
    """Wait until the pointer is let go; where that was, or None where the press was broken off."""
    while True:
        event = yield None
        if event is not None and event.kind in ("release", "cancel"):
            return event if event.kind == "release" else None


def dragged(
    press: Pointer,
    change: Callable[[Pointer], Made],
    show: Callable[[Made], object],
    keep: Callable[[Made], object],
    stop: Callable[[], object],
) -> Hand:
    """Show what a drag makes of something, and keep that at its end; broken off, it is left as it was."""
    moved, made = False, None
    while True:
        event = yield None
        if event is None:
            continue
        if event.kind == "cancel":
            stop()
            return
        if event.kind == "release":
            break
        moved = moved or float(np.hypot(event.x - press.x, event.y - press.y)) > MOVED
        if moved:
            made = change(event)
            show(made)
    if made is not None:
        keep(made)


def dot(painter: QPainter, at: F64, colour: QColor, size: float = 4.5, filled: bool = True) -> None:
    """A point with a dark rim, readable on any clay."""
    painter.setPen(QPen(QColor(0, 0, 0, 150), 1.2))
    painter.setBrush(colour if filled else Qt.BrushStyle.NoBrush)
    painter.drawEllipse(QPointF(*at), size, size)


CLOSE = 0.75
"""Pixels: points of a line nearer to each other than this look the same as one."""


def polyline(points: F64) -> QPolygonF:
    """Points (n, 2) in pixels as Qt draws them, those left out that would not be seen."""
    if len(points) > 2:
        steps = np.linalg.norm(np.diff(points, axis=0), axis=1)
        way = (np.concatenate([[0.0], np.cumsum(np.nan_to_num(steps, nan=CLOSE))]) / CLOSE).astype(np.int64)
        kept = np.concatenate([[True], way[1:] != way[:-1]])
        kept[-1] = True
        points = points[kept]
    return QPolygonF([QPointF(x, y) for x, y in points.tolist()])


def line(
    painter: QPainter, points: F64 | QPolygonF, colour: QColor, width: float = 1.8, dashed: bool = False
) -> None:
    """A polyline with a dark edge under it, from points (n, 2) or what `polyline` made of them."""
    shape = points if isinstance(points, QPolygonF) else polyline(points)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(QColor(0, 0, 0, 110), width + 1.6))
    painter.drawPolyline(shape)
    pen = QPen(colour, width)
    if dashed:
        pen.setDashPattern([3, 3])
    painter.setPen(pen)
    painter.drawPolyline(shape)


def label(painter: QPainter, view: Canvas, at: QPointF, text: str) -> None:
    """A few words beside a point, on a small plate."""
    metrics = painter.fontMetrics()
    box = QRectF(metrics.boundingRect(text)).adjusted(-6, -3, 6, 3)
    box.moveTopLeft(at + QPointF(9, -box.height() / 2))
    if view.mirrored:
        painter.save()
        painter.translate(box.center())
        painter.scale(-1, 1)
        painter.translate(-box.center())
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(view.label_colour)
    painter.drawRoundedRect(box, 6, 6)
    painter.setPen(view.text_colour)
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
    if view.mirrored:
        painter.restore()
