"""Rigs: turning at joints keeps volume and detail, is undone exactly; weights follow the form and add up to 1."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from kneten.core.arrays import Progress
from kneten.core.live.primitive import Primitive
from kneten.core.mesh import Mesh
from kneten.core.pose.motions import MOTIONS, lacking, moved, parts_of
from kneten.core.pose.rig import (
    NOWHERE,
    Joint,
    Rig,
    RigError,
    as_short,
    as_vector,
    duals_of,
    mixed,
    pulled,
    wrong_joints,
)
from kneten.core.pose.weights import (
    bones_of,
    dense,
    evened,
    found_weights,
    nearest_on,
    smoothed,
    stiffness,
    twin_weights,
    weights_above,
    weights_along,
    with_weights_of,
)
from kneten.core.remesh import triangulate
from kneten.core.stack import Stack
from kneten.core.twins import pairs_of

JOINTS = (
    Joint("Root", -1, (0.0, -110.0, 0.0), 0),
    Joint("Elbow", 0, (0.0, 0.0, 0.0), 1),
    Joint("End", 1, (0.0, 110.0, 0.0), 2),
)


def arm() -> Mesh:
    return Primitive("capsule", (40.0, 240.0, 40.0), (16, 48, 16)).made().mesh()


@pytest.fixture(scope="module")
def rigged() -> tuple[Mesh, Rig]:
    mesh = arm()
    return mesh, Rig(JOINTS, *found_weights(mesh, JOINTS))


def fork() -> tuple[Mesh, tuple[Joint, ...]]:
    """A body of three limbs that touch nowhere: two arms side by side, near to each other, on a trunk."""
    from kneten.core.live.armature import Armature
    from kneten.core.live.armature import Joint as Ball

    balls = (
        Ball(0, -1, (0.0, 0.0, 0.0), 14.0, 0),
        Ball(1, 0, (0.0, 30.0, 0.0), 14.0, 1),
        Ball(2, 1, (16.0, 40.0, 0.0), 9.0, 3),
        Ball(3, 1, (-16.0, 40.0, 0.0), 9.0, 2),
        Ball(4, 2, (14.0, 100.0, 0.0), 7.0, 5),
        Ball(5, 3, (-14.0, 100.0, 0.0), 7.0, 4),
    )
    mesh = Armature(balls, edge=4.0).made().mesh()
    names = ("Hip", "Chest", "Left", "Right", "Left end", "Right end")
    joints = tuple(
        Joint(name, ball.parent, ball.place, ball.twin) for name, ball in zip(names, balls, strict=True)
    )
    return mesh, joints


def volume(mesh: Mesh, places: np.ndarray) -> float:
    a, b, c = (places[triangulate(mesh.topology.faces)[:, k]].astype(np.float64) for k in range(3))
    return float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6)


@pytest.mark.parametrize(
    ("turn", "most"),
    [
        ((90.0, 0.0, 0.0), 0.04),
        ((0.0, 180.0, 0.0), 0.08),
        ((0.0, 170.0, 0.0), 0.08),
        ((60.0, 100.0, 30.0), 0.05),
    ],
)
def test_the_volume_stays(rigged: tuple[Mesh, Rig], turn: tuple[float, float, float], most: float) -> None:
    mesh, rig = rigged
    found = rig.with_joint(1, turn=turn).posed(mesh.positions, 1.0)
    assert volume(mesh, found) == pytest.approx(volume(mesh, mesh.positions), rel=most)


def test_what_lies_far_from_a_joint_is_only_turned(rigged: tuple[Mesh, Rig]) -> None:
    mesh, rig = rigged
    bent = rig.with_turn(1, np.array([70.0, 0.0, 20.0]))
    found = bent.posed(mesh.positions, 1.0)
    far = np.flatnonzero(mesh.positions[:, 1] > 100)
    one, other = (p[far] - p[far].mean(axis=0) for p in (mesh.positions, found))
    turn = Rotation.from_rotvec(np.radians([70.0, 0.0, 20.0])).as_matrix()
    assert np.abs(one @ turn.T - other).max() < 1e-4 * 240
    low = mesh.positions[:, 1] < -100
    assert np.abs(found[low] - mesh.positions[low]).max() < 1e-4 * 240


@settings(max_examples=25, deadline=None)
@given(
    a=st.tuples(*[st.floats(-175, 175)] * 3), b=st.tuples(*[st.floats(-175, 175)] * 3),
    shift=st.tuples(*[st.floats(-50, 50)] * 3), share=st.floats(-1, 1), seed=st.integers(0, 99),
)  # fmt: skip
def test_a_pose_and_its_inverse_are_nothing(a, b, shift, share: float, seed: int) -> None:  # type: ignore[no-untyped-def]
    rng = np.random.default_rng(seed)
    which = rng.integers(0, 3, (200, 4)).astype(np.uint8)
    which, weights = evened(which, rng.random((200, 4)).astype(np.float32))
    rig = Rig(JOINTS, which, weights).with_moves({"Root": (a, shift), "Elbow": (b, NOWHERE)})
    places = rng.normal(0, 80, (200, 3)).astype(np.float32)
    there = rig.posed(places, share)
    assert np.abs(rig.posed(there, share, back=True) - places).max() < 1e-5 * 400
    # Moves are told as the difference of two places.
    rows = np.sort(rng.choice(200, 50, replace=False)).astype(np.int32)
    moves = rng.normal(0, 1, (50, 3)).astype(np.float32)
    other = places.copy()
    other[rows] += moves
    told = rig.turned(rows, moves, share)
    assert np.abs(rig.posed(other, share)[rows] - there[rows] - told).max() < 2e-3
    assert np.abs(rig.turned(rows, told, share, back=True) - moves).max() < 1e-4
    assert np.abs(np.linalg.norm(told, axis=1) - np.linalg.norm(moves, axis=1)).max() < 1e-4


@settings(max_examples=25, deadline=None)
@given(turns=st.lists(st.tuples(*[st.floats(-170, 170)] * 3), min_size=6, max_size=6))
def test_mirrored_twice_is_as_it_was(turns: list[tuple[float, float, float]]) -> None:
    _, joints = fork()
    none = np.zeros((1, 4), np.uint8), np.ones((1, 4), np.float32) / 4
    rig = Rig(tuple(replace(j, turn=t, shift=t) for j, t in zip(joints, turns, strict=True)), *none)
    assert rig.mirrored().mirrored().joints == rig.joints
    here, there = rig.places_now(), rig.mirrored().places_now()
    twins = [joint.twin for joint in joints]
    assert np.abs(here * [-1, 1, 1] - there[twins]).max() < 1e-9 * 1e3


def test_weights_follow_the_form_not_the_nearest_bone() -> None:
    mesh, joints = fork()
    which, share = found_weights(mesh, joints)
    assert share.dtype == np.float32
    assert np.abs(share.sum(axis=1, dtype=np.float64) - 1).max() < 1e-6
    assert share.min() >= 0
    assert (np.diff(share, axis=1) <= 1e-6).all()
    rig = Rig(joints, which, share)
    left, right = dense(rig, [2])[:, 0], dense(rig, [3])[:, 0]
    upper = mesh.positions[:, 1] > 60
    # On one arm nothing of the other, however near it is.
    assert right[upper & (mesh.positions[:, 0] > 0)].max() < 0.05
    assert left[upper & (mesh.positions[:, 0] > 0)].min() > 0.9
    # The same on both sides.
    pairs = pairs_of(mesh, 0)
    assert pairs is not None
    assert np.abs(left[pairs.twin] - right).max() < 0.02


def test_a_wall_hides_the_bone_behind_it() -> None:
    """Of two bars side by side each has its own bone, though the other's may be nearer to its edge."""
    bar = Primitive("box", (20.0, 100.0, 20.0), (6, 24, 6)).made().mesh()
    shape = bar.topology.faces
    places = np.concatenate([bar.positions + np.float32([11, 0, 0]), bar.positions - np.float32([11, 0, 0])])
    mesh = Mesh.from_faces(
        places, np.concatenate([shape, np.where(shape >= 0, shape + bar.n_vertices, -1)]).astype(np.int32)
    )
    joints = (
        Joint("Root", -1, (0.0, -49.0, 0.0)),
        Joint("A", 0, (18.0, -40.0, 0.0)),
        Joint("A end", 1, (18.0, 40.0, 0.0)),
        Joint("B", 0, (-3.0, -40.0, 0.0)),
        Joint("B end", 3, (-3.0, 40.0, 0.0)),
    )
    rig = Rig(joints, *found_weights(mesh, joints))
    b = dense(rig, [3])[:, 0]
    upper = mesh.positions[:, 1] > -20
    first = mesh.positions[:, 0] > 0
    # The inner wall of A is 2 mm from B's bone and 16 from its own.
    assert b[upper & first].max() < 0.05
    assert b[upper & ~first].min() > 0.9


