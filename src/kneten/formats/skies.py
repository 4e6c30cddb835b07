"""Skies of others: pictures of all that is around, twice as wide as high, as Radiance HDR or OpenEXR."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np

from kneten.core.arrays import F32, U8, AnyArray
from kneten.formats.heights import HeightsError, read_picture
from kneten.formats.pieces import FormatError

MOST_PIXELS = 16384 * 8192
"""As many as a file may have."""

MOST_BYTES = 1 << 30
"""And as large as it may be."""

BRIGHTEST = 1e5
"""What is brighter is cut to this: a sun of a picture is some ten thousand times as bright as its sky."""


def read_sky(path: Path) -> tuple[F32, list[str]]:
    """The light in a picture of a sky, (h, w, 3), and what had to be put right.

    Raises
    ------
    FormatError
        When it is no such picture, damaged, too large, or has nothing in it.
    """
    path = Path(path)
    try:
        size = path.stat().st_size
        with path.open("rb") as file:
            start = file.read(11)
    except OSError as error:
        raise FormatError(f"{path.name} cannot be read: {error.strerror or error}.") from error
    if size > MOST_BYTES:
        raise FormatError(f"{path.name} is larger than a gigabyte: make it smaller first.")
    if start.startswith((b"#?RADIANCE", b"#?RGBE")):
        light = _radiance(path.read_bytes(), path.name)
    elif start[:4] == b"\x76\x2f\x31\x01":
        light = _exr(path)
    else:
        raise FormatError(f"{path.name} is no picture of a sky: choose one as .hdr (Radiance) or .exr.")
    return _usable(light, path.name)


def _exr(path: Path) -> F32:
    try:
        picture = read_picture(path)
    except HeightsError as error:
        raise FormatError(str(error)) from error
    missing = [key for key in ("red", "green", "blue") if key not in picture.channels]
    if missing:
        raise FormatError(f"{path.name} has no {missing[0]}: a sky needs red, green and blue.")
    three = [picture.channels.index(key) for key in ("red", "green", "blue")]
    return np.ascontiguousarray(picture.values[..., three], np.float32)


def _usable(light: F32, name: str) -> tuple[F32, list[str]]:
    high, wide = light.shape[:2]
    notices = []
    if abs(wide / high - 2) > 0.02:
        raise FormatError(
            f"{name} has {wide:,} x {high:,} pixels: a picture of all that is around is twice as wide as high."
        )
    bad: AnyArray = np.logical_or(~np.isfinite(light).all(axis=2), (light < 0).any(axis=2))
    if bad.any():
        light = np.where(bad[..., None], np.float32(0), light)
        notices.append(
            f"{int(bad.sum()):,} pixels of {name} were no light or less than none; they are dark now."
        )
    if (light > BRIGHTEST).any():
        light = np.minimum(light, np.float32(BRIGHTEST))
        notices.append(f"{name} is brighter than {BRIGHTEST:,.0f} in places; it was cut to that.")
    if not light.any():
        raise FormatError(f"{name} is dark all over: it would light nothing.")
    return np.ascontiguousarray(light, np.float32), notices


def _radiance(data: bytes, name: str) -> F32:
    """The light of a Radiance picture (Ward, 1991): three shares and what they are times, run lengths or plain."""
    head = re.match(rb"#\?[^\n]*\n(?:[^\n]*\n)*?\n-Y (\d{1,6}) \+X (\d{1,6})\n", data[:65536])
    if head is None:
        raise FormatError(f"{name} has no head that can be read, or is stored turned: save it again upright.")
    if b"FORMAT=32-bit_rle_xyze" in head.group(0):
        raise FormatError(f"{name} is in XYZ: save it in RGB.")
    high, wide = int(head.group(1)), int(head.group(2))
    if not 2 <= high * wide <= MOST_PIXELS:
        raise FormatError(
            f"{name} has {wide:,} x {high:,} pixels; {MOST_PIXELS / 1e6:,.0f} million is the most."
        )
    codes = _codes(np.frombuffer(data, np.uint8)[head.end() :], high, wide, name)
    scale = np.ldexp(np.float32(1), codes[..., 3:].astype(np.int32) - 136)
    light = (codes[..., :3].astype(np.float32) + np.float32(0.5)) * scale
    light[codes[..., 3] == 0] = 0
    return np.asarray(light, np.float32)


def _codes(data: U8, high: int, wide: int, name: str) -> U8:
    """The four bytes of each pixel, (h, w, 4)."""
    ended = FormatError(f"{name} ends in the middle: it is damaged.")
    coded = 8 <= wide < 32768 and len(data) >= 4 and data[0] == 2 and data[1] == 2 and data[2] < 128
    if not coded:
        if len(data) < high * wide * 4:
            raise ended
        return data[: high * wide * 4].reshape(high, wide, 4)
    out = np.empty((high, 4, wide), np.uint8)
    # Bytes of a row: what they say is known only one after the other.
    raw, at = data.tobytes(), 0
    for y in range(high):
        if raw[at : at + 2] != b"\x02\x02" or len(raw) < at + 4 or (raw[at + 2] << 8 | raw[at + 3]) != wide:
            raise ended if len(raw) < at + 4 else FormatError(f"{name} is damaged in row {y + 1}.")
        at += 4
        for channel in range(4):
            row, x = out[y, channel], 0
            while x < wide:
                if at + 1 >= len(raw):
                    raise ended
                count = raw[at]
                if count > 128:
                    count -= 128
                    part = raw[at + 1 : at + 2] * count
                    at += 2
                else:
                    part = raw[at + 1 : at + 1 + count]
                    at += 1 + count
                if count == 0 or len(part) < count or x + count > wide:
                    raise FormatError(f"{name} is damaged in row {y + 1}.")
                row[x : x + count] = np.frombuffer(part, np.uint8)
                x += count
    return np.ascontiguousarray(out.transpose(0, 2, 1))
