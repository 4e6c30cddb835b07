"""Small parts to begin with: teeth, claws, horns, buckles. All live, in millimetres."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from kneten.core.live.lathe import Lathe, LathePoint
from kneten.core.live.primitive import Primitive
from kneten.core.live.recipes import OnItsOwn
from kneten.core.live.strand import Knot, Strand, Strands

CLAW = ((0.0, 1.0), (0.35, 0.86), (0.7, 0.5), (1.0, 0.03))


def _bow(length: float, bend: float, thick: float, count: int = 5) -> Strand:
    """A strand that rises and bends forward by an angle in degrees."""
    angles = np.radians(bend) * np.linspace(0, 1, count)
    step = length / (count - 1)
    places = np.zeros((count, 3))
    for i in range(1, count):
        middle = (angles[i] + angles[i - 1]) / 2
        places[i] = places[i - 1] + step * np.array([0.0, np.cos(middle), np.sin(middle)])
    return Strand(tuple(Knot((float(x), float(y), float(z)), thick) for x, y, z in places))


def tooth() -> OnItsOwn:
    """A pointed tooth with a root."""
    return Strands((_bow(22, 35, 4.2),), taper=((0.0, 0.6), (0.3, 1.0), (0.6, 0.7), (1.0, 0.05)), sides=16)


def molar() -> OnItsOwn:
    """A blunt tooth."""
    points = ((0.0, -9.0, True), (2.2, -9.0, False), (3.4, -2.0, False), (5.2, 3.0, False), (4.8, 7.0, False), (2.4, 6.2, False), (0.0, 5.6, False))  # fmt: skip
    return Lathe(tuple(LathePoint(*p) for p in points), around=24)


def claw() -> OnItsOwn:
    """A bent claw, flat at its sides."""
    return Strands((_bow(34, 75, 5.5, 6),), taper=CLAW, flat=1.0, sides=16)


def horn() -> OnItsOwn:
    """A twisted horn with ridges."""
    ridged = tuple(
        (float(np.cos(t) * (1 + 0.12 * (i % 2))), float(np.sin(t) * (1 + 0.12 * (i % 2))))
        for i, t in enumerate(np.linspace(0, 2 * np.pi, 12, endpoint=False))
    )
    return Strands((_bow(110, 120, 14, 8),), profile="drawn", drawn=ridged, taper=CLAW, sides=36, twist=240.0)


def whiskers() -> OnItsOwn:
    """A bundle of whiskers."""
    return Strands((_bow(60, 50, 0.7, 6),), taper=((0.0, 1.0), (0.5, 0.7), (1.0, 0.05)), sides=8, copies=9, spread=7.0, vary_turn=16.0)  # fmt: skip


def buckle() -> OnItsOwn:
    """A square buckle of round wire."""
    corners = ((-16, -12), (0, -13), (16, -12), (17, 0), (16, 12), (0, 13), (-16, 12), (-17, 0))
    knots = tuple(Knot((float(x), float(y), 0.0), 2.2) for x, y in corners)
    return Strands((Strand(knots, True),), sides=12)


def rope() -> OnItsOwn:
    """A piece of three-stranded rope."""
    lobes = tuple(
        (float(np.cos(t) * r), float(np.sin(t) * r))
        for t, r in zip(
            np.linspace(0, 2 * np.pi, 12, endpoint=False), [1.0, 0.92, 0.62, 0.92] * 3, strict=True
        )
    )
    knots = tuple(Knot((float(x), 0.0, float(4 * np.sin(x / 22))), 4.0) for x in range(-60, 61, 12))
    return Strands((Strand(knots),), profile="drawn", drawn=lobes, sides=36, spans=8, twist=1400.0)


def button() -> OnItsOwn:
    """A turned button."""
    points = ((0.0, -1.6, True), (8.0, -1.6, True), (9.0, 0.0, False), (8.2, 1.8, False), (6.6, 1.4, False), (5.8, 0.4, True), (0.0, 0.4, True))  # fmt: skip
    return Lathe(tuple(LathePoint(*p) for p in points), around=32)


def eyes() -> OnItsOwn:
    """A pair of eyes."""
    return Primitive("eye", (24.0, 24.0, 24.0), (48, 40, 1), 0.5, (0.0, 0.0), 46.0)


STARTERS: dict[str, tuple[str, Callable[[], OnItsOwn]]] = {
    "eyes": ("Pair of eyes", eyes),
    "tooth": ("Tooth", tooth),
    "molar": ("Molar", molar),
    "claw": ("Claw", claw),
    "horn": ("Horn", horn),
    "whiskers": ("Whiskers", whiskers),
    "buckle": ("Buckle", buckle),
    "button": ("Button", button),
    "rope": ("Rope", rope),
}
"""Key, name, and what makes it."""
