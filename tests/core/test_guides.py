"""Guides lie on the clay, stay there, and part what is inside from the rest."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kneten.core.arrays import Progress
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.distance import nearest_points
from kneten.core.guides import continued, enclosed, held, resampled, slices, smoothed
from kneten.core.live_density import Density
from kneten.core.loose import loosened
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.regions import middles
from kneten.core.subdivide import subdivide
from kneten.document.guides import add_guides, erase, lines_of, note_on
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.scene import Part, Scene
from tests.conftest import make_ball


def circle(height: float, count: int = 60) -> np.ndarray:
    """A ring on a ball of 100 mm."""
    t = np.linspace(0, 2 * np.pi, count, endpoint=False)
    r = np.sqrt(100.0**2 - height**2)
    return np.stack([r * np.cos(t), r * np.sin(t), np.full(count, height)], axis=-1)


def project_with_ball(cells: int = 24) -> Project:
    return Project(Scene((Part("Ball", Mesh.from_faces(*ball(100.0, cells))),)))


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 10_000))
def test_points_are_held_where_the_surface_is_nearest(seed: int) -> None:
    mesh = Mesh.from_faces(*ball(100.0, 16))
    random = np.random.default_rng(seed)
    points = random.normal(size=(20, 3))
    points *= random.uniform(80, 120, (20, 1)) / np.linalg.norm(points, axis=1, keepdims=True)
    found = held(mesh, points)
    expected, _ = nearest_points(points, mesh, Progress())
    assert found.places(mesh) == pytest.approx(expected, abs=1e-3)
    assert found.shares.sum(axis=1) == pytest.approx(1.0, abs=1e-5)
    corners = np.sort(mesh.topology.faces[found.faces], axis=1)
    assert all(set(c) <= set(f) for c, f in zip(found.corners.tolist(), corners.tolist(), strict=True))


@pytest.mark.parametrize("height", [0.3, 40.0, 85.0])
def test_a_closed_guide_parts_the_cap_from_the_rest(height: float) -> None:
    mesh = Mesh.from_faces(*ball(100.0, 32))
    inside = enclosed(mesh, [circle(height)])
    z = middles(mesh)[:, 2]
    assert inside[z > height + 4].all()
    assert not inside[z < height - 4].any()


def test_two_guides_part_two_caps() -> None:
    mesh = Mesh.from_faces(*ball(100.0, 32))
    inside = enclosed(mesh, [circle(60.0), circle(-60.0)])
    z = middles(mesh)[:, 2]
    assert inside[np.abs(z) > 64].all()
    assert not inside[np.abs(z) < 56].any()


def test_smoothing_takes_the_tremble_and_keeps_the_ends() -> None:
    t = np.linspace(0, 1, 80)
    line = np.stack([100 * t, np.zeros(80), np.random.default_rng(1).normal(size=80)], axis=-1)
    out = smoothed(line, False)
    assert np.abs(np.diff(out[:, 2], 2)).mean() < np.abs(np.diff(line[:, 2], 2)).mean() / 4
    assert np.array_equal(out[[0, -1]], line[[0, -1]])
    even = resampled(line * [1, 1, 0], 5.0, False)
    assert np.linalg.norm(np.diff(even, axis=0), axis=1) == pytest.approx(5.0, rel=0.01)


def test_guides_stay_through_strokes_levels_and_saving(tmp_path) -> None:  # type: ignore[no-untyped-def]
    project = project_with_ball()
    part = project.active
    assert part is not None
    (guide,) = add_guides(project, part, [circle(60.0)], True, "armour")
    tool = TOOLS["inflate"]
    stroke = project.begin_stroke(part.id, tool, tool.defaults)
    stroke.dab(Dab(np.array([0, 0, 100.0]), np.zeros(3), np.array([0, 0, -1.0]), 95.0, 1.0, 1.0, 1.0))
    project.end_stroke(part.id, stroke, "Inflate")
    ((_, moved),) = lines_of(project.scene, part)
    assert moved[:, 2].min() > 60.5  # It went along.
    off, _ = nearest_points(moved, part.mesh, Progress())
    assert np.abs(off - moved).max() < 1e-3
    project.replace_mesh(part.id, subdivide(part.mesh, Progress()), "Subdivide")
    part = project.active
    ((_, finer),) = lines_of(project.scene, part)
    assert np.linalg.norm(finer - moved, axis=1).max() < 1.0
    path = tmp_path / "guides.kneten"
    save_project(project, path)
    again = open_project(path)
    ((kept, there),) = lines_of(again.scene, again.scene.parts[0])
    assert (kept.note, kept.closed, kept.id) == ("armour", True, guide.id)
    assert there == pytest.approx(finer, abs=1e-3)
    note_on(again, kept, "belt")
    erase(again, {kept.id})
    assert not again.scene.guides
    again.undo()
    assert again.scene.guides[0].note == "belt"


def test_guides_stay_while_the_mesh_changes_under_them() -> None:
    project = project_with_ball()
    part = project.active
    assert part is not None
    project.exchange(part.id, loosened(part.mesh))
    part = project.active
    add_guides(project, part, [circle(60.0)], True)
    before = lines_of(project.scene, part)[0][1].copy()
    tool = TOOLS["smooth"]
    stroke = project.begin_stroke(part.id, tool, tool.defaults)
    for x in (60.0, 70.0, 80.0):
        at = np.array([x, 0.0, 60.0])
        stroke.dab(Dab(at, np.zeros(3), -at / 100, 40.0, 0.2, 0.2, x, detail=Density(2.0)))
    project.end_stroke(part.id, stroke, "Smooth")
    after = lines_of(project.scene, part)[0][1]
    assert np.linalg.norm(after - before, axis=1).max() < 3.0
    off, _ = nearest_points(after, part.mesh.settled(), Progress())
    assert np.abs(off - after).max() < 1e-2
    project.undo()
    assert lines_of(project.scene, project.active)[0][1] == pytest.approx(before, abs=1e-4)


def test_deleted_parts_take_their_guides_along() -> None:
    project = project_with_ball()
    part = project.active
    assert part is not None
    add_guides(project, part, [circle(60.0)], True)
    project.delete(part.id)
    assert not project.scene.guides
    project.undo()
    assert len(project.scene.guides) == 1


def test_lines_are_gone_on_with_joined_and_closed() -> None:
    def along(*xs: float) -> np.ndarray:
        return np.stack([np.array(xs), np.zeros(len(xs)), np.zeros(len(xs))], -1)

    left, right = along(0, 1, 2, 3), along(9, 8, 7)
    free = continued(along(4.5, 5, 5.5), [left, right], 1.0)
    assert free.used == ()
    assert not free.closed
    on = continued(along(3.2, 4, 5), [left, right], 0.5)
    assert on.used == (0,)
    assert on.points[:, 0].tolist() == [0, 1, 2, 3, 3.2, 4, 5]
    both = continued(along(6.8, 5, 3.2), [left, right], 0.5)
    assert both.used == (1, 0)
    assert both.points[:, 0].tolist() == [9, 8, 7, 6.8, 5, 3.2, 3, 2, 1, 0]
    t = np.linspace(0, np.pi, 12)
    upper = np.stack([np.cos(t), np.sin(t), 0 * t], -1) * 10
    ring = continued(upper * [-1, -1, 1] + 0.01, [upper], 0.5)
    assert ring.closed
    assert ring.used == (0,)


@pytest.mark.parametrize("seed", range(4))
def test_slices_are_closed_and_lie_in_their_plane(seed: int) -> None:
    rng = np.random.default_rng(seed)
    mesh = make_ball(50.0, 16)
    normal = rng.normal(size=3)
    normal /= np.linalg.norm(normal)
    point = normal * rng.uniform(-30, 30)
    (loop,) = slices(mesh, point, normal)
    assert np.abs((loop - point) @ normal).max() < 1e-4
    radius = np.sqrt(50**2 - float(point @ point))
    long = np.linalg.norm(loop - np.roll(loop, 1, axis=0), axis=1).sum()
    assert long == pytest.approx(2 * np.pi * radius, rel=0.02)
    assert slices(mesh, normal * 60, normal) == []
