"""The ground that quads are laid on: dense clay as even triangles of a wanted length, with the lines that have to stay.

Split, collapse, flip and even out (Botsch and Kobbelt 2004), with lengths that may change from place to place.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from kneten.core.arrays import F32, F64, I32, I64, U8, Progress, kernel
from kneten.core.face_tree import FaceTree
from kneten.core.quads.halves import (
    ROUND,
    Halves,
    around,
    before,
    collapse,
    flip,
    length2,
    may_collapse,
    may_flip,
    normal_of,
    split,
)
from kneten.core.topology import as_faces

ROUNDS = 4
"""Times that all is split, collapsed, flipped and evened out."""

LONG, SHORT = 4 / 3, 4 / 5
"""Edges longer and shorter than so many times what is wanted are split and collapsed."""

LEAN = 0.5
"""A face turns by less than 60 degrees when an edge goes."""


@dataclass(frozen=True)
class Source:
    """The clay that is worked after, as triangles.

    Attributes
    ----------
    points : (n, 3) float64
    triangles : (m, 3) int32
    normals : (n, 3) float32
    lines : (k, 2, 3) float64
        Pieces of the lines that have to stay, in place.
    kinds : (k,) uint8
        Which line each is of: vertices stay on their own.
    marked : (e,) int64
    marks : (e,) uint8
        The edges that they are, as `halves.edge_keys` numbers them, and their lines.
    corners : (c,) int32
        The vertices at which they turn sharply.
    begun : (n, 3) float64
        Where the vertices are as the ground is begun: those of lines without small steps.
    tree : FaceTree
    """

    points: F64
    triangles: I32
    normals: F32
    lines: F64
    kinds: U8
    marked: I64
    marks: U8
    corners: I32
    begun: F64
    tree: FaceTree

    @classmethod
    def of(
        cls,
        points: F64,
        triangles: I32,
        lines: tuple[F64, U8],
        marked: tuple[I64, U8],
        corners: I32 | None = None,
        begun: F64 | None = None,
    ) -> Source:
        """Grow what is needed to look places up on triangles (m, 3) between points (n, 3).

        `lines` and `marked` come with the kinds of each: (k, 2, 3) and (k,), (e,) and (e,).
        """
        corners = np.empty(0, np.int32) if corners is None else corners
        begun = points if begun is None else begun
        tree = FaceTree.over(points.astype(np.float32), as_faces(triangles))
        normals = vertex_normals(points, triangles).astype(np.float32)
        return cls(points, triangles, normals, *lines, *marked, corners, begun, tree)

    def with_lines(self, pieces: F64, kinds: U8) -> Source:
        """The same with more pieces (k, 2, 3) of lines, of kinds (k,)."""
        return replace(
            self, lines=np.concatenate([self.lines, pieces]), kinds=np.concatenate([self.kinds, kinds])
        )


def vertex_normals(points: F64, triangles: I32) -> F64:
    """Unit normals (n, 3) at vertices, by the area of the triangles (m, 3) around."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    across = np.cross(b - a, c - a)
    total = np.stack(
        [np.bincount(triangles.reshape(-1), np.repeat(across[:, k], 3), len(points)) for k in range(3)],
        axis=-1,
    )
    return np.asarray(total / np.maximum(np.linalg.norm(total, axis=1, keepdims=True), 1e-300))


@kernel
def _split_long(points: F64, at: I32, opp: I32, out: I32, mark: U8, sizes: F64, lines: I32, n: int, f: int) -> tuple[int, int]:  # fmt: skip
    """Halve what is too long while there is room; returns how many vertices and faces there are then."""
    most_n, most_f = out.shape[0], at.shape[0] // 3
    for h in range(3 * f):
        if at[h] < 0 or (opp[h] >= 0 and opp[h] < h):
            continue
        v, w = at[h], at[h - 2 if h % 3 == 2 else h + 1]
        size = LONG * 0.5 * (sizes[v] + sizes[w])
        long = length2(points, v, w)
        if long <= size * size:
            continue
        # The longest side of both faces only: shorter ones first would make needles, without end.
        c = at[before(h)]
        longest = max(length2(points, v, c), length2(points, w, c))
        if opp[h] >= 0:
            c = at[before(opp[h])]
            longest = max(longest, max(length2(points, v, c), length2(points, w, c)))
        if long < 0.999 * longest:
            continue
        if n + 1 > most_n or f + 2 > most_f:
            break
        for k in range(3):
            points[n, k] = 0.5 * (points[v, k] + points[w, k])
        sizes[n] = 0.5 * (sizes[v] + sizes[w])
        lines[n] = 2 if mark[h] != 0 or opp[h] < 0 else 0
        f += split(h, n, f, at, opp, out, mark)
        n += 1
    return n, f


@kernel
def _collapse_short(
    points: F64, at: I32, opp: I32, out: I32, mark: U8, sizes: F64, lines: I32, leaning: float
) -> int:
    ring = np.empty(ROUND, np.int32)
    other = np.empty(ROUND, np.int32)
    gone = 0
    for h in range(at.shape[0]):
        if at[h] < 0:
            continue
        v, w = at[h], at[h - 2 if h % 3 == 2 else h + 1]
        size = 0.5 * (sizes[v] + sizes[w])
        if length2(points, v, w) >= (SHORT * size) ** 2:
            continue
        if may_collapse(h, points, at, opp, out, mark, lines, ring, other, (LONG * size) ** 2, leaning):
            collapse(h, at, opp, out, mark, ring)
            gone += 1
    return gone


