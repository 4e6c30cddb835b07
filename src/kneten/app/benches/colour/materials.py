"""Work with materials: taken in hand, kept, given to others."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QInputDialog

from kneten.app.work import dialogs
from kneten.core.paint.ink import CHANNELS, OF_MATERIAL
from kneten.core.paint.materials import FAMILIES, PRESETS, Preset
from kneten.document.painting import add_materials, remove_material, set_ink
from kneten.formats.materials import read_materials, write_materials
from kneten.formats.pieces import FormatError

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

OWN = "own"
"""Stands for the user's own where else a family's key does."""


class Materials:
    """Commands on materials.

    Attributes
    ----------
    family : str
        A key of `FAMILIES`, or `OWN`: those that are shown.
    """

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self.family = next(iter(FAMILIES))

    @property
    def own(self) -> tuple[Preset, ...]:
        """The user's own, in the project."""
        return self._studio.project.settings.materials

    @property
    def shown(self) -> tuple[Preset, ...]:
        """Those of the family that is shown."""
        if self.family == OWN:
            return self.own
        return tuple(one for one in PRESETS.values() if one.family == self.family)

    @property
    def chosen(self) -> Preset | None:
        """The one that is in hand as it is."""
        ink = self._studio.project.settings.ink
        held = (*self.own, *PRESETS.values())
        inked = (ink.colour, ink.material, ink.opacity)
        return next((one for one in held if (one.colour, one.material, one.opacity) == inked), None)

    def choose_family(self, family: str) -> None:
        """Show another family."""
        self.family = family
        self._studio.ink_changed.emit()

    def take(self, preset: Preset) -> None:
        """Take a material in hand, all of it."""
        set_ink(
            self._studio.project,
            colour=preset.colour,
            material=preset.material,
            opacity=preset.opacity,
            channels=tuple(CHANNELS),
        )
        self._studio.ink_changed.emit()

    def dial(self, channel: str, share: float) -> None:
        """Change one of what the material in hand is made of, from 0 to 1, and paint it."""
        ink = self._studio.project.settings.ink
        if channel == "opacity":
            held = ink.with_channel(channel, True)
            set_ink(self._studio.project, opacity=round(255 * share), channels=held.channels)
            self._studio.ink_changed.emit()
            return
        codes = list(ink.material)
        codes[OF_MATERIAL.index(channel)] = round(255 * share)
        held = replace(ink, material=(codes[0], codes[1], codes[2], codes[3])).with_channel(channel, True)
        set_ink(self._studio.project, material=held.material, channels=held.channels)
        self._studio.ink_changed.emit()

    # -- own ones -------------------------------------------------------------------------------

    def no_own(self) -> str:
        """Why none can be given to others."""
        return "" if self.own else "There is no material of your own yet: keep the one in hand first."

    def not_own(self) -> str:
        """Why the one in hand cannot be taken away."""
        chosen = self.chosen
        if chosen is None or chosen.family:
            return "The material in hand is none of your own: choose one of these first."
        return ""

    def keep(self) -> None:
        """Keep what is in hand as a material of the project."""
        text, fine = QInputDialog.getText(
            self._desk, "Keep the material in hand", "Name", text=f"Material {len(self.own) + 1}"
        )
        name = " ".join(text.split())[:80]
        if fine and name:
            ink = self._studio.project.settings.ink
            add_materials(
                self._studio.project, (Preset(name, ink.colour, ink.material, opacity=ink.opacity),)
            )
            self.choose_family(OWN)

    def forget(self) -> None:
        """Take the own material in hand out of the project."""
        chosen = self.chosen
        assert chosen is not None
        remove_material(self._studio.project, chosen.id)
        self._studio.ink_changed.emit()

    def share(self) -> None:
        """Write the own materials to a file."""
        path = dialogs.ask_save(self._desk, "Share materials", "materials.json", "Materials (*.json)")
        if path is not None:
            try:
                write_materials(path, self.own)
            except FormatError as error:
                self._studio.say(str(error), "warning")
                return
            self._studio.say(f"{len(self.own)} materials are in {path.name}.")

    def load(self, path: Path | None = None) -> None:
        """Take in the materials of a file."""
        if path is None:
            path = dialogs.ask_materials(self._desk)
        if path is None:
            return
        try:
            found = read_materials(path)
        except FormatError as error:
            self._studio.say(str(error), "warning")
            return
        add_materials(self._studio.project, found)
        self.choose_family(OWN)
