"""Presses mixed from unevenness: what the user sets up, drawn so that it goes on at its edges."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, AnyArray
from kneten.core.presses.fields import SIDE, bump, cells, rough, step, warped

KINDS: dict[str, tuple[str, str]] = {
    "clouds": ("Clouds", "Soft ups and downs, with smaller ones on them"),
    "ridges": ("Ridges", "Sharp crests between round hollows"),
    "billows": ("Billows", "Round humps between sharp creases"),
    "pebbles": ("Pebbles", "Domes packed side by side"),
    "pits": ("Pits", "Round hollows strewn evenly"),
    "cracks": ("Cracks", "A net of furrows"),
    "terraces": ("Terraces", "Ups and downs in steps"),
    "fibres": ("Fibres", "Streaks from left to right"),
}
"""Kinds of unevenness: name and what it looks like."""


@dataclass(frozen=True)
class Mix:
    """What a press is mixed of.

    Attributes
    ----------
    first, second : str
        Keys of `KINDS`.
    share : float
        How much of the second there is, 0 to 1.
    across : int
        How many of the largest stand across the picture.
    finer : float
        The second's size against the first's: so many times as many.
    roughness : float
        How much smaller unevenness there is on the larger, 0 to 1.
    swirl : float
        How far all is drawn about, 0 to 1.
    sharpness : float
        0 leaves the hills round, 1 makes plates of them.
    seed : int
        Another number gives another one of the same kind.
    """

    first: str = "clouds"
    second: str = "pebbles"
    share: float = 0.0
    across: int = 8
    finer: float = 3.0
    roughness: float = 0.5
    swirl: float = 0.0
    sharpness: float = 0.0
    seed: int = 1


def _clouds(across: int, seed: int, roughness: float) -> AnyArray:
    total = rough(across, seed, 1)
    much = 1.0
    for k in range(1, 5):
        much *= roughness
        if much < 0.02 or across << k > SIDE // 4:
            break
        total = total + much * rough(across << k, seed + 7 * k, 1)
    return total


def drawn(kind: str, across: int, seed: int, roughness: float) -> AnyArray:
    """One kind of unevenness, about -1 to 1, (1024, 1024)."""
    if kind == "ridges":
        return 1.0 - 2.2 * np.abs(_clouds(across, seed, roughness))
    if kind == "billows":
        return 2.2 * np.abs(_clouds(across, seed, roughness)) - 1.0
    if kind == "pebbles":
        _, border, own = cells(across, seed)
        return 2.0 * np.sqrt(np.clip(border / 0.42, 0, 1)) * (1.0 - roughness * own) - 1.0
    if kind == "pits":
        near, _, own = cells(across, seed)
        return -bump(near / (0.42 * (1.0 - 0.6 * roughness * own)))
    if kind == "cracks":
        _, border, own = cells(across, seed, stray=0.45)
        return -bump(border / (0.10 + 0.08 * roughness * own))
    if kind == "terraces":
        level = 3.0 * _clouds(across, seed, roughness)
        return (np.floor(level) + step(0.0, 0.2, level - np.floor(level))) / 3.0
    if kind == "fibres":
        return rough(max(across // 4, 1), seed, 3, across * 8) + roughness * rough(
            across, seed + 3, 2, across * 24
        )
    return _clouds(across, seed, roughness)


def mixed(mix: Mix) -> F32:
    """The picture of heights of a mix, (1024, 1024), that goes on at its edges. Some tenths of a second."""
    across = int(np.clip(mix.across, 1, 120))
    total = drawn(mix.first, across, mix.seed, mix.roughness)
    if mix.share > 0:
        finer = int(np.clip(round(across * mix.finer), 1, 240))
        total = (1.0 - mix.share) * total + mix.share * drawn(
            mix.second, finer, mix.seed + 101, mix.roughness
        )
    if mix.swirl > 0:
        much = 0.5 * mix.swirl / across
        total = warped(
            total, much * rough(across, mix.seed + 202, 2), much * rough(across, mix.seed + 203, 2)
        )
    if mix.sharpness > 0:
        spread = float(np.std(total)) or 1.0
        total = np.tanh(total / spread * (1.0 + 5.0 * mix.sharpness))
    return np.asarray(total, np.float32)
