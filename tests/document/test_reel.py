"""The work played again from what journals kept."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.document import reel as reels
from kneten.document.journal import Journal
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.reel import (
    Player,
    chapter_of,
    chapters_in,
    forget_reel,
    keep_chapter,
    name_reel,
    own_reel,
    steps_of,
    take_running,
)
from kneten.document.scene import Part, Scene


@pytest.fixture(autouse=True)
def own_state(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("KNETEN_STATE", str(tmp_path / "state"))


def small() -> Project:
    return Project(Scene((Part("Ball", Mesh.from_faces(*ball(100.0, 24))),)))


def moved(project: Project, by: float) -> np.ndarray:
    """All vertices moved by so much; where they are then."""
    part = project.scene.parts[0]
    project.move_vertices(part.id, part.mesh.positions + np.float32(by), "Move")
    return part.mesh.positions.copy()


def test_each_step_is_played_as_it_was() -> None:
    project = small()
    journal = Journal(project)
    journal.start(None)
    states = [moved(project, by) for by in (1.0, 2.0, 3.0)]
    project.undo()
    player = Player((), [chapter_of(journal.folder)])
    assert player.steps == 4
    for step, state in enumerate([*states, states[1]], 1):
        parts = player.parts_at(step)
        assert np.array_equal(parts[0].mesh.positions, state)
        assert np.isfinite(parts[0].mesh.normals).all()
    assert player.told == []
    journal.close()


def test_what_changes_nothing_one_sees_is_no_step() -> None:
    project = small()
    journal = Journal(project)
    journal.start(None)
    project.keep_milestone("First", b"png")
    project.change_settings(brief="an otter")
    assert steps_of(journal.folder) == 0
    project.rename(project.scene.parts[0].id, "Bust")
    assert steps_of(journal.folder) == 1


def test_saves_make_chapters_that_play_one_behind_the_other(tmp_path: Path) -> None:
    project = small()
    journal = Journal(project)
    journal.start(None)
    states = []
    for number in range(3):
        states += [moved(project, float(number + 1)), moved(project, 0.5)]
        path = tmp_path / "work.kneten"
        name_reel(project, path)
        save_project(project, path)
        reel = own_reel(project)
        assert reel is not None
        keep_chapter(journal.folder, reel)
        project.saved_as(path, project.serial)
        journal.start(path)
    assert [one.steps for one in chapters_in(reel)] == [2, 2, 2]
    assert open_project(path).settings.reel == project.settings.reel
    mesh = Mesh.from_faces(*ball(60.0, 12))
    other = mesh.positions.copy()
    project.replace_mesh(project.scene.parts[0].id, mesh, "Other clay")
    running = take_running(journal.folder)
    assert running is not None
    # It goes on being written while it is played.
    moved(project, 9.0)
    player = Player((), [*chapters_in(reel), running])
    assert player.steps == 7
    for step, state in enumerate(states, 1):
        assert np.allclose(player.parts_at(step)[0].mesh.positions, state)
    assert np.allclose(player.parts_at(7)[0].mesh.positions, other)
    assert player.told == []
    journal.close()


def test_another_name_has_chapters_of_its_own(tmp_path: Path) -> None:
    project = small()
    journal = Journal(project)
    journal.start(None)
    moved(project, 1.0)
    project.path = tmp_path / "one.kneten"
    name_reel(project, project.path)
    first = own_reel(project)
    assert first is not None
    keep_chapter(journal.folder, first)
    name_reel(project, tmp_path / "two.kneten")
    other = own_reel(project)
    assert other is not None
    assert other != first
    forget_reel(first)
    assert [one.steps for one in chapters_in(other)] == [1]
    project.change_settings(keeps_steps=False)
    assert own_reel(project) is None
    journal.close()


def test_the_oldest_go_where_there_is_no_room(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    project = small()
    journal = Journal(project)
    journal.start(None)
    reel = tmp_path / "reel"
    for by in (1.0, 2.0, 3.0):
        moved(project, by)
        keep_chapter(journal.folder, reel)
        journal.start(None)
    assert [one.steps for one in chapters_in(reel)] == [1, 1, 1]
    monkeypatch.setattr(reels, "MOST_BYTES", chapters_in(reel)[-1].nbytes)
    moved(project, 4.0)
    moved(project, 5.0)
    keep_chapter(journal.folder, reel)
    assert [one.steps for one in chapters_in(reel)] == [2]
    journal.close()


def test_what_is_damaged_is_told_and_the_rest_played(tmp_path: Path) -> None:
    project = small()
    journal = Journal(project)
    journal.start(None)
    ends = []
    for by in (1.0, 2.0, 3.0):
        moved(project, by)
        ends.append((journal.folder / "record").stat().st_size)
    reel = tmp_path / "reel"
    keep_chapter(journal.folder, reel)
    journal.close()
    record = chapters_in(reel)[0].folder / "record"
    data = bytearray(record.read_bytes())
    data[ends[0] + 200 : ends[0] + 260] = bytes(60)
    record.write_bytes(data)
    player = Player((), chapters_in(reel))
    parts = player.parts_at(player.steps)
    assert len(parts) == 1
    assert any("damaged" in words for words in player.told)
    (reel / chapters_in(reel)[0].folder.name / "record").unlink()
    assert Player((), chapters_in(reel)).steps == 0


def test_a_reel_named_by_a_file_cannot_lie_elsewhere(tmp_path: Path) -> None:
    project = small()
    project.try_settings(reel="../../elsewhere")
    save_project(project, tmp_path / "bad.kneten")
    assert open_project(tmp_path / "bad.kneten").settings.reel == ""


def test_milestones_come_first() -> None:
    project = small()
    before = project.scene.parts[0].mesh.positions.copy()
    project.keep_milestone("First", b"png")
    moved(project, 5.0)
    player = Player(project.scene.milestones, [])
    assert player.steps == 1
    assert np.array_equal(player.parts_at(1)[0].mesh.positions, before)
