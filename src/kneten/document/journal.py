"""The journal: every finished change goes to disk at once, so that a crash loses no more than the
unfinished stroke.

A journal is a folder. `base.kneten` is the project the record starts from: a hard link to the saved
file, so that it survives whatever happens to that file, or a copy where links are not possible.
`record` holds one entry for each change, in order (`document/record.py`). `owner` names the process; while
that process lives, its journal is nobody else's (`document/recovery.py` finds what others left).

`staged` holds large new clay, each in a file of its own: whoever made it on another thread has put it
there beforehand, so that the entry that brings it into the scene is small and quickly written.

An entry that cannot be written (disk full) makes the journal *owing*: what that entry was about is written
whole, as it is by then, before any later entry, and the user is told until that has been done.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import uuid
import weakref
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import platformdirs

from kneten.core.arrays import AnyArray
from kneten.core.changes import Change
from kneten.core.loose import LooseMesh
from kneten.core.loose_change import LooseChange
from kneten.core.mesh import Mesh
from kneten.core.stack import Stack
from kneten.document.kinds import add_arrays, thing_words, with_arrays
from kneten.document.project import Project
from kneten.document.project_file import (
    add_kept,
    add_topology,
    add_values,
    part_words,
    settings_pictures,
    settings_words,
    used_pictures,
)
from kneten.document.record import RecordFile
from kneten.document.scene import Scene
from kneten.document.settings import Settings
from kneten.document.stack_words import FOLDER, ArrayNames, stack_words
from kneten.document.things import new_id

STAGED = "staged"
"""The folder of staged clay, and what it is called in its file: its name in the scene is not known yet."""

OWNER = "owner"


def journal_root() -> Path:
    """The folder all journals lie in."""
    base = os.environ.get("KNETEN_STATE") or platformdirs.user_state_dir("kneten")
    return Path(base) / "journals"


def process_mark(pid: int) -> str:
    """A process's number and start: numbers alone are given out again."""
    try:
        start = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[19]
    except (OSError, IndexError):
        start = "gone"
    return f"{pid} {start}"


@dataclass(frozen=True)
class _Staged:
    """Clay that lies in a file of its own until a scene holds it; gone with it when none ever does.

    `shared` names what of it others may use as well.
    """

    name: str
    shared: set[str]
    gone: weakref.finalize[..., Mesh]


