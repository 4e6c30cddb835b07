"""Pinch: draws points towards the stroke's centre line, sharpening and straightening it."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool, stroke_line
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, add_push
from kneten.core.rings import keep_even, move_each
from kneten.core.workspace import Workspace

GATHER = 1.3
"""Share by which points come closer to the line over one radius of stroke at full strength."""

ROOM = 0.004
"""Shortest spacing pinching may leave, as a share of the radius; closer points are let go."""


@kernel
def pinch_kernel(
    positions: F32,
    normals: F32,
    means: F64,
    vertices: I32,
    places: I32,
    weights: F32,
    plane: F32,
    centre: F64,
    along: F64,
    gather: float,
    room: float,
    push: F64,
    push_weight: F64,
) -> None:
    """Draw vertices towards the stroke's centre line."""
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
        if gather > 0.0:
            # The nearest row stops at `room` from the line; every next row would pile up on it,
            # so each gives way along the surface to the mean of its ring.
            pull = gather * min(max((off - room) / (off + room), 0.0), 1.0)
        mx = means[i, 0] - positions[v, 0]
        my = means[i, 1] - positions[v, 1]
        mz = means[i, 2] - positions[v, 2]
        ex, ey, ez = keep_even(positions, normals, means, i, v, 0.0)
        back = mx * along[0] + my * along[1] + mz * along[2]
        add_push(
            push,
            push_weight,
            places[i],
            weights[i],
            x * pull + 0.1 * back * along[0] + ex,
            y * pull + 0.1 * back * along[1] + ey,
            z * pull + 0.1 * back * along[2] + ez,
        )


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Draw what the dab reaches sideways towards the stroke's line; reversed, push it apart."""
    move_each(
        pinch_kernel,
        mesh,
        work,
        reach,
        *stroke_line(mesh, reach, dab),
        max(min(dab.strength * GATHER * dab.spacing, 0.5), -0.2),
        ROOM * dab.radius,
    )


TOOL = Tool(
    key="pinch",
    name="Pinch",
    does="Draws the clay towards the stroke's line, sharpening and straightening it",
    displace=displace,
    needs=90,
    defaults=BrushSettings(size=40, strength=0.5, spacing=0.1),
    reversed_name="pushes apart",
)
