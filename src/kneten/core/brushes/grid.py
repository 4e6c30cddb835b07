"""A small grid laid over a brush, onto which vertices are gathered with trilinear weights in whole numbers.

Whole numbers add up to the same whatever their order, so that a mirrored dab gives the mirror image to the bit.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import inlined, kernel

CELLS = 4
"""Cells to a radius."""

MARGIN = 2
"""Cells around the brush, one for each blur."""

SIDE = 2 * (CELLS + MARGIN) + 1
NODES = SIDE * SIDE * SIDE

CELL_BITS = 10
"""A cell is 1024 steps wide. Positions are counted in whole steps from the middle of the brush, so
that a mirrored dab has exactly mirrored weights."""

VALUE = float(1 << 26)
"""What a radius, or a normal's length, is in whole numbers."""


@inlined
def steps(value: float, radius: float) -> int:
    """A distance from the middle of the brush, in whole steps."""
    return int(np.rint(value / radius * (CELLS << CELL_BITS)))


@kernel
def node(qx: int, qy: int, qz: int, corner: int) -> tuple[int, int]:
    """Index of one of the eight nodes around a place, and its weight (30 bits)."""
    shift = (CELLS + MARGIN) << CELL_BITS
    weight = 1
    index = 0
    for axis in range(3):
        q = (qx, qy, qz)[axis] + shift
        low = q >> CELL_BITS
        part = q & ((1 << CELL_BITS) - 1)
        if (corner >> axis) & 1:
            index = index * SIDE + min(low + 1, SIDE - 1)
            weight *= part
        else:
            index = index * SIDE + low
            weight *= (1 << CELL_BITS) - part
    return index, weight
