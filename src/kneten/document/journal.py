"""The journal: every finished change goes to disk at once, so that a crash loses no more than the
unfinished stroke.

A journal is a folder. `base.kneten` is the project the record starts from: a hard link to the saved
file, so that it survives whatever happens to that file, or a copy where links are not possible.
`record` holds one entry for each change, in order. `owner` names the process; while that process lives,
its journal is nobody else's.

`staged` holds large new clay, each in a file of its own: whoever made it on another thread has put it
there beforehand, so that the entry that brings it into the scene is small and quickly written.

An entry is `KNTJ`, the lengths of its JSON and of its arrays, the CRC-32 of both, then the two. An
entry that is cut short, or whose sum is wrong, ends the record.
"""

from __future__ import annotations

import contextlib
import io
import json
import os
import shutil
import struct
import uuid
import zlib
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import platformdirs

from kneten.core.arrays import AnyArray, Progress
from kneten.core.changes import Change
from kneten.core.loose import LooseMesh
from kneten.core.loose_change import LooseChange
from kneten.core.mesh import VALUES, Mesh
from kneten.core.stack import Stack
from kneten.document.arrays_file import Content, ProjectFileError, read_content
from kneten.document.project import Project, Settings
from kneten.document.project_file import (
    Rebuilder,
    add_guide,
    add_kept,
    add_kept_mask,
    add_topology,
    add_values,
    part_words,
    restore,
    scene_words,
    settings_from,
    settings_pictures,
    settings_words,
    with_scene_words,
)
from kneten.document.scene import KeptPart, Milestone, Scene, new_id
from kneten.document.stack_words import FOLDER, ArrayNames, stack_words

MAGIC = b"KNTJ"
HEAD = struct.Struct("<4sQQI")

STAGED = "staged"
"""What staged clay is called in its file: its name in the scene is not known yet."""


def journal_root() -> Path:
    """The folder all journals lie in."""
    base = os.environ.get("KNETEN_STATE") or platformdirs.user_state_dir("kneten")
    return Path(base) / "journals"


