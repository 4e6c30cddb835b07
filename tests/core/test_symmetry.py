"""Mirrored strokes, to the bit."""

from __future__ import annotations

import numpy as np
import pytest

from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.mesh import Mesh
from kneten.core.picking import pick
from kneten.core.stroke import Axes, Stroke
from kneten.core.symmetry import exactly_symmetric, measure_symmetry, symmetric_axes
from tests.conftest import FRONT, make_ball

PLANES: list[Axes] = [(True, False, False), (True, True, False), (True, True, True)]


def scribble(mesh: Mesh, key: str, planes: Axes, seed: int) -> None:
    rng = np.random.default_rng(seed)
    tool = TOOLS[key]
    for _ in range(4):
        stroke = Stroke(mesh, tool, tool.defaults, planes)
        # Close to the seam, so that twins overlap.
        x, y = rng.uniform(-20, 20, 2)
        radius = rng.uniform(15, 40)
        if tool.holds:
            stroke.grab(np.array([x, y, 98.0]), radius, FRONT)
            for _ in range(3):
                stroke.drag(rng.uniform(-15, 15, 3), radius)
        else:
            for _ in range(10):
                x, y = x + rng.uniform(-3, 4), y + rng.uniform(-3, 4)
                hit = pick(mesh, np.array([x, y, 900.0]), FRONT)
                assert hit is not None
                along = rng.uniform(-1, 1, 3)
                strength = rng.uniform(-1, 1)
                stroke.dab(Dab(hit.point, along, FRONT, radius, strength, 0.12))
        stroke.finish()


@pytest.mark.parametrize("key", list(TOOLS))
@pytest.mark.parametrize("planes", PLANES)
def test_symmetric_clay_stays_symmetric_to_the_bit(key: str, planes: Axes) -> None:
    mesh = make_ball(100.0, 32)
    scribble(mesh, key, planes, 7)
    for axis in range(3):
        if planes[axis]:
            assert exactly_symmetric(mesh.positions, axis)
            assert measure_symmetry(mesh.positions, axis, 0.0).exact


def test_the_seam_stays_on_its_plane() -> None:
    mesh = make_ball(100.0, 32)
    seam = mesh.positions[:, 0] == 0
    for seed, key in enumerate(TOOLS):
        scribble(mesh, key, (True, False, False), seed)
    assert (mesh.positions[seam, 0] == 0).all()


def test_overlapping_twins_do_not_double() -> None:
    heights = []
    for planes in ((False, False, False), (True, True, False)):
        mesh = make_ball(100.0, 48)
        tool = TOOLS["raise"]
        stroke = Stroke(mesh, tool, tool.defaults, planes)
        for _ in range(10):
            stroke.dab(Dab(np.array([0.0, 0, 100.0]), np.zeros(3), FRONT, 25.0, 0.5, 0.12))
        heights.append(mesh.positions[:, 2].max())
    assert heights[0] == pytest.approx(heights[1], rel=1e-4)


def test_measure_tells_how_far_off() -> None:
    mesh = make_ball()
    assert symmetric_axes(mesh.positions, 1e-6) == (True, True, True)
    mesh.positions[np.argmax(mesh.positions[:, 0]), 0] += 3.0
    report = measure_symmetry(mesh.positions, 0, 0.1)
    # The moved vertex, and the one it used to mirror.
    assert report.off == 2
    assert 2.0 < report.worst < 4.0
    assert not exactly_symmetric(mesh.positions, 0)
    assert symmetric_axes(mesh.positions, 1e-3) == (False, True, True)


def test_nearly_symmetric_counts_within_the_tolerance() -> None:
    mesh = make_ball()
    noise = np.random.default_rng(0).normal(0, 1e-6, mesh.positions.shape)
    points = (mesh.positions + noise).astype(np.float32)
    assert not exactly_symmetric(points, 0)
    assert symmetric_axes(points, 1e-3)[0]
