"""What the work was, step by step: journals kept when they are saved, and played again.

Each time a project is saved its journal begins anew (`document/journal.py`). What it held until then, the state it began
with and every step since, is a *chapter*; chapters lie beside the journals in a folder that the project names. Played one
behind the other, with the milestones that are older and the journal that is running, they tell how the clay became what it is.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

from kneten.core.arrays import AnyArray, Progress
from kneten.core.changes import Change
from kneten.core.mesh import Mesh
from kneten.document.arrays_file import Content, ProjectFileError, read_content
from kneten.document.journal import STAGED, journal_root
from kneten.document.project import Project
from kneten.document.project_file import Rebuilder, restore
from kneten.document.record import FIRST, HEAD_SIZE, Head, RecordReader
from kneten.document.recovery import UNUSABLE, staged_arrays, take_loose_stroke, take_stroke
from kneten.document.scene import Milestone, Part, Scene, bring_back
from kneten.document.things import new_id

MOST_BYTES = 2 << 30
"""What the chapters of a project may take on the disk; the oldest go first."""

STROKES = ("stroke", "loose")
"""Entries that change clay."""


@dataclass(frozen=True)
class Chapter:
    """The work from one save to the next.

    Attributes
    ----------
    folder : Path
        Where what a journal held lies, or a journal itself.
    steps : int
    nbytes : int
        What it takes on the disk.
    """

    folder: Path
    steps: int
    nbytes: int


def reels_root() -> Path:
    """The folder that the chapters of all projects lie in."""
    return journal_root().parent / "reels"


def keep_chapter(journal: Path, reel: Path) -> Path | None:
    """Keep what a journal holds, before it begins anew, as the next chapter in the folder of a reel.

    Nothing is copied where the disk can link. Returns its folder, or None where there are no steps. Raises `OSError`; then
    there is no such chapter.
    """
    chapter = _taken(journal, reel)
    if chapter is None:
        return None
    half = chapter.with_name(f".{chapter.name}")
    half.rename(chapter)
    held = chapters_in(reel)
    while len(held) > 1 and sum(one.nbytes for one in held) > MOST_BYTES:
        shutil.rmtree(held.pop(0).folder, ignore_errors=True)
    return chapter


def set_aside(journal: Path, reel: Path) -> str:
    """Keep what a crash left as a chapter that does not count before the work that came of it is saved; its name, "" for none.

    Raises `OSError`.
    """
    chapter = _taken(journal, reel)
    return "" if chapter is None else chapter.name


def count_in(reel: Path, name: str) -> None:
    """Let a chapter that was set aside count. Raises `OSError`."""
    (reel / f".{name}").rename(reel / name)


def forget_aside(reel: Path, name: str) -> None:
    """Take a chapter away that was set aside."""
    shutil.rmtree(reel / f".{name}", ignore_errors=True)


def _taken(journal: Path, reel: Path) -> Path | None:
    """A journal's files beside the chapters, under a hidden name; the name they are to have."""
    if not steps_of(journal):
        return None
    chapter = reel / f"{time.time_ns():020d}"
    half = reel / f".{chapter.name}"
    half.mkdir(parents=True)
    try:
        for file in (*journal.glob("*.kneten"), journal / "record", *(journal / STAGED).glob("*")):
            to = half / file.relative_to(journal)
            to.parent.mkdir(exist_ok=True)
            _linked(file, to)
    except OSError:
        shutil.rmtree(half, ignore_errors=True)
        raise
    return chapter


def copy_reel(reel: Path, to: Path) -> None:
    """Give a project that is saved under another name chapters of its own. Raises `OSError`."""
    if reel.is_dir():
        shutil.copytree(reel, to, copy_function=_linked)


def forget_reel(reel: Path) -> None:
    """Take all chapters away."""
    shutil.rmtree(reel, ignore_errors=True)


def chapters_in(reel: Path) -> list[Chapter]:
    """The chapters of a reel, the oldest first; none where there is no such folder."""
    found = []
    for folder in sorted(reel.iterdir()) if reel.is_dir() else ():
        if not folder.name.startswith("."):
            found.append(chapter_of(folder))
    return found


def chapter_of(folder: Path) -> Chapter:
    """A chapter, or a journal that is running, as one. Reads heads and words alone."""
    nbytes = 0
    # A journal that is running has files that come and go.
    with contextlib.suppress(OSError):
        for file in folder.rglob("*"):
            with contextlib.suppress(OSError):
                nbytes += file.stat().st_size if file.is_file() else 0
    return Chapter(folder, steps_of(folder), nbytes)


def steps_of(folder: Path) -> int:
    """How many steps a chapter has; 0 where it cannot be read."""
    count, changes = 0, _Changes()
    with contextlib.suppress(OSError, ValueError), open(folder / "record", "rb") as file:
        for head in RecordReader(folder / "record").heads():
            file.seek(head.at + HEAD_SIZE)
            count += changes.counts(head, json.loads(file.read(head.n_text)))
    return count


class _Changes:
    """Which entries are steps: those after which there is something else to see."""

    def __init__(self) -> None:
        self._parts: Any = None

    def counts(self, head: Head, words: dict[str, Any]) -> bool:
        if words.get("op") in STROKES:
            return not head.flags & FIRST
        if words.get("op") != "scene":
            return False
        changed = words.get("parts") != self._parts
        self._parts = words.get("parts")
        return changed and not head.flags & FIRST


