"""The look Lit: how much light there is, where it falls, and what casts a shadow."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import replace

import moderngl
import numpy as np
import pytest
from scipy.ndimage import binary_dilation

from kneten.core.camera import Camera
from kneten.core.light.finish import Finish
from kneten.core.light.lamps import KINDS, Lamp, turned_to
from kneten.core.light.rigs import RIGS, rig
from kneten.core.light.surroundings import Surroundings
from kneten.core.transform import Transform
from kneten.document.look import Look
from kneten.document.scene import Part, Scene
from kneten.render import lit as lit_module
from kneten.render.lit import Light, LitLight
from kneten.render.programs import Programs
from kneten.render.renderer import Renderer
from kneten.render.shadow import near_sight
from kneten.render.style import Style
from tests.conftest import make_ball, make_sheet

PLAIN = Style(look=Look("lit", cavity=False, cover=False))
STRAIGHT = Camera(distance=420.0, yaw=0.0, pitch=0.0)
DARK = Surroundings("even", 0.0, catches=False)
MIDDLE = (120, 160)


def clay(codes: tuple[int, int, int, int], material: tuple[int, int, int, int], n: int = 40) -> Part:
    mesh = make_ball(60.0, n)
    mesh.colour = np.tile(np.uint8(codes), (mesh.n_vertices, 1))
    mesh.material = np.tile(np.uint8(material), (mesh.n_vertices, 1))
    return Part("Ball", mesh, id="ball")


def lit_by(scene: Scene, around: Surroundings, *lamps: Lamp) -> Scene:
    return scene.with_things("lamps", lamps).with_things("surroundings", (around,))


def pixels(renderer: Renderer, scene: Scene, style: Style = PLAIN, camera: Camera = STRAIGHT) -> np.ndarray:
    renderer.draw(scene, camera, style)
    return renderer.read().astype(int)


def untoned(codes: np.ndarray) -> np.ndarray:
    """The light that codes stand for, below where the curve bends: it takes away what clay mirrors anyway."""
    return (codes / 255.0) ** 2 + 0.04


@pytest.mark.parametrize("rough", [13, 64, 128, 190, 255])
@pytest.mark.parametrize("metal", [0, 255])
def test_white_clay_in_an_even_sky_cannot_be_seen(renderer: Renderer, rough: int, metal: int) -> None:
    """All that comes in goes out again, on every roughness (the white furnace)."""
    ball = Scene((clay((255, 255, 255, 255), (rough, metal, 0, 0)),))
    found = pixels(renderer, lit_by(ball, Surroundings("even", 1.0, catches=False)))
    for at in (MIDDLE, (90, 150), (150, 190), (120, 120)):
        assert np.abs(untoned(found[at][:3]) / 0.55 - 1).max() < 0.03


def test_wet_white_clay_is_no_brighter_than_the_sky(renderer: Renderer) -> None:
    ball = Scene((clay((255, 255, 255, 255), (128, 0, 0, 255)),))
    found = pixels(renderer, lit_by(ball, Surroundings("even", 1.0, catches=False)))
    assert untoned(found[MIDDLE][:3]).max() < 0.57


@pytest.mark.parametrize("kind", list(KINDS))
def test_a_lamp_gives_what_its_strength_says_where_it_aims(renderer: Renderer, kind: str) -> None:
    ball = Scene((clay((255, 255, 255, 255), (255, 0, 0, 0)),))
    way = np.array([0.0, 0.0, 1.0])
    lamp = turned_to(Lamp("a", kind, strength=0.5, free=True, colour=(255, 255, 255)), way, STRAIGHT.axes())
    lamp = replace(lamp, aim=(0.0, 0.0, 60.0), distance=300.0, size=1.0)
    found = untoned(pixels(renderer, lit_by(ball, DARK, lamp))[MIDDLE][:3])
    # Seen from where it is lit from, rough white clay also mirrors a little.
    assert np.abs(found / 0.5 - 1).max() < 0.06
    farther = untoned(pixels(renderer, lit_by(ball, DARK, replace(lamp, distance=900.0)))[MIDDLE][:3])
    assert np.abs(found - farther).max() < 0.01


def test_light_falls_off_with_the_square_and_ends_with_the_cone(renderer: Renderer) -> None:
    sheet = Part("Sheet", make_sheet(60, 10.0), id="sheet")
    sheet.mesh.colour = np.full((sheet.mesh.n_vertices, 4), 255, np.uint8)
    sheet.mesh.material = np.tile(np.uint8([255, 0, 0, 0]), (sheet.mesh.n_vertices, 1))
    point = Lamp(
        "a",
        "point",
        (0.0, 0.0, 1.0),
        distance=100.0,
        strength=0.6,
        free=True,
        colour=(255, 255, 255),
        size=1.0,
    )
    camera = Camera(distance=700.0)
    scene = Scene((sheet,))
    wide = untoned(pixels(renderer, lit_by(scene, DARK, point), camera=camera)[..., 0])
    pixel = camera.pixel_size(np.zeros(3), 240)
    for aside in (60, 90):
        at = 160 + round(aside / pixel)
        off = (at - 160) * pixel
        # The square of the distance, and the slant at which it meets the sheet.
        wanted = 0.6 * (100 / np.hypot(100, off)) ** 3
        assert wide[120, at] == pytest.approx(wanted, rel=0.12)
    spot = replace(point, kind="spot", cone=50.0)
    narrow = untoned(pixels(renderer, lit_by(scene, DARK, spot), camera=camera)[..., 0])
    assert narrow[120, 160] == pytest.approx(wide[120, 160], abs=0.01)
    assert narrow[120, 160 + round(60 / pixel)] < 0.045
    # A panel lights nothing behind it.
    behind = replace(point, kind="panel", way=(0.0, 0.0, -1.0), aim=(0.0, 0.0, 200.0))
    assert untoned(pixels(renderer, lit_by(scene, DARK, behind), camera=camera)[..., 0])[120, 160] < 0.045


@pytest.mark.parametrize("kind", ["sun", "spot", "point", "panel"])
def test_what_stands_in_the_light_casts_a_shadow(renderer: Renderer, kind: str) -> None:
    big = clay((230, 230, 230, 255), (255, 0, 0, 0))
    small = Part("Small", make_ball(8.0, 12), id="small", transform=Transform((-40.0, 40.0, 75.0)))
    lamp = Lamp(
        "a", kind, tuple(np.array([-0.55, 0.55, 0.63])), (0.0, 0.0, 55.0), 400.0, strength=1.0, size=1.0
    )
    scene = lit_by(Scene((big,)), DARK, lamp)
    open_ = pixels(renderer, scene)
    shaded = pixels(renderer, scene.with_parts((*scene.parts, small)))
    lost = open_[..., 1] - shaded[..., 1] > 60
    assert 40 < lost.sum() < 3000
    middle = np.argwhere(lost).mean(axis=0)
    assert np.hypot(*(middle - MIDDLE)) < 45
    # The wider the lamp, the softer its edge: fewer places are wholly dark or wholly lit.
    soft = pixels(
        renderer,
        lit_by(
            scene.with_parts((*scene.parts, small)), DARK, replace(lamp, size=12.0 if kind == "sun" else 80.0)
        ),
    )
    half = (open_[..., 1] - soft[..., 1] > 15) & (open_[..., 1] - soft[..., 1] <= 60)
    hard_half = (open_[..., 1] - shaded[..., 1] > 15) & (open_[..., 1] - shaded[..., 1] <= 60)
    assert half.sum() > 1.4 * hard_half.sum()


def test_lit_clay_does_not_shade_itself(renderer: Renderer) -> None:
    ball = Scene((clay((230, 230, 230, 255), (255, 0, 0, 0), 60),))
    for kind, size in itertools.product(("sun", "panel", "point"), (0.5, 40.0)):
        lamp = Lamp("a", kind, (0.3, 0.5, 0.8), distance=260.0, size=size, strength=0.7)
        scene = lit_by(ball, DARK, lamp)
        found, moving = pixels(renderer, scene), None
        renderer.draw(scene, STRAIGHT, replace(PLAIN, effects=0))
        moving = renderer.read().astype(int)
        inside = np.hypot(*(np.indices((240, 320)) - np.array([[[120]], [[160]]]))) < 55
        assert (np.abs(found - moving).max(axis=2)[inside] > 8).mean() < 0.02


def test_a_floor_that_is_not_seen_catches_shadows(renderer: Renderer) -> None:
    ball = Scene((clay((200, 200, 200, 255), (255, 0, 0, 0)),))
    lamp = Lamp("a", "sun", (0.45, 0.85, 0.2), size=1.0)
    camera = Camera(distance=600.0, pitch=25.0)
    around = Surroundings("even", 0.3, catches=True)
    caught = pixels(renderer, lit_by(ball, around, lamp), camera=camera)
    bare = pixels(renderer, lit_by(ball, replace(around, catches=False), lamp), camera=camera)
    off = bare[..., 0] - caught[..., 0]
    # The clay gets what the floor gives back.
    off[binary_dilation(renderer.read_normals()[..., 3] > 0.5, iterations=3)] = 0
    assert off.min() >= -3
    dark = np.argwhere(off > 8)
    assert len(dark) > 200
    # It falls to the side that the lamp is not on.
    assert dark[:, 1].mean() < 150
    clear = pixels(renderer, lit_by(ball, around, lamp), replace(PLAIN, clear_ground=True), camera)
    assert clear[2, 2, 3] == 0
    row, column = dark[len(dark) // 2]
    assert clear[row, column, 3] > 20


def test_the_sky_is_seen_behind_if_wanted_and_turns(renderer: Renderer) -> None:
    ball = Scene((clay((200, 200, 200, 255), (200, 0, 0, 0)),))
    shown = Surroundings("low-sun", 1.0, shown=True, blur=0.0, catches=False)
    camera = Camera(distance=420.0, yaw=-60.0)
    one = pixels(renderer, lit_by(ball, shown), camera=camera)
    assert (
        np.abs(one[10] - pixels(renderer, lit_by(ball, replace(shown, shown=False)), camera=camera)[10]).max()
        > 30
    )
    other = pixels(renderer, lit_by(ball, replace(shown, turn=180.0)), camera=camera)
    assert np.abs(one[:, 5] - other[:, 5]).max() > 20
    # What is seen and what lights turn together: turned with the camera, all is the same.
    again = pixels(renderer, lit_by(ball, replace(shown, turn=360.0)), camera=camera)
    assert np.abs(one - again).max() <= 2
    blurred = pixels(renderer, lit_by(ball, replace(shown, blur=1.0)), camera=camera)
    assert (
        np.abs(np.diff(blurred[10:60, :, 0], axis=1)).max()
        <= np.abs(np.diff(one[10:60, :, 0], axis=1)).max() + 1
    )


def test_exposure_is_in_stops_and_bright_light_runs_out_softly(renderer: Renderer) -> None:
    ball = lit_by(
        Scene((clay((120, 120, 120, 255), (255, 0, 0, 0)),)), Surroundings("even", 0.5, catches=False)
    )

    def middle(stops: float) -> np.ndarray:
        return pixels(renderer, ball, replace(PLAIN, finish=Finish(exposure=stops)))[MIDDLE][:3]

    lights = [untoned(middle(stops))[0] for stops in (0.0, 1.0, 2.0)]
    assert lights[1] / lights[0] == pytest.approx(2, rel=0.05)
    assert lights[2] / lights[1] == pytest.approx(2, rel=0.05)
    glaring = middle(7.0)
    assert 235 < glaring.min() <= glaring.max() <= 255


def test_without_lamps_the_sky_alone_lights(renderer: Renderer) -> None:
    ball = Scene((clay((200, 200, 200, 255), (255, 0, 0, 0)),))
    assert pixels(renderer, ball)[MIDDLE][0] > 60
    assert pixels(renderer, lit_by(ball, DARK))[MIDDLE][:3].max() == 0


def test_only_maps_that_would_be_others_are_drawn_anew(
    renderer: Renderer, monkeypatch: pytest.MonkeyPatch
) -> None:
    drawn: list[int] = []
    real = lit_module.DepthMap.draw

    def noted(self: object, *given: object) -> Iterator[None]:
        drawn.append(int(given[5]))  # type: ignore[call-overload]
        return real(self, *given)  # type: ignore[arg-type]

    monkeypatch.setattr(lit_module.DepthMap, "draw", noted)
    ball = Scene((clay((200, 200, 200, 255), (255, 0, 0, 0)),))
    lamps, _ = rig("three", *ball.bounds())
    around = Surroundings("even", catches=False)
    scene = lit_by(ball, around, *lamps)
    renderer.draw(scene, STRAIGHT, PLAIN)
    assert drawn == [0, 1, 2]
    drawn.clear()
    renderer.draw(scene, Camera(distance=420.0, yaw=20.0), PLAIN)
    # The rim goes with the camera; what the others look at is where it was.
    assert drawn == [2]
    drawn.clear()
    renderer.draw(
        lit_by(ball, around, replace(lamps[0], strength=2.0), *lamps[1:]),
        Camera(distance=420.0, yaw=20.0),
        PLAIN,
    )
    assert drawn == []
    ball.parts[0].mesh.positions[:50] += 1.0
    ball.parts[0].mesh.mark_dirty(np.arange(50, dtype=np.int32))
    renderer.draw(scene, Camera(distance=420.0, yaw=20.0), PLAIN)
    assert drawn == [0, 1, 2]
    drawn.clear()
    renderer.draw(lit_by(ball, around, *lamps[:1]), STRAIGHT, PLAIN)
    assert drawn == [0]


def test_large_parts_cast_the_shadow_of_their_stand_in_while_one_works(
    context: moderngl.Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(lit_module, "WHOLE", 10)
    light = Light.of(
        lit_by(Scene(()), DARK, Lamp("a", "point", distance=100.0), Lamp("b")),
        STRAIGHT,
        np.full(3, -50.0),
        np.full(3, 50.0),
    )
    plain = light.sights()
    part = clay((200, 200, 200, 255), (255, 0, 0, 0))

    class One:
        is_large, n_triangles, version = True, 20, 0

    class Patient:
        patient = True

        def __getitem__(self, part: Part) -> type[One]:
            return One

    held = LitLight(context)
    seen: list[object] = []
    monkeypatch.setattr(
        lit_module.DepthMap, "draw", lambda self, *given: iter([seen.append((given[3], given[6]))])
    )
    list(held.draw_maps(light, [part], Patient(), Programs(context)))  # type: ignore[arg-type]
    assert all(whole == 10 for _, whole in seen)
    assert all(sight.texel > before.texel for (sight, _), before in zip(seen, plain, strict=True))
    held.release()


def test_a_lamp_amid_the_clay_sees_what_it_aims_at() -> None:
    low, high = np.full(3, -50.0), np.full(3, 50.0)
    inside = near_sight(np.zeros(3), np.array([0.0, 0.0, -40.0]), low, high, 512)
    outside = near_sight(np.array([0.0, 0.0, 300.0]), np.zeros(3), low, high, 512)
    for sight, place in ((inside, [5.0, 5.0, -40.0]), (outside, [-50.0, 50.0, 50.0])):
        at = sight.matrix @ np.array([*place, 1.0])
        assert at[3] > 0
        assert np.abs(at[:3] / at[3]).max() <= 1.0
    assert inside.deep[0] < outside.deep[0]
    up = near_sight(np.array([0.0, 400.0, 0.0]), np.zeros(3), low, high, 512)
    assert np.isfinite(up.matrix).all()


@pytest.mark.parametrize("key", list(RIGS))
def test_every_set_lights_with_every_effect_and_while_things_move(renderer: Renderer, key: str) -> None:
    ball = Scene((clay((200, 160, 140, 120), (120, 0, 200, 200), 20),))
    lamps, around = rig(key, *ball.bounds())
    scene = lit_by(ball, replace(around, shown=True), *lamps)
    for effects in range(4):
        renderer.draw(scene, STRAIGHT, Style(look=Look("lit", floor=True), effects=effects))
        assert renderer.read()[..., :3].max() > 40
    renderer.draw(scene, Camera(orthographic=True), Style(look=Look("lit")), moving=True)
    before = renderer.read()
    renderer.draw(scene, Camera(orthographic=True), Style(look=Look("lit")))
    assert renderer.read().shape == before.shape


def test_the_same_program_serves_all_lamps_of_a_number(context: moderngl.Context) -> None:
    programs = Programs(context)
    for lamps, shadow, clear in itertools.product((0, 1, 8), (0, 1), (0, 1)):
        switches = {
            "MOVING": 1 - shadow,
            "LAMPS": lamps,
            "SHADOW": shadow if lamps else 0,
            "CREASES": 1,
            "COVER": 1,
            "OUTLINE": 0,
            "BACKS": 0,
        }
        programs.screen("shade", LOOK=9, CLEAR=clear, HALF=1 - clear, **switches)
        programs.screen("ground", FLOOR=1, LIT=1 + clear, LAMPS=lamps, SHADOW=switches["SHADOW"], MOVING=0)
    programs.release()


def test_a_picture_that_is_gone_at_once_is_lit_at_half_the_pixels_and_looks_alike(renderer: Renderer) -> None:
    ball = Scene((clay((200, 160, 140, 255), (200, 0, 0, 0)),))
    lamp = Lamp("a", "sun", (-0.4, 0.5, 0.8), strength=0.8)
    for size in ((320, 240), (321, 243)):
        renderer.resize(*size)
        scene = lit_by(ball, Surroundings("studio", 0.4, catches=False), lamp)
        whole = pixels(renderer, scene, replace(PLAIN, effects=0))
        renderer.draw(scene, STRAIGHT, replace(PLAIN, effects=0), moving=True)
        # What is presented is what was lit last.
        target = renderer.ctx.simple_framebuffer(size)
        renderer.present(target)
        found = (
            np.frombuffer(target.read(components=4), np.uint8).reshape(size[1], size[0], 4)[::-1].astype(int)
        )
        off = np.abs(found - whole)[..., :3].max(axis=2)
        assert (off > 25).mean() < 0.02
        assert (off > 60).mean() < 0.006
        target.release()


def test_what_is_shown_stays_until_the_look_lit_has_its_picture(context: moderngl.Context) -> None:
    ball = Scene((clay((200, 200, 200, 255), (255, 0, 0, 0)),))
    renderer = Renderer(context)
    renderer.resize(320, 240)
    target = context.framebuffer([context.texture((320, 240), 4)])
    for first, then in (("clay", "lit"), ("lit", "clay")):
        renderer.draw(ball, STRAIGHT, Style(look=Look(first)), moving=True)
        steps = renderer.draw_in_steps(ball, STRAIGHT, Style(look=Look(then)))
        for _ in steps:
            renderer.present(target, (2, 0))
        renderer.present(target)
        assert np.frombuffer(target.read(components=3), np.uint8).max() > 60
    assert len(renderer._sheets) <= 2
    renderer.release()
