"""Paint as layers keep it: of the patches that are painted, and of no others.

Each vertex has nine bytes: sRGB and how much that covers; roughness, metalness, subsurface and wet, and how much these
cover. Where no material is painted at all the first four are enough.
"""

from __future__ import annotations

import functools
from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, I32, U8, AnyArray
from kneten.core.topology import PATCH

COVER, MATERIAL, MATERIAL_COVER = 3, slice(4, 8), 8
"""Where in a row how much the colour covers stands, the material, and how much that covers."""

SLIM, WIDE = 4, 9
"""Bytes in a row without material, and with it."""


@dataclass(frozen=True, eq=False)
class Paint:
    """Colours, and material where there is any, on some patches of a mesh. Immutable and shared.

    Attributes
    ----------
    patches : (p,) int32
        Ascending.
    values : (512 p, 4 or 9) uint8
        sRGB, and how much of what is below is covered, for each vertex of these; then its material, and how much of that
        below is covered. Zeros where a patch has fewer.
    """

    patches: I32
    values: U8

    @classmethod
    def none(cls) -> Paint:
        """No paint anywhere."""
        return cls(np.empty(0, np.int32), np.empty((0, SLIM), np.uint8))

    @classmethod
    def of(cls, dense: U8) -> Paint:
        """That of all vertices (n, 4 or 9), without what covers nothing."""
        n, columns = dense.shape
        covers = dense[:, COVER] > 0
        if columns == WIDE:
            covers |= dense[:, MATERIAL_COVER] > 0
        painted = np.flatnonzero(np.logical_or.reduceat(covers, np.arange(0, n, PATCH))).astype(np.int32)
        blocks = np.zeros((len(painted), PATCH, columns), np.uint8)
        whole = painted[(painted + 1) * PATCH <= n]
        blocks[: len(whole)] = dense[: n // PATCH * PATCH].reshape(-1, PATCH, columns)[whole]
        if len(whole) < len(painted):
            blocks[-1, : n % PATCH] = dense[n // PATCH * PATCH :]
        return cls(painted, cleaned(blocks.reshape(-1, columns)))

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        return int(self.patches.nbytes + self.values.nbytes)

    def __bool__(self) -> bool:
        """Whether there is any."""
        return len(self.patches) > 0

    @property
    def has_material(self) -> bool:
        """Whether any material is painted."""
        return self.values.shape[1] == WIDE

    @functools.cached_property
    def slots(self) -> I32:
        """Where each patch up to the last painted one stands among these, (p,); -1 where it is not."""
        out = np.full(int(self.patches[-1]) + 1 if len(self.patches) else 0, -1, np.int32)
        out[self.patches] = np.arange(len(self.patches), dtype=np.int32)
        return out

    def dense(self, n: int) -> U8:
        """Colours, material and what they cover of all of `n` vertices, (n, 9)."""
        out = np.zeros((-(-n // PATCH), PATCH, WIDE), np.uint8)
        columns = self.values.shape[1]
        out[self.patches, :, :columns] = self.values.reshape(-1, PATCH, columns)
        return np.ascontiguousarray(out.reshape(-1, WIDE)[:n])

    def fits(self, n: int) -> bool:
        """Whether it can be that of a mesh of so many vertices."""
        count = -(-n // PATCH)
        held = self.patches
        ordered = not len(held) or (held[0] >= 0 and held[-1] < count and bool((np.diff(held) > 0).all()))
        rows, columns = self.values.shape
        return rows == PATCH * len(held) and columns in (SLIM, WIDE) and ordered


def cleaned(rows: U8) -> U8:
    """Rows (n, 4 or 9), in which what covers nothing has no colour: equal paint is equal in its bytes."""
    rows[rows[:, COVER] == 0, :COVER] = 0
    if rows.shape[1] == SLIM:
        return rows
    bare = rows[:, MATERIAL_COVER] == 0
    if bare.all():
        return np.ascontiguousarray(rows[:, :SLIM])
    rows[bare, MATERIAL] = 0
    return rows


def by_cover(dense: AnyArray) -> F32:
    """Paint (n, 4 or 9) with colours and materials times what they cover: what is between such rows may be read off."""
    table = dense.astype(np.float32)
    table[:, :COVER] *= table[:, COVER:SLIM] / 255
    if table.shape[1] == WIDE:
        table[:, MATERIAL] *= table[:, MATERIAL_COVER:] / 255
    return table


def from_cover(table: F32) -> U8:
    """The paint of rows, (n, 4 or 9), as `by_cover` gives them."""
    out = table.copy()
    out[:, :COVER] *= 255 / np.maximum(out[:, COVER:SLIM], 1e-6)
    if out.shape[1] == WIDE:
        out[:, MATERIAL] *= 255 / np.maximum(out[:, MATERIAL_COVER:], 1e-6)
    return np.rint(np.clip(out, 0, 255)).astype(np.uint8)


def times_cover(dense: U8, share: F32) -> None:
    """Let paint (n, 9) cover less, by shares (n,), in place."""
    for column in (COVER, MATERIAL_COVER):
        dense[:, column] = np.rint(dense[:, column] * share)


def with_material(colour: U8, material: U8) -> U8:
    """Paint, (n, 9), that covers all with colours (n, 4) and material (n, 4)."""
    out = np.full((len(colour), WIDE), 255, np.uint8)
    out[:, :COVER] = colour[:, :COVER]
    out[:, MATERIAL] = material
    return out
