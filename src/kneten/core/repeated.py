"""Faces that are there more than once."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import I32, U8, AnyArray, inlined, kernel
from kneten.core.ordering import corner_limits

CROWDED = 48
"""Different faces with the same least corner from which on a table of all is faster than to go through them."""


@inlined
def _least_and_next(faces: I32, f: int) -> tuple[int, int]:
    """The least corner of a face, and the one after it."""
    least, following = faces[f, 0], faces[f, 1]
    if faces[f, 1] < least:
        least, following = faces[f, 1], faces[f, 2]
    last = faces[f, 3]
    if faces[f, 2] < least:
        least, following = faces[f, 2], last if last >= 0 else faces[f, 0]
    if 0 <= last < least:
        least, following = last, faces[f, 0]
    return least, following


@kernel
def _mark_by_corner(faces: I32, head: I32, after: I32, out: U8) -> int:
    """Mark faces that are among those with the same least corner already; how many, -1 where too many share a corner.

    Parameters
    ----------
    head : (n,) int32
        For each vertex -1; receives the last face it is the least corner of.
    after : (f, 2) int32
        Receives the one before it, and the corner after the least.
    """
    found = 0
    row, kept = np.empty(4, np.int64), np.empty(4, np.int64)
    for f in range(faces.shape[0]):
        # Of most faces no other has the same least corner and the same next one: that alone is looked at first.
        least, following = _least_and_next(faces, f)
        other = head[least]
        walked = 0
        while other >= 0:
            if after[other, 1] == following:
                _from_least(faces, f, row)
                _from_least(faces, other, kept)
                if row[2] == kept[2] and row[3] == kept[3]:
                    break
            walked += 1
            if walked > CROWDED:
                return -1
            other = after[other, 0]
        if other >= 0:
            out[f] = 1
            found += 1
        else:
            after[f, 0] = head[least]
            after[f, 1] = following
            head[least] = f
    return found


@kernel
def _mark(faces: I32, table: I32, out: U8) -> int:
    """Put every face into a table by a hash of its corners, least one first; mark those that are there already."""
    room = table.shape[0] - 1
    found = 0
    rows = np.empty((2, 4), np.int64)
    for f in range(faces.shape[0]):
        _from_least(faces, f, rows[0])
        mix = np.uint64(1469598103934665603)
        for c in range(4):
            # FNV-1a over whole numbers; the shift brings high bits down to where the table looks.
            mix = (mix ^ np.uint64(rows[0, c] + 2)) * np.uint64(1099511628211)
            mix ^= mix >> np.uint64(29)
        at = np.int64(mix & np.uint64(room))
        while table[at] >= 0:
            _from_least(faces, table[at], rows[1])
            if (
                rows[0, 0] == rows[1, 0]
                and rows[0, 1] == rows[1, 1]
                and rows[0, 2] == rows[1, 2]
                and rows[0, 3] == rows[1, 3]
            ):
                out[f] = 1
                found += 1
                break
            at = (at + 1) & room
        else:
            table[at] = f
    return found


@kernel
def _from_least(faces: I32, f: int, row: AnyArray) -> None:
    size = 3 if faces[f, 3] < 0 else 4
    first = 0
    for c in range(1, size):
        if faces[f, c] < faces[f, first]:
            first = c
    for c in range(4):
        row[c] = faces[f, (first + c) % size] if c < size else -1


def repeated_faces(faces: I32, n_vertices: int | None = None) -> U8:
    """Which faces, (f, 4) over so many vertices, have the same corners in the same order as one before them: (f,) of 1 and 0.

    The two sides of a flat body go round the other way, and are two faces. Takes linear time.
    """
    out = np.zeros(len(faces), np.uint8)
    if len(faces) == 0:
        return out
    faces = np.ascontiguousarray(faces, np.int32)
    if n_vertices is None:
        n_vertices = corner_limits(faces)[2] + 1
    head = np.full(n_vertices, -1, np.int32)
    if _mark_by_corner(faces, head, np.empty((len(faces), 2), np.int32), out) >= 0:
        return out
    out[:] = 0
    room = 1 << max(int(2 * len(faces)).bit_length(), 4)
    _mark(faces, np.full(room, -1, np.int32), out)
    return out
