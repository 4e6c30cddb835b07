"""Paint: lays the colour in hand."""

from __future__ import annotations

from kneten.core.brushes.mask import displace
from kneten.core.brushes.tool import BrushSettings, Tool

TOOL = Tool(
    key="paint",
    name="Paint",
    does="Lays the colour in hand on the clay",
    displace=displace,
    needs=20,
    defaults=BrushSettings(size=45, strength=0.6, spacing=0.12, front_only=True),
    reversed_name="takes it off",
    changes="paint",
    paints="paint",
    variants=(
        ("", "Build up", "Covers more each time one goes over it"),
        ("wash", "Wash", "One stroke covers as much as its strength says, however often one goes over it"),
    ),
)
