"""Shift hue: turns hues."""

from __future__ import annotations

from kneten.core.brushes.mask import displace
from kneten.core.brushes.tool import BrushSettings, Tool

TOOL = Tool(
    key="hue",
    name="Shift hue",
    does="Turns hues; how light and colourful they are stays",
    displace=displace,
    needs=20,
    defaults=BrushSettings(size=45, strength=0.2, spacing=0.12, front_only=True),
    reversed_name="turns them the other way",
    changes="paint",
    paints="hue",
    variants=(
        ("", "Build up", "Covers more each time one goes over it"),
        ("wash", "Wash", "One stroke covers as much as its strength says, however often one goes over it"),
    ),
)
