"""The figure of clean topology: a million triangles as ten thousand quads, against one smoothing pass."""

from __future__ import annotations

import time
from collections.abc import Iterator

import numpy as np
import trimesh

from benchmarks.measure import Figure
from kneten.core.arrays import Progress
from kneten.core.face_tree import FaceTree
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.quads.retopologise import QuadWish, retopologised
from kneten.core.remesh import triangulate


def quads() -> Iterator[Figure]:
    """Lumpy clay of a million triangles to 10,000 quads, against trimesh's Laplacian filter going over its vertices once."""
    positions, faces = ball(100.0, 289)
    unit = positions / 100.0
    swell = 1 + 0.15 * np.cos(3 * unit[:, 1] * np.pi) * np.cos(2 * unit[:, 0] * np.pi)
    mesh = Mesh.from_faces((positions * swell[:, None]).astype(np.float32), faces)
    # The compiled code is there before anything is timed.
    retopologised(Mesh.from_faces(*ball(100.0, 12)), QuadWish(100, symmetry=0), Progress())
    began = time.perf_counter()
    made, found = retopologised(mesh, QuadWish(10_000), Progress())
    took = time.perf_counter() - began
    other = trimesh.Trimesh(mesh.positions, triangulate(mesh.topology.faces), process=False)
    began = time.perf_counter()
    trimesh.smoothing.filter_laplacian(other, iterations=1)
    smoothed = time.perf_counter() - began
    far = []
    for one, two in ((mesh, made), (made, mesh)):
        _, off = FaceTree.of(two).nearest(
            one.positions, np.full(one.n_vertices, np.inf, np.float32), Progress()
        )
        far.append(float(off.max()))
    diagonal = float(np.linalg.norm(np.ptp(mesh.positions, axis=0)))
    note = (
        f"{took:.1f} s for {mesh.topology.n_triangles:,} triangles, one pass of trimesh {smoothed:.1f} s; {found.faces:,} faces, "
        f"{found.quads * 100:.0f} % quads, {found.irregular * 100:.1f} % poles, mean scaled Jacobian {found.shape:.3f}, "
        f"Hausdorff distance {max(far) / diagonal * 100:.2f} % of the diagonal"
    )
    yield Figure("quads, 1 M / smoothing pass", took / smoothed, 40, "ratio", True, note)
