"""What is done to a picture after light: curves, balance, lens, bloom, grade, tables, and stills in tiles."""

from __future__ import annotations

from dataclasses import replace

import moderngl
import numpy as np
import pytest

from kneten.core.camera import Camera
from kneten.core.light.finish import CURVES, ColourTable, Finish, unmultiplied
from kneten.core.light.lamps import Lamp
from kneten.core.light.surroundings import Surroundings
from kneten.core.transform import Transform
from kneten.document.look import Look
from kneten.document.scene import Part, Scene
from kneten.render import still as still_module
from kneten.render.renderer import Renderer
from kneten.render.still import PASSES, draw_still
from kneten.render.style import Style
from tests.conftest import make_ball

PLAIN = Style(look=Look("lit", cavity=False, cover=False))
CAMERA = Camera(distance=420.0)
MIDDLE = (120, 160)


def ball_at(x: float, z: float, code: int = 128, size: float = 60.0) -> Part:
    mesh = make_ball(size, 40)
    mesh.colour = np.tile(np.uint8([code, code, code, 255]), (mesh.n_vertices, 1))
    mesh.material = np.tile(np.uint8([255, 0, 0, 0]), (mesh.n_vertices, 1))
    return Part("Ball", mesh, id=f"{x} {z}", transform=Transform((x, 0.0, z)))


def lit_scene(*parts: Part, strength: float = 0.6, lamps: tuple[Lamp, ...] = ()) -> Scene:
    around = Surroundings("even", strength, catches=False)
    return Scene(parts).with_things("surroundings", (around,)).with_things("lamps", lamps)


def drawn(renderer: Renderer, scene: Scene, style: Style = PLAIN, **finish: object) -> np.ndarray:
    renderer.draw(scene, CAMERA, replace(style, finish=Finish(**finish)))  # type: ignore[arg-type]
    return renderer.read().astype(int)


@pytest.mark.parametrize("curve", list(CURVES))
def test_every_curve_rises_and_ends_at_white(renderer: Renderer, curve: str) -> None:
    scene = lit_scene(ball_at(0, 0))
    seen = [
        drawn(renderer, scene, curve=curve, exposure=stop)[MIDDLE] for stop in (-3.0, -1.0, 0.0, 1.0, 8.0)
    ]
    reds = [one[0] for one in seen]
    assert reds == sorted(reds)
    assert reds[0] < 90
    assert min(seen[-1][:3]) > 235


def test_what_is_to_look_white_does(renderer: Renderer) -> None:
    warm = Lamp("a", "sun", (0.0, 0.0, 1.0), strength=0.5, warmth=3200.0)
    scene = lit_scene(ball_at(0, 0), strength=0.0, lamps=(warm,))
    plain, balanced = drawn(renderer, scene)[MIDDLE], drawn(renderer, scene, white=3200.0)[MIDDLE]
    assert plain[0] - plain[2] > 40
    # It is as neutral as the same clay in neutral light.
    assert abs(balanced[0] - balanced[2]) <= 3
    assert drawn(renderer, scene, tint=1.0)[MIDDLE][1] < plain[1] - 5


def test_only_what_is_at_the_focus_is_sharp(renderer: Renderer) -> None:
    # Edges before bright ground: one near, one far.
    scene = lit_scene(ball_at(-70, 80, 20, 30.0), ball_at(70, -260, 20, 40.0))

    def sharpness(picture: np.ndarray) -> tuple[float, float]:
        steps = np.abs(np.diff(picture[100:140, :, 0], axis=1))
        return float(steps[:, :160].max()), float(steps[:, 160:].max())

    sky = replace(scene.things("surroundings")[0], shown=True)
    scene = scene.with_things("surroundings", (sky,))
    near, far = sharpness(drawn(renderer, scene))
    on_near = sharpness(drawn(renderer, scene, blurs=True, focus=(-70.0, 0.0, 80.0), stop=0.7))
    on_far = sharpness(drawn(renderer, scene, blurs=True, focus=(70.0, 0.0, -260.0), stop=0.7))
    assert on_near[0] > 0.7 * near
    assert on_near[1] < 0.5 * far
    assert on_far[0] < 0.5 * near
    assert on_far[1] > 0.7 * far
    # A lens that is nearly closed blurs nothing.
    assert sharpness(drawn(renderer, scene, blurs=True, stop=64.0)) == pytest.approx((near, far), rel=0.15)


