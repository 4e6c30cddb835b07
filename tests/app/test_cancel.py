"""Whatever changes the density can be cancelled: the project is as it was, and goes on."""

from __future__ import annotations

import gc
import threading
import weakref
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QEvent
from PySide6.QtWidgets import QApplication

from kneten.app.shell.window import Window
from kneten.app.work import dialogs
from kneten.app.work.jobs import Job
from kneten.core.arrays import Progress
from kneten.core.stack import Stack
from kneten.core.subdivide import subdivide
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from tests.app.windows import run, settle, steps, until
from tests.conftest import make_ball
from tests.formats.test_round_trip import moved_text

GO = Progress()

LONG = (
    "density.subdivide",
    "density.remesh",
    "density.decimate-run",
    "density.decimate-preview",
    "density.decimate-error",
    "level.down",
    "level.delete-below",
    "level.rebuild",
    "layer.mirror",
    "health.examine",
    "carry.run",
    "carry.deviation",
    "trip.send",
    "trip.take",
    "parts.fuse",
)


def take(window: Window, key: str) -> Part:
    """A part of two levels with a layer, in hand, and another in the same place."""
    mesh = make_ball(60.0, 40)
    stack, mesh = Stack.of(mesh).added(mesh, GO)
    if key == "level.rebuild":
        stack, mesh = None, subdivide(make_ball(60.0, 40), GO)
    parts = (Part("Old", make_ball(61.0, 60)), Part("New", mesh, stack=stack))
    window.studio.take(Project(Scene(parts)))
    window.studio.project.choose(parts[1].id)
    window.density_card.count.set_value(20_000)
    window.density_card._lead(True)
    window.carry_card.choose(parts[0].id, 5.0, 1)
    settle(window)
    return parts[1]


def cancelled_at_once(job: Job) -> None:
    """Cancelled before its first report."""
    job.cancel()
    job._thread.start()


def cancelled_at_last(job: Job) -> None:
    """Cancelled when all of it is worked out."""
    work = job._work

    def to_the_end(progress: Progress) -> object:
        result = work(progress)
        job.cancel()
        return result

    job._work = to_the_end
    job._thread.start()


@pytest.mark.parametrize(
    ("key", "start"),
    [
        *((key, cancelled_at_once) for key in LONG),
        *((key, cancelled_at_last) for key in ("level.down", "carry.run", "trip.send", "trip.take")),
    ],
)
def test_cancelled_work_changes_nothing(
    window: Window,
    key: str,
    start: Callable[[Job], None],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    part = take(window, key)
    project = window.studio.project
    monkeypatch.setattr(dialogs, "ask_folder", lambda *a: tmp_path)
    if key == "layer.mirror":
        run(window, "layer.add")
        project.move_vertices(part.id, project.active.mesh.positions * np.float32(1.01), "Swell")
    if key == "trip.take":
        run(window, "trip.send")
        moved_text(tmp_path / "New.obj", lambda at: at * 1.1)
    before, done = project.scene, list(steps(window))
    held = [one.mesh.positions.copy() for one in before.parts]
    with monkeypatch.context() as patch:
        patch.setattr(Job, "start", start)
        window.registry.run(key)
        assert window.studio.jobs, "it is long work"
        settle(window)
    assert not window.studio.locked
    assert steps(window) == done
    assert project.scene is before
    for one, positions in zip(project.scene.parts, held, strict=True):
        assert np.array_equal(one.mesh.positions, positions)
    if key == "trip.send":
        # Either the file is whole, or it is not there.
        assert not list(tmp_path.glob(".*"))
    # The part is free again: what was cancelled can be done after all.
    run(window, "density.subdivide")
    assert "Subdivide New" in steps(window)


@pytest.mark.parametrize("closed", [False, True])
def test_work_that_has_ended_is_let_go(window: Window, closed: bool) -> None:
    asked = threading.Event()
    shown = []

    def work(progress: Progress) -> None:
        while not asked.wait(0.01):
            progress.report(0.5, "Going on")

    job = window.studio.start("Long work", work, shown.append)
    assert isinstance(job, Job)
    # Long enough for a notice with its progress.
    until(lambda: any("Long work" in notice.text for notice in window.notices.notices))
    if closed:
        window.studio.close()
    else:
        asked.set()
        settle(window)
        until(lambda: not any("Long work" in notice.text for notice in window.notices.notices))
        assert shown == [None]
        assert not window.studio.jobs
    held = weakref.ref(job)
    del job

    def gone() -> bool:
        QApplication.processEvents()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        gc.collect()
        return held() is None

    until(gone)
