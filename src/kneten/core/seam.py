"""A half and its mirror image as one body, welded where they meet."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F64, I32
from kneten.core.mesh import Mesh
from kneten.core.pieces import border_loops
from kneten.core.placing import flipped
from kneten.core.values import VALUES, put_together, turned_over

NEAR = 0.35
"""Share of an open edge's length that its ends may lie off the plane and still be welded."""


class SeamError(Exception):
    """A half cannot be welded to its mirror image. The text says why."""


def on_seam(mesh: Mesh, point: F64, normal: F64) -> I32:
    """Vertices of open edges that lie on a plane, or next to it, (k,) ascending.

    Raises
    ------
    SeamError
        When none do, or when clay reaches past the plane: it would run through its own image.
    """
    unit = normal / np.linalg.norm(normal)
    off = (mesh.positions.astype(np.float64) - point) @ unit
    found = []
    for loop in border_loops(mesh):
        at = mesh.positions[loop].astype(np.float64)
        edges = np.linalg.norm(np.roll(at, -1, axis=0) - at, axis=1)
        reach = NEAR * np.maximum(edges, np.roll(edges, 1))
        found.append(loop[np.abs(off[loop]) <= reach])
    seam = np.unique(np.concatenate(found)) if found else np.empty(0, np.int64)
    if not len(seam):
        raise SeamError("there is no open edge along the plane to weld")
    slack = float(np.abs(off[seam]).max())
    if off.min() < -slack - 1e-9 and off.max() > slack + 1e-9:
        raise SeamError("it reaches past the plane on both sides; only a half can be welded to its image")
    return seam.astype(np.int32)


def made_whole(mesh: Mesh, point: F64, normal: F64) -> Mesh:
    """A half and its mirror image across a plane of its space, through a point (3,), square to `normal` (3,).

    The vertices of open edges on the plane are put onto it and belong to both halves. Values go along. Raises
    `SeamError`.
    """
    seam = on_seam(mesh, point, normal)
    unit = normal / np.linalg.norm(normal)
    here = mesh.positions.astype(np.float64)
    off = (here - point) @ unit
    here[seam] -= off[seam, None] * unit
    off[seam] = 0.0
    n = mesh.n_vertices
    others = np.ones(n, bool)
    others[seam] = False
    names = np.full(n + 1, -1, np.int32)
    names[:n] = np.arange(n)
    names[:n][others] = n + np.arange(others.sum())
    there = (here - 2 * off[:, None] * unit)[others]
    turned = flipped(mesh.topology).faces
    values = put_together([mesh, mesh], VALUES)
    other = turned_over(mesh.values(), mesh.topology.faces)
    values |= {
        name: np.concatenate([getattr(mesh, name), other[name]]) for name in values if VALUES[name].around
    }
    kept = np.append(np.ones(n, bool), others)
    values = {name: value if VALUES[name].by_face else value[kept] for name, value in values.items()}
    return Mesh.from_faces(
        np.concatenate([here, there]).astype(np.float32),
        np.concatenate([mesh.topology.faces, names[turned]]),
        **values,
    )
