"""Ways in which work could be lost, each tried through the window."""

from __future__ import annotations

import gc
import struct
import threading
import time
import weakref
import zipfile
import zlib
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from kneten.app.shell.welcome import preview_of
from kneten.app.shell.window import Window
from kneten.app.view import viewport
from kneten.app.work import dialogs
from kneten.app.work.preferences import Preferences
from kneten.core.arrays import Progress
from kneten.core.loose import LooseMesh
from kneten.core.mesh import Mesh
from kneten.document.blocking import copy
from kneten.document.placing import resize
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.recovery import left_journals
from kneten.document.reel import chapters_in, own_reel
from kneten.document.scene import Part, Scene
from kneten.document.things import Reference
from kneten.render import parts as drawn_parts
from tests.app.windows import LEFT, NONE, clay, drag, middle, run, said, send, settle, steps, until
from tests.conftest import make_ball


def stroke(window: Window, off: float = 0.0) -> None:
    x, y = middle(window)
    drag(window, [(x, y + off), (x + 30, y + off)])


def killed(window: Window) -> None:
    """As if the process had been killed here: its journal is nobody's any more."""
    journal = window.studio.journal
    assert journal is not None
    (journal.folder / "owner").write_text("1 gone")


# -- restoring ----------------------------------------------------------------------------------


def test_a_crash_after_restoring_loses_nothing(window: Window) -> None:
    stroke(window)
    wanted = clay(window).copy()
    for _ in range(3):
        killed(window)
        (left,) = left_journals()
        window.studio.restore_left(left)
        settle(window)
        assert np.array_equal(clay(window), wanted)
        assert not left.folder.exists()


