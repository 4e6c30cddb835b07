"""A cage with fewer vertices that are not of four edges: edges turned, quads closed up, where that makes it more regular."""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from kneten.core.arrays import F64
from kneten.core.quads.extract import Cage, cleaned, shapes
from kneten.core.quads.finish import edges_of

ROUNDS = 4
"""Times that the whole cage is gone over, with steps that make it better only."""

WALKS, WALKED = 18, 60_000
"""Times that it is gone over with steps that make it no worse as well; fewer for cages of more faces than so many by one."""

SIDEWAYS = 0.5
"""How often a step is taken that makes nothing better."""

WORTH = 0.02
"""A worse shape than this is made of no quad."""

Settle = Callable[[F64, Cage], F64]
"""Brings the vertices (n, 3) of a cage back onto the clay."""


class _Work:
    """A cage as faces and the faces at each vertex, changed one step at a time."""

    def __init__(self, cage: Cage) -> None:
        self.points = cage.points.copy()
        self.faces: list[tuple[int, ...] | None] = [
            tuple(v for v in row if v >= 0) for row in cage.faces.tolist()
        ]
        self.at: list[set[int]] = [set() for _ in range(len(cage.points))]
        for f, face in enumerate(self.faces):
            for v in face or ():
                self.at[v].add(f)
        self.lines = {
            _key(a, b): kind for (a, b), kind in zip(cage.lines.tolist(), cage.kinds.tolist(), strict=True)
        }
        met = np.bincount(cage.lines.reshape(-1), minlength=len(cage.points))
        self.line_count: list[int] = met.tolist()
        self.border = [False] * len(cage.points)
        for v, around in enumerate(self.at):
            sides = [_key(v, w) for f in around for w in self._beside(f, v)]
            self.border[v] = any(sides.count(side) == 1 for side in sides)
        self.goal = [self._goal(v) for v in range(len(self.at))]

    def _goal(self, v: int) -> int:
        """How many edges are best; 0 where it does not matter."""
        if self.line_count[v] not in (0, 2):
            return 0
        return 3 if self.border[v] else 4

    def _beside(self, f: int, v: int) -> tuple[int, int]:
        face = self.faces[f]
        assert face is not None
        k = face.index(v)
        return face[k - 1], face[(k + 1) % len(face)]

    def edges(self, v: int) -> int:
        """How many edges meet at a vertex."""
        return len(self.at[v]) + (1 if self.border[v] else 0)

    def near(self, v: int) -> set[int]:
        """Its neighbours."""
        return {w for f in self.at[v] for w in self._beside(f, v)}

    def cost(self, v: int, more: int) -> int:
        """How far a vertex with so many edges more is from what is best, squared."""
        goal = self.goal[v]
        return 0 if goal == 0 else (self.edges(v) + more - goal) ** 2

    def gain(self, changes: dict[int, int]) -> int:
        """How much better vertices get by so many edges more each."""
        return sum(self.cost(v, 0) - self.cost(v, more) for v, more in changes.items())

    def put(self, f: int, face: tuple[int, ...] | None) -> None:
        """Give a face other corners, or none."""
        for v in self.faces[f] or ():
            self.at[v].discard(f)
        self.faces[f] = face
        for v in face or ():
            self.at[v].add(f)

    def good(self, faces: list[tuple[int, ...]]) -> bool:
        """Whether quads would have a shape that can be evened out."""
        quads = np.array([face for face in faces if len(face) == 4], np.int32).reshape(-1, 4)
        return len(quads) == 0 or bool(shapes(self.points, quads).min() > WORTH)


def _key(a: int, b: int) -> tuple[int, int]:
    return (a, b) if a < b else (b, a)


