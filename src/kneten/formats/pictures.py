"""Pictures to files: PNG with 8 or 16 bits, JPEG, WebP, OpenEXR with layers, and films."""

from __future__ import annotations

import io
import struct
import zlib
from collections.abc import Iterable, Mapping
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from kneten.core.arrays import F32, U8
from kneten.core.light.finish import unmultiplied
from kneten.document.arrays_file import ProjectFileError, replacing
from kneten.formats.pieces import FormatError

PICTURES = (".png", ".jpg", ".jpeg", ".webp", ".exr")
"""Endings of pictures that are written."""

FILMS = (".webm", ".mp4")
"""Endings of films."""

PNG_HEAD = 33
"""Bytes of a PNG's signature and head."""

WEBP_LARGEST = 16383
"""Pixels along a side of a WebP picture."""

NUMBERED = (".png", ".jpg", ".jpeg", ".webp")
"""Endings of films that are pictures with numbers."""

LAYERS = {1: "Y", 3: "RGB", 4: "RGBA"}


def picture_ending(path: Path) -> str:
    """A picture's ending. Raises `FormatError` where it is none of `PICTURES`."""
    ending = path.suffix.lower()
    if ending not in PICTURES:
        raise FormatError(f"{path.name}: pictures are written as {', '.join(PICTURES)}.")
    return ending


def write_picture(
    path: Path, colours: F32, light: F32, fine: bool = False, clear: bool = False, comment: str = ""
) -> None:
    """Write a picture, by its ending, at once or not at all.

    Parameters
    ----------
    colours : (h, w, 4) float32
        Codes of a screen, 0 to 1, multiplied by alpha; of all formats but OpenEXR.
    light : (h, w, 4) float32
        Light without bounds, multiplied by alpha: what OpenEXR is given.
    fine : bool
        PNG has 16 bits for each colour.
    clear : bool
        Alpha is kept, where the format has any.
    comment : str
        Words about the picture that the file holds, where its format holds any: PNG, JPEG, OpenEXR.

    Raises
    ------
    FormatError
        With words for the user.
    """
    ending = picture_ending(path)
    if ending == ".exr":
        write_layers(path, {"": light if clear else light[..., :3]}, comment)
        return
    codes = unmultiplied(colours) if clear and ending != ".jpeg" and ending != ".jpg" else colours[..., :3]
    try:
        with replacing(path) as file:
            data = _png16(codes) if ending == ".png" and fine else _encoded(codes, ending, path.name, comment)
            file.write(_commented(data, comment) if ending == ".png" else data)
    except ProjectFileError as error:
        raise FormatError(str(error)) from error


def _codes(colours: F32) -> U8:
    return np.clip(np.rint(colours * 255), 0, 255).astype(np.uint8)


def _commented(data: bytes, comment: str) -> bytes:
    """A PNG with a comment, as its standard has it: a chunk of text behind the head."""
    if not comment:
        return data
    chunk = b"tEXtComment\0" + comment.encode("latin-1", "replace")
    length, check = struct.pack(">I", len(chunk) - 4), struct.pack(">I", zlib.crc32(chunk))
    return data[:PNG_HEAD] + length + chunk + check + data[PNG_HEAD:]


def _encoded(colours: F32, ending: str, name: str, comment: str = "") -> bytes:
    if ending == ".webp" and max(colours.shape[:2]) > WEBP_LARGEST:
        raise FormatError(f"{name}: WebP holds {WEBP_LARGEST:,} pixels along a side: choose PNG or OpenEXR.")
    out = io.BytesIO()
    image = Image.fromarray(_codes(colours))
    if ending == ".png":
        image.save(out, "PNG")
    elif ending == ".webp":
        image.save(out, "WEBP", quality=94, method=4)
    else:
        image.save(out, "JPEG", quality=94, subsampling=0, comment=comment.encode())
    return out.getvalue()


def _png16(colours: F32) -> bytes:
    import png

    height, width, bands = colours.shape
    codes = np.clip(np.rint(colours * 65535), 0, 65535).astype(np.uint16)
    out = io.BytesIO()
    writer = png.Writer(width, height, greyscale=False, alpha=bands == 4, bitdepth=16)
    writer.write(out, codes.reshape(height, width * bands))
    return out.getvalue()


