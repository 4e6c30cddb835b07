"""Deliver: files for others, game sets, print sets."""

from __future__ import annotations

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
    desk.offer("files_card", desk.add_card("Files", FilesCard(desk)))
    desk.offer("print_card", desk.add_card("Print", PrintCard(desk)))
    desk.offer("print_parts_card", desk.add_card("Print parts", PrintPartsCard(desk)))
    desk.offer("game_card", desk.add_card("Game set", GameCard(desk)))
