"""Pictures without a window: stills at any size, in tiles where they are large, with passes; thumbnails."""

from __future__ import annotations

import io
import itertools
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace

import moderngl
import numpy as np
from PIL import Image

from kneten.core.arrays import F32, Progress
from kneten.core.camera import Camera
from kneten.core.light.finish import unmultiplied
from kneten.document.look import Look
from kneten.document.scene import Scene
from kneten.render.frame import Window
from kneten.render.renderer import Renderer
from kneten.render.style import ALL_EFFECTS, Style

LARGEST = 16384
"""Pixels along a side."""

TILE = 2048
"""Pixels along a side of what is drawn at once; more would be more than some cards hold."""

FINER = 2
"""Each pixel is the mean of so many each way."""

PASSES: dict[str, tuple[str, str]] = {
    "colour": ("Colour", "What is painted, without light"),
    "light": ("Light", "The picture over its colours: times these it is the picture again"),
    "shadow": ("Shadow", "How much of the light shadows leave"),
    "occlusion": ("Occlusion", "How much of its surroundings each place sees"),
    "depth": ("Depth", "Millimetres before the eye"),
    "normal": ("Normals", "Which way the clay faces, in the scene"),
    "id": ("Parts", "The number of the part, counted from 1"),
    "mask": ("Mask", "1 where there is clay"),
}
"""What a picture can be taken apart into."""


class StillError(Exception):
    """A picture cannot be made. The text says why."""


def headless_context() -> moderngl.Context:
    """An OpenGL context without window or display. Raises `StillError`."""
    try:
        return moderngl.create_standalone_context(require=330, backend="egl")  # type: ignore[arg-type]
    except Exception as error:
        raise StillError(
            "no OpenGL without a window (install libegl1 and libgl1-mesa-dri): " + str(error)
        ) from error


@contextmanager
def drawing_in(ctx: moderngl.Context | None) -> Iterator[moderngl.Context]:
    """A context to draw in: the one that is given, or one of its own that is gone afterwards."""
    drawing = ctx or headless_context()
    # Another one may have been made in this thread since.
    drawing.__enter__()  # type: ignore[no-untyped-call]
    try:
        yield drawing
    finally:
        if ctx is None:
            # A thread that ends with its context bound never gives back what the driver holds for it.
            drawing.__exit__(None, None, None)  # type: ignore[no-untyped-call]
            drawing.release()


@dataclass(eq=False)
class Still:
    """A picture with all that it was taken apart into.

    Attributes
    ----------
    colours : (h, w, 4) float32
        Codes of a screen, 0 to 1, multiplied by alpha, top row first.
    light : (h, w, 4) float32
        The light before its finish, multiplied by alpha.
    passes : dict
        By keys of `PASSES`: (h, w) or (h, w, 3) float32.
    made_of : str
        The numbers that made it, as they are kept in its file; "" for none.
    """

    colours: F32
    light: F32
    passes: dict[str, F32] = field(default_factory=dict)
    made_of: str = ""

    def image(self, clear: bool = False) -> Image.Image:
        """As a picture with eight bits for each colour."""
        codes = np.clip(np.rint(self.colours * 255), 0, 255).astype(np.uint8)
        if not clear:
            return Image.fromarray(codes[..., :3], "RGB")
        return Image.fromarray(
            np.clip(np.rint(unmultiplied(self.colours) * 255), 0, 255).astype(np.uint8), "RGBA"
        )


def draw_still(
    scene: Scene,
    camera: Camera,
    width: int,
    height: int,
    style: Style | None = None,
    passes: Sequence[str] = (),
    ctx: moderngl.Context | None = None,
    progress: Progress | None = None,
) -> Still:
    """A clean picture of the scene: no cursor, no overlays, every effect on.

    Drawn at twice the size and averaged down; in tiles, whose seams do not show, where that is large.

    Raises
    ------
    StillError
        For a useless size, or without OpenGL.
    """
    (drawn,) = draw_stills(scene, [camera], (width, height), style, passes, ctx, progress)
    return drawn


def draw_stills(
    scene: Scene,
    cameras: Iterable[Camera],
    size: tuple[int, int],
    style: Style | None = None,
    passes: Sequence[str] = (),
    ctx: moderngl.Context | None = None,
    progress: Progress | None = None,
) -> list[Still]:
    """Clean pictures of one scene through several cameras, (width, height) each, as `draw_still` has them: its clay is handed over once.

    Raises
    ------
    StillError
        For a useless size, or without OpenGL.
    """
    if not all(1 <= side <= LARGEST for side in size):
        raise StillError(f"a picture's sides must be between 1 and {LARGEST} pixels")
    style = replace(style or Style(), effects=ALL_EFFECTS)
    with drawing_in(ctx) as drawing:
        renderer = Renderer(drawing)
        renderer.fine = True
        try:
            return [_drawn(renderer, scene, one, size, style, passes, progress) for one in cameras]
        finally:
            renderer.release()