def write_layers(path: Path, layers: Mapping[str, F32], comment: str = "") -> None:
    """Write an OpenEXR file with layers by their names: (h, w), (h, w, 3) or (h, w, 4) each; that called "" is the picture itself.

    `comment` is an attribute of the file.

    Raises
    ------
    FormatError
        With words for the user.
    """
    import OpenEXR

    channels: dict[str, Any] = {}
    for name, values in layers.items():
        bands = values.shape[2] if values.ndim == 3 else 1
        for k, letter in enumerate(LAYERS[bands]):
            one = values[..., k] if values.ndim == 3 else values
            key = letter if not name else name if bands == 1 else f"{name}.{letter}"
            channels[key] = np.ascontiguousarray(one, np.float32)
    header: dict[str, Any] = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    if comment:
        header["comments"] = comment
    # The library writes to a name: what is half written has another until it is whole.
    half = path.with_name(f".{path.name}.half")
    try:
        with OpenEXR.File(header, channels) as out:
            out.write(str(half))
        half.replace(path)
    except Exception as error:  # the library's own words are all there is
        raise FormatError(f"{path.name} cannot be written: {error}.") from error
    finally:
        half.unlink(missing_ok=True)


def write_film(path: Path, frames: Iterable[U8], pace: float) -> int:
    """Write pictures, (h, w, 3) each, as a film, WebM with VP9 or MP4 with H.264 by the ending; how many there were.

    It is written beside the file and takes its place when it is whole. Sides are made even. By the ending of a picture
    it is one picture for each, *turn-0001.png* and so on for *turn.png*.

    Raises
    ------
    FormatError
        With words for the user.
    """
    ending = path.suffix.lower()
    if ending in NUMBERED:
        return _write_numbered(path, frames)
    if ending not in FILMS:
        kinds = f"{' or '.join(FILMS)}, or as pictures with numbers, {', '.join(NUMBERED)}"
        raise FormatError(f"{path.name}: films are written as {kinds}.")
    try:
        import av
    except ImportError as error:
        raise FormatError("films need the package av: run ./kneten demo again to install it.") from error
    half = path.with_name(f".{path.name}.half{ending}")
    count = 0
    try:
        with av.open(str(half), "w") as out:
            codec = "libvpx-vp9" if ending == ".webm" else "libx264"
            stream: Any = out.add_stream(codec, rate=Fraction(pace).limit_denominator(1001))
            stream.pix_fmt = "yuv420p"
            stream.options = (
                {"crf": "20", "b": "0", "deadline": "good", "cpu-used": "4"}
                if ending == ".webm"
                else {"crf": "18"}
            )
            for frame in frames:
                even = frame[: frame.shape[0] // 2 * 2, : frame.shape[1] // 2 * 2]
                if count == 0:
                    stream.height, stream.width = even.shape[:2]
                picture = av.VideoFrame.from_ndarray(np.ascontiguousarray(even), format="rgb24")
                out.mux(stream.encode(picture))
                count += 1
            if count == 0:
                raise FormatError(f"{path.name}: a film needs at least one picture.")
            out.mux(stream.encode())
        half.replace(path)
    except (OSError, av.FFmpegError) as error:
        raise FormatError(f"{path.name} cannot be written: {error}.") from error
    finally:
        half.unlink(missing_ok=True)
    return count


def _write_numbered(path: Path, frames: Iterable[U8]) -> int:
    """Write pictures, (h, w, 3) each, with numbers; all of them or none."""
    ending = path.suffix.lower()
    written: list[Path] = []
    try:
        for number, frame in enumerate(frames, 1):
            one = path.with_name(f"{path.stem}-{number:04d}{ending}")
            if one.exists():
                raise FormatError(f"{one.name} is there already: choose another name, or an empty folder.")
            with replacing(one) as file:
                file.write(_encoded((frame / 255).astype(np.float32), ending, one.name))
            written.append(one)
        if not written:
            raise FormatError(f"{path.name}: a film needs at least one picture.")
    except BaseException as error:
        for one in written:
            one.unlink(missing_ok=True)
        if isinstance(error, ProjectFileError):
            raise FormatError(str(error)) from error
        raise
    return len(written)
