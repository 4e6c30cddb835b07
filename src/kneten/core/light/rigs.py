"""Light sets of our own: lamps and surroundings that belong together, made for whatever is to be lit."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F64
from kneten.core.light.lamps import Lamp, Place
from kneten.core.light.surroundings import Surroundings

LightSet = tuple[tuple[Lamp, ...], Surroundings]


@dataclass(frozen=True)
class _Subject:
    """What is lit: its middle, and half its size in millimetres."""

    middle: Place
    reach: float

    def lamp(
        self, name: str, kind: str, way: Place, far: float = 3.0, size: float = 1.0, **more: float
    ) -> Lamp:
        """A lamp so many times half the size away, as many wide; those far away have their size in degrees."""
        long = float(np.linalg.norm(way))
        x, y, z = (v / long for v in way)
        wide = size if kind in ("sun", "rim") else size * self.reach
        return Lamp(name, kind, (x, y, z), self.middle, far * self.reach, size=wide, **more)  # type: ignore[arg-type]


def _window(s: _Subject) -> LightSet:
    key = s.lamp("Window", "panel", (-0.9, 0.5, 0.55), 2.6, 2.4, strength=1.72, warmth=6200)
    fill = s.lamp("Wall", "panel", (1.0, 0.1, 0.5), 3.0, 3.0, strength=0.24, warmth=4600)
    return (key, fill), Surroundings("workshop", 0.5)


def _three_lamps(s: _Subject) -> LightSet:
    key = s.lamp("Key", "panel", (-0.7, 0.65, 0.7), 3.0, 1.2, strength=1.65, warmth=5200)
    fill = s.lamp("Fill", "panel", (0.9, 0.15, 0.6), 3.4, 2.4, strength=0.375, warmth=6500)
    rim = s.lamp("Rim", "rim", (0.55, 0.45, -0.75), size=6.0, strength=1.5, warmth=7000)
    return (key, fill, rim), Surroundings("studio", 0.3)


def _lantern(s: _Subject) -> LightSet:
    light = s.lamp("Lantern", "point", (-0.35, -0.35, 0.9), 1.5, 0.16, strength=2.25, warmth=2700)
    rim = s.lamp("Sky behind", "rim", (0.7, 0.5, -0.65), size=10.0, strength=0.675, warmth=11000)
    return (light, rim), Surroundings("lantern", 0.8)


def _split(s: _Subject) -> LightSet:
    left = s.lamp("Warm side", "panel", (-1.0, 0.15, 0.12), 2.8, 1.4, strength=1.5, warmth=3400)
    right = s.lamp("Cold side", "panel", (1.0, 0.1, 0.05), 2.8, 1.4, strength=1.05, warmth=11000)
    return (left, right), Surroundings("blue-hour", 0.5)


def _from_above(s: _Subject) -> LightSet:
    key = s.lamp("Above", "spot", (0.05, 1.0, 0.28), 3.2, 0.5, strength=2.25, warmth=4800, cone=46)
    floor = s.lamp("Floor", "panel", (0.0, -1.0, 0.4), 3.0, 2.5, strength=0.12, warmth=4200)
    return (key, floor), Surroundings("even", 0.08)


def _from_below(s: _Subject) -> LightSet:
    key = s.lamp("Below", "point", (0.1, -0.8, 0.75), 1.9, 0.25, strength=1.65, warmth=2900)
    rim = s.lamp("Rim", "rim", (-0.6, 0.55, -0.7), size=5.0, strength=0.75, warmth=8500)
    return (key, rim), Surroundings("lantern", 0.5)


def _two_rims(s: _Subject) -> LightSet:
    one = s.lamp("Rim left", "rim", (-0.75, 0.3, -0.6), size=5.0, strength=2.4, warmth=6800)
    other = s.lamp("Rim right", "rim", (0.75, 0.35, -0.55), size=5.0, strength=1.95, warmth=4200)
    front = s.lamp("Front", "panel", (0.1, 0.35, 1.0), 4.0, 2.0, strength=0.24, warmth=5600)
    return (one, other, front), Surroundings("even", 0.12)


def _daylight(s: _Subject) -> LightSet:
    sun = s.lamp("Sun", "sun", (-0.5, 0.75, 0.5), size=0.6, strength=2.03, warmth=5400)
    return (sun,), Surroundings("noon", 0.85)


def _form(s: _Subject) -> LightSet:
    key = s.lamp("Raking light", "sun", (-0.93, 0.34, 0.16), size=1.0, strength=1.88, warmth=5600)
    return (key,), Surroundings("even", 0.22)


RIGS: dict[str, tuple[str, str, Callable[[_Subject], LightSet]]] = {
    "window": ("Window", "A soft window at the left, what the wall gives back", _window),
    "three": ("Studio", "Key, fill and rim", _three_lamps),
    "lantern": ("Lantern", "A warm point before, cold sky behind: night", _lantern),
    "split": ("Two sides", "Warm from one side, cold from the other", _split),
    "above": ("From above", "A cone from the ceiling, the rest dark", _from_above),
    "below": ("From below", "A fire at one's feet", _from_below),
    "rims": ("Two rims", "The outline in light, the front nearly dark", _two_rims),
    "day": ("Daylight", "Sun and a clear sky", _daylight),
    "form": ("Raking light", "Hard light along the surface: shows every bump", _form),
}
"""Names, what they are, and what makes them."""


def rig(key: str, low: F64, high: F64) -> LightSet:
    """A set of `RIGS` for what lies between two corners, (3,) each."""
    x, y, z = ((low + high) / 2).tolist()
    reach = max(float(np.linalg.norm(high - low)) / 2, 1e-3)
    return RIGS[key][2](_Subject((x, y, z), reach))
