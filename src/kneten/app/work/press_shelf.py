"""The shelf of presses: our own, those kept with the project, those in the user's folder; made and read aside."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QImage

import kneten
from kneten.app.work import press_files
from kneten.core.arrays import F32, U8
from kneten.core.brushes.tool import BrushSettings, Tool
from kneten.core.press import Press, deep_press
from kneten.core.press_edits import edited
from kneten.core.presses.library import library
from kneten.document.presses import AnyPress, all_presses
from kneten.document.things import KeptPress
from kneten.formats.heights import HeightsError

if TYPE_CHECKING:
    from kneten.app.work.workshop import Workshop

OWN = "own:"
"""What the keys of the user's presses begin with; their ids follow."""

HELD = 24
"""Presses at most that are kept ready: a hundred megabytes."""

PICTURE = 96
"""Pixels along a small picture's side."""


ACROSS = 12
"""Small pictures side by side on the sheet that comes along."""

SHEET = Path(kneten.__file__).parent / "data" / "presses.webp"
"""The small pictures of our own presses, in the order of the library; `tests.press_pictures` draws it."""


@dataclass(frozen=True)
class Listed:
    """A press as it is listed.

    Attributes
    ----------
    words : str
        What it is found by, in small letters.
    """

    key: str
    name: str
    family: str
    words: str
    tiles: bool
    rolls: bool
    deep: bool


class PressShelf(QObject):
    """Finds presses by their keys.

    Signals
    -------
    arrived(str)
        A press is ready that was wanted.
    changed()
        There are others than before.
    """

    arrived = Signal(str)
    changed = Signal()

    def __init__(self, studio: Workshop) -> None:
        super().__init__(studio)
        self._studio = studio
        self._ready: OrderedDict[tuple[str, object], Press] = OrderedDict()
        self._making: set[str] = set()
        self._folder: dict[str, AnyPress] | None = None
        self._wrong: dict[str, str] = {}
        self._pictures: dict[tuple[str, object], QImage] = {}
        self._sheet_cut = False

    # -- what there is --------------------------------------------------------------------------

    def listed(self) -> list[Listed]:
        """All presses: the user's first, then ours family by family."""
        found = [
            Listed(
                OWN + press.id,
                press.name,
                press.family,
                f"{press.name} {press.family} own{'' if isinstance(press, KeptPress) else ' deep'}".lower(),
                isinstance(press, KeptPress) and (press.tiles or press.edits.tile),
                False,
                not isinstance(press, KeptPress),
            )
            for press in self.owned().values()
        ]
        for entry in library().values():
            words = f"{entry.name} {entry.family} {entry.words}".lower()
            found.append(
                Listed(entry.key, entry.name, entry.family, words, entry.tiles, entry.rolls, entry.deep)
            )
        return found

    def owned(self) -> dict[str, AnyPress]:
        """The user's presses by id: those of the project, then those of the folder that it has not."""
        found = {press.id: press for press in all_presses(self._studio.project)}
        for key, press in (self._folder or {}).items():
            found.setdefault(key, press)
        return found

    def name_of(self, key: str) -> str:
        """What a press is called; "" when there is none such."""
        if key.startswith(OWN):
            press = self.owned().get(key.removeprefix(OWN))
            return "" if press is None else press.name
        entry = library().get(key)
        return "" if entry is None else entry.name

    def read_folder(self) -> None:
        """Read the user's folder aside, once."""
        if self._folder is not None:
            return
        self._folder = {}

        def read() -> tuple[dict[str, AnyPress], list[str]]:
            found: dict[str, AnyPress] = {}
            wrong = []
            folder = press_files.user_folder()
            paths = sorted(folder.glob("*.*")) if folder.is_dir() else []
            for path in (path for path in paths if path.suffix in (".png", ".exr")):
                try:
                    deep = path.suffix == ".exr"
                    press: AnyPress = (press_files.read_deep_press if deep else press_files.read_press)(path)
                except HeightsError as error:
                    wrong.append(str(error))
                else:
                    found[press.id] = press
            return found, wrong

        def done(result: tuple[dict[str, AnyPress], list[str]]) -> None:
            found, wrong = result
            self._folder = {**found, **(self._folder or {})}
            for text in wrong[:3]:
                self._studio.say(f"In your folder of presses: {text}", "warning")
            self.changed.emit()

        self._studio.aside(read, done)

    # -- the press itself -----------------------------------------------------------------------

    def _state(self, key: str) -> tuple[str, object]:
        """What a press is kept ready under: another one once it has been edited."""
        if key.startswith(OWN):
            press = self.owned().get(key.removeprefix(OWN))
            return key, (press.edits, press.tiles) if isinstance(press, KeptPress) else None
        return key, None

    def found(self, key: str) -> Press | None:
        """A press that is ready, or None."""
        press = self._ready.get(self._state(key)) if key else None
        if press is not None:
            self._ready.move_to_end(self._state(key))
        return press

    def want(self, key: str) -> None:
        """Have a press ready soon."""
        if not key or self.found(key) is not None or key in self._making or not self.name_of(key):
            return
        self._making.add(key)
        state = self._state(key)
        work = self.maker(key)

        def make() -> Press | str:
            try:
                return work()
            except ValueError as error:
                return str(error)

        def done(result: Press | str) -> None:
            self._making.discard(key)
            if isinstance(result, str):
                self._wrong[key] = result
            else:
                self._wrong.pop(key, None)
                self._ready[state] = result
                while len(self._ready) > HELD:
                    self._ready.popitem(last=False)
            self.arrived.emit(key)
            if self._state(key) != state:
                self.want(key)

        self._studio.aside(make, done)

    def maker(self, key: str) -> Callable[[], Press]:
        """What makes a press, for another thread. Raises `KeyError` when there is none such."""
        if key.startswith(OWN):
            press = self.owned()[key.removeprefix(OWN)]
            if not isinstance(press, KeptPress):
                return lambda: deep_press(press.picture)
            return lambda: edited(press.picture, press.edits, press.tiles)
        entry = library()[key]
        return lambda: press_files.own_press(entry.key)

    def made(self, key: str) -> Press:
        """A press, at once: for tests, demos and work on other threads. Raises `KeyError` or `PressError`."""
        press = self.found(key)
        if press is None:
            press = self._ready[self._state(key)] = self.maker(key)()
        return press

    def blocked(self, tool: Tool, settings: BrushSettings) -> str:
        """Why a stroke with this tool's press cannot begin, or ""."""
        key = settings.tip.press
        if not key:
            return "Choose a press first: it is what this tool lays into the clay." if tool.presses else ""
        if self.found(key) is not None:
            return ""
        name = self.name_of(key)
        if not name:
            return "The press on the tip is not here any more: choose another, or take it off the tip."
        if key in self._wrong:
            return f"{name} cannot be used: {self._wrong[key]}"
        self.want(key)
        return f"{name} is being made; a moment."

    # -- small pictures -------------------------------------------------------------------------

    def picture(self, key: str) -> QImage | None:
        """The small picture of a press, if it is there; else it is made aside, and `arrived` tells."""
        if not self._sheet_cut:
            self._cut_sheet()
        state = self._state(key)
        image = self._pictures.get(state)
        if image is None and key not in self._making and self.name_of(key):
            self._making.add(key)
            work = self.maker(key)

            def make() -> U8 | None:
                try:
                    return shaded(work())
                except ValueError:
                    return None

            def done(pixels: U8 | None) -> None:
                self._making.discard(key)
                if pixels is not None:
                    high, wide = pixels.shape[:2]
                    made = QImage(pixels.tobytes(), wide, high, 3 * wide, QImage.Format.Format_RGB888)
                    self._pictures[state] = made.copy()
                    self.arrived.emit(key)

            self._studio.aside(make, done)
        return image

    def _cut_sheet(self) -> None:
        """Take the small pictures of our own presses from the sheet that comes along."""
        self._sheet_cut = True
        sheet = QImage(str(SHEET))
        for count, key in enumerate(library()):
            x, y = count % ACROSS * PICTURE, count // ACROSS * PICTURE
            if x + PICTURE <= sheet.width() and y + PICTURE <= sheet.height():
                self._pictures[key, None] = sheet.copy(x, y, PICTURE, PICTURE)

    # -- the user's folder ----------------------------------------------------------------------

    def keep_file(self, press: AnyPress) -> None:
        """Write a press into the user's folder, aside."""
        if self._folder is None:
            self.read_folder()
        assert self._folder is not None
        self._folder[press.id] = press
        folder = press_files.user_folder()

        def write() -> str:
            try:
                press_files.write_press(press, folder)
            except OSError as error:
                return f"{press.name} is kept with the project, but not in your folder of presses ({error.strerror})."
            return ""

        def done(wrong: Any) -> None:
            if wrong:
                self._studio.say(wrong, "warning")

        self._studio.aside(write, done)
        self.changed.emit()

    def drop_file(self, press_id: str) -> None:
        """Take a press out of the user's folder."""
        if self._folder is not None:
            self._folder.pop(press_id, None)
        press_files.forget_file(press_id)
        self.changed.emit()


