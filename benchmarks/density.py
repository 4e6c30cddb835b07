"""The figures of density: what live density adds to a dab."""

from __future__ import annotations

import time
from collections.abc import Iterator

import fast_simplification
import numpy as np

from benchmarks.measure import Figure, paired
from kneten.core.arrays import Progress
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.decimate import Wanted, decimated, distances_to
from kneten.core.live_density import Density, ball_density
from kneten.core.loose import loosened
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.remesh import triangulate
from kneten.core.stroke import Stroke

VIEW = np.array([0.0, 0.0, -1.0])


def live_dabs() -> Iterator[Figure]:
    """A dab that also brings the mesh to its detail size, in a part of 1 M vertices."""
    plain = Mesh.from_faces(*ball(100.0, int(np.sqrt(1_000_000 / 6))))
    begun = time.perf_counter()
    loose = loosened(plain)
    took = time.perf_counter() - begun
    radius = 200.0 * float(np.sqrt(30_000 / plain.n_vertices))
    tool = TOOLS["raise"]
    one, other = Stroke(plain, tool, tool.defaults), Stroke(loose, tool, tool.defaults)
    edge = ball_density(loose, np.array([0.0, 0.0, 100.0]), radius)

    def dab(stroke: Stroke, i: int, detail: Density | None) -> None:
        angle = 0.05 + 0.004 * i
        centre = np.array([np.sin(angle), 0.1, np.cos(angle)])
        centre *= 100.0 / np.linalg.norm(centre)
        stroke.dab(Dab(centre, np.array([0.4, 0.0, 0.0]), VIEW, radius, 0.3, 0.12, 5.0 * i, detail=detail))

    a, b = paired(lambda i: dab(other, i, Density(0.8 * edge)), lambda i: dab(one, i, None), 15)
    live, still = a / other.n_reached, b / one.n_reached
    note = (
        f"{live * 1e9:.0f} ns / {still * 1e9:.0f} ns per vertex, {other.n_reached:,} of them: {a * 1e3:.1f} ms; "
        f"made loose in {took:.2f} s"
    )
    yield Figure("live density dab / plain dab, per vertex", live / still, 4.0, "ratio", True, note)


def decimating() -> Iterator[Figure]:
    """A million triangles with colour and mask to a tenth, against fast-simplification without either."""
    clay = Mesh.from_faces(*ball(100.0, 290))
    lumps = 0.4 * np.sin(clay.positions[:, [0]]) * np.sin(clay.positions[:, [1]])
    clay = clay.with_positions(clay.positions + (lumps * clay.normals).astype(np.float32))
    # A hair off, so that it is not decimated by halves as symmetric clay is.
    clay.positions[0] += 1e-3
    clay.need("colour")[:, 0] = np.clip(clay.positions[:, 0] + 128, 0, 255)
    clay.need("mask")[:] = np.clip(clay.positions[:, 1] / 100, 0, 1)
    triangles = triangulate(clay.topology.faces)
    count = len(triangles) // 10
    made: list[Mesh] = []

    def ours(i: int) -> None:
        made[:] = [decimated(clay, Wanted(count, weigh_mask=False), Progress()).mesh]

    def theirs(i: int) -> None:
        fast_simplification.simplify(clay.positions, triangles, target_count=count)

    a, b = paired(ours, theirs, 3)
    points, faces = fast_simplification.simplify(clay.positions, triangles, target_count=count)
    other = Mesh.from_faces(points, faces.astype(np.int32))
    off, other_off = (float(distances_to(clay.positions[::10], mesh).max()) for mesh in (made[0], other))
    note = f"{a:.2f} s / {b:.2f} s, {len(triangles):,} triangles; off by {off:.2f} mm, {other_off:.2f} mm"
    yield Figure("decimate / fast-simplification", a / b, 1.3, "ratio", True, note)
