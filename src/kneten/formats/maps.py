"""Maps to files: PNG of 8 and 16 bits, OpenEXR for lengths, and a page of numbers beside them."""

from __future__ import annotations

import io
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
import png
from PIL import Image

from kneten.core.arrays import U8, AnyArray, Progress
from kneten.core.maps.bake import MAPS, Baked, as_bytes
from kneten.document.arrays_file import ProjectFileError, explain, replacing
from kneten.document.mapping import Made
from kneten.document.things import KeptMap
from kneten.formats.heights import write_exr
from kneten.formats.pieces import FormatError


def as_png(picture: AnyArray) -> bytes:
    """A map (h, w, 1 or 3) as a PNG of eight bits."""
    out = io.BytesIO()
    table = as_bytes(picture)
    Image.fromarray(table[:, :, 0] if table.shape[2] == 1 else table).save(out, "PNG", compress_level=6)
    return out.getvalue()


def from_png(data: bytes | U8) -> U8:
    """A kept map's pixels, (h, w, 1 or 3)."""
    with Image.open(io.BytesIO(bytes(data))) as image:
        table = np.asarray(image)
    return np.ascontiguousarray(table if table.ndim == 3 else table[:, :, None])


def decoded(kept: Mapping[tuple[int, int], Mapping[str, KeptMap]]) -> dict[tuple[int, int], dict[str, U8]]:
    """Kept maps' pixels, (h, w, 1 or 3) each, by their tiles and keys."""
    return {tile: {key: from_png(one.data) for key, one in maps.items()} for tile, maps in kept.items()}


def write_png(path: Path, picture: AnyArray) -> None:
    """Write a map (h, w, 1 or 3), uint8 or uint16, at once or not at all. Raises `FormatError`."""
    high, wide, bands = picture.shape
    depth = 16 if picture.dtype == np.uint16 else 8
    writer = png.Writer(wide, high, greyscale=bands == 1, bitdepth=depth, compression=4)
    try:
        with replacing(path) as file:
            writer.write(file, picture.reshape(high, wide * bands))
    except ProjectFileError as error:
        raise FormatError(str(error)) from error


def tile_number(tile: tuple[int, int]) -> int:
    """The number that files of a tile carry: 1001 for the first, ten in a row."""
    return 1001 + tile[0] + 10 * tile[1]


def write_maps(folder: Path, name: str, made: Made, progress: Progress) -> list[Path]:
    """Write all maps of a bake to a folder, which is made where there is none; the files that were written.

    Lengths are OpenEXR, in millimetres; displacement is a PNG of 16 bits besides, grey where it is nought, and the page of
    numbers says what black and white stand for.

    Raises
    ------
    FormatError
        With words for the user.
    Cancelled
        Through `progress`.
    """
    stem = "".join(c if c.isalnum() or c in "-_ " else "_" for c in name).strip() or "part"
    stem = "_".join(stem.split())
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FormatError(explain(error, folder)) from error
    written: list[Path] = []
    page: dict[str, Any] = {"part": name, "size": made.wish.size, "unit": "mm", "up": "v", "maps": {}}
    many = len(made.tiles) > 1
    count = sum(len(one.pictures) for one in made.tiles)
    for one in made.tiles:
        for key, picture in one.pictures.items():
            progress.report(len(written) / max(count, 1), f"Writing {MAPS[key].name.lower()}")
            number = f".{tile_number(one.tile)}" if many else ""
            base = folder / f"{stem}_{key}{number}"
            written += _one(base, key, picture, one, page)
    try:
        with replacing(folder / f"{stem}_maps.json") as file:
            file.write(json.dumps(page, indent=2).encode())
    except ProjectFileError as error:
        raise FormatError(str(error)) from error
    return [*written, folder / f"{stem}_maps.json"]


def _one(base: Path, key: str, picture: AnyArray, tile: Baked, page: dict[str, Any]) -> list[Path]:
    """Write one map; the files."""
    files = []
    words: dict[str, Any] = {"tile": tile_number(tile.tile), "what": MAPS[key].does}
    if MAPS[key].kind == "length":
        names = ["Y"] if MAPS[key].channels == 1 else ["R", "G", "B"]
        channels = {band: picture[:, :, c] for c, band in enumerate(names)}
        path = base.with_name(base.name + ".exr")
        part = path.with_name(f".{path.name}.part")
        try:
            write_exr(part, channels, [("comments", "lengths in millimetres")])
            part.replace(path)
        except (OSError, RuntimeError) as error:
            part.unlink(missing_ok=True)
            raise FormatError(
                explain(error, path) if isinstance(error, OSError) else f"{path.name}: {error}"
            ) from error
        files.append(path)
        if key == "displacement":
            most = max(tile.most, 1e-9)
            codes = np.rint(np.clip(0.5 + 0.5 * picture / most, 0, 1) * 65535).astype(np.uint16)
            grey = base.with_name(base.name + ".png")
            write_png(grey, codes)
            files.append(grey)
            words |= {"black_mm": -most, "white_mm": most, "nought": 0.5}
    else:
        path = base.with_name(base.name + ".png")
        write_png(path, picture)
        files.append(path)
    for path in files:
        page["maps"][path.name] = words
    return files
