"""All tools, in the order of the rack."""

from __future__ import annotations

from kneten.core.brushes import flatten, inflate, pellet, pinch, pull, raise_, score, smooth
from kneten.core.brushes.tool import Tool

TOOLS: dict[str, Tool] = {
    module.TOOL.key: module.TOOL for module in (pull, raise_, pellet, inflate, score, pinch, smooth, flatten)
}
