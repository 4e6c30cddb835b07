"""What is around the clay: the sky that lights it, what is behind it, the floor."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F64
from kneten.core.light.skies import SKIES
from kneten.core.words import all_finite

OWN = "own:"
"""What the sky's key begins with where it is of the user's own."""

HOUR = "hour"
"""The key of the sky by the hour."""

BACKDROPS: dict[str, tuple[str, str]] = {
    "": ("None", "The sky, or a calm tone, is behind the clay"),
    "sweep": (
        "Sweep",
        "A floor that bends up into a wall behind the clay, as in a studio; it turns with the camera",
    ),
}
"""What may stand behind the clay: names, and what they are."""


@dataclass(frozen=True)
class Sweep:
    """Where a floor runs, bends up, and is a wall.

    Attributes
    ----------
    middle : (3,) float64
        On the floor below the clay.
    back : (3,) float64
        The level unit direction to the wall.
    wall : float
        How far off it is, mm.
    bend : float
        Radius of the bend, mm.
    """

    middle: F64
    back: F64
    wall: float
    bend: float

    @classmethod
    def behind(cls, low: F64, high: F64, axes: F64) -> Sweep:
        """Behind clay between corners (3,) each, as a camera with such axes, rows of (3, 3), sees it."""
        reach = max(float(np.linalg.norm(high - low)) / 2, 1e-6)
        away = -axes[2] * np.array([1.0, 0.0, 1.0])
        if np.linalg.norm(away) < 1e-3:
            # From straight above what is up in the picture is behind.
            away = axes[1] * np.array([1.0, 0.0, 1.0])
        middle = (low + high) / 2
        middle[1] = low[1]
        return cls(middle, away / np.linalg.norm(away), 3.2 * reach, 1.7 * reach)


@dataclass(frozen=True)
class Surroundings:
    """Of a project there is one; where it has none, these.

    Attributes
    ----------
    sky : str
        A key of `SKIES`, or `OWN` and the id of one of the user's own.
    strength : float
        How bright it is, of what it is by itself.
    turn : float
        Degrees it is turned about the vertical.
    shown : bool
        It is seen behind the clay.
    blur : float
        How blurred it is then, 0 to 1.
    catches : bool
        The floor is not seen but for the shadows that fall on it.
    mirror : float
        How much the floor mirrors, 0 to 1.
    hour : float
        Of the day, 0 to 24, where the sky is that by the hour; the sun shines then, too.
    haze : float
        How hazy the air is then, 0 to 1.
    backdrop : str
        A key of `BACKDROPS`: what stands behind and below the clay.
    tone : three ints
        sRGB codes of that.
    """

    sky: str = "studio"
    strength: float = 1.0
    turn: float = 0.0
    shown: bool = False
    blur: float = 0.4
    catches: bool = True
    hour: float = 10.0
    haze: float = 0.2
    backdrop: str = ""
    tone: tuple[int, int, int] = (150, 144, 138)
    mirror: float = 0.0

    @property
    def has_floor(self) -> bool:
        """Whether anything of a floor is seen."""
        return self.catches or self.mirror > 0 or bool(self.backdrop)

    @property
    def by_hour(self) -> bool:
        """Whether the hour of the day says what the sky is."""
        return self.sky == HOUR

    def check(self) -> None:
        """Raise `ValueError` where they are not usable."""
        shares = 0 <= self.blur <= 1 and 0 <= self.strength <= 100
        known = self.sky in SKIES or self.sky.startswith(OWN)
        shares = shares and 0 <= self.hour <= 24 and 0 <= self.haze <= 1 and 0 <= self.mirror <= 1
        codes = len(self.tone) == 3 and all(0 <= code <= 255 for code in self.tone)
        known = known and self.backdrop in BACKDROPS and codes
        if not known or not all_finite(vars(self)) or not shares or abs(self.turn) > 3600:
            raise ValueError("the surroundings are not usable")