class Journal:
    """Writes the record of one running project."""

    def __init__(self, project: Project, root: Path | None = None) -> None:
        self.folder = (root or journal_root()) / uuid.uuid4().hex
        self.folder.mkdir(parents=True)
        (self.folder / "owner").write_text(_process_mark(os.getpid()))
        self._project = project
        self._record = _opened(self.folder / "record")
        self._known: set[str] = set()
        self._kept: set[str] = set()
        self._staged: dict[int, tuple[Mesh, str, set[str]]] = {}
        self._names = ArrayNames()
        self._pictured: set[str] = set()
        self.failed = ""
        project.recorder = self

    def start(self, saved: Path | None) -> None:
        """Begin a new record from the saved file, or from nothing with the present scene.

        Raises
        ------
        OSError
            When the journal's folder cannot be written.
        """
        fresh = self.folder / "record.new"
        base = self.folder / "base.kneten"
        record = _opened(fresh)
        if saved is not None:
            new_base = self.folder / "base.new"
            new_base.unlink(missing_ok=True)
            try:
                os.link(saved, new_base)
            except OSError:
                shutil.copyfile(saved, new_base)
            os.replace(new_base, base)
        else:
            base.unlink(missing_ok=True)
        # A crash between the two replacements leaves the new base with the old record. Its strokes
        # then write the positions that the base has already: no harm.
        os.replace(fresh, self.folder / "record")
        os.close(self._record)
        self._record = record
        self._known.clear()
        self._kept.clear()
        self._pictured.clear()
        for _, name, _ in self._staged.values():
            (self.folder / "staged" / name).unlink(missing_ok=True)
        self._staged.clear()
        scene = self._project.scene
        words: dict[str, Any] = {"op": "start", "path": str(self._project.path or "")}
        self._write(words, {})
        if saved is None:
            self.scene(scene)
            self.settings(self._project.settings)
        else:
            # A file holds loose clay settled: strokes on it would not fit.
            loose = {part.mesh_id for part in scene.parts if isinstance(part.mesh, LooseMesh)}
            self._known = {part.mesh_id for part in scene.parts} - loose
            self._known |= {mask.id for mask in scene.kept_masks}
            self._kept = {milestone.id for milestone in scene.milestones}
            # A file's arrays have names of its own: those of levels and layers are written once more.
            if loose or any(part.stack is not None for part in scene.parts):
                self.scene(scene)

    def stroke(self, mesh_id: str, mesh: Mesh, change: Change | LooseChange) -> None:
        """Note what a stroke (or taking one back) left of what it changed."""
        if isinstance(change, LooseChange):
            assert isinstance(mesh, LooseMesh)
            self._loose_stroke(mesh_id, mesh, change.now(mesh))
            return
        what = change.what
        values = mesh.positions if what == "positions" else mesh.value(what)
        arrays = {"places": change.places, "values": values[change.places]}
        self._write({"op": "stroke", "mesh": mesh_id, "what": what, "length": len(values)}, arrays)

    def _loose_stroke(self, mesh_id: str, mesh: LooseMesh, change: LooseChange) -> None:
        arrays = {"vertices": change.vertices, "faces": change.faces}
        arrays |= {f"vertex/{name}": rows for name, rows in change.vertex_rows.items()}
        arrays |= {f"face/{name}": rows for name, rows in change.face_rows.items()}
        lengths = [len(mesh.positions), len(mesh.faces)]
        words = {"op": "loose", "mesh": mesh_id, "topology": mesh.topology.uid, "lengths": lengths}
        self._write(words, arrays)

    def stage(self, mesh: Mesh, stack: Stack | None = None) -> None:
        """Write clay that is about to come into the scene, on any thread, ahead of the entry for it."""
        arrays: dict[str, AnyArray] = {}
        _add_clay(arrays, STAGED, mesh)
        if stack is not None:
            self._stack(stack, arrays)
        arrays = {name: array for name, array in arrays.items() if name not in self._known}
        name = new_id()
        try:
            (self.folder / "staged").mkdir(exist_ok=True)
            file = _opened(self.folder / "staged" / name)
            try:
                _write_entry(file, {"op": "staged"}, arrays)
            finally:
                os.close(file)
        except OSError:
            return  # It then goes along with the entry, which tells the user what is wrong.
        self._staged[id(mesh)] = (mesh, name, set(arrays) & _shared(arrays))

    def _stack(self, stack: Stack, arrays: dict[str, AnyArray]) -> dict[str, Any]:
        return stack_words(stack, arrays, self._names, lambda shape: add_topology(arrays, shape))

    def scene(self, scene: Scene) -> None:
        """Note what the scene is now; clay not noted before goes along."""
        arrays: dict[str, AnyArray] = {}
        staged = {}
        for part in scene.parts:
            if part.mesh_id in self._known:
                continue
            mesh = part.mesh
            self._known.add(part.mesh_id)
            if id(mesh) in self._staged:
                _, staged[part.mesh_id], shared = self._staged.pop(id(mesh))
                self._known |= shared
                continue
            _add_clay(arrays, part.mesh_id, mesh)
        parts = [part_words(part) for part in scene.parts]
        for part, words in zip(scene.parts, parts, strict=True):
            if part.stack is not None:
                words["stack"] = self._stack(part.stack, arrays)
        for mask in scene.kept_masks:
            if mask.id not in self._known:
                self._known.add(mask.id)
                add_kept_mask(arrays, mask)
        for guide in scene.guides:
            name = f"{guide.id} {zlib.crc32(guide.corners.tobytes())}"
            if name not in self._known:
                self._known.add(name)
                add_guide(arrays, guide, scene)
        kept = []
        for milestone in scene.milestones:
            words = {"id": milestone.id, "name": milestone.name, "note": milestone.note}
            if milestone.id not in self._kept:
                self._kept.add(milestone.id)
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
        arrays = {name: array for name, array in arrays.items() if name not in self._known}
        self._known |= shared
        entry = {"op": "scene", "parts": parts, "milestones": kept, "staged": staged, **scene_words(scene)}
        self._write(entry, arrays)

    def settings(self, settings: Settings) -> None:
        """Note look, saved views and the like; pictures not noted before go along."""
        pictures = settings_pictures(settings)
        new = {name: data for name, data in pictures.items() if name not in self._pictured}
        self._pictured |= set(new)
        arrays = {name: np.frombuffer(data, np.uint8) for name, data in new.items()}
        words = {"op": "settings", "settings": settings_words(settings), "pictures": sorted(pictures)}
        self._write(words, arrays)

    def _write(self, words: dict[str, Any], arrays: dict[str, AnyArray]) -> None:
        """Hand an entry to the system in one go: from then on a crash of this process loses nothing."""
        try:
            _write_entry(self._record, words, arrays)
            self.failed = ""
        except OSError as error:
            # The work goes on; the window tells the user that it is no longer safe from a crash.
            self.failed = f"The journal cannot be written ({error.strerror}). Save your work now."

    def close(self) -> None:
        """End the record and take the journal away: the project was closed on purpose."""
        self._project.recorder = None
        with contextlib.suppress(OSError):
            os.close(self._record)
        shutil.rmtree(self.folder, ignore_errors=True)


