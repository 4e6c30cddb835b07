"""The tool in hand, masks, regions, symmetry, guides, shells, deformers."""

from __future__ import annotations

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
    desk.offer("tool_card", desk.add_card("Tool", ToolCard(desk.studio)))
    desk.offer("stroke_card", desk.add_card("Stroke", StrokeCard(desk.studio)))
    desk.offer("mask_card", desk.add_card("Mask", MaskCard(desk)))
    desk.offer("region_card", desk.add_card("Regions", RegionCard(desk)))
    desk.offer("symmetry_card", desk.add_card("Symmetry", SymmetryCard(desk)))
    desk.offer("peel_card", desk.add_card("Peel", PeelCard(desk)))
    desk.offer("deform_card", desk.add_card("Deform", DeformCard(desk)))
    desk.view.add_overlay(GuideLayer(desk.view))
