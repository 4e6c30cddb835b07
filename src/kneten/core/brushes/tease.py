"""Tease: draws out horns, hair tips, fingers, adding surface as it goes."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, add_push
from kneten.core.rings import keep_even, move_each
from kneten.core.workspace import Workspace

NARROWING = 0.28
"""Share of its width that what is drawn out loses over one radius at full strength: a horn of five radii ends at
a fifth of its width."""

EVENING = 0.12
"""Share of the way to the middle of its ring, along the surface, that a vertex goes in a step of the length of the
radius's eighth: what is drawn out would bunch up behind the tip otherwise."""


def narrowed(radius: float, way: float, strength: float) -> float:
    """The radius after drawing out by a length `way`."""
    return radius * float(np.exp(-NARROWING * strength * way / radius))


@kernel
def tease_kernel(
    positions: F32,
    normals: F32,
    means: F64,
    vertices: I32,
    places: I32,
    weights: F32,
    centre: F64,
    along: F64,
    axis: F64,
    narrow: float,
    push: F64,
    push_weight: F64,
) -> None:
    """Draw vertices out to a point along the way of the pointer."""
    for i in range(vertices.shape[0]):
        v = vertices[i]
        x = positions[v, 0] - centre[0]
        y = positions[v, 1] - centre[1]
        z = positions[v, 2] - centre[2]
        on = x * axis[0] + y * axis[1] + z * axis[2]
        ex, ey, ez = keep_even(positions, normals, means, i, v, EVENING)
        add_push(
            push,
            push_weight,
            places[i],
            weights[i],
            along[0] - narrow * (x - on * axis[0]) + ex,
            along[1] - narrow * (y - on * axis[1]) + ey,
            along[2] - narrow * (z - on * axis[2]) + ez,
        )


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Bring what the dab reaches along by `dab.along`, and nearer to its line by the strength."""
    way = float(np.linalg.norm(dab.along))
    axis = dab.along / way if way > 0 else np.zeros(3)
    move_each(
        tease_kernel,
        mesh,
        work,
        reach,
        dab.centre,
        dab.along,
        axis,
        float(1.0 - np.exp(-NARROWING * dab.strength * way / dab.radius)),
    )


TOOL = Tool(
    key="tease",
    name="Tease",
    does="Draws out horns, tips and fingers, adding surface as it goes; the stronger, the sharper the tip",
    displace=displace,
    defaults=BrushSettings(size=45, strength=0.5, pressure_strength=False, falloff=PRESETS["dome"]),
    density="grow",
    whole=True,
)