def tidied(cage: Cage, settle: Settle) -> Cage:
    """The cage, with as few irregular vertices as small steps leave.

    Vertices of three and of five edges lie in pairs where a row of quads ends. A turned edge moves such a pair along, which
    makes nothing better until it meets another that ends a row from the other side: then both are gone. So pairs walk
    about for a while, in steps that make nothing worse.
    """
    chance = random.Random(11)
    for _ in range(ROUNDS):
        work = _Work(cage)
        changed = _turn_edges(work) + _close_quads(work)
        cage = cleaned(_cage_of(work, cage))
        if not changed:
            break
    for _ in range(min(WALKS, max(WALKED // max(len(cage.faces), 1), 2))):
        cage = replace(cage, points=settle(eased(cage), cage))
        work = _Work(cage)
        changed = _turn_edges(work, chance) + _close_quads(work)
        cage = cleaned(_cage_of(work, cage))
        if not changed:
            break
    return replace(cage, points=settle(eased(cage), cage))


def eased(cage: Cage) -> F64:
    """Its vertices (n, 3), those that are on no line half-way to the mean of their neighbours."""
    n = len(cage.points)
    a, b = edges_of(cage.faces)
    counts = np.maximum(np.bincount(a, minlength=n), 1)
    free = np.bincount(cage.lines.reshape(-1), minlength=n) == 0
    mean = np.stack([np.bincount(a, cage.points[b, k], n) for k in range(3)], axis=-1) / counts[:, None]
    return np.where(free[:, None], 0.5 * (cage.points + mean), cage.points)


def _cage_of(work: _Work, cage: Cage) -> Cage:
    rows = [(*face, -1) if len(face) == 3 else face for face in work.faces if face is not None]
    edges = sorted(work.lines)
    lines = np.array(edges, np.int32).reshape(-1, 2)
    kinds = np.array([work.lines[edge] for edge in edges], np.uint8)
    return Cage(work.points, np.array(rows, np.int32).reshape(-1, 4), lines, kinds)


def _turn_edges(work: _Work, chance: random.Random | None = None) -> int:
    """Turn edges of vertices that have too many; by chance also where that only moves what is irregular."""
    turned = 0
    rows = [v for v in range(len(work.at)) if work.goal[v] and work.edges(v) > work.goal[v]]
    if chance is not None:
        chance.shuffle(rows)
    for v in rows:
        for w in sorted(work.near(v)):
            if _key(v, w) in work.lines or w not in work.near(v):
                continue
            turned += _turn_edge(work, v, w, chance)
    return turned


def _turn_edge(work: _Work, v: int, w: int, chance: random.Random | None) -> int:
    round_about = _six_around(work, v, w)
    if round_about is None or min(work.edges(v), work.edges(w)) <= 3:
        return 0
    both, (a, b, c, d) = round_about
    offers = [(a, c, ((a, b, w, c), (c, d, v, a))), (b, d, ((b, w, c, d), (d, v, a, b)))]
    if chance is not None:
        chance.shuffle(offers)
    best, found = -1 if chance is not None else 0, None
    for p, q, faces in offers:
        gain = work.gain({v: -1, w: -1, p: 1, q: 1})
        if gain <= best or (gain == 0 and chance is not None and chance.random() > SIDEWAYS):
            continue
        if q not in work.near(p) and work.good(list(faces)):
            best, found = gain, faces
    if found is None:
        return 0
    for f, face in zip(both, found, strict=True):
        work.put(f, face)
    return 1


def _six_around(work: _Work, v: int, w: int) -> tuple[list[int], tuple[int, int, int, int]] | None:
    """The two quads at an edge, and their other corners in the order v, a, b, w, c, d; None where there are none such."""
    both = sorted(work.at[v] & work.at[w])
    if len(both) != 2:
        return None
    one, two = (work.faces[f] or () for f in both)
    if len(one) != 4 or len(two) != 4:
        return None
    if one[(one.index(v) + 1) % 4] != w:
        one, two = two, one
    i, j = one.index(v), two.index(w)
    c, d = one[(i + 2) % 4], one[(i + 3) % 4]
    a, b = two[(j + 2) % 4], two[(j + 3) % 4]
    if one[(i + 1) % 4] != w or two[(j + 1) % 4] != v or len({v, w, a, b, c, d}) < 6:
        return None
    return both, (a, b, c, d)


def _close_quads(work: _Work) -> int:
    closed = 0
    for f, face in enumerate(work.faces):
        if face is None or len(face) != 4:
            continue
        for k in (0, 1):
            a, b, c, d = (face[(k + i) % 4] for i in range(4))
            if _close_quad(work, f, a, b, c, d):
                closed += 1
                break
    return closed


def _close_quad(work: _Work, f: int, a: int, b: int, c: int, d: int) -> bool:
    """Make one vertex of two far corners of a quad."""
    if work.line_count[a] and work.line_count[c]:
        return False
    if any(work.border[v] for v in (a, b, c, d)) or any(work.line_count[v] for v in (b, d)):
        return False
    if work.near(a) & work.near(c) != {b, d} or c in work.near(a) or min(work.edges(b), work.edges(d)) < 3:
        return False
    if work.line_count[c]:
        a, c = c, a
    merged = work.edges(a) + work.edges(c) - 2
    goal = work.goal[a]
    gain = (
        work.gain({b: -1, d: -1}) + work.cost(a, 0) + work.cost(c, 0) - ((merged - goal) ** 2 if goal else 0)
    )
    if gain <= 0:
        return False
    was = work.points[a].copy(), work.points[c].copy()
    if not work.line_count[a]:
        work.points[a] = work.points[c] = 0.5 * (was[0] + was[1])
    else:
        work.points[c] = was[0]
    others = [g for g in work.at[a] | work.at[c] if g != f]
    if not work.good([face for g in others if (face := work.faces[g]) is not None]):
        work.points[a], work.points[c] = was
        return False
    work.put(f, None)
    for g in sorted(work.at[c]):
        face = work.faces[g]
        assert face is not None
        work.put(g, tuple(a if v == c else v for v in face))
    return True
