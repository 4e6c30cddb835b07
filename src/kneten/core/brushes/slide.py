"""Slide: moves points along the surface without changing the form; reversed it pushes them the other way."""

from __future__ import annotations

import numpy as np

from kneten.core.brushes.stay import stay
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach
from kneten.core.rings import means_of
from kneten.core.workspace import Workspace

EVEN = 0.12
"""Share by which each dab evens the spacing, so that many strokes do not pile vertices up."""


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Take what the dab reaches along with the stroke, over the surface."""
    wish = EVEN * (means_of(mesh, reach)[:, :3] - mesh.positions[reach.vertices])
    wish += dab.along * float(np.clip(dab.strength, -1.0, 1.0))
    stay(mesh, work, reach, wish)


TOOL = Tool(
    key="slide",
    name="Slide",
    does="Moves points along the surface without changing the form",
    displace=displace,
    defaults=BrushSettings(
        size=60, strength=1.0, falloff=PRESETS["soft"], spacing=0.08, pressure_strength=False
    ),
    reversed_name="pushes points against the stroke",
)