def _drawn(
    renderer: Renderer,
    scene: Scene,
    camera: Camera,
    size: tuple[int, int],
    style: Style,
    passes: Sequence[str],
    progress: Progress | None,
) -> Still:
    width, height = size
    # Creases keep their width relative to the picture, not to its pixels.
    scale = FINER * height / 800
    whole = (width * FINER, height * FINER)
    at_once = max(whole) <= TILE
    still = Still(np.zeros((height, width, 4), np.float32), np.zeros((height, width, 4), np.float32))
    blooming = None
    if not at_once and style.finish.bloom > 0:
        blooming = Renderer(renderer.ctx, renderer.shelf, renderer.programs)
        small = TILE / max(whole)
        blooming.resize(max(round(whole[0] * small), 1), max(round(whole[1] * small), 1), scale * small)
        blooming.draw(scene, camera, style)
        renderer.spread = blooming.spreading
    try:
        room = 0 if at_once else int(np.ceil(renderer.margin(style, scale) / FINER)) * FINER
        step = max(TILE - 2 * room, TILE // 2) // FINER * FINER
        corners = list(itertools.product(range(0, whole[1], step), range(0, whole[0], step)))
        for k, (low, left) in enumerate(corners):
            if progress is not None:
                progress.report(k / len(corners), "Drawing")
            right, high = min(left + step, whole[0]), min(low + step, whole[1])
            x, y = max(left - room, 0), max(low - room, 0)
            tile = (min(right + room, whole[0]) - x, min(high + room, whole[1]) - y)
            renderer.resize(*tile, scale, Window(tile, (x, y), whole))
            # Rows of the tile from the top, those of the margin left out.
            rows = slice(tile[1] - (high - y), tile[1] - (low - y))
            columns = slice(left - x, right - x)
            into = (
                slice(height - high // FINER, height - low // FINER),
                slice(left // FINER, right // FINER),
            )
            _draw_tile(renderer, scene, camera, style, passes, still, (rows, columns), into)
    finally:
        if blooming is not None:
            blooming.release()
    return still


def _mean(pixels: F32) -> F32:
    """Pixels (h, w, ...) that are `FINER` times smaller each way."""
    h, w, *more = pixels.shape
    blocks = pixels.reshape(h // FINER, FINER, w // FINER, FINER, *more)
    return np.asarray(blocks.mean(axis=(1, 3), dtype=np.float32))


def _draw_tile(
    renderer: Renderer,
    scene: Scene,
    camera: Camera,
    style: Style,
    passes: Sequence[str],
    still: Still,
    part: tuple[slice, slice],
    into: tuple[slice, slice],
) -> None:
    """Draw one tile of a still and all that it is taken apart into."""
    rows, columns = part
    # Numbers of parts are read from what is drawn first.
    numbers = {one.id: float(k + 1) for k, one in enumerate(p for p in scene.parts if p.visible)}
    renderer.draw(scene, camera, style)
    still.colours[into] = _mean(renderer.read().astype(np.float32)[rows, columns])
    light = _mean(renderer.read_light()[rows, columns])
    still.light[into] = light

    def put(name: str, found: F32) -> None:
        if name not in still.passes:
            still.passes[name] = np.zeros((*still.light.shape[:2], *found.shape[2:]), np.float32)
        still.passes[name][into] = found

    if "shadow" in passes:
        put("shadow", _shadow(renderer, scene, camera, style)[rows, columns][::FINER, ::FINER])
    if {"colour", "light"} & set(passes):
        bare = replace(style, look=Look("flat", cavity=False, cover=False), clear_ground=True)
        renderer.draw(scene, camera, bare)
        colour = _mean(renderer.read_light()[rows, columns])
        if "colour" in passes:
            put("colour", colour[..., :3])
        if "light" in passes:
            put("light", (light[..., :3] / np.maximum(colour[..., :3], 1e-4)).astype(np.float32))
    if "occlusion" in passes:
        renderer.draw(
            scene, camera, replace(style, look=Look("open", cavity=False, cover=True), clear_ground=True)
        )
        found = _mean(renderer.read_light()[rows, columns])
        put("occlusion", np.where(found[..., 3] > 0, found[..., 0], 1.0).astype(np.float32))
    if {"depth", "normal", "id", "mask"} & set(passes):
        plain = replace(style, look=Look("flat", cavity=False, cover=False), marks=numbers, clear_ground=True)
        renderer.draw(scene, camera, plain)
        normals = renderer.read_normals()[rows, columns]
        if "mask" in passes:
            put("mask", _mean((normals[..., 3] > 0.5).astype(np.float32)))
        # What cannot be averaged is that of one pixel of each block.
        one = normals[::FINER, ::FINER]
        if "depth" in passes:
            put("depth", np.asarray(renderer.read_depths()[rows, columns][::FINER, ::FINER]))
        if "normal" in passes:
            put("normal", (one[..., :3] @ camera.axes().astype(np.float32)).astype(np.float32))
        if "id" in passes:
            put("id", np.rint(one[..., 3]).astype(np.float32))


def _shadow(renderer: Renderer, scene: Scene, camera: Camera, style: Style) -> F32:
    """How much of the light, (h, w), shadows leave: lit with them over without."""
    with_them = renderer.read_light()
    renderer.draw(scene, camera, replace(style, effects=0))
    without = renderer.read_light()
    bright = np.array([0.2126, 0.7152, 0.0722], np.float32)
    lit, whole = with_them[..., :3] @ bright, without[..., :3] @ bright
    share = np.divide(lit, whole, out=np.ones_like(lit), where=whole > 1e-5)
    return np.clip(share, 0, 1).astype(np.float32)


def render_still(
    scene: Scene,
    camera: Camera,
    width: int,
    height: int,
    style: Style | None = None,
    ctx: moderngl.Context | None = None,
) -> Image.Image:
    """A clean picture as `draw_still` makes it, with eight bits for each colour. Raises `StillError`."""
    still = draw_still(scene, camera, width, height, style, ctx=ctx)
    return still.image(style is not None and style.clear_ground)


def encoded(image: Image.Image, kind: str = "PNG") -> bytes:
    """The image as the bytes of a file."""
    out = io.BytesIO()
    if kind == "JPEG":
        image.convert("RGB").save(out, kind, quality=93, subsampling=0)
    else:
        image.save(out, kind)
    return out.getvalue()
