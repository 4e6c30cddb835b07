"""What is seen of quads over the picture: their flow before they are made, their irregular vertices after."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QLineF, QPointF
from PySide6.QtGui import QColor, QPainter, QPen

from kneten.core.arrays import F64, AnyArray
from kneten.core.picking import pick
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.benches.net.retopologising import Retopologising
    from kneten.app.view.canvas import Canvas

MOST = 6000
"""Marks that are looked through the clay for: each takes some 10 us."""


class FlowLayer:
    """Paints strokes of the flow, and dots on irregular vertices; what the clay hides is left out."""

    def __init__(self, view: Canvas, retopologising: Retopologising) -> None:
        self._view = view
        self._of = retopologising
        self._known: dict[str, tuple[object, AnyArray]] = {}

    def paint(self, painter: QPainter) -> None:
        of, project = self._of, self._view.studio.project
        if self._view.at_work:
            # What is hidden by what would have to be found anew at every event.
            return
        part = next((one for one in project.scene.parts if one.id == of.strokes_of), None)
        colour = QColor(self._view.ring_colour)
        if part is not None and part.visible and len(of.strokes):
            ends = part.transform.to_scene(of.strokes.reshape(-1, 3)).reshape(-1, 2, 3)
            seen = self._seen("flow", part, ends.mean(axis=1))
            at = self._view.camera.project(ends[seen].reshape(-1, 3), self._view.wide, self._view.high)[:, :2]
            painter.setPen(QPen(colour, 1.3))
            painter.drawLines([QLineF(*a, *b) for a, b in at.reshape(-1, 2, 2).tolist()])
        hand = project.active
        if of.marking and hand is not None and hand.visible:
            places = part_places(hand, of.marks(hand))
            seen = self._seen("irregular", hand, places)
            painter.setPen(QPen(QColor(0, 0, 0, 150), 1.0))
            painter.setBrush(colour)
            for x, y in self._view.camera.project(places[seen], self._view.wide, self._view.high)[
                :, :2
            ].tolist():
                painter.drawEllipse(QPointF(x, y), 2.6, 2.6)

    def _seen(self, what: str, part: Part, places: F64) -> AnyArray:
        """Which places (k,) of the scene nothing of their part hides."""
        view = self._view
        key = (
            view.camera,
            view.wide,
            view.high,
            part.mesh_id,
            part.mesh.shape_version,
            part.transform,
            len(places),
        )
        had = self._known.get(what)
        if had is not None and had[0] == key:
            return had[1]
        at = view.camera.project(places, view.wide, view.high)
        inside = (at[:, 0] >= 0) & (at[:, 0] < view.wide) & (at[:, 1] >= 0) & (at[:, 1] < view.high)
        out = np.zeros(len(places), bool)
        place = part.transform
        for i in np.flatnonzero(inside)[:MOST].tolist():
            origin, way = view.camera.ray(float(at[i, 0]), float(at[i, 1]), view.wide, view.high)
            hit = pick(part.mesh, place.to_part(origin[None])[0], place.way_to_part(way))
            far = float((places[i] - origin) @ way)
            out[i] = hit is None or hit.distance * place.scale > far - 2.0 * hit.edge * place.scale
        self._known[what] = (key, out)
        return out


def part_places(part: Part, places: F64) -> F64:
    """Places (k, 3) of a part in the scene."""
    return part.transform.to_scene(places) if len(places) else places
