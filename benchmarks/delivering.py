"""The figures of delivering: levels of detail against decimating alone, walls against their rays, hollowing against remeshing."""

from __future__ import annotations

import time
from collections.abc import Iterator

import fast_simplification
import numpy as np
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore_scene import EmbreeScene

from benchmarks.laying import lumpy
from benchmarks.measure import Figure
from kneten.core.arrays import Progress
from kneten.core.detail_levels import Hung, detail_levels
from kneten.core.mesh import Mesh
from kneten.core.printing.hollow import grid_step, hollowed
from kneten.core.printing.walls import INSIDE, thickness
from kneten.core.remesh import remesh, soup_of, triangulate


def seconds(run) -> float:  # type: ignore[no-untyped-def]
    """The better of two times: the machine has other things to do at moments."""
    times = []
    for _ in range(2):
        began = time.perf_counter()
        run()
        times.append(time.perf_counter() - began)
    return min(times)


def hung_on(mesh: Mesh) -> Hung:
    """Four joints each, and six shapes."""
    rng = np.random.default_rng(2)
    share = rng.random((mesh.n_vertices, 4)).astype(np.float32)
    which = rng.integers(0, 40, (mesh.n_vertices, 4)).astype(np.uint8)
    moves = tuple((mesh.positions * (0.01 * k)).astype(np.float32) for k in range(1, 7))
    return Hung(which, share / share.sum(axis=1, keepdims=True), moves)


def lods() -> Iterator[Figure]:
    """Four levels of detail of a million triangles with skin and shapes, against fast-simplification doing the same levels without."""
    mesh = lumpy(289)
    counts = [500_000, 250_000, 100_000, 20_000]
    small = lumpy(40)
    detail_levels(small, hung_on(small), [2000, 500], Progress())
    took = seconds(lambda: detail_levels(mesh, hung_on(mesh), counts, Progress()))
    points, faces = mesh.positions.astype(np.float64), triangulate(mesh.topology.faces)

    def others() -> None:
        now = points, faces
        for count in counts:
            now = fast_simplification.simplify(*now, target_count=count)

    alone = seconds(others)
    note = f"{took:.1f} s for {len(counts)} levels of {len(faces):,} triangles with skin and 6 shapes; without either {alone:.1f} s"
    yield Figure("levels of detail, 1 M / decimating", took / alone, 1.5, "ratio", True, note)


def measuring() -> Iterator[Figure]:
    """Walls under half a million vertices of a million triangles, against embreex casting the same rays."""
    mesh = lumpy(289)
    thickness(lumpy(20), Progress())
    took = seconds(lambda: thickness(mesh, Progress()))
    triangles = triangulate(mesh.topology.faces)
    size = np.float32(np.linalg.norm(np.ptp(mesh.positions, axis=0)))
    ways = np.ascontiguousarray(-mesh.normals)
    origins = np.ascontiguousarray(mesh.positions + size * np.float32(INSIDE) * ways)

    def rays() -> None:
        scene = EmbreeScene()
        TriangleMesh(scene, mesh.positions, triangles)
        scene.run(origins, ways, dists=np.full(len(ways), 4 * size, np.float32), output=True)

    alone = seconds(rays)
    note = f"{took:.2f} s for {mesh.n_vertices:,} vertices, the rays alone {alone:.2f} s"
    yield Figure("least thickness, 1 M / its rays", took / alone, 1.5, "ratio", True, note)


def hollowing() -> Iterator[Figure]:
    """A body of two million triangles made hollow at a grid of 256 points, against remeshing at that grid."""
    mesh = lumpy(409)
    step = grid_step(mesh, 256)
    small = lumpy(30)
    hollowed(small, 8.0, grid_step(small, 48), Progress())
    remesh(soup_of([small]), grid_step(small, 48), Progress())
    took = seconds(lambda: hollowed(mesh, 4.0, step, Progress()))
    alone = seconds(lambda: remesh(soup_of([mesh]), step, Progress()))
    note = f"{took:.1f} s for {mesh.topology.n_triangles:,} triangles, remeshing at that grid {alone:.1f} s"
    yield Figure("hollow at 256, 2 M / remeshing", took / alone, 4, "ratio", True, note)
