"""What is done to a press's picture before it is laid; the picture itself stays as it came."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter

from kneten.core.arrays import F32, F64, AnyArray
from kneten.core.falloff import PRESSURE_LINEAR, SAMPLES, Points, curve_table
from kneten.core.press import Press, press_of

OVERLAP = 0.2
"""Share of a picture's sides that pass into each other where it is made to tile."""


@dataclass(frozen=True)
class Edits:
    """Changes to a picture of heights, in the order in which they are done.

    Attributes
    ----------
    low, high : float
        The levels between which it is stretched, as shares of its own range.
    curve : points
        From level to height, both 0 to 1.
    zero : float
        The level that leaves the clay where it is, 0 to 1.
    invert : bool
        What stood out sinks in.
    blur : float
        Percent of the width.
    turn : int
        Degrees to the left, a multiple of 90.
    mirror : bool
    tile : bool
        Its edges pass into each other.
    fade : float
        Share of the way from its edge to its middle over which it rises, 0 to 1.
    """

    low: float = 0.0
    high: float = 1.0
    curve: Points = PRESSURE_LINEAR
    zero: float = 0.0
    invert: bool = False
    blur: float = 0.0
    turn: int = 0
    mirror: bool = False
    tile: bool = False
    fade: float = 0.0


def edited(picture: AnyArray, edits: Edits, tiles: bool = False) -> Press:
    """The press of a picture (h, w), of any range of values.

    Raises
    ------
    PressError
        When nothing of it would leave a mark.
    """
    values = np.asarray(picture, np.float32)
    least, most = float(np.nanmin(values)), float(np.nanmax(values))
    # One value all over is left to `press_of` to refuse.
    level = (values - least) / (most - least) if most > least else np.zeros_like(values)
    level = np.clip((level - edits.low) / max(edits.high - edits.low, 1e-6), 0.0, 1.0)
    if edits.curve != PRESSURE_LINEAR:
        at = np.linspace(0.0, 1.0, SAMPLES)
        level = np.interp(level, at, curve_table(edits.curve)).astype(np.float32)
    height = level - np.float32(edits.zero)
    if edits.invert:
        height = -height
    goes_on = tiles or edits.tile
    if edits.tile and not tiles:
        height = _tiled(_tiled(height).T).T
    if edits.blur > 0:
        sigma = edits.blur / 100.0 * height.shape[1]
        height = gaussian_filter(height, sigma, mode="wrap" if goes_on else "nearest")
    height = np.rot90(height, edits.turn // 90 % 4)
    if edits.mirror:
        height = height[:, ::-1]
    if edits.fade > 0:
        height = height * _risen(height.shape[0], height.shape[1], edits.fade)
    return press_of(np.ascontiguousarray(height), tiles=goes_on)


def _tiled(picture: F32) -> F32:
    """A picture whose left side passes into its right one: narrower by what lies over each other."""
    wide = picture.shape[1]
    over = max(int(wide * OVERLAP), 1)
    if wide < 4 * over:
        return picture
    t = (np.arange(over) + 0.5) / over
    share = (t * t * (3.0 - 2.0 * t)).astype(np.float32)
    out = picture[:, : wide - over].copy()
    out[:, :over] = picture[:, :over] * share + picture[:, wide - over :] * (1.0 - share)
    return out


def _risen(rows: int, columns: int, fade: float) -> F64:
    """0 at the edge of a picture, 1 inside, (rows, columns)."""

    def side(n: int) -> F64:
        far = np.minimum(np.arange(n), np.arange(n)[::-1]) / max(0.5 * fade * n, 1e-9)
        t = np.clip(far, 0.0, 1.0)
        return np.asarray(t * t * (3.0 - 2.0 * t))

    return side(rows)[:, None] * side(columns)[None]
