"""What is done with the differences of a shape: halves, mirror images, what goes along. All are told over the clay at rest."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress
from kneten.core.face_tree import FaceTree
from kneten.core.mesh import Mesh
from kneten.core.relief import Relief, packed
from kneten.core.stack import Layer, Stack
from kneten.core.topology import Topology
from kneten.core.twins import pairs_of

SAME = 1e-3
"""Of a part's size, how far vertices may be from mirror images of each other and still be twins."""

TOUCHING = 0.25
"""Share of a piece's vertices, those nearest to what carries it, that it goes along with."""


def share_of_left(x: AnyArray, width: float) -> F32:
    """How much of a difference is the left side's, (n,), at places so far to the left of the border, mm, which is soft over a width."""
    if width <= 0:
        return np.where(x > 0, 1.0, np.where(x < 0, 0.0, 0.5)).astype(np.float32)
    share = np.clip(x / width + 0.5, 0.0, 1.0)
    return np.asarray(share * share * (3 - 2 * share), np.float32)


def levels_of(stack: Stack, layer: Layer) -> range:
    """The levels that a layer can have something on."""
    return range(min(len(layer.reliefs), len(stack.levels)))


def halves(
    stack: Stack, layer: Layer, across: Callable[[F32], AnyArray], width: float
) -> tuple[Layer, Layer]:
    """A layer's left and right half, which together do what it does.

    Parameters
    ----------
    across : callable
        From places (n, 3) of the part to how far each is to the left of the border, (n,), mm.
    """
    bare = stack.bare()
    left = right = layer
    for level in levels_of(stack, layer):
        relief = layer.relief(level)
        if not relief:
            continue
        share = share_of_left(across(bare.form(level)), width)
        own = relief.times(share)
        n = stack.levels[level].topology.n_vertices
        left = left.with_relief(level, own)
        right = right.with_relief(level, relief.plus(own, -1.0, n))
    return left, right


def lessened(stack: Stack, layer: Layer, free: F32) -> Layer:
    """A layer with so much left of it as is free, (n,) on the level in hand, on all levels."""
    return _times(layer, lambda level: carried(stack, free, level))


def _times(layer: Layer, factors: Callable[[int], F32]) -> Layer:
    for level, relief in enumerate(layer.reliefs):
        if relief:
            layer = layer.with_relief(level, relief.times(factors(level)))
    return layer


def carried(stack: Stack, values: F32, level: int) -> F32:
    """Numbers (n,) of the level in hand as those of another level."""
    held: AnyArray = values
    for k in range(stack.level, level, -1):
        step = stack.levels[k].step
        assert step is not None
        held = held[step.of_vertex]
    for k in range(stack.level + 1, level + 1):
        step = stack.levels[k].step
        assert step is not None
        under = stack.levels[k - 1].topology
        held = step.refine(under, np.ascontiguousarray(held[:, None]), False, np.float32)[:, 0]
    return np.ascontiguousarray(held, np.float32)


def alone(stack: Stack, layer: Layer, level: int) -> F32:
    """What a layer does to a level by itself, (n, 3), over the clay at rest: also by what it does below."""
    bare = stack.bare()
    full = bare.with_layer(replace(layer, strength=1.0, shown=True))
    return np.asarray(full.form(level) - bare.form(level), np.float32)


def twins_between(here: Mesh, there: Mesh, mirror: Callable[[AnyArray], AnyArray]) -> I32:
    """For each vertex of a mesh the one of another that is its mirror image, (n,); -1 without one.

    Parameters
    ----------
    mirror : callable
        From places (n, 3) of the second to their mirror images in the axes of the first.
    """
    if here.topology is there.topology:
        pairs = pairs_of(here, 0)
        if pairs is not None:
            return pairs.twin
    image = mirror(there.positions)
    size = float(np.ptp(here.positions, axis=0).max())
    gap, near = cKDTree(image).query(here.positions)
    return np.where(gap <= SAME * size, near, -1).astype(np.int32)


def mirrored_moves(moves: F32, twin: I32, turn: AnyArray) -> F32:
    """Moves (n, 3) of one side as those of the other: of each vertex's twin, through a mirroring (3, 3)."""
    out = np.zeros((len(twin), 3), np.float32)
    has = twin >= 0
    out[has] = moves[twin[has]] @ np.asarray(turn, np.float32).T
    return out


