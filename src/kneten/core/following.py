"""Moves of vertices and their neighbours: evened, spread to those that have none, and faces that would turn over."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, I32, U8, AnyArray, in_parts, kernel
from kneten.core.topology import Topology

FADING = 24
"""Rings over which vertices without a match follow their neighbours."""

FADED = 0.85
"""What is left of a move from one such ring to the next."""


@kernel
def _means(faces: I32, start: I32, ring: I32, values: F32, rows: I32, out: F32) -> None:
    for i in range(rows.shape[0]):
        v = rows[i]
        count = 0
        for a in range(3):
            out[i, a] = 0.0
        for k in range(start[v, 0], start[v, 1]):
            f = ring[k]
            for c in range(3 if faces[f, 3] < 0 else 4):
                u = faces[f, c]
                if u != v:
                    count += 1
                    for a in range(3):
                        out[i, a] += values[u, a]
        for a in range(3):
            out[i, a] = out[i, a] / count if count else values[v, a]


def means(shape: Topology, values: F32, rows: I32) -> F32:
    """The mean (k, 3) of the values around some vertices."""
    out = np.empty((len(rows), 3), np.float32)
    _means(shape.faces, shape.ring, shape.ring_faces, values, rows, out)
    return out


@kernel
def _even(faces: I32, start: I32, ring: I32, moves: F32, known: U8, first: int, last: int, out: F32) -> None:
    for v in range(first, last):
        total_x = 0.0
        total_y = 0.0
        total_z = 0.0
        count = 0
        for k in range(start[v, 0], start[v, 1]):
            f = ring[k]
            for c in range(3 if faces[f, 3] < 0 else 4):
                u = faces[f, c]
                if u != v and known[u] != 0:
                    total_x += moves[u, 0]
                    total_y += moves[u, 1]
                    total_z += moves[u, 2]
                    count += 1
        if known[v] == 0 or count == 0:
            out[v, 0] = moves[v, 0]
            out[v, 1] = moves[v, 1]
            out[v, 2] = moves[v, 2]
            continue
        out[v, 0] = 0.5 * moves[v, 0] + 0.5 * total_x / count
        out[v, 1] = 0.5 * moves[v, 1] + 0.5 * total_y / count
        out[v, 2] = 0.5 * moves[v, 2] + 0.5 * total_z / count


def evened(shape: Topology, moves: F32, known: AnyArray) -> F32:
    """Moves (n, 3), half their own and half the mean of the neighbours that are known."""
    out = np.empty_like(moves)
    flags = known.astype(np.uint8)

    def some(first: int, last: int) -> None:
        _even(shape.faces, shape.ring, shape.ring_faces, moves, flags, first, last, out)

    in_parts(len(moves), some)
    return out


@kernel
def _fade(
    faces: I32, start: I32, ring: I32, reached: U8, rows: I32, share: float, moves: F32, fresh: U8
) -> int:
    """Give what has no move, and a neighbour with one, a share of the mean of those; how many there were."""
    count = 0
    for i in range(rows.shape[0]):
        v = rows[i]
        fresh[v] = 0
        if reached[v] != 0:
            continue
        x = 0.0
        y = 0.0
        z = 0.0
        n = 0
        for k in range(start[v, 0], start[v, 1]):
            f = ring[k]
            for c in range(3 if faces[f, 3] < 0 else 4):
                u = faces[f, c]
                if reached[u] != 0:
                    x += moves[u, 0]
                    y += moves[u, 1]
                    z += moves[u, 2]
                    n += 1
        if n:
            moves[v, 0] = share * x / n
            moves[v, 1] = share * y / n
            moves[v, 2] = share * z / n
            fresh[v] = 1
            count += 1
    for i in range(rows.shape[0]):
        if fresh[rows[i]] != 0:
            reached[rows[i]] = 1
    return count


def faded(shape: Topology, moves: F32, known: AnyArray) -> F32:
    """Moves (n, 3) with those of unknown vertices made from their known neighbours', less from ring to ring."""
    out = np.where(known[:, None], moves, np.float32(0)).astype(np.float32)
    rows = np.flatnonzero(~known).astype(np.int32)
    reached, fresh = known.astype(np.uint8), np.zeros(len(moves), np.uint8)
    for _ in range(FADING if len(rows) else 0):
        if not _fade(shape.faces, shape.ring, shape.ring_faces, reached, rows, FADED, out, fresh):
            break
    return out