def test_the_disc_of_a_point_is_as_wide_as_a_thin_lens_makes_it() -> None:
    finish = Finish(blurs=True, focus=(0.0, 0.0, 0.0), stop=2.0)
    camera = Camera(distance=1000.0, angle=28.0)
    # c = f^2 / (N (s - f)) |d - s| / d on a film 24 mm high, for s far beyond f.
    f = camera.focal_length
    expected = f * f / (2.0 * 1000.0) * 500.0 / 1500.0 / 24.0 * 800
    assert 2 * finish.spread(camera, 800) * 500.0 / 1500.0 == pytest.approx(expected, rel=0.01)
    assert finish.lens(replace(camera, orthographic=True)) == 0


def test_what_is_bright_spreads_and_no_light_is_made(renderer: Renderer) -> None:
    lamp = Lamp("a", "sun", (0.0, 0.0, 1.0), strength=6.0)
    scene = lit_scene(ball_at(0, 0, 255, 25.0), strength=0.0, lamps=(lamp,))
    plain, blooming = drawn(renderer, scene), drawn(renderer, scene, bloom=1.0)
    beside = (120, 215)
    assert blooming[beside][0] > plain[beside][0] + 10
    # With distance it fades.
    assert plain[5, 5][0] - 2 <= blooming[5, 5][0] < blooming[beside][0]


def test_grading_bends_darks_middles_and_brights(renderer: Renderer) -> None:
    scene = lit_scene(ball_at(0, 0, 90))
    plain = drawn(renderer, scene)[MIDDLE]
    assert drawn(renderer, scene, lift=(0.3, 0.0, 0.0))[MIDDLE][0] > plain[0] + 15
    assert drawn(renderer, scene, gain=(1.0, 0.5, 1.0))[MIDDLE][1] == pytest.approx(plain[1] / 2, abs=3)
    assert drawn(renderer, scene, gamma=(1.0, 1.0, 2.0))[MIDDLE][2] > plain[2] + 20
    grey = drawn(renderer, scene, gain=(1.0, 0.5, 1.0), colourful=0.0)[MIDDLE]
    assert grey[:3].max() - grey[:3].min() <= 2


def test_a_table_changes_colours_as_it_says(renderer: Renderer) -> None:
    scene = lit_scene(ball_at(0, 0, 90))
    at = np.linspace(0, 1, 17)
    blue, green, red = np.meshgrid(at, at, at, indexing="ij")
    same = ColourTable("Same", np.stack([red, green, blue], -1).reshape(-1, 3).astype(np.float32))
    turned = ColourTable("Turned", np.stack([1 - red, green, blue], -1).reshape(-1, 3).astype(np.float32))
    plain = drawn(renderer, scene)
    assert np.abs(drawn(renderer, scene, replace(PLAIN, table=same)) - plain).max() <= 2
    other = drawn(renderer, scene, replace(PLAIN, table=turned))[MIDDLE]
    assert other[0] == pytest.approx(255 - plain[MIDDLE][0], abs=3)
    assert other[1] == pytest.approx(plain[MIDDLE][1], abs=3)


def test_corners_darken_and_grain_leaves_the_mean(renderer: Renderer) -> None:
    sky = Surroundings("even", 0.6, shown=True, catches=False)
    scene = Scene(()).with_things("surroundings", (sky,))
    plain = drawn(renderer, scene)
    dark = drawn(renderer, scene, vignette=1.0)
    assert dark[2, 2][0] < plain[2, 2][0] - 25
    assert dark[MIDDLE][0] == pytest.approx(plain[MIDDLE][0], abs=2)
    grainy = drawn(renderer, scene, grain=0.5)
    assert grainy[..., 0].std() > plain[..., 0].std() + 2
    assert grainy[..., 0].mean() == pytest.approx(plain[..., 0].mean(), abs=2)
    # The same picture has the same grain.
    assert np.array_equal(grainy, drawn(renderer, scene, grain=0.5))


