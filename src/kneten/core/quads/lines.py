"""The lines that quads keep to: open edges, sharp edges, borders of regions, guides, the plane of symmetry."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix
from scipy.sparse.csgraph import connected_components, dijkstra
from scipy.spatial import cKDTree

from kneten.core.arrays import F64, I32, I64, U8, AnyArray, kernel
from kneten.core.guides import resampled
from kneten.core.quads.halves import Halves, edge_keys

REGIONS, SHARPS, GUIDES = 1, 2, 3
"""Kinds of lines besides `halves.BORDER`; each guide is one of its own."""

SHARP = 40.0
"""Faces that meet at a greater angle, in degrees, meet at a sharp edge."""

CRUMB = 1.5
"""Sharp edges that hang together over fewer edges of a quad than so many are no lines."""


class Edges:
    """The edges of triangles, with the triangles at each.

    Attributes
    ----------
    keys : (k,) int64
    ends : (k, 2) int32
    counts : (k,) int
        How many triangles meet there.
    first, second : (k,) int
        Two of them; the same one where there is only one.
    """

    def __init__(self, triangles: I32, n: int) -> None:
        """List the edges of triangles (m, 3) between n vertices."""
        a = triangles.reshape(-1)
        b = np.roll(triangles, -1, axis=1).reshape(-1)
        keys = edge_keys(a, b, n)
        order = np.argsort(keys, kind="stable")
        ranked = keys[order]
        start = np.flatnonzero(np.concatenate([[True], ranked[1:] != ranked[:-1]]))
        self.keys: I64 = ranked[start]
        self.counts = np.diff(np.concatenate([start, [len(ranked)]]))
        self.first = order[start] // 3
        self.second = np.where(self.counts > 1, order[np.minimum(start + 1, len(order) - 1)] // 3, self.first)
        self.ends = np.stack([self.keys // n, self.keys % n], axis=-1).astype(np.int32)


def sharp_edges(points: F64, triangles: I32, edges: Edges, least: float) -> AnyArray:
    """Which edges (k,) bool are sharp, but for those that hang together over less than a length."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    normals = np.cross(b - a, c - a)
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-300)
    sharp = (normals[edges.first] * normals[edges.second]).sum(1) < np.cos(np.radians(SHARP))
    sharp &= edges.counts == 2
    if not sharp.any():
        return np.asarray(sharp)
    ends = edges.ends[sharp]
    table = coo_matrix((np.ones(len(ends)), (ends[:, 0], ends[:, 1])), (len(points), len(points)))
    _, label = connected_components(table, directed=False)
    lengths = np.linalg.norm(points[ends[:, 0]] - points[ends[:, 1]], axis=1)
    long = np.bincount(label[ends[:, 0]], lengths, label.max() + 1)
    sharp[np.flatnonzero(sharp)] = long[label[ends[:, 0]]] > least
    return np.asarray(sharp)


def smoothed_lines(points: F64, ends: I32, reach: float) -> F64:
    """Where the vertices (n, 3) of lines, edges (k, 2), lie once steps shorter than a reach are evened out; ends stay."""
    n = len(points)
    met = np.bincount(ends.reshape(-1), minlength=n)
    moves = np.flatnonzero(met == 2)
    if not len(moves):
        return points
    lengths = np.linalg.norm(points[ends[:, 0]] - points[ends[:, 1]], axis=1)
    rounds = int(np.clip((reach / max(float(np.median(lengths)), 1e-12)) ** 2, 4, 400))
    used = np.unique(ends)
    small = np.full(n, -1, np.int32)
    small[used] = np.arange(len(used))
    e = small[ends]
    ones = np.ones(len(e))
    table = coo_matrix(
        (
            np.concatenate([ones, ones]),
            (np.concatenate([e[:, 0], e[:, 1]]), np.concatenate([e[:, 1], e[:, 0]])),
        )
    ).tocsr()
    at, move = points[used].copy(), small[moves]
    for _ in range(rounds):
        at[move] = 0.5 * at[move] + 0.25 * (table @ at)[move]
    out = points.copy()
    out[used] = at
    return out


SHARPEST = 0.5
"""A line that turns by more than 60 degrees, seen over half an edge of a quad each way, has a corner there."""


