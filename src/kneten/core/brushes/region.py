"""Region: paints the region that the stroke begins on, or a new one on bare clay; reversed it takes out."""

from __future__ import annotations

from kneten.core.brushes.mask import displace
from kneten.core.brushes.tool import BrushSettings, Tool
from kneten.core.falloff import PRESETS

TOOL = Tool(
    key="region",
    name="Region",
    does="Widens the region it begins on, or begins a new one on bare clay",
    displace=displace,
    needs=20,
    defaults=BrushSettings(
        size=40, strength=1.0, falloff=PRESETS["flat"], spacing=0.15, pressure_strength=False
    ),
    reversed_name="takes clay out of regions",
    changes="regions",
)
