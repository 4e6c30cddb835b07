"""Peel: a shell from masked clay: even thickness, a smooth edge even from a rough mask, a rim of clean quads."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.spatial import cKDTree

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress
from kneten.core.masks import blurred
from kneten.core.mesh import Mesh
from kneten.core.normals import compute_normals
from kneten.core.pieces import border_loops, picked
from kneten.core.placing import turned_out
from kneten.core.regions import faces_of_mask


class PeelError(ValueError):
    """There is nothing to peel; the message says why."""


@dataclass(frozen=True)
class PeelSettings:
    """What the shell is like, in the mesh's lengths.

    Attributes
    ----------
    thickness : float
    towards : str
        Where it grows from the clay: "out", "in" or "both".
    offset : float
        How far its middle sheet lies off the clay, outwards.
    smooth : int
        Rounds of smoothing along the edge.
    rows : int
        Rows of quads across the rim.
    rounded : float
        How far the rim bulges, 0 flat to 1 half round.
    closed : bool
        With an inside and a rim; otherwise one open sheet.
    """

    thickness: float = 2.0
    towards: str = "out"
    offset: float = 0.0
    smooth: int = 12
    rows: int = 3
    rounded: float = 0.6
    closed: bool = True


def peeled(mesh: Mesh, mask: F32, settings: PeelSettings, progress: Progress) -> Mesh:
    """The shell of what a mask (n,) covers.

    Raises
    ------
    PeelError
        When nothing is masked enough, or the thickness is not above 0.
    """
    if settings.closed and settings.thickness <= 0:
        raise PeelError("A closed shell needs a thickness above 0.")
    if settings.smooth:
        # A ragged mask becomes an even one first; what is left of the steps goes with the rim's smoothing.
        mask = blurred(mesh, mask, 2 * settings.smooth)
    faces = faces_of_mask(mesh, mask)
    if not faces.any():
        raise PeelError("Nothing is masked enough to peel; mask what the shell is to cover.")
    progress.report(0.1, "Peeling")
    sheet = _trimmed(picked(mesh, faces))
    points = sheet.positions.astype(np.float64)
    loops = border_loops(sheet)
    if settings.smooth and loops:
        points = _smoothed(sheet, points, loops, settings.smooth, mesh)
    progress.report(0.5, "Peeling")
    normals = _even_normals(sheet, points)
    low, high = {"out": (0.0, 1.0), "in": (-1.0, 0.0), "both": (-0.5, 0.5)}[settings.towards]
    outer = points + normals * (settings.offset + high * settings.thickness)
    own = sheet.topology.faces
    if not settings.closed:
        return Mesh.from_faces(outer.astype(np.float32), own)
    inner = points + normals * (settings.offset + low * settings.thickness)
    n = len(points)
    second = np.where(own >= 0, own + n, -1).astype(np.int32)
    positions = [outer, inner]
    pieces = [own, turned_out(second)]
    total = 2 * n
    rows = max(settings.rows, 1)
    edge_way = _edge_ways(points, loops, normals)
    for loop, way in zip(loops, edge_way, strict=True):
        k = len(loop)
        rings = [loop.astype(np.int64)]
        for row in range(1, rows):
            t = row / rows
            bulge = np.sin(np.pi * t) * 0.5 * settings.thickness * settings.rounded
            positions.append(outer[loop] * (1 - t) + inner[loop] * t + way * bulge)
            rings.append(np.arange(total, total + k))
            total += k
        rings.append(loop.astype(np.int64) + n)
        for a, b in itertools.pairwise(rings):
            # The loop runs with the faces beside it: the strip runs against it.
            pieces.append(np.stack([np.roll(a, -1), a, b, np.roll(b, -1)], -1).astype(np.int32))
    progress.report(0.8, "Peeling")
    return Mesh.from_faces(np.concatenate(positions).astype(np.float32), np.concatenate(pieces))


def _trimmed(sheet: Mesh) -> Mesh:
    """The sheet without faces that hang on by a corner or by one edge only: they would fray the rim."""
    for _ in range(6):
        faces = sheet.topology.faces
        open_at = sheet.topology.border
        corners = np.where(faces >= 0, open_at[np.maximum(faces, 0)], 1)
        spikes = corners.all(axis=1)
        counts = np.bincount(faces[faces >= 0], minlength=sheet.n_vertices)
        # A corner that only one face has, between two open edges, sticks out.
        lonely = ((np.append(counts, 9)[faces] == 1) & (faces >= 0)).any(axis=1)
        bowtie = _touching(sheet)
        drop = (spikes & lonely) | bowtie
        if not drop.any() or drop.all():
            break
        sheet = picked(sheet, ~drop)
    return sheet


def _touching(sheet: Mesh) -> AnyArray:
    """Faces at vertices where the rim meets itself: more than two open edges come together there."""
    loops = border_loops(sheet)
    if not loops:
        return np.zeros(sheet.topology.n_faces, bool)
    counts = np.bincount(np.concatenate(loops), minlength=sheet.n_vertices)
    return np.asarray(np.append(counts > 1, False)[sheet.topology.faces].any(axis=1))


def _smoothed(sheet: Mesh, points: F64, loops: list[I32], rounds: int, ground: Mesh) -> F64:
    """Points whose rims run smoothly over the clay they come from, the rows behind them following."""
    points = points.copy()
    tree = cKDTree(ground.positions)
    free = np.zeros(sheet.n_vertices, bool)
    near = sheet.topology.border.astype(bool)
    faces = sheet.topology.faces
    for _ in range(4):
        free |= near
        near = np.zeros(sheet.n_vertices + 1, bool)
        near[faces[np.append(free, False)[faces].any(axis=1)].reshape(-1)] = True
        near = near[:-1]
    behind = free & ~sheet.topology.border.astype(bool)
    means = _neighbour_means(sheet)
    for turn in range(rounds):
        for loop in loops:
            # Steps of the mesh are a few edges long, what a loop means is tens of edges: so it hardly shrinks.
            for _ in range(4):
                ring = points[loop]
                points[loop] = 0.5 * ring + 0.25 * (np.roll(ring, 1, 0) + np.roll(ring, -1, 0))
        points[behind] = (means @ points)[behind]
        if turn % 3 == 2 or turn == rounds - 1:
            _, found = tree.query(points[free])
            normal = ground.normals[found].astype(np.float64)
            off = ((points[free] - ground.positions[found]) * normal).sum(axis=1, keepdims=True)
            points[free] -= off * normal
    return points


def _neighbour_means(sheet: Mesh) -> AnyArray:
    """The matrix that gives each vertex the mean of those it shares an edge with."""
    faces = sheet.topology.faces
    rows, columns = [], []
    for c in range(4):
        here = faces[:, c]
        size = np.where(faces[:, 3] >= 0, 4, 3)
        there = faces[np.arange(len(faces)), (c + 1) % size]
        known = (here >= 0) & (c < size)
        rows += [here[known], there[known]]
        columns += [there[known], here[known]]
    i, j = np.concatenate(rows), np.concatenate(columns)
    n = sheet.n_vertices
    matrix = coo_matrix((np.ones(len(i)), (i, j)), shape=(n, n)).tocsr()
    matrix.data[:] = 1.0
    share = np.maximum(np.asarray(matrix.sum(axis=1)).ravel(), 1.0)
    return coo_matrix((1.0 / share, (np.arange(n), np.arange(n))), shape=(n, n)).tocsr() @ matrix


def _even_normals(sheet: Mesh, points: F64) -> F64:
    """Unit normals, evened over a few rings: offset along raw ones, small bumps would grow into thorns."""
    normals = compute_normals(points.astype(np.float32), sheet.topology).astype(np.float64)
    means = _neighbour_means(sheet)
    for _ in range(4):
        normals = 0.5 * normals + 0.5 * (means @ normals)
        normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12)
    return normals


def _edge_ways(points: F64, loops: list[I32], normals: F64) -> list[F64]:
    """At each place of the loops the unit direction away from the sheet, along it."""
    ways = []
    for loop in loops:
        along = np.roll(points[loop], -1, 0) - np.roll(points[loop], 1, 0)
        # The faces lie to the left of the loop, seen from outside.
        out = np.cross(along, normals[loop])
        for _ in range(8):
            out = 0.5 * out + 0.25 * (np.roll(out, 1, 0) + np.roll(out, -1, 0))
        ways.append(out / np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-12))
    return ways
