"""Many differences over one piece of clay, summed with other amounts again and again."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from kneten.core.arrays import F32, I32, I64, U16, in_parts, kernel
from kneten.core.relief import Relief

MOST = 65_535
"""Differences that there can be: their numbers are of two bytes."""


@kernel
def _sum(
    base: F32, start: I64, which: U16, moves: F32, amounts: F32, rows: I32, first: int, last: int, out: F32
) -> None:  # fmt: skip
    """Base and what each vertex has of the differences; `rows` empty for all vertices."""
    few = len(rows) > 0
    for i in range(first, last):
        v = rows[i] if few else i
        x, y, z = base[v, 0], base[v, 1], base[v, 2]
        for k in range(start[v], start[v + 1]):
            amount = amounts[which[k]]
            x += amount * moves[k, 0]
            y += amount * moves[k, 1]
            z += amount * moves[k, 2]
        out[i, 0], out[i, 1], out[i, 2] = x, y, z


class Blend:
    """Differences sorted by vertex: a sum reads each of them once, and nothing where a vertex has none.

    Attributes
    ----------
    base : (n, 3) float32
        What they are added to.
    rows : (k,) int32
        The vertices that any of them moves, ascending.
    """

    def __init__(self, base: F32, moves: Sequence[Relief]) -> None:
        if len(moves) > MOST:
            raise ValueError(f"There are {len(moves):,} shapes; {MOST:,} can be blended.")
        n = len(base)
        self.base = base
        every = np.arange(n, dtype=np.int32)
        at = [one.rows if len(one.rows) or not one else every for one in moves]
        counts = np.zeros(n, np.int64)
        for rows in at:
            counts[rows] += 1
        self._start = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
        self._which = np.empty(self._start[-1], np.uint16)
        self._moves = np.empty((self._start[-1], 3), np.float32)
        free = self._start[:-1].copy()
        for k, (rows, one) in enumerate(zip(at, moves, strict=True)):
            self._which[free[rows]] = k
            self._moves[free[rows]] = one.values
            free[rows] += 1
        self._count = len(moves)
        self.rows: I32 = np.flatnonzero(counts).astype(np.int32)

    def at(self, amounts: Sequence[float], rows: I32 | None = None) -> F32:
        """Places (n, 3), or only those of some vertices (k, 3), with so much of each difference.

        Raises
        ------
        ValueError
            When there are not as many amounts as differences.
        """
        if len(amounts) != self._count:
            raise ValueError(f"There are {len(amounts)} amounts for {self._count} shapes.")
        shares = np.asarray(amounts, np.float32)
        some = np.empty(0, np.int32) if rows is None else rows
        if rows is not None and not len(rows):
            return np.empty((0, 3), np.float32)
        out = np.empty((len(self.base) if rows is None else len(rows), 3), np.float32)
        in_parts(
            len(out),
            lambda first, last: _sum(
                self.base, self._start, self._which, self._moves, shares, some, first, last, out
            ),
        )
        return out
