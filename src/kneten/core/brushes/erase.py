"""Erase: takes paint off the layer in hand; off the base, down to bare clay."""

from __future__ import annotations

from kneten.core.brushes.mask import displace
from kneten.core.brushes.tool import BrushSettings, Tool

TOOL = Tool(
    key="erase",
    name="Erase",
    does="Takes paint off the layer in hand, or the clay's own colour down to bare clay",
    displace=displace,
    needs=20,
    defaults=BrushSettings(size=45, strength=0.8, spacing=0.12, front_only=True),
    reversed_name="",
    changes="paint",
    paints="erase",
    variants=(
        ("", "Build up", "Covers more each time one goes over it"),
        ("wash", "Wash", "One stroke covers as much as its strength says, however often one goes over it"),
    ),
)