class Journal:
    """Writes the record of one running project.

    Attributes
    ----------
    failed : str
        What the user should know: the newest work is in no entry yet. Empty once it is.
    """

    def __init__(self, project: Project, root: Path | None = None) -> None:
        self.folder = (root or journal_root()) / uuid.uuid4().hex
        self.folder.mkdir(parents=True)
        (self.folder / OWNER).write_text(process_mark(os.getpid()))
        self._project = project
        self._record = RecordFile(self.folder / "record")
        self._known: set[str] = set()
        self._kept: set[str] = set()
        self._things: dict[str, Any] = {}
        self._staged: dict[int, _Staged] = {}
        self._names = ArrayNames()
        self._pictured: set[str] = set()
        self._owed: set[str] | None = None
        self.failed = ""
        project.recorder = self

    def start(self, saved: Path | None) -> None:
        """Begin a new record from the saved file, or from nothing with the present scene.

        Raises
        ------
        OSError
            When it cannot be written; the record there was goes on.
        """
        before = (
            self._record,
            self._known,
            self._kept,
            self._things,
            self._pictured,
            self._owed,
            self._staged,
        )
        fresh = self.folder / "record.new"
        new_base = self.folder / "base.new"
        try:
            if saved is not None:
                new_base.unlink(missing_ok=True)
                try:
                    os.link(saved, new_base)
                except OSError:
                    shutil.copyfile(saved, new_base)
            self._record = RecordFile(fresh)
            self._known, self._kept, self._things, self._pictured = set(), set(), {}, set()
            self._owed, self._staged = None, {}
            self._begin(saved is not None)
            base = self.folder / "base.kneten"
            if saved is not None:
                os.replace(new_base, base)
            else:
                base.unlink(missing_ok=True)
            # A crash between the two replacements leaves the new base with the old record. Its strokes
            # then write the positions that the base has already: no harm.
            os.replace(fresh, self.folder / "record")
        except OSError:
            if self._record is not before[0]:
                self._record.close()
            self._record, self._known, self._kept, self._things, self._pictured, self._owed, self._staged = (
                before
            )
            with contextlib.suppress(OSError):
                new_base.unlink(missing_ok=True)
                fresh.unlink(missing_ok=True)
            raise
        before[0].close()
        self.failed = ""
        for held in list(before[6].values()):
            held.gone()

    def _begin(self, saved: bool) -> None:
        """Write what a record begins with. Raises `OSError`."""
        project = self._project
        scene = project.scene
        words = {
            "op": "start",
            "path": str(project.path or ""),
            "title": project.title,
            "parts": [part.name for part in scene.parts[:3]],
            "unsaved": project.unsaved,
        }
        self._record.append(words, {}, first=True)
        if not saved:
            self._note_scene(scene, first=True)
            self._note_settings(project.settings, first=True)
            if project.unsaved:
                # Work that nothing else holds, such as what was just restored.
                self._record.settle()
            return
        # A file holds loose clay settled: strokes on it would not fit.
        loose = {part.mesh_id for part in scene.parts if isinstance(part.mesh, LooseMesh)}
        self._known = {part.mesh_id for part in scene.parts} - loose
        self._kept = {milestone.id for milestone in scene.milestones}
        self._pictured = set(used_pictures(project.settings, scene))
        # A file's arrays have names of its own: those of levels and layers are written once more.
        if loose or any(part.stack is not None for part in scene.parts):
            self._note_scene(scene, first=True)

    # -- what the project tells -----------------------------------------------------------------

    def stroke(self, mesh_id: str, mesh: Mesh, change: Change | LooseChange) -> None:
        """Note what a stroke (or taking one back) left of what it changed."""
        if isinstance(change, LooseChange):
            assert isinstance(mesh, LooseMesh)
            words, arrays = _loose_stroke(mesh_id, mesh, change.now(mesh))
            # Loose clay's faces change with its strokes.
            about = {mesh_id, f"topologies/{mesh.topology.uid}/faces.npy"}
        else:
            what = change.what
            values = mesh.positions if what == "positions" else mesh.value(what)
            arrays = {"places": change.places, "values": values[change.places]}
            words = {"op": "stroke", "mesh": mesh_id, "what": what, "length": len(values)}
            about = {mesh_id}
        self._note(lambda: self._record.append(words, arrays), about)

    def scene(self, scene: Scene) -> None:
        """Note what the scene is now; clay not noted before goes along."""
        self._note(lambda: self._note_scene(scene))

    def settings(self, settings: Settings) -> None:
        """Note look, saved views and the like; pictures not noted before go along."""
        self._note(lambda: self._note_settings(settings))

    def _note(self, write: Callable[[], None], about: Iterable[str] = ()) -> None:
        """Write what is owed, then an entry; what cannot be written is owed."""
        try:
            self._pay()
            write()
        except OSError as error:
            self._owed = (self._owed or set()) | set(about)
            # The work goes on; the window tells the user that it is no longer safe from a crash.
            self.failed = f"The journal cannot be written ({error.strerror}). Save your work now."

    def _pay(self) -> None:
        """Write whole what entries that failed were about. Raises `OSError`."""
        if self._owed is None:
            return
        self._known -= self._owed
        self._note_scene(self._project.scene)
        self._note_settings(self._project.settings)
        self._owed = None
        self.failed = ""

    def mend(self) -> bool:
        """Try again to write what is owed; whether nothing is any more. Not while a stroke is being made."""
        self._note(lambda: None)
        return self._owed is None

    @property
    def is_sound(self) -> bool:
        """Whether all finished changes are in it."""
        return self._owed is None

    def stage(self, mesh: Mesh, stack: Stack | None = None) -> None:
        """Write clay that is about to come into the scene, on any thread, ahead of the entry for it."""
        arrays: dict[str, AnyArray] = {}
        _add_clay(arrays, STAGED, mesh)
        if stack is not None:
            self._stack(stack, arrays)
        arrays = {name: array for name, array in arrays.items() if name not in self._known}
        name = new_id()
        try:
            (self.folder / STAGED).mkdir(exist_ok=True)
            file = RecordFile(self.folder / STAGED / name)
            try:
                file.append({"op": "staged"}, arrays)
            finally:
                file.close()
        except OSError:
            return  # It then goes along with the entry, which tells the user what is wrong.
        # A job that fails or is cancelled lets its clay go: its file goes then.
        gone = weakref.finalize(mesh, _drop_staged, self._staged, id(mesh), self.folder / STAGED / name)
        gone.atexit = False
        self._staged[id(mesh)] = _Staged(name, set(arrays) & _shared(arrays), gone)

    def _stack(self, stack: Stack, arrays: dict[str, AnyArray]) -> dict[str, Any]:
        return stack_words(stack, arrays, self._names, lambda shape: add_topology(arrays, shape))

    def _note_scene(self, scene: Scene, first: bool = False) -> None:
        """Write an entry of what the scene is now, with clay not written before. Raises `OSError`."""
        known, kept_ids = set(self._known), set(self._kept)
        taken: list[int] = []
        if any(one.picture in self._project.settings.originals for one in scene.references):
            names = {f"references/{one.picture}" for one in scene.references}
            if not names & set(settings_pictures(self._project.settings)) <= self._pictured:
                self._note_settings(self._project.settings, first)
        arrays: dict[str, AnyArray] = {}
        staged = {}
        for part in scene.parts:
            if part.mesh_id in known:
                continue
            mesh = part.mesh
            known.add(part.mesh_id)
            if id(mesh) in self._staged:
                held = self._staged[id(mesh)]
                staged[part.mesh_id] = held.name
                taken.append(id(mesh))
                known |= held.shared
                continue
            _add_clay(arrays, part.mesh_id, mesh)
        parts = [part_words(part) for part in scene.parts]
        for part, words in zip(scene.parts, parts, strict=True):
            if part.stack is not None:
                words["stack"] = self._stack(part.stack, arrays)
        things = {}
        for kind, thing in with_arrays(scene):
            things[f"{kind.word}/{thing.id}"] = thing
            if self._things.get(f"{kind.word}/{thing.id}") is not thing:
                add_arrays(arrays, kind, thing, scene)
        kept = []
        for milestone in scene.milestones:
            words = {"id": milestone.id, "name": milestone.name, "note": milestone.note}
            if milestone.id not in kept_ids:
                kept_ids.add(milestone.id)
                words["time"] = milestone.time
                words["parts"] = [part_words(part) for part in milestone.parts]
                for part_kept, told in zip(milestone.parts, words["parts"], strict=True):
                    if part_kept.stack is not None:
                        told["stack"] = self._stack(part_kept.stack, arrays)
                arrays[f"picture/{milestone.id}"] = np.frombuffer(milestone.picture, np.uint8)
                for part_kept in milestone.parts:
                    add_topology(arrays, part_kept.topology)
                    add_kept(arrays, part_kept)
            kept.append(words)
        shared = _shared(arrays)
        arrays = {name: array for name, array in arrays.items() if name not in known}
        known |= shared
        entry = {"op": "scene", "parts": parts, "milestones": kept, "staged": staged, **thing_words(scene)}
        self._record.append(entry, arrays, first)
        self._known, self._kept, self._things = known, kept_ids, things
        for key in set(taken):
            self._staged.pop(key).gone.detach()

    def _note_settings(self, settings: Settings, first: bool = False) -> None:
        pictures = settings_pictures(settings)
        new = {name: data for name, data in pictures.items() if name not in self._pictured}
        arrays = {name: np.frombuffer(data, np.uint8) for name, data in new.items()}
        words = {"op": "settings", "settings": settings_words(settings), "pictures": sorted(pictures)}
        self._record.append(words, arrays, first)
        self._pictured |= set(new)

    def close(self) -> None:
        """End the record and take the journal away: the user has closed the project on purpose."""
        self._project.recorder = None
        self._record.close()
        shutil.rmtree(self.folder, ignore_errors=True)


