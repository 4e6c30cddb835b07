"""What is painted with."""

from __future__ import annotations

from dataclasses import dataclass, replace

Colour = tuple[int, int, int]
"""sRGB codes."""

RECENT = 12
"""Colours that are remembered."""


@dataclass(frozen=True)
class Ink:
    """What is painted with.

    Attributes
    ----------
    colour, other : three ints
        sRGB codes: the colour in hand, and the one that it is exchanged for.
    recent : tuple of colours
        The last ones that were painted with, the newest first.
    """

    colour: Colour = (176, 106, 84)
    other: Colour = (236, 224, 206)
    recent: tuple[Colour, ...] = ()

    def check(self) -> None:
        """Raise `ValueError` for codes that are none."""
        for one in (self.colour, self.other, *self.recent):
            if len(one) != 3 or not all(0 <= code <= 255 for code in one):
                raise ValueError("a colour in hand is not usable")

    def used(self) -> Ink:
        """The same, with its colour noted as the last that was painted with."""
        if self.recent[:1] == (self.colour,):
            return self
        rest = tuple(one for one in self.recent if one != self.colour)
        return replace(self, recent=(self.colour, *rest)[:RECENT])
