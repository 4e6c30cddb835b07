"""Arrays as bytes that deflate well: differences from row to row, their bytes sorted by weight.

Rows that follow each other lie beside each other in space, so that the words of one column differ little; taken as
whole numbers the differences fit into few bytes, and the same byte of all of them, one behind another, repeats itself.
Nothing is lost: the words of floating-point numbers are taken as they are.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from kneten.core.arrays import AnyArray


def packable(array: AnyArray) -> bool:
    """Whether an array (n, ...) is of words of four bytes, and long enough to gain."""
    return bool(array.dtype.itemsize == 4 and array.dtype.kind in "iuf" and array.ndim and array.size > 64)


def packed(array: AnyArray) -> bytes:
    """The bytes of an array (n, ...) of four-byte words, as many as it has."""
    words = np.ascontiguousarray(array).view(np.uint32).reshape(len(array), -1).T
    steps = np.empty(words.shape, np.uint32)
    steps[:, 0] = words[:, 0]
    np.subtract(words[:, 1:], words[:, :-1], out=steps[:, 1:])
    # A step back by one becomes 1, a step on by one 2: small numbers both.
    signs = (steps.view(np.int32) >> 31).view(np.uint32)
    steps <<= np.uint32(1)
    steps ^= signs
    return np.ascontiguousarray(steps.reshape(-1).view(np.uint8).reshape(-1, 4).T).tobytes()


def unpacked(data: AnyArray, shape: tuple[int, ...], kind: np.dtype[Any]) -> AnyArray:
    """The array of a shape (n, ...) and kind whose bytes (4 words,) uint8 these are."""
    steps = data.reshape(4, -1).T.copy().reshape(-1).view(np.uint32)
    signs = -(steps & np.uint32(1)).view(np.int32)
    steps >>= np.uint32(1)
    steps ^= signs.view(np.uint32)
    words = np.cumsum(steps.reshape(-1, shape[0]), axis=1, dtype=np.uint32)
    return np.ascontiguousarray(words.T).view(kind).reshape(shape)
