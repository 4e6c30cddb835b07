"""Buttons that run commands."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import (
    QGridLayout,
    QPushButton,
)

from kneten.app.work.commands import Registry

DRAG_START = 3


def command_grid(
    registry: Registry, entries: Sequence[tuple[str, str]], columns: int = 3
) -> tuple[QGridLayout, dict[str, QPushButton]]:
    """Small buttons that run commands: pairs of a command's key and the word on its button."""
    grid = QGridLayout()
    grid.setSpacing(4)
    buttons = {}
    for i, (key, text) in enumerate(entries):
        command = registry.commands[key]
        button = QPushButton(text)
        button.setStyleSheet("padding: 4px 2px;")
        button.setAccessibleName(command.name)
        button.setToolTip(registry.tip(command))
        button.clicked.connect(lambda _=False, key=key: registry.run(key))
        grid.addWidget(button, i // columns, i % columns)
        buttons[key] = button
    return grid, buttons
