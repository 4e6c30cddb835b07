"""Rigs of bodies: from armatures, with what goes along, kept poses; undone, saved, read again, refused where they are wrong."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial import cKDTree

from kneten.core.arrays import Progress
from kneten.core.live.armature import Armature
from kneten.core.live.armature import Joint as Ball
from kneten.core.live.primitive import Primitive
from kneten.core.pose.rig import Joint, Rig, RigError
from kneten.core.stack import Stack
from kneten.core.transform import Transform
from kneten.document.layering import change_layer
from kneten.document.opening import stack_of
from kneten.document.pose_words import pose_from, pose_words
from kneten.document.posing import low_clay
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.rigging import (
    NAME,
    add_rigs,
    as_kept,
    forget_pose,
    grown,
    joints_from,
    keep_pose,
    leave_rig,
    made_rig,
    middle_at,
    pose_rigs,
    posed_alike,
    posed_roughly,
    poses_of,
    pruned,
    remove_rig,
    rename_joint,
    rest_moved,
    rested_alike,
    rig_along,
    rig_layer,
    rig_of,
    rigged,
    same_joints,
    sits_on_body,
    spun,
    with_pose,
    with_twins,
    without_doubles,
)
from kneten.document.scene import Part, Scene
from tests.conftest import make_ball

TURNED = Transform((30.0, 5.0, -4.0), (0.0, 0.38268343, 0.0, 0.92387953), 1.5)


def body_armature() -> Armature:
    return Armature(
        (
            Ball(0, -1, (0.0, 0.0, 0.0), 15.0, 0, "hip"),
            Ball(1, 0, (0.0, 40.0, 0.0), 15.0, 1, "chest"),
            Ball(2, 1, (30.0, 50.0, 0.0), 9.0, 3, "elbow left"),
            Ball(3, 1, (-30.0, 50.0, 0.0), 9.0, 2, "elbow right"),
            Ball(4, 2, (64.0, 50.0, 0.0), 7.0, 5, "hand left"),
            Ball(5, 3, (-64.0, 50.0, 0.0), 7.0, 4, "hand right"),
        ),
        edge=4.5,
    )


def with_body(levels: int = 0, place: Transform = TURNED) -> Project:
    armature = body_armature()
    mesh = armature.made().mesh()
    stack = Stack.of(mesh)
    for _ in range(levels):
        stack, mesh = stack.added(mesh, Progress())
    body = Part("Body", mesh, id="body", was=armature, transform=place, stack=None if stack.plain else stack)
    at = place.to_scene(np.array([[60.0, 56.0, 0.0], [30.0, 50.0, 0.0]]))
    ring = Primitive("torus", (30.0, 8.0, 30.0), (16, 6, 6), 0.8)
    parts = (
        body,
        Part("Lamp", make_ball(4.0, 6), id="lamp", transform=Transform(tuple(at[0].tolist()), mirror=True)),  # type: ignore[arg-type]
        Part(
            "Ring",
            ring.made().mesh(),
            id="ring",
            recipe=ring,
            transform=Transform(tuple(at[1].tolist()), (0.0, 0.0, 0.5, 0.8660254)),
        ),  # type: ignore[arg-type]
        Part("Far", make_ball(9.0, 6), id="far", transform=Transform((400.0, 0.0, 0.0))),
    )
    return Project(Scene(parts))


def rig_all(project: Project) -> Rig:
    body = project.scene.part("body")
    low = low_clay(body)
    rig = made_rig(low, joints_from(body.was))  # type: ignore[arg-type]
    made = {"body": (low, rig)}
    for one in sits_on_body(project.scene.parts, body, low):
        other = project.scene.part(one.part_id)
        under = low_clay(other)
        made[other.id] = (under, rig_along(rig, body.transform, low.mesh, other.transform, under.mesh, True))
    add_rigs(project, made, NAME)
    return rig


def turned(project: Project, name: str, turn: tuple[float, float, float]) -> None:
    body = project.scene.part("body")
    rig = rig_of(body)
    assert rig is not None
    number = [joint.name for joint in rig.joints].index(name)
    pose_rigs(project, posed_alike(project.scene, body, rig.with_joint(number, turn=turn)), "Turn")


def places(project: Project, key: str) -> np.ndarray:
    part = project.scene.part(key)
    return part.transform.to_scene(part.mesh.positions.astype(np.float64))


def test_joints_of_an_armature() -> None:
    joints = joints_from(body_armature())
    assert [joint.name for joint in joints] == [
        "Hip",
        "Chest",
        "Elbow left",
        "Elbow right",
        "Hand left",
        "Hand right",
    ]
    assert [joint.parent for joint in joints] == [-1, 0, 1, 1, 2, 3]
    assert [joint.twin for joint in joints] == [0, 1, 3, 2, 5, 4]
    nameless = Armature(
        (
            Ball(7, -1, (0.0, 0.0, 0.0), 9.0),
            Ball(3, 7, (0.0, 9.0, 0.0), 9.0),
            Ball(1, 3, (0.0, 9.0, 0.0), 3.0),
        )
    )
    assert [(j.name, j.parent) for j in joints_from(nameless)] == [("Root", -1), ("Joint", 0)]
    with pytest.raises(RigError, match="circle"):
        joints_from(Armature((Ball(0, 1, (0.0, 0.0, 0.0), 9.0), Ball(1, 0, (0.0, 9.0, 0.0), 9.0))))


@pytest.mark.parametrize("levels", [0, 1])
def test_a_body_is_rigged_posed_and_undone(levels: int) -> None:
    project = with_body(levels)
    before = {part.id: part.mesh.positions.copy() for part in project.scene.parts}
    rig = rig_all(project)
    assert [part.id for part in rigged(project.scene, rig.id)] == ["body", "lamp", "ring"]
    assert all(
        np.abs(project.scene.part(key).mesh.positions - held).max() < 1e-3 for key, held in before.items()
    )
    old = places(project, "body")
    turned(project, "Elbow left", (0.0, 0.0, 80.0))
    assert len(project.history.names()[0]) == 2
    # All beyond the elbow is turned about it, in the scene; the other side is as it was.
    now = places(project, "body")
    body = project.scene.part("body")
    pivot = body.transform.to_scene(np.array([[30.0, 50.0, 0.0]]))[0]
    hand = before["body"][:, 0] > 58
    assert (
        np.abs(np.linalg.norm(now[hand] - pivot, axis=1) - np.linalg.norm(old[hand] - pivot, axis=1)).max()
        < 0.5
    )
    assert np.linalg.norm(now[hand] - old[hand], axis=1).min() > 20
    assert (
        np.linalg.norm(now[before["body"][:, 0] < -10] - old[before["body"][:, 0] < -10], axis=1).max() < 0.1
    )
    assert np.array_equal(project.scene.part("far").mesh.positions, before["far"])
    for _ in range(2):
        project.undo()
    assert all(np.array_equal(project.scene.part(key).mesh.positions, held) for key, held in before.items())
    assert rig_of(project.scene.part("body")) is None
    for _ in range(2):
        project.redo()
    assert np.abs(places(project, "body") - now).max() < 1e-4


def test_what_goes_along_turns_as_the_clay_beside_it_in_any_axes() -> None:
    project = with_body()
    rig_all(project)
    lamp = places(project, "lamp")
    turned(project, "Elbow left", (20.0, -30.0, 70.0))
    body = project.scene.part("body")
    rig = rig_of(body)
    assert rig is not None
    move = rig.matrices()[2]
    at = body.transform.to_part(lamp)
    wanted = body.transform.to_scene(at @ move[:3, :3].T + move[:3, 3])
    assert np.abs(places(project, "lamp") - wanted).max() < 0.3


def test_a_pose_is_dialled_and_mirrored() -> None:
    project = with_body(place=Transform())
    rig_all(project)
    rest = places(project, "body")
    turned(project, "Elbow left", (0.0, 0.0, 60.0))
    full = places(project, "body")
    layer = rig_layer(project.scene.part("body"))
    assert layer is not None
    change_layer(project, project.scene.part("body"), layer.id, "Dial", strength=0.5)
    half = places(project, "body")
    tip = int(np.argmax(rest[:, 0]))
    angles = [np.degrees(np.arctan2(*(p[tip] - [30, 50, 0])[[1, 0]])) for p in (rest, half, full)]
    assert angles[1] - angles[0] == pytest.approx(30, abs=1.5)
    change_layer(project, project.scene.part("body"), layer.id, "Full", strength=1.0)
    rig = rig_of(project.scene.part("body"))
    assert rig is not None
    pose_rigs(project, posed_alike(project.scene, project.scene.part("body"), rig.mirrored()), "Mirror")
    other = places(project, "body")
    # The clay of this armature is the same on both sides.
    assert cKDTree(other * [-1, 1, 1]).query(full)[0].max() < 0.5


def test_it_is_saved_and_read_again(tmp_path: Path) -> None:
    project = with_body(1)
    rig_all(project)
    turned(project, "Chest", (10.0, 20.0, 5.0))
    keep_pose(project, project.scene.part("body"), "Bow")
    path = tmp_path / "body.kneten"
    save_project(project, path)
    again = open_project(path)
    for key in ("body", "lamp", "ring"):
        mine, theirs = rig_of(project.scene.part(key)), rig_of(again.scene.part(key))
        assert mine is not None
        assert theirs is not None
        assert mine.joints == theirs.joints
        assert mine.id == theirs.id
        assert np.array_equal(mine.which, theirs.which)
        assert np.array_equal(mine.share, theirs.share)
        assert np.array_equal(project.scene.part(key).mesh.positions, again.scene.part(key).mesh.positions)
    assert poses_of(again.scene, again.scene.part("body")) == poses_of(
        project.scene, project.scene.part("body")
    )
    form = stack_of(again.scene.part("body")).form(1)
    assert np.abs(form - again.scene.part("body").mesh.positions).max() < 1e-3


def test_poses_are_kept_taken_and_forgotten() -> None:
    project = with_body()
    rig_all(project)
    turned(project, "Elbow right", (0.0, 30.0, 0.0))
    body = project.scene.part("body")
    kept = keep_pose(project, body, "Wave")
    assert keep_pose(project, body, "Wave").name == "Wave 2"
    turned(project, "Elbow right", (0.0, 0.0, 0.0))
    rig = rig_of(project.scene.part("body"))
    assert rig is not None
    assert as_kept(rig, kept).joints[3].turn == (0.0, 30.0, 0.0)
    rename_joint(project, project.scene.part("body"), "Elbow right", "Wing")
    first = poses_of(project.scene, body)[0]
    assert [move.joint for move in first.moves] == ["Wing"]
    assert rig_of(project.scene.part("lamp")).joints[3].name == "Wing"  # type: ignore[union-attr]
    project.undo()
    assert poses_of(project.scene, body)[0] == kept
    forget_pose(project, kept)
    assert [one.name for one in poses_of(project.scene, body)] == ["Wave 2"]
    # What is kept of a body goes with it.
    project.delete("body")
    assert project.scene.things("poses") == ()
    project.undo()
    assert len(project.scene.things("poses")) == 1


def test_joints_are_moved_added_and_taken_away() -> None:
    joints = joints_from(body_armature())
    more = grown(joints, 4, np.array([70.0, 50.0, 0.0]), True, 150.0)
    assert [(j.name, j.parent, j.twin) for j in more[6:]] == [("Joint left", 4, 7), ("Joint right", 5, 6)]
    assert more[7].place == (-70.0, 50.0, 0.0)
    middle = grown(joints, 1, np.array([0.8, 60.0, 0.0]), True, 150.0)
    assert (middle[6].place, middle[6].twin) == ((0.0, 60.0, 0.0), 6)
    alone = grown(joints, 1, np.array([20.0, 60.0, 0.0]), False, 150.0)
    assert (len(alone), alone[6].twin) == (7, -1)
    left = pruned(joints, 2)
    assert [(j.name, j.parent, j.twin) for j in left] == [("Hip", -1, 0), ("Chest", 0, 1)]
    assert pruned(joints, 0) == ()
    project = with_body()
    rig_all(project)
    body = project.scene.part("body")
    rig = rig_of(body)
    assert rig is not None
    moved = rest_moved(rig, 2, np.array([34.0, 52.0, 1.0]), True)
    assert moved.joints[3].place == (-34.0, 52.0, 1.0)
    assert rest_moved(rig, 1, np.array([4.0, 44.0, 0.0]), True).joints[1].place == (0.0, 44.0, 0.0)
    assert not same_joints(rig, moved.joints)
    assert same_joints(rig, rig.with_joint(1, turn=(5.0, 0.0, 0.0)).joints)
    pose_rigs(project, rested_alike(project.scene, body, moved), "Move a joint")
    there = rig_of(project.scene.part("ring"))
    assert there is not None
    ring = project.scene.part("ring").transform.to_scene(there.places)
    assert np.abs(ring - body.transform.to_scene(moved.places)).max() < 1e-6
    scattered = tuple(replace(joint, twin=-1) for joint in joints)
    assert [joint.twin for joint in with_twins(scattered, 150.0)] == [0, 1, 3, 2, 5, 4]
    doubled = (*joints, Joint("On it", 5, joints[5].place), Joint("Beyond", 6, (-80.0, 50.0, 0.0)))
    assert [(j.name, j.parent) for j in without_doubles(doubled)][6:] == [("Beyond", 5)]


def test_a_joint_comes_into_the_middle_of_the_limb() -> None:
    mesh = body_armature().made().mesh()
    found = middle_at(mesh, np.array([48.0, 50.0, 8.0]))
    assert np.abs(found[1:] - [50.0, 0.0]).max() < 1.5
    # A ball has no limb: half-way through it.
    assert np.abs(middle_at(make_ball(10.0, 16), np.array([0.0, 0.0, 10.0]))).max() < 1.0


def test_a_joint_is_turned_further_as_it_is_posed() -> None:
    project = with_body()
    rig = rig_all(project).with_joint(1, turn=(0.0, 0.0, 90.0))
    # About the axis that the scene sees, though what it hangs on is turned.
    more = spun(rig, 2, np.radians([0.0, 0.0, 30.0]))
    old, new = rig.matrices()[2], more.matrices()[2]
    between = new[:3, :3] @ old[:3, :3].T
    assert np.allclose(
        between, [[np.cos(np.pi / 6), -0.5, 0], [0.5, np.cos(np.pi / 6), 0], [0, 0, 1]], atol=1e-9
    )


def test_a_rig_is_left_and_removed() -> None:
    project = with_body()
    before = {part.id: part.mesh.positions.copy() for part in project.scene.parts}
    rig = rig_all(project)
    turned(project, "Chest", (30.0, 0.0, 0.0))
    leave_rig(project, ["lamp"], "Stay")
    assert [part.id for part in rigged(project.scene, rig.id)] == ["body", "ring"]
    remove_rig(project, rig.id, "Remove")
    assert rigged(project.scene, rig.id) == []
    for key in ("body", "lamp"):
        assert np.abs(project.scene.part(key).mesh.positions - before[key]).max() < 1e-4


@pytest.mark.parametrize("what", ["sum", "joint", "shape", "cycle", "negative"])
def test_damaged_rigs_are_refused(what: str) -> None:
    n = 20
    share = np.tile(np.float32([0.5, 0.5, 0, 0]), (n, 1))
    rig = Rig(joints_from(body_armature()), np.zeros((n, 4), np.uint8), share, "r")
    arrays: dict[str, np.ndarray] = {}

    def add(array: np.ndarray) -> str:
        arrays[str(len(arrays))] = array.copy()
        return str(len(arrays) - 1)

    words = pose_words(rig, add)
    assert words is not None

    def read(name: str, kind: object, rows: int, columns: int = 0) -> np.ndarray:
        if arrays[name].dtype != kind or arrays[name].shape != (rows, columns):
            raise ValueError("of another shape")
        return arrays[name]

    back = pose_from(words, "Rig", n, read)
    assert isinstance(back, Rig)
    assert back.joints == rig.joints
    if what == "sum":
        arrays[words["share"]][3] = 0.9
    elif what == "joint":
        arrays[words["which"]][3, 0] = 77
    elif what == "negative":
        arrays[words["share"]][3] = [2.0, -1.0, 0.0, 0.0]
    elif what == "shape":
        arrays[words["share"]] = arrays[words["share"]][:5]
    else:
        words["joints"][1]["parent"] = 4
    with pytest.raises(ValueError, match=r"layer Rig|another shape"):
        pose_from(words, "Rig", n, read)


def test_what_lies_in_a_stiff_thing_goes_with_that() -> None:
    project = with_body(place=Transform())
    bowl = Primitive("cylinder", (24.0, 14.0, 24.0))
    parts = (
        Part("Bowl", bowl.made().mesh(), id="bowl", recipe=bowl, transform=Transform((78.0, 34.0, 0.0))),
        Part("Egg", make_ball(4.0, 6), id="egg", transform=Transform((80.0, 42.0, 0.0))),
    )
    project.change("Add", project.scene.with_parts((*project.scene.parts, *parts)))
    body = project.scene.part("body")
    low = low_clay(body)
    found = sits_on_body(project.scene.parts, body, low)
    on = {one.part_id: one.on for one in found}
    assert on["bowl"] == "body"
    assert all(one.stiff for one in found)
    assert on["egg"] == "bowl"
    assert on["lamp"] == "body"
    assert list(on).index("bowl") < list(on).index("egg")
    assert "far" not in on


def test_a_scene_is_posed_as_was_kept_and_the_first_one_stays() -> None:
    project = with_body(1)
    rig_all(project)
    turned(project, "Elbow right", (0.0, 30.0, 0.0))
    body = project.scene.part("body")
    kept = keep_pose(project, body, "Wave")
    posed = {part.id: part.mesh.positions.copy() for part in project.scene.parts}
    turned(project, "Elbow right", (0.0, 0.0, 0.0))
    body = project.scene.part("body")
    before = {part.id: part.mesh.positions.copy() for part in project.scene.parts}
    there = with_pose(project.scene, body, kept)
    for part in there.parts:
        assert np.abs(part.mesh.positions - posed[part.id]).max() < 1e-3
    for part in project.scene.parts:
        assert np.array_equal(part.mesh.positions, before[part.id])
    # For a small picture the lower level will do.
    low = stack_of(body).levels[0].topology.n_vertices
    rough = posed_roughly(project.scene, body, kept, low)
    assert {part.id for part in rough.parts} == {part.id for part in rigged(project.scene, rig_of(body).id)}  # type: ignore[union-attr]
    assert rough.part("body").mesh.n_vertices == low < body.mesh.n_vertices
    gaps = cKDTree(posed["body"]).query(rough.part("body").mesh.positions)[0]
    assert np.median(gaps) < 2.0
