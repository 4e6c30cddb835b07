"""A body cut by a plane into two that are put together by pegs and holes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from kneten.core.arrays import F64, AnyArray, Progress
from kneten.core.maps.surfaces import High
from kneten.core.mesh import Mesh
from kneten.core.pieces import inside
from kneten.core.printing.forms import frame_of, lathed, lofted
from kneten.core.printing.numbers import Pegs
from kneten.core.printing.slices import Section, section
from kneten.core.solid import combine
from kneten.core.topology import MeshError

GRID = 180
"""Cells across a cut face within which places for pegs are looked for."""

DRAFT = 0.06
"""Share by which a peg is narrower at its end: it finds its hole."""

LEAST_DEEP = 0.6
"""Share of its radius that a peg reaches at least: a shorter one holds nothing."""


@dataclass(frozen=True, eq=False)
class Halves:
    """What came of it.

    Attributes
    ----------
    below, above : Mesh
        Below has the pegs.
    pegs : int
    area : float
        Square millimetres of the cut.
    """

    below: Mesh
    above: Mesh
    pegs: int
    area: float


def halved(mesh: Mesh, place: AnyArray, normal: AnyArray, pegs: Pegs, progress: Progress) -> Halves:
    """Closed clay cut by a plane through a place (3,), square to a normal (3,).

    Raises
    ------
    MeshError
        When the plane misses it.
    SolidError
        When it is no solid.
    Cancelled
        Through `progress`.
    """
    at, up = np.asarray(place, np.float64), frame_of(normal)[1]
    cut = section(mesh, at, up)
    if not cut.loops or cut.area <= 0:
        raise MeshError("the plane does not meet the clay")
    room = _half_space(mesh, at, up)
    above = combine("intersect", [mesh, room], progress)
    below = combine("subtract", [mesh, room], progress)
    made = 0
    if pegs.count:
        upper, lower = High([above]), High([below])
        for spot in peg_spots(cut, pegs.radius + pegs.clearance, pegs.count):
            middle = spot @ cut.axes + at - (at @ cut.axes.T) @ cut.axes
            deep = min(pegs.deep, _free(upper, middle, up, pegs.radius) - pegs.clearance - pegs.radius * 0.5)
            sunk = min(pegs.deep, _free(lower, middle, -up, pegs.radius) - pegs.radius * 0.5)
            if deep < LEAST_DEEP * pegs.radius or sunk < 0.2 * pegs.radius:
                continue
            sunk = min(sunk, 0.6 * deep)
            below = combine("join", [below, _peg(pegs, middle, up, -sunk, deep, 0.0)], progress)
            hole = _peg(pegs, middle, up, -0.5 * pegs.clearance - 1e-3, deep, pegs.clearance)
            above = combine("subtract", [above, hole], progress)
            made += 1
    return Halves(below, above, made, cut.area)


def _half_space(mesh: Mesh, place: F64, up: F64) -> Mesh:
    """A box that holds all of clay that lies above a plane."""
    size = 2.2 * float(np.linalg.norm(np.ptp(mesh.positions, axis=0))) + float(
        np.linalg.norm(mesh.positions.mean(axis=0) - place)
    )
    side, _, front = frame_of(up)
    corners = [place + size * (a * side + b * front) for a, b in ((1, 1), (1, -1), (-1, -1), (-1, 1))]
    ring = np.array(corners)
    if np.dot(np.cross(ring[1] - ring[0], ring[2] - ring[1]), up) < 0:
        ring = ring[::-1]
    return lofted([ring, ring + size * up])


def _peg(pegs: Pegs, middle: F64, up: F64, first: float, last: float, wider: float) -> Mesh:
    """A peg, or the hole for one, which is wider and deeper by the clearance."""
    radius = pegs.radius + wider
    slim = pegs.radius * (1 - DRAFT) + wider
    profile = (
        [(first, radius), (0.0, radius), (last + wider, slim)]
        if first < -1e-6
        else [(first, radius), (last + wider, slim)]
    )
    return lathed(profile, middle.tolist(), up.tolist(), 4 if pegs.square else 48)


def _free(high: High, middle: F64, way: F64, radius: float) -> float:
    """Mm that can be gone from a place on a cut into the clay before its far side, at the worst of nine places round a peg."""
    side, _, front = frame_of(way)
    turn = np.arange(8) * (np.pi / 4)
    ring = radius * (np.cos(turn)[:, None] * side + np.sin(turn)[:, None] * front)
    begin = np.concatenate([np.zeros((1, 3)), ring]) + middle + 1e-3 * way
    ways = np.repeat(way[None], 9, axis=0).astype(np.float32)
    hits = high.along(begin.astype(np.float32), ways, np.full(9, 1e6, np.float32))
    off = np.linalg.norm(high.place(hits) - middle, axis=1)
    return float(np.where(hits.found, off, 0.0).min())


def peg_spots(cut: Section, least: float, count: int) -> list[F64]:
    """Where pegs of a radius fit into a cut face, (2,) each: the roomiest place first, then those farthest from the others."""
    rows = np.concatenate(cut.flat)
    low, size = rows.min(axis=0), float(np.ptp(rows, axis=0).max())
    step = size / GRID
    wide = np.ceil(np.ptp(rows, axis=0) / step).astype(int) + 3
    x, y = (low[k] + (np.arange(wide[k]) - 1) * step for k in range(2))
    points = np.stack(np.meshgrid(x, y, indexing="ij"), axis=-1).reshape(-1, 2)
    within = np.zeros(len(points), bool)
    for loop in cut.flat:
        within ^= inside(loop, points)
    room = ndimage.distance_transform_edt(within.reshape(wide), sampling=step).ravel() - step
    spots: list[F64] = []
    far = np.full(len(points), np.inf)
    for _ in range(count):
        fits = (room >= 1.25 * least) & (far > 3.5 * least)
        if not fits.any():
            break
        score = np.where(fits, np.minimum(room * 3, 1e9) if not spots else np.minimum(far, 6 * room), -1.0)
        best = points[int(score.argmax())]
        spots.append(best)
        far = np.minimum(far, np.linalg.norm(points - best, axis=1))
    return spots


def plane_through(points: F64) -> tuple[F64, F64]:
    """The plane that lies nearest to points (k, 3): a place (3,), and its normal (3,), upwards if it can.

    Raises
    ------
    MeshError
        When they lie on one line.
    """
    middle = points.mean(axis=0)
    _, spread, ways = np.linalg.svd(points - middle, full_matrices=False)
    if len(points) < 3 or spread[1] < 1e-3 * max(float(spread[0]), 1e-12):
        raise MeshError("the line is straight: a plane needs one that goes round")
    normal = ways[2]
    big = int(np.abs(normal).argmax())
    return middle, normal * (1 if normal[big] > 0 else -1)
