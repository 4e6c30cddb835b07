"""Refine and Coarsen: make the mesh denser or sparser under the brush, and leave the form as it is."""

from __future__ import annotations

from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach
from kneten.core.workspace import Workspace


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Move nothing: the density comes with the dab (`Dab.detail`)."""


TOOL = Tool(
    key="refine",
    name="Refine",
    does="Makes the mesh denser under the brush, down to the detail size",
    displace=displace,
    defaults=BrushSettings(size=60, strength=1.0, spacing=0.4, pressure_strength=False),
    needs=1,
    density="refine",
)
