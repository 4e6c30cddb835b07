"""A row of small switches, one for each channel of paint."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from PySide6.QtWidgets import QHBoxLayout, QSizePolicy, QToolButton, QWidget

from kneten.core.paint.ink import CHANNELS

SHORT = {"roughness": "Rough", "metalness": "Metal", "subsurface": "Depth", "opacity": "Opaque"}
"""Words that fit six in a row."""


def channel_row(
    keys: Iterable[str], verb: str, tip: str, switched: Callable[[str, bool], None]
) -> tuple[QWidget, dict[str, QToolButton]]:
    """The row, and its switches by channel.

    Parameters
    ----------
    keys : str
        Of `CHANNELS`.
    verb : str
        What is done to a channel that is on: the switches' accessible names begin with it.
    tip : str
        What it says of a channel's name.
    switched : callable
        Called with a channel and whether it is on.
    """
    row = QWidget()
    line = QHBoxLayout(row)
    line.setContentsMargins(0, 0, 0, 0)
    line.setSpacing(2)
    buttons = {}
    for key in keys:
        name, words = CHANNELS[key]
        button = QToolButton()
        button.setText(SHORT.get(key, name))
        button.setStyleSheet("padding: 3px 0px; font-size: 9pt;")
        button.setMinimumWidth(34)
        button.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        button.setCheckable(True)
        button.setAccessibleName(f"{verb} {name.lower()}")
        button.setToolTip(f"{name} {tip}. {words}")
        button.clicked.connect(lambda on, key=key: switched(key, on))
        line.addWidget(button)
        buttons[key] = button
    return row, buttons
