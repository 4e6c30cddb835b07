"""Bend: bends what is under the brush like a bow, in the plane of the picture."""

from __future__ import annotations

import numpy as np

from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.brushes.turns import bend_kernel
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, over
from kneten.core.workspace import Workspace


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Bend what was grabbed by `dab.strength` radians at a radius from its middle, its ends along `dab.along`.

    The axis is `dab.view`; what is bent lies square to the drag.
    """
    long = np.cross(dab.view, dab.along)
    length = float(np.sqrt(long @ long))
    if length < 1e-12:
        return
    axis = long / length
    over(
        reach,
        lambda rows: bend_kernel(
            work.origin,
            reach.places[rows],
            reach.weights[rows],
            dab.centre,
            dab.view,
            axis,
            dab.radius,
            dab.strength,
            work.push,
            work.push_weight,
        ),
    )


TOOL = Tool(
    key="bend",
    name="Bend",
    does="Bends what is under the brush like a bow, to where it is dragged",
    displace=displace,
    defaults=BrushSettings(size=110, strength=1.0, pressure_strength=False, falloff=PRESETS["flat"]),
    holds=True,
    whole=True,
    gesture="bend",
)
