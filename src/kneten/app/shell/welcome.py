"""The welcome card: where to begin, and what was worked on lately, with pictures."""

from __future__ import annotations

import zipfile
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QIcon, QPixmap
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QPushButton, QToolButton, QWidget

from kneten.app.work.panel import Panel

if TYPE_CHECKING:
    from kneten.app.shell.frame import Frame

PICTURE = QSize(176, 110)
MOST = 6

BEGIN = (
    ("file.new", "A ball of clay"),
    ("file.open", "Open…"),
    ("file.demo", "The demo"),
    ("file.demo-sedge", "The blockout demo"),
    ("edit.tour", "Two-minute tour"),
)


def preview_of(path: Path) -> bytes:
    """The picture in a project file, or nothing."""
    try:
        with zipfile.ZipFile(path) as archive:
            if archive.getinfo("preview.png").file_size < 8_000_000:
                return archive.read("preview.png")
    except (OSError, KeyError, zipfile.BadZipFile, ValueError):
        pass
    return b""


class WelcomePanel(Panel):
    """Shown at the first start, and on demand."""

    def __init__(self, window: Frame) -> None:
        super().__init__(window, "Kneten", 640, 480)
        self._window = window
        row = QHBoxLayout()
        self.begin: dict[str, QPushButton] = {}
        for key, text in BEGIN:
            button = QPushButton(text)
            button.setAccessibleName(text)
            button.setToolTip(window.registry.tip(window.registry.commands[key]))
            button.setMinimumHeight(40)
            button.clicked.connect(lambda _=False, key=key: (self.leave(), window.registry.run(key)))
            row.addWidget(button)
            self.begin[key] = button
        self.column.addLayout(row)
        self.label = QLabel("Lately")
        self.label.setObjectName("heading")
        self.column.addWidget(self.label)
        body = QWidget()
        self._grid = QGridLayout(body)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self.column.addWidget(body)
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
        for button in self.recent:
            button.hide()
            button.deleteLater()
        self.recent = []
        paths = [Path(name) for name in self._window.studio.preferences.recent]
        paths = [path for path in paths if path.exists()][:MOST]
        self.label.setText("Lately" if paths else "Your projects will be listed here.")
        for i, path in enumerate(paths):
            button = QToolButton()
            button.setText(self.fontMetrics().elidedText(path.stem, Qt.TextElideMode.ElideMiddle, 160))
            button.setIconSize(PICTURE)
            button.setFixedSize(PICTURE.width() + 12, PICTURE.height() + 34)
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
            button.setAccessibleName(f"Open {path.stem}")
            button.setToolTip(str(path))
            button.clicked.connect(
                lambda _=False, path=path: (self.leave(), self._window.files.open_paths([path]))
            )
            self._grid.addWidget(button, i // 3, i % 3)
            self.recent.append(button)

            def show(data: bytes, button: QToolButton = button) -> None:
                picture = QPixmap()
                if button in self.recent and picture.loadFromData(data):
                    button.setIcon(QIcon(picture))

            self._window.studio.aside(lambda path=path: preview_of(path), show)