def _shared(arrays: dict[str, AnyArray]) -> set[str]:
    """The names among these whose arrays are never changed: written once, they need not be written again."""
    return {name for name in arrays if name.startswith((f"{FOLDER}/", "topologies/"))}


def _add_clay(arrays: dict[str, AnyArray], mesh_id: str, mesh: Mesh) -> None:
    """Put a mesh under its name; loose clay with its empty places, for strokes name places."""
    add_topology(arrays, mesh.topology)
    add_values(arrays, mesh_id, mesh.positions, mesh.values())
    if isinstance(mesh, LooseMesh):
        arrays[f"meshes/{mesh_id}/loose.npy"] = np.ones(1, np.uint8)


def _write_entry(file: int, words: dict[str, Any], arrays: dict[str, AnyArray]) -> None:
    body = io.BytesIO()
    for name, array in arrays.items():
        encoded = name.encode()
        body.write(struct.pack("<H", len(encoded)) + encoded)
        np.lib.format.write_array(body, np.ascontiguousarray(array), allow_pickle=False)
    text = json.dumps(words).encode()
    data = body.getbuffer()
    check = zlib.crc32(data, zlib.crc32(text))
    _write_all(file, HEAD.pack(MAGIC, len(text), len(data), check) + text)
    _write_all(file, data)


def _opened(path: Path) -> int:
    """A new file, written without a buffer: what is written has left this process."""
    return os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)


def _write_all(file: int, data: bytes | memoryview) -> None:
    left = memoryview(data)
    while left:
        left = left[os.write(file, left) :]


@dataclass(frozen=True)
class Left:
    """A journal whose process is gone."""

    folder: Path
    path: str
    changes: int
    time: float


def _process_mark(pid: int) -> str:
    """A process's number and start: numbers alone are given out again."""
    try:
        start = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[19]
    except (OSError, IndexError):
        start = "gone"
    return f"{pid} {start}"


def entries(record: Path) -> Iterator[tuple[dict[str, Any], dict[str, AnyArray]]]:
    """The whole entries of a record, up to the first that is not."""
    with open(record, "rb") as file:
        size = os.fstat(file.fileno()).st_size
        while True:
            head = file.read(HEAD.size)
            if len(head) < HEAD.size:
                return
            magic, n_text, n_data, check = HEAD.unpack(head)
            if magic != MAGIC or file.tell() + n_text + n_data > size:
                return
            text, data = file.read(n_text), file.read(n_data)
            if zlib.crc32(data, zlib.crc32(text)) != check:
                return
            yield json.loads(text), _unpack(data)


def _unpack(data: bytes) -> dict[str, AnyArray]:
    arrays = {}
    body = io.BytesIO(data)
    while prefix := body.read(2):
        (length,) = struct.unpack("<H", prefix)
        name = body.read(length).decode()
        arrays[name] = np.lib.format.read_array(body, allow_pickle=False)
    return arrays


def left_journals(root: Path | None = None) -> list[Left]:
    """Journals of processes that ended without closing them and that hold work, newest first."""
    found = []
    root = root or journal_root()
    for folder in root.iterdir() if root.is_dir() else ():
        try:
            mark = (folder / "owner").read_text()
            if _process_mark(int(mark.split()[0])) == mark:
                continue
            path, changes = "", 0
            for words, _ in entries(folder / "record"):
                if words["op"] == "start":
                    path = words["path"]
                elif words["op"] != "settings":
                    changes += 1
            has_base = (folder / "base.kneten").exists()
            if changes > (0 if has_base else 1):
                time = (folder / "record").stat().st_mtime
                found.append(Left(folder, path, changes if has_base else changes - 1, time))
            else:
                shutil.rmtree(folder, ignore_errors=True)
        except (OSError, ValueError, IndexError, KeyError):
            continue
    return sorted(found, key=lambda left: -left.time)


