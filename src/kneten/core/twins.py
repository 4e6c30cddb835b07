"""Which vertex is whose mirror image, read off the mesh's shape instead of its places.

So a posed figure keeps its symmetry: an arm that hangs still has the raised one as its twin. Beginning at an edge
of the seam, faces on both sides are walked over in step; where the two sides differ in shape, there is no
symmetry to be found.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from kneten.core.arrays import F32, F64, I32, U8, AnyArray, kernel
from kneten.core.mesh import Mesh

TRIES = 400
"""Edges tried as the seam's beginning, nearest to the plane first."""


@dataclass(frozen=True)
class Pairs:
    """The twins of a mesh.

    Attributes
    ----------
    twin : (n,) int32
        Each vertex's mirror image; itself on the seam, -1 where there is none.
    side : (n,) int8
        1 on the side of greater coordinates, -1 on the other, 0 on the seam.
    """

    twin: I32
    side: I32


@kernel
def _face_with(faces: I32, start: I32, ring: I32, u: int, v: int) -> int:
    """The face that runs from `u` to `v`, or -1."""
    for k in range(start[u, 0], start[u, 1]):
        f = ring[k]
        size = 3 if faces[f, 3] < 0 else 4
        for c in range(size):
            if faces[f, c] == u and faces[f, (c + 1) % size] == v:
                return f
    return -1


@kernel
def _walk(
    faces: I32, start: I32, ring: I32, a: int, b: int, twin: I32, side: I32, done: U8, queue: I32
) -> int:
    """Pair everything that an edge of the seam leads to; the number of vertices paired, or -1 on a contradiction."""
    twin[:] = -1
    side[:] = 0
    done[:] = 0
    first = _face_with(faces, start, ring, a, b)
    other = _face_with(faces, start, ring, b, a)
    if first < 0 or other < 0:
        return -1
    twin[a] = a
    twin[b] = b
    count = 2
    # Pairs of faces, and the corner of each that the walk around it begins at.
    queue[0, 0] = first
    queue[0, 1] = other
    queue[0, 2] = a
    queue[0, 3] = a
    done[first] = 1
    head = 0
    tail = 1
    while head < tail:
        f = queue[head, 0]
        g = queue[head, 1]
        u = queue[head, 2]
        w = queue[head, 3]
        head += 1
        size = 3 if faces[f, 3] < 0 else 4
        if size != (3 if faces[g, 3] < 0 else 4):
            return -1
        i = 0
        while faces[f, i] != u:
            i += 1
        j = 0
        while faces[g, j] != w:
            j += 1
        for step in range(size):
            p = faces[f, (i + step) % size]
            q = faces[g, (j - step) % size]
            if twin[p] < 0 and twin[q] < 0:
                twin[p] = q
                twin[q] = p
                count += 1 if p == q else 2
                if p != q:
                    side[p] = 1
                    side[q] = -1
            elif twin[p] != q or twin[q] != p:
                return -1
        for step in range(size):
            p = faces[f, (i + step) % size]
            q = faces[f, (i + step + 1) % size]
            over = _face_with(faces, start, ring, q, p)
            match = _face_with(faces, start, ring, twin[p], twin[q])
            if (over < 0) != (match < 0):
                return -1
            if over >= 0 and done[over] == 0:
                done[over] = 1
                queue[tail, 0] = over
                queue[tail, 1] = match
                queue[tail, 2] = q
                queue[tail, 3] = twin[q]
                tail += 1
    return count


def pairs_of(mesh: Mesh, axis: int) -> Pairs | None:
    """The twins across the plane where coordinate `axis` is 0 in the unposed body; None when there are none.

    Every vertex of the piece that the seam runs through must have its twin.
    """
    shape = mesh.topology
    n = mesh.n_vertices
    faces = shape.faces
    off = np.abs(mesh.positions[:, axis])
    edges = np.concatenate([faces[:, [k, (k + 1) % 3]] for k in range(2)])
    size = float(np.ptp(mesh.positions, axis=0).max())
    near = edges[off[edges].max(axis=1) < 0.05 * size]
    # An edge of the seam has both ends on it: those flat against the plane come first.
    order = np.argsort(off[near].sum(axis=1))
    twin, side = np.empty(n, np.int32), np.empty(n, np.int32)
    done, queue = np.empty(shape.n_faces, np.uint8), np.empty((shape.n_faces, 4), np.int32)
    for a, b in near[order[:TRIES]].tolist():
        count = _walk(faces, shape.ring, shape.ring_faces, a, b, twin, side, done, queue)
        if count == n or (count > 0 and count >= _piece(mesh, a)):
            ahead = side != 0
            if ahead.any() and float((mesh.positions[ahead, axis] * side[ahead]).mean()) < 0:
                side = -side
            return Pairs(twin.copy(), side.copy())
    return None


def _piece(mesh: Mesh, vertex: int) -> int:
    """How many vertices hang together with one."""
    from kneten.core.pieces import connected

    labels = connected(mesh)
    return int(np.count_nonzero(labels == labels[vertex]))


def asymmetry(mesh: Mesh, pairs: Pairs, axis: int) -> F32:
    """How far each vertex is from where its twin's mirror image would have it, (n,) in the mesh's lengths."""
    out = np.zeros(mesh.n_vertices, np.float32)
    known = pairs.twin >= 0
    mirrored = mesh.positions[pairs.twin[known]].copy()
    mirrored[:, axis] *= -1
    out[known] = np.linalg.norm(mesh.positions[known] - mirrored, axis=1)
    return out


