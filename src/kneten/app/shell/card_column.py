"""The right side: the stage's cards, those one has added, and the list of all others."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QFrame, QMenu, QScrollArea, QToolButton, QVBoxLayout, QWidget

from kneten.app.fields.fields import Words
from kneten.app.shell.stages import CARDS, WORDS
from kneten.app.work.card import Card, Cards
from kneten.app.work.commands import Command, Needs

if TYPE_CHECKING:
    from kneten.app.shell.frame import Frame

WIDTH = 264

MOST = 6
"""Cards that a stage puts at hand by itself."""

WANTED = {
    "tool.mask": "Mask",
    "tool.region": "Regions",
    "tool.refine": "Density",
    "tool.coarsen": "Density",
    "tool.tease": "Density",
    "form.deform": "Deform",
    "armature.edit": "Live part",
    "strand.edit": "Live part",
    "strand.free": "Live part",
    "strand.surface": "Live part",
    "strand.points": "Live part",
    "live.edit": "Live part",
    "measure.tape": "Proportion",
    "measure.landmark": "Proportion",
    "mask.gradient": "Mask",
    **dict.fromkeys(("mask.lasso", "mask.rectangle", "mask.line", "mask.polygon", "mask.curve"), "Mask"),
    "parts.move": "Place",
    "parts.turn": "Place",
    "parts.scale": "Place",
    "parts.pivot": "Place",
    "parts.onto": "Place",
}
"""The card that a tool, a way of working, or handles need: it comes to the top while they are in hand."""


class CardColumn(QScrollArea):
    """Holds the cards that are at hand; knows the way to all others."""

    def __init__(self, window: Frame, cards: Cards) -> None:
        super().__init__()
        self._window = window
        self._cards = cards
        self._stage = ""
        self._visiting = ""
        self._needed = ""
        body = QWidget()
        body.setObjectName("cards")
        self._column = QVBoxLayout(body)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(0)
        self.words = Words()
        self.words.setContentsMargins(12, 8, 10, 4)
        self.words.setAccessibleName("What this stage is for")
        self.more = QToolButton()
        self.more.setObjectName("more")
        self.more.setText("More cards")
        self.more.setAccessibleName("More cards")
        self.more.setToolTip("All cards; a mark keeps one at hand in this stage")
        self.more.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.list = QMenu(self.more)
        self.list.aboutToShow.connect(self._fill_list)
        self.more.setMenu(self.list)
        cards.take = self._take
        for card in cards.made.values():
            self._take(card)
        self.setObjectName("cards")
        self.setWidget(body)
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setFixedWidth(WIDTH)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("Cards")

    def _take(self, card: Card) -> None:
        card.setParent(self._column.parentWidget())
        card.hide()

    # -- which ----------------------------------------------------------------------------------

    def kept(self) -> list[str]:
        """The titles that stay at hand in this stage: as it came, or as the user has it."""
        own = self._window.studio.preferences.cards.get(self._stage)
        titles = list(CARDS[self._stage]) if own is None else own
        return [title for title in titles if title in self._cards]

    @property
    def shown(self) -> list[str]:
        """The titles that are at hand, from the top: what is needed, what visits, what stays."""
        first = [title for title in (self._needed, self._visiting) if title]
        return list(dict.fromkeys([*first, *self.kept()]))

    def choose_stage(self, stage: str) -> None:
        """Bring a stage's cards to hand; at the first visit, with what it is for."""
        if stage != self._stage:
            visited = self._window.studio.preferences.visited
            self.words.setText("" if stage in visited else WORDS[stage])
            if stage not in visited:
                visited.append(stage)
        self._stage = stage
        self._visiting = ""
        self._arrange()

    def need(self, key: str) -> None:
        """A tool or a way of working is in hand: its own card comes first."""
        wanted = WANTED.get(key, "")
        if wanted != self._needed:
            self._needed = wanted
            self._arrange()
            if wanted:
                self._cards[wanted].head.setChecked(True)
                self.verticalScrollBar().setValue(0)

    def bring(self, title: str) -> None:
        """Show a card at the top, unfolded; it goes again with the stage, unless it is kept."""
        if title not in self.kept():
            self._visiting = title
        self._arrange()
        card = self._cards[title]
        card.head.setChecked(True)
        QTimer.singleShot(0, card, lambda: self.ensureWidgetVisible(card, 0, 0))

    def keep(self, title: str, on: bool) -> None:
        """Keep a card at hand in this stage, or no longer."""
        titles = [one for one in self.kept() if one != title]
        if on:
            titles.append(title)
        own = self._window.studio.preferences.cards
        own[self._stage] = titles
        if tuple(titles) == CARDS[self._stage]:
            del own[self._stage]
        if not on and self._visiting == title:
            self._visiting = ""
        self._arrange()
        if on:
            self.bring(title)

    def reset(self) -> None:
        """The stage's cards as they came."""
        self._window.studio.preferences.cards.pop(self._stage, None)
        self._visiting = ""
        self._arrange()

    def _arrange(self) -> None:
        while self._column.takeAt(0):
            pass
        shown = self.shown
        for title, card in self._cards.made.items():
            if title not in shown:
                card.hide()
        self._column.addWidget(self.words)
        self.words.setVisible(bool(self.words.text()))
        for title in shown:
            self._column.addWidget(self._cards[title])
            self._cards[title].show()
        self._column.addWidget(self.more)
        self.more.show()
        self._column.addStretch(1)

    def _fill_list(self) -> None:
        self.list.clear()
        kept = self.kept()
        for title in sorted(self._cards):
            action = self.list.addAction(title)
            action.setCheckable(True)
            action.setChecked(title in kept)
            action.toggled.connect(lambda on, title=title: self.keep(title, on))
        self.list.addSeparator()
        self.list.addAction("As they came").triggered.connect(self.reset)

    def commands(self) -> list[Command]:
        """A command for each card, so that the finder has them."""
        return [
            Command(
                f"card.{title.lower().replace(' ', '-')}",
                f"Card: {title}",
                f"Brings the {title} card to hand",
                "Cards",
                partial(self.bring, title),
                needs=Needs.NOTHING,
            )
            for title in self._cards
        ]
