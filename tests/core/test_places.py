"""Picking, camera, curves, paths and transforms."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kneten.core.brush_path import EvenSpacing, Leash, PenPoint, RoundedPath, Touch
from kneten.core.camera import VIEWS, Camera
from kneten.core.culling import clip_planes, fit_cones, patch_edges, patch_triangles, seen_runs
from kneten.core.falloff import PRESETS, clean_points, curve_at, curve_table
from kneten.core.mesh import Mesh
from kneten.core.picking import pick
from kneten.core.stand_ins import stand_in
from kneten.core.transform import Transform
from tests.conftest import FRONT, make_ball, make_sheet


def slow_pick(mesh, origin: np.ndarray, way: np.ndarray) -> float:  # type: ignore[no-untyped-def]
    """The nearest hit by trying all triangles."""
    faces = mesh.topology.faces
    triangles = np.concatenate([faces[:, :3], faces[faces[:, 3] >= 0][:, [0, 2, 3]]])
    a, b, c = (mesh.positions[triangles[:, k]].astype(np.float64) for k in range(3))
    p = np.cross(way, c - a)
    det = np.einsum("ij,ij->i", b - a, p)
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        u = np.einsum("ij,ij->i", origin - a, p) / det
        q = np.cross(origin - a, b - a)
        v = q @ way / det
        t = np.einsum("ij,ij->i", c - a, q) / det
        slack = 1e-9  # rays along an edge belong to both of its triangles
        good = (u >= -slack) & (v >= -slack) & (u + v <= 1 + slack) & (t > 0)
    return float(t[good].min()) if good.any() else np.inf


@given(st.tuples(*[st.floats(-1, 1)] * 3), st.tuples(*[st.floats(-60, 60)] * 3))
def test_pick_finds_the_nearest_triangle(way: tuple[float, ...], aim: tuple[float, ...]) -> None:
    direction = np.array(way)
    if np.linalg.norm(direction) < 0.1:
        return
    mesh = make_ball(50.0, 12)
    origin = np.array(aim) - direction / np.linalg.norm(direction) * 200
    hit = pick(mesh, origin, direction)
    expected = slow_pick(mesh, origin, direction)
    assert (hit.distance if hit else np.inf) == pytest.approx(expected, rel=1e-6)
    if hit is not None:
        assert np.linalg.norm(hit.normal) == pytest.approx(1.0)
        assert hit.edge > 0


@pytest.mark.parametrize("count", [3, 4])
def test_a_hit_tells_the_way_the_face_looks_and_how_long_its_edges_are(count: int) -> None:
    corners = np.array([[0, 0, 0], [4, 0, 1], [4, 3, 2], [0, 3, 1]], np.float32)[:count]
    mesh = Mesh.from_faces(corners, np.array([[0, 1, 2, 3 if count == 4 else -1]], np.int32))
    hit = pick(mesh, np.array([2.2, 1.0, 50.0]), FRONT)
    at = corners.astype(np.float64)
    normal = np.cross(at[2] - at[0], at[3] - at[1]) if count == 4 else np.cross(at[1] - at[0], at[2] - at[0])
    edges = np.linalg.norm(at - np.roll(at, 1, axis=0), axis=1)
    assert hit is not None
    assert hit.normal == pytest.approx(normal / np.linalg.norm(normal))
    assert hit.edge == pytest.approx(edges.mean())


@given(st.floats(-0.5, 1.5))
def test_a_curve_is_read_between_its_steps(t: float) -> None:
    points = next(iter(PRESETS.values()))
    table = curve_table(points)
    assert curve_at(points, t) == pytest.approx(np.interp(t, np.linspace(0, 1, len(table)), table), abs=1e-6)


@pytest.mark.parametrize("name", list(VIEWS))
@pytest.mark.parametrize("orthographic", [False, True])
def test_rays_and_pixels_belong_together(name: str, orthographic: bool) -> None:
    camera = Camera(target=(3.0, 4.0, 5.0), orthographic=orthographic).seen_from(name)
    for x, y in ((0.0, 0.0), (640.0, 400.0), (900.0, 123.0)):
        origin, way = camera.ray(x, y, 1280, 800)
        depth = 300.0 if not orthographic else 1e5 + 50.0
        back = camera.project((origin + way * depth)[None], 1280, 800)[0]
        assert back[:2] == pytest.approx((x, y), abs=1e-4)


@given(st.floats(-170, 170), st.floats(-80, 80), st.floats(0.3, 3), st.booleans())
def test_the_point_under_the_cursor_stays(yaw: float, pitch: float, zoom: float, flat: bool) -> None:
    camera = Camera(yaw=20.0, pitch=10.0, orthographic=flat)
    point = np.array([30.0, -20.0, 40.0])
    before = camera.project(point[None], 800, 600)[0, :2]
    for moved in (camera.turned(yaw - 20, pitch - 10, point), camera.zoomed(zoom, point)):
        assert moved.project(point[None], 800, 600)[0, :2] == pytest.approx(before, abs=1e-3)


def test_panning_follows_the_cursor() -> None:
    camera = Camera(yaw=33.0, pitch=12.0)
    point = np.array([10.0, 20.0, 15.0])
    before = camera.project(point[None], 800, 600)[0, :2]
    after = camera.panned(40.0, -25.0, 600, point).project(point[None], 800, 600)[0, :2]
    assert after - before == pytest.approx((40.0, -25.0), abs=1e-3)


@pytest.mark.parametrize("aspect", [0.5, 1.0, 2.0])
@pytest.mark.parametrize("orthographic", [False, True])
def test_framing_shows_all_and_not_much_more(aspect: float, orthographic: bool) -> None:
    low, high = np.array([-10.0, 0.0, -30.0]), np.array([50.0, 90.0, 20.0])
    camera = Camera(yaw=35.0, pitch=20.0, orthographic=orthographic).framing(low, high, aspect)
    corners = np.array([[x, y, z] for x in (-10, 50) for y in (0, 90) for z in (-30, 20)], float)
    pixels = camera.project(corners, 600 * aspect, 600)
    assert (pixels[:, 0] > 0).all()
    assert (pixels[:, 0] < 600 * aspect).all()
    assert (pixels[:, 1] > 0).all()
    assert (pixels[:, 1] < 600).all()
    share = max(np.ptp(pixels[:, 0]) / (600 * aspect), np.ptp(pixels[:, 1]) / 600)
    assert share > 0.6


def test_matrices_agree_with_projecting() -> None:
    for flat in (False, True):
        camera = Camera(yaw=40.0, pitch=-15.0, orthographic=flat)
        near, far = camera.depth_range(np.full(3, -100.0), np.full(3, 100.0))
        matrix = camera.projection_matrix(1.5, near, far) @ camera.view_matrix()
        point = np.array([30.0, 50.0, -20.0])
        clip = matrix @ np.append(point, 1.0)
        ndc = clip[:3] / clip[3]
        pixel = camera.project(point[None], 900, 600)[0]
        assert ((ndc[0] + 1) * 450, (1 - ndc[1]) * 300) == pytest.approx(tuple(pixel[:2]))
        assert -1 < ndc[2] < 1


@pytest.mark.parametrize("orthographic", [False, True])
def test_a_plane_lies_in_the_picture_as_its_points_do(orthographic: bool) -> None:
    random = np.random.default_rng(5)
    camera = Camera((3.0, -4.0, 5.0), 200.0, 33.0, -20.0, 35.0, orthographic, 12.0)
    at, across, up = random.normal(0, 15, (3, 3))
    flat = random.uniform(-1, 1, (50, 2))
    there = np.column_stack([flat, np.ones(50)]) @ camera.plane_to_pixels(at, across, up, 800, 600)
    wanted = camera.project(at + flat @ np.array([across, up]), 800, 600)
    np.testing.assert_allclose(there[:, :2] / there[:, 2:], wanted[:, :2], atol=1e-6)


def test_curves_pass_through_their_points_without_overshoot() -> None:
    for points in PRESETS.values():
        table = curve_table(points)
        assert (np.diff(table) <= 1e-6).all()
        for x, y in points:
            assert curve_at(points, x) == pytest.approx(y, abs=0.02)
    assert clean_points([(0.5, 2.0), (0.5, 0.1), (-1, 0.3)]) == ((0.0, 0.3), (0.5, 0.1))
    with pytest.raises(ValueError, match="two points"):
        clean_points([(0.2, 1.0)])


def dab_places(events: int, share: float) -> np.ndarray:
    """Where dabs fall along a half circle drawn with so many pen events."""
    path, spacing = RoundedPath(), EvenSpacing(share)
    angles = np.linspace(0, np.pi, events)
    out = []

    def place(points) -> None:  # type: ignore[no-untyped-def]
        for point in points:
            touch = Touch(np.array([point.x, point.y, 0.0]), FRONT, 20.0, point.pressure)
            out.extend(t.point for t, _ in spacing.add(touch))

    for angle in angles:
        place(path.add(PenPoint(200 * np.cos(angle), 200 * np.sin(angle))))
    place(path.end())
    return np.array(out)


@pytest.mark.parametrize("events", [12, 40, 400])
def test_dabs_are_even_whatever_the_event_rate(events: int) -> None:
    places = dab_places(events, 0.15)
    gaps = np.linalg.norm(np.diff(places, axis=0), axis=1)
    assert gaps == pytest.approx(np.full(len(gaps), 3.0), rel=0.02)
    # A quick hand's few events still give the round path, not its chords.
    assert np.abs(np.linalg.norm(places[:, :2], axis=1) - 200).max() < 7.0


def test_leaving_the_clay_begins_afresh() -> None:
    spacing = EvenSpacing(0.5)
    touch = Touch(np.zeros(3), FRONT, 10.0, 1.0)
    far = Touch(np.array([100.0, 0, 0]), FRONT, 10.0, 1.0)
    assert len(list(spacing.add(touch))) == 1
    assert list(spacing.add(None)) == []
    assert len(list(spacing.add(far))) == 1


def test_leash_leaves_the_tremble_out() -> None:
    leash = Leash(10.0)
    rng = np.random.default_rng(0)
    ys = [leash.follow(PenPoint(float(x), float(rng.normal(0, 3)))).y for x in range(300)]
    assert np.std(ys[50:]) < 1.5
    free = Leash(0.0)
    assert free.follow(PenPoint(3.0, 4.0)) == PenPoint(3.0, 4.0)


@given(st.tuples(*[st.floats(-180, 180)] * 3), st.floats(0.1, 10))
def test_transforms_go_there_and_back(angles: tuple[float, float, float], scale: float) -> None:
    place = Transform((1.0, 2.0, 3.0), scale=scale).with_degrees(*angles)
    points = np.random.default_rng(0).normal(size=(5, 3))
    assert place.to_part(place.to_scene(points)) == pytest.approx(points, abs=1e-9)
    matrix = place.matrix() @ np.append(points[0], 1.0)
    assert matrix[:3] == pytest.approx(place.to_scene(points[:1])[0])
    again = Transform().with_degrees(*place.degrees())
    assert again.rotation() == pytest.approx(place.rotation(), abs=1e-6)


def test_scaling_about_a_point_leaves_it() -> None:
    place = Transform((10.0, 0, 0)).scaled_about(2.0, np.array([10.0, 0, 0]))
    assert place.place == pytest.approx((10, 0, 0))
    turned = Transform((10.0, 0, 0)).turned_about(np.array([0, 0, 1.0]), 90.0, np.zeros(3))
    assert turned.place == pytest.approx((0, 10, 0), abs=1e-9)


def test_culling_never_hides_what_is_seen() -> None:
    mesh = make_ball(50.0, 48)
    shape = mesh.topology
    cones = np.empty((shape.n_patches, 4), np.float32)
    fit_cones(
        mesh.positions,
        shape.faces,
        shape.patch_faces,
        np.arange(shape.n_patches, dtype=np.int32),
        cones,
    )
    camera = Camera(yaw=25.0, pitch=15.0, distance=160.0)
    near, far = camera.depth_range(*(b.astype(np.float64) for b in mesh.bounds()))
    matrix = camera.projection_matrix(1.0, near, far) @ camera.view_matrix()
    eye = np.append(camera.eye(), 1.0)
    runs = seen_runs(mesh.boxes, mesh.clusters, cones, clip_planes(matrix, -1, 1, -1, 1), eye, True)
    kept = np.zeros(shape.n_patches, bool)
    for first, last in runs:
        kept[first:last] = True
    corners = mesh.positions[shape.faces].astype(np.float64)
    normals = np.cross(corners[:, 2] - corners[:, 0], corners[:, 3] - corners[:, 1])
    facing = np.einsum("ij,ij->i", camera.eye() - corners[:, 0], normals) > 0
    owner = np.searchsorted(shape.patch_faces, np.flatnonzero(facing), side="right") - 1
    assert kept[owner].all()
    assert not kept.all()


def test_stand_in_is_small_and_close() -> None:
    mesh = make_ball(50.0, 64)
    triangles, starts = patch_triangles(mesh.topology)
    assert starts[-1] == len(triangles) == mesh.topology.n_triangles
    few = stand_in(mesh.positions, triangles, 4_000, mesh.bounds())
    assert 500 < len(few) <= 4_000
    middles = mesh.positions[few].mean(axis=1)
    assert np.linalg.norm(middles, axis=1).min() > 47


def test_vertices_in_any_order_have_a_stand_in() -> None:
    mesh = make_ball(100.0, 60)
    triangles, _ = patch_triangles(mesh.topology)
    order = np.random.default_rng(4).permutation(mesh.n_vertices)
    names = np.argsort(order).astype(np.int32)
    few = stand_in(mesh.positions[order], names[triangles], 1_500, mesh.bounds())
    assert 300 < len(few) <= 1_500
    middles = mesh.positions[order][few].mean(axis=1)
    assert np.linalg.norm(middles, axis=1).min() > 85


def test_of_many_pieces_each_has_a_roof() -> None:
    rng = np.random.default_rng(1)
    centres = rng.uniform(-400, 400, (900, 3))
    body = make_ball(5.0, 6)
    n = body.n_vertices
    positions = (centres[:, None] + body.positions * np.array([2, 0.5, 1])).reshape(-1, 3).astype(np.float32)
    every = np.concatenate([patch_triangles(body.topology)[0] + n * k for k in range(900)]).astype(np.int32)
    bounds = positions.min(axis=0), positions.max(axis=0)
    few = stand_in(positions, every, 4_000, bounds)
    assert len(few) == 3_600
    # Each triangle is of one piece, reaches over its length, and looks away from its middle.
    piece = few // n
    assert (piece == piece[:, :1]).all()
    assert set(piece[:, 0].tolist()) == set(range(900))
    ends = positions[few]
    out = np.cross(ends[:, 1] - ends[:, 0], ends[:, 2] - ends[:, 0])
    off = ends.mean(axis=1) - centres[piece[:, 0]]
    assert (np.einsum("nx,nx->n", out, off) > 0).all()
    long = np.ptp(ends.reshape(900, 12, 3), axis=1)
    assert long[:, 0].min() > 19
    # More than can be drawn: some of them are.
    assert 1_000 < len(stand_in(positions, every, 2_000, bounds)) <= 2_000


def test_a_tilted_camera_still_meets_what_it_shows() -> None:
    for roll in (0.0, 30.0, -170.0):
        camera = Camera((1.0, 2.0, 3.0), 300.0, 20.0, 10.0, roll=roll)
        axes = camera.axes()
        assert np.allclose(axes @ axes.T, np.eye(3), atol=1e-12)
        point = np.array([[20.0, -10.0, 15.0]])
        x, y, _ = camera.project(point, 640, 480)[0]
        origin, way = camera.ray(x, y, 640, 480)
        off = point[0] - origin
        assert np.linalg.norm(off - way * (off @ way)) < 1e-9
    assert camera.rolled(20.0).roll == -150.0


def test_another_lens_keeps_the_size_of_what_is_looked_at() -> None:
    camera = Camera(distance=400.0)
    for angle in (8.0, 60.0):
        other = camera.with_angle(angle)
        assert other.half_height() == pytest.approx(camera.half_height())
        assert other.focal_length == pytest.approx(12 / np.tan(np.radians(angle) / 2))


def test_the_way_between_cameras_is_short_and_ends_there() -> None:
    one = Camera(yaw=170.0, distance=100.0)
    other = Camera(yaw=-170.0, distance=400.0, pitch=40.0, roll=10.0)
    half = one.between(other, 0.5)
    assert half.yaw == pytest.approx(180.0)
    assert half.distance == pytest.approx(200.0)
    assert one.between(other, 1.0) is other
    assert one.between(other, 0.0).yaw == 170.0


@pytest.mark.parametrize("distance", [500.0, 5.0, 0.05])
def test_the_near_plane_lies_before_what_is_looked_at(distance: float) -> None:
    low, high = np.full(3, -100.0), np.full(3, 100.0)
    camera = Camera((0.0, 0.0, 100.0), distance)
    near, far = camera.depth_range(low, high)
    assert 0 < near < distance * 0.9
    assert far > distance + 200


def test_real_edges_are_drawn_once() -> None:
    for mesh in (make_ball(50.0, 12), make_ball(50.0, 8, triangles=True), make_sheet(6, 5.0)):
        faces = mesh.topology.faces
        edges, starts = patch_edges(mesh.topology)
        found = {tuple(sorted(edge)) for edge in edges.tolist()}
        wanted = set()
        for face in faces.tolist():
            corners = [v for v in face if v >= 0]
            wanted |= {tuple(sorted((a, b))) for a, b in zip(corners, corners[1:] + corners[:1], strict=True)}
        assert found == wanted
        assert starts[-1] == len(edges)
        if not mesh.topology.has_border:
            assert len(edges) == len(wanted)
