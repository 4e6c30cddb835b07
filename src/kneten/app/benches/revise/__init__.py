"""Milestones, carrying over, the round trip."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from kneten.app.benches.revise import commands
from kneten.app.benches.revise.carry_card import CarryCard, Carrying
from kneten.app.benches.revise.milestones import Milestones
from kneten.app.benches.revise.trip_card import RoundTrip, TripCard

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def install(desk: Desk) -> None:
    """Offer what the bench does, and its commands."""
    desk.offer("milestones", Milestones(desk))
    desk.offer("carrying", Carrying(desk))
    desk.offer("trip", RoundTrip(desk))
    commands.register(desk)


def furnish(desk: Desk) -> None:
    """Put up its cards and overlays."""
    desk.add_card("Carry over", "carry_card", partial(CarryCard, desk))
    desk.add_card("Round trip", "trip_card", partial(TripCard, desk))
