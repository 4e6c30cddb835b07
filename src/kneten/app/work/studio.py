"""The running program behind the window: project, tool in hand, files, long work."""

from __future__ import annotations

import contextlib
import time
import traceback
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import Any, Protocol

from PySide6.QtCore import QObject, Qt, QTimer, Signal
from PySide6.QtWidgets import QApplication

from kneten.app.work.advisor import Advisor
from kneten.app.work.held_keys import with_keys
from kneten.app.work.jobs import Job
from kneten.app.work.live_density import LiveDensity
from kneten.app.work.losses import Reshapes, foretold
from kneten.app.work.preferences import Preferences, save_preferences
from kneten.app.work.press_shelf import PressShelf
from kneten.app.work.workshop import Workshop
from kneten.core.arrays import Progress
from kneten.core.brushes.tool import BrushSettings, Tool
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.mesh import Mesh
from kneten.core.paint.reading import OverClay
from kneten.core.remesh import Forecast, forecast
from kneten.core.warm import STROKE
from kneten.document.journal import Journal
from kneten.document.project import Project, UnusableError
from kneten.document.project_file import ENDING, open_project, save_snapshot, snapshot
from kneten.document.recovery import Left, claim, discard, recover, release
from kneten.document.reel import (
    count_in,
    forget_aside,
    forget_reel,
    keep_chapter,
    name_reel,
    own_reel,
    set_aside,
)
from kneten.document.scene import Part
from kneten.formats.exchange import Taken, bring, pieces_of, read_rigged, with_maps, with_skins, write_file
from kneten.formats.space import Space

DEEP_NEEDS = 6000
"""Vertices under the brush below which a deep press comes out stepped."""

AT_WORK = "{} is being worked on; wait for it to finish, or cancel that."

PAUSE = 60.0
"""Seconds before the same word of advice is given again."""

MEND = 3000
"""Milliseconds after which writing the journal is tried again: a disk that was full may have room by then."""

MOST_VERTICES = 40_000_000
"""Subdividing beyond this is refused: 4.4 GB of clay, undo not counted."""


