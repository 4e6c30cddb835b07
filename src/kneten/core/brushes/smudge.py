"""Smudge: draws colours along."""

from __future__ import annotations

from kneten.core.brushes.mask import displace
from kneten.core.brushes.tool import BrushSettings, Tool

TOOL = Tool(
    key="smudge",
    name="Smudge",
    does="Draws colours along with the stroke",
    displace=displace,
    needs=20,
    defaults=BrushSettings(size=45, strength=0.7, spacing=0.12, front_only=True),
    reversed_name="",
    changes="paint",
    paints="smudge",
)
