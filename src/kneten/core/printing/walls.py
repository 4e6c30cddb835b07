"""How thick clay is, and clay made thicker where it is too thin."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import sparse

from kneten.core.arrays import F32, F64, AnyArray, Progress
from kneten.core.maps.surfaces import High
from kneten.core.mesh import Mesh
from kneten.core.remesh import triangulate
from kneten.core.topology import MeshError

FACING = 0.5
"""Least cosine between the way in and the normal of the far side: a wall's two sides are about parallel. At an edge there is no wall."""

INSIDE = 2e-5
"""How far under the surface rays begin, in sizes of the clay: their own face must not stop them."""

CHUNK = 200_000
"""Rays between two looks at the cancel button."""

ROUNDS = 12
"""Times at most that walls are measured and moved apart."""

SLOPE = 0.5
"""How fast what is added may fall off around a thin place: more would leave a step."""

ENOUGH = 0.995
"""Share of the least thickness that counts as thick enough."""


def thickness(mesh: Mesh, progress: Progress, far: float = np.inf, rows: AnyArray | None = None) -> F32:
    """How thick the clay is under its vertices, or some of them, straight in.

    One ray for each vertex meets the far side of the wall. Where it meets none within `far`, meets it at a slant (an edge),
    or comes upon another shell first, there is no wall to measure.

    Parameters
    ----------
    mesh : Mesh
    far : float
        Mm to look at most.
    rows : (k,) int, optional
        The vertices; all without.

    Returns
    -------
    (k,) float32
        Mm; infinite where there is no wall.
    """
    return _measured(High([mesh]), mesh, progress, far, rows)


def _measured(high: High, mesh: Mesh, progress: Progress, far: float, rows: AnyArray | None) -> F32:
    which = np.arange(mesh.n_vertices) if rows is None else rows
    size = float(np.linalg.norm(np.ptp(mesh.positions, axis=0)))
    ways = -mesh.normals[which]
    origins = mesh.positions[which] + np.float32(size * INSIDE) * ways
    out = np.full(len(which), np.inf, np.float32)
    reach = np.float32(min(far, 4 * size))
    for first in range(0, len(which), CHUNK):
        progress.report(first / max(len(which), 1), "Measuring walls")
        some = slice(first, first + CHUNK)
        hits = high.along(origins[some], ways[some], np.full(len(ways[some]), reach, np.float32))
        at = high.vertices[hits.triangle]
        a, b, c = (high.positions[at[:, k]] for k in range(3))
        normal = np.cross(b - a, c - a)
        length = np.maximum(np.linalg.norm(normal, axis=1), 1e-30)
        facing = np.einsum("nk,nk->n", normal, ways[some]) / length
        off = np.linalg.norm(high.place(hits) - mesh.positions[which][some], axis=1)
        out[some] = np.where(hits.found & (facing >= FACING), off, np.inf)
    return out


@dataclass(frozen=True, eq=False)
class Walls:
    """What was measured.

    Attributes
    ----------
    least : float
        Mm; infinite where nothing is a wall.
    thin : float
        Share of the surface below what was asked for.
    off : (n,) float32
        Mm under each vertex.
    """

    least: float
    thin: float
    off: F32


def walls(mesh: Mesh, asked: float, progress: Progress) -> Walls:
    """How much of clay is thinner than asked for, mm."""
    off = thickness(mesh, progress)
    return Walls(float(off.min(initial=np.inf)), thin_share(mesh, off < ENOUGH * asked), off)


def thin_share(mesh: Mesh, thin: AnyArray) -> float:
    """The share of the surface around some vertices (n,) bool."""
    triangles = triangulate(mesh.topology.faces)
    a, b, c = (mesh.positions[triangles[:, k]].astype(np.float64) for k in range(3))
    area = np.linalg.norm(np.cross(b - a, c - a), axis=1)
    return float((area * thin[triangles].mean(axis=1)).sum() / max(area.sum(), 1e-30))


@dataclass(frozen=True, eq=False)
class Thickened:
    """Clay that was made thicker.

    Attributes
    ----------
    positions : (n, 3) float32
    least : float
        Mm of the thinnest wall now.
    thin : float
        Share of the surface that is still too thin.
    most : float
        Mm that a vertex was moved at most.
    """

    positions: F32
    least: float
    thin: float
    most: float


