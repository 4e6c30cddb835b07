"""Work with colour: what is in hand, picked, filled, laid by the form."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtWidgets import QInputDialog

from kneten.app.benches.colour.pick_mode import PickMode
from kneten.app.view.aim import Aim
from kneten.core.arrays import F32
from kneten.core.paint.ink import OF_LAYERS, Colour, Ink, Material
from kneten.core.paint.mixing import BLENDS
from kneten.core.paint.palette import dominant
from kneten.core.picking import Hit
from kneten.core.stack import Layer, Stack
from kneten.document.opening import StackError
from kneten.document.painting import (
    add_palette,
    cleared,
    filled,
    has_paint,
    paint_at,
    remove_palette,
    set_blend,
    set_ink,
    set_leaves,
)
from kneten.document.scene import Part
from kneten.document.settings import Palette

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


class Colours:
    """Commands on colours.

    Attributes
    ----------
    palette_id : str
        Id of the palette that is shown.
    """

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self.palette_id = ""

    # -- what is in hand ------------------------------------------------------------------------

    @property
    def colour(self) -> Colour:
        """The colour in hand."""
        return self._studio.project.settings.ink.colour

    @property
    def ink(self) -> Ink:
        """All that is in hand."""
        return self._studio.project.settings.ink

    def take(self, colour: Colour) -> None:
        """Take a colour in hand."""
        set_ink(self._studio.project, colour=colour)
        self._studio.ink_changed.emit()

    def swap(self) -> None:
        """Exchange the two colours in hand."""
        ink = self._studio.project.settings.ink
        set_ink(self._studio.project, colour=ink.other, other=ink.colour)
        self._studio.ink_changed.emit()

    def paint_with(self, channel: str, on: bool) -> None:
        """Paint one of `ink.CHANNELS`, or leave it as it is."""
        set_ink(self._studio.project, channels=self.ink.with_channel(channel, on).channels)
        self._studio.ink_changed.emit()

    def paint_along(self, on: bool) -> None:
        """Let tools that change the form paint as well."""
        set_ink(self._studio.project, along=on)
        self._studio.ink_changed.emit()

    def take_material(self, colour: Colour, material: Material, opacity: int) -> None:
        """Take a colour, a material and an opacity in hand."""
        set_ink(self._studio.project, colour=colour, material=material, opacity=opacity)
        self._studio.ink_changed.emit()

    def pick(self) -> None:
        """Take a colour, and the material with it, off the clay."""
        self._pointed(self.seen, lambda found: self.take_material(*found), "")

    def _pointed(self, found_at: Callable[..., Any], take: Callable[[Any], object], hint: str) -> None:
        """Let a click on the clay do something; the same command once more leaves it."""
        view = self._desk.view
        if view.mode is not None and view.mode.key == PickMode.key:
            view.take_mode(None)
            return
        view.take_mode(PickMode(view, found_at, take, hint))

    def _under(self, x: float, y: float) -> tuple[Part, Hit] | None:
        """The part, and the place on it, under a pixel of the pane in hand."""
        view = self._desk.view
        found = view.part_at(x, y)
        if found is None:
            return None
        hit = Aim(view, found[0], replace(self._studio.settings(), front_only=False)).hit(x, y)
        return None if hit is None else (found[0], hit)

    def seen(self, x: float, y: float) -> tuple[Colour, tuple[Colour, Material, int]] | None:
        """The colour under a pixel of the pane in hand, without its light, and the same with its material; None beside the clay."""
        under = self._under(x, y)
        if under is None:
            return None
        found = paint_at(under[0], under[1].face, under[1].point)
        return found[0], found

    def fill_region(self) -> None:
        """Paint a region, chosen by a click."""
        hint = "Click on a region to fill it with the paint in hand · Shift stays at it · Esc leaves"
        self._pointed(self._region_under, self._fill_region, hint)

    def _region_under(self, x: float, y: float) -> tuple[Colour, int] | None:
        part, under = self.part, self._under(x, y)
        if part is None or part.mesh.regions is None or under is None or under[0].id != part.id:
            return None
        number = int(part.mesh.regions[under[1].face])
        return (self.colour, number) if number else None

    def _fill_region(self, number: int) -> None:
        part = self.part
        if part is None or part.mesh.regions is None:
            return
        faces = part.mesh.topology.faces[part.mesh.regions == number]
        share = np.zeros(part.mesh.n_vertices, np.float32)
        share[faces[faces >= 0]] = 1.0
        self._lay(share, "Fill a region of")

    # -- why not --------------------------------------------------------------------------------

    @property
    def part(self) -> Part | None:
        """The part in hand."""
        return self._studio.project.active

    @property
    def stack(self) -> Stack | None:
        """Its levels and layers."""
        return None if self.part is None else self.part.stack

    @property
    def layer(self) -> Layer | None:
        """The layer that paint goes to; None for the base."""
        return None if self.stack is None else self.stack.recorded

    def none(self) -> str:
        """Why no part can be painted."""
        if self.part is None:
            return "There is no part in hand to paint."
        return self._studio.move_blocked(self.part)

    def no_mask(self) -> str:
        """Why the mask cannot be painted."""
        if words := self.none():
            return words
        assert self.part is not None
        mask = self.part.mesh.mask
        return (
            "" if mask is not None and mask.any() else "Nothing is masked: mask first what is to be painted."
        )

    def no_regions(self) -> str:
        """Why no region can be painted."""
        if words := self.none():
            return words
        assert self.part is not None
        has = self.part.mesh.regions is not None
        return "" if has else f"{self.part.name} has no regions: make some first (Density)."

    def no_layer(self) -> str:
        """Why nothing can be done with a layer's paint."""
        if words := self.none():
            return words
        return (
            ""
            if self.layer is not None
            else "Paint goes to the clay itself: record on a layer first (Layers)."
        )

    def no_paint(self) -> str:
        """Why there is nothing to clear."""
        if words := self.no_layer():
            return words
        assert self.layer is not None
        assert self.stack is not None
        assert self.part is not None
        return "" if has_paint(self.layer, self.stack, self.part) else f"{self.layer.name} has no paint."

    def no_palette(self) -> str:
        """Why nothing can be done with a palette."""
        return (
            ""
            if self.palette is not None
            else "There is no palette yet: make one of the recent colours first."
        )

    def no_recent(self) -> str:
        """Why no palette can be made of the recent colours."""
        return (
            ""
            if self._studio.project.settings.ink.recent
            else "Nothing has been painted yet: there are no recent colours."
        )

    def no_picture(self) -> str:
        """Why no palette can be made of a picture."""
        return "" if self._studio.project.scene.references else "There is no picture on the board (Gather)."

    # -- painting all ---------------------------------------------------------------------------

    def _try(self, run: Callable[[], object]) -> None:
        try:
            run()
        except StackError as error:
            self._studio.say(str(error), "warning")

    def _lay(self, share: F32 | None, name: str) -> None:
        part = self.part
        assert part is not None
        self._studio.project.settle([part.id])
        part = self._studio.project.scene.part(part.id)

        def lay() -> None:
            if not filled(self._studio.project, part, self.ink, share, f"{name} {part.name}"):
                self._studio.say(f"{part.name} has that colour there already, or all of it is masked.")

        self._try(lay)

    def fill(self) -> None:
        """Lay the colour over the whole part, where it is not masked."""
        self._lay(None, "Fill")

    def fill_mask(self) -> None:
        """Paint what is masked."""
        part = self.part
        assert part is not None
        mask = part.mesh.mask
        assert mask is not None
        self._studio.project.settle([part.id])
        part = self._studio.project.scene.part(part.id)
        assert part.mesh.mask is not None
        share = part.mesh.mask.copy()

        def lay() -> None:
            filled(self._studio.project, part, self.ink, share, f"Fill the mask of {part.name}", masked=True)

        self._try(lay)

    def clear(self) -> None:
        """Take all paint off the layer recorded on."""
        part, layer = self.part, self.layer
        assert part is not None
        assert layer is not None
        self._try(lambda: cleared(self._studio.project, part, layer.id))

    def blend(self, blend: str) -> None:
        """Lay the layer's paint over the rest in another way."""
        part, layer = self.part, self.layer
        if part is not None and layer is not None and blend in BLENDS and blend != layer.blend:
            set_blend(self._studio.project, part, layer.id, blend)

    def lays(self, channel: str, on: bool) -> None:
        """Let the layer's paint change a channel, or leave that as it is below."""
        part, layer = self.part, self.layer
        if part is None or layer is None or (channel not in layer.leaves) == on:
            return
        leaves = tuple(key for key in OF_LAYERS if (key in layer.leaves) != (key == channel))
        set_leaves(self._studio.project, part, layer.id, leaves)

    # -- palettes -------------------------------------------------------------------------------

    @property
    def palettes(self) -> tuple[Palette, ...]:
        """All of the project."""
        return self._studio.project.settings.palettes

    @property
    def palette(self) -> Palette | None:
        """The one that is shown."""
        held = self.palettes
        return next((one for one in held if one.id == self.palette_id), held[-1] if held else None)

    def choose_palette(self, palette_id: str) -> None:
        """Show another palette."""
        self.palette_id = palette_id
        self._studio.ink_changed.emit()

    def keep_palette(self) -> None:
        """Make a palette of the recent colours."""
        recent = self._studio.project.settings.ink.recent
        text, fine = QInputDialog.getText(
            self._desk, "Palette of the recent colours", "Name", text=f"Palette {len(self.palettes) + 1}"
        )
        name = " ".join(text.split())
        if fine and name:
            self.palette_id = add_palette(self._studio.project, name, recent).id
            self._studio.ink_changed.emit()

    def palette_from_picture(self) -> None:
        """Make a palette of the colours that a picture of the board has most of."""
        references = self._studio.project.scene.references
        chosen = references[-1]
        if len(references) > 1:
            names = [one.name for one in references]
            name, fine = QInputDialog.getItem(
                self._desk, "Palette from a picture", "Picture", names, len(names) - 1, False
            )
            if not fine:
                return
            chosen = references[names.index(name)]
        pixels = self._desk.references.pixels(chosen)
        colours = dominant(pixels, 8)
        self.palette_id = add_palette(self._studio.project, chosen.name, colours).id
        self._studio.ink_changed.emit()

    def forget_palette(self) -> None:
        """Take the palette away."""
        if self.palette is not None:
            remove_palette(self._studio.project, self.palette.id)
            self._studio.ink_changed.emit()
