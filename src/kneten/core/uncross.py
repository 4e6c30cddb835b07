"""At the end of a stroke: clay that went through other clay goes back as far as it must."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from scipy.spatial import cKDTree

from kneten.core.arrays import F32, F64, I32, AnyArray
from kneten.core.changes import box_around, patches_of, refresh_after_move
from kneten.core.crossings import crossing_among
from kneten.core.mesh import Mesh
from kneten.core.patches import runs_of

MOST = 200_000
"""Faces that are looked through at most: a quarter of a second of work. Larger strokes rely on what each dab looks at."""

AROUND = (1.0, 2.0, 4.0)
"""Within so many radii of a crossing clay goes back, less and less, in one attempt after the other; then all of it does."""

FOLDED = -0.866
"""Cosine between two triangles on an edge from which on clay that goes back has been folded by that: 150 degrees."""


class _Edges:
    """The edges of faces (f, 4) with what lies on both sides, and how sharply clay is bent over them."""

    def __init__(self, faces: I32) -> None:
        # A quad in all four triangles of its corners: which way it is cut must not matter to its mirror image.
        quads = np.flatnonzero(faces[:, 3] >= 0)
        corners = [faces[quads][:, [(at + 3) % 4, at, (at + 1) % 4]] for at in range(4)]
        threes = np.flatnonzero(faces[:, 3] < 0)
        self.triangles = np.concatenate([faces[threes, :3], *corners])
        self._face = np.concatenate([threes, *[quads] * 4])
        sides = np.sort(
            np.concatenate([self.triangles[:, [0, 1]], self.triangles[:, [1, 2]], self.triangles[:, [2, 0]]]),
            axis=1,
        )
        key = sides[:, 0].astype(np.int64) * (int(sides.max()) + 1) + sides[:, 1]
        order = np.argsort(key, kind="stable")
        of, key = np.tile(np.arange(len(self.triangles)), 3)[order], key[order]
        pairs = []
        for apart in (1, 2, 3):
            same = np.flatnonzero(key[apart:] == key[:-apart])
            pairs.append(np.stack([of[same], of[same + apart]], axis=1))
        self._pairs = np.concatenate(pairs)

    def bends(self, positions: F32) -> F64:
        """The cosine over each edge."""
        corners = positions[self.triangles].astype(np.float64)
        normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-30)
        cosines: F64 = (normals[self._pairs[:, 0]] * normals[self._pairs[:, 1]]).sum(axis=1)
        return cosines

    def faces_at(self, chosen: AnyArray) -> I32:
        """The faces on both sides of edges (e,) bool."""
        return np.unique(self._face[self._pairs[chosen]]).astype(np.int32)


def _crossing(positions: F32, faces: I32) -> AnyArray:
    """Which faces (f, 4) cross others, either way of cutting quads: their mirror images may be cut the other way."""
    turned = np.where(faces[:, 3:] >= 0, np.roll(faces, 1, axis=1), faces).astype(np.int32)
    found: AnyArray = crossing_among(positions, faces) | crossing_among(positions, turned)
    return found


def put_back(
    before: F32,
    after: F32,
    rows: I32,
    faces: I32,
    radius: float,
    attempts: Sequence[float] = (*AROUND, np.inf),
) -> F32:
    """Places (n, 3) with what moved taken back around faces that cross now and did not before.

    Parameters
    ----------
    before, after : (n, 3) float32
        Where all was, and is.
    rows : (k,) int32
        What moved.
    faces : (f, 4) int32
        Those that are looked at.
    radius : float
    attempts : sequence of float
        Around a crossing clay goes back within so many radii, in one attempt after the other; infinite for all of it.
    """
    known = _crossing(before, faces)
    now = after.copy()
    hits: list[I32] = []
    edges: _Edges | None = None
    bent = np.empty(0)
    for around in attempts:
        new = _crossing(now, faces) & ~known
        if edges is not None:
            # Where some went back and some stayed, what is between may have turned over.
            bends = edges.bends(now)
            new[edges.faces_at((bends < FOLDED) & (bends < bent - 1e-5))] = True
        if not new.any():
            break
        if edges is None:
            edges = _Edges(faces)
            bent = edges.bends(before)
        met = faces[new]
        hits.append(np.unique(met[met >= 0]).astype(np.int32))
        share = np.zeros(len(rows))
        if np.isfinite(around):
            far = cKDTree(before[np.concatenate(hits)]).query(before[rows])[0]
            share = np.clip(far / (around * radius), 0.0, 1.0)
            share = share * share * (3.0 - 2.0 * share)
        now[rows] = before[rows] + (after[rows] - before[rows]) * share[:, None].astype(np.float32)
    return now


def uncross(mesh: Mesh, vertices: I32, before: F32, radius: float) -> F32 | None:
    """Take a stroke back where it led clay through other clay.

    Parameters
    ----------
    vertices : (k,) int32
        What the stroke has moved.
    before : (k, 3) float32
        Where it was.

    Returns
    -------
    (6,) float32 or None
        The box around what went back; None when nothing had to.
    """
    after = mesh.positions[vertices]
    # Whole faces: one with a single corner that moved reaches beyond all that moved.
    low, high = np.split(box_around(mesh, vertices), 2)
    near = np.flatnonzero(((mesh.boxes[:, :3] <= high) & (mesh.boxes[:, 3:] >= low)).all(axis=1))
    begins, ends = runs_of(mesh.topology, near.astype(np.int32))
    if not 0 < int((ends - begins).sum()) <= MOST:
        return None
    faces = np.concatenate([mesh.topology.faces[a:b] for a, b in zip(begins, ends, strict=True)])
    faces = faces[faces[:, 0] != faces[:, 1]]  # dead ones of loose clay
    corners = np.unique(faces[faces >= 0])
    local = np.where(faces >= 0, np.searchsorted(corners, faces), -1).astype(np.int32)
    if not crossing_among(mesh.positions[corners], local).any():
        return None
    rows = np.searchsorted(corners, vertices)
    rows = np.minimum(rows, len(corners) - 1)
    here = corners[rows] == vertices
    old = mesh.positions[corners]
    old[rows[here]] = before[here]
    then = put_back(old, mesh.positions[corners], rows[here].astype(np.int32), local, radius)
    if np.array_equal(then[rows[here]], after[here]):
        return None
    mesh.positions[vertices[here]] = then[rows[here]]
    refresh_after_move(mesh, vertices, patches_of(mesh, vertices)[1])
    return box_around(mesh, vertices, 2)
