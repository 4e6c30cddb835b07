"""Pellet: adds clay in flat-topped dabs that fill hollows first; reversed it takes clay away."""

from __future__ import annotations

from kneten.core.arrays import F32, F64, I32, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool, measured
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, add_push
from kneten.core.rings import keep_even, move_each
from kneten.core.workspace import Workspace

THICKNESS = 0.068
"""How far above the mean surface a full-strength dab's flat top lies, as a share of the radius."""

RATE = 3.2
"""Share of the gap to the top that is filled over one radius of stroke."""

EVEN = 0.05


@kernel
def pellet_kernel(
    positions: F32,
    normals: F32,
    means: F64,
    vertices: I32,
    places: I32,
    weights: F32,
    plane: F32,
    top: float,
    rate: float,
    push: F64,
    push_weight: F64,
) -> None:
    """Lift vertices towards a flat top, those in hollows first."""
    for i in range(vertices.shape[0]):
        v = vertices[i]
        height = (
            (positions[v, 0] - plane[0]) * plane[3]
            + (positions[v, 1] - plane[1]) * plane[4]
            + (positions[v, 2] - plane[2]) * plane[5]
        )
        gap = (top - height) * rate
        # Only towards the top: what already stands above it stays.
        if (top > 0.0 and gap < 0.0) or (top < 0.0 and gap > 0.0):
            gap = 0.0
        ex, ey, ez = keep_even(positions, normals, means, i, v, EVEN)
        add_push(
            push,
            push_weight,
            places[i],
            weights[i],
            plane[3] * gap + ex,
            plane[4] * gap + ey,
            plane[5] * gap + ez,
        )


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Fill (or shave) towards a plane a little above (below) the mean surface under the dab."""
    move_each(
        pellet_kernel,
        mesh,
        work,
        reach,
        measured(mesh, reach, dab),
        dab.strength * dab.radius * THICKNESS,
        min(RATE * dab.spacing, 1.0),
    )


TOOL = Tool(
    key="pellet",
    name="Pellet",
    does="Adds clay in flat-topped dabs that fill hollows first",
    displace=displace,
    needs=60,
    defaults=BrushSettings(size=45, strength=0.55, falloff=PRESETS["flat"], spacing=0.12),
    reversed_name="takes clay off high places first",
)
