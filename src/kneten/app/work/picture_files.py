"""Stills to files."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from kneten.core.arrays import Progress
from kneten.core.camera import Camera
from kneten.document.scene import Scene
from kneten.formats.pictures import picture_ending, write_layers, write_picture
from kneten.render.still import Still, draw_still
from kneten.render.style import Style


def write_still(
    path: Path, still: Still, passes: Sequence[str] = (), fine: bool = False, clear: bool = False
) -> list[Path]:
    """Write a still by its ending; what was written.

    Its passes are layers of an OpenEXR file; beside any other they have files of their own, such as *still depth.exr*.
    Raises `FormatError`.
    """
    if path.suffix.lower() == ".exr" and passes:
        light = still.light if clear else still.light[..., :3]
        layers = {"": light, **{name: still.passes[name] for name in passes}}
        write_layers(path, layers, still.made_of)
        return [path]
    write_picture(path, still.colours, still.light, fine, clear, still.made_of)
    written = [path]
    for name in passes:
        other = path.with_name(f"{path.stem} {name}.exr")
        write_layers(other, {"": still.passes[name]})
        written.append(other)
    return written


def draw_and_write(
    path: Path,
    scene: Scene,
    camera: Camera,
    size: tuple[int, int],
    style: Style,
    passes: Sequence[str] = (),
    fine: bool = False,
    progress: Progress | None = None,
) -> list[Path]:
    """Draw a still and write it; what was written. Raises `StillError` and `FormatError`."""
    picture_ending(path)
    still = draw_still(scene, camera, *size, style, passes, progress=progress)
    return write_still(path, still, passes, fine, style.clear_ground)
