"""Joints found in the form of a body, told against the armatures that the bodies were made from."""

from __future__ import annotations

from functools import cache

import numpy as np
import pytest

from kneten.core.live.armature import Armature
from kneten.core.live.bodies import BODIES
from kneten.core.mesh import Mesh
from kneten.core.pose.fitter import KINDS, Fit, fit
from kneten.core.pose.middles import HollowError, Inside, far_ends, filled
from kneten.core.pose.rig import RigError, wrong_joints
from kneten.core.primitives import ball

KIND = {"slender": "biped", "heavy": "biped", "four-legged": "beast", "bird": "bird", "hand": "hand"}

NEAR = 0.075
"""Of a body's size, how far a joint may be from where the armature has it."""


def armature(name: str) -> Armature:
    return BODIES[name][1]()


def body(made: Armature) -> Mesh:
    clay = made.made()
    return Mesh.from_faces(clay.positions, clay.faces)


@cache
def inside(name: str) -> Inside:
    return filled([body(armature(name))])


def off(found: Fit, made: Armature, size: float) -> dict[str, float]:
    """How far joints are from the balls of the same name, of the body's size."""
    balls = {joint.name.lower(): joint.place for joint in made.joints}
    return {
        joint.name: float(np.linalg.norm(np.subtract(joint.place, balls[joint.name.lower()]))) / size
        for joint in found.joints
        if joint.name.lower() in balls
    }


@pytest.mark.long
@pytest.mark.parametrize("name", KIND)
def test_joints_are_where_the_armature_had_them(name: str) -> None:
    found = fit(inside(name), KIND[name])
    assert found.asks == ()
    assert wrong_joints(found.joints) == ""
    gaps = off(found, armature(name), inside(name).size)
    assert len(gaps) >= 20
    assert max(gaps.values()) < NEAR, sorted(gaps.items(), key=lambda one: -one[1])[:4]
    assert np.mean(list(gaps.values())) < 0.035


@pytest.mark.parametrize("name", [*KIND, "serpent"])
def test_joints_lie_within_the_clay(name: str) -> None:
    found = fit(inside(name), KIND.get(name, "serpent"))
    places = np.array([joint.place for joint in found.joints])
    gaps = inside(name).tree.query(places)[0]
    assert np.quantile(gaps, 0.8) < 1.5 * inside(name).step
    assert gaps.max() < 0.05 * inside(name).size


def test_a_serpents_joints_run_from_its_head_to_the_tip_of_its_tail() -> None:
    found = fit(inside("serpent"), "serpent")
    names = {joint.name: np.array(joint.place) for joint in found.joints}
    assert np.linalg.norm(names["Nose"] - [0, 56, 88]) < 6
    assert np.linalg.norm(names["Tail tip"] - [34, 2, -74]) < 6
    # One after the other, evenly.
    chain = np.array([joint.place for joint in found.joints if joint.name != "Nose"])
    steps = np.linalg.norm(np.diff(chain, axis=0), axis=1)
    assert steps.max() < 2.0 * steps.min()
    turned = fit(inside("serpent"), "serpent", {"Head": (34.0, 2.0, -74.0)})
    ends = {joint.name: np.array(joint.place) for joint in turned.joints}
    assert np.linalg.norm(ends["Nose"] - names["Tail tip"]) < 6


@pytest.mark.parametrize(
    ("name", "joint", "axis", "degrees", "both"),
    [
        ("slender", "shoulder left", (0, 0, 1), 60, True),
        ("slender", "shoulder left", (1, 0, 0), -70, True),
        ("slender", "hip left", (1, 0, 0), -35, False),
        ("heavy", "elbow left", (1, 0, 0), -80, True),
        ("four-legged", "hip left", (1, 0, 0), -25, False),
        ("bird", "wing shoulder left", (0, 0, 1), 70, True),
    ],
)
def test_bodies_that_stand_otherwise(
    name: str, joint: str, axis: tuple[int, int, int], degrees: float, both: bool
) -> None:
    made = armature(name)
    key = next(one.key for one in made.joints if one.name == joint)
    made = made.turned(key, np.array(axis, np.float64), degrees, both)
    clay = filled([body(made)])
    found = fit(clay, KIND[name])
    assert found.asks == ()
    gaps = off(found, made, clay.size)
    assert max(gaps.values()) < NEAR, sorted(gaps.items(), key=lambda one: -one[1])[:4]


