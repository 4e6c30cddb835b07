"""Clay that is seen through: what is behind it shows, and only there; the same in parts and whole, at rest and moving."""

from __future__ import annotations

from dataclasses import replace

import moderngl
import numpy as np
import pytest

from kneten.core.camera import Camera
from kneten.core.mesh import Mesh
from kneten.core.paint.ink import OPAQUE
from kneten.core.topology import PATCH
from kneten.core.transform import Transform
from kneten.document.look import LOOKS, Look
from kneten.document.scene import Part, Scene
from kneten.render.material_balls import ball_picture
from kneten.render.parts import Shelf, thin_patches
from kneten.render.renderer import Renderer
from kneten.render.style import Style
from tests.conftest import make_ball

CAMERA = Camera(distance=420.0, yaw=0.0, pitch=0.0)
SKY = Style(look=Look("sky", cavity=False, cover=False))
MIDDLE = (120, 160)


def coloured(mesh: Mesh, codes: tuple[int, int, int, int]) -> Mesh:
    mesh.colour = np.tile(np.uint8(codes), (mesh.n_vertices, 1))
    return mesh


def scene(opacity: int, behind: tuple[int, int, int] = (200, 30, 30)) -> Scene:
    """A pale ball, a coloured one behind it."""
    front = Part("Front", coloured(make_ball(60.0, 24), (200, 200, 200, opacity)), id="front")
    back = Part("Back", coloured(make_ball(60.0, 24), (*behind, 255)), id="back")
    return Scene((front, replace(back, transform=Transform((0.0, 0.0, -90.0)))))


def pixels(renderer: Renderer, things: Scene, style: Style = SKY) -> np.ndarray:
    renderer.draw(things, CAMERA, style)
    return renderer.read().astype(int)


def test_the_clearer_clay_is_the_more_is_seen_of_what_is_behind(renderer: Renderer) -> None:
    reds = []
    for opacity in (255, 200, 140, 80, 20):
        r, g, *_ = pixels(renderer, scene(opacity))[MIDDLE]
        reds.append(r - g)
    assert reds == sorted(reds)
    assert reds[0] < 12
    assert reds[-1] > 60
    # Of two clear things the nearer is seen, over what hides all.
    clear = scene(120)
    clear = clear.with_part(replace(clear.parts[1], mesh=coloured(make_ball(60.0, 24), (30, 30, 200, 120))))
    assert pixels(renderer, clear)[MIDDLE][3] == 255


def test_it_is_hidden_by_what_is_before_it_and_shines_all_the_same(renderer: Renderer) -> None:
    things = scene(10)
    behind = things.parts[0]
    covered = things.with_part(replace(behind, transform=Transform((0.0, 0.0, -200.0))))
    solid = Scene((things.parts[1],))
    inner = (slice(90, 150), slice(130, 190))
    assert np.abs(pixels(renderer, covered)[inner] - pixels(renderer, solid)[inner]).max() <= 6
    # Wet glass mirrors the lamp as brightly as wet clay does.
    for part in things.parts:
        part.mesh.material = np.tile(np.uint8([20, 0, 0, 255]), (part.mesh.n_vertices, 1))
    assert pixels(renderer, things)[..., 1].max() > 235


@pytest.mark.parametrize("kind", [kind for kind in LOOKS if kind not in ("sky", "lit")])
def test_other_looks_show_the_form_as_ever(renderer: Renderer, kind: str) -> None:
    style = Style(look=Look(kind))
    one, other = pixels(renderer, scene(255), style), pixels(renderer, scene(40), style)
    assert np.array_equal(one, other)


def test_it_is_drawn_in_rectangles_as_whole_and_while_all_moves(context: moderngl.Context) -> None:
    things = scene(255)
    renderer = Renderer(context)
    renderer.resize(320, 240)
    renderer.draw(things, CAMERA, SKY)
    mesh = things.parts[0].mesh
    rect = (100, 60, 120, 120)
    for opacity in (60, 255, 90):
        mesh.need("colour")[mesh.positions[:, 0] > 0, 3] = opacity
        mesh.mark_dirty(np.flatnonzero(mesh.positions[:, 0] > 0).astype(np.int32), shape=False)
        renderer.draw(things, CAMERA, SKY, rects=[(160, 0, 160, 240), rect])
        found = renderer.read().astype(int)
        fresh = Renderer(context)
        fresh.resize(320, 240)
        off = np.abs(found - pixels(fresh, things)).max(axis=2)
        # A shadow's edge is of the last whole picture; all else is the same.
        assert (off[70:170, 110:210] > 6).mean() < 0.02
        fresh.release()
    renderer.draw(things, CAMERA, SKY, moving=True)
    assert renderer.has_picture
    renderer.resize(160, 120)
    renderer.draw(things, CAMERA, SKY)
    assert renderer.read().shape == (120, 160, 4)
    renderer.release()


