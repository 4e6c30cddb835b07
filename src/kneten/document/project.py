"""The project: the scene, everything that can be done to it, and who is told."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, Protocol

from kneten.core.arrays import F32, AnyArray
from kneten.core.brushes.tool import BrushSettings, Tool
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.changes import Change, change_to
from kneten.core.live.recipes import Recipe
from kneten.core.loose import LooseMesh
from kneten.core.loose_change import LooseChange
from kneten.core.mesh import Mesh
from kneten.core.paint.along import PaintedStroke, paints_along
from kneten.core.paint.reading import OverClay
from kneten.core.paint.stroke import PaintStroke
from kneten.core.press import Press
from kneten.core.primitives import ball
from kneten.core.stack import Stack
from kneten.core.stroke import Stroke
from kneten.core.transform import Transform
from kneten.core.twin_places import Twin, twins_of
from kneten.core.twins import Pairs
from kneten.core.value_stroke import ValueStroke
from kneten.document.events import Event
from kneten.document.grip import Grip
from kneten.document.history import Edit, GroupEdit, History, SceneEdit, StrokeEdit
from kneten.document.kinds import on_new_clay
from kneten.document.numbers import free_number
from kneten.document.opening import open_layer
from kneten.document.scene import KeptPart, Milestone, Part, Scene, bring_back, keep
from kneten.document.settings import Settings
from kneten.document.things import new_id


class Provisional(Protocol):
    """Something that is tried on living clay: nothing of it may be saved, undone or built upon."""

    def put_back(self) -> None:
        """Make the clay what it was before the trial. Called once; the trial is over then."""


class UnusableError(ValueError):
    """What was asked for could not be worked on, nor opened again from a file. The text says why; nothing was changed."""


class Recorder(Protocol):
    """What keeps a running record of the work (the journal)."""

    def stroke(self, mesh_id: str, mesh: Mesh, change: Change | LooseChange) -> None:
        """Note what a stroke left."""

    def scene(self, scene: Scene) -> None:
        """Note what the scene is now."""

    def settings(self, settings: Settings) -> None:
        """Note what is saved but not undone."""


class Project:
    """A piece of work: scene, undo, settings, and where it is saved.

    Attributes
    ----------
    path : Path or None
    title : str
        What it is called while it has no file.
    unsaved : bool
        Something has changed since it was saved or opened.
    serial : int
        Grows with everything that a file would hold: every change, undo, redo, and every setting.
    """

    def __init__(self, scene: Scene | None = None) -> None:
        self.scene = scene or Scene()
        self.settings = Settings()
        self.history = History(self)
        self.path: Path | None = None
        self.title = "Untitled"
        self.active_id: str | None = self.scene.parts[0].id if self.scene.parts else None
        self._also: tuple[str, ...] = ()
        self.pairs: dict[str, Pairs] = {}
        self._grip: Grip | None = None
        self._together: list[Edit] | None = None
        self._bare: tuple[Stack, F32] | None = None
        self.recorder: Recorder | None = None
        self._trials: list[Provisional] = []
        self.unsaved = False
        self.serial = 0
        self.scene_changed: Event[[]] = Event()
        self.clay_changed: Event[[str]] = Event()
        self.history_changed: Event[[]] = Event()

    @classmethod
    def with_ball(cls) -> Project:
        """A new project: a ball of clay, 200 mm across, about 98,000 vertices."""
        return cls(Scene((Part("Ball", Mesh.from_faces(*ball(100.0, 128))),)))

    def change_settings(self, **values: Any) -> None:
        """Change settings (`Settings`); counts as a change, goes to the record, is not undone."""
        self.settings = replace(self.settings, **values)
        self._grown()
        if self.recorder is not None:
            self.recorder.settings(self.settings)
        self.history_changed()

    def try_settings(self, **values: Any) -> None:
        """The same for what does not count as a change: the camera, or a value that is still being dragged."""
        self.settings = replace(self.settings, **values)

    def _grown(self) -> None:
        self.unsaved = True
        self.serial += 1

    def saved_as(self, path: Path, serial: int) -> bool:
        """Note that the state of a moment ago is saved; whether that is still the state now."""
        self.path = path
        if self.serial != serial:
            return False
        self.unsaved = False
        return True

    # -- trials --------------------------------------------------------------------------------

    def try_on(self, trial: Provisional) -> None:
        """A trial begins to show something on living clay; any other one is over.

        It ends by `trial_over`, or by whatever changes, saves, undoes or sculpts meanwhile: that puts it back first.
        """
        if trial not in self._trials:
            self.end_trials()
            self._trials.append(trial)

    @property
    def is_trying(self) -> bool:
        """Whether something is tried on living clay."""
        return bool(self._trials)

    def trial_over(self, trial: Provisional) -> None:
        """A trial has put the clay back by itself."""
        if trial in self._trials:
            self._trials.remove(trial)

    def end_trials(self) -> None:
        """Put back whatever is tried on living clay."""
        while self._trials:
            self._trials.pop().put_back()

    # -- parts ---------------------------------------------------------------------------------

    @property
    def active(self) -> Part | None:
        """The part in hand."""
        for part in self.scene.parts:
            if part.id == self.active_id:
                return part
        return None

    @property
    def chosen(self) -> tuple[Part, ...]:
        """All chosen parts in the scene's order, the one in hand among them."""
        ids = {self.active_id, *self._also}
        return tuple(part for part in self.scene.parts if part.id in ids)

    def choose(self, part_id: str | None) -> None:
        """Take a part in hand, alone. Not undone: it changes nothing."""
        if part_id is not None:
            self.scene.part(part_id)
        if part_id != self.active_id or self._also:
            self.active_id = part_id
            self._also = ()
            self.scene_changed()

    def choose_also(self, part_id: str) -> None:
        """Add a part to those chosen, or leave it out again; the added one is in hand."""
        self.scene.part(part_id)
        chosen = [part.id for part in self.chosen]
        if part_id in chosen:
            chosen.remove(part_id)
            if self.active_id == part_id:
                self.active_id = chosen[-1] if chosen else None
        else:
            chosen.append(part_id)
            self.active_id = part_id
        self._also = tuple(chosen)
        self.scene_changed()

    def choose_all(self, part_ids: Iterable[str]) -> None:
        """Choose exactly these; one of them is in hand, the one that was if it is among them."""
        ids = tuple(part_ids)
        for part_id in ids:
            self.scene.part(part_id)
        if self.active_id not in ids:
            self.active_id = ids[-1] if ids else None
        self._also = ids
        self.scene_changed()

    def change(self, name: str, scene: Scene) -> None:
        """Make `scene` the present one, as one undo step."""
        edit = self._replace(name, scene)
        self._note(edit)

    def add_meshes(self, name: str, pieces: Sequence[tuple[str, Mesh, Transform]]) -> list[Part]:
        """Add parts in one step, with names that do not collide."""
        scene = self.scene
        added = []
        for wanted, mesh, transform in pieces:
            part = Part(scene.free_name(wanted), mesh, transform=transform)
            scene = scene.with_parts((*scene.parts, part))
            added.append(part)
        self.change(name, scene)
        if added:
            self.choose(added[-1].id)
        return added

    def rename(self, part_id: str, wanted: str) -> None:
        """Give a part another name; a taken one gets a number."""
        part = self.scene.part(part_id)
        wanted = " ".join(wanted.split())
        if not wanted or wanted == part.name:
            return
        name = self.scene.free_name(wanted)
        self.change(f"Rename {part.name} to {name}", self.scene.with_part(replace(part, name=name)))

    def show(self, part_id: str, visible: bool) -> None:
        """Show or hide a part."""
        part = self.scene.part(part_id)
        if part.visible != visible:
            verb = "Show" if visible else "Hide"
            self.change(f"{verb} {part.name}", self.scene.with_part(replace(part, visible=visible)))

    def delete(self, part_id: str) -> None:
        """Take a part out."""
        self.delete_all([part_id])

    def delete_all(self, part_ids: Sequence[str]) -> None:
        """Take parts out, and what lies on them."""
        gone = [self.scene.part(part_id) for part_id in part_ids]
        ids = {part.id for part in gone}
        rest = (part for part in self.scene.parts if part.id not in ids)
        what = gone[0].name if len(gone) == 1 else f"{len(gone)} parts"
        self.change(f"Delete {what}", self.scene.with_parts(rest))

    def place(self, part_id: str, transform: Transform, name: str = "Move") -> None:
        """Move, turn or scale a part."""
        part = self.scene.part(part_id)
        if transform != part.transform:
            self.change(f"{name} {part.name}", self.scene.with_part(replace(part, transform=transform)))

    def replace_mesh(self, part_id: str, mesh: Mesh, name: str, **traits: Any) -> None:
        """Give a part, and its linked copies, a new mesh (remeshed, subdivided, ...) and other traits."""
        self.change(name, self.with_mesh(part_id, mesh, **traits))

    def exchange(self, part_id: str, mesh: Mesh) -> None:
        """The same clay as another mesh (loosened, settled): no step of its own, it goes along with the next."""
        self.note("Exchange", self.with_mesh(part_id, mesh))

    def note(self, name: str, scene: Scene) -> None:
        """Keep something in the scene that nobody takes back by itself: it goes along with the step before it."""
        self._note(replace(self._replace(name, scene), silent=True))

    def note_values(self, part_id: str, what: str, values: AnyArray | None) -> None:
        """Give a part values (n, ...) that nobody sees: as with `note`."""
        self.end_trials()
        part = self.scene.part(part_id)
        change = change_to(part.mesh, what, values)
        if change is not None:
            back = change.swap(part.mesh)
            if self.recorder is not None:
                self.recorder.stroke(part.mesh_id, part.mesh, back)
            self._note(StrokeEdit("Take in hand", part_id, back, silent=True))

    def give_own(self, part_id: str) -> None:
        """Give a linked copy clay of its own, ahead of a step that is about it alone."""
        part = self.scene.part(part_id)
        if self.scene.linked(part):
            own = replace(part, mesh=part.mesh.copy(), mesh_id=new_id())
            self._note(replace(self._replace(f"Unlink {part.name}", self.scene.with_part(own)), silent=True))

    def settle(self, part_ids: Iterable[str]) -> None:
        """Bring loose clay to rest, so that any operation works on it."""
        for part_id in part_ids:
            mesh = self.scene.part(part_id).mesh
            if isinstance(mesh, LooseMesh):
                self.exchange(part_id, mesh.settled())

    def with_mesh(self, part_id: str, mesh: Mesh, **traits: Any) -> Scene:
        """The scene with another mesh for a part and its linked copies; what lies on them finds its place again.

        Levels and layers stay as long as the mesh has the shape they are for.
        """
        part = self.scene.part(part_id)
        mesh_id = new_id()
        same = [part, *self.scene.linked(part)]
        scene = self.scene.with_part(*(replace(p, mesh=mesh, mesh_id=mesh_id, **traits) for p in same))
        return on_new_clay(self.scene, scene)

    # -- strokes -------------------------------------------------------------------------------

    def begin_stroke(
        self,
        part_id: str,
        tool: Tool,
        settings: BrushSettings,
        face: int = -1,
        smoothing: bool = False,
        press: Press | None = None,
        through: OverClay | None = None,
    ) -> Stroke:
        """Start sculpting a part; `end_stroke` or `Stroke.cancel` must follow.

        Parameters
        ----------
        face : int
            The face under the press: its region is the one painted, or the only one touched.
        smoothing : bool
            A tool that paints a mask softens it instead; one that paints colours blends them.
        press : Press, optional
            The one that `settings.tip` names.
        through : OverClay, optional
            A picture that a brush paints.

        Raises
        ------
        StackError
            When paint would go to a layer, and the part stands on a level below the highest.
        """
        self.end_trials()
        part = self.scene.part(part_id)
        mesh = part.mesh
        if isinstance(mesh, LooseMesh):
            on_it = {part.id, *(other.id for other in self.scene.linked(part))}
            self._grip = Grip(self.scene, on_it)
        twins = self.twins(part)
        region = 0 if mesh.regions is None or face < 0 else int(mesh.regions[face])
        if tool.changes == "paint":
            return self._begin_paint(part, tool, settings, region, press, smoothing, through)
        if tool.changes:
            number = region or (free_number(self.scene) if tool.changes == "regions" else 0)
            return ValueStroke(
                mesh, tool, settings, twins=twins, number=number, smoothing=smoothing, press=press
            )
        unit = 1.0 / part.transform.scale
        # On a lower level, and where the mesh changes under the brush, the form alone is changed.
        on_top = part.stack is None or part.stack.level == part.stack.top
        if self.settings.ink.along and paints_along(tool) and on_top and not isinstance(mesh, LooseMesh):
            paint = self._begin_paint(part, TOOLS["paint"], settings, region, press, False, None)
            stroke: Stroke = PaintedStroke(mesh, tool, settings, paint, twins=twins, press=press, unit=unit)
        else:
            stroke = Stroke(mesh, tool, settings, twins=twins, press=press, unit=unit)
        stroke.region = region
        if self.settings.symmetry_space == "shape" and mesh.topology.uid in self.pairs:
            stroke.pairs = self.pairs[mesh.topology.uid].twin
        if tool.needs_before:
            stroke.work.before = self.before(part)
        return stroke

    def _begin_paint(
        self,
        part: Part,
        tool: Tool,
        settings: BrushSettings,
        region: int,
        press: Press | None,
        smoothing: bool,
        through: OverClay | None,
    ) -> PaintStroke:
        """Start painting, with the layer that paint goes to in hand."""
        open_layer(self, part)
        part = self.scene.part(part.id)
        ink, twins = self.settings.ink, self.twins(part)
        stroke = PaintStroke(
            part.mesh, tool, settings, ink, part.stack, (False,) * 3, twins, press, smoothing, through
        )
        stroke.region = region
        if tool.paints == "paint" and ink.used() != ink:
            self.change_settings(ink=ink.used())
        return stroke

    def twins(self, part: Part) -> list[Twin]:
        """Where strokes on a part have their likes."""
        held = self.settings
        if held.symmetry_space == "shape":
            return twins_of((False,) * 3)
        place = part.transform.matrix() if held.symmetry_space == "world" else None
        return twins_of(held.symmetry, held.radial, place)

    def before(self, part: Part) -> F32 | None:
        """What Restore goes back to, (n, 3).

        The form without the layer that strokes go to; else where a part's vertices were at the newest milestone that
        has it with this mesh.
        """
        stack = part.stack
        if stack is not None and stack.recorded is not None:
            # Strokes on the layer do not change what there is without it.
            if self._bare is None or self._bare[0] is not stack:
                self._bare = stack, stack.without_recorded(part.mesh.positions)
            return self._bare[1]
        for milestone in reversed(self.scene.milestones):
            for kept in milestone.parts:
                if kept.id == part.id and kept.topology.uid == part.mesh.topology.uid:
                    return kept.positions
        return None

    def end_stroke(self, part_id: str, stroke: Stroke, name: str) -> bool:
        """Keep what a stroke did as one undo step. False when it moved nothing."""
        if all(part.id != part_id for part in self.scene.parts):
            # Deleted while the stroke was still being worked out: it goes with its part.
            stroke.cancel()
            return False
        changes = stroke.changes()
        if not changes:
            return False
        part = self.scene.part(part_id)
        for number, change in enumerate(changes):
            if self.recorder is not None:
                self.recorder.stroke(part.mesh_id, part.mesh, change)
            # What paint is seen of follows from what was laid: both are one step.
            self._note(
                StrokeEdit(f"{name} on {part.name}", part_id, change, silent=number < len(changes) - 1)
            )
        if isinstance(change, LooseChange):
            held = None if self._grip is None else self._grip.mended(self.scene)
            if held is not None:
                self._note(self._replace("Hold", held))
                self.history.join(2)
        self.clay_changed(part_id)
        return True

    def keep_milestone(
        self, name: str, picture: bytes, parts: tuple[KeptPart, ...] | None = None
    ) -> Milestone:
        """Keep the present state, or parts copied a moment ago, under a name with a PNG picture."""
        if parts is None:
            self.end_trials()
            parts = keep(self.scene.parts)
        milestone = Milestone(name, parts, picture)
        milestones = (*self.scene.milestones, milestone)
        self.change(f"Keep milestone {name}", replace(self.scene, milestones=milestones))
        return milestone

    def go_back(self, milestone_id: str) -> None:
        """Make the parts what they were at a milestone; milestones themselves stay. Raises `KeyError`."""
        for milestone in self.scene.milestones:
            if milestone.id == milestone_id:
                parts = bring_back(milestone.parts)
                self.change(f"Go back to {milestone.name}", self.scene.with_parts(parts))
                return
        raise KeyError(milestone_id)

    def milestone(self, milestone_id: str) -> Milestone:
        """The milestone with this id. Raises `KeyError`."""
        for milestone in self.scene.milestones:
            if milestone.id == milestone_id:
                return milestone
        raise KeyError(milestone_id)

    def reshape(self, part_id: str, recipe: Recipe, mesh: Mesh, name: str) -> None:
        """Give a live part other numbers, and the mesh they make."""
        self.replace_mesh(part_id, mesh, name, recipe=recipe)

    def take_back(self, milestone_id: str, part_id: str) -> None:
        """Make one part what it was at a milestone."""
        milestone = self.milestone(milestone_id)
        kept = next(part for part in milestone.parts if part.id == part_id)
        part = kept.restored()
        taken = {p.name for p in self.scene.parts if p.id != part_id}
        if part.name in taken:
            part = replace(part, name=self.scene.free_name(part.name))
        self.change(f"Take {part.name} back from {milestone.name}", self.scene.with_part(part))

    def edit_milestone(self, milestone_id: str, name: str, note: str) -> None:
        """Give a milestone another name and note."""
        old = self.milestone(milestone_id)
        if (name, note) == (old.name, old.note):
            return
        new = replace(old, name=name, note=note)
        milestones = tuple(new if m is old else m for m in self.scene.milestones)
        what = f"Rename milestone {old.name} to {name}" if name != old.name else f"Note on milestone {name}"
        self.change(what, replace(self.scene, milestones=milestones))

    def delete_milestone(self, milestone_id: str) -> None:
        """Take a milestone out."""
        old = self.milestone(milestone_id)
        rest = tuple(m for m in self.scene.milestones if m is not old)
        self.change(f"Delete milestone {old.name}", replace(self.scene, milestones=rest))

    def move_vertices(self, part_id: str, positions: F32, name: str) -> bool:
        """Put a part's vertices elsewhere, to (n, 3), as one undo step that costs what has moved; False when none has.

        Raises `ValueError` when they are not as many as the part's.
        """
        self.end_trials()
        mesh = self.scene.part(part_id).mesh
        if len(positions) != mesh.n_vertices:
            raise ValueError("the part has other vertices by now")
        return self._make(part_id, change_to(mesh, "positions", positions), name)

    def set_values(self, part_id: str, what: str, values: AnyArray | None, name: str) -> bool:
        """Give a part another mask (n,), other regions (f,), ...: one undo step. False when it has them already.

        Parameters
        ----------
        what : str
            One of `VALUES`.
        values : array or None
            For all vertices or faces; None is none of it.
        """
        self.end_trials()
        return self._make(part_id, change_to(self.scene.part(part_id).mesh, what, values), name)

    def _make(self, part_id: str, change: Change | None, name: str) -> bool:
        if change is None:
            return False
        part = self.scene.part(part_id)
        back = change.swap(part.mesh)
        if self.recorder is not None:
            self.recorder.stroke(part.mesh_id, part.mesh, back)
        self._note(StrokeEdit(name, part_id, back))
        self.clay_changed(part_id)
        return True

    # -- what follows from other things ---------------------------------------------------------

    def derive(self, scene: Scene) -> None:
        """Make `scene` the present one, where it differs only in what follows from the rest: no step of its own.

        Undo brings back what it follows from; whoever works it out does so again then.
        """
        self.end_trials()
        self.scene = scene
        if self.recorder is not None:
            self.recorder.scene(scene)
        self._grown()
        self.scene_changed()

    def derive_positions(self, part_id: str, positions: F32) -> bool:
        """Put vertices (n, 3) of a part that follows from others where they belong; False when they are there. No step."""
        part = self.scene.part(part_id)
        change = change_to(part.mesh, "positions", positions)
        if change is None:
            return False
        self.end_trials()
        back = change.swap(part.mesh)
        if self.recorder is not None:
            self.recorder.stroke(part.mesh_id, part.mesh, back)
        self._grown()
        self.clay_changed(part_id)
        return True

    # -- undo ----------------------------------------------------------------------------------

    def undo(self) -> str | None:
        """Take the last change back; its name, or None."""
        self.end_trials()
        return self._stepped(self.history.undo())

    def redo(self) -> str | None:
        """Make the last undone change again; its name, or None."""
        self.end_trials()
        return self._stepped(self.history.redo())

    def undo_touches(self) -> set[str]:
        """Ids of the parts that undoing would change."""
        return self._touched(self.history.next_undone())

    def redo_touches(self) -> set[str]:
        """Ids of the parts that redoing would change."""
        return self._touched(self.history.next_redone())

    def _touched(self, edits: Sequence[Edit]) -> set[str]:
        found: set[str] = set()
        for edit in edits:
            if isinstance(edit, GroupEdit):
                found |= self._touched(edit.edits)
            elif isinstance(edit, SceneEdit):
                # Several silent steps may lie between: what differs from now is what would change.
                there = {part.id: part for part in edit.scene.parts}
                here = {part.id: part for part in self.scene.parts}
                found |= {key for key in {**there, **here} if there.get(key) is not here.get(key)}
            else:
                found.add(edit.part_id)
        names = {part.mesh_id for part in self.scene.parts if part.id in found}
        return found | {part.id for part in self.scene.parts if part.mesh_id in names}

    def swap(self, edit: Edit) -> Edit:
        """Put an edit in; returns the edit that takes it back."""
        if isinstance(edit, GroupEdit):
            return replace(edit, edits=tuple(self.swap(one) for one in edit.edits)[::-1])
        if isinstance(edit, SceneEdit):
            return replace(self._replace(edit.name, edit.scene), silent=edit.silent)
        part = self.scene.part(edit.part_id)
        back = edit.change.swap(part.mesh)
        if self.recorder is not None:
            self.recorder.stroke(part.mesh_id, part.mesh, back)
        self.clay_changed(part.id)
        return StrokeEdit(edit.name, edit.part_id, back, edit.silent)

    def _stepped(self, name: str | None) -> str | None:
        if name is not None:
            self._grown()
            self.history_changed()
        return name

    def _replace(self, name: str, scene: Scene) -> SceneEdit:
        lost = next((part.name for part in scene.parts if not part.transform.usable), "")
        if lost:
            # A file with it would not open again.
            raise UnusableError(f"{lost} would stand too far off, or be too small or large to be worked on")
        self.end_trials()
        before = self.scene
        self.scene = scene
        ids = [part.id for part in scene.parts]
        self._also = tuple(part_id for part_id in self._also if part_id in ids)
        if self.active_id not in ids:
            self.active_id = self._also[-1] if self._also else (ids[-1] if ids else None)
        if self.recorder is not None:
            self.recorder.scene(scene)
        self.scene_changed()
        return SceneEdit(name, before, _cost(before, scene))

    @contextlib.contextmanager
    def at_once(self, name: str, silent: bool = False) -> Iterator[None]:
        """Make all that is changed inside one undo step; when it fails, what was done so far is taken back.

        What is `silent` is no step: it follows from the one before, and goes with that.
        """
        if self._together is not None:
            # A step within another belongs to that.
            yield
            return
        self._together = []
        try:
            yield
        except BaseException:
            edits, self._together = self._together, None
            for edit in reversed(edits):
                self.swap(edit)
            raise
        edits, self._together = self._together, None
        if edits:
            self._note(GroupEdit(name, tuple(reversed(edits)), silent))

    def _note(self, edit: Edit) -> None:
        if self._together is not None:
            self._together.append(edit)
            return
        self.history.push(edit)
        self._grown()
        self.history_changed()

    @contextlib.contextmanager
    def all_or_nothing(self) -> Iterator[None]:
        """Whatever is changed inside is taken back when the block fails; undo and redo are what they were."""
        mark = self.history.mark()
        try:
            yield
        except BaseException:
            self.end_trials()
            if self.history.return_to(mark):
                self.history_changed()
            raise


def _cost(a: Scene, b: Scene) -> int:
    """Bytes held by only one of two scenes."""

    def held(scene: Scene) -> dict[int, int]:
        found: dict[int, int] = {}
        for part in scene.parts:
            found[id(part.mesh)] = part.mesh.nbytes - part.mesh.topology.nbytes
            found[id(part.mesh.topology)] = part.mesh.topology.nbytes
            if part.stack is not None:
                found.update(part.stack.pieces())
        for milestone in scene.milestones:
            found.update({id(kept): kept.nbytes for kept in milestone.parts})
        return found

    left, right = held(a), held(b)
    return 200 + sum({k: n for k, n in {**left, **right}.items() if (k in left) != (k in right)}.values())
