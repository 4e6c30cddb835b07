"""Burnish: smooths faces and keeps their edges: crisp, carved planes.

As Smooth, positions and normals are gathered on a grid over the brush, but apart for each of the eight octants
that a normal can point into. A vertex then reads the nodes around it, and of these only what faces nearly as it
does: across an edge nothing mixes, along a face everything does (a bilateral filter of normals; Zheng, Fu,
Au, Tai 2011). It moves to the plane it so belongs to, and an edge becomes what two planes leave.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, I64, inlined, kernel
from kneten.core.brushes.smooth import SIDE, VALUE, node, steps
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, add_push, gathered, over
from kneten.core.rings import keep_even, means_of
from kneten.core.workspace import Workspace

SHARPNESS = 2.5
"""How fast clay that faces elsewhere loses its say, `(1 - SHARPNESS * (1 - cosine)) ** 16`: at 20 degrees it has
a fourteenth, at 30 a five hundredth, at 53 none."""

ROUND = 1.5 * 2.0**52
"""Adding this and taking it away rounds to a whole number, alike on both sides of zero."""

RATE = 5.0

EDGED = 0.06
"""Square of how far off the middle of its ring, in edges, a vertex counts as standing on an edge: half of what an
edge of 90 degrees has."""


OCTANTS = 8
"""Groups of clay by the signs of its normal: planes that meet in an edge mostly lie in different ones."""


@inlined
def signs(value: np.int64) -> tuple[int, int]:
    """The halves a number lies in, as a range: 0 below zero, 1 above, both at zero."""
    return (1 if value > 0 else 0), (1 if value < 0 else 2)


@kernel
def burnish_splat(
    positions: F32, normals: F32, means: F64, vertices: I32, centre: F64, radius: float, grid: I64
) -> None:
    """Add weight, position and normal of every vertex to the eight nodes around it, in its octant.

    What stands on an edge says nothing of the planes beside it: it counts the less, the farther it stands off
    the middle of its ring.
    """
    for i in range(vertices.shape[0]):
        v = vertices[i]
        x = positions[v, 0] - centre[0]
        y = positions[v, 1] - centre[1]
        z = positions[v, 2] - centre[2]
        qx = steps(x, radius)
        qy = steps(y, radius)
        qz = steps(z, radius)
        px = np.int64(np.rint(x / radius * VALUE))
        py = np.int64(np.rint(y / radius * VALUE))
        pz = np.int64(np.rint(z / radius * VALUE))
        nx = np.int64(np.rint(normals[v, 0] * VALUE))
        ny = np.int64(np.rint(normals[v, 1] * VALUE))
        nz = np.int64(np.rint(normals[v, 2] * VALUE))
        mx = means[i, 0] - positions[v, 0]
        my = means[i, 1] - positions[v, 1]
        mz = means[i, 2] - positions[v, 2]
        rise = mx * normals[v, 0] + my * normals[v, 1] + mz * normals[v, 2]
        flat = np.int64(np.rint(64.0 * max(1.0 - rise * rise / max(means[i, 3] * EDGED, 1e-30), 0.0)))
        if flat == 0:
            continue
        # A number that is 0 has both signs: so what lies on the seam mirrors onto itself.
        x0, x1 = signs(nx)
        y0, y1 = signs(ny)
        z0, z1 = signs(nz)
        for corner in range(8):
            index, weight = node(qx, qy, qz, corner)
            w = (weight >> 20) * flat
            for sz in range(z0, z1):
                for sy in range(y0, y1):
                    for sx in range(x0, x1):
                        side = sx | sy << 1 | sz << 2
                        grid[side, index, 0] += w
                        grid[side, index, 1] += w * px
                        grid[side, index, 2] += w * py
                        grid[side, index, 3] += w * pz
                        grid[side, index, 4] += w * nx
                        grid[side, index, 5] += w * ny
                        grid[side, index, 6] += w * nz


@kernel
def means_of_nodes(grid: I64, out: F64) -> None:
    """Each node's weight, mean place (in radii) and mean unit normal."""
    for s in range(grid.shape[0]):
        for k in range(grid.shape[1]):
            total = np.float64(grid[s, k, 0])
            out[s, k, 0] = total
            if total <= 0.0:
                continue
            for a in range(3):
                out[s, k, 1 + a] = grid[s, k, 1 + a] / (total * VALUE)
            x = np.float64(grid[s, k, 4])
            y = np.float64(grid[s, k, 5])
            z = np.float64(grid[s, k, 6])
            length = max(np.sqrt(x * x + y * y + z * z), 1e-30)
            out[s, k, 4] = x / length
            out[s, k, 5] = y / length
            out[s, k, 6] = z / length