class Studio(Workshop):
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
    left_found(list)
        What crashes have left (`Left`), to be offered.
    closing()
        The window goes: what runs for it ends.

    Attributes
    ----------
    mishaps : list of Exception
        What went wrong that should not have; each was told and changed nothing.
    """

    project_changed = Signal()
    scene_changed = Signal()
    clay_changed = Signal()
    history_changed = Signal()
    tool_changed = Signal()
    ink_changed = Signal()
    hand_released = Signal()
    said = Signal(str, str)
    advised = Signal(str, list)
    look_changed = Signal(bool)
    pressed = Signal()
    wanted = Signal(str)
    job_started = Signal(object)
    measured = Signal()
    left_found = Signal(list)
    closing = Signal()

    def __init__(self, preferences: Preferences) -> None:
        super().__init__()
        self.preferences = preferences
        self.project = Project()
        self.journal: Journal | None = None
        self.tool: Tool = TOOLS["raise"]
        self.warm: set[str] | None = set()
        self.stage = "Form"
        self._locks: Counter[str] = Counter()
        self.mishaps: list[BaseException] = []
        self._told: dict[str, float] = {}
        self.ask_unsaved: Callable[[], str] = lambda: "stay"
        self.save_first: Callable[[Callable[[], object]], object] = lambda then: None
        self.at_work: Callable[[], bool] = lambda: False
        self._left: Left | None = None
        self._regained = ""
        self.unmasked = False
        self.soft_reach = 0.0
        self.jobs: list[Job] = []
        self.own_tool: Callable[[str], Tool] = TOOLS.__getitem__
        self.brush_by: BrushBy | None = None
        self.advisor = Advisor(self)
        self.live = LiveDensity(self)
        self.presses = PressShelf(self)
        self.subdivide: Callable[[], None] = lambda: None
        self.remesh_active: Callable[..., None] = lambda edge, count=None: None
        self.picture: Callable[[int, int], Callable[[], bytes]] = lambda width, height: lambda: b""
        self._journal_notice = ""
        self._mending = QTimer(self)
        self._mending.setInterval(MEND)
        self._mending.timeout.connect(self._mend)
        self.closed = False
        self._aside = ThreadPoolExecutor(2, "aside")

    # -- kernels --------------------------------------------------------------------------------

    @property
    def ready(self) -> bool:
        """Whether a first stroke can be made: what it needs is compiled."""
        return self.is_warm(STROKE)

    @ready.setter
    def ready(self, on: bool) -> None:
        self.warm = None if on else set()

    @property
    def all_ready(self) -> bool:
        """Whether everything is compiled."""
        return self.warm is None

    def is_warm(self, steps: Iterable[str]) -> bool:
        """Whether these steps of `core.warm` are done; what is not would be compiled under the user's hand."""
        return self.warm is None or self.warm.issuperset(steps)

    # -- projects -------------------------------------------------------------------------------

    def take(self, project: Project, journal_base: Path | None = None) -> None:
        """Work on another project; the old one's journal is closed once the new one's stands."""
        for job in self.jobs:
            if job.part_ids:
                job.cancel()
        self._forget_regained()
        before = self.journal
        self.project = project
        project.scene_changed.connect(self._scene_changed)
        project.clay_changed.connect(self._clay_changed)
        project.history_changed.connect(self._history_changed)
        if self._left is not None:
            # What was left by a crash and restored, but is not saved yet, is offered again.
            release(self._left)
            self._left = None
        self.journal = None
        self._begin_journal(journal_base)
        if before is not None:
            before.close()
        self.project_changed.emit()
        self.scene_changed.emit()
        self.history_changed.emit()

    def _forget_regained(self) -> None:
        """What was restored is left unsaved: the reel does not tell of it."""
        reel = own_reel(self.project)
        if self._regained and reel is not None:
            forget_aside(reel, self._regained)
        self._regained = ""

    def _begin_journal(self, base: Path | None) -> None:
        journal = None
        try:
            journal = Journal(self.project)
            journal.start(base)
            self.journal = journal
            self._mending.stop()
        except OSError as error:
            if journal is not None:
                journal.close()
            self.project.recorder = None
            self._tell_journal(
                f"The journal cannot be written ({error.strerror}): save often, a crash would cost "
                "what you did since."
            )

    def _tell_journal(self, text: str) -> None:
        """Say that a crash would cost work, once; go on trying to mend it."""
        if text and not self._mending.isActive():
            self._mending.start()
        if text and text != self._journal_notice:
            self.say(text, "error")
        self._journal_notice = text

    def _mend(self) -> None:
        """Try again to write what the journal owes."""
        if self.at_work():
            return
        if self.journal is None:
            self._begin_journal(None)
            mended = self.journal is not None
        else:
            mended = self.journal.mend()
        if mended:
            self._mending.stop()
            self._journal_notice = ""
            self.say("The journal can be written again: your work is safe from a crash.")

    def _scene_changed(self) -> None:
        self.advisor.watch_recording()
        self.scene_changed.emit()

    def _clay_changed(self, part_id: str) -> None:
        self.advisor.stroke_made(self.project.scene.part(part_id))
        self.clay_changed.emit()

    def _history_changed(self) -> None:
        self.history_changed.emit()
        if self.journal is not None:
            self._tell_journal(self.journal.failed)

    def unless_unsaved(
        self, go_on: Callable[[], object], otherwise: Callable[[], object] = lambda: None
    ) -> None:
        """Go on at once, or after asking what to do with unsaved work; `otherwise` when it is to stay."""
        if not self.project.unsaved:
            go_on()
            return
        answer = self.ask_unsaved()
        if answer == "save":
            # What is done while it is being saved is unsaved again.
            self.save_first(lambda: self.unless_unsaved(go_on, otherwise))
        elif answer == "discard":
            go_on()
        else:
            otherwise()

    def exchange(
        self,
        name: str,
        load: Callable[[Progress], Any],
        take: Callable[[Any], object],
        otherwise: Callable[[], object] = lambda: None,
    ) -> None:
        """Load another project aside and take it; unsaved work, also what is done meanwhile, is asked about first."""

        def begin() -> None:
            project, serial = self.project, self.project.serial

            def arrived(loaded: Any) -> None:
                if self.at_work():
                    QTimer.singleShot(50, self, lambda: arrived(loaded))
                elif self.project is not project or project.serial != serial:
                    self.unless_unsaved(lambda: take(loaded), otherwise)
                else:
                    take(loaded)

            self.start(name, load, arrived)

        self.unless_unsaved(begin, otherwise)

    def open_path(self, path: Path, then: Callable[[], object] | None = None) -> None:
        """Open a project, or import any other file."""
        path = Path(path)
        if path.suffix.lower() == ENDING:

            def opened(project: Project) -> None:
                self.take(project, path)
                self._remember(path)
                if then:
                    then()

            self.exchange("Open", lambda progress: open_project(path, progress), opened)
        else:
            self.import_path(path, None, then)

    def _remember(self, path: Path) -> None:
        recent = [str(path), *(p for p in self.preferences.recent if p != str(path))]
        self.preferences.recent = recent[:12]
        save_preferences(self.preferences)

    def import_path(self, path: Path, space: Space | None, then: Callable[[], object] | None = None) -> None:
        """Add a file's objects as parts."""

        def arrived(result: tuple[list[Taken], list[str]]) -> None:
            taken, notices = result
            bring(self.project, taken, f"Import {path.name}")
            for text in notices:
                self.say(text)
            if then:
                then()

        def read(progress: Progress) -> tuple[list[Taken], list[str]]:
            found = read_rigged(path, space, progress)
            self.journal_ahead([one.mesh for one in found[0]])
            return found

        self.start("Import", read, arrived)

    def journal_ahead(self, meshes: list[Mesh]) -> None:
        """Write new clay to the journal before it comes into the scene; for workers."""
        if self.journal is not None:
            for mesh in meshes:
                self.journal.stage(mesh)

    def export_path(
        self, path: Path, parts: list[Part], space: Space, ascii_text: bool, packed: bool = False
    ) -> None:
        """Write parts to a file of an open format."""
        pieces, scene = pieces_of(parts, space), self.project.scene
        # Clay may be changed meanwhile.
        held = [replace(part, mesh=part.mesh.copy()) if part.stack is not None else part for part in parts]

        def written(notices: list[str]) -> None:
            for text in [*notices, f"Exported {path.name}."]:
                self.say(text)

        def write(progress: Progress) -> list[str]:
            dressed = with_maps(path, with_skins(path, pieces, held, scene, space), held, scene)
            return write_file(path, dressed, ascii_text, progress, space, packed)

        self.start("Export", write, written)

    def save_path(self, path: Path, then: Callable[[], object] | None = None) -> None:
        """Save the project under a name, on another thread; later strokes wait for the next save."""
        if path.suffix.lower() != ENDING:
            path = path.with_name(path.name + ENDING)
        project = self.project
        picture = self.picture(480, 300)
        name_reel(project, path)
        taken = snapshot(project)
        serial = project.serial

        def saved(_: object) -> None:
            if project.saved_as(path, serial):
                self._restart_journal(path)
            # What was done while saving stays in the running journal, on the base that began with.
            if self._left is not None:
                discard(self._left)
                self._left = None
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
            self._begin_journal(path)
            return
        reel, chapter = own_reel(self.project), None
        if reel is not None:
            with contextlib.suppress(OSError):
                if self._regained:
                    count_in(reel, self._regained)
                    self._regained = ""
            # A reel is not the work: where it cannot be kept, the work goes on.
            with contextlib.suppress(OSError):
                chapter = keep_chapter(self.journal.folder, reel)
        try:
            self.journal.start(path)
            self._tell_journal("")
            self._mending.stop()
        except OSError:
            # The record that runs still holds everything, whatever it began with: its steps are kept with it, not twice.
            if chapter is not None:
                forget_reel(chapter)
            self._tell_journal(self.journal.failed)

    def restore_left(self, left: Left) -> None:
        """Go on with the work a crash left; it is kept until what was restored is durably written itself."""
        told: list[str] = []

        def load(progress: Progress) -> Project:
            claim(left)
            try:
                return recover(left, told)
            except BaseException:
                release(left)
                raise

        def recovered(project: Project) -> None:
            self.take(project)
            reel = own_reel(project)
            if reel is not None:
                # What led there is told by the reel as well, once the work is saved.
                with contextlib.suppress(OSError):
                    self._regained = set_aside(left.folder, reel)
            for text in told:
                self.say(text, "warning")
            if self.journal is not None:
                discard(left)
                self.say("Your work is back, up to the last finished stroke. Save it when you are ready.")
            else:
                self._left = left
                self.say(
                    "Your work is back. What the crash left is kept until you have saved it: save it now."
                )

        def stays() -> None:
            release(left)
            self.left_found.emit([left])

        self.exchange("Restore", load, recovered, stays)

    # -- tool in hand ---------------------------------------------------------------------------

    def settings(self) -> BrushSettings:
        """How the tool in hand is held."""
        return self.preferences.settings(self.tool.key)

    def choose_tool(self, key: str) -> None:
        """Take another tool."""
        self.tool = self.own_tool(key) if key not in TOOLS else TOOLS[key]
        self.presses.want(self.settings().tip.press)
        self.tool_changed.emit()

    def set_brush(self, **values: Any) -> None:
        """Hold the tool differently."""
        self.preferences.hold(self.tool.key, replace(self.settings(), **values))
        self.presses.want(self.settings().tip.press)
        self.tool_changed.emit()

    def set_tip(self, **values: Any) -> None:
        """Hold the press on the tool's tip differently."""
        self.set_brush(tip=replace(self.settings().tip, **values))

    def share(self, group: str, on: bool) -> None:
        """Have all tools share a group of settings, a key of `SHARED`, or each hold its own."""
        self.preferences.share(group, on, self.settings())
        self.tool_changed.emit()

    def held(self, keys: Qt.KeyboardModifier | None = None) -> tuple[Tool, BrushSettings]:
        """Tool and settings with what Ctrl (reverse) and Shift (smooth) do while held."""
        if keys is None:
            keys = QApplication.keyboardModifiers()
        reverse = bool(keys & Qt.KeyboardModifier.ControlModifier)
        if self.tool.changes or self.settings().kind == "line":
            # Shift softens a mask, and blends colours, where it else would smooth the form, and snaps a straight line.
            smooth = self.preferences.settings("smooth")
            return with_keys(self.tool, self.settings(), TOOLS["smooth"], smooth, (reverse, False))
        smoothing = bool(keys & Qt.KeyboardModifier.ShiftModifier)
        smooth = self.preferences.settings("smooth")
        return with_keys(self.tool, self.settings(), TOOLS["smooth"], smooth, (reverse, smoothing))

    @property
    def softens(self) -> bool:
        """Whether a tool that paints a mask softens it now, or one that paints colours blends them: while Shift is held."""
        shift = Qt.KeyboardModifier.ShiftModifier
        return self.tool.changes in ("mask", "paint") and bool(QApplication.keyboardModifiers() & shift)

    @property
    def snaps(self) -> bool:
        """Whether straight lines snap to steps of 15 degrees now: while Shift is held."""
        return bool(QApplication.keyboardModifiers() & Qt.KeyboardModifier.ShiftModifier)

    def set_look(self, moving: bool = False, **values: Any) -> None:
        """Look at the clay differently; `moving` while a value is being dragged."""
        look = replace(self.project.settings.look, **values)
        if moving:
            self.project.try_settings(look=look)
        else:
            self.project.change_settings(look=look)
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
        press = self.presses.found(self.settings().tip.press) if tool.presses else None
        if press is not None and press.aside is not None:
            # What hangs over lies several times over itself.
            tool = replace(tool, needs=DEEP_NEEDS)
        self.advisor.before_stroke(part, tool, ring)

    @property
    def snap_length(self) -> float:
        """The step in millimetres that handles move in; 0 for none."""
        return self.preferences.snap_length

    def move_blocked(self, part: Part) -> str:
        """Why the part cannot be moved or changed now, or ""."""
        if self.is_at_work(part):
            return AT_WORK.format(part.name)
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

    def refuse(self, why: object) -> None:
        """Say why something was not done, as a sentence."""
        words = str(why).rstrip(".")
        self.say(f"{words[:1].upper()}{words[1:]}.", "warning")

    def say_now_and_then(self, key: str, text: str, kind: str = "info") -> None:
        """Put up a notice, but not the one of this key again within a minute."""
        now = time.monotonic()
        if now - self._told.get(key, float("-inf")) > PAUSE:
            self._told[key] = now
            self.say(text, kind)

    @property
    def locked(self) -> set[str]:
        """Ids of the parts that rest because of long work."""
        return set(self._locks)

    def is_at_work(self, part: Part) -> bool:
        """Whether long work is under way on a part, or on a linked copy of it."""
        if not self._locks:
            return False
        same = (other.id for other in self.project.scene.parts if other.mesh_id == part.mesh_id)
        return part.id in self._locks or any(key in self._locks for key in same)

    def any_at_work(self, part_ids: Iterable[str]) -> str:
        """What to say when long work is under way on any of these parts, or ""."""
        wanted = set(part_ids)
        for part in self.project.scene.parts:
            if part.id in wanted and self.is_at_work(part):
                return AT_WORK.format(part.name)
        return ""

    def start(
        self,
        name: str,
        work: Callable[[Progress], Any],
        done: Callable[[Any], object],
        resting: Sequence[Part] = (),
        reshapes: Reshapes = "",
    ) -> Job:
        """Run work on another thread; `done` gets its result on this one, all or nothing.

        The `resting` parts and their linked copies are locked till then. Should their clay be another by then all the
        same, the result is refused. With `reshapes` they will have another mesh, and say whether
        paint stays on its layers: what cannot go along is said before.
        """
        if reshapes and (words := foretold(name, resting, reshapes)):
            self.say(words, "warning")
        project = self.project
        shared = {part.mesh_id for part in resting}
        ids = {part.id for part in project.scene.parts if part.mesh_id in shared}
        ids |= {part.id for part in resting}
        job = Job(name, work, frozenset(ids))
        self._locks.update(ids)
        asked = {part.id for part in resting}
        found = {part.id: _state_of(part) for part in project.scene.parts if part.id in asked}

        def landed(result: Any) -> None:
            if self.project is not project:
                return
            now = {part.id: part for part in project.scene.parts}
            if not found.keys() <= now.keys():
                # An undo may have taken a part away that this was for.
                self.say(f"{name}: the part is gone; nothing was changed.")
                return
            other = [now[key].name for key, state in found.items() if _state_of(now[key]) != state]
            if other:
                self.say(
                    f"{name}: {other[0]} has changed meanwhile; nothing was done. Do it again.", "warning"
                )
                return
            try:
                with project.all_or_nothing():
                    done(result)
            except Exception as error:
                self.broke(name, error)

        landing = _Landing(landed, self)
        job.done.connect(landing.receive, Qt.ConnectionType.QueuedConnection)
        job.failed.connect(self._failed, Qt.ConnectionType.QueuedConnection)
        job.ended.connect(self._job_ended, Qt.ConnectionType.QueuedConnection)
        # Connected before it begins: quick work may end before `start` returns.
        job.ended.connect(landing.over, Qt.ConnectionType.QueuedConnection)
        self.jobs.append(job)
        self.job_started.emit(job)
        job.start()
        return job

    def broke(self, what: str, error: BaseException) -> None:
        """Tell that something went wrong that should not have; whatever it was about is as it was."""
        if isinstance(error, UnusableError):
            # Nothing is wrong with the program: what was asked for cannot be.
            self.say(f"{what}: {error}. Nothing was changed.", "warning")
            return
        traceback.print_exception(error)
        self.mishaps.append(error)
        reason = str(error).strip().rstrip(".") or type(error).__name__
        self.say(f"{what} went wrong and was taken back: {reason}. Your work is as it was.", "error")

    def aside(self, work: Callable[[], Any], done: Callable[[Any], object]) -> None:
        """Compute something small on another thread, unseen; `done` gets it on this one. Nothing once the window has gone."""
        if self.closed:
            return
        landing = _Landing(done, self)

        def run() -> None:
            try:
                landing.arrived.emit(work())
            except Exception:
                # Nothing waits for it; but it should not go unseen.
                traceback.print_exc()
                landing.nothing.emit()

        self._aside.submit(run)

    def _failed(self, text: str) -> None:
        self.say(text, "error")

    def _job_ended(self) -> None:
        for job in [job for job in self.jobs if job is self.sender()]:
            self.jobs.remove(job)
            self._locks -= Counter(job.part_ids)
            # Its thread has told everyone by then: only now may what was told be the last of it.
            job.join()
            job.let_go()

    def after(self, then: Callable[[], object]) -> None:
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
        land: Callable[[Any], object],
        reshapes: Reshapes = "",
    ) -> Job:
        """Long work on several parts, which rest until it has landed."""
        return self.start(name, work, land, parts, reshapes)

    def rework(self, part: Part, name: str, work: Callable[[Progress], Mesh]) -> Job:
        """Replace a part's mesh by the result of long work; the part rests until then."""

        def made(progress: Progress) -> Mesh:
            mesh = work(progress)
            self.journal_ahead([mesh])
            return mesh

        def land(mesh: Mesh) -> None:
            was = part.recipe or part.was
            self.project.replace_mesh(part.id, mesh, f"{name} {part.name}", recipe=None, was=was)

        return self.start(name, made, land, [part], "drops")

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
        self.closing.emit()
        for job in self.jobs:
            job.cancel()
        for job in self.jobs:
            job.join()
            job.let_go()
        self.jobs.clear()
        self._mending.stop()
        self._aside.shutdown(cancel_futures=True)
        self._forget_regained()
        if self._left is not None:
            release(self._left)
        save_preferences(self.preferences)
        if self.journal is not None:
            self.journal.close()


