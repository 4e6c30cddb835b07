"""Shapes as files: a series of whole faces out and in, and a corrected mesh taken back."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from kneten.app.work import dialogs
from kneten.core.arrays import F32, Progress
from kneten.core.pose.shapes import ShapeError
from kneten.document.driving import shapes_of
from kneten.document.scene import Part
from kneten.document.shapes import recorded_shape
from kneten.formats.exchange import read_pieces, usual_space
from kneten.formats.pieces import FormatError
from kneten.formats.series import ReadShape, bring_series, places_in, read_series, take_form, write_series
from kneten.formats.space import Space

if TYPE_CHECKING:
    from kneten.app.benches.perform.shaping import Shaping
    from kneten.app.view.desk import Desk


class ShapeFiles:
    """Commands that write and read shapes."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self._shaping: Shaping = desk.shaping

    def _face(self) -> list[Part]:
        """The parts that take part in the shapes of the part in hand, that first."""
        part, project = self._shaping.part, self._studio.project
        found = [] if part is None else [part.id]
        found += [key for one in self._shaping.shapes.values() for key in one.layers]
        return [project.scene.part(key) for key in dict.fromkeys(found)]

    def no_recorded(self) -> str:
        """Why no corrected mesh can be taken."""
        part = self._shaping.part
        if part is None:
            return "There is no part in hand."
        if not recorded_shape(part):
            return "No shape is recorded: record the one that is to keep the difference."
        return str(self._studio.stroke_blocked(part))

    def ask_to_export(self) -> None:
        """Ask for a folder, and write all shapes into it."""
        folder = dialogs.ask_folder(self._desk, "Export shapes into", str(Path.home()))
        if folder is not None:
            self.export(folder)

    def export(self, folder: Path, ending: str = ".obj") -> None:
        """Write the face with all dials at rest, and with each shape wholly there: a file for each."""
        studio, scene = self._studio, self._studio.project.scene
        parts = self._face()
        ids = [part.id for part in parts]

        def write(progress: Progress) -> int | str:
            try:
                return write_series(folder, scene, ids, Space(), ending, progress)
            except (FormatError, ShapeError) as error:
                return _sentence(error)

        def written(found: int | str) -> None:
            if isinstance(found, str):
                studio.say(found, "warning")
            else:
                studio.say(f"{folder.name} has {found} files now: the neutral face and {found - 1} shapes.")

        studio.start("Export shapes", write, written, parts)

    def ask_to_import(self) -> None:
        """Ask for files, and make a shape of each."""
        paths = dialogs.ask_open(self._desk, "Import shapes", projects=False)
        if paths:
            self.bring(paths)

    def bring(self, paths: list[Path]) -> None:
        """Make a shape of each file, by the order of its vertices."""
        studio = self._studio
        parts = self._face()

        def read(progress: Progress) -> list[ReadShape] | str:
            try:
                return read_series(paths, parts, None, progress)
            except FormatError as error:
                return _sentence(error)

        def arrived(found: list[ReadShape] | str) -> None:
            if isinstance(found, str) or not found:
                studio.say(found if isinstance(found, str) else "None of the files is a shape.", "warning")
                return
            made = bring_series(studio.project, found)
            held = shapes_of(studio.project.scene)
            self._shaping.choose(made[-1])
            names = ", ".join(held[key].name for key in made)
            studio.say(f"{len(made)} shape{'s' if len(made) != 1 else ''}, at rest: {names}.")

        studio.start("Import shapes", read, arrived, parts)

    def ask_to_take(self) -> None:
        """Ask for a corrected mesh, and have the recorded shape keep what it differs by."""
        paths = dialogs.ask_open(self._desk, "Take a corrected mesh", projects=False)
        if paths:
            self.take(paths[0])

    def take(self, path: Path) -> None:
        """Have the recorded shape bring the clay, as it is posed and dialled now, to where a file has it."""
        studio = self._studio
        parts = [part for part in self._face() if recorded_shape(part)]

        def read(progress: Progress) -> dict[str, F32] | str:
            try:
                places = places_in(read_pieces(path, progress).pieces, parts, usual_space(path))
            except FormatError as error:
                return _sentence(error)
            return places or f"{path.name}: nothing in it has as many vertices as {parts[0].name}."

        def arrived(found: dict[str, F32] | str) -> None:
            if isinstance(found, str):
                studio.say(found, "warning")
                return
            try:
                take_form(studio.project, found, f"Take {path.name}")
            except FormatError as error:
                studio.say(_sentence(error), "warning")

        studio.start("Take a corrected mesh", read, arrived, parts)


def _sentence(error: Exception) -> str:
    words = str(error)
    return f"{words[:1].upper()}{words[1:]}"
