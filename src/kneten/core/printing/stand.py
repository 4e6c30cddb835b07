"""What a print weighs, costs, and whether it stands."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import ConvexHull, QhullError

from kneten.core.arrays import F64, AnyArray
from kneten.core.mesh import Mesh
from kneten.core.printing.walls import overhanging
from kneten.core.remesh import triangulate

TOUCHES = 0.3
"""Mm above the lowest place within which clay touches the ground."""


@dataclass(frozen=True, eq=False)
class Facts:
    """What is known of a body.

    Attributes
    ----------
    size : three floats
        Mm.
    volume, surface : float
        Cubic and square centimetres.
    weight : float
        Grams.
    middle : (3,) float64
        The centre of gravity.
    foot : (k, 2) float64
        The outline that it stands on, x and z; empty where it has none.
    lean : float
        Degrees it can be tipped, at the nearest edge of the foot, until it falls; below 0 where it falls by itself.
    overhang : float
        Share of the surface that needs supports.
    """

    size: tuple[float, float, float]
    volume: float
    surface: float
    weight: float
    middle: F64
    foot: F64
    lean: float
    overhang: float

    @property
    def stands(self) -> bool:
        """Whether it stands by itself."""
        return self.lean > 0


def facts(mesh: Mesh, density: float, angle: float) -> Facts:
    """What is known of a closed body, in a material of so many grams in a cubic centimetre, overhangs counted from an angle."""
    triangles = triangulate(mesh.topology.faces)
    p = mesh.positions.astype(np.float64)
    origin = p.mean(axis=0)
    a, b, c = (p[triangles[:, k]] - origin for k in range(3))
    six = np.einsum("ij,ij->i", a, np.cross(b, c))
    whole = float(six.sum())
    middle = origin + (six[:, None] * (a + b + c)).sum(axis=0) / (4 * whole) if abs(whole) > 1e-12 else origin
    area = np.linalg.norm(np.cross(b - a, c - a), axis=1) / 2
    foot = standing_on(p)
    hangs = overhanging(mesh, angle)
    faces = mesh.topology.faces
    # Quads are cut in two: their second halves come after all first ones.
    owner = np.concatenate([np.arange(len(faces)), np.flatnonzero(faces[:, 3] >= 0)])
    share = float(area[hangs[owner]].sum() / max(float(area.sum()), 1e-30))
    cubic = abs(whole) / 6 / 1000
    x, y, z = np.ptp(p, axis=0).tolist()
    return Facts(
        (x, y, z), cubic, float(area.sum()) / 100, cubic * density, middle, foot,
        lean_of(middle, foot, float(p[:, 1].min())), share,
    )  # fmt: skip


def standing_on(points: F64) -> F64:
    """The outline (k, 2), x and z, of what touches the ground, going round to the left; empty where it is a point or a line."""
    low = points[:, 1].min()
    near = points[points[:, 1] <= low + TOUCHES][:, [0, 2]]
    try:
        return np.asarray(near[ConvexHull(near).vertices])
    except (QhullError, ValueError):
        return np.zeros((0, 2))


def lean_of(middle: AnyArray, foot: F64, ground: float) -> float:
    """Degrees that a body with a centre of gravity (3,) can be tipped over the nearest edge of its foot (k, 2)."""
    if len(foot) < 3:
        return -90.0
    along = np.roll(foot, -1, axis=0) - foot
    out = np.stack([along[:, 1], -along[:, 0]], axis=1)
    out /= np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-12)
    within = np.einsum("ij,ij->i", foot - middle[[0, 2]], out)
    return float(np.degrees(np.arctan2(within.min(), max(float(middle[1]) - ground, 1e-9))))
