"""What the graphics memory holds of a mesh follows the mesh, however scattered the changes."""

from __future__ import annotations

import numpy as np
import pytest

from kneten.core.camera import Camera
from kneten.core.changes import Change, noted
from kneten.core.topology import PATCH
from kneten.document.scene import Part, Scene
from kneten.render.parts import SPANNED, _runs
from kneten.render.renderer import Renderer
from tests.conftest import make_ball


def test_runs_are_joined_over_small_gaps_only() -> None:
    patches = np.array([0, 1, 4, 30, 31, 90], np.int32)
    assert _runs(patches) == [(0, 2), (4, 5), (30, 32), (90, 91)]
    assert _runs(patches, 2) == [(0, 5), (30, 32), (90, 91)]
    assert _runs(patches, 25) == [(0, 32), (90, 91)]
    assert _runs(np.empty(0, np.int32), 4) == []


@pytest.mark.parametrize("every", [1, 3, SPANNED + 2, 2 * SPANNED])
def test_scattered_changes_arrive_and_nothing_else_does(renderer: Renderer, every: int) -> None:
    mesh = make_ball(50.0, 60)
    rng = np.random.default_rng(every)
    scene = Scene((Part("Ball", mesh),))
    mesh.need("colour")[:, :3] = rng.integers(0, 256, (mesh.n_vertices, 3))
    mesh.need("material")[:] = rng.integers(0, 256, (mesh.n_vertices, 4))
    renderer.draw(scene, Camera())
    drawn = renderer.shelf[scene.parts[0]]
    assert drawn.need_materials()
    rows = np.arange(0, mesh.n_vertices, every * PATCH, dtype=np.int32)
    for what in ("colour", "material"):
        mesh.need(what)[rows, :3] = rng.integers(0, 256, (len(rows), 3))
        noted(mesh, what, rows)
    Change("positions", rows, mesh.positions[rows] * np.float32(1.02)).swap(mesh)
    renderer.draw(scene, Camera())
    n = mesh.n_vertices
    held = {
        "colour": (drawn._colours, np.uint8, 4, mesh.colour[:, :3]),
        "material": (drawn._materials, np.uint8, 4, mesh.material),
        "positions": (drawn._positions, np.float32, 3, mesh.positions),
        "normals": (drawn._normals, np.float32, 3, mesh.normals),
    }
    for name, (buffer, kind, columns, wanted) in held.items():
        found = np.frombuffer(buffer.read(), kind).reshape(-1, columns)[:n, : wanted.shape[1]]
        assert np.array_equal(found, wanted), name
