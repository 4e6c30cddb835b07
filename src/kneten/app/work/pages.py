"""Pages of pictures with words, as a PNG picture or a PDF document."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PySide6.QtCore import QBuffer, QByteArray, QIODevice, QMarginsF, QRectF, QSizeF, Qt
from PySide6.QtGui import (
    QColor,
    QFont,
    QFontMetricsF,
    QImage,
    QPageLayout,
    QPageSize,
    QPainter,
    QPdfWriter,
)

from kneten.core.arrays import U8
from kneten.core.light.page import PAPERS, laid_out
from kneten.document.arrays_file import ProjectFileError, replacing
from kneten.formats.pieces import FormatError

ENDINGS = (".png", ".pdf")

DOTS = 300
"""Dots of a document's inch."""

GROUND, INK, QUIET = QColor(247, 246, 243), QColor(34, 34, 34), QColor(110, 108, 104)


@dataclass(frozen=True)
class Page:
    """What is on a page.

    Attributes
    ----------
    title : str
    note : str
        Small words beside it.
    paper : str
        A key of `PAPERS`.
    pictures : tuple of words and (h, w, 3) uint8
        All of one size.
    columns : int
        How many side by side; 0 for as many as make them largest.
    """

    title: str
    note: str
    paper: str
    pictures: tuple[tuple[str, U8], ...]
    columns: int = 0


def write_page(path: Path, page: Page, width: int = 3508) -> None:
    """Write a page by its ending, at once or not at all; a PNG is so many pixels wide. Raises `FormatError`."""
    ending = path.suffix.lower()
    if ending not in ENDINGS:
        raise FormatError(f"{path.name}: a sheet is written as {' or '.join(ENDINGS)}.")
    data = _document(page) if ending == ".pdf" else _picture(page, width)
    try:
        with replacing(path) as file:
            file.write(data)
    except ProjectFileError as error:
        raise FormatError(str(error)) from error


def _picture(page: Page, width: int) -> bytes:
    _, wide, high = PAPERS[page.paper]
    image = QImage(width, round(width * high / wide), QImage.Format.Format_RGB32)
    painter = QPainter(image)
    _paint(painter, page, float(image.width()), float(image.height()))
    painter.end()
    held = QByteArray()
    buffer = QBuffer(held)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    image.save(buffer, "PNG")  # type: ignore[call-overload]
    return bytes(held.data())


def _document(page: Page) -> bytes:
    _, wide, high = PAPERS[page.paper]
    held = QByteArray()
    buffer = QBuffer(held)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    writer = QPdfWriter(buffer)
    writer.setTitle(page.title)
    writer.setCreator("Kneten")
    writer.setResolution(DOTS)
    size = QPageSize(QSizeF(wide, high), QPageSize.Unit.Millimeter, page.paper)
    writer.setPageLayout(QPageLayout(size, QPageLayout.Orientation.Portrait, QMarginsF(0, 0, 0, 0)))
    painter = QPainter(writer)
    _paint(painter, page, wide / 25.4 * DOTS, high / 25.4 * DOTS)
    painter.end()
    buffer.close()
    return bytes(held.data())


def _paint(painter: QPainter, page: Page, width: float, height: float) -> None:
    high, wide = page.pictures[0][1].shape[:2]
    layout = laid_out(len(page.pictures), width, height, wide / high, page.columns)
    painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
    painter.fillRect(QRectF(0, 0, width, height), GROUND)
    line = QRectF(layout.margin, layout.margin, width - 2 * layout.margin, layout.title * 0.62)
    note = _font(layout.title * 0.24)
    taken = QFontMetricsF(note).horizontalAdvance(page.note)
    _words(
        painter, line.adjusted(0, 0, -taken, 0), page.title, _font(layout.title * 0.46, True), INK, left=True
    )
    _words(painter, line, page.note, note, QUIET, right=True)
    for cell, (caption, codes) in zip(layout.cells, page.pictures, strict=True):
        painter.drawImage(QRectF(cell.x, cell.y, cell.width, cell.height), _image(codes))
        below = QRectF(cell.x, cell.y + cell.height, cell.width, cell.caption)
        _words(painter, below, caption, _font(cell.caption * 0.52), INK)


def _font(pixels: float, bold: bool = False) -> QFont:
    font = QFont("Lato")
    font.setPixelSize(max(round(pixels), 1))
    font.setBold(bold)
    return font


def _words(
    painter: QPainter,
    rect: QRectF,
    text: str,
    font: QFont,
    colour: QColor,
    left: bool = False,
    right: bool = False,
) -> None:
    """Words in a line, made shorter where they have no room."""
    sides = Qt.AlignmentFlag.AlignLeft if left else Qt.AlignmentFlag.AlignRight if right else None
    # A page's painter measures in its own dots.
    metrics = QFontMetricsF(font, painter.device())
    painter.setFont(font)
    painter.setPen(colour)
    short = metrics.elidedText(text, Qt.TextElideMode.ElideRight, rect.width())
    painter.drawText(rect, (sides or Qt.AlignmentFlag.AlignHCenter) | Qt.AlignmentFlag.AlignVCenter, short)


def _image(codes: U8) -> QImage:
    high, wide = codes.shape[:2]
    held = np.ascontiguousarray(codes)
    return QImage(held.data, wide, high, 3 * wide, QImage.Format.Format_RGB888).copy()


def joined(pictures: Sequence[tuple[str, U8]]) -> tuple[tuple[str, U8], ...]:
    """Pictures as a page holds them."""
    return tuple((" ".join(words.split()), codes) for words, codes in pictures)
