"""Clay that would fold goes along as a whole: it keeps the shape it had, and takes its place and its turn from around it.

As rigid as possible (Sorkine, Alexa 2007: "As-rigid-as-possible surface modeling"), by rounds over the marked vertices
alone; the turns by the method of Müller and others (2016: "A robust method to extract the rotational part of deformations").
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, U32, kernel
from kneten.core.folds import place_before
from kneten.core.topology import NO_CORNER

TURNINGS = 5
"""Steps towards a turn in each round, which goes on from the last round's; always as many, so that both sides of a symmetric
move come out alike."""


@kernel
def _turn_towards(spread: F64, turn: F64) -> None:
    """Bring a rotation, `turn` (3, 3), as near to the one within `spread` (3, 3) as it gets."""
    axis = np.empty(3)
    old = np.empty((3, 3))
    for _ in range(TURNINGS):
        for a in range(3):
            axis[a] = 0.0
        size = 0.0
        for c in range(3):
            axis[0] += turn[1, c] * spread[2, c] - turn[2, c] * spread[1, c]
            axis[1] += turn[2, c] * spread[0, c] - turn[0, c] * spread[2, c]
            axis[2] += turn[0, c] * spread[1, c] - turn[1, c] * spread[0, c]
            for a in range(3):
                size += turn[a, c] * spread[a, c]
        scale = 1.0 / (abs(size) + 1e-30)
        angle = np.sqrt(axis[0] * axis[0] + axis[1] * axis[1] + axis[2] * axis[2])
        if angle == 0.0:
            return
        by = angle * scale
        # Rodrigues: a turn about the axis, before the turn so far.
        for a in range(3):
            axis[a] /= angle
        sine, rest = np.sin(by), 1.0 - np.cos(by)
        old[:] = turn
        for c in range(3):
            x, y, z = old[0, c], old[1, c], old[2, c]
            along = axis[0] * x + axis[1] * y + axis[2] * z
            turn[0, c] = x + sine * (axis[1] * z - axis[2] * y) + rest * (axis[0] * along - x)
            turn[1, c] = y + sine * (axis[2] * x - axis[0] * z) + rest * (axis[1] * along - y)
            turn[2, c] = z + sine * (axis[0] * y - axis[1] * x) + rest * (axis[2] * along - z)


@kernel
def _turn_with_rings(
    positions: F32,
    was: F32,
    faces: U32,
    start: U32,
    ring: U32,
    stamp: I32,
    base: int,
    listed: U32,
    marked: U8,
    turns: F64,
) -> None:
    """Bring the turns (n, 3, 3) of marked vertices nearer to how their rings have turned."""
    n = marked.shape[0]
    spread = np.empty((3, 3))
    for i in range(n):
        if marked[i] == 0:
            continue
        v = listed[i]
        spread[:] = 0.0
        for k in range(start[v, 0], start[v, 1]):
            for corner in range(4):
                u = faces[ring[k], corner]
                if u in (NO_CORNER, v):
                    continue
                for c in range(3):
                    rest = place_before(positions, was, stamp, base, n, u, c) - was[i, c]
                    for a in range(3):
                        spread[a, c] += (np.float64(positions[u, a]) - positions[v, a]) * rest
        _turn_towards(spread, turns[i])


@kernel
def _places_by_rings(
    positions: F32,
    was: F32,
    faces: U32,
    start: U32,
    ring: U32,
    stamp: I32,
    base: int,
    listed: U32,
    marked: U8,
    turns: F64,
    places: F64,
) -> None:
    """Where marked vertices lie by those around them, if all are turned and none is bent, into `places` (n, 3)."""
    n = marked.shape[0]
    for i in range(n):
        if marked[i] == 0:
            continue
        v = listed[i]
        for a in range(3):
            places[i, a] = 0.0
        count = 0
        for k in range(start[v, 0], start[v, 1]):
            for corner in range(4):
                u = faces[ring[k], corner]
                if u in (NO_CORNER, v):
                    continue
                count += 1
                row = stamp[u] - base
                turned = 0 <= row < n and marked[row] != 0
                for a in range(3):
                    away = 0.0
                    for c in range(3):
                        turn = turns[i, a, c]
                        if turned:
                            turn = 0.5 * (turn + turns[row, a, c])
                        away += turn * (place_before(positions, was, stamp, base, n, u, c) - was[i, c])
                    places[i, a] += positions[u, a] - away
        for a in range(3):
            places[i, a] /= max(count, 1)


@kernel
def move_as_one(
    positions: F32,
    was: F32,
    faces: U32,
    start: U32,
    ring: U32,
    stamp: I32,
    base: int,
    listed: U32,
    marked: U8,
    rounds: int,
    grain: float,
    turns: F64,
    places: F64,
) -> None:
    """Give marked clay the shape back that it had, at the place and with the turn of what is around it.

    Parameters
    ----------
    positions : (v, 3) float32
        Where clay is after the dab; changed.
    was : (n, 3) float32
        Where the moved vertices, `listed[:n]`, were before; the rows are their stamps less `base`.
    marked : (n,) uint8
        1 for those to move.
    rounds : int
        How often: what is asked for comes in by one ring a round.
    grain : float
        What places are rounded to: sums over a ring depend on where it begins, and both sides of a symmetric move must
        come out as mirror images to the bit.
    turns, places : (n, 3, 3), (n, 3) float64
        Room.
    """
    n = marked.shape[0]
    for i in range(n):
        if marked[i] != 0:
            for a in range(3):
                for c in range(3):
                    turns[i, a, c] = 1.0 if a == c else 0.0
    for _ in range(rounds):
        _turn_with_rings(positions, was, faces, start, ring, stamp, base, listed, marked, turns)
        _places_by_rings(positions, was, faces, start, ring, stamp, base, listed, marked, turns, places)
        for i in range(n):
            if marked[i] != 0:
                for a in range(3):
                    positions[listed[i], a] = np.round(places[i, a] / grain) * grain
