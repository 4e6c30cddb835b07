"""What there must be of a mesh for a detail to come out, and what of it lower levels do not keep."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, Progress
from kneten.core.mesh import Mesh
from kneten.core.press import Press
from kneten.core.stack import Stack

SHARE = 0.9
"""Share of a press's unevenness that must come out."""

EDGES = 2.5
"""Edges that the width of a wave must be for it to come out."""

LONGEST = 256
"""Pixels of a press's longer side that are looked at."""


def finest_wave(press: Press) -> float:
    """How wide the waves are down to which a press must come out, as a share of its width.

    Waves are counted by how much unevenness they have (the power spectrum of its heights). Where the picture does not go
    on at its borders it fades towards them, so that they are not counted themselves.
    """
    picture = press.heights
    step = max(-(-max(picture.shape) // LONGEST), 1)
    high, wide = (side // step * step for side in picture.shape)
    small = (
        picture[:high, :wide]
        .reshape(high // step, step, wide // step, step)
        .mean(axis=(1, 3), dtype=np.float64)
    )
    fade = np.ones(small.shape)
    if not press.tiles:
        fade = np.hanning(small.shape[0] + 2)[1:-1, None] * np.hanning(small.shape[1] + 2)[None, 1:-1]
    small = (small - np.average(small, weights=fade)) * fade
    power = np.abs(np.fft.rfft2(small)) ** 2
    # Waves to the right and to the left are each other's likes, but for those that are their own.
    power[:, 1 : (small.shape[1] + 1) // 2] *= 2.0
    down = np.fft.fftfreq(small.shape[0])[:, None]
    across = np.fft.rfftfreq(small.shape[1])[None]
    waves = np.hypot(down, across) * small.shape[1]
    order = np.argsort(waves, axis=None)
    summed = np.cumsum(power.reshape(-1)[order])
    if not summed[-1] > 0:
        return 1.0
    counted = waves.reshape(-1)[order][int(np.searchsorted(summed, SHARE * summed[-1]))]
    return float(1.0 / max(counted, 1.0))


def levels_more(edge: float, wave: float) -> int:
    """How many levels finer clay with edges so long must be for waves so wide to come out; 0 where it does."""
    if not (edge > 0 and wave > 0):
        return 0
    return max(int(np.ceil(np.log2(edge * EDGES / wave) - 1e-9)), 0)


def under_the_brush(edge: float, radius: float) -> int:
    """How many vertices of clay with edges so long lie within a brush."""
    return round(np.pi * (radius / edge) ** 2) if edge > 0 else 0


@dataclass(frozen=True, eq=False)
class Lost:
    """What a level does not keep of the clay.

    Attributes
    ----------
    level, count : int
        Which, and its vertices.
    off : (n,) float32
        How far the level's own surface lies from each vertex of the clay.
    most, usual : float
        The farthest, and what 95 of 100 vertices stay below.
    """

    level: int
    count: int
    off: F32
    most: float
    usual: float


def lost_below(stack: Stack, mesh: Mesh, progress: Progress) -> list[Lost]:
    """For each level below the one in hand what going down to it would lose; the nearest first.

    A level's own surface is what subdividing it as often gives, without the differences that finer levels hold. Raises
    `Cancelled` through `progress`.
    """
    at = stack.level
    found = []
    for level in range(at - 1, -1, -1):
        progress.report((at - 1 - level) / at, f"Level {level}")
        _, low = stack.stepped(mesh, level)
        surface = low.positions
        for k in range(level + 1, at + 1):
            step = stack.levels[k].step
            assert step is not None
            surface = step.refine(stack.levels[k - 1].topology, surface, True, np.float32)
        off = np.linalg.norm(surface - mesh.positions, axis=1).astype(np.float32)
        usual = float(np.partition(off, int(0.95 * (len(off) - 1)))[int(0.95 * (len(off) - 1))])
        found.append(Lost(level, low.n_vertices, off, float(off.max()), usual))
    return found