@kernel
def _flip_uneven(points: F64, at: I32, opp: I32, out: I32, mark: U8, lines: I32) -> int:
    """Flip where that brings the numbers of neighbours nearer to six, four on a line that ends the surface."""
    ring = np.empty(ROUND, np.int32)
    flipped = 0
    want = np.empty(4, np.int32)
    ends = np.empty(4, np.int32)
    for h in range(at.shape[0]):
        o = opp[h]
        if at[h] < 0 or o < h or mark[h] != 0:
            continue
        ends[0], ends[1], ends[2], ends[3] = at[h], at[o], at[before(h)], at[before(o)]
        was, now = 0, 0
        for k in range(4):
            n, closed = around(ends[k], opp, out, ring)
            count = n if closed else n + 1
            want[k] = 6 if closed else 4
            off = count - want[k]
            was += off * off
            off += -1 if k < 2 else 1
            now += off * off
        if now < was and may_flip(h, points, at, opp, out, mark, ring, 0.5):
            flip(h, at, opp, out, mark)
            flipped += 1
    return flipped


@kernel
def _even_out(points: F64, at: I32, opp: I32, out: I32, mark: U8, lines: I32, sizes: F64, new: F64) -> None:
    """Half-way to the middle of what is around, weighed by area, in the plane; on lines along these only."""
    ring = np.empty(ROUND, np.int32)
    for v in range(out.shape[0]):
        for k in range(3):
            new[v, k] = points[v, k]
        if out[v] < 0 or (lines[v] != 0 and lines[v] != 2):
            continue
        n, closed = around(v, opp, out, ring)
        if n < 0:
            continue
        x, y, z, total = 0.0, 0.0, 0.0, 0.0
        nx, ny, nz = 0.0, 0.0, 0.0
        for i in range(n + (0 if closed else 1)):
            on_line = False
            if i < n:
                g = ring[i]
                w = at[g - 2 if g % 3 == 2 else g + 1]
                on_line = mark[g] != 0 or opp[g] < 0
                p, q, r = normal_of(points, v, w, at[before(g)])
                nx += p
                ny += q
                nz += r
            else:
                g = before(ring[n - 1])
                w = at[g]
                on_line = True
            if lines[v] == 2 and not on_line:
                continue
            share = sizes[v] / sizes[w]
            x += share * points[w, 0]
            y += share * points[w, 1]
            z += share * points[w, 2]
            total += share
        if total <= 0.0:
            continue
        x, y, z = x / total - points[v, 0], y / total - points[v, 1], z / total - points[v, 2]
        if lines[v] == 0:
            size = nx * nx + ny * ny + nz * nz
            if size > 0.0:
                off = (x * nx + y * ny + z * nz) / size
                x -= off * nx
                y -= off * ny
                z -= off * nz
        new[v, 0] += 0.6 * x
        new[v, 1] += 0.6 * y
        new[v, 2] += 0.6 * z


class Lines:
    """Pieces of lines, looked up by place, each line by itself."""

    def __init__(self, pieces: F64, kinds: U8) -> None:
        """Take pieces (k, 2, 3) of lines of kinds (k,)."""
        self._lines = {int(kind): _Line(pieces[kinds == kind]) for kind in np.unique(kinds)}

    def nearest(self, points: F64, kinds: U8) -> F64:
        """The places nearest to points (k, 3) on the lines of kinds (k,); the points themselves where there is none of that."""
        out = points.copy()
        for kind in np.unique(kinds):
            line = self._lines.get(int(kind))
            if line is not None:
                mine = kinds == kind
                out[mine] = line.nearest(points[mine])
        return out


class _Line:
    """Pieces (k, 2, 3) of one line."""

    def __init__(self, pieces: F64) -> None:
        self._pieces = pieces
        lengths = np.linalg.norm(pieces[:, 1] - pieces[:, 0], axis=1)
        step = max(float(np.median(lengths)), float(lengths.sum()) / 200_000, 1e-12)
        parts = np.clip(np.ceil(lengths / step), 1, 10_000).astype(int)
        self._of = np.repeat(np.arange(len(pieces)), parts)
        inside = np.arange(len(self._of)) - np.repeat(np.cumsum(parts) - parts, parts)
        share = ((inside + 0.5) / parts[self._of])[:, None]
        self._tree = cKDTree(pieces[self._of, 0] + share * (pieces[self._of, 1] - pieces[self._of, 0]))

    def nearest(self, points: F64) -> F64:
        """The places nearest to points (k, 3)."""
        _, found = self._tree.query(points, k=min(4, len(self._of)))
        found = np.asarray(found).reshape(len(points), -1)
        best, out = np.full(len(points), np.inf), points.copy()
        for k in range(found.shape[1]):
            piece = self._pieces[self._of[found[:, k]]]
            way = piece[:, 1] - piece[:, 0]
            share = ((points - piece[:, 0]) * way).sum(1) / np.maximum((way * way).sum(1), 1e-300)
            place = piece[:, 0] + np.clip(share, 0, 1)[:, None] * way
            far = ((place - points) ** 2).sum(1)
            nearer = far < best
            best[nearer], out[nearer] = far[nearer], place[nearer]
        return out


