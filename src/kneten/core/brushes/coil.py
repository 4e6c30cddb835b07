"""Coil: lays a round cord along the stroke: veins, tendons, roots, lips. Reversed it presses a channel.

Each dab lifts to half an ellipsoid about its middle, and only what does not stand as high already: along a stroke
these run together to a cord, also round corners. The ring is its width, the strength its height. Where the stroke comes back over its own cord, after leaving it, it lies over the old one, a little
sunk into it. It begins and ends thin, over the length of its taper.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.reach import TO_SHARE, Reach, add_push
from kneten.core.rings import keep_even, move_each
from kneten.core.workspace import Workspace

HEIGHT = 0.50
"""Of the cord at full strength, as a share of its half width."""

AWAY = 2.5
"""Radii that a stroke must have gone on before what it left counts as crossed, not as just laid."""

SUNK = 0.55
"""Share of the crossed cord's height that the new one begins at."""

EVEN = 0.08

SPEED = 2.0
"""Share of what is missing that comes over one radius of stroke: a click leaves a knob, not the whole cord."""


@kernel
def ground_normal(
    positions: F32,
    normals: F32,
    origin: F32,
    vertices: I32,
    places: I32,
    weights: F32,
    still: float,
    out: F32,
) -> None:
    """Mean normal of what the stroke has not lifted yet, into `out` (6,)[3:]: the clay the cord lies on.

    The cord itself would tilt it forwards and back, and leave a ridge of ripples. `still` is how far a vertex
    may have come; where all has come farther, all of it counts.
    """
    for step in range(2):
        x = 0.0
        y = 0.0
        z = 0.0
        total = 0.0
        for i in range(vertices.shape[0]):
            v = vertices[i]
            at = places[i]
            dx = positions[v, 0] - origin[at, 0]
            dy = positions[v, 1] - origin[at, 1]
            dz = positions[v, 2] - origin[at, 2]
            if step == 0 and dx * dx + dy * dy + dz * dz > still * still:
                continue
            w = (np.float64(weights[i]) + TO_SHARE) - TO_SHARE
            total += w
            x += (w * normals[v, 0] + TO_SHARE) - TO_SHARE
            y += (w * normals[v, 1] + TO_SHARE) - TO_SHARE
            z += (w * normals[v, 2] + TO_SHARE) - TO_SHARE
        length = np.sqrt(x * x + y * y + z * z)
        if length > 0.0 and (step == 1 or total > 0.02 * vertices.shape[0]):
            out[3] = x / length
            out[4] = y / length
            out[5] = z / length
            break


@kernel
def coil_kernel(
    positions: F32,
    normals: F32,
    means: F64,
    vertices: I32,
    places: I32,
    weights: F32,
    origin: F32,
    trace: F32,
    plane: F32,
    centre: F64,
    radius: float,
    height: float,
    speed: float,
    travel: float,
    push: F64,
    push_weight: F64,
) -> None:
    """Lift vertices onto a round cord along the stroke."""
    sign = 1.0 if height > 0.0 else -1.0
    for i in range(vertices.shape[0]):
        v = vertices[i]
        at = places[i]
        x = positions[v, 0] - centre[0]
        y = positions[v, 1] - centre[1]
        z = positions[v, 2] - centre[2]
        up = x * plane[3] + y * plane[4] + z * plane[5]
        off2 = (x * x + y * y + z * z - up * up) / (radius * radius)
        lift = sign * (
            (positions[v, 0] - origin[at, 0]) * plane[3]
            + (positions[v, 1] - origin[at, 1]) * plane[4]
            + (positions[v, 2] - origin[at, 2]) * plane[5]
        )
        # Trace: how far the stroke was when it was here last (0 never), and what it found here.
        if trace[at, 0] > 0.0 and travel - trace[at, 0] > AWAY * radius:
            trace[at, 1] = SUNK * max(lift, 0.0)
        trace[at, 0] = travel
        # A little softer at its foot than a circle, whose upright sides no mesh can follow.
        round_ = max(1.0 - off2, 0.0) ** 0.6
        wanted = trace[at, 1] + sign * height * round_
        gap = max(wanted - lift, 0.0) if round_ > 0.0 else 0.0
        ex, ey, ez = keep_even(positions, normals, means, i, v, EVEN)
        move = sign * speed * gap / max(np.float64(weights[i]), 0.05)
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
    plane = np.zeros(6, np.float32)
    ground_normal(
        mesh.positions,
        mesh.normals,
        work.origin,
        reach.vertices,
        reach.places,
        reach.weights,
        0.03 * dab.radius,
        plane,
    )
    move_each(
        coil_kernel,
        mesh,
        work,
        reach,
        work.origin,
        work.need_trace(),
        plane,
        dab.centre,
        dab.radius * 0.92,
        dab.strength * dab.radius * HEIGHT,
        min(SPEED * dab.spacing, 1.0),
        dab.travel + 1e-3,
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
