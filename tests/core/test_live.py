"""Recipes: closed, oriented, symmetric where they should be, and clear about numbers that make no clay."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from kneten.core.arrays import Progress
from kneten.core.crossings import crossing
from kneten.core.distance import signed_distances
from kneten.core.live.armature import Armature, Joint
from kneten.core.live.bodies import BODIES
from kneten.core.live.clay import Clay, RecipeError
from kneten.core.live.curves import catmull_rom, thinned, travelling_frames
from kneten.core.live.eye import IRISES, PUPILS
from kneten.core.live.lathe import Lathe, LathePoint
from kneten.core.live.primitive import KINDS, Primitive
from kneten.core.live.recipes import recipe_from, recipe_words
from kneten.core.live.skeleton import skeleton
from kneten.core.live.starter import STARTERS
from kneten.core.live.strand import PROFILES, TAPERS, Knot, Strand, Strands, laid_onto
from kneten.core.regions import EYE_CORNEA, EYE_IRIS, EYE_PUPIL, EYE_WHITE, OWN
from kneten.core.remesh import triangulate
from kneten.core.solid import flaw, volume
from kneten.core.symmetry import exactly_symmetric
from tests.judge import drawn_out

OPEN = ("disc", "plane")


def body(clay: Clay) -> trimesh.Trimesh:
    return trimesh.Trimesh(clay.positions, triangulate(clay.faces), process=False)


def sound(clay: Clay) -> None:
    solid = body(clay)
    assert solid.is_watertight
    assert solid.is_winding_consistent
    assert solid.volume > 0


def knots(*places: tuple[float, float, float], thickness: float = 3.0) -> tuple[Knot, ...]:
    return tuple(Knot(place, thickness) for place in places)


BENT = Strand(knots((0, 0, 0), (0, 30, 5), (10, 60, 0), (40, 80, 0)))


@settings(max_examples=60, deadline=None)
@given(
    shape=st.sampled_from([kind for kind in KINDS if kind not in OPEN]),
    size=st.tuples(*[st.floats(1, 400)] * 3),
    divisions=st.tuples(*[st.integers(1, 24)] * 3),
    inner=st.floats(0, 1),
)
def test_primitives_are_closed_whatever_their_numbers(
    shape: str, size: tuple[float, float, float], divisions: tuple[int, int, int], inner: float
) -> None:
    clay = Primitive(shape, size, divisions, inner).made()
    sound(clay)
    if shape in ("sphere", "box", "cylinder", "capsule"):
        assert np.ptp(clay.positions, axis=0) == pytest.approx(size, rel=0.12)
        assert exactly_symmetric(clay.positions, 0)


@pytest.mark.parametrize("height", [30.0, 60.0, 60.001, 61.0, 75.0, 400.0])
def test_a_capsule_has_no_rows_without_room(height: float) -> None:
    clay = Primitive("capsule", (60.0, height, 60.0), (32, 40, 8)).made().mesh()
    corners = clay.positions[triangulate(clay.topology.faces)].astype(float)
    areas = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    assert areas.min() > 0.02 * np.median(areas)
    assert np.ptp(clay.positions, axis=0) == pytest.approx((60.0, height, 60.0), rel=1e-4)


def test_divisions_count_along_each_axis() -> None:
    assert len(Primitive("box", divisions=(2, 3, 4)).made().faces) == 2 * (2 * 3 + 3 * 4 + 2 * 4)
    assert len(Primitive("plane", divisions=(5, 1, 7)).made().faces) == 35


def test_a_pair_of_eyes_looks_where_it_should() -> None:
    pair = Primitive("eye", (30, 30, 30), (48, 40, 1), 0.5, (30.0, 0.0), 70.0).made()
    sound(pair)
    assert pair.colour is not None
    dark = pair.positions[pair.colour[:, :3].sum(axis=1) < 60]
    for side in (-35.0, 35.0):
        pupil = dark[np.abs(dark[:, 0] - side) < 16].mean(axis=0) - [side, 0, 0]
        assert np.degrees(np.arctan2(pupil[0], pupil[2])) == pytest.approx(30, abs=2)


@pytest.mark.parametrize(
    ("recipe", "words"),
    [
        (Primitive(size=(0.0, 1.0, 1.0)), "greater than zero"),
        (Primitive(size=(np.nan, 1.0, 1.0)), "greater than zero"),
        (Primitive(divisions=(0, 4, 4)), "at least one division"),
        (Primitive("box", divisions=(3000, 3000, 3000)), "choose fewer"),
        (Primitive("egg"), "no shape"),
        (Strands((Strand(knots((0, 0, 0))),)), "at least two points"),
        (Strands((Strand(knots((1, 1, 1), (1, 1, 1))),)), "that lie apart"),
        (Strands((BENT,), sides=2), "at least 3 sides"),
        (Strands((BENT,), copies=10_000_000), "choose fewer"),
        (Strands((BENT,), profile="drawn", drawn=((0, 0), (1, 0), (2, 0))), "no area"),
        (Lathe((LathePoint(1, 1),)), "at least two points"),
        (Lathe((LathePoint(0, 0), LathePoint(0, 9))), "on the axis"),
        (Armature(()), "at least one ball"),
        (Armature(edge=0.0), "greater than zero"),
        (Armature(edge=0.001), "longer edge"),
        (Armature(edge=200.0), "shorter edge"),
    ],
)
def test_numbers_that_make_no_clay_are_refused_in_words(recipe: Primitive, words: str) -> None:
    with pytest.raises(RecipeError, match=words):
        recipe.made()


@settings(max_examples=50, deadline=None)
@given(
    places=st.lists(st.tuples(*[st.integers(-60, 60)] * 3), min_size=2, max_size=7, unique=True),
    profile=st.sampled_from(PROFILES),
    taper=st.sampled_from(sorted(TAPERS)),
    sides=st.integers(3, 20),
    closed=st.booleans(),
    round_caps=st.booleans(),
)
def test_strands_are_closed_two_manifold_tubes(
    places: list[tuple[float, float, float]],
    profile: str,
    taper: str,
    sides: int,
    closed: bool,
    round_caps: bool,
) -> None:
    recipe = Strands(
        (Strand(knots(*places), closed),), profile, sides=sides, taper=TAPERS[taper], round_caps=round_caps
    )
    solid = body(recipe.made())
    assert solid.is_watertight
    assert solid.is_winding_consistent


def test_a_strand_is_as_thick_as_its_points_say() -> None:
    line = Strand((Knot((0, 0, 0), 2.0), Knot((0, 50, 0), 6.0)))
    clay = Strands((line,), sides=24, spans=10, round_caps=False).made()
    for height, radius in ((0.0, 2.0), (25.0, 4.0), (50.0, 6.0)):
        ring = clay.positions[np.abs(clay.positions[:, 1] - height) < 0.01]
        assert np.hypot(ring[:, 0], ring[:, 2]).max() == pytest.approx(radius, rel=1e-4)
    tipped = Strands((line,), sides=24, spans=10, round_caps=False, taper=TAPERS["tip"]).made()
    top = tipped.positions[np.abs(tipped.positions[:, 1] - 50) < 0.01]
    assert np.hypot(top[:, 0], top[:, 2]).max() == pytest.approx(6 * 0.04, rel=1e-3)


WIDE_BEND = Strand(
    (Knot((0, 0, 0), 4.0), Knot((20, 0, 10), 4.0), Knot((30, 0, 40), 4.0), Knot((0, 10, 50), 4.0))
)
LOOP = Strand(tuple(Knot((30 * np.cos(a), 30 * np.sin(a), 0), 4.0) for a in np.arange(8) * np.pi / 4), True)
STAR = tuple(
    ((1.0, 0.45)[i % 2] * np.cos(i * np.pi / 5), (1.0, 0.45)[i % 2] * np.sin(i * np.pi / 5))
    for i in range(10)
)


@pytest.mark.parametrize("round_caps", [False, True])
@pytest.mark.parametrize("sides", [6, 12, 16])
@pytest.mark.parametrize("flat", [0.2, 1.0, 3.0])
@pytest.mark.parametrize("profile", PROFILES)
def test_strands_neither_cross_nor_hold_faces_without_area(
    profile: str, flat: float, sides: int, round_caps: bool
) -> None:
    straight = Strand((Knot((0, 0, 0), 4.0), Knot((0, 0, 20), 4.0), Knot((0, 0, 40), 4.0)))
    for strand in (straight, WIDE_BEND, LOOP):
        recipe = Strands((strand,), profile, STAR, flat=flat, sides=sides, round_caps=round_caps)
        mesh = recipe.made().mesh()
        assert drawn_out(mesh).max() < 25.0
        assert not crossing(mesh).any()


@pytest.mark.parametrize(("profile", "twist"), [("rectangle", 180.0), ("round", 500.0), ("drawn", 350.0)])
def test_a_twisted_loop_comes_back_upon_itself(profile: str, twist: float) -> None:
    made = Strands(
        (LOOP,), profile, STAR, flat=1.0 if profile == "drawn" else 0.3, sides=20, spans=12, twist=twist
    ).made()
    mesh = made.mesh()
    assert body(made).is_watertight
    assert not crossing(mesh).any()
    assert drawn_out(mesh).max() < 12.0


def test_a_strand_laid_onto_clay_stays_on_it_between_its_points() -> None:
    def onto(points: np.ndarray) -> np.ndarray:
        return points / np.linalg.norm(points, axis=1, keepdims=True) * 50.0

    turns = np.radians([0, 50, 110, 200])
    over = tuple(Knot((50 * np.cos(t), 30 * np.sin(t), 40 * np.sin(t)), 2.0) for t in turns)
    for closed in (False, True):
        free = Strand(over, closed)
        laid = laid_onto(free, onto)
        recipe = Strands((laid,), spans=20)
        curve, _ = recipe.path(laid)
        off = np.abs(np.linalg.norm(curve, axis=1) - 50.0)
        assert off.max() < 0.25
        assert np.abs(np.linalg.norm(recipe.path(free)[0], axis=1) - 50.0).max() > 5.0
        assert len(curve) == (4 * 20 if closed else 3 * 20 + 1)
        steps = np.linalg.norm(np.diff(curve, axis=0), axis=1)
        assert steps.max() < 4 * steps.min()
        assert recipe_from(recipe_words(recipe)) == recipe
        # A change of its points that was not laid again runs free instead of along the old way.
        fewer = replace(laid, knots=laid.knots[:-1])
        assert np.allclose(recipe.path(fewer)[0], recipe.path(replace(fewer, laid=()))[0])


def test_roll_offset_and_twist() -> None:
    flat = Strands(
        (Strand((Knot((0, 0, 0), 5.0), Knot((0, 40, 0), 5.0))),), flat=0.2, round_caps=False, sides=16
    )
    turned = replace(flat, twist=90.0)

    def long_axis(recipe: Strands, height: float) -> np.ndarray:
        p = recipe.made().positions
        ring = p[np.abs(p[:, 1] - height) < 0.01][:, [0, 2]]
        return np.abs(ring[np.argmax(np.hypot(*ring.T))]) / np.hypot(*ring.T).max()

    assert long_axis(turned, 0.0) == pytest.approx(long_axis(flat, 0.0), abs=0.15)
    assert long_axis(turned, 40.0) @ long_axis(flat, 40.0) < 0.5
    moved = Strands((Strand((Knot((0, 0, 0), 2.0, 0, (9.0, 0)), Knot((0, 40, 0), 2.0, 0, (9.0, 0)))),))
    middle = moved.made().positions[:, [0, 2]].mean(axis=0)
    assert np.hypot(*middle) == pytest.approx(9.0, abs=0.2)


def test_copies_differ_and_stay_the_same_for_the_same_chance() -> None:
    recipe = Strands((BENT,), copies=12)
    one, again, other = recipe.made(), recipe.made(), replace(recipe, seed=2).made()
    assert np.array_equal(one.positions, again.positions)
    assert not np.array_equal(one.positions, other.positions)
    assert body(one).body_count == 13


def test_hundreds_of_strands_at_once() -> None:
    rng = np.random.default_rng(3)
    strands = tuple(
        Strand(knots(*[tuple((root + np.array([0, 12 * k, 0])).tolist()) for k in range(4)], thickness=0.6))
        for root in rng.uniform(-80, 80, (300, 3))
    )
    sound(Strands(strands, sides=6).made())


@settings(max_examples=40, deadline=None)
@given(
    points=st.lists(st.tuples(st.floats(0, 60), st.floats(-60, 60), st.booleans()), min_size=2, max_size=7),
    around=st.integers(3, 40),
)
def test_lathes_are_closed(points: list[tuple[float, float, bool]], around: int) -> None:
    # Heights that rise: a curve that crosses itself makes clay that does too.
    rising = sorted(points, key=lambda p: p[1])
    heights = [p[1] for p in rising]
    if max(p[0] for p in rising) < 1 or min(np.diff(heights)) < 1:
        return
    clay = Lathe(tuple(LathePoint(max(r, 0.5), h, s) for r, h, s in rising), around).made()
    sound(clay)


def test_a_lathe_keeps_sharp_points_and_turns_right_side_out() -> None:
    curve = (
        LathePoint(0, 0, True),
        LathePoint(30, 0, True),
        LathePoint(30, 40, True),
        LathePoint(0, 40, True),
    )
    full = body(Lathe(curve, 96).made())
    assert full.volume == pytest.approx(np.pi * 30**2 * 40, rel=0.01)
    down = body(Lathe(curve[::-1], 96).made())
    assert down.volume == pytest.approx(full.volume)
    cup = Lathe((LathePoint(0, 0, True), LathePoint(30, 0, True), LathePoint(30, 50)), 64, thickness=3.0)
    assert 0 < body(cup.made()).volume < np.pi * 30**2 * 50 * 0.35


def test_a_curve_goes_through_its_points_without_loops() -> None:
    points = np.array([[0, 0, 0], [10, 0, 0], [10.5, 0.2, 0], [30, 40, 0]], float)
    curve = catmull_rom(points, False, 8)
    assert curve[::8] == pytest.approx(points)
    assert len(catmull_rom(points, True, 8)) == 32
    line = np.stack([np.linspace(0, 9, 60), np.zeros(60), np.zeros(60)], -1)
    assert thinned(line, 0.1) == [0, 59]
    assert len(thinned(np.concatenate([line, line[::-1] + np.array([0, 5, 0])]), 0.1)) >= 4


def test_frames_do_not_turn_needlessly() -> None:
    t = np.linspace(0, 2 * np.pi, 80, endpoint=False)
    ring = np.stack([np.cos(t) * 30, np.sin(t) * 30, np.sin(2 * t) * 6], -1)
    tangent, side, up = travelling_frames(ring, True)
    assert np.abs(np.einsum("ij,ij->i", tangent, side)).max() < 1e-9
    # The last frame passes over into the first.
    assert np.degrees(np.arccos(np.clip((side * np.roll(side, 1, 0)).sum(1), -1, 1))).max() < 12
    assert np.linalg.norm(up, axis=1) == pytest.approx(np.ones(80))


# -- armatures ----------------------------------------------------------------------------------


def upright() -> Armature:
    armature = Armature((Joint(0, -1, (0.0, 0.0, 0.0), 20.0, 0, "hip"),), edge=4.0)
    armature, chest = armature.drag_out(0, (0.0, 60.0, 0.0), 24.0)
    armature, shoulder = armature.drag_out(chest, (34.0, 68.0, 0.0), 12.0)
    armature, _ = armature.drag_out(shoulder, (80.0, 40.0, 10.0), 8.0)
    return armature


@pytest.mark.parametrize("key", list(BODIES))
def test_bodies_of_the_library_have_a_sound_even_skin(key: str) -> None:
    armature = BODIES[key][1]()
    clay = armature.made()
    solid = body(clay)
    assert solid.is_watertight
    assert solid.is_winding_consistent
    corners = clay.positions[clay.faces]
    edges = np.linalg.norm(corners - np.roll(corners, -1, axis=1), axis=2)
    assert edges.mean() == pytest.approx(armature.edge, rel=0.15)
    assert edges.std() / edges.mean() < 0.3
    assert (clay.faces[:, 3] >= 0).all()
    if armature.symmetric():
        assert exactly_symmetric(clay.positions, 0)
    # All of it hangs together: no ball has come off.
    assert solid.body_count == 1


@pytest.mark.parametrize(("key", "times"), [("slender", 1.1), ("bird", 0.9), ("bird", 1.4), ("hand", 1.0)])
def test_fingers_that_all_but_touch_do_not_run_through_each_other(key: str, times: float) -> None:
    whole = BODIES[key][1]()
    made = replace(whole, edge=whole.edge * times).made()
    assert body(made).is_watertight
    assert not crossing(made.mesh()).any()


def test_pulling_out_works_on_both_sides() -> None:
    armature = upright()
    assert armature.symmetric()
    assert len(armature.joints) == 6
    moved = armature.moved(4, (90.0, 20.0, 0.0), False)
    assert moved.symmetric()
    assert moved.joint(moved.joint(4).twin).place == (-90.0, 20.0, 0.0)
    alone = armature.moved(4, (90.0, 20.0, 0.0), False, both=False)
    assert not alone.symmetric()


def test_moving_and_turning_a_limb_keeps_sizes() -> None:
    armature = upright()
    moved = armature.moved(2, (34.0, 88.0, 0.0), subtree=True)
    assert moved.joint(4).place == pytest.approx((80.0, 60.0, 10.0))
    turned = armature.turned(2, np.array([0, 0, 1.0]), 90.0)
    assert turned.joint(2) == armature.joint(2)
    assert turned.joint(4).place == pytest.approx((34.0 + 28.0, 68.0 + 46.0, 10.0))
    assert [j.radius for j in turned.joints] == [j.radius for j in armature.joints]
    assert turned.symmetric()
    larger = armature.scaled(2, 2.0, subtree=True, sizes=False)
    assert larger.joint(4).radius == 8.0
    assert larger.joint(4).place == pytest.approx((126.0, 12.0, 20.0))


def test_inserting_deleting_and_hanging_elsewhere() -> None:
    armature, new = upright().inserted(4)
    assert armature.symmetric()
    assert armature.joint(4).parent == new
    assert armature.joint(new).place == pytest.approx((57.0, 54.0, 5.0))
    without = armature.without(new)
    assert without.joint(4).parent == 2
    assert len(without.joints) == 6
    assert len(armature.without(2, subtree=True).joints) == 2
    hung = upright().attached(2, 0)
    assert hung.joint(2).parent == 0
    assert hung.joint(hung.joint(2).twin).parent == 0
    with pytest.raises(RecipeError, match="itself"):
        upright().attached(1, 4)
    with pytest.raises(RecipeError, match="stays"):
        upright().without(0)


def test_straight_chains_have_no_swellings_and_bends_keep_their_thickness() -> None:
    straight = Armature(tuple(Joint(k, k - 1, (0.0, 30.0 * k, 0.0), 10.0, k) for k in range(4)), edge=2.0)
    p = straight.made().positions
    inner = p[(p[:, 1] > 5) & (p[:, 1] < 85)]
    assert np.hypot(inner[:, 0], inner[:, 2]) == pytest.approx(np.full(len(inner), 10.0), rel=0.03)
    bent = Armature(
        (Joint(0, -1, (0, 0, 0), 8.0, 0), Joint(1, 0, (0, 40, 0), 8.0, 1), Joint(2, 1, (0, 6, 12), 8.0, 2)),
        edge=2.0,
    )
    skin = bent.made().positions
    # The outside of the sharp bend is still as far from the joint as its ball is large.
    out = np.linalg.norm(skin - [0, 40, 0], axis=1)
    assert out.min() > 7.0
    assert skin[:, 1].max() == pytest.approx(48, abs=0.6)


# -- words --------------------------------------------------------------------------------------


def recipes() -> list[object]:
    return [
        Primitive("eye", (1.0, 2.0, 3.0), (8, 9, 10), 0.4, (5.0, -3.0), 12.0, clear=True),
        Strands((BENT, replace(BENT, closed=True)), "drawn", twist=20.0, copies=3),
        Lathe(thickness=2.0),
        BODIES["hand"][1](),
    ]


@pytest.mark.parametrize("recipe", recipes(), ids=lambda r: r.kind)
def test_recipes_come_back_from_words_as_they_were(recipe: Primitive) -> None:
    import json

    assert recipe_from(json.loads(json.dumps(recipe_words(recipe)))) == recipe


def test_broken_words_are_refused() -> None:
    with pytest.raises(ValueError, match="no live part"):
        recipe_from({"kind": "soup"})
    with pytest.raises(ValueError, match="usable"):
        recipe_from({**recipe_words(Lathe()), "thickness": float("nan")})
    with pytest.raises(ValueError, match="does not fit"):
        recipe_from({"kind": "lathe", "points": 3})
    with pytest.raises(ValueError, match="hang together"):
        recipe_from(
            {"kind": "armature", "joints": [{"key": 1, "parent": 2, "place": [0, 0, 0], "radius": 3}]}
        )


@pytest.mark.parametrize("key", list(STARTERS))
def test_starter_parts_are_sound(key: str) -> None:
    clay = STARTERS[key][1]().made()
    assert body(clay).is_watertight
    assert len(clay.positions) < 60_000


@pytest.mark.parametrize("divisions", [(8, 8, 1), (48, 40, 1), (96, 30, 1)])
@pytest.mark.parametrize("iris", [0.2, 0.5, 0.85])
def test_an_eye_has_no_pole(divisions: tuple[int, int, int], iris: float) -> None:
    mesh = Primitive("eye", (30.0, 30.0, 30.0), divisions, iris).made().mesh()
    assert flaw(mesh) == ""
    assert volume(mesh) > (0.75 if divisions[0] == 8 else 0.95) * 4 / 3 * np.pi * 15**3
    rings = mesh.topology.ring[:, 1] - mesh.topology.ring[:, 0]
    assert rings.max() <= 5
    assert (mesh.topology.faces[:, 3] >= 0).all()
    # The cornea stands out in front, and the two sides mirror each other.
    assert mesh.positions[:, 2].max() > 15.5
    off, _ = cKDTree(mesh.positions).query(mesh.positions * [-1, 1, 1])
    assert off.max() < 1e-4


@pytest.mark.parametrize("pupil", PUPILS)
def test_irises_and_pupils_have_their_colours_and_forms(pupil: str) -> None:
    dark = {}
    for iris in IRISES:
        made = Primitive("eye", (30.0, 30.0, 30.0), (96, 80, 1), 0.6, iris=iris, pupil=pupil).made()
        assert made.colour is not None
        front = made.positions[:, 2] > 0
        black = front & (made.colour[:, :3].max(axis=1) < 20)
        wide, tall = np.ptp(made.positions[black][:, :2], axis=0)
        dark[iris] = wide / tall
        coloured = made.colour[front & ~black]
        assert len(np.unique(coloured, axis=0)) > 50
    ratio = np.mean(list(dark.values()))
    assert {"round": 0.9 < ratio < 1.1, "slit": ratio < 0.4, "bar": ratio > 2.5}[pupil]
    with pytest.raises(RecipeError, match="no eye of"):
        Primitive("eye", iris="pink").made()


@pytest.mark.parametrize("apart", [0.0, 70.0])
@pytest.mark.parametrize("iris", [0.3, 0.6])
def test_an_eye_is_white_cornea_iris_and_pupil(iris: float, apart: float) -> None:
    """Each lies around the gaze, inside the one before it, wherever the eye looks."""
    mesh = Primitive("eye", (30.0, 30.0, 30.0), (96, 80, 1), iris, (25.0, 10.0), apart).made().mesh()
    assert mesh.regions is not None
    assert set(mesh.regions.tolist()) == set(OWN)
    middles = mesh.positions[mesh.topology.faces].mean(axis=1)
    if apart:
        middles -= np.where(middles[:, :1] < 0, -apart / 2, apart / 2) * np.array([1.0, 0.0, 0.0])
    gaze = Rotation.from_euler("YX", [25.0, -10.0], degrees=True).apply([0.0, 0.0, 1.0])
    away = np.arccos(np.clip(middles @ gaze / np.linalg.norm(middles, axis=1), -1, 1))
    spans = [away[mesh.regions == n] for n in (EYE_PUPIL, EYE_IRIS, EYE_CORNEA, EYE_WHITE)]
    for inner, outer in itertools.pairwise(spans):
        assert inner.max() < outer.min() + 0.03
    assert spans[1].max() == pytest.approx(np.arcsin(iris), abs=0.05)
    # The iris is dark where its pupil is, and nowhere white.
    pupil = np.unique(mesh.topology.faces[mesh.regions == EYE_PUPIL])
    assert mesh.colour is not None
    assert np.median(mesh.colour[pupil, :3]) < 20
    assert mesh.positions[pupil].shape[0] > 20


@pytest.mark.parametrize("iris", [0.3, 0.6])
def test_an_iris_lies_flat_behind_a_clear_cornea(iris: float) -> None:
    mesh = Primitive("eye", (30.0, 30.0, 30.0), (96, 80, 1), iris, clear=True).made().mesh()
    assert mesh.regions is not None
    assert mesh.colour is not None
    assert mesh.material is not None
    where = {n: np.unique(mesh.topology.faces[mesh.regions == n]) for n in OWN}
    cornea, flat = where[EYE_CORNEA], np.concatenate([where[EYE_IRIS], where[EYE_PUPIL]])
    assert len(np.intersect1d(cornea, flat)) == 0
    # One sees through the cornea alone, and it alone is as smooth as water.
    assert (mesh.colour[cornea, 3] < 30).all()
    assert (mesh.material[cornea, 0] < 20).all()
    rest = np.setdiff1d(np.arange(mesh.n_vertices), cornea)
    assert (mesh.colour[rest, 3] == 255).all()
    assert (mesh.material[rest, 0] > 40).all()
    # It lies before the iris, and its rim in the white.
    front = mesh.positions[:, 2]
    assert np.ptp(front[flat]) < 0.15 * 30 * iris
    assert front[cornea].max() > front[flat].max() + 1
    rim = np.linalg.norm(mesh.positions[cornea], axis=1).min()
    assert rim == pytest.approx(15.0, abs=0.1)
    plain = Primitive("eye", (30.0, 30.0, 30.0), (96, 80, 1), iris).made()
    assert plain.positions[:, 2].max() == pytest.approx(front.max(), abs=0.1)


# -- skeletons -------------------------------------------------------------------------------------


@pytest.mark.long
@pytest.mark.parametrize("key", sorted(BODIES))
def test_a_skeleton_lies_within_the_body_it_is_fitted_to(key: str) -> None:
    whole = BODIES[key][1]()
    skin, bones = whole.made().mesh(), skeleton(whole, Progress()).mesh()
    some = bones.positions[:: max(bones.n_vertices // 3000, 1)].astype(float)
    off = signed_distances(some, skin, Progress())
    size = float(np.linalg.norm(np.ptp(skin.positions, axis=0)))
    assert (off < 0.002 * size).mean() > 0.9
    assert off.max() < 0.04 * size
    # Both ends of every limb have their bone.
    places, _, _ = whole.arrays()
    far, _ = cKDTree(bones.positions).query(places)
    radii = np.array([joint.radius for joint in whole.joints])
    assert (far < 1.1 * radii).all()


def test_one_ball_has_no_bones() -> None:
    with pytest.raises(RecipeError, match="no bones"):
        skeleton(Armature(), Progress())
