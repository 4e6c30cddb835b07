"""What is wrong with shapes: vertices left behind, stretched and squashed skin, one-sidedness, stray movement, clay through clay.

Everything is told of moves from the face at rest. A find is a patch of vertices that hang together, with the place where
it is worst and an amount in millimetres.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import connected_components
from scipy.sparse.linalg import splu

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress
from kneten.core.face_tree import FaceTree
from kneten.core.mesh import Mesh
from kneten.core.topology import Topology

KINDS = {
    "behind": "Left behind",
    "stretched": "Stretched",
    "squashed": "Squashed",
    "uneven": "Uneven sides",
    "stray": "Moves where nothing should",
    "through": "Goes through",
}
"""What a find is, in words."""

STILL = 1e-3
"""Of the greatest move, below which a vertex does not move."""

BEHIND = 0.5
"""Of how far the vertices around it go, how far off a vertex must be to be left behind."""

LONGER, SHORTER = 6.0, 0.12
"""Times as long as at rest, from which on, or down to which, an edge is stretched or squashed."""

UNEVEN = 0.05
"""Of the greatest move, from which on two sides differ."""

ONE_SIDED = 4.0
"""Times as much on one side as on the other: then it is meant to be of that side."""

STRAY = 0.1
"""Of the greatest move, up to which what moves apart from the rest is stray."""

DEEPER = 0.15
"""Mm that clay must go into other clay to be through it."""

ON_TOP = 0.05
"""Mm, how far above other clay vertices are lifted that lay under it."""

LIFT_RINGS, LIFT_FADE = 3, 0.65
"""Rings of vertices that go along with what is lifted, and how far each goes of the one before."""

MOST = 40
"""Finds of one kind in one shape that are told: the worst."""


@dataclass(frozen=True, eq=False)
class Find:
    """Something wrong.

    Attributes
    ----------
    kind : str
        One of `KINDS`.
    rows : (k,) int32
        The vertices, ascending.
    worst : int
        The one where it is worst.
    amount : float
        Mm.
    other : str
        What it goes through, its id.
    """

    kind: str
    rows: I32
    worst: int
    amount: float
    other: str = ""


class Around:
    """What lies around each vertex of a shape: worked out once."""

    def __init__(self, shape: Topology, rest: F32) -> None:
        faces = shape.faces
        fourth = np.where(faces[:, 3] >= 0, faces[:, 3], faces[:, 0])
        ends = np.concatenate(
            [
                faces[:, [0, 1]],
                faces[:, [1, 2]],
                np.stack([faces[:, 2], fourth], 1),
                np.stack([fourth, faces[:, 0]], 1),
            ]
        )
        ends = ends[ends[:, 0] != ends[:, 1]]
        ends.sort(axis=1)
        self.edges: I32 = np.unique(ends, axis=0).astype(np.int32)
        n = shape.n_vertices
        a, b = self.edges.T
        ones = np.ones(2 * len(self.edges), np.float32)
        rows, columns = np.concatenate([a, b]), np.concatenate([b, a])
        self.near = sparse.csr_matrix((ones, (rows, columns)), shape=(n, n))
        self.count: F64 = np.maximum(np.asarray(self.near.sum(axis=1)).ravel(), 1.0)
        self.rest: F64 = rest.astype(np.float64)
        self.piece: I32 = connected_components(self.near, directed=False)[1]
        self.lengths: F64 = np.linalg.norm(self.rest[a] - self.rest[b], axis=1)

    def mean(self, values: AnyArray) -> F64:
        """The mean of the values (n, ...) of the vertices around each."""
        return np.asarray(self.near @ values) / self.count.reshape(-1, *[1] * (values.ndim - 1))

    def patches(self, marked: AnyArray, wrong: AnyArray, kind: str) -> list[Find]:
        """Finds from vertices that are marked (n,) and how wrong each is, mm (n,): one for each patch that hangs together, the worst first."""
        rows = np.flatnonzero(marked).astype(np.int32)
        if not len(rows):
            return []
        _, which = connected_components(self.near[rows][:, rows], directed=False)
        found = []
        order = np.argsort(which, kind="stable")
        for some in np.split(rows[order], np.flatnonzero(np.diff(which[order])) + 1):
            worst = int(some[np.argmax(wrong[some])])
            found.append(Find(kind, np.sort(some).astype(np.int32), worst, float(wrong[worst])))
        return sorted(found, key=lambda one: -one.amount)[:MOST]


def left_behind(around: Around, moves: AnyArray) -> list[Find]:
    """Vertices that go otherwise than all around them; `moves` is (n, 3)."""
    own = np.linalg.norm(moves, axis=1)
    greatest = float(own.max(initial=0.0))
    if greatest <= 0:
        return []
    mean = around.mean(moves)
    off = np.linalg.norm(moves - mean, axis=1)
    # By as much as one differs, its neighbours do too, each by its share of that: only the worst of them is meant.
    fellow = around.mean(off)
    level = np.linalg.norm(mean, axis=1)
    marked = (off > BEHIND * np.maximum(level, own)) & (off > 2.5 * fellow) & (off > 0.02 * greatest)
    return around.patches(marked, off, "behind")


def strained(around: Around, moves: AnyArray) -> list[Find]:
    """Skin that is stretched or squashed more than it can be by moves (n, 3)."""
    a, b = around.edges.T
    now = np.linalg.norm(around.rest[a] + moves[a] - around.rest[b] - moves[b], axis=1)
    found = []
    for kind, wrong in (
        ("stretched", now > LONGER * around.lengths),
        ("squashed", now < SHORTER * around.lengths),
    ):
        some = np.flatnonzero(wrong)
        if not len(some):
            continue
        amount = np.zeros(len(around.rest))
        for ends in (a, b):
            np.maximum.at(amount, ends[some], np.abs(now - around.lengths)[some])
        found += around.patches(amount > 0, amount, kind)
    return found


def stretch(around: Around, places: AnyArray) -> F32:
    """How long skin is around each vertex at places (n, 3), (n,): 0 half as long as at rest or less, 0.5 as long, 1 twice or more."""
    a, b = around.edges.T
    now = np.linalg.norm(places[a].astype(np.float64) - places[b], axis=1)
    least = 1e-9 + 1e-6 * float(around.lengths.max(initial=0.0))
    longer = np.log2((now + least) / (around.lengths + least))
    n = len(around.rest)
    summed = np.bincount(a, longer, n) + np.bincount(b, longer, n)
    return np.asarray(0.5 + 0.5 * np.clip(summed / around.count, -1.0, 1.0), np.float32)


def uneven(around: Around, moves: AnyArray, twin: I32) -> list[Find]:
    """Where one side goes otherwise than the other in moves (n, 3); none where a shape is of one side. `twin` (n,) is the mirror image of each vertex, -1 without one."""
    own = np.linalg.norm(moves, axis=1)
    greatest = float(own.max(initial=0.0))
    left, right = around.rest[:, 0] > 0, around.rest[:, 0] < 0
    halves = np.array([float((own[side] ** 2).sum()) for side in (left, right)])
    if greatest <= 0 or halves.max() > ONE_SIDED * halves.min():
        return []
    has = twin >= 0
    off = np.zeros(len(own))
    off[has] = np.linalg.norm(moves[has] - moves[twin[has]] * [-1.0, 1.0, 1.0], axis=1)
    # Told once, on the side that moves less: that is where something is missing.
    marked = (off > UNEVEN * greatest) & (own <= own[np.where(has, twin, 0)])
    return around.patches(marked, off, "uneven")


def stray(around: Around, moves: AnyArray) -> list[Find]:
    """What moves a little, apart from all else that moves, of moves (n, 3)."""
    own = np.linalg.norm(moves, axis=1)
    greatest = float(own.max(initial=0.0))
    if greatest <= 0:
        return []
    found = around.patches(own > STILL * greatest, own, "stray")
    # What is a piece of its own need not move as much as another.
    most = np.zeros(int(around.piece.max()) + 1)
    np.maximum.at(most, around.piece, own)
    return [one for one in found if one.amount < STRAY * most[around.piece[one.worst]]]


@dataclass(frozen=True, eq=False)
class Other:
    """Clay that other clay is tried against, where it is at rest and now.

    Attributes
    ----------
    key : str
        Its id.
    rest, now : Mesh
    """

    key: str
    rest: Mesh
    now: Mesh


def through(around: Around, rest: F32, places: F32, other: Other, before: dict[str, F64]) -> list[Find]:
    """Clay that is outside other clay at rest and inside it now.

    Parameters
    ----------
    rest, places : (n, 3) float32
        Where the first clay is at rest and now, in the axes of the second.
    before : dict
        How deep its vertices are at rest in the clay of an id, (n,), as far as that is known: filled here.
    """
    low, high = other.now.positions.min(axis=0), other.now.positions.max(axis=0)
    room = 0.1 * float(np.linalg.norm(high - low))
    near = np.flatnonzero(((places > low - room) & (places < high + room)).all(axis=1)).astype(np.int32)
    moved = np.abs(places[near] - rest[near]).max(initial=0.0) > 0
    if not len(near) or (not moved and np.array_equal(other.rest.positions, other.now.positions)):
        return []
    if other.key not in before:
        before[other.key] = depth(other.rest, rest, room)
    deep = np.zeros(len(rest))
    now = depth(other.now, places[near], room)
    # What lies under other clay at rest is hidden there, and may move as it likes.
    deep[near] = np.where((now > DEEPER) & (before[other.key][near] <= 0), now, 0.0)
    return [replace(one, other=other.key) for one in around.patches(deep > 0, deep, "through")]


def depth(mesh: Mesh, points: F32, reach: float) -> F64:
    """How deep points (k, 3) lie under the nearest clay, mm (k,); negative outside, and further off than `reach`."""
    far = np.full(len(points), reach, np.float32)
    found, gap = FaceTree.of(mesh).nearest(np.ascontiguousarray(points), far, Progress())
    out = ((points - found.of(mesh.positions)) * found.of(mesh.normals)).sum(axis=1)
    # Beside the rim of an open piece the nearest clay is not below, but aside.
    rim = found.of(mesh.topology.border.astype(np.float32)[:, None])[:, 0] > 0.5
    some = np.isfinite(gap) & (np.abs(out) > 0.7 * gap) & ~rim
    deep = np.full(len(points), -np.inf)
    deep[some] = -out[some]
    return deep


def lifted(around: Around, places: F32, other: Mesh, rows: I32) -> F64:
    """How vertices (k,) under other clay are to move, (n, 3), to lie on it; what lies around goes along, less and less.

    Parameters
    ----------
    places : (n, 3) float32
        Where all vertices are, in the axes of the other clay.
    """
    far = np.full(len(rows), np.inf, np.float32)
    found, _ = FaceTree.of(other).nearest(np.ascontiguousarray(places[rows]), far, Progress())
    out = np.zeros((len(places), 3))
    out[rows] = found.of(other.positions) + ON_TOP * found.of(other.normals) - places[rows]
    done = np.zeros(len(places))
    done[rows] = 1.0
    for _ in range(LIFT_RINGS):
        lifted_rows = np.flatnonzero(done).astype(np.int32)
        beside = np.setdiff1d(grown(around, lifted_rows, 1), lifted_rows)
        near = around.near[beside]
        out[beside] = LIFT_FADE * (near @ out) / np.maximum(near @ done, 1.0)[:, None]
        done[beside] = 1.0
    return out


def evened_out(around: Around, moves: AnyArray, rows: I32) -> F64:
    """Moves (n, 3) that go on over some vertices as they come in from around, as a thin plate does; all others as they are."""
    out = moves.astype(np.float64)
    wide = grown(around, rows, 2)
    # What each vertex differs by from the mean around it is made least.
    mean = sparse.diags(1.0 / around.count[wide]) @ around.near[wide]
    bend = sparse.identity(len(around.rest), format="csr")[wide] - mean
    held = out.copy()
    held[rows] = 0.0
    own = bend[:, rows]
    matrix = (own.T @ own + 1e-9 * sparse.identity(len(rows))).tocsc()
    out[rows] = splu(matrix).solve(np.asarray(-(own.T @ (bend @ held))))
    return out


def grown(around: Around, rows: I32, rings: int) -> I32:
    """Some vertices (k,) and so many rings around them, (m,)."""
    marked = np.zeros(len(around.rest), np.float32)
    marked[rows] = 1.0
    for _ in range(rings):
        marked = ((around.near @ marked) + marked > 0).astype(np.float32)
    return np.flatnonzero(marked).astype(np.int32)
