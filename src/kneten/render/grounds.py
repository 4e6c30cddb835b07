"""What lies behind the clay: a calm tone or the sky, and a floor with what falls on it."""

from __future__ import annotations

from dataclasses import replace

import moderngl
import numpy as np

from kneten.core.arrays import F64
from kneten.core.camera import Camera
from kneten.core.light.lamps import turned_to
from kneten.document.lighting import around, lamps_of
from kneten.document.scene import Scene
from kneten.render.frame import Frame
from kneten.render.programs import Programs, put
from kneten.render.rects import Rect
from kneten.render.shadow import DepthMap, floor_half

MIRROR_UNIT = 9


def mirrored_in(camera: Camera, high: float) -> Camera:
    """The camera as it is seen in a floor at a height: it shows upside down what the floor mirrors."""
    x, y, z = camera.target
    return replace(camera, target=(x, 2 * high - y, z), pitch=-camera.pitch, roll=-camera.roll)


def seen_in_mirror(scene: Scene, axes: F64) -> Scene:
    """A scene for a floor to mirror: without any floor, its rims where they are for a camera of such axes, rows of (3, 3)."""
    lamps = tuple(
        turned_to(replace(lamp, kind="sun"), lamp.towards(axes), axes) if lamp.kind == "rim" else lamp
        for lamp in lamps_of(scene)
    )
    about = replace(around(scene), catches=False, mirror=0.0, backdrop="")
    return scene.with_things("lamps", lamps).with_things("surroundings", (about,))


def has_floor(frame: Frame, moving: bool) -> bool:
    """Whether a floor is drawn: one that is not seen rests while things move."""
    light = frame.light
    caught = light is not None and light.around.has_floor and not moving
    return frame.style.look.floor or caught


def floor_rect(frame: Frame) -> Rect:
    """Where anything of the floor can be seen."""
    reach = 2.2 * floor_half(frame.low, frame.high)
    x, _, z = (frame.low + frame.high) / 2
    y = frame.low[1]
    box = np.array([x - reach, y, z - reach, x + reach, y, z + reach], np.float32)
    return frame.window.rect(frame.camera, box) or (0, 0, 0, 0)


def ground_program(
    programs: Programs,
    frame: Frame,
    heights: DepthMap | None,
    switches: dict[str, int],
    half: bool = False,
    mirrored: moderngl.Texture | None = None,
) -> moderngl.Program:
    """The program of what lies behind; of the floor as well where its map of heights is given; with `half` for every second pixel, with what it mirrors.

    `switches` are those of the light, which has still to be told to it.
    """
    style, light = frame.style, frame.light
    sweep = None if light is None or style.clear_ground else light.sweep()
    shown = light is not None and light.around.shown and not style.clear_ground
    lit = 0 if light is None else 3 if sweep is not None else 2 if shown else 1
    program = programs.screen(
        "ground",
        FLOOR=int(heights is not None),
        LIT=lit,
        HALF=int(half),
        MIRROR=int(mirrored is not None),
        **switches,
    )
    if mirrored is not None and light is not None:
        mirrored.use(MIRROR_UNIT)
        put(
            program,
            mirrored=MIRROR_UNIT,
            mirror_share=light.around.mirror,
            shadow_share=float(light.around.catches),
        )
    ground = style.behind
    if light is not None:
        put(program, scene_from_clip=np.linalg.inv(frame.clip), sky_blur=light.around.blur)
    if light is not None and sweep is not None:
        tone = (np.array(light.around.tone) / 255) ** 2
        x, y, z = sweep.middle.tolist()
        put(
            program,
            sweep_middle=(x, y, z),
            sweep_back=(float(sweep.back[0]), float(sweep.back[2])),
            sweep_wall=(sweep.wall, sweep.bend),
            sweep_tone=tuple(tone.tolist()),
        )
    put(
        program,
        size=frame.window.size,
        corner=frame.window.corner,
        whole=frame.window.whole,
        ground_middle=ground.middle,
        ground_rim=ground.rim,
        clear_ground=float(style.clear_ground),
    )
    if heights is not None:
        low, high = frame.low, frame.high
        half_wide = floor_half(low, high)
        middle = (low + high) / 2
        heights.texture.use(0)
        put(
            program,
            heights=0,
            floor_grid=float(style.look.floor),
            scene_from_clip=np.linalg.inv(frame.clip),
            floor_line=ground.line,
            floor_place=(float(low[1]), float(middle[0]), float(middle[2]), half_wide),
            floor_step=grid_step(half_wide),
            floor_high=float(high[1] - low[1]) * 1.01 + 1e-6,
        )
    return program


def round_length(length: float) -> float:
    """1, 2 or 5 times a power of ten, not above a length."""
    power = 10.0 ** np.floor(np.log10(max(length, 1e-9)))
    return float(power * max(m for m in (1.0, 2.0, 5.0) if m * power <= length * 1.0001))


def grid_step(half: float) -> float:
    """Millimetres between lines of the floor's grid: about forty across the map."""
    return round_length(half / 20)