@kernel
def burnish_slice(
    positions: F32,
    normals: F32,
    means: F64,
    vertices: I32,
    places: I32,
    weights: F32,
    centre: F64,
    radius: float,
    nodes: F64,
    rate: float,
    push: F64,
    push_weight: F64,
) -> None:
    """Smooth a slice of what a dab reaches by planes fitted around each vertex; edges between planes stay."""
    for i in range(vertices.shape[0]):
        v = vertices[i]
        x = (positions[v, 0] - centre[0]) / radius
        y = (positions[v, 1] - centre[1]) / radius
        z = (positions[v, 2] - centre[2]) / radius
        nx = np.float64(normals[v, 0])
        ny = np.float64(normals[v, 1])
        nz = np.float64(normals[v, 2])
        qx = steps(positions[v, 0] - centre[0], radius)
        qy = steps(positions[v, 1] - centre[1], radius)
        qz = steps(positions[v, 2] - centre[2], radius)
        # Sums over the corners are taken in pairs that a mirrored dab only exchanges, and rounded.
        total = 0.0
        off = 0.0
        fx = 0.0
        fy = 0.0
        fz = 0.0
        # Its own octant and those beyond its two smaller numbers: there lies what faces nearly as it does.
        greatest = 0
        if abs(ny) > abs(nx) and abs(ny) >= abs(nz):
            greatest = 1
        elif abs(nz) > abs(nx) and abs(nz) > abs(ny):
            greatest = 2
        keep = 1 << greatest
        want = keep if (nx, ny, nz)[greatest] > 0.0 else 0
        for corner in range(8):
            index, weight = node(qx, qy, qz, corner)
            share = weight / float(1 << 30)
            for s in range(OCTANTS):
                many = nodes[s, index, 0]
                if s & keep != want or many <= 0.0:
                    continue
                mx = nodes[s, index, 4]
                my = nodes[s, index, 5]
                mz = nodes[s, index, 6]
                like = nx * mx + ny * my + nz * mz
                say = 1.0 - SHARPNESS * max(1.0 - like, 0.0)
                if say <= 0.0:
                    continue
                say *= say
                say *= say
                say *= say
                w = share * many * (say * say)
                height = (
                    (nodes[s, index, 1] - x) * mx
                    + (nodes[s, index, 2] - y) * my
                    + (nodes[s, index, 3] - z) * mz
                )
                total += (w * 64.0 + ROUND) - ROUND
                off += (w * height * 65536.0 + ROUND) - ROUND
                fx += (w * mx * 1024.0 + ROUND) - ROUND
                fy += (w * my * 1024.0 + ROUND) - ROUND
                fz += (w * mz * 1024.0 + ROUND) - ROUND
        ex, ey, ez = keep_even(positions, normals, means, i, v, 0.03)
        move = 0.0
        length = np.sqrt(fx * fx + fy * fy + fz * fz)
        if total > 0.0 and length > 0.0:
            move = off / (total / 64.0) / 65536.0 * radius * rate / length
        add_push(push, push_weight, places[i], weights[i], fx * move + ex, fy * move + ey, fz * move + ez)


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Bring what the dab reaches to the planes it already nearly lies in."""
    if len(reach.vertices) == 0:
        return
    means = means_of(mesh, reach)
    grid = gathered(
        reach,
        (OCTANTS, SIDE * SIDE * SIDE, 7),
        lambda rows, sums: burnish_splat(
            mesh.positions, mesh.normals, means[rows], reach.vertices[rows], dab.centre, dab.radius, sums
        ),
    )
    # Nodes see one cell on each side as well: 1-2-1 along the axes, exact in whole numbers.
    cube = grid.reshape(OCTANTS, SIDE, SIDE, SIDE, 7)
    for axis in (1, 2, 3):
        wide = cube * 2
        body: list[slice] = [slice(None)] * 5
        low, high = list(body), list(body)
        low[axis], high[axis] = slice(0, -1), slice(1, None)
        wide[tuple(high)] += cube[tuple(low)]
        wide[tuple(low)] += cube[tuple(high)]
        # Towards zero: mirrored sums stay mirrored.
        cube = (wide + ((wide >> 63) & 3)) >> 2
    nodes = np.zeros((OCTANTS, SIDE * SIDE * SIDE, 7))
    means_of_nodes(np.ascontiguousarray(cube).reshape(OCTANTS, -1, 7), nodes)
    share = min(abs(dab.strength) * RATE * dab.spacing, 0.9)
    over(
        reach,
        lambda rows: burnish_slice(
            mesh.positions,
            mesh.normals,
            means[rows],
            reach.vertices[rows],
            reach.places[rows],
            reach.weights[rows],
            dab.centre,
            dab.radius,
            nodes,
            share,
            work.push,
            work.push_weight,
        ),
    )


TOOL = Tool(
    key="burnish",
    name="Burnish",
    does="Smooths faces and keeps their edges: crisp, carved planes",
    displace=displace,
    defaults=BrushSettings(size=45, strength=0.5, falloff=PRESETS["dome"], spacing=0.15),
)
