"""All tools, in the order of the rack."""

from __future__ import annotations

from kneten.core.brushes import (
    bend,
    burnish,
    coil,
    flatten,
    inflate,
    mask,
    pellet,
    pinch,
    pull,
    raise_,
    region,
    restore,
    score,
    shave,
    slab,
    slide,
    smooth,
    span,
    swell,
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
        slide,
        restore,
        mask,
        region,
    )
}
