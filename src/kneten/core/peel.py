"""Peel: a shell from masked clay: even thickness, a smooth edge even from a rough mask, a rim of clean quads."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix, diags

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress
from kneten.core.crossings import crossing_among
from kneten.core.face_tree import FaceTree
from kneten.core.mesh import Mesh
from kneten.core.outline import Sheet, edges_of, least_facing, neighbour_means, outlined
from kneten.core.placing import turned_out
from kneten.core.regions import normals_of_faces

BRIDGES, ROUNDS = 16, 28
"""How often a shell that turns over or runs through itself is evened there, and until when it is made thinner instead."""

DEEPEST = 0.4
"""Share of the clay's thickness that a shell goes into: shells of both sides of it do not meet."""

LESS = 0.7
"""What is left of the thickness where a shell went wrong, in each round."""

TURNED = 0.1
"""Cosine between a face of the shell and the clay under it from which on it counts as turned over."""


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
    corners : bool
        Whether corners of the outline are kept; otherwise they are rounded like all of it.
    rows : int
        Rows of quads across the rim; more or fewer where these would be thrice as long as wide.
    rounded : float
        How far the rim bulges, 0 flat to 1 half round.
    closed : bool
        With an inside and a rim; otherwise one open sheet.
    """

    thickness: float = 2.0
    towards: str = "out"
    offset: float = 0.0
    smooth: int = 12
    corners: bool = False
    rows: int = 3
    rounded: float = 0.6
    closed: bool = True


@dataclass(frozen=True)
class Peeled:
    """A shell, and whether it is thinner or nearer than asked somewhere, where the clay leaves no room for it."""

    mesh: Mesh
    thinner: bool


def peeled(mesh: Mesh, mask: F32, settings: PeelSettings, progress: Progress) -> Peeled:
    """The shell of what a mask (n,) covers.

    Raises
    ------
    PeelError
        When nothing is masked enough, or the thickness is not above 0.
    """
    if settings.closed and settings.thickness <= 0:
        raise PeelError("A closed shell needs a thickness above 0.")
    progress.report(0.1, "Peeling")
    sheet = outlined(mesh, mask, settings.smooth, settings.corners, progress)
    if not len(sheet.faces):
        raise PeelError("Nothing is masked enough to peel; mask what the shell is to cover.")
    progress.report(0.5, "Peeling")
    normals = _even_normals(sheet, settings.thickness + abs(settings.offset))
    low, high = {"out": (0.0, 1.0), "in": (-1.0, 0.0), "both": (-0.5, 0.5)}[settings.towards]
    sides = [settings.offset + high * settings.thickness]
    if settings.closed:
        sides.append(settings.offset + low * settings.thickness)
    means = _means_along_rims(sheet)
    ways = normals_of_faces(sheet.points, sheet.faces)
    share = _room(mesh, sheet, normals, -min(sides), means, progress)
    sheets = [sheet.points + normals * (side * share)[:, None] for side in sides]
    thinner = bool(share.min() < 0.999)
    for turn in range(ROUNDS):
        positions, faces, owner = _with_rim(sheet, sheets, normals, settings)
        crossed = faces[crossing_among(positions.astype(np.float32), faces)]
        wrong = [_wrong(sheet, at, ways, k, crossed, owner) for k, at in enumerate(sheets)]
        progress.report(0.5 + 0.4 * (turn + 1) / ROUNDS, "Peeling")
        if not any(places.any() for places in wrong):
            break
        if turn < BRIDGES:
            sheets = [_bridged(at, places, means) for at, places in zip(sheets, wrong, strict=True)]
            continue
        less = _less(np.any(wrong, axis=0), means)[:, None]
        sheets = [sheet.points + (at - sheet.points) * less for at in sheets]
        thinner = True
    return Peeled(Mesh.from_faces(positions.astype(np.float32), faces), thinner)


def _wrong(sheet: Sheet, at: F64, ways: F64, side: int, crossed: I32, owner: I32) -> AnyArray:
    """Vertices (n,) bool of a sheet, or of its rim, where it turns over or goes through something."""
    n = len(sheet.points)
    wrong = np.zeros(n + 1, bool)
    wrong[sheet.faces[least_facing(at, sheet.faces, ways) < TURNED]] = True
    corners = crossed[crossed >= 0]
    corners = corners[(corners >= 2 * n) | (corners // n == side)]
    wrong[owner[corners]] = True
    return wrong[:-1]


def _means_along_rims(sheet: Sheet) -> AnyArray:
    """The sparse matrix that gives each vertex the mean of those next to it, one of the rim of those along it."""
    n = len(sheet.points)
    rim = np.zeros(n, bool)
    a, b = [
        np.concatenate([np.roll(loop, shift) for loop in sheet.loops] or [np.empty(0, int)])
        for shift in (0, 1)
    ]
    rim[a] = True
    along = coo_matrix(
        (np.full(2 * len(a), 0.5), (np.concatenate([a, b]), np.concatenate([b, a]))), shape=(n, n)
    )
    return diags(np.where(rim, 0.0, 1.0)) @ neighbour_means(sheet.faces, n) + along.tocsr()


def _bridged(at: F64, wrong: AnyArray, means: AnyArray) -> F64:
    """A sheet (n, 3) evened around where it went wrong: it bridges a crease that it would turn over in."""
    near = wrong.astype(np.float64)
    for _ in range(3):
        near = np.maximum(near, 0.8 * np.minimum(1.0, 2.0 * (means @ near)))
    for _ in range(3):
        at = at + (0.5 * near)[:, None] * (means @ at - at)
    return at


def _room(mesh: Mesh, sheet: Sheet, normals: F64, deep: float, means: AnyArray, progress: Progress) -> F64:
    """Share (n,) of the thickness that the clay has room for, where a shell goes `deep` into it."""
    share = np.ones(len(sheet.points))
    if deep <= 0:
        return share
    points, ways = sheet.points.astype(np.float32), np.ascontiguousarray(-normals, np.float32)
    _, off = FaceTree.of(mesh).along(points, ways, 1e-4 * deep, deep / DEEPEST, 0.0, progress)
    share = np.minimum(share, DEEPEST * off / deep)
    for _ in range(24):
        share = np.minimum(share, 0.5 * share + 0.5 * (means @ share))
    return share


def _less(wrong: AnyArray, means: AnyArray) -> F64:
    """What is left (n,) of the thickness where the shell went wrong, passing softly into what is around."""
    less = np.where(wrong, LESS, 1.0)
    for _ in range(8):
        less = np.minimum(less, 0.5 * less + 0.5 * (means @ less))
    return np.asarray(less)


def _with_rim(sheet: Sheet, sheets: list[F64], normals: F64, settings: PeelSettings) -> tuple[F64, I32, I32]:
    """The shell's vertices, its faces, and for each vertex the one of the sheet that it comes from."""
    n = len(sheet.points)
    own = sheet.faces
    if len(sheets) == 1:
        return sheets[0], own, np.arange(n, dtype=np.int32)
    outer, inner = sheets
    second = np.where(own >= 0, own + n, -1).astype(np.int32)
    positions, pieces = [outer, inner], [own, turned_out(second)]
    owners: list[AnyArray] = [np.arange(n), np.arange(n)]
    total = 2 * n
    for loop, way in zip(sheet.loops, _edge_ways(sheet, outer, normals), strict=True):
        k = len(loop)
        edge = float(np.linalg.norm(np.roll(outer[loop], -1, 0) - outer[loop], axis=1).mean())
        thick = np.linalg.norm(outer[loop] - inner[loop], axis=1, keepdims=True)
        across = float(thick.mean()) / max(edge, 1e-30)
        rows = int(np.clip(settings.rows, np.ceil(across / 3), max(1.0, np.floor(3 * across))))
        rings = [loop.astype(np.int64)]
        for row in range(1, rows):
            t = row / rows
            bulge = np.sin(np.pi * t) * 0.5 * thick * settings.rounded
            positions.append(outer[loop] * (1 - t) + inner[loop] * t + way * bulge)
            owners.append(loop)
            rings.append(np.arange(total, total + k))
            total += k
        rings.append(loop.astype(np.int64) + n)
        for a, b in itertools.pairwise(rings):
            # The loop runs with the faces beside it: the strip runs against it.
            pieces.append(np.stack([np.roll(a, -1), a, b, np.roll(b, -1)], -1).astype(np.int32))
    return np.concatenate(positions), np.concatenate(pieces), np.concatenate(owners).astype(np.int32)


