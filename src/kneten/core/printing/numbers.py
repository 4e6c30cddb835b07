"""Numbers of prints: materials, pegs. Settings know them, so nothing is imported here."""

from __future__ import annotations

from dataclasses import dataclass

MATERIALS: dict[str, tuple[str, float]] = {
    "resin": ("Resin", 1.12),
    "tough": ("Tough resin", 1.18),
    "pla": ("PLA", 1.24),
    "petg": ("PETG", 1.27),
    "abs": ("ABS", 1.04),
    "nylon": ("Nylon powder", 0.95),
    "plaster": ("Plaster powder", 1.50),
    "wax": ("Casting wax", 0.97),
    "silver": ("Silver", 10.36),
    "bronze": ("Bronze", 8.80),
    "steel": ("Steel", 7.90),
}
"""Names, and grams in each cubic centimetre."""


@dataclass(frozen=True)
class Pegs:
    """How two halves hold on each other.

    Attributes
    ----------
    count : int
        At most; 0 for none.
    radius, deep : float
        Mm.
    clearance : float
        Mm all round that a hole is wider than its peg, and deeper.
    square : bool
        Keys that cannot turn, in place of round pegs.
    """

    count: int = 2
    radius: float = 3.0
    deep: float = 6.0
    clearance: float = 0.15
    square: bool = False
