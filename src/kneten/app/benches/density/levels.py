"""Levels and layers in the window: what their commands do to the part in hand."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QInputDialog

from kneten.app.benches.density.dialling import Dialled
from kneten.app.fields.quantities import count_text
from kneten.app.view.trial import RESTED
from kneten.app.work.memory import MOST_VERTICES, PER_VERTEX, short_of_memory
from kneten.core.arrays import I32, Progress
from kneten.core.mesh import Mesh
from kneten.core.paint.layers import packed_in
from kneten.core.rebuild import RebuildError, rebuilt
from kneten.core.stack import Layer, LayerGroup, Stack
from kneten.core.subdivide import foretell
from kneten.core.topology import MeshError
from kneten.core.twins import pairs_of
from kneten.document.layering import (
    add_layer,
    change_group,
    change_layer,
    change_layers,
    copy_layer,
    exchange_level,
    group_layers,
    mask_like_layer,
    masked_layer,
    mirrored_layer,
    move_layer,
    record,
    set_layer_mask,
    ungroup_layer,
)
from kneten.document.opening import StackError, stack_of
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


class Levels:
    """Commands on the levels and layers of the part in hand.

    Attributes
    ----------
    chosen_id : str
        Id of the layer that commands are about.
    """

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self.chosen_id = ""
        self._dialled: Dialled | None = None
        self._compared: dict[str, tuple[str, ...]] = {}
        self._studio.subdivide = self.add
        self._rest = QTimer(desk)
        self._rest.setSingleShot(True)
        self._rest.setInterval(RESTED)
        self._rest.timeout.connect(self._rested)

    # -- what there is ----------------------------------------------------------------------------

    @property
    def part(self) -> Part:
        """The part in hand."""
        part = self._studio.project.active
        assert part is not None
        return part

    @property
    def stack(self) -> Stack | None:
        """The stack of the part in hand, if it has one."""
        part = self._studio.project.active
        return None if part is None else part.stack

    @property
    def chosen(self) -> Layer | None:
        """The layer that commands are about."""
        layers = self.stack.listed if self.stack is not None else ()
        for layer in layers:
            if layer.id == self.chosen_id:
                return layer
        return layers[-1] if layers else None

    def none(self) -> str:
        """Why nothing can be done with levels or layers."""
        part = self._studio.project.active
        if part is None:
            return "There is no part in hand."
        if part.live_density:
            return (
                f"{part.name} has live density, which changes its mesh all the time: turn that off first (N)."
            )
        return self._studio.stroke_blocked(part)

    def none_above(self) -> str:
        """Why one cannot go up."""
        stack = self.stack
        if blocked := self.none():
            return blocked
        if stack is None or stack.level == stack.top:
            return "This is the highest level: add one with Alt+Shift+Up."
        return ""

    def none_below(self) -> str:
        """Why one cannot go down."""
        stack = self.stack
        if blocked := self.none():
            return blocked
        return "This is the lowest level." if stack is None or stack.level == 0 else ""

    def no_layer(self) -> str:
        """Why nothing can be done with a layer."""
        if blocked := self.none():
            return blocked
        return "" if self.chosen is not None else "The part has no layer yet: add one (Alt+L)."

    def not_maskable(self) -> str:
        """Why the chosen layer's paint cannot be hidden by the mask."""
        if blocked := self.no_layer():
            return blocked
        return (
            "" if self.part.mesh.mask is not None else "Nothing is masked: mask first what is to be hidden."
        )

    def not_masked(self) -> str:
        """Why there is no mask of the chosen layer."""
        if blocked := self.no_layer():
            return blocked
        assert self.chosen is not None
        return (
            "" if self.chosen.mask else f"{self.chosen.name} has no mask: none of its paint is hidden by one."
        )

    def foretold(self) -> tuple[int, int]:
        """Vertices of one more level, and the bytes it takes."""
        stack, part = self.stack, self.part
        shape = part.mesh.topology if stack is None else stack.levels[-1].topology
        count = foretell(shape)[0]
        return count, count * PER_VERTEX

    # -- levels -----------------------------------------------------------------------------------

    def _work(
        self,
        name: str,
        work: Callable[[Stack, Mesh, Progress], tuple[Stack, Mesh]],
        land: Callable[[], None] = lambda: None,
    ) -> None:
        """Make another stack and mesh of the part's on another thread."""
        part, studio = self.part, self._studio
        stack, mesh = stack_of(part), part.mesh.copy()

        def make(progress: Progress) -> tuple[Stack, Mesh] | str:
            try:
                made = work(stack, mesh, progress)
            except (RebuildError, MeshError) as error:
                return str(error)
            if studio.journal is not None:
                studio.journal.stage(made[1], made[0])
            return made

        def arrived(made: tuple[Stack, Mesh] | str) -> None:
            if isinstance(made, str):
                studio.say(f"{part.name} has no lower levels to be found: {made}.", "warning")
                return
            exchange_level(studio.project, part.id, *made, f"{name} {part.name}")
            land()

        studio.work_on([part], f"{name} {part.name}", make, arrived)

    def add(self) -> None:
        """One level more."""
        count, size = self.foretold()
        if count > MOST_VERTICES:
            self._studio.say(
                f"The next level would have {count:,} vertices; {MOST_VERTICES:,} is the most.", "warning"
            )
            return
        if short := short_of_memory("The next level", size * 1.5):
            self._studio.say(short, "warning")
            return

        def work(stack: Stack, mesh: Mesh, progress: Progress) -> tuple[Stack, Mesh]:
            if stack.level < stack.top:
                stack, mesh = stack.stepped(mesh, stack.top, progress)
            return stack.added(mesh, progress)

        self._work("Subdivide", work)

    def step(self, to: int) -> None:
        """Take another level in hand."""
        stack = self.stack
        if stack is None or not 0 <= to <= stack.top or to == stack.level:
            return
        self._work(f"Level {to} of", lambda held, mesh, progress: held.stepped(mesh, to, progress))

    def up(self) -> None:
        """The next finer level."""
        if self.stack is not None:
            self.step(self.stack.level + 1)

    def down(self) -> None:
        """The next coarser level."""
        if self.stack is not None:
            self.step(self.stack.level - 1)

    def delete_above(self) -> None:
        """Only this level and those below stay."""
        stack, part = self.stack, self.part
        assert stack is not None
        new = stack.without_above()
        exchange_level(
            self._studio.project,
            part.id,
            new,
            part.mesh.copy(),
            f"Drop levels above {stack.level} of {part.name}",
        )

    def delete_below(self) -> None:
        """This level becomes the lowest."""

        def work(stack: Stack, mesh: Mesh, progress: Progress) -> tuple[Stack, Mesh]:
            new = stack.without_below(mesh, progress)
            return replace(new, synced=mesh.positions.copy()), mesh

        self._work("Drop levels below of", work)

    def rebuild(self) -> None:
        """Find lower levels again."""
        part = self.part
        if part.stack is not None:
            if len(part.stack.levels) > 1:
                self._studio.say(f"{part.name} has levels already.", "warning")
            else:
                self._studio.say("Bake or delete the layers first: they belong to this mesh.", "warning")
            return

        def told() -> None:
            stack = self.stack
            if stack is not None:
                counts = ", ".join(count_text(level.topology.n_vertices) for level in stack.levels)
                self._studio.say(f"{part.name} has {len(stack.levels)} levels now: {counts} vertices.")

        self._work("Rebuild levels of", lambda _, mesh, progress: rebuilt(mesh, progress), told)

    # -- layers -----------------------------------------------------------------------------------

    def _try(self, run: Callable[[], object]) -> None:
        try:
            run()
        except StackError as error:
            self._studio.say(str(error), "warning")

    def choose(self, layer_id: str) -> None:
        """Let commands be about a layer."""
        self.chosen_id = layer_id
        self._desk.fill_card("layers_card")

    def add_layer(self) -> None:
        """A new layer, recorded on."""
        self.chosen_id = add_layer(self._studio.project, self.part).id
        self._desk.fill_card("layers_card")

    def record(self, layer_id: str) -> None:
        """Let strokes go to a layer; to the clay if they go there already."""
        stack = self.stack
        if stack is not None:
            to = "" if stack.recording == layer_id else layer_id
            self._try(lambda: record(self._studio.project, self.part, to))

    def record_chosen(self) -> None:
        """Let strokes go to the chosen layer, or to the clay again."""
        if self.chosen is not None:
            self.record(self.chosen.id)

    def _chosen_id(self) -> str:
        assert self.chosen is not None
        return self.chosen.id

    def show(self, layer_id: str) -> None:
        """Hide a layer or show it."""
        if self.stack is not None:
            layer = self.stack.layer(layer_id)
            verb = "Hide" if layer.shown else "Show"
            change_layer(
                self._studio.project, self.part, layer_id, f"{verb} layer {layer.name}", shown=not layer.shown
            )

    def show_chosen(self) -> None:
        """Hide the chosen layer or show it."""
        self.show(self._chosen_id())

    def solo(self) -> None:
        """Only the chosen layer counts; all again."""
        layer = self.chosen
        assert layer is not None

        def change(stack: Stack) -> Stack:
            new = replace(stack, solo="" if stack.solo == layer.id else layer.id)
            return new if new.recorded is not None else replace(new, recording="")

        on = self.stack is not None and self.stack.solo == layer.id
        name = "All layers count" if on else f"Only layer {layer.name}"
        change_layers(self._studio.project, self.part, change, name)

    def before(self) -> None:
        """Hide all shown layers at once, or show those again."""
        part, stack = self.part, self.stack
        assert stack is not None
        shown = tuple(layer.id for layer in stack.listed if layer.shown)
        again = () if shown else self._compared.get(part.id, tuple(layer.id for layer in stack.listed))
        if shown:
            self._compared[part.id] = shown

        def change(now: Stack) -> Stack:
            layers = tuple(
                layer if layer.shape is not None else replace(layer, shown=layer.id in again)
                for layer in now.layers
            )
            new = replace(now, layers=layers)
            return new if new.recorded is not None else replace(new, recording="")

        name = f"Before the layers of {part.name}" if shown else f"After the layers of {part.name}"
        change_layers(self._studio.project, part, change, name)

    def rename(self) -> None:
        """Give the chosen layer another name."""
        layer = self.chosen
        assert layer is not None
        text, ok = QInputDialog.getText(self._desk, "Rename layer", "Name", text=layer.name)
        name = " ".join(text.split())
        if ok and name and name != layer.name:
            assert self.stack is not None
            change_layer(
                self._studio.project,
                self.part,
                layer.id,
                f"Rename layer {layer.name}",
                name=self.stack.free_name(name),
            )

    def delete(self) -> None:
        """Take the chosen layer out, with what it does."""
        layer = self.chosen
        assert layer is not None
        change_layers(
            self._studio.project, self.part, lambda now: now.without(layer.id), f"Delete layer {layer.name}"
        )

    def bake(self) -> None:
        """Make the chosen layer part of the clay."""
        layer = self.chosen
        assert layer is not None
        if self.stack is not None and not self.stack.strength(layer):
            self._studio.say(
                f"{layer.name} is hidden or has no strength: nothing of it would go into the clay. "
                "Show it, or delete it.",
                "warning",
            )
            return
        why = self.stack.no_bake(layer) if self.stack is not None else ""
        if why:
            self._studio.say(why, "warning")
            return
        change_layers(
            self._studio.project, self.part, lambda now: now.baked(layer.id), f"Bake layer {layer.name}"
        )

    def merge(self) -> None:
        """Make one of the chosen layer and the one below it in the list."""
        layer, stack = self.chosen, self.stack
        assert layer is not None
        assert stack is not None
        at = stack.listed.index(layer)
        if at == 0:
            self._studio.say(f"There is no layer below {layer.name} to merge it with.", "warning")
            return
        below = stack.listed[at - 1]
        posed = next((one.name for one in (below, layer) if one.pose is not None), "")
        if posed:
            self._studio.say(f"{posed} is a pose, and turns what others do: bake it instead.", "warning")
            return
        packed = packed_in(stack, self.part.mesh)
        if below.leaves != layer.leaves and all(packed.layer(one.id).paint for one in (below, layer)):
            self._studio.say(
                f"{below.name} and {layer.name} lay different channels: bake one of them, or let both lay the same.",
                "warning",
            )
            return
        change_layers(
            self._studio.project,
            self.part,
            lambda now: now.merged([below.id, layer.id], below.name),
            f"Merge layers {below.name} and {layer.name}",
        )

    def copy(self) -> None:
        """The chosen layer once more."""
        self.chosen_id = copy_layer(self._studio.project, self.part, self._chosen_id()).id
        self._desk.fill_card("layers_card")

    def move(self, by: int) -> None:
        """Put the chosen layer higher or lower."""
        self._try(lambda: move_layer(self._studio.project, self.part, self._chosen_id(), by))

    # -- groups of layers -------------------------------------------------------------------------

    def no_group(self) -> str:
        """Why nothing can be done with a group of layers."""
        if blocked := self.no_layer():
            return blocked
        return "" if self.group is not None else f"{self._chosen().name} is in no group."

    def _chosen(self) -> Layer:
        assert self.chosen is not None
        return self.chosen

    @property
    def group(self) -> LayerGroup | None:
        """The group of the chosen layer."""
        layer, stack = self.chosen, self.stack
        return stack.group(layer.group) if layer is not None and stack is not None else None

    def group_layers(self) -> None:
        """Put the chosen layer into a group with the one below it."""
        self._try(lambda: group_layers(self._studio.project, self.part, self._chosen_id()))

    def ungroup(self) -> None:
        """Take the chosen layer out of its group."""
        ungroup_layer(self._studio.project, self.part, self._chosen_id())

    def show_group(self, group_id: str = "") -> None:
        """Hide a group or show it; the chosen layer's where none is named."""
        stack = self.stack
        group = self.group if not group_id or stack is None else stack.group(group_id)
        if group is not None:
            verb = "Hide" if group.shown else "Show"
            step = f"{verb} {group.name}"
            change_group(self._studio.project, self.part, group.id, step, shown=not group.shown)

    def fold_group(self, group_id: str) -> None:
        """List the layers of a group, or only the group."""
        group = self.stack.group(group_id) if self.stack is not None else None
        if group is not None:
            step = f"{'Unfold' if group.folded else 'Fold'} {group.name}"
            change_group(self._studio.project, self.part, group.id, step, folded=not group.folded)

    def rename_group(self) -> None:
        """Give the chosen layer's group another name."""
        group = self.group
        assert group is not None
        text, ok = QInputDialog.getText(self._desk, "Rename group", "Name", text=group.name)
        name = " ".join(text.split())
        if ok and name and name != group.name:
            change_group(self._studio.project, self.part, group.id, f"Rename {group.name}", name=name)

    def off_mask(self) -> None:
        """Take the chosen layer away where the mask is."""
        self._try(lambda: masked_layer(self._studio.project, self.part, self._chosen_id()))

    def mask_paint(self) -> None:
        """Hide the chosen layer's paint where the clay is masked."""
        mask = self.part.mesh.mask
        self._try(lambda: set_layer_mask(self._studio.project, self.part, self._chosen_id(), mask))

    def unmask_paint(self) -> None:
        """Show all of the chosen layer's paint."""
        self._try(lambda: set_layer_mask(self._studio.project, self.part, self._chosen_id(), None))

    def take_mask(self) -> None:
        """Mask the clay as the chosen layer's paint is hidden."""
        self._try(lambda: mask_like_layer(self._studio.project, self.part, self._chosen_id()))

    def mirror(self) -> None:
        """Make the chosen layer's right side the mirror image of its left."""
        part, studio, layer_id = self.part, self._studio, self._chosen_id()
        mesh = part.mesh.copy()

        def land(twin: I32 | None) -> None:
            if twin is None:
                studio.say(f"{part.name} has no shape that mirrors onto itself across X.", "warning")
                return
            now = studio.project.scene.part(part.id)
            self._try(lambda: mirrored_layer(studio.project, now, layer_id, twin))

        def work(progress: Progress) -> I32 | None:
            progress.report(0.3, "Finding twins")
            found = pairs_of(mesh, 0)
            return None if found is None else found.twin

        studio.work_on([part], "Mirror layer", work, land)

    # -- strength, dragged ------------------------------------------------------------------------

    def dial(self, layer_id: str, strength: float) -> None:
        """Show a layer at a strength while it is dragged."""
        if self._dialled is None or self._dialled.dialled_id != layer_id:
            stack = self.stack
            if (
                self.none()
                or stack is None
                or layer_id not in {*(one.id for one in stack.layers), *(one.id for one in stack.groups)}
            ):
                return
            self._studio.project.try_on(self)
            self._dialled = Dialled(self._desk.view, self.part, layer_id)
        if self._dialled.show(strength):
            self._rest.start()
        self._desk.view.moved()

    def _rested(self) -> None:
        """The hand rests: work all of it out."""
        if self._dialled is not None:
            self._dialled.show_whole()
            self._desk.view.moved()

    def put_back(self) -> None:
        """The strength as it was before the drag."""
        held, self._dialled = self._dialled, None
        self._rest.stop()
        if held is not None:
            held.put_back()
            self._desk.view.moved()

    def keep_dial(self, layer_id: str, strength: float) -> None:
        """Keep a strength: one step."""
        self._studio.project.end_trials()
        part, stack = self._studio.project.active, self.stack
        if part is None or stack is None or self.none():
            return
        group = stack.group(layer_id)
        if group is not None:
            if group.strength != strength:
                step = f"{group.name} at {strength * 100:.0f} %"
                change_group(self._studio.project, part, layer_id, step, strength=strength)
        elif any(one.id == layer_id for one in stack.layers) and stack.layer(layer_id).strength != strength:
            name = stack.layer(layer_id).name
            change_layer(
                self._studio.project,
                part,
                layer_id,
                f"Layer {name} at {strength * 100:.0f} %",
                strength=strength,
            )
