"""The outline of masked clay as a sculptor means it: even where the mask is ragged, on the clay, corners kept on demand."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix, diags

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress
from kneten.core.distance import nearest_points
from kneten.core.geodesic import Geodesics
from kneten.core.mesh import Mesh
from kneten.core.pieces import picked
from kneten.core.regions import faces_of_mask, normals_of_faces

RINGS = 6
"""How many rings behind an outline follow it."""

CORNER = 45.0
"""Degrees an outline turns by, within a few edges, from which on it has a corner there."""

SCALE = 4
"""Edges of the mesh on either side over which it is judged how an outline turns."""

FACING = 0.4
"""Cosine to how it was from which on a face that an evened outline has turned is taken back."""

RIM_PULL = 0.5
"""How much a vertex behind the outline is drawn to one on it, to those behind it 1."""

LEAST_LEFT = 0.85
"""Share of the masked faces that evening the outline leaves."""


@dataclass
class Sheet:
    """Faces of a mesh alone.

    Attributes
    ----------
    points : (n, 3) float64
    faces : (f, 4) int32
    loops : list of (k,) int32
        Its open edges in the direction of the faces beside them.
    """

    points: F64
    faces: I32
    loops: list[I32]


def edges_of(faces: I32) -> tuple[I32, I32]:
    """The edges of faces (f, 4), from and to (k,), in the direction of each face."""
    size = np.where(faces[:, 3] >= 0, 4, 3)
    fours = [faces[:, c][c < size] for c in range(4)]
    there = [faces[np.arange(len(faces)), (c + 1) % size][c < size] for c in range(4)]
    return np.concatenate(fours), np.concatenate(there)


def neighbour_means(faces: I32, n: int) -> AnyArray:
    """The sparse matrix (n, n) that gives each vertex of faces (f, 4) the mean of those it shares an edge with."""
    i, j = edges_of(faces)
    i, j = np.concatenate([i, j]), np.concatenate([j, i])
    matrix = coo_matrix((np.ones(len(i)), (i, j)), shape=(n, n)).tocsr()
    matrix.data[:] = 1.0
    share = np.maximum(np.asarray(matrix.sum(axis=1)).ravel(), 1.0)
    return coo_matrix((1.0 / share, (np.arange(n), np.arange(n))), shape=(n, n)).tocsr() @ matrix


def _alone(mesh: Mesh, which: AnyArray) -> tuple[I32, I32]:
    """Faces (f,) bool of a mesh with numbers of their own, and the vertices (n,) that these stand for."""
    faces = mesh.topology.faces[which]
    used = np.unique(faces)
    used = used[used >= 0]
    new = np.full(mesh.n_vertices + 1, -1, np.int32)
    new[used] = np.arange(len(used), dtype=np.int32)
    return new[faces], used


def inside_field(mesh: Mesh, mask: F32, rounds: int) -> F32:
    """How far inside of a mask's edge clay lies, over the surface; below 0 outside.

    Where the edge is ragged, the field is that of an even one: it is a distance, and evening a distance leaves a
    straight edge in its place, where evening the mask itself would eat what is narrow.

    Parameters
    ----------
    mask : (n,) float32
    rounds : int
        Rounds of evening; each reaches one edge of the mesh.

    Returns
    -------
    field : (n,) float32
        In the mesh's lengths; infinite beyond what evening reaches.
    """
    inside = mask >= 0.5
    field = np.where(inside, np.inf, -np.inf)
    i, j = edges_of(mesh.topology.faces)
    apart = inside[i] != inside[j]
    i, j = np.concatenate([i[apart], j[apart]]), np.concatenate([j[apart], i[apart]])
    if not len(i):
        return field.astype(np.float32)
    long = np.linalg.norm(mesh.positions[i].astype(np.float64) - mesh.positions[j], axis=1)
    step = np.abs(mask[i].astype(np.float64) - mask[j])
    first = np.full(mesh.n_vertices, np.inf)
    np.minimum.at(first, i, long * np.abs(mask[i] - 0.5) / np.maximum(step, 1e-6))
    sources = np.unique(i).astype(np.int32)
    limit = (3.0 * np.sqrt(rounds + 1.0) + RINGS) * float(long.mean())
    found, far = Geodesics(mesh).reach(sources, first[sources], limit)
    near = np.zeros(mesh.n_vertices + 1, bool)
    near[found] = True
    faces, band = _alone(mesh, np.asarray(near[mesh.topology.faces].any(axis=1)))
    field[band] = np.where(inside[band], limit, -limit)
    field[found] = np.minimum(far, limit) * np.where(inside[found], 1.0, -1.0)
    even, means = field[band], neighbour_means(faces, len(band))
    for _ in range(rounds):
        even = 0.5 * even + 0.5 * (means @ even)
    field[band] = even
    return field.astype(np.float32)


def outlined(mesh: Mesh, mask: F32, smooth: int, corners: bool, progress: Progress) -> Sheet:
    """The masked clay alone, its outline running evenly over the surface.

    Parameters
    ----------
    mask : (n,) float32
    smooth : int
        Rounds of evening along the outline; with 0 it stays as the mesh's edges have it.
    corners : bool
        Whether the outline's corners are kept; otherwise they are rounded like all of it.

    Returns
    -------
    sheet : Sheet
        Without faces where nothing is masked enough.
    """
    if not smooth:
        faces, used = _alone(mesh, _trimmed(mesh, faces_of_mask(mesh, mask)))
        return Sheet(mesh.positions[used].astype(np.float64), faces, _loops(faces))
    masked = faces_of_mask(mesh, mask)
    rounds = 3 if corners else 2 * smooth
    while True:
        field = inside_field(mesh, mask, rounds)
        which = np.append(np.clip(field, -1e6, 1e6), np.float32(0))[mesh.topology.faces].sum(axis=1) > 0
        # What is narrower than the evening reaches would go; so much evening is not for this mask.
        if rounds <= 2 or which.sum() >= LEAST_LEFT * masked.sum():
            break
        rounds //= 2
    faces, used = _alone(mesh, _trimmed(mesh, which))
    sheet = Sheet(mesh.positions[used].astype(np.float64), faces, _loops(faces))
    if not sheet.loops:
        return sheet
    progress.report(0.3, "Evening the outline")
    near = np.append(np.isfinite(field), False)
    ground = picked(mesh, np.asarray(near[mesh.topology.faces].any(axis=1)))
    was = sheet.points.copy()
    rims = np.concatenate(sheet.loops)
    if corners:
        for loop in sheet.loops:
            sheet.points[loop] = _between_corners(was[loop], 4 * smooth)
    else:
        normals = mesh.normals[used].astype(np.float64)
        sheet.points[rims] = _on_zero(mesh, field, used[rims], normals[rims])
        for loop in sheet.loops:
            sheet.points[loop] = _evened(sheet.points[loop], 4)
    sheet.points[rims] = nearest_points(sheet.points[rims], ground, progress)[0]
    _follow(sheet, was, ground, progress)
    sheet.faces = _well_split(sheet.points, sheet.faces)
    return sheet


def _trimmed(mesh: Mesh, which: AnyArray) -> AnyArray:
    """Which of some faces (f,) bool hang together by more than a corner or one edge: the others would fray the rim."""
    which = which.copy()
    for _ in range(24):
        faces, used = _alone(mesh, which)
        if not len(faces):
            break
        loose = _open_edges(faces)
        leaving = np.bincount(loose[:, 0], minlength=len(used))
        at = np.append(leaving, 9)[faces]
        counts = np.bincount(faces[faces >= 0], minlength=len(used))
        # A corner that only one face has, between two open edges, sticks out.
        lonely = ((np.append(counts, 9)[faces] == 1) & (faces >= 0)).any(axis=1)
        drop = ((at > 0).all(axis=1) & lonely) | ((at > 1) & (faces >= 0)).any(axis=1)
        if not drop.any():
            break
        which[np.flatnonzero(which)[drop]] = False
    return which


def _open_edges(faces: I32) -> I32:
    """The edges (k, 2) that only one of some faces has, in its direction."""
    a, b = edges_of(faces)
    one = a.astype(np.int64) << 32 | b
    other = b.astype(np.int64) << 32 | a
    alone = ~np.isin(one, other)
    return np.stack([a[alone], b[alone]], axis=1)


def _loops(faces: I32) -> list[I32]:
    """The open edges of faces, no two loops of which touch, as loops of vertices."""
    follow = dict(_open_edges(faces).tolist())
    loops = []
    while follow:
        start, at = follow.popitem()
        loop = [start]
        while at != start:
            loop.append(at)
            at = follow.pop(at)
        loops.append(np.array(loop, np.int32))
    return loops


def _on_zero(mesh: Mesh, field: F32, which: I32, normals: F64) -> F64:
    """Where the zero of a field lies next to vertices (k,): along its slope over the surface, within an edge."""
    at = np.full(mesh.n_vertices, -1, np.int64)
    at[which] = np.arange(len(which))
    near = np.append(at >= 0, False)[mesh.topology.faces].any(axis=1)
    a, b = edges_of(mesh.topology.faces[near])
    i, j = np.concatenate([a, b]), np.concatenate([b, a])
    own = (at[i] >= 0) & np.isfinite(field[i]) & np.isfinite(field[j])
    i, j = i[own], j[own]
    way = mesh.positions[j].astype(np.float64) - mesh.positions[i]
    rise = field[j].astype(np.float64) - field[i]
    row = at[i]
    k = len(which)
    sums = np.zeros((k, 3, 3))
    np.add.at(sums, row, way[:, :, None] * way[:, None, :])
    right = np.zeros((k, 3))
    np.add.at(right, row, way * rise[:, None])
    size = np.maximum(np.trace(sums, axis1=1, axis2=2), 1e-30)
    # Across the surface nothing is known: the slope shall lie in it.
    sums += size[:, None, None] * normals[:, :, None] * normals[:, None, :]
    sums += 1e-6 * size[:, None, None] * np.eye(3)
    slope = np.linalg.solve(sums, right[:, :, None])[:, :, 0]
    steep = np.einsum("ij,ij->i", slope, slope)
    step = -field[which][:, None] * slope / np.maximum(steep, 0.05)[:, None]
    counts = np.maximum(np.bincount(row, minlength=k), 1)
    most = 0.8 * np.sqrt(size / counts)
    long = np.linalg.norm(step, axis=1)
    return mesh.positions[which] + step * np.minimum(1.0, most / np.maximum(long, 1e-30))[:, None]


def _evened(ring: F64, rounds: int, ends: bool = False) -> F64:
    """Points of a closed line, or of one whose ends stay, evened along it."""
    for _ in range(rounds):
        new = 0.5 * ring + 0.25 * (np.roll(ring, 1, 0) + np.roll(ring, -1, 0))
        if ends:
            new[[0, -1]] = ring[[0, -1]]
        ring = new
    return ring


def _between_corners(ring: F64, rounds: int) -> F64:
    """A closed line evened from corner to corner, where each stands where the sides beside it meet."""
    smooth = _evened(ring, 8)
    k = min(SCALE, len(ring) // 4)
    if k < 2:
        return _evened(ring, rounds)
    since, until = smooth - np.roll(smooth, k, 0), np.roll(smooth, -k, 0) - smooth
    turn = np.einsum("ij,ij->i", since, until) / np.maximum(
        np.linalg.norm(since, axis=1) * np.linalg.norm(until, axis=1), 1e-30
    )
    sharpest = np.min([np.roll(turn, shift, 0) for shift in range(-k, k + 1)], axis=0)
    corners = np.flatnonzero((turn < np.cos(np.radians(CORNER))) & (turn == sharpest))
    if not len(corners):
        return _evened(ring, rounds)
    n, out = len(ring), smooth.copy()
    edge = float(np.linalg.norm(np.roll(ring, -1, 0) - ring, axis=1).mean())
    gaps = np.diff(np.append(corners, corners[0] + n))
    for c, back, on in zip(corners, np.roll(gaps, 1), gaps, strict=True):
        before = smooth[(c - _beside(k, int(back))) % n]
        after = smooth[(c + _beside(k, int(on))) % n]
        off = _meeting(before, after) - ring[c]
        out[c] = ring[c] + off * min(1.0, 1.5 * edge / max(float(np.linalg.norm(off)), 1e-30))
    for first, last in zip(corners, np.append(corners[1:], corners[0] + n), strict=True):
        side = np.arange(first, last + 1) % n
        line = out[side]
        line[1:-1] = ring[side][1:-1]
        out[side] = _evened(line, rounds, ends=True)
    return out


def _beside(k: int, gap: int) -> AnyArray:
    """How many places from a corner the straight of its side is judged, where the next is a gap away."""
    first = min(k - 2, gap // 4)
    return np.arange(first, min(2 * k + 2, max(gap // 2, first + 2)))


def _meeting(one: F64, other: F64) -> F64:
    """The point in the middle of where two straight sides, (k, 3) each, come nearest to each other."""
    starts, ways = [], []
    for side in (one, other):
        middle = side.mean(axis=0)
        starts.append(middle)
        ways.append(np.linalg.svd(side - middle, full_matrices=False)[2][0])
    (p, q), (u, v) = starts, ways
    b = float(u @ v)
    if 1 - b * b < 0.05:
        return np.asarray(0.5 * (one[0] + other[0]))
    w = p - q
    d, e = float(u @ w), float(v @ w)
    return np.asarray(0.5 * (p + u * (b * e - d) / (1 - b * b) + q + v * (e - b * d) / (1 - b * b)))


def _follow(sheet: Sheet, was: F64, ground: Mesh, progress: Progress) -> None:
    """Let the rings behind the outline follow where it went, on the ground; where faces would turn over, less."""
    faces, n = sheet.faces, len(sheet.points)
    rim = np.zeros(n + 1, bool)
    rim[np.concatenate(sheet.loops)] = True
    near = rim.copy()
    for _ in range(RINGS):
        near[faces[near[faces].any(axis=1)].reshape(-1)] = True
        near[-1] = False
    behind = np.flatnonzero(near[:-1] & ~rim[:-1])
    # Where the outline was a staircase, more than one place of it is next to a vertex: together they would draw it near.
    pull = np.where(rim[:-1], RIM_PULL, 1.0)
    means = neighbour_means(faces, n)[behind] @ diags(pull)
    means = diags(1.0 / np.asarray(means.sum(axis=1)).ravel()) @ means
    for turn in range(24):
        sheet.points[behind] = 0.5 * sheet.points[behind] + 0.5 * (means @ sheet.points)
        if turn % 12 == 11:
            sheet.points[behind] = nearest_points(sheet.points[behind], ground, progress)[0]
    before = normals_of_faces(was, faces)
    for _ in range(8):
        turned = least_facing(sheet.points, faces, before) < FACING
        if not turned.any():
            break
        at = np.zeros(n + 1, bool)
        at[faces[turned].reshape(-1)] = True
        sheet.points += (was - sheet.points) * np.where(at[:-1], 0.5, 0.0)[:, None]


def _well_split(points: F64, faces: I32) -> I32:
    """Faces whose quads begin at a corner from which their two triangles are the less drawn out.

    Where the outline of quads was a staircase, corners of theirs lie straight between their neighbours now.
    """

    def worst(c: int) -> F64:
        """The lesser height over the longest side of the triangles on either side of a quad's diagonal from `c`."""
        a, b, d, e = (points[faces[:, (c + k) % 4]] for k in range(4))
        across = np.maximum(np.linalg.norm(d - a, axis=1), 1e-30)
        return np.minimum(
            np.linalg.norm(np.cross(b - a, d - a), axis=1), np.linalg.norm(np.cross(e - a, d - a), axis=1)
        ) / (across * across)

    better = (faces[:, 3] >= 0) & (worst(1) > 1.05 * worst(0))
    return np.where(better[:, None], np.roll(faces, -1, axis=1), faces)


def least_facing(points: F64, faces: I32, ways: F64) -> F64:
    """The least cosine (f,) between a direction (f, 3) for each face and what its corners' triangles face."""
    quads = faces[:, 3] >= 0
    least = np.full(len(faces), np.inf)
    for c in range(4):
        size = np.where(quads, 4, 3)
        rows = np.arange(len(faces))
        at, before, after = faces[rows, c % size], faces[rows, (c - 1) % size], faces[rows, (c + 1) % size]
        normal = np.cross(points[after] - points[at], points[before] - points[at])
        long = np.linalg.norm(normal, axis=1)
        cosine = np.einsum("ij,ij->i", normal, ways) / np.maximum(long, 1e-30)
        # A corner of a quad may lie straight between its neighbours: what it faces there means nothing.
        sides = np.linalg.norm(points[after] - points[at], axis=1) * np.linalg.norm(
            points[before] - points[at], axis=1
        )
        least = np.minimum(least, np.where(quads & (long < 0.1 * sides), np.inf, cosine))
    return least
