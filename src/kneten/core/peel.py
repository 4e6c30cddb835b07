"""Peel: a shell from masked clay: even thickness, a smooth edge even from a rough mask, a rim of clean quads."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress
from kneten.core.crossings import crossing_among
from kneten.core.face_tree import FaceTree
from kneten.core.mesh import Mesh
from kneten.core.outline import Sheet, edges_of, least_facing, neighbour_means, outlined
from kneten.core.placing import turned_out
from kneten.core.regions import normals_of_faces

ROUNDS = 12
"""How often a shell that turns over or runs through itself is made thinner there."""

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
    n = len(sheet.points)
    normals = _even_normals(sheet)
    low, high = {"out": (0.0, 1.0), "in": (-1.0, 0.0), "both": (-0.5, 0.5)}[settings.towards]
    sides = [settings.offset + high * settings.thickness]
    if settings.closed:
        sides.append(settings.offset + low * settings.thickness)
    means = neighbour_means(sheet.faces, n)
    ways = normals_of_faces(sheet.points, sheet.faces)
    share = _room(mesh, sheet, normals, -min(sides), means, progress)
    for turn in range(ROUNDS):
        sheets = [sheet.points + normals * (side * share)[:, None] for side in sides]
        positions, faces, owner = _with_rim(sheet, sheets, normals, share, settings)
        wrong = np.zeros(n + 1, bool)
        for at in sheets:
            wrong[sheet.faces[least_facing(at, sheet.faces, ways) < TURNED]] = True
        crossed = faces[crossing_among(positions.astype(np.float32), faces)]
        wrong[owner[crossed[crossed >= 0]]] = True
        wrong[-1] = False
        progress.report(0.5 + 0.4 * (turn + 1) / ROUNDS, "Peeling")
        if not wrong.any():
            break
        share = _less(share, wrong[:-1], means)
    made = Mesh.from_faces(positions.astype(np.float32), faces)
    return Peeled(made, bool(share.min() < 0.999))


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


def _less(share: F64, wrong: AnyArray, means: AnyArray) -> F64:
    """Shares (n,) of the thickness, smaller where the shell went wrong, passing softly into what is around."""
    less = np.where(wrong, LESS, 1.0)
    for _ in range(4):
        less = np.minimum(less, 0.5 * less + 0.5 * (means @ less))
    return np.asarray(share * less)


def _with_rim(
    sheet: Sheet, sheets: list[F64], normals: F64, share: F64, settings: PeelSettings
) -> tuple[F64, I32, I32]:
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
        thick = settings.thickness * share[loop][:, None]
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


def _even_normals(sheet: Sheet) -> F64:
    """Unit normals, evened over a few rings: offset along raw ones, small bumps would grow into thorns."""
    n = len(sheet.points)
    a, _ = edges_of(sheet.faces)
    rows = np.concatenate([np.flatnonzero(sheet.faces[:, c] >= 0) for c in range(4)])
    normals = np.zeros((n, 3))
    np.add.at(normals, a, normals_of_faces(sheet.points, sheet.faces)[rows])
    means = neighbour_means(sheet.faces, n)
    for _ in range(4):
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