@pytest.mark.parametrize(
    ("joints", "words"),
    [
        ((), "1 to 255"),
        ((Joint("A", 0, (0.0, 0.0, 0.0)),), "hangs on itself"),
        ((Joint("A", 1, (0.0, 0.0, 0.0)), Joint("B", 0, (0.0, 9.0, 0.0))), "comes after"),
        ((Joint("A", -1, (0.0, 0.0, 0.0)), Joint("A", 0, (0.0, 9.0, 0.0))), "two joints are called A"),
        ((Joint("A", -1, (0.0, 0.0, 0.0)), Joint("B", 0, (0.0, 0.0, 0.0))), "needs some length"),
        ((Joint("A", -1, (0.0, np.nan, 0.0)),), "make no sense"),
        ((Joint("A", 7, (0.0, 0.0, 0.0)),), "not there"),
        ((Joint("A", -1, (0.0, 0.0, 0.0)), Joint("B", 0, (900.0, 0.0, 0.0))), "outside"),
    ],
)
def test_joints_that_cannot_be_are_refused_with_words(joints: tuple[Joint, ...], words: str) -> None:
    with pytest.raises(RigError, match=words):
        found_weights(arm(), joints)


def test_joints_that_can_be_have_nothing_wrong() -> None:
    assert wrong_joints(JOINTS) == ""


