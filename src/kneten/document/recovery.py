"""What processes that ended without closing their journals left: found, restored, discarded."""

from __future__ import annotations

import json
import os
import shutil
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from kneten.core.arrays import AnyArray, Progress
from kneten.core.topology import MeshError
from kneten.core.values import VALUES
from kneten.document.arrays_file import Content, ProjectFileError, read_content
from kneten.document.journal import OWNER, STAGED, journal_root, process_mark
from kneten.document.kinds import with_thing_words
from kneten.document.project import Project
from kneten.document.project_file import (
    Rebuilder,
    restore,
    settings_from,
    settings_pictures,
)
from kneten.document.record import FIRST, HEAD_SIZE, Head, RecordReader
from kneten.document.scene import KeptPart, Milestone, Part, Scene
from kneten.document.things import new_id

UNUSABLE = (KeyError, TypeError, ValueError, IndexError, AttributeError, OverflowError, MeshError)
"""What words and arrays that do not fit together raise."""


@dataclass(frozen=True)
class Left:
    """A journal whose process is gone.

    Attributes
    ----------
    path : str
        The file the work was saved in, or "".
    title : str
        What it is called.
    changes : int
        Finished changes since it was saved, or begun.
    time : float
        When the last of them was made, in seconds since 1970.
    whole : bool
        Nothing in it is damaged, as far as can be told without reading all of it.
    """

    folder: Path
    path: str
    title: str
    changes: int
    time: float
    whole: bool = True


def left_journals(root: Path | None = None) -> list[Left]:
    """Journals of processes that ended without closing them and that hold work, newest first.

    Reads heads only. What certainly holds nothing that is not saved is taken away; whatever cannot be read stays.
    """
    found = []
    root = root or journal_root()
    for folder in sorted(root.iterdir()) if root.is_dir() else ():
        try:
            mark = (folder / OWNER).read_text()
            if mark.strip() and process_mark(int(mark.split()[0])) == mark:
                continue
            left, clean = _looked_at(folder)
        except (OSError, ValueError, IndexError, KeyError):
            continue
        if left is not None:
            found.append(left)
        elif clean:
            shutil.rmtree(folder, ignore_errors=True)
    return sorted(found, key=lambda left: -left.time)


def _looked_at(folder: Path) -> tuple[Left | None, bool]:
    """What a dead journal holds, or None; and whether nothing in it can be missed."""
    record = folder / "record"
    reader = RecordReader(record)
    heads = list(reader.heads())
    changes = sum(not head.flags & FIRST for head in heads)
    begun = _words(record, heads[0]) if heads and heads[0].flags & FIRST else {}
    if not heads:
        return None, record.stat().st_size == 0
    unsaved = bool(begun.get("unsaved", True))
    if not changes and not unsaved:
        return None, not reader.damaged
    path = str(begun.get("path", ""))
    title = Path(path).stem if path else _title(begun)
    return Left(folder, path, title, changes, record.stat().st_mtime, not reader.damaged), False


def _title(begun: dict[str, Any]) -> str:
    """What work without a file is called: there may be several of it."""
    title = str(begun.get("title") or "Untitled")
    names = begun.get("parts")
    return (
        f"{title} ({', '.join(str(name) for name in names)})" if isinstance(names, list) and names else title
    )


def _words(record: Path, head: Head) -> dict[str, Any]:
    with open(record, "rb") as file:
        file.seek(head.at + HEAD_SIZE)
        try:
            words = json.loads(file.read(head.n_text))
        except ValueError:
            return {}
    return words if isinstance(words, dict) else {}


def claim(left: Left) -> None:
    """Make a left journal this process's own, so that no other one offers it meanwhile."""
    (left.folder / OWNER).write_text(process_mark(os.getpid()))


def release(left: Left) -> None:
    """Let it be offered again."""
    (left.folder / OWNER).write_text("0 left")


def discard(left: Left) -> None:
    """Take a left journal away: the user has said so, or all in it is safe elsewhere."""
    shutil.rmtree(left.folder, ignore_errors=True)


def recover(left: Left, told: list[str] | None = None) -> Project:
    """The project as the last finished change left it.

    Parameters
    ----------
    told : list of str
        Gets a line for everything that could not be read.

    Raises
    ------
    ProjectFileError
        When nothing can be read.
    """
    told = [] if told is None else told
    base = left.folder / "base.kneten"
    content = Content({}, {}, {})
    project = Project()
    if base.exists():
        content = read_content(base, Progress())
        project = restore(content, base.name)
    replay = _Replay(left.folder, content, project)
    reader = RecordReader(left.folder / "record")
    try:
        for _, words, new in reader.entries():
            try:
                replay.take(words, new)
            except UNUSABLE:
                reader.damaged += 1
    except OSError as error:
        raise ProjectFileError(f"The journal cannot be read: {error.strerror}.") from error
    if reader.damaged:
        told.append("A part of the journal was damaged: look whether anything is missing.")
    scene = replay.scene(told)
    recovered = Project(_with_new_ids(scene))
    recovered.settings = replay.settings
    recovered.path = Path(left.path) if left.path else None
    recovered.title = left.title.partition(" (")[0]
    recovered.unsaved = True
    return recovered


