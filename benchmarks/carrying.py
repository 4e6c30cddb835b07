"""The figure of carrying over: a million vertices, against rays alone."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore_scene import EmbreeScene

from benchmarks.measure import Figure, median_time
from kneten.core.arrays import Progress
from kneten.core.carry import CarriedOver, CarryWish, carried_over, deviation, source_of
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.remesh import triangulate
from kneten.core.stack import Layer, Stack


def carrying() -> Iterator[Figure]:
    """Form and a layer of 1 M vertices to a new base of 15,000 with three levels, against two rays for each vertex."""
    mesh = Mesh.from_faces(*ball(100.0, 408))
    at = mesh.positions.astype(np.float64)
    mesh.positions += (
        mesh.normals * (3 * np.sin(at[:, 0] / 8) * np.sin(at[:, 1] / 8)).astype(np.float32)[:, None]
    )
    layer = Layer("Pores")
    stack = replace(Stack.of(mesh), layers=(layer,), recording=layer.id)
    mesh.positions += mesh.normals * (0.3 * np.sin(at[:, 2] / 2)).astype(np.float32)[:, None]
    mesh.refresh_all()
    stack = stack.taken(mesh.positions)
    go = Progress()
    base = Mesh.from_faces(*ball(101.0, 50))
    made: list[CarriedOver] = []

    def carry(i: int) -> None:
        source = source_of(mesh, stack, np.eye(4), go)
        made[:] = [carried_over(source, base, Stack.of(base), CarryWish(5.0, levels=3), go)]

    took = median_time(carry, 3, 1)
    target = made[0].mesh
    scene = EmbreeScene()
    TriangleMesh(scene, np.ascontiguousarray(mesh.positions[triangulate(mesh.topology.faces)]))
    ground = np.ascontiguousarray(target.positions)
    ways = np.ascontiguousarray(target.normals)

    def rays(i: int) -> None:
        # Outwards and inwards: what is looked for at each vertex.
        scene.run(ground - 5 * ways, ways, output=True)
        scene.run(ground + 5 * ways, -ways, output=True)

    cast = median_time(rays, 3, 1)
    off = deviation(mesh, target, go)
    note = (
        f"{took:.1f} s for {target.n_vertices:,} vertices, embreex alone {cast:.2f} s for {2 * target.n_vertices:,} rays; "
        f"off by {off.mean() * 1000:.1f} micrometres in the mean on a ball 200 mm across"
    )
    yield Figure("carry over, 1 M / rays", took / cast, 5, "ratio", True, note)
