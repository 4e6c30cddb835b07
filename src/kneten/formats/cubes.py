"""Colour tables from .cube files: text with the steps of a table, red changing the fastest."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from kneten.core.arrays import F32, F64
from kneten.core.light.finish import LARGEST_TABLE, ColourTable
from kneten.formats.pieces import FormatError

LARGEST = 64 * 1024 * 1024
"""Bytes of a file that is read: the largest table takes a tenth of that."""


def read_cube(path: Path) -> ColourTable:
    """A colour table from a file.

    Tables of one dimension become such of three, and a domain other than 0 to 1 is brought to that. Raises
    `FormatError`, with words for the user.
    """
    try:
        if path.stat().st_size > LARGEST:
            raise FormatError(f"{path.name} is too large for a colour table.")
        text = path.read_text("utf-8", "replace")
    except OSError as error:
        raise FormatError(f"{path.name} cannot be read: {error.strerror or error}.") from error
    name, flat, cube, low, high, rows = path.stem, 0, 0, [0.0] * 3, [1.0] * 3, []
    for number, line in enumerate(text.splitlines(), 1):
        words = line.split("#")[0].split()
        if not words:
            continue
        try:
            if words[0] == "TITLE":
                name = line.partition('"')[2].rpartition('"')[0].strip() or name
            elif words[0] == "LUT_1D_SIZE":
                flat = int(words[1])
            elif words[0] == "LUT_3D_SIZE":
                cube = int(words[1])
            elif words[0] in ("DOMAIN_MIN", "LUT_1D_INPUT_RANGE", "LUT_3D_INPUT_RANGE", "DOMAIN_MAX"):
                numbers = [float(word) for word in words[1:4]]
                if words[0].endswith("RANGE"):
                    low, high = [numbers[0]] * 3, [numbers[1]] * 3
                elif words[0] == "DOMAIN_MIN":
                    low = numbers
                else:
                    high = numbers
            elif words[0][0].isalpha():
                continue
            else:
                r, g, b = (float(word) for word in words)
                rows.append((r, g, b))
        except (ValueError, IndexError) as error:
            raise FormatError(f"{path.name} is damaged in line {number}: {line.strip()[:60]}") from error
    count = cube**3 if cube else flat
    if not 2 <= (cube or flat) <= (LARGEST_TABLE if cube else 65536):
        raise FormatError(
            f"{path.name} holds no table that can be used: 2 to {LARGEST_TABLE} steps each way are needed."
        )
    if len(rows) != count:
        raise FormatError(f"{path.name} promises {count} colours and has {len(rows)}.")
    steps = np.array(rows, np.float64)
    if not np.isfinite(steps).all() or np.abs(steps).max() > 100:
        raise FormatError(f"{path.name} holds numbers that are no colours.")
    if len(low) != 3 or len(high) != 3 or not all(b > a for a, b in zip(low, high, strict=True)):
        raise FormatError(f"{path.name} has no range of colours that can be used.")
    table = _cubed(steps) if not cube else steps.reshape(cube, cube, cube, 3)
    return ColourTable(name[:80], _in_range(table, low, high))


def _cubed(curve: F64) -> F64:
    """A table (33, 33, 33, 3) of three curves (n, 3)."""
    at = np.linspace(0, 1, 33)
    r, g, b = (np.interp(at, np.linspace(0, 1, len(curve)), curve[:, k]) for k in range(3))
    out = np.empty((33, 33, 33, 3))
    out[..., 0] = r[None, None, :]
    out[..., 1] = g[None, :, None]
    out[..., 2] = b[:, None, None]
    return out


def _in_range(table: F64, low: list[float], high: list[float]) -> F32:
    """The rows (n * n * n, 3) of a table (n, n, n, 3) whose ends stand for `low` and `high`, for ends 0 and 1."""
    if low != [0.0] * 3 or high != [1.0] * 3:
        from scipy.ndimage import map_coordinates

        n = len(table)
        at = np.linspace(0, 1, n)
        # Blue is the first axis.
        axes = [(at - low[k]) / (high[k] - low[k]) * (n - 1) for k in (2, 1, 0)]
        places = np.stack(np.meshgrid(*axes, indexing="ij"))
        parts = [map_coordinates(table[..., k], places, order=1, mode="nearest") for k in range(3)]
        table = np.stack(parts, axis=-1)
    return np.ascontiguousarray(table.reshape(-1, 3), np.float32)
