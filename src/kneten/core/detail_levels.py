"""Levels of detail: coarser and coarser meshes of one form, skins, shapes and UVs carried along."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np

from kneten.core.arrays import F32, U8, AnyArray, Progress, in_parts, kernel
from kneten.core.decimate import Wanted, decimated
from kneten.core.face_tree import FaceTree
from kneten.core.mesh import Mesh

FEWEST = 24
"""Triangles of a level at least."""


@dataclass(frozen=True, eq=False)
class Hung:
    """What vertices have that is not a value of the mesh.

    Attributes
    ----------
    which : (n, 4) uint8 or None
    share : (n, 4) float32 or None
        Joints and weights.
    moves : tuple of (n, 3) float32
        What shapes do.
    """

    which: U8 | None = None
    share: F32 | None = None
    moves: tuple[F32, ...] = ()


@dataclass(frozen=True, eq=False)
class DetailLevel:
    """One of them.

    Attributes
    ----------
    mesh : Mesh
    hung : Hung
        Of its vertices.
    error : float
        How far its surface lies from the first at the worst of some thousand places, in the mesh's space.
    """

    mesh: Mesh
    hung: Hung
    error: float


def detail_levels(
    mesh: Mesh, hung: Hung, counts: Sequence[int], progress: Progress, errors: Sequence[float] = ()
) -> list[DetailLevel]:
    """Coarser meshes, each made from the one before.

    Parameters
    ----------
    counts : sequence of int
        Triangles of each, falling.
    errors : sequence of float
        How far each may lie off, instead of counts.

    Raises
    ------
    MeshError
        When one has fewer triangles than are asked for.
    Cancelled
        Through `progress`.
    """
    wishes = [Wanted(max(count, FEWEST), keep_regions=False) for count in counts]
    wishes += [Wanted(0, error, keep_regions=False) for error in errors]
    made: list[tuple[Mesh, float]] = []
    finer, off = mesh, 0.0
    with ThreadPoolExecutor(1) as beside:
        # What hangs on a level is carried while the next one is made; each needs the one before, so one thread does it.
        hangs: list[Future[Hung]] = []

        def carry(one: Mesh, other: Mesh) -> Future[Hung]:
            before = hangs[-1] if hangs else None
            return beside.submit(
                lambda: carried(one, hung if before is None else before.result(), other.positions)
            )

        for number, wish in enumerate(wishes):
            progress.report(number / max(len(wishes), 1), f"Level of detail {number + 1}")
            if np.isfinite(wish.error):
                wish = replace(wish, error=max(wish.error - off, 0.05 * wish.error))
            level = decimated(finer, wish, Progress())
            hangs.append(carry(finer, level.mesh))
            off += level.error
            made.append((level.mesh, off))
            finer = level.mesh
        return [DetailLevel(one, hangs[k].result(), error) for k, (one, error) in enumerate(made)]


def carried(mesh: Mesh, hung: Hung, places: F32) -> Hung:
    """What hangs on a mesh's vertices, at the places (k, 3) of its surface that lie nearest to others."""
    if hung.which is None and not hung.moves:
        return hung
    found, _ = FaceTree.of(mesh).nearest(
        np.ascontiguousarray(places, np.float32), np.full(len(places), np.inf, np.float32), Progress()
    )
    moves: tuple[F32, ...] = ()
    if hung.moves:
        together = found.of(np.concatenate(hung.moves, axis=1))
        moves = tuple(np.ascontiguousarray(together[:, k : k + 3]) for k in range(0, together.shape[1], 3))
    if hung.which is None or hung.share is None:
        return Hung(moves=moves)
    which = hung.which[found.corners].reshape(len(places), -1)
    share = (hung.share[found.corners] * found.shares[:, :, None]).reshape(len(places), -1)
    return Hung(*heaviest(which, share), moves)


@kernel
def _heaviest(which: U8, share: F32, first: int, last: int, names: U8, weights: F32) -> None:
    many = which.shape[1]
    for v in range(first, last):
        # What one joint weighs in several places is added up at the first of them.
        for k in range(many):
            for j in range(k):
                if which[v, j] == which[v, k]:
                    share[v, j] += share[v, k]
                    share[v, k] = np.float32(0.0)
                    break
        total = np.float32(0.0)
        for slot in range(4):
            best = -1
            most = np.float32(0.0)
            for k in range(many):
                if share[v, k] > most:
                    most = share[v, k]
                    best = k
            if best < 0:
                names[v, slot] = 0
                weights[v, slot] = np.float32(0.0)
                continue
            names[v, slot] = which[v, best]
            weights[v, slot] = most
            share[v, best] = np.float32(0.0)
            total += most
        if total > 0:
            for slot in range(4):
                weights[v, slot] /= total


def heaviest(which: AnyArray, share: AnyArray) -> tuple[U8, F32]:
    """The four joints that weigh most of many for each vertex, (n, m) numbers and weights, and what they weigh, (n, 4) each, 1 together."""
    names, weights = np.empty((len(which), 4), np.uint8), np.empty((len(which), 4), np.float32)
    given, left = np.ascontiguousarray(which, np.uint8), np.array(share, np.float32)
    in_parts(len(which), lambda first, last: _heaviest(given, left, first, last, names, weights))
    return names, weights
