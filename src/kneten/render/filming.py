"""Pictures of a project with their finish, films of a turntable and of the work."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace

import moderngl
import numpy as np

from kneten.core.arrays import F32, U8, Progress
from kneten.core.camera import Camera
from kneten.core.light.finish import Finish
from kneten.core.light.reel import Framing, Reel
from kneten.core.light.turntable import Turntable
from kneten.document.lighting import in_light_of
from kneten.document.look import Look
from kneten.document.picturing import finish_of, table_of
from kneten.document.reel import Player
from kneten.document.scene import Scene
from kneten.render.develop import Developer, Negative
from kneten.render.frame import Window
from kneten.render.programs import Programs
from kneten.render.renderer import Renderer
from kneten.render.still import Still, draw_still, drawing_in
from kneten.render.style import ALL_EFFECTS, Style


def finished(style: Style, scene: Scene, shot_id: str = "") -> Style:
    """A style with the finish of a scene's camera, or of its view."""
    finish = finish_of(scene, shot_id)
    return replace(style, finish=finish, table=table_of(scene, finish))


def turntable_frames(
    scene: Scene,
    camera: Camera,
    table: Turntable,
    size: tuple[int, int],
    style: Style,
    progress: Progress | None = None,
    only: range | None = None,
) -> Iterator[U8]:
    """The pictures of a turntable, or some of them, (h, w, 3) each, drawn at twice the size and averaged down. Raises `StillError`."""
    low, high = scene.bounds()
    cameras = table.cameras(camera, (low + high) / 2)
    if only is not None:
        cameras = [cameras[k] for k in only]
    yield from _filmed(((scene, one) for one in cameras), len(cameras), size, style, progress)


def reel_frames(
    player: Player,
    scene: Scene,
    camera: Camera,
    reel: Reel,
    size: tuple[int, int],
    style: Style,
    progress: Progress | None = None,
) -> Iterator[U8]:
    """The pictures of a reel, (h, w, 3) each: the work as it was played, in the light and to the end of `scene`. Raises `StillError`."""
    steps = reel.steps(max(player.steps, 1))
    framing = Framing(*scene.bounds(), reel.pace)
    ends = len(steps) - round(reel.rest * reel.pace)

    def seen() -> Iterator[tuple[Scene, Camera]]:
        there = scene
        for k, step in enumerate(steps.tolist()):
            parts = player.parts_at(step) if k + 1 < ends else ()
            there = in_light_of(scene, parts) if parts else scene
            yield there, reel.camera(camera, k, *framing.follow(*there.bounds()))

    yield from _filmed(seen(), len(steps), size, style, progress)


