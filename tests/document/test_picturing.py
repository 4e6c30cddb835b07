"""Cameras and finish as part of a project: changed, undone, saved, read back, and refused where they are no good."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kneten.core.camera import Camera
from kneten.core.light.finish import ColourTable, Finish
from kneten.document.kinds import with_thing_words
from kneten.document.picturing import (
    MOST_SHOTS,
    add_shot,
    add_table,
    change_finish,
    change_shot,
    copy_shot,
    finish_of,
    remove_shot,
    shot_named,
    shots_of,
    table_of,
)
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.scene import Part, Scene
from tests.conftest import make_ball

TABLE = ColourTable("Cold", np.linspace(0, 1, 24, dtype=np.float32).reshape(8, 3))


@pytest.fixture
def project() -> Project:
    return Project(Scene((Part("Ball", make_ball(60.0, 8)),)))


def test_a_camera_is_kept_with_its_finish(project: Project, tmp_path: Path) -> None:
    finish = Finish(curve="film", blurs=True, focus=(1.0, 2.0, 3.0), lift=(0.1, 0.0, -0.1))
    shot = add_shot(project, "Front", Camera(yaw=20.0, roll=3.0), finish, 4 / 5)
    project.change_settings(through=shot.id)
    kept = add_table(project, TABLE, shot.id)
    save_project(project, tmp_path / "a.kneten")
    again = open_project(tmp_path / "a.kneten")
    (found,) = shots_of(again.scene)
    assert found == shot_named(project.scene, "Front")
    assert found.finish == replace(finish, table=kept.id)
    assert again.settings.through == shot.id
    table = table_of(again.scene, found.finish)
    assert table is not None
    assert np.array_equal(table.steps, TABLE.steps)
    # That of the view is another.
    assert finish_of(again.scene) == Finish()


def test_every_change_is_one_step(project: Project) -> None:
    shot = add_shot(project, "One", Camera(), Finish())
    other = add_shot(project, "One", Camera(), Finish())
    assert other.name == "One 2"
    assert change_finish(project, Finish(bloom=0.5), "Bloom", shot.id)
    assert not change_finish(project, Finish(bloom=0.5), "Bloom", shot.id)
    assert change_finish(project, Finish(grain=0.5), "Grain")
    assert finish_of(project.scene, shot.id).bloom == 0.5
    assert finish_of(project.scene, "gone").grain == 0.5
    copied = copy_shot(project, finish_and(project, shot.id))
    assert copied.finish.bloom == 0.5
    remove_shot(project, shot.id)
    assert [one.name for one in shots_of(project.scene)] == ["One 2", "One 3"]
    for _ in range(4):
        project.undo()
    assert finish_of(project.scene, shot.id) == Finish()
    for _ in range(4):
        project.redo()
    assert [one.name for one in shots_of(project.scene)] == ["One 2", "One 3"]


def finish_and(project: Project, shot_id: str):  # type: ignore[no-untyped-def]
    return next(one for one in shots_of(project.scene) if one.id == shot_id)


def test_a_locked_camera_stays_where_it_is(project: Project) -> None:
    shot = add_shot(project, "One", Camera(), Finish())
    locked = replace(shot, locked=True)
    assert change_shot(project, locked, "Lock")
    with pytest.raises(ValueError, match="locked"):
        change_shot(project, replace(locked, camera=Camera(yaw=5.0)), "Move")
    # Its finish may change, and once it is unlocked, all of it.
    assert change_finish(project, Finish(bloom=0.2), "Bloom", shot.id)
    free = replace(finish_and(project, shot.id), locked=False)
    assert change_shot(project, free, "Unlock")
    assert change_shot(project, replace(free, camera=Camera(yaw=5.0)), "Move")
    # A copy of a locked one is not locked.
    change_shot(project, replace(finish_and(project, shot.id), locked=True), "Lock")
    assert not copy_shot(project, finish_and(project, shot.id)).locked


def test_what_may_not_be_is_refused(project: Project) -> None:
    shot = add_shot(project, "One", Camera(), Finish())
    add_shot(project, "Two", Camera(), Finish())
    before = project.scene
    for bad, words in (
        (replace(shot, name="Two"), "called Two"),
        (replace(shot, aspect=0.0), "not usable"),
        (replace(shot, camera=Camera(distance=0.0)), "not usable"),
        (replace(shot, finish=Finish(stop=0.0)), "finish"),
    ):
        with pytest.raises(ValueError, match=words):
            change_shot(project, bad, "Change")
    with pytest.raises(ValueError, match="finish"):
        change_finish(project, Finish(curve="?"), "Change")
    assert project.scene is before
    while len(shots_of(project.scene)) < MOST_SHOTS:
        copy_shot(project, shot)
    with pytest.raises(ValueError, match="room for"):
        add_shot(project, "More", Camera(), Finish())
    with pytest.raises(ValueError, match="room for"):
        copy_shot(project, shot)


def test_files_with_other_finishes_are_read_or_refused() -> None:
    def read(**words: object) -> Scene:
        return with_thing_words(Scene(), words, lambda *a, **k: np.zeros((7, 3), np.float32))

    # A curve that is not known yet is the one that all begin with.
    assert finish_of(read(finishes=[{"curve": "of-tomorrow", "grain": 0.5}])) == Finish(grain=0.5)
    for words in (
        {"finishes": [{"grain": 9.0}]},
        {"cameras": [{"name": "a", "camera": {"distance": -1.0}}]},
        {"cameras": [{"name": "a", "camera": {}, "aspect": 1e9}]},
        {"colour_tables": [{"name": "a", "id": "1"}]},
    ):
        with pytest.raises(ValueError, match="not usable"):
            read(**words)
