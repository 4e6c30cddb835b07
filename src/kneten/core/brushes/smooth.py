"""Smooth: evens out at the scale of the brush, whatever the density of the mesh.

A pass over one ring of neighbours reaches as far as one edge: on a dense mesh it polishes grain and
leaves every lump. Here positions and normals are gathered on a small grid laid over the brush (four
cells to the radius, with trilinear weights), blurred there, and read back: each vertex moves along
the blurred normal to the blurred surface. The cost per vertex does not depend on how many there are.
This is the splat-blur-slice scheme of the bilateral grid (Chen, Paris, Durand 2007) with the side a
surface faces as its extra dimension, so that the two faces of an ear do not attract each other.
Where edges are longer than a cell, the ring of neighbours is the right scale and takes over.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, I64, U8, U32, kernel
from kneten.core.brushes.burnish import to_planes
from kneten.core.brushes.grid import CELLS, MARGIN, NODES, SIDE, VALUE, node, steps
from kneten.core.brushes.stay import stay
from kneten.core.brushes.tool import BrushSettings, Dab, Tool, measured
from kneten.core.mesh import Mesh
from kneten.core.reach import TO_STEP, Reach, add_push, gathered
from kneten.core.rings import means_of, move_each
from kneten.core.topology import NO_CORNER
from kneten.core.workspace import Workspace

RATE = 6.0

SHARPNESS = 1.1
"""How fast clay that faces elsewhere loses its say where edges are kept: at 20 degrees it has a third, at 30 a
thirteenth, at 60 none."""


@kernel
def smooth_splat(
    positions: F32, normals: F32, vertices: I32, centre: F64, radius: float, face: F32, grid: I64
) -> None:
    """Add weight, position and normal of every vertex to the eight nodes around it."""
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
        facing = normals[v, 0] * face[3] + normals[v, 1] * face[4] + normals[v, 2] * face[5]
        sheet = 0 if facing >= 0.0 else 1
        for corner in range(8):
            index, weight = node(qx, qy, qz, corner)
            # 16 of the 30 bits are enough and leave room to add up 8 M vertices.
            w = weight >> 14
            grid[sheet, index, 0] += w
            grid[sheet, index, 1] += w * px
            grid[sheet, index, 2] += w * py
            grid[sheet, index, 3] += w * pz
            grid[sheet, index, 4] += w * nx
            grid[sheet, index, 5] += w * ny
            grid[sheet, index, 6] += w * nz


def _blur(grid: F64) -> F64:
    """Blur with 1-2-1 along the three axes, twice; (2, side, side, side, 7)."""
    for _ in range(MARGIN):
        for axis in (1, 2, 3):
            out = grid * 2.0
            body = [slice(None)] * 5
            low, high = list(body), list(body)
            low[axis], high[axis] = slice(0, -1), slice(1, None)
            sides = np.zeros_like(grid)
            sides[tuple(high)] += grid[tuple(low)]
            sides[tuple(low)] += grid[tuple(high)]
            grid = out + sides
    return grid


@kernel
def smooth_slice(
    positions: F32,
    normals: F32,
    means: F64,
    vertices: I32,
    places: I32,
    weights: F32,
    border: U8,
    centre: F64,
    radius: float,
    face: F32,
    grid: F64,
    rate: float,
    by_ring: float,
    push: F64,
    push_weight: F64,
) -> None:
    """Move each vertex to the blurred surface, and `by_ring` of the way by its ring instead."""
    for i in range(vertices.shape[0]):
        v = vertices[i]
        x = positions[v, 0] - centre[0]
        y = positions[v, 1] - centre[1]
        z = positions[v, 2] - centre[2]
        qx = steps(x, radius)
        qy = steps(y, radius)
        qz = steps(z, radius)
        facing = normals[v, 0] * face[3] + normals[v, 1] * face[4] + normals[v, 2] * face[5]
        sheet = 0 if facing >= 0.0 else 1
        total = 0.0
        px = 0.0
        py = 0.0
        pz = 0.0
        nx = 0.0
        ny = 0.0
        nz = 0.0
        for corner in range(8):
            index, weight = node(qx, qy, qz, corner)
            total += weight * grid[sheet, index, 0]
            px += weight * grid[sheet, index, 1]
            py += weight * grid[sheet, index, 2]
            pz += weight * grid[sheet, index, 3]
            nx += weight * grid[sheet, index, 4]
            ny += weight * grid[sheet, index, 5]
            nz += weight * grid[sheet, index, 6]
        mx = means[i, 0] - positions[v, 0]
        my = means[i, 1] - positions[v, 1]
        mz = means[i, 2] - positions[v, 2]
        length = np.sqrt(nx * nx + ny * ny + nz * nz)
        gx = 0.0
        gy = 0.0
        gz = 0.0
        if total > 0.0 and length > 0.0:
            nx /= length
            ny /= length
            nz /= length
            whole = total * VALUE
            off = (
                (px / whole * radius - x) * nx
                + (py / whole * radius - y) * ny
                + (pz / whole * radius - z) * nz
            )
            gx = off * nx
            gy = off * ny
            gz = off * nz
        share = by_ring
        if border[v] != 0:
            share = 1.0
        rings = rate * (0.15 + 0.85 * share)
        cells = rate * (1.0 - share)
        add_push(
            push,
            push_weight,
            places[i],
            weights[i],
            gx * cells + mx * rings,
            gy * cells + my * rings,
            gz * cells + mz * rings,
        )


def displace(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Even out what the dab reaches."""
    if len(reach.vertices) == 0:
        return
    if dab.variant == "relax":
        means = means_of(mesh, reach)
        wish = (means[:, :3] - mesh.positions[reach.vertices]) * min(
            abs(dab.strength) * RATE * dab.spacing, 0.9
        )
        stay(mesh, work, reach, wish)
        return
    if dab.variant == "edges":
        to_planes(mesh, work, reach, dab, SHARPNESS, min(abs(dab.strength) * RATE * dab.spacing, 0.9))
        return
    face = measured(mesh, reach, dab)
    # Mean edge under the brush, from how many vertices share its disc.
    edge = np.sqrt(np.pi / len(reach.vertices))
    by_ring = float(np.clip((edge * CELLS - 0.35) / 0.65, 0.0, 1.0))
    if by_ring < 1.0:
        grid = gathered(
            reach,
            (2, NODES, 7),
            lambda rows, sums: smooth_splat(
                mesh.positions, mesh.normals, reach.vertices[rows], dab.centre, dab.radius, face, sums
            ),
        )
        blurred = _blur(grid.astype(np.float64).reshape(2, SIDE, SIDE, SIDE, 7))
    else:
        blurred = np.zeros((2, SIDE, SIDE, SIDE, 7))
    before = work.push[reach.places] if dab.variant == "volume" else work.push[:0]
    move_each(
        smooth_slice,
        mesh,
        work,
        reach,
        mesh.topology.border,
        dab.centre,
        dab.radius,
        face,
        blurred.reshape(2, NODES, 7),
        min(abs(dab.strength) * RATE * dab.spacing, 0.9),
        by_ring,
    )
    if dab.variant == "volume":
        moves = work.push[reach.places] - before
        keep_volume(
            mesh.positions,
            mesh.normals,
            *mesh.topology.walk,
            moves,
            reach.vertices,
            reach.places,
            reach.weights,
            work.push,
        )