def thickened(mesh: Mesh, asked: float, progress: Progress) -> Thickened:
    """Clay moved apart where its walls are thinner than asked for, both sides alike, and nowhere else but for a slope around it.

    Raises
    ------
    MeshError
        When no wall is too thin.
    """
    if not asked > 0:
        raise MeshError("the least thickness has to be more than nothing")
    start = mesh.positions.copy()
    spread = _neighbours(mesh)
    edge = spread.tocoo()
    now = Mesh(mesh.topology, start.copy())
    off = thickness(now, progress)
    if not (off < ENOUGH * asked).any():
        raise MeshError("no wall is thinner than that")
    ways = _outwards(now)
    lengths = np.linalg.norm(start[edge.row] - start[edge.col], axis=1)
    best: tuple[float, F32, F32] | None = None
    for turn in range(ROUNDS):
        thin = off < ENOUGH * asked
        share = thin_share(now, thin)
        if best is None or share < best[0]:
            best = share, now.positions.copy(), off
        if not thin.any():
            break
        progress.report(turn / ROUNDS, "Thickening")
        more = np.where(thin, (asked - np.where(thin, off, 0)) * (0.52 + 0.04 * turn), 0.0)
        more = np.maximum(more, 0.02 * asked * thin)
        for _ in range(24):
            # What is added falls off with a slope, so that no step is left at its rim.
            falls = more[edge.col] - SLOPE * lengths
            lifted = more.copy()
            np.maximum.at(lifted, edge.row, falls)
            if np.allclose(lifted, more, atol=1e-4 * asked):
                break
            more = lifted
        now.positions += (more[:, None] * ways).astype(np.float32)
        now.refresh_all()
        off = thickness(now, progress)
    thin = off < ENOUGH * asked
    share = thin_share(now, thin)
    assert best is not None
    if best[0] < share:
        share, places, off = best
    else:
        places = now.positions
    moved = float(np.linalg.norm(places - start, axis=1).max())
    return Thickened(places.copy(), float(off.min(initial=np.inf)), share, moved)


def _neighbours(mesh: Mesh) -> sparse.csr_matrix:
    """Which vertices are joined by an edge, (n, n)."""
    triangles = triangulate(mesh.topology.faces)
    a = triangles[:, [0, 1, 2]].ravel()
    b = triangles[:, [1, 2, 0]].ravel()
    n = mesh.n_vertices
    joined = sparse.coo_matrix((np.ones(len(a)), (a, b)), (n, n)).tocsr()
    return (joined + joined.T).tocsr()


def _outwards(mesh: Mesh) -> F64:
    """The ways outwards (n, 3), evened once over the neighbours: sharp rims would be torn apart by their own."""
    joined = _neighbours(mesh)
    own = mesh.normals.astype(np.float64)
    count = np.maximum(np.asarray(joined.sum(axis=1)).ravel(), 1)
    mean = 0.5 * own + 0.5 * (joined @ own) / count[:, None]
    return np.asarray(mean / np.maximum(np.linalg.norm(mean, axis=1, keepdims=True), 1e-12))


def overhanging(mesh: Mesh, angle: float, plate: float = 0.2) -> AnyArray:
    """Which faces (f,) bool hang over more than so many degrees from upright, and do not lie on the plate.

    Parameters
    ----------
    angle : float
        Degrees from upright: at 45 what leans out farther than half-way needs a support.
    plate : float
        Mm above the lowest place that lie on the plate.
    """
    points, quads = mesh.positions.astype(np.float64), mesh.topology.faces
    last = np.where(quads[:, 3] >= 0, quads[:, 3], quads[:, 0])
    normals = np.cross(points[quads[:, 2]] - points[quads[:, 0]], points[last] - points[quads[:, 1]])
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-30)
    heights = mesh.positions[:, 1]
    top = np.maximum(heights[quads[:, :3]].max(axis=1), heights[last])
    return np.asarray((-normals[:, 1] > np.sin(np.radians(angle))) & (top > float(heights.min()) + plate))
