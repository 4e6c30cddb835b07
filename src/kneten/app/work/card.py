"""A card: a titled piece of the right side that folds, and remembers whether it was."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from kneten.app.work.studio import Studio


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

    def fill(self) -> None:
        """Show what is now."""

    def showEvent(self, event: QShowEvent) -> None:  # noqa: N802
        """While it was hidden what it shows may have changed."""
        super().showEvent(event)
        self.fill()

    def _fold(self, shown: bool) -> None:
        self.body.setVisible(shown)
        self.head.setText(f"{'▾' if shown else '▸'}  {self._shown}")
        folded = [name for name in self._studio.preferences.folded if name != self.title]
        self._studio.preferences.folded = folded if shown else [*folded, self.title]

    def set_title(self, text: str) -> None:
        """Show another title; folding is still remembered under the first."""
        self._shown = text
        self._fold(self.head.isChecked())


class Cards(Mapping[str, Card]):
    """All cards by their titles; each is made when it is first asked for.

    A window has far more cards than one stage shows, and each listens to what happens to the clay.
    """

    def __init__(self) -> None:
        self._makers: dict[str, Callable[[], Card]] = {}
        self.made: dict[str, Card] = {}
        self.take: Callable[[Card], None] = lambda card: None
        """What a card is given to as soon as it is made."""

    def add(self, title: str, make: Callable[[], Card]) -> None:
        """Take in a card that can be made."""
        self._makers[title] = make

    def __getitem__(self, title: str) -> Card:
        card = self.made.get(title)
        if card is None:
            card = self.made[title] = self._makers[title]()
            self.take(card)
            card.fill()
        return card

    def __contains__(self, title: object) -> bool:
        return title in self._makers

    def __iter__(self) -> Iterator[str]:
        return iter(self._makers)

    def __len__(self) -> int:
        return len(self._makers)
