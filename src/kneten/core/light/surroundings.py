"""What is around the clay: the sky that lights it, what is behind it, the floor."""

from __future__ import annotations

from dataclasses import dataclass

from kneten.core.light.skies import SKIES
from kneten.core.words import all_finite

OWN = "own:"
"""What the sky's key begins with where it is of the user's own."""


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
    """

    sky: str = "studio"
    strength: float = 1.0
    turn: float = 0.0
    shown: bool = False
    blur: float = 0.4
    catches: bool = True

    def check(self) -> None:
        """Raise `ValueError` where they are not usable."""
        shares = 0 <= self.blur <= 1 and 0 <= self.strength <= 100
        known = self.sky in SKIES or self.sky.startswith(OWN)
        if not known or not all_finite(vars(self)) or not shares or abs(self.turn) > 3600:
            raise ValueError("the surroundings are not usable")