def test_both_sides_are_fitted_as_one_and_size_and_place_do_not_matter() -> None:
    mesh = body(armature("slender"))
    there = Mesh(mesh.topology, mesh.positions * np.float32(7.5) + np.float32([900, 0, 40]))
    clay = filled([there])
    found, plain = fit(clay, "biped"), fit(inside("slender"), "biped")
    places = {joint.name: np.array(joint.place) for joint in found.joints}
    for joint in found.joints:
        twin = found.joints[joint.twin]
        assert np.allclose(np.add(joint.place, twin.place)[0], 1800, atol=0.5)
        assert np.allclose(joint.place[1:], twin.place[1:], atol=1e-6)
    for joint in plain.joints:
        assert (
            np.linalg.norm(places[joint.name] - np.multiply(joint.place, 7.5) - [900, 0, 40])
            < 0.03 * clay.size
        )


def test_what_is_not_there_is_asked_for_and_can_be_pointed_at() -> None:
    made = armature("slender")
    keys = [one.key for one in made.joints if one.name in ("clavicle left", "hip left")]
    for key in keys:
        made = made.without(key, subtree=True)
    clay = filled([body(made)])
    found = fit(clay, "biped")
    assert found.asks == ("Hand left", "Hand right", "Foot left", "Foot right")
    assert [joint.name for joint in found.joints] == ["Chest", "Collar", "Neck", "Skull", "Crown"]
    # What lies in the trunk is no hand: it is asked for again.
    assert fit(clay, "biped", {"Hand left": (5.0, 118.0, 0.0)}).asks == found.asks


def test_what_was_taken_for_something_else_is_pointed_at() -> None:
    tip = next(joint.place for joint in armature("slender").joints if joint.name == "thumb 2 left")
    found = fit(inside("slender"), "biped", {"Hand left": tip})
    place = next(joint.place for joint in found.joints if joint.name == "Fingertips left")
    assert np.linalg.norm(np.subtract(place, tip)) < 6


def test_a_tail_goes_with_a_body_on_two_legs() -> None:
    made = armature("slender")
    pelvis = made.joints[0].key
    for place in ((0.0, 88.0, -14.0), (0.0, 76.0, -26.0), (0.0, 60.0, -36.0)):
        made, pelvis = made.drag_out(pelvis, place, 3.5, False)
    found = fit(filled([body(made)]), "biped")
    names = [joint.name for joint in found.joints]
    assert {"Tail 1", "Tail tip", "Knee left", "Elbow right"} <= set(names)
    tip = next(joint for joint in found.joints if joint.name == "Tail tip")
    assert np.linalg.norm(np.subtract(tip.place, (0, 60, -36))) < 6


def test_what_has_no_inside_is_refused_in_words() -> None:
    corners = np.array([[0, 0, 0], [90, 0, 0], [90, 60, 0], [0, 60, 0]], np.float32)
    with pytest.raises(HollowError, match="encloses"):
        filled([Mesh.from_faces(corners, np.array([[0, 1, 2, 3]], np.int32))])


@pytest.mark.long
@pytest.mark.parametrize("kind", KINDS)
def test_a_ball_is_no_body(kind: str) -> None:
    clay = filled([Mesh.from_faces(*ball(50.0, 12))])
    if kind == "biped":
        # A bust without arms may look like this.
        assert len(fit(clay, kind).asks) == 4
        return
    with pytest.raises(RigError, match="point at its ends"):
        fit(clay, kind)


def test_ways_to_the_ends_lie_in_the_middle_of_limbs() -> None:
    clay = inside("four-legged")
    ways = far_ends(clay, int(np.argmax(clay.depth)))
    lines = [clay.branch(way) for way in ways]
    assert len(lines) >= 8
    leg = min(lines, key=lambda line: np.linalg.norm(line.points[0] - [17, 1, -30]))
    # Half-way up the hind leg the line is as far from the clay as it can be there.
    at = leg.at(0.45 * leg.length)
    near = clay.tree.query_ball_point(at, 4.0)
    assert leg.radius(0.45 * leg.length) > 0.75 * clay.depth[near].max()
