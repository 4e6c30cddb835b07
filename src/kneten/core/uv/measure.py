"""What UVs are like: how far each face is stretched, turned over, laid over another, and how many texels it gets."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, F64, AnyArray
from kneten.core.mesh import Mesh
from kneten.core.uv.islands import has_uv
from kneten.core.uv.raster import corner_places, filled, in_texels, triangles_of

OVERLAP_SIZE = 2048
"""Texels across a tile by which overlaps are looked for."""

SHARED = 0.1
"""Share of a face's texels that another may have, before it counts as laid over: rims meet at rounded places."""


@dataclass(frozen=True, eq=False)
class Laid:
    """How the faces of a mesh lie.

    Attributes
    ----------
    there : (f,) bool
        Which are laid out at all.
    size : (f,) float32
        How much larger a face is than in the mean of all, in length: 2 has twice as many texels a millimetre.
    skew : (f,) float32
        How much longer it is drawn in one direction than square to that; 1 where angles are kept.
    area : (f,) float64
        Of the clay.
    flat : (f,) float64
        Of the picture plane; below nought where it is turned over.
    """

    there: AnyArray
    size: F32
    skew: F32
    area: F64
    flat: F64

    @property
    def turned(self) -> AnyArray:
        """Which faces are turned over, (f,) bool."""
        return np.asarray(self.there & (self.flat < 0))

    def stretch(self) -> tuple[float, float]:
        """Of all that is laid, by its area: the mean factor of lengths (1 is none), and the mean factor of angles."""
        weight = self.area[self.there]
        if not len(weight) or weight.sum() <= 0:
            return 1.0, 1.0
        size = np.exp(np.abs(np.log(np.maximum(self.size[self.there], 1e-6))))
        return float(np.average(size, weights=weight)), float(
            np.average(self.skew[self.there], weights=weight)
        )


def measured(mesh: Mesh) -> Laid:
    """How the faces of a mesh lie that has UVs."""
    assert mesh.uv is not None
    faces = mesh.topology.faces
    owner, corners = triangles_of(faces)
    p = mesh.positions[faces[owner[:, None], corners]].astype(np.float64)
    q = corner_places(mesh.uv, owner, corners).astype(np.float64)
    side, rise = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    long = np.maximum(np.linalg.norm(side, axis=1), 1e-12)
    twice = np.linalg.norm(np.cross(side, rise), axis=1)
    high = np.maximum(twice / long, 1e-12)
    along = np.einsum("td,td->t", side, rise) / long
    a, b = q[:, 1] - q[:, 0], q[:, 2] - q[:, 0]
    # The map's derivative, by columns: along the first side, and square to it.
    u = a / long[:, None]
    v = (b - u * along[:, None]) / high[:, None]
    flat = (a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) / 2
    uu, uv, vv = (u * u).sum(1), (u * v).sum(1), (v * v).sum(1)
    root = np.sqrt(np.maximum((uu - vv) ** 2 / 4 + uv * uv, 0))
    large = np.sqrt(np.maximum((uu + vv) / 2 + root, 0))
    small = np.sqrt(np.maximum((uu + vv) / 2 - root, 0))
    weight = np.maximum(twice / 2, 1e-30)

    def of_faces(value: AnyArray) -> AnyArray:
        return np.bincount(owner, value * weight, len(faces)) / np.bincount(owner, weight, len(faces))

    there = has_uv(mesh.uv)
    area = np.bincount(owner, twice / 2, len(faces)).astype(np.float64)
    laid = np.bincount(owner, flat, len(faces)).astype(np.float64)
    skew = of_faces(np.minimum(large / np.maximum(small, 1e-12), 1e3))
    whole = area[there].sum()
    usual = np.sqrt(max(np.abs(laid[there]).sum(), 1e-30) / max(whole, 1e-30))
    size = np.sqrt(np.abs(laid) / np.maximum(area, 1e-30)) / usual
    return Laid(there, size.astype(np.float32), skew.astype(np.float32), area, laid)


def texels_per_mm(laid: Laid, size: int) -> float:
    """How many texels of a picture of a size a millimetre of the clay gets, in the mean."""
    whole = laid.area[laid.there].sum()
    return float(np.sqrt(np.abs(laid.flat[laid.there]).sum() / max(whole, 1e-30)) * size)


