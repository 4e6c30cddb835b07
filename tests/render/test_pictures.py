"""Pictures drawn without a window."""

from __future__ import annotations

import threading
from dataclasses import replace

import moderngl
import numpy as np
import pytest

from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.camera import Camera
from kneten.core.mesh import Mesh
from kneten.core.stroke import Stroke
from kneten.core.transform import Transform
from kneten.document.scene import Part, Scene
from kneten.render.frame import Frame
from kneten.render.rects import screen_rect
from kneten.render.renderer import MARGIN, Renderer
from kneten.render.still import StillError, encoded, render_still
from kneten.render.style import KILN, PORCELAIN, Style
from tests.conftest import FRONT, make_ball, make_sheet
from tests.monkey import in_use

SIZE = (480, 320)


def ball_scene(divisions: int = 48) -> Scene:
    return Scene((Part("Ball", make_ball(100.0, divisions)),))


def test_a_still_shows_the_clay_on_its_ground(context: moderngl.Context) -> None:
    image = np.asarray(render_still(ball_scene(), Camera(), *SIZE, ctx=context)).astype(int)
    assert image.shape == (320, 480, 3)
    middle, corner = image[160, 240], image[4, 4]
    assert middle.sum() > 3 * corner.sum()
    # Light comes from the upper left.
    assert image[100, 180].sum() > image[230, 300].sum() + 60


def test_transparent_ground(context: moderngl.Context) -> None:
    image = np.asarray(render_still(ball_scene(), Camera(), *SIZE, Style(clear_ground=True), ctx=context))
    assert image.shape == (320, 480, 4)
    assert image[2, 2, 3] == 0
    assert image[160, 240, 3] == 255
    opaque = np.asarray(render_still(ball_scene(), Camera(), *SIZE, ctx=context))
    assert np.array_equal(image[160, 240, :3], opaque[160, 240])


def test_grounds_differ(context: moderngl.Context) -> None:
    dark = np.asarray(render_still(ball_scene(), Camera(), *SIZE, Style(KILN), ctx=context)).astype(int)
    light = np.asarray(render_still(ball_scene(), Camera(), *SIZE, Style(PORCELAIN), ctx=context)).astype(int)
    assert (light[5, 5] - dark[5, 5]).min() > 100
    assert np.array_equal(dark[160, 240], light[160, 240])


@pytest.mark.parametrize("orthographic", [False, True])
def test_redrawing_a_rectangle_gives_the_same_picture(context: moderngl.Context, orthographic: bool) -> None:
    scene = ball_scene(96)
    part = scene.parts[0]
    camera = Camera(orthographic=orthographic)
    renderer = Renderer(context)
    renderer.resize(*SIZE)
    renderer.draw(scene, camera)
    before = renderer.read()
    stroke = Stroke(part.mesh, TOOLS["raise"], TOOLS["raise"].defaults, (True, False, False))
    allowed = np.zeros(SIZE[::-1], bool)
    for i in range(8):
        stroke.dab(Dab(np.array([30.0 + i, 20, 93]), np.zeros(3), FRONT, 18.0, 0.8, 0.12))
        rects = [screen_rect(camera, part, box, *SIZE) for box in stroke.boxes]
        stroke.boxes.clear()
        renderer.draw(scene, camera, rects=[r for r in rects if r is not None])
        for x, y, w, h in [r for r in rects if r is not None]:
            reach = MARGIN + 2
            low, left = max(y - reach, 0), max(x - reach, 0)
            allowed[::-1][low : y + h + reach, left : x + w + reach] = True
    partial = renderer.read()
    changed = (partial != before).any(axis=2)
    assert 300 < changed.sum() < 0.4 * changed.size
    # Nothing changed outside the stroke's rectangles and what their light reaches.
    assert not (changed & ~allowed).any()
    fresh = Renderer(context)
    fresh.resize(*SIZE)
    fresh.draw(scene, camera)
    assert np.abs(partial.astype(int) - fresh.read()).max() <= 2
    renderer.release()
    fresh.release()


def test_drawing_in_steps_gives_the_same_picture(context: moderngl.Context) -> None:
    scene = ball_scene(96)
    renderer = Renderer(context)
    renderer.resize(*SIZE)
    renderer.draw(scene, Camera())
    whole = renderer.read()
    renderer.draw(scene, Camera(yaw=70.0), moving=True)
    steps = sum(1 for _ in renderer.draw_in_steps(scene, Camera()))
    assert steps > 3
    assert np.abs(renderer.read().astype(int) - whole).max() <= 1
    renderer.release()


