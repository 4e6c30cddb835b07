"""Fine detail: presses and what lays them, grain, rows and scatter, fur."""

from __future__ import annotations

from functools import partial
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
    desk.add_card("Tip", "press_card", partial(PressCard, desk))
    desk.add_card("Grain", "grain_card", partial(GrainCard, desk))
    desk.add_card("Rows and scatter", "pieces_card", partial(PiecesCard, desk))
    desk.add_card("Fur", "fur_card", partial(FurCard, desk))
    desk.offer("press_panel", PressPanel(desk))
    desk.offer("text_panel", TextPanel(desk))
    desk.offer("noise_panel", NoisePanel(desk))
