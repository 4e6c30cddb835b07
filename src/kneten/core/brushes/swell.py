"""Swell: makes what is under the brush larger or smaller about the place it was grabbed."""

from __future__ import annotations

from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.brushes.turns import swell_kernel
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, over
from kneten.core.workspace import Workspace


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Scale what was grabbed by 1 + `dab.strength`."""
    over(
        reach,
        lambda rows: swell_kernel(
            work.origin,
            reach.places[rows],
            reach.weights[rows],
            dab.centre,
            dab.strength,
            work.push,
            work.push_weight,
        ),
    )


TOOL = Tool(
    key="swell",
    name="Swell",
    does="Makes what is under the brush larger or smaller: drag sideways",
    displace=displace,
    defaults=BrushSettings(size=90, strength=1.0, pressure_strength=False),
    holds=True,
    whole=True,
    gesture="scale",
)
