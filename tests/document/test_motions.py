"""Motions of bodies and faces: kept, told of what is there, taken as one step, saved, refused where they are wrong."""

from __future__ import annotations

import zipfile
from pathlib import Path

import numpy as np
import pytest

from kneten.core.pose.keys import DIAL, SHIFT, TURN, Keys, Track
from kneten.core.transform import Transform
from kneten.document.driving import shapes_of
from kneten.document.motions import (
    ByKeys,
    Coded,
    bring_motions,
    forget_motion,
    kept_motion,
    motions_of,
    played,
    take_moment,
    told_to_others,
)
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.rigging import rename_joint, rig_of
from kneten.document.shapes import add_shape, dial, record_shape
from kneten.document.things import KeptMotion
from tests.document.test_rigging import rig_all, with_body
from tests.document.test_shapes import bump, face, head_of, push


def nodding(joint: str = "Chest") -> Keys:
    at = np.array([0.0, 1.0, 2.0])
    return Keys.of([(Track(TURN, joint), at, np.array([[0, 0, 0], [30.0, 0, 0], [0, 0, 0]]))])


def with_motion(keys: Keys | None = None) -> tuple[Project, KeptMotion]:
    project = with_body(place=Transform())
    rig_all(project)
    bring_motions(project, [kept_motion("Nod", "body", keys or nodding())], "Nod")
    return project, project.scene.things("motions")[0]


def same(one: KeptMotion, other: KeptMotion) -> bool:
    arrays = all(np.array_equal(getattr(one, key), getattr(other, key)) for key in ("which", "at", "value"))
    return arrays and (one.name, one.part, one.tracks, one.id) == (
        other.name, other.part, other.tracks, other.id
    )  # fmt: skip


def test_it_is_saved_undone_and_goes_with_its_body(tmp_path: Path) -> None:
    project, kept = with_motion()
    save_project(project, tmp_path / "body.kneten")
    (again,) = open_project(tmp_path / "body.kneten").scene.things("motions")
    assert same(kept, again)
    project.undo()
    assert not project.scene.things("motions")
    project.redo()
    assert same(project.scene.things("motions")[0], kept)
    project.delete("body")
    assert not project.scene.things("motions")
    project.undo()
    forget_motion(project, kept)
    assert not project.scene.things("motions")
    assert project.history.names()[0][-1] == "Forget Nod"


def test_names_are_told_apart() -> None:
    project, _ = with_motion()
    bring_motions(project, [kept_motion("Nod", "body", nodding())] * 2, "Nod")
    assert [one.name for one in project.scene.things("motions")] == ["Nod", "Nod 2", "Nod 3"]


def test_a_moment_poses_all_that_goes_along_in_one_step() -> None:
    project, kept = with_motion()
    body = project.scene.part("body")
    before, count = body.mesh.positions.copy(), len(project.history.names()[0])
    motion = played(project.scene, body, kept.id)
    assert isinstance(motion, ByKeys)
    moment = motion.at(project.scene, rig_of(body), 0.25)
    assert moment.words == "Nod at 25 %"
    take_moment(project, body, moment, "Nod")
    assert len(project.history.names()[0]) == count + 1
    turns = [rig_of(part).joints for part in project.scene.parts if rig_of(part) is not None]  # type: ignore[union-attr]
    assert turns[0][1].turn == pytest.approx((15, 0, 0))
    # What goes along stands otherwise: it turns as far about axes of its own.
    assert [np.linalg.norm(joints[1].turn) for joints in turns] == pytest.approx([15.0] * len(turns))
    project.undo()
    assert np.array_equal(project.scene.part("body").mesh.positions, before)


def test_it_says_what_is_lacking() -> None:
    project, kept = with_motion()
    scene, body = project.scene, project.scene.part("body")
    motion = ByKeys(kept)
    assert motion.lacking(scene, rig_of(body)) == ""
    assert "moves Chest: no joint of this body is called so" in motion.lacking(scene, None)
    assert "has no rig" in Coded("walk").lacking(scene, None)
    assert played(scene, body, "gone") is None
    assert motions_of(scene, None) == ()
    gone = ByKeys(kept_motion("Talk", "body", Keys.of([(Track(DIAL, "gone"), np.zeros(1), np.ones((1, 3)))])))
    assert "are not there any more" in gone.lacking(scene, rig_of(body))


def test_joints_keep_their_keys_under_new_names() -> None:
    project, _ = with_motion()
    rename_joint(project, project.scene.part("body"), "Chest", "Breast")
    (kept,) = project.scene.things("motions")
    assert kept.tracks == (Track(TURN, "Breast"),)
    project.undo()
    assert project.scene.things("motions")[0].tracks == (Track(TURN, "Chest"),)


def test_a_face_without_joints_is_dialled_and_what_follows_stays_by_itself() -> None:
    project = face()
    head = head_of(project)
    smile = add_shape(project, [head.id], "Smile")
    push(project, head_of(project), bump(head_of(project), (60.0, 0.0, 75.0)))
    record_shape(project, "")
    dial(project, {smile: 0.0}, "Rest")
    at, value = np.array([0.0, 1.0]), np.array([[0.0, 0, 0], [9.0, 0, 0]])
    bring_motions(project, [kept_motion("Talk", head.id, Keys.of([(Track(DIAL, smile), at, value)]))], "Talk")
    scene, head = project.scene, head_of(project)
    (kept,) = motions_of(scene, head)
    moment = ByKeys(kept).at(scene, None, 0.1)
    assert moment.rig is None
    # No dial goes farther than dials go.
    assert ByKeys(kept).at(scene, None, 1.0).dials == {smile: 1.5}
    take_moment(project, head, moment, "Talk")
    assert shapes_of(project.scene)[smile].dial == pytest.approx(0.9)
    assert [one.name for _, one in told_to_others(project.scene, head_of(project))] == ["Talk"]


def test_a_round_takes_some_time_whatever_its_keys_say() -> None:
    pose = Keys.of([(Track(SHIFT, "Chest"), np.zeros(1), np.ones((1, 3)))])
    assert ByKeys(kept_motion("Still", "body", pose)).seconds > 0


@pytest.mark.parametrize("what", ["which", "at", "value"])
def test_a_file_with_wrong_keys_is_refused(what: str, tmp_path: Path) -> None:
    project, kept = with_motion()
    path, other = tmp_path / "body.kneten", tmp_path / "wrong.kneten"
    save_project(project, path)
    name = f"motions/{kept.id}/{what}.npy"
    with zipfile.ZipFile(path) as archive, zipfile.ZipFile(other, "w") as made:
        assert name in archive.namelist()
        for one in archive.namelist():
            data = archive.read(one)
            if one == name:
                # The last number, as large as it can be.
                data = data[:-4] + (b"\x7f\xff\xff\x7f" if what == "which" else b"\xff\xff\x7f\x7f")
                data = data if what != "at" else data[:-4] + bytes(4)
            made.writestr(one, data)
    with pytest.raises(Exception, match=r"wrong\.kneten"):
        open_project(other)