@kernel
def _turns(points: F64, near: I32, reach: float, out: F64) -> None:
    """The cosine of how much a line turns at each vertex that has two neighbours on it, looked at from a reach away; 1 for others."""
    for v in range(near.shape[0]):
        out[v] = 1.0
        if near[v, 0] < 0 or near[v, 1] < 0:
            continue
        way = np.zeros((2, 3))
        for side in range(2):
            last, here, far = v, near[v, side], 0.0
            while True:
                far += np.sqrt(
                    (points[here, 0] - points[last, 0]) ** 2
                    + (points[here, 1] - points[last, 1]) ** 2
                    + (points[here, 2] - points[last, 2]) ** 2
                )
                if far >= reach:
                    break
                ahead = near[here, 0] if near[here, 0] != last else near[here, 1]
                if ahead < 0 or ahead == v:
                    break
                last, here = here, ahead
            for k in range(3):
                way[side, k] = points[here, k] - points[v, k]
        d, a, b = 0.0, 0.0, 0.0
        for k in range(3):
            d += way[0, k] * way[1, k]
            a += way[0, k] ** 2
            b += way[1, k] ** 2
        out[v] = -d / max(np.sqrt(a * b), 1e-300)


def line_corners(points: F64, ends: I32, reach: float) -> I32:
    """The vertices (c,) at which lines, edges (k, 2) between points (n, 3), turn sharply, one within a reach."""
    n = len(points)
    both = np.concatenate([ends, ends[:, ::-1]]).astype(np.int32)
    both = both[np.argsort(both[:, 0], kind="stable")]
    met = np.bincount(both[:, 0], minlength=n)
    first = np.cumsum(met) - met
    near = np.full((n, 2), -1, np.int32)
    two = np.flatnonzero(met == 2)
    near[two, 0], near[two, 1] = both[first[two], 1], both[first[two] + 1, 1]
    turns = np.empty(n)
    _turns(points, near, reach, turns)
    sharp = np.flatnonzero(turns < SHARPEST)
    sharp = sharp[np.argsort(turns[sharp], kind="stable")]
    if not len(sharp):
        return np.empty(0, np.int32)
    tree = cKDTree(points[sharp])
    taken, found = np.zeros(len(sharp), bool), []
    for i in range(len(sharp)):
        if not taken[i]:
            found.append(sharp[i])
            taken[tree.query_ball_point(points[sharp[i]], reach)] = True
    return np.array(found, np.int32)


