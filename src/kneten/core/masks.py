"""Masks: evened, grown and found by form. A mask is (n,) float32, 1 where the clay is protected."""

from __future__ import annotations

import numpy as np
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore_scene import EmbreeScene

from kneten.core.arrays import F32, F64, U8, U32, Progress, kernel
from kneten.core.geodesic import distances
from kneten.core.heat import heat, scale_of
from kneten.core.mesh import Mesh
from kneten.core.remesh import triangulate
from kneten.core.topology import NO_CORNER

CHUNK = 100_000
"""Rays between two looks at whether the work was cancelled: about 0.2 s."""


@kernel
def _ring_pass(values: F32, faces: U32, start: U32, ring: U32, kind: int, out: F32) -> None:
    """Over each vertex and its ring: 0 the mean, 1 the greatest, 2 the least."""
    for v in range(values.shape[0]):
        own = values[v]
        total = 0.0
        count = 0
        best = own
        for k in range(start[v, 0], start[v, 1]):
            f = ring[k]
            size = 3 if faces[f, 3] == NO_CORNER else 4
            for c in range(size):
                u = faces[f, c]
                if u == v:
                    continue
                other = values[u]
                total += other
                count += 1
                if kind == 1:
                    best = max(best, other)
                else:
                    best = min(best, other)
        if kind == 0:
            out[v] = 0.5 * own + 0.5 * total / count if count > 0 else own
        else:
            out[v] = best


def _passed(mesh: Mesh, mask: F32, kind: int, rounds: int) -> F32:
    values = mask.astype(np.float32)
    other = np.empty_like(values)
    for _ in range(rounds):
        _ring_pass(values, *mesh.topology.walk, kind, other)
        values, other = other, values
    return values


def blurred(mesh: Mesh, mask: F32, rounds: int = 4) -> F32:
    """A mask (n,) with its edge softened, over more edges of the mesh with more rounds."""
    return _passed(mesh, mask, 0, rounds)


def sharpened(mesh: Mesh, mask: F32) -> F32:
    """A mask (n,) with its edge drawn together, where it was half."""
    even = _passed(mesh, mask, 0, 1)
    return np.clip((even - 0.5) * 2.5 + 0.5, 0.0, 1.0).astype(np.float32)


def grown(mesh: Mesh, mask: F32, rings: int) -> F32:
    """A mask (n,) wider by as many rings of vertices; narrower by negative ones."""
    return _passed(mesh, mask, 1 if rings > 0 else 2, abs(rings))


def inverted(mask: F32) -> F32:
    """A mask (n,) that frees what is masked and masks what is free."""
    return (1.0 - mask).astype(np.float32)


COMBINE = {
    "replace": lambda old, new: new,
    "add": lambda old, new: np.maximum(old, new),
    "subtract": lambda old, new: np.minimum(old, 1.0 - new),
    "intersect": lambda old, new: np.minimum(old, new),
}
"""How a mask meets the one that is there."""


# -- measures of form ------------------------------------------------------------------------------


def cavity(mesh: Mesh, rounds: int = 2) -> F32:
    """(n,): 0 in the deepest hollows, 0.5 on flat clay, 1 on the sharpest ridges."""
    every = np.arange(mesh.topology.n_patches, dtype=np.int32)
    return _passed(mesh, heat(mesh, "curvature", every, scale_of(mesh, "curvature")), 0, rounds)


def along(points: F64, way: F64) -> F32:
    """How far points (n, 3) lie along a direction (3,), from 0 for the first to 1 for the last."""
    far = points @ way
    low, high = float(far.min()), float(far.max())
    return ((far - low) / max(high - low, 1e-12)).astype(np.float32)


def facing(normals: F32, way: F64) -> F32:
    """How far normals (n, 3) lean towards a direction (3,): 1 fully, 0.5 square to it, 0 away."""
    cosine = np.clip(normals @ (way / np.linalg.norm(way)), -1.0, 1.0)
    return (1.0 - np.arccos(cosine) / np.pi).astype(np.float32)


def likeness(colour: U8, wanted: tuple[int, int, int]) -> F32:
    """1 where a colour (n, 4) is the wanted one, falling to 0 for its opposite."""
    off = colour[:, :3].astype(np.float32) - np.array(wanted, np.float32)
    return (1.0 - np.linalg.norm(off, axis=1) / 441.7).astype(np.float32)


def extent(mesh: Mesh) -> float:
    """The diagonal of the box around a mesh: what thickness is told as a share of."""
    low, high = mesh.bounds()
    return float(np.linalg.norm(high - low)) or 1.0


def from_mask(mesh: Mesh, mask: F32) -> F32:
    """How far each vertex lies over the surface from what a mask (n,) covers: (n,), 0..1 of its `extent`.

    1 also where no way leads to it.
    """
    sources = np.flatnonzero(mask >= 0.5).astype(np.int32)
    size = extent(mesh)
    far = distances(mesh, sources, np.zeros(len(sources)), size)
    return np.clip(far / size, 0.0, 1.0).astype(np.float32)


def thickness(mesh: Mesh, progress: Progress) -> F32:
    """How thick the clay is under each vertex, against its normal: (n,), 0..1 of its `extent`."""
    size = extent(mesh)
    progress.report(0.05, "Measuring thickness")
    scene = EmbreeScene()
    TriangleMesh(scene, mesh.positions, triangulate(mesh.topology.faces))
    out = np.empty(mesh.n_vertices, np.float32)
    lift = np.float32(size * 1e-5)
    for first in range(0, mesh.n_vertices, CHUNK):
        last = min(first + CHUNK, mesh.n_vertices)
        ways = -mesh.normals[first:last]
        out[first:last] = scene.run(mesh.positions[first:last] + lift * ways, ways, query="DISTANCE")
        progress.report(0.3 + 0.7 * last / mesh.n_vertices, "Measuring thickness")
    return _passed(mesh, np.clip(out / size, 0.0, 1.0), 0, 2)


def between(values: F32, low: float, high: float, soft: float) -> F32:
    """1 where values (n,) lie between two limits, running out over `soft` on both sides."""
    soft = max(soft, 1e-6)
    rise = np.clip((values - (low - soft)) / soft, 0.0, 1.0)
    fall = np.clip(((high + soft) - values) / soft, 0.0, 1.0)
    share = np.minimum(rise, fall)
    return (share * share * (3.0 - 2.0 * share)).astype(np.float32)
