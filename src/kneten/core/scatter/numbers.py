"""The numbers of live rows and scatter."""

from __future__ import annotations

from dataclasses import dataclass

from kneten.core.live.clay import MOST, RecipeError

OVER = {
    "all": ("All of the clay", "Pieces lie everywhere"),
    "mask": ("The mask", "Pieces lie where the clay was masked"),
    "region": ("A region", "Pieces lie on one region"),
}
"""Where scatter lies: words, and what they mean."""

FLOWS = {
    "down": ("Downwards", "They point down over the clay"),
    "guides": ("Along the guides", "They point the way that the nearest guides were drawn"),
    "chance": ("By chance", "Each points anywhere"),
}
"""Which way the pieces of scatter point."""

SHRINKS = {
    "none": ("Nothing", "They are all of one size"),
    "mask": ("The mask", "The less is masked, the smaller they are"),
    "guides": ("The guides", "The nearer to a guide, the smaller they are"),
}
"""What makes pieces of scatter smaller."""

ALONG = {
    "guides": ("The guides", "Along all guides of the clay"),
    "rims": ("Open rims", "Along where the clay is open"),
    "border": ("A region's border", "Around one region"),
    "strands": ("A strand", "Along a live strand"),
}
"""What rows follow."""

MOST_PIECES = 1_000_000
"""Pieces that can be asked for."""

LEAST_GAP = -0.9


@dataclass(frozen=True)
class Sitting:
    """What rows and scatter have in common: which pieces, and how they sit on the clay.

    Attributes
    ----------
    ground : str
        Id of the part that the pieces sit on.
    sources : tuple of str
        What is laid, in turn: keys of our own pieces, or ids of parts.
    size : float
        Of a piece's longer side on the clay, in the ground's own space.
    vary : float
        Share by which sizes differ by chance.
    turn : float
        Degrees about what is off the clay.
    loose : float
        Degrees by which pieces are turned by chance, each way.
    lean : float
        Degrees that they lean along their heading.
    sink : float
        Share of their height that they are sunk into the clay.
    bend : bool
        They follow the clay as a whole; else only their foot does.
    gap : float
        Between neighbours, as a share of their size; below 0 they lie over each other.
    mirrored : bool
        One side is the other's mirror image, across x = 0.
    seed : int
    """

    ground: str = ""
    sources: tuple[str, ...] = ("scale",)
    size: float = 4.0
    vary: float = 0.0
    turn: float = 0.0
    loose: float = 0.0
    lean: float = 0.0
    sink: float = 0.1
    bend: bool = True
    gap: float = 0.0
    mirrored: bool = False
    seed: int = 1

    def check(self) -> None:
        """Raise `RecipeError` for numbers that lay nothing."""
        if not self.sources:
            raise RecipeError("there is nothing to lay: choose a piece")
        if not self.size > 0:
            raise RecipeError("the size of the pieces must be above 0")
        if not (0 <= self.vary < 1 and LEAST_GAP <= self.gap <= 100 and abs(self.lean) < 85):
            raise RecipeError("the pieces' numbers are out of range")


@dataclass(frozen=True)
class Scatter(Sitting):
    """Pieces over a surface.

    Attributes
    ----------
    over : str
        One of `OVER`.
    of : str
        The region's number.
    mask : str
        Id of the kept mask that they lie on, or that makes them smaller.
    most : int
        Pieces at most.
    even : float
        0: where chance has them; 1: as evenly as the clay allows.
    flow : str
        One of `FLOWS`.
    shrink : float
        How large they are where they are smallest, against elsewhere.
    shrink_by : str
        One of `SHRINKS`.
    reach : float
        How far from the guides they shrink, in the ground's own space.
    """

    over: str = "all"
    of: str = ""
    mask: str = ""
    most: int = 10_000
    even: float = 0.7
    flow: str = "down"
    shrink: float = 0.4
    shrink_by: str = "none"
    reach: float = 20.0

    kind = "scatter"

    @property
    def by_mask(self) -> bool:
        """Whether it goes by a mask."""
        return self.over == "mask" or self.shrink_by == "mask"

    def check(self) -> None:
        """Raise `RecipeError` for numbers that lay nothing."""
        super().check()
        if self.over not in OVER or self.flow not in FLOWS or self.shrink_by not in SHRINKS:
            raise RecipeError("the scatter has a word that is not known")
        if not 1 <= self.most <= MOST_PIECES:
            raise RecipeError(f"ask for 1 to {MOST_PIECES:,} pieces")
        if not (0 < self.shrink <= 1 and 0 <= self.even <= 1 and self.reach >= 0):
            raise RecipeError("the scatter's numbers are out of range")


@dataclass(frozen=True)
class Row(Sitting):
    """Pieces along lines.

    Attributes
    ----------
    along : str
        One of `ALONG`.
    of : str
        The region's number, or the strand part's id.
    count : int
        Pieces on each line; 0 for as many as fit.
    ends : float
        How large they are at a line's ends, against its middle.
    aside : float
        How far they stand beside the line, to its left, in the ground's own space.
    weave : bool
        Every second one stands on the other side, and is turned round.
    """

    along: str = "guides"
    of: str = ""
    count: int = 0
    ends: float = 1.0
    aside: float = 0.0
    weave: bool = False

    kind = "row"

    def check(self) -> None:
        """Raise `RecipeError` for numbers that lay nothing."""
        super().check()
        if self.along not in ALONG:
            raise RecipeError("the row has a word that is not known")
        if not (0 <= self.count <= MOST_PIECES and 0 < self.ends <= 10):
            raise RecipeError("the row's numbers are out of range")


def check_amount(pieces: int, vertices: int) -> None:
    """Raise `RecipeError` where pieces of so many vertices each would be too much clay."""
    if pieces * vertices > MOST:
        raise RecipeError(
            f"{pieces:,} pieces of {vertices:,} vertices are {pieces * vertices:,}; {MOST:,} are the most: "
            "take fewer, larger or simpler ones"
        )
