"""The figures of levels and layers: stepping at 4 M vertices, a strength dialled at 2 M."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from benchmarks.measure import Figure, median_time
from kneten.app.benches.density.dialling import Dialled
from kneten.core.arrays import I32, AnyArray, Progress
from kneten.core.camera import Camera
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.stack import Layer, Stack
from kneten.document.scene import Part, Scene
from kneten.render.renderer import Renderer
from kneten.render.still import headless_context


def stepping() -> Iterator[Figure]:
    """A level down and up again at 4 M vertices, after a stroke, against copies of the finer level's arrays."""
    mesh = Mesh.from_faces(*ball(100.0, 102))
    stack, go = Stack.of(mesh), Progress()
    for _ in range(3):
        stack, mesh = stack.added(mesh, go)
    shape = mesh.topology
    room = [mesh.positions, mesh.normals, mesh.boxes, shape.faces, shape.ring, shape.ring_faces, shape.border]
    room += [shape.source_vertex, shape.source_face]
    copies: list[AnyArray] = []

    def copy(i: int) -> None:
        copies[:] = [array.copy() for array in room]

    mesh.positions[:20_000] *= np.float32(1.001)
    below, low = stack.stepped(mesh, 2)
    low.positions[:20_000] *= np.float32(1.001)
    one = median_time(copy, 5, 2)
    down = median_time(lambda i: stack.stepped(mesh, 2), 3, 1)
    up = median_time(lambda i: below.stepped(low, 3), 3, 1)
    held = (stack.nbytes() + mesh.nbytes) / mesh.n_vertices
    note = f"{one * 1e3:.0f} ms a copy of all arrays; {mesh.n_vertices:,} vertices, all levels {held:.0f} bytes each"
    yield Figure("level down, 4 M / copies", down / one, 3, "ratio", True, f"{down * 1e3:.0f} ms, {note}")
    yield Figure("level up, 4 M / copies", up / one, 3, "ratio", True, f"{up * 1e3:.0f} ms")


class _Stands:
    """As much of a viewport as dialling needs: what stands in for a large part."""

    def __init__(self, renderer: Renderer) -> None:
        self._renderer = renderer

    def stand_in(self, part: Part) -> I32 | None:
        return self._renderer.shelf[part].few


def dialling() -> Iterator[Figure]:
    """The strength of a layer with detail all over 2 M vertices, dragged, at 1280x800."""
    mesh = Mesh.from_faces(*ball(100.0, 577))
    layer = Layer("Pores")
    stack = replace(Stack.of(mesh), layers=(layer,), recording=layer.id)
    lift = np.random.default_rng(1).normal(0, 0.1, mesh.n_vertices).astype(np.float32)
    mesh.positions += mesh.normals * lift[:, None]
    mesh.refresh_all()
    part = Part("Ball", mesh, stack=stack.taken(mesh.positions))
    context = headless_context()
    renderer = Renderer(context)
    renderer.resize(1280, 800)
    camera, scene = Camera(distance=520.0), Scene((part,))
    renderer.draw(scene, camera)
    dialled = Dialled(_Stands(renderer), part, layer.id)  # type: ignore[arg-type]

    def dial(i: int) -> None:
        dialled.show(1.0 - i * 0.04)
        renderer.draw(scene, camera, moving=True)
        context.finish()

    took = median_time(dial, 21, 2)
    note = f"{took * 1e3:.0f} ms a picture of {mesh.n_vertices:,} vertices; a layer over all of them is 12 bytes each"
    yield Figure("layer strength dragged, 2 M", 1 / took, 10, "frames/s", False, note)
    dialled.put_back()
    renderer.release()
    context.release()
