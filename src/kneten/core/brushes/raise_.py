"""Raise: lifts along the surface; reversed it sinks."""

from __future__ import annotations

from kneten.core.arrays import F32, F64, I32, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool, facing
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, add_push
from kneten.core.rings import keep_even, move_each
from kneten.core.workspace import Workspace

HEIGHT = 0.30
"""Height a full-strength pass leaves, as a share of the radius (about; the falloff decides)."""

EVEN = 0.06
"""Share by which each dab evens the spacing along the surface. Without it, 200 strokes on one spot
leave edges nine times as long as their neighbours."""


@kernel
def raise_kernel(
    positions: F32,
    normals: F32,
    means: F64,
    vertices: I32,
    places: I32,
    weights: F32,
    plane: F32,
    amount: float,
    push: F64,
    push_weight: F64,
) -> None:
    """Lift vertices along one direction."""
    for i in range(vertices.shape[0]):
        ex, ey, ez = keep_even(positions, normals, means, i, vertices[i], EVEN)
        add_push(
            push,
            push_weight,
            places[i],
            weights[i],
            plane[3] * amount + ex,
            plane[4] * amount + ey,
            plane[5] * amount + ez,
        )


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Lift what the dab reaches along the mean normal under it."""
    move_each(
        raise_kernel,
        mesh,
        work,
        reach,
        facing(mesh, reach),
        dab.strength * dab.radius * HEIGHT * dab.spacing,
    )


TOOL = Tool(
    key="raise",
    name="Raise",
    does="Lifts the clay along the surface",
    displace=displace,
    defaults=BrushSettings(size=55, strength=0.5, spacing=0.12),
    reversed_name="sinks",
)