def recover(left: Left) -> Project:
    """The project as the last finished change left it. Raises `ProjectFileError`."""
    base = left.folder / "base.kneten"
    content = Content({}, {}, {})
    project = Project()
    if base.exists():
        content = read_content(base, Progress())
        project = restore(content, base.name)
    arrays = dict(content.arrays)
    scene_words_now: dict[str, Any] | None = None
    settings = project.settings
    pictures = settings_pictures(settings)
    milestones: dict[str, Milestone] = {m.id: m for m in project.scene.milestones}
    try:
        for words, new in entries(left.folder / "record"):
            if words["op"] == "stroke":
                what = str(words["what"])
                name = f"meshes/{words['mesh']}/{what}.npy"
                if name not in arrays:
                    kind, _, columns = VALUES[what]
                    n = int(words["length"])
                    arrays[name] = np.zeros((n, columns) if columns else n, kind)
                    arrays[name][:] = 255 if what == "colour" else 0
                arrays[name][new["places"]] = new["values"]
            elif words["op"] == "loose":
                _replay_loose(arrays, words, new)
            elif words["op"] == "settings":
                pictures |= {name: data.tobytes() for name, data in new.items()}
                kept_pictures = {name: pictures[name] for name in words["pictures"]}
                settings = settings_from(words["settings"], kept_pictures)
            elif words["op"] == "scene":
                arrays.update(new)
                for mesh_id, name in words.get("staged", {}).items():
                    arrays.update(_staged(left.folder / "staged" / name, mesh_id))
                scene_words_now = words
                for kept in words["milestones"]:
                    if "parts" in kept:
                        milestones[kept["id"]] = _milestone(kept, arrays)
        scene = project.scene
        build = Rebuilder(arrays)
        if scene_words_now is not None:
            parts = tuple(build.part(words) for words in scene_words_now["parts"])
            kept_now = (
                replace(milestones[words["id"]], name=str(words["name"]), note=str(words.get("note", "")))
                for words in scene_words_now["milestones"]
            )
            scene = with_scene_words(Scene(parts, tuple(kept_now)), scene_words_now, build)
        elif base.exists():
            # Strokes only: the same parts, with the clay where the strokes left it.
            parts = tuple(build.part(words) for words in content.document["parts"])
            scene = scene.with_parts(parts)
    except (KeyError, TypeError, ValueError, IndexError, OSError) as error:
        raise ProjectFileError(f"The journal is damaged: {error}") from error
    recovered = Project(_with_new_ids(scene))
    recovered.settings = settings
    recovered.path = Path(left.path) if left.path else None
    recovered.unsaved = True
    return recovered


def _replay_loose(arrays: dict[str, AnyArray], words: dict[str, Any], new: dict[str, AnyArray]) -> None:
    """Put what a stroke left into the places of loose clay."""
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
            grown = np.zeros((length, *rows.shape[1:]), rows.dtype)
            if what == "colour":
                grown[:] = 255
            if old is not None:
                grown[: len(old)] = old
            arrays[name] = grown
        arrays[name][new["vertices" if side == "vertex" else "faces"]] = rows


def _staged(path: Path, mesh_id: str) -> dict[str, AnyArray]:
    """The arrays of staged clay, under the name it has in the scene."""
    for _, arrays in entries(path):
        here, there = f"meshes/{STAGED}/", f"meshes/{mesh_id}/"
        return {name.replace(here, there): array for name, array in arrays.items()}
    raise ValueError("a part's clay was not written whole")


def _milestone(words: dict[str, Any], arrays: dict[str, AnyArray]) -> Milestone:
    build = Rebuilder(arrays)
    parts: tuple[KeptPart, ...] = tuple(build.kept(kept) for kept in words["parts"])
    picture = arrays[f"picture/{words['id']}"].tobytes()
    return Milestone(words["name"], parts, picture, words["id"], words["time"])


def _with_new_ids(scene: Scene) -> Scene:
    """The same scene, its clay under new names, so that a new journal notes it whole."""
    names = {part.mesh_id: new_id() for part in scene.parts}
    return scene.with_parts(replace(part, mesh_id=names[part.mesh_id]) for part in scene.parts)


def discard(left: Left) -> None:
    """Take a left journal away."""
    shutil.rmtree(left.folder, ignore_errors=True)
