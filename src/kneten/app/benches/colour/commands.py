"""Commands of colour."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kneten.app.work.commands import Command, making

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


def register(w: Desk) -> None:
    """Put all commands of this bench into the registry."""
    for command in (*_colour(w), *_materials(w), *_held(w), *_into(w), *_washes(w), *_palettes(w)):
        w.registry.add(command)


def _colour(w: Desk) -> list[Command]:
    k = w.colours
    c = making("Colour")
    return [
        c("colour.pick", "Pick a colour", "Takes the colour under the next click, from any part", k.pick, "C"),
        c("colour.swap", "Swap the colours", "Exchanges the two colours in hand", k.swap, "Shift+C"),
        c("colour.fill", "Fill with colour", "Paints all of the part in hand that is not masked", k.fill, "Ctrl+Alt+C", k.none),
        c("colour.fill-mask", "Fill the mask with colour", "Paints what is masked of the part in hand", k.fill_mask, "", k.no_mask),
        c("colour.fill-region", "Fill a region with colour", "Paints the region that the next click is on", k.fill_region, "", k.no_regions),
        c("colour.clear", "Clear the layer's paint", "Takes all paint off the layer that is recorded on; its form stays", k.clear, "", k.no_paint),
    ]  # fmt: skip


def _materials(w: Desk) -> list[Command]:
    k = w.materials
    c = making("Colour")
    return [
        c("material.keep", "Keep the material", "Keeps colour and material in hand under a name, with the project", k.keep),
        c("material.forget", "Take the material away", "Takes the own material that is in hand out of the project", k.forget, "", k.not_own),
        c("material.load", "Load materials", "Takes in materials that were shared as a file", k.load),
        c("material.share", "Share the materials", "Writes your own materials to a file for others", k.share, "", k.no_own),
    ]  # fmt: skip


def _held(w: Desk) -> list[Command]:
    k = w.held
    c = making("Colour")
    return [
        c("held.hold", "Hold a picture", "Holds a picture of the board before the view, to be laid through onto the clay", k.hold, "", k.none_on_board),
        c("held.fit", "Fit the picture", "Moves, turns, sizes and bends the held picture by dragging", k.fit, "", k.none_before),
        c("held.show", "Hide or show the picture", "Takes the held picture from before the clay, or brings it back", k.show, "", k.none_before),
        c("held.turn-over", "Turn the picture over", "Makes the held picture's left side its right one", k.turn_over, "", k.none_before),
        c("held.lay", "Lay the picture", "Lays the held picture on all of the part that is seen behind it, a tiled one all over it", k.lay, "", k.not_layable),
        c("held.relief", "Raise the picture", "Raises the clay by what is light in the held picture: where it is seen behind it, or all over by a tiled one", k.lay_relief, "", k.not_layable),
        c("held.let-go", "Let go of the picture", "Holds the picture no longer; it stays on the board", k.let_go, "", k.none_held),
    ]  # fmt: skip


def _into(w: Desk) -> list[Command]:
    c = making("Colour")
    return [
        c("into.make", "Make one of another", "Makes what the card One into another says: a mask of a layer's height, wet of what is dark, and so on", w.becoming.make, "", w.colours.none),
    ]  # fmt: skip


def _washes(w: Desk) -> list[Command]:
    k = w.washes
    c = making("Colour")
    return [
        c("wash.show", "Show paint by form", "Shows where paint by the form would lie; nothing is painted", k.show, "", k.none),
        c("wash.paint", "Paint by form", "Paints once where the limits say, on the layer that is recorded on or the clay", k.paint, "", k.none),
        c("wash.layer", "Layer by form", "Lays the paint on a layer of its own that follows the form: hollows, edges, height and so on", k.as_layer, "Ctrl+Alt+W", k.no_top),
        c("wash.renew", "Renew the layer by form", "Works the chosen layer out anew, for the form as it is now", k.renew, "", k.no_layer),
        c("wash.bake", "Bake the layer by form", "Lets the chosen layer no longer follow the form, so that it can be painted on", k.bake, "", k.no_layer),
    ]  # fmt: skip


def _palettes(w: Desk) -> list[Command]:
    k = w.colours
    c = making("Colour")
    return [
        c("palette.keep", "Keep a palette", "Makes a palette of the colours painted with last", k.keep_palette, "", k.no_recent),
        c("palette.picture", "Palette from a picture", "Makes a palette of the colours that a picture of the board has most of", k.palette_from_picture, "", k.no_picture),
        c("palette.forget", "Take the palette away", "Takes the palette that is shown out of the project", k.forget_palette, "", k.no_palette),
    ]  # fmt: skip