def cut_at_plane(points: F64, triangles: I32, axis: int) -> tuple[F64, I32, I32]:
    """The half of triangles (m, 3) on the far side of the plane where a coordinate is 0, open along it.

    Returns
    -------
    points : (k, 3) float64
    triangles : (j, 3) int32
    origin : (k, 2) int32
        The vertices that each lies between, twice the same for one that was there.
    """
    n = len(points)
    at = points[:, axis].copy()
    size = float(np.abs(points).max()) or 1.0
    ends = np.roll(triangles, -1, axis=1)
    lengths = np.linalg.norm(points[triangles[:, 0]] - points[triangles[:, 1]], axis=1)
    near = max(0.02 * float(np.median(lengths)) if len(lengths) else 0.0, 1e-9 * size)
    at[np.abs(at) < near] = 0.0
    moved = points.copy()
    moved[:, axis] = at
    side = np.sign(at).astype(np.int8)
    corner = side[triangles]
    whole = (corner >= 0).all(axis=1) & (corner > 0).any(axis=1)
    crossed = (corner > 0).any(axis=1) & (corner < 0).any(axis=1)
    a, b = triangles.reshape(-1), ends.reshape(-1)
    cuts = (side[a] * side[b] < 0) & np.repeat(crossed, 3)
    keys = edge_keys(a, b, n)
    made = np.unique(keys[cuts])
    low, high = (made // n).astype(np.int32), (made % n).astype(np.int32)
    share = (at[low] / (at[low] - at[high]))[:, None]
    new = moved[low] * (1 - share) + moved[high] * share
    new[:, axis] = 0.0
    name = np.where(cuts, n + np.searchsorted(made, keys), -1).reshape(-1, 3)
    faces = [triangles[whole]]
    for k in range(3):
        # From the corner that lies alone on its side, or whose own side is the plane.
        i, j, m = (triangles[:, (k + s) % 3] for s in range(3))
        ij, jm, mi = (name[:, (k + s) % 3] for s in range(3))
        si, sj, sm = (corner[:, (k + s) % 3] for s in range(3))
        alone = crossed & (si > 0) & (sj < 0) & (sm < 0)
        faces.append(np.stack([i, ij, mi], axis=-1)[alone])
        below = crossed & (si < 0) & (sj > 0) & (sm > 0)
        faces.append(np.stack([ij, j, m], axis=-1)[below])
        faces.append(np.stack([ij, m, mi], axis=-1)[below])
        through = crossed & (si == 0) & (sj > 0) & (sm < 0)
        faces.append(np.stack([i, j, jm], axis=-1)[through])
        through = crossed & (si == 0) & (sj < 0) & (sm > 0)
        faces.append(np.stack([i, jm, m], axis=-1)[through])
    every = np.concatenate(faces).astype(np.int32)
    used = np.unique(every)
    names = np.full(n + len(made), -1, np.int32)
    names[used] = np.arange(len(used), dtype=np.int32)
    same = np.arange(n, dtype=np.int32)
    origin = np.concatenate([np.stack([same, same], axis=-1), np.stack([low, high], axis=-1)])
    return np.concatenate([moved, new])[used], names[every], origin[used]


def on_one_side(guides: Sequence[F64], axis: int, near: float) -> list[F64]:
    """Guides (k, 3) as they run on the far side of a plane of symmetry: those on the other side mirrored, twins once."""
    found: list[F64] = []
    for line in guides:
        if line[:, axis].mean() < 0:
            line = line.copy()
            line[:, axis] *= -1
        for piece in _runs(line, line[:, axis] >= -near):
            piece = piece.copy()
            piece[:, axis] = np.maximum(piece[:, axis], 0.0)
            if float(piece[:, axis].max()) < near:
                # It lies in the plane, where there is a line already.
                continue
            far = [float(cKDTree(other).query(piece)[0].mean()) for other in found]
            if min(far, default=np.inf) > near:
                found.append(piece)
    return found


def _runs(line: F64, keep: AnyArray) -> list[F64]:
    """The pieces of a line whose points are kept, of two points at least."""
    ends = np.flatnonzero(np.diff(np.concatenate([[0], keep.astype(np.int8), [0]])))
    return [line[first:last] for first, last in zip(ends[::2], ends[1::2], strict=True) if last - first > 1]


def laid_in(work: Halves, guides: Sequence[F64], size: float) -> tuple[Halves, F64, U8]:
    """Make lines of the ground's edges that run nearest to guides (k, 3), and move their vertices there.

    Returns
    -------
    work : Halves
    pieces : (j, 2, 3) float64
        The guides in pieces.
    kinds : (j,) uint8
        Which line each piece is of.
    """
    pieces, kinds = [np.empty((0, 2, 3))], [np.empty(0, np.uint8)]
    for number, guide in enumerate(guides):
        line = resampled(guide, size * 0.25, False)
        if len(line) < 3:
            continue
        kind = GUIDES + number % (256 - GUIDES)
        pieces.append(np.stack([line[:-1], line[1:]], axis=1))
        kinds.append(np.full(len(line) - 1, kind, np.uint8))
        closed = float(np.linalg.norm(line[0] - line[-1])) < size
        third = len(line) // 3
        parts = [line[: third + 1], line[third : 2 * third + 1], line[2 * third :]] if closed else [line]
        if closed:
            parts[-1] = np.concatenate([parts[-1], line[:1]])
        for part in parts:
            _mark_way(work, part, size, kind)
    return work, np.concatenate(pieces), np.concatenate(kinds)


def _mark_way(work: Halves, line: F64, size: float, kind: int) -> None:
    """Mark the edges along a line (k, 3), and move their vertices onto it."""
    tree = cKDTree(line)
    far, nearest = tree.query(work.points, distance_upper_bound=2.0 * size)
    band = np.flatnonzero(np.isfinite(far))
    if len(band) < 2:
        return
    small = np.full(len(work.points), -1, np.int32)
    small[band] = np.arange(len(band))
    once, a, b = work.edges()
    both = (small[a] >= 0) & (small[b] >= 0)
    once, a, b = once[both], small[a[both]], small[b[both]]
    off = far[band] / size
    lengths = np.linalg.norm(work.points[band[a]] - work.points[band[b]], axis=1)
    cost = lengths * (1.0 + 6.0 * (off[a] ** 2 + off[b] ** 2))
    table = csr_matrix((cost, (a, b)), (len(band), len(band)))
    ends = [int(np.argmin(((work.points[band] - end) ** 2).sum(1))) for end in (line[0], line[-1])]
    if ends[0] == ends[1]:
        return
    distance, before = dijkstra(table, directed=False, indices=ends[0], return_predecessors=True)
    if not np.isfinite(distance[ends[1]]):
        return
    way = [ends[1]]
    while way[-1] != ends[0]:
        way.append(int(before[way[-1]]))
    at = band[np.array(way)]
    keys = edge_keys(at[:-1].astype(np.int32), at[1:].astype(np.int32), len(work.points))
    marked = np.isin(edge_keys(work.at, work.ends, len(work.points)), keys) & (work.at >= 0)
    lines = work.line_counts()
    work.mark[marked] = kind
    free = at[lines[at] == 0]
    work.points[free] = line[nearest[free]]
