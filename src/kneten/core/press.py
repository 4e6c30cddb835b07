"""Presses: pictures of heights that are pushed into the clay, and how one is held as a brush's tip."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from kneten.core.arrays import F32, AnyArray, inlined

LARGEST = 4096
"""Pixels along a side at most: 64 MB in memory. What is larger comes in smaller."""

FAR_OFF = 1024.0
"""So many pictures are added to a place on one that tiles, so that it is positive."""

TURNS: dict[str, tuple[str, str]] = {
    "view": ("As seen", "Its top is the top of the picture"),
    "stroke": ("With the stroke", "It lies along the way of the stroke"),
    "pen": ("With the pen", "It lies as the pen is tilted"),
    "chance": ("By chance", "Each dab lies another way"),
}
"""How a press is turned: name and what it does."""

OVERLAPS: dict[str, tuple[str, str]] = {
    "even": ("Even", "One even coat, however often one goes over it"),
    "highest": ("Highest", "What stands out most stays"),
    "add": ("Add", "What lies over each other adds up"),
}
"""What becomes of dabs over each other in one stroke: name and what it does."""


@dataclass(frozen=True)
class Tip:
    """How a press is held.

    Attributes
    ----------
    press : str
        Its key on the shelf; "" is none.
    turned : str
        A key of `TURNS`.
    turn : float
        Degrees it is turned besides, to the left.
    whole : bool
        The whole picture, its corners too, instead of what lies in the ring.
    rolled : bool
        Unrolled along the stroke, as a seal is.
    repeats : float
        How often it stands across the brush; more than one only when it tiles.
    overlap : str
        A key of `OVERLAPS`, for Press.
    height : float
        How high its highest is at full strength, for Press: a share of the radius, or millimetres when `height_mm`.
    turn_chance, size_chance, strength_chance : float
        0..1: by how much each dab differs.
    flip_chance, side_chance : bool
        Whether dabs are mirrored, and go in instead of out, as chance has it.
    """

    press: str = ""
    turned: str = "view"
    turn: float = 0.0
    whole: bool = False
    rolled: bool = False
    repeats: float = 1.0
    overlap: str = "even"
    height: float = 0.15
    height_mm: bool = False
    turn_chance: float = 0.0
    size_chance: float = 0.0
    strength_chance: float = 0.0
    flip_chance: bool = False
    side_chance: bool = False


class PressError(ValueError):
    """A picture that cannot be a press; the text says why."""


@dataclass(frozen=True)
class Press:
    """A picture of heights.

    Attributes
    ----------
    heights : (h, w) float32
        The first row is its top. 0 leaves the clay where it is, 1 is the full height; -1..1.
    tiles : bool
        Whether it goes on from its right to its left edge, and from its lowest to its top row.
    aside : (h, w, 2) float32 or None
        Of a deep press: how far it moves clay to its right and to its top, in the same measure.
    natural : float
        How high its highest is when nothing is drawn out, in half-widths; 0 where that is not known.
    """

    heights: F32
    tiles: bool = False
    aside: F32 | None = None
    natural: float = 0.0
    _moves: list[F32] = field(default_factory=list, repr=False, compare=False)
    _levels: list[F32] = field(default_factory=list, repr=False, compare=False)

    @property
    def aspect(self) -> float:
        """Its width over its height."""
        return self.heights.shape[1] / self.heights.shape[0]

    def level(self, pixels: float) -> F32:
        """The picture for clay whose vertices lie so many of its pixels apart: what is finer is evened out, an array (h, w), smaller.

        Without it, a coarse mesh would hit upon single pixels, and show grains that are in no picture.
        """
        return _level(self._levels, lambda: self.heights, pixels)

    def moves(self, pixels: float) -> F32:
        """The same of a deep press: to its right, to its top and out, an array (h, w, 3), smaller."""
        assert self.aside is not None
        aside = self.aside
        return _level(self._moves, lambda: np.concatenate([aside, self.heights[..., None]], -1), pixels)


def _level(levels: list[F32], whole: Callable[[], AnyArray], pixels: float) -> F32:
    if not levels:
        levels.append(np.ascontiguousarray(whole(), np.float32))
    wanted = max(int(np.floor(np.log2(max(pixels, 1.0)))), 0)
    while len(levels) <= wanted and min(levels[-1].shape[:2]) >= 4:
        levels.append(_halved(levels[-1]))
    return levels[min(wanted, len(levels) - 1)]


def _halved(picture: F32) -> F32:
    """Half as large: means of four."""
    rows, columns = picture.shape[0] // 2 * 2, picture.shape[1] // 2 * 2
    part = picture[:rows, :columns]
    mean = (part[::2, ::2] + part[1::2, ::2] + part[::2, 1::2] + part[1::2, 1::2]) / 4
    return np.ascontiguousarray(mean, np.float32)


def press_of(picture: AnyArray, zero: float = 0.0, tiles: bool = False) -> Press:
    """A press of a picture (h, w) whose value `zero` leaves the clay where it is; its farthest from that becomes 1.

    Raises
    ------
    PressError
        When it is empty, not finite, or of one value all over.
    """
    if picture.ndim != 2 or min(picture.shape) < 2:
        raise PressError("the picture is smaller than two pixels: choose a larger one")
    heights = picture.astype(np.float64) - zero
    if not np.isfinite(heights).all():
        raise PressError("the picture has values that are no numbers")
    most = float(np.abs(heights).max())
    if most <= 0 or float(heights.max() - heights.min()) <= 1e-9 * most:
        raise PressError("the picture has the same value all over: it would leave no mark")
    return Press((heights / most).astype(np.float32), tiles)


def _dome(side: int = 256) -> Press:
    t = (np.arange(side) + 0.5) / side * 2 - 1
    far = np.minimum(np.hypot(t[:, None], t[None]), 1.0)
    return Press((0.5 + 0.5 * np.cos(np.pi * far)).astype(np.float32))


DOME = _dome()
"""What Press lays where it has not been given anything else."""


def deep_press(moves: AnyArray) -> Press:
    """A deep press of moves (h, w, 3) to its right, to its top and out, in half-widths.

    Raises
    ------
    PressError
        When it is too small, not finite, or moves nothing out.
    """
    if moves.ndim != 3 or moves.shape[2] != 3:
        raise PressError("a deep press needs three channels: to the right, to the top, and out")
    heights = moves[..., 2]
    plain = press_of(heights)
    if not np.isfinite(moves).all():
        raise PressError("the picture has values that are no numbers")
    natural = float(np.abs(heights).max())
    return Press(plain.heights, False, np.ascontiguousarray(moves[..., :2] / natural, np.float32), natural)


@inlined
def sampled(picture: F32, x: float, y: float, tiles: bool) -> float:
    """The picture between its pixels, x and y from 0 to 1 over it, y down; at its edge beyond, or from its other side."""
    rows = picture.shape[0]
    columns = picture.shape[1]
    # Numbers are kept above zero, where cutting off what is behind the point is rounding down, and costs far less.
    if tiles:
        x += FAR_OFF
        y += FAR_OFF
        x -= int(x)
        y -= int(y)
    else:
        x = min(max(x, 0.0), 1.0)
        y = min(max(y, 0.0), 1.0)
    px = x * columns + 0.5
    py = y * rows + 0.5
    right = int(px)
    low = int(py)
    tx = px - right
    ty = py - low
    left = right - 1
    top = low - 1
    # One picture is gone on with at its other side, or at its edge.
    if left < 0:
        left = columns - 1 if tiles else 0
    if top < 0:
        top = rows - 1 if tiles else 0
    if right >= columns:
        right = 0 if tiles else columns - 1
    if low >= rows:
        low = 0 if tiles else rows - 1
    upper = picture[top, left] + (picture[top, right] - picture[top, left]) * tx
    lower = picture[low, left] + (picture[low, right] - picture[low, left]) * tx
    return upper + (lower - upper) * ty
