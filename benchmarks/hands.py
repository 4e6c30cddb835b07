"""Every tool's dab of 30,000 vertices: in a part of 8 M vertices against one of 250 k, and against plain NumPy."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

import numpy as np

from benchmarks.measure import Figure, median_time, paired
from benchmarks.plain import PlainClay
from kneten.core.brushes.tool import Dab, Tool
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.falloff import curve_table
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.stroke import Stroke
from kneten.core.value_stroke import ValueStroke

VIEW = np.array([0.0, 0.0, -1.0])
ALONG = np.array([0.4, 0.0, 0.0])


class Hand:
    """One tool at work on the front of a ball: dabs along a line, or a drag of what it holds."""

    def __init__(self, mesh: Mesh, tool: Tool, variant: str = "", count: int = 30_000) -> None:
        self.tool = tool
        self.radius = 200.0 * float(np.sqrt(count / mesh.n_vertices))
        settings = replace(tool.defaults, variant=variant)
        make: Callable[..., Stroke] = ValueStroke if tool.changes else Stroke
        self.stroke = make(mesh, tool, settings, **({"number": 3} if tool.changes else {}))
        if tool.needs_before:
            self.stroke.work.before = mesh.positions.copy()
        if tool.holds:
            self.stroke.grab(np.array([0.0, 0.0, 100.0]), self.radius, VIEW)
        self._travel = 50.0

    def __call__(self, i: int) -> None:
        if self.tool.holds:
            self.stroke.drag(ALONG * (i + 1), self.radius, 1.0, 0.02 * (i + 1))
            return
        angle = 0.05 + 0.004 * i
        centre = np.array([np.sin(angle), 0.1, np.cos(angle)])
        centre *= 100.0 / np.linalg.norm(centre)
        self._travel += 0.12 * self.radius
        self.stroke.dab(Dab(centre, ALONG, VIEW, self.radius, 0.2, 0.12, self._travel))


def hands() -> Iterator[Figure]:
    """A table of all tools."""
    small = Mesh.from_faces(*ball(100.0, int(np.sqrt(250_000 / 6))))
    large = Mesh.from_faces(*ball(100.0, int(np.sqrt(8_000_000 / 6))))
    clay = PlainClay(small)
    for tool in TOOLS.values():
        for variant, name, _ in tool.variants or (("", "", ""),):
            few, many = Hand(small, tool, variant), Hand(large, tool, variant)
            a, b = paired(many, few, 9)
            count = max(few.stroke.n_reached, 1)
            ratio = a / max(many.stroke.n_reached, 1) / (b / count)
            plain = plain_of(clay, few, variant)
            against = f", plain NumPy {plain / b:.1f} times that" if plain else ""
            note = f"{b * 1e3:.1f} ms, {b / count * 1e9:.0f} ns per vertex{against}"
            label = f"{tool.name} {name.lower()}".strip()
            yield Figure(f"{label}, 8 M / 250 k", ratio, 1.3, "ratio", True, note)
            many.stroke.cancel()
            few.stroke.cancel()


def plain_of(clay: PlainClay, hand: Hand, variant: str) -> float:
    """Seconds that the same dab takes in plain vectorised NumPy; 0 where there is no such version."""
    key = hand.tool.key
    if key in ("refine", "coarsen") or variant == "surface":
        return 0.0
    table = curve_table(hand.tool.defaults.falloff)
    dab = Dab(np.array([5.0, 10.0, 99.4]), ALONG, VIEW, hand.radius, 0.2, 0.12, 50.0, variant)
    if hand.tool.holds:
        clay.grab(np.array([0.0, 0.0, 100.0]), hand.radius, table)
        return median_time(lambda i: clay.drag(key, replace(dab, strength=0.02 * (i + 1))), 3, 1)
    return median_time(lambda i: clay.dab(key, dab, table), 3, 1)
