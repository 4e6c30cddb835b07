"""Palettes: the colours that a picture has most of."""

from __future__ import annotations

import warnings

import numpy as np
from scipy.cluster.vq import kmeans2

from kneten.core.arrays import F64, AnyArray
from kneten.core.paint.ink import Colour
from kneten.core.paint.light import lightness_colour_hue

SAMPLE = 12_000
"""Pixels that are looked at."""


STARTS = 8
"""Times that groups are sought: from a bad start two colours may share one."""


def _groups(lab: F64, count: int, seed: int) -> tuple[F64, float]:
    """Middles of groups of colours (n, 3), and how far colours are from theirs in all."""
    with warnings.catch_warnings():
        # A group may end up empty.
        warnings.simplefilter("ignore")
        middles, which = kmeans2(lab, count, minit="++", seed=seed)
    off = float(((lab - middles[which]) ** 2).sum())
    return middles[np.unique(which)], off


def dominant(pixels: AnyArray, count: int) -> tuple[Colour, ...]:
    """So many colours, or fewer where there are not as many, that stand for those of pixels (n, 3), the darkest first.

    Groups in OKLab by k-means (Lloyd); each is told by a colour that is there, that next to its middle.
    """
    rng = np.random.default_rng(1)
    some = pixels if len(pixels) <= SAMPLE else pixels[rng.permutation(len(pixels))[:SAMPLE]]
    kinds = np.unique(some, axis=0)
    if len(kinds) <= count:
        chosen = kinds
    else:
        lch = lightness_colour_hue(some)
        angle = np.radians(lch[:, 2])
        lab = np.stack([lch[:, 0], lch[:, 1] * np.cos(angle), lch[:, 1] * np.sin(angle)], axis=1)
        # Hue tells colours apart more than lightness, of which a picture has all steps.
        lab[:, 1:] *= 2.0
        middles = min((_groups(lab, count, seed) for seed in range(STARTS)), key=lambda found: found[1])[0]
        nearest = [int(np.argmin(((lab - middle) ** 2).sum(axis=1))) for middle in middles]
        chosen = np.unique(some[nearest], axis=0)
    order = np.argsort(lightness_colour_hue(chosen)[:, 0])
    return tuple((int(r), int(g), int(b)) for r, g, b in chosen[order])
