"""Paint as layers keep it: colours and cover of the patches that are painted, and of no others."""

from __future__ import annotations

import functools
from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import I32, U8
from kneten.core.topology import PATCH


@dataclass(frozen=True, eq=False)
class Paint:
    """Colours on some patches of a mesh. Immutable and shared.

    Attributes
    ----------
    patches : (p,) int32
        Ascending.
    values : (512 p, 4) uint8
        sRGB, and how much of what is below is covered, for each vertex of these; zeros where a patch has fewer.
    """

    patches: I32
    values: U8

    @classmethod
    def none(cls) -> Paint:
        """No paint anywhere."""
        return cls(np.empty(0, np.int32), np.empty((0, 4), np.uint8))

    @classmethod
    def of(cls, dense: U8) -> Paint:
        """That of all vertices (n, 4), without what covers nothing."""
        n = len(dense)
        painted = np.flatnonzero(np.logical_or.reduceat(dense[:, 3] > 0, np.arange(0, n, PATCH))).astype(
            np.int32
        )
        blocks = np.zeros((len(painted), PATCH, 4), np.uint8)
        whole = painted[(painted + 1) * PATCH <= n]
        blocks[: len(whole)] = dense[: n // PATCH * PATCH].reshape(-1, PATCH, 4)[whole]
        if len(whole) < len(painted):
            blocks[-1, : n % PATCH] = dense[n // PATCH * PATCH :]
        values = blocks.reshape(-1, 4)
        # What covers nothing has no colour: equal paint is equal in its bytes.
        values[values[:, 3] == 0] = 0
        return cls(painted, values)

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        return int(self.patches.nbytes + self.values.nbytes)

    def __bool__(self) -> bool:
        """Whether there is any."""
        return len(self.patches) > 0

    @functools.cached_property
    def slots(self) -> I32:
        """Where each patch up to the last painted one stands among these, (p,); -1 where it is not."""
        out = np.full(int(self.patches[-1]) + 1 if len(self.patches) else 0, -1, np.int32)
        out[self.patches] = np.arange(len(self.patches), dtype=np.int32)
        return out

    def dense(self, n: int) -> U8:
        """Colours and cover of all of `n` vertices, (n, 4)."""
        out = np.zeros((-(-n // PATCH), PATCH, 4), np.uint8)
        out[self.patches] = self.values.reshape(-1, PATCH, 4)
        return np.ascontiguousarray(out.reshape(-1, 4)[:n])

    def fits(self, n: int) -> bool:
        """Whether it can be that of a mesh of so many vertices."""
        count = -(-n // PATCH)
        held = self.patches
        ordered = not len(held) or (held[0] >= 0 and held[-1] < count and bool((np.diff(held) > 0).all()))
        return len(self.values) == PATCH * len(held) and ordered
