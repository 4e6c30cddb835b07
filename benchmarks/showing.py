"""The look *Lit* on two million triangles, in software: pictures while the camera turns, a stroke's part of a picture, what each effect costs."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from benchmarks.measure import Figure, median_time, paired
from kneten.core.camera import Camera
from kneten.core.light.finish import Finish
from kneten.core.light.rigs import rig
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.document.look import Look
from kneten.document.scene import Part, Scene
from kneten.render.rects import box_rect
from kneten.render.renderer import Renderer
from kneten.render.still import headless_context
from kneten.render.style import Style

SIZE = (1280, 800)

TURNING = 15.0
"""Pictures a second while the camera turns, at the least."""

PARTIAL = 1 / 8
"""Of a whole picture, what a stroke's part of one takes at the most."""


def showing() -> Iterator[Figure]:
    """A ball of 2,000,000 triangles under key, fill and rim."""
    ctx = headless_context()
    renderer = Renderer(ctx)
    renderer.resize(*SIZE)
    try:
        yield from _figures(renderer)
    finally:
        renderer.release()
        ctx.release()


def _figures(renderer: Renderer) -> Iterator[Figure]:
    part = Part("Ball", Mesh.from_faces(*ball(100.0, 410)))
    scene = Scene((part,))
    lamps, around = rig("three", *scene.bounds())
    scene = scene.with_things("lamps", lamps).with_things("surroundings", (around,))
    camera = Camera(distance=520.0)
    lit, clay = Style(look=Look("lit")), Style(look=Look("clay"))

    def turn(style: Style, number: int) -> None:
        renderer.draw(scene, camera.turned(float(number), 0.0, np.zeros(3)), style, moving=True)
        renderer.ctx.finish()

    def whole(style: Style, seen: Scene = scene) -> None:
        renderer.draw(seen, camera, style)
        renderer.ctx.finish()

    whole(lit)
    a, b = paired(lambda n: turn(lit, n), lambda n: turn(clay, n), 15)
    note = f"{a * 1e3:.0f} ms a picture, {b * 1e3:.0f} ms in the look Clay"
    yield Figure("turning in Lit, 2 M triangles, 3 lamps", 1 / a, TURNING, "pictures/s", False, note)
    # What a brush of 12 mm can touch in a move.
    rect = box_rect(camera, np.array([-12, -12, 88, 12, 12, 101], np.float32), *SIZE)
    assert rect is not None
    whole(lit)
    c, d = paired(
        lambda _: (renderer.draw(scene, camera, lit, [rect]), renderer.ctx.finish()),
        lambda _: whole(lit),
        9,
    )
    note = f"{c * 1e3:.0f} ms / {d * 1e3:.0f} ms"
    yield Figure("a stroke's part of a picture in Lit / all of it", c / d, PARTIAL, "ratio", True, note)
    yield from _effects(whole, scene, lit)


def _effects(whole: object, scene: Scene, lit: Style) -> Iterator[Figure]:
    """What a whole picture takes with each effect, beside one without any."""
    assert callable(whole)
    bare = replace(lit, look=Look("lit", cavity=False, cover=False), effects=0)
    around = replace(scene.things("surroundings")[0], catches=False)
    plain = scene.with_things("surroundings", (around,))
    swept = scene.with_things("surroundings", (replace(around, backdrop="sweep"),))
    mirrors = scene.with_things("surroundings", (replace(around, mirror=0.6),))
    least = median_time(lambda _: whole(bare, plain), 5)
    shadows = replace(bare, effects=3)
    for name, style, seen in (
        ("shadows of lamps", shadows, plain),
        ("floor that catches", shadows, scene),
        ("backdrop", shadows, swept),
        ("floor that mirrors", shadows, mirrors),
        ("creases", replace(shadows, look=Look("lit", cover=False)), plain),
        ("occlusion", replace(shadows, look=Look("lit", cavity=False)), plain),
        ("bloom", replace(bare, finish=Finish(bloom=0.2)), plain),
        ("depth of field", replace(bare, finish=Finish(blurs=True, focus=(0, 0, 100), stop=1.4)), plain),
        ("grain and sharpening", replace(bare, finish=Finish(grain=0.2, sharpen=0.5)), plain),
    ):
        taken = median_time(lambda _, style=style, seen=seen: whole(style, seen), 5)
        note = f"{taken * 1e3:.0f} ms; without any effect {least * 1e3:.0f} ms"
        yield Figure(f"Lit at rest: {name} / none", taken / least, MOST_OF[name], "ratio", True, note)


MOST_OF = {
    "shadows of lamps": 6.0,
    "floor that catches": 9.0,
    "backdrop": 12.0,
    "floor that mirrors": 12.0,
    "creases": 8.0,
    "occlusion": 10.0,
    "bloom": 2.0,
    "depth of field": 6.0,
    "grain and sharpening": 2.0,
}
"""How many times as long as a picture without any effect one may take with each."""
