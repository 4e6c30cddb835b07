"""A card: a titled piece of the right side that folds, and remembers whether it was."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import (
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from kneten.app.work.studio import Studio

if TYPE_CHECKING:
    pass


class Card(QWidget):
    """A titled piece of the right side that folds."""

    def __init__(self, title: str, studio: Studio) -> None:
        super().__init__()
        self.setObjectName("card")
        self.title = title
        self._shown = title
        self._studio = studio
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        self.head = QPushButton()
        self.head.setObjectName("fold")
        self.head.setCheckable(True)
        self.head.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.head.setAccessibleName(f"{title} card")
        self.head.setToolTip(f"Fold or unfold {title.lower()}")
        outer.addWidget(self.head)
        self.body = QWidget()
        self.column = QVBoxLayout(self.body)
        self.column.setContentsMargins(12, 2, 10, 12)
        self.column.setSpacing(6)
        outer.addWidget(self.body)
        folded = title in studio.preferences.folded
        self.head.setChecked(not folded)
        self.head.toggled.connect(self._fold)
        self._fold(not folded)

    def _fold(self, shown: bool) -> None:
        self.body.setVisible(shown)
        self.head.setText(f"{'▾' if shown else '▸'}  {self._shown}")
        folded = [name for name in self._studio.preferences.folded if name != self.title]
        self._studio.preferences.folded = folded if shown else [*folded, self.title]

    def set_title(self, text: str) -> None:
        """Show another title; folding is still remembered under the first."""
        self._shown = text
        self._fold(self.head.isChecked())
