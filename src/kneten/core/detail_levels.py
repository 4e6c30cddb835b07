"""Levels of detail: coarser and coarser meshes of one form, skins, shapes and UVs carried along."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from kneten.core.arrays import F32, F64, U8, AnyArray, Progress
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
    found: list[DetailLevel] = []
    finer, of_finer = mesh, hung
    wishes = [Wanted(max(count, FEWEST), keep_regions=False) for count in counts]
    wishes += [Wanted(0, error, keep_regions=False) for error in errors]
    off = 0.0
    for number, wish in enumerate(wishes):
        progress.report(number / max(len(wishes), 1), f"Level of detail {number + 1}")
        if np.isfinite(wish.error):
            wish = replace(wish, error=max(wish.error - off, 0.05 * wish.error))
        made = decimated(finer, wish, Progress())
        of_made = carried(finer, of_finer, made.mesh.positions)
        off += made.error
        found.append(DetailLevel(made.mesh, of_made, off))
        finer, of_finer = made.mesh, of_made
    return found


def carried(mesh: Mesh, hung: Hung, places: F32) -> Hung:
    """What hangs on a mesh's vertices, at the places (k, 3) of its surface that lie nearest to others."""
    if hung.which is None and not hung.moves:
        return hung
    found, _ = FaceTree.of(mesh).nearest(
        np.ascontiguousarray(places, np.float32), np.full(len(places), np.inf, np.float32), Progress()
    )
    moves = tuple(found.of(one) for one in hung.moves)
    if hung.which is None or hung.share is None:
        return Hung(moves=moves)
    which = hung.which[found.corners].reshape(len(places), -1)
    share = (hung.share[found.corners] * found.shares[:, :, None]).reshape(len(places), -1)
    return Hung(*heaviest(which, share), moves)


def heaviest(which: AnyArray, share: F64 | F32) -> tuple[U8, F32]:
    """The four joints that weigh most of many for each vertex, (n, m) numbers and weights, and what they weigh, (n, 4) each, 1 together."""
    order = np.argsort(which, axis=1, kind="stable")
    names = np.take_along_axis(which, order, axis=1).astype(np.int64)
    weigh = np.take_along_axis(share, order, axis=1).astype(np.float64)
    # One joint may be named by several: the last of its run gets what all of them weigh.
    total = np.cumsum(weigh, axis=1)
    last = np.ones(names.shape, bool)
    last[:, :-1] = names[:, 1:] != names[:, :-1]
    before = np.zeros(names.shape)
    run = np.where(last, total, 0.0)
    np.maximum.accumulate(run[:, :-1], axis=1, out=before[:, 1:])
    summed = np.where(last, total - before, 0.0)
    top = np.argsort(-summed, axis=1, kind="stable")[:, :4]
    out = np.take_along_axis(summed, top, axis=1)
    told = np.where(out > 0, np.take_along_axis(names, top, axis=1), 0)
    return told.astype(np.uint8), (out / np.maximum(out.sum(axis=1, keepdims=True), 1e-12)).astype(np.float32)
