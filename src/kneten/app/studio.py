"""The running program behind the window: project, tool in hand, files, long work."""

from __future__ import annotations

import time
import traceback
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Qt, QTimer, Signal
from PySide6.QtWidgets import QApplication

from kneten.app.advisor import Advisor
from kneten.app.hands import with_keys
from kneten.app.jobs import Job
from kneten.app.live_density import LiveDensity
from kneten.app.preferences import Preferences, save_preferences
from kneten.core.arrays import Progress
from kneten.core.brushes.tool import BrushSettings, Tool
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.mesh import Mesh
from kneten.core.remesh import Forecast, forecast
from kneten.core.transform import Transform
from kneten.document.journal import Journal, Left, discard, recover
from kneten.document.project import Project
from kneten.document.project_file import ENDING, open_project, save_snapshot, snapshot
from kneten.document.scene import Part
from kneten.formats.exchange import Space, pieces_of, read_file, write_file

MOST_VERTICES = 40_000_000
"""Subdividing beyond this is refused: 4.4 GB of clay, undo not counted."""


class Studio(QObject):
    """What the window shows and commands act on.

    Signals
    -------
    project_changed()
        Another project is open.
    scene_changed(), clay_changed(), history_changed()
    hand_released()
    tool_changed()
    said(str, str)
        A notice and its kind (info, warning, error).
    advised(str, list)
        A notice with actions, each a name and a function.
    look_changed(bool)
        Whether it goes on changing.
    pressed()
        A pointer was pressed on the viewport.
    wanted(str)
        A pen's button asks for a command.
    job_started(Job)
    measured()
        A tape's length has become known.
    """

    project_changed = Signal()
    scene_changed = Signal()
    clay_changed = Signal()
    history_changed = Signal()
    tool_changed = Signal()
    hand_released = Signal()
    said = Signal(str, str)
    advised = Signal(str, list)
    look_changed = Signal(bool)
    pressed = Signal()
    wanted = Signal(str)
    job_started = Signal(object)
    measured = Signal()

    def __init__(self, preferences: Preferences) -> None:
        super().__init__()
        self.preferences = preferences
        self.project = Project()
        self.journal: Journal | None = None
        self.tool: Tool = TOOLS["raise"]
        self.ready = False
        self.stage = "Form"
        self.locked: set[str] = set()
        self.unmasked = False
        self.colour = (200, 180, 160)
        self.jobs: list[Job] = []
        self.own_tool: Callable[[str], Tool] = TOOLS.__getitem__
        self.advisor = Advisor(self)
        self.live = LiveDensity(self)
        self.subdivide: Callable[[], None] = lambda: None
        self.remesh_active: Callable[..., None] = lambda edge, count=None: None
        self.picture: Callable[[int, int], Callable[[], bytes]] = lambda width, height: lambda: b""
        self._journal_notice = ""
        self.closed = False
        self._aside = ThreadPoolExecutor(2, "aside")

    # -- projects -------------------------------------------------------------------------------

    def take(self, project: Project, journal_base: Path | None = None) -> None:
        """Work on another project; the old one's journal is closed."""
        if self.journal is not None:
            self.journal.close()
        self.project = project
        project.scene_changed.connect(self._scene_changed)
        project.clay_changed.connect(self._clay_changed)
        project.history_changed.connect(self._history_changed)
        try:
            self.journal = Journal(project)
            self.journal.start(journal_base)
        except OSError as error:
            project.recorder = None
            self.journal = None
            self.say(
                f"The journal cannot be written ({error.strerror}): save often, a crash would cost "
                "what you did since.",
                "warning",
            )
        self.project_changed.emit()
        self.scene_changed.emit()
        self.history_changed.emit()

    def _scene_changed(self) -> None:
        self.scene_changed.emit()

    def _clay_changed(self, part_id: str) -> None:
        self.advisor.stroke_made(self.project.scene.part(part_id))
        self.clay_changed.emit()

    def _history_changed(self) -> None:
        self.history_changed.emit()
        failed = self.journal.failed if self.journal is not None else ""
        if failed and failed != self._journal_notice:
            self.say(failed, "error")
        self._journal_notice = failed

    def open_path(self, path: Path, then: Callable[[], None] | None = None) -> None:
        """Open a project, or import any other file."""
        path = Path(path)
        if path.suffix.lower() == ENDING:

            def opened(project: Project) -> None:
                self.take(project, path)
                self._remember(path)
                if then:
                    then()

            self.start("Open", lambda progress: open_project(path, progress), opened)
        else:
            self.import_path(path, None, then)

    def _remember(self, path: Path) -> None:
        recent = [str(path), *(p for p in self.preferences.recent if p != str(path))]
        self.preferences.recent = recent[:12]
        save_preferences(self.preferences)

    def import_path(self, path: Path, space: Space | None, then: Callable[[], None] | None = None) -> None:
        """Add a file's objects as parts."""

        def arrived(result: tuple[list[tuple[str, Mesh, Transform]], list[str]]) -> None:
            pieces, notices = result
            self.project.add_meshes(f"Import {path.name}", pieces)
            for text in notices:
                self.say(text)
            if then:
                then()

        def read(progress: Progress) -> tuple[list[tuple[str, Mesh, Transform]], list[str]]:
            found = read_file(path, space, progress)
            self.journal_ahead([mesh for _, mesh, _ in found[0]])
            return found

        self.start("Import", read, arrived)

    def journal_ahead(self, meshes: list[Mesh]) -> None:
        """Write new clay to the journal before it comes into the scene; for workers."""
        if self.journal is not None:
            for mesh in meshes:
                self.journal.stage(mesh)

    def export_path(self, path: Path, parts: list[Part], space: Space, ascii_text: bool) -> None:
        """Write parts to a file of an open format."""
        pieces = pieces_of(parts, space)

        def written(notices: list[str]) -> None:
            for text in [*notices, f"Exported {path.name}."]:
                self.say(text)

        self.start("Export", lambda progress: write_file(path, pieces, ascii_text, progress), written)

    def save_path(self, path: Path, then: Callable[[], None] | None = None) -> None:
        """Save the project under a name, on another thread; later strokes wait for the next save."""
        if path.suffix.lower() != ENDING:
            path = path.with_name(path.name + ENDING)
        project = self.project
        picture = self.picture(480, 300)
        taken = snapshot(project)
        serial = project.history.serial

        def saved(_: object) -> None:
            project.path = path
            if project.history.serial == serial:
                project.unsaved = False
                self._restart_journal(path)
            # Strokes made while saving stay in the running journal, on the base they began with.
            self._remember(path)
            self.history_changed.emit()
            self.say(f"Saved {path.name}.")
            if then:
                then()

        def write(progress: Progress) -> None:
            data = picture()
            if data:
                taken.content.pictures["preview.png"] = data
            save_snapshot(path, taken, progress)

        self.start("Save", write, saved)

    def _restart_journal(self, path: Path) -> None:
        if self.journal is None:
            return
        try:
            self.journal.start(path)
        except OSError as error:
            self.say(f"The journal cannot be written ({error.strerror}). Save often.", "warning")

    def restore_left(self, left: Left) -> None:
        """Go on with the work a crash left."""

        def recovered(project: Project) -> None:
            self.take(project)
            discard(left)
            self.say("Your work is back, up to the last finished stroke. Save it when you are ready.")

        self.start("Restore", lambda progress: recover(left), recovered)

    # -- tool in hand ---------------------------------------------------------------------------

    def settings(self) -> BrushSettings:
        """How the tool in hand is held."""
        return self.preferences.settings(self.tool.key)

    def choose_tool(self, key: str) -> None:
        """Take another tool."""
        self.tool = self.own_tool(key) if key not in TOOLS else TOOLS[key]
        self.tool_changed.emit()

    def set_brush(self, **values: Any) -> None:
        """Hold the tool differently."""
        self.preferences.tools[self.tool.key] = replace(self.settings(), **values)
        self.tool_changed.emit()

    def held(self, keys: Qt.KeyboardModifier | None = None) -> tuple[Tool, BrushSettings]:
        """Tool and settings with what Ctrl (reverse) and Shift (smooth) do while held."""
        if keys is None:
            keys = QApplication.keyboardModifiers()
        reverse = bool(keys & Qt.KeyboardModifier.ControlModifier)
        if self.tool.changes or self.settings().kind == "line":
            # Shift softens a mask where it else would smooth the form, and snaps a straight line.
            smooth = self.preferences.settings("smooth")
            return with_keys(self.tool, self.settings(), TOOLS["smooth"], smooth, (reverse, False))
        smoothing = bool(keys & Qt.KeyboardModifier.ShiftModifier)
        smooth = self.preferences.settings("smooth")
        return with_keys(self.tool, self.settings(), TOOLS["smooth"], smooth, (reverse, smoothing))

    @property
    def softens(self) -> bool:
        """Whether a tool that paints a mask softens it now: while Shift is held."""
        shift = Qt.KeyboardModifier.ShiftModifier
        return self.tool.changes == "mask" and bool(QApplication.keyboardModifiers() & shift)

    @property
    def snaps(self) -> bool:
        """Whether straight lines snap to steps of 15 degrees now: while Shift is held."""
        return bool(QApplication.keyboardModifiers() & Qt.KeyboardModifier.ShiftModifier)

    def set_look(self, moving: bool = False, **values: Any) -> None:
        """Look at the clay differently; `moving` while a value is being dragged."""
        settings = self.project.settings
        settings.look = replace(settings.look, **values)
        if not moving:
            self.project.touch()
        self.look_changed.emit(moving)

    def pointer_pressed(self) -> None:
        """A pointer was pressed on the viewport."""
        self.pressed.emit()

    def before_stroke(self, part: Part, tool: Tool, ring: tuple[float, float] | None) -> None:
        """Say what should be known before a stroke; it is not held up.

        `ring` is the brush's radius and the edge length under it, where it is known.
        """
        used = [key for key in self.preferences.last_tools if key != tool.key]
        self.preferences.last_tools = [tool.key, *used][:6]
        self.advisor.before_stroke(part, tool, ring)

    @property
    def snap_length(self) -> float:
        """The step in millimetres that handles move in; 0 for none."""
        return self.preferences.snap_length

    def move_blocked(self, part: Part) -> str:
        """Why the part cannot be moved or changed now, or ""."""
        if part.id in self.locked:
            return f"{part.name} is being worked on; wait for it to finish, or cancel that."
        if part.locked:
            return f"{part.name} is locked; unlock it in the parts card first."
        return ""

    def stroke_blocked(self, part: Part) -> str:
        """Why the part cannot be sculpted now, or ""."""
        blocked = self.move_blocked(part)
        if not blocked and part.recipe is not None:
            return f"{part.name} is still made from its numbers. Bake it to clay (Ctrl+Return) to sculpt it."
        return blocked

    def hand_ended(self) -> None:
        """A pointer was released; the picture has followed it already."""
        self.hand_released.emit()

    # -- long work ------------------------------------------------------------------------------

    def say(self, text: str, kind: str = "info") -> None:
        """Put up a notice."""
        self.said.emit(text, kind)

    def start(
        self,
        name: str,
        work: Callable[[Progress], Any],
        done: Callable[[Any], None],
        resting: Sequence[Part] = (),
    ) -> Job:
        """Run work on another thread; `done` gets its result on this one. The `resting` parts are locked till then."""
        job = Job(name, work)
        project = self.project
        ids = {part.id for part in resting}
        self.locked |= ids

        def landed(result: Any) -> None:
            if self.project is not project:
                return
            # An undo may have taken a part away that this was for.
            if ids <= {part.id for part in self.project.scene.parts}:
                done(result)
            else:
                self.say(f"{name}: the part is gone; nothing was changed.")

        job.done.connect(self.receiver(landed), Qt.ConnectionType.QueuedConnection)
        job.failed.connect(self._failed, Qt.ConnectionType.QueuedConnection)
        job.ended.connect(self._job_ended, Qt.ConnectionType.QueuedConnection)
        if ids:
            # Connected before it begins: quick work may end before `start` returns.
            free = self.receiver(lambda _=None: self.locked.difference_update(ids))
            job.ended.connect(free, Qt.ConnectionType.QueuedConnection)
        self.jobs.append(job)
        self.job_started.emit(job)
        job.start()
        return job

    def aside(self, work: Callable[[], Any], done: Callable[[Any], None]) -> None:
        """Compute something small on another thread, unseen; `done` gets it on this one."""
        landing = _Landing(done, self)

        def run() -> None:
            try:
                landing.arrived.emit(work())
            except Exception:
                # Nothing waits for it; but it should not go unseen.
                traceback.print_exc()

        self._aside.submit(run)

    def receiver(self, run: Callable[[Any], None]) -> Callable[[Any], None]:
        """A slot that runs on this thread, for signals of workers."""
        # A plain function would run on the worker's thread; a method of a QObject of this thread
        # runs here.
        landing = _Landing(run, self)
        return landing.receive

    def _failed(self, text: str) -> None:
        self.say(text, "error")

    def _job_ended(self) -> None:
        self.jobs = [job for job in self.jobs if job is not self.sender()]

    def after(self, then: Callable[[], None]) -> None:
        """Run something as soon as no part rests any more."""
        if self.closed:
            return
        if self.locked:
            QTimer.singleShot(10, self, lambda: self.after(then))
        else:
            then()

    def wait(self, seconds: float = 60.0) -> None:
        """Let the window live until all long work has landed and no part rests any more."""
        end = time.monotonic() + seconds
        while (self.jobs or self.locked) and time.monotonic() < end:
            QApplication.processEvents()
            time.sleep(0.005)
        QApplication.processEvents()

    def work_on(
        self,
        parts: Sequence[Part],
        name: str,
        work: Callable[[Progress], Any],
        land: Callable[[Any], None],
    ) -> Job:
        """Long work on several parts, which rest until it has landed."""
        return self.start(name, work, land, parts)

    def rework(self, part: Part, name: str, work: Callable[[Progress], Mesh]) -> Job:
        """Replace a part's mesh by the result of long work; the part rests until then."""

        def made(progress: Progress) -> Mesh:
            mesh = work(progress)
            self.journal_ahead([mesh])
            return mesh

        def land(mesh: Mesh) -> None:
            was = part.recipe or part.was
            self.project.replace_mesh(part.id, mesh, f"{name} {part.name}", recipe=None, was=was)

        return self.start(name, made, land, [part])

    # -- density --------------------------------------------------------------------------------

    def forecast(self, part: Part, edge: float | None, count: int | None) -> Forecast:
        """What remeshing would give, from an edge length in the scene or a vertex count."""
        mesh, scale = part.mesh, part.transform.scale
        length = None if edge is None else edge / scale
        found = forecast(mesh.positions, mesh.topology.faces, length, count)
        return replace(found, edge=found.edge * scale)

    def close(self) -> None:
        """End on purpose: long work stops, the journal goes."""
        self.closed = True
        for job in self.jobs:
            job.cancel()
        for job in self.jobs:
            job.join()
        self._aside.shutdown(cancel_futures=True)
        save_preferences(self.preferences)
        if self.journal is not None:
            self.journal.close()


class _Landing(QObject):
    arrived = Signal(object)

    def __init__(self, run: Callable[[Any], None], studio: Studio) -> None:
        super().__init__(studio)
        self._run = run
        self._studio = studio
        self.arrived.connect(self.receive, Qt.ConnectionType.QueuedConnection)

    def receive(self, result: Any = None) -> None:
        # What arrives after the window has gone has nowhere to be shown.
        if not self._studio.closed:
            self._run(result)
        self.deleteLater()
