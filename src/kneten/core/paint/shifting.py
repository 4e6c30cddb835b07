"""Colours made anew all at once: other hues, lighter or darker, richer or greyer."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import U8, in_parts, kernel
from kneten.core.paint.light import DECODED, code_of, lab_of, light_of_lab
from kneten.core.paint.mixing import rounded

ZERO, ONE = np.float32(0.0), np.float32(1.0)
LOW, HIGH = np.float32(-0.002), np.float32(1.002)
"""What still counts as light that a screen shows."""


@dataclass(frozen=True)
class Shift:
    """How colours become others.

    Attributes
    ----------
    hue : float
        Degrees that hues are turned by, -180 to 180.
    light : float
        -1 makes all black, 1 all white; between, what is left of the way is shared.
    rich : float
        -1 takes all colourfulness, 1 doubles it.
    """

    hue: float = 0.0
    light: float = 0.0
    rich: float = 0.0

    @property
    def usable(self) -> bool:
        """Whether its numbers make sense."""
        return abs(self.hue) <= 180 and abs(self.light) <= 1 and abs(self.rich) <= 1


@kernel
def _shift(
    paint: U8,
    cosine: np.float32,
    sine: np.float32,
    light: np.float32,
    rich: np.float32,
    first: int,
    last: int,
    out: U8,
) -> None:
    for i in range(first, last):
        lightness, a, b = lab_of(DECODED[paint[i, 0]], DECODED[paint[i, 1]], DECODED[paint[i, 2]])
        lightness = lightness * (ONE + light) if light < ZERO else lightness + (ONE - lightness) * light
        u = (a * cosine - b * sine) * rich
        v = (a * sine + b * cosine) * rich
        x, y, z = light_of_lab(lightness, u, v)
        # What no screen can show is made less colourful: its lightness stays.
        for _ in range(16):
            if min(x, y, z) > LOW and max(x, y, z) < HIGH:
                break
            u, v = u * np.float32(0.88), v * np.float32(0.88)
            x, y, z = light_of_lab(lightness, u, v)
        if not (min(x, y, z) > LOW and max(x, y, z) < HIGH):
            x, y, z = light_of_lab(lightness, ZERO, ZERO)
        out[i, 0] = rounded(code_of(x))
        out[i, 1] = rounded(code_of(y))
        out[i, 2] = rounded(code_of(z))
        out[i, 3] = paint[i, 3]


def shifted(paint: U8, shift: Shift) -> U8:
    """Colours (n, 4) made others; how much they cover stays."""
    out = np.empty_like(paint)
    turn = np.radians(shift.hue)
    # Towards black and white colours grow paler by as much.
    numbers = (np.cos(turn), np.sin(turn), shift.light, (1 + shift.rich) * (1 - abs(shift.light)))
    cosine, sine, light, rich = (np.float32(number) for number in numbers)
    in_parts(len(paint), lambda first, last: _shift(paint, cosine, sine, light, rich, first, last, out))
    # What covers nothing has no colour.
    out[paint[:, 3] == 0] = paint[paint[:, 3] == 0]
    return out