def test_what_moves_is_drawn_over_a_kept_picture_of_the_rest(
    context: moderngl.Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    balls = [
        Part(f"Ball {k}", make_ball(18.0, 12), transform=Transform((40.0 * k - 80, 10.0 * k, 30.0 * (k % 2))))
        for k in range(5)
    ]
    kept = Renderer(context)
    kept.resize(*SIZE)
    drawn: list[str] = []
    plain = Frame.place

    def place(frame: Frame, program: moderngl.Program, part: Part) -> None:
        drawn.append(part.name)
        plain(frame, program, part)

    monkeypatch.setattr(Frame, "place", place)
    for step, camera in enumerate([Camera()] * 5 + [Camera(yaw=30.0)] * 3):
        # One ball passes before and behind the others; in one step another one leaves.
        balls[2] = replace(balls[2], transform=Transform((20.0 * step - 60, 15.0, 40.0 - 20 * step)))
        balls[4] = replace(balls[4], visible=step != 3)
        if step == 6:
            push = Stroke(balls[0].mesh, TOOLS["raise"], TOOLS["raise"].defaults)
            push.dab(Dab(np.array([0.0, 0, 18]), np.zeros(3), FRONT, 9.0, 1.0, 0.12))
            push.finish()
        scene = Scene(tuple(balls))
        drawn.clear()
        kept.draw(scene, camera, moving=True)
        if step in (2, 7):
            assert drawn.count("Ball 1") == 0
            assert drawn.count("Ball 2") == 1
        fresh = Renderer(context)
        fresh.resize(*SIZE)
        fresh.draw(scene, camera, moving=True)
        shown, wanted = (np.empty((SIZE[1], SIZE[0], 4), np.uint8) for _ in range(2))
        for renderer, into in ((kept, shown), (fresh, wanted)):
            assert renderer._shown is not None
            renderer._shown.read_into(into, components=4)
        assert (np.abs(shown.astype(int) - wanted).max(axis=2) > 3).mean() < 2e-4
        fresh.release()
        if step == 4:
            kept.draw(scene, Camera(yaw=80.0))
    kept.release()


def test_parts_are_drawn_where_they_stand_and_hidden_ones_are_not(context: moderngl.Context) -> None:
    aside = Part("A", make_ball(30.0, 16), transform=Transform((60.0, 0, 0)))
    image = np.asarray(render_still(Scene((aside,)), Camera(), *SIZE, Style(clear_ground=True), ctx=context))
    assert image[160, 160, 3] == 0
    assert image[:, 240:, 3].max() == 255
    hidden = Scene((replace(aside, visible=False),))
    empty = np.asarray(render_still(hidden, Camera(), *SIZE, Style(clear_ground=True), ctx=context))
    assert empty[..., 3].max() == 0


def test_open_clay_shows_its_inside_darker(context: moderngl.Context) -> None:
    sheet = Scene((Part("Sheet", make_sheet()),))
    front = np.asarray(render_still(sheet, Camera(), *SIZE, ctx=context)).astype(int)
    back = np.asarray(render_still(sheet, Camera().seen_from("back"), *SIZE, ctx=context)).astype(int)
    assert back[160, 240].sum() < 0.9 * front[160, 240].sum()


def test_vertex_colours_tint_the_clay(context: moderngl.Context) -> None:
    mesh = make_ball(100.0, 16)
    red = np.tile(np.array([220, 40, 40, 255], np.uint8), (mesh.n_vertices, 1))
    scene = Scene((Part("Red", Mesh(mesh.topology, mesh.positions, red)),))
    pixel = np.asarray(render_still(scene, Camera(), *SIZE, ctx=context)).astype(int)[160, 240]
    assert pixel[0] > 2 * pixel[1]


def test_useless_sizes_are_refused(context: moderngl.Context) -> None:
    for size in ((0, 10), (10, 20_000)):
        with pytest.raises(StillError, match="pixels"):
            render_still(ball_scene(4), Camera(), *size, ctx=context)


def test_encoded_files_have_their_kind(context: moderngl.Context) -> None:
    image = render_still(ball_scene(8), Camera(), 64, 48, Style(clear_ground=True), ctx=context)
    assert encoded(image).startswith(b"\x89PNG")
    assert encoded(image, "JPEG").startswith(b"\xff\xd8")


def test_a_picture_from_a_passing_thread_leaves_nothing_behind() -> None:
    def draw() -> None:
        thread = threading.Thread(target=render_still, args=(ball_scene(4), Camera(), 64, 48))
        thread.start()
        thread.join()

    draw()
    before = in_use()
    for _ in range(4):
        draw()
    # The driver's own for one context is 2.7 MB.
    assert in_use() - before < 4 * 500_000
