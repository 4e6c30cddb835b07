"""The cage of a bake, drawn: where rays begin, outside of the low mesh."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QLineF
from PySide6.QtGui import QColor, QPainter, QPen

from kneten.core.arrays import F64, AnyArray
from kneten.core.loose import LooseMesh
from kneten.core.maps.surfaces import Cage
from kneten.core.mesh import Mesh
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.benches.net.mapping import Mapping
    from kneten.app.view.canvas import Canvas

MOST_FACES = 60_000
"""Faces up to which it is drawn: of more one would see nothing but lines."""


def cage_places(mesh: Mesh, cage: Cage) -> F64:
    """Where the vertices of a cage lie, (n, 3) in the part's space."""
    ahead = np.full(mesh.n_vertices, cage.ahead)
    if cage.by_mask and mesh.mask is not None:
        ahead *= 1 + cage.by_mask * mesh.mask
    return mesh.positions.astype(np.float64) + ahead[:, None] * mesh.normals


class EdgeLines:
    """Paints the edges of a mesh over the clay, those that look away left out."""

    def __init__(self, view: Canvas) -> None:
        self._view = view
        self._known: tuple[str, object] = ("", None)

    def paint(self, painter: QPainter, part: Part, own: AnyArray) -> None:
        """Those of a part, its vertices at places (n, 3) of its own space."""
        view, mesh = self._view, part.mesh
        places = part.transform.to_scene(own.astype(np.float64))
        out = mesh.normals.astype(np.float64) @ part.transform.axes().T
        faces = np.einsum("kd,kd->k", out, view.camera.eye() - places) > 0
        ends = self._ends(mesh)
        rows = ends[faces[ends].all(axis=1)]
        at = view.camera.project(places, view.wide, view.high)[:, :2]
        strokes = [QLineF(*a, *b) for a, b in at[rows].tolist()]
        for colour, width in ((QColor(0, 0, 0, 90), 2.4), (QColor(view.ring_colour), 1.1)):
            painter.setPen(QPen(colour, width))
            painter.drawLines(strokes)

    def _ends(self, mesh: Mesh) -> np.ndarray:
        """The two vertices of each edge, (m, 2)."""
        if self._known[0] != mesh.topology.uid:
            faces = mesh.topology.faces
            pairs = []
            for k in range(4):
                after = faces[:, (k + 1) & 3]
                after = np.where(after < 0, faces[:, 0], after)
                has = faces[:, k] >= 0
                pairs.append(np.stack([faces[has, k], after[has]], axis=1))
            both = np.sort(np.concatenate(pairs), axis=1)
            keys = np.unique(both[:, 0].astype(np.int64) * mesh.n_vertices + both[:, 1])
            self._known = (
                mesh.topology.uid,
                np.stack([keys // mesh.n_vertices, keys % mesh.n_vertices], axis=1),
            )
        found = self._known[1]
        assert isinstance(found, np.ndarray)
        return found


class CageLayer:
    """Paints the cage of a bake."""

    def __init__(self, view: Canvas, mapping: Mapping) -> None:
        self._view, self._of = view, mapping
        self._lines = EdgeLines(view)

    def fits(self, part: Part | None) -> bool:
        """Whether there is a cage to be drawn of it."""
        return (
            part is not None
            and part.visible
            and not isinstance(part.mesh, LooseMesh)
            and part.mesh.topology.n_faces <= MOST_FACES
        )

    def paint(self, painter: QPainter) -> None:
        part = self._view.studio.project.active
        cage = self._of.cage_shown()
        if cage is None or part is None or not self.fits(part):
            return
        self._lines.paint(painter, part, cage_places(part.mesh, cage))