def _filmed(
    shown: Iterable[tuple[Scene, Camera]],
    count: int,
    size: tuple[int, int],
    style: Style,
    progress: Progress | None,
) -> Iterator[U8]:
    """Pictures of scenes from cameras; what stands still is drawn once."""
    style = replace(style, effects=ALL_EFFECTS, clear_ground=False)
    width, height = (max(n // 2 * 2, 2) for n in size)
    last: tuple[Scene, Camera, U8] | None = None
    with drawing_in(None) as ctx:
        renderer = Renderer(ctx)
        try:
            renderer.resize(2 * width, 2 * height, 2 * height / 800)
            for k, (scene, camera) in enumerate(shown):
                if progress is not None:
                    progress.report(k / count, f"Picture {k + 1} of {count}")
                if last is None or last[0] is not scene or last[1] != camera:
                    renderer.draw(scene, camera, style)
                    pixels = renderer.read()[..., :3].astype(np.uint16)
                    means = (pixels.reshape(height, 2, width, 2, 3).sum(axis=(1, 3)) + 2) // 4
                    last = (scene, camera, means.astype(np.uint8))
                yield last[2]
        finally:
            renderer.release()


def developed(light: F32, camera: Camera, style: Style, ctx: moderngl.Context | None = None) -> Still:
    """A picture's light, (h, w, 4) with alpha, by which it is multiplied, with its finish; what is out of focus is so already.

    Raises `StillError`.
    """
    height, width = light.shape[:2]
    codes = light.astype(np.float32)
    codes[..., :3] = np.sqrt(np.maximum(light[..., :3] * light[..., 3:], 0))
    finish = replace(style.finish, blurs=False)
    with drawing_in(ctx) as drawing:
        programs = Programs(drawing)
        developer = Developer(drawing, programs, (width, height), True)
        picture = drawing.texture(
            (width, height), 4, np.ascontiguousarray(codes[::-1], np.float32).tobytes(), dtype="f4"
        )
        depths = drawing.depth_texture((width, height))
        try:
            picture.repeat_x = picture.repeat_y = False
            window = Window.of(width, height)
            negative = Negative(picture, depths, (1.0, 0.0, 1.0, 0.0), camera, window, height / 800)
            developer.bloom(negative, finish)
            developer.develop(negative, finish, style.table, (0, 0, width, height))
            data = developer.target.read(components=4, dtype="f2")
        finally:
            for thing in (picture, depths, developer, programs):
                thing.release()
    colours = np.frombuffer(data, np.float16).reshape(height, width, 4)[::-1].astype(np.float32)
    return Still(colours, light)


def behind(
    scene: Scene, camera: Camera, size: tuple[int, int], style: Style, ctx: moderngl.Context | None = None
) -> F32:
    """What lies behind the clay with the shadows that fall on it, as light (h, w, 4). Raises `StillError`."""
    look = replace(style.look, kind="lit", outline=False, wires=False, xray=False, ghost=False, floor=False)
    ground = replace(style, look=look, only_ground=True, finish=Finish())
    return draw_still(scene, camera, *size, ground, ctx=ctx).light


def first_seen(
    scene: Scene, camera: Camera, size: tuple[int, int], style: Style, ctx: moderngl.Context | None = None
) -> F32:
    """Colours and normals of what is seen, (h, w, 6), as much out of focus as the picture: they tell a denoiser of edges.

    Raises `StillError`.
    """
    with drawing_in(ctx) as drawing:
        look = Look("flat", cavity=False, cover=False)
        plain = replace(style, look=look, clear_ground=True, finish=Finish())
        found = draw_still(scene, camera, *size, plain, ("colour", "normal", "depth"), drawing).passes
        seen: F32 = np.concatenate([found["colour"], found["normal"]], axis=2).astype(np.float32)
        if style.finish.lens(camera) <= 0:
            return seen
        programs = Programs(drawing)
        try:
            halves = (np.asarray(seen[..., :3]), np.asarray(seen[..., 3:] / 2 + 0.5, np.float32))
            colour, normal = (
                _out_of_focus(one, found["depth"], camera, style.finish, drawing, programs) for one in halves
            )
        finally:
            programs.release()
    return np.concatenate([colour, normal * 2 - 1], axis=2).astype(np.float32)


def _out_of_focus(
    picture: F32, depth: F32, camera: Camera, finish: Finish, ctx: moderngl.Context, programs: Programs
) -> F32:
    """A picture (h, w, 3) as a lens sees it that is focused; (h, w) is how far before the eye it lies."""
    height, width = depth.shape
    near = depth[np.isfinite(depth)]
    far = float(near.max()) * 2 if near.size else 1.0
    codes = np.ones((height, width, 4), np.float32)
    codes[..., :3] = np.sqrt(np.clip(picture, 0, None))
    deep = np.minimum(depth / far, 1.0).astype(np.float32)
    developer = Developer(ctx, programs, (width, height), True)
    texture = ctx.texture((width, height), 4, np.ascontiguousarray(codes[::-1]).tobytes(), dtype="f4")
    depths = ctx.depth_texture((width, height), np.ascontiguousarray(deep[::-1]).tobytes())
    try:
        texture.repeat_x = texture.repeat_y = False
        depths.compare_func = ""
        depths.filter = (moderngl.NEAREST, moderngl.NEAREST)
        window = Window.of(width, height)
        negative = Negative(texture, depths, (0.0, far, 1.0, 0.0), camera, window, height / 800)
        developer.focus(negative, finish)
        developer.blur(negative, finish, (0, 0, width, height))
        found = developer.read_blurred()
    finally:
        for thing in (texture, depths, developer):
            thing.release()
    return np.asarray(found[..., :3] ** 2)
