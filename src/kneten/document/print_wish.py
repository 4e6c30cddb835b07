"""What a print is to be."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.printing.numbers import MATERIALS, Pegs
from kneten.core.words import FAR

SIZINGS = ("asis", "height", "ratio")

BASES = ("round", "square", "eight")


@dataclass(frozen=True)
class PrintWish:
    """What a print is to be; all lengths are millimetres of the print.

    Attributes
    ----------
    sizing : str
        "asis": as large as the clay; "height": so high; "ratio": one of so many.
    height, ratio : float
    material : str
        Of `MATERIALS`.
    price : float
        Of a cubic centimetre.
    thinnest : float
        The least thickness that holds.
    wall : float
        Of what is hollow.
    drain, plug : float
        Radius of a hole, and how much narrower its plug is.
    fine : int
        Points of the grid, along the longest side, that hollows are made by.
    pegs : Pegs
    angle : float
        Degrees from upright from which on it hangs over.
    layer : float
        Thickness of a layer.
    base : str
        Of `BASES`.
    wide, deep, high, bevel : float
        Of the base; as wide and deep as what stands on it, and some more, where these are 0.
    title : str
        What is written on the base.
    letter : float
        Its height.
    raised : float
        How far it stands out; below 0 how deep it is cut in.
    """

    sizing: str = "asis"
    height: float = 150.0
    ratio: float = 6.0
    material: str = "resin"
    price: float = 0.25
    thinnest: float = 1.2
    wall: float = 2.5
    drain: float = 2.0
    plug: float = 0.12
    fine: int = 256
    pegs: Pegs = Pegs()
    angle: float = 45.0
    layer: float = 0.05
    base: str = "round"
    wide: float = 0.0
    deep: float = 0.0
    high: float = 10.0
    bevel: float = 1.5
    title: str = ""
    letter: float = 5.0
    raised: float = 0.6

    def check(self) -> None:
        """Raise `ValueError` where it makes no sense."""
        numbers = (
            self.height, self.ratio, self.price, self.thinnest, self.wall, self.drain, self.plug, self.angle, self.layer,
            self.wide, self.deep, self.high, self.bevel, self.letter, self.raised, self.pegs.radius, self.pegs.deep,
            self.pegs.clearance,
        )  # fmt: skip
        if self.sizing not in SIZINGS or self.material not in MATERIALS or self.base not in BASES:
            raise ValueError("a print's size, material or base is not known")
        if not all(np.isfinite(numbers)) or max(map(abs, numbers)) > FAR:
            raise ValueError("a number of a print is not usable")
        above = (
            self.height,
            self.ratio,
            self.thinnest,
            self.wall,
            self.drain,
            self.layer,
            self.high,
            self.letter,
        )
        if (
            min(above) <= 0
            or not 8 <= self.fine <= 1024
            or not 0 <= self.pegs.count <= 12
            or self.pegs.radius <= 0
        ):
            raise ValueError("a length of a print has to be more than nothing")