def overlapping(mesh: Mesh, size: int = OVERLAP_SIZE, leave: AnyArray | None = None) -> AnyArray:
    """Which faces lie over others, (f,) bool, but for those to leave (f,), which are meant to.

    Each tile is looked at by itself, texel by texel.
    """
    assert mesh.uv is not None
    faces = mesh.topology.faces
    out = np.zeros(len(faces), bool)
    owner, corners = triangles_of(faces)
    at = corner_places(mesh.uv, owner, corners)
    kept = has_uv(mesh.uv)[owner]
    if leave is not None:
        kept &= ~leave[owner]
    for tile in tiles_of(mesh.uv):
        inside = kept & (np.floor(at.mean(axis=1)) == tile).all(axis=1)
        rows = np.flatnonzero(inside)
        if not len(rows):
            continue
        out |= _over(in_texels(at[rows], size, size, tile), owner[rows], len(faces), size)
    return out


def over_itself(uv: F32, faces: AnyArray, size: int = OVERLAP_SIZE) -> AnyArray:
    """Which faces (k, 4) of an island, with UVs (k, 8), lie over others of it, (k,) bool, wherever it is and however large."""
    at, owner = _filling(uv, faces, size)
    return _over(at, owner, len(faces), size)


def _filling(uv: F32, faces: AnyArray, size: int) -> tuple[AnyArray, AnyArray]:
    """The corners of an island's triangles (t, 3, 2) in the texels of a picture that it fills, and the face of each (t,)."""
    owner, corners = triangles_of(faces)
    at = corner_places(uv, owner, corners).astype(np.float64)
    low = at.min(axis=(0, 1))
    span = max(float((at.max(axis=(0, 1)) - low).max()), 1e-30)
    return (at - low) * ((size - 2) / span) + 1, owner


def _over(at: AnyArray, owner: AnyArray, n_faces: int, size: int) -> AnyArray:
    """Which faces (n_faces,) have triangles (t, 3, 2) that lie over those of others, looked at texel by texel."""
    triangle, times = filled(at, size, size)
    if times.max(initial=0) < 2:
        return np.zeros(n_faces, bool)
    # From behind as well: what lies under is found by looking from the last to the first.
    behind, _ = filled(np.ascontiguousarray(at[::-1]), size, size)
    twice = times > 1
    whole = np.bincount(owner[triangle[triangle >= 0]], minlength=n_faces)
    whole += np.bincount(owner[::-1][behind[twice]], minlength=n_faces)
    met = np.bincount(owner[triangle[twice]], minlength=n_faces)
    met += np.bincount(owner[::-1][behind[twice]], minlength=n_faces)
    return np.asarray(met > np.maximum(whole * SHARED, 1))


def laid_over(uv: F32, faces: AnyArray, size: int = 512) -> bool:
    """Whether an island, UVs (k, 8) of faces (k, 4), comes to lie on itself, wherever it is and however large."""
    _, times = filled(_filling(uv, faces, size)[0], size, size)
    return int((times > 1).sum()) > max(5e-4 * int((times > 0).sum()), 8)


def tiles_of(uv: F32) -> list[tuple[int, int]]:
    """The tiles that the faces of UVs (f, 8) lie in by their middles, those of the first row first."""
    rows = uv[has_uv(uv)].reshape(-1, 4, 2)
    if not len(rows):
        return []
    # A triangle's missing corner lies at nought: its first three say where it is.
    found = np.unique(np.floor(rows[:, :3].mean(axis=1)).clip(-1e6, 1e6).astype(int), axis=0)
    return sorted(((int(u), int(v)) for u, v in found), key=lambda one: (one[1], one[0]))


def fullness(mesh: Mesh, size: int = 1024) -> float:
    """How much of its tiles is covered, 0 to 1."""
    assert mesh.uv is not None
    owner, corners = triangles_of(mesh.topology.faces)
    at = corner_places(mesh.uv, owner, corners)
    at = at[has_uv(mesh.uv)[owner]]
    tiles = tiles_of(mesh.uv)
    covered = [(filled(in_texels(at, size, size, tile), size, size)[0] >= 0).mean() for tile in tiles]
    return float(np.mean(covered)) if covered else 0.0
