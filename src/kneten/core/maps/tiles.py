"""The maps of several tiles as one picture, for what shows or holds only one to a part."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np

from kneten.core.arrays import F32, U8, AnyArray

MOST = 8192
"""Texels across the whole picture: of larger ones the mean of some."""

Tile = tuple[int, int]


def in_one(tiles: Mapping[Tile, Mapping[str, U8]], uv: F32) -> tuple[dict[str, U8], F32]:
    """Maps of tiles side by side in a square, the first of them below at the left; and where corners lie in it.

    Parameters
    ----------
    tiles : mapping
        For each tile its maps (s, s, c), all of one size, by their keys.
    uv : (f, 8) float32
        Of faces, each in the tile that its middle lies in.

    Returns
    -------
    pictures : dict
        (h, h, c) uint8 each; nought, and for normals straight up, where a tile has none of a map.
    uv : (f, 8) float32
        As they were where there is the first tile alone.
    """
    if set(tiles) == {(0, 0)}:
        return dict(tiles[0, 0]), uv
    order = sorted(tiles, key=lambda one: (one[1], one[0]))
    side = math.ceil(math.sqrt(len(order)))
    size = next(picture.shape[0] for maps in tiles.values() for picture in maps.values())
    fewer = math.ceil(side * size / MOST)
    size //= fewer
    bands = {key: picture.shape[2] for maps in tiles.values() for key, picture in maps.items()}
    pictures = {
        key: np.full((side * size, side * size, wide), (128, 128, 255) if key == "normal" else 0, np.uint8)
        for key, wide in bands.items()
    }
    corners = uv.reshape(-1, 4, 2).astype(np.float64)
    own = np.floor(corners[:, :3].mean(axis=1)).astype(np.int64)
    moved = corners.copy()
    for k, tile in enumerate(order):
        column, row = k % side, k // side
        top = (side - 1 - row) * size
        for key, picture in tiles[tile].items():
            pictures[key][top : top + size, column * size : (column + 1) * size] = _smaller(picture, fewer)
        here = (own == tile).all(axis=1)
        moved[here] = (corners[here] - tile + (column, row)) / side
    # What has no UVs lies at nought, and so does the corner that a triangle has not.
    moved[(corners == 0).all(axis=2)] = 0
    return pictures, moved.reshape(-1, 8).astype(np.float32)


def _smaller(picture: AnyArray, fewer: int) -> U8:
    """A picture (s, s, c) with the mean of so many texels, each way, as one."""
    if fewer == 1:
        return np.asarray(picture, np.uint8)
    size = picture.shape[0] // fewer
    blocks = picture[: size * fewer, : size * fewer].reshape(size, fewer, size, fewer, -1)
    return np.rint(blocks.mean(axis=(1, 3))).astype(np.uint8)
