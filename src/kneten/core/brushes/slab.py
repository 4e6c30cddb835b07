"""Slab: lays an even thickness, however often one goes over it; reversed it takes one off."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool, facing
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, add_push
from kneten.core.rings import keep_even, move_each
from kneten.core.workspace import Workspace

THICKNESS = 0.30
"""Of the slab at full strength, as a share of the radius."""

EVEN = 0.04

SPEED = 2.6
"""Share of what is missing that comes over one radius of stroke: a click leaves a mark, not the whole slab."""


@kernel
def slab_kernel(
    positions: F32,
    normals: F32,
    means: F64,
    vertices: I32,
    places: I32,
    weights: F32,
    origin: F32,
    plane: F32,
    thickness: float,
    speed: float,
    push: F64,
    push_weight: F64,
) -> None:
    """Lift vertices to an even thickness over where they began."""
    sign = 1.0 if thickness > 0.0 else -1.0
    for i in range(vertices.shape[0]):
        v = vertices[i]
        at = places[i]
        # How far the stroke has lifted this place already, along the surface's mean normal.
        lift = (
            (positions[v, 0] - origin[at, 0]) * plane[3]
            + (positions[v, 1] - origin[at, 1]) * plane[4]
            + (positions[v, 2] - origin[at, 2]) * plane[5]
        )
        w = np.float64(weights[i])
        gap = (thickness * w - lift) * sign
        ex, ey, ez = keep_even(positions, normals, means, i, v, EVEN)
        # The weight is in the gap: it says how high, not how fast.
        move = max(gap, 0.0) * speed * sign / max(w, 1e-6)
        add_push(
            push,
            push_weight,
            at,
            weights[i],
            plane[3] * move + ex,
            plane[4] * move + ey,
            plane[5] * move + ez,
        )


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Lift what the dab reaches to the slab's height over where the stroke found it."""
    move_each(
        slab_kernel,
        mesh,
        work,
        reach,
        work.origin,
        facing(mesh, reach),
        dab.strength * dab.radius * THICKNESS,
        min(SPEED * dab.spacing, 1.0),
    )


TOOL = Tool(
    key="slab",
    name="Slab",
    does="Lays clay of one even thickness, however often one goes over it",
    displace=displace,
    needs=60,
    defaults=BrushSettings(size=50, strength=0.5, falloff=PRESETS["flat"], spacing=0.12),
    reversed_name="takes an even thickness off",
)
