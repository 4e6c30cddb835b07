"""Score: cuts a narrow sharp groove; reversed it raises a sharp ridge."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool, stroke_line
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, add_push
from kneten.core.rings import keep_even, move_each
from kneten.core.workspace import Workspace

DEPTH = 1.0
"""Cut over one radius of stroke at full strength, as a share of the radius."""

GATHER = 1.1
"""Share by which points come closer to the stroke's line over one radius of stroke."""

CLOSEST = 0.01
"""Points nearer to the line than this share of the radius are left alone, so that repeated strokes
do not collapse triangles."""


@kernel
def score_kernel(
    positions: F32,
    normals: F32,
    means: F64,
    vertices: I32,
    places: I32,
    weights: F32,
    plane: F32,
    centre: F64,
    along: F64,
    depth: float,
    gather: float,
    closest: float,
    push: F64,
    push_weight: F64,
) -> None:
    """Cut a narrow groove along the stroke, and draw its flanks together."""
    for i in range(vertices.shape[0]):
        v = vertices[i]
        x = centre[0] - positions[v, 0]
        y = centre[1] - positions[v, 1]
        z = centre[2] - positions[v, 2]
        up = x * plane[3] + y * plane[4] + z * plane[5]
        on = x * along[0] + y * along[1] + z * along[2]
        x -= up * plane[3] + on * along[0]
        y -= up * plane[4] + on * along[1]
        z -= up * plane[5] + on * along[2]
        off = np.sqrt(x * x + y * y + z * z)
        pull = gather
        if off < closest:
            pull = 0.0
        ex, ey, ez = keep_even(positions, normals, means, i, v, 0.0)
        add_push(
            push,
            push_weight,
            places[i],
            weights[i],
            x * pull - plane[3] * depth + ex,
            y * pull - plane[4] * depth + ey,
            z * pull - plane[5] * depth + ez,
        )


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Push down in the middle and draw both sides in towards the stroke's line."""
    move_each(
        score_kernel,
        mesh,
        work,
        reach,
        *stroke_line(mesh, reach, dab),
        dab.strength * dab.radius * DEPTH * dab.spacing,
        min(abs(dab.strength) * GATHER * dab.spacing, 0.5),
        CLOSEST * dab.radius,
    )


TOOL = Tool(
    key="score",
    name="Score",
    does="Cuts a narrow, sharp groove",
    displace=displace,
    needs=160,
    defaults=BrushSettings(taper=1.5, size=26, strength=0.5, falloff=PRESETS["sharp"], spacing=0.08),
    reversed_name="raises a sharp ridge",
)
