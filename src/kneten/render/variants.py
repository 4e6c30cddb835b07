"""Variants side by side: the same view of several scenes, as one picture and as a series."""

from __future__ import annotations

import importlib.resources
from collections.abc import Iterable

from PIL import Image, ImageDraw, ImageFont

from kneten.core.arrays import Progress
from kneten.core.camera import Camera
from kneten.document.scene import Scene
from kneten.render.still import headless_context, render_still
from kneten.render.style import Style

MOST_ACROSS = 4
"""Pictures in a row at most."""

LABEL = 0.06
"""How high a name is, of a picture's height."""


def drawn_variants(
    scenes: Iterable[tuple[str, Scene]],
    count: int,
    camera: Camera,
    style: Style,
    size: tuple[int, int],
    progress: Progress,
) -> list[tuple[str, Image.Image]]:
    """Pictures of scenes, each with its name, one after the other in one context.

    Parameters
    ----------
    count : int
        How many there are.
    size : two ints
        Width and height of each in pixels.

    Raises
    ------
    StillError
        For a useless size, or without OpenGL.
    """
    ctx = headless_context()
    try:
        drawn = []
        for done, (name, scene) in enumerate(scenes):
            progress.report(done / max(count, 1), name)
            drawn.append((name, render_still(scene, camera, *size, style, ctx)))
        return drawn
    finally:
        # A thread that ends with its context bound never gives back what the driver holds for it.
        ctx.__exit__(None, None, None)  # type: ignore[no-untyped-call]
        ctx.release()


def sheet_of(drawn: list[tuple[str, Image.Image]], style: Style) -> Image.Image:
    """Pictures of one size side by side, in rows, the name of each below it."""
    wide, high = drawn[0][1].size
    across = min(len(drawn), MOST_ACROSS)
    rows = -(-len(drawn) // across)
    label = max(round(LABEL * high), 12)
    ground = tuple(round(255 * share) for share in style.ground.rim)
    ink = tuple(round(255 * share) for share in style.ground.line)
    sheet = Image.new("RGB", (across * wide, rows * (high + label)), ground)
    font = importlib.resources.files("kneten") / "data" / "fonts" / "Lato-Regular.ttf"
    with importlib.resources.as_file(font) as path:
        letters = ImageFont.truetype(str(path), round(0.62 * label))
    pen = ImageDraw.Draw(sheet)
    for place, (name, image) in enumerate(drawn):
        row, column = divmod(place, across)
        x, y = column * wide, row * (high + label)
        sheet.paste(image.convert("RGB"), (x, y))
        while name and pen.textlength(name, letters) > 0.94 * wide:
            name = name[:-2] + "…" if len(name) > 2 else ""
        pen.text((x + wide / 2, y + high + label / 2), name, ink, letters, anchor="mm")
    return sheet
