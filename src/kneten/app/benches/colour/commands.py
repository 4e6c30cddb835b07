"""Commands of colour."""

from __future__ import annotations

import functools
from typing import TYPE_CHECKING

from kneten.app.benches.colour.colours import FORMS
from kneten.app.work.commands import Command, making

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def register(w: Desk) -> None:
    """Put all commands of this bench into the registry."""
    for command in (*_colour(w), *_palettes(w)):
        w.registry.add(command)


def _colour(w: Desk) -> list[Command]:
    k = w.colours
    c = making("Colour")
    forms = [
        c(f"colour.{kind}", name, f"Paints {what} of the part with the colour in hand, as strong as the tool in hand", functools.partial(k.by_form, kind), "", k.none)
        for kind, (name, what) in FORMS.items()
    ]  # fmt: skip
    return [
        c("colour.pick", "Pick a colour", "Takes the colour under the next click, from any part", k.pick, "C"),
        c("colour.swap", "Swap the colours", "Exchanges the two colours in hand", k.swap, "Shift+C"),
        c("colour.fill", "Fill with colour", "Paints all of the part in hand that is not masked", k.fill, "Ctrl+Alt+C", k.none),
        c("colour.fill-mask", "Fill the mask with colour", "Paints what is masked of the part in hand", k.fill_mask, "", k.no_mask),
        *forms,
        c("colour.clear", "Clear the layer's paint", "Takes all paint off the layer that is recorded on; its form stays", k.clear, "", k.no_paint),
    ]  # fmt: skip


def _palettes(w: Desk) -> list[Command]:
    k = w.colours
    c = making("Colour")
    return [
        c("palette.keep", "Keep a palette", "Makes a palette of the colours painted with last", k.keep_palette, "", k.no_recent),
        c("palette.picture", "Palette from a picture", "Makes a palette of the colours that a picture of the board has most of", k.palette_from_picture, "", k.no_picture),
        c("palette.forget", "Take the palette away", "Takes the palette that is shown out of the project", k.forget_palette, "", k.no_palette),
    ]  # fmt: skip
