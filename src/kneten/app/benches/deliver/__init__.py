"""Deliver: files for others, game sets, print sets."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from kneten.app.benches.deliver import commands
from kneten.app.benches.deliver.files_card import Exports, FilesCard
from kneten.app.benches.deliver.game_card import GameCard, Gaming
from kneten.app.benches.deliver.print_card import PrintCard
from kneten.app.benches.deliver.print_parts_card import PrintPartsCard
from kneten.app.benches.deliver.printing import Printing

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def install(desk: Desk) -> None:
    """Offer what the bench does, and its commands."""
    desk.offer("exports", Exports(desk))
    desk.offer("printing", Printing(desk))
    desk.offer("gaming", Gaming(desk))
    commands.register(desk)


def furnish(desk: Desk) -> None:
    """Put up its cards."""
    desk.add_card("Files", "files_card", partial(FilesCard, desk))
    desk.add_card("Print", "print_card", partial(PrintCard, desk))
    desk.add_card("Print parts", "print_parts_card", partial(PrintPartsCard, desk))
    desk.add_card("Game set", "game_card", partial(GameCard, desk))
