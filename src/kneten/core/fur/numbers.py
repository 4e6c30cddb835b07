"""The numbers of a fur."""

from __future__ import annotations

from dataclasses import dataclass

MOST = 400_000
"""Fibres of one fur at most: 50 MB of vertices."""

MOST_LEADS = 4000


class FurError(ValueError):
    """The fur cannot be made. The text says what to change."""


@dataclass(frozen=True)
class FurNumbers:
    """What a fur is, besides how it is combed.

    Attributes
    ----------
    count : int
        Fibres.
    width : float
        How thick they are at the root, in the part's own space.
    vary : float
        Share by which some are shorter than the leads.
    loose : float
        How much they go their own ways, against their length.
    clump : float
        How near they come together at the tips of the leads, 0 to 1.
    curl : float
        How far they wave to the sides, against their length.
    from_clay : bool
        The colour is that of the clay under them; else `root` and `tip` say it.
    root, tip : three floats
        sRGB, 0 to 1.
    mask : str
        Id of the kept mask that it lies on; "" for all of the clay.
    shown : bool
    seed : int
    """

    count: int = 60_000
    width: float = 0.2
    vary: float = 0.35
    loose: float = 0.14
    clump: float = 0.3
    curl: float = 0.0
    from_clay: bool = False
    root: tuple[float, float, float] = (0.23, 0.18, 0.13)
    tip: tuple[float, float, float] = (0.66, 0.55, 0.42)
    mask: str = ""
    shown: bool = True
    seed: int = 1

    def check(self) -> None:
        """Raise `FurError` for numbers that make no fur."""
        if not 1 <= self.count <= MOST:
            raise FurError(f"a fur has 1 to {MOST:,} fibres")
        if not self.width > 0:
            raise FurError("the fibres must have some width")
        shares = (self.vary, self.loose, self.clump, self.curl, *self.root, *self.tip)
        if not all(0 <= share <= 1 for share in shares):
            raise FurError("the fur's numbers are out of range")
