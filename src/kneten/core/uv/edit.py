"""Single islands moved, turned, sized, stood up, made rectangles; all of them as large as their clay."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from kneten.core.arrays import F32, F64, AnyArray
from kneten.core.mesh import Mesh
from kneten.core.uv.islands import Islands
from kneten.core.uv.unwrap import Island, upright


def changed(uv: F32, rows: AnyArray, faces: AnyArray, change: Callable[[F64], F64]) -> F32:
    """UVs (f, 8) of which the corners of some faces (k,) are given other places: `change` takes and gives (n, 2)."""
    out = uv.copy().reshape(-1, 4, 2)
    has = faces[rows] >= 0
    table = out[rows]
    table[has] = change(table[has].astype(np.float64))
    out[rows] = table
    return out.reshape(-1, 8)


def about_middle(turn: AnyArray) -> Callable[[F64], F64]:
    """A linear map (2, 2) about the middle of the box around points."""

    def change(at: F64) -> F64:
        middle = (at.min(axis=0) + at.max(axis=0)) / 2
        return np.asarray((at - middle) @ np.asarray(turn).T + middle)

    return change


def rotation(degrees: float) -> F64:
    """The turn (2, 2) by so many degrees, against the clock."""
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    return np.array([[c, -s], [s, c]])


def stood(mesh: Mesh, uv: F32, rows: AnyArray, axis: int = 1) -> F32:
    """An island, the faces (k,) of UVs (f, 8), turned so that what is up on the clay is up on the picture, as far as it lies across it at all."""
    faces = mesh.topology.faces[rows]
    has = faces >= 0
    at = uv.reshape(-1, 4, 2)[rows][has].astype(np.float64)
    high = mesh.positions[faces[has], axis].astype(np.float64)
    slope, *_ = np.linalg.lstsq(at - at.mean(axis=0), high - high.mean(), rcond=None)
    if not np.hypot(*slope) > 0:
        return uv
    turn = 90 - float(np.degrees(np.arctan2(slope[1], slope[0])))
    return changed(uv, rows, mesh.topology.faces, about_middle(rotation(turn)))


def squared_up(mesh: Mesh, uv: F32, rows: AnyArray) -> F32:
    """An island, the faces (k,) of UVs (f, 8), turned so that its box is smallest, the longer side up."""
    faces = mesh.topology.faces
    at = uv.reshape(-1, 4, 2)[rows][faces[rows] >= 0].astype(np.float64)
    return changed(uv, rows, faces, about_middle(upright(at)))


def straightened(mesh: Mesh, islands: Islands, uv: F32, rows: AnyArray) -> F32:
    """An island, the faces (k,) of UVs (f, 8), laid as a rectangle, as large as it was, about where it was; one that closes in itself stays."""
    island = Island.of(mesh, islands, rows)
    at = islands.at_points(uv).astype(np.float64)
    was = at[island.names]
    made = island.box(was)
    size, now = _area(was, island.tri), _area(made, island.tri)
    if now <= 0:
        return uv
    made = made * np.sqrt(abs(size) / now)
    middle = (was.min(axis=0) + was.max(axis=0)) / 2
    at[island.names] = made - (made.min(axis=0) + made.max(axis=0)) / 2 + middle
    out = uv.copy()
    out[rows] = islands.at_corners(at)[rows]
    return out


def _area(at: F64, tri: AnyArray) -> float:
    a, b, c = (at[tri[:, k]] for k in range(3))
    return float(((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0]).sum() / 2)


def evened(mesh: Mesh, islands: Islands, uv: F32) -> F32:
    """All islands of UVs (f, 8) as large as their clay is, beside each other: about their own middles."""
    out = uv
    wholes = []
    for rows in islands.members():
        island = Island.of(mesh, islands, rows)
        at = islands.at_points(uv).astype(np.float64)[island.names]
        wholes.append((rows, abs(_area(at, island.tri)), float(island.areas.sum())))
    flat = sum(one[1] for one in wholes)
    clay = sum(one[2] for one in wholes)
    for rows, here, there in wholes:
        if here > 0 and flat > 0:
            factor = float(np.sqrt(there / clay * flat / here))
            out = changed(out, rows, mesh.topology.faces, about_middle(np.eye(2) * factor))
    return out
