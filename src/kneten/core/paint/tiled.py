"""A picture laid again and again over a part, along three directions that pass into each other by which way the clay faces.

Where two of them meet, each counts by a high power of how far the clay faces its way, so that threads stay threads; and what
stands out of its own picture counts more, which leaves no grey seam of two patterns at half strength.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, Progress
from kneten.core.mesh import Mesh
from kneten.core.paint.held import HeldPicture
from kneten.core.paint.reading import as_light, between, evened

SHARPNESS = 8.0
"""The power of a normal's parts by which the three directions count."""

PIECE = 200_000
"""Vertices at a time."""

PLANES = ((2, 1), (0, 2), (0, 1))
"""What runs to the right and up in a picture that is laid along x, y and z."""


class Tiled:
    """A picture that goes on at its edges, over one part.

    Parameters
    ----------
    scale : float
        How large the part is in the scene: its lengths times this are millimetres.
    pixels : (h, w, 4) uint8
        sRGB and opacity.
    """

    def __init__(self, mesh: Mesh, scale: float, held: HeldPicture, pixels: U8) -> None:
        self._mesh, self._held = mesh, held
        rows, columns = pixels.shape[:2]
        wide = held.size / scale
        self._pace = np.array([1 / wide, columns / rows / wide])
        some = mesh.topology.faces[:: max(mesh.topology.n_faces // 512, 1)]
        ends = mesh.positions[some[:, :2]].astype(np.float64)
        edge = float(np.median(np.linalg.norm(ends[:, 0] - ends[:, 1], axis=1))) if len(ends) else 0.0
        self._table = evened(pixels, edge * columns / wide)
        angle = np.radians(held.turn)
        self._turn = np.array([[np.cos(angle), np.sin(angle)], [-np.sin(angle), np.cos(angle)]])

    def at(self, vertices: I32) -> tuple[F32, F32]:
        """The light of the picture over some vertices, (k, 3), and how much of it is laid there, (k,)."""
        positions = self._mesh.positions[vertices].astype(np.float64)
        normals = self._mesh.normals[vertices].astype(np.float64)
        if self._held.mirrored:
            other = positions[:, 0] < 0
            positions[other, 0] *= -1
            normals[other, 0] *= -1
        counts = np.abs(normals) ** SHARPNESS
        counts /= np.maximum(counts.sum(axis=1, keepdims=True), 1e-30)
        found = np.zeros((len(vertices), 4), np.float32)
        for axis in range(3):
            rows = np.flatnonzero(counts[:, axis] > 1e-3)
            if len(rows):
                uv = self._places(positions[rows], normals[rows, axis], axis)
                found[rows] += counts[rows, axis, None].astype(np.float32) * between(self._table, uv, True)
        return as_light(found)

    def seen(self, progress: Progress) -> tuple[F32, F32]:
        """The same of all vertices, (n, 3) and (n,)."""
        n = self._mesh.n_vertices
        light, share = np.empty((n, 3), np.float32), np.empty(n, np.float32)
        for first in range(0, n, PIECE):
            progress.report(first / n, "Reading the picture")
            some = np.arange(first, min(first + PIECE, n), dtype=np.int32)
            light[some], share[some] = self.at(some)
        return light, share

    def _places(self, positions: F64, facing: F64, axis: int) -> F64:
        """Places of the picture, (k, 2), right and down, along one direction; seen from outside nothing is turned over."""
        right, up = PLANES[axis]
        flat = positions[:, (right, up)]
        turned_over = facing < 0 if axis == 2 else facing > 0
        # From above and below, what is to the right stays there.
        flat[turned_over, 1 if axis == 1 else 0] *= -1
        run = flat @ self._turn.T
        return np.stack([0.5 + run[:, 0] * self._pace[0], 0.5 - run[:, 1] * self._pace[1]], axis=1)
