"""Undo and redo: every change is an edit that can be swapped in and out."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import Protocol

from kneten.core.changes import Change
from kneten.core.loose_change import LooseChange
from kneten.document.scene import Scene

BUDGET = 2 << 30
"""Bytes of undo kept: 2 GiB, about 8,000 strokes of 20,000 vertices."""


@dataclass(frozen=True)
class StrokeEdit:
    """A stroke on one part.

    Attributes
    ----------
    silent : bool
        Nothing one sees: as with `SceneEdit`.
    """

    name: str
    part_id: str
    change: Change | LooseChange
    silent: bool = False

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        return self.change.nbytes


@dataclass(frozen=True)
class SceneEdit:
    """Any other change: the scene on the other side of it.

    Attributes
    ----------
    silent : bool
        Nothing one sees (clay loosened or settled): done and undone together with the step after it.
    """

    name: str
    scene: Scene
    nbytes: int
    silent: bool = False


@dataclass(frozen=True)
class GroupEdit:
    """Several edits that are one step, in the order to be put in.

    Attributes
    ----------
    silent : bool
        No step of its own: it follows from the step before, and is undone and made again together with that.
    """

    name: str
    edits: tuple[Edit, ...]
    silent: bool = False

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        return sum(edit.nbytes for edit in self.edits)


Edit = StrokeEdit | SceneEdit | GroupEdit


class Swapper(Protocol):
    """Whoever owns the clay: puts an edit in and returns the edit that takes it back."""

    def swap(self, edit: Edit) -> Edit:
        """Put an edit in."""


class History:
    """Two stacks of edits, the older end given up when the budget is exceeded.

    Attributes
    ----------
    serial : int
        Grows with every change, undo and redo.
    """

    def __init__(self, owner: Swapper, budget: int = BUDGET) -> None:
        self._owner = owner
        self._budget = budget
        self._done: list[Edit] = []
        self._undone: list[Edit] = []
        self._bytes = 0
        self.serial = 0

    def push(self, edit: Edit) -> None:
        """Note a change that has just been made; what was undone before is given up."""
        self._bytes -= sum(e.nbytes for e in self._undone)
        self._undone.clear()
        self._done.append(edit)
        self.serial += 1
        self._bytes += edit.nbytes
        while self._bytes > self._budget and len(self._done) > 1:
            self._bytes -= self._done.pop(0).nbytes

    def mark(self) -> tuple[int, list[Edit], list[Edit], int]:
        """Where the history stands, for `return_to`."""
        return self.serial, list(self._done), list(self._undone), self._bytes

    def return_to(self, mark: tuple[int, list[Edit], list[Edit], int]) -> bool:
        """Take back all changes pushed since, and be as at the mark; whether there were any."""
        serial, done, undone, n_bytes = mark
        if self.serial == serial:
            return False
        known = {id(edit) for edit in done}
        while self._done and id(self._done[-1]) not in known:
            self._owner.swap(self._done.pop())
        self._done, self._undone, self._bytes = done, undone, n_bytes
        self.serial += 1
        return True

    def next_undone(self) -> list[Edit]:
        """What the next undo takes back, in its order: a step, and the silent ones after and before it."""
        found = _next(self._done)
        before = itertools.takewhile(_precedes, reversed(self._done[: -len(found) or None]))
        return [*found, *before] if found else []

    def next_redone(self) -> list[Edit]:
        """What the next redo makes again, in its order: the silent ones before a step, the step, and what follows from it."""
        found = _next(self._undone)
        after = itertools.takewhile(_follows, reversed(self._undone[: -len(found) or None]))
        return [*found, *after] if found else []

    def join(self, count: int) -> None:
        """Make the last `count` changes one step, under the name of the first of them."""
        edits = self._done[-count:]
        del self._done[-count:]
        self._done.append(GroupEdit(edits[0].name, tuple(reversed(edits))))

    def undo(self) -> str | None:
        """Take the last change back. Returns its name, or None when there is none."""
        name = None
        for edit in self.next_undone():
            stepped = self._step(self._done, self._undone)
            name = name if edit.silent else stepped
        return name

    def redo(self) -> str | None:
        """Make the last undone change again. Returns its name, or None when there is none."""
        name = None
        for edit in self.next_redone():
            stepped = self._step(self._undone, self._done)
            name = name if edit.silent else stepped
        return name

    def _step(self, source: list[Edit], to: list[Edit]) -> str:
        edit = source.pop()
        self.serial += 1
        back = self._owner.swap(edit)
        self._bytes += back.nbytes - edit.nbytes
        to.append(back)
        return edit.name

    def names(self) -> tuple[list[str], list[str]]:
        """Names of what can be undone (newest last) and redone (next last)."""
        return [e.name for e in self._done if not e.silent], [e.name for e in self._undone if not e.silent]

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        return self._bytes

    def clear(self) -> None:
        """Forget everything."""
        self._done.clear()
        self._undone.clear()
        self._bytes = 0


def _follows(edit: Edit) -> bool:
    """Whether it goes with the step before it."""
    return edit.silent and isinstance(edit, GroupEdit)


def _precedes(edit: Edit) -> bool:
    """Whether it goes with the step after it."""
    return edit.silent and not isinstance(edit, GroupEdit)


def _next(edits: list[Edit]) -> list[Edit]:
    """The last edit that is not silent, after the silent ones that came later; nothing when there is none."""
    found: list[Edit] = []
    for edit in reversed(edits):
        found.append(edit)
        if not edit.silent:
            return found
    return []
