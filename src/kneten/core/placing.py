"""Clay moved for good: a place kneaded into the vertices."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F64, I32
from kneten.core.mesh import Mesh
from kneten.core.topology import PATCH, Topology, finish_topology
from kneten.core.values import turned_over


def turned_out(faces: I32) -> I32:
    """Faces (f, 4) that run round the other way; where a quad is split into triangles stays."""
    quads = faces[:, 3] >= 0
    return np.where(quads[:, None], faces[:, [0, 3, 2, 1]], faces[:, [0, 2, 1, 3]])


def flipped(topology: Topology) -> Topology:
    """The same shape turned inside out; vertices and faces keep their order."""
    return finish_topology(turned_out(topology.faces), topology.source_vertex, topology.source_face)


def kneaded(mesh: Mesh, matrix: F64) -> Mesh:
    """The clay moved by a (4, 4) matrix; one that mirrors turns the faces round, so that outside stays out."""
    points = mesh.positions.astype(np.float64) @ matrix[:3, :3].T + matrix[:3, 3]
    topology, values = mesh.topology, mesh.own_values()
    if np.linalg.det(matrix[:3, :3]) < 0:
        values = turned_over(values, topology.faces)
        topology = flipped(topology)
    return Mesh(topology, points.astype(np.float32), **values)


def reach_along(mesh: Mesh, ways: F64) -> F64:
    """How far a mesh at rest extends along each of the directions (k, 3), (k,); only its outermost patches are read."""
    low, high = mesh.boxes[:, :3].astype(np.float64), mesh.boxes[:, 3:].astype(np.float64)
    middles, halves = (low + high) / 2 @ ways.T, (high - low) / 2 @ np.abs(ways).T
    out = np.zeros(len(ways))
    for row, way in enumerate(ways):
        for sign in (1.0, -1.0):
            most = sign * middles[:, row] + halves[:, row]
            # After the patch that may reach farthest only few are left that may reach farther than it does.
            first = int(np.argmax(most))
            best = _reach(mesh, first, sign * way)
            rest = np.flatnonzero(most > best)
            for patch in rest[np.argsort(-most[rest])].tolist():
                if most[patch] <= best:
                    break
                best = max(best, _reach(mesh, patch, sign * way))
            out[row] += best
    return out


def _reach(mesh: Mesh, patch: int, way: F64) -> float:
    """How far one patch's vertices reach along a direction (3,)."""
    points = mesh.positions[patch * PATCH : (patch + 1) * PATCH].astype(np.float64)
    return float((points @ way).max())


def long_line(mesh: Mesh) -> tuple[F64, F64]:
    """Both ends (3,) of the line through a mesh's middle along its longest way, the narrower end first.

    The way is that of the greatest spread of the surface's area (its first principal axis); the middle is that of the
    area. Of two ends alike the one farther up comes first.
    """
    rows = mesh.topology.faces
    corners = mesh.positions[np.where(rows < 0, rows[:, :1], rows)].astype(np.float64)
    doubled = np.linalg.norm(np.cross(corners[:, 2] - corners[:, 0], corners[:, 3] - corners[:, 1]), axis=1)
    # A triangle's last corner stands for its first: its diagonals are two of its sides.
    weights = doubled + 1e-300
    spots = corners.mean(axis=1)
    middle = np.average(spots, axis=0, weights=weights)
    off = spots - middle
    _, ways = np.linalg.eigh((off * weights[:, None]).T @ off)
    way = ways[:, 2]
    along = (mesh.positions - middle) @ way
    low, high = float(along.min()), float(along.max())
    across = np.linalg.norm(mesh.positions - middle - along[:, None] * way, axis=1)
    tenth = (high - low) / 10
    wide = (across[along <= low + tenth].mean(), across[along >= high - tenth].mean())
    ends = middle + way * low, middle + way * high
    alike = abs(wide[0] - wide[1]) <= 0.02 * max(wide)
    first = ends[0][1] >= ends[1][1] if alike else wide[0] < wide[1]
    return ends if first else (ends[1], ends[0])
