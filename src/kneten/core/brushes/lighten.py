"""Lighten: makes colours lighter."""

from __future__ import annotations

from kneten.core.brushes.mask import displace
from kneten.core.brushes.tool import BrushSettings, Tool

TOOL = Tool(
    key="lighten",
    name="Lighten",
    does="Makes colours lighter; their hue stays",
    displace=displace,
    needs=20,
    defaults=BrushSettings(size=45, strength=0.3, spacing=0.12, front_only=True),
    reversed_name="darkens",
    changes="paint",
    paints="lighten",
    variants=(
        ("", "Build up", "Covers more each time one goes over it"),
        ("wash", "Wash", "One stroke covers as much as its strength says, however often one goes over it"),
    ),
)