def _drop_staged(staged: dict[int, _Staged], key: int, path: Path) -> None:
    staged.pop(key, None)
    with contextlib.suppress(OSError):
        path.unlink(missing_ok=True)


def _loose_stroke(
    mesh_id: str, mesh: LooseMesh, change: LooseChange
) -> tuple[dict[str, Any], dict[str, AnyArray]]:
    arrays = {"vertices": change.vertices, "faces": change.faces}
    arrays |= {f"vertex/{name}": rows for name, rows in change.vertex_rows.items()}
    arrays |= {f"face/{name}": rows for name, rows in change.face_rows.items()}
    lengths = [len(mesh.positions), len(mesh.faces)]
    words = {"op": "loose", "mesh": mesh_id, "topology": mesh.topology.uid, "lengths": lengths}
    return words, arrays


def _shared(arrays: dict[str, AnyArray]) -> set[str]:
    """The names among these whose arrays are never changed: written once, they need not be written again."""
    return {name for name in arrays if name.startswith((f"{FOLDER}/", "topologies/"))}


def _add_clay(arrays: dict[str, AnyArray], mesh_id: str, mesh: Mesh) -> None:
    """Put a mesh under its name; loose clay with its empty places, for strokes name places."""
    add_topology(arrays, mesh.topology)
    add_values(arrays, mesh_id, mesh.positions, mesh.values())
    if isinstance(mesh, LooseMesh):
        arrays[f"meshes/{mesh_id}/loose.npy"] = np.ones(1, np.uint8)
