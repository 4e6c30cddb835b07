"""A limb bent on two million triangles with levels and layers: pictures while it is dragged, all of it once the hand rests."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from typing import Any

import numpy as np

from benchmarks.measure import Figure, median_time
from kneten.app.benches.perform.held_parts import HeldLimb
from kneten.core.arrays import F32, I32, Progress
from kneten.core.camera import Camera
from kneten.core.live.primitive import Primitive
from kneten.core.pose.chain import Pose
from kneten.core.relief import packed
from kneten.core.stack import Layer, Stack
from kneten.document.posing import find_limb, low_clay
from kneten.document.scene import Part, Scene
from kneten.render.renderer import Renderer
from kneten.render.still import headless_context
from kneten.render.style import Style

SIZE = (1280, 800)

DRAGGING = 15.0
"""Pictures a second while a limb is dragged, at the least."""

RESTED = 0.5
"""Seconds until all of it is posed once the hand rests."""


class _View:
    """What a trial asks of a view."""

    def __init__(self, renderer: Renderer) -> None:
        self._renderer = renderer

    def stand_in(self, part: Part) -> I32 | None:
        """The triangles that stand in for a part."""
        return self._renderer.shelf[part].few


def arm() -> Part:
    """An arm of 1,000,000 vertices: three levels over a base, three layers."""
    mesh = Primitive("capsule", (40.0, 240.0, 40.0), (28, 110, 28)).made().mesh()
    stack = Stack.of(mesh)
    for _ in range(3):
        stack, mesh = stack.added(mesh, Progress())
    rng = np.random.default_rng(1)
    for k in range(3):
        n = stack.levels[k + 1].topology.n_vertices
        relief = packed(rng.normal(0, 0.02, (n, 3)).astype(np.float32))
        reliefs = (*(packed(np.zeros((1, 3), np.float32)) for _ in range(k + 1)), relief)
        stack = replace(stack, layers=(*stack.layers, Layer(f"Layer {k}", reliefs=reliefs)))
    stack, form = stack.changed(mesh, lambda now: now)
    mesh.positions[:] = form
    mesh.refresh_all()
    return Part("Arm", mesh, stack=stack)


@contextmanager
def seen(part: Part) -> Iterator[tuple[Any, Callable[[], None]]]:
    """What a trial asks of a view that shows a part, and what draws a picture of it while it moves."""
    ctx = headless_context()
    renderer = Renderer(ctx)
    renderer.resize(*SIZE)
    scene, camera = Scene((part,)), Camera(distance=520.0)

    def draw() -> None:
        renderer.draw(scene, camera, Style(), moving=True)
        ctx.finish()

    try:
        renderer.draw(scene, camera, Style())
        yield _View(renderer), draw
    finally:
        renderer.release()
        ctx.release()


def posing() -> Iterator[Figure]:
    """Quick pose on a large part."""
    part = arm()
    with seen(part) as (view, draw):
        low = low_clay(part)
        spot = np.array([0.0, 30.0, 20.0])
        found = find_limb(low.mesh, spot, None, 0.7).pose
        taken = median_time(lambda _: find_limb(low.mesh, spot, None, 0.7), 3)
        yield Figure(
            "the limb under a press is found", taken, 1.0, "s", True, f"{low.mesh.n_vertices:,} vertices"
        )
        held = HeldLimb(part, low, found)
        held.begin(view, part)
        angle = [0.0]

        def bent(_: int = 0) -> None:
            angle[0] += 3.0
            held.show(replace(found, hinges=(replace(found.hinges[0], bend=(angle[0] % 90, 0.0, 0.0)),)))

        def shown(_: int = 0) -> None:
            bent()
            draw()

        shown()
        own, picture = median_time(bent, 15), median_time(shown, 15)
        note = f"{picture * 1e3:.0f} ms a picture, {own * 1e3:.0f} of it the pose"
        yield Figure("bending a limb, 2 M triangles", 1 / picture, DRAGGING, "pictures/s", False, note)
        much = replace(found, hinges=(replace(found.hinges[0], bend=(50.0, 0.0, 0.0)),))
        whole = median_time(lambda _: held.show_whole(much), 3)
        yield Figure("all of it, once the hand rests", whole, RESTED, "s", True, "")
        held.end()
        yield _volume(found, low.mesh.positions, low.mesh.topology.faces)


def _volume(pose: Pose, positions: F32, faces: I32) -> Figure:
    def volume(places: F32) -> float:
        a, b, c, d = (places[faces[:, k]].astype(np.float64) for k in range(4))
        halves = np.cross(a, b) * c, np.cross(a, c) * d
        return float(sum(half.sum() for half in halves) / 6)

    bent = replace(pose, hinges=(replace(pose.hinges[0], bend=(90.0, 0.0, 0.0)),))
    off = abs(volume(bent.posed(positions, 1.0)) / volume(positions) - 1) * 100
    return Figure("volume lost by a bend of 90 degrees", off, 4.0, "%", True, "")
