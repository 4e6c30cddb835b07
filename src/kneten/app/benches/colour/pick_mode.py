"""Picking: a click on the clay takes its colour and material in hand."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Generic, TypeVar

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode
from kneten.core.paint.ink import Colour

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

Found = TypeVar("Found")


class PickMode(Mode, Generic[Found]):
    """Takes what is painted under the pointer, following it until the button is let go.

    Parameters
    ----------
    found_at : callable
        What there is at a pixel, the first of it a colour to show; None where there is nothing.
    take : callable
        Gets what was found.
    hint : str
        What to do, in the status line.
    """

    key = "colour.pick"
    hint = "Click on the clay to take its colour and material · Shift stays at it · Esc leaves"

    def __init__(
        self,
        view: Canvas,
        found_at: Callable[[float, float], tuple[Colour, Found] | None],
        take: Callable[[Found], object],
        hint: str = "",
    ) -> None:
        super().__init__(view)
        self._found_at = found_at
        self._take = take
        self._seen: tuple[Colour, Found] | None = None
        self.hint = hint or self.hint
        self._at = (0.0, 0.0)

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        """A press on the clay picks; beside it the camera turns."""
        if self._found_at(press.x, press.y) is None:
            return None
        return self._follow(press, bool(keys & Qt.KeyboardModifier.ShiftModifier))

    def _follow(self, press: Pointer, stay: bool) -> Hand:
        at = press
        while True:
            self.hover(at.x, at.y)
            event = yield None
            if event is None:
                continue
            if event.kind == "cancel":
                return
            at = event
            if event.kind == "release":
                break
        self.hover(at.x, at.y)
        if self._seen is not None:
            self._take(self._seen[1])
            if not stay:
                self.view.end_mode()

    def hover(self, x: float, y: float) -> bool:
        """Show what would be taken."""
        self._seen, self._at = self._found_at(x, y), (x, y)
        return True

    def paint(self, painter: QPainter) -> None:
        """A patch of the colour beside the pointer."""
        if self._seen is None:
            return
        x, y = self._at
        painter.setPen(QPen(QColor(0, 0, 0, 150), 3.4))
        painter.setBrush(QColor(*self._seen[0]))
        box = QRectF(x + 14, y - 38, 34, 24)
        painter.drawRoundedRect(box, 5, 5)
        painter.setPen(QPen(QColor(255, 255, 255), 1.4))
        painter.drawRoundedRect(box, 5, 5)
