"""Dabs move clay less where it would fold or be led through other clay."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, I32, U8, U32
from kneten.core.as_one import move_as_one
from kneten.core.changes import renew_normals
from kneten.core.folds import ALL, LAST, SHARES, draw_back, edge_about, find_meetings, folded, spread_marks
from kneten.core.mesh import Mesh
from kneten.core.normals import stamp_in_order
from kneten.core.patches import runs_of

EVENED = -1.0
EVENINGS = (0, 0, 1, 1, 1, 2)
"""How many rings around what folds are evened along, in one round after the other."""

AS_ONE = -2.0
WHOLES = (2, 4, 8)
"""How many rings around what would fold go along with it as a whole, in one round after the other."""

WHOLE_MOST = 12_000
"""Vertices times rounds of that at most, three hundredths of a second: what folds all over moves less as a whole."""

GRAIN = 2.0**-22
"""What such places are rounded to, in radii."""


@dataclass(frozen=True, eq=False)
class Moved:
    """What one dab has moved.

    Attributes
    ----------
    base : int
        The stamp of the first of them.
    listed : (n or more,) uint32
        Vertices, in the order of their stamps.
    was : (n, 3) float32
        Where they were.
    segments : list of (int, int)
        What each twin of the dab has moved, as rows of `listed`.
    owners : list of (k,) int32
        Patches near each twin.
    longest : float
        How far any of them went.
    radius : float
        Of the dab.
    """

    base: int
    listed: U32
    was: F32
    segments: list[tuple[int, int]]
    owners: list[I32]
    longest: float
    radius: float


def unfold(
    mesh: Mesh,
    moved: Moved,
    steep: bool,
    others: I32,
    sides: F32,
    holds: bool,
    even: Callable[[U32, U8], None] | None,
) -> tuple[bool, float]:
    """Let what would fold, or go through other clay, move less until nothing does.

    Parameters
    ----------
    steep : bool
        Whether anything may be folded already; else only meetings are looked for at first.
    others : (k,) int32
        Patches whose clay may be met.
    sides : (twins, 3)
        Which way the clay under each twin faces.
    holds : bool
        Whether the tool moves what it holds as a whole: a piece left behind would tear away from the rest, so it goes
        along with what is around it first.
    even : callable, optional
        Evens what a press would fold, before anything moves less.

    Returns
    -------
    (bool, float)
        Whether anything was held back, and how far clay has gone at most.
    """
    faces = mesh.topology.walk[0]
    begins, ends = runs_of(mesh.topology, np.unique(np.concatenate(moved.owners)))
    listed, was, base = moved.listed, moved.was, moved.base
    n = len(was)
    edge = edge_about(mesh, listed[:n])
    held = False
    for share, rings in _rounds(holds, even is not None):
        bad = np.zeros(n, np.uint8)
        found = folded(mesh, was, begins, ends, base, holds, bad) if steep else 0
        steep = True
        if len(others):
            found += find_meetings(mesh, was, listed, others, base, sides, edge, moved.longest, holds, bad)
        if not found:
            break
        held = True
        for _ in range(rings):
            wider = bad.copy()
            spread_marks(faces, begins, ends, mesh.stamp, base, n, bad, wider)
            bad = wider
        if share == EVENED and even is not None:
            even(listed, bad)
        elif rings == ALL or (share == AS_ONE and 2 * rings * np.count_nonzero(bad) > WHOLE_MOST):
            bad[:] = 1
            draw_back(mesh.positions, was, listed, bad, share if rings == ALL else LAST[0])
        elif share == AS_ONE:
            move_as_one(
                mesh.positions, was, *mesh.topology.walk, mesh.stamp, base, listed, bad, 2 * rings,
                GRAIN * moved.radius, np.empty((n, 3, 3)), np.empty((n, 3)),
            )  # fmt: skip
        else:
            draw_back(mesh.positions, was, listed, bad, share)
        base = mesh.next_stamps(len(listed))
        stamp_in_order(mesh.stamp, base, listed[:n].view(np.int32))
        renew_normals(mesh, base, listed, moved.segments, moved.owners)
    if not (held and holds):
        return held, moved.longest
    # What went along as a whole may have gone farther than any of it was asked to.
    went = np.linalg.norm(mesh.positions[listed[:n]] - was, axis=1)
    return held, max(moved.longest, float(went.max()))


def _rounds(holds: bool, presses: bool) -> Iterator[tuple[float, int]]:
    """What is tried one after the other: which share of the way is left, and how many rings around it are taken along."""
    if presses:
        yield from ((EVENED, rings) for rings in EVENINGS)
    yield from ((AS_ONE, rings) for rings in WHOLES) if holds else SHARES
    yield from ((share, ALL) for share in LAST)
