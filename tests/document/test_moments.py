"""Shapes and bodies tried moment by moment: what gives is found where and when it gives most."""

from __future__ import annotations

import numpy as np
import pytest

from kneten.core.arrays import F32, Cancelled, Progress
from kneten.core.pose.motions import MOTIONS
from kneten.core.pose.shape_check import stretch
from kneten.core.pose.shapes import Driver, ShapeError
from kneten.document.moments import (
    BY_ITSELF,
    MOMENTS,
    ON_ITS_WAY,
    Moment,
    MomentFind,
    Moments,
    moments_of_motion,
    moments_of_shape,
)
from kneten.document.motions import Coded
from kneten.document.project import Project
from kneten.document.rigging import found_rigs, give_rigs, rig_of
from kneten.document.scene import Part
from kneten.document.shapes import add_shape, dial, drivers_now, neutral, record_shape, remove_shape
from tests.document.test_shape_checks import faces, head_of, shape
from tests.document.test_shapes import bump, push


def sideways(project: Project, x: float, by: float) -> F32:
    """What is near a place on the front drawn aside."""
    near = np.linalg.norm(bump(head_of(project), (x, 0.0, 99.0), 22.0, 1.0), axis=1)
    return (near[:, None] * np.array([by, 0.0, 0.0])).astype(np.float32)


def tried(project: Project, moments: list[Moment], stop: Progress | None = None) -> list[MomentFind]:
    head = head_of(project)
    found = Moments(project.scene, head, [head]).tried(moments, stop or Progress())
    assert all(isinstance(one, MomentFind) for one in found)
    return found  # type: ignore[return-value]


def test_a_sound_shape_gives_nowhere_on_its_way() -> None:
    project = faces()
    key = shape(project, "Puff", bump(head_of(project), (60.0, 0.0, 75.0), 30.0, 6.0))
    moments = moments_of_shape(project.scene, key, head_of(project))
    assert [one.dials[key] for one in moments] == list(BY_ITSELF)
    assert tried(project, moments) == []


def test_a_shape_that_gives_beyond_its_end_is_found_there() -> None:
    project = faces()
    key = shape(project, "Draw", sideways(project, -14.0, 18.0))
    before = head_of(project).mesh.positions.copy()
    found = tried(project, moments_of_shape(project.scene, key, head_of(project)))
    assert found
    worst = found[0]
    assert worst.moment.dials == {key: 1.5}
    assert worst.words.startswith("Draw at 150 %: ")
    assert worst.shapes == (key,)
    # Where it is told to be: on the clay as it is then.
    gap = np.linalg.norm(before[worst.find.rows] - worst.place, axis=1).min()
    assert gap < 30.0
    assert [one.amount for one in found] == sorted((one.amount for one in found), reverse=True)
    # One find for each place: nothing is told of twice.
    rows = [(one.find.kind, row) for one in found for row in one.find.rows.tolist()]
    assert len(rows) == len(set(rows))
    # It was only looked at.
    assert np.array_equal(head_of(project).mesh.positions, before)
    assert project.scene.part(head_of(project).id).stack is not None


def test_a_correction_is_tried_on_the_way_of_what_it_follows() -> None:
    project = faces()
    keys = [
        shape(project, "A", sideways(project, -14.0, 9.0)),
        shape(project, "B", sideways(project, 14.0, -9.0)),
    ]
    dial(project, dict.fromkeys(keys, 1.0), "Both")
    fix = add_shape(project, [head_of(project).id], "Fix", drivers=drivers_now(project.scene, keys))
    # A correction that makes it worse: nobody would sculpt it so.
    push(project, head_of(project), sideways(project, -14.0, 9.0))
    record_shape(project, "")
    neutral(project, [head_of(project).id])
    moments = moments_of_shape(project.scene, fix, head_of(project))
    assert len(moments) == len(ON_ITS_WAY)
    assert all(moment.dials.keys() == set(keys) for moment in moments)
    found = tried(project, moments)
    assert found
    assert "of the way to Fix" in found[0].words
    at = found[0].moment.dials
    assert at[keys[0]] == at[keys[1]] > 0.5
    remove_shape(project, keys[0])
    with pytest.raises(ShapeError):
        moments_of_shape(project.scene, fix, head_of(project))


def rigged_head(project: Project) -> Part:
    from kneten.core.pose.rig import Joint

    joints = (
        Joint("Neck", -1, (0.0, -60.0, 0.0)),
        Joint("Head", 0, (0.0, 0.0, 0.0)),
        Joint("Top", 1, (0.0, 80.0, 0.0)),
    )
    give_rigs(project, found_rigs(project.scene.parts, head_of(project), joints, lambda part: False), "Rig")
    return head_of(project)


def test_a_joint_is_turned_on_the_way_of_its_correction_and_a_body_through_a_motion() -> None:
    project = faces()
    head = rigged_head(project)
    rig = rig_of(head)
    assert rig is not None
    driver = Driver("Head", rig=rig.id, towards=(0.0, 0.0, 60.0))
    key = add_shape(project, [head.id], "Bent", drivers=(driver,))
    push(project, head_of(project), bump(head_of(project), (60.0, 0.0, 75.0), 20.0, 3.0))
    record_shape(project, "")
    moments = moments_of_shape(project.scene, key, head_of(project))
    turns = [moment.rig.joints[1].turn[2] for moment in moments if moment.rig is not None]
    assert turns == pytest.approx([60 * at for at in ON_ITS_WAY])
    found = tried(project, moments)
    assert all(one.moment.rig is not None for one in found)
    body = rig_of(head_of(project))
    assert body is not None
    assert body.still
    look = moments_of_motion(project.scene, head_of(project), Coded("look"))
    assert len(look) == MOMENTS
    assert look[0].words.startswith(MOTIONS["look"].name)
    # A head that only looks about, on a ball, gives nowhere far.
    assert all(one.amount < 40.0 for one in tried(project, look))
    with pytest.raises(ShapeError, match="not there any more"):
        moments_of_shape(project.scene, key, project.scene.parts[1])


def test_it_can_be_cancelled() -> None:
    project = faces()
    key = shape(project, "Puff", bump(head_of(project), (60.0, 0.0, 75.0)))

    class Stop(Progress):
        def report(self, share: float, what: str = "") -> None:
            if share > 0.3:
                raise Cancelled

    with pytest.raises(Cancelled):
        tried(project, moments_of_shape(project.scene, key, head_of(project)), Stop())


def test_the_heat_map_tells_how_long_skin_is() -> None:
    project = faces()
    head = head_of(project)
    around = Moments(project.scene, head, [head]).at_rest()[head.id]
    rest = head.mesh.positions
    assert np.abs(stretch(around, rest) - 0.5).max() < 1e-6
    assert np.allclose(stretch(around, rest * 2), 1.0, atol=1e-5)
    assert np.allclose(stretch(around, rest / 2), 0.0, atol=1e-5)
    assert np.allclose(stretch(around, rest * np.float32(np.sqrt(2))), 0.75, atol=1e-5)
    assert np.allclose(stretch(around, rest * 0), 0.0)
    # Turned as a whole it is as long as it was.
    assert np.abs(stretch(around, rest[:, [1, 2, 0]]) - 0.5).max() < 1e-5
