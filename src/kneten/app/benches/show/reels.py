"""The reel: the work played again as a film."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QMessageBox

from kneten.app.benches.show.asking import ReelDialog
from kneten.app.work import dialogs
from kneten.core.arrays import Progress
from kneten.core.light.reel import Reel
from kneten.document.reel import (
    Chapter,
    Player,
    chapter_of,
    chapters_in,
    forget_reel,
    own_reel,
    take_running,
)
from kneten.formats.pictures import write_film
from kneten.formats.pieces import FormatError
from kneten.render.filming import reel_frames
from kneten.render.still import StillError

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


class Reels:
    """Commands on the reel, and what it costs."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio

    # -- what there is --------------------------------------------------------------------------

    def kept(self) -> list[Chapter]:
        """The chapters of the project, from one save to the next."""
        reel = own_reel(self._studio.project)
        return [] if reel is None else chapters_in(reel)

    def running(self) -> Chapter | None:
        """What was done since the project was saved or begun."""
        journal = self._studio.journal
        return None if journal is None else chapter_of(journal.folder)

    def words(self) -> str:
        """What there is to play, and what keeping it costs."""
        kept, running = self.kept(), self.running()
        steps = sum(one.steps for one in kept) + (running.steps if running is not None else 0)
        milestones = len(self._studio.project.scene.milestones)
        mega = sum(one.nbytes for one in kept) / 1e6
        what = f"{steps:,} step{'s' * (steps != 1)}, {milestones} milestone{'s' * (milestones != 1)} to play."
        if not self._studio.project.settings.keeps_steps:
            return f"{what} Steps are forgotten when the project is saved."
        if not kept:
            return f"{what} They are kept when the project is saved."
        return f"{what} Those of earlier saves take {mega:,.1f} MB on this machine."

    # -- why not --------------------------------------------------------------------------------

    def nothing_kept(self) -> str:
        """Why nothing can be thrown away."""
        return "" if self.kept() else "No steps of earlier saves are kept."

    def nothing_to_play(self) -> str:
        """Why there is no reel."""
        if self._studio.project.scene.milestones or self.kept():
            return ""
        running = self.running()
        if running is not None and running.steps:
            return ""
        return "There is nothing to play yet: a reel shows the steps of the work."

    # -- commands -------------------------------------------------------------------------------

    def switch_keeping(self) -> None:
        """Keep the steps of later saves, or no more."""
        settings = self._studio.project.settings
        self._studio.project.change_settings(keeps_steps=not settings.keeps_steps)

    def forget(self) -> None:
        """Throw the steps of earlier saves away, after asking."""
        reel = own_reel(self._studio.project)
        if reel is None:
            return
        words = "The steps of earlier saves are thrown away. The clay stays as it is."
        if QMessageBox.question(self._desk, "Throw steps away", words) == QMessageBox.StandardButton.Yes:
            forget_reel(reel)
            self._studio.scene_changed.emit()

    def ask(self) -> None:
        """Ask how the work is to be played and for a file, and film that."""
        with dialogs.passing(ReelDialog(self._desk, self.words())) as dialog:
            if not dialog.exec():
                return
            path = dialogs.ask_film(self._desk, "Export a reel", "reel.webm")
            if path is not None:
                self.export(path, dialog.reel(), dialog.wide.value(), dialog.high.value())

    def export(self, path: Path, reel: Reel, width: int, height: int) -> None:
        """Write the reel, as the view or the camera that is looked through shows its end."""
        if not path.suffix:
            path = path.with_suffix(".webm")
        studio = self._studio
        try:
            reel.check()
        except ValueError as error:
            studio.say(str(error), "warning")
            return
        scene, camera, style = self._desk.files.asked()
        running = None
        if studio.journal is not None:
            # What is not saved yet goes on being written meanwhile.
            with contextlib.suppress(OSError):
                running = take_running(studio.journal.folder)
        chapters = [*self.kept(), *([running] if running is not None else [])]
        milestones = () if self.kept() else studio.project.scene.milestones

        def film(progress: Progress) -> tuple[int, list[str]] | str:
            player = Player(milestones, chapters)
            try:
                frames = reel_frames(player, scene, camera, reel, (width, height), style, progress)
                return write_film(path, frames, reel.pace), player.told
            except (FormatError, StillError) as error:
                return str(error)
            finally:
                if running is not None:
                    forget_reel(running.folder.parent)

        def written(found: tuple[int, list[str]] | str) -> None:
            if isinstance(found, str):
                studio.say(f"{found[0].upper()}{found[1:].rstrip('.')}.", "warning")
                return
            for words in found[1]:
                studio.say(words, "warning")
            studio.say(f"Exported {path.name}: {found[0]} pictures.")

        studio.start("Reel", film, written)
