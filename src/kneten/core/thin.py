"""Thin places: how thick the clay is, and where new clay of a given density would lose it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, AnyArray, Progress
from kneten.core.face_tree import FaceTree
from kneten.core.mesh import Mesh

FACING = 0.5
"""Least cosine between the way in and the normal of the far side: a wall's two sides are about parallel."""

SAMPLES = 20_000

HELD = 1.05
"""How thick a wall must be to come through, in grid steps along the axis it is nearest to square to: then a sheet of
grid points without tunnels lies within it (naive planes: Andres, Acharya, Sibata 1997)."""

FEW = 0.0005
"""Share of the surface from which on it is worth a word."""


@dataclass(frozen=True)
class Thin:
    """What remeshing would lose.

    Attributes
    ----------
    share : float
        Of the surface, 0..1.
    step : float
        The grid step at which nearly all of it would come through.
    """

    share: float
    step: float


def too_thin(mesh: Mesh, step: float, progress: Progress) -> AnyArray:
    """Vertices (n,) bool under which a grid of a step would lose the clay."""
    slant = np.abs(mesh.normals).max(axis=1)
    return np.asarray(thickness(mesh, HELD * step, progress) < HELD * step * slant)


def thickness(mesh: Mesh, most: float, progress: Progress) -> F32:
    """How thick the clay is under its vertices, straight in, (n,) float32; infinite beyond `most`."""
    way = np.ascontiguousarray(-mesh.normals)
    _, off = FaceTree.of(mesh).along(mesh.positions, way, 0.0, most, FACING, progress)
    return off


def thin_places(mesh: Mesh, step: float) -> Thin | None:
    """What a grid of a step would lose of the clay, from samples; None when it is next to nothing."""
    faces = mesh.topology.faces
    # Loose clay keeps the places of dead faces, which name one vertex three times.
    faces = faces[faces[:, 0] != faces[:, 1]]
    some = faces[np.unique(np.linspace(0, len(faces) - 1, SAMPLES).astype(np.int64))]
    a, b, c = (mesh.positions[some[:, k]].astype(np.float64) for k in range(3))
    d = mesh.positions[np.where(some[:, 3] >= 0, some[:, 3], some[:, 0])].astype(np.float64)
    out = np.cross(c - a, d - b)
    size = np.linalg.norm(out, axis=1)
    middles = (a + b + c) / 3
    way = (-out / np.maximum(size, 1e-30)[:, None]).astype(np.float32)
    _, off = FaceTree.of(mesh).along(middles.astype(np.float32), way, 0.0, HELD * step, FACING, Progress())
    thin = off < HELD * step
    share = float(size[thin].sum() / max(size.sum(), 1e-30))
    if share < FEW:
        return None
    # Folds that touch are as thin as nothing: a tenth of it may be given up.
    return Thin(share, float(np.quantile(off[thin], 0.1)) / HELD)