def test_a_limb_is_pulled_to_where_it_can_reach(rigged: tuple[Mesh, Rig]) -> None:
    _, rig = rigged
    point = np.array([0.0, 100.0, 0.0])
    for target in ([60.0, 70.0, 20.0], [-80.0, 40.0, 0.0], [0.0, -40.0, 90.0]):
        found = pulled(rig, 1, point, np.array(target), up=2, rounds=150)
        moves = found.matrices()[1]
        assert np.linalg.norm(moves[:3, :3] @ point + moves[:3, 3] - target) < 0.5
    # One joint alone turns towards it.
    alone = pulled(rig, 1, point, np.array([90.0, 0.0, 0.0]))
    assert not any(alone.joints[0].turn)
    assert np.allclose(alone.joints[1].turn, [0.0, 0.0, -90.0], atol=1e-6)
    limited = pulled(rig.with_joint(1, limit=30.0), 1, point, np.array([90.0, 0.0, 0.0]))
    assert np.linalg.norm(limited.joints[1].turn) == pytest.approx(30.0)


def test_poses_are_mixed_the_short_way(rigged: tuple[Mesh, Rig]) -> None:
    _, rig = rigged
    first, second = rig.with_joint(1, turn=(170.0, 0.0, 0.0)), rig.with_joint(1, turn=(-170.0, 0.0, 0.0))
    middle = mixed(first, second, 0.5)
    assert np.linalg.norm(middle.joints[1].turn) == pytest.approx(180.0, abs=1e-6)
    assert mixed(first, second, 0.0).joints[1].turn == pytest.approx(first.joints[1].turn)
    assert np.allclose(as_short(np.array([270.0, 0.0, 0.0])), [-90.0, 0.0, 0.0])
    with pytest.raises(IndexError):
        rig.with_joint(-1, turn=NOWHERE)


def test_rigid_moves_as_dual_quaternions() -> None:
    rng = np.random.default_rng(3)
    moves = np.tile(np.eye(4), (5, 1, 1))
    moves[:, :3, :3] = Rotation.random(5, random_state=3).as_matrix()
    moves[:, :3, 3] = rng.normal(0, 30, (5, 3))
    duals = duals_of(moves)
    assert np.abs(np.linalg.norm(duals[:, :4], axis=1) - 1).max() < 1e-12
    # Both parts are square to each other, else it would be no rigid move.
    assert np.abs((duals[:, :4] * duals[:, 4:]).sum(axis=1)).max() < 1e-9
    joints = tuple(Joint(f"J{k}", -1, (0.0, 0.0, 0.0)) for k in range(5))
    which = np.repeat(np.arange(5, dtype=np.uint8)[:, None], 4, axis=1)
    share = np.tile(np.float32([1, 0, 0, 0]), (5, 1))
    rig = Rig(joints, which, share)
    rig = rig.with_moves(
        {
            f"J{k}": (
                as_vector(np.degrees(Rotation.from_matrix(moves[k, :3, :3]).as_rotvec())),
                as_vector(moves[k, :3, 3]),
            )
            for k in range(5)
        }
    )
    places = rng.normal(0, 50, (5, 3)).astype(np.float32)
    wanted = np.einsum("kij,kj->ki", moves[:, :3, :3], places) + moves[:, :3, 3]
    assert np.abs(rig.posed(places, 1.0) - wanted).max() < 1e-4


