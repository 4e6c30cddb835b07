"""A deep press from a piece of clay: the piece is laid flat into its frame, and what moved each place there is kept."""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix
from scipy.sparse.csgraph import connected_components
from scipy.sparse.linalg import spsolve

from kneten.core.arrays import F32, F64, I32, AnyArray, kernel
from kneten.core.mesh import Mesh
from kneten.core.press import PressError
from kneten.core.remesh import triangulate

WIDE = 512
"""Pixels across what is taken: three numbers each."""

MOST = 400_000
"""Vertices of a piece at most: more would take minutes to be laid flat."""

RIM = 0.10
"""Share of the half-width over which what is taken passes into the plane at its edge."""


@kernel
def _drawn(flat: F64, places: F64, triangles: I32, out: F32, filled: F32) -> None:
    """Draw places (n, 3) over flat triangles (n, 2), in pixels, into `out` (h, w, 3)."""
    rows = out.shape[0]
    columns = out.shape[1]
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ax, ay = flat[a, 0], flat[a, 1]
        bx, by = flat[b, 0], flat[b, 1]
        cx, cy = flat[c, 0], flat[c, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0.0:
            continue
        for i in range(
            max(int(np.ceil(min(ay, by, cy))), 0), min(int(np.floor(max(ay, by, cy))), rows - 1) + 1
        ):
            for j in range(
                max(int(np.ceil(min(ax, bx, cx))), 0), min(int(np.floor(max(ax, bx, cx))), columns - 1) + 1
            ):
                u = ((bx - j) * (cy - i) - (by - i) * (cx - j)) / area
                v = ((cx - j) * (ay - i) - (cy - i) * (ax - j)) / area
                w = 1.0 - u - v
                if u < -1e-9 or v < -1e-9 or w < -1e-9:
                    continue
                filled[i, j] = 1.0
                for k in range(3):
                    out[i, j, k] = u * places[a, k] + v * places[b, k] + w * places[c, k]


def deep_moves(mesh: Mesh, matrix: F64, middle: F64, axes: F64, size: tuple[float, float]) -> F32:
    """The moves (h, w, 3) of a deep press that makes what stands in a frame, in half-widths of its longer side.

    The piece of clay that hangs together in the frame and has its middle on top is laid flat so that no part of it lies
    over another: each vertex in the mean of its neighbours, its rim round the frame (Tutte 1963).

    Parameters
    ----------
    matrix : (4, 4) float64
        Brings the mesh into the scene.
    middle, axes, size
        Of the frame, as `seen_heights.heights_seen` has them.

    Raises
    ------
    PressError
        When there is no such piece, it has no rim, or it is too large.
    """
    half = 0.5 * max(size)
    at = ((mesh.positions @ matrix[:3, :3].T + matrix[:3, 3] - middle) @ axes.T) / half
    reach = np.array(size) / max(size)
    triangles = triangulate(mesh.topology.faces)
    if np.linalg.det(matrix[:3, :3]) < 0:
        triangles = triangles[:, ::-1]
    inside: AnyArray = np.all(np.abs(at[:, :2]) <= reach, axis=1)
    triangles = triangles[inside[triangles].all(axis=1)]
    if len(triangles) == 0:
        raise PressError("There is no clay in the frame.")
    edges = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
    n = mesh.n_vertices
    graph = csr_matrix((np.ones(len(edges), np.int8), (edges[:, 0], edges[:, 1])), shape=(n, n))
    _, piece = connected_components(graph, directed=False)
    # The piece that is nearest to the eye in the middle of the frame.
    used = np.unique(triangles)
    near = used[np.hypot(at[used, 0], at[used, 1]) < 0.25 * reach.min()]
    if len(near) == 0:
        raise PressError("There is no clay in the middle of the frame: drag it about what is meant.")
    wanted = piece[near[np.argmax(at[near, 2])]]
    triangles = triangles[piece[triangles[:, 0]] == wanted]
    used, flat_index = np.unique(triangles, return_inverse=True)
    triangles = flat_index.reshape(-1, 3).astype(np.int32)
    if len(used) > MOST:
        raise PressError(
            f"The piece has {len(used):,} vertices; {MOST:,} is the most. Take it from a lower level."
        )
    places = at[used]
    ring = _rim(triangles, places)
    flat = _laid_flat(triangles, places, ring, reach)
    return _pictured(flat, places, triangles, reach)


def _rim(triangles: I32, places: F64) -> I32:
    """The vertices (k,) of the outermost open edge, in order."""
    edges = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
    n = len(places)
    forth = edges[:, 0].astype(np.int64) * n + edges[:, 1]
    back = edges[:, 1].astype(np.int64) * n + edges[:, 0]
    open_ = edges[~np.isin(forth, back)]
    if len(open_) == 0:
        raise PressError("What is in the frame has no rim: drag the frame so that clay goes on beyond it.")
    following: dict[int, int] = {int(a): int(b) for a, b in open_}
    best: list[int] = []
    size = -1.0
    while following:
        start, now = following.popitem()
        loop = [start]
        while now != start and now in following:
            loop.append(now)
            now = following.pop(now)
        box = float(np.prod(np.ptp(places[loop, :2], axis=0)))
        if now == start and box > size:
            best, size = loop, box
    if len(best) < 8:
        raise PressError(
            "The rim of what is in the frame is torn: mend the clay (Health), or drag another frame."
        )
    return np.array(best, np.int32)


def _laid_flat(triangles: I32, places: F64, ring: I32, reach: F64) -> F64:
    """Where each vertex lies in the frame, (n, 2): the rim round its edge, the others in the mean of their neighbours."""
    n = len(places)
    rim = places[ring, :2]
    centre = rim.mean(axis=0)
    angle = np.unwrap(np.arctan2(rim[:, 1] - centre[1], rim[:, 0] - centre[0]))
    turns = (angle[-1] - angle[0]) / (2 * np.pi)
    # Angles that only grow, once round: where the rim goes back on itself it is drawn straight.
    if turns < 0:
        angle = -angle
    angle = np.maximum.accumulate(angle)
    angle = angle[0] + (angle - angle[0]) * (
        2 * np.pi * (1 - 1 / len(ring)) / max(angle[-1] - angle[0], 1e-9)
    )
    angle = angle + np.arange(len(ring)) * 1e-9
    if turns < 0:
        angle = -angle
    way = np.stack([np.cos(angle), np.sin(angle)], -1)
    # On the frame's own rectangle: its sides are straight, which is enough.
    edge = (
        way
        * np.minimum(
            reach[0] / np.maximum(np.abs(way[:, 0]), 1e-9), reach[1] / np.maximum(np.abs(way[:, 1]), 1e-9)
        )[:, None]
    )
    held = np.zeros(n, bool)
    held[ring] = True
    edges = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
    rows, columns = np.concatenate([edges, edges[:, ::-1]]).T
    link = coo_matrix((np.ones(len(rows)), (rows, columns)), shape=(n, n)).tocsr()
    link.data[:] = 1.0
    free = np.flatnonzero(~held)
    flat = np.zeros((n, 2))
    flat[ring] = edge
    count = np.asarray(link.sum(axis=1)).ravel()
    inner = link[free]
    system = (
        csr_matrix((count[free], (np.arange(len(free)), np.arange(len(free)))), shape=(len(free), len(free)))
        - inner[:, free]
    )
    flat[free] = spsolve(system.tocsc(), inner[:, ring] @ edge).reshape(len(free), 2)
    return flat


def _pictured(flat: F64, places: F64, triangles: I32, reach: F64) -> F32:
    """The moves (h, w, 3): from where each place of the frame lies flat to where the clay has it."""
    wide, high = max(round(WIDE * float(reach[0])), 8), max(round(WIDE * float(reach[1])), 8)
    pixels = np.stack(
        [(flat[:, 0] / reach[0] + 1) * 0.5 * wide - 0.5, (1 - flat[:, 1] / reach[1]) * 0.5 * high - 0.5], -1
    )
    out, filled = np.zeros((high, wide, 3), np.float32), np.zeros((high, wide), np.float32)
    _drawn(np.ascontiguousarray(pixels), np.ascontiguousarray(places), triangles, out, filled)
    x = ((np.arange(wide) + 0.5) / wide * 2 - 1) * reach[0]
    y = (1 - (np.arange(high) + 0.5) / high * 2) * reach[1]
    # The base is the plane that goes through the rim.
    edge = np.minimum(1 - np.abs(x / reach[0])[None], 1 - np.abs(y / reach[1])[:, None])
    there = filled > 0
    rim = there & (edge < RIM)
    gx, gy = np.broadcast_to(x, out.shape[:2]), np.broadcast_to(y[:, None], out.shape[:2])
    on = np.stack([gx[rim], gy[rim], np.ones(int(rim.sum()))], -1)
    plane, *_ = np.linalg.lstsq(on, out[rim, 2], rcond=None)
    base = plane[0] * gx + plane[1] * gy + plane[2]
    moves = np.stack([out[..., 0] - gx, out[..., 1] - gy, out[..., 2] - base], -1)
    t = np.clip(edge / RIM, 0, 1)
    moves *= (there * t * t * (3 - 2 * t))[..., None]
    return np.ascontiguousarray(moves, np.float32)
