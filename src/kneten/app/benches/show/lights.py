"""Work with lamps, surroundings and light sets."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtWidgets import QInputDialog

from kneten.app.benches.show.lamp_mode import LampMode
from kneten.app.work import dialogs
from kneten.core.arrays import F32, F64, Progress
from kneten.core.light.lamps import KINDS, MOST, Lamp, became, lit, turned_to
from kneten.core.light.rigs import RIGS, rig
from kneten.core.light.surroundings import HOUR, OWN, Surroundings
from kneten.document.lighting import (
    add_lamp,
    add_pedestal,
    add_sky,
    around,
    change_around,
    change_group,
    change_lamp,
    keep_set,
    lamps_of,
    light_by,
    remove_lamp,
    remove_set,
    remove_sky,
    with_lamp,
)
from kneten.document.things import KeptSet, KeptSky
from kneten.formats.pieces import FormatError
from kneten.formats.skies import read_sky

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


class Lights:
    """Commands on light.

    Attributes
    ----------
    chosen_id : str
        Id of the lamp that commands are about.
    set_key : str
        What the clay was last lit by: a key of `RIGS`, or the id of a set of one's own.
    """

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self.chosen_id = ""
        self.set_key = ""

    # -- what there is --------------------------------------------------------------------------

    @property
    def all(self) -> tuple[Lamp, ...]:
        """The project's lamps."""
        return lamps_of(self._studio.project.scene)

    @property
    def chosen(self) -> Lamp | None:
        """The lamp that commands are about."""
        held = self.all
        return next((lamp for lamp in held if lamp.id == self.chosen_id), held[0] if held else None)

    @property
    def around(self) -> Surroundings:
        """What is around the clay."""
        return around(self._studio.project.scene)

    @property
    def own_sets(self) -> tuple[KeptSet, ...]:
        """Light sets of the user's own."""
        return self._studio.project.scene.things("light_sets")

    @property
    def is_seen(self) -> bool:
        """Whether the view shows this light."""
        return self._studio.project.settings.look.kind == "lit"

    def reach(self) -> float:
        """Half the size of the clay, mm."""
        low, high = self._studio.project.scene.bounds()
        return max(float(np.linalg.norm(high - low)) / 2, 1e-3)

    def axes(self) -> F64:
        """The camera's axes, as rows (3, 3)."""
        return self._desk.view.camera.axes()

    def words(self) -> str:
        """What is to be said of the light; "" for nothing."""
        if not self.all:
            return f"No lamp yet: only the sky lights the clay. Light it by one of {len(RIGS)} sets, or add lamps."
        shown = lit(self.all)
        if not shown:
            return "All lamps are out: only the sky lights the clay."
        dark = [lamp for lamp in self.all if lamp.shown and lamp not in shown]
        if len(shown) == MOST and dark and not any(lamp.solo for lamp in shown):
            return f"The {MOST} strongest lamps are lit; {len(dark)} more are not."
        if self.is_inside():
            return "This lamp stands within the clay's bounds: what lies behind it casts no shadow."
        return ""

    def is_inside(self) -> bool:
        """Whether the chosen lamp stands so near that its map cannot hold all of the clay."""
        lamp = self.chosen
        if lamp is None or lamp.is_far:
            return False
        low, high = self._studio.project.scene.bounds()
        return float(np.linalg.norm(lamp.place() - (low + high) / 2)) < self.reach() * 1.05

    @property
    def own_skies(self) -> tuple[KeptSky, ...]:
        """Skies of the user's own."""
        return self._studio.project.scene.things("skies")

    def own_sky(self) -> KeptSky | None:
        """The sky of the user's own that is around, or None."""
        return next((one for one in self.own_skies if OWN + one.id == self.around.sky), None)

    # -- why not --------------------------------------------------------------------------------

    def no_lamp(self) -> str:
        """Why nothing can be done with a lamp."""
        return "" if self.all else "There is no lamp yet: add one, or light the clay by a set."

    def no_own_set(self) -> str:
        """Why no light set can be taken away."""
        if any(one.id == self.set_key for one in self.own_sets):
            return ""
        return "No light set of your own is chosen: keep one first, or choose one."

    def no_own_sky(self) -> str:
        """Why no sky can be taken away."""
        return (
            ""
            if self.own_sky() is not None
            else "The sky around is none of your own: load one, or choose it."
        )

    # -- commands -------------------------------------------------------------------------------

    def _show_lit(self) -> None:
        if not self.is_seen:
            self._studio.set_look(kind="lit")

    def choose(self, lamp_id: str) -> None:
        """Take another lamp in hand."""
        self.chosen_id = lamp_id
        self._studio.scene_changed.emit()

    def add(self, kind: str) -> None:
        """One more lamp, from the upper left."""
        low, high = self._studio.project.scene.bounds()
        x, y, z = ((low + high) / 2).tolist()
        sun = Lamp(KINDS[kind][0], "sun", aim=(x, y, z))
        lamp = became(sun, kind, self.axes(), self.reach())
        way = np.array([0.6, 0.5, -0.7] if kind == "rim" else [-0.55, 0.5, 0.67])
        lamp = turned_to(lamp, self.axes().T @ way, self.axes())
        try:
            self.chosen_id = add_lamp(self._studio.project, lamp).id
        except ValueError as error:
            self._studio.say(str(error), "warning")
            return
        self._show_lit()

    def copy(self) -> None:
        """One more lamp like the chosen one."""
        lamp = self.chosen
        assert lamp is not None
        try:
            self.chosen_id = add_lamp(self._studio.project, lamp).id
        except ValueError as error:
            self._studio.say(str(error), "warning")

    def remove(self) -> None:
        """Take the chosen lamp away."""
        lamp = self.chosen
        assert lamp is not None
        self._desk.view.take_mode(None)
        remove_lamp(self._studio.project, lamp.id)

    def take_colour(self) -> None:
        """Let the chosen lamp shine in the colour in hand."""
        self.change(free=True, colour=self._studio.project.settings.ink.colour)

    def place(self, what: str) -> None:
        """Place the chosen lamp by clicking on the clay; the same again leaves."""
        self._show_lit()
        self._desk.view.toggle_mode(LampMode(self._desk.view, self, what))

    def drag(self) -> None:
        """Drag lamps in the view; the same again leaves."""
        self._show_lit()
        self._desk.view.toggle_mode(LampMode(self._desk.view, self, "drag"))

    def light_by(self, key: str) -> None:
        """Light the clay by a set: one of ours by its key, or one of the user's own by its id."""
        own = next((one for one in self.own_sets if one.id == key), None)
        low, high = self._studio.project.scene.bounds()
        light = rig(key, low, high) if own is None else (own.lamps, own.around)
        name = RIGS[key][0] if own is None else own.name
        self.set_key = key
        light_by(self._studio.project, light, f"Light by {name}")
        self._show_lit()

    def keep(self) -> None:
        """Keep the light as a set of the user's own."""
        text, fine = QInputDialog.getText(
            self._desk, "Keep the light set", "Name", text=f"Light {len(self.own_sets) + 1}"
        )
        name = " ".join(text.split())[:80]
        if fine and name:
            self.set_key = keep_set(self._studio.project, name).id
            self._studio.scene_changed.emit()

    def forget(self) -> None:
        """Take the light set of the user's own that was last chosen away."""
        remove_set(self._studio.project, self.set_key)

    def load_sky(self, path: Path | None = None) -> None:
        """Be under a sky from a file: it is read aside."""
        found_path = dialogs.ask_sky(self._desk) if path is None else path
        if found_path is None:
            return
        studio = self._studio

        def read(progress: Progress) -> tuple[F32, list[str]] | str:
            progress.report(0.2, "Reading")
            try:
                return read_sky(found_path)
            except FormatError as error:
                return str(error)

        def landed(found: tuple[F32, list[str]] | str) -> None:
            if isinstance(found, str):
                studio.say(found, "warning")
                return
            light, notices = found
            add_sky(studio.project, found_path.stem[:80], light)
            for words in notices:
                studio.say(words, "warning")
            self._show_lit()

        studio.work_on([], f"Sky {found_path.name}", read, landed)

    def forget_sky(self) -> None:
        """Take the sky of the user's own that is around away."""
        sky = self.own_sky()
        assert sky is not None
        remove_sky(self._studio.project, sky.id)

    def no_group(self) -> str:
        """Why nothing can be done with a group of lamps."""
        lamp = self.chosen
        if lamp is None:
            return self.no_lamp()
        return "" if lamp.group else f"{lamp.name} is in no group: put it in one first."

    def ask_group(self) -> None:
        """Ask what group the chosen lamp is in; none by an empty name."""
        lamp = self.chosen
        assert lamp is not None
        known = sorted({one.group for one in self.all if one.group})
        tip = f"Name of the group; {', '.join(known)} there is already" if known else "Name of the group"
        text, fine = QInputDialog.getText(self._desk, f"Group of {lamp.name}", tip, text=lamp.group)
        if fine:
            self.change(group=" ".join(text.split())[:80])

    def switch_group(self, trait: str) -> None:
        """Light all lamps of the group of the chosen one, or put them out; or have them alone, or no more."""
        lamp = self.chosen
        assert lamp is not None
        on = not getattr(lamp, trait)
        words = {"shown": "Light" if on else "Put out", "solo": "Alone:" if on else "Not alone:"}
        change_group(self._studio.project, lamp.group, f"{words[trait]} {lamp.group}", {trait: on})
        self._show_lit()

    def no_backdrop(self) -> str:
        """Why no backdrop can be coloured."""
        return "" if self.around.backdrop else "There is no backdrop: choose one in the card Surroundings."

    def colour_backdrop(self) -> None:
        """Have the backdrop in the colour in hand."""
        self.change_around(tone=self._studio.project.settings.ink.colour)

    def pedestal(self) -> None:
        """Put a pedestal below all visible clay."""
        project = self._studio.project
        part = add_pedestal(project)
        self._studio.say(f"{part.name} is a part like any other: painted, scaled, taken away in Parts.")
        self._show_lit()

    def no_clay(self) -> str:
        """Why nothing can stand on a pedestal."""
        seen = any(part.visible for part in self._studio.project.scene.parts)
        return "" if seen else "There is no visible part to stand on a pedestal."

    # -- changing -------------------------------------------------------------------------------

    def _with(self, traits: dict[str, Any]) -> Lamp | None:
        lamp = self.chosen
        if lamp is None:
            return None
        kind = traits.pop("kind", lamp.kind)
        if kind != lamp.kind:
            lamp = became(lamp, kind, self.axes(), self.reach())
        return replace(lamp, **traits)

    def dial(self, **traits: Any) -> None:
        """Show the chosen lamp otherwise while a number is dragged."""
        changed = self._with(traits)
        if changed is not None:
            self.show(changed)

    def show(self, lamp: Lamp) -> None:
        """Show a lamp otherwise than it is."""
        view = self._desk.view
        view.shown_things = {"lamps": lamps_of(with_lamp(self._studio.project.scene, lamp))}
        view.moved()

    def show_again(self) -> None:
        """Show all as it is."""
        self._desk.view.shown_things = {}
        self._desk.view.refresh()

    def change(self, **traits: Any) -> None:
        """Have the chosen lamp otherwise: one step."""
        changed = self._with(traits)
        if changed is not None:
            self.settle(changed, f"Change {changed.name}")

    def settle(self, lamp: Lamp, name: str) -> None:
        """Keep a lamp as it was shown."""
        self._desk.view.shown_things = {}
        try:
            done = change_lamp(self._studio.project, lamp, name)
        except ValueError as error:
            self._studio.say(f"{str(error)[0].upper()}{str(error)[1:]}.", "warning")
            done = False
        if not done:
            self._studio.scene_changed.emit()

    def dial_around(self, **traits: Any) -> None:
        """Show other surroundings while a number is dragged."""
        self._desk.view.shown_things = {"surroundings": (replace(self.around, **traits),)}
        self._desk.view.moved()

    def change_around(self, **traits: Any) -> None:
        """Have other surroundings: one step."""
        self._desk.view.shown_things = {}
        if traits.get("sky") == HOUR and not self.around.by_hour:
            # What a light set left of a sky would be too little for a day.
            traits = {"strength": 1.0, **traits}
        if not change_around(self._studio.project, replace(self.around, **traits), "Change the surroundings"):
            self._studio.scene_changed.emit()
        self._show_lit()
