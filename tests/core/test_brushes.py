"""Each tool against its plain version, and against its description."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from benchmarks.plain import PlainClay

from kneten.core.brushes.tool import BrushSettings, Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.falloff import curve_table
from kneten.core.mesh import Mesh
from kneten.core.picking import pick
from kneten.core.stroke import Stroke
from kneten.core.value_stroke import ValueStroke
from tests.conftest import FRONT, make_ball, make_sheet
from tests.long import some

DABBING = [key for key, tool in TOOLS.items() if not (tool.holds or tool.changes or tool.needs_before)]


def draw(
    mesh: Mesh,
    key: str,
    line: list[tuple[float, float]],
    radius: float = 20.0,
    strength: float = 0.6,
    settings: BrushSettings | None = None,
) -> Stroke:
    """A stroke along places of the picture plane, seen from the front."""
    tool = TOOLS[key]
    stroke = Stroke(mesh, tool, settings or tool.defaults)
    before = None
    travel = 0.0
    for x, y in line:
        hit = pick(mesh, np.array([x, y, 1000.0]), FRONT)
        assert hit is not None
        along = np.zeros(3) if before is None else hit.point - before
        travel += float(np.linalg.norm(along))
        stroke.dab(Dab(hit.point, along, FRONT, radius, strength, stroke.settings.spacing, travel))
        before = hit.point
    stroke.finish()
    return stroke


def across(y: float = 0.0, half: float = 40.0, step: float = 2.0) -> list[tuple[float, float]]:
    return [(x, y) for x in np.arange(-half, half + step / 2, step)]


def neighbours(mesh: Mesh, v: int) -> np.ndarray:
    """Positions of the vertices that share an edge with `v`."""
    near = set()
    for face in mesh.topology.faces[(mesh.topology.faces == v).any(axis=1)]:
        corners = [c for c in face.tolist() if c >= 0]
        at = corners.index(v)
        near |= {corners[at - 1], corners[(at + 1) % len(corners)]}
    return mesh.positions[sorted(near)].astype(np.float64)


def needles(mesh: Mesh) -> np.ndarray:
    """How far each vertex stands off the mean of its ring, in mean edges."""
    out = np.empty(mesh.n_vertices)
    for v in range(mesh.n_vertices):
        ring = neighbours(mesh, v) - mesh.positions[v]
        out[v] = np.linalg.norm(ring.mean(axis=0)) / np.linalg.norm(ring, axis=1).mean()
    return out


def rough(mesh: Mesh, amount: float, seed: int = 3) -> None:
    """Scatter vertices along z."""
    mesh.positions[:, 2] += np.random.default_rng(seed).normal(0, amount, mesh.n_vertices)
    mesh.refresh_all()


PLAIN = [
    (key, variant)
    for key, tool in TOOLS.items()
    if tool.changes != "paint"
    for variant, *_ in tool.variants or (("",),)
]
FREE = {"refine", "coarsen"}
"""Tools that move nothing on clay whose mesh is fixed."""


@pytest.mark.parametrize(("key", "variant"), [pair for pair in PLAIN if pair[0] not in FREE])
@pytest.mark.parametrize("triangles", [False, True])
@pytest.mark.parametrize("reverse", [False, True])
def test_kernel_does_what_the_plain_version_does(
    key: str, variant: str, triangles: bool, reverse: bool
) -> None:
    if (reverse and key in ("mask", "region", "tease", "burnish", "span")) or (triangles and key == "slide"):
        pytest.skip("the plain version has no reverse, and no way along triangles that mirrors")
    mesh = make_ball(divisions=30, triangles=triangles)
    rough(mesh, 0.4)
    tool = TOOLS[key]
    sign = -1 if reverse else 1
    centre, along = np.array([20.0, 30.0, 92.0]), np.array([1.0, 0.2, 0.0])
    dab = Dab(centre, along, FRONT, 45.0, 0.7 * sign, 0.12, variant=variant)
    settings = replace(tool.defaults, taper=0.0, variant=variant)
    table = curve_table(tool.defaults.falloff)
    plain = PlainClay(mesh)
    make = ValueStroke if tool.changes else Stroke
    stroke = make(mesh, tool, settings, **({"number": 1} if tool.changes else {}))
    if tool.needs_before:
        stroke.work.before = plain.before = mesh.positions + np.float32(0.5)
    if tool.holds:
        if variant == "surface":
            pytest.skip("what it reaches is told by distances along the surface")
        stroke.grab(centre, 45.0, FRONT)
        stroke.drag(along * 8, 45.0, 1.0, 0.3 * sign)
        plain.grab(centre, 45.0, table)
        much = 1.0 if tool.gesture == "pull" else 0.3 * sign
        plain.drag(key, replace(dab, along=along * 8, strength=much))
    else:
        stroke.dab(dab)
        assert plain.dab(key, dab, table) >= stroke.n_reached
    if tool.changes == "regions":
        assert np.array_equal(mesh.regions, plain.regions)
        return
    if tool.changes == "mask":
        assert np.abs(mesh.mask - plain.mask).max() < 1e-5
        return
    assert np.abs(mesh.positions - plain.positions).max() < 1e-3
    assert np.abs(mesh.positions - plain.origin).max() > 0.01
    if not triangles:
        assert np.abs(mesh.normals - plain.normals).max() < 2e-3


@pytest.mark.parametrize("key", DABBING)
def test_normals_and_boxes_follow_exactly(key: str) -> None:
    mesh = make_ball()
    draw(mesh, key, across(20.0), settings=replace(TOOLS[key].defaults, strength=0.8))
    fresh = Mesh(mesh.topology, mesh.positions.copy())
    assert np.abs(mesh.normals - fresh.normals).max() < 1e-5
    assert np.array_equal(mesh.boxes, fresh.boxes)
    assert np.array_equal(mesh.clusters, fresh.clusters)


@pytest.mark.parametrize("key", DABBING)
def test_boxes_are_never_too_small_during_a_stroke(key: str) -> None:
    mesh = make_ball()
    tool = TOOLS[key]
    stroke = Stroke(mesh, tool, tool.defaults, (True, False, False))
    for x in np.arange(5.0, 40.0, 2.0):
        hit = pick(mesh, np.array([x, 10.0, 500.0]), FRONT)
        assert hit is not None
        stroke.dab(Dab(hit.point, np.array([1.0, 0, 0]), FRONT, 25.0, 0.9, 0.12))
        fresh = Mesh(mesh.topology, mesh.positions.copy())
        assert (mesh.boxes[:, :3] <= fresh.boxes[:, :3] + 1e-4).all()
        assert (mesh.boxes[:, 3:] >= fresh.boxes[:, 3:] - 1e-4).all()


def test_nothing_outside_the_ring_moves() -> None:
    for key in DABBING:
        mesh = make_ball()
        before = mesh.positions.copy()
        centre = np.array([0.0, 0.0, 100.0])
        Stroke(mesh, TOOLS[key], TOOLS[key].defaults).dab(
            Dab(centre, np.array([1.0, 0, 0]), FRONT, 30.0, 0.8, 0.12)
        )
        moved = (mesh.positions != before).any(axis=1)
        assert (np.linalg.norm(before[moved] - centre, axis=1) < 30.0).all()


def test_raise_lifts_and_reversed_sinks() -> None:
    for strength, sign in ((0.6, 1), (-0.6, -1)):
        sheet = make_sheet()
        draw(sheet, "raise", across(), strength=strength)
        top = sheet.positions[np.abs(sheet.positions[:, :2]).max(axis=1) < 8, 2]
        assert (top * sign > 1.0).all()


def test_raise_does_not_depend_on_spacing() -> None:
    heights = []
    for spacing in (0.06, 0.12, 0.24):
        sheet = make_sheet(80, 2.0)
        tool = TOOLS["raise"]
        settings = replace(tool.defaults, spacing=spacing)
        draw(sheet, "raise", across(step=20.0 * spacing), settings=settings)
        heights.append(float(sheet.positions[:, 2].max()))
    assert max(heights) / min(heights) < 1.1


def test_pellet_fills_hollows_first_and_leaves_a_flat_top() -> None:
    sheet = make_sheet(80, 2.0)
    hollow = np.abs(sheet.positions[:, 0]) < 5.0
    sheet.positions[hollow, 2] = -2.0
    sheet.refresh_all()
    before = sheet.positions[:, 2].copy()
    centre = np.array([0.0, 0.0, -1.0])
    stroke = Stroke(sheet, TOOLS["pellet"], TOOLS["pellet"].defaults)
    stroke.dab(Dab(centre, np.zeros(3), FRONT, 20.0, 0.6, 0.12))
    gain = sheet.positions[:, 2] - before
    inner = np.linalg.norm(sheet.positions[:, :2], axis=1) < 12
    assert gain[inner & hollow].min() > 1.5 * gain[inner & ~hollow].max()
    for _ in range(12):
        stroke.dab(Dab(centre, np.zeros(3), FRONT, 20.0, 0.6, 0.12))
    top = sheet.positions[np.linalg.norm(sheet.positions[:, :2], axis=1) < 10, 2]
    assert np.ptp(top) < 0.35


def test_score_is_narrow_and_sharp_at_any_speed() -> None:
    profiles = []
    for step in (0.5, 1.6):
        sheet = make_sheet(160, 1.0)
        tool = TOOLS["score"]
        settings = replace(tool.defaults, spacing=step / 20.0)
        draw(sheet, "score", across(half=50, step=step), settings=settings)
        near = np.abs(sheet.positions[:, 0]) < 10
        y, z = np.abs(sheet.positions[near, 1]), sheet.positions[near, 2]
        depth = -z.min()
        assert depth > 2.0
        # Half the depth is gone within a fifth of the radius.
        assert y[z < -depth / 2].max() < 20.0 / 5
        profiles.append(depth)
    assert max(profiles) / min(profiles) < 1.15


def test_pinch_straightens_a_wobbly_ridge() -> None:
    sheet = make_sheet(160, 1.0)
    x, y = sheet.positions[:, 0], sheet.positions[:, 1]
    sheet.positions[:, 2] = 6 * np.exp(-((y - 2.0 * np.sin(x * 0.25)) ** 2) / 8)
    sheet.refresh_all()

    def wobble() -> float:
        crest = []
        for column in np.arange(-20, 21, 2.0):
            near = np.abs(sheet.positions[:, 0] - column) < 1.0
            heights = np.maximum(sheet.positions[near, 2], 0) ** 4
            crest.append((sheet.positions[near, 1] * heights).sum() / heights.sum())
        return float(np.std(crest))

    before = wobble()
    for _ in range(3):
        draw(sheet, "pinch", across(half=40, step=2.0), radius=14.0)
    assert wobble() < 0.5 * before


@pytest.mark.parametrize(("size", "step"), [(200, 1.0), (40, 5.0), (20, 10.0)])
def test_smooth_works_at_the_scale_of_the_brush_on_any_density(size: int, step: float) -> None:
    sheet = make_sheet(size, step)
    far2 = (sheet.positions[:, :2] ** 2).sum(axis=1)
    sheet.positions[:, 2] = 8 * np.exp(-far2 / (2 * 14.0**2))
    sheet.refresh_all()
    for _ in range(4):
        for y in (-16.0, -8.0, 0.0, 8.0, 16.0):
            draw(sheet, "smooth", across(y, 30.0, 6.0), radius=40.0, strength=0.8)
    assert sheet.positions[:, 2].max() < 8 * 0.5


def test_smooth_clears_grain_on_dense_clay() -> None:
    sheet = make_sheet(160, 1.0)
    rough(sheet, 0.4)
    for _ in range(2):
        draw(sheet, "smooth", across(0, 30.0, 3.0), radius=20.0, strength=0.8)
    inner = (np.abs(sheet.positions[:, 1]) < 6) & (np.abs(sheet.positions[:, 0]) < 25)
    assert sheet.positions[inner, 2].std() < 0.1


def test_smooth_leaves_the_two_sides_of_a_thin_wall_apart() -> None:
    mesh = make_ball(100.0, 48)
    mesh.positions[:, 2] *= 0.03
    mesh.refresh_all()
    for _ in range(5):
        draw(mesh, "smooth", across(0, 20.0, 4.0), radius=30.0, strength=0.8)
    inner = np.linalg.norm(mesh.positions[:, :2], axis=1) < 15
    assert mesh.positions[inner & (mesh.normals[:, 2] > 0), 2].min() > 1.0
    assert mesh.positions[inner & (mesh.normals[:, 2] < 0), 2].max() < -1.0


def test_flatten_brings_both_sides_to_a_plane() -> None:
    sheet = make_sheet(80, 2.0)
    rough(sheet, 1.0)
    draw(sheet, "flatten", [(0.0, 0.0)] * 25, radius=30.0, strength=0.9)
    inner = np.linalg.norm(sheet.positions[:, :2], axis=1) < 15
    assert sheet.positions[inner, 2].std() < 0.1


def test_inflate_follows_each_points_own_normal() -> None:
    mesh = make_ball()
    draw(mesh, "inflate", [(0.0, 0.0)] * 5, radius=60.0)
    radii = np.linalg.norm(mesh.positions, axis=1)
    assert radii.max() > 102.0
    way = mesh.positions[np.argmax(radii)]
    assert way[2] > 90


def test_pull_keeps_what_it_grabbed() -> None:
    mesh = make_ball()
    before = mesh.positions.copy()
    tool = TOOLS["pull"]
    stroke = Stroke(mesh, tool, tool.defaults)
    stroke.grab(np.array([0.0, 0.0, 100.0]), 40.0, FRONT)
    for share in (0.3, 1.0, 0.6, 1.0):
        stroke.drag(np.array([15.0, 5.0, 0.0]) * share, 40.0)
    top = int(np.argmax(before[:, 2]))
    assert np.allclose(mesh.positions[top] - before[top], [15, 5, 0], atol=1e-3)
    stroke.drag(np.zeros(3), 40.0)
    assert np.array_equal(mesh.positions, before)


@pytest.mark.parametrize("key", some(list(DABBING), 5))
@pytest.mark.parametrize("reverse", [False, True])
def test_two_hundred_strokes_on_one_spot_stay_sane(key: str, reverse: bool) -> None:
    mesh = make_ball(100.0, 20)
    sign = -1 if reverse else 1
    for turn in range(200):
        angle = turn * 2.4
        line = [(np.cos(angle) * s, np.sin(angle) * s) for s in (-6.0, 0.0, 6.0)]
        draw(mesh, key, line, radius=25.0, strength=0.7 * sign)
    assert np.isfinite(mesh.positions).all()
    assert np.abs(mesh.positions).max() < 1000.0
    # No vertex stands on a needle: off the mean of its ring by most of an edge.
    # A press keeps its picture: it evens only what would fold.
    assert needles(mesh).max() < (0.95 if TOOLS[key].presses else 0.8)


def test_front_only_leaves_the_far_side() -> None:
    mesh = make_ball(100.0, 32)
    mesh.positions[:, 2] *= 0.05
    mesh.refresh_all()
    before = mesh.positions.copy()
    settings = replace(TOOLS["raise"].defaults, front_only=True)
    draw(mesh, "raise", across(half=20.0), settings=settings)
    back = mesh.normals[:, 2] < -0.5
    assert np.array_equal(mesh.positions[back], before[back])
    draw(mesh, "raise", across(half=20.0), settings=replace(TOOLS["raise"].defaults, through=True))
    assert not np.array_equal(mesh.positions[back], before[back])


def test_what_lies_beside_is_left_alone() -> None:
    one, faces = make_ball(20.0, 12).source_arrays()
    two = one + np.array([0.0, 41.0, 0.0], np.float32)
    both = Mesh.from_faces(np.concatenate([one, two]), np.concatenate([faces, faces + len(one)]))
    settings = TOOLS["raise"].defaults
    before = both.in_source_order(both.positions)
    stroke = Stroke(both, TOOLS["raise"], settings)
    stroke.dab(Dab(np.array([0.0, 19.0, 5.0]), np.zeros(3), FRONT, 15.0, 0.8, 0.12))
    after = both.in_source_order(both.positions)
    assert not np.array_equal(after[: len(one)], before[: len(one)])
    assert np.array_equal(after[len(one) :], before[len(one) :])


def test_build_up_limit_holds() -> None:
    sheet = make_sheet(80, 2.0)
    settings = replace(TOOLS["raise"].defaults, build_up_limit=0.1)
    tool = TOOLS["raise"]
    stroke = Stroke(sheet, tool, settings)
    for _ in range(80):
        stroke.dab(Dab(np.array([0.0, 0, 0]), np.zeros(3), FRONT, 20.0, 0.9, 0.12))
    assert 1.8 < sheet.positions[:, 2].max() <= 2.0001


def test_mask_protects() -> None:
    sheet = make_sheet()
    sheet.mask = (sheet.positions[:, 0] > 0).astype(np.float32)
    draw(sheet, "raise", across())
    assert (sheet.positions[sheet.mask > 0, 2] == 0).all()
    assert sheet.positions[:, 2].max() > 1.0


def test_every_kernel_is_compiled_for_one_set_of_types() -> None:
    from kneten.core import normals, reach, rings
    from kneten.core.brushes import pull

    kernels = [reach.weigh, reach.apply_push, reach.measure_sums, rings.ring_means, pull.pull_kernel]
    kernels += [normals.sum_areas, normals.turn_normals]
    for kernel in kernels:
        assert len(kernel.signatures) <= 1  # type: ignore[attr-defined]
