"""Reading pictures: what colour they have between their pixels, without what is finer than it is wanted for."""

from __future__ import annotations

from typing import Protocol

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, Progress
from kneten.core.paint.light import DECODED


class OverClay(Protocol):
    """What a brush lays on each vertex of one part: a picture's colours, or its own as far as something says."""

    def at(self, vertices: I32) -> tuple[F32 | None, F32]:
        """The light over some vertices, (k, 3), None for the brush's own, and how much of it is laid there, (k,)."""


class PictureOver(OverClay, Protocol):
    """A picture as it lies over the vertices of one part."""

    def seen(self, progress: Progress) -> tuple[F32, F32]:
        """The same of all vertices, (n, 3) and (n,), nothing where it is not to be laid."""


def evened(pixels: U8, step: float) -> F32:
    """The light of a picture (h, w, 4), times its opacity, and that, (h', w', 4): halved until `step` of its pixels are less than two."""
    table = np.empty((*pixels.shape[:2], 4), np.float32)
    table[..., 3] = pixels[..., 3].astype(np.float32) / 255
    table[..., :3] = DECODED[pixels[..., :3]] * table[..., 3:]
    while step >= 2.0 and min(table.shape[:2]) >= 2:
        rows, columns = table.shape[0] // 2 * 2, table.shape[1] // 2 * 2
        even = table[:rows, :columns].reshape(rows // 2, 2, columns // 2, 2, 4)
        table, step = even.mean(axis=(1, 3)), step / 2
    return table


def between(table: F32, uv: F64, again: bool = False) -> F32:
    """What `evened` gave, between its pixels, (k, 4), at places (k, 2) from 0 to 1; beyond its edge, or `again` from the other."""
    rows, columns = table.shape[:2]
    x, y = uv[:, 0] * columns - 0.5, uv[:, 1] * rows - 0.5
    i, j = np.floor(y).astype(np.int64), np.floor(x).astype(np.int64)
    fy, fx = (y - i).astype(np.float32)[:, None], (x - j).astype(np.float32)[:, None]
    if again:
        i0, i1, j0, j1 = i % rows, (i + 1) % rows, j % columns, (j + 1) % columns
    else:
        i0, i1 = np.clip(i, 0, rows - 1), np.clip(i + 1, 0, rows - 1)
        j0, j1 = np.clip(j, 0, columns - 1), np.clip(j + 1, 0, columns - 1)
    upper = table[i0, j0] * (1 - fx) + table[i0, j1] * fx
    lower = table[i1, j0] * (1 - fx) + table[i1, j1] * fx
    return np.asarray(upper * (1 - fy) + lower * fy, np.float32)


def as_light(found: F32) -> tuple[F32, F32]:
    """Light (k, 3) and opacity (k,) of what `between` gave."""
    light = found[:, :3] / np.maximum(found[:, 3:], np.float32(1e-6))
    return light.astype(np.float32, copy=False), found[:, 3]


def greys(light: F32) -> F32:
    """How light colours look, 0 to 1, (k,): the sRGB code of their luminance."""
    luminance = light @ np.array([0.2126, 0.7152, 0.0722], np.float32)
    dark = luminance <= 0.0031308
    codes = np.where(dark, 12.92 * luminance, 1.055 * np.maximum(luminance, 1e-9) ** (1 / 2.4) - 0.055)
    return np.asarray(np.clip(codes, 0, 1), np.float32)
