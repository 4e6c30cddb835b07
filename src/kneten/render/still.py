"""Pictures without a window: stills at any size, thumbnails."""

from __future__ import annotations

import io
from dataclasses import replace

import moderngl
import numpy as np
from PIL import Image

from kneten.core.camera import Camera
from kneten.document.scene import Scene
from kneten.render.renderer import Renderer
from kneten.render.style import ALL_EFFECTS, Style

LARGEST = 16384
"""Pixels along a side; what every OpenGL 3.3 driver in use can hold."""


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


def render_still(
    scene: Scene,
    camera: Camera,
    width: int,
    height: int,
    style: Style | None = None,
    ctx: moderngl.Context | None = None,
) -> Image.Image:
    """A clean picture of the scene: no cursor, no overlays, every effect on.

    Drawn at twice the size and averaged down where the size allows.

    Raises
    ------
    StillError
        For a useless size, or without OpenGL.
    """
    if not (1 <= width <= LARGEST and 1 <= height <= LARGEST):
        raise StillError(f"a picture's sides must be between 1 and {LARGEST} pixels")
    drawing = ctx or headless_context()
    renderer = Renderer(drawing)
    try:
        factor = 2 if 2 * max(width, height) <= LARGEST and width * height <= 40_000_000 else 1
        # Creases keep their width relative to the picture, not to its pixels.
        renderer.resize(width * factor, height * factor, factor * height / 800)
        style = replace(style or Style(), effects=ALL_EFFECTS)
        renderer.draw(scene, camera, style)
        pixels = renderer.read()
    finally:
        renderer.release()
        if ctx is None:
            # A thread that ends with its context bound never gives back what the driver holds for it.
            drawing.__exit__(None, None, None)  # type: ignore[no-untyped-call]
            drawing.release()
    image = Image.fromarray(pixels, "RGBA")
    if factor > 1:
        # Pillow's box filter works on premultiplied values, which is how the picture is drawn.
        image = image.resize((width, height), Image.Resampling.BOX)
    if not style.clear_ground:
        return image.convert("RGB")
    return _unmultiplied(image)


def _unmultiplied(image: Image.Image) -> Image.Image:
    values = np.asarray(image).astype(np.float32)
    alpha = values[..., 3:4] / 255
    values[..., :3] = np.divide(values[..., :3], alpha, out=np.zeros_like(values[..., :3]), where=alpha > 0)
    return Image.fromarray(np.clip(np.rint(values), 0, 255).astype(np.uint8), "RGBA")


def encoded(image: Image.Image, kind: str = "PNG") -> bytes:
    """The image as the bytes of a file."""
    out = io.BytesIO()
    if kind == "JPEG":
        image.convert("RGB").save(out, kind, quality=93, subsampling=0)
    else:
        image.save(out, kind)
    return out.getvalue()
