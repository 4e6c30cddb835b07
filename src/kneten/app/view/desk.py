"""What a bench knows of the window it is put up in."""

from __future__ import annotations

from typing import Any, Protocol

from kneten.app.fields.theme import Theme
from kneten.app.view.viewport import Viewport
from kneten.app.work.card import Card
from kneten.app.work.commands import Registry
from kneten.app.work.notices import NoticeBoard
from kneten.app.work.studio import Studio


class Desk(Protocol):
    """The window, as far as benches need it.

    A bench offers what others may use under a name (`offer`); it is then an attribute of the desk. Only what is
    declared here is there from the beginning.
    """

    studio: Studio
    registry: Registry
    view: Viewport
    notices: NoticeBoard
    theme: Theme

    def offer(self, name: str, thing: Any) -> Any:
        """Let others have something under a name; gives it back."""

    def add_card(self, title: str, card: Card) -> Card:
        """Take a card in; stages say which are at hand."""

    def fill_chip(self) -> None:
        """Say anew what is in hand."""

    def choose_tool(self, key: str) -> None:
        """Sculpt with a tool."""

    def choose_handles(self, mode: str) -> None:
        """Move, turn or scale; the same again goes back to sculpting."""

    def __getattr__(self, name: str) -> Any:
        """What a bench has offered under a name."""
