"""Remeshing, decimating, live density, levels and layers, health."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from kneten.app.benches.density import commands
from kneten.app.benches.density.decimating import DecimateRows, Decimating
from kneten.app.benches.density.density_card import DensityCard
from kneten.app.benches.density.detail_card import DetailCard
from kneten.app.benches.density.details import Details
from kneten.app.benches.density.health import FaultLayer, Health, HealthCard
from kneten.app.benches.density.levels import Levels
from kneten.app.benches.density.levels_card import LayersCard, LevelsCard
from kneten.app.benches.density.remeshing import Remeshing

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def install(desk: Desk) -> None:
    """Offer what the bench does, and its commands."""
    desk.offer("decimating", Decimating(desk))
    desk.offer("remeshing", Remeshing(desk))
    desk.offer("levels", Levels(desk))
    desk.offer("details", Details(desk))
    desk.offer("health", Health(desk))
    commands.register(desk)


def furnish(desk: Desk) -> None:
    """Put up its cards and overlays."""
    desk.add_card("Density", "density_card", partial(_density_card, desk))
    desk.add_card("Levels", "levels_card", partial(LevelsCard, desk))
    desk.add_card("Detail", "detail_card", partial(DetailCard, desk))
    desk.add_card("Layers", "layers_card", partial(LayersCard, desk))
    desk.add_card("Health", "health_card", partial(HealthCard, desk))
    desk.view.add_overlay(FaultLayer(desk.view, desk))


def _density_card(desk: Desk) -> DensityCard:
    card = DensityCard(desk.studio, desk.registry)
    card.decimate = DecimateRows(desk, card.column)
    card.fused = desk.joining.fuse_count
    card.fuse.changed.connect(lambda _: card.fill())
    return card
