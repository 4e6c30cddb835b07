"""Span: stretches skin across hollows, held by the high places around; reversed it lets it sink to the low ones.

Heights over the brush are gathered on a small grid, the highest of each cell. A skin over these is found that
nowhere lies below them and is straight where it does not touch (the obstacle problem, by relaxation). Hollows
are then drawn up to it. The grid has as many cells whatever the density of the mesh.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool, facing
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, add_push, keep_even, means_of
from kneten.core.workspace import Workspace

CELLS = 11
"""Cells from the middle to the rim."""

SIDE = 2 * CELLS + 1
FINE = 1024
"""Steps to a cell: places are whole numbers of these, so that mirrored dabs give mirrored bits."""

ROUNDS = 90
"""Relaxations: four times a side of the grid, for the skin to become straight across all of it."""

RATE = 4.0


@kernel
def span_kernel(
    positions: F32,
    normals: F32,
    means: F64,
    vertices: I32,
    places: I32,
    weights: F32,
    centre: F64,
    face: F32,
    radius: float,
    sign: float,
    rate: float,
    push: F64,
    push_weight: F64,
) -> None:
    axis = 0
    for a in range(1, 3):
        if abs(face[3 + a]) > abs(face[3 + axis]):
            axis = a
    one = (axis + 1) % 3
    two = (axis + 2) % 3
    up = (1.0 if face[3 + axis] > 0.0 else -1.0) * sign
    cell = CELLS * FINE / radius
    none = -1e30
    high = np.full((SIDE, SIDE), none)
    for i in range(vertices.shape[0]):
        v = vertices[i]
        # What faces the other way belongs to another sheet of clay.
        lean = normals[v, 0] * face[3] + normals[v, 1] * face[4] + normals[v, 2] * face[5]
        if lean <= 0.0:
            continue
        p = int(np.rint((positions[v, one] - centre[one]) * cell / FINE)) + CELLS
        q = int(np.rint((positions[v, two] - centre[two]) * cell / FINE)) + CELLS
        if p < 0 or q < 0 or p >= SIDE or q >= SIDE:
            continue
        h = (np.float64(positions[v, axis]) - centre[axis]) * up
        high[p, q] = max(high[p, q], h)
    skin = high.copy()
    for _ in range(ROUNDS):
        # Both ways in turn, so that heights travel across the grid in few rounds; both from the same state.
        other = skin.copy()
        for p in range(SIDE):
            for q in range(SIDE):
                if high[p, q] == none:
                    continue
                a = skin[p - 1, q] if p > 0 and skin[p - 1, q] > none else skin[p, q]
                b = skin[p + 1, q] if p + 1 < SIDE and skin[p + 1, q] > none else skin[p, q]
                c = skin[p, q - 1] if q > 0 and skin[p, q - 1] > none else skin[p, q]
                d = skin[p, q + 1] if q + 1 < SIDE and skin[p, q + 1] > none else skin[p, q]
                # Taut both ways: the greater of the two straight lines through a place.
                other[p, q] = max(high[p, q], max(0.5 * (a + b), 0.5 * (c + d)))
        skin, other = other, skin
    for i in range(vertices.shape[0]):
        v = vertices[i]
        ex, ey, ez = keep_even(positions, normals, means, i, v, 0.0)
        move = 0.0
        lean = normals[v, 0] * face[3] + normals[v, 1] * face[4] + normals[v, 2] * face[5]
        p = int(np.rint((positions[v, one] - centre[one]) * cell)) + CELLS * FINE
        q = int(np.rint((positions[v, two] - centre[two]) * cell)) + CELLS * FINE
        i0 = p // FINE
        j0 = q // FINE
        if lean > 0.0 and i0 >= 0 and j0 >= 0 and i0 + 1 < SIDE and j0 + 1 < SIDE:
            s = np.float64(p - i0 * FINE) / FINE
            t = np.float64(q - j0 * FINE) / FINE
            h = (np.float64(positions[v, axis]) - centre[axis]) * up
            s00 = skin[i0, j0] if skin[i0, j0] > none else h
            s10 = skin[i0 + 1, j0] if skin[i0 + 1, j0] > none else h
            s01 = skin[i0, j0 + 1] if skin[i0, j0 + 1] > none else h
            s11 = skin[i0 + 1, j0 + 1] if skin[i0 + 1, j0 + 1] > none else h
            wanted = (s00 * (1.0 - s) + s10 * s) * (1.0 - t) + (s01 * (1.0 - s) + s11 * s) * t
            move = max(wanted - h, 0.0) * rate
        along = move * up
        x = ex + (along if axis == 0 else 0.0)
        y = ey + (along if axis == 1 else 0.0)
        z = ez + (along if axis == 2 else 0.0)
        add_push(push, push_weight, places[i], weights[i], x, y, z)


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Draw hollows under the dab up to the skin over the high places around them."""
    span_kernel(
        mesh.positions,
        mesh.normals,
        means_of(mesh, reach),
        reach.vertices,
        reach.places,
        reach.weights,
        dab.centre,
        facing(mesh, reach),
        dab.radius,
        1.0 if dab.strength >= 0 else -1.0,
        min(abs(dab.strength) * RATE * dab.spacing, 0.9),
        work.push,
        work.push_weight,
    )


TOOL = Tool(
    key="span",
    name="Span",
    does="Stretches skin across hollows, from high place to high place",
    displace=displace,
    needs=120,
    defaults=BrushSettings(size=60, strength=0.5, falloff=PRESETS["dome"], spacing=0.15),
    reversed_name="draws high places down to the low ones",
)
