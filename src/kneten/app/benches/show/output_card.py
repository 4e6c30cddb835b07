"""The card of what goes out: stills, films, sheets and the reel, and what keeping the steps for it costs."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QCheckBox

from kneten.app.fields.fields import Words
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

SOON = 400
"""Milliseconds after a change in which what the reel holds is counted: a stroke does not wait for it."""


class OutputCard(Card):
    """What others are handed, and the steps that are kept for the reel."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Pictures and films", desk.studio)
        self._reels = desk.reels
        keys = (
            ("file.still", "Still…"), ("file.turntable", "Turntable…"),
            ("file.sheet", "Sheet…"), ("file.reel", "Reel…"),
        )  # fmt: skip
        grid, self.buttons = command_grid(desk.registry, keys, 2)
        self.column.addLayout(grid)
        self.words = Words()
        self.column.addWidget(self.words)
        self.keeps = QCheckBox("Keep my steps for the reel")
        self.keeps.setAccessibleName("Keep the steps for the reel")
        self.keeps.setToolTip(
            "When the project is saved, what was done since the last time is kept beside it on this machine"
        )
        self.keeps.clicked.connect(lambda: desk.registry.run("reel.keep"))
        self.column.addWidget(self.keeps)
        grid, more = command_grid(desk.registry, (("reel.forget", "Throw steps away…"),), 1)
        self.buttons |= more
        self.column.addLayout(grid)
        self._soon = QTimer(self, singleShot=True, interval=SOON)
        self._soon.timeout.connect(self.fill)
        for signal in (desk.studio.history_changed, desk.studio.project_changed, desk.studio.scene_changed):
            signal.connect(lambda: self._soon.start())
        self.head.toggled.connect(lambda _: self._soon.start())
        self.fill()

    def fill(self) -> None:
        """Show what there is."""
        if self.head.isChecked() and self.isVisible():
            # Long work has many steps: they are counted beside the window.
            self._studio.aside(self._reels.words, self.words.setText)
        self.keeps.setChecked(self._studio.project.settings.keeps_steps)
