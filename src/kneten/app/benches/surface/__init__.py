"""Fine detail: presses and what lays them, grain, rows and scatter, fur."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kneten.app.benches.surface import commands
from kneten.app.benches.surface.fur_card import FurCard
from kneten.app.benches.surface.furs import Furs
from kneten.app.benches.surface.grain_card import GrainCard
from kneten.app.benches.surface.grains import Grains
from kneten.app.benches.surface.layings import Layings
from kneten.app.benches.surface.making_panels import NoisePanel, TextPanel
from kneten.app.benches.surface.pieces_card import PiecesCard
from kneten.app.benches.surface.press_card import PressCard
from kneten.app.benches.surface.press_panel import PressPanel
from kneten.app.benches.surface.presses import Presses

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def install(desk: Desk) -> None:
    """Offer what the bench does, and its commands."""
    desk.offer("presses", Presses(desk))
    desk.offer("grains", Grains(desk))
    desk.offer("layings", Layings(desk))
    desk.offer("furs", Furs(desk))
    commands.register(desk)


def furnish(desk: Desk) -> None:
    """Put up its cards and panels."""
    desk.offer("press_card", desk.add_card("Tip", PressCard(desk)))
    desk.offer("grain_card", desk.add_card("Grain", GrainCard(desk)))
    desk.offer("pieces_card", desk.add_card("Rows and scatter", PiecesCard(desk)))
    desk.offer("fur_card", desk.add_card("Fur", FurCard(desk)))
    desk.offer("press_panel", PressPanel(desk))
    desk.offer("text_panel", TextPanel(desk))
    desk.offer("noise_panel", NoisePanel(desk))