def resymmetrised(mesh: Mesh, pairs: Pairs, axis: int, from_side: int, soft: float, free: F32 | None) -> F32:
    """Positions (n, 3) with one side made the mirror image of the other.

    Parameters
    ----------
    from_side : int
        1 or -1: the side that stays; 0 takes the mean of both.
    soft : float
        Within this distance of the plane both sides run over into their mean, so that no step is left.
    free : (n,) float32 or None
        1 where the clay may move, 0 where it stays.
    """
    positions = mesh.positions.astype(np.float64)
    known = np.flatnonzero(pairs.twin >= 0)
    own = positions[known]
    image = positions[pairs.twin[known]].copy()
    image[:, axis] *= -1
    side = pairs.side[known]
    keep = np.where(side == from_side, 1.0, 0.0) if from_side else np.full(len(known), 0.5)
    keep = np.where(side == 0, 0.5, keep)
    if soft > 0:
        t = np.clip((np.abs(own[:, axis]) + np.abs(image[:, axis])) / (2 * soft), 0.0, 1.0)
        t = t * t * (3 - 2 * t)
        keep = 0.5 + (keep - 0.5) * t
    wanted = own * keep[:, None] + image * (1 - keep[:, None])
    # On the seam both are one vertex: it lies in the plane.
    wanted[side == 0, axis] = 0.0
    if free is not None:
        share = free[known, None].astype(np.float64)
        wanted = own + (wanted - own) * share
    out = mesh.positions.copy()
    out[known] = wanted.astype(np.float32)
    return out


def turned_twins(mesh: Mesh, axis: int, count: int) -> I32 | None:
    """Where each vertex (n,) comes when the clay is turned by the `count`-th part of a whole turn about an axis.

    By place: the nearest vertex. None when two vertices would come to the same: then the mesh does not repeat all round.
    """
    tree = cKDTree(mesh.positions)
    _, twin = tree.query(mesh.positions.astype(np.float64) @ turn_about(axis, 2 * np.pi / count).T)
    if len(np.unique(twin)) < mesh.n_vertices:
        return None
    return twin.astype(np.int32)


def turn_about(axis: int, angle: float) -> F64:
    """The matrix (3, 3) of a turn about a coordinate axis, radians."""
    a, b = (axis + 1) % 3, (axis + 2) % 3
    turn = np.eye(3)
    turn[a, a] = turn[b, b] = np.cos(angle)
    turn[a, b], turn[b, a] = -np.sin(angle), np.sin(angle)
    return turn


def repeated_round(mesh: Mesh, twin: I32, axis: int, count: int, sector: int | None, free: F32 | None) -> F32:
    """Positions (n, 3) that repeat all round an axis.

    Parameters
    ----------
    twin : (n,) int32
        As `turned_twins` gives them.
    sector : int or None
        Which of the `count` sectors stays, the first beginning where the second of the other axes is 0; None takes the
        mean of all.
    free : (n,) float32 or None
        1 where the clay may move, 0 where it stays.
    """
    positions = mesh.positions.astype(np.float64)
    a, b = (axis + 1) % 3, (axis + 2) % 3
    part = 2 * np.pi / count
    round_ = np.arctan2(positions[:, b], positions[:, a])
    # Of a vertex and its likes the one nearest to the middle of the sector stays: all of them agree which that is.
    off = np.abs((round_ - ((sector or 0) + 0.5) * part + np.pi) % (2 * np.pi) - np.pi)
    rank = np.lexsort((np.arange(len(off)), off)).argsort()
    wanted = np.zeros_like(positions)
    best = np.full(len(positions), len(positions))
    at: AnyArray = np.arange(len(positions))
    for k in range(count):
        # The k-th like of each vertex, turned back to where the vertex is.
        back = positions[at] @ turn_about(axis, -part * k).T
        if sector is None:
            wanted += back / count
        else:
            better = rank[at] < best
            wanted[better] = back[better]
            best = np.minimum(best, rank[at])
        at = twin[at]
    share = 1.0 if free is None else free[:, None].astype(np.float64)
    return (positions + (wanted - positions) * share).astype(np.float32)


def mirror_between(places: F64, twins: F64, weights: F64) -> F64:
    """The rigid mirroring (3, 3) that best brings places (k, 3) to their twins (Kabsch 1976, turned over).

    Moves on one side are so turned to the other, however the body is posed: near a dab it is nearly rigid.
    """
    share = weights / max(float(weights.sum()), 1e-30)
    a = places - share @ places
    b = twins - share @ twins
    u, _, v = np.linalg.svd((a * share[:, None]).T @ b)
    turn = np.eye(3)
    turn[2, 2] = -np.sign(np.linalg.det(u @ v)) or -1.0
    return np.asarray(v.T @ turn @ u.T)


@kernel
def mirror_push(moves: F64, weights: F32, places: I32, mirror: F64, push: F64, push_weight: F64) -> None:
    """Ask at twins' rows `places` (-1: no twin) for the mirrored `moves` (k, 3), which have the weights in them."""
    for i in range(places.shape[0]):
        at = places[i]
        if at < 0:
            continue
        for a in range(3):
            push[at, a] += (
                mirror[a, 0] * moves[i, 0] + mirror[a, 1] * moves[i, 1] + mirror[a, 2] * moves[i, 2]
            )
        push_weight[at, 0] += weights[i]
        push_weight[at, 1] = max(push_weight[at, 1], weights[i])
