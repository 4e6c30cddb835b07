"""Restore: takes back what a layer or the work since a milestone did, under the brush; reversed it does it once more."""

from __future__ import annotations

from kneten.core.arrays import F32, F64, I32, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, add_push, over
from kneten.core.workspace import Workspace

RATE = 3.0
"""Share of the way back over one radius of stroke at full strength."""


@kernel
def restore_kernel(
    positions: F32,
    before: F32,
    vertices: I32,
    places: I32,
    weights: F32,
    rate: float,
    push: F64,
    push_weight: F64,
) -> None:
    """Bring vertices back to where they were."""
    for i in range(vertices.shape[0]):
        v = vertices[i]
        add_push(
            push,
            push_weight,
            places[i],
            weights[i],
            (before[v, 0] - positions[v, 0]) * rate,
            (before[v, 1] - positions[v, 1]) * rate,
            (before[v, 2] - positions[v, 2]) * rate,
        )


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Bring what the dab reaches towards where it was; nothing when the mesh was another then."""
    before = work.before
    if before is None:
        return
    share = max(min(dab.strength * RATE * dab.spacing, 0.9), -0.1)
    over(
        reach,
        lambda rows: restore_kernel(
            mesh.positions,
            before,
            reach.vertices[rows],
            reach.places[rows],
            reach.weights[rows],
            share,
            work.push,
            work.push_weight,
        ),
    )


TOOL = Tool(
    key="restore",
    name="Restore",
    does="Takes back what was done on the layer, or since the newest milestone",
    displace=displace,
    defaults=BrushSettings(size=60, strength=0.6, falloff=PRESETS["soft"], spacing=0.15),
    reversed_name="does more of what was done",
    needs_before=True,
)
