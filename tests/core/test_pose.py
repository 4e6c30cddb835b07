"""Limbs found, bent and brought back: volume, folds, mirror images, pulls, and what cannot be posed."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kneten.core.live.primitive import Primitive
from kneten.core.mesh import Mesh
from kneten.core.pose.chain import (
    Hinge,
    Limb,
    Pose,
    band_of,
    course_of,
    curled,
    posed_rows,
    pulled,
)
from kneten.core.pose.limb import LimbError, find_cut, limb_beyond
from tests.conftest import make_ball


def capsule(width: float = 40.0, height: float = 240.0) -> Mesh:
    return Primitive("capsule", (width, height, width), (20, 60, 20)).made().mesh()


def pressed(mesh: Mesh, spot: tuple[float, float, float]) -> tuple[int, np.ndarray]:
    vertex = int(np.argmin(((mesh.positions - np.float32(spot)) ** 2).sum(axis=1)))
    face = int(mesh.topology.ring_faces[mesh.topology.ring[vertex, 0]])
    corners = mesh.topology.faces[face]
    return face, mesh.positions[corners[corners >= 0]].astype(np.float64).mean(axis=0)


def volume(mesh: Mesh, positions: np.ndarray) -> float:
    faces = mesh.topology.faces
    threes = np.concatenate([faces[:, :3], faces[faces[:, 3] >= 0][:, [0, 2, 3]]])
    a, b, c = (positions[threes[:, k]].astype(np.float64) for k in range(3))
    return float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6)


@pytest.fixture(scope="module")
def arm() -> tuple[Mesh, Limb, Hinge]:
    mesh = capsule()
    face, point = pressed(mesh, (0.0, 30.0, 20.0))
    limb, hinge = limb_beyond(mesh, find_cut(mesh, face, point))
    return mesh, limb, hinge


def chain(hinge: Hinge, limb: Limb, count: int) -> tuple[Hinge, ...]:
    apart = limb.last / count
    return tuple(replace(hinge, at=k * apart, band=0.8 * apart) for k in range(count))


def test_the_cut_goes_square_round_the_limb(arm: tuple[Mesh, Limb, Hinge]) -> None:
    mesh, limb, hinge = arm
    assert hinge.radius == pytest.approx(20.0, rel=0.03)
    line = limb.line
    assert np.abs(line[:, [0, 2]]).max() < 0.6
    assert np.sign(line[-1, 1] - line[0, 1]) == 1
    # The nearer end is the limb, and stations are heights.
    rows = limb.rows[limb.station > 0]
    assert mesh.positions[rows, 1].min() > line[0, 1] - 2
    high = mesh.positions[limb.rows, 1] - line[0, 1]
    near = (limb.station > -20) & (limb.station < 60)
    assert np.abs(high - limb.station)[near].max() < 3


def test_a_waist_is_found_beside_where_it_was_pressed() -> None:
    mesh = capsule()
    thin = 1 - 0.4 * np.exp(-(((mesh.positions[:, 1] - 42) / 14) ** 2))
    waisted = mesh.with_positions(
        (mesh.positions * np.stack([thin, np.ones_like(thin), thin], 1)).astype(np.float32)
    )
    face, point = pressed(waisted, (0.0, 33.0, 16.0))
    cut = find_cut(waisted, face, point)
    assert cut.middle[1] == pytest.approx(42, abs=3)
    assert find_cut(waisted, face, point, slide=0.0).middle[1] < 36


@pytest.mark.parametrize(
    ("bend", "twist", "most"), [(90.0, 0.0, 0.04), (0.0, 180.0, 0.08), (60.0, 120.0, 0.05)]
)
def test_the_volume_stays(arm: tuple[Mesh, Limb, Hinge], bend: float, twist: float, most: float) -> None:
    mesh, limb, hinge = arm
    pose = Pose((limb,), (replace(hinge, bend=(bend, 0.0, 0.0), twist=twist),))
    found = pose.posed(mesh.positions, 1.0)
    assert volume(mesh, found) == pytest.approx(volume(mesh, mesh.positions), rel=most)


@pytest.mark.parametrize("degrees", [40.0, 90.0, 150.0])
def test_no_face_is_turned_over_in_the_bend(arm: tuple[Mesh, Limb, Hinge], degrees: float) -> None:
    mesh, limb, hinge = arm
    narrow = replace(hinge, band=5.0, bend=(degrees, 0.0, 0.0))
    found = Pose((limb,), (narrow,)).posed(mesh.positions, 1.0)
    faces = mesh.topology.faces
    course = course_of(limb, (narrow,))

    def areas(places: np.ndarray) -> np.ndarray:
        p = places.astype(np.float64)
        return np.cross(p[faces[:, 2]] - p[faces[:, 0]], p[faces[:, 3]] - p[faces[:, 1]])

    # Each face still looks where the turn at its place brings what it looked at.
    station = np.zeros(mesh.n_vertices)
    station[limb.rows] = limb.station
    before, after = areas(mesh.positions), areas(found)
    for f in np.flatnonzero(np.abs(station[faces]).max(axis=1) > 0)[::7]:
        turn = course.at(float(station[faces[f]].mean()))[2]
        assert (turn @ before[f]) @ after[f] > 0


def test_what_lies_far_beyond_goes_along_as_it_is(arm: tuple[Mesh, Limb, Hinge]) -> None:
    mesh, limb, hinge = arm
    found = Pose((limb,), (replace(hinge, bend=(70.0, 0.0, 0.0)),)).posed(mesh.positions, 1.0)
    far = limb.rows[limb.station > 50]
    one = mesh.positions[far] - mesh.positions[far].mean(axis=0)
    other = found[far] - found[far].mean(axis=0)
    u, _, vt = np.linalg.svd(one.astype(np.float64).T @ other.astype(np.float64))
    assert np.abs(one @ (u @ vt) - other).max() < 1e-3
    still = np.setdiff1d(np.arange(mesh.n_vertices), limb.rows)
    assert np.array_equal(found[still], mesh.positions[still])


@settings(max_examples=25, deadline=None)
@given(
    bend=st.floats(-150, 150), aside=st.floats(-60, 60), twist=st.floats(-200, 200), length=st.floats(0.5, 2),
    thickness=st.floats(0.5, 2), share=st.floats(-1, 2),
)  # fmt: skip
def test_it_is_brought_back(
    arm: tuple[Mesh, Limb, Hinge], bend: float, aside: float, twist: float, length: float, thickness: float, share: float
) -> None:  # fmt: skip
    mesh, limb, hinge = arm
    hinges = chain(hinge, limb, 2)
    hinges = (
        replace(hinges[0], bend=(bend, aside, 0.0), twist=twist, length=length),
        replace(hinges[1], thickness=thickness),
    )
    pose = Pose((limb,), hinges)
    there = pose.posed(mesh.positions, share)
    assert np.abs(pose.posed(there, share, back=True) - mesh.positions).max() < 1e-5 * 240 * 4
    # Moves are turned as the difference of what is posed.
    rows = limb.rows[::17]
    moves = np.tile(np.float32([0.3, -0.2, 0.5]), (len(rows), 1))
    other = mesh.positions.copy()
    other[rows] += moves
    told = pose.turned(rows, moves, share)
    assert np.abs(pose.posed(other, share)[rows] - there[rows] - told).max() < 2e-3
    assert np.abs(pose.turned(rows, told, share, back=True) - moves).max() < 2e-4
    assert np.array_equal(posed_rows(mesh.positions[rows], [limb.station[::17]], pose, share), there[rows])


def test_nothing_turned_is_nothing_moved(arm: tuple[Mesh, Limb, Hinge]) -> None:
    mesh, limb, hinge = arm
    assert Pose((limb,), (hinge,)).still
    assert np.abs(Pose((limb,), (hinge,)).posed(mesh.positions, 1.0) - mesh.positions).max() < 2e-5
    bent = Pose((limb,), (replace(hinge, bend=(50.0, 0.0, 0.0)),))
    assert not bent.still
    assert np.abs(bent.posed(mesh.positions, 0.0) - mesh.positions).max() < 2e-5


def test_a_mirrored_limb_is_the_mirror_image(arm: tuple[Mesh, Limb, Hinge]) -> None:
    mesh, limb, hinge = arm
    flip = np.float32([-1, 1, 1])
    twin = replace(limb, line=limb.line * flip, across=limb.across * flip, mirrored=True)
    hinges = (replace(hinge, bend=(50.0, 20.0, 0.0), twist=30.0, length=1.2, thickness=1.1),)
    one = Pose((limb,), hinges).posed(mesh.positions, 1.0)
    other = Pose((twin,), hinges).posed((mesh.positions * flip).copy(), 1.0)
    assert np.abs(one * flip - other).max() < 2e-4


def test_longer_and_thicker_by_what_is_asked(arm: tuple[Mesh, Limb, Hinge]) -> None:
    mesh, limb, hinge = arm
    course = course_of(limb, (replace(hinge, length=1.5),))
    grown = np.linalg.norm(course.at(limb.last)[1] - course.at(0.0)[1]) / limb.last
    assert 1.25 < grown < 1.5
    thick = Pose((limb,), (replace(hinge, thickness=1.5),)).posed(mesh.positions, 1.0)
    mid = limb.rows[np.abs(limb.station - 45) < 4]
    wide = np.hypot(thick[mid, 0], thick[mid, 2]) / np.hypot(mesh.positions[mid, 0], mesh.positions[mid, 2])
    assert wide.mean() == pytest.approx(1.5, rel=0.06)


def test_a_pull_brings_the_end_to_where_it_is_wanted(arm: tuple[Mesh, Limb, Hinge]) -> None:
    _, limb, hinge = arm
    tip = limb.line[-1].astype(np.float64)
    base = limb.line[0].astype(np.float64)
    three = chain(hinge, limb, 3)
    target = base + np.array([45.0, 45.0, 10.0])
    found = pulled(limb, three, tip, limb.last, target, rounds=40)
    assert np.linalg.norm(course_of(limb, found).moved(tip, limb.last) - target) < 2.0
    # Each does its share, none more than it may.
    stiff = tuple(replace(one, limit=15.0) for one in three)
    held = pulled(limb, stiff, tip, limb.last, base + np.array([0.0, -50.0, 10.0]))
    assert all(np.linalg.norm(one.bend) <= 15.001 for one in held)
    # One hinge alone turns towards it.
    (one,) = pulled(limb, (hinge,), tip, limb.last, base + np.array([80.0, 0.0, 0.0]))
    end = course_of(limb, (one,)).moved(tip, limb.last) - base
    assert end[0] / np.linalg.norm(end) > 0.97


def test_a_curl_bends_all_hinges_alike(arm: tuple[Mesh, Limb, Hinge]) -> None:
    _, limb, hinge = arm
    found = curled(chain(hinge, limb, 4), 60.0)
    assert {one.bend for one in found} == {(60.0, 0.0, 0.0)}
    assert curled((replace(hinge, limit=30.0),), 60.0)[0].bend == (30.0, 0.0, 0.0)


def test_a_band_is_as_wide_as_its_bend_needs(arm: tuple[Mesh, Limb, Hinge]) -> None:
    hinge = replace(arm[2], band=10.0)
    assert band_of(hinge, 1.0) == 10.0
    widths = [band_of(replace(hinge, bend=(angle, 0.0, 0.0)), 1.0) for angle in (30.0, 90.0, 170.0)]
    assert widths == sorted(widths)
    assert widths[0] > 10.0


def test_where_there_is_no_limb_is_said() -> None:
    mesh = Primitive("torus", (120.0, 30.0, 120.0), (48, 24, 24), 0.6).made().mesh()
    face, point = pressed(mesh, (60.0, 0.0, 0.0))
    with pytest.raises(LimbError, match="hangs together"):
        limb_beyond(mesh, find_cut(mesh, face, point))
    sheet = Primitive("plane", (100.0, 1.0, 100.0), (12, 1, 12)).made().mesh()
    face, point = pressed(sheet, (0.0, 0.0, 0.0))
    with pytest.raises(LimbError, match="no limb"):
        find_cut(sheet, face, point)


def test_the_other_side_of_a_cut_may_be_asked_for() -> None:
    mesh = make_ball(50.0, 20)
    face, point = pressed(mesh, (0.0, 20.0, 46.0))
    cut = find_cut(mesh, face, point, slide=0.0)
    one, _ = limb_beyond(mesh, cut)
    other, _ = limb_beyond(mesh, cut, other_side=True)
    beyond = [set(limb.rows[limb.station > 0].tolist()) for limb in (one, other)]
    assert len(beyond[0]) <= len(beyond[1])
    assert len(beyond[0] & beyond[1]) < 0.02 * mesh.n_vertices


@pytest.mark.parametrize("field", [{"band": 0.0}, {"radius": -1.0}, {"bend": (300.0, 0.0, 0.0)}, {"length": 9.0}, {"limit": 400.0}])  # fmt: skip
def test_hinges_that_make_no_sense_are_known(field: dict[str, object]) -> None:
    hinge = Hinge(0.0, 10.0, 5.0)
    assert hinge.usable
    assert not replace(hinge, **field).usable  # type: ignore[arg-type]