def test_sharpening_makes_edges_steeper(renderer: Renderer) -> None:
    scene = lit_scene(ball_at(0, 0, 60))
    plain, sharp = drawn(renderer, scene), drawn(renderer, scene, sharpen=2.0)
    assert np.abs(np.diff(sharp[120, :, 0])).max() > np.abs(np.diff(plain[120, :, 0])).max() + 3
    assert np.abs(sharp[MIDDLE] - plain[MIDDLE]).max() <= 3


def test_a_still_in_tiles_has_no_seams(context: moderngl.Context, monkeypatch: pytest.MonkeyPatch) -> None:
    lamp = Lamp("a", "panel", (-0.5, 0.6, 0.6), distance=500.0, size=120.0, strength=1.4)
    parts = (ball_at(-40, 0, 180), ball_at(60, -40, 90))
    scene = (
        Scene(parts).with_things("surroundings", (Surroundings("studio", 0.5),)).with_things("lamps", (lamp,))
    )
    finish = Finish(bloom=0.5, vignette=0.5, grain=0.3, sharpen=0.5, blurs=True, focus=(-40.0, 0.0, 60.0))
    style = Style(look=Look("lit"), finish=finish)
    camera = Camera(distance=500.0, pitch=15.0)
    passes = tuple(PASSES)
    whole = draw_still(scene, camera, 400, 300, style, passes, context)
    monkeypatch.setattr(still_module, "TILE", 512)
    tiled = draw_still(scene, camera, 400, 300, style, passes, context)
    off = np.abs(whole.colours - tiled.colours).max(axis=2)
    # What blooms is drawn smaller for tiles: a hair of difference all over, no line anywhere.
    assert off.max() < 0.06
    assert off.mean() < 0.004
    for name in passes:
        one, other = whole.passes[name], tiled.passes[name]
        finite = np.isfinite(one) & np.isfinite(other)
        assert (np.isfinite(one) == np.isfinite(other)).mean() > 0.999, name
        apart = np.abs(one[finite] - other[finite]) > 0.02 * max(float(np.abs(one[finite]).max()), 1.0)
        assert apart.mean() < 0.002, name


def test_passes_say_what_they_are(context: moderngl.Context) -> None:
    lamp = Lamp("a", "sun", (-0.6, 0.0, 0.8), strength=1.0, size=1.0)
    parts = (ball_at(-40, 60, 180, 30.0), ball_at(18, 0, 90, 50.0))
    scene = lit_scene(*parts, strength=0.2, lamps=(lamp,))
    still = draw_still(
        scene, Camera(distance=500.0), 160, 120, Style(look=Look("lit")), tuple(PASSES), context
    )
    found = still.passes
    assert set(found) == set(PASSES)
    at = tuple(np.argwhere(found["id"] == 1).mean(axis=0).astype(int))
    assert found["depth"][at] == pytest.approx(500 - 60 - 30, abs=3)
    assert found["normal"][at][2] > 0.95
    assert found["colour"][at][0] == pytest.approx((180 / 255) ** 2, abs=0.01)
    assert found["mask"][at] == 1
    assert found["mask"][2, 2] == 0
    assert np.isinf(found["depth"][2, 2])
    # Colour times light is the picture again, before its finish.
    again = found["colour"] * found["light"]
    inside = found["mask"] == 1
    assert np.abs(again - still.light[..., :3])[inside].max() < 2e-3
    # The front ball's shadow lies on the other, and nowhere else so dark.
    assert found["shadow"][(found["id"] == 2)].min() < 0.6
    assert found["occlusion"][inside].min() < 0.975 < found["occlusion"][at]
    assert set(np.unique(found["id"])) == {0.0, 1.0, 2.0}


def test_a_clear_ground_stays_clear_under_a_finish(context: moderngl.Context) -> None:
    style = Style(look=Look("lit"), clear_ground=True, finish=Finish(vignette=0.5, curve="film"))
    still = draw_still(lit_scene(ball_at(0, 0)), CAMERA, 80, 60, style, ctx=context)
    colours = unmultiplied(still.colours)
    assert colours[2, 2][3] == 0
    assert colours[30, 40][3] == 1
    assert colours[30, 40][0] > 0.2
    assert still.image(True).mode == "RGBA"
