"""Span: stretches skin across hollows, held by the high places around; reversed it lets it sink to the low ones.

Heights over the brush are gathered on a small grid, the mean of each cell. A skin over these is found that nowhere
lies below them and is straight where it does not touch (the obstacle problem, by relaxation). Clay is then lifted by
as much as the skin lies above the cells: not at all where it bulges already. The grid has as many cells whatever
the density of the mesh, and fewer only where the mesh is coarser than they are.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool, facing
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, add_push
from kneten.core.rings import keep_even, means_of
from kneten.core.workspace import Workspace

CELLS = 11
"""Cells from the middle to the rim, where the mesh is fine enough to fill them."""

FEWEST = 3

HEIGHT = float(1 << 24)
"""Heights are summed in whole steps of the radius, so that mirrored dabs give mirrored bits."""

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
    cells: int,
    sign: float,
    rate: float,
    push: F64,
    push_weight: F64,
) -> None:
    """Lift hollows towards the skin that is stretched across them."""
    axis = 0
    for a in range(1, 3):
        if abs(face[3 + a]) > abs(face[3 + axis]):
            axis = a
    one = (axis + 1) % 3
    two = (axis + 2) % 3
    up = (1.0 if face[3 + axis] > 0.0 else -1.0) * sign
    side = 2 * cells + 1
    cell = cells * FINE / radius
    sums = np.zeros((side, side), np.int64)
    counts = np.zeros((side, side), np.int64)
    for i in range(vertices.shape[0]):
        v = vertices[i]
        # What faces the other way belongs to another sheet of clay.
        lean = normals[v, 0] * face[3] + normals[v, 1] * face[4] + normals[v, 2] * face[5]
        if lean <= 0.0:
            continue
        p = int(np.rint((positions[v, one] - centre[one]) * cell / FINE)) + cells
        q = int(np.rint((positions[v, two] - centre[two]) * cell / FINE)) + cells
        if p < 0 or q < 0 or p >= side or q >= side:
            continue
        sums[p, q] += np.int64(
            np.rint((np.float64(positions[v, axis]) - centre[axis]) * up / radius * HEIGHT)
        )
        counts[p, q] += 1
    base = np.zeros((side, side))
    for p in range(side):
        for q in range(side):
            if counts[p, q] > 0:
                base[p, q] = np.float64(sums[p, q]) / np.float64(counts[p, q]) / HEIGHT * radius
    skin = base.copy()
    for _ in range(ROUNDS):
        other = skin.copy()
        for p in range(side):
            for q in range(side):
                if counts[p, q] == 0:
                    continue
                # Taut both ways: the greater of the two straight lines through a place, between places there are.
                best = base[p, q]
                if p > 0 and p + 1 < side and counts[p - 1, q] > 0 and counts[p + 1, q] > 0:
                    best = max(best, 0.5 * (skin[p - 1, q] + skin[p + 1, q]))
                if q > 0 and q + 1 < side and counts[p, q - 1] > 0 and counts[p, q + 1] > 0:
                    best = max(best, 0.5 * (skin[p, q - 1] + skin[p, q + 1]))
                other[p, q] = best
        skin, other = other, skin
    for p in range(side):
        for q in range(side):
            skin[p, q] -= base[p, q]
    for i in range(vertices.shape[0]):
        v = vertices[i]
        ex, ey, ez = keep_even(positions, normals, means, i, v, 0.0)
        move = 0.0
        lean = normals[v, 0] * face[3] + normals[v, 1] * face[4] + normals[v, 2] * face[5]
        p = int(np.rint((positions[v, one] - centre[one]) * cell)) + cells * FINE
        q = int(np.rint((positions[v, two] - centre[two]) * cell)) + cells * FINE
        i0 = p // FINE
        j0 = q // FINE
        if lean > 0.0 and i0 >= 0 and j0 >= 0 and i0 + 1 < side and j0 + 1 < side:
            s = np.float64(p - i0 * FINE) / FINE
            t = np.float64(q - j0 * FINE) / FINE
            lift = (skin[i0, j0] * (1.0 - s) + skin[i0 + 1, j0] * s) * (1.0 - t) + (
                skin[i0, j0 + 1] * (1.0 - s) + skin[i0 + 1, j0 + 1] * s
            ) * t
            move = lift * rate
        along = move * up
        x = ex + (along if axis == 0 else 0.0)
        y = ey + (along if axis == 1 else 0.0)
        z = ez + (along if axis == 2 else 0.0)
        add_push(push, push_weight, places[i], weights[i], x, y, z)


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Draw hollows under the dab up to the skin over the high places around them."""
    if len(reach.vertices) == 0:
        return
    # About two vertices to a cell.
    cells = int(np.clip(np.sqrt(len(reach.vertices) / (2 * np.pi)), FEWEST, CELLS))
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
        cells,
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
