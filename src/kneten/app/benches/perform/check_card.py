"""The card of the shape check: what is wrong, the worst first, and what mends it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QSignalBlocker, Qt
from PySide6.QtGui import QIcon, QPixmap, QShowEvent
from PySide6.QtWidgets import QListWidget, QListWidgetItem

from kneten.app.benches.perform.small_pictures import SIZE, SmallPictures
from kneten.app.fields.fields import Words
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card

if TYPE_CHECKING:
    from kneten.app.benches.perform.shape_checking import ShapeChecking
    from kneten.app.view.desk import Desk

LISTED = 200
"""Finds in the list; the notice counts all of them."""

ROWS = 5


class CheckCard(Card):
    """What was found in the shapes of a face."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Shape check", desk.studio)
        self._checking: ShapeChecking = desk.shape_checking
        grid, self.buttons = command_grid(
            desk.registry,
            (
                ("shape.check", "Check"),
                ("shape.try-way", "Its way"),
                ("rig.try-motion", "Motion"),
                ("shape.heat", "Heat map"),
            ),
        )
        self.column.addLayout(grid)
        self.says = Words()
        self.column.addWidget(self.says)
        self.list = QListWidget()
        self.list.setAccessibleName("Finds")
        self.list.setToolTip("What is wrong, the worst first: choosing one shows it")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setTextElideMode(Qt.TextElideMode.ElideRight)
        self.list.setIconSize(SIZE)
        self.list.currentRowChanged.connect(self._choose)
        self.list.verticalScrollBar().valueChanged.connect(self._fill_pictures)
        self.column.addWidget(self.list)
        mending, more = command_grid(
            desk.registry,
            (
                ("shape.mend-smooth", "Smooth"), ("shape.mend-away", "Take away"), ("shape.mend-even", "Even"),
                ("shape.mend-lift", "Lift"), ("shape.find-correct", "Correct"), ("shape.mean", "Meant so"),
                ("shape.mend-all", "Mend all"),
                ("shape.mend-pairs", "Mend pairs"),
            ),
        )  # fmt: skip
        self.buttons |= more
        self.column.addLayout(mending)
        self._known: object = None
        self._pictures = SmallPictures(desk)
        self._pictures.arrived.connect(self._fill_pictures)
        self.head.toggled.connect(self._fill_pictures)
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
                blank = QPixmap(SIZE)
                blank.fill(Qt.GlobalColor.transparent)
                for one in finds:
                    item = QListWidgetItem(f"{one.amount:.2g} mm  {one.words.rsplit(', ', 2)[0]}")
                    item.setToolTip(one.words)
                    if self._checking.drawing(one) is not None:
                        item.setIcon(QIcon(blank))
                    self.list.addItem(item)
                rows = min(max(len(finds), 1), ROWS)
                self.list.setFixedHeight(rows * max(self.list.sizeHintForRow(0), 20) + 6)
            self.list.setCurrentRow(checking.chosen)
        self._fill_pictures()
        self.list.setVisible(bool(finds))
        for key, button in self.buttons.items():
            button.setVisible(not key.startswith(("shape.me", "shape.find")) or bool(finds))

    def _fill_pictures(self) -> None:
        """Have the finds that are in sight drawn, and show what is."""
        if not self.list.isVisible():
            return
        finds, area = self._checking.finds[:LISTED], self.list.viewport().rect()
        for row in range(self.list.count()):
            item = self.list.item(row)
            if not area.intersects(self.list.visualItemRect(item)) or row >= len(finds):
                continue
            draw = self._checking.drawing(finds[row])
            picture = None if draw is None else self._pictures.picture(finds[row], draw)
            if picture is not None:
                item.setIcon(QIcon(picture))

    def showEvent(self, event: QShowEvent) -> None:  # noqa: N802
        """What is seen gets its pictures."""
        super().showEvent(event)
        self._fill_pictures()
