"""The pointer on a net: it chooses, paints what is chosen, encloses, moves; or draws strips and rings on clay."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QLineF, QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF
from scipy.spatial import cKDTree

from kneten.app.benches.net.seen import Seen
from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import MOVED, Mode, line, polyline
from kneten.core.arrays import F64, AnyArray
from kneten.core.mesh import Mesh
from kneten.core.net.modelling import row_of
from kneten.core.picking import pick
from kneten.core.pose.limb import LimbError, find_cut
from kneten.core.subdivide import FOR_EVER
from kneten.core.uv.seams import loop_of
from kneten.document.netting import twins_of_places, unfit
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.benches.net.modelling import Modelling
    from kneten.app.view.canvas import Canvas

SHIFT, CTRL = Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier

DRAWN = 3000
"""Of what is chosen, painted at most."""

FEW = 0.1
"""How far, in edges, what is chosen may lie behind what is met first: the faces of a net are large."""

CREASED = QColor(232, 128, 62)
"""Edges that stay sharp."""

CLOSES = 16.0
"""Pixels between the ends of a line that close it."""


def within(points: AnyArray, outline: AnyArray) -> AnyArray:
    """Which points (k, 2) lie within a closed line (m, 2), by how often a way out crosses it."""
    inside = np.zeros(len(points), bool)
    x, y = points[:, 0], points[:, 1]
    for (ax, ay), (bx, by) in zip(outline, np.roll(outline, -1, axis=0), strict=True):
        crosses = (ay > y) != (by > y)
        if by != ay:
            inside ^= crosses & (x < ax + (y - ay) * (bx - ax) / (by - ay))
    return inside


class NetMode(Mode):
    """Chooses vertices, edges and faces of the part in hand, and moves them."""

    key = "net.model"
    hint = "Press chooses, Shift adds, dragging paints; Ctrl encloses; drag what is chosen to move it; a double click takes the loop"

    def __init__(self, view: Canvas, modelling: Modelling) -> None:
        super().__init__(view)
        self._of = modelling
        self._seen = Seen(view)
        self._lasso: list[tuple[float, float]] = []

    def _part(self) -> Part | None:
        part = self.studio.project.active
        return None if part is None or self.studio.move_blocked(part) or unfit(part) else part

    def _under(self, part: Part, x: float, y: float) -> int:
        """The vertex, edge or face under a pixel; -1 where there is none."""
        view, place = self.view, part.transform
        origin, way = view.camera.ray(x, y, view.wide, view.high)
        hit = pick(part.mesh, place.to_part(origin[None])[0], place.way_to_part(way))
        if hit is None:
            return -1
        mesh, kind = part.mesh, self._of.kind
        if kind == "faces":
            return int(hit.face)
        corners = mesh.topology.faces[hit.face]
        corners = corners[corners >= 0]
        if kind == "vertices":
            far = np.linalg.norm(mesh.positions[corners] - hit.point, axis=1)
            return int(corners[np.argmin(far)])
        edges = self._of.edges(mesh)
        own = edges.of_face[hit.face][: len(corners)]
        a, b = (mesh.positions[edges.ends[own, k]].astype(np.float64) for k in (0, 1))
        share = np.clip(np.einsum("kd,kd->k", hit.point - a, b - a) / np.maximum(((b - a) ** 2).sum(axis=1), 1e-30), 0, 1)  # fmt: skip
        return int(own[np.argmin(np.linalg.norm(a + share[:, None] * (b - a) - hit.point, axis=1))])

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        part = self._part()
        if part is None:
            return None
        if keys & CTRL:
            return self._enclose(part, press, bool(keys & SHIFT))
        found = self._under(part, press.x, press.y)
        if found < 0:
            return None
        if self._of.raw(part.mesh)[found] and not keys & SHIFT:
            return self._move(part, press, found)
        return self._paint_on(part, press, found, bool(keys & SHIFT))

    def _paint_on(self, part: Part, press: Pointer, found: int, more: bool) -> Hand:
        which = self._of.raw(part.mesh).copy() if more else np.zeros(len(self._of.raw(part.mesh)), bool)
        # With Shift a press on what is chosen leaves it out again.
        on = not which[found]
        event: Pointer | None = press
        while True:
            if event is not None and event.kind == "cancel":
                return
            if event is not None:
                at = self._under(part, event.x, event.y)
                if at >= 0:
                    which[at] = on
                    self._of.choose(part.mesh, which.copy())
                    self.view.repaint_over()
                if event.kind == "release":
                    return
            event = yield None

    def _enclose(self, part: Part, press: Pointer, more: bool) -> Hand:
        event: Pointer | None = press
        try:
            while event is None or event.kind not in ("release", "cancel"):
                if event is not None:
                    self._lasso.append((event.x, event.y))
                    self.view.repaint_over()
                event = yield None
            if event.kind == "release" and len(self._lasso) > 2:
                places = part.transform.to_scene(self._of.places(part.mesh, self._of.kind))
                inside = within(self.pixels(places), np.array(self._lasso))
                rows = np.flatnonzero(inside)
                inside[rows] = self._seen.of("lasso", part, places[rows], FEW)
                self._of.choose(part.mesh, inside | self._of.raw(part.mesh) if more else inside)
        finally:
            self._lasso = []
            self.view.repaint_over()

    def _move(self, part: Part, press: Pointer, found: int) -> Hand:
        mesh, view = part.mesh, self.view
        scene_place = part.transform.to_scene(self._of.places(mesh, self._of.kind)[[found]])[0]
        start = self.on_plane(press.x, press.y, scene_place)
        weights = self._weights(mesh, part)
        made: F64 | None = None
        try:
            while True:
                event = yield None
                if event is None:
                    continue
                if event.kind == "cancel":
                    return
                if made is not None or float(np.hypot(event.x - press.x, event.y - press.y)) > MOVED:
                    way = part.transform.way_to_part(self.on_plane(event.x, event.y, scene_place) - start)
                    made = self._moved(part, np.asarray(way), weights)
                if event.kind == "release":
                    break
                if made is not None:
                    shown = mesh.with_positions(made.astype(np.float32))
                    view.preview = {**view.preview, part.id: replace(part, mesh=shown)}
                    view.refresh()
        finally:
            view.preview = {key: one for key, one in view.preview.items() if key != part.id}
            view.refresh()
        if made is None:
            # A press alone chooses just this.
            which = np.zeros(len(self._of.raw(mesh)), bool)
            which[found] = True
            self._of.choose(mesh, which)
            return
        chosen = self._of.raw(mesh)
        self._of.place(part, made, "Move net")
        now = self.studio.project.scene.part(part.id)
        self._of.choose(now.mesh, chosen)

    def _weights(self, mesh: Mesh, part: Part) -> F64:
        """How far each vertex goes along, (n,): what is chosen wholly, what lies around less and less."""
        on = self._of.vertices(mesh)
        reach = self._of.soft() / part.transform.scale
        out = on.astype(np.float64)
        if reach > 0 and on.any():
            far, _ = cKDTree(mesh.positions[on]).query(mesh.positions)
            out = np.clip(1 - (far / reach) ** 2, 0, 1) ** 2
        return out

    def _moved(self, part: Part, way: F64, weights: F64) -> F64:
        """Places (n, 3) with what is chosen, and its mirror images, moved."""
        places = part.mesh.positions.astype(np.float64)
        out = places + weights[:, None] * way
        twins = self.studio.project.twins(part)
        if len(twins) > 1:
            size = float(np.ptp(places, axis=0).max())
            likes = [(twin.linear, twin.shift) for twin in twins]
            for row, twin in zip(twins_of_places(places, likes, 1e-3 * size), twins, strict=True):
                if np.allclose(twin.linear, np.eye(3)):
                    continue
                has = (row >= 0) & (weights > 0)
                other = row[has]
                stronger = weights[has] > weights[other]
                mirrored = places[has] + weights[has][:, None] * way
                image = mirrored @ np.asarray(twin.linear).T + np.asarray(twin.shift)
                out[other[stronger]] = image[stronger]
                # On the plane both sides pull alike: it stays there.
                same = other == np.flatnonzero(has)
                out[other[same]] = (mirrored[same] + image[same]) / 2
        return out

    def double(self, x: float, y: float) -> None:
        part = self._part()
        if part is None:
            return
        kind, mesh = self._of.kind, part.mesh
        self._of.kind = "edges"
        edge = self._under(part, x, y)
        self._of.kind = kind
        if edge < 0:
            return
        edges = self._of.edges(mesh)
        if kind == "faces":
            self._of.choose(mesh, row_of(mesh, edges, edge))
            return
        which = np.zeros(len(edges.ends), bool)
        which[loop_of(mesh, edges, edge)] = True
        self._of.kind = "edges"
        self._of.choose(mesh, which)
        if kind == "vertices":
            self._of.take_kind("vertices")

    def _paint_creases(self, painter: QPainter, part: Part) -> None:
        """Edges that stay sharp, the sharper the wider."""
        mesh = part.mesh
        if mesh.creases is None:
            return
        sharp = self._of.creases(mesh)
        rows = np.flatnonzero(sharp)[:DRAWN]
        places = part.transform.to_scene(self._of.places(mesh, "edges")[rows])
        rows = rows[self._seen.of(f"creases {len(rows)} {mesh.values_version}", part, places, FEW)]
        ends = mesh.positions.astype(np.float64)[self._of.edges(mesh).ends[rows].reshape(-1)]
        at = self.pixels(part.transform.to_scene(ends)).reshape(-1, 2, 2)
        for share, (a, b) in zip((sharp[rows] / FOR_EVER).tolist(), at.tolist(), strict=True):
            painter.setPen(QPen(CREASED, 2.0 + 2.5 * min(4 * share, 1.0)))
            painter.drawLine(QLineF(*a, *b))

    def paint(self, painter: QPainter) -> None:
        part = self._part()
        if part is None or not part.visible:
            return
        if len(self._lasso) > 1:
            line(painter, np.array(self._lasso), QColor(self.view.ring_colour), 1.6, dashed=True)
        if self.view.at_work and not self._lasso and part.id in self.view.preview:
            part = self.view.preview[part.id]
        mesh, raw = part.mesh, self._of.raw(part.mesh)
        self._paint_creases(painter, part)
        rows = np.flatnonzero(raw)[:DRAWN]
        if not len(rows):
            return
        colour = QColor(self.view.ring_colour)
        places = part.transform.to_scene(self._of.places(mesh, self._of.kind)[rows])
        rows = rows[self._seen.of(f"chosen {self._of.kind} {rows.sum()}", part, places, FEW)]
        p = mesh.positions.astype(np.float64)
        if self._of.kind == "vertices":
            painter.setPen(QPen(QColor(0, 0, 0, 150), 1.0))
            painter.setBrush(colour)
            for x, y in self.pixels(part.transform.to_scene(p[rows])).tolist():
                painter.drawEllipse(QPointF(x, y), 3.4, 3.4)
        elif self._of.kind == "edges":
            at = self.pixels(part.transform.to_scene(p[self._of.edges(mesh).ends[rows]].reshape(-1, 3)))
            painter.setPen(QPen(colour, 2.6))
            painter.drawLines([QLineF(*a, *b) for a, b in at.reshape(-1, 2, 2).tolist()])
        else:
            fill = QColor(colour)
            fill.setAlpha(95)
            painter.setPen(QPen(colour, 1.4))
            painter.setBrush(fill)
            table = mesh.topology.faces[rows]
            at = self.pixels(part.transform.to_scene(p[np.maximum(table, 0)].reshape(-1, 3))).reshape(
                -1, 4, 2
            )
            for ring, corners in zip(at.tolist(), table.tolist(), strict=True):
                painter.drawPolygon(QPolygonF([QPointF(*q) for q in ring[: 4 if corners[3] >= 0 else 3]]))


class StripMode(Mode):
    """Draws strips on the clay; a press alone lays a ring round the limb there."""

    key = "net.strip"
    hint = "Draw on the clay: a strip of quads; end where it began to close it. A press alone lays a ring round the limb there"

    def __init__(self, view: Canvas, modelling: Modelling) -> None:
        super().__init__(view)
        self._of = modelling
        self._drawn: list[F64] = []
        self._clay: Part | None = None

    def _on(self, x: float, y: float) -> tuple[Part, F64, int] | None:
        """The clay under a pixel, no net, the place in its space and the face."""
        view = self.view
        best: tuple[float, Part, F64, int] | None = None
        origin, way = view.camera.ray(x, y, view.wide, view.high)
        for part in self.studio.project.scene.parts:
            if not part.visible or part.net or (self._clay is not None and part.id != self._clay.id):
                continue
            place = part.transform
            hit = pick(part.mesh, place.to_part(origin[None])[0], place.way_to_part(way))
            if hit is not None and (best is None or hit.distance * place.scale < best[0]):
                best = (hit.distance * place.scale, part, hit.point, int(hit.face))
        return None if best is None else best[1:]

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        found = self._on(press.x, press.y)
        if found is None or self.studio.move_blocked(found[0]):
            return None
        return self._draw(press, found)

    def _draw(self, press: Pointer, found: tuple[Part, F64, int]) -> Hand:
        self._clay, place, face = found
        clay = self._clay
        self._drawn = [place]
        event: Pointer | None = press
        last = press
        try:
            while event is None or event.kind not in ("release", "cancel"):
                if event is not None:
                    last = event
                    at = self._on(event.x, event.y)
                    if at is not None:
                        self._drawn.append(at[1])
                    self.view.repaint_over()
                event = yield None
            if event.kind == "cancel":
                return
            drawn = np.array(self._drawn)
        finally:
            self._drawn, self._clay = [], None
            self.view.repaint_over()
        if float(np.hypot(last.x - press.x, last.y - press.y)) <= MOVED and len(drawn) < 5:
            try:
                self._of.draw_ring(clay, find_cut(clay.mesh, face, place).points)
            except LimbError as error:
                self.studio.say(str(error), "warning")
            return
        ends = self.pixels(clay.transform.to_scene(drawn[[0, -1]]))
        closed = len(drawn) > 8 and float(np.linalg.norm(ends[0] - ends[1])) < CLOSES
        self._of.draw(clay, drawn, closed)

    def paint(self, painter: QPainter) -> None:
        if self._clay is not None and len(self._drawn) > 1:
            points = self.pixels(self._clay.transform.to_scene(np.array(self._drawn)))
            line(painter, polyline(points), QColor(self.view.ring_colour), 2.0)


class NetLayer:
    """Paints the edges of the net in hand over the clay it lies in, those that look away left out."""

    def __init__(self, view: Canvas, modelling: Modelling) -> None:
        self._view = view
        self._of = modelling

    def paint(self, painter: QPainter) -> None:
        view, part = self._view, self._view.studio.project.active
        if part is None or not part.visible or not part.net or view.studio.stage != "Net" or unfit(part):
            return
        part = view.preview.get(part.id, part)
        mesh = part.mesh
        ends = self._of.edges(mesh).ends
        places = part.transform.to_scene(mesh.positions.astype(np.float64))
        out = mesh.normals.astype(np.float64) @ part.transform.axes().T
        eye = view.camera.eye() - places
        faces = np.einsum("kd,kd->k", out, eye) > 0
        rows = ends[faces[ends].all(axis=1)]
        at = view.camera.project(places, view.wide, view.high)[:, :2]
        strokes = [QLineF(*a, *b) for a, b in at[rows].tolist()]
        for colour, width in ((QColor(0, 0, 0, 120), 2.8), (QColor(view.ring_colour), 1.3)):
            painter.setPen(QPen(colour, width))
            painter.drawLines(strokes)
