"""What is painted with."""

from __future__ import annotations

from dataclasses import dataclass, replace

from kneten.core.values import PLAIN

Colour = tuple[int, int, int]
"""sRGB codes."""

Material = tuple[int, int, int, int]
"""Roughness, metalness, subsurface and wet, of 255."""

RECENT = 12
"""Colours that are remembered."""

CHANNELS: dict[str, tuple[str, str]] = {
    "colour": ("Colour", "What colour the clay is"),
    "roughness": ("Roughness", "0 % mirrors, 100 % is dull"),
    "metalness": ("Metalness", "0 % is no metal, 100 % is bare metal"),
    "subsurface": ("Subsurface", "How deep light gets into it, as into skin or wax"),
    "wet": ("Wet", "How thick a clear, smooth coat of water, spittle or varnish lies on it"),
    "opacity": ("Opacity", "100 % hides what is behind, 0 % is clear: of the clay itself, not of a layer"),
}
"""What paint may change: names, and what they are."""

OF_MATERIAL = ("roughness", "metalness", "subsurface", "wet")

OF_LAYERS = ("colour", *OF_MATERIAL)
"""What layers hold. Opacity is of the clay below them: all of it has one, and a layer cannot cover it."""

OPAQUE = 255


@dataclass(frozen=True)
class Ink:
    """What is painted with.

    Attributes
    ----------
    colour, other : three ints
        sRGB codes: the colour in hand, and the one that it is exchanged for.
    recent : tuple of colours
        The last ones that were painted with, the newest first.
    material : four ints
        The material in hand.
    channels : tuple of str
        What of it is painted, keys of `CHANNELS`.
    opacity : int
        How far the clay hides what is behind it, of 255.
    along : bool
        Tools that change the form paint as well.
    """

    colour: Colour = (176, 106, 84)
    other: Colour = (236, 224, 206)
    recent: tuple[Colour, ...] = ()
    material: Material = PLAIN
    channels: tuple[str, ...] = ("colour",)
    along: bool = False
    opacity: int = OPAQUE

    def check(self) -> None:
        """Raise `ValueError` for codes that are none, and for channels that there are not."""
        for one in (self.colour, self.other, *self.recent):
            if len(one) != 3 or not all(0 <= code <= 255 for code in one):
                raise ValueError("a colour in hand is not usable")
        if len(self.material) != 4 or not all(0 <= code <= 255 for code in self.material):
            raise ValueError("the material in hand is not usable")
        if not 0 <= self.opacity <= 255:
            raise ValueError("the opacity in hand is not usable")
        if not self.channels or not set(self.channels) <= set(CHANNELS):
            raise ValueError("what is to be painted is not usable")

    def reaches(self, value: str) -> bool:
        """Whether it changes `colour`, `material`, or the `opacity` that is kept with the colour."""
        held = OF_MATERIAL if value == "material" else (value,)
        return any(channel in held for channel in self.channels)

    def inked(self) -> tuple[int | None, ...]:
        """The material, with None for what is not painted."""
        return tuple(
            code if channel in self.channels else None
            for channel, code in zip(OF_MATERIAL, self.material, strict=True)
        )

    def with_channel(self, channel: str, on: bool) -> Ink:
        """The same, painting one of `CHANNELS` or not; the last one stays on."""
        wanted = {*self.channels, channel} if on else {*self.channels} - {channel}
        return replace(self, channels=tuple(one for one in CHANNELS if one in wanted) or self.channels)

    def used(self) -> Ink:
        """The same, with its colour noted as the last that was painted with."""
        if self.recent[:1] == (self.colour,) or "colour" not in self.channels:
            return self
        rest = tuple(one for one in self.recent if one != self.colour)
        return replace(self, recent=(self.colour, *rest)[:RECENT])
