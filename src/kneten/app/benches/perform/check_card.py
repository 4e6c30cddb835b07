"""The card of the shape check: what is wrong, the worst first, and what mends it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QSignalBlocker, Qt
from PySide6.QtWidgets import QLabel, QListWidget, QListWidgetItem

from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card

if TYPE_CHECKING:
    from kneten.app.benches.perform.shape_checking import ShapeChecking
    from kneten.app.view.desk import Desk

LISTED = 200
"""Finds in the list; the notice counts all of them."""

ROWS = 9


class CheckCard(Card):
    """What was found in the shapes of a face."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Shape check", desk.studio)
        self._checking: ShapeChecking = desk.shape_checking
        grid, self.buttons = command_grid(
            desk.registry,
            (("shape.check", "Check"), ("shape.try-way", "Its way"), ("rig.try-motion", "Motion")),
        )
        self.column.addLayout(grid)
        self.says = QLabel()
        self.says.setObjectName("quiet")
        self.says.setWordWrap(True)
        self.column.addWidget(self.says)
        self.list = QListWidget()
        self.list.setAccessibleName("Finds")
        self.list.setToolTip("What is wrong, the worst first: choosing one shows it")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setTextElideMode(Qt.TextElideMode.ElideRight)
        self.list.currentRowChanged.connect(self._choose)
        self.column.addWidget(self.list)
        mending, more = command_grid(
            desk.registry,
            (
                ("shape.mend-smooth", "Smooth"), ("shape.mend-away", "Take away"), ("shape.mend-even", "Even"),
                ("shape.mend-lift", "Lift"), ("shape.find-correct", "Correct"), ("shape.mean", "Meant so"),
                ("shape.mend-all", "Mend all"),
            ),
        )  # fmt: skip
        self.buttons |= more
        self.column.addLayout(mending)
        self._known: object = None
        self._checking.changed.connect(self.fill)
        self.fill()

    def _choose(self, row: int) -> None:
        if row >= 0 and row != self._checking.chosen:
            self._checking.choose(row)

    def fill(self) -> None:
        """Show what was found."""
        checking = self._checking
        finds = checking.finds[:LISTED]
        chosen = checking.find
        self.says.setText(chosen.words if chosen is not None else checking.words())
        with QSignalBlocker(self.list):
            if finds != self._known:
                self._known = finds
                self.list.clear()
                for one in finds:
                    item = QListWidgetItem(f"{one.amount:.2g} mm  {one.words.rsplit(', ', 2)[0]}")
                    item.setToolTip(one.words)
                    self.list.addItem(item)
                rows = min(max(len(finds), 1), ROWS)
                self.list.setFixedHeight(rows * max(self.list.sizeHintForRow(0), 20) + 6)
            self.list.setCurrentRow(checking.chosen)
        self.list.setVisible(bool(finds))
        for key, button in self.buttons.items():
            button.setVisible(not key.startswith(("shape.me", "shape.find")) or bool(finds))
