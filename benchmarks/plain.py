"""One dab of Raise in plain vectorised NumPy: what the compiled kernels are measured against."""

from __future__ import annotations

import numpy as np

from kneten.core.brushes.raise_ import EVEN, HEIGHT
from kneten.core.brushes.tool import Dab
from kneten.core.falloff import SAMPLES
from kneten.core.mesh import Mesh
from kneten.core.reach import SHARP
from kneten.core.topology import PATCH_BITS


class PlainDab:
    """Knows the ring of every vertex (built beforehand), as the kernels do."""

    def __init__(self, mesh: Mesh) -> None:
        faces = mesh.topology.faces
        quads = np.where(faces[:, 3:] < 0, faces[:, [0, 1, 2, 0]], faces)
        a, b = quads.reshape(-1), np.roll(quads, -1, axis=1).reshape(-1)
        ends = np.unique(np.concatenate([np.stack([a, b], 1), np.stack([b, a], 1)]), axis=0)
        self.ring = ends[:, 1]
        self.start = np.searchsorted(ends[:, 0], np.arange(mesh.n_vertices + 1))
        order = np.argsort(quads.reshape(-1), kind="stable")
        self.face_of = order // 4
        self.face_start = np.searchsorted(quads.reshape(-1)[order], np.arange(mesh.n_vertices + 1))
        self.quads = quads

    def _gather(self, start: np.ndarray, items: np.ndarray, of: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        counts = start[of + 1] - start[of]
        at = np.repeat(start[of] - np.cumsum(counts) + counts, counts) + np.arange(counts.sum())
        return items[at], np.cumsum(counts) - counts

    def __call__(self, positions: np.ndarray, normals: np.ndarray, dab: Dab, falloff: np.ndarray) -> int:
        """Move the vertices and renew their normals; returns how many moved."""
        away = positions - dab.centre.astype(np.float32)
        d2 = np.einsum("ij,ij->i", away, away)
        near = np.flatnonzero(d2 < dab.radius**2)
        w = np.interp(np.sqrt(d2[near]) / dab.radius, np.linspace(0, 1, SAMPLES), falloff)
        mean = (normals[near] * w[:, None]).sum(axis=0)
        mean /= np.linalg.norm(mean)
        ring, first = self._gather(self.start, self.ring, near)
        counts = self.start[near + 1] - self.start[near]
        corners = positions[ring]
        even = np.add.reduceat(corners, first, axis=0) / counts[:, None] - positions[near]
        edges = corners - np.repeat(positions[near], counts, axis=0)
        squares = np.add.reduceat(np.einsum("ij,ij->i", edges, edges), first) / counts
        needle = np.einsum("ij,ij->i", even, even) / squares
        back = np.clip((needle - SHARP) * 2.5, 0, 0.6)[:, None] * even
        own = normals[near]
        even -= np.einsum("ij,ij->i", even, own)[:, None] * own
        amount = dab.strength * dab.radius * HEIGHT * dab.spacing
        # What a stroke keeps to be undone, and which patches it touches.
        self.before = positions[near].copy()
        self.dirty = np.unique(near >> PATCH_BITS)
        positions[near] += w[:, None] * (mean * amount + EVEN * even + back)
        faces, _ = self._gather(self.face_start, self.face_of, near)
        touched = np.unique(self.quads[np.unique(faces)])
        around, first = self._gather(self.face_start, self.face_of, touched)
        used, back = np.unique(around, return_inverse=True)
        corners = positions[self.quads[used]].astype(np.float64)
        area = np.cross(corners[:, 2] - corners[:, 0], corners[:, 3] - corners[:, 1])
        total = np.add.reduceat(area[back], first, axis=0)
        normals[touched] = total / np.linalg.norm(total, axis=1, keepdims=True)
        return len(near)
