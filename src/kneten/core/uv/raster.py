"""Triangles of the picture plane as texels: which one covers each texel's middle."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, AnyArray, at_once, kernel, parts_of

BAND = 16
"""Rows that a thread takes at least."""


def triangles_of(faces: I32) -> tuple[I32, I32]:
    """Faces (f, 4) as triangles: the face of each, (t,), and which corners of it they have, (t, 3)."""
    quads = np.flatnonzero(faces[:, 3] >= 0).astype(np.int32)
    every = np.arange(len(faces), dtype=np.int32)
    first = np.broadcast_to(np.array([0, 1, 2], np.int32), (len(faces), 3))
    second = np.broadcast_to(np.array([0, 2, 3], np.int32), (len(quads), 3))
    owner, corners = np.concatenate([every, quads]), np.concatenate([first, second])
    order = np.argsort(owner, kind="stable")
    return owner[order], np.ascontiguousarray(corners[order])


def corner_places(uv: F32, owner: I32, corners: I32) -> F32:
    """Where the corners of triangles lie, (t, 3, 2), of UVs (f, 8)."""
    return np.asarray(uv.reshape(-1, 4, 2)[owner[:, None], corners])


@kernel
def _fill(at: F64, first: int, last: int, out: I32, times: U8) -> None:
    """Rows `first` to `last` of a picture: the first triangle that covers each texel, and how many do."""
    width = out.shape[1]
    for t in range(len(at)):
        low = min(at[t, 0, 1], at[t, 1, 1], at[t, 2, 1])
        high = max(at[t, 0, 1], at[t, 1, 1], at[t, 2, 1])
        top = max(int(np.ceil(low - 0.5)), first)
        end = min(int(np.floor(high - 0.5)) + 1, last)
        if top >= end:
            continue
        for y in range(top, end):
            level = y + 0.5
            # Where the row enters and leaves: a side belongs to the triangle on its lower right.
            left = np.inf
            right = -np.inf
            for k in range(3):
                ax, ay = at[t, k, 0], at[t, k, 1]
                bx, by = at[t, (k + 1) % 3, 0], at[t, (k + 1) % 3, 1]
                if (ay <= level) == (by <= level):
                    continue
                # The same for both triangles of a side, whichever way they run.
                if ay < by:
                    x = ax + (level - ay) * (bx - ax) / (by - ay)
                else:
                    x = bx + (level - by) * (ax - bx) / (ay - by)
                left = min(left, x)
                right = max(right, x)
            begin = max(int(np.ceil(left - 0.5)), 0) if left > -1e9 else 0
            stop = min(int(np.ceil(right - 0.5)), width) if right < 1e9 else width
            for x in range(begin, stop):
                if out[y, x] < 0:
                    out[y, x] = t
                if times[y, x] < 255:
                    times[y, x] += 1


def filled(at: AnyArray, width: int, height: int) -> tuple[I32, U8]:
    """Which triangle covers each texel.

    Parameters
    ----------
    at : (t, 3, 2) float
        In texels, y downwards from the upper left corner of the picture.

    Returns
    -------
    triangle : (height, width) int32
        The first of them; -1 where there is none.
    times : (height, width) uint8
        How many cover it.
    """
    return filled_rows(at, width, 0, height)


def filled_rows(at: AnyArray, width: int, first: int, last: int) -> tuple[I32, U8]:
    """The same for triangles (t, 3, 2) and some rows only, from `first` up to `last`: arrays (last - first, width)."""
    height = last - first
    out = np.full((height, width), -1, np.int32)
    times = np.zeros((height, width), np.uint8)
    at = np.nan_to_num(np.ascontiguousarray(at, np.float64), nan=-1e6, posinf=1e6, neginf=-1e6)
    if first:
        at = at - [0, first]
    ends = parts_of(height, BAND)
    at_once(len(ends) - 1, lambda k: _fill(at, ends[k], ends[k + 1], out, times))
    return out, times


def in_texels(uv: AnyArray, width: int, height: int, tile: tuple[int, int] = (0, 0)) -> AnyArray:
    """UVs (n, 2), or more of them, as texels of a tile's picture: v goes up, rows go down."""
    out = np.asarray(uv, np.float64) - np.array(tile, np.float64)
    return np.stack([out[..., 0] * width, (1.0 - out[..., 1]) * height], axis=-1)


@kernel
def _shares(at: F64, triangle: I32, x: I32, y: I32, out: F32) -> None:
    for i in range(len(triangle)):
        t = triangle[i]
        ax, ay = at[t, 1, 0] - at[t, 0, 0], at[t, 1, 1] - at[t, 0, 1]
        bx, by = at[t, 2, 0] - at[t, 0, 0], at[t, 2, 1] - at[t, 0, 1]
        whole = ax * by - ay * bx
        if whole == 0.0:
            out[i, 0] = 1.0
            out[i, 1] = 0.0
            out[i, 2] = 0.0
            continue
        dx, dy = x[i] + 0.5 - at[t, 0, 0], y[i] + 0.5 - at[t, 0, 1]
        out[i, 1] = (dx * by - dy * bx) / whole
        out[i, 2] = (ax * dy - ay * dx) / whole
        out[i, 0] = 1.0 - out[i, 1] - out[i, 2]


def shares_at(at: AnyArray, triangle: I32, x: I32, y: I32) -> F32:
    """How much of each corner of a triangle, (k, 3), there is in the middle of texels.

    Parameters
    ----------
    at : (t, 3, 2) float
        As for `filled`.
    triangle, x, y : (k,) int32
        The triangle of each texel, its column and its row.
    """
    out = np.empty((len(triangle), 3), np.float32)
    _shares(np.ascontiguousarray(at, np.float64), triangle, x, y, out)
    return out
