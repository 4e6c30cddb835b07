"""The figures of UVs and maps: unwrapping against one factorisation, baking against the rays alone."""

from __future__ import annotations

import time
from collections.abc import Iterator

import numpy as np
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore_scene import EmbreeScene
from scipy.sparse.linalg import splu

from benchmarks.measure import Figure
from kneten.core.arrays import Progress
from kneten.core.maps.bake import BakeWish, baked, hemisphere
from kneten.core.maps.surfaces import Cage, High, Low, by_rays, spots_in
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.regions import middles
from kneten.core.remesh import triangulate
from kneten.core.uv.islands import Edges
from kneten.core.uv.measure import measured
from kneten.core.uv.pack import PackWish, packed
from kneten.core.uv.unwrap import Island, unwrapped


def lumpy(divisions: int) -> Mesh:
    """A head-like lump."""
    positions, faces = ball(100.0, divisions)
    unit = positions / 100.0
    swell = 1 + 0.15 * np.cos(3 * unit[:, 1] * np.pi) * np.cos(2 * unit[:, 0] * np.pi)
    return Mesh.from_faces((positions * swell[:, None]).astype(np.float32), faces)


def halves(mesh: Mesh) -> tuple[Edges, np.ndarray]:
    """Its edges, and those between front and back."""
    edges = Edges.of(mesh.topology)
    side = middles(mesh)[:, 2] > 0
    return edges, edges.inner & (side[edges.sides[:, 0]] != side[np.maximum(edges.sides[:, 1], 0)])


def unwrapping() -> Iterator[Figure]:
    """20,000 quads laid flat along their seams, against SciPy's factorisation of the Laplacian of all their vertices."""
    mesh = lumpy(58)
    edges, cut = halves(mesh)
    unwrapped(mesh, cut, Progress(), edges)
    began = time.perf_counter()
    made = unwrapped(mesh, cut, Progress(), edges)
    took = time.perf_counter() - began
    whole = unwrapped(mesh, np.zeros(len(cut), bool), Progress(), edges)
    island = Island.of(mesh, whole.islands, np.arange(mesh.topology.n_faces))
    matrix = island.laplacian(island.cotangents())[1:, 1:].tocsc()
    began = time.perf_counter()
    splu(matrix)
    alone = time.perf_counter() - began
    mesh.uv = made.uv
    size, skew = measured(mesh).stretch()
    note = (
        f"{took:.2f} s for {mesh.topology.n_faces:,} quads, the factorisation {alone:.2f} s; lengths off by {100 * (size - 1):.1f} %, "
        f"angles by {100 * (skew - 1):.1f} %"
    )
    yield Figure("unwrap, 20,000 quads / factorisation", took / alone, 6, "ratio", True, note)


def baking() -> Iterator[Figure]:
    """A normal map and occlusion of 2k from a million triangles, against embreex casting the same rays."""
    low, high = lumpy(40), High([lumpy(289)])
    edges, cut = halves(low)
    made = unwrapped(low, cut, Progress(), edges)
    low.uv, _ = packed(low, made.islands, made.uv, PackWish(), Progress())
    under, cage = Low.of(low), Cage(5.0, 5.0)
    wish = BakeWish(("normal", "occlusion"), 2048)
    baked(under, high, cage, BakeWish(("normal", "occlusion"), 64), Progress())
    began = time.perf_counter()
    baked(under, high, cage, wish, Progress())
    took = time.perf_counter() - began
    spots = spots_in(under, 2048, 0, 2048, (0, 0))
    hits = by_rays(under, spots, high, cage)
    origins, up = high.place(hits), high.normal(hits)
    begin = np.ascontiguousarray(origins + 0.01 * up)
    scene = EmbreeScene()
    TriangleMesh(
        scene, high.positions, triangulate(np.pad(high.vertices, ((0, 0), (0, 1)), constant_values=-1))
    )
    way = np.ascontiguousarray(spots.place + 5 * spots.up), np.ascontiguousarray(-spots.up)
    side = np.cross(up, [0.3, 0.9, 0.1])
    side /= np.linalg.norm(side, axis=1)[:, None]
    other = np.cross(up, side)
    rays = [(r[0] * side + r[1] * other + r[2] * up).astype(np.float32) for r in hemisphere(16)]
    far = np.full(len(begin), 60, np.float32)
    began = time.perf_counter()
    scene.run(way[0].astype(np.float32), way[1].astype(np.float32), dists=far, output=True)
    for ray in rays:
        scene.run(begin, ray, dists=far, query="OCCLUDED")
    alone = time.perf_counter() - began
    note = f"{took:.1f} s for {len(begin):,} texels, {17 * len(begin):,} rays alone {alone:.1f} s on one processor"
    yield Figure("bake 2k, 1 M / its rays", took / alone, 1.5, "ratio", True, note)
