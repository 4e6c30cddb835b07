"""The welcome card: where to begin, and what was worked on lately, with pictures."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QIcon, QPixmap
from PySide6.QtWidgets import QAbstractButton, QHBoxLayout, QLabel, QPushButton, QToolButton

from kneten.app.work.panel import Panel
from kneten.demo.files import demo_picture
from kneten.document.preview import preview_of

if TYPE_CHECKING:
    from kneten.app.shell.frame import Frame

PICTURE = QSize(184, 115)
LARGE = QSize(128, 80)
MOST = 3

PANEL = 880
"""Pixels that it is wide: all demos stand in one row."""

DEMOS = (
    (
        "file.demo",
        "ferry",
        "Tarn at the ferry",
        "The finished piece, on a low level: every stage can be tried on it",
    ),
    (
        "file.demo-painted",
        "tarn-painted",
        "Tarn, painted",
        "Hide, eyes, rust and cloth, painted on layers: 1,700,000 vertices",
    ),
    ("file.demo-pim", "pim", "Pim, painted", "A newt in four kinds of colours"),
    ("file.demo-forms", "tarn-forms", "Tarn, forms", "A bust with its anatomy"),
    ("file.demo-head", "tarns-head", "Tarn's head", "First clay, from balls to a face"),
    ("file.demo-sedge", "widow-sedge", "Widow Sedge", "Blocked out from an armature"),
)
"""The demo projects: command, file, name, what they show."""

BEGIN = (
    ("file.new", "Begin with a ball of clay"),
    ("file.open", "Open…"),
    ("edit.tour", "Two-minute tour"),
    ("edit.creature", "A small creature, step by step"),
)


class WelcomePanel(Panel):
    """Shown at the first start, and on demand: where to begin, the demos, what was worked on lately."""

    def __init__(self, window: Frame) -> None:
        super().__init__(window, "Kneten: a studio for clay", PANEL, 560)
        self._window = window
        row = QHBoxLayout()
        row.setSpacing(8)
        self.begin: dict[str, QAbstractButton] = {}
        for key, text in BEGIN:
            button = QPushButton(text)
            button.setAccessibleName(text)
            button.setToolTip(window.registry.tip(window.registry.commands[key]))
            button.setMinimumHeight(40)
            button.clicked.connect(lambda _=False, key=key: (self.leave(), window.registry.run(key)))
            row.addWidget(button, 2 if key == "file.new" else 1)
            self.begin[key] = button
        self.begin["file.new"].setObjectName("primary")
        self.column.addLayout(row)
        self.column.addSpacing(8)
        self.column.addWidget(_heading("The ferry folk of Lake Hallen"))
        self._unseen: list[tuple[QAbstractButton, str]] = []
        self.demos = QHBoxLayout()
        self.demos.setSpacing(8)
        for key, file, name, does in DEMOS:
            large = _picture_button(
                name, LARGE, f"{does}. {window.registry.tip(window.registry.commands[key])}"
            )
            self._unseen.append((large, file))
            large.clicked.connect(lambda _=False, key=key: (self.leave(), window.registry.run(key)))
            self.demos.addWidget(large)
            self.begin[key] = large
        self.demos.addStretch(1)
        self.column.addLayout(self.demos)
        self.label = _heading("Lately")
        self.column.addSpacing(8)
        self.column.addWidget(self.label)
        self._row = QHBoxLayout()
        self._row.setSpacing(8)
        self._row.addStretch(1)
        self.column.addLayout(self._row)
        self.column.addStretch(1)
        self.recent: list[QToolButton] = []

    def open(self) -> None:
        """Show what was worked on lately."""
        if not self.isVisible():
            self._fill()
        super().open()
        self.begin["file.new"].setFocus()

    def leave(self) -> None:
        """Take it away; it does not come by itself again."""
        self._window.studio.preferences.welcomed = True
        super().leave()

    def _fill(self) -> None:
        for demo, file in self._unseen:
            picture = QPixmap()
            if picture.loadFromData(demo_picture(file)):
                demo.setIcon(QIcon(picture))
        self._unseen.clear()
        for button in self.recent:
            button.hide()
            button.deleteLater()
        self.recent = []
        paths = [Path(name) for name in self._window.studio.preferences.recent]
        paths = [path for path in paths if path.exists()][:MOST]
        # Nothing empty: without projects there is one row less.
        self.label.setVisible(bool(paths))
        self._wanted = (PANEL, 540 if paths else 300)
        self.arrange()
        for i, path in enumerate(paths):
            button = _picture_button(path.stem, PICTURE, str(path))
            button.setAccessibleName(f"Open {path.stem}")
            button.clicked.connect(
                lambda _=False, path=path: (self.leave(), self._window.files.open_paths([path]))
            )
            self._row.insertWidget(i, button)
            self.recent.append(button)

            def show(data: bytes, button: QToolButton = button) -> None:
                picture = QPixmap()
                if button in self.recent and picture.loadFromData(data):
                    button.setIcon(QIcon(picture))

            self._window.studio.aside(partial(preview_of, path), show)


def _heading(text: str) -> QLabel:
    label = QLabel(text)
    label.setObjectName("heading")
    return label


def _picture_button(name: str, size: QSize, tip: str) -> QToolButton:
    button = QToolButton()
    button.setObjectName("saved")
    button.setText(button.fontMetrics().elidedText(name, Qt.TextElideMode.ElideMiddle, size.width() - 8))
    button.setIconSize(size)
    button.setFixedSize(size.width() + 12, size.height() + 32)
    button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
    button.setAccessibleName(name)
    button.setToolTip(tip)
    return button
