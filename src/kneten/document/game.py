"""Game sets of a project: levels of detail of what is visible, as pieces that files hold, and hue variants."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import U8, AnyArray
from kneten.core.paint.light import codes_of, lightness_colour_hue
from kneten.document.game_wish import Variant


def shared_out(counts: list[int], wanted: int) -> list[int]:
    """How many triangles each of several parts keeps, so that all together have so many, each its share."""
    whole = max(sum(counts), 1)
    return [max(round(one * min(wanted / whole, 1.0)), min(one, 24)) for one in counts]


def recoloured(colours: U8, variant: Variant) -> U8:
    """Colours (n, 3), (n, 4) or (h, w, 3), sRGB, of a variant: turned and moved in OKLab, so that no hue looks lighter than before."""
    table = colours.reshape(-1, colours.shape[-1])
    told = lightness_colour_hue(table[:, :3])
    out: AnyArray = table.copy()
    out[:, :3] = codes_of(
        np.clip(told[:, 0] * (1.0 + variant.light), 0, 1),
        told[:, 1] * max(1.0 + variant.vivid, 0.0),
        told[:, 2] + variant.hue,
    )
    return out.reshape(colours.shape)
