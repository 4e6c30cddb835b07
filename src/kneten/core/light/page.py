"""Pictures on a page: how many side by side, and where."""

from __future__ import annotations

from dataclasses import dataclass

PAPERS: dict[str, tuple[str, float, float]] = {
    "a4-wide": ("A4, wide", 297.0, 210.0),
    "a4-high": ("A4, upright", 210.0, 297.0),
    "square": ("Square", 210.0, 210.0),
    "screen": ("Screen, 16 : 9", 320.0, 180.0),
}
"""Names of papers, and their sides in millimetres."""

MARGIN = 0.045
GAP = 0.018
CAPTION = 0.032
TITLE = 0.075
"""Widths as shares of a page's shorter side."""


@dataclass(frozen=True)
class Cell:
    """Where a picture lies on a page, and its words below it, in the page's unit."""

    x: float
    y: float
    width: float
    height: float
    caption: float


@dataclass(frozen=True)
class Layout:
    """Where all lies on a page: title and cells."""

    margin: float
    title: float
    cells: tuple[Cell, ...]


def laid_out(count: int, width: float, height: float, aspect: float, columns: int = 0) -> Layout:
    """Pictures of one aspect as large as they can be on a page of such a size, row by row in the middle.

    `columns` of 0 are as many as make them largest. Raises `ValueError` for none, or without room.
    """
    if count < 1 or width <= 0 or height <= 0 or aspect <= 0:
        raise ValueError("a page needs pictures, and room for them")
    short = min(width, height)
    margin, gap, caption, title = (share * short for share in (MARGIN, GAP, CAPTION, TITLE))
    across, down = width - 2 * margin, height - 2 * margin - title

    def fitting(n: int) -> float:
        """How wide each may be."""
        rows = -(-count // n)
        wide = (across - (n - 1) * gap) / n
        high = (down - (rows - 1) * gap) / rows - caption
        return min(wide, high * aspect)

    n = columns or max(range(1, count + 1), key=fitting)
    wide = fitting(n)
    if wide <= 0:
        raise ValueError(f"{count} pictures have no room on one page: choose fewer")
    high, rows = wide / aspect, -(-count // n)
    top = margin + title + (down - rows * (high + caption) - (rows - 1) * gap) / 2
    cells = []
    for k in range(count):
        row, column = divmod(k, n)
        here = min(n, count - row * n)
        left = (width - here * wide - (here - 1) * gap) / 2
        cells.append(
            Cell(left + column * (wide + gap), top + row * (high + caption + gap), wide, high, caption)
        )
    return Layout(margin, title, tuple(cells))