def on_source(source: Source, points: F64, normals: F64, reach: float, progress: Progress) -> tuple[F64, F64]:
    """The nearest places (k, 3) of the clay that face as points (k, 3) do by normals (k, 3), with the clay's normals there."""
    at = np.ascontiguousarray(points, np.float32)
    ways = np.ascontiguousarray(normals, np.float32)
    reaches = np.full(len(at), reach, np.float32)
    found, _ = source.tree.nearest(at, reaches, progress, ways, 0.2)
    lost = np.flatnonzero(~found.there).astype(np.int32)
    if len(lost):
        # Nothing that faces the same way: whatever is near.
        found, _ = source.tree.nearest(at, np.full(len(at), np.inf, np.float32), progress, rows=lost, into=(found, np.full(len(at), np.inf, np.float32)))  # fmt: skip
    shares = found.shares.astype(np.float64)[:, :, None]
    there = found.there[:, None]
    places = np.where(there, (source.points[found.corners] * shares).sum(axis=1), points)
    facing = np.where(there, (source.normals[found.corners] * shares).sum(axis=1), normals)
    return places, facing / np.maximum(np.linalg.norm(facing, axis=1, keepdims=True), 1e-12)


def laid(source: Source, sizes: F64, progress: Progress, work: Halves | None = None, rounds: int = ROUNDS, share: tuple[float, float] = (0.0, 1.0)) -> tuple[Halves, F64]:  # fmt: skip
    """Even triangles over the clay.

    Parameters
    ----------
    sizes : (n,) float64
        How long edges are to be at the vertices of `work`, those of the clay where that is not given.
    work : Halves, optional
        What to go on with.

    Returns
    -------
    work : Halves
    sizes : (k,) float64
        At its vertices.
    """
    if work is None:
        work = Halves.of(source.begun, source.triangles, source.marked, source.corners, source.marks)
        fans = len(work.points) - len(sizes)
        if fans:
            # Fans that got a vertex of their own lie where the one they had lies.
            sizes = np.concatenate([sizes, np.full(fans, float(np.median(sizes)))])
    lines = Lines(source.lines, source.kinds)
    for turn in range(rounds):
        progress.report(share[0] + (share[1] - share[0]) * turn / rounds, "Laying even triangles")
        for _ in range(8):
            # Dense clay first gets fewer: what is long then is split.
            work, sizes, gone = _collapsed(work, sizes, LEAN if turn or _ else 0.3)
            if gone < 0.01 * len(work.points):
                break
            progress.report(share[0] + (share[1] - share[0]) * turn / rounds, "Laying even triangles")
        work, sizes = _without_long(work, sizes)
        work, sizes, _ = _collapsed(work, sizes, LEAN)
        for _ in range(3):
            if not _flip_uneven(work.points, work.at, work.opp, work.out, work.mark, work.line_counts()):
                break
        for _ in range(3):
            new = np.empty_like(work.points)
            counts = work.line_counts()
            _even_out(work.points, work.at, work.opp, work.out, work.mark, counts, sizes, new)
            work.points = placed(source, lines, work, new, counts, float(sizes.max()), progress)
    return work, sizes


def placed(
    source: Source, lines: Lines, work: Halves, new: F64, counts: I32, size: float, progress: Progress
) -> F64:
    """Places (n, 3) for vertices on the clay, on its lines where they belong to one; corners stay where they are."""
    normals = vertex_normals(new, work.triangles)
    inside = counts == 0
    out = new.copy()
    out[inside], _ = on_source(source, new[inside], normals[inside], 4 * size, progress)
    on = counts == 2
    out[on] = lines.nearest(new[on], work.kinds()[on])
    return out


def _collapsed(work: Halves, sizes: F64, leaning: float) -> tuple[Halves, F64, int]:
    counts = work.line_counts()
    gone = _collapse_short(work.points, work.at, work.opp, work.out, work.mark, sizes, counts, leaning)
    left = work.packed()
    return work, sizes[left], int(gone)


def _without_long(work: Halves, sizes: F64) -> tuple[Halves, F64]:
    for _ in range(64):
        n, f = len(work.out), len(work.at) // 3
        counts = work.line_counts()
        _, a, b = work.edges()
        long = np.linalg.norm(work.points[a] - work.points[b], axis=1) > LONG * 0.5 * (sizes[a] + sizes[b])
        more = int(long.sum())
        if not more:
            break
        work.room(more, 2 * more)
        sizes = np.concatenate([sizes, np.ones(more)])
        counts = np.concatenate([counts, np.zeros(more, np.int32)])
        _split_long(work.points, work.at, work.opp, work.out, work.mark, sizes, counts, n, f)
        left = work.packed()
        sizes = sizes[left]
    return work, sizes
