"""What the floor mirrors, and what the view does while it moves."""

from __future__ import annotations

from dataclasses import replace

import moderngl
import numpy as np
import pytest

from kneten.core.camera import Camera
from kneten.core.light.finish import Finish
from kneten.core.light.lamps import Lamp
from kneten.core.light.surroundings import Surroundings
from kneten.document.look import Look
from kneten.document.scene import Part, Scene
from kneten.render import still as stills
from kneten.render.filming import behind
from kneten.render.grounds import mirrored_in, seen_in_mirror
from kneten.render.renderer import Renderer
from kneten.render.still import draw_still
from kneten.render.style import Style
from tests.conftest import make_ball

STYLE = Style(look=Look("lit", cavity=False, cover=False))
CAMERA = Camera(target=(0.0, -50.0, 0.0), distance=480.0, pitch=14.0)
ROUND = Surroundings("even", catches=False)


def red_ball(**around: object) -> Scene:
    mesh = make_ball(50.0, 32)
    mesh.colour = np.tile(np.uint8([230, 30, 30, 255]), (mesh.n_vertices, 1))
    lamps = (Lamp("Key", "sun"), Lamp("Rim", "rim", (0.5, 0.4, -0.75)))
    scene = Scene((Part("Ball", mesh, id="ball"),)).with_things("lamps", lamps)
    return scene.with_things("surroundings", (replace(ROUND, **around),))  # type: ignore[arg-type]


def red(light: np.ndarray) -> np.ndarray:
    return (light[..., 0] > 2.5 * light[..., 2]) & (light[..., 0] > 0.01)


def light_of(renderer: Renderer, scene: Scene, style: Style = STYLE) -> np.ndarray:
    renderer.draw(scene, CAMERA, style)
    return renderer.read_light()


