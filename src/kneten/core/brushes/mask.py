"""Mask: paints what protects the clay; reversed it frees."""

from __future__ import annotations

from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach
from kneten.core.workspace import Workspace


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Nothing: what it does to the mask is in `value_stroke`."""


TOOL = Tool(
    key="mask",
    name="Mask",
    does="Paints what protects the clay from all tools",
    displace=displace,
    needs=20,
    defaults=BrushSettings(size=45, strength=1.0, falloff=PRESETS["flat"], spacing=0.12),
    reversed_name="frees it",
    changes="mask",
)
