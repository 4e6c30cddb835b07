"""The shape check: faults put into clean shapes are found where they are, with their size; mending touches only that place."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kneten.core.arrays import F32, Cancelled, Progress
from kneten.core.pose.actions import ACTIONS, OPPOSITES
from kneten.core.pose.shape_check import Around, Other, depth, evened_out, grown, through
from kneten.core.pose.shape_edits import alone
from kneten.core.pose.shapes import ShapeError
from kneten.core.transform import Transform
from kneten.document.driving import shape_layer, shapes_of
from kneten.document.mending import (
    even_find,
    lift_find,
    mean_find,
    mend_all,
    mend_pairs,
    no_mending,
    smooth_find,
    take_find_away,
    tell_all,
)
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.scene import Part, Scene
from kneten.document.shape_checks import ShapeFind, Trial, face_of
from kneten.document.shapes import (
    add_shape,
    dial,
    drivers_now,
    neutral,
    record_shape,
    remove_shape,
    rename_shape,
)
from tests.conftest import make_ball, make_sheet
from tests.document.test_shapes import bump, push


def faces(eye: tuple[float, float, float] = (0.0, 0.0, 140.0)) -> Project:
    """A head, and an eye before it."""
    head = Part("Head", make_ball())
    ball = Part("Eye", make_ball(12.0, 8), transform=Transform(eye))
    project = Project(Scene((head, ball)))
    project.choose(head.id)
    return project


def head_of(project: Project) -> Part:
    return project.scene.parts[0]


def shape(project: Project, name: str, moves: F32) -> str:
    """A shape of the head, at rest."""
    key = add_shape(project, [head_of(project).id], name)
    push(project, head_of(project), moves)
    record_shape(project, "")
    neutral(project, [head_of(project).id])
    return key


def both(project: Project, high: float = 8.0) -> F32:
    """A clean move of both sides."""
    head = head_of(project)
    return bump(head, (60.0, 0.0, 75.0), 30.0, high) + bump(head, (-60.0, 0.0, 75.0), 30.0, high)


def check(project: Project, pairs: bool = False) -> list[ShapeFind]:
    scene = project.scene
    parts = [*face_of(scene, head_of(project)), scene.parts[1]]
    trial = Trial(scene, list({part.id: part for part in parts}.values()))
    found = trial.singly(Progress())
    return found + trial.in_pairs(Progress()) if pairs else found


def kinds(found: list[ShapeFind]) -> list[str]:
    return [one.find.kind for one in found]


def vertex_at(project: Project, place: tuple[float, float, float]) -> int:
    return int(np.argmin(((head_of(project).mesh.positions - np.array(place)) ** 2).sum(axis=1)))


def test_clean_shapes_have_no_finds() -> None:
    project = faces()
    shape(project, "Both", both(project))
    shape(project, "One side", bump(head_of(project), (60.0, 0.0, 75.0)))
    assert check(project, pairs=True) == []


def test_a_vertex_left_behind_is_found_and_smoothed_alone() -> None:
    project = faces()
    at = vertex_at(project, (60.0, 0.0, 75.0))
    moves = both(project)
    full = float(np.linalg.norm(moves[at]))
    moves[at] = 0.0
    key = shape(project, "Both", moves)
    found = check(project)
    behind = next(one for one in found if one.find.kind == "behind")
    assert behind.find.rows.tolist() == [at]
    assert behind.shapes == (key,)
    assert behind.amount == pytest.approx(full, rel=0.3)
    assert "Both: left behind" in behind.words
    assert "1 vertex of Head" in behind.words
    assert np.abs(behind.place - head_of(project).mesh.positions[at]).max() < 1e-3
    smooth_find(project, behind)
    assert "behind" not in kinds(check(project))
    layer = shape_layer(head_of(project), key)
    assert layer is not None
    now = alone(stack_of(head_of(project)), layer, 0)
    changed = np.flatnonzero(np.abs(now - moves).max(axis=1) > 1e-5)
    around = Around(head_of(project).mesh.topology, head_of(project).mesh.positions)
    assert set(changed.tolist()) <= set(grown(around, behind.find.rows, 2).tolist())
    assert np.linalg.norm(now[at]) == pytest.approx(full, rel=0.1)
    project.undo()
    assert "behind" in kinds(check(project))


def test_stray_movement_is_found_and_taken_away() -> None:
    project = faces()
    moves = both(project) + bump(head_of(project), (0.0, 0.0, -100.0), 8.0, 0.4)
    moves[np.abs(moves).max(axis=1) < 0.004] = 0.0
    key = shape(project, "Both", moves.astype(np.float32))
    (stray,) = (one for one in check(project) if one.find.kind == "stray")
    assert stray.place[2] < -80
    take_find_away(project, stray)
    assert check(project) == []
    assert shapes_of(project.scene)[key].dial == 0.0


def test_uneven_sides_are_found_and_evened() -> None:
    project = faces()
    moves = both(project)
    less = head_of(project).mesh.positions[:, 0] < -70
    moves[less] *= 0.6
    shape(project, "Both", moves)
    uneven = [one for one in check(project) if one.find.kind == "uneven"]
    assert len(uneven) == 1
    assert uneven[0].place[0] < 0
    even_find(project, uneven[0])
    assert "uneven" not in kinds(check(project))


def test_torn_and_squashed_skin_is_found() -> None:
    project = faces()
    head = head_of(project)
    y = head.mesh.positions[:, 1]
    front = head.mesh.positions[:, 2] > 60
    tear = np.zeros_like(head.mesh.positions)
    tear[(y > 0.5) & front] = [0.0, 60.0, 0.0]
    shape(project, "Torn", tear)
    squash = np.zeros_like(tear)
    here = front & (np.abs(y) < 20)
    squash[here, 1] = -0.95 * y[here]
    shape(project, "Squashed", squash)
    found = check(project)
    torn = next(one for one in found if one.find.kind == "stretched")
    assert 50 < torn.amount < 70
    assert "squashed" in kinds(found)


def test_clay_through_an_eye_is_found_and_what_was_inside_before_is_not() -> None:
    project = faces((0.0, 0.0, 113.0))
    shape(project, "Out", bump(head_of(project), (0.0, 0.0, 100.0), 30.0, 9.0))
    found = [one for one in check(project) if one.find.kind == "through"]
    assert found
    assert "goes through Eye" in found[0].words
    assert 2.0 < found[0].amount < 9.0
    # An eye that sits in the head is not told of: what it hides is hidden at rest as well.
    sunk = faces((0.0, 0.0, 95.0))
    shape(sunk, "Out", bump(head_of(sunk), (60.0, 0.0, 75.0), 30.0, 9.0))
    assert [one for one in check(sunk) if one.find.kind == "through"] == []


def test_depth_and_open_rims() -> None:
    ball = make_ball(10.0, 8)
    points = np.array([[0, 0, 9.0], [0, 0, 11.0], [0, 0, 300.0]], np.float32)
    deep = depth(ball, points, 20.0)
    assert deep[0] == pytest.approx(1.0, abs=0.1)
    assert deep[1] == pytest.approx(-1.0, abs=0.1)
    assert deep[2] == -np.inf
    sheet = make_sheet(8, 5.0)
    beside = np.array([[30.0, 0.0, -1.0]], np.float32)
    assert depth(sheet, beside, 50.0)[0] == -np.inf
    around = Around(ball.topology, ball.positions)
    still = through(around, ball.positions, ball.positions, Other("x", ball, ball), {})
    assert still == []


def test_what_goes_wrong_only_together_is_told_of_the_pair() -> None:
    project = faces((0.0, 0.0, 122.0))
    for name in ("Out", "More out"):
        shape(project, name, bump(head_of(project), (0.0, 0.0, 100.0), 30.0, 8.0))
    assert [one for one in check(project) if one.find.kind == "through"] == []
    found = [one for one in check(project, pairs=True) if one.find.kind == "through"]
    assert found
    assert all(len(one.shapes) == 2 for one in found)
    assert "Out + More out" in found[0].words
    assert "Mend pairs corrects them" in no_mending(found[0], project.scene)
    with pytest.raises(ShapeError, match="only together"):
        smooth_find(project, found[0])
    # A correction that takes it back makes the pair clean.
    keys = list(shapes_of(project.scene))
    dial(project, dict.fromkeys(keys, 1.0), "Both")
    add_shape(project, [head_of(project).id], "Fix", drivers=drivers_now(project.scene, keys))
    push(project, head_of(project), -bump(head_of(project), (0.0, 0.0, 100.0), 30.0, 8.0))
    record_shape(project, "")
    neutral(project, [head_of(project).id])
    assert [one for one in check(project, pairs=True) if one.find.kind == "through"] == []


def test_a_check_can_be_cancelled_and_old_finds_are_refused() -> None:
    project = faces()
    moves = both(project)
    moves[vertex_at(project, (60.0, 0.0, 75.0))] = 0.0
    key = shape(project, "Both", moves)

    class Stop(Progress):
        def report(self, share: float, what: str = "") -> None:
            raise Cancelled

    trial = Trial(project.scene, face_of(project.scene, head_of(project)))
    with pytest.raises(Cancelled):
        trial.singly(Stop())
    found = check(project)[0]
    remove_shape(project, key)
    assert "check again" in no_mending(found, project.scene)
    with pytest.raises(ShapeError, match="check again"):
        take_find_away(project, found)
    other = Project(Scene((replace(head_of(project), mesh=make_ball(10.0, 4)),)))
    assert no_mending(found, other.scene)


def test_smoothing_goes_on_as_what_lies_around_does() -> None:
    sheet = make_sheet(12, 5.0)
    around = Around(sheet.topology, sheet.positions)
    x, y, _ = sheet.positions.T.astype(np.float64)
    moves = np.stack([0.1 * x, 0.2 * y - 0.05 * x, 3.0 + 0.3 * x], axis=1)
    middle = int(np.argmin(np.abs(sheet.positions).sum(axis=1)))
    rows = grown(around, np.array([middle], np.int32), 2)
    broken = moves.copy()
    broken[rows] = np.random.default_rng(1).normal(0, 9, (len(rows), 3))
    assert np.abs(evened_out(around, broken, rows) - moves).max() < 1e-5


def test_pairs_are_tried_on_copies_of_the_clay() -> None:
    project = faces()
    moves = both(project, 4.0)
    shape(project, "One", moves)
    shape(project, "Other", moves)
    trial = Trial(project.scene, face_of(project.scene, head_of(project)))
    alone = trial.singly(Progress())
    before = [(one.words, one.amount) for one in trial.in_pairs(Progress())]
    # The face is worked on: what was begun is told of how it was.
    head_of(project).mesh.positions[:] += 50.0
    assert [(one.words, one.amount) for one in trial.in_pairs(Progress())] == before
    assert [(one.words, one.amount) for one in trial.singly(Progress())] == [
        (one.words, one.amount) for one in alone
    ]


def test_what_goes_through_is_lifted_out_with_what_lies_around() -> None:
    project = faces((0.0, 0.0, 113.0))
    head = head_of(project)
    key = shape(project, "Out", bump(head, (0.0, 0.0, 100.0), 30.0, 6.0))
    found = next(one for one in check(project) if one.find.kind == "through")
    before = alone_moves(project, key)
    lift_find(project, found)
    after = alone_moves(project, key)
    changed = np.flatnonzero(np.abs(after - before).max(axis=1) > 1e-4)
    assert set(found.find.rows.tolist()) <= set(changed.tolist())
    # What lies around goes along; the rest of the shape stays.
    assert len(found.find.rows) < len(changed) < 12 * len(found.find.rows) + 60
    assert steps_of(project)[-1] == "Lift Out"
    left = [one for one in check(project) if one.find.kind == "through"]
    assert not any(set(one.find.rows.tolist()) & set(found.find.rows.tolist()) for one in left)
    project.undo()
    assert np.abs(alone_moves(project, key) - before).max() < 1e-6
    with pytest.raises(ShapeError, match="smooth it instead"):
        lift_find(project, replace(found, find=replace(found.find, kind="behind")))


def test_all_is_mended_in_one_step_and_only_where_it_was_wrong() -> None:
    project = faces((0.0, 0.0, 113.0))
    head = head_of(project)
    moves = both(project)
    wrong = [vertex_at(project, (60.0, 0.0, 75.0)), vertex_at(project, (-60.0, 0.0, 75.0))]
    moves[wrong] = 0.0
    keys = [
        shape(project, "Behind", moves),
        shape(project, "Through", bump(head, (0.0, 0.0, 100.0), 30.0, 6.0)),
        shape(project, "Sound", bump(head, (0.0, 80.0, 60.0), 25.0, 5.0)),
    ]
    before = {key: alone_moves(project, key) for key in keys}
    assert {"behind", "through"} <= set(kinds(check(project)))
    parts = [*face_of(project.scene, head), project.scene.parts[1]]
    trial = Trial(project.scene, list({part.id: part for part in parts}.values()))
    done = len(steps_of(project))
    mend_all(project, trial.mended(Progress()))
    assert steps_of(project)[done:] == ["Mend shapes"]
    assert check(project) == []
    after = {key: alone_moves(project, key) for key in keys}
    assert np.abs(after[keys[0]][wrong] - before[keys[0]][wrong]).max() > 3.0
    far = np.linalg.norm(head.mesh.positions - [60, 0, 75], axis=1) > 60
    far &= np.linalg.norm(head.mesh.positions - [-60, 0, 75], axis=1) > 60
    assert np.abs(after[keys[0]] - before[keys[0]])[far].max() < 1e-4
    assert np.abs(after[keys[2]] - before[keys[2]]).max() < 1e-4
    project.undo()
    for key in keys:
        assert np.abs(alone_moves(project, key) - before[key]).max() < 1e-5
    # Nothing to mend is no step.
    mend_all(project, {})
    assert len(steps_of(project)) == done


def test_what_is_meant_so_is_told_of_no_more_until_all_is_asked_for(tmp_path: Path) -> None:
    project = faces()
    moves = both(project)
    moves[vertex_at(project, (60.0, 0.0, 75.0))] = 0.0
    key = shape(project, "Both", moves)
    found = next(one for one in check(project) if one.find.kind == "behind")
    mean_find(project, found)
    assert "behind" not in kinds(check(project))
    save_project(project, tmp_path / "meant.kneten")
    again = open_project(tmp_path / "meant.kneten")
    assert shapes_of(again.scene)[key].shape.meant == ("behind",)
    assert "behind" not in kinds(check(again))
    tell_all(project, [key])
    assert "behind" in kinds(check(project))
    project.undo()
    assert "behind" not in kinds(check(project))
    with pytest.raises(ShapeError, match="by itself"):
        mean_find(project, replace(found, shapes=(key, key)))


def alone_moves(project: Project, key: str) -> np.ndarray:
    """How a shape moves the head, (n, 3)."""
    part = head_of(project)
    layer = shape_layer(part, key)
    assert layer is not None
    stack = stack_of(part).taken(part.mesh.positions)
    return alone(stack, layer, stack.level).astype(np.float64)


def steps_of(project: Project) -> list[str]:
    return project.history.names()[0]


# -- pairs mended ----------------------------------------------------------------------------------


def through_together(project: Project) -> tuple[str, str]:
    """Two shapes that reach the eye only together, and a third that has nothing to do with it."""
    head = head_of(project)
    one, other = (shape(project, name, bump(head, (0.0, 0.0, 100.0), 30.0, 4.0)) for name in ("One", "Other"))
    shape(project, "Sound", bump(head, (0.0, 80.0, 60.0), 25.0, 5.0))
    return one, other


def trial_of(project: Project) -> Trial:
    parts = [*face_of(project.scene, head_of(project)), project.scene.parts[1]]
    trial = Trial(project.scene, list({part.id: part for part in parts}.values()))
    assert trial.singly(Progress()) == []
    return trial


def test_what_is_wrong_together_gets_a_correction_in_one_step() -> None:
    project = faces((0.0, 0.0, 118.0))
    one, other = through_together(project)
    assert {found.shapes for found in check(project, pairs=True)} == {(one, other)}
    alone_before = {key: alone_moves(project, key) for key in (one, other)}
    done = len(steps_of(project))
    assert mend_pairs(project, trial_of(project).pairs_mended(Progress())) == 1
    assert steps_of(project)[done:] == ["Mend pairs of shapes"]
    made = next(found for found in shapes_of(project.scene).values() if found.shape.drivers)
    assert made.name == "One + Other"
    assert {driver.source for driver in made.shape.drivers} == {one, other}
    assert made.dial == 0.0
    assert check(project, pairs=True) == []
    # Neither of the two does anything else by itself.
    for key, before in alone_before.items():
        assert np.abs(alone_moves(project, key) - before).max() < 1e-6
    dial(project, {one: 1.0, other: 1.0}, "Together")
    assert shapes_of(project.scene)[made.id].dial == 1.0
    dial(project, {other: 0.0}, "One")
    assert shapes_of(project.scene)[made.id].dial == 0.0
    for _ in range(3):
        project.undo()
    assert len(shapes_of(project.scene)) == 3
    assert mend_pairs(project, []) == 0


def test_a_correction_that_is_there_is_mended_itself() -> None:
    project = faces((0.0, 0.0, 118.0))
    one, other = through_together(project)
    dial(project, {one: 1.0, other: 1.0}, "Together")
    drivers = drivers_now(project.scene, [one, other])
    key = add_shape(project, [head_of(project).id], "Mine", drivers=drivers)
    push(project, head_of(project), bump(head_of(project), (0.0, 60.0, 80.0), 12.0, 2.0))
    record_shape(project, "")
    neutral(project, [head_of(project).id])
    before = alone_moves(project, key)
    found = trial_of(project).pairs_mended(Progress())
    assert {some.correction for some in found} == {key}
    mend_pairs(project, found)
    assert sum(bool(some.shape.drivers) for some in shapes_of(project.scene).values()) == 1
    assert check(project, pairs=True) == []
    rows = np.concatenate([some.rows for some in found])
    left = np.setdiff1d(np.arange(len(before)), rows)
    assert np.abs(alone_moves(project, key) - before)[left].max() < 1e-5


def test_what_no_face_does_at_once_is_no_pair() -> None:
    project = faces((0.0, 0.0, 118.0))
    one, other = through_together(project)
    for key, action in ((one, "63"), (other, "64")):
        rename_shape(project, key, shapes_of(project.scene)[key].name, action)
    assert check(project, pairs=True) == []
    rename_shape(project, other, "Other", "4")
    assert check(project, pairs=True) != []


def test_opposites_are_actions_of_the_coding() -> None:
    assert all(len(pair) == 2 and pair <= set(ACTIONS) for pair in OPPOSITES)