STONE = (np.array([92.0, 84.0, 76.0]), np.array([214.0, 203.0, 188.0]))
"""The clay's colours in shade and in light."""


def shaded(press: Press, side: int = PICTURE, height: float = 0.05) -> U8:
    """A press as it looks in lit clay, (h, w, 3): `side` pixels along the longer side, so high against its width."""
    heights = press.level(max(press.heights.shape) / (2.0 * side))
    rows, columns = heights.shape
    share = side / max(rows, columns)
    gy, gx = np.gradient(heights * (height * max(rows, columns)))
    light: F32 = ((1.0 - 0.75 * gx - 0.75 * gy) / np.sqrt(1.0 + gx * gx + gy * gy)).astype(np.float32)
    deep = np.clip(0.80 + 0.20 * heights, 0.5, 1.0)
    lit = np.clip(0.10 + 0.52 * light * deep, 0.0, 1.0)
    high, wide = max(round(rows * share), 1), max(round(columns * share), 1)
    i, j = np.arange(high) * rows // high, np.arange(wide) * columns // wide
    small = np.add.reduceat(np.add.reduceat(lit, i, axis=0), j, axis=1)
    small /= np.add.reduceat(np.ones(rows), i)[:, None] * np.add.reduceat(np.ones(columns), j)[None]
    dark, pale = STONE
    return (dark + (pale - dark) * small[..., None]).astype(np.uint8)