def _state_of(part: Part) -> tuple[object, ...]:
    """What must be the same for work on a part's clay to be still about it."""
    mesh = part.mesh
    return (mesh, mesh.topology.uid, mesh.shape_version, mesh.values_version, part.stack)


class BrushBy(Protocol):
    """What says what the tool Paint lays, instead of the colour in hand alone."""

    def over(self, part: Part) -> OverClay | None:
        """What is laid on a part; None for the colour in hand. Raises `StackError` when that is not known yet."""

    def brush_words(self) -> tuple[str, str]:
        """What the pointer does by it, and what that means; empty while it does nothing."""


class _Landing(QObject):
    """Brings a result to the window's thread: a method of a QObject of this thread runs here."""

    arrived = Signal(object)
    nothing = Signal()

    def __init__(self, run: Callable[[Any], object], studio: Studio) -> None:
        super().__init__(studio)
        self._run: Callable[[Any], object] | None = run
        self._studio = studio
        self.arrived.connect(self.receive, Qt.ConnectionType.QueuedConnection)
        self.nothing.connect(self.over, Qt.ConnectionType.QueuedConnection)

    def receive(self, result: Any = None) -> None:
        """Use the result, once."""
        run, self._run = self._run, None
        # What arrives after the window has gone has nowhere to be shown.
        if run is not None and not self._studio.closed:
            try:
                run(result)
            except Exception as error:
                self._studio.broke("Something", error)
        self.deleteLater()

    def over(self) -> None:
        """Nothing (more) will arrive: let go of what waited for it."""
        self._run = None
        self.deleteLater()
