"""Handles on a part in the view: move, turn and scale it by dragging."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF
from scipy.spatial.transform import Rotation

from kneten.app.view.hands import Hand, Pointer
from kneten.core.arrays import F64
from kneten.core.transform import Transform, from_axes
from kneten.document.blocking import add, move_unmasked, place_all, resize_all, said, twin
from kneten.document.scene import Part
from kneten.document.things import new_id

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

LENGTH = 86.0
"""Pixels from the pivot to a handle's end."""

REACH = 9.0
"""Pixels around a handle that count as on it."""

AXIS_COLOURS = ("#d9705f", "#8fb35c", "#6f9fd8")
"""Red, green, blue for x, y, z, in the warmth of the rest."""


@dataclass(frozen=True)
class HandleDrag:
    """What a drag does to the scene's parts.

    Attributes
    ----------
    matrix : (4, 4) float64
        A turn, an even scale and a move of the scene.
    scale : float
        The even scale in it.
    factors : three floats or None
        Uneven scaling along each part's own axes instead.
    """

    matrix: F64
    scale: float = 1.0
    factors: tuple[float, float, float] | None = None


class Handles:
    """Draws the handles of the part in hand and tells which one a pixel is on.

    Attributes
    ----------
    mode : str
        move, turn, scale, or empty while sculpting.
    hot : int
        The handle under the cursor: 0, 1, 2 for an axis, 3 for the middle, -1 for none.
    """

    def __init__(self, view: Canvas) -> None:
        self._view = view
        self.mode = ""
        self.hot = -1

    def _axes(self, part: Part) -> F64:
        """Directions of the handles: as set, but scaling goes along the part's own axes."""
        space = self._view.studio.preferences.handle_space
        if self.mode == "scale" or space == "own":
            return part.transform.axes().T
        return self._view.camera.axes() if space == "view" else np.eye(3)

    def _pivot(self, part: Part) -> F64:
        return part.pivot_place()

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

    def drag(self, part: Part, handle: int, press: Pointer, copies: bool = False) -> Hand:
        """Follow the pointer with all chosen parts; one undo step at the release.

        With `copies` the parts stay, and copies of them come along.
        """
        view = self._view
        project = view.studio.project
        chosen = project.chosen if part in project.chosen else (part,)
        if view.studio.unmasked and part.mesh.mask is not None:
            yield from self._drag_unmasked(part, handle, press)
            return
        event: Pointer | None = press
        change = HandleDrag(np.eye(4))
        while event is not None and event.kind != "cancel":
            change = self._change(part, handle, press, event)
            if event.kind == "release":
                break
            view.preview = {p.id: replace(p, transform=self._moved(p, change)) for p in chosen}
            if change.factors is not None:
                view.preview = self._stretched(chosen, change)
            view.moved()
            event = yield None
        view.preview = {}
        if event is None or event.kind == "cancel":
            view.refresh()
            return
        if change.factors is not None:
            resize_all(project, chosen, change.factors)
        elif copies and not np.allclose(change.matrix, np.eye(4)):
            new = [twin(p, p.name, self._moved(p, change), False) for p in chosen]
            add(project, f"Copy {said(chosen)}", new)
        else:
            place_all(project, {p.id: self._moved(p, change) for p in chosen}, self.mode.capitalize())
        view.refresh()

    def _stretched(self, chosen: Sequence[Part], change: HandleDrag) -> dict[str, Part]:
        """Small parts as they will be after uneven scaling; large ones only at the release."""
        shown = {}
        for part in chosen:
            if part.mesh.n_vertices <= 60_000 and change.factors is not None:
                positions = (part.mesh.positions * np.array(change.factors)).astype(np.float32)
                mesh = part.mesh.with_positions(positions)
                shown[part.id] = replace(part, mesh=mesh, mesh_id=new_id())
        return shown

    def _drag_unmasked(self, part: Part, handle: int, press: Pointer) -> Hand:
        """The same for the unmasked clay of one part."""
        view = self._view
        project = view.studio.project
        event: Pointer | None = press
        matrix = np.eye(4)
        own = part.transform.matrix()
        while event is not None and event.kind != "cancel":
            change = self._change(part, handle, press, event)
            if change.factors is not None:
                matrix = np.diag([*change.factors, 1.0])
                matrix[:3, 3] = np.array(part.pivot) * (1 - np.array(change.factors))
            else:
                matrix = np.linalg.inv(own) @ change.matrix @ own
            if event.kind == "release":
                break
            mesh = part.mesh
            if mesh.n_vertices <= 60_000 and mesh.mask is not None:
                there = mesh.positions @ matrix[:3, :3].T + matrix[:3, 3]
                free = 1.0 - mesh.mask[:, None]
                positions = (mesh.positions + (there - mesh.positions) * free).astype(np.float32)
                view.preview = {part.id: replace(part, mesh=mesh.with_positions(positions), mesh_id=new_id())}
                view.moved()
            event = yield None
        view.preview = {}
        if event is not None and event.kind != "cancel":
            move_unmasked(project, part, matrix, self.mode.capitalize())
        view.refresh()

    def _moved(self, part: Part, change: HandleDrag) -> Transform:
        """A part's place after a change of the scene."""
        turn = change.matrix[:3, :3] / change.scale
        place = change.matrix[:3, :3] @ np.array(part.transform.place) + change.matrix[:3, 3]
        return from_axes(turn @ part.transform.axes(), place, part.transform.scale * change.scale)

    def _change(self, part: Part, handle: int, press: Pointer, event: Pointer) -> HandleDrag:
        """What a drag from `press` to `event` does."""
        view = self._view
        studio = view.studio
        pivot = self._pivot(part)
        axes = self._axes(part)
        camera = view.camera
        size = camera.pixel_size(pivot, view.high)
        dx, dy = event.x - press.x, event.y - press.y
        matrix = np.eye(4)
        if self.mode == "move":
            if handle == 3:
                eye = camera.axes()
                way = (eye[0] * dx - eye[1] * dy) * size
                way = _stepped_way(way, studio.snap_length)
            else:
                far = self._along(pivot, axes[handle], event, press)
                way = axes[handle] * _stepped(far, studio.snap_length)
            matrix[:3, 3] = way
            return HandleDrag(matrix)
        if self.mode == "turn":
            middle = self._pixels(pivot[None])[0]
            a = np.array([press.x, press.y]) - middle
            b = np.array([event.x, event.y]) - middle
            angle = float(np.degrees(np.arctan2(a[0] * b[1] - a[1] * b[0], a @ b)))
            towards = float(axes[handle] @ camera.axes()[2])
            angle = _stepped(-angle if towards >= 0 else angle, studio.preferences.snap_angle)
            spin = Rotation.from_rotvec(np.radians(angle) * axes[handle]).as_matrix()
            matrix[:3, :3] = spin
            matrix[:3, 3] = pivot - spin @ pivot
            return HandleDrag(matrix)
        if handle == 3:
            factor = float(np.exp((dx - dy) * 0.006))
            matrix[:3, :3] *= factor
            matrix[:3, 3] = pivot * (1 - factor)
            return HandleDrag(matrix, factor)
        far = self._along(pivot, axes[handle], event, press)
        factors = [1.0, 1.0, 1.0]
        factors[handle] = max(1.0 + far / (LENGTH * size), 0.02)
        return HandleDrag(matrix, 1.0, (factors[0], factors[1], factors[2]))

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