def test_a_clear_ground_stays_clear_behind_clear_clay(renderer: Renderer) -> None:
    things = Scene((scene(60).parts[0],))
    found = pixels(renderer, things, replace(SKY, clear_ground=True))
    assert found[0, 0, 3] == 0
    assert 30 < found[MIDDLE][3] < 200


def test_only_patches_that_are_seen_through_are_noted(context: moderngl.Context) -> None:
    mesh = coloured(make_ball(50.0, 40), (9, 9, 9, OPAQUE))
    patches = -(-mesh.n_vertices // PATCH)
    assert not thin_patches(mesh, 0, patches).any()
    shelf = Shelf(context)
    part = Part("Ball", mesh)
    shelf.sync(Scene((part,)))
    assert not shelf[part].need_opacity()
    mesh.need("colour")[PATCH + 3, 3] = 254
    mesh.mark_dirty(np.array([PATCH + 3], np.int32), shape=False)
    shelf.sync(Scene((part,)))
    assert shelf[part].need_opacity()
    assert np.flatnonzero(thin_patches(mesh, 0, patches)).tolist() == [1]
    assert thin_patches(mesh, 1, 2).tolist() == [True]
    mesh.need("colour")[PATCH + 3, 3] = OPAQUE
    mesh.mark_dirty(np.array([PATCH + 3], np.int32), shape=False)
    shelf.sync(Scene((part,)))
    assert not shelf[part].need_opacity()
    shelf.release()


def eye(rough: int) -> Scene:
    """A clear ball with a red disc in it that lies before all else, as an iris behind its cornea."""
    cover, *balls = (make_ball(size, 32) for size in (60.0, 30.0, 60.0))
    disc, ground = (ball.with_positions(ball.positions * np.float32([1, 1, 0.1])) for ball in balls)
    for mesh in (disc, ground):
        mesh.material = np.tile(np.uint8([255, 0, 0, 0]), (mesh.n_vertices, 1))
    cover.material = np.tile(np.uint8([rough, 0, 0, 0]), (cover.n_vertices, 1))
    parts = (
        Part("Cornea", coloured(cover, (200, 200, 200, 10)), id="cornea"),
        Part("Iris", coloured(disc, (200, 30, 30, 255)), id="iris"),
        replace(
            Part("Ball", coloured(ground, (30, 200, 30, 255)), id="ball"),
            transform=Transform((0.0, 0.0, -8.0)),
        ),
    )
    return Scene(parts)


@pytest.mark.parametrize("flat", [False, True])
def test_what_lies_in_clear_and_smooth_clay_is_seen_through_its_bend(
    context: moderngl.Context, flat: bool
) -> None:
    camera = replace(CAMERA, orthographic=flat)
    lit = Style(look=Look("lit", cavity=False, cover=False))
    wide = {}
    for rough in (10, 60):
        renderer = Renderer(context)
        renderer.resize(320, 240)
        renderer.draw(eye(rough), camera, lit)
        found = renderer.read().astype(int)
        row = found[120]
        wide[rough] = int((row[:, 0] > row[:, 1] + 20).sum())
        # In a rectangle it is as in the whole picture, and an iris is as round as it was.
        renderer.draw(eye(rough), camera, lit, rects=[(120, 80, 80, 80)])
        assert np.abs(renderer.read().astype(int) - found).max() <= 2
        column = found[:, 160]
        assert abs(int((column[:, 0] > column[:, 1] + 20).sum()) - wide[rough]) <= 2
        renderer.release()
    # Sixty millimetres are about fifty pixels; a ball of water makes what lies in its middle a third wider.
    assert 1.2 < wide[10] / wide[60] < 1.5


def test_a_material_s_picture_is_as_clear_as_it() -> None:
    solid = ball_picture((200, 90, 60), (90, 0, 40, 0), 40)
    clear = ball_picture((200, 90, 60), (90, 0, 40, 0), 40, 60)
    assert solid[20, 20, 3] == 255
    assert 60 <= clear[20, 20, 3] < 120
    assert clear[20, 2, 3] > clear[20, 20, 3]
