"""Colour: paint on the clay and on layers, picked, filled, laid by the form."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from kneten.app.benches.colour import commands
from kneten.app.benches.colour.colour_card import ColourCard
from kneten.app.benches.colour.colours import Colours
from kneten.app.benches.colour.held import PictureHolder
from kneten.app.benches.colour.held_card import HeldCard
from kneten.app.benches.colour.into_card import Becoming, IntoCard
from kneten.app.benches.colour.material_card import MaterialCard
from kneten.app.benches.colour.materials import Materials
from kneten.app.benches.colour.recolour_card import RecolourCard
from kneten.app.benches.colour.renewing import Renewing
from kneten.app.benches.colour.wash_card import WashCard
from kneten.app.benches.colour.washes import Washes

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def install(desk: Desk) -> None:
    """Offer what the bench does, and its commands."""
    desk.offer("colours", Colours(desk))
    desk.offer("materials", Materials(desk))
    desk.offer("held", PictureHolder(desk))
    desk.offer("becoming", Becoming(desk))
    desk.offer("washes", Washes(desk))
    Renewing(desk)
    commands.register(desk)


def furnish(desk: Desk) -> None:
    """Put up its cards."""
    desk.add_card("Colour", "colour_card", partial(ColourCard, desk))
    desk.add_card("Material", "material_card", partial(MaterialCard, desk))
    desk.add_card("Picture", "held_card", partial(HeldCard, desk))
    desk.add_card("One into another", "into_card", partial(IntoCard, desk))
    desk.view.add_overlay(desk.held)
    desk.add_card("Recolour", "recolour_card", partial(RecolourCard, desk))
    desk.add_card("By form", "wash_card", partial(WashCard, desk))
