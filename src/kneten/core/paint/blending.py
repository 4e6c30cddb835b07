"""Colours that run into each other at the scale of the brush, whatever the density of the mesh.

A pass over one ring of neighbours reaches as far as one edge. So colours are gathered on the small grid that Smooth lays
over the brush (`brushes.grid`), blurred there and read back; where edges are longer than its cells, the ring does it.
What a dab gives one place it takes from others: the mean colour under the brush stays.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import DAB_PART, F32, F64, I32, I64, U8, in_parts, kernel
from kneten.core.brushes.grid import MARGIN, NODES, SIDE, node, steps
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach
from kneten.core.topology import PATCH, PATCH_BITS

MANY = 250
"""Vertices under the brush from which on several lie in a cell of the grid, of which it has some fifty on a surface."""

UNIT = float(1 << 24)
"""What full cover is in whole numbers, which add up the same in any order."""

ZERO, ONE, FULL = np.float32(0.0), np.float32(1.0), np.float32(255.0)


@kernel
def _splat(
    positions: F32, vertices: I32, places: I32, centre: F64, radius: float, state: F32, grid: I64
) -> None:
    """Add weight, cover, and light times cover of every vertex to the eight nodes around it."""
    for i in range(vertices.shape[0]):
        v = vertices[i]
        p = places[i]
        qx = steps(positions[v, 0] - centre[0], radius)
        qy = steps(positions[v, 1] - centre[1], radius)
        qz = steps(positions[v, 2] - centre[2], radius)
        cover = np.float64(state[p, 3])
        c = np.int64(np.rint(cover * UNIT))
        r = np.int64(np.rint(cover * state[p, 0] * UNIT))
        g = np.int64(np.rint(cover * state[p, 1] * UNIT))
        b = np.int64(np.rint(cover * state[p, 2] * UNIT))
        for corner in range(8):
            index, weight = node(qx, qy, qz, corner)
            w = weight >> 14
            grid[index, 0] += w
            grid[index, 1] += w * r
            grid[index, 2] += w * g
            grid[index, 3] += w * b
            grid[index, 4] += w * c


def _blurred(grid: F64) -> F64:
    """Blurred with 1-2-1 along the three axes, (NODES, 5)."""
    table = grid.reshape(SIDE, SIDE, SIDE, -1)
    for _ in range(MARGIN):
        for axis in range(3):
            turned = np.moveaxis(table, axis, 0)
            out = 2.0 * turned
            out[1:] += turned[:-1]
            out[:-1] += turned[1:]
            table = np.moveaxis(out, 0, axis)
    return np.ascontiguousarray(table.reshape(NODES, -1))


@kernel
def _slice(
    positions: F32,
    vertices: I32,
    places: I32,
    weights: F32,
    centre: F64,
    radius: float,
    share: np.float32,
    state: F32,
    grid: F64,
    first: int,
    last: int,
    moves: F64,
) -> None:
    """How light times cover, and cover, of each vertex would change, (k, 4)."""
    for i in range(first, last):
        v = vertices[i]
        p = places[i]
        qx = steps(positions[v, 0] - centre[0], radius)
        qy = steps(positions[v, 1] - centre[1], radius)
        qz = steps(positions[v, 2] - centre[2], radius)
        total, r, g, b, c = 0.0, 0.0, 0.0, 0.0, 0.0
        for corner in range(8):
            index, weight = node(qx, qy, qz, corner)
            total += weight * grid[index, 0]
            r += weight * grid[index, 1]
            g += weight * grid[index, 2]
            b += weight * grid[index, 3]
            c += weight * grid[index, 4]
        own = np.float64(min(weights[i] * share, ONE))
        scale = 1.0 / max(total * UNIT, 1e-300)
        cover = np.float64(state[p, 3])
        moves[i, 0] = (r * scale - state[p, 0] * cover) * own
        moves[i, 1] = (g * scale - state[p, 1] * cover) * own
        moves[i, 2] = (b * scale - state[p, 2] * cover) * own
        moves[i, 3] = (c * scale - cover) * own


@kernel
def _move(state: F32, places: I32, weights: F32, moves: F64, kept: F64, first: int, last: int) -> None:
    """Change light and cover, less what would change their mean: (4,) to a weight of one."""
    for i in range(first, last):
        p = places[i]
        w = np.float64(weights[i])
        before = np.float64(state[p, 3])
        cover = min(max(before + moves[i, 3] - w * kept[3], 0.0), 1.0)
        if cover > 1e-6:
            for c in range(3):
                light = (state[p, c] * before + moves[i, c] - w * kept[c]) / cover
                state[p, c] = np.float32(min(max(light, 0.0), 1.0))
        state[p, 3] = np.float32(cover)


def run_together(
    positions: F32, reach: Reach, centre: F64, radius: float, share: np.float32, state: F32
) -> None:
    """Let colours under the brush run together on its grid, each by its weight times `share`.

    Parameters
    ----------
    state : (room, 4) float32
        Light and cover at the places of the reach.
    """
    grid = np.zeros((NODES, 5), np.int64)
    _splat(positions, reach.vertices, reach.places, centre, radius, state, grid)
    held = _blurred(grid.astype(np.float64))
    n = len(reach.vertices)
    moves = np.empty((n, 4))

    def read(first: int, last: int) -> None:
        _slice(
            positions, reach.vertices, reach.places, reach.weights, centre, radius, share, state, held, first,
            last, moves,
        )  # fmt: skip

    in_parts(n, read, DAB_PART)
    _move_all(state, reach, moves)


def run_to_neighbours(
    mesh: Mesh, reach: Reach, slots: I32, values: U8, columns: I32, table: F32, share: np.float32, state: F32
) -> None:
    """The same on a mesh too coarse for the grid: towards the mean of the vertices around.

    Parameters
    ----------
    slots : (patches,) int32
        Where each patch stands in `state`; others are as `values` (n, 4 or 9) have them.
    columns : (4,) int32
        Where in their rows the three numbers and the cover stand; -1 where all is covered.
    table : (256,) float32
        What a byte of the numbers stands for.
    """
    n = len(reach.vertices)
    moves = np.empty((n, 4))
    shape = mesh.topology

    def blend(first: int, last: int) -> None:
        _to_neighbours(
            state, values, shape.faces, shape.ring, shape.ring_faces, slots, reach.vertices, reach.places,
            reach.weights, share, columns, table, moves, first, last,
        )  # fmt: skip

    in_parts(n, blend, DAB_PART)
    _move_all(state, reach, moves)


def _move_all(state: F32, reach: Reach, moves: F64) -> None:
    """Change light and cover by moves (k, 4), less what would change their mean."""
    kept = moves.sum(axis=0) / max(float(reach.weights.sum(dtype=np.float64)), 1e-12)
    in_parts(
        len(moves),
        lambda first, last: _move(state, reach.places, reach.weights, moves, kept, first, last),
        DAB_PART,
    )


@kernel
def _to_neighbours(
    state: F32,
    values: U8,
    faces: I32,
    start: I32,
    ring: I32,
    patch_slot: I32,
    vertices: I32,
    places: I32,
    weights: F32,
    share: np.float32,
    columns: I32,
    table: F32,
    out: F64,
    first: int,
    last: int,
) -> None:
    """How light times cover, and cover, would change towards the mean of the vertices around, (k, 4)."""
    for i in range(first, last):
        v = vertices[i]
        p = places[i]
        own = min(weights[i] * share, ONE)
        r, g, b, total, count = ZERO, ZERO, ZERO, ZERO, ZERO
        for k in range(start[v, 0], start[v, 1]):
            for c in range(4):
                u = faces[ring[k], c]
                if u < 0 or u == v:
                    continue
                slot = patch_slot[u >> PATCH_BITS]
                if slot >= 0:
                    q = (slot << PATCH_BITS) + (u & (PATCH - 1))
                    cover = state[q, 3]
                    r += cover * state[q, 0]
                    g += cover * state[q, 1]
                    b += cover * state[q, 2]
                else:
                    cover = ONE if columns[3] < 0 else np.float32(values[u, columns[3]]) / FULL
                    r += cover * table[values[u, columns[0]]]
                    g += cover * table[values[u, columns[1]]]
                    b += cover * table[values[u, columns[2]]]
                total += cover
                count += ONE
        cover = state[p, 3]
        if count == ZERO:
            for c in range(4):
                out[i, c] = 0.0
            continue
        share_of_one = np.float64(own) / count
        out[i, 0] = r * share_of_one - np.float64(own) * state[p, 0] * cover
        out[i, 1] = g * share_of_one - np.float64(own) * state[p, 1] * cover
        out[i, 2] = b * share_of_one - np.float64(own) * state[p, 2] * cover
        out[i, 3] = total * share_of_one - np.float64(own) * cover
