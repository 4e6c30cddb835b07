"""The card of the detail check."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QSizePolicy, QToolButton

from kneten.app.fields.fields import Words
from kneten.app.fields.quantities import count_text
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

ROWS = 12
"""Levels that are listed at most: no more fit into memory."""


class DetailCard(Card):
    """Whether the clay is fine enough for what is in hand, and what each lower level loses."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Detail", desk.studio)
        self._desk = desk
        self._details = desk.details
        self.brush, self.press, self.state = Words(), Words(), Words()
        for label in (self.brush, self.press, self.state):
            self.column.addWidget(label)
        self.rows: list[QToolButton] = []
        for k in range(ROWS):
            row = QToolButton()
            row.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
            row.setAccessibleName(f"Level below, number {k + 1}")
            row.setToolTip("Colours the clay by what this level loses")
            row.setCheckable(True)
            row.clicked.connect(lambda _, k=k: self._details.show(k))
            self.rows.append(row)
            self.column.addWidget(row)
        grid, self.buttons = command_grid(desk.registry, (("detail.check", "Check the levels below"),))
        self.column.addLayout(grid)
        for signal in (
            desk.studio.scene_changed,
            desk.studio.project_changed,
            desk.studio.history_changed,
            desk.studio.tool_changed,
            desk.view.camera_changed,
        ):
            signal.connect(self.fill)
        self.fill()

    def fill(self) -> None:
        """Show what is known."""
        if not self.isVisible():
            return
        part = self._studio.project.active
        told = "" if part is None else self._details.press_words(part)
        self.brush.setText("" if part is None else self._details.brush_words(part))
        self.press.setText(told)
        self.brush.setVisible(part is not None)
        self.press.setVisible(bool(told))
        lost = self._details.checked
        blocked = self._details.none()
        self.state.setText(blocked or ("" if lost else "Not looked at since the last change."))
        self.state.setVisible(bool(blocked or not lost))
        scale = 1.0 if part is None else part.transform.scale
        coloured = bool(self._desk.view.distances)
        for k, row in enumerate(self.rows):
            row.setVisible(k < len(lost))
            if k < len(lost):
                one = lost[k]
                row.setText(f"Level {one.level}, {count_text(one.count)}: up to {one.most * scale:.2g} mm")
                row.setChecked(coloured and k == self._details.shown)
