"""The order of vertices and faces in memory: near in space is near in memory."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, I64, AnyArray, at_once, in_parts, kernel, parts_of

DIGIT = 12
"""Bits that keys are sorted by at once."""


@kernel
def _extremes(values: F32, first: int, last: int, out: F64) -> None:
    a, b, c = values[first, 0], values[first, 1], values[first, 2]
    u, v, w = a, b, c
    for i in range(first, last):
        x, y, z = values[i, 0], values[i, 1], values[i, 2]
        a, b, c = min(a, x), min(b, y), min(c, z)
        u, v, w = max(u, x), max(v, y), max(w, z)
    out[0], out[1], out[2] = a, b, c
    out[3], out[4], out[5] = u, v, w


def extremes(values: F32) -> tuple[F32, F32]:
    """The least and greatest (3,) of finite values (n, 3), n > 0. NumPy takes ten times as long along rows this short."""
    found: list[F64] = []

    def some(first: int, last: int) -> None:
        ends = np.empty(6)
        _extremes(values, first, last, ends)
        found.append(ends)

    in_parts(len(values), some)
    ends = np.array(found)
    return ends[:, :3].min(axis=0).astype(np.float32), ends[:, 3:].max(axis=0).astype(np.float32)


@kernel
def _spread_bits(x: int) -> int:
    x &= 0x1FFFFF
    x = (x | (x << 32)) & 0x1F00000000FFFF
    x = (x | (x << 16)) & 0x1F0000FF0000FF
    x = (x | (x << 8)) & 0x100F00F00F00F00F
    x = (x | (x << 4)) & 0x10C30C30C30C30C3
    return (x | (x << 2)) & 0x1249249249249249


@kernel
def _space_keys(positions: F32, low: F32, scale: float, first: int, last: int, keys: I64) -> None:
    for v in range(first, last):
        x = int((positions[v, 0] - low[0]) * scale)
        y = int((positions[v, 1] - low[1]) * scale)
        z = int((positions[v, 2] - low[2]) * scale)
        keys[v] = _spread_bits(x) | (_spread_bits(y) << 1) | (_spread_bits(z) << 2)


@kernel
def _count_digits(keys: I64, shift: int, first: int, last: int, counts: I32) -> None:
    mask = counts.shape[0] - 1
    for i in range(first, last):
        counts[(keys[i] >> shift) & mask] += 1


@kernel
def _first_places(counts: I32) -> None:
    """Counts (parts, digits) become the place where each part's first key with each digit goes."""
    total = 0
    for digit in range(counts.shape[1]):
        for part in range(counts.shape[0]):
            count = counts[part, digit]
            counts[part, digit] = total
            total += count


@kernel
def _place_by_digit(
    keys: I64, order: I32, shift: int, first: int, last: int, counts: I32, keys_out: I64, order_out: I32
) -> None:
    mask = counts.shape[0] - 1
    for i in range(first, last):
        digit = (keys[i] >> shift) & mask
        at = counts[digit]
        counts[digit] = at + 1
        keys_out[at] = keys[i]
        order_out[at] = order[i]


def _by_digit(keys: I64, order: I32, shift: int, keys_out: I64, order_out: I32) -> None:
    """One pass of a sort by digits, the least first (LSD radix sort); equal digits keep their order."""
    ends = parts_of(len(keys))
    counts = np.zeros((len(ends) - 1, 1 << DIGIT), np.int32)
    at_once(len(counts), lambda part: _count_digits(keys, shift, ends[part], ends[part + 1], counts[part]))
    _first_places(counts)

    def place(part: int) -> None:
        _place_by_digit(keys, order, shift, ends[part], ends[part + 1], counts[part], keys_out, order_out)

    at_once(len(counts), place)


def space_order(positions: F32) -> I32:
    """Order (n,) of vertices (n, 3) along a space-filling (Morton) curve; near in space is near in memory."""
    n = len(positions)
    if not n:
        return np.empty(0, np.int32)
    low, high = extremes(positions)
    extent = float((high - low).max())
    # 16 bits per axis: finer than a patch on any mesh, and stable sorting keeps file order within.
    scale = 65535.0 / extent if extent > 0 else 0.0
    keys, keys_next = np.empty((2, n), np.int64)
    order, order_next = np.empty((2, n), np.int32)
    order[:] = np.arange(n)
    in_parts(n, lambda first, last: _space_keys(positions, low, scale, first, last, keys))
    for shift in range(0, 48, DIGIT):
        _by_digit(keys, order, shift, keys_next, order_next)
        keys, keys_next, order, order_next = keys_next, keys, order_next, order
    return order.copy()