def told(stack: Stack, level: int, moves: F32) -> Relief:
    """Moves (n, 3) of a level of the clay at rest, in the part's axes, as differences of it."""
    rows = np.flatnonzero(moves.any(axis=1)).astype(np.int32)
    if not len(rows):
        return Relief.none()
    return Relief(rows, stack.bare().ground(level).told(rows, moves[rows]))


def moves_in_hand(stack: Stack, layers: Sequence[Layer]) -> list[Relief]:
    """What layers do to the level in hand at strength 1, as the clay stands now, each by itself.

    What they do below is carried up by the smooth rules; that it turns what lies above is left out.
    """
    grounds = [stack.ground(0)]
    deep = max(
        (level for layer in layers for level in levels_of(stack, layer) if layer.relief(level)), default=0
    )
    form: F32 | None = None
    for k in range(1, min(deep, stack.level) + 1):
        form = stack.on(grounds[-1], k - 1)
        grounds.append(stack.ground(k, form))
    made = []
    for layer in layers:
        held: F32 | None = None
        for k in range(stack.level + 1):
            shape = stack.levels[k].topology
            step = stack.levels[k].step
            if held is not None:
                assert step is not None
                held = step.refine(stack.levels[k - 1].topology, held, True, np.float32)
            if k < len(layer.reliefs) and layer.relief(k):
                if held is None:
                    held = np.zeros((shape.n_vertices, 3), np.float32)
                grounds[k].add(layer.relief(k), 1.0, held)
            if held is not None and k == 0:
                every = Relief(np.empty(0, np.int32), held)
                held = np.ascontiguousarray(stack.turned(every, len(held)), np.float32)
        made.append(Relief.none() if held is None else packed(held))
    return made


def own_moves(stack: Stack, layer: Layer, level: int) -> F32:
    """What a layer has on one level, (n, 3), in the part's axes, over the clay at rest."""
    ground = stack.bare().ground(level)
    moves = np.zeros_like(ground.surface)
    ground.add(layer.relief(level), 1.0, moves)
    return moves


def pieces_of(shape: Topology) -> I32:
    """Which of the pieces that hang together each vertex is in, (n,)."""
    faces = shape.faces
    rows = np.concatenate([faces[:, 0], faces[:, 1], faces[:, 2]])
    fourth = np.where(faces[:, 3] >= 0, faces[:, 3], faces[:, 0])
    columns = np.concatenate([faces[:, 1], faces[:, 2], fourth])
    n = shape.n_vertices
    graph = sparse.coo_matrix((np.ones(len(rows), np.uint8), (rows, columns)), shape=(n, n))
    return np.asarray(connected_components(graph, directed=False)[1], np.int32)


def ridden(body: Mesh, moves: F32, places: F32, pieces: Sequence[I32] | None) -> F32:
    """Moves (m, 3) of places (m, 3) near a body as that moves, (n, 3): each as the clay nearest to it; or, given the rows of pieces, each of these as one.

    A piece is turned and shifted as what it touches is (the rigid move that fits best: Kabsch, 1976).
    """
    everywhere = np.full(len(places), np.inf, np.float32)
    found, gap = FaceTree.of(body).nearest(np.ascontiguousarray(places), everywhere, Progress())
    there = found.of(body.positions).astype(np.float64)
    gone = found.of(np.ascontiguousarray(moves)).astype(np.float64)
    if pieces is None:
        return gone.astype(np.float32)
    out = np.zeros((len(places), 3))
    for rows in pieces:
        some = rows[gap[rows] <= np.quantile(gap[rows], TOUCHING)]
        turn, shift = rigid(there[some], there[some] + gone[some])
        own = places[rows].astype(np.float64)
        out[rows] = own @ turn.T + shift - own
    return out.astype(np.float32)


def rigid(before: F64, after: F64) -> tuple[F64, F64]:
    """The turn (3, 3) and shift (3,) that bring places (k, 3) nearest to where they are afterwards."""
    middle, end = before.mean(axis=0), after.mean(axis=0)
    # What lies on a line, or in a point, leaves turns about it open: a little of it everywhere says none.
    spread = (before - middle).T @ (after - end)
    spread += np.eye(3) * (1e-9 + 1e-6 * np.abs(spread).max())
    u, _, v = np.linalg.svd(spread)
    flip = np.diag([1.0, 1.0, np.sign(np.linalg.det(v.T @ u.T))])
    turn = v.T @ flip @ u.T
    return turn, end - turn @ middle
