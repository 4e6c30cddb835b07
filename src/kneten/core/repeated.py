"""Faces that are there more than once."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import I32, U8, AnyArray, kernel


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


def repeated_faces(faces: I32) -> U8:
    """Which faces, (f, 4), have the same corners in the same order as one before them: (f,) of 1 and 0.

    The two sides of a flat body go round the other way, and are two faces. Takes linear time.
    """
    out = np.zeros(len(faces), np.uint8)
    room = 1 << max(int(2 * len(faces)).bit_length(), 4)
    _mark(np.ascontiguousarray(faces, np.int32), np.full(room, -1, np.int32), out)
    return out
