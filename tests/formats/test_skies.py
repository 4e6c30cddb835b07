"""Skies from files: as others write them, damaged, with values that are no light."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import OpenEXR
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kneten.formats.pieces import FormatError
from kneten.formats.skies import BRIGHTEST, read_sky

HIGH, WIDE = 16, 32


def picture(seed: int = 1) -> np.ndarray:
    rng = np.random.default_rng(seed)
    light = np.exp(rng.normal(0, 2, (HIGH, WIDE, 3))).astype(np.float32)
    light[3:5, 4:20] = light[3, 4]
    return light


def rgbe(light: np.ndarray) -> np.ndarray:
    """Shares and what they are times, as the format's author has them."""
    most = light.max(axis=2)
    share, exponent = np.frexp(most)
    scale = np.where(most > 1e-32, share * 256 / np.maximum(most, 1e-38), 0)
    codes = np.floor(light * scale[..., None]).clip(0, 255)
    return np.concatenate([codes, np.where(most > 1e-32, exponent + 128, 0)[..., None]], axis=2).astype(
        np.uint8
    )


def plain(light: np.ndarray) -> bytes:
    head = f"#?RADIANCE\n# made by hand\nFORMAT=32-bit_rle_rgbe\n\n-Y {light.shape[0]} +X {light.shape[1]}\n"
    return head.encode() + rgbe(light).tobytes()


def runs(light: np.ndarray) -> bytes:
    """The same with run lengths."""
    out = bytearray(plain(light)[: -light.shape[0] * light.shape[1] * 4])
    for row in rgbe(light):
        out += bytes([2, 2, light.shape[1] >> 8, light.shape[1] & 255])
        for channel in row.T:
            at = 0
            while at < len(channel):
                same = 1
                while at + same < len(channel) and channel[at + same] == channel[at] and same < 127:
                    same += 1
                if same > 2:
                    out += bytes([128 + same, channel[at]])
                    at += same
                    continue
                end = min(at + 5, len(channel))
                out += bytes([end - at]) + channel[at:end].tobytes()
                at = end
    return bytes(out)


@pytest.mark.parametrize("made", [plain, runs])
def test_a_radiance_picture_is_read_to_its_precision(tmp_path: Path, made: object) -> None:
    light = picture()
    path = tmp_path / "sky.hdr"
    path.write_bytes(made(light))  # type: ignore[operator]
    found, notices = read_sky(path)
    assert notices == []
    assert found.shape == light.shape
    assert found.dtype == np.float32
    # A share of 1/256 of the brightest of the three.
    assert (np.abs(found - light) <= light.max(axis=2, keepdims=True) / 128 + 1e-6).all()


def test_an_exr_picture_is_read_exactly(tmp_path: Path) -> None:
    light = picture(2)
    path = tmp_path / "sky.exr"
    with OpenEXR.File({"type": OpenEXR.scanlineimage}, {"RGB": light}) as file:
        file.write(str(path))
    found, notices = read_sky(path)
    assert np.array_equal(found, light)
    assert notices == []
    with OpenEXR.File({"type": OpenEXR.scanlineimage}, {"Y": light[..., 0].copy()}) as file:
        file.write(str(path))
    with pytest.raises(FormatError, match="has no red"):
        read_sky(path)


def test_values_that_are_no_light_are_put_right_and_told(tmp_path: Path) -> None:
    light = picture()
    light[0, 0] = np.nan
    light[1, 1, 2] = -4.0
    light[2, 2] = np.inf
    light[5, 5] = 1e9
    path = tmp_path / "sky.exr"
    with OpenEXR.File({"type": OpenEXR.scanlineimage}, {"RGB": light}) as file:
        file.write(str(path))
    found, notices = read_sky(path)
    assert np.isfinite(found).all()
    assert (found >= 0).all()
    assert (found[[0, 1, 2], [0, 1, 2]] == 0).all()
    assert (found[5, 5] == BRIGHTEST).all()
    assert len(notices) == 2
    assert notices[0].startswith("3 pixels of sky.exr")


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"", "no picture of a sky"),
        (b"hello there, I am no picture", "no picture of a sky"),
        (b"#?RADIANCE\nnothing", "no head"),
        (b"#?RADIANCE\n\n+Y 16 +X 32\n", "no head"),
        (b"#?RADIANCE\nFORMAT=32-bit_rle_xyze\n\n-Y 16 +X 32\n", "XYZ"),
        (b"#?RADIANCE\n\n-Y 99999 +X 199998\n", "million is the most"),
        (b"#?RADIANCE\n\n-Y 16 +X 32\n\0\0", "ends in the middle"),
        (b"#?RADIANCE\n\n-Y 16 +X 32\n\x02\x02\x00\x20\x00\x01", "damaged in row 1"),
        (b"#?RADIANCE\n\n-Y 16 +X 32\n\x02\x02\x00\x20\xa1\x01", "damaged in row 1"),
        (b"#?RADIANCE\n\n-Y 16 +X 32\n\x02\x02\x00\x20\xa0\x01\xa0\x01\xa0", "ends in the middle"),
        (plain(np.ones((16, 16, 3))), "twice as wide as high"),
        (plain(np.zeros((16, 32, 3))), "dark all over"),
        (b"\x76\x2f\x31\x01 but no more", "damaged"),
    ],
)  # fmt: skip
def test_what_cannot_be_read_says_why(tmp_path: Path, data: bytes, words: str) -> None:
    path = tmp_path / "sky.hdr"
    path.write_bytes(data)
    with pytest.raises(FormatError, match=words):
        read_sky(path)
    with pytest.raises(FormatError, match="cannot be read"):
        read_sky(tmp_path / "none.hdr")


@given(st.integers(0, 10_000), st.binary(min_size=1, max_size=6), st.booleans())
@settings(max_examples=150, deadline=None)
def test_damaged_pictures_are_refused_or_read_as_light(
    tmp_path_factory: pytest.TempPathFactory, at: int, junk: bytes, coded: bool
) -> None:
    data = bytearray((runs if coded else plain)(picture()))
    at %= len(data)
    data[at : at + len(junk)] = junk
    path = tmp_path_factory.mktemp("sky") / "a.hdr"
    path.write_bytes(bytes(data))
    try:
        light, _ = read_sky(path)
    except FormatError:
        return
    assert np.isfinite(light).all()
    assert (light >= 0).all()
    assert light.shape[2] == 3