def test_on_a_full_disk_what_was_left_stays(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    stroke(window)
    wanted = clay(window).copy()
    killed(window)
    window.studio.journal = None
    (left,) = left_journals()

    def full(*_: object, **__: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("kneten.document.record.RecordFile.append", full)
    window.studio.restore_left(left)
    settle(window)
    assert np.array_equal(clay(window), wanted)
    assert left.folder.exists()
    assert "is kept until you have saved it" in said(window)
    monkeypatch.undo()
    # As soon as there is room, the journal is written by itself.
    window.studio._mend()
    assert window.studio.journal is not None
    window.studio.save_path(left.folder.parent.parent / "saved.kneten")
    settle(window)
    assert not left.folder.exists()


def test_left_sessions_are_told_apart_and_do_not_touch_what_is_open(window: Window) -> None:
    stroke(window)
    killed(window)
    window.studio.journal = None
    window.studio.take(Project(Scene((Part("Other", make_ball(50.0, 12)),))))
    window.studio.project.title = "Second"
    window.studio.project.rename(window.studio.project.scene.parts[0].id, "Tail")
    killed(window)
    window.studio.journal = None
    window.studio.take(Project(Scene((Part("Open", make_ball(50.0, 12)),))))
    window.studio.project.rename(window.studio.project.scene.parts[0].id, "Precious")
    window.offer_left_work()
    until(lambda: said(window).count("can be restored") == 2)
    answers = []
    window.studio.ask_unsaved = lambda: answers.append(1) or "stay"
    for left in left_journals():
        window.studio.restore_left(left)
        settle(window)
    assert len(answers) == 2
    assert window.studio.project.scene.parts[0].name == "Precious"
    assert len(left_journals()) == 2


# -- other projects -----------------------------------------------------------------------------


def test_strokes_made_while_a_project_loads_are_asked_about(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    other = tmp_path / "other.kneten"
    save_project(Project(Scene((Part("Other", make_ball(50.0, 12)),))), other)
    go = threading.Event()

    def slow(path: Path, progress: Progress) -> Project:
        go.wait(20)
        return open_project(path, progress)

    monkeypatch.setattr("kneten.app.work.studio.open_project", slow)
    asked = []
    window.studio.ask_unsaved = lambda: asked.append(1) or "stay"
    window.studio.open_path(other)
    stroke(window)
    mine = clay(window).copy()
    go.set()
    settle(window)
    assert len(asked) == 1
    assert np.array_equal(clay(window), mine)
    assert steps(window) == ["Raise on Ball"]


@pytest.mark.parametrize("how", ["open", "demo", "new", "restore"])
def test_unsaved_work_is_asked_about(window: Window, tmp_path: Path, how: str) -> None:
    other = tmp_path / "other.kneten"
    save_project(Project(Scene((Part("Other", make_ball(50.0, 12)),))), other)
    left = None
    if how == "restore":
        stroke(window)
        killed(window)
        window.studio.journal = None
        (left,) = left_journals()
        window.studio.take(Project(Scene((Part("Ball", make_ball(100.0, 48)),))))
    stroke(window)
    project = window.studio.project
    window.studio.ask_unsaved = lambda: "stay"
    ways = {
        "open": lambda: window.files.open_paths([other]),
        "demo": lambda: window.files.open_demo("tarns-head"),
        "new": window.files.new_project,
        "restore": lambda: window.studio.restore_left(left),
    }
    ways[how]()
    settle(window)
    assert window.studio.project is project
    assert window.studio.journal is not None
    assert window.studio.journal.folder.exists()


# -- settings -----------------------------------------------------------------------------------


def test_settings_changed_during_a_save_are_not_counted_as_saved(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    go = threading.Event()
    real = window.studio.save_path.__globals__["save_snapshot"]
    monkeypatch.setitem(
        window.studio.save_path.__globals__, "save_snapshot", lambda *a: (go.wait(20), real(*a))
    )
    stroke(window)
    path = tmp_path / "work.kneten"
    window.studio.save_path(path)
    window.studio.set_look(kind="matcap")
    window.registry.run("form.symmetry-y")
    window.guides.show()
    window.studio.project.change_settings(brief="old and tired")
    go.set()
    settle(window)
    assert window.studio.project.unsaved
    killed(window)
    (left,) = left_journals()
    window.studio.restore_left(left)
    settle(window)
    held = window.studio.project.settings
    assert (held.look.kind, held.brief, held.show_guides) == ("matcap", "old and tired", False)
    assert held.symmetry[1]


def test_switching_symmetry_is_a_change(window: Window, tmp_path: Path) -> None:
    window.studio.save_path(tmp_path / "a.kneten")
    settle(window)
    assert not window.studio.project.unsaved
    window.registry.run("form.symmetry-z")
    assert window.studio.project.unsaved
    window.studio.save_path(tmp_path / "a.kneten")
    settle(window)
    assert open_project(tmp_path / "a.kneten").settings.symmetry[2]


# -- trials -------------------------------------------------------------------------------------


def deforming(window: Window) -> None:
    """A deformer whose amount is being dragged."""
    card = window.deform_card
    card.kind.setCurrentIndex(card.kind.findData("taper"))
    card._show_kind()
    card.amount.set_value(0.4 * card.amount.high)
    card.preview()


def recorded(window: Window) -> None:
    """A layer with something on it."""
    run(window, "layer.add")
    stroke(window)
    settle(window)


def dialling(window: Window) -> None:
    """A layer whose strength is being dragged."""
    layer = window.levels.chosen
    assert layer is not None
    window.levels.dial(layer.id, 0.3)


TRIALS = {"deform": deforming, "dial": dialling}


@pytest.mark.parametrize("kind", list(TRIALS))
@pytest.mark.parametrize("key", ["edit.undo", "edit.redo", "edit.milestone", "file.save", "layer.add"])
def test_what_is_only_tried_is_never_saved_undone_or_built_upon(
    window: Window, tmp_path: Path, kind: str, key: str
) -> None:
    window.studio.project.path = tmp_path / "a.kneten"
    if kind == "dial":
        recorded(window)
    stroke(window, 60)
    stroke(window, 90)
    run(window, "edit.undo")
    whole = clay(window).copy()
    TRIALS[kind](window)
    assert not np.array_equal(clay(window), whole)
    n = len(steps(window))
    run(window, key)
    if key in ("edit.undo", "edit.redo"):
        back = {"edit.undo": "edit.redo", "edit.redo": "edit.undo"}[key]
        assert len(steps(window)) == (n - 1 if key == "edit.undo" else n + 1)
        run(window, back)
        assert len(steps(window)) == n
    assert np.array_equal(clay(window), whole)
    if key == "file.save":
        assert np.array_equal(open_project(tmp_path / "a.kneten").scene.parts[0].mesh.positions, whole)
    if key == "edit.milestone":
        until(lambda: window.studio.project.scene.milestones)
        assert np.array_equal(window.studio.project.scene.milestones[0].parts[0].positions, whole)
    # What the hand goes on with begins from what is there now.
    if kind == "deform":
        window.deform_card.keep()
    elif window.levels.chosen is not None:
        window.levels.keep_dial(window.levels.chosen.id, 1.0)
    assert np.array_equal(clay(window), whole)


def test_a_mode_that_is_broken_off_puts_the_clay_back(window: Window) -> None:
    whole = clay(window).copy()
    deforming(window)
    window.deform_card.put_back()
    run(window, "form.deform")
    mode = window.view.mode
    assert mode is not None
    x, y = mode.pixels(mode._points())[2]
    drag(window, [(float(x), float(y)), (float(x) + 60, float(y))], release=False)
    assert not np.array_equal(clay(window), whole)
    window.view.cancel_hand()
    assert np.array_equal(clay(window), whole)
    assert steps(window) == []


def test_undo_while_the_pointer_is_pressed_takes_back_the_stroke_alone(window: Window) -> None:
    stroke(window, 60)
    whole = clay(window).copy()
    x, y = middle(window)
    drag(window, [(x, y), (x + 30, y)], release=False)
    window.registry.run("file.save-as")
    assert "let go first" in said(window)
    window.registry.run("edit.redo")
    window.registry.run("edit.undo")
    settle(window)
    assert np.array_equal(clay(window), whole)
    assert steps(window) == ["Raise on Ball"]


def test_another_buttons_release_does_not_end_a_stroke(window: Window) -> None:
    x, y = middle(window)
    drag(window, [(x, y), (x + 20, y)], release=False)
    send(window, QEvent.Type.MouseButtonRelease, x + 20, y, Qt.MouseButton.RightButton, NONE)
    QApplication.processEvents()
    assert window.view.at_work
    assert steps(window) == []
    send(window, QEvent.Type.MouseButtonRelease, x + 20, y, LEFT, NONE)
    settle(window)
    assert steps(window) == ["Raise on Ball"]


def test_a_packed_copy_is_written_beside_the_project(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    stroke(window)
    window.studio.save_path(tmp_path / "work.kneten")
    settle(window)
    stroke(window, 20)
    monkeypatch.setattr(dialogs, "ask_save", lambda *a, **k: tmp_path / "small")
    window.registry.run("file.save-packed")
    settle(window)
    assert "Packed small.kneten" in said(window)
    # It is a copy: the project goes on as it was.
    assert window.studio.project.path == tmp_path / "work.kneten"
    assert window.studio.project.unsaved
    copied = open_project(tmp_path / "small.kneten")
    assert np.array_equal(copied.scene.parts[0].mesh.positions, clay(window))
    assert preview_of(tmp_path / "small.kneten").startswith(b"\x89PNG")
    before = (tmp_path / "work.kneten").read_bytes()
    monkeypatch.setattr(dialogs, "ask_save", lambda *a, **k: tmp_path / "work.kneten")
    window.registry.run("file.save-packed")
    settle(window)
    assert "another name" in said(window)
    assert (tmp_path / "work.kneten").read_bytes() == before


# -- long work ----------------------------------------------------------------------------------


def held_job(window: Window, part: Part) -> threading.Event:
    """Work on a part that goes on until the event is set, and then gives it a coarser mesh."""
    go = threading.Event()

    def work(progress: Progress) -> Mesh:
        go.wait(20)
        return make_ball(90.0, 10)

    window.studio.rework(part, "Coarsen", work)
    return go


def test_nothing_reaches_the_clay_that_is_worked_on(window: Window) -> None:
    stroke(window)
    project = window.studio.project
    part = project.scene.parts[0]
    copy(project, [part], linked=True, way=np.array([0.0, 0.0, 1.0]))
    linked = project.scene.parts[1]
    project.choose(linked.id)
    settle(window)
    go = held_job(window, project.scene.parts[0])
    before = clay(window).copy()
    # Neither a stroke on the linked copy, nor undo, nor a second piece of work.
    stroke(window)
    window.registry.run("edit.undo")
    window.registry.run("density.subdivide")
    assert "being worked on" in said(window)
    assert np.array_equal(clay(window), before)
    assert steps(window) == ["Raise on Ball", "Link Ball"]
    go.set()
    settle(window)
    assert steps(window) == ["Raise on Ball", "Link Ball", "Coarsen Ball"]
    assert project.scene.parts[0].mesh is project.scene.parts[1].mesh
    assert not window.studio.locked


def test_two_pieces_of_work_on_one_part_free_it_together(window: Window) -> None:
    part = window.studio.project.scene.parts[0]
    first, second = threading.Event(), threading.Event()
    for event in (first, second):
        window.studio.start("Look", lambda progress, event=event: event.wait(20), lambda _: None, [part])
    first.set()
    until(lambda: len(window.studio.jobs) == 1)
    assert window.studio.is_at_work(part)
    second.set()
    settle(window)
    assert not window.studio.is_at_work(part)


def test_a_result_for_clay_that_has_changed_is_refused(window: Window) -> None:
    project = window.studio.project
    part = project.scene.parts[0]
    go = held_job(window, part)
    project.move_vertices(part.id, part.mesh.positions * np.float32(1.01), "Grow")
    moved = clay(window).copy()
    go.set()
    settle(window)
    assert "has changed meanwhile" in said(window)
    assert np.array_equal(clay(window), moved)
    assert steps(window) == ["Grow"]


def test_a_landing_that_fails_leaves_everything_as_it_was(window: Window) -> None:
    stroke(window)
    stroke(window, 40)
    run(window, "edit.undo")
    project = window.studio.project
    before, names = clay(window).copy(), project.history.names()

    def land(_: object) -> None:
        part = project.scene.parts[0]
        project.rename(part.id, "Half")
        project.move_vertices(part.id, part.mesh.positions * np.float32(2), "Half")
        raise RuntimeError("the rest is missing")

    window.studio.start("Try", lambda progress: 1, land)
    settle(window)
    assert "the rest is missing" in said(window)
    assert np.array_equal(clay(window), before)
    assert project.scene.parts[0].name == "Ball"
    assert project.history.names() == names
    run(window, "edit.redo")
    assert len(steps(window)) == 2
    assert len(window.studio.mishaps) == 1
    window.studio.mishaps.clear()


def test_a_command_that_fails_is_taken_back_and_told(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    project = window.studio.project

    def half() -> None:
        project.rename(project.scene.parts[0].id, "Half")
        raise RuntimeError("broken off")

    command = window.registry.commands["parts.sort"]
    monkeypatch.setitem(
        window.registry.commands, "parts.sort", type(command)(**{**vars(command), "run": half})
    )
    window.registry.run("parts.sort")
    assert "Sort by name went wrong" in said(window)
    assert project.scene.parts[0].name == "Ball"
    window.studio.mishaps.clear()


def test_work_that_is_cancelled_or_fails_lets_everything_go(window: Window) -> None:
    from kneten.app.work.studio import _Landing

    def count() -> int:
        return len([child for child in window.studio.children() if isinstance(child, _Landing)])

    part = window.studio.project.scene.parts[0]
    for _ in range(6):
        job = window.studio.rework(
            part, "Wait", lambda progress: [progress.report(0.1) for _ in iter(int, 1)]
        )
        job.cancel()
        settle(window)
        window.studio.start("Fail", lambda progress: 1 / 0, lambda _: None)
        settle(window)
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    assert count() == 0
    assert not window.studio.jobs


def test_a_part_that_cannot_be_prepared_is_told_and_left_out(
    window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    real = drawn_parts.prepare

    def fails(mesh: Mesh) -> object:
        if mesh.n_vertices > 60_000:
            raise MemoryError("no room")
        return real(mesh)

    monkeypatch.setattr(drawn_parts, "prepare", fails)
    window.studio.project.add_meshes(
        "Add", [("Large", make_ball(60.0, 110), Part("x", make_ball()).transform)]
    )
    settle(window)
    assert "Drawing Large went wrong" in said(window)
    window.studio.mishaps.clear()


# -- linked copies, loose clay, pictures --------------------------------------------------------


def test_uneven_handles_on_linked_copies_act_once(window: Window) -> None:
    project = window.studio.project
    part = project.scene.parts[0]
    copy(project, [part], linked=True, way=np.array([0.0, 0.0, -300.0]))
    project.choose_all(p.id for p in project.scene.parts)
    before = project.scene.parts[0].bounds()
    n = len(steps(window))
    resize(project, project.chosen, (1.0, 1.5, 1.0))
    low, high = project.scene.parts[0].bounds()
    assert high[1] - low[1] == pytest.approx(1.5 * (before[1][1] - before[0][1]), rel=1e-3)
    assert high[0] - low[0] == pytest.approx(before[1][0] - before[0][0], rel=1e-3)
    assert len(steps(window)) == n + 1
    run(window, "edit.undo")
    assert np.allclose(project.scene.parts[0].bounds(), before)


def test_masked_loose_clay_is_taken_back(window: Window) -> None:
    run(window, "edit.milestone")
    until(lambda: window.studio.project.scene.milestones)
    before = clay(window).copy()
    run(window, "density.live")
    stroke(window)
    assert isinstance(window.studio.project.scene.parts[0].mesh, LooseMesh)
    run(window, "mask.invert")
    run(window, "milestone.take-masked")
    now = window.studio.project.scene.parts[0].mesh
    assert not isinstance(now, LooseMesh)
    assert "Take back" in steps(window)[-1]
    assert np.abs(np.linalg.norm(now.positions, axis=1).max() - np.linalg.norm(before, axis=1).max()) < 0.5


def test_pictures_taken_off_the_board_leave_the_file_and_come_back_with_undo(
    window: Window, tmp_path: Path
) -> None:
    image = QImage(60, 40, QImage.Format.Format_RGB32)
    image.fill(0x336699)
    picture = tmp_path / "sketch.png"
    image.save(str(picture))
    window.references.add_files([picture])
    settle(window)
    project = window.studio.project
    path = tmp_path / "a.kneten"
    project.change("Take off", replace(project.scene, references=()))
    window.studio.save_path(path)
    settle(window)
    with zipfile.ZipFile(path) as archive:
        assert not [name for name in archive.namelist() if name.startswith("references/")]
    run(window, "edit.undo")
    # The journal began with a file that has it no longer.
    killed(window)
    (left,) = left_journals()
    window.studio.restore_left(left)
    settle(window)
    (reference,) = window.studio.project.scene.references
    assert window.studio.project.settings.originals[reference.picture] == picture.read_bytes()


def test_a_picture_of_gigapixels_is_grey_and_holds_nothing_up(window: Window) -> None:
    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = struct.pack(">IIBBBBB", 50_000, 50_000, 8, 2, 0, 0, 0)
    data = (
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", head)
        + chunk(b"IDAT", zlib.compress(bytes(9000)))
        + chunk(b"IEND", b"")
    )
    project = window.studio.project
    project.change_settings(originals={"big.png": data})
    project.change("Add", replace(project.scene, references=(Reference("Big", "big.png"),)))
    began = time.process_time()
    shown = window.references.image(project.scene.references[0])
    assert time.process_time() - began < 1.0
    assert 1 <= shown.width() <= 4096
    settle(window)


def test_a_closed_window_goes_with_its_clay(window: Window, qtbot: QtBot) -> None:
    other = Window(Preferences(still=True))
    other.show()
    qtbot.waitExposed(other)
    other.studio.take(Project(Scene((Part("Ball", make_ball(100.0, 24)),))))
    settle(other)
    held = [weakref.ref(one) for one in (other, other.studio, other.studio.project)]
    other.studio.project.unsaved = False
    buffers = other.view.renderer.shelf  # type: ignore[union-attr]
    other.close()
    assert not other.view.panes
    assert not buffers._drawn
    other.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    QApplication.processEvents()
    del other, buffers
    gc.collect()
    assert [one() for one in held] == [None, None, None]


def test_a_project_that_is_left_is_let_go_with_what_was_offered_on_it(window: Window) -> None:
    studio = window.studio
    copy(studio.project, studio.project.scene.parts, way=np.array([30.0, 0.0, 0.0]))
    window.registry.run("parts.meeting")
    settle(window)
    assert any(notice.of_project for notice in window.notices.notices)
    left = weakref.ref(studio.project)
    studio.take(Project(Scene((Part("New", make_ball(50.0, 8), mesh_id="new"),))))
    settle(window)
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    assert not any(notice.of_project for notice in window.notices.notices)
    gc.collect()
    assert left() is None


def test_what_would_be_too_small_to_work_on_is_told_and_not_done(window: Window) -> None:
    project = window.studio.project
    part = project.active
    tiny = replace(part, mesh=part.mesh.with_positions(part.mesh.positions * np.float32(1e-7)))
    project.change("Tiny", project.scene.with_part(tiny))
    before = project.scene
    window.registry.run("measure.mannequin")
    window.studio.wait(60)
    settle(window)
    assert "too small" in said(window)
    assert project.scene is before
    assert not window.studio.mishaps


# -- strokes that come fast after each other ----------------------------------------------------------


def at_once(window: Window, lines: list[list[tuple[float, float]]], button: Qt.MouseButton = LEFT) -> None:
    """Strokes whose events all come before the window has worked off the first of them."""
    for line in lines:
        send(window, QEvent.Type.MouseButtonPress, *line[0], button, NONE)
        for x, y in line[1:]:
            send(window, QEvent.Type.MouseMove, x, y, button, NONE)
        send(window, QEvent.Type.MouseButtonRelease, *line[-1], button, NONE)


def test_a_stroke_that_begins_while_the_last_is_worked_off_is_not_lost(
    window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    window.studio.project.change_settings(symmetry=(False, False, False))
    x, y = middle(window)
    lines = [[(x - 80 + 10 * k, y + dy) for k in range(8)] for dy in (-90, 0, 90)]
    before = clay(window).copy()
    # One by one: what each does.
    alone = []
    for line in lines:
        drag(window, line, events=1)
        settle(window)
        alone.append(np.linalg.norm(clay(window) - before, axis=1) > 1e-4)
        run(window, "edit.undo")
    monkeypatch.setattr(viewport, "BUDGET", -1.0)
    at_once(window, lines)
    assert window.view.at_work
    until(lambda: not window.view.at_work and not window.view._next)
    monkeypatch.undo()
    settle(window)
    assert steps(window)[-3:] == ["Raise on Ball"] * 3
    moved = np.linalg.norm(clay(window) - before, axis=1) > 1e-4
    assert np.array_equal(moved, alone[0] | alone[1] | alone[2])
    for _ in range(3):
        run(window, "edit.undo")
    assert np.array_equal(clay(window), before)


def test_a_stroke_that_waits_goes_with_the_one_that_is_broken_off(
    window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    x, y = middle(window)
    before = clay(window).copy()
    monkeypatch.setattr(viewport, "BUDGET", -1.0)
    at_once(window, [[(x - 60, y), (x, y), (x + 60, y)], [(x - 60, y + 60), (x + 60, y + 60)]])
    window.view.cancel_hand()
    monkeypatch.undo()
    settle(window)
    assert not window.view.at_work
    assert np.array_equal(clay(window), before)
    # A second button beside the pressed one begins nothing.
    send(window, QEvent.Type.MouseButtonPress, x, y, LEFT, NONE)
    send(window, QEvent.Type.MouseButtonPress, x, y, Qt.MouseButton.RightButton, NONE)
    assert not window.view._next
    send(window, QEvent.Type.MouseButtonRelease, x, y, LEFT, NONE)
    settle(window)


def test_the_reel_tells_of_restored_work_once_it_is_saved(window: Window, tmp_path: Path) -> None:
    def chapters() -> list[int]:
        reel = own_reel(window.studio.project)
        return [] if reel is None else [one.steps for one in chapters_in(reel)]

    def crashed_and_restored() -> None:
        killed(window)
        window.studio.journal = None
        (left,) = left_journals()
        window.studio.restore_left(left)
        settle(window)

    path = tmp_path / "work.kneten"
    stroke(window)
    window.studio.save_path(path)
    settle(window)
    assert chapters() == [1]
    stroke(window)
    stroke(window)
    crashed_and_restored()
    # Not before it is saved: it may still be left.
    assert chapters() == [1]
    stroke(window)
    window.studio.save_path(path)
    settle(window)
    assert chapters() == [1, 2, 1]
    # What is restored and left unsaved is not told.
    stroke(window)
    crashed_and_restored()
    reel = own_reel(window.studio.project)
    assert reel is not None
    assert len(list(reel.iterdir())) == 4
    window.studio.take(Project(Scene((Part("Other", make_ball(50.0, 12)),))))
    assert [one.steps for one in chapters_in(reel)] == [1, 2, 1]
    assert len(list(reel.iterdir())) == 3
