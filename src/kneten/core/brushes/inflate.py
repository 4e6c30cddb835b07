"""Inflate: moves each point along its own normal."""

from __future__ import annotations

from kneten.core.arrays import F32, F64, I32, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, add_push
from kneten.core.rings import keep_even, move_each
from kneten.core.workspace import Workspace

SWELL = 0.86 * 0.26
"""Growth over one radius of stroke at full strength, as a share of the radius."""

EVEN = 0.10
"""Share of the ring's mean mixed in. Own normals scatter as soon as the surface is rough; without
this, roughness doubles every ten dabs and ends in spikes."""


@kernel
def inflate_kernel(
    positions: F32,
    normals: F32,
    means: F64,
    vertices: I32,
    places: I32,
    weights: F32,
    amount: float,
    push: F64,
    push_weight: F64,
) -> None:
    """Move each vertex along its own normal."""
    for i in range(vertices.shape[0]):
        v = vertices[i]
        mx = means[i, 0]
        my = means[i, 1]
        mz = means[i, 2]
        ex, ey, ez = keep_even(positions, normals, means, i, v, 0.0)
        add_push(
            push,
            push_weight,
            places[i],
            weights[i],
            normals[v, 0] * amount + EVEN * (mx - positions[v, 0]) + ex,
            normals[v, 1] * amount + EVEN * (my - positions[v, 1]) + ey,
            normals[v, 2] * amount + EVEN * (mz - positions[v, 2]) + ez,
        )


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Move every vertex the dab reaches along its own normal."""
    move_each(
        inflate_kernel,
        mesh,
        work,
        reach,
        dab.strength * dab.radius * SWELL * dab.spacing,
    )


TOOL = Tool(
    key="inflate",
    name="Inflate",
    does="Swells the clay: every point moves along its own normal",
    displace=displace,
    defaults=BrushSettings(size=50, strength=0.5, falloff=PRESETS["dome"], spacing=0.12),
    reversed_name="shrinks",
)
