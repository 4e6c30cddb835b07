"""Tells when memory runs short."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer

from kneten.app.work import memory

if TYPE_CHECKING:
    from kneten.app.shell.frame import Frame

EVERY = 5000
"""Milliseconds between two looks at the memory: 0.1 ms each."""


class MemoryWatch:
    """Says when memory runs short, before it is too late; once until there is more again."""

    def __init__(self, window: Frame) -> None:
        self._window = window
        self._told = False
        self._timer = QTimer(window)
        self._timer.setInterval(EVERY)
        self._timer.timeout.connect(self.look)
        self._timer.start()

    def look(self) -> None:
        """Look how much is left."""
        scarce = memory.is_scarce()
        if scarce and not self._told:
            self._window.studio.advised.emit(
                f"Only {memory.size_text(memory.free_memory())} of memory are left. Drop levels that are not needed, or close other "
                "programs, before anything large.",
                [("Save now", lambda: self._window.registry.run("file.save"))],
            )
        self._told = scarce
