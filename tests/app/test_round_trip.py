"""The round trip in the real window: sent, changed elsewhere, taken back, by hand and by itself."""

from __future__ import annotations

import os
import time
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtWidgets import QPushButton

from kneten.app.benches.revise.trip_card import file_name, free_path
from kneten.app.shell.window import Window
from kneten.app.work import dialogs
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.scene import Part, Scene
from kneten.formats.exchange import write_file
from kneten.formats.pieces import Piece
from tests.app.windows import run, said, settle, steps
from tests.conftest import make_ball
from tests.formats.test_round_trip import figure, moved_text


def take(window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Part:
    monkeypatch.setattr(dialogs, "ask_folder", lambda *a: tmp_path)
    part = figure()
    window.studio.take(Project(Scene((part,))))
    window.studio.project.choose(part.id)
    window.choose_stage("Deliver")
    settle(window)
    return part


def until(window: Window, done) -> None:  # type: ignore[no-untyped-def]
    end = time.monotonic() + 60
    while not done() and time.monotonic() < end:
        settle(window)
    assert done()


def test_there_and_back(window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    part = take(window, tmp_path, monkeypatch)
    run(window, "trip.take")
    assert "was not sent out" in said(window)
    run(window, "trip.send")
    path = tmp_path / "Tarn, bust.obj"
    assert path.exists()
    assert "Level 0 is out as" in window.trip_card.state.text()
    run(window, "trip.take")
    assert "nothing has moved" in said(window)
    assert steps(window) == []
    before = part.mesh.positions.copy()
    moved_text(path, lambda at: at * [1.2, 1, 1])
    run(window, "trip.take")
    # All but those in the middle, which stay.
    assert "207 vertices have moved" in said(window)
    assert steps(window) == ["Take back Tarn, bust.obj"]
    now = window.studio.project.scene.part(part.id)
    assert np.ptp(now.mesh.positions[:, 0]) > 1.15 * np.ptp(before[:, 0])
    assert [layer.name for layer in now.stack.layers] == ["Pores"]
    run(window, "edit.undo")
    assert np.array_equal(window.studio.project.scene.part(part.id).mesh.positions, before)


@pytest.mark.parametrize("word", ["Mine", "Theirs", "Both"])
def test_clay_worked_on_meanwhile_is_asked_for(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, word: str
) -> None:
    part = take(window, tmp_path, monkeypatch)
    project = window.studio.project
    run(window, "trip.send")
    # What went out is known in a project that was saved and opened again.
    save_project(project, tmp_path / "p.kneten")
    (form,) = open_project(tmp_path / "p.kneten").scene.sent_forms
    assert (form.part, form.level, form.transform) == (part.id, 0, part.transform)
    path = tmp_path / "Tarn, bust.obj"
    moved_text(path, lambda at: at * [1.2, 1, 1])
    for _ in range(2):
        run(window, "level.down")
        settle(window)
    now = project.scene.part(part.id)
    project.move_vertices(
        part.id, now.mesh.positions + np.float32([0, 25, 0]) * (now.mesh.positions[:, 1:2] > 50), "Push"
    )
    mine = project.scene.part(part.id).mesh.positions.copy()
    count = len(steps(window))
    run(window, "trip.take")
    assert "moved both there and here" in said(window)
    assert len(steps(window)) == count
    assert np.array_equal(project.scene.part(part.id).mesh.positions, mine)
    (button,) = [b for n in window.notices.notices for b in n.findChildren(QPushButton) if b.text() == word]
    button.click()
    settle(window)
    got = project.scene.part(part.id).mesh.positions
    wide = np.ptp(got[:, 0]) > 1.1 * np.ptp(mine[:, 0])
    high = got[:, 1].max() > mine[:, 1].max() - 1
    assert (wide, high) == (word != "Mine", word != "Theirs")
    assert len(steps(window)) == count + (word != "Mine")
    if word != "Mine":
        run(window, "edit.undo")
        assert np.array_equal(project.scene.part(part.id).mesh.positions, mine)


def test_what_is_out_is_saved(window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    part = take(window, tmp_path, monkeypatch)
    run(window, "trip.send")
    save_project(window.studio.project, tmp_path / "p.kneten")
    (one,) = open_project(tmp_path / "p.kneten").settings.sent
    assert (one.part, one.level, one.path) == (part.id, 0, str(tmp_path / "Tarn, bust.obj"))


def test_a_new_base_gets_the_detail(window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    part = take(window, tmp_path, monkeypatch)
    run(window, "trip.send")
    positions, faces = make_ball(101.0, 10).source_arrays()
    write_file(tmp_path / "Tarn, bust.obj", [Piece("Tarn, bust", positions, faces)])
    run(window, "trip.take")
    project = window.studio.project
    new = project.active
    assert new.name == "Tarn, bust, new base"
    assert [layer.name for layer in new.stack.layers] == ["Pores"]
    assert not project.scene.part(part.id).visible
    assert steps(window) == ["Take back Tarn, bust.obj"]
    assert window.carry_card.source().id == part.id
    run(window, "edit.undo")
    assert len(project.scene.parts) == 1
    assert project.scene.part(part.id).visible


def test_a_watched_folder_does_it_by_itself(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    part = take(window, tmp_path, monkeypatch)
    run(window, "trip.watch")
    assert "Nothing was sent out" in said(window)
    run(window, "trip.send")
    run(window, "trip.watch")
    assert window.trip_card.watch.isChecked()
    path = tmp_path / "Tarn, bust.obj"
    moved_text(path, lambda at: at * [1, 1.3, 1])
    until(window, lambda: steps(window) == ["Take back Tarn, bust.obj"])
    tall = np.ptp(window.studio.project.scene.part(part.id).mesh.positions[:, 1])
    # Written to another file and put in its place, as careful programs do.
    beside = tmp_path / "beside.tmp"
    beside.write_text(path.read_text())
    moved_text(beside, lambda at: at * [1, 0.5, 1])
    os.replace(beside, path)
    until(window, lambda: len(steps(window)) == 2)
    assert np.ptp(window.studio.project.scene.part(part.id).mesh.positions[:, 1]) < 0.6 * tall
    # What cannot be read is told once, and changes nothing.
    path.write_text("v 1 2 3\nf 1 2 3\n")
    until(window, lambda: "Tarn, bust.obj:" in said(window))
    assert len(steps(window)) == 2
    run(window, "trip.watch")
    assert not window.trip_card.watch.isChecked()


def test_sending_again_does_not_take_it_back(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    take(window, tmp_path, monkeypatch)
    run(window, "trip.send")
    run(window, "trip.watch")
    run(window, "trip.send")
    (one,) = window.studio.project.settings.sent
    assert one.path == str(tmp_path / "Tarn, bust.obj")
    for _ in range(30):
        settle(window)
        time.sleep(0.03)
    assert steps(window) == []


def test_files_that_are_there_already_are_left_alone(tmp_path: Path) -> None:
    (tmp_path / "Hat.obj").write_text("another's")
    assert free_path(tmp_path, "Hat", ".obj", set(), "").name == "Hat 2.obj"
    assert free_path(tmp_path, "Hat", ".obj", set(), str(tmp_path / "Hat.obj")).name == "Hat.obj"
    assert free_path(tmp_path, "Cap", ".obj", {str(tmp_path / "Cap.obj")}, "").name == "Cap 2.obj"
    assert file_name("a/b: c?") == "a-b- c-"
    assert file_name(" . ") == "part"