def _linked(file: str | Path, to: str | Path) -> None:
    try:
        os.link(file, to)
    except OSError:
        shutil.copyfile(file, to)


class Player:
    """Plays chapters again, forwards.

    Attributes
    ----------
    steps : int
        All there are to come, milestones among them.
    told : list of str
        What could not be played.
    """

    def __init__(self, before: Sequence[Milestone], chapters: Sequence[Chapter]) -> None:
        self.told: list[str] = []
        self._chapters = [one for one in chapters if one.steps]
        self._milestones = tuple(before)
        self.steps = len(self._milestones) + sum(one.steps for one in self._chapters)
        self._scenes = self._played()
        self._at = 0
        self._last: tuple[Part, ...] = ()

    def parts_at(self, step: int) -> tuple[Part, ...]:
        """The parts after so many steps, counted from 1; never back. What cannot be read is left out, and told."""
        while self._at < step:
            found = next(self._scenes, None)
            if found is None:
                break
            self._at += 1
            self._last = found()
        return self._last

    def _played(self) -> Iterator[Callable[[], tuple[Part, ...]]]:
        """For each step, what makes the parts that there are after it."""
        for milestone in self._milestones:
            yield partial(bring_back, milestone.parts)
        for chapter in self._chapters:
            try:
                yield from self._chapter(chapter)
            except (ProjectFileError, OSError) as error:
                self.told.append(f"A part of the work cannot be played: {error}")

    def _chapter(self, chapter: Chapter) -> Iterator[Callable[[], tuple[Part, ...]]]:
        base, content, first = chapter.folder / "base.kneten", Content({}, {}, {}), Scene()
        if base.exists():
            content = read_content(base, Progress())
            first = restore(content, base.name).scene
        stage = _Stage(chapter.folder, content, first)
        reader, changes, left = RecordReader(chapter.folder / "record"), _Changes(), chapter.steps
        for head, words, new in reader.entries():
            try:
                stage.take(words, new)
            except UNUSABLE:
                reader.damaged += 1
            if changes.counts(head, words):
                left -= 1
                yield stage.parts
            if not left:
                # A journal that is running goes on being written.
                break
        if reader.damaged:
            self.told.append("A part of the work was damaged and is not played.")


class _Stage:
    """Clay that entries are put onto one after another; it is built when it is looked at."""

    def __init__(self, folder: Path, content: Content, scene: Scene) -> None:
        self._folder = folder
        self._arrays = dict(content.arrays)
        self._living: dict[str, Mesh] = {part.mesh_id: part.mesh for part in scene.parts}
        self._words: list[dict[str, Any]] = list(content.document.get("parts", []))
        self._now: tuple[Part, ...] | None = scene.parts

    def take(self, words: dict[str, Any], new: dict[str, AnyArray]) -> None:
        """One entry. Raises one of `UNUSABLE` when it makes no sense."""
        op = words["op"]
        if op == "stroke":
            take_stroke(self._arrays, words, new)
            mesh = self._living.get(str(words["mesh"]))
            if mesh is not None:
                Change(str(words["what"]), new["places"], new["values"]).swap(mesh)
        elif op == "loose":
            take_loose_stroke(self._arrays, words, new)
            # Its shape has changed: it is built anew.
            self._living.pop(str(words["mesh"]), None)
            self._now = None
        elif op == "scene":
            self._arrays.update(new)
            for mesh_id, name in words.get("staged", {}).items():
                self._arrays.update(staged_arrays(self._folder / STAGED / name, mesh_id))
            if words["parts"] != self._words or self._now is None:
                self._words, self._now = words["parts"], None

    def parts(self) -> tuple[Part, ...]:
        """The parts as they are now."""
        if self._now is None:
            build = Rebuilder(self._arrays, self._living)
            found = []
            for words in self._words:
                with contextlib.suppress(*UNUSABLE):
                    # Levels and layers are not seen: the clay is.
                    bare = {name: value for name, value in words.items() if name != "stack"}
                    part = build.part(bare)
                    found.append(part)
            self._now = tuple(found)
            self._living = {part.mesh_id: part.mesh for part in found}
        return self._now


def take_running(journal: Path) -> Chapter | None:
    """What a running journal holds by now, as a chapter of its own, to be taken away after use; None where there are no steps."""
    # It goes with the journal, should nobody be left to take it away.
    place = journal / f"playing-{new_id()}"
    keep_chapter(journal, place)
    held = chapters_in(place)
    return held[0] if held else None


def own_reel(project: Project) -> Path | None:
    """The folder of a project's chapters, or None where it keeps none."""
    settings = project.settings
    return reels_root() / settings.reel if settings.reel and settings.keeps_steps else None


def name_reel(project: Project, path: Path) -> None:
    """Before a project is saved: where its chapters lie; under another name it has chapters of its own."""
    settings = project.settings
    if not settings.keeps_steps:
        return
    if not settings.reel:
        project.try_settings(reel=new_id())
    elif project.path is not None and project.path != path:
        fresh = new_id()
        # A reel is not the work: a save goes on without it.
        with contextlib.suppress(OSError):
            copy_reel(reels_root() / settings.reel, reels_root() / fresh)
        project.try_settings(reel=fresh)
