"""Blend: lets colours run into each other."""

from __future__ import annotations

from kneten.core.brushes.mask import displace
from kneten.core.brushes.tool import BrushSettings, Tool

TOOL = Tool(
    key="blend",
    name="Blend",
    does="Lets colours run into each other",
    displace=displace,
    needs=20,
    defaults=BrushSettings(size=45, strength=0.6, spacing=0.12, front_only=True),
    reversed_name="",
    changes="paint",
    paints="blend",
)