@kernel
def _flood(faces: I32, start: I32, ring: I32, reached: U8, open_to: U8, stack: I32, top: int) -> None:
    """Reach what is open and hangs together with the `top` vertices on the stack."""
    while top > 0:
        top -= 1
        v = stack[top]
        for k in range(start[v, 0], start[v, 1]):
            f = ring[k]
            for c in range(3 if faces[f, 3] < 0 else 4):
                u = faces[f, c]
                if reached[u] == 0 and open_to[u] != 0:
                    reached[u] = 1
                    stack[top] = u
                    top += 1


def flooded(shape: Topology, begin: AnyArray, over: AnyArray) -> AnyArray:
    """Vertices (n,) bool of `begin`, and those of `over` that hang together with them."""
    reached = begin.astype(np.uint8)
    rows = np.flatnonzero(begin)
    if not len(rows):
        return begin
    stack = np.empty(shape.n_vertices, np.int32)
    stack[: len(rows)] = rows
    _flood(shape.faces, shape.ring, shape.ring_faces, reached, over.astype(np.uint8), stack, len(rows))
    return np.asarray(reached > 0)


@kernel
def _bend(faces: I32, at: F32, moves: F32, first: int, last: int) -> bool:
    for f in range(first, last):
        for c in range(3 if faces[f, 3] < 0 else 4):
            a = faces[f, c]
            b = faces[f, c + 1] if c < 3 and faces[f, c + 1] >= 0 else faces[f, 0]
            long = 0.0
            apart = 0.0
            for k in range(3):
                long += (at[a, k] - at[b, k]) ** 2
                apart += (moves[a, k] - moves[b, k]) ** 2
            if apart > long:
                return True
    return False


def bent(shape: Topology, at: F32, moves: F32) -> bool:
    """Whether the ends of any edge, at (n, 3), move further apart, by moves (n, 3), than it is long: else nothing folds."""
    found = np.zeros(1, np.uint8)

    def some(first: int, last: int) -> None:
        if _bend(shape.faces, at, moves, first, last):
            found[0] = 1

    in_parts(len(shape.faces), some)
    return bool(found[0])


@kernel
def _turn(faces: I32, at: F32, normals: F32, out: U8) -> None:
    u, w = np.empty(3), np.empty(3)
    for f in range(faces.shape[0]):
        a = faces[f, 0]
        b = faces[f, 1]
        c = faces[f, 2]
        d = faces[f, 3]
        for k in range(3):
            u[k] = np.float64(at[c, k]) - at[a, k] if d >= 0 else np.float64(at[b, k]) - at[a, k]
            w[k] = np.float64(at[d, k]) - at[b, k] if d >= 0 else np.float64(at[c, k]) - at[a, k]
        lean = 0.0
        for k in range(3):
            m = (k + 1) % 3
            n = (k + 2) % 3
            total = np.float64(normals[a, k]) + normals[b, k] + normals[c, k]
            if d >= 0:
                total += normals[d, k]
            lean += (u[m] * w[n] - u[n] * w[m]) * total
        if lean < 0.0:
            out[a] = 1
            out[b] = 1
            out[c] = 1
            if d >= 0:
                out[d] = 1


def turned(shape: Topology, places: F32, normals: F32) -> AnyArray:
    """Vertices (n,) bool of faces that, at these places, look away from the normals (n, 3) wanted there."""
    out = np.zeros(shape.n_vertices, np.uint8)
    _turn(shape.faces, places, normals, out)
    return np.asarray(out > 0)