class _Replay:
    """Entries put one after another onto what the journal started from."""

    def __init__(self, folder: Path, content: Content, project: Project) -> None:
        self._folder = folder
        self._content = content
        self._base = project.scene
        self._arrays = dict(content.arrays)
        self._scene_words: dict[str, Any] | None = None
        self.settings = project.settings
        self._pictures = settings_pictures(project.settings)
        self._milestones = {m.id: m for m in project.scene.milestones}

    def take(self, words: dict[str, Any], new: dict[str, AnyArray]) -> None:
        """One entry. Raises one of `UNUSABLE` when it makes no sense."""
        if words["op"] == "stroke":
            take_stroke(self._arrays, words, new)
        elif words["op"] == "loose":
            take_loose_stroke(self._arrays, words, new)
        elif words["op"] == "settings":
            self._pictures |= {name: data.tobytes() for name, data in new.items()}
            kept = {name: self._pictures[name] for name in words["pictures"] if name in self._pictures}
            self.settings = settings_from(words["settings"], kept)
        elif words["op"] == "scene":
            self._arrays.update(new)
            for mesh_id, name in words.get("staged", {}).items():
                self._arrays.update(staged_arrays(self._folder / STAGED / name, mesh_id))
            self._scene_words = words
            for kept in words["milestones"]:
                if "parts" in kept:
                    self._milestones[kept["id"]] = _milestone(kept, self._arrays)

    def scene(self, told: list[str]) -> Scene:
        """What they make together; parts whose clay is missing are left out, and told."""
        build = Rebuilder(self._arrays)
        words = self._scene_words
        asked = words["parts"] if words is not None else self._content.document.get("parts", [])
        parts: list[Part] = []
        lost = []
        for one in asked:
            try:
                parts.append(build.part(one))
            except UNUSABLE as error:
                lost.append(f"{one.get('name', 'A part')} could not be restored: {error}.")
        if words is None and not self._content.document:
            raise ProjectFileError("The journal is damaged where the clay itself stood: nothing can be read.")
        if lost and not parts:
            raise ProjectFileError(f"The journal is damaged: {lost[0]}")
        told += lost
        if words is None:
            # Strokes only: the same parts, with the clay where the strokes left it.
            return self._base.with_parts(parts)
        kept_now = tuple(
            replace(self._milestones[one["id"]], name=str(one["name"]), note=str(one.get("note", "")))
            for one in words["milestones"]
            if one["id"] in self._milestones
        )
        if len(kept_now) < len(words["milestones"]):
            told.append(f"{len(words['milestones']) - len(kept_now)} milestones could not be restored.")
        try:
            return with_thing_words(Scene(tuple(parts), kept_now), words, build.array)
        except UNUSABLE as error:
            told.append(f"Groups, guides, notes and measures could not be restored: {error}.")
            return Scene(tuple(parts), kept_now)


def take_stroke(arrays: dict[str, AnyArray], words: dict[str, Any], new: dict[str, AnyArray]) -> None:
    """Put what a stroke left of some places into the arrays, (n, ...) by name. Raises one of `UNUSABLE` when it does not fit."""
    what = str(words["what"])
    name = f"meshes/{words['mesh']}/{what}.npy"
    if name not in arrays:
        arrays[name] = VALUES[what].none(int(words["length"]))
    arrays[name][new["places"]] = new["values"]


def take_loose_stroke(arrays: dict[str, AnyArray], words: dict[str, Any], new: dict[str, AnyArray]) -> None:
    """The same for loose clay, whose faces change as well: arrays (n, ...) by name."""
    n_vertices, n_faces = (int(v) for v in words["lengths"])
    base, faces = f"meshes/{words['mesh']}", f"topologies/{words['topology']}/faces.npy"
    for key, rows in new.items():
        side, _, what = key.partition("/")
        if not what:
            continue
        name = faces if what == "faces" else f"{base}/{what}.npy"
        length = n_vertices if side == "vertex" else n_faces
        old = arrays.get(name)
        if old is None or len(old) < length:
            grown = np.full(
                (length, *rows.shape[1:]), VALUES[what].blank if what in VALUES else 0, rows.dtype
            )
            if old is not None:
                grown[: len(old)] = old
            arrays[name] = grown
        arrays[name][new["vertices" if side == "vertex" else "faces"]] = rows


def staged_arrays(path: Path, mesh_id: str) -> dict[str, AnyArray]:
    """The arrays (n, ...) of staged clay, under the name it has in the scene; none where they are not whole."""
    if not path.exists():
        return {}
    for _, _, arrays in RecordReader(path).entries():
        here, there = f"meshes/{STAGED}/", f"meshes/{mesh_id}/"
        return {name.replace(here, there): array for name, array in arrays.items()}
    return {}


def _milestone(words: dict[str, Any], arrays: dict[str, AnyArray]) -> Milestone:
    build = Rebuilder(arrays)
    parts: tuple[KeptPart, ...] = tuple(build.kept(kept) for kept in words["parts"])
    picture = arrays[f"picture/{words['id']}"].tobytes()
    return Milestone(words["name"], parts, picture, words["id"], words["time"])


def _with_new_ids(scene: Scene) -> Scene:
    """The same scene, its clay under new names, so that a new journal notes it whole."""
    names = {part.mesh_id: new_id() for part in scene.parts}
    return scene.with_parts(replace(part, mesh_id=names[part.mesh_id]) for part in scene.parts)
