"""Burnish: smooths faces and keeps their edges: crisp, carved planes.

As Smooth, positions and normals are gathered on a grid over the brush, but apart for each of the eight octants
around the mean normal that a normal can point into: so two planes that meet in an edge are told apart, however the
edge lies in space. A vertex then reads the nodes around it, and of these only what faces nearly as it
does: across an edge nothing mixes, along a face everything does (a bilateral filter of normals; Zheng, Fu,
Au, Tai 2011). It moves to the plane it so belongs to, and an edge becomes what two planes leave.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, I64, inlined, kernel
from kneten.core.brushes.grid import SIDE, VALUE, node, steps
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

ALIKE = 4.0
"""How fast octants at a node are the less one piece of clay, the farther apart they face: `1 - ALIKE * (1 - cosine)`,
nothing from 41 degrees on."""


OCTANTS = 8
"""Groups of clay by the signs of its normal less the mean one: planes that meet in an edge lie in different ones."""


@inlined
def signs(value: np.int64) -> tuple[int, int]:
    """The halves a number lies in, as a range: 0 below zero, 1 above, both at zero."""
    return (1 if value > 0 else 0), (1 if value < 0 else 2)


@kernel
def burnish_splat(
    positions: F32,
    normals: F32,
    means: F64,
    vertices: I32,
    centre: F64,
    radius: float,
    middle: I64,
    grid: I64,
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
        x0, x1 = signs(nx - middle[0])
        y0, y1 = signs(ny - middle[1])
        z0, z1 = signs(nz - middle[2])
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


@inlined
def set_mean(sums: I64, out: F64) -> None:
    """A node's mean place (in radii) and mean unit normal, from its sums."""
    total = np.float64(sums[0])
    for a in range(3):
        out[1 + a] = sums[1 + a] / (total * VALUE)
    x = np.float64(sums[4])
    y = np.float64(sums[5])
    z = np.float64(sums[6])
    length = max(np.sqrt(x * x + y * y + z * z), 1e-30)
    out[4] = x / length
    out[5] = y / length
    out[6] = z / length


@kernel
def means_of_nodes(grid: I64, out: F64) -> None:
    """Each node's weight, mean place (in radii) and mean unit normal, by octants.

    Round clay that two octants share is one: each of its halves alone would make a plane that lies higher, and a ridge
    where they meet.
    """
    sums = np.empty(7, np.int64)
    normals = np.empty((grid.shape[0], 3))
    for k in range(grid.shape[1]):
        held = 0
        for s in range(grid.shape[0]):
            out[s, k, 0] = np.float64(grid[s, k, 0])
            if grid[s, k, 0] > 0:
                held += 1
                set_mean(grid[s, k], out[s, k])
                normals[s] = out[s, k, 4:]
        if held < 2:
            continue
        for s in range(grid.shape[0]):
            if grid[s, k, 0] <= 0:
                continue
            sums[:] = grid[s, k]
            for t in range(grid.shape[0]):
                if t == s or grid[t, k, 0] <= 0:
                    continue
                like = (
                    normals[s, 0] * normals[t, 0]
                    + normals[s, 1] * normals[t, 1]
                    + normals[s, 2] * normals[t, 2]
                )
                share = min(1.0 - ALIKE * (1.0 - like), 1.0)
                if share > 0.0:
                    for a in range(7):
                        sums[a] += np.int64(np.rint(grid[t, k, a] * share))
            set_mean(sums, out[s, k])


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
    sharpness: float,
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
        for corner in range(8):
            index, weight = node(qx, qy, qz, corner)
            share = weight / float(1 << 30)
            for s in range(OCTANTS):
                many = nodes[s, index, 0]
                if many <= 0.0:
                    continue
                mx = nodes[s, index, 4]
                my = nodes[s, index, 5]
                mz = nodes[s, index, 6]
                like = nx * mx + ny * my + nz * mz
                say = 1.0 - sharpness * max(1.0 - like, 0.0)
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
    to_planes(mesh, work, reach, dab, SHARPNESS, min(abs(dab.strength) * RATE * dab.spacing, 0.9))


def to_planes(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab, sharpness: float, share: float) -> None:
    """Bring what a dab reaches to planes fitted around each vertex.

    Parameters
    ----------
    sharpness : float
        How fast clay that faces elsewhere loses its say; see `SHARPNESS`.
    share : float
        How far each goes, 0..1.
    """
    if len(reach.vertices) == 0:
        return
    means = means_of(mesh, reach)
    # Summed up in whole numbers: of a mirrored dab it is the mirror image.
    facing = np.rint(mesh.normals[reach.vertices] * np.float32(1 << 20)).astype(np.int64).sum(axis=0)
    middle = np.rint(facing / len(reach.vertices) * (VALUE / (1 << 20))).astype(np.int64)
    grid = gathered(
        reach,
        (OCTANTS, SIDE * SIDE * SIDE, 7),
        lambda rows, sums: burnish_splat(
            mesh.positions,
            mesh.normals,
            means[rows],
            reach.vertices[rows],
            dab.centre,
            dab.radius,
            middle,
            sums,
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
            sharpness,
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
