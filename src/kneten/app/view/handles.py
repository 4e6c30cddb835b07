"""Handles on a part in the view: move, turn and scale it by dragging."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from kneten.app.view.hands import Hand, Pointer
from kneten.app.work.following import follow, hold_of
from kneten.core.arrays import F64
from kneten.core.motion import Motion
from kneten.document.placing import beyond, copied, previews
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

LENGTH = 86.0
"""Pixels from the pivot to a handle's end."""

REACH = 9.0
"""Pixels around a handle that count as on it."""

SHOWN = 60_000
"""Vertices of a part up to which its clay follows the pointer; larger ones follow at the release."""

PLANES = (0.24, 0.42)
"""Where the handle of two axes lies between them, as shares of their length."""

OUTER = 1.22
"""Radius of the ring that turns in the picture, as a share of the others'."""

MIDDLE = "#ece5db"
"""Of what belongs to no axis."""

AXIS_COLOURS = ("#d9705f", "#8fb35c", "#6f9fd8")
"""Red, green, blue for x, y, z, in the warmth of the rest."""


class Handles:
    """Draws the handles of the part in hand and tells which one a pixel is on.

    Attributes
    ----------
    mode : str
        move, turn, scale, or empty while sculpting.
    hot : int
        The handle under the cursor: 0, 1, 2 for an axis, 3 for all at once (in the picture's plane, about the line
        of sight, evenly), 4, 5, 6 for the two axes square to the first three, -1 for none.
    """

    def __init__(self, view: Canvas) -> None:
        self._view = view
        self.mode = ""
        self.hot = -1

    def axes(self, part: Part) -> F64:
        """Directions of the handles, and of typed numbers, as rows (3, 3): the world's, the part's own or the view's."""
        space = self._view.studio.preferences.handle_space
        if space == "own":
            return part.transform.axes().T
        return self._view.camera.axes() if space == "view" else np.eye(3)

    def _pivot(self, part: Part) -> F64:
        return part.pivot_place()

    def _size(self, part: Part) -> float:
        view = self._view
        return LENGTH * view.camera.pixel_size(self._pivot(part), view.high)

    def _ends(self, part: Part) -> F64:
        pivot = self._pivot(part)
        return pivot + self.axes(part) * self._size(part)

    def _ring(self, part: Part, handle: int) -> F64:
        """A ring (65, 3) to turn by: about an axis, or about the line of sight."""
        axes = self._view.camera.axes() if handle == 3 else self.axes(part)
        a, b = (axes[0], axes[1]) if handle == 3 else (axes[(handle + 1) % 3], axes[(handle + 2) % 3])
        t = np.linspace(0, 2 * np.pi, 65)[:, None]
        size = self._size(part) * (OUTER if handle == 3 else 1.0)
        return self._pivot(part) + (np.cos(t) * a + np.sin(t) * b) * size

    def _plane(self, part: Part, axis: int) -> F64:
        """The small square (4, 3) between the two axes beside one."""
        axes = self.axes(part) * self._size(part)
        a, b = axes[(axis + 1) % 3], axes[(axis + 2) % 3]
        low, high = PLANES
        corners = ((low, low), (high, low), (high, high), (low, high))
        return np.array([self._pivot(part) + a * u + b * v for u, v in corners])

    def _edge_on(self, part: Part, axis: int) -> bool:
        """Whether the square beside an axis is seen so much from its side that no hand could drag in it."""
        return abs(float(self.axes(part)[axis] @ self._view.camera.axes()[2])) < 0.15

    def _pixels(self, points: F64) -> F64:
        view = self._view
        return view.camera.project(points, view.wide, view.high)[:, :2]

    def under(self, part: Part, x: float, y: float) -> int:
        """The handle at a pixel, or -1."""
        at = np.array([x, y])
        if self.mode == "turn":
            far = [_distance(self._pixels(self._ring(part, handle)), at) for handle in range(4)]
            best = int(np.argmin(far))
            return best if far[best] < REACH else -1
        middle = self._pixels(self._pivot(part)[None])[0]
        if np.hypot(*(middle - at)) < REACH + 3:
            return 3
        for axis in range(3):
            corners = QPolygonF([QPointF(*p) for p in self._pixels(self._plane(part, axis))])
            if not self._edge_on(part, axis) and corners.containsPoint(
                QPointF(x, y), Qt.FillRule.OddEvenFill
            ):
                return 4 + axis
        ends = self._pixels(self._ends(part))
        far = [_distance(np.array([middle, end]), at) for end in ends]
        best = int(np.argmin(far))
        return best if far[best] < REACH else -1

    def paint(self, painter: QPainter, part: Part) -> None:
        """Draw the handles, and how far a soft range goes."""
        soft = self._view.studio.soft_reach
        if soft > 0:
            pen = QPen(QColor(MIDDLE), 1.2, Qt.PenStyle.DashLine)
            painter.setPen(pen)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            wide = soft / self._view.camera.pixel_size(self._pivot(part), self._view.high)
            painter.drawEllipse(QPointF(*self._pixels(self._pivot(part)[None])[0]), wide, wide)
        if self.mode == "turn":
            for handle in (3, 0, 1, 2):
                painter.setPen(self._pen(handle))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                ring = self._pixels(self._ring(part, handle))
                painter.drawPolyline(QPolygonF([QPointF(*p) for p in ring]))
            return
        middle = QPointF(*self._pixels(self._pivot(part)[None])[0])
        for axis, end in enumerate(self._pixels(self._ends(part))):
            if not self._edge_on(part, axis):
                self._paint_plane(painter, part, axis)
            self._paint_arm(painter, axis, middle, QPointF(*end))
        painter.setPen(QPen(QColor(0, 0, 0, 120), 1))
        painter.setBrush(QColor(MIDDLE if self.hot != 3 else "#ffffff"))
        painter.drawEllipse(middle, 5.5, 5.5)

    def _colour(self, handle: int) -> QColor:
        colour = QColor(MIDDLE if handle == 3 else AXIS_COLOURS[handle % 4])
        return colour.lighter(135) if handle == self.hot else colour

    def _pen(self, handle: int) -> QPen:
        pen = QPen(self._colour(handle), 3.0 if handle == self.hot else 1.4 if handle == 3 else 2.0)
        pen.setCapStyle(Qt.PenCapStyle.RoundCap)
        return pen

    def _paint_plane(self, painter: QPainter, part: Part, axis: int) -> None:
        """The square between two axes, in the colour of the one it keeps still."""
        colour = self._colour(4 + axis)
        painter.setPen(QPen(colour, 1.2))
        colour.setAlphaF(0.75 if self.hot == 4 + axis else 0.35)
        painter.setBrush(colour)
        painter.drawPolygon(QPolygonF([QPointF(*p) for p in self._pixels(self._plane(part, axis))]))

    def _paint_arm(self, painter: QPainter, axis: int, middle: QPointF, end: QPointF) -> None:
        painter.setPen(self._pen(axis))
        painter.drawLine(middle, end)
        painter.setBrush(self._colour(axis))
        painter.setPen(Qt.PenStyle.NoPen)
        if self.mode != "move":
            painter.drawEllipse(end, 5.0, 5.0)
            return
        way = end - middle
        way /= max(float(np.hypot(way.x(), way.y())), 1e-6)
        side = QPointF(-way.y(), way.x())
        painter.drawPolygon(QPolygonF([end + way * 9, end + side * 4.5, end - side * 4.5]))

    def drag(self, part: Part, handle: int, press: Pointer, copies: bool = False) -> Hand:
        """Follow the pointer with all chosen parts; one undo step at the release.

        With `copies` the parts stay, and copies of them come along.
        """
        view = self._view
        project = view.studio.project
        chosen = project.chosen if part in project.chosen else (part,)
        hold = hold_of(view.studio)
        event: Pointer | None = press
        motion = Motion()
        while event is not None and event.kind != "cancel":
            motion = self._motion(part, handle, press, event)
            if event.kind == "release":
                break
            view.preview = previews(chosen, motion, hold, SHOWN)
            view.moved()
            event = yield None
        view.preview = {}
        if event is not None and event.kind != "cancel":
            if copies:
                if why := beyond(chosen, motion):
                    view.studio.say(why, "warning")
                else:
                    copied(project, chosen, motion)
            else:
                follow(view.studio, chosen, motion, self.mode.capitalize())
        view.refresh()

    def _motion(self, part: Part, handle: int, press: Pointer, event: Pointer) -> Motion:
        """What a drag from `press` to `event` does."""
        pivot, axes = self._pivot(part), self.axes(part)
        if self.mode == "move":
            return Motion(way=self._way(pivot, axes, handle, press, event), pivot=pivot)
        if self.mode == "turn":
            axis = self._view.camera.axes()[2] if handle == 3 else axes[handle]
            return Motion(turn=axis * np.radians(self._angle(pivot, axis, press, event)), pivot=pivot)
        factors = [1.0, 1.0, 1.0]
        dx, dy = event.x - press.x, event.y - press.y
        if handle == 3:
            factors = [float(np.exp((dx - dy) * 0.006))] * 3
        else:
            size = self._view.camera.pixel_size(pivot, self._view.high)
            held = (handle,) if handle < 3 else ((handle - 3) % 3, (handle - 2) % 3)
            way = sum(axes[a] for a in held) / np.sqrt(len(held))
            factor = max(1.0 + self._along(pivot, way, event, press) / (LENGTH * size), 0.02)
            for axis in held:
                factors[axis] = factor
        return Motion(factors=(factors[0], factors[1], factors[2]), axes=axes, pivot=pivot)

    def _way(self, pivot: F64, axes: F64, handle: int, press: Pointer, event: Pointer) -> F64:
        """How far a drag moves things, (3,): along an axis, in the plane of two, or in that of the picture."""
        camera, step = self._view.camera, self._view.studio.snap_length
        if handle < 3:
            far = self._along(pivot, axes[handle], event, press)
            return np.asarray(axes[handle] * _stepped(far, step))
        if handle == 3:
            eye = camera.axes()
            size = camera.pixel_size(pivot, self._view.high)
            way = (eye[0] * (event.x - press.x) - eye[1] * (event.y - press.y)) * size
            return _stepped_way(way, step)
        way = self._on_plane(pivot, axes[handle - 4], event) - self._on_plane(pivot, axes[handle - 4], press)
        return np.asarray(_stepped_way(axes @ way, step) @ axes)

    def _on_plane(self, pivot: F64, normal: F64, at: Pointer) -> F64:
        """Where the ray through a pixel meets a plane, (3,); of one that runs along it, the nearest it comes."""
        origin, way = self._view.camera.ray(at.x, at.y, self._view.wide, self._view.high)
        across = float(way @ normal)
        if abs(across) < 0.02:
            across = 0.02 if across >= 0 else -0.02
        return np.asarray(origin + way * (float((pivot - origin) @ normal) / across))

    def _angle(self, pivot: F64, axis: F64, press: Pointer, event: Pointer) -> float:
        """Degrees that a drag goes round the pivot in the picture, as a turn about an axis."""
        middle = self._pixels(pivot[None])[0]
        a = np.array([press.x, press.y]) - middle
        b = np.array([event.x, event.y]) - middle
        angle = float(np.degrees(np.arctan2(a[0] * b[1] - a[1] * b[0], a @ b)))
        towards = float(axis @ self._view.camera.axes()[2])
        return _stepped(-angle if towards >= 0 else angle, self._view.studio.preferences.snap_angle)

    def _along(self, pivot: F64, axis: F64, event: Pointer, press: Pointer) -> float:
        """How far a drag goes along an axis of the scene."""
        ends = self._pixels(np.array([pivot, pivot + axis]))
        way = ends[1] - ends[0]
        length2 = float(way @ way)
        if length2 < 1e-12:
            return 0.0
        return float(np.array([event.x - press.x, event.y - press.y]) @ way) / length2


def _stepped(value: float, step: float) -> float:
    """The nearest multiple of a step; the value itself where there is none."""
    return round(value / step) * step if step > 0 else value


def _stepped_way(way: F64, step: float) -> F64:
    return np.round(way / step) * step if step > 0 else way


def _distance(line: F64, at: F64) -> float:
    """Distance from a point to a polyline."""
    a, b = line[:-1], line[1:]
    way = b - a
    t = np.clip(((at - a) * way).sum(1) / np.maximum((way * way).sum(1), 1e-9), 0, 1)
    return float(np.linalg.norm(a + way * t[:, None] - at, axis=1).min())