@kernel
def keep_volume(
    positions: F32,
    normals: F32,
    faces: U32,
    start: U32,
    ring: U32,
    moves: F64,
    vertices: I32,
    places: I32,
    weights: F32,
    push: F64,
) -> None:
    """Give back along the normals what smoothing has taken: the same height everywhere, by weight."""
    lost = np.int64(0)
    room = np.int64(0)
    for step in range(2):
        lift = 0.0
        if step == 1:
            if room <= 0:
                break
            lift = -np.float64(lost) / np.float64(room)
        for i in range(vertices.shape[0]):
            v = vertices[i]
            at = places[i]
            w = np.float64(weights[i])
            if step == 0:
                area = 0.0
                for k in range(start[v, 0], start[v, 1]):
                    f = ring[k]
                    # The corner at the vertex: the same of a mirrored face, wherever that begins.
                    size = 3 if faces[f, 3] == NO_CORNER else 4
                    own = 0
                    while faces[f, own] != v:
                        own += 1
                    b = faces[f, (own + 1) % size]
                    c = faces[f, (own + size - 1) % size]
                    ux = np.float64(positions[b, 0]) - positions[v, 0]
                    uy = np.float64(positions[b, 1]) - positions[v, 1]
                    uz = np.float64(positions[b, 2]) - positions[v, 2]
                    wx = np.float64(positions[c, 0]) - positions[v, 0]
                    wy = np.float64(positions[c, 1]) - positions[v, 1]
                    wz = np.float64(positions[c, 2]) - positions[v, 2]
                    nx = uy * wz - uz * wy
                    ny = uz * wx - ux * wz
                    nz = ux * wy - uy * wx
                    area += np.sqrt(nx * nx + ny * ny + nz * nz)
                out = moves[i, 0] * normals[v, 0] + moves[i, 1] * normals[v, 1] + moves[i, 2] * normals[v, 2]
                lost += np.int64(np.rint(out * area * 1048576.0))
                room += np.int64(np.rint(w * area * 1048576.0))
            else:
                push[at, 0] += (w * lift * normals[v, 0] + TO_STEP) - TO_STEP
                push[at, 1] += (w * lift * normals[v, 1] + TO_STEP) - TO_STEP
                push[at, 2] += (w * lift * normals[v, 2] + TO_STEP) - TO_STEP


TOOL = Tool(
    key="smooth",
    name="Smooth",
    does="Evens out lumps of the brush's size",
    displace=displace,
    defaults=BrushSettings(size=50, strength=0.5, spacing=0.15),
    variants=(
        ("", "Even", "Evens out lumps of the brush's size"),
        ("relax", "Relax", "Spaces vertices evenly along the surface; the form stays"),
        ("edges", "Keep edges", "Evens out lumps, and leaves creases from 60 degrees on as they are"),
        ("volume", "Keep volume", "Evens out, and gives back what the form would lose"),
    ),
)
