"""Presses kept with a project: undone, saved, recovered, edited; bad ones refused."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from kneten.core.press_edits import Edits, edited
from kneten.document.kinds import THINGS
from kneten.document.presses import (
    all_presses,
    edit_press,
    forget_press,
    keep_press,
    presses_of,
    rename_press,
)
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.scene import Part, Scene
from kneten.document.things import KeptDeep, KeptPress, kept_deep, kept_press
from tests.conftest import make_ball


def rich() -> Project:
    return Project(Scene((Part("Ball", make_ball(100.0, 6)),)))


def ramp() -> np.ndarray:
    return np.linspace(-3.0, 5.0, 65536, dtype=np.float32).reshape(128, 512)


def test_all_steps_of_a_picture_are_kept(tmp_path: Path) -> None:
    project = rich()
    press = keep_press(project, kept_press("Ramp", ramp(), edits=Edits(zero=0.375, blur=1.0)))
    save_project(project, tmp_path / "a.kneten")
    (found,) = presses_of(open_project(tmp_path / "a.kneten"))
    assert found.id == press.id
    assert found.edits == press.edits
    assert np.array_equal(found.steps, press.steps)
    assert len(np.unique(found.picture)) == 65536
    assert np.abs(found.picture - ramp()).max() < 8.0 / 65535
    assert np.array_equal(
        edited(found.picture, found.edits).heights, edited(press.picture, press.edits).heights
    )


def test_each_change_is_undone() -> None:
    project = rich()
    press = keep_press(project, kept_press("Ramp", ramp()))
    again = keep_press(project, kept_press("Ramp", ramp()))
    assert again.name == "Ramp 2"
    edit_press(project, press.id, Edits(invert=True))
    rename_press(project, press.id, "Other")
    assert [(p.name, p.edits.invert) for p in presses_of(project)] == [("Other", True), ("Ramp 2", False)]
    forget_press(project, press.id)
    assert [p.name for p in presses_of(project)] == ["Ramp 2"]
    for _ in range(3):
        project.undo()
    assert [(p.name, p.edits.invert) for p in presses_of(project)] == [("Ramp", False), ("Ramp 2", False)]
    with pytest.raises(KeyError):
        edit_press(project, "nobody", Edits())
    with pytest.raises(KeyError):
        rename_press(project, "nobody", "Somebody")


def test_deep_presses_are_kept_beside_the_others(tmp_path: Path) -> None:
    project = rich()
    moves = np.random.default_rng(1).normal(0, 0.2, (20, 30, 3)).astype(np.float32)
    keep_press(project, kept_press("Ramp", ramp()))
    deep = keep_press(project, kept_deep("Ramp", moves))
    assert deep.name == "Ramp 2"
    save_project(project, tmp_path / "a.kneten")
    flat, found = all_presses(open_project(tmp_path / "a.kneten"))
    assert isinstance(flat, KeptPress)
    assert isinstance(found, KeptDeep)
    assert np.array_equal(found.picture, moves)
    forget_press(project, deep.id)
    assert len(all_presses(project)) == 1
    project.undo()
    assert all_presses(project)[1].id == deep.id
    check = THINGS["deep_presses"].usable
    assert check is not None
    for bad in (
        {"width": 7},
        {"moves": np.zeros((600, 3), np.float32)},
        {"moves": moves.reshape(-1, 3) * 1e4},
    ):
        with pytest.raises(ValueError, match="not usable"):
            check(KeptDeep(**{"name": "A", "width": 30, "moves": moves.reshape(-1, 3)} | bad), None)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    "bad",
    [
        {"width": 0},
        {"width": 7},
        {"low": 5.0, "high": 5.0},
        {"high": 1e12},
        {"edits": Edits(zero=3.0)},
        {"edits": Edits(blur=-1.0)},
    ],
)
def test_what_makes_no_press_is_refused(bad: dict[str, object]) -> None:
    good = {"name": "A", "width": 4, "steps": np.arange(16, dtype=np.uint16), "low": 0.0, "high": 1.0}
    check = THINGS["presses"].usable
    assert check is not None
    assert check(KeptPress(**good), None)  # type: ignore[arg-type]
    with pytest.raises(ValueError, match="not usable"):
        check(KeptPress(**good | bad), None)  # type: ignore[arg-type]
