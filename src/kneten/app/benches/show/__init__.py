"""Show: light, surroundings, the picture."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kneten.app.benches.show import commands
from kneten.app.benches.show.around_card import AroundCard
from kneten.app.benches.show.lamp_marks import LampMarks
from kneten.app.benches.show.light_card import LightCard
from kneten.app.benches.show.lights import Lights

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def install(desk: Desk) -> None:
    """Offer what the bench does, and its commands."""
    desk.offer("lights", Lights(desk))
    commands.register(desk)


def furnish(desk: Desk) -> None:
    """Put up its cards."""
    desk.offer("light_card", desk.add_card("Light", LightCard(desk)))
    desk.offer("around_card", desk.add_card("Surroundings", AroundCard(desk)))
    desk.view.add_overlay(LampMarks(desk.view, desk.lights))
