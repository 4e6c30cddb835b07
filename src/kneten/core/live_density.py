"""Live density: the mesh under the brush is brought to a wanted edge length.

Edges are kept between 0.55 and 4/3 of that length, and flips make the triangles Delaunay: Botsch and Kobbelt, "A
remeshing approach to multiresolution modeling" (2004), under the brush only.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F64, I32
from kneten.core.changes import patches_of
from kneten.core.loose import LooseMesh
from kneten.core.loose_change import LooseLog
from kneten.core.loose_edit import collapse_all, collect, flip_around, mean_edge, split_all, stamp_all
from kneten.core.loose_places import reached
from kneten.core.patches import patches_near
from kneten.core.topology import PATCH
from kneten.core.workspace import Workspace

LONG = 4.0 / 3.0
SHORT = 0.55
"""Of the wanted length: an edge beyond the one is split, one below the other collapses. The halves of an edge just
split have two thirds, so nothing is split and joined in turns; with the 4/5 of the paper, which relaxes the mesh after
each pass, thousands of edges under a brush would be tried and refused with every dab."""

FINEST = 220.0
"""Edges to a brush's radius at most, over a dab and all its twins: 160,000 vertices."""

ROUNDS = 5
"""Passes of splitting in one go: each halves the edges that are too long."""


@dataclass(frozen=True)
class Density:
    """What a brush makes of the mesh under it.

    Attributes
    ----------
    length : float
        The wanted edge length, in the part's space.
    refine, coarsen : bool
        Split edges that are too long; draw together those that are too short.
    """

    length: float
    refine: bool = True
    coarsen: bool = True


def densify(
    mesh: LooseMesh, work: Workspace, log: LooseLog, centre: F64, radius: float, density: Density
) -> I32:
    """Bring the mesh within a ball to a wanted edge length.

    Parameters
    ----------
    work : Workspace
        The stroke's: what it knows of vertices goes over to those made of them.
    log : LooseLog
        The stroke's: what was there before.
    radius : float
        In the part's space, as is `centre`, (3,).

    Returns
    -------
    (n,) int32
        The vertices that are new, were drawn together, or went to another place.
    """
    known = len(log.renamed)
    spot = _Spot(mesh, work, log, centre, radius, density)
    edges, few = spot.edges(None)
    few = spot.split(edges, few)
    spot.join(few)
    fresh = [*spot.fresh, *(new for _, new in log.renamed[known:])]
    return np.unique(np.concatenate(fresh)).astype(np.int32) if fresh else np.empty(0, np.int32)


