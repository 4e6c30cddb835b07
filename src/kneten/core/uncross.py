"""At the end of a stroke: clay that went through other clay goes back as far as it must."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from scipy.spatial import cKDTree

from kneten.core.arrays import F32, I32
from kneten.core.changes import box_around, patches_of, refresh_after_move
from kneten.core.crossings import crossing_among
from kneten.core.mesh import Mesh
from kneten.core.patches import runs_of

MOST = 200_000
"""Faces that are looked through at most: a quarter of a second of work. Larger strokes rely on what each dab looks at."""

AROUND = (1.0, 2.0, 4.0)
"""Within so many radii of a crossing clay goes back, less and less, in one attempt after the other; then all of it does."""


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
    known = crossing_among(before, faces)
    now = after.copy()
    hits: list[I32] = []
    for around in attempts:
        new = crossing_among(now, faces) & ~known
        if not new.any():
            break
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