@kernel
def _least_corners(faces: I32, out: I32) -> None:
    for f in range(faces.shape[0]):
        least = min(faces[f, 0], faces[f, 1], faces[f, 2])
        if faces[f, 3] >= 0:
            least = min(least, faces[f, 3])
        out[f] = least


def least_corners(faces: I32) -> I32:
    """The least vertex (f,) of each of the faces (f, 4)."""
    out = np.empty(len(faces), np.int32)
    in_parts(len(faces), lambda first, last: _least_corners(faces[first:last], out[first:last]))
    return out


@kernel
def _counting_order(keys: I32, starts: I32, out: I32) -> None:
    for i in range(keys.shape[0]):
        starts[keys[i] + 1] += 1
    for k in range(starts.shape[0] - 1):
        starts[k + 1] += starts[k]
    for i in range(keys.shape[0]):
        out[starts[keys[i]]] = i
        starts[keys[i]] += 1


def face_order(faces: I32, n_vertices: int) -> I32:
    """Order (f,) of faces (f, 4) by their least vertex; equal ones keep their order. Takes linear time."""
    out = np.empty(len(faces), np.int32)
    _counting_order(least_corners(faces), np.zeros(n_vertices + 1, np.int32), out)
    return out


@kernel
def _corner_limits(faces: I32, first: int, last: int) -> tuple[int, int, int]:
    low = 2147483647
    low_last = 2147483647
    high = -1
    for f in range(first, last):
        low = min(low, min(faces[f, 0], faces[f, 1], faces[f, 2]))
        low_last = min(low_last, faces[f, 3])
        high = max(high, max(faces[f, 0], faces[f, 1], faces[f, 2], faces[f, 3]))
    return low, low_last, high


def corner_limits(faces: I32) -> tuple[int, int, int]:
    """The least of the first three corners of the faces (f, 4), the least last corner, and the greatest of all."""
    found: list[tuple[int, int, int]] = []
    in_parts(len(faces), lambda first, last: found.append(_corner_limits(faces, first, last)))
    return min(low for low, _, _ in found), min(low for _, low, _ in found), max(high for *_, high in found)


@kernel
def _first_twice(faces: I32, first: int, last: int) -> int:
    for f in range(first, last):
        a, b, c, d = faces[f, 0], faces[f, 1], faces[f, 2], faces[f, 3]
        if a in (b, c) or b == c or (d >= 0 and d in (a, b, c)):
            return f
    return -1


def first_twice(faces: I32) -> int:
    """The first of the faces (f, 4) that names a vertex twice; -1 where none does."""
    found: list[int] = []
    in_parts(len(faces), lambda first, last: found.append(_first_twice(faces, first, last)))
    return min((f for f in found if f >= 0), default=-1)


@kernel
def _renamed(faces: I32, names: I32, first: int, last: int, out: I32) -> None:
    for f in range(first, last):
        for c in range(3):
            out[f, c] = names[faces[f, c]]
        out[f, 3] = names[faces[f, 3]] if faces[f, 3] >= 0 else -1


def renamed(faces: I32, names: I32) -> I32:
    """Faces (f, 4) whose corner `v` is now called `names[v]`."""
    out = np.empty(faces.shape, np.int32)
    in_parts(len(faces), lambda first, last: _renamed(faces, names, first, last, out))
    return out


@kernel
def _taken(rows: AnyArray, order: I32, first: int, last: int, out: AnyArray) -> None:
    for i in range(first, last):
        for c in range(rows.shape[1]):
            out[i, c] = rows[order[i], c]


def taken(rows: AnyArray, order: I32) -> AnyArray:
    """`rows[order]`, of (n, k) values by an order (m,), in parts."""
    out = np.empty((len(order), rows.shape[1]), rows.dtype)
    in_parts(len(order), lambda first, last: _taken(rows, order, first, last, out))
    return out
