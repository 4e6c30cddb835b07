"""The tool in hand, masks, regions, symmetry, guides, shells, deformers."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from kneten.app.benches.form import commands
from kneten.app.benches.form.form import Form
from kneten.app.benches.form.guide_mode import GuideLayer, GuideWork
from kneten.app.benches.form.mask_card import MaskCard
from kneten.app.benches.form.region_card import RegionCard
from kneten.app.benches.form.shaping_cards import DeformCard, PeelCard
from kneten.app.benches.form.stroke_card import StrokeCard
from kneten.app.benches.form.symmetry_card import SymmetryCard
from kneten.app.benches.form.symmetry_work import SymmetryWork
from kneten.app.benches.form.tool_card import ToolCard

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def install(desk: Desk) -> None:
    """Offer what the bench does, and its commands."""
    desk.offer("form", Form(desk))
    desk.offer("symmetry_work", SymmetryWork(desk))
    desk.offer("guides", GuideWork(desk))
    commands.register(desk)


def furnish(desk: Desk) -> None:
    """Put up its cards and overlays."""
    desk.add_card("Tool", "tool_card", partial(ToolCard, desk.studio))
    desk.add_card("Stroke", "stroke_card", partial(StrokeCard, desk.studio))
    desk.add_card("Mask", "mask_card", partial(MaskCard, desk))
    desk.add_card("Regions", "region_card", partial(RegionCard, desk))
    desk.add_card("Symmetry", "symmetry_card", partial(SymmetryCard, desk))
    desk.add_card("Peel", "peel_card", partial(PeelCard, desk))
    desk.add_card("Deform", "deform_card", partial(DeformCard, desk))
    desk.view.add_overlay(GuideLayer(desk.view))
