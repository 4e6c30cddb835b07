"""Pictures of heights in and out, at the full depth of their format: PNG, TIFF, EXR, JPEG, WebP."""

from __future__ import annotations

import io
import struct
import warnings
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PIL import Image, UnidentifiedImageError

from kneten.core.arrays import F32, F64, AnyArray
from kneten.core.press import LARGEST

ENDINGS = (".png", ".tif", ".tiff", ".exr", ".jpg", ".jpeg", ".webp")

MOST_PIXELS = 100_000_000
"""Pixels of a picture at most: ten thousand by ten thousand."""

LUMA = (0.2126, 0.7152, 0.0722)
"""Shares of red, green and blue in how light a colour is (ITU-R BT.709)."""

CHANNELS: dict[str, str] = {
    "light": "Lightness",
    "red": "Red",
    "green": "Green",
    "blue": "Blue",
    "alpha": "Opacity",
}
"""What of a picture is taken for heights."""


class HeightsError(ValueError):
    """The picture cannot be used. The text says why and what to do."""


@dataclass(frozen=True, eq=False)
class Picture:
    """A picture as it came.

    Attributes
    ----------
    values : (h, w, c) array
        Whole numbers, or floats.
    channels : tuple of str
        What each of the c is: of `CHANNELS`, or the file's own names.
    """

    values: AnyArray
    channels: tuple[str, ...]


def read_heights(path: Path, channel: str = "light") -> F32:
    """The heights in a file, (h, w), in the file's own range; larger pictures come in at half the size, or a quarter.

    Parameters
    ----------
    channel : str
        Of `CHANNELS`, or the name of an EXR file's channel.

    Raises
    ------
    HeightsError
        When it is no picture, damaged, empty, too large, moving, in the colours of a press, or without that channel.
    """
    return heights_of(read_picture(path), channel, path.name)


