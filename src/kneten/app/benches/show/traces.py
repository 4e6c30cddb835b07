"""Ray-traced pictures: begun, watched, paused, ended, saved, while one goes on sculpting."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtWidgets import QApplication

from kneten.app.work import dialogs
from kneten.app.work.picture_files import write_still
from kneten.core.arrays import Progress
from kneten.document.arrays_file import ProjectFileError
from kneten.formats.pictures import PICTURES
from kneten.formats.pieces import FormatError
from kneten.render.filming import finished
from kneten.render.handover import Order
from kneten.render.still import Still, StillError
from kneten.render.tracing import Refined, TraceError, Tracing

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

LOOK_AGAIN = 300
"""Milliseconds between two looks at what has been traced."""


class Traces(QObject):
    """Commands on ray-traced pictures; there is one at a time.

    Signals
    -------
    changed()
        The picture, or how far it is, is another.
    """

    changed = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self._studio = desk.studio
        self.width, self.samples, self.seed = 1280, 64, 0
        self.tracing: Tracing | None = None
        self.still: Still | None = None
        self.made_of = ""
        self._shown = Refined()
        self._developing = False
        self._timer = QTimer(self, interval=LOOK_AGAIN)
        self._timer.timeout.connect(self._look)
        app = QApplication.instance()
        assert app is not None
        app.aboutToQuit.connect(self.give_up)
        desk.studio.closing.connect(self.give_up)

    # -- what there is --------------------------------------------------------------------------

    @property
    def at_work(self) -> bool:
        """Whether a picture is being traced."""
        return self.tracing is not None

    @property
    def now(self) -> Refined:
        """How far it is."""
        return self.tracing.now if self.tracing is not None else self._shown

    def words(self) -> str:
        """How far it is, for the user."""
        now = self.now
        if self.tracing is None:
            return self.made_of or "No picture yet. It is traced from what the camera, or the view, shows."
        if now.samples == 0:
            return "The scene is handed over…"
        rests = ", resting" if self.tracing.paused else ""
        return f"{now.samples} of {self.tracing.order.samples} samples, {now.seconds:.0f} s{rests}"

    def no_start(self) -> str:
        """Why tracing cannot begin."""
        if self.tracing is not None:
            return "A picture is being traced: end it first."
        parts = self._studio.project.scene.parts
        return "" if any(part.visible for part in parts) else "There is no visible clay to be traced."

    def no_trace(self) -> str:
        """Why there is nothing to pause or end."""
        return "" if self.tracing is not None else "Nothing is being traced."

    def no_picture(self) -> str:
        """Why nothing can be saved."""
        return "" if self.still is not None else "There is no ray-traced picture yet."

    # -- commands -------------------------------------------------------------------------------

    def start(self) -> None:
        """Begin a picture of what there is now; later changes are not in it."""
        scene, camera, style = self._desk.files.asked()
        shot = self._desk.pictures.through
        view = self._desk.view
        aspect = view.width() / max(view.height(), 1) if shot is None else shot.aspect
        size = (self.width, max(round(self.width / aspect), 1))
        look = replace(style.look, kind="lit")
        style = finished(
            replace(style, look=look, clear_ground=False), scene, self._studio.project.settings.through
        )
        try:
            tracing = Tracing(scene, camera, style, Order(size, self.samples, self.seed))
        except (ValueError, OSError) as error:
            self._studio.say(str(error), "warning")
            return
        self.tracing, self.still, self.made_of, self._shown = tracing, None, "", Refined()

        def begin(progress: Progress) -> str:
            progress.report(0.1, "Handing over")
            try:
                tracing.begin()
            except (TraceError, StillError) as error:
                return str(error)
            return ""

        def begun(error: str) -> None:
            if error and self.tracing is tracing:
                self._drop(error)

        self._studio.start("Handing over to be traced", begin, begun)
        self._timer.start()
        self.changed.emit()

    def pause(self) -> None:
        """Let it rest, or go on."""
        assert self.tracing is not None
        self.tracing.pause(not self.tracing.paused)
        self.changed.emit()

    def enough(self) -> None:
        """End with what there is."""
        assert self.tracing is not None
        if self.tracing.now.samples:
            self.tracing.enough()
        else:
            self.cancel()

    def cancel(self) -> None:
        """Stop at once."""
        if self.tracing is not None:
            self._shown = self.tracing.now
            self._told()
            self.tracing.end()
            self.tracing = None
            self._timer.stop()
            self.changed.emit()

    def ask_save(self) -> None:
        """Ask for a file and write the picture."""
        kinds = f"Pictures ({' '.join(f'*{ending}' for ending in PICTURES)})"
        path = dialogs.ask_save(self._desk, "Save the ray-traced still", "ray-traced.png", kinds)
        if path is not None:
            self.save(path)

    def save(self, path: Path) -> None:
        """Write the picture as it is now."""
        still = self.still
        assert still is not None
        path = path if path.suffix else path.with_suffix(".png")

        def write(progress: Progress) -> str:
            try:
                write_still(path, still)
            except (FormatError, ProjectFileError) as error:
                return str(error)
            return ""

        def written(error: str) -> None:
            self._studio.say(error or f"Saved {path.name}.", "warning" if error else "")

        self._studio.start("Ray-traced still", write, written)

    # -- watching -------------------------------------------------------------------------------

    def _look(self) -> None:
        """Look what has been traced, and have it developed aside."""
        tracing = self.tracing
        if tracing is None:
            self._timer.stop()
            return
        if tracing.error:
            self._drop(tracing.error)
            return
        now = tracing.now
        fresh = now.picture is not None and now.picture is not self._shown.picture
        if fresh and not self._developing:
            self._develop(tracing, now)
        elif tracing.done and not fresh and not self._developing:
            for notice in tracing.notices:
                self._studio.say(f"{notice[0].upper()}{notice[1:]}.", "warning")
            self.cancel()
            return
        self.changed.emit()

    def _develop(self, tracing: Tracing, now: Refined) -> None:
        self._developing = True

        def develop() -> Still | str:
            try:
                return tracing.still(now)
            except StillError as error:
                return str(error)

        def seen(found: Still | str) -> None:
            self._developing = False
            if isinstance(found, str):
                self._drop(found)
                return
            self._shown = now
            if self.tracing is tracing or self.tracing is None:
                self.still = found
            self.changed.emit()

        self._studio.aside(develop, seen)

    def _told(self) -> None:
        """Keep the numbers that made the picture beside it."""
        tracing, now = self.tracing, self._shown
        if tracing is not None and now.samples:
            wide, high = tracing.order.size
            self.made_of = (
                f"{wide} x {high}, {now.samples} samples, seed {tracing.order.seed}, {now.seconds:.0f} s"
            )

    def _drop(self, error: str) -> None:
        """It has come to nothing: say why; what was seen of it stays."""
        self.cancel()
        self._studio.say(f"{error[0].upper()}{error[1:].rstrip('.')}.", "warning")

    def give_up(self) -> None:
        """End what is traced, and let go of what was: the window goes."""
        self._timer.stop()
        if self.tracing is not None:
            self.tracing.end()
        self.tracing = self.still = None
        self._shown = Refined()
