"""Trying how clay would look while something is dragged: fast while the hand moves, whole once it rests.

A large part is drawn by its stand-in while it changes; only the stand-in's vertices are worked out then, some
thousands of a million. When the hand has rested for a moment, all of them are.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from kneten.core.arrays import F32, I32
from kneten.core.normals import normals_of_some

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas
    from kneten.document.scene import Part

SMALL = 100_000
"""Vertices up to which all of a part is worked out for every picture: normals take 10 ms."""

RESTED = 120
"""Milliseconds without a change after which all of it is: before the picture itself comes to rest."""

EVERY = np.empty(0, np.int32)


class Trial:
    """One part that is tried in other places.

    Attributes
    ----------
    before : (n, 3) float32
        Where its vertices were.
    rows : (k,) int32
        The vertices that are worked out while the hand moves; empty for all of them.
    """

    def __init__(self, view: Canvas, part: Part) -> None:
        self.part = part
        self.before: F32 = part.mesh.positions.copy()
        self._triangles = view.stand_in(part)
        self.rows: I32 = EVERY
        if part.mesh.n_vertices > SMALL and self._triangles is not None:
            self.rows = np.unique(self._triangles).astype(np.int32)
        self._sums = np.empty((part.mesh.n_vertices if len(self.rows) else 0, 3))

    def show(self, positions: F32, rows: I32 = EVERY) -> None:
        """Put all vertices elsewhere, or only some of the stand-in's."""
        mesh = self.part.mesh
        if not len(rows):
            mesh.in_flux = False
            mesh.positions[:] = positions
            mesh.refresh_all()
            return
        mesh.in_flux = True
        mesh.positions[rows] = positions
        assert self._triangles is not None
        normals_of_some(mesh.positions, self._triangles.view(np.uint32), self._sums, mesh.normals)
        # Boxes may be too large: one around all of it is found faster than each patch's own.
        box = np.concatenate([positions.min(axis=0), positions.max(axis=0)])
        mesh.boxes[:] = box
        mesh.clusters[:] = box
        mesh.mark_all_dirty()

    def let_go(self) -> None:
        """Everything as it was."""
        self.show(self.before)
