"""Walls, hollows, cuts, plinths, weight: measured against what is known, and by an independent library."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import trimesh

from kneten.core.arrays import Cancelled, Progress
from kneten.core.mesh import Mesh
from kneten.core.pieces import concatenated
from kneten.core.placing import kneaded
from kneten.core.printing.body import one_body
from kneten.core.printing.depths import squared_depths
from kneten.core.printing.forms import lathed, lettering, letters, outline, plinth
from kneten.core.printing.hollow import (
    depth_to,
    drained,
    grid_step,
    hollowed,
    lowest_drain,
    outer_shell,
)
from kneten.core.printing.numbers import MATERIALS, Pegs
from kneten.core.printing.slices import area_of, layer_heights, section
from kneten.core.printing.split import halved, plane_through
from kneten.core.printing.stand import facts
from kneten.core.printing.walls import overhanging, thickened, thickness, walls
from kneten.core.solid import combine, flaw, volume
from kneten.core.solid_work import SolidError
from kneten.core.topology import MeshError
from tests.conftest import make_ball, make_sheet
from tests.judge import judged, sound

GO = Progress()
FONT = Path(__file__).parents[2] / "src/kneten/data/fonts/Lato-Semibold.ttf"


class Stops(Progress):
    def report(self, fraction: float, text: str = "") -> None:
        raise Cancelled


def box(x: float, y: float, z: float, fine: int = 12) -> Mesh:
    """A box of even quads, its middle at the origin."""
    mesh = trimesh.creation.box((x, y, z)).subdivide_to_size(max(x, y, z) / fine)
    faces = np.full((len(mesh.faces), 4), -1, np.int32)
    faces[:, :3] = mesh.faces
    return Mesh.from_faces(mesh.vertices.astype(np.float32), faces)


# -- walls ----------------------------------------------------------------------------------------


def test_a_plate_is_as_thick_as_it_is() -> None:
    plate = box(60, 2.0, 60, 30)
    off = thickness(plate, GO)
    # Away from the rim, where rays leave by the side.
    inner = (np.abs(plate.positions[:, [0, 2]]) < 25).all(axis=1)
    assert off[inner] == pytest.approx(2.0, abs=1e-3)
    found = walls(plate, 3.0, GO)
    assert found.least == pytest.approx(2.0, abs=1e-3)
    assert found.thin > 0.7
    assert walls(plate, 1.5, GO).thin == 0


def test_walls_are_those_of_an_independent_caster() -> None:
    ball = make_ball(20.0, 20)
    off = thickness(ball, GO)
    other = judged(ball)
    rows = np.arange(0, ball.n_vertices, 7)
    positions, _ = ball.source_arrays()
    order = ball.topology.source_vertex
    own = np.empty_like(off)
    own[order] = off
    # Straight in from each place the far side of a ball is about two radii away.
    assert np.quantile(off, 0.02) == pytest.approx(40.0, rel=0.03)
    normals = ball.in_source_order(ball.normals)[rows]
    origins = positions[rows] - 1e-3 * normals
    locations, which, _ = other.ray.intersects_location(origins, -normals, multiple_hits=False)
    assert len(which) > 0.99 * len(rows)
    told = np.linalg.norm(locations - positions[rows][which], axis=1)
    # On an edge between two faces each caster may take another one.
    assert (np.abs(own[rows][which] - told) < 1e-3 * told).mean() > 0.98


def test_edges_are_no_thin_walls() -> None:
    wedge = box(40, 40, 40)
    assert walls(wedge, 5.0, GO).thin == 0


@pytest.mark.parametrize("asked", [3.0, 4.0])
def test_thin_walls_are_thickened_and_nothing_else(asked: float) -> None:
    ear = kneaded(make_ball(20.0, 24), np.diag([1.0, 1.0, 0.05, 1.0]))
    ball = kneaded(make_ball(12.0, 16), np.array([[1, 0, 0, 60.0], [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1]]))
    both = concatenated([ear, ball])
    before = walls(both, asked, GO)
    assert before.thin > 0.2
    done = thickened(both, asked, GO)
    assert done.thin < 0.02
    after = Mesh(both.topology, done.positions)
    far = both.positions[:, 0] > 30
    assert np.array_equal(after.positions[far], both.positions[far])
    assert sound(after).volume > judged(both).volume
    assert done.most < asked


def test_what_is_thick_enough_is_left_alone() -> None:
    with pytest.raises(MeshError, match="no wall is thinner"):
        thickened(make_ball(20.0, 12), 2.0, GO)
    with pytest.raises(MeshError, match="more than nothing"):
        thickened(make_ball(20.0, 12), 0.0, GO)


def test_overhangs_by_their_angle() -> None:
    ball = make_ball(20.0, 40)
    normals_down = -ball.normals[:, 1]
    for angle in (30.0, 45.0, 60.0):
        found = overhanging(ball, angle)
        area = found.mean()
        # A cap of a ball: its share of the surface is (1 - sin) / 2; even quads of a ball are nearly of one size.
        assert area == pytest.approx((1 - np.sin(np.radians(angle))) / 2, abs=0.05)
    assert normals_down.max() > 0.99
    assert not overhanging(box(10, 10, 10), 45.0).any()


# -- hollow ---------------------------------------------------------------------------------------


@pytest.mark.parametrize("wall", [2.0, 5.0])
def test_a_hollow_ball_has_the_wall_asked_for(wall: float) -> None:
    ball = make_ball(30.0, 40)
    made = hollowed(ball, wall, grid_step(ball, 96), GO)
    assert made.least == pytest.approx(wall, abs=0.05 * wall)
    inner = made.cavities[0]
    off = np.linalg.norm(inner.positions, axis=1)
    assert off == pytest.approx(30 - wall, abs=0.06 * wall)
    assert made.saved == pytest.approx(((30 - wall) / 30) ** 3, rel=0.03)
    sound(made.body)
    assert volume(made.body) == pytest.approx(volume(ball) * (1 - made.saved), rel=1e-3)
    # Rays see the same: an independent check.
    assert np.median(thickness(made.body, GO)) == pytest.approx(wall, rel=0.05)


def test_two_rooms_are_two_hollows_and_crumbs_are_none() -> None:
    neck = lathed([(-40, 3), (40, 3)], (0, 0, 0), (1, 0, 0))
    ends = [
        kneaded(make_ball(20.0, 20), np.array([[1, 0, 0, x], [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1.0]]))
        for x in (-40, 40)
    ]
    whole = one_body([*ends, neck], ["a", "b", "c"], 0, GO)
    assert whole.exact
    made = hollowed(whole.mesh, 4.0, 1.0, GO)
    assert len(made.cavities) == 2


@pytest.mark.parametrize(
    ("mesh", "wall", "words"),
    [
        (make_sheet(6), 1.0, "open edges"),
        (make_ball(5.0, 8), 20.0, "thicker than two walls"),
        (make_ball(5.0, 8), 0.0, "thicker than nothing"),
    ],
)
def test_what_cannot_be_hollow_is_said(mesh: Mesh, wall: float, words: str) -> None:
    with pytest.raises(MeshError, match=words):
        hollowed(mesh, wall, 0.5, GO)


def test_hollowing_is_foretold_too_large_and_can_be_cancelled() -> None:
    with pytest.raises(MeshError, match="coarser"):
        hollowed(make_ball(50.0, 8), 2.0, 0.01, GO)
    with pytest.raises(Cancelled):
        hollowed(make_ball(50.0, 8), 2.0, 1.0, Stops())


def test_a_drain_opens_the_hollow_and_its_plug_fills_it() -> None:
    ball = make_ball(30.0, 40)
    made = hollowed(ball, 3.0, grid_step(ball, 80), GO)
    drain = lowest_drain(made.cavities[0], ball, 3.0)
    assert drain.place[1] < -29
    assert drain.way[1] > 0.95
    deep = depth_to(made.cavities, drain)
    assert deep == pytest.approx(3.0, abs=0.3)
    body, (plug,) = drained(made.body, outer_shell(made.body), [drain], deep + 1.5, 0.15, GO)
    solid = sound(body)
    # A hole joins outside and inside: one shell, of a bottle's kind.
    assert solid.body_count == 1
    assert solid.euler_number == 2
    cork = sound(plug)
    width = np.ptp(plug.positions, axis=0)
    assert width[[0, 2]].max() == pytest.approx(2 * (3.0 - 0.15), abs=0.15)
    assert cork.volume < np.pi * 9 * (deep + 1.5)


# -- sections and cuts ----------------------------------------------------------------------------


def test_sections_of_a_ball_are_circles() -> None:
    ball = make_ball(20.0, 48)
    for height in (-15.0, 0.0, 12.0):
        cut = section(ball, np.array([0.0, height, 0.0]), np.array([0.0, 1.0, 0.0]))
        assert len(cut.loops) == 1
        assert cut.area == pytest.approx(np.pi * (400 - height**2), rel=0.01)
        assert cut.loops[0][:, 1] == pytest.approx(height, abs=1e-4)
    assert section(ball, np.array([0.0, 25.0, 0.0]), np.array([0.0, 1.0, 0.0])).loops == []


@pytest.mark.parametrize("normal", [(0, 1, 0), (1, 2, 3), (-1, 0.2, 0)])
def test_sections_are_those_of_an_independent_cutter_holes_and_all(
    normal: tuple[float, float, float],
) -> None:
    ring = trimesh.creation.torus(20.0, 6.0)
    faces = np.full((len(ring.faces), 4), -1, np.int32)
    faces[:, :3] = ring.faces
    mesh = Mesh.from_faces(ring.vertices.astype(np.float32), faces)
    cut = section(mesh, np.array([0.3, 0.2, 0.1]), np.array(normal, float))
    other = ring.section(normal, (0.3, 0.2, 0.1))
    flat, _ = other.to_2D()
    length = sum(np.linalg.norm(one - np.roll(one, 1, axis=0), axis=1).sum() for one in cut.loops)
    assert length == pytest.approx(flat.length, rel=1e-3)
    # Outer outlines go round to the left, holes to the right.
    areas = [area_of(one) for one in cut.flat]
    assert sum(areas) == pytest.approx(cut.area, rel=1e-9)
    assert max(areas) > 0


def test_layers_go_from_the_plate_to_the_top() -> None:
    ball = make_ball(10.0, 12)
    heights = layer_heights(ball.positions, 0.5)
    assert len(heights) == 40
    assert heights[0] == pytest.approx(-9.75, abs=1e-3)
    assert heights[-1] == pytest.approx(9.75, abs=1e-3)


@pytest.mark.parametrize("square", [False, True])
@pytest.mark.parametrize("normal", [(0.0, 1.0, 0.0), (1.0, 0.4, -0.3)])
def test_halves_fit_with_their_pegs(normal: tuple[float, float, float], square: bool) -> None:
    ball = kneaded(make_ball(30.0, 30), np.diag([1.4, 1.0, 1.0, 1.0]))
    pegs = Pegs(2, 3.0, 6.0, 0.2, square)
    made = halved(ball, np.zeros(3), np.array(normal), pegs, GO)
    assert made.pegs == 2
    one, other = sound(made.below), sound(made.above)
    # What the pegs take off one half the holes do not add to the other: only the clearance is missing.
    assert one.volume + other.volume < volume(ball)
    assert one.volume + other.volume > 0.99 * volume(ball)
    try:
        common = volume(combine("intersect", [made.below, made.above], GO))
    except SolidError:
        common = 0.0
    assert common < 1e-3 * volume(ball)


def test_a_cut_without_room_has_no_pegs_and_one_beside_is_refused() -> None:
    thin = lathed([(-20, 1.5), (20, 1.5)], (0, 0, 0), (0, 1, 0))
    made = halved(thin, np.zeros(3), np.array([0.0, 1.0, 0.0]), Pegs(2, 3.0), GO)
    assert made.pegs == 0
    with pytest.raises(MeshError, match="does not meet"):
        halved(thin, np.array([0.0, 90.0, 0.0]), np.array([0.0, 1.0, 0.0]), Pegs(), GO)


def test_the_plane_of_a_line_that_goes_round() -> None:
    turn = np.linspace(0, 2 * np.pi, 40, endpoint=False)
    ring = np.stack([10 * np.cos(turn), 3 + 0.2 * np.cos(turn), 8 * np.sin(turn)], axis=1)
    place, normal = plane_through(ring)
    assert place == pytest.approx([0, 3, 0], abs=1e-6)
    assert normal[1] == pytest.approx(1.0, abs=0.01)
    with pytest.raises(MeshError, match="straight"):
        plane_through(np.linspace([0, 0, 0], [1, 1, 1], 20))


# -- plinths and letters --------------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["round", "square", "eight"])
def test_plinths_are_sound_and_as_large_as_asked(kind: str) -> None:
    base = plinth(kind, 80, 60, 12, 2, (5, -30, 7))
    solid = sound(base)
    assert np.ptp(base.positions, axis=0)[1] == pytest.approx(12, abs=1e-3)
    assert base.positions[:, 1].max() == pytest.approx(-30, abs=1e-3)
    assert np.ptp(base.positions, axis=0)[0] == pytest.approx(80, rel=0.09)
    assert flaw(base) == ""
    assert solid.volume == pytest.approx(abs(area_of(outline(kind, 80, 60))) * 12, rel=0.06)


@pytest.mark.parametrize("how", [(0, 60, 12, 2), (80, 60, 12, 20), (80, 60, 12, 40), (80, 60, 12, -1)])
def test_plinths_that_make_no_sense_are_refused(how: tuple[float, float, float, float]) -> None:
    with pytest.raises(MeshError, match="a plinth needs"):
        plinth("round", *how, (0, 0, 0))


def test_letters_have_their_holes_and_their_size() -> None:
    polygons = letters("Tarn", FONT, 8.0)
    rows = np.concatenate(polygons)
    assert rows[:, 1].max() == pytest.approx(4.0, abs=0.4)
    # The a has a hole.
    signs = np.sign([area_of(one) for one in polygons])
    assert len(polygons) == 5
    assert (signs == signs[0]).sum() == 4
    flat = lettering("Tarn", FONT, 8.0, 100.0, -1.0, 1.5)
    assert sound(flat).volume > 0
    bent = lettering("Tarn", FONT, 8.0, 100.0, -1.0, 1.5, 30.0)
    assert sound(bent).volume == pytest.approx(judged(flat).volume, rel=0.1)
    assert np.linalg.norm(bent.positions[:, [0, 2]], axis=1).max() == pytest.approx(31.5, abs=0.05)
    narrow = lettering("A long name of a ferryman", FONT, 8.0, 40.0, -1.0, 1.0)
    assert np.ptp(narrow.positions[:, 0]) == pytest.approx(40.0, abs=0.1)


@pytest.mark.parametrize("text", ["", "   ", "\U0001f600"])
def test_a_name_without_letters_is_refused(text: str) -> None:
    with pytest.raises(MeshError):
        lettering(text, FONT, 8.0, 40.0, -1.0, 1.0)


# -- one body, and what is known of it ------------------------------------------------------------


def test_sound_parts_are_joined_exactly() -> None:
    one = make_ball(20.0, 16)
    other = kneaded(
        make_ball(20.0, 16), np.array([[1, 0, 0, 15.0], [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1]])
    )
    made = one_body([one, other], ["One", "Other"], 0, GO)
    assert (made.exact, made.why) == (True, ())
    assert sound(made.mesh).body_count == 1


def test_parts_that_are_not_are_joined_by_volume_and_it_is_said() -> None:
    bowl = make_ball(20.0, 16)
    faces = bowl.topology.faces[(bowl.positions[bowl.topology.faces[:, :3]][:, :, 1].mean(axis=1) < 18)]
    cup = Mesh.from_faces(bowl.positions, faces)
    made = one_body([make_ball(10.0, 12), cup], ["Bead", "Cup"], 2.0, GO)
    assert not made.exact
    assert made.why == ("Cup has open edges",)
    sound(made.mesh)
    with pytest.raises(MeshError, match="no part"):
        one_body([], [], 0, GO)


def test_facts_of_a_body_are_those_of_an_independent_library() -> None:
    pin = kneaded(make_ball(20.0, 30), np.diag([1.0, 2.0, 1.0, 1.0]))
    other = judged(pin)
    told = facts(pin, MATERIALS["resin"][1], 45.0)
    assert told.volume == pytest.approx(other.volume / 1000, rel=1e-4)
    assert told.surface == pytest.approx(other.area / 100, rel=1e-4)
    assert told.weight == pytest.approx(other.volume / 1000 * 1.12, rel=1e-4)
    assert told.middle == pytest.approx(other.center_mass, abs=1e-3)
    assert told.size == pytest.approx((40, 80, 40), rel=0.01)


def test_what_stands_and_what_falls() -> None:
    block = box(20, 40, 20)
    told = facts(block, 1.0, 45.0)
    assert told.stands
    # Over its edge it is tipped by the angle whose tangent is half its width by half its height.
    assert told.lean == pytest.approx(np.degrees(np.arctan(10 / 20)), abs=0.1)
    head = kneaded(
        make_ball(14.0, 16), np.array([[1, 0, 0, 40.0], [0, 1, 0, 26], [0, 0, 1, 0], [0, 0, 0, 1]])
    )
    arm = lathed([(0, 4), (40, 4)], (0, 18, 0), (1, 0.2, 0))
    heavy = one_body([block, head, arm], ["a", "b", "c"], 0, GO).mesh
    assert not facts(heavy, 1.0, 45.0).stands
    assert not facts(make_ball(10.0, 13), 1.0, 45.0).lean > 20


@pytest.mark.parametrize("most", [3, 7, 40])
def test_depths_are_those_of_an_independent_transform(most: int) -> None:
    from scipy import ndimage

    rng = np.random.default_rng(5)
    flags = (ndimage.gaussian_filter(rng.random((31, 22, 40)), 3) > 0.49).astype(np.uint8)
    flags[[0, -1]] = flags[:, [0, -1]] = flags[:, :, [0, -1]] = 0
    told = np.minimum(np.rint(ndimage.distance_transform_edt(flags) ** 2), most * most)
    assert np.array_equal(squared_depths(flags, most), told)