def test_the_floor_shows_the_clay_upside_down(renderer: Renderer) -> None:
    plain, mirrors = (light_of(renderer, red_ball(mirror=share)) for share in (0.0, 0.8))
    clay = renderer.read_normals()[..., 3] > 0.5
    assert not red(plain)[~clay].any()
    found = red(mirrors) & ~clay
    assert found.sum() > 0.25 * clay.sum()
    # It lies below the clay, and begins where that stands.
    rows = np.flatnonzero(found.any(axis=1))
    foot = np.flatnonzero(clay.any(axis=1)).max()
    assert rows.max() > foot + 20
    assert abs(np.flatnonzero(found[:, found.shape[1] // 2]).min() - foot) < 8
    # The clay itself is lit as before, but for what the floor gives back to what faces it.
    head = clay & (np.arange(len(clay)) < np.flatnonzero(clay.any(axis=1)).min() + 12)[:, None]
    assert np.abs(mirrors - plain)[head].max() < 0.05
    assert (mirrors - plain)[clay].min() > -0.02


LOW = [
    Camera(distance=260.0, pitch=6.0, angle=50.0),
    Camera(distance=190.0, pitch=12.0, angle=40.0, orthographic=True),
]
"""They see ground that lies before the nearest clay."""


@pytest.mark.parametrize("near", LOW, ids=["perspective", "orthographic"])
def test_the_floor_goes_on_before_the_nearest_clay(renderer: Renderer, near: Camera) -> None:
    """As near to the eye as the picture shows it, whatever depths the clay needs."""
    pictures = []
    for look in (Look("clay"), Look("clay", floor=True)):
        renderer.draw(red_ball(), near, Style(look=look))
        pictures.append(renderer.read()[..., :3].astype(int))
    gridded = (np.abs(pictures[1] - pictures[0]).max(axis=2) > 1).any(axis=1)
    rows = np.flatnonzero(gridded)
    assert rows.min() < 0.7 * len(gridded)
    assert rows.max() > 0.97 * len(gridded)
    # And no gap on the way there.
    assert gridded[rows.min() :].mean() > 0.8


@pytest.mark.parametrize("near", LOW, ids=["perspective", "orthographic"])
def test_a_sweep_goes_on_before_the_nearest_clay(renderer: Renderer, near: Camera) -> None:
    renderer.draw(red_ball(backdrop="sweep", tone=(90, 160, 90)), near, STYLE)
    picture = renderer.read()[-1, :, :3].astype(int)
    assert (picture[:, 1] > picture[:, 0]).all()


def test_less_mirrors_less_and_shadows_stay(renderer: Renderer) -> None:
    little, much = (light_of(renderer, red_ball(mirror=share)) for share in (0.2, 0.8))
    clay = renderer.read_normals()[..., 3] > 0.5
    found = red(much) & ~clay
    assert little[found][:, 0].mean() < 0.6 * much[found][:, 0].mean() or (
        red(little)[found].mean() < red(much)[found].mean()
    )
    caught = light_of(renderer, red_ball(mirror=0.3, catches=True))
    bare = light_of(renderer, red_ball(mirror=0.3))
    assert (caught[~clay].sum(axis=1) < bare[~clay].sum(axis=1) - 1e-4).any()


def test_a_camera_in_the_floor_is_the_one_above_it_upside_down() -> None:
    below = mirrored_in(CAMERA, -50.0)
    eye, other = CAMERA.eye(), below.eye()
    assert np.allclose(other, (eye[0], -100.0 - eye[1], eye[2]))
    place = np.array([30.0, 10.0, -20.0])
    there, here = np.array([30.0, -110.0, -20.0]) - eye, place - other
    assert np.allclose((CAMERA.axes() @ there)[[0, 2]], (below.axes() @ here)[[0, 2]])
    assert (CAMERA.axes() @ there)[1] == pytest.approx(-(below.axes() @ here)[1])
    seen = seen_in_mirror(red_ball(mirror=0.5), CAMERA.axes())
    rim = seen.things("lamps")[1]
    assert rim.kind == "sun"
    assert np.allclose(rim.towards(below.axes()), red_ball().things("lamps")[1].towards(CAMERA.axes()))
    assert not seen.things("surroundings")[0].has_floor


def test_tiles_mirror_what_the_whole_does(context: moderngl.Context, monkeypatch: pytest.MonkeyPatch) -> None:
    scene = red_ball(mirror=0.7)
    whole = draw_still(scene, CAMERA, 160, 120, STYLE, ctx=context).colours
    monkeypatch.setattr(stills, "TILE", 96)
    tiled = draw_still(scene, CAMERA, 160, 120, STYLE, ctx=context).colours
    assert np.abs(whole - tiled).mean() < 0.004
    assert np.abs(whole - tiled).max() < 0.12


def test_what_lies_behind_a_traced_picture_mirrors_too(context: moderngl.Context) -> None:
    found = behind(red_ball(mirror=0.8), CAMERA, (120, 90), STYLE, context)
    assert red(found).any()
    assert not red(behind(red_ball(), CAMERA, (120, 90), STYLE, context)).any()


@pytest.mark.parametrize("finish", [Finish(), Finish(curve="film", exposure=0.5, lift=(0.05, 0.0, 0.0))])
@pytest.mark.parametrize("around", [{}, {"backdrop": "sweep"}, {"shown": True}])
def test_pictures_while_the_camera_turns_are_like_those_at_rest(
    renderer: Renderer, finish: Finish, around: dict[str, object]
) -> None:
    scene = red_ball(**around)
    style = replace(STYLE, finish=finish, effects=0)
    pictures = []
    for moving in (False, True):
        renderer.draw(scene, CAMERA, style, moving=moving)
        pictures.append(renderer.read()[..., :3].astype(float))
    off = np.abs(pictures[0] - pictures[1]).max(axis=2)
    # But for outlines, which every second pixel draws softer.
    assert np.median(off) < 4
    assert (off > 40).mean() < 0.03
