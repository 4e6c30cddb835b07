"""A printed page of shortcuts: what has keys, by where it stands, in columns."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from PySide6.QtCore import QBuffer, QByteArray, QIODevice, QMarginsF, QRectF, QSizeF, Qt
from PySide6.QtGui import QFont, QFontMetricsF, QPageLayout, QPageSize, QPainter, QPdfWriter

from kneten.app.work.pages import DOTS, INK, QUIET
from kneten.document.arrays_file import ProjectFileError, replacing
from kneten.formats.pieces import FormatError

WIDE, HIGH = 210.0, 297.0
"""Millimetres of the page."""

EDGE = 12.0
COLUMNS = 3
GAP = 6.0
LINE = 3.5
"""Millimetres of a line of words."""


def write_keys(path: Path, title: str, groups: Mapping[str, Sequence[tuple[str, str]]]) -> int:
    """Write names and keys by group as a PDF, at once or not at all; how many pages it has. Raises `FormatError`."""
    held = QByteArray()
    buffer = QBuffer(held)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    writer = QPdfWriter(buffer)
    writer.setTitle(title)
    writer.setCreator("Kneten")
    writer.setResolution(DOTS)
    size = QPageSize(QSizeF(WIDE, HIGH), QPageSize.Unit.Millimeter, "a4-high")
    writer.setPageLayout(QPageLayout(size, QPageLayout.Orientation.Portrait, QMarginsF(0, 0, 0, 0)))
    painter = QPainter(writer)
    pages = _Pages(painter, writer, title).lay(groups)
    painter.end()
    buffer.close()
    try:
        with replacing(path) as file:
            file.write(bytes(held.data()))
    except ProjectFileError as error:
        raise FormatError(str(error)) from error
    return pages


class _Pages:
    """Lays lines one below the other, column by column, page by page."""

    def __init__(self, painter: QPainter, writer: QPdfWriter, title: str) -> None:
        self._painter, self._writer, self._title = painter, writer, title
        self._dots = DOTS / 25.4
        self._column, self._y, self._pages = 0, 0.0, 0
        self._wide = (WIDE - 2 * EDGE - (COLUMNS - 1) * GAP) / COLUMNS

    def lay(self, groups: Mapping[str, Sequence[tuple[str, str]]]) -> int:
        """Lay all; how many pages it took."""
        self._begin()
        for name, rows in groups.items():
            # A heading is never the last of its column.
            self._room(3 if self._y > self._top else 2)
            if self._y > self._top:
                self._y += LINE
            self._line(name, "", self._font(3.4, True))
            for words, keys in rows:
                self._room(1)
                self._line(words, keys, self._font(2.7))
        return self._pages

    @property
    def _top(self) -> float:
        return EDGE + (12.0 if self._pages == 1 else 0.0)

    def _begin(self) -> None:
        if self._pages:
            self._writer.newPage()
        self._pages += 1
        self._column, self._y = 0, self._top
        if self._pages == 1:
            rect = QRectF(EDGE, EDGE - 3, WIDE - 2 * EDGE, 9)
            self._words(rect, self._title, self._font(6.0, True), Qt.AlignmentFlag.AlignLeft)

    def _room(self, lines: int) -> None:
        if self._y + lines * LINE <= HIGH - EDGE:
            return
        self._column += 1
        self._y = self._top
        if self._column == COLUMNS:
            self._begin()

    def _line(self, words: str, keys: str, font: QFont) -> None:
        x = EDGE + self._column * (self._wide + GAP)
        taken = (
            QFontMetricsF(font, self._painter.device()).horizontalAdvance(keys) / self._dots if keys else 0.0
        )
        self._words(
            QRectF(x, self._y, self._wide - taken - 1.5, LINE), words, font, Qt.AlignmentFlag.AlignLeft
        )
        if keys:
            self._words(QRectF(x, self._y, self._wide, LINE), keys, font, Qt.AlignmentFlag.AlignRight, True)
        self._y += LINE

    def _font(self, size: float, bold: bool = False) -> QFont:
        font = QFont("Lato")
        font.setPixelSize(round(size * self._dots))
        font.setBold(bold)
        return font

    def _words(
        self, rect: QRectF, text: str, font: QFont, side: Qt.AlignmentFlag, quiet: bool = False
    ) -> None:
        dots = QRectF(
            rect.x() * self._dots,
            rect.y() * self._dots,
            rect.width() * self._dots,
            rect.height() * self._dots,
        )
        self._painter.setFont(font)
        self._painter.setPen(QUIET if quiet else INK)
        metrics = QFontMetricsF(font, self._painter.device())
        short = metrics.elidedText(text, Qt.TextElideMode.ElideRight, dots.width())
        self._painter.drawText(dots, side | Qt.AlignmentFlag.AlignVCenter, short)
