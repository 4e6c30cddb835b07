"""Clean topology: clay as quads that go on to others."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from kneten.app.benches.net import commands
from kneten.app.benches.net.cage_layer import CageLayer
from kneten.app.benches.net.flow_layer import FlowLayer
from kneten.app.benches.net.mapping import Mapping
from kneten.app.benches.net.maps_card import MapsCard
from kneten.app.benches.net.modelling import Modelling
from kneten.app.benches.net.net_card import NetCard
from kneten.app.benches.net.net_mode import NetLayer
from kneten.app.benches.net.quads_card import QuadsCard
from kneten.app.benches.net.retopologising import Retopologising
from kneten.app.benches.net.seam_mode import SeamLayer
from kneten.app.benches.net.smooth_view import SmoothView
from kneten.app.benches.net.unwrapping import Unwrapping
from kneten.app.benches.net.uv_card import UvCard
from kneten.app.benches.net.uv_pane import UvPane

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def install(desk: Desk) -> None:
    """Offer what the bench does, and its commands."""
    desk.offer("retopologising", Retopologising(desk))
    desk.offer("unwrapping", Unwrapping(desk))
    desk.offer("mapping", Mapping(desk))
    desk.offer("modelling", Modelling(desk))
    desk.offer("smooth_view", SmoothView(desk))
    commands.register(desk)


def furnish(desk: Desk) -> None:
    """Put up its card and overlay."""
    desk.add_card("Quads", "quads_card", partial(QuadsCard, desk))
    desk.add_card("UVs", "uv_card", partial(UvCard, desk))
    desk.add_card("Net", "net_card", partial(NetCard, desk))
    desk.add_card("Maps", "maps_card", partial(MapsCard, desk))
    desk.offer("uv_pane", UvPane(desk))
    desk.view.add_overlay(FlowLayer(desk.view, desk.retopologising))
    desk.view.add_overlay(desk.smooth_view)
    desk.view.add_overlay(NetLayer(desk.view, desk.modelling))
    desk.view.add_overlay(CageLayer(desk.view, desk.mapping))
    desk.view.add_overlay(SeamLayer(desk.view, desk.unwrapping))
