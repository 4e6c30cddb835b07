"""Pictures of a project with their finish, and films of a turntable."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from kneten.core.arrays import U8, Progress
from kneten.core.camera import Camera
from kneten.core.light.turntable import Turntable
from kneten.document.picturing import finish_of, table_of
from kneten.document.scene import Scene
from kneten.render.renderer import Renderer
from kneten.render.still import drawing_in
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
) -> Iterator[U8]:
    """The pictures of a turntable, (h, w, 3) each, drawn at twice the size and averaged down. Raises `StillError`."""
    low, high = scene.bounds()
    cameras = table.cameras(camera, (low + high) / 2)
    style = replace(style, effects=ALL_EFFECTS, clear_ground=False)
    width, height = (max(n // 2 * 2, 2) for n in size)
    last: tuple[Camera, U8] | None = None
    with drawing_in(None) as ctx:
        renderer = Renderer(ctx)
        try:
            renderer.resize(2 * width, 2 * height, 2 * height / 800)
            for k, one in enumerate(cameras):
                if progress is not None:
                    progress.report(k / len(cameras), f"Picture {k + 1} of {len(cameras)}")
                if last is None or last[0] != one:
                    # What stands still is drawn once.
                    renderer.draw(scene, one, style)
                    pixels = renderer.read()[..., :3].astype(np.uint16)
                    means = (pixels.reshape(height, 2, width, 2, 3).sum(axis=(1, 3)) + 2) // 4
                    last = (one, means.astype(np.uint8))
                yield last[1]
        finally:
            renderer.release()
