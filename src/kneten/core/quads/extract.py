"""A cage of quads read off fields: the ground's vertices that belong to one corner become one, and triangles pair up.

Every step changes a surface into a surface, so that the cage is as two-manifold as the ground, with the same holes and handles.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F64, I32, I64, U8, AnyArray, kernel
from kneten.core.quads.field import like_arms, like_places
from kneten.core.quads.halves import BORDER, ROUND, Halves, before, collapse, flip, may_collapse, may_flip

LEAST_SHAPE = 0.12
"""Triangles become a quad where its worst corner has at least this sine."""

FARTHEST = 24
"""Triangles that two single ones may be apart to be paired by changing the pairs between them."""


@dataclass(frozen=True)
class Cage:
    """Quads and what lines they keep to.

    Attributes
    ----------
    points : (n, 3) float64
    faces : (f, 4) int32
        -1 for a triangle's last corner.
    lines : (k, 2) int32
        Edges that lie on lines.
    kinds : (k,) uint8
        Which line each is on.
    """

    points: F64
    faces: I32
    lines: I32
    kinds: U8


@kernel
def _apart(
    points: F64, normals: F64, crosses: F64, places: F64, sizes: F64, a: I32, b: I32, steps: I64, far: F64
) -> None:  # fmt: skip
    """How many edges lie between the places of vertices, sorted, into `steps` (k, 2), and how well that fits into `far` (k,)."""
    arms, out, shift, mid = np.empty((2, 3)), np.empty((2, 3)), np.empty((2, 2), np.int64), np.empty(3)
    for k in range(a.shape[0]):
        i, j = a[k], b[k]
        size = 0.5 * (sizes[i] + sizes[j])
        like_arms(normals[i], crosses[i], normals[j], crosses[j], arms)
        far[k] = like_places(
            points[i], normals[i], crosses[i], places[i], points[j], normals[j], crosses[j], places[j], size, arms, mid, out, shift
        )  # fmt: skip
        far[k] = np.sqrt(far[k]) / size
        u, v = abs(shift[0, 0] - shift[1, 0]), abs(shift[0, 1] - shift[1, 1])
        steps[k, 0], steps[k, 1] = max(u, v), min(u, v)


@kernel
def _join(
    order: I32, points: F64, places: F64, at: I32, opp: I32, out: I32, mark: U8, lines: I32, leaning: float
) -> int:
    """Collapse edges in an order; the vertex that lies nearer to its place is kept."""
    ring, other = np.empty(ROUND, np.int32), np.empty(ROUND, np.int32)
    gone = 0
    for e in range(order.shape[0]):
        h = order[e]
        if at[h] < 0:
            continue
        o = opp[h]
        v, w = at[h], at[h - 2 if h % 3 == 2 else h + 1]
        first, second = h, o
        fv, fw = 0.0, 0.0
        for k in range(3):
            fv += (points[v, k] - places[v, k]) ** 2
            fw += (points[w, k] - places[w, k]) ** 2
        if o < 0:
            # On an open edge the half-edge goes one way only: what it begins at is drawn to where it ends.
            if may_collapse(h, points, at, opp, out, mark, lines, ring, other, np.inf, leaning):
                collapse(h, at, opp, out, mark, ring)
                gone += 1
            continue
        if fv < fw:
            first, second = o, h
        if may_collapse(first, points, at, opp, out, mark, lines, ring, other, np.inf, leaning):
            collapse(first, at, opp, out, mark, ring)
            gone += 1
        elif may_collapse(second, points, at, opp, out, mark, lines, ring, other, np.inf, leaning):
            collapse(second, at, opp, out, mark, ring)
            gone += 1
    return gone


@kernel
def _cosine(points: F64, a: int, b: int, c: int) -> float:
    """The cosine of the angle at `a` of a triangle."""
    d, u, w = 0.0, 0.0, 0.0
    for k in range(3):
        x, y = points[b, k] - points[a, k], points[c, k] - points[a, k]
        d += x * y
        u += x * x
        w += y * y
    return float(d / max(np.sqrt(u * w), 1e-300))


@kernel
def _flip_to_even(points: F64, at: I32, opp: I32, out: I32, mark: U8) -> int:
    """Flip edges whose far angles add up to more than 180 degrees."""
    ring = np.empty(ROUND, np.int32)
    flipped = 0
    for h in range(at.shape[0]):
        o = opp[h]
        if at[h] < 0 or o < h or mark[h] != 0:
            continue
        v, w, a, b = at[h], at[o], at[before(h)], at[before(o)]
        one = np.arccos(min(max(_cosine(points, a, v, w), -1.0), 1.0))
        two = np.arccos(min(max(_cosine(points, b, v, w), -1.0), 1.0))
        if one + two > np.pi + 0.15 and may_flip(h, points, at, opp, out, mark, ring, 0.2):
            flip(h, at, opp, out, mark)
            flipped += 1
    return flipped


@dataclass
class Corners:
    """Vertices of a ground with their fields, while they become corners of quads."""

    work: Halves
    normals: F64
    crosses: F64
    places: F64
    sizes: F64

    def _pack(self) -> None:
        left = self.work.packed()
        self.normals, self.crosses = self.normals[left], self.crosses[left]
        self.places, self.sizes = self.places[left], self.sizes[left]

    def join(self) -> None:
        """Make one vertex of those that belong to the same corner."""
        work = self.work
        for leaning in (0.2, 0.0, -0.3, -0.3, -0.3, -0.3):
            once, a, b = work.edges()
            steps, far = np.empty((len(a), 2), np.int64), np.empty(len(a))
            _apart(work.points, self.normals, self.crosses, self.places, self.sizes, a, b, steps, far)
            same = np.flatnonzero(steps[:, 0] == 0)
            order = once[same[np.argsort(far[same], kind="stable")]]
            gone = _join(
                order,
                work.points,
                self.places,
                work.at,
                work.opp,
                work.out,
                work.mark,
                work.line_counts(),
                leaning,
            )
            self._pack()
            if not gone and leaning < 0:
                break

    def join_short(self, least: float) -> None:
        """Collapse what is shorter than so many edges of a quad, once vertices lie at their places."""
        work = self.work
        for _ in range(4):
            once, a, b = work.edges()
            lengths = np.linalg.norm(work.points[a] - work.points[b], axis=1) / (
                0.5 * (self.sizes[a] + self.sizes[b])
            )
            short = np.flatnonzero(lengths < least)
            order = once[short[np.argsort(lengths[short], kind="stable")]]
            gone = _join(order, work.points, self.places, work.at, work.opp, work.out, work.mark, work.line_counts(), 0.2)  # fmt: skip
            self._pack()
            if not gone:
                break

    def flip(self) -> None:
        """Flip until no edge is the long diagonal of its two faces."""
        work = self.work
        for _ in range(8):
            if not _flip_to_even(work.points, work.at, work.opp, work.out, work.mark):
                break

    def cage(self) -> Cage:
        """Quads of pairs of triangles, with the triangles that are left single."""
        work = self.work
        once, a, b = work.edges()
        inner = (work.opp[once] >= 0) & (work.mark[once] == 0)
        halves = once[inner]
        corners = np.stack([work.at[halves], work.at[_before(work.opp[halves])], work.ends[halves], work.at[_before(halves)]], axis=-1)  # fmt: skip
        shape = shapes(work.points, corners)
        score = shape + 0.3 * self._askew(corners[:, 0], corners[:, 2])
        fits = np.flatnonzero(shape > LEAST_SHAPE)
        pairs = np.stack([halves // 3, work.opp[halves] // 3], axis=-1)[fits]
        chosen = fits[matched(pairs, score[fits], len(work.at) // 3)]
        quads = corners[chosen]
        single = np.ones(len(work.at) // 3, bool)
        single[(halves[chosen] // 3)] = False
        single[(work.opp[halves[chosen]] // 3)] = False
        rest = work.at.reshape(-1, 3)[single]
        rest = np.concatenate([rest, np.full((len(rest), 1), -1, np.int32)], axis=1)
        faces = np.ascontiguousarray(np.concatenate([quads, rest]), np.int32)
        on = (work.mark[once] > 0) | (work.opp[once] < 0)
        lines = np.stack([a[on], b[on]], axis=-1)
        kinds = np.where(work.opp[once[on]] < 0, BORDER, work.mark[once[on]]).astype(np.uint8)
        return cleaned(Cage(work.points, faces, lines, kinds))

    def _askew(self, a: I32, b: I32) -> F64:
        """1 where edges go half-way between the arms of the cross, 0 where along one."""
        way = self.work.points[b] - self.work.points[a]
        q, n = self.crosses[a], self.normals[a]
        x, y = (way * q).sum(1), (way * np.cross(n, q)).sum(1)
        return np.asarray(np.sin(2 * np.arctan2(y, x)) ** 2)


def _before(halves: I32) -> I32:
    return np.where(halves % 3 == 0, halves + 2, halves - 1)


def corner_sines(points: F64, quads: I32) -> F64:
    """The sine of each corner (k, 4) of quads (k, 4), below zero where it turns in: 1 for a right angle."""
    p = points[quads]
    normal = np.cross(p[:, 2] - p[:, 0], p[:, 3] - p[:, 1])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    ahead, back = np.roll(p, -1, axis=1) - p, np.roll(p, 1, axis=1) - p
    area = (np.cross(ahead, back) * normal[:, None, :]).sum(2)
    long = np.linalg.norm(ahead, axis=2) * np.linalg.norm(back, axis=2)
    return np.asarray(area / np.maximum(long, 1e-300))


def shapes(points: F64, quads: I32) -> F64:
    """The scaled Jacobian (k,) of quads (k, 4): the sine of the worst corner."""
    return np.asarray(corner_sines(points, quads).min(axis=1))


def matched(pairs: I32, score: F64, count: int) -> I64:
    """Which pairs (k, 2) of triangles become quads: each triangle in one, the best first, then as many as can be.

    Returns
    -------
    (m,) int64
        Rows of `pairs`.
    """
    mate = np.full(count, -1, np.int64)
    _greedy(np.argsort(-score, kind="stable"), np.ascontiguousarray(pairs, np.int32), mate)
    near: list[list[tuple[int, int]]] = [[] for _ in range(count)]
    for row, (one, two) in enumerate(pairs.tolist()):
        near[one].append((two, row))
        near[two].append((one, row))
    for first in np.flatnonzero(mate < 0).tolist():
        if mate[first] < 0:
            _paired_across(first, near, mate, pairs)
    return np.unique(mate[mate >= 0])


@kernel
def _greedy(order: I64, pairs: I32, mate: I64) -> None:
    for e in range(order.shape[0]):
        row = order[e]
        one, two = pairs[row, 0], pairs[row, 1]
        if mate[one] < 0 and mate[two] < 0:
            mate[one] = row
            mate[two] = row


def _paired_across(first: int, near: list[list[tuple[int, int]]], mate: I64, pairs: I32) -> None:
    """Pair a single triangle with another one by a way of pairs that are changed over; none if there is no short one."""
    came: dict[int, tuple[int, int, int]] = {first: (-1, -1, -1)}
    waiting = deque([(first, 0)])
    while waiting:
        here, steps = waiting.popleft()
        if steps >= FARTHEST:
            continue
        for other, row in near[here]:
            if other in came:
                continue
            if mate[other] < 0:
                # Back along the way, each takes the pair it was reached by.
                mate[other] = mate[here] = row
                while here != first:
                    previous, through, by = came[here]
                    mate[through] = mate[previous] = by
                    here = previous
                return
            partner = int(pairs[mate[other]].sum()) - other
            if partner in came:
                continue
            came[other] = (here, -1, row)
            came[partner] = (here, other, row)
            waiting.append((partner, steps + 1))


def cleaned(cage: Cage) -> Cage:
    """Without vertices inside that have two quads only: the two become one."""
    points, faces = cage.points, cage.faces.copy()
    on_line = np.zeros(len(points), bool)
    on_line[cage.lines.reshape(-1)] = True
    for _ in range(8):
        used = faces[faces >= 0]
        counts = np.bincount(used, minlength=len(points))
        twos = set(np.flatnonzero((counts == 2) & ~on_line).tolist())
        if not twos:
            break
        of: dict[int, list[int]] = {}
        for f, row in enumerate(faces.tolist()):
            for v in row:
                if v in twos:
                    of.setdefault(v, []).append(f)
        touched: set[int] = set()
        gone = []
        for v, (f, g) in of.items():
            if f in touched or g in touched or faces[f, 3] < 0 or faces[g, 3] < 0:
                continue
            one, two = (
                np.roll(faces[f], -faces[f].tolist().index(v)),
                np.roll(faces[g], -faces[g].tolist().index(v)),
            )
            merged = [int(one[1]), int(one[2]), int(one[3]), int(two[2])]
            if len(set(merged)) < 4 or one[1] != two[3] or one[3] != two[1]:
                continue
            faces[f] = merged
            gone.append(g)
            touched |= {f, g}
        if not gone:
            break
        faces = np.delete(faces, gone, axis=0)
    names = np.full(len(points), -1, np.int32)
    used = np.unique(faces[faces >= 0])
    names[used] = np.arange(len(used), dtype=np.int32)
    return Cage(
        points[used], np.where(faces >= 0, names[faces], -1).astype(np.int32), names[cage.lines], cage.kinds
    )


def halved(cage: Cage) -> Cage:
    """The cage with a vertex in each face and on each edge: quads all over, a quarter of the size."""
    faces = cage.faces
    n = len(cage.points)
    tri = faces[:, 3] < 0
    sides = np.where(tri, 3, 4)
    face_of = np.repeat(np.arange(len(faces)), sides)
    corner = np.concatenate([np.arange(s) for s in sides]) if len(faces) else np.empty(0, int)
    here = faces[face_of, corner]
    ahead = faces[face_of, (corner + 1) % sides[face_of]]
    back = faces[face_of, (corner - 1) % sides[face_of]]

    def keys(a: I32, b: I32) -> AnyArray:
        return np.minimum(a, b).astype(np.int64) * n + np.maximum(a, b)

    edges, number = np.unique(keys(here, ahead), return_inverse=True)
    previous = np.searchsorted(edges, keys(back, here))
    ends = np.stack([edges // n, edges % n], axis=-1)
    middles = cage.points[ends].mean(axis=1)
    corners = cage.points[np.where(faces >= 0, faces, 0)] * (faces >= 0)[:, :, None]
    centres = corners.sum(axis=1) / sides[:, None]
    quads = np.stack([here, n + number, n + len(edges) + face_of, n + previous], axis=-1).astype(np.int32)
    on = n + np.searchsorted(edges, keys(cage.lines[:, 0], cage.lines[:, 1]))
    lines = np.concatenate([np.stack([cage.lines[:, k], on], axis=-1) for k in (0, 1)]).astype(np.int32)
    points = np.concatenate([cage.points, middles, centres])
    return Cage(points, quads, lines.reshape(-1, 2), np.concatenate([cage.kinds, cage.kinds]))
