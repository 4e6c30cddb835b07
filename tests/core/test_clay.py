"""No tool breaks clay: a few of the strokes that `python -m tests.clay` makes at length, and what keeps it so."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.changes import patches_of
from kneten.core.crossings import crossing, crossing_among
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball as ball_of
from kneten.core.reach import side_of
from kneten.core.stroke import Stroke
from kneten.core.uncross import uncross
from tests.clay import CLAY, HANDS, Case, angles, box, broken_by, fingers, place, round_ball, stroke, volume
from tests.conftest import FRONT, make_sheet

ADDING = ("raise", "pellet", "slab", "coil", "inflate")


@pytest.mark.parametrize("key", HANDS)
@pytest.mark.parametrize("clay", ["slab", "fingers", "masked"])
def test_no_tool_breaks_clay(key: str, clay: str) -> None:
    assert list(broken_by(Case(key, "", clay, 8.0, 1.0, 2.0), (1, 4))) == []


STEEP = [
    Case("pellet", "", "ridged", 6.0, 0.5, sign=-1),
    Case("slab", "", "fingers", 6.0, 1.0, 0.5),
    Case("slab", "", "ridged", 15.0, 1.0, 3.0, -1),
    Case("coil", "", "ridged", 15.0, 1.0, 3.0, -1),
    Case("flatten", "", "ball", 6.0, 0.5, sign=-1),
    Case("pull", "surface", "slab", 15.0, 1.0, mirrored=True),
]


@pytest.mark.parametrize("case", STEEP, ids=str)
def test_what_breaks_little_by_little_is_seen(case: Case) -> None:
    """Ten passes: where two corners of a face look away from it and their mean does not; where distances are equal."""
    assert list(broken_by(case)) == []


@pytest.mark.parametrize("key", ["raise", "flatten", "smooth", "score", "pinch", "twist", "shave"])
def test_both_sides_stay_mirror_images_where_clay_is_held_back(key: str) -> None:
    assert list(broken_by(Case(key, "", "slab", 10.0, 1.0, 2.0, mirrored=True), (2,))) == []


WAYS = [(key, way) for key in HANDS for way, _, _ in (TOOLS[key].variants or (("", "", ""),))]


@pytest.mark.parametrize(("key", "way"), WAYS)
def test_every_way_of_every_tool_keeps_both_sides_mirror_images(key: str, way: str) -> None:
    """To the bit, on clay that has diagonals and a seam to tie on."""
    assert list(broken_by(Case(key, way, "ball", 15.0, 1.0, 2.0, mirrored=True), (1, 2))) == []


def tried(mesh: Mesh, key: str, radius: float, strength: float, **how: object) -> np.ndarray:
    """How far each vertex comes in one stroke across the middle."""
    before = mesh.positions.copy()
    held = replace(TOOLS[key].defaults, **how)  # type: ignore[arg-type]
    stroke(mesh, key, [(-8.0, 0.0), (8.0, 0.0)], radius, strength, held)
    return np.linalg.norm(mesh.positions - before, axis=1)


@pytest.mark.parametrize("key", [key for key in HANDS if not TOOLS[key].whole])
def test_the_far_side_of_thin_clay_stays(key: str) -> None:
    slab = box(60.0, 60.0, 4.0, 2.0)
    back = slab.positions[:, 2] < -1.9
    moved = tried(slab, key, 15.0, 0.8)
    assert moved[back].max() == 0.0


def test_the_far_side_comes_along_on_demand_or_with_what_takes_all() -> None:
    for key, how in (("raise", {"through": True}), ("pull", {})):
        slab = box(60.0, 60.0, 4.0, 2.0)
        back = slab.positions[:, 2] < -1.9
        assert tried(slab, key, 15.0, 0.8, **how)[back].max() > 0.5


@pytest.mark.parametrize("key", HANDS)
def test_what_lies_beside_stays(key: str) -> None:
    clay = fingers(2.0)
    beside = np.abs(clay.positions[:, 0]) > 6.0
    before = clay.positions.copy()
    stroke(clay, key, [(0.0, -6.0), (0.0, 6.0)], 9.0, 0.8)
    moved = (clay.positions != before).any(axis=1)
    assert not moved[beside].any()


def test_flatten_leaves_a_thin_body_its_volume() -> None:
    body = box(90.0, 95.0, 34.0, 2.0)
    whole = volume(body)
    held = TOOLS["flatten"].defaults
    for _ in range(3):
        stroke(body, "flatten", [(-20.0, 0.0), (20.0, 0.0)], 45.0, 0.9, held)
    assert volume(body) > 0.95 * whole


def test_sinking_clay_stops_before_its_far_side() -> None:
    slab = box(40.0, 40.0, 4.0)
    for _ in range(12):
        last = stroke(slab, "shave", [(-6.0, 0.0), (6.0, 0.0)], 10.0, 1.0)
    front = place(slab, 0.0, 0.0)
    assert front is not None
    assert -2.0 < front[2] < 0.0
    assert not crossing(slab).any()
    assert last.did_less


def test_a_broad_soft_stroke_is_not_held_back() -> None:
    ball = round_ball()
    assert not stroke(ball, "raise", [(-8.0, 3.0), (8.0, 3.0)], 12.0, 0.5).did_less


def test_a_twist_that_would_fold_stops_and_says_so() -> None:
    sheet = make_sheet(40, 1.0)
    made = Stroke(sheet, TOOLS["twist"], TOOLS["twist"].defaults)
    made.grab(np.zeros(3), 8.0, FRONT)
    for share in np.linspace(0.05, 1.0, 40):
        made.drag(np.zeros(3), 8.0, 1.0, 9.0 * float(share))
    made.finish()
    assert made.did_less
    assert angles(sheet).max() < 1e-3
    # Every face still looks the way it did.
    assert sheet.normals[:, 2].min() > 0.99


@pytest.mark.parametrize("strength", [0.25, 0.5])
def test_adding_tools_lift_alike_and_by_their_strength(strength: float) -> None:
    lifts, twice = [], []
    for key in ADDING:
        for found, share in ((lifts, strength), (twice, 2 * strength)):
            sheet = make_sheet(70, 2.0)
            stroke(sheet, key, [(-35.0, 0.0), (35.0, 0.0)], 20.0, share)
            found.append(float(sheet.positions[np.abs(sheet.positions[:, 0]) < 4.0, 2].max()))
    assert max(lifts) < 1.5 * min(lifts)
    np.testing.assert_allclose(np.array(twice) / lifts, 2.0, rtol=0.15)


@pytest.mark.parametrize("key", [*ADDING, "score"])
def test_a_single_click_leaves_a_mark(key: str) -> None:
    sheet = make_sheet(40, 1.0)
    stroke(sheet, key, [(0.0, 0.0)], 10.0, 0.5)
    height = np.abs(sheet.positions[:, 2]).max()
    assert 0.1 < height < 1.0


def test_the_side_of_a_place_is_that_of_the_nearer_clay() -> None:
    slab = box(60.0, 60.0, 4.0)
    everywhere = np.arange(slab.topology.n_patches, dtype=np.int32)
    front = side_of(slab, everywhere, np.array([3.0, 1.0, 2.0]), 9.0)
    np.testing.assert_allclose(front, [0, 0, 1], atol=1e-6)
    back = side_of(slab, everywhere, np.array([3.0, 1.0, -2.0]), 9.0)
    np.testing.assert_array_equal(back, -front)
    assert not side_of(slab, everywhere, np.array([300.0, 0.0, 0.0]), 9.0).any()


def test_crossings_are_found_among_some_faces_as_among_all() -> None:
    one = box(20.0, 20.0, 4.0, 2.0)
    positions, faces = one.source_arrays()
    other = positions @ np.float32([[1, 0, 0], [0, 0, 1], [0, -1, 0]]) + np.float32([0.3, 0.2, 0.1])
    both = Mesh.from_faces(
        np.concatenate([positions, other]), np.concatenate([faces, faces + len(positions)])
    )
    found = crossing(both)
    assert found.any()
    some = np.arange(len(found))[::-1]
    np.testing.assert_array_equal(crossing_among(both.positions, both.topology.faces[some])[::-1], found)


def test_what_went_through_other_clay_goes_back_near_it_only() -> None:
    clay = fingers(1.0)
    before = clay.positions.copy()
    middle = np.flatnonzero(np.abs(before[:, 0]) < 6.0).astype(np.int32)
    # The middle finger's upper end bends into its neighbour, by more than the gap.
    far = np.clip(before[middle, 1] / 20.0, 0.0, 1.0) ** 2
    clay.positions[middle, 0] += (5.0 * far).astype(np.float32)
    clay.refresh_all()
    assert crossing(clay).any()
    moved = middle[far > 0]
    tip = clay.positions[moved].copy()
    found = uncross(clay, moved, before[moved], 3.0)
    assert found is not None
    assert not crossing(clay).any()
    went = (clay.positions[moved] != tip).any(axis=1)
    assert went.any()
    assert not went.all()
    # Nothing to do any more.
    assert uncross(clay, moved, before[moved], 3.0) is None


def test_a_face_of_which_one_corner_moved_is_looked_at_whole() -> None:
    """A point drawn through a neighbour beside it: what moved lies above, its face goes down into the other."""
    clay = fingers(2.0)
    at = clay.positions
    moved = np.argmin(np.linalg.norm(at - [5.0, 0.0, 1.0], axis=1), keepdims=True).astype(np.int32)
    before = at[moved].copy()
    clay.positions[moved] = [[30.0, 0.0, 0.0]]
    clay.refresh_all()
    clay.refit(np.arange(clay.topology.n_patches, dtype=np.int32))
    assert crossing(clay).any()
    assert uncross(clay, moved, before, 3.0) is not None
    assert not crossing(clay).any()


def test_what_crossed_before_stays_as_it_is() -> None:
    clay = fingers(1.0)
    right = clay.positions[:, 0] > 6.0
    clay.positions[right, 0] -= 4.0
    clay.refresh_all()
    known = crossing(clay)
    assert known.any()
    before = clay.positions.copy()
    stroke(clay, "raise", [(-12.0, -6.0), (-12.0, 6.0)], 4.0, 0.5)
    assert (clay.positions != before).any()
    np.testing.assert_array_equal(crossing(clay), known)


def test_undo_of_a_held_stroke_is_exact() -> None:
    clay = CLAY["masked"](2.0)
    before, normals = clay.positions.copy(), clay.normals.copy()
    made = Stroke(clay, TOOLS["pinch"], TOOLS["pinch"].defaults)
    for x in np.linspace(-8.0, 8.0, 30):
        at = place(clay, float(x), 2.0)
        assert at is not None
        made.dab(Dab(at, np.array([1.0, 0.0, 0.0]), FRONT, 8.0, 1.0, 0.12, float(x) + 8.0))
    change = made.finish()
    assert change is not None
    change.swap(clay)
    np.testing.assert_array_equal(clay.positions, before)
    np.testing.assert_allclose(clay.normals, normals, atol=1e-6)
    # The boxes hold what they are of.
    assert len(patches_of(clay, np.arange(clay.n_vertices, dtype=np.int32))[0]) == clay.topology.n_patches


@pytest.mark.parametrize("key", ["pull", "twist"])
def test_clay_that_a_tool_has_brought_to_its_limit_is_moved_by_the_next(key: str) -> None:
    """A ball flattened to a disc with a sharp rim: what stands there in narrow faces goes along as it is."""
    ball = Mesh.from_faces(*ball_of(20.0, 24))
    for _ in range(3):
        flattened = stroke(ball, "flatten", [(-8.0, 0.0), (8.0, 0.0)], 40.0, 0.8)
    assert flattened.did_less
    before, folds = ball.positions.copy(), int((angles(ball) > 150.0).sum())
    held = Stroke(ball, TOOLS[key], TOOLS[key].defaults)
    at = place(ball, 2.0, 0.0)
    assert at is not None
    held.grab(at, 60.0, FRONT)
    for share in np.linspace(0.05, 1.0, 20):
        held.drag(np.array([0.0, 8.0 * share, 0.0]) if key == "pull" else at, 60.0, 1.0, 0.8 * float(share))
        fresh = Mesh(ball.topology, ball.positions.copy())
        assert (ball.boxes[:, :3] <= fresh.boxes[:, :3] + 1e-4).all()
        assert (ball.boxes[:, 3:] >= fresh.boxes[:, 3:] - 1e-4).all()
    held.finish()
    came = np.linalg.norm(ball.positions - before, axis=1).max()
    assert came > (7.9 if key == "pull" else 2.5)
    assert int((angles(ball) > 150.0).sum()) == folds
    assert not crossing(ball).any()


def test_what_goes_back_from_a_crossing_is_not_folded_by_that() -> None:
    clay = fingers()
    held = replace(TOOLS["pull"].defaults, taper=0.0)
    went_back = False
    for turn in range(8):
        line = [(-8.0, 3.0), (8.0, 3.0)][:: -1 if turn % 2 else 1]
        went_back |= stroke(clay, "pull", line, 6.0, 1.0, held).went_back
    assert went_back
    assert angles(clay).max() < 150.0
