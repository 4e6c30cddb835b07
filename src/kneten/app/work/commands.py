"""The registry: every action of the program, once. Menus, shortcuts, finder, tests come from it."""

from __future__ import annotations

import enum
from collections.abc import Callable, Iterable
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, replace

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenu, QWidget

from kneten.app.work.synonyms import meant


def always() -> str:
    """For commands that can always run."""
    return ""


class Needs(enum.Flag):
    """What must hold before a command can run. A command needs all of it until it says otherwise.

    KERNELS
        The compiled kernels are there: without them it would freeze the window while compiling.
    REST
        No pointer is pressed on clay, and nothing is tried on it.
    SETTLED
        Loose clay is brought to rest first; it is loose again with the next stroke.
    FREE
        No long work is under way on a chosen part.
    """

    NOTHING = 0
    KERNELS = enum.auto()
    REST = enum.auto()
    SETTLED = enum.auto()
    FREE = enum.auto()
    ALL = KERNELS | REST | SETTLED | FREE


@dataclass(frozen=True)
class Command:
    """One action.

    Attributes
    ----------
    key : str
        Stable name, such as ``edit.undo``.
    name : str
        Words in menus and finder.
    does : str
        What it does to the clay or the work: the tooltip.
    place : str
        The menu it stands in.
    run : callable
    shortcut : str
        In Qt's portable form; empty for none.
    blocked : callable
        Returns why it cannot run now, or "".
    needs : Needs
    """

    key: str
    name: str
    does: str
    place: str
    run: Callable[[], object]
    shortcut: str = ""
    blocked: Callable[[], str] = always
    needs: Needs = Needs.ALL


def needing(needs: Needs, commands: Iterable[Command]) -> list[Command]:
    """The same commands with other needs than all."""
    return [replace(command, needs=needs) for command in commands]


class Registry:
    """All commands, and the Qt actions made from them.

    Parameters
    ----------
    report : callable
        Tells the user why a command cannot run.
    gate : callable
        Sees to what a command needs; why it cannot run all the same, or "".
    guard : callable
        What a command runs in: takes back what one that fails has done, and tells.
    """

    def __init__(
        self,
        owner: QWidget,
        report: Callable[[str], None],
        gate: Callable[[Command], str] = lambda command: "",
        guard: Callable[[Command], AbstractContextManager[object]] = lambda command: nullcontext(),
    ) -> None:
        self._gate = gate
        self._guard = guard
        self._owner = owner
        self._report = report
        self.commands: dict[str, Command] = {}
        self._holders: dict[str, str] = {}
        self._changed: dict[str, str] = {}
        self.actions: dict[str, QAction] = {}

    def add(self, *commands: Command) -> None:
        """Take commands in. Raises `ValueError` when a key or shortcut is taken."""
        for command in commands:
            if command.key in self.commands:
                raise ValueError(f"two commands are called {command.key}")
            if command.shortcut in self._holders:
                other = self.commands[self._holders[command.shortcut]]
                raise ValueError(f"{command.shortcut} belongs to {other.name} already")
            if command.shortcut:
                self._holders[command.shortcut] = command.key
            self.commands[command.key] = command
            action = QAction(command.name, self._owner)
            action.setToolTip(self.tip(command))
            action.setStatusTip(command.does)
            if command.shortcut:
                action.setShortcut(QKeySequence(command.shortcut))
            action.triggered.connect(lambda _=False, key=command.key: self.run(key))
            self._owner.addAction(action)
            self.actions[command.key] = action

    def remove(self, key: str) -> None:
        """Take a command out."""
        command = self.commands.pop(key)
        self._holders.pop(command.shortcut, None)
        action = self.actions.pop(key)
        self._owner.removeAction(action)
        action.deleteLater()

    def shortcut(self, key: str) -> str:
        """A command's keys in Qt's portable form, as the user has set them; empty for none."""
        return self._changed.get(key, self.commands[key].shortcut)

    def set_shortcuts(self, changed: dict[str, str]) -> None:
        """Take the user's shortcuts; those that are taken already are left as they came."""
        if not changed and not self._changed:
            return
        self._changed = {}
        for key, keys in changed.items():
            if key not in self.commands:
                continue
            clash = keys and any(self.shortcut(other) == keys for other in self.commands if other != key)
            if not clash:
                self._changed[key] = keys
        for key, action in self.actions.items():
            action.setShortcut(QKeySequence(self.shortcut(key)))
            action.setToolTip(self.tip(self.commands[key]))

    def tip(self, command: Command) -> str:
        """What a command does, and its shortcut."""
        keys = QKeySequence(self.shortcut(command.key)).toString(QKeySequence.SequenceFormat.NativeText)
        return f"{command.does}  ({keys})" if keys else command.does

    def run(self, key: str) -> None:
        """Run a command, or say why it cannot run now."""
        command = self.commands[key]
        reason = self._gate(command) or command.blocked()
        if reason:
            self._report(reason)
            return
        with self._guard(command):
            command.run()

    def menu(self, parent: QWidget) -> QMenu:
        """All commands, a submenu for each place."""
        menu = QMenu(parent)
        places: dict[str, QMenu] = {}
        for key, command in self.commands.items():
            if command.place not in places:
                places[command.place] = menu.addMenu(command.place)
            places[command.place].addAction(self.actions[key])
        return menu

    def search(self, words: str) -> list[Command]:
        """Commands whose name, place or deed holds all the words, or what these stand for; names first."""
        whole = " ".join(words.lower().split())
        # Some words of the trade are two.
        wanted = {word: meant(word) for word in ([whole] if meant(whole) else whole.split())}
        found = []
        for command in self.commands.values():
            name = command.name.lower()
            text = f"{name} {command.place.lower()} {command.does.lower()}"
            rank = 0
            for word, others in wanted.items():
                if word in text:
                    rank += 0 if name.startswith(word) else 1 if word in name else 4
                elif any(other in name for other in others):
                    rank += 2
                elif any(other in text for other in others):
                    rank += 5
                else:
                    break
            else:
                found.append((rank, command))
        return [command for _, command in sorted(found, key=lambda pair: pair[0])]


def making(place: str) -> Callable[..., Command]:
    """Makes commands of one menu."""

    def make(
        key: str,
        name: str,
        does: str,
        run: Callable[[], object],
        keys: str = "",
        blocked: Callable[[], str] = always,
    ) -> Command:
        return Command(key, name, does, place, run, keys, blocked)

    return make
