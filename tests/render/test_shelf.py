"""How parts come to the graphics side: at once, or in pieces while the window lives on."""

from __future__ import annotations

import time
from dataclasses import replace

import moderngl
import numpy as np
import pytest

from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.camera import Camera
from kneten.core.stroke import Stroke
from kneten.document.scene import Part, Scene
from kneten.render.parts import SMALL, Shelf, prepare
from kneten.render.rects import grown, merged, overlap, tiles
from kneten.render.renderer import Renderer
from tests.conftest import FRONT, make_ball


def large_scene() -> Scene:
    scene = Scene((Part("Large", make_ball(100.0, 112)),))
    assert scene.parts[0].mesh.n_vertices > SMALL
    return scene


def brought_in(shelf: Shelf, scene: Scene) -> int:
    """Let everything arrive; in how many pieces."""
    assert not shelf.sync(scene)
    pieces = 1
    while not shelf.arrive(time.perf_counter()):
        pieces += 1
        time.sleep(0.001)
    return pieces


def picture(context: moderngl.Context, scene: Scene, shelf: Shelf | None = None) -> np.ndarray:
    renderer = Renderer(context, shelf)
    renderer.resize(320, 240)
    renderer.draw(scene, Camera())
    pixels = renderer.read().astype(int)
    renderer.release()
    return pixels


def test_a_large_part_arrives_in_pieces_and_looks_the_same(context: moderngl.Context) -> None:
    scene = large_scene()
    shelf = Shelf(context, patient=True)
    brought_in(shelf, scene)
    assert shelf.sync(scene)
    assert np.array_equal(picture(context, scene, shelf), picture(context, scene))
    shelf.release()


def test_strokes_made_while_a_part_arrives_are_seen(context: moderngl.Context) -> None:
    scene = large_scene()
    shelf = Shelf(context, patient=True)
    assert not shelf.sync(scene)
    stroke = Stroke(scene.parts[0].mesh, TOOLS["raise"], TOOLS["raise"].defaults)
    while not shelf.arrive(time.perf_counter() + 0.002):
        stroke.dab(Dab(np.array([10.0, 0, 99]), np.zeros(3), FRONT, 30.0, 0.5, 0.12))
    assert shelf.sync(scene)
    assert np.abs(picture(context, scene, shelf) - picture(context, scene)).max() <= 1
    shelf.release()


def test_small_parts_are_there_at_once_and_hidden_ones_are_not_kept(context: moderngl.Context) -> None:
    part = Part("Small", make_ball(100.0, 16))
    shelf = Shelf(context, patient=True)
    assert shelf.sync(Scene((part,)))
    assert shelf[part].mesh is part.mesh
    assert shelf.sync(Scene((replace(part, visible=False),)))
    with pytest.raises(KeyError):
        shelf[part]


def test_a_part_replaced_while_it_arrives_is_let_go(context: moderngl.Context) -> None:
    scene = large_scene()
    shelf = Shelf(context, patient=True)
    shelf.sync(scene)
    small = Scene((Part("Small", make_ball(100.0, 16)),))
    assert shelf.sync(small)
    assert shelf.arrive(time.perf_counter())
    shelf.release()


def test_what_is_prepared_covers_the_mesh() -> None:
    mesh = make_ball(100.0, 24)
    ready = prepare(mesh)
    assert ready.closed
    assert len(ready.triangles) == mesh.topology.n_triangles == ready.starts[-1]
    assert 100 < len(ready.stand_in) <= 700
    assert np.array_equal(np.unique(ready.triangles), np.arange(mesh.n_vertices))


@pytest.mark.parametrize("rect", [(3, 5, 400, 90), (0, 0, 7, 333), (10, 10, 1, 1)])
@pytest.mark.parametrize("count", [0.0, 1.0, 4.3, 900.0])
def test_tiles_cover_a_rectangle_once(rect: tuple[int, int, int, int], count: float) -> None:
    hits = np.zeros((420, 420), int)
    for x, y, w, h in tiles(rect, count):
        assert w > 0
        assert h > 0
        hits[y : y + h, x : x + w] += 1
    x, y, w, h = rect
    assert (hits[y : y + h, x : x + w] == 1).all()
    assert hits.sum() == w * h


def test_rectangles_are_joined_grown_and_shared() -> None:
    assert merged([(0, 0, 10, 10), (5, 5, 10, 10), (40, 0, 5, 5)]) == [(0, 0, 15, 15), (40, 0, 5, 5)]
    assert grown((2, 2, 5, 5), 4, 8, 100) == (0, 0, 8, 11)
    assert overlap((0, 0, 10, 10), (8, 3, 10, 2)) == (8, 3, 2, 2)
    assert overlap((0, 0, 10, 10), (20, 0, 5, 5))[2] <= 0
