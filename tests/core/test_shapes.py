"""Shapes: curves and drivers, sums of many, halves and mirror images, what goes along."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from kneten.core.arrays import Progress
from kneten.core.mesh import Mesh
from kneten.core.pose.actions import ACTIONS
from kneten.core.pose.blend import Blend
from kneten.core.pose.shape_edits import (
    alone,
    carried,
    halves,
    lessened,
    mirrored_moves,
    own_moves,
    pieces_of,
    ridden,
    rigid,
    share_of_left,
    told,
    twins_between,
)
from kneten.core.pose.shapes import (
    LEAST_DIAL,
    MOST_DIAL,
    Driver,
    Shape,
    ShapeError,
    driven_dials,
    following,
)
from kneten.core.primitives import ball
from kneten.core.relief import Relief, packed
from kneten.core.stack import Layer, Stack
from tests.conftest import make_ball


def two_levels() -> tuple[Stack, Mesh]:
    """A ball of two levels with a layer on both."""
    mesh = make_ball(divisions=8)
    stack, mesh = Stack.of(mesh).added(mesh, Progress())
    rng = np.random.default_rng(3)
    reliefs = tuple(
        packed(rng.normal(0, 2, (level.topology.n_vertices, 3)).astype(np.float32)) for level in stack.levels
    )
    stack = replace(stack, layers=(Layer("Both", reliefs=reliefs, shape=Shape("a")),))
    return stack.changed(mesh, lambda now: now)[0], mesh


def test_a_curve_says_how_much_there_is() -> None:
    straight = Driver("a", ((0.0, 0.0), (0.5, 1.0), (1.0, 0.0)))
    assert [straight.amount(at) for at in (-1, 0, 0.25, 0.5, 0.75, 1, 2)] == [0, 0, 0.5, 1, 0.5, 0, 0]
    soft = replace(straight, soft=True)
    assert soft.amount(0.5) == 1.0
    assert soft.amount(0.05) < straight.amount(0.05)
    assert soft.amount(0.25) == pytest.approx(0.5)


@pytest.mark.parametrize(
    "driver",
    [
        Driver("a", ((0.0, 0.0),)),
        Driver("a", ((0.0, 0.0), (0.0, 1.0))),
        Driver("a", ((1.0, 0.0), (0.0, 1.0))),
        Driver("a", ((0.0, 0.0), (1.0, 1e30))),
        Driver("Elbow", rig="r"),
    ],
)
def test_drivers_that_cannot_be_read_are_not_usable(driver: Driver) -> None:
    assert not driver.usable
    assert not Shape("b", drivers=(driver,)).usable
    assert not Shape("b", drivers=(Driver("b"),)).usable


def test_a_joint_is_on_its_way_by_the_share_of_its_turn() -> None:
    driver = Driver("Elbow", rig="r", towards=(0.0, 0.0, 90.0))
    assert driver.way((0.0, 0.0, 45.0)) == pytest.approx(0.5)
    assert driver.way((70.0, 0.0, 0.0)) == 0.0


def test_corrections_follow_dials_joints_and_each_other() -> None:
    shapes = {
        "last": Shape("last", drivers=(Driver("both"),)),
        "a": Shape("a"),
        "b": Shape("b"),
        "both": Shape("both", drivers=(Driver("a"), Driver("b"))),
        "bent": Shape("bent", drivers=(Driver("Elbow", rig="r", towards=(0.0, 0.0, 90.0)),)),
    }
    dials = driven_dials(shapes, {"a": 0.5, "b": 1.5}, {"r": {"Elbow": (0.0, 0.0, 45.0)}})
    assert dials == {"both": 0.5, "last": 0.5, "bent": 0.5}
    # Gone with either of them, and no more than whole beyond.
    assert driven_dials(shapes, {"a": 0.0, "b": 1.0}, {})["both"] == 0.0
    assert driven_dials(shapes, {"a": 1.5, "b": 1.5}, {})["both"] == 1.0
    assert following(shapes, {"a"}) == {"both", "last"}
    shapes["a"] = Shape("a", drivers=(Driver("last"),))
    with pytest.raises(ShapeError, match="circle"):
        driven_dials(shapes, {}, {})


def test_the_coding_names_what_moves() -> None:
    assert ACTIONS["26"].name == "Jaw drop"
    assert all(one.key == key and one.moves for key, one in ACTIONS.items())


@settings(max_examples=20, deadline=None)
@given(
    amounts=st.lists(st.floats(LEAST_DIAL, MOST_DIAL, width=32), min_size=5, max_size=5),
    seed=st.integers(0, 2**16),
)
def test_many_sums_are_what_single_ones_add_up_to(amounts: list[float], seed: int) -> None:
    rng = np.random.default_rng(seed)
    base = rng.normal(0, 50, (300, 3)).astype(np.float32)
    reliefs = [Relief.none(), Relief(np.empty(0, np.int32), rng.normal(0, 1, (300, 3)).astype(np.float32))]
    for _ in range(3):
        rows = np.sort(rng.choice(300, 40, replace=False)).astype(np.int32)
        reliefs.append(Relief(rows, rng.normal(0, 1, (40, 3)).astype(np.float32)))
    blend = Blend(base, reliefs)
    wanted = base + sum(np.float32(a) * one.dense(300) for a, one in zip(amounts, reliefs, strict=True))
    assert np.abs(blend.at(amounts) - wanted).max() < 1e-4
    some = np.array([3, 77, 120], np.int32)
    assert np.array_equal(blend.at(amounts, some), blend.at(amounts)[some])
    assert np.array_equal(blend.at([0.0] * 5), base)
    with pytest.raises(ValueError, match="4 amounts"):
        blend.at(amounts[:4])


def test_left_and_right_together_are_the_whole_on_all_levels() -> None:
    stack, _ = two_levels()
    layer = stack.layers[0]
    left, right = halves(stack, layer, lambda places: places[:, 0], 20.0)
    for level in (0, 1):
        n = stack.levels[level].topology.n_vertices
        whole = layer.relief(level).dense(n)
        both = left.relief(level).dense(n) + right.relief(level).dense(n)
        assert np.abs(both - whole).max() < 1e-6
        x = stack.bare().form(level)[:, 0]
        assert not left.relief(level).dense(n)[x < -10.0].any()
        assert not right.relief(level).dense(n)[x > 10.0].any()
    shares = share_of_left(np.array([-30.0, -5.0, 0.0, 5.0, 30.0]), 20.0)
    assert (shares[0], shares[2], shares[4]) == (0.0, 0.5, 1.0)
    assert share_of_left(np.array([-1.0, 0.0, 1.0]), 0.0).tolist() == [0.0, 0.5, 1.0]


def test_what_is_taken_off_the_mask_goes_on_all_levels() -> None:
    stack, mesh = two_levels()
    free = (mesh.positions[:, 1] < 0).astype(np.float32)
    less = lessened(stack, stack.layers[0], free)
    for level in (0, 1):
        n = stack.levels[level].topology.n_vertices
        y = stack.bare().form(level)[:, 1]
        assert not less.relief(level).dense(n)[y > 10].any()
        assert np.array_equal(
            less.relief(level).dense(n)[y < -10], stack.layers[0].relief(level).dense(n)[y < -10]
        )
    low, up = stack.stepped(mesh, 0)[0], carried(stack, free, 0)
    assert len(up) == stack.levels[0].topology.n_vertices
    assert len(carried(low, up, 1)) == mesh.n_vertices


def test_mirror_of_mirror_is_the_shape() -> None:
    stack, _ = two_levels()
    layer = stack.layers[0]
    flip = np.diag([-1.0, 1.0, 1.0])
    for level in (0, 1):
        mesh = Mesh(stack.levels[level].topology, stack.bare().form(level))
        twin = twins_between(mesh, mesh, lambda places: places * [-1, 1, 1])
        assert (twin >= 0).all()
        moves = own_moves(stack, layer, level)
        once = mirrored_moves(moves, twin, flip)
        assert np.abs(once - moves).max() > 1.0
        again = own_moves(stack, layer.with_relief(level, told(stack, level, once)), level)
        assert np.abs(mirrored_moves(again, twin, flip) - moves).max() < 1e-4


def test_twins_are_found_by_place_where_meshes_differ() -> None:
    here, there = make_ball(divisions=6), make_ball(divisions=6)
    there.positions[:] = there.positions[::-1].copy() + np.array([3.0, 0.0, 0.0], np.float32)
    twin = twins_between(here, there, lambda places: (places - [3.0, 0.0, 0.0]) * [-1, 1, 1])
    assert (twin >= 0).all()
    there.positions += 40.0
    assert (twins_between(here, there, lambda places: places) == -1).all()


def two_beads() -> Mesh:
    """Two small balls on one of 100 mm: above and to the left."""
    positions, faces = ball(4.0, 4)
    n = len(positions)
    both = np.concatenate([positions + np.array(at) for at in ((0.0, 104.0, 0.0), (104.0, 0.0, 0.0))]).astype(
        np.float32
    )
    return Mesh.from_faces(
        both, np.concatenate([faces, np.where(faces >= 0, faces + n, -1)]).astype(np.int32)
    )


def test_what_sits_on_clay_goes_softly_or_piece_by_piece() -> None:
    body = make_ball()
    turn = Rotation.from_rotvec([0.0, 0.0, 0.3])
    moves = (turn.apply(body.positions) - body.positions).astype(np.float32)
    beads = two_beads()
    which = pieces_of(beads.topology)
    assert which.max() == 1
    pieces = [np.flatnonzero(which == k).astype(np.int32) for k in (0, 1)]
    gone = ridden(body, moves, beads.positions, pieces)
    assert np.abs(beads.positions + gone - turn.apply(beads.positions)).max() < 0.3
    for rows in pieces:
        before, after = beads.positions[rows], beads.positions[rows] + gone[rows]
        lengths = [np.linalg.norm(some[:, None] - some[None], axis=2) for some in (before, after)]
        assert np.abs(lengths[0] - lengths[1]).max() < 1e-4
    soft = ridden(body, moves, beads.positions, None)
    assert np.abs(soft - gone).max() < 4.0


def test_places_on_a_line_are_only_shifted() -> None:
    line = np.linspace([0.0, 0.0, 0.0], [0.0, 0.0, 9.0], 10)
    turn, shift = rigid(line, line + np.array([1.0, 2.0, 3.0]))
    assert np.allclose(turn, np.eye(3), atol=1e-4)
    assert np.allclose(shift, [1.0, 2.0, 3.0], atol=1e-3)


def test_a_layer_alone_is_what_it_does_to_the_finest_level() -> None:
    stack, _ = two_levels()
    layer = stack.layers[0]
    by_hand = stack.form(1) - stack.bare().form(1)
    assert np.array_equal(alone(stack, layer, 1), by_hand)