# -- changes of weights ---------------------------------------------------------------------------


@settings(max_examples=25, deadline=None)
@given(seed=st.integers(0, 999), number=st.integers(0, 2))
def test_painted_weights_add_up_to_one(seed: int, number: int) -> None:
    rng = np.random.default_rng(seed)
    which = np.argsort(rng.random((100, 4)), axis=1).astype(np.uint8)
    which, share = evened(which % 3, np.where(which < 3, rng.random((100, 4)) ** 4, 0).astype(np.float32))
    # As a rig has them: each joint once.
    first = Rig(JOINTS, which, share)
    columns = [dense(first, [k])[:, 0] for k in range(3)]
    wanted = (rng.random(100) * (rng.random(100) > 0.3)).astype(np.float32)
    new = with_weights_of(first, number, wanted)
    assert np.abs(new.share.sum(axis=1, dtype=np.float64) - 1).max() < 1e-6
    got = dense(new, [number])[:, 0]
    # The root turns what nothing else does; all others are as they were painted.
    others = sum(columns[k] for k in range(3) if k != number)
    free = (others > 1e-6) | (number != 0)
    assert np.abs(got - wanted)[free].max(initial=0.0) < 2e-4
    for k in range(3):
        if k != number:
            kept = others > 1e-3
            ratio = columns[k][kept] / others[kept] * (1 - wanted[kept])
            assert np.abs(dense(new, [k])[kept, 0] - ratio).max(initial=0.0) < 2e-3


def test_weights_are_evened_where_nothing_is_masked(rigged: tuple[Mesh, Rig]) -> None:
    mesh, rig = rigged
    hard = with_weights_of(rig, 1, (mesh.positions[:, 1] > 0).astype(np.float32))
    left = (mesh.positions[:, 0] > 0).astype(np.float32)
    soft = smoothed(hard, mesh, left, 6)
    step = np.abs(mesh.positions[:, 1]) < 6
    assert np.abs(dense(soft, [1]) - dense(hard, [1]))[step & (left > 0)].mean() > 0.1
    assert np.abs(dense(soft, [1]) - dense(hard, [1]))[left == 0].max() < 1e-3
    assert np.abs(soft.share.sum(axis=1, dtype=np.float64) - 1).max() < 1e-6


def test_one_sides_weights_are_taken_over() -> None:
    mesh, joints = fork()
    rig = Rig(joints, *found_weights(mesh, joints))
    left = mesh.positions[:, 0] > 0
    painted = with_weights_of(
        rig, 2, np.where(left & (mesh.positions[:, 1] > 50), 1.0, dense(rig, [2])[:, 0]).astype(np.float32)
    )
    pairs = pairs_of(mesh, 0)
    assert pairs is not None
    both = twin_weights(painted, pairs.twin, True, left)
    other = pairs.twin[np.flatnonzero(left)]
    assert np.array_equal(dense(both, [3])[other], dense(painted, [2])[left])
    assert np.array_equal(dense(both, [2])[left], dense(painted, [2])[left])


def test_weights_on_finer_levels(rigged: tuple[Mesh, Rig]) -> None:
    mesh, rig = rigged
    stack = Stack.of(mesh)
    fine = mesh
    for _ in range(2):
        stack, fine = stack.added(fine, Progress())
    shapes = [level.topology for level in stack.levels]
    steps = [level.step for level in stack.levels[1:]]
    which, share = weights_above(rig, shapes, [step for step in steps if step is not None])
    assert which.shape == share.shape == (fine.n_vertices, 4)
    assert np.abs(share.sum(axis=1, dtype=np.float64) - 1).max() < 1e-6
    # Bent by these, the fine clay lies where the coarse clay's own surface does.
    bent = rig.with_joint(1, turn=(80.0, 0.0, 0.0))
    there = bent.posed_some(fine.positions, which, share, 1.0)
    coarse = Stack.of(mesh.with_positions(bent.posed(mesh.positions, 1.0)))
    other = coarse.base
    for shape, step in zip(shapes, steps, strict=False):
        assert step is not None
        other = step.refine(shape, other, True, np.float32)
    assert np.abs(there - other).max() < 1.0


