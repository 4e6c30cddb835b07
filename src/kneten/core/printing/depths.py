"""How deep the points of a grid lie in clay: an exact distance transform, as far as it is asked for.

Squared distances are separable (Saito and Toriwaki 1994): along one axis the nearest point outside is swept for, along the
others the least of what the line has, within a window that ends where nothing nearer can be.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import I32, U8, in_parts, kernel

LINES = 8
"""Planes of a grid that a thread of its own is worth."""


@kernel
def _swept(flags: U8, most: int, first: int, last: int, out: I32) -> None:
    cap = most * most
    for x in range(first, last):
        for y in range(flags.shape[1]):
            off = most
            for z in range(flags.shape[2]):
                off = min(off + 1, most) if flags[x, y, z] else 0
                out[x, y, z] = off
            off = most
            for z in range(flags.shape[2] - 1, -1, -1):
                off = min(off + 1, most) if flags[x, y, z] else 0
                near = min(out[x, y, z], off)
                out[x, y, z] = min(near * near, cap)


@kernel
def _least_across(given: I32, most: int, axis: int, first: int, last: int, out: I32) -> None:
    """The least along axis 1 (planes of axis 0), or along axis 0 (planes of axis 1)."""
    n = given.shape[axis]
    for plane in range(first, last):
        for k in range(n):
            for z in range(given.shape[2]):
                best = given[plane, k, z] if axis == 1 else given[k, plane, z]
                for d in range(1, most + 1):
                    if d * d >= best:
                        break
                    if k + d < n:
                        other = given[plane, k + d, z] if axis == 1 else given[k + d, plane, z]
                        best = min(best, other + d * d)
                    if k - d >= 0:
                        other = given[plane, k - d, z] if axis == 1 else given[k - d, plane, z]
                        best = min(best, other + d * d)
                if axis == 1:
                    out[plane, k, z] = best
                else:
                    out[k, plane, z] = best


def squared_depths(flags: U8, most: int) -> I32:
    """How far each point (x, y, z) of a grid that is set lies from the nearest one that is not, squared, in steps; `most` squared where it is farther than that."""
    one, two = np.empty(flags.shape, np.int32), np.empty(flags.shape, np.int32)
    in_parts(flags.shape[0], lambda first, last: _swept(flags, most, first, last, one), LINES)
    in_parts(flags.shape[0], lambda first, last: _least_across(one, most, 1, first, last, two), LINES)
    in_parts(flags.shape[1], lambda first, last: _least_across(two, most, 0, first, last, one), LINES)
    return one
