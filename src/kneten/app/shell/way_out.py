"""Escape: closes what lies over the window, whatever has the keys."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent

from kneten.app.work.panel import Panel

if TYPE_CHECKING:
    from kneten.app.shell.frame import Frame


class WayOut(QObject):
    """Takes the Escape that nothing else in the window wanted: a panel goes, else the tour."""

    def __init__(self, window: Frame) -> None:
        super().__init__(window)
        self._window = window
        window.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:  # noqa: N802
        if not isinstance(event, QKeyEvent) or event.type() != QEvent.Type.KeyPress:
            return False
        return event.key() == Qt.Key.Key_Escape and self.close_one()

    def close_one(self) -> bool:
        """Close the panel that was opened last, or the tour; whether there was anything."""
        open_ones = [panel for panel in self._window.findChildren(Panel) if panel.isVisible()]
        if open_ones:
            # Children are listed in the order they were raised in.
            open_ones[-1].leave()
            return True
        if self._window.tour.at >= 0:
            self._window.tour.end()
            return True
        return False