class _Spot:
    """The mesh within a ball while it is brought to a length.

    Attributes
    ----------
    fresh : list of (n,) int32
        Vertices that are new or were drawn together, under the places they have now.
    """

    def __init__(
        self, mesh: LooseMesh, work: Workspace, log: LooseLog, centre: F64, radius: float, density: Density
    ) -> None:
        self._mesh, self._work, self._log = mesh, work, log
        x, y, z = (float(k) for k in centre)
        self._ball = (x, y, z, radius)
        self._density = density
        self._long, self._short = (LONG * density.length) ** 2, (SHORT * density.length) ** 2
        self.fresh: list[I32] = []

    def edges(self, only: I32 | None) -> tuple[I32, I32]:
        """Edges that are too long, the longest first, and too short; of all within the ball, or of some vertices."""
        mesh = self._mesh
        buffer = np.empty(mesh.n_patches, np.int32)
        near = buffer[: patches_near(mesh.boxes, mesh.clusters, *self._ball, buffer)]
        self._log.note(near)
        s = mesh.store()
        room = mesh.scratch("reached", len(near) * PATCH, np.int32)
        vertices = room[: reached(s, near, *self._ball, room)] if only is None else only
        if only is not None:
            near = patches_of(mesh, only)[1]
        mark = mesh.next_stamp()
        stamp_all(vertices, mesh.stamp, mark)
        most = 4 * len(vertices) + 64
        edges = mesh.scratch("edges", 4 * most, np.int32)[: 4 * most].reshape(2, most, 2)
        keys = mesh.scratch("keys", 2 * most, np.float32)[: 2 * most].reshape(2, most)
        counts = np.zeros(2, np.int32)
        above = self._long if self._density.refine else np.inf
        below = self._short if self._density.coarsen and only is None else -1.0
        collect(s, near, mesh.stamp, mark, above, below, edges[0], keys[0], edges[1], keys[1], counts)
        orders = [np.argsort(keys[i, : counts[i]], kind="stable") for i in range(2)]
        return edges[0, orders[0][::-1]], edges[1, orders[1]]

    def split(self, edges: I32, few: I32) -> I32:
        """Split edges until none is too long; those that are too short, under the names they have then."""
        mesh, work = self._mesh, self._work
        for _ in range(ROUNDS):
            if len(edges) == 0:
                break
            made, full = np.empty((len(edges), 3), np.int32), np.empty(len(edges), np.int32)
            counts = np.zeros(2, np.int32)
            split_all(mesh.store(), edges, self._long, made, full, counts)
            new = made[: counts[0], 0].copy()
            work.split(made[: counts[0]])
            mesh.follow_splits(made[: counts[0]])
            flip_around(mesh.store(), new, 2)
            if len(new):
                mesh.renew_around(np.sort(new))
            self.fresh.append(new)
            again = np.unique(np.concatenate([new, edges[:, 0]]) if counts[1] else new).astype(np.int32)
            for p in np.unique(full[: counts[1]]).tolist():
                if mesh.halve(p, self._log):
                    again, few = self._follow(again, few)
            if len(again) == 0:
                break
            edges = self.edges(np.sort(again))[0]
        return few

    def _follow(self, again: I32, few: I32) -> tuple[I32, I32]:
        """What is known of vertices goes along with those that have just gone to another patch."""
        old, new = self._log.renamed[-1]
        self._work.rename(old, new)
        self._mesh.follow_names(old, new)
        self.fresh = [_renamed(one, old, new) for one in self.fresh]
        return _renamed(again, old, new), _renamed(few.reshape(-1), old, new).reshape(-1, 2)

    def join(self, few: I32) -> None:
        """Draw edges together that are too short: once beside splitting, else until nothing more comes of it."""
        mesh, refine = self._mesh, self._density.refine
        for _ in range(1 if refine else ROUNDS):
            if len(few) == 0:
                break
            made = np.empty((len(few), 2), np.int32)
            counts = np.zeros(2, np.int32)
            ends = np.unique(few)
            ways = self._work.ways(ends)
            collapse_all(mesh.store(), few, self._short, self._long, made, counts)
            self._work.join(ends, *ways, made[: counts[0]])
            mesh.follow_joins(made[: counts[0]])
            new = np.unique(made[: counts[0], 1]).astype(np.int32)
            new = new[mesh.ring[new, 0] != mesh.ring[new, 1]]
            if len(new):
                flip_around(mesh.store(), new, 2)
                # What was drawn into another lies dead near by: its place is out of date too.
                gone = np.unique(few[mesh.ring[few[:, 0], 0] == mesh.ring[few[:, 0], 1], 0])
                mesh.renew_around(np.union1d(new, gone).astype(np.int32))
            self.fresh.append(new)
            if refine or len(new) == 0:
                break
            few = self.edges(None)[1]


def _renamed(vertices: I32, old: I32, new: I32) -> I32:
    """Vertices by their new places."""
    order = np.argsort(old)
    at = np.searchsorted(old[order], vertices)
    at[at == len(old)] = 0
    hit = old[order][at] == vertices if len(old) else np.zeros(len(vertices), bool)
    return np.where(hit, new[order][at] if len(old) else vertices, vertices).astype(np.int32)


def ball_density(mesh: LooseMesh, centre: F64, radius: float) -> float:
    """Mean edge length within a ball around `centre` (3,); 0 where there is none."""
    buffer = np.empty(mesh.n_patches, np.int32)
    x, y, z = (float(k) for k in centre)
    near = buffer[: patches_near(mesh.boxes, mesh.clusters, x, y, z, radius, buffer)]
    room = np.empty(len(near) * PATCH, np.int32)
    s = mesh.store()
    vertices = room[: reached(s, near, x, y, z, radius, room)]
    mark = mesh.next_stamp()
    stamp_all(vertices, mesh.stamp, mark)
    return float(mean_edge(s, near, mesh.stamp, mark))
