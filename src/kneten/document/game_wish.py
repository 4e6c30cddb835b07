"""What a game set has."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

MOST_LEVELS = 8


@dataclass(frozen=True)
class Variant:
    """The same in other colours.

    Attributes
    ----------
    name : str
    hue : float
        Degrees round the colour circle.
    vivid, light : float
        Shares by which colours are more vivid and lighter.
    """

    name: str
    hue: float = 0.0
    vivid: float = 0.0
    light: float = 0.0


@dataclass(frozen=True)
class GameWish:
    """What a game set has.

    Attributes
    ----------
    counts : tuple of int
        Triangles of each level of detail, all parts together, falling; the first may be more than there are.
    variants : tuple of Variant
    most_triangles, most_bytes, most_draws : int
        The budget of the first level; 0 for none.
    packed : bool
        Numbers are written as small as an open extension allows.
    """

    counts: tuple[int, ...] = (8000, 4000, 2000, 800)
    variants: tuple[Variant, ...] = ()
    most_triangles: int = 8000
    most_bytes: int = 8_000_000
    most_draws: int = 16
    packed: bool = False

    def check(self) -> None:
        """Raise `ValueError` where it makes no sense."""
        if not 1 <= len(self.counts) <= MOST_LEVELS:
            raise ValueError(f"a game set has 1 to {MOST_LEVELS} levels of detail")
        if min(self.counts) < 24 or max(self.counts) > 10**8:
            raise ValueError("a level of detail has 24 triangles at least")
        if any(a <= b for a, b in zip(self.counts, self.counts[1:], strict=False)):
            raise ValueError("each level of detail has fewer triangles than the one before")
        if min(self.most_triangles, self.most_bytes, self.most_draws) < 0 or len(self.variants) > 16:
            raise ValueError("a budget is a number above nothing, and there are 16 variants at most")
        names = [one.name.strip() for one in self.variants]
        if len(set(names)) < len(names) or "" in names:
            raise ValueError("each variant needs a name of its own")
        for one in self.variants:
            if (
                not all(np.isfinite((one.hue, one.vivid, one.light)))
                or max(abs(one.vivid), abs(one.light)) > 4
            ):
                raise ValueError("a variant's numbers are not usable")