def heights_of(picture: Picture, channel: str, name: str) -> F32:
    """One channel of a picture, (h, w) float32. Raises `HeightsError` when it has none such."""
    values, channels = picture.values, picture.channels
    if channel in channels:
        heights = values[..., channels.index(channel)]
    elif channel == "light" and {"red", "green", "blue"} <= set(channels):
        three = [channels.index(key) for key in ("red", "green", "blue")]
        heights = values[..., three].astype(np.float64) @ np.array(LUMA)
    elif channel == "light" and len([key for key in channels if key != "alpha"]) >= 1:
        heights = values[..., next(k for k, key in enumerate(channels) if key != "alpha")]
    else:
        raise HeightsError(
            f"{name} has no channel called {channel}: it has {', '.join(channels)}. Choose one of these."
        )
    heights = np.ascontiguousarray(heights, np.float32)
    if not np.isfinite(heights).all():
        raise HeightsError(f"{name} has values that are no numbers: repair it in the program it comes from.")
    while max(heights.shape) > LARGEST:
        rows, columns = heights.shape[0] // 2 * 2, heights.shape[1] // 2 * 2
        heights = heights[:rows, :columns].reshape(rows // 2, 2, columns // 2, 2).mean(axis=(1, 3))
    if float(heights.max()) == float(heights.min()):
        raise HeightsError(f"{name} has the same value all over: as a press it would leave no mark.")
    return heights


DEEP = ("red", "green", "blue")
"""The channels of a deep press: to its right, to its top, out."""


def read_deep(path: Path) -> F32:
    """The moves (h, w, 3) of a deep press in an EXR file's R, G and B, in half-widths. Raises `HeightsError`."""
    path = Path(path)
    picture = read_picture(path)
    missing = [channel for channel in DEEP if channel not in picture.channels]
    if path.suffix.lower() != ".exr" or missing:
        raise HeightsError(f"{path.name} is no deep press: that is an EXR file with the channels R, G and B.")
    moves = np.stack([picture.values[..., picture.channels.index(channel)] for channel in DEEP], -1)
    if not np.isfinite(moves).all() or not float(np.abs(moves[..., 2]).max()) > 0:
        raise HeightsError(f"{path.name} moves nothing out, or has values that are no numbers.")
    if max(moves.shape[:2]) > LARGEST or float(np.abs(moves).max()) > 100:
        raise HeightsError(
            f"{path.name} is larger than {LARGEST:,} pixels, or moves clay farther than a hundred times its width."
        )
    return np.ascontiguousarray(moves, np.float32)


def write_deep(path: Path, moves: F32, words: Sequence[tuple[str, str]] = ()) -> None:
    """Write the moves (h, w, 3) of a deep press to an EXR file of 32 bits, with words in its head. The file is whole or not there."""
    path = Path(path)
    part = path.with_name(f".{path.name}.part{path.suffix}")
    try:
        write_exr(part, {key: moves[..., k] for k, key in enumerate("RGB")}, words)
        part.replace(path)
    finally:
        part.unlink(missing_ok=True)


def words_of_exr(path: Path, key: str) -> str:
    """What an EXR file has in its head under a key; "" when it has nothing there."""
    import OpenEXR

    with OpenEXR.File(str(path), header_only=True) as file:
        return str(file.header().get(key, ""))


def read_picture(path: Path) -> Picture:
    """A picture with all its channels at their full depth. Raises `HeightsError`."""
    path = Path(path)
    name = path.name
    try:
        data = path.read_bytes()
    except OSError as error:
        raise HeightsError(f"{name} cannot be read ({error.strerror}).") from error
    if not data:
        raise HeightsError(f"{name} is empty.")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            if data[:4] == b"\x76\x2f\x31\x01":
                return _exr(path)
            if data[:4] in (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"):
                return _tiff(data, name)
            if data[:8] == b"\x89PNG\r\n\x1a\n" and len(data) > 26 and data[24] == 16 and data[25] & 2:
                return _deep_png(data, name)
            return _other(data, name)
    except HeightsError:
        raise
    except UnidentifiedImageError as error:
        raise HeightsError(
            f"{name} is not a picture that can be read (PNG, TIFF, EXR, JPEG, WebP)."
        ) from error
    except MemoryError as error:
        raise HeightsError(f"{name} needs more memory than there is. Make it smaller first.") from error
    except Exception as error:
        reason = " ".join(str(error).split())[:120] or type(error).__name__
        raise HeightsError(f"{name} is damaged and cannot be read ({reason}).") from error


def _checked_size(width: int, height: int, name: str) -> None:
    if width < 2 or height < 2:
        raise HeightsError(f"{name} has {width} x {height} pixels: a press needs two each way at least.")
    if width * height > MOST_PIXELS:
        raise HeightsError(
            f"{name} has {width:,} x {height:,} pixels; {MOST_PIXELS / 1e6:,.0f} million is the most. Make it smaller first."
        )


def _exr(path: Path) -> Picture:
    import OpenEXR

    with OpenEXR.File(str(path), header_only=True) as file:
        window = file.header()["dataWindow"]
    wide, high = (int(b) - int(a) + 1 for a, b in zip(window[0], window[1], strict=True))
    _checked_size(wide, high, path.name)
    with OpenEXR.File(str(path), separate_channels=True) as file:
        found = {key: np.asarray(one.pixels) for key, one in file.channels().items()}
    shapes = {one.shape for one in found.values()}
    if not found or len(shapes) != 1:
        raise HeightsError(f"{path.name} has no channels of one size: save it again with plain channels.")
    known = {"R": "red", "G": "green", "B": "blue", "A": "alpha", "Y": "light", "Z": "Z"}
    # As they are told of elsewhere: red, green, blue before what else there is.
    order = sorted(
        found, key=lambda key: ("RGBA".find(key) if key in ("R", "G", "B", "A") else len("RGBA"), key)
    )
    values = np.stack([found[key].astype(np.float32) for key in order], -1)
    return Picture(values, tuple(known.get(key, key) for key in order))


def _tiff(data: bytes, name: str) -> Picture:
    import tifffile

    with tifffile.TiffFile(io.BytesIO(data)) as file:
        if len(file.series) == 0 or len(file.pages) == 0:
            raise HeightsError(f"{name} has no picture in it.")
        if len(file.pages) > 1 and len(file.series[0].pages) > 1:
            raise HeightsError(f"{name} has {len(file.pages)} pages: save the one that is meant by itself.")
        page = file.pages.first
        _checked_size(page.imagewidth, page.imagelength, name)
        if page.photometric == tifffile.PHOTOMETRIC.SEPARATED:
            raise HeightsError(f"{name} is in printing colours (CMYK): save it in grey or RGB.")
        values = page.asarray()
        if page.photometric == tifffile.PHOTOMETRIC.MINISWHITE:
            values = values.max() - values
    if values.ndim == 3 and page.planarconfig == tifffile.PLANARCONFIG.SEPARATE:
        values = np.moveaxis(values, 0, -1)
    return _named(values, name)


def _deep_png(data: bytes, name: str) -> Picture:
    """A colour PNG of 16 bits: Pillow would make eight of them."""
    import png

    width, height = struct.unpack(">II", data[16:24])
    _checked_size(width, height, name)
    wide, high, rows, info = png.Reader(bytes=data).read()
    planes = int(info["planes"])
    values = np.empty((high, wide * planes), np.uint16)
    for k, row in enumerate(rows):
        values[k] = row
    return _named(values.reshape(high, wide, planes), name)


def _other(data: bytes, name: str) -> Picture:
    # The limit is our own, with a message that helps.
    Image.MAX_IMAGE_PIXELS = None
    with Image.open(io.BytesIO(data)) as opened:
        _checked_size(*opened.size, name)
        if getattr(opened, "n_frames", 1) > 1:
            raise HeightsError(f"{name} is a moving picture: save the frame that is meant by itself.")
        mode = opened.mode
        if mode == "CMYK":
            raise HeightsError(f"{name} is in printing colours (CMYK): save it in grey or RGB.")
        plain = {"1": "L", "P": "RGBA" if "transparency" in opened.info else "RGB", "PA": "RGBA", "La": "LA"}
        if mode in plain or mode in ("YCbCr", "HSV", "LAB", "RGBa", "RGBX"):
            return _named(np.asarray(opened.convert(plain.get(mode, "RGB"))), name)
        return _named(np.asarray(opened), name)


def _named(values: AnyArray, name: str) -> Picture:
    if values.ndim == 2:
        values = values[..., None]
    if values.ndim != 3:
        raise HeightsError(f"{name} is no flat picture: save it as one.")
    count = values.shape[2]
    words = {
        1: ("light",),
        2: ("light", "alpha"),
        3: ("red", "green", "blue"),
        4: ("red", "green", "blue", "alpha"),
    }
    return Picture(values, words.get(count, tuple(f"channel {k + 1}" for k in range(count))))


def write_heights(path: Path, heights: F32, words: Sequence[tuple[str, str]] = ()) -> None:
    """Write heights (h, w): as a grey PNG of 16 bits over their range, or as they are to TIFF or EXR, by the ending.

    The file is whole or not there. `words` are kept in a PNG's own text.
    """
    path = Path(path)
    part = path.with_name(f".{path.name}.part{path.suffix}")
    try:
        if path.suffix.lower() == ".exr":
            write_exr(part, {"Y": heights})
        elif path.suffix.lower() in (".tif", ".tiff"):
            import tifffile

            tifffile.imwrite(part, heights.astype(np.float32), photometric="minisblack")
        else:
            from PIL.PngImagePlugin import PngInfo

            told = PngInfo()
            for key, text in words:
                told.add_text(key, text)
            Image.fromarray(to_steps(heights)).save(part, "PNG", pnginfo=told)
        part.replace(path)
    finally:
        part.unlink(missing_ok=True)


def write_exr(path: Path, channels: dict[str, F32], words: Sequence[tuple[str, str]] = ()) -> None:
    """Write channels (h, w) float32 to an EXR file."""
    import OpenEXR

    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage, **dict(words)}
    arrays = {key: np.ascontiguousarray(one, np.float32) for key, one in channels.items()}
    with OpenEXR.File(header, arrays) as file:
        file.write(str(path))


def to_steps(heights: F32) -> AnyArray:
    """Heights (h, w) in 65,536 steps from their least to their greatest, uint16."""
    low, high = float(heights.min()), float(heights.max())
    share: F64 = (heights.astype(np.float64) - low) / max(high - low, 1e-30)
    return np.rint(share * 65535).astype(np.uint16)
