"""References, proportion, measures."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from kneten.app.benches.gather import commands
from kneten.app.benches.gather.board import Board
from kneten.app.benches.gather.measures import Measures
from kneten.app.benches.gather.proportion import Proportion, ProportionCard
from kneten.app.benches.gather.references import References
from kneten.app.benches.gather.tape_modes import Tapes

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def install(desk: Desk) -> None:
    """Offer what the bench does, and its commands."""
    desk.offer("references", References(desk))
    desk.offer("proportion", Proportion(desk))
    desk.offer("measures", Measures(desk))
    tapes = desk.offer("tapes", Tapes(desk.view))
    desk.studio.scene_changed.connect(tapes.renew)
    desk.studio.clay_changed.connect(tapes.renew)
    commands.register(desk)


def furnish(desk: Desk) -> None:
    """Put up its cards and overlays."""
    desk.offer("board", Board(desk))
    desk.add_card("Proportion", "proportion_card", partial(ProportionCard, desk))
    desk.view.add_overlay(desk.references)
    desk.view.add_overlay(desk.proportion)
    desk.view.add_overlay(desk.tapes)
    desk.view.behind = desk.references.under
