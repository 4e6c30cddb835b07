"""What a press of our own is called, and what draws it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeVar

from kneten.core.arrays import AnyArray
from kneten.core.press import Press, deep_press, press_of

FAMILIES = (
    "skin", "wrinkles", "lips", "scales", "hide", "horn", "bark", "weave", "knit", "stitch", "cracks", "scratches",
    "mud", "foam", "hair", "rope", "rivets", "letters", "plain", "deep",
)  # fmt: skip
"""Families, in the order in which they are shown."""


@dataclass(frozen=True)
class Entry:
    """A press of our own.

    Attributes
    ----------
    key, name, family : str
    words : str
        What else it is found by.
    tiles : bool
    rolls : bool
        Whether it is meant to be unrolled along a stroke.
    deep : bool
        Whether it moves clay sideways too.
    draw : function
        Gives heights (h, w), 0 where the clay stays as it is; or moves (h, w, 3) to the right, to the top and out, in
        half-widths.
    """

    key: str
    name: str
    family: str
    words: str
    tiles: bool
    rolls: bool
    deep: bool
    draw: Callable[[], AnyArray]

    def made(self) -> Press:
        """The press: some tenths of a second."""
        drawn = self.draw()
        return deep_press(drawn) if self.deep else press_of(drawn, tiles=self.tiles)


ENTRIES: dict[str, Entry] = {}
"""By key."""

F = TypeVar("F", bound=Callable[[], AnyArray])


def press(
    key: str,
    name: str,
    family: str,
    words: str = "",
    tiles: bool = True,
    rolls: bool = False,
    deep: bool = False,
) -> Callable[[F], F]:
    """Enter what the function below draws."""

    def entered(draw: F) -> F:
        ENTRIES[key] = Entry(key, name, family, words, tiles, rolls, deep, draw)
        return draw

    return entered
