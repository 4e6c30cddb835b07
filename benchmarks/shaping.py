"""Shapes: sixty dials on a head of a hundred thousand vertices, one dial with all that is drawn."""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from benchmarks.measure import Figure, median_time
from benchmarks.posing import seen
from kneten.app.benches.perform.held_shapes import HeldClay
from kneten.core.mesh import Mesh
from kneten.core.pose.blend import Blend
from kneten.core.pose.shapes import Shape
from kneten.core.primitives import ball
from kneten.core.relief import packed
from kneten.core.stack import Layer, Stack
from kneten.document.scene import Part

DIALS = 60

EVALUATIONS = 30.0
"""A second, at the least."""

PICTURES = 15.0


def head() -> Part:
    """A head of 100,000 vertices on which each of sixty shapes moves about a tenth."""
    mesh = Mesh.from_faces(*ball(100.0, 129))
    rng = np.random.default_rng(1)
    layers = []
    for k in range(DIALS):
        at = rng.normal(0, 1, 3)
        off = np.linalg.norm(mesh.positions - 100.0 * at / np.linalg.norm(at), axis=1)
        share = np.clip(1 - (off / 65.0) ** 2, 0, None)
        moves = (share[:, None] * 8.0 * mesh.normals).astype(np.float32)
        layers.append(Layer(f"Shape {k}", 0.0, reliefs=(packed(moves),), shape=Shape(f"s{k}")))
    part = Part("Head", mesh)
    return replace(part, stack=replace(Stack.of(mesh), layers=tuple(layers)))


def shaping() -> Iterator[Figure]:
    """Dials of shapes."""
    part = head()
    assert part.stack is not None
    rng = np.random.default_rng(2)
    blend = Blend(part.mesh.positions, [layer.relief(0) for layer in part.stack.layers])
    once = median_time(lambda _: blend.at(rng.random(DIALS).tolist()), 15, 2)
    note = f"{part.mesh.n_vertices:,} vertices, {once * 1e3:.1f} ms each"
    yield Figure("sixty dials at once", 1 / once, EVALUATIONS, "evaluations/s", False, note)
    with seen(part) as (view, draw):
        began = time.perf_counter()
        held = HeldClay(view, part, {f"s{k}" for k in range(DIALS)})
        taken = time.perf_counter() - began

        def shown(_: int = 0) -> None:
            held.show({f"s{k}": value for k, value in enumerate(rng.random(DIALS).tolist())})
            draw()

        shown()
        picture = median_time(shown, 15)
        held.let_go()
    note = f"{picture * 1e3:.0f} ms a picture with normals and drawing; {taken:.2f} s to take hold"
    yield Figure("sixty dials seen in the view", 1 / picture, PICTURES, "pictures/s", False, note)
