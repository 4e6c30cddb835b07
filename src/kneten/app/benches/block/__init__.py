"""Whole parts: live, armatures, strands, cuts, copies, joining, the list."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from kneten.app.benches.block import commands
from kneten.app.benches.block.block import Block
from kneten.app.benches.block.joining import Joining
from kneten.app.benches.block.library import Library, LibraryPanel
from kneten.app.benches.block.live_card import LiveCard
from kneten.app.benches.block.mode_hints import ModeHints
from kneten.app.benches.block.parts_card import PartsCard
from kneten.app.benches.block.place_card import PlaceCard

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def install(desk: Desk) -> None:
    """Offer what the bench does, and its commands."""
    desk.offer("block", Block(desk))
    desk.offer("joining", Joining(desk))
    desk.offer("library", Library(desk))
    desk.offer("mode_hints", ModeHints(desk))
    commands.register(desk)


def furnish(desk: Desk) -> None:
    """Put up its cards and overlays."""
    studio, registry = desk.studio, desk.registry
    desk.add_card("Parts", "parts_card", partial(PartsCard, desk))
    desk.add_card("Place", "place_card", partial(PlaceCard, desk))
    desk.add_card("Live part", "live_card", partial(LiveCard, studio, registry, desk.view))
    desk.offer("library_panel", LibraryPanel(desk))
