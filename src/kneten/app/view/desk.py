"""What a bench knows of the window it is put up in."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QMainWindow

from kneten.app.fields.theme import Theme
from kneten.app.view.viewport import Viewport
from kneten.app.work.card import Card
from kneten.app.work.commands import Registry
from kneten.app.work.notices import NoticeBoard
from kneten.app.work.studio import Studio


class Desk(QMainWindow):
    """The window, as far as benches need it; `Window` does all this.

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
        raise NotImplementedError

    def add_card(self, title: str, card: Card) -> Card:
        """Take a card in; stages say which are at hand."""
        raise NotImplementedError

    def fill_chip(self) -> None:
        """Say anew what is in hand."""
        raise NotImplementedError

    def choose_tool(self, key: str) -> None:
        """Sculpt with a tool."""
        raise NotImplementedError

    def choose_handles(self, mode: str) -> None:
        """Move, turn or scale; the same again goes back to sculpting."""
        raise NotImplementedError

    if TYPE_CHECKING:

        def __getattr__(self, name: str) -> Any:
            """What a bench has offered under a name."""
