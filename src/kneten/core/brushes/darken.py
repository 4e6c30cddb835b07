"""Darken: makes colours darker."""

from __future__ import annotations

from kneten.core.brushes.mask import displace
from kneten.core.brushes.tool import BrushSettings, Tool

TOOL = Tool(
    key="darken",
    name="Darken",
    does="Makes colours darker; their hue stays",
    displace=displace,
    needs=20,
    defaults=BrushSettings(size=45, strength=0.3, spacing=0.12, front_only=True),
    reversed_name="lightens",
    changes="paint",
    paints="darken",
    variants=(
        ("", "Build up", "Covers more each time one goes over it"),
        ("wash", "Wash", "One stroke covers as much as its strength says, however often one goes over it"),
    ),
)
