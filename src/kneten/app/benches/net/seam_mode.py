"""Seams cut by the pointer: an edge, the shortest way, a loop; and how they are painted over the clay."""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QLineF, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from scipy.spatial import cKDTree

from kneten.app.benches.net.seen import Seen
from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode, dot, line, nothing
from kneten.core.arrays import F64, AnyArray
from kneten.core.picking import pick
from kneten.core.uv.seams import loop_of, way_between
from kneten.document.scene import Part
from kneten.document.unwrapping import Cage, cage_of, put_seams, seams_of

if TYPE_CHECKING:
    from kneten.app.benches.net.unwrapping import Unwrapping
    from kneten.app.view.canvas import Canvas

NEAR = 0.25
"""Share of an edge's length within which its mirror image must lie for both to be cut."""


class SeamMode(Mode):
    """Cuts seams along edges of the lowest level."""

    key = "uv.seams"
    hint = "Press an edge to cut or mend it; Shift cuts the shortest way from the last one; a double click goes round the loop"

    def __init__(self, view: Canvas) -> None:
        super().__init__(view)
        self._last: tuple[str, int] | None = None
        self._over: tuple[Cage, int] | None = None
        self._known: tuple[object, Cage] | None = None

    def _cage(self, part: Part) -> Cage:
        """The part's cage, told anew only when its clay or its seams have changed."""
        mesh = part.mesh
        key = (part.mesh_id, mesh.topology.uid, mesh.shape_version, self.studio.project.history.serial)
        if self._known is None or self._known[0] != key:
            self._known = (key, cage_of(part))
        return self._known[1]

    def hover(self, x: float, y: float) -> bool:
        part = self.studio.project.active
        found = None if part is None or part.locked or not part.visible else self._under(part, x, y)
        before, self._over = self._over, None if found is None else (found[0], found[1])
        return before != self._over

    def _under(self, part: Part, x: float, y: float) -> tuple[Cage, int, int] | None:
        """The cage, its edge and its vertex nearest to a pixel on the clay."""
        view, place = self.view, part.transform
        origin, way = view.camera.ray(x, y, view.wide, view.high)
        hit = pick(part.mesh, place.to_part(origin[None])[0], place.way_to_part(way))
        if hit is None:
            return None
        cage = self._cage(part)
        p = cage.mesh.positions.astype(np.float64)
        # The nearest edge on the screen, of those at the nearest vertices of the cage.
        spot = np.asarray(hit.point, np.float64)
        near = np.argsort(np.linalg.norm(p - spot, axis=1))[:12]
        around = np.flatnonzero(np.isin(cage.edges.ends, near).any(axis=1))
        a, b = p[cage.edges.ends[around, 0]], p[cage.edges.ends[around, 1]]
        along = b - a
        share = np.clip(
            np.einsum("kd,kd->k", spot - a, along) / np.maximum((along**2).sum(axis=1), 1e-30), 0, 1
        )
        far = np.linalg.norm(a + share[:, None] * along - spot, axis=1)
        edge = int(around[np.argmin(far)])
        return cage, edge, int(near[0])

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        part = self.studio.project.active
        if part is None or self.studio.move_blocked(part):
            return None
        found = self._under(part, press.x, press.y)
        if found is None:
            return None
        cage, edge, vertex = found
        if keys & Qt.KeyboardModifier.ShiftModifier and self._last is not None and self._last[0] == part.id:
            way = way_between(cage.mesh, cage.edges, self._last[1], vertex)
            self._cut(part, cage, way, True, "Seam")
        else:
            on = not seams_of(cage)[edge]
            self._cut(part, cage, np.array([edge]), on, "Seam" if on else "Mend seam")
        self._last = (part.id, vertex)
        self.view.repaint_over()
        return nothing()

    def double(self, x: float, y: float) -> None:
        part = self.studio.project.active
        if part is None or self.studio.move_blocked(part):
            return
        found = self._under(part, x, y)
        if found is None:
            return
        cage, edge, _ = found
        # The first press of the two has cut or mended the edge: the whole loop follows it.
        on = bool(seams_of(cage)[edge])
        self._cut(
            part, cage, loop_of(cage.mesh, cage.edges, edge), on, "Seam round a loop" if on else "Mend a loop"
        )

    def _cut(self, part: Part, cage: Cage, which: AnyArray, on: bool, name: str) -> None:
        marked = seams_of(cage)
        p = cage.mesh.positions.astype(np.float64)
        middles = p[cage.edges.ends].mean(axis=1)
        long = np.linalg.norm(p[cage.edges.ends[:, 0]] - p[cage.edges.ends[:, 1]], axis=1)
        for twin in self.studio.project.twins(part):
            likes = middles[which] @ np.asarray(twin.linear).T + np.asarray(twin.shift)
            far, other = cKDTree(middles).query(likes)
            marked[other[far < NEAR * long[which]]] = on
        put_seams(self.studio.project, part, cage, marked, name)

    def paint(self, painter: QPainter) -> None:
        part = self.studio.project.active
        if part is not None and self._over is not None and self._over[0] is self._cage(part):
            cage, edge = self._over
            marked = np.zeros(len(cage.edges.ends), bool)
            marked[edge] = True
            places = part.transform.to_scene(part.mesh.positions[cage.lines(marked)[0]].astype(np.float64))
            line(painter, self.pixels(places), QColor(self.view.ring_colour), 2.4)
        if part is not None and self._last is not None and self._last[0] == part.id:
            cage = self._cage(part)
            if self._last[1] < len(cage.names):
                at = part.transform.to_scene(cage.mesh.positions[self._last[1]][None].astype(np.float64))
                dot(painter, self.pixels(at)[0], QColor(self.view.ring_colour))


class SeamLayer:
    """Paints the seams of the part in hand over the picture, those behind the clay left out."""

    def __init__(self, view: Canvas, unwrapping: Unwrapping) -> None:
        self._view = view
        self._of = unwrapping
        self._seen = Seen(view)

    def paint(self, painter: QPainter) -> None:
        view, part = self._view, self._view.studio.project.active
        if view.at_work or part is None or not part.visible or view.studio.stage != "Net":
            return
        found = self._of.seam_lines(part)
        if found is None:
            return
        cage, marked = found
        rows = cage.lines(marked)
        if not len(rows):
            return
        places: F64 = part.transform.to_scene(part.mesh.positions[rows.reshape(-1)].astype(np.float64))
        places = places.reshape(-1, 3, 3)
        seen = self._seen.of(f"seams {id(found)}", part, places[:, 1])
        at = view.camera.project(places[seen].reshape(-1, 3), view.wide, view.high)[:, :2].reshape(-1, 3, 2)
        strokes = [QLineF(*a, *b) for row in at.tolist() for a, b in pairwise(row)]
        for colour, width in ((QColor(0, 0, 0, 130), 3.6), (QColor(232, 168, 74), 2.0)):
            painter.setPen(QPen(colour, width, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
            painter.drawLines(strokes)
