"""Twist: turns what is under the brush about the line of sight."""

from __future__ import annotations

from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.brushes.turns import twist_kernel
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, over
from kneten.core.workspace import Workspace


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Turn what was grabbed by `dab.strength` radians about `dab.view`."""
    over(
        reach,
        lambda rows: twist_kernel(
            work.origin,
            reach.places[rows],
            reach.weights[rows],
            dab.centre,
            dab.view,
            dab.strength,
            work.push,
            work.push_weight,
        ),
    )


TOOL = Tool(
    key="twist",
    name="Twist",
    does="Turns what is under the brush: drag sideways, or round",
    displace=displace,
    defaults=BrushSettings(size=90, strength=1.0, pressure_strength=False),
    holds=True,
    gesture="turn",
)