def _even_normals(sheet: Sheet, far: float) -> F64:
    """Unit normals, evened over as many rings as the shell goes far: offset along raw ones, bumps would grow into thorns."""
    n = len(sheet.points)
    a, _ = edges_of(sheet.faces)
    rows = np.concatenate([np.flatnonzero(sheet.faces[:, c] >= 0) for c in range(4)])
    normals = np.zeros((n, 3))
    np.add.at(normals, a, normals_of_faces(sheet.points, sheet.faces)[rows])
    means = neighbour_means(sheet.faces, n)
    i, j = edges_of(sheet.faces)
    edge = float(np.linalg.norm(sheet.points[i] - sheet.points[j], axis=1).mean())
    for _ in range(int(np.clip(2 * (far / max(edge, 1e-30)) ** 2, 4, 60))):
        normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12)
        normals = 0.5 * normals + 0.5 * (means @ normals)
    return np.asarray(normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12))


def _edge_ways(sheet: Sheet, points: F64, normals: F64) -> list[F64]:
    """At each place of the loops the unit direction away from the sheet, along it."""
    ways = []
    for loop in sheet.loops:
        along = np.roll(points[loop], -1, 0) - np.roll(points[loop], 1, 0)
        # The faces lie to the left of the loop, seen from outside.
        out = np.cross(along, normals[loop])
        for _ in range(2):
            out = 0.5 * out + 0.25 * (np.roll(out, 1, 0) + np.roll(out, -1, 0))
        ways.append(out / np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-12))
    return ways
