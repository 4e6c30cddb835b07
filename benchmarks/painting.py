"""Painting against sculpting, and layers of paint against a pass of Smooth over as many vertices."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from benchmarks.dabs import Dabs, clay, dab_radius
from benchmarks.measure import Figure, paired
from kneten.core.arrays import Progress
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.mesh import Mesh
from kneten.core.paint.ink import Ink
from kneten.core.paint.layers import begun, paint_of
from kneten.core.paint.packed import Paint
from kneten.core.paint.stroke import PaintStroke
from kneten.core.paint.wash import START, Wash, measured, washed
from kneten.core.stack import Layer, Stack
from kneten.core.stroke import Stroke

LAYERS = 8


class Paints(Dabs):
    """Dabs of paint, on the base or on the highest of `LAYERS` layers."""

    def __init__(self, mesh: Mesh, radius: float, layered: bool, key: str = "paint") -> None:
        super().__init__(mesh, radius)
        self.stroke.cancel()
        stack = None
        if layered:
            stack = begun(Stack.of(mesh), mesh)
            some = np.tile(np.array([90, 120, 60, 128], np.uint8), (mesh.n_vertices, 1))
            layers = tuple(Layer(str(k), paint=Paint.of(some)) for k in range(LAYERS))
            stack = replace(stack, layers=layers, hand=layers[-1].id)
            mesh.paint = paint_of(stack, stack.hand)
        tool = TOOLS[key]
        self.stroke = PaintStroke(mesh, tool, replace(tool.defaults, front_only=False), Ink(), stack)


def painting() -> Iterator[Figure]:
    """A dab of paint against one of Raise; and in a large part against a small one."""
    small = clay(250_000)
    radius = dab_radius(small)
    lift = Dabs(small.copy(), radius)
    for name, layered, bar in (("paint dab", False, 1.2), (f"paint dab under {LAYERS} layers", True, 1.6)):
        few = Paints(small.copy(), radius, layered)
        a, b = paired(few, lift, 21)
        note = f"{a * 1e3:.2f} ms ({few.count:,} vertices) / {b * 1e3:.2f} ms ({lift.count:,})"
        yield Figure(
            f"{name} / Raise dab, per vertex", a / few.count / (b / lift.count), bar, "ratio", True, note
        )
    blend = Paints(small.copy(), radius, False, "blend")
    a, b = paired(blend, lift, 21)
    note = f"{a * 1e3:.2f} ms / {b * 1e3:.2f} ms"
    yield Figure(
        "blend dab / Raise dab, per vertex", a / blend.count / (b / lift.count), 3.0, "ratio", True, note
    )
    yield from by_form()
    large = clay(8_000_000)
    many = Paints(large, dab_radius(large), False)
    few = Paints(small.copy(), radius, False)
    a, b = paired(many, few, 21)
    note = f"{a * 1e3:.2f} ms ({many.count:,} vertices) / {b * 1e3:.2f} ms ({few.count:,})"
    yield Figure(
        "paint dab, 8 M part / 250 k part", a / many.count / (b / few.count), 1.3, "ratio", True, note
    )


def by_form() -> Iterator[Figure]:
    """Paint that follows the form of two million vertices, worked out, against one dab of Smooth over all of them."""
    mesh = clay(2_000_000)
    smooth = TOOLS["smooth"]
    over_all = Dab(np.array([0.0, 0, 100]), np.zeros(3), np.array([0.0, 0, -1]), 400.0, 0.5, 0.12)

    def even(_: int) -> None:
        stroke = Stroke(mesh, smooth, smooth.defaults)
        stroke.dab(over_all)
        stroke.cancel()

    for kind in ("hollows", "covered", "thin"):
        wash = Wash(kind, *START[kind])

        def lay(_: int, wash: Wash = wash) -> None:
            washed(wash, measured(wash, mesh, np.array([0.0, 1.0, 0.0]), None, Progress()))

        a, b = paired(lay, even, 3)
        note = f"{a:.2f} s / {b:.2f} s"
        yield Figure(f"paint by form ({kind}), 2 M / a Smooth pass", a / b, 3.0, "ratio", True, note)
