"""What a bench knows of the window it is put up in."""

from __future__ import annotations

from collections.abc import Callable
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

    def add_card(self, title: str, name: str, make: Callable[[], Card]) -> None:
        """Take a card in, made when it is first asked for; it is then an attribute of the desk.

        Stages say which are at hand.
        """
        raise NotImplementedError

    def fill_card(self, name: str) -> None:
        """Have a card show what is now; one that nobody has asked for yet will when it is made."""
        raise NotImplementedError

    def card_open(self, name: str) -> bool:
        """Whether a card is before the user, unfolded."""
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