def test_what_sits_on_a_body_has_the_weights_of_the_clay_beside_it(rigged: tuple[Mesh, Rig]) -> None:
    mesh, rig = rigged
    ring = (mesh.positions[np.abs(mesh.positions[:, 1] - 30) < 20] * np.float32([1.1, 1, 1.1])).astype(
        np.float32
    )
    which, share = weights_along(rig, mesh, ring, False)
    along = Rig(JOINTS, which, share)
    own = dense(rig, [1])[np.abs(mesh.positions[:, 1] - 30) < 20]
    assert np.abs(dense(along, [1]) - own).max() < 0.05
    stiff = Rig(JOINTS, *weights_along(rig, mesh, ring, True))
    assert stiff.as_one
    assert not along.as_one


def test_bones_and_stiffness() -> None:
    bones = bones_of(JOINTS)
    off, spots = nearest_on(bones, np.array([[5.0, -50.0, 0.0], [0.0, 200.0, 0.0]]))
    assert off[0, 0] == pytest.approx(5.0)
    assert off[1, 1] == pytest.approx(90.0)
    assert np.allclose(spots[1, 1], [0.0, 110.0, 0.0])
    alone = bones_of(JOINTS[:1])
    assert alone.of.tolist() == [0]
    mesh = arm()
    matrix = stiffness(mesh.positions, mesh.topology.faces)
    assert abs(matrix @ np.ones(mesh.n_vertices)).max() < 1e-9
    assert abs(matrix - matrix.T).max() < 1e-12


# -- motions --------------------------------------------------------------------------------------


def walker() -> Rig:
    from kneten.core.live.bodies import biped_slender
    from kneten.document.rigging import joints_from

    joints = joints_from(biped_slender())
    n = len(joints)
    which = np.repeat(np.arange(n, dtype=np.uint8)[:, None], 4, axis=1)
    return Rig(joints, which, np.tile(np.float32([1, 0, 0, 0]), (n, 1)))


@pytest.mark.parametrize("key", list(MOTIONS))
def test_motions_loop_and_move_what_they_are_about(key: str) -> None:
    rig = walker()
    assert lacking(rig, key) == ""
    first, last = moved(rig, key, 0.0).places_now(), moved(rig, key, 1.0).places_now()
    assert np.abs(first - last).max() < 1e-6
    paths = np.array([moved(rig, key, t).places_now() for t in np.linspace(0, 1, 33)])
    # Nothing jumps from one picture to the next.
    assert np.linalg.norm(np.diff(paths, axis=0), axis=2).max() < 22.0
    assert np.linalg.norm(paths - paths[0], axis=2).max() > (1.0 if key in ("breathe", "stand") else 5.0)


def test_a_walk_is_the_same_on_both_sides_half_a_round_apart() -> None:
    rig = walker()
    here, there = moved(rig, "walk", 0.2), moved(rig, "walk", 0.7)
    assert np.abs(here.mirrored().places_now() - there.places_now()).max() < 1e-6
    feet = [k for k, joint in enumerate(rig.joints) if joint.name.startswith("Ankle")]
    ways = np.array([moved(rig, "walk", t).places_now()[feet, 2] for t in np.linspace(0, 1, 25)])
    assert np.ptp(ways, axis=0).min() > 25
    # A foot is higher while it comes forward than while it goes back.
    high = np.array([moved(rig, "walk", t).places_now()[feet[0], 1] for t in np.linspace(0, 1, 49)])
    forward = (
        np.gradient(np.array([moved(rig, "walk", t).places_now()[feet[0], 2] for t in np.linspace(0, 1, 49)]))
        > 0
    )
    assert high[forward].mean() > high[~forward].mean() + 2


def test_motions_go_on_from_a_pose_and_say_what_they_lack(rigged: tuple[Mesh, Rig]) -> None:
    _, rig = rigged
    assert "called hip" in lacking(rig, "walk")
    posed = walker()
    arm_ = next(k for k, joint in enumerate(posed.joints) if joint.name == "Elbow left")
    posed = posed.with_joint(arm_, turn=(0.0, 0.0, 50.0))
    shown = moved(posed, "look", 0.3)
    assert shown.joints[arm_] is posed.joints[arm_]
    parts = parts_of(posed)
    assert [posed.joints[k].name for k in parts["neck", ""]] == ["Neck"]
    assert len(parts["hip", "left"]) == 2
