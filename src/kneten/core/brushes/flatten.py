"""Flatten: brings the clay to a plane from both sides."""

from __future__ import annotations

from kneten.core.arrays import F32, F64, I32, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool, measured
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, add_push
from kneten.core.rings import keep_even, move_each
from kneten.core.workspace import Workspace

RATE = 3.0
"""Share of the way to the plane over one radius of stroke at full strength."""


@kernel
def flatten_kernel(
    positions: F32,
    normals: F32,
    means: F64,
    vertices: I32,
    places: I32,
    weights: F32,
    plane: F32,
    rate: float,
    push: F64,
    push_weight: F64,
) -> None:
    """Move vertices towards a plane, from both sides."""
    for i in range(vertices.shape[0]):
        v = vertices[i]
        height = (
            (positions[v, 0] - plane[0]) * plane[3]
            + (positions[v, 1] - plane[1]) * plane[4]
            + (positions[v, 2] - plane[2]) * plane[5]
        )
        move = -height * rate
        ex, ey, ez = keep_even(positions, normals, means, i, v, 0.0)
        x = plane[3] * move + ex
        y = plane[4] * move + ey
        z = plane[5] * move + ez
        add_push(push, push_weight, places[i], weights[i], x, y, z)


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Move what the dab reaches towards the mean plane under it; reversed, away from it."""
    move_each(
        flatten_kernel,
        mesh,
        work,
        reach,
        measured(mesh, reach, dab),
        max(min(dab.strength * RATE * dab.spacing, 0.9), -0.1),
    )


TOOL = Tool(
    key="flatten",
    name="Flatten",
    does="Brings hills and hollows to one plane",
    displace=displace,
    defaults=BrushSettings(size=50, strength=0.5, falloff=PRESETS["flat"], spacing=0.12),
    reversed_name="exaggerates what stands off the plane",
)
