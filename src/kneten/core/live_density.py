"""Live density: the mesh under the brush is brought to a wanted edge length.

Edges are kept between 4/5 and 4/3 of that length, and flips make the triangles Delaunay: Botsch and Kobbelt, "A
remeshing approach to multiresolution modeling" (2004), under the brush only.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F64, I32, AnyArray
from kneten.core.loose import LooseMesh
from kneten.core.loose_change import LooseLog
from kneten.core.loose_edit import collapse_all, collect, flip_around, split_all
from kneten.core.loose_places import reached
from kneten.core.patches import patches_near
from kneten.core.topology import PATCH

LONG = 4.0 / 3.0
SHORT = 4.0 / 5.0
"""Of the wanted length: an edge beyond is split, one below collapses. A split edge's halves are not short enough to
collapse again, nor does a collapse make edges long enough to be split (Botsch and Kobbelt 2004)."""


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


def densify(mesh: LooseMesh, log: LooseLog, centre: F64, radius: float, density: Density) -> I32:
    """Bring the mesh within a ball to a wanted edge length; the vertices that are new or were drawn together."""
    x, y, z = (float(k) for k in centre)
    long, short = (LONG * density.length) ** 2, (SHORT * density.length) ** 2
    fresh: list[I32] = []

    def within() -> I32:
        buffer = np.empty(mesh.n_patches, np.int32)
        near = buffer[: patches_near(mesh.boxes, mesh.clusters, x, y, z, radius, buffer)]
        log.note(near)
        room = mesh.scratch("reached", len(near) * PATCH, np.int32)
        return room[: reached(mesh.store(), near, x, y, z, radius, room)]

    def listed(vertices: I32, limit: float, above: bool) -> tuple[I32, AnyArray]:
        room = 4 * len(vertices) + 64
        edges = mesh.scratch("edges", 2 * room, np.int32)[: 2 * room].reshape(-1, 2)
        keys = mesh.scratch("keys", room, np.float32)
        n = collect(mesh.store(), vertices, mesh.stamp, mesh.next_stamp(), limit, above, edges, keys)
        order = np.argsort(keys[:n], kind="stable")
        return edges[:n].copy(), order[::-1] if above else order

    for _ in range(ROUNDS if density.refine else 0):
        vertices = within()
        edges, order = listed(vertices, long, True)
        if len(order) == 0:
            break
        made, full = np.empty(len(order), np.int32), np.empty(len(order), np.int32)
        counts = np.zeros(2, np.int32)
        split_all(mesh.store(), edges, order, long, made, full, counts)
        new = made[: counts[0]]
        flip_around(mesh.store(), new, 2)
        if len(new):
            mesh.renew_around(np.sort(new))
        fresh.append(new)
        halved = False
        for p in np.unique(full[: counts[1]]).tolist():
            if mesh.halve(p, log):
                halved = True
                fresh = [_renamed(one, *log.renamed[-1]) for one in fresh]
        if counts[0] == 0 and not halved:
            break
    if density.coarsen:
        vertices = within()
        edges, order = listed(vertices, short, False)
        if len(order):
            made = np.empty(len(order), np.int32)
            counts = np.zeros(2, np.int32)
            collapse_all(mesh.store(), edges, order, short, long, made, counts)
            new = np.unique(made[: counts[0]]).astype(np.int32)
            new = new[mesh.ring[new, 0] != mesh.ring[new, 1]]
            if len(new):
                flip_around(mesh.store(), new, 2)
                # What was drawn into another lies dead near by: its place is out of date too.
                gone = np.unique(edges[mesh.ring[edges[:, 0], 0] == mesh.ring[edges[:, 0], 1], 0])
                mesh.renew_around(np.union1d(new, gone).astype(np.int32))
            fresh.append(new)
    return np.unique(np.concatenate(fresh)).astype(np.int32) if fresh else np.empty(0, np.int32)


def _renamed(vertices: I32, old: I32, new: I32) -> I32:
    """Vertices by their new places."""
    order = np.argsort(old)
    at = np.searchsorted(old[order], vertices)
    at[at == len(old)] = 0
    hit = old[order][at] == vertices if len(old) else np.zeros(len(vertices), bool)
    return np.where(hit, new[order][at] if len(old) else vertices, vertices).astype(np.int32)


def ball_density(mesh: LooseMesh, centre: F64, radius: float) -> float:
    """Mean edge length within a ball; 0 where there is none."""
    buffer = np.empty(mesh.n_patches, np.int32)
    x, y, z = (float(k) for k in centre)
    near = buffer[: patches_near(mesh.boxes, mesh.clusters, x, y, z, radius, buffer)]
    room = np.empty(len(near) * PATCH, np.int32)
    s = mesh.store()
    vertices = room[: reached(s, near, x, y, z, radius, room)]
    edges, keys = (
        np.empty((4 * len(vertices) + 64, 2), np.int32),
        np.empty(4 * len(vertices) + 64, np.float32),
    )
    n = collect(s, vertices, mesh.stamp, mesh.next_stamp(), -1.0, True, edges, keys)
    return float(np.sqrt(keys[:n]).mean()) if n else 0.0
