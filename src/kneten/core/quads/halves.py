"""Triangles as half-edges, changed one edge at a time: collapsed, split, flipped, never less than a surface.

Half-edge `h` is corner `h % 3` of face `h // 3` and goes from its corner to the next of that face. All is held in four
arrays: `at` (3 f,) is the vertex it begins at, -1 where the face is gone; `opp` (3 f,) the half-edge the other way, -1 on
a border; `mark` (3 f,) tells the line that an edge
has to stay on, 0 for none; `out` (n,) some half-edge that begins at a vertex, -1 where that is gone.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Any

import numpy as np

from kneten.core.arrays import F64, I32, I64, U8, kernel

AnyInt = int | np.signedinteger[Any]

BORDER = 0
"""The kind of line that open edges are."""

ROUND = 256
"""Half-edges around a vertex at most: no edge is collapsed that would give more than a quarter of that."""


@dataclass
class Halves:
    """A surface of triangles that is being changed.

    Attributes
    ----------
    points : (n, 3) float64
    at, opp : (3 f,) int32
    out : (n,) int32
    mark : (3 f,) uint8
    fixed : (n,) uint8
        1 for corners of lines: they stay where they are.
    """

    points: F64
    at: I32
    opp: I32
    out: I32
    mark: U8
    fixed: U8

    @classmethod
    def of(
        cls,
        points: F64,
        triangles: I32,
        marked: I64 | None = None,
        corners: I32 | None = None,
        kinds: U8 | None = None,
    ) -> Halves:
        """A surface of triangles (m, 3) between points (n, 3).

        Where more than two faces meet at an edge, or do not go round the same way, it is open; where several fans of faces
        share a vertex each gets one of its own.

        Parameters
        ----------
        marked : (k,) int64, optional
            Edges that have to stay, as `edge_keys` numbers them.
        corners : (c,) int32, optional
            Vertices that have to stay.
        kinds : (k,) uint8, optional
            The lines that the edges are on, above 0; 1 for all where that is not given.
        """
        t = triangles
        whole = (t[:, 0] != t[:, 1]) & (t[:, 1] != t[:, 2]) & (t[:, 2] != t[:, 0])
        t = np.ascontiguousarray(t[whole], np.int32)
        at = t.reshape(-1).copy()
        ends = np.roll(t, -1, axis=1).reshape(-1)
        n = len(points)
        keys = edge_keys(at, ends, n)
        order = np.argsort(keys, kind="stable").astype(np.int32)
        opp = np.full(len(at), -1, np.int32)
        _pair(keys, order, at, opp)
        mark = np.zeros(len(at), np.uint8)
        if marked is not None and len(marked):
            ranks = np.argsort(marked)
            there = np.minimum(np.searchsorted(marked[ranks], keys), len(marked) - 1)
            kind = np.ones(len(marked), np.uint8) if kinds is None else kinds
            mark[:] = np.where(marked[ranks][there] == keys, kind[ranks][there], 0)
        out = np.full(n, -1, np.int32)
        more = np.empty(len(at), np.int32)
        extra = _fans(at, opp, out, more)
        grown = np.concatenate([np.asarray(points, np.float64), points[more[:extra]]])
        fixed = np.zeros(n, np.uint8)
        if corners is not None:
            fixed[corners] = 1
        fixed = np.concatenate([fixed, fixed[more[:extra]]])
        found = cls(grown, at, opp, np.concatenate([out, np.full(extra, -1, np.int32)]), mark, fixed)
        found.out[:] = -1
        found.out[at] = np.arange(len(at), dtype=np.int32)
        return found

    def room(self, vertices: int, faces: int) -> None:
        """Make the arrays long enough for so many more."""
        self.points = np.concatenate([self.points, np.zeros((vertices, 3))])
        self.out = np.concatenate([self.out, np.full(vertices, -1, np.int32)])
        self.fixed = np.concatenate([self.fixed, np.zeros(vertices, np.uint8)])
        self.at = np.concatenate([self.at, np.full(3 * faces, -1, np.int32)])
        self.opp = np.concatenate([self.opp, np.full(3 * faces, -1, np.int32)])
        self.mark = np.concatenate([self.mark, np.zeros(3 * faces, np.uint8)])

    def packed(self) -> I32:
        """Leave out what is gone; returns which vertices (k,) are left, in order."""
        faces = np.flatnonzero(self.at[::3] >= 0)
        halves = (faces[:, None] * 3 + np.arange(3)).reshape(-1)
        names = np.full(len(self.at), -1, np.int32)
        names[halves] = np.arange(len(halves), dtype=np.int32)
        left = np.flatnonzero(self.out >= 0).astype(np.int32)
        new = np.full(len(self.out), -1, np.int32)
        new[left] = np.arange(len(left), dtype=np.int32)
        opp = self.opp[halves]
        self.at, self.mark = new[self.at[halves]], self.mark[halves]
        self.opp = np.where(opp >= 0, names[opp], -1).astype(np.int32)
        self.out = names[self.out[left]]
        self.points = np.ascontiguousarray(self.points[left])
        self.fixed = self.fixed[left]
        return left

    @property
    def triangles(self) -> I32:
        """The faces (m, 3) that there are; vertices as numbered here."""
        faces = self.at.reshape(-1, 3)
        return np.ascontiguousarray(faces[faces[:, 0] >= 0])

    @property
    def ends(self) -> I32:
        """Where each half-edge (3 f,) ends."""
        return np.roll(self.at.reshape(-1, 3), -1, axis=1).reshape(-1)

    def edges(self) -> tuple[I32, I32, I32]:
        """A half-edge (k,) of each edge, with the vertices (k,) it goes from and to."""
        every = np.arange(len(self.at), dtype=np.int32)
        once = np.flatnonzero((self.at >= 0) & ((self.opp < 0) | (every < self.opp))).astype(np.int32)
        return once, self.at[once], self.ends[once]

    def line_counts(self) -> I32:
        """How many marked or open edges meet at each vertex, (n,): 0 inside, 2 on a line, else at a corner.

        Corners at which a line turns sharply have 3.
        """
        once, a, b = self.edges()
        on = (self.mark[once] > 0) | (self.opp[once] < 0)
        both = np.concatenate([a[on], b[on]])
        counts = np.bincount(both, minlength=len(self.out)).astype(np.int32)
        counts[(self.fixed != 0) & (counts == 2)] = 3
        return counts

    def kinds(self) -> U8:
        """The line (n,) that each vertex on one is on, `BORDER` for open edges."""
        once, _, _ = self.edges()
        found = np.full(len(self.out), BORDER, np.uint8)
        for which in (once[self.mark[once] > 0], once[self.opp[once] < 0]):
            kind = np.where(self.opp[which] < 0, BORDER, self.mark[which])
            found[self.at[which]], found[self.ends[which]] = kind, kind
        return found

    def copy(self) -> Halves:
        """The same surface once more, which changes of this one do not reach."""
        return Halves(*(getattr(self, one.name).copy() for one in fields(self)))


def edge_keys(a: I32, b: I32, n: int) -> I64:
    """A number (k,) for each edge between vertices (k,) and (k,) of n, the same both ways."""
    low, high = np.minimum(a, b).astype(np.int64), np.maximum(a, b).astype(np.int64)
    return np.asarray(low * n + high)


@kernel
def _pair(keys: I64, order: I32, at: I32, opp: I32) -> None:
    n = order.shape[0]
    k = 0
    while k < n:
        last = k + 1
        while last < n and keys[order[last]] == keys[order[k]]:
            last += 1
        if last == k + 2:
            a, b = order[k], order[k + 1]
            # Both from the same vertex: they do not go round the same way.
            if at[a] != at[b]:
                opp[a] = b
                opp[b] = a
        k = last


@kernel
def _fans(at: I32, opp: I32, out: I32, more: I32) -> int:
    """Give each fan of faces a vertex of its own; `more` gets which vertex each of the new ones is like."""
    n = out.shape[0]
    extra = 0
    seen = np.zeros(at.shape[0], np.uint8)
    for h0 in range(at.shape[0]):
        if seen[h0] != 0:
            continue
        v = at[h0]
        name = v
        if out[v] >= 0:
            name = n + extra
            more[extra] = v
            extra += 1
        else:
            out[v] = h0
        # Against the clock as far as it goes, then with it.
        h = h0
        while h >= 0 and seen[h] == 0:
            seen[h] = 1
            at[h] = name
            h = opp[before(h)]
        h = opp[h0]
        while h >= 0:
            h = after(h)
            if seen[h] != 0:
                break
            seen[h] = 1
            at[h] = name
            h = opp[h]
    return extra


@kernel
def after(h: AnyInt) -> int:
    """The next half-edge of the face."""
    return int(h) - 2 if h % 3 == 2 else int(h) + 1


@kernel
def before(h: AnyInt) -> int:
    """The half-edge of the face before it."""
    return int(h) + 2 if h % 3 == 0 else int(h) - 1


@kernel
def around(v: int, opp: I32, out: I32, ring: I32) -> tuple[int, bool]:
    """Half-edges that begin at a vertex, against the clock, into `ring`; how many, and whether they go all round.

    Where they do not, the first lies on the border, and so does the last one's predecessor in its face. -1 where
    there are too many.
    """
    first = out[v]
    h = first
    closed = False
    steps = 0
    while True:
        o = opp[h]
        if o < 0:
            break
        h = after(o)
        if h == first:
            closed = True
            break
        steps += 1
        if steps > ring.shape[0]:
            return -1, False
    first = h
    n = 0
    while True:
        if n >= ring.shape[0]:
            return -1, closed
        ring[n] = h
        n += 1
        h = opp[before(h)]
        if h < 0 or h == first:
            break
    return n, closed


@kernel
def normal_of(points: F64, a: int, b: int, c: int) -> tuple[float, float, float]:
    """The normal of a triangle, twice its area long."""
    ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
    wx, wy, wz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
    return uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx


@kernel
def length2(points: F64, a: int, b: int) -> float:
    """Squared distance of two vertices."""
    x, y, z = points[a, 0] - points[b, 0], points[a, 1] - points[b, 1], points[a, 2] - points[b, 2]
    return float(x * x + y * y + z * z)


@kernel
def may_collapse(
    h: int, points: F64, at: I32, opp: I32, out: I32, mark: U8, lines: I32, ring: I32, other: I32,
    longest2: float, leaning: float,
) -> bool:  # fmt: skip
    """Whether the vertex that a half-edge begins at may be drawn into the one it ends at.

    The surface stays one, lines stay lines, corners stay; no edge gets longer than the root of `longest2`, and no face leans
    over by more than the arc cosine of `leaning`.
    """
    o = np.int64(opp[h])
    v, w = at[h], at[after(h)]
    on_line = mark[h] != 0 or o < 0
    if lines[v] != 0 and (not on_line or lines[v] != 2):
        return False
    n, closed = around(v, opp, out, ring)
    m, other_closed = around(w, opp, out, other)
    if n < 0 or m < 0 or n + m > ROUND // 4:
        return False
    if not closed and not other_closed and o >= 0:
        return False
    # Common neighbours are the far corners of the edge's faces, and nothing else.
    common = 0
    for i in range(n + (0 if closed else 1)):
        a = at[after(ring[i])] if i < n else at[before(ring[n - 1])]
        if a == w:
            continue
        for j in range(m + (0 if other_closed else 1)):
            b = at[after(other[j])] if j < m else at[before(other[m - 1])]
            if a == b:
                common += 1
                break
    if common != (1 if o < 0 else 2):
        return False
    # What lies beside the edge keeps at least three neighbours; two lines do not become one.
    for side in (np.int64(h), o):
        if side < 0:
            continue
        one, two = after(side), before(side)
        apex = at[two]
        if opp[one] < 0 and opp[two] < 0:
            return False
        if (mark[one] != 0 or opp[one] < 0) and (mark[two] != 0 or opp[two] < 0):
            return False
        k = 0
        g = out[apex]
        first = g
        open_ = False
        while True:
            k += 1
            g = opp[before(g)]
            if g < 0:
                open_ = True
                break
            if g == first or k > 4:
                break
        if not open_ and k <= 3:
            return False
    for i in range(n):
        g = ring[i]
        a, b = at[after(g)], at[before(g)]
        if a == w or b == w:
            continue
        if length2(points, w, a) > longest2 or length2(points, w, b) > longest2:
            return False
        x, y, z = normal_of(points, v, a, b)
        p, q, r = normal_of(points, w, a, b)
        was, now = np.sqrt(x * x + y * y + z * z), np.sqrt(p * p + q * q + r * r)
        if x * p + y * q + z * r < leaning * was * now:
            return False
        # No sliver either, unless it was one.
        size = max(length2(points, w, a), length2(points, w, b), length2(points, a, b))
        if now < 1e-3 * size and now < was:
            return False
    return True


@kernel
def collapse(h: int, at: I32, opp: I32, out: I32, mark: U8, ring: I32) -> None:
    """Draw the vertex that a half-edge begins at into the one it ends at; `may_collapse` has allowed it."""
    o = np.int64(opp[h])
    v, w = at[h], at[after(h)]
    n, _ = around(v, opp, out, ring)
    for i in range(n):
        at[ring[i]] = w
    keep = -1
    for side in (np.int64(h), o):
        if side < 0:
            continue
        one, two = after(side), before(side)
        a, b = opp[one], opp[two]
        both = max(mark[one], mark[two])
        apex = at[two]
        if a >= 0:
            opp[a] = b
            mark[a] = both
            out[at[a]] = a
        if b >= 0:
            opp[b] = a
            mark[b] = both
            out[at[b]] = b
        # One of `a` and `b` begins at the apex, the other at `w`.
        if a >= 0:
            out[apex] = a if at[a] == apex else after(a)
            keep = a if at[a] == w else after(a)
        else:
            out[apex] = b if at[b] == apex else after(b)
            keep = b if at[b] == w else after(b)
        face = side - side % 3
        at[face] = -1
        at[face + 1] = -1
        at[face + 2] = -1
    out[v] = -1
    out[w] = keep


@kernel
def split(h: int, new: int, face: int, at: I32, opp: I32, out: I32, mark: U8) -> int:
    """Put vertex `new` on an edge; faces from number `face` on are free. Returns how many of them were taken."""
    o = np.int64(opp[h])
    taken = 0
    fresh_h, fresh_o = -1, -1
    for side in (np.int64(h), o):
        if side < 0:
            continue
        # The face (v, w, c) becomes (v, new, c) and a fresh one (new, w, c).
        one, two = after(side), before(side)
        end, c = at[one], at[two]
        base = 3 * (face + taken)
        taken += 1
        at[base], at[base + 1], at[base + 2] = new, end, c
        across = opp[one]
        opp[base + 1] = across
        mark[base + 1] = mark[one]
        if across >= 0:
            opp[across] = base + 1
        opp[base + 2] = one
        mark[base + 2] = 0
        at[one] = new
        opp[one] = base + 2
        mark[one] = 0
        mark[base] = mark[side]
        if out[end] == one:
            out[end] = base + 1
        if side == h:
            fresh_h = base
        else:
            fresh_o = base
    if o >= 0:
        # `h` goes from v to new, `fresh_h` from new to w; `o` from w to new, `fresh_o` from new to v.
        opp[h] = fresh_o
        opp[fresh_o] = h
        opp[fresh_h] = o
        opp[o] = fresh_h
        mark[fresh_h] = mark[o]
    else:
        opp[fresh_h] = -1
    out[new] = fresh_h
    return taken


@kernel
def may_flip(h: int, points: F64, at: I32, opp: I32, out: I32, mark: U8, ring: I32, leaning: float) -> bool:
    """Whether an edge may join the two far corners instead: they are not joined yet, and no face leans over."""
    o = np.int64(opp[h])
    if o < 0 or mark[h] != 0:
        return False
    v, w = at[h], at[o]
    a, b = at[before(h)], at[before(o)]
    if a == b:
        return False
    n, closed = around(a, opp, out, ring)
    if n < 0:
        return False
    for i in range(n + (0 if closed else 1)):
        other = at[after(ring[i])] if i < n else at[before(ring[n - 1])]
        if other == b:
            return False
    # Nobody is left with fewer than three.
    for end in (v, w):
        n, closed = around(end, opp, out, ring)
        if n <= (3 if closed else 2):
            return False
    x, y, z = normal_of(points, v, w, a)
    p, q, r = normal_of(points, w, v, b)
    sx, sy, sz = x + p, y + q, z + r
    size = np.sqrt(sx * sx + sy * sy + sz * sz)
    for k in range(2):
        if k == 0:
            x, y, z = normal_of(points, a, b, w)
        else:
            x, y, z = normal_of(points, b, a, v)
        long = np.sqrt(x * x + y * y + z * z)
        if x * sx + y * sy + z * sz <= leaning * size * long:
            return False
    return True


@kernel
def flip(h: int, at: I32, opp: I32, out: I32, mark: U8) -> None:
    """Join the far corners of an edge's two faces instead; `may_flip` has allowed it."""
    o = np.int64(opp[h])
    h1, h2 = after(h), before(h)
    o1, o2 = after(o), before(o)
    v, w = at[h], at[o]
    a, b = at[h2], at[o2]
    # (v, w, a) and (w, v, b) become (b, w, a) and (a, v, b), the edge between them (a, b).
    e_h1, e_h2, e_o1, e_o2 = opp[h1], opp[h2], opp[o1], opp[o2]
    m_h1, m_h2, m_o1, m_o2 = mark[h1], mark[h2], mark[o1], mark[o2]
    at[h], at[h1], at[h2] = a, b, w
    at[o], at[o1], at[o2] = b, a, v
    opp[h], opp[o] = o, h
    opp[h1], mark[h1] = e_o2, m_o2
    if e_o2 >= 0:
        opp[e_o2] = h1
    opp[h2], mark[h2] = e_h1, m_h1
    if e_h1 >= 0:
        opp[e_h1] = h2
    opp[o1], mark[o1] = e_h2, m_h2
    if e_h2 >= 0:
        opp[e_h2] = o1
    opp[o2], mark[o2] = e_o1, m_o1
    if e_o1 >= 0:
        opp[e_o1] = o2
    out[a], out[b], out[w], out[v] = h, o, h2, o2
