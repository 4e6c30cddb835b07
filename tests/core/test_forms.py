"""What the tools of form do to the clay, told apart in use."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from kneten.core.arrays import Progress
from kneten.core.brushes.tool import BrushSettings, Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.deform import KINDS, deformed, lattice_points, latticed, projected, relaxed
from kneten.core.distance import nearest_points
from kneten.core.mesh import MOST_BOXES, Mesh
from kneten.core.picking import pick
from kneten.core.primitives import ball
from kneten.core.remesh import triangulate
from kneten.core.solid import mirrored_whole, volume
from kneten.core.stroke import Stroke
from kneten.core.symmetry import exactly_symmetric
from kneten.core.twin_places import twins_of
from kneten.core.twins import asymmetry, pairs_of, resymmetrised
from kneten.core.value_stroke import ValueStroke
from tests.conftest import FRONT, make_ball, make_sheet
from tests.judge import judged


def draw(
    mesh: Mesh, key: str, line: list[tuple[float, float]], radius: float, strength: float, **held: object
) -> None:
    """A stroke along places of the picture plane, seen from the front."""
    tool = TOOLS[key]
    settings: BrushSettings = replace(tool.defaults, **held)  # type: ignore[arg-type]
    stroke = Stroke(mesh, tool, settings)
    before, travel = None, 0.0
    for x, y in line:
        hit = pick(mesh, np.array([x, y, 1000.0]), FRONT)
        assert hit is not None
        along = np.zeros(3) if before is None else hit.point - before
        travel += float(np.linalg.norm(along))
        stroke.dab(Dab(hit.point, along, FRONT, radius, strength, settings.spacing, travel))
        before = hit.point
    stroke.finish()


def line(x0: float, x1: float, y: float = 0.0, step: float = 1.0) -> list[tuple[float, float]]:
    return [(x, y) for x in np.arange(x0, x1 + step / 2, step)]


def over(sheet: Mesh, x: float, y: float) -> float:
    """Height of the vertex nearest to a place."""
    return float(
        sheet.positions[np.argmin(np.hypot(sheet.positions[:, 0] - x, sheet.positions[:, 1] - y)), 2]
    )


def sheet() -> Mesh:
    return make_sheet(100, 1.0)


# -- laying ----------------------------------------------------------------------------------------


def test_slab_is_as_thick_after_five_passes_as_after_one() -> None:
    once, often = sheet(), sheet()
    draw(once, "slab", line(-25, 25), 12.0, 0.6)
    draw(often, "slab", [p for k in range(5) for p in line(-25, 25)[:: -1 if k % 2 else 1]], 12.0, 0.6)
    inner = (np.abs(once.positions[:, 0]) < 20) & (np.abs(once.positions[:, 1]) < 5)
    assert once.positions[inner, 2].mean() > 1.0
    assert np.abs(often.positions[inner, 2] - once.positions[inner, 2]).max() < 0.12
    assert np.ptp(once.positions[inner, 2]) < 0.15


def test_coil_is_round_and_thin_at_its_ends() -> None:
    clay = sheet()
    draw(clay, "coil", line(-35, 35, step=0.6), 6.0, 0.6)
    top = over(clay, 0, 0)
    assert top == pytest.approx(0.6 * 6.0 * 0.5, rel=0.2)
    # Half an ellipse: at 0.7 of the half width still seven tenths of the height; nothing beside it.
    assert 0.5 * top < over(clay, 0, 4) < 0.9 * top
    assert abs(over(clay, 0, 8)) < 0.05 * top
    assert over(clay, -34, 0) < 0.55 * top
    assert over(clay, 34, 0) < 0.55 * top


def test_coil_lies_over_itself_where_it_crosses() -> None:
    clay = sheet()
    path = [*line(-25, 25, step=0.6), *[(25 - 0.0 * k, 0.6 * k) for k in range(40)]]
    path += [(25 - 0.6 * k, 24.0) for k in range(42)] + [(0.0, 24 - 0.6 * k) for k in range(80)]
    draw(clay, "coil", path, 5.0, 0.6)
    assert over(clay, 0, 0) > 1.25 * over(clay, 0, 12)
    assert over(clay, 0, 12) == pytest.approx(over(clay, -12, 0), rel=0.2)


def test_a_score_runs_out_at_both_ends_and_a_touch_leaves_little() -> None:
    clay = sheet()
    draw(clay, "score", line(-30, 30, step=0.5), 6.0, 0.6)
    assert over(clay, -30, 0) > 0.5 * over(clay, 0, 0)
    assert over(clay, 30, 0) > 0.5 * over(clay, 0, 0)
    dot = sheet()
    draw(dot, "score", [(0, 0)], 6.0, 0.6)
    assert 0 > dot.positions[:, 2].min() > 0.3 * clay.positions[:, 2].min()


# -- planes ----------------------------------------------------------------------------------------


def ridged() -> Mesh:
    """A hill along x = -15, a furrow along x = 15."""
    clay = sheet()
    x = clay.positions[:, 0]
    clay.positions[:, 2] = 3 * np.exp(-(((x + 15) / 3) ** 2)) - 3 * np.exp(-(((x - 15) / 3) ** 2))
    clay.refresh_all()
    return clay


@pytest.mark.parametrize(
    ("key", "strength"), [("shave", 0.7), ("shave", -0.7), ("span", 0.7), ("span", -0.7)]
)
def test_shave_takes_hills_and_span_bridges_hollows(key: str, strength: float) -> None:
    clay = ridged()
    for _ in range(4):
        draw(clay, key, [(x, y) for y in (-6, 0, 6) for x in np.arange(-25, 26, 2.0)], 14.0, strength)
    hill, furrow = over(clay, -15, 0), over(clay, 15, 0)
    takes_hills = (key == "shave") == (strength > 0)
    if takes_hills:
        assert hill < 1.2
        assert furrow < -1.9
    else:
        assert furrow > -1.2
        assert hill > 1.9


def test_burnish_evens_faces_and_keeps_their_edge() -> None:
    clay = sheet()
    x = clay.positions[:, 0]
    rng = np.random.default_rng(2)
    clay.positions[:, 2] = -np.abs(x) + rng.normal(0, 0.15, clay.n_vertices)
    clay.refresh_all()
    smoothed = clay.copy()
    for key, one in (("burnish", clay), ("smooth", smoothed)):
        for _ in range(3):
            draw(one, key, [(0, y) for y in np.arange(-25, 26, 2.0)], 16.0, 0.7)
    inner = np.abs(clay.positions[:, :2]).max(axis=1) < 12
    off = clay.positions[:, 2] + np.abs(clay.positions[:, 0])
    face = inner & (np.abs(clay.positions[:, 0]) > 4)
    assert off[face].std() < 0.08
    # The edge stays where Smooth has rounded it off.
    assert over(clay, 0, 0) > over(smoothed, 0, 0) + 0.4


TURNS = [(0.0, 0.0, 0.0), (0.0, 45.0, 0.0), (20.0, 45.0, 30.0), (-60.0, 10.0, 80.0)]


def creased(turn: Rotation, degrees: float = 70.0) -> Mesh:
    """A sheet folded along its middle, turned in space."""
    clay = sheet()
    half = np.radians(degrees / 2)
    x = clay.positions[:, 0].copy()
    clay.positions[:, 0] = x * np.cos(half)
    clay.positions[:, 2] = -np.abs(x) * np.sin(half)
    clay.positions[:] = turn.apply(clay.positions)
    clay.refresh_all()
    return clay


def crease_of(clay: Mesh, turn: Rotation) -> float:
    """Degrees between the two sides, measured within 1.5 mm of the fold."""
    at = turn.inv().apply(clay.positions)[triangulate(clay.topology.faces)]
    out = np.cross(at[:, 1] - at[:, 0], at[:, 2] - at[:, 0])
    middle = at.mean(axis=1)
    near = (np.abs(middle[:, 1]) < 8) & (np.abs(middle[:, 0]) < 1.5)
    left, right = (out[near & (np.sign(middle[:, 0]) == side)].sum(axis=0) for side in (-1, 1))
    return float(np.degrees(np.arccos(left @ right / np.linalg.norm(left) / np.linalg.norm(right))))


@pytest.mark.parametrize("angles", TURNS)
@pytest.mark.parametrize(("key", "way", "least"), [("burnish", "", 65.0), ("smooth", "edges", 60.0)])
def test_creases_are_kept_however_they_lie(
    key: str, way: str, least: float, angles: tuple[float, float, float]
) -> None:
    turn = Rotation.from_euler("xyz", angles, degrees=True)
    clay = creased(turn)
    before = crease_of(clay, turn)
    held = replace(TOOLS[key].defaults, variant=way)
    for strength in (0.5, 1.0):
        made = Stroke(clay, TOOLS[key], held)
        for y in np.arange(-20, 21, 2.0):
            at, along = turn.apply([[0.0, y, 0.0], [0.0, 2.0, 0.0]])
            made.dab(Dab(at, along, turn.apply(FRONT), 14.0, strength, held.spacing, 0.0, way))
        made.finish()
        assert before == pytest.approx(70.0, abs=1.0)
        assert crease_of(clay, turn) > least


def off_its_ring(clay: Mesh) -> np.ndarray:
    """How far each vertex stands off the middle of its neighbours, along its normal: what one feels as grain."""
    quads = clay.topology.faces.astype(np.int64)
    sides = np.concatenate([quads[:, [k, (k + 1) % 4]] for k in range(4)])
    total, many = np.zeros((clay.n_vertices, 3)), np.zeros(clay.n_vertices)
    for one, other in ((0, 1), (1, 0)):
        np.add.at(total, sides[:, one], clay.positions[sides[:, other]])
        np.add.at(many, sides[:, one], 1)
    return ((total / many[:, None] - clay.positions) * clay.normals).sum(axis=1)


@pytest.mark.parametrize(("key", "way"), [("burnish", ""), ("smooth", "edges"), ("smooth", "")])
@pytest.mark.parametrize("grain", [0.0, 0.3])
def test_round_clay_stays_smooth_under_what_keeps_edges(key: str, way: str, grain: float) -> None:
    """At full strength, pass after pass: no ridges where the groups of normals meet, no grid."""
    clay = make_ball(30.0, 40)
    rng = np.random.default_rng(4)
    clay.positions += (clay.normals * rng.normal(0, grain, (clay.n_vertices, 1))).astype(np.float32)
    clay.refresh_all()
    at = clay.positions
    seen = (at[:, 2] > 20) & (np.abs(at[:, 1]) < 6) & (np.abs(at[:, 0]) < 8)
    held = replace(TOOLS[key].defaults, variant=way)
    for _ in range(4):
        made = Stroke(clay, TOOLS[key], held)
        for x in np.arange(-10, 11, 2.0):
            hit = pick(clay, np.array([x, 0.0, 1000.0]), FRONT)
            assert hit is not None
            made.dab(Dab(hit.point, np.array([2.0, 0.0, 0.0]), FRONT, 14.0, 1.0, held.spacing, 0.0, way))
        made.finish()
        assert off_its_ring(clay)[seen].std() < 0.012


def test_keeping_edges_still_evens_lumps() -> None:
    """In two passes, as the plain way."""
    left = {}
    for way in ("", "edges"):
        clay = sheet()
        x, y = clay.positions[:, 0], clay.positions[:, 1]
        clay.positions[:, 2] = np.exp(-(x**2 + y**2) / 30.0)
        clay.refresh_all()
        held = replace(TOOLS["smooth"].defaults, variant=way)
        for _ in range(2):
            made = Stroke(clay, TOOLS["smooth"], held)
            for y_ in np.arange(-12, 13, 2.0):
                made.dab(
                    Dab(
                        np.array([0.0, y_, 0.0]),
                        np.array([0.0, 2.0, 0.0]),
                        FRONT,
                        16.0,
                        0.7,
                        held.spacing,
                        0.0,
                        way,
                    )
                )
            made.finish()
        left[way] = float(clay.positions[:, 2].max())
    assert left[""] < 0.4
    assert left["edges"] < 0.5


# -- turning ---------------------------------------------------------------------------------------


def held(
    mesh: Mesh, key: str, amount: float, radius: float = 40.0, way: tuple[float, float, float] = (0, 0, 0)
) -> None:
    stroke = Stroke(mesh, TOOLS[key], TOOLS[key].defaults)
    hit = pick(mesh, np.array([0.0, 0.0, 1000.0]), FRONT)
    assert hit is not None
    stroke.grab(hit.point, radius, FRONT)
    stroke.drag(np.array(way, float), radius, 1.0, amount)
    stroke.finish()


def test_twist_turns_and_keeps_distances_to_its_axis() -> None:
    clay = sheet()
    before = clay.positions.copy()
    held(clay, "twist", np.pi / 2)
    far = np.hypot(before[:, 0], before[:, 1])
    assert np.abs(np.hypot(clay.positions[:, 0], clay.positions[:, 1]) - far).max() < 1e-3
    near = (far > 1) & (far < 4)
    turned = np.angle(
        (clay.positions[near, 0] + 1j * clay.positions[near, 1]) / (before[near, 0] + 1j * before[near, 1])
    )
    assert np.abs(np.abs(turned) - np.pi / 2).max() < 0.1


def test_swell_scales_and_bend_bends_both_ends_the_same_way() -> None:
    clay = sheet()
    before = clay.positions.copy()
    held(clay, "swell", 0.5)
    near = np.hypot(before[:, 0], before[:, 1]) < 3
    assert np.allclose(clay.positions[near, :2], before[near, :2] * 1.5, atol=0.15)
    bar = sheet()
    held(bar, "bend", -0.8, 40.0, (10.0, 0, 0))
    # What lay along y before is bowed along x now, both ends to the side of the drag.
    column = np.abs(before[:, 0]) < 0.6
    ends = column & (np.abs(np.abs(before[:, 1]) - 20) < 3)
    assert bar.positions[ends, 0].min() > before[ends, 0].max()
    assert abs(over(bar, 0, 0)) < 1e-6


# -- along the surface -----------------------------------------------------------------------------


@pytest.mark.parametrize(("key", "variant"), [("slide", ""), ("smooth", "relax")])
def test_moving_along_the_surface_keeps_the_form(key: str, variant: str) -> None:
    mesh = make_ball(100.0, 40)
    rng = np.random.default_rng(8)
    if key == "smooth":
        tangent = rng.normal(0, 0.5, (mesh.n_vertices, 3))
        tangent -= mesh.normals * np.einsum("ij,ij->i", tangent, mesh.normals)[:, None]
        moved = mesh.positions + tangent
        mesh.positions[:] = moved / np.linalg.norm(moved, axis=1, keepdims=True) * 100
        mesh.refresh_all()
    before = mesh.positions.copy()
    draw(mesh, key, [(x, 0.0) for x in np.arange(-30, 31, 2.0)], 25.0, 0.8, variant=variant)
    assert np.linalg.norm(mesh.positions - before, axis=1).max() > 0.5
    far = np.linalg.norm(mesh.positions, axis=1)
    assert np.abs(far - 100).max() < 0.5
    if key == "smooth":
        near = np.linalg.norm(before - [0, 0, 100], axis=1) < 25
        faces = mesh.topology.faces[near[mesh.topology.faces].all(axis=1)]

        def scatter(points: np.ndarray) -> float:
            sides = np.linalg.norm(points[faces] - points[np.roll(faces, 1, 1)], axis=2)
            return float((sides.std(axis=1) / sides.mean(axis=1)).mean())

        assert scatter(mesh.positions) < 0.7 * scatter(before)


def test_keeping_the_volume_while_smoothing() -> None:
    losses = []
    for variant in ("", "volume"):
        mesh = make_ball(100.0, 40)
        mesh.positions *= 1 + 0.03 * np.sin(mesh.positions[:, [0]] / 4) * np.sin(mesh.positions[:, [1]] / 4)
        mesh.refresh_all()
        before = volume(mesh)
        for y in np.arange(-60, 61, 12.0):
            for _ in range(3):
                draw(mesh, "smooth", [(x, y) for x in np.arange(-60, 61, 4.0)], 25.0, 0.7, variant=variant)
        losses.append(abs(volume(mesh) / before - 1))
    assert losses[1] < 0.005
    assert losses[1] < 0.5 * losses[0]


def test_pull_over_the_surface_leaves_the_other_finger_alone() -> None:
    one, other = ball(10.0, 16), ball(10.0, 16)
    bent = np.concatenate([one[0] + np.float32([-10.6, 0, 0]), other[0] + np.float32([10.6, 0, 0])])
    clay = Mesh.from_faces(bent, np.concatenate([one[1], other[1] + len(one[0])]))
    before = clay.positions.copy()
    for variant in ("", "surface"):
        clay.positions[:] = before
        clay.refresh_all()
        tool = TOOLS["pull"]
        stroke = Stroke(clay, tool, replace(tool.defaults, variant=variant))
        stroke.grab(np.array([-2.0, 0.0, 4.8]), 12.0, FRONT)
        stroke.drag(np.array([0.0, 0.0, 5.0]), 12.0)
        stroke.finish()
        moved = (clay.positions != before).any(axis=1)
        assert moved[before[:, 0] < 0].any()
        assert not moved[before[:, 0] > 0].any()


def test_restore_goes_back_to_the_milestone() -> None:
    clay = sheet()
    kept = clay.positions.copy()
    draw(clay, "raise", line(-20, 20), 10.0, 0.8)
    high = over(clay, 0, 0)
    stroke = Stroke(clay, TOOLS["restore"], TOOLS["restore"].defaults)
    stroke.work.before = kept
    for _ in range(30):
        stroke.dab(Dab(np.array([0.0, 0, high]), np.zeros(3), FRONT, 12.0, 0.8, 0.15))
    stroke.finish()
    assert over(clay, 0, 0) < 0.1 * high
    assert over(clay, -18, 0) > 0.5 * high


# -- what brushes leave alone ----------------------------------------------------------------------


def test_open_edges_hollows_and_other_regions_are_left_alone() -> None:
    open_ = make_sheet(30, 1.0)
    before = open_.positions.copy()
    draw(open_, "inflate", [(14, 0)], 12.0, 1.0, auto_edge=True)
    rim = open_.topology.border.astype(bool)
    assert np.array_equal(open_.positions[rim], before[rim])
    assert not np.array_equal(open_.positions, before)
    clay = ridged()
    depth = over(clay, 15, 0)
    draw(clay, "inflate", line(-25, 25), 12.0, 0.6, auto_cavity=True)
    assert over(clay, 15, 0) - depth < 0.5 * (over(clay, 0, 0))
    divided = sheet()
    divided.regions = np.where(divided.positions[divided.topology.faces[:, 0], 0] > 0, 2, 1).astype(np.uint16)
    stroke = Stroke(divided, TOOLS["raise"], replace(TOOLS["raise"].defaults, auto_region=True))
    stroke.region = 2
    stroke.dab(Dab(np.zeros(3), np.zeros(3), FRONT, 15.0, 1.0, 1.0))
    stroke.finish()
    moved = divided.positions[:, 2] != 0
    assert divided.positions[moved, 0].min() > -1.5


# -- painting masks and regions --------------------------------------------------------------------


def test_painting_a_mask_can_be_softened_erased_and_undone() -> None:
    mesh = make_ball()
    centre = np.array([0.0, 0, 100])

    def paint(strength: float, smoothing: bool = False, count: int = 6) -> ValueStroke:
        stroke = ValueStroke(mesh, TOOLS["mask"], TOOLS["mask"].defaults, smoothing=smoothing)
        for _ in range(count):
            stroke.dab(Dab(centre, np.zeros(3), FRONT, 40.0, strength, 0.2))
        return stroke

    first = paint(1.0).finish()
    assert first is not None
    assert mesh.mask is not None
    painted = mesh.mask.copy()
    inner = np.linalg.norm(mesh.positions - centre, axis=1) < 20
    assert painted[inner].min() > 0.95
    assert painted[mesh.positions[:, 2] < 0].max() == 0
    soft = paint(1.0, smoothing=True, count=12).finish()
    assert soft is not None
    assert mesh.mask[inner].min() <= painted[inner].min()
    soft.swap(mesh)
    assert np.array_equal(mesh.mask, painted)
    paint(-1.0, count=30).finish()
    assert mesh.mask is None or mesh.mask[inner].max() < 0.05
    stroke = paint(1.0)
    stroke.cancel()
    assert mesh.mask is None or mesh.mask[inner].max() < 0.05


def test_going_over_a_region_again_and_again_changes_nothing() -> None:
    mesh = make_ball()
    stroke = ValueStroke(mesh, TOOLS["region"], TOOLS["region"].defaults, number=4)
    spot = Dab(np.array([60.0, 0, 80]), np.zeros(3), FRONT, 30.0, 1.0, 0.2)
    stroke.dab(spot)
    mesh.take_moved()
    for _ in range(2 * MOST_BOXES):
        stroke.dab(spot)
    moved = mesh.take_moved()
    assert moved is None or not len(moved)


def test_painting_regions() -> None:
    mesh = make_ball()
    stroke = ValueStroke(mesh, TOOLS["region"], TOOLS["region"].defaults, (True, False, False), number=4)
    stroke.dab(Dab(np.array([60.0, 0, 80]), np.zeros(3), FRONT, 30.0, 1.0, 0.2))
    change = stroke.finish()
    assert change is not None
    assert change.what == "regions"
    assert mesh.regions is not None
    middles = mesh.positions[mesh.topology.faces].mean(axis=1)
    painted = mesh.regions == 4
    assert painted[np.linalg.norm(middles - [60, 0, 80], axis=1) < 15].all()
    assert painted[np.linalg.norm(middles - [-60, 0, 80], axis=1) < 15].all()
    assert not painted[np.abs(middles[:, 0]) < 20].any()
    change.swap(mesh)
    assert mesh.regions is None


# -- symmetry --------------------------------------------------------------------------------------


def test_radial_strokes_repeat_all_round() -> None:
    mesh = make_ball(100.0, 32)
    stroke = Stroke(mesh, TOOLS["inflate"], TOOLS["inflate"].defaults, twins=twins_of((False,) * 3, (1, 5)))
    stroke.dab(Dab(np.array([0.0, 0, 100]), np.zeros(3), FRONT, 20.0, 1.0, 1.0))
    stroke.finish()
    out = np.linalg.norm(mesh.positions, axis=1) > 100.5
    angles = np.sort(np.arctan2(mesh.positions[out, 0], mesh.positions[out, 2]) % (2 * np.pi / 5))
    assert ((angles < 0.25) | (angles > 2 * np.pi / 5 - 0.25)).all()
    sectors = (
        (np.arctan2(mesh.positions[out, 0], mesh.positions[out, 2]) + np.pi / 5) // (2 * np.pi / 5)
    ) % 5
    assert len(np.unique(sectors)) == 5


def test_symmetry_of_the_world_follows_a_moved_part() -> None:
    mesh = make_ball(50.0, 24)
    place = np.eye(4)
    place[:3, 3] = (50.0, 0, 0)
    stroke = Stroke(
        mesh, TOOLS["inflate"], TOOLS["inflate"].defaults, twins=twins_of((True, False, False), place=place)
    )
    # In the scene at x = 20; its twin at x = -20 lies outside of the part: at -70 in its own space.
    stroke.dab(Dab(np.array([-30.0, 0, 40]), np.zeros(3), FRONT, 12.0, 1.0, 1.0))
    stroke.finish()
    moved = np.linalg.norm(mesh.positions, axis=1) > 50.2
    assert moved.any()
    assert mesh.positions[moved, 0].max() < -10


def posed() -> tuple[Mesh, Mesh]:
    """A ball, and the same bent to one side."""
    rest = make_ball(100.0, 32)
    p = rest.positions.astype(float)
    angle = np.maximum(p[:, 0], 0) / 100 * 1.2
    bent = p.copy()
    bent[:, 0] = np.where(p[:, 0] > 0, p[:, 0] * np.cos(angle) - p[:, 1] * np.sin(angle), p[:, 0])
    bent[:, 1] = p[:, 1] * np.cos(angle) + np.abs(p[:, 0]) * np.sin(angle)
    return rest, rest.with_positions(bent.astype(np.float32))


def test_twins_are_found_by_shape_on_a_posed_body() -> None:
    rest, bent = posed()
    pairs = pairs_of(bent, 0)
    assert pairs is not None
    mirrored = rest.positions[pairs.twin].copy()
    mirrored[:, 0] *= -1
    assert np.abs(mirrored - rest.positions).max() < 1e-3
    assert asymmetry(rest, pairs, 0).max() < 1e-3
    assert asymmetry(bent, pairs, 0).max() > 10
    lopsided = make_ball(100.0, 6)
    cut = Mesh.from_faces(lopsided.positions, lopsided.topology.faces[:-1])
    assert pairs_of(cut, 0) is None


def test_strokes_on_a_posed_body_have_their_twins() -> None:
    rest, bent = posed()
    pairs = pairs_of(bent, 0)
    assert pairs is not None
    before = bent.positions.copy()
    start = int(np.argmin(np.linalg.norm(rest.positions - [-70, 0, 70], axis=1)))
    stroke = Stroke(bent, TOOLS["inflate"], TOOLS["inflate"].defaults)
    stroke.pairs = pairs.twin
    stroke.dab(Dab(bent.positions[start].astype(float), np.zeros(3), FRONT, 20.0, 1.0, 1.0))
    stroke.finish()
    lift = np.einsum("ij,ij->i", bent.positions - before, rest.normals * 0 + bent.normals)
    there = pairs.twin[start]
    assert lift[start] > 1
    assert lift[there] == pytest.approx(lift[start], rel=0.25)


@pytest.mark.parametrize("side", [1, -1, 0])
def test_resymmetrising_copies_one_side_and_respects_what_may_not_move(side: int) -> None:
    mesh = make_ball(100.0, 24)
    pairs = pairs_of(mesh, 0)
    assert pairs is not None
    rng = np.random.default_rng(3)
    mesh.positions += rng.normal(0, 1, mesh.positions.shape).astype(np.float32)
    made = resymmetrised(mesh, pairs, 0, side, 0.0, None)
    assert exactly_symmetric(made, 0)
    kept = pairs.side == side
    if side:
        assert np.array_equal(made[kept], mesh.positions[kept])
    free = (mesh.positions[:, 1] > 0).astype(np.float32)
    partly = resymmetrised(mesh, pairs, 0, side, 0.0, free)
    assert np.array_equal(partly[free == 0], mesh.positions[free == 0])
    soft = resymmetrised(mesh, pairs, 0, side, 30.0, None)
    assert exactly_symmetric(soft, 0)


def test_a_new_mesh_from_one_side_is_closed_and_symmetric() -> None:
    mesh = make_ball(100.0, 24)
    mesh.positions[:, 1] += np.where(mesh.positions[:, 0] > 0, 8, 0).astype(np.float32) * (
        mesh.positions[:, 0] / 100
    )
    mesh.refresh_all()
    for side in (1, -1):
        made = mirrored_whole(mesh, 0, side, Progress())
        assert exactly_symmetric(made.positions, 0)
        assert judged(made).is_watertight
        highest = mesh.positions[mesh.positions[:, 0] * side > 0, 1].max()
        assert made.positions[:, 1].max() == pytest.approx(highest, abs=0.5)


# -- deformers -------------------------------------------------------------------------------------


def deform(mesh: Mesh, kind: str, amount: float, free: float = 1.0) -> np.ndarray:
    points = mesh.positions.astype(float)
    share = np.full(mesh.n_vertices, free, np.float32)
    return deformed(
        points,
        mesh.normals.astype(float),
        share,
        kind,
        1,
        amount,
        20.0,
        points.min(axis=0),
        points.max(axis=0),
    )


def test_deformers_do_what_they_say() -> None:
    mesh = make_ball(100.0, 24)
    p = mesh.positions.astype(float)
    assert volume(mesh.with_positions(deform(mesh, "stretch", 60).astype(np.float32))) == pytest.approx(
        volume(mesh), rel=1e-3
    )
    twisted = deform(mesh, "twist", 90)
    assert np.allclose(np.hypot(twisted[:, 0], twisted[:, 2]), np.hypot(p[:, 0], p[:, 2]), atol=1e-3)
    assert np.allclose(twisted[:, 1], p[:, 1])
    tapered = deform(mesh, "taper", 100)
    top, bottom = p[:, 1] > 60, p[:, 1] < -60
    grown = np.hypot(tapered[:, 0], tapered[:, 2]) / np.maximum(np.hypot(p[:, 0], p[:, 2]), 1e-9)
    assert grown[top].max() > 1.7
    assert grown[bottom & (np.hypot(p[:, 0], p[:, 2]) > 1)].min() < 1.2
    assert np.allclose(deform(mesh, "flatten", 100)[:, 1], 0, atol=1e-6)
    assert np.allclose(deform(mesh, "shear", 50)[:, 2], p[:, 2] + 0.5 * p[:, 1])
    assert np.linalg.norm(deform(mesh, "inflate", 5), axis=1).min() == pytest.approx(105, abs=0.2)
    rough = np.linalg.norm(deform(mesh, "noise", 5), axis=1)
    assert rough.std() > 0.5
    assert np.array_equal(deform(mesh, "noise", 5), deform(mesh, "noise", 5))
    bent = deform(mesh, "bend", 90)
    column = (np.abs(p[:, 0]) < 1e-3) & (np.abs(p[:, 2]) < 1e-3)
    assert np.linalg.norm(bent[column] - p[column], axis=1).max() > 10


@pytest.mark.parametrize("kind", [k for k in KINDS if k != "relax"])
def test_deformers_leave_masked_clay_alone_and_do_nothing_at_zero(kind: str) -> None:
    mesh = make_ball()
    p = mesh.positions.astype(float)
    assert np.allclose(deform(mesh, kind, 0.0), p, atol=1e-9)
    assert np.array_equal(deform(mesh, kind, 30.0, free=0.0), p)


def test_relaxing_evens_and_keeps_what_is_masked() -> None:
    mesh = make_ball(100.0, 24)
    mesh.positions += np.random.default_rng(1).normal(0, 1, mesh.positions.shape).astype(np.float32)
    free = (mesh.positions[:, 1] > 0).astype(np.float32)
    made = relaxed(mesh, free, 10)
    assert np.array_equal(made[free == 0].astype(np.float32), mesh.positions[free == 0])
    inner = mesh.positions[:, 1] > 30
    assert (
        np.linalg.norm(made[inner], axis=1).std() < 0.5 * np.linalg.norm(mesh.positions[inner], axis=1).std()
    )


def test_a_range_is_deformed_and_what_lies_beyond_goes_along_stiffly() -> None:
    mesh = Mesh.from_faces(*ball(100.0, 24))
    p = mesh.positions.astype(np.float64)
    low, high = p.min(axis=0), p.max(axis=0)
    free = np.ones(len(p), np.float32)
    normals = mesh.normals.astype(np.float64)

    def within(kind: str, amount: float) -> np.ndarray:
        return deformed(p, normals, free, kind, 1, amount, 10.0, low, high, 0.25, 0.5)

    for kind, amount in (("bend", 60.0), ("twist", 90.0)):
        out = within(kind, amount)
        for part in (p[:, 1] > 1.0, p[:, 1] < -51.0):
            a, b = out[part], p[part]
            assert np.linalg.norm(np.diff(a, axis=0), axis=1) == pytest.approx(
                np.linalg.norm(np.diff(b, axis=0), axis=1), abs=1e-9
            )
    shorter = within("flatten", 100.0)
    assert np.ptp(shorter[:, 1]) == pytest.approx(150.0, abs=0.5)
    swollen = np.linalg.norm(within("inflate", 5.0) - p, axis=1)
    assert swollen[p[:, 1] > 1].max() == 0
    assert swollen.max() == pytest.approx(5.0, rel=0.05)


@pytest.mark.parametrize("kind", ["bend", "twist", "taper", "shear"])
def test_a_soft_border_leaves_no_edge_at_the_ends_of_the_range(kind: str) -> None:
    """Along a rod: with a soft border the change of direction from row to row runs out; without, it jumps."""
    rows = np.linspace(-100.0, 100.0, 401)
    points = np.stack([np.full_like(rows, 5.0), rows, np.zeros_like(rows)], -1)
    low, high = np.array([-5.0, -100.0, -5.0]), np.array([5.0, 100.0, 5.0])
    free, normals = np.ones(len(rows), np.float32), np.zeros_like(points)
    amount = {"bend": 80.0, "twist": 120.0, "taper": 150.0, "shear": 60.0}[kind]
    jumps, ends = [], []
    for soft in (0.0, 0.5, 1.0):
        out = deformed(points, normals, free, kind, 1, amount, 1.0, low, high, 0.3, 0.7, soft)
        step = np.diff(out, axis=0)
        jumps.append(np.abs(np.diff(step, axis=0)).max())
        ends.append(out[[0, -1]])
        assert np.array_equal(np.isfinite(out), np.ones_like(out, bool))
    assert jumps[1] < 0.35 * jumps[0] if kind != "bend" else jumps[1] <= jumps[0] * 2.5
    # Both ends come out turned, or wide, as without it.
    if kind in ("twist", "taper"):
        assert ends[1] == pytest.approx(ends[0], abs=1e-9)
        assert ends[2] == pytest.approx(ends[0], abs=1e-9)


def test_a_lattice_moves_what_is_near_its_point_and_keeps_planes_flat() -> None:
    mesh = Mesh.from_faces(*ball(100.0, 24))
    p = mesh.positions.astype(np.float64)
    low, high = p.min(axis=0), p.max(axis=0)
    free = np.ones(len(p), np.float32)
    points = lattice_points(low, high)
    assert np.allclose(points[[0, 26]], [low, high])
    offsets = np.zeros((27, 3))
    assert np.array_equal(latticed(p, free, low, high, offsets), p)
    offsets[22] = [0, 0, 30]  # The middle of the side of greatest x.
    moved = latticed(p, free, low, high, offsets) - p
    assert moved[np.argmax(p[:, 0]), 2] == pytest.approx(30 * 0.25, rel=0.05)
    assert np.abs(moved[np.argmin(p[:, 0])]).max() < 0.05
    offsets[:] = [1.0, 2.0, 3.0]
    assert np.allclose(latticed(p, free, low, high, offsets) - p, [1, 2, 3])


def test_projecting_lays_clay_onto_another_part() -> None:
    small, large = Mesh.from_faces(*ball(60.0, 16)), Mesh.from_faces(*ball(100.0, 48))
    p = small.positions.astype(np.float64)
    near = nearest_points(p, large, Progress())[0]
    out = projected(p, np.ones(len(p), np.float32), near, 100.0)
    assert np.linalg.norm(out, axis=1) == pytest.approx(100.0, abs=0.4)
    half = projected(p, np.ones(len(p), np.float32), near, 50.0)
    assert np.linalg.norm(half, axis=1) == pytest.approx(80.0, abs=0.4)
    assert np.array_equal(projected(p, np.zeros(len(p), np.float32), near, 100.0), p)
