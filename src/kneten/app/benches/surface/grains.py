"""Work with grain: patterns that lie live on the part in hand."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer

from kneten.app.view.trial import RESTED, SMALL, Trial
from kneten.core.arrays import F32, Progress
from kneten.core.grain import SHADED, Grain, coarse
from kneten.core.grain_work import GrainWork
from kneten.core.press import Press
from kneten.core.regions import numbers_of
from kneten.core.stack import Layer
from kneten.document.grains import (
    Laid,
    bake_grain,
    blocked,
    grains_of,
    land,
    new_grain,
    order,
    remove_grain,
    worked_out,
)
from kneten.document.opening import StackError, stack_of
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

SCALE = 0.06
"""How wide a new grain's pattern is, against the part's size."""

HEIGHT = 0.06
"""How high it is, against its width."""


class Grains:
    """Commands on the grain of the part in hand.

    Attributes
    ----------
    chosen_id : str
        Id of the grain that commands are about.
    """

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self.chosen_id = ""
        self._tried: _Tried | None = None
        self._rest = QTimer(desk)
        self._rest.setSingleShot(True)
        self._rest.setInterval(RESTED)
        self._rest.timeout.connect(self._rested)

    # -- what there is ----------------------------------------------------------------------------

    @property
    def all(self) -> tuple[Layer, ...]:
        """The grains of the part in hand."""
        part = self._studio.project.active
        return () if part is None else grains_of(part)

    @property
    def chosen(self) -> Layer | None:
        """The grain that commands are about."""
        held = self.all
        found = next((layer for layer in held if layer.id == self.chosen_id), None)
        return found if found is not None else held[-1] if held else None

    def none(self) -> str:
        """Why no grain can be laid."""
        if words := self._desk.levels.none():
            return words
        part = self._studio.project.active
        return "" if part is None else blocked(part)

    def no_grain(self) -> str:
        """Why nothing can be done with a grain."""
        if words := self.none():
            return words
        return "" if self.chosen is not None else "The part in hand has no grain yet: lay one first."

    def no_mask(self) -> str:
        """Why a grain cannot be laid on the mask, or baked within it."""
        if words := self.no_grain():
            return words
        part = self._studio.project.active
        masked = part is not None and part.mesh.mask is not None and part.mesh.mask.any()
        return "" if masked else "Nothing is masked: mask first where the grain is to lie."

    def words(self) -> str:
        """What is to be said about the chosen grain; "" for nothing."""
        layer, part = self.chosen, self._studio.project.active
        if layer is None or part is None or layer.grain is None or part.stack is None:
            return ""
        if words := blocked(part):
            return words
        shape = part.mesh.topology
        some = shape.faces[:: max(shape.n_faces // 5000, 1)]
        ends = part.mesh.positions[some[:, 0]] - part.mesh.positions[some[:, 1]]
        edge = float((ends * ends).sum(axis=1).mean()) ** 0.5
        too_coarse = coarse(layer.grain, edge) > SHADED
        if part.stack.top >= len(layer.reliefs) or not layer.reliefs[part.stack.top]:
            lies = next((k for k, relief in enumerate(layer.reliefs) if relief), None)
            if lies is not None:
                return f"It lies on level {lies}: lay it anew."
            if not too_coarse:
                return "It lies nowhere: lay it anew, or elsewhere."
        if too_coarse:
            return (
                f"The mesh is {coarse(layer.grain, edge):.1f} times too coarse for it: what it cannot carry is only "
                "shown as shading, and is not exported. Subdivide, or make it larger."
            )
        return ""

    def press_named(self, grain: Grain) -> str:
        """What a grain's press is called."""
        return self._studio.presses.name_of(grain.press)

    def regions(self) -> list[int]:
        """The regions of the part in hand."""
        part = self._studio.project.active
        return [] if part is None else numbers_of(part.mesh)

    # -- commands ---------------------------------------------------------------------------------

    def add(self) -> None:
        """Lay a new grain: clouds, of a size that suits the part."""
        part = self._part()
        low, high = part.mesh.bounds()
        wide = float(((high - low) ** 2).sum()) ** 0.5 * SCALE
        grain = Grain(scale=wide, height=wide * HEIGHT)
        layer = new_grain(part, grain, "Grain")
        self._lay(layer, f"Add grain {layer.name}")

    def add_press(self) -> None:
        """Lay the press of the tool in hand as a grain."""
        part, key = self._part(), self._studio.settings().tip.press
        low, high = part.mesh.bounds()
        wide = float(((high - low) ** 2).sum()) ** 0.5 * SCALE
        grain = Grain(kind="press", press=key, scale=4 * wide, height=wide * HEIGHT)
        layer = new_grain(part, grain, self._studio.presses.name_of(key))
        self._lay(layer, f"Add grain {layer.name}")

    def no_press(self) -> str:
        """Why the press of the tool in hand cannot be a grain."""
        return self.none() or self._unfit(self._studio.settings().tip.press)

    def _unfit(self, key: str) -> str:
        listed = next((one for one in self._studio.presses.listed() if one.key == key), None)
        if listed is None:
            return "Choose a press on the shelf first: it is what is laid."
        if listed.deep:
            return f"{listed.name} is a deep press, which is laid by strokes: choose another."
        if not listed.tiles:
            return (
                f"{listed.name} does not go on at its edges: choose one that does, or tile it on the shelf."
            )
        return ""

    def renew(self) -> None:
        """Lay the chosen grain anew, for the clay as it is now."""
        layer = self.chosen
        assert layer is not None
        self._lay(layer, f"Lay grain {layer.name} anew")

    def take_mask(self) -> None:
        """Let the chosen grain lie on the mask as it is now."""
        layer = self.chosen
        assert layer is not None
        assert layer.grain is not None
        grain = replace(layer.grain, where="mask", of="")
        self._lay(replace(layer, grain=grain), f"Grain {layer.name} on the mask")

    def bake(self, inside: bool = False) -> None:
        """Make the chosen grain a layer like others, whole or what the mask covers."""
        layer = self.chosen
        assert layer is not None
        self._try(lambda: bake_grain(self._studio.project, self._part(), layer.id, inside))
        self._studio.say(f"{layer.name} is a layer now: record on it, restore from it, dial it.")

    def remove(self) -> None:
        """Take the chosen grain off."""
        layer = self.chosen
        assert layer is not None
        self._try(lambda: remove_grain(self._studio.project, self._part(), layer.id))

    def choose(self, layer_id: str) -> None:
        """Take another grain in hand."""
        self.chosen_id = layer_id
        self._studio.scene_changed.emit()

    # -- changing one -----------------------------------------------------------------------------

    def change(self, **traits: object) -> None:
        """Give the chosen grain other traits: one step."""
        layer = self.chosen
        if layer is None or layer.grain is None or self.no_grain():
            return
        self._studio.project.end_trials()
        grain = replace(layer.grain, **traits)  # type: ignore[arg-type]
        if grain == layer.grain:
            return
        if grain.kind == "press" and (words := self._unfit(grain.press)):
            self._studio.say(words, "warning")
            self._studio.scene_changed.emit()
            return
        self._lay(replace(layer, grain=grain), f"Grain {layer.name}")

    def dial(self, **traits: object) -> None:
        """Show the chosen grain with other numbers while they are dragged."""
        layer = self.chosen
        if layer is None or layer.grain is None or self.no_grain():
            return
        if self._tried is None or self._tried.layer.id != layer.id:
            press = self._press(layer.grain)
            if layer.grain.kind == "press" and press is None:
                return
            project = self._studio.project
            project.try_on(self)
            part = self._part()
            self._tried = _Tried(self._desk, part, layer, press, order(project, part, layer).mask)
        grain = replace(layer.grain, **traits)  # type: ignore[arg-type]
        if self._tried.show(grain):
            self._rest.start()
        part = self._part()
        # What the mesh is too coarse for is shown as well.
        self._desk.view.shown_stacks = {part.id: stack_of(part).with_layer(replace(layer, grain=grain))}
        self._desk.view.moved()

    def _rested(self) -> None:
        if self._tried is not None:
            self._tried.show_whole()
            self._desk.view.moved()

    def put_back(self) -> None:
        """The grain as it was before the drag."""
        held, self._tried = self._tried, None
        self._desk.view.shown_stacks = {}
        self._rest.stop()
        if held is not None:
            held.put_back()
            self._desk.view.moved()

    # -- laying -----------------------------------------------------------------------------------

    def _part(self) -> Part:
        part = self._studio.project.active
        assert part is not None
        return part

    def _try(self, run: Callable[[], None]) -> None:
        try:
            run()
        except StackError as error:
            self._studio.say(str(error), "warning")

    def _press(self, grain: Grain) -> Press | None:
        return self._studio.presses.found(grain.press) if grain.kind == "press" else None

    def _lay(self, layer: Layer, name: str) -> None:
        """Lay a grain on another thread: one undo step."""
        studio, part = self._studio, self._part()
        grain = layer.grain
        assert grain is not None
        try:
            ordered = order(studio.project, part, layer)
            if grain.kind == "press" and not studio.presses.name_of(grain.press):
                raise StackError("Its press is not here any more: choose another on the shelf.")
        except StackError as error:
            studio.say(str(error), "warning")
            studio.scene_changed.emit()
            return
        maker = studio.presses.maker(grain.press) if grain.kind == "press" else None
        press = self._press(grain)
        stack, mesh = stack_of(part), part.mesh.copy()

        def make(progress: Progress) -> Laid | str:
            try:
                laid = press if press is not None or maker is None else maker()
                return worked_out(ordered, stack, mesh, laid, progress)
            except (StackError, ValueError) as error:
                return str(error)

        def arrived(made: Laid | str) -> None:
            if isinstance(made, str):
                studio.say(made, "warning")
                return
            self.chosen_id = layer.id
            land(studio.project, studio.project.scene.part(part.id), ordered, made, name)
            if words := self.words():
                studio.say(f"{layer.name}: {words}", "warning")

        studio.presses.want(grain.press if grain.kind == "press" else "")
        studio.work_on([part], name, make, arrived)


class _Tried:
    """A grain whose numbers are being dragged."""

    def __init__(self, desk: Desk, part: Part, layer: Layer, press: Press | None, mask: F32 | None) -> None:
        self.layer = layer
        self._press = press
        self._work = GrainWork(stack_of(part), part.mesh, layer)
        assert layer.grain is not None
        self._grain = layer.grain
        self._measure = self._work.measure(layer.grain, mask, Progress())
        self._trial = Trial(desk.view, part)
        self._few = self._trial.rows if part.mesh.n_vertices > SMALL else self._trial.rows[:0]

    def show(self, grain: Grain) -> bool:
        """Show other numbers; whether only what stands in for the part has them."""
        self._grain = grain
        if len(self._few):
            places = self._work.tried(grain, self._press, self._measure, self._few)
            self._trial.show(places, self._few)
            return True
        self.show_whole()
        return False

    def show_whole(self) -> None:
        """Show all of the clay with the numbers shown last."""
        self._trial.show(self._work.tried(self._grain, self._press, self._measure))

    def put_back(self) -> None:
        """As it was before the drag."""
        self._trial.let_go()
