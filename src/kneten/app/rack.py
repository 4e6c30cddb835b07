"""The rack: the stage's tools as cards that show what each does to a surface's cross-section."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import QButtonGroup, QScrollArea, QToolButton, QVBoxLayout, QWidget

from kneten.app.commands import Registry
from kneten.app.theme import Theme, glyph

HELD = ("parts.move", "parts.turn", "parts.scale")
"""Commands that are in hand until another is taken, besides the tools."""


SHORT = {"file.export": "Export", "file.still": "Still", "density.remesh": "Remesh"}
"""Names that fit on a card, where the command's own does not."""


class Rack(QScrollArea):
    """A column of tool cards; which ones is the stage's choice."""

    WIDTH = 92

    def __init__(self, registry: Registry) -> None:
        super().__init__()
        self._registry = registry
        self.buttons: dict[str, QToolButton] = {}
        self._body = QWidget()
        self._body.setObjectName("rack")
        self._column = QVBoxLayout(self._body)
        self._column.setContentsMargins(8, 8, 8, 8)
        self._column.setSpacing(4)
        self._group = QButtonGroup(self)
        self._group.setExclusive(True)
        self.setWidget(self._body)
        self.setWidgetResizable(True)
        self.setFixedWidth(self.WIDTH)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("Rack")

    def fill(self, entries: list[tuple[str, str]], theme: Theme) -> None:
        """Show these commands, each with its drawing."""
        while item := self._column.takeAt(0):
            if widget := item.widget():
                self._group.removeButton(widget)  # type: ignore[arg-type]
                widget.hide()
                widget.deleteLater()
        self.buttons.clear()
        for slot, (key, drawing) in enumerate(entries):
            command = self._registry.commands[key]
            button = QToolButton()
            button.setObjectName("tool")
            button.setText(SHORT.get(key, command.name))
            button.setIcon(glyph(drawing, theme, 46))
            button.setIconSize(QSize(46, 32))
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
            button.setFixedSize(self.WIDTH - 16, 62)
            # What is held stays marked; what is done at once does not.
            button.setCheckable(key.startswith("tool.") or key in HELD)
            button.setAccessibleName(command.name)
            number = f"  (slot {slot + 1}: key {slot + 1})" if slot < 9 else ""
            button.setToolTip(self._registry.tip(command) + number)
            button.setAccessibleDescription(command.does + number)
            button.clicked.connect(lambda _=False, key=key: self._registry.run(key))
            self._group.addButton(button)
            self._column.addWidget(button)
            self.buttons[key] = button
        self._column.addStretch(1)

    def mark(self, key: str) -> None:
        """Show which command is in hand; none when it is not on the rack."""
        self._group.setExclusive(False)
        for name, button in self.buttons.items():
            button.setChecked(name == key)
        self._group.setExclusive(True)
