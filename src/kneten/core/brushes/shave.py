"""Shave: planes off only what stands above; reversed it fills only what lies below."""

from __future__ import annotations

from kneten.core.arrays import F32, F64, I32, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool, measured
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, add_push
from kneten.core.rings import keep_even, move_each
from kneten.core.workspace import Workspace

RATE = 3.6
"""Share of the way to the plane over one radius of stroke at full strength."""

BELOW = 0.012
"""How far below the mean surface the plane lies, as a share of the radius: without it a stroke only ever
nears the mean and never cuts into even clay."""


@kernel
def shave_kernel(
    positions: F32,
    normals: F32,
    means: F64,
    vertices: I32,
    places: I32,
    weights: F32,
    plane: F32,
    level: float,
    rate: float,
    push: F64,
    push_weight: F64,
) -> None:
    """Lower what stands above a plane."""
    for i in range(vertices.shape[0]):
        v = vertices[i]
        height = (
            (positions[v, 0] - plane[0]) * plane[3]
            + (positions[v, 1] - plane[1]) * plane[4]
            + (positions[v, 2] - plane[2]) * plane[5]
            - level
        )
        move = 0.0
        if height * rate > 0.0:
            move = -height * abs(rate)
        ex, ey, ez = keep_even(positions, normals, means, i, v, 0.0)
        add_push(
            push,
            push_weight,
            places[i],
            weights[i],
            plane[3] * move + ex,
            plane[4] * move + ey,
            plane[5] * move + ez,
        )


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Bring what stands above a plane a little below the mean surface down to it; reversed, mirrored."""
    sign = 1.0 if dab.strength >= 0 else -1.0
    move_each(
        shave_kernel,
        mesh,
        work,
        reach,
        measured(mesh, reach, dab),
        -sign * BELOW * dab.radius,
        sign * min(abs(dab.strength) * RATE * dab.spacing, 0.9),
    )


TOOL = Tool(
    key="shave",
    name="Shave",
    does="Planes off only what stands above",
    displace=displace,
    defaults=BrushSettings(size=50, strength=0.5, falloff=PRESETS["flat"], spacing=0.12),
    reversed_name="fills only what lies below",
)
