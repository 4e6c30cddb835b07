"""Ray-traced pictures: as much light as in the view, the same by the same seed, ended and lost cleanly."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

import moderngl
import numpy as np
import pytest

from kneten.core.arrays import Progress
from kneten.core.camera import Camera
from kneten.core.fur.numbers import FurNumbers
from kneten.core.light.finish import Finish
from kneten.core.light.lamps import Lamp
from kneten.core.light.rigs import RIGS, rig
from kneten.core.light.surroundings import Surroundings
from kneten.core.live.primitive import Primitive
from kneten.document.furs import sown
from kneten.document.look import Look
from kneten.document.scene import Part, Scene
from kneten.render.filming import behind, developed, first_seen
from kneten.render.handover import Order, hand_over
from kneten.render.renderer import Renderer
from kneten.render.style import Style
from kneten.render.tracing import GONE, TraceError, Tracing
from tests.conftest import make_ball
from tests.long import some

STYLE = Style(look=Look("lit", cavity=False, cover=False))
CAMERA = Camera(distance=420.0, pitch=10.0)
SIZE = (96, 72)


def grey(code: int = 180, rough: int = 255) -> Part:
    mesh = make_ball(60.0, 40)
    mesh.colour = np.tile(np.uint8([code, code, code, 255]), (mesh.n_vertices, 1))
    mesh.material = np.tile(np.uint8([rough, 0, 0, 0]), (mesh.n_vertices, 1))
    return Part("Ball", mesh, id="ball")


def under(key: str, *parts: Part) -> Scene:
    scene = Scene(parts or (grey(),))
    lamps, around = rig(key, *scene.bounds())
    around = replace(around, catches=False)
    return scene.with_things("lamps", lamps).with_things("surroundings", (around,))


@contextmanager
def tracing(scene: Scene, order: Order, style: Style = STYLE, camera: Camera = CAMERA) -> Iterator[Tracing]:
    """One that is ended whatever happens."""
    made = Tracing(scene, camera, style, order)
    try:
        yield made
    finally:
        made.end()


def traced(scene: Scene, order: Order, style: Style = STYLE, camera: Camera = CAMERA) -> np.ndarray:
    with tracing(scene, order, style, camera) as one:
        one.begin()
        picture = one.wait().picture
    assert picture is not None
    return picture


@pytest.mark.parametrize("key", list(RIGS))
def test_traced_and_drawn_clay_are_as_bright(renderer: Renderer, key: str) -> None:
    scene = under(key)
    picture = traced(scene, Order(SIZE, 32, clean=False))
    inside = picture[..., 3] > 0.99
    assert 0.15 < inside.mean() < 0.3
    renderer.resize(*SIZE)
    renderer.draw(scene, CAMERA, STYLE)
    light = renderer.read_light()
    both = inside & (renderer.read_normals()[..., 3] > 0.5)
    assert picture[both][:, :3].mean() == pytest.approx(light[both][:, :3].mean(), rel=0.10)


def test_the_sky_is_turned_as_in_the_view(renderer: Renderer) -> None:
    around = Surroundings("studio", 1.0, turn=70.0, catches=False)
    scene = Scene((grey(),)).with_things("surroundings", (around,))
    picture = traced(scene, Order(SIZE, 256, clean=False))
    renderer.resize(*SIZE)
    alike = {}
    for turn in (20.0, 70.0, 120.0, 250.0):
        renderer.draw(scene.with_things("surroundings", (replace(around, turn=turn),)), CAMERA, STYLE)
        light = renderer.read_light()
        both = (picture[..., 3] > 0.99) & (renderer.read_normals()[..., 3] > 0.5)
        alike[turn] = np.corrcoef(picture[both][:, 1], light[both][:, 1])[0, 1]
    assert max(alike, key=lambda turn: alike[turn]) == 70.0
    assert alike[70.0] > 0.93


def test_a_backdrop_lies_behind_as_it_is_drawn(renderer: Renderer, context: moderngl.Context) -> None:
    scene = under("three")
    around = replace(scene.things("surroundings")[0], backdrop="sweep", tone=(170, 150, 120))
    scene = scene.with_things("surroundings", (around,))
    renderer.resize(*SIZE)
    renderer.draw(scene, CAMERA, STYLE)
    drawn, clay = renderer.read_light(), renderer.read_normals()[..., 3] > 0.5
    assert 0.15 < clay.mean() < 0.4
    # It is the lamps that light it.
    away = scene.with_things("lamps", tuple(replace(lamp, shown=False) for lamp in scene.things("lamps")))
    renderer.draw(away, CAMERA, STYLE)
    assert renderer.read_light()[64:, :, 0].mean() < drawn[64:, :, 0].mean()
    light = behind(scene, CAMERA, SIZE, STYLE, context)
    # At the middle of the picture's edges there is only the backdrop: above the wall, below the floor.
    for rows in (slice(0, 8), slice(64, 72)):
        assert light[rows][..., :3].mean(axis=(0, 1)) == pytest.approx(
            drawn[rows][..., :3].mean(axis=(0, 1)), rel=0.05
        )
        assert light[rows][..., 0].mean() > 1.2 * light[rows][..., 2].mean()


@pytest.mark.parametrize("hour", [8.0, 12.5])
def test_clay_by_the_hour_is_as_bright_in_both(renderer: Renderer, hour: float) -> None:
    around = Surroundings("hour", hour=hour, turn=35.0, catches=False)
    scene = Scene((grey(),)).with_things("surroundings", (around,))
    picture = traced(scene, Order(SIZE, 64, clean=False))
    renderer.resize(*SIZE)
    renderer.draw(scene, CAMERA, STYLE)
    both = (picture[..., 3] > 0.99) & (renderer.read_normals()[..., 3] > 0.5)
    light = renderer.read_light()
    assert picture[both][:, :3].mean() == pytest.approx(light[both][:, :3].mean(), rel=0.10)
    # The sun comes from the same side.
    assert np.corrcoef(picture[both][:, 1], light[both][:, 1])[0, 1] > 0.95


@pytest.mark.parametrize("backdrop", some(["", "sweep"], 2))
def test_the_floor_gives_back_as_much_light_in_both(renderer: Renderer, backdrop: str) -> None:
    scene = under("three")
    lamp = Lamp("Sun", kind="sun", way=(0.0, 1.0, 0.3), strength=3.0)
    scene = scene.with_things("lamps", (lamp,))
    rows = {}
    for catches in (False, True):
        about = Surroundings(
            catches=catches, strength=0.2, backdrop=backdrop if catches else "", tone=(240, 150, 150)
        )
        lit = scene.with_things("surroundings", (about,))
        renderer.resize(*SIZE)
        renderer.draw(lit, CAMERA, STYLE)
        drawn = renderer.read_light()[..., :3]
        found = traced(lit, Order(SIZE, 256, clean=False))[..., :3]
        # Where the clay faces more of the floor than of the sky.
        low = (slice(40, 46), slice(44, 52))
        rows[catches] = drawn[low].mean(axis=(0, 1)), found[low].mean(axis=(0, 1))
    for with_floor, without in zip(rows[True], rows[False], strict=True):
        assert (with_floor > 1.15 * without).all()
        if backdrop:
            # A red floor reddens.
            assert with_floor[0] / with_floor[1] > 1.3 * without[0] / without[1]
    drawn, found = rows[True]
    assert np.allclose(drawn, found, rtol=0.1)


def test_the_same_seed_gives_the_same_picture() -> None:
    scene = under("three")
    one, again, other = (traced(scene, Order(SIZE, 4, seed)) for seed in (3, 3, 4))
    assert np.array_equal(one, again)
    assert not np.array_equal(one, other)


def test_without_noise_it_is_nearer_to_what_many_samples_show() -> None:
    scene = under("window", grey(rough=90))
    truth = traced(scene, Order(SIZE, 512, 9, clean=False))[..., :3]
    noisy, clean = (traced(scene, Order(SIZE, 4, 1, clean=clean))[..., :3] for clean in (False, True))
    assert np.abs(clean - truth).mean() < 0.6 * np.abs(noisy - truth).mean()


def test_a_lens_and_a_camera_without_perspective(context: moderngl.Context) -> None:
    scene = under("day")
    open_lens = replace(STYLE, finish=Finish(blurs=True, focus=(0.0, 0.0, 300.0), stop=0.7))
    sharp, soft = (traced(scene, Order(SIZE, 16), style) for style in (STYLE, open_lens))
    assert ((soft[..., 3] > 0.05) & (soft[..., 3] < 0.95)).mean() > 3 * (
        (sharp[..., 3] > 0.05) & (sharp[..., 3] < 0.95)
    ).mean()
    flat = traced(scene, Order(SIZE, 8), camera=replace(CAMERA, orthographic=True))
    # A ball of 60 mm: half of 2 x 60 by the height of the picture.
    assert (flat[..., 3] > 0.5).mean() == pytest.approx(
        np.pi * (60 / CAMERA.half_height() / 2) ** 2 * 0.75, rel=0.1
    )
    # What tells the denoiser of edges is as much out of focus.
    plain, blurred = (first_seen(scene, CAMERA, SIZE, style, context) for style in (STYLE, open_lens))
    assert plain.shape == (*SIZE[::-1], 6)
    assert np.abs(np.diff(blurred[..., 0], axis=1)).max() < 0.6 * np.abs(np.diff(plain[..., 0], axis=1)).max()


def test_fur_is_traced() -> None:
    part = grey(40)
    numbers = FurNumbers(count=3000, width=0.8, root=(0.9, 0.6, 0.2), tip=(0.9, 0.6, 0.2))
    fur = sown(part, part.mesh, None, numbers, "Fur", Progress())
    bald, furry = (
        traced(scene, Order(SIZE, 8, clean=False))
        for scene in (under("day", part), under("day", part).with_things("furs", (fur,)))
    )
    assert (furry[..., 3] > 0.5).sum() > (bald[..., 3] > 0.5).sum()
    inside = bald[..., 3] > 0.99
    assert furry[inside][:, 0].mean() > 1.3 * bald[inside][:, 0].mean()


def test_clear_clay_lets_through() -> None:
    part = grey(200)
    part.mesh.colour[:, 3] = 60
    assert traced(under("day", part), Order(SIZE, 8, clean=False))[36, 48, 3] < 0.7


def eyed(rough: int) -> Part:
    """A large eye that looks at the camera, with a clear cornea of some roughness before a dark iris."""
    part = Part("Eye", replace(Primitive("eye"), size=(120.0, 120.0, 120.0), clear=True).made().mesh())
    mesh = part.mesh
    assert mesh.colour is not None
    assert mesh.material is not None
    clear = mesh.colour[:, 3] < 100
    mesh.material[clear, 0] = rough
    return part


def test_a_cornea_bends_what_lies_behind_it() -> None:
    """Its iris is lit, and the pupil looks larger than where the cornea does not bend."""
    pupils = {}
    for rough in (10, 120):
        size, camera = (120, 90), Camera(distance=300.0)
        light = traced(under("window", eyed(rough)), Order(size, 24), STYLE, camera)[..., :3]
        y, x = np.mgrid[:90, :120]
        iris = np.hypot(x - 60, y - 45) < 18
        grey = np.ptp(light, axis=2) < 0.3 * light.max(axis=2)
        pupils[rough] = int((grey & iris).sum())
        # Light comes through the cornea to the iris, and out again.
        assert light[iris & ~grey].mean() > 0.04
    assert 1.2 < pupils[10] / pupils[120] < 2.5


def test_only_an_eye_is_handed_over_as_bending(tmp_path: Path) -> None:
    glass = grey(200, 5)
    glass.mesh.colour[:, 3] = 20  # type: ignore[index]
    for part, bends in ((eyed(10), True), (eyed(120), False), (glass, False), (grey(), False)):
        hand_over(tmp_path, under("day", part), CAMERA, STYLE, Order(SIZE, 1))
        (told,) = json.loads((tmp_path / "scene.json").read_text())["parts"]
        assert told["bends"] is bends


def test_it_ends_when_there_is_enough_and_rests_when_it_should() -> None:
    with tracing(under("three"), Order((320, 240), 60_000)) as one:
        one.begin()
        while one.now.samples < 2:
            one.wait(0.1)
        one.pause(True)
        assert one.paused
        rests = one.wait(0.6).samples
        assert one.wait(0.6).samples == rests
        one.enough()
        found = one.wait()
        assert 2 <= found.samples < 60_000
        assert found.picture is not None
        still = one.still(found)
        assert still.colours.shape == (240, 320, 4)
        # What lies behind is there, too.
        assert still.colours[5, 5, 3] == pytest.approx(1.0)
        assert still.colours[5, 5, :3].max() > 0.02


def test_a_lost_process_is_said_and_leaves_nothing() -> None:
    with tracing(under("three"), Order((320, 240), 60_000)) as one:
        one.begin()
        while one.now.samples < 1:
            one.wait(0.1)
        assert one._process is not None
        os.killpg(one._process.pid, signal.SIGKILL)
        with pytest.raises(TraceError, match=GONE):
            one.wait()
        # What was seen of it stays.
        assert one.now.picture is not None
        folder = one._folder
    assert not folder.exists()


@pytest.mark.parametrize(("where", "moment"), [(subprocess, "Popen"), (threading.Thread, "start")])
def test_one_ended_while_it_begins_leaves_nothing(
    monkeypatch: pytest.MonkeyPatch, where: object, moment: str
) -> None:
    mishaps: list[BaseException] = []

    def end() -> None:
        try:
            one.end()
        except BaseException as error:
            mishaps.append(error)

    ending = threading.Thread(target=end)
    made = getattr(where, moment)

    def begins(*words: object, **options: object) -> object:
        monkeypatch.undo()
        # Another thread ends it just now, as far as it gets.
        ending.start()
        ending.join(0.3)
        return made(*words, **options)

    with tracing(under("three"), Order((320, 240), 60_000)) as one:
        monkeypatch.setattr(where, moment, begins)
        one.begin()
        ending.join(10)
        process = one._process
        assert process is not None
        assert process.wait(10) == -signal.SIGKILL
        assert not one._folder.exists()
    assert mishaps == []


def test_a_process_that_nobody_waits_for_ends(tmp_path: Path) -> None:
    hand_over(tmp_path, under("three"), CAMERA, STYLE, Order((320, 240), 60_000, clean=False))
    # The one that begins it is gone at once.
    begin = (
        "import os, subprocess, sys; quiet = subprocess.DEVNULL; "
        "words = [sys.executable, '-m', 'kneten.render.tracer', sys.argv[1], str(os.getpid())]; "
        "print(subprocess.Popen(words, stdout=quiet, stderr=quiet).pid)"
    )
    words = [sys.executable, "-c", begin, str(tmp_path)]
    done = subprocess.run(words, capture_output=True, text=True, check=True, timeout=60)
    until = time.monotonic() + 60
    while Path(f"/proc/{int(done.stdout)}").exists() and time.monotonic() < until:
        time.sleep(0.1)
    assert not Path(f"/proc/{int(done.stdout)}").exists()
    assert not tmp_path.exists()


def test_a_missing_package_is_said(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "mitsuba.py").write_text("raise ImportError('it is not there')\n")
    (tmp_path / "pyoidn.py").write_text("raise ImportError('it is not there')\n")
    monkeypatch.syspath_prepend(str(tmp_path))
    with tracing(under("three"), Order(SIZE, 2)) as one:
        one.begin()
        with pytest.raises(TraceError, match="mitsuba"):
            one.wait()
    (tmp_path / "mitsuba.py").unlink()
    with tracing(under("three"), Order(SIZE, 2)) as one:
        one.begin()
        assert one.wait().samples == 2
        assert "pyoidn" in one.notices[0]


@pytest.mark.parametrize(
    "order", [Order((0, 10)), Order((10, 9000)), Order(SIZE, 0), Order(SIZE, seed=-1), Order(SIZE, depth=0)]
)
def test_what_cannot_be_traced_is_refused(order: Order) -> None:
    with pytest.raises(ValueError, match=r"\."):
        Tracing(under("three"), CAMERA, STYLE, order)


def test_where_nothing_can_be_written_is_said(monkeypatch: pytest.MonkeyPatch) -> None:
    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("kneten.render.tracing.hand_over", full)
    with tracing(under("three"), Order(SIZE, 2)) as one, pytest.raises(TraceError, match="No space"):
        one.begin()


@pytest.mark.parametrize("kind", ["sun", "panel", "point", "spot", "rim"])
def test_what_stands_for_a_lamp_gives_what_it_says(tmp_path: Path, kind: str) -> None:
    lamp = Lamp(
        "a", kind, (0.0, 0.0, 1.0), strength=0.5, distance=300.0, size=1.0, free=True, colour=(255, 255, 255)
    )
    scene = Scene((grey(),)).with_things("lamps", (lamp,))
    hand_over(tmp_path, scene, CAMERA, STYLE, Order(SIZE))
    lamps = json.loads((tmp_path / "scene.json").read_text())["lamps"]
    # A spot is many, all else is one.
    assert len(lamps) == (12 if kind == "spot" else 1)
    if kind == "spot":
        assert sum(one["intensity"][0] for one in lamps) == pytest.approx(0.5 * np.pi * 300.0**2)


def test_finished_light_is_as_bright_as_the_view_makes_it(context: moderngl.Context) -> None:
    light = np.full((40, 60, 4), 0.25, np.float32)
    light[..., 3] = 1
    plain = developed(light, CAMERA, replace(STYLE, finish=Finish(curve="straight")), context)
    assert np.abs(plain.colours[..., :3] - 0.5).max() < 0.005
    brighter = developed(
        light, CAMERA, replace(STYLE, finish=Finish(curve="straight", exposure=1.0)), context
    )
    assert np.abs(brighter.colours[..., :3] - np.sqrt(0.5)).max() < 0.005


def test_behind_is_the_ground_with_the_clays_shadow(context: moderngl.Context) -> None:
    lamp = Lamp("a", "sun", (0.2, 0.95, 0.2), size=1.0)
    around = Surroundings("even", 0.2, catches=True)
    scene = Scene((grey(),)).with_things("lamps", (lamp,)).with_things("surroundings", (around,))
    camera = replace(CAMERA, pitch=30.0)
    found = behind(scene, camera, SIZE, STYLE, context)
    assert found.shape == (*SIZE[::-1], 4)
    foot = camera.project(np.array([[0.0, scene.bounds()[0][1], 0.0]]), *SIZE)[0]
    at = (round(foot[1]), round(foot[0]))
    # No clay there, but its shadow.
    assert found[at][1] < 0.6 * found[at[0], 4, 1]
