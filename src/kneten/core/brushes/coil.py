"""Coil: lays a round cord along the stroke: veins, tendons, roots, lips. Reversed it presses a channel.

The cord's cross-section is half an ellipse over the stroke's line: the ring is its width, the strength its
height. Where the stroke comes back over its own cord, after leaving it, it lies over the old one, a little
sunk into it. It begins and ends thin, over the length of its taper.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool, stroke_line
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, add_push, keep_even, means_of
from kneten.core.workspace import Workspace

HEIGHT = 0.85
"""Of the cord at full strength, as a share of its half width."""

AWAY = 2.5
"""Radii that a stroke must have gone on before what it left counts as crossed, not as just laid."""

SUNK = 0.55
"""Share of the crossed cord's height that the new one begins at."""

EVEN = 0.08


@kernel
def coil_kernel(
    positions: F32,
    normals: F32,
    means: F64,
    origin: F32,
    trace: F32,
    vertices: I32,
    places: I32,
    weights: F32,
    plane: F32,
    centre: F64,
    along: F64,
    radius: float,
    height: float,
    travel: float,
    push: F64,
    push_weight: F64,
) -> None:
    sign = 1.0 if height > 0.0 else -1.0
    for i in range(vertices.shape[0]):
        v = vertices[i]
        at = places[i]
        x = positions[v, 0] - centre[0]
        y = positions[v, 1] - centre[1]
        z = positions[v, 2] - centre[2]
        up = x * plane[3] + y * plane[4] + z * plane[5]
        on = x * along[0] + y * along[1] + z * along[2]
        x -= up * plane[3] + on * along[0]
        y -= up * plane[4] + on * along[1]
        z -= up * plane[5] + on * along[2]
        off2 = (x * x + y * y + z * z) / (radius * radius)
        lift = sign * (
            (positions[v, 0] - origin[at, 0]) * plane[3]
            + (positions[v, 1] - origin[at, 1]) * plane[4]
            + (positions[v, 2] - origin[at, 2]) * plane[5]
        )
        # Trace: how far the stroke was when it was here last (0 never), and what it found here.
        if trace[at, 0] > 0.0 and travel - trace[at, 0] > AWAY * radius:
            trace[at, 1] = SUNK * max(lift, 0.0)
        trace[at, 0] = travel
        round_ = np.sqrt(max(1.0 - off2, 0.0))
        wanted = trace[at, 1] + sign * height * round_
        # Only the slice of the cord across the dab's middle is made by this dab.
        near = max(1.0 - (on / (0.35 * radius)) ** 2, 0.0)
        gap = max(wanted - lift, 0.0) * near
        ex, ey, ez = keep_even(positions, normals, means, i, v, EVEN)
        move = sign * gap / max(np.float64(weights[i]), 0.05)
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
    """Lift what the dab reaches to the cord's round section."""
    plane, centre, along = stroke_line(mesh, reach, dab)
    coil_kernel(
        mesh.positions,
        mesh.normals,
        means_of(mesh, reach),
        work.origin,
        work.need_trace(),
        reach.vertices,
        reach.places,
        reach.weights,
        plane,
        centre,
        along,
        dab.radius * 0.92,
        dab.strength * dab.radius * HEIGHT,
        dab.travel + 1e-3,
        work.push,
        work.push_weight,
    )


TOOL = Tool(
    key="coil",
    name="Coil",
    does="Lays a round cord along the stroke, thin at both ends",
    displace=displace,
    needs=90,
    defaults=BrushSettings(size=22, strength=0.6, falloff=PRESETS["flat"], spacing=0.1, taper=2.0),
    reversed_name="presses a round channel",
)
