"""All tools, in the order of the rack."""

from __future__ import annotations

from kneten.core.brushes import (
    bend,
    burnish,
    coarsen,
    coil,
    flatten,
    inflate,
    mask,
    pellet,
    pinch,
    press,
    pull,
    raise_,
    refine,
    region,
    restore,
    score,
    shave,
    slab,
    slide,
    smooth,
    span,
    swell,
    tease,
    twist,
)
from kneten.core.brushes.tool import Tool

TOOLS: dict[str, Tool] = {
    module.TOOL.key: module.TOOL
    for module in (
        pull,
        raise_,
        pellet,
        slab,
        coil,
        inflate,
        score,
        pinch,
        smooth,
        flatten,
        shave,
        span,
        burnish,
        twist,
        swell,
        bend,
        tease,
        slide,
        press,
        restore,
        refine,
        coarsen,
        mask,
        region,
    )
}
