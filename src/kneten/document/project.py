"""The project: the scene, everything that can be done to it, and who is told."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Protocol

import numpy as np

from kneten.core.arrays import F32
from kneten.core.brushes.tool import BrushSettings, Tool
from kneten.core.camera import Camera
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.stroke import Axes, Stroke, VertexChange
from kneten.core.transform import Transform
from kneten.document.events import Event
from kneten.document.history import Edit, History, SceneEdit, StrokeEdit
from kneten.document.look import Look
from kneten.document.scene import KeptPart, Milestone, Part, Scene, new_id


class Recorder(Protocol):
    """What keeps a running record of the work (the journal)."""

    def stroke(self, mesh_id: str, mesh: Mesh, change: VertexChange) -> None: ...
    def scene(self, scene: Scene) -> None: ...
    def settings(self, settings: Settings) -> None: ...


@dataclass(frozen=True)
class SavedView:
    """A camera kept under a name, with a picture (PNG)."""

    name: str
    camera: Camera
    picture: bytes
    id: str = field(default_factory=new_id)


@dataclass
class Settings:
    """What is saved with a project but is not undone.

    Attributes
    ----------
    symmetry : three bools
        Across which of a part's own planes strokes are mirrored.
    unit : str
        Unit in which lengths are shown: mm, cm, m or in.
    budget : int
        Vertices the project should stay under.
    look : Look
    matcaps : dict
        The user's own pictures by name, as PNG.
    views : tuple of SavedView
        Cameras to come back to.
    """

    symmetry: Axes = (True, False, False)
    unit: str = "mm"
    budget: int = 4_000_000
    camera: Camera = Camera()
    look: Look = Look()
    matcaps: dict[str, bytes] = field(default_factory=dict)
    views: tuple[SavedView, ...] = ()


class Project:
    """A piece of work: scene, undo, settings, and where it is saved.

    Attributes
    ----------
    path : Path or None
    title : str
        What it is called while it has no file.
    """

    def __init__(self, scene: Scene | None = None) -> None:
        self.scene = scene or Scene()
        self.settings = Settings()
        self.history = History(self)
        self.path: Path | None = None
        self.title = "Untitled"
        self.active_id: str | None = self.scene.parts[0].id if self.scene.parts else None
        self.recorder: Recorder | None = None
        self.unsaved = False
        self.scene_changed: Event[[]] = Event()
        self.clay_changed: Event[[str]] = Event()
        self.history_changed: Event[[]] = Event()

    @classmethod
    def with_ball(cls) -> Project:
        """A new project: a ball of clay, 200 mm across, about 98,000 vertices."""
        return cls(Scene((Part("Ball", Mesh.from_faces(*ball(100.0, 128))),)))

    def touch(self) -> None:
        """Something was changed that is saved but not undone."""
        self.unsaved = True
        if self.recorder is not None:
            self.recorder.settings(self.settings)
        self.history_changed()

    # -- parts ---------------------------------------------------------------------------------

    @property
    def active(self) -> Part | None:
        """The part in hand."""
        for part in self.scene.parts:
            if part.id == self.active_id:
                return part
        return None

    def choose(self, part_id: str | None) -> None:
        """Take a part in hand. Not undone: it changes nothing."""
        if part_id is not None:
            self.scene.part(part_id)
        if part_id != self.active_id:
            self.active_id = part_id
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
            scene = Scene((*scene.parts, part), scene.milestones)
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
        part = self.scene.part(part_id)
        rest = tuple(p for p in self.scene.parts if p.id != part_id)
        self.change(f"Delete {part.name}", Scene(rest, self.scene.milestones))

    def place(self, part_id: str, transform: Transform, name: str = "Move") -> None:
        """Move, turn or scale a part."""
        part = self.scene.part(part_id)
        if transform != part.transform:
            self.change(f"{name} {part.name}", self.scene.with_part(replace(part, transform=transform)))

    def resize(self, part_id: str, factors: tuple[float, float, float]) -> None:
        """Scale a part along its own axes about its pivot; uneven factors are kneaded into the clay.

        Raises
        ------
        ValueError
            When a factor is not greater than zero.
        """
        if not all(np.isfinite(factors)) or min(factors) <= 0:
            raise ValueError("a size must be greater than zero")
        part = self.scene.part(part_id)
        if max(factors) - min(factors) < 1e-12:
            new = replace(part.transform, scale=part.transform.scale * factors[0])
            self.place(part_id, new, "Scale")
            return
        mesh = part.mesh
        positions = (mesh.positions * np.array(factors)).astype(np.float32)
        self.replace_mesh(
            part_id, Mesh(mesh.topology, positions, mesh.colour, mesh.mask), f"Scale {part.name}"
        )

    def replace_mesh(self, part_id: str, mesh: Mesh, name: str) -> None:
        """Give a part a new mesh (remeshed, subdivided, ...)."""
        part = replace(self.scene.part(part_id), mesh=mesh, mesh_id=new_id())
        self.change(name, self.scene.with_part(part))

    # -- strokes -------------------------------------------------------------------------------

    def begin_stroke(self, part_id: str, tool: Tool, settings: BrushSettings) -> Stroke:
        """Start sculpting a part; `end_stroke` or `Stroke.cancel` must follow."""
        return Stroke(self.scene.part(part_id).mesh, tool, settings, self.settings.symmetry)

    def end_stroke(self, part_id: str, stroke: Stroke, name: str) -> bool:
        """Keep what a stroke did as one undo step. False when it moved nothing."""
        change = stroke.finish()
        if change is None:
            return False
        part = self.scene.part(part_id)
        if self.recorder is not None:
            self.recorder.stroke(part.mesh_id, part.mesh, change)
        self._note(StrokeEdit(f"{name} on {part.name}", part_id, change))
        self.clay_changed(part_id)
        return True

    # -- milestones ----------------------------------------------------------------------------

    def keep_milestone(
        self, name: str, picture: bytes, parts: tuple[KeptPart, ...] | None = None
    ) -> Milestone:
        """Keep the present state, or parts copied a moment ago, under a name with a PNG picture."""
        parts = parts or tuple(KeptPart.of(p) for p in self.scene.parts)
        milestone = Milestone(name, parts, picture)
        milestones = (*self.scene.milestones, milestone)
        self.change(f"Keep milestone {name}", Scene(self.scene.parts, milestones))
        return milestone

    def go_back(self, milestone_id: str) -> None:
        """Make the parts what they were at a milestone; milestones themselves stay."""
        for milestone in self.scene.milestones:
            if milestone.id == milestone_id:
                parts = tuple(kept.restored() for kept in milestone.parts)
                self.change(f"Go back to {milestone.name}", Scene(parts, self.scene.milestones))
                return
        raise KeyError(milestone_id)

    def milestone(self, milestone_id: str) -> Milestone:
        """The milestone with this id. Raises `KeyError`."""
        for milestone in self.scene.milestones:
            if milestone.id == milestone_id:
                return milestone
        raise KeyError(milestone_id)

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
        self.change(what, Scene(self.scene.parts, milestones))

    def delete_milestone(self, milestone_id: str) -> None:
        """Take a milestone out."""
        old = self.milestone(milestone_id)
        rest = tuple(m for m in self.scene.milestones if m is not old)
        self.change(f"Delete milestone {old.name}", Scene(self.scene.parts, rest))

    def move_vertices(self, part_id: str, positions: F32, name: str) -> None:
        """Put a part's vertices elsewhere, as one undo step that costs what has moved."""
        mesh = self.scene.part(part_id).mesh
        if len(positions) != mesh.n_vertices:
            raise ValueError("the part has other vertices by now")
        moved = np.flatnonzero((positions != mesh.positions).any(axis=1)).astype(np.int32)
        if len(moved):
            back = VertexChange(moved, positions[moved]).swap(mesh)
            if self.recorder is not None:
                self.recorder.stroke(self.scene.part(part_id).mesh_id, mesh, back)
            self._note(StrokeEdit(name, part_id, back))
            self.clay_changed(part_id)

    # -- undo ----------------------------------------------------------------------------------

    def undo(self) -> str | None:
        """Take the last change back; its name, or None."""
        return self._stepped(self.history.undo())

    def redo(self) -> str | None:
        """Make the last undone change again; its name, or None."""
        return self._stepped(self.history.redo())

    def swap(self, edit: Edit) -> Edit:
        """Put an edit in; returns the edit that takes it back."""
        if isinstance(edit, SceneEdit):
            return self._replace(edit.name, edit.scene)
        part = self.scene.part(edit.part_id)
        back = edit.change.swap(part.mesh)
        if self.recorder is not None:
            self.recorder.stroke(part.mesh_id, part.mesh, back)
        self.clay_changed(part.id)
        return StrokeEdit(edit.name, edit.part_id, back)

    def _stepped(self, name: str | None) -> str | None:
        if name is not None:
            self.unsaved = True
            self.history_changed()
        return name

    def _replace(self, name: str, scene: Scene) -> SceneEdit:
        before = self.scene
        self.scene = scene
        ids = [part.id for part in scene.parts]
        if self.active_id not in ids:
            self.active_id = ids[-1] if ids else None
        if self.recorder is not None:
            self.recorder.scene(scene)
        self.scene_changed()
        return SceneEdit(name, before, _cost(before, scene))

    def _note(self, edit: Edit) -> None:
        self.history.push(edit)
        self.unsaved = True
        self.history_changed()


def _cost(a: Scene, b: Scene) -> int:
    """Bytes held by only one of two scenes."""

    def held(scene: Scene) -> dict[int, int]:
        found = {id(part.mesh): part.mesh.nbytes for part in scene.parts}
        for milestone in scene.milestones:
            found.update({id(kept): kept.nbytes for kept in milestone.parts})
        return found

    left, right = held(a), held(b)
    return 200 + sum({k: n for k, n in {**left, **right}.items() if (k in left) != (k in right)}.values())
