"""Pictures of heights, against independent writers and readers, and bad ones."""

from __future__ import annotations

import struct
import zlib
from pathlib import Path

import numpy as np
import OpenEXR
import png
import pytest
import tifffile
from PIL import Image

from kneten.core.press import LARGEST
from kneten.formats.heights import (
    HeightsError,
    read_deep,
    read_heights,
    read_picture,
    to_steps,
    words_of_exr,
    write_deep,
    write_exr,
    write_heights,
)

RAMP = np.arange(65536, dtype=np.uint16).reshape(256, 256)


def test_sixteen_bits_arrive_without_steps(tmp_path: Path) -> None:
    Image.fromarray(RAMP).save(tmp_path / "grey.png")
    tifffile.imwrite(tmp_path / "grey.tif", RAMP)
    with (tmp_path / "colour.png").open("wb") as file:
        png.Writer(256, 256, greyscale=False, bitdepth=16).write(file, np.repeat(RAMP, 3, axis=1))
    for name in ("grey.png", "grey.tif"):
        assert np.array_equal(read_heights(tmp_path / name), RAMP.astype(np.float32))
    for channel in ("red", "green", "blue"):
        assert len(np.unique(read_heights(tmp_path / "colour.png", channel))) == 65536
    assert np.allclose(read_heights(tmp_path / "colour.png"), RAMP, atol=0.01)


def test_floats_arrive_as_they_are(tmp_path: Path) -> None:
    values = np.random.default_rng(2).normal(0, 3, (40, 60)).astype(np.float32)
    tifffile.imwrite(tmp_path / "float.tif", values)
    assert np.array_equal(read_heights(tmp_path / "float.tif"), values)
    write_heights(tmp_path / "own.exr", values)
    with OpenEXR.File(str(tmp_path / "own.exr"), separate_channels=True) as file:
        assert np.array_equal(file.channels()["Y"].pixels, values)
    assert np.array_equal(read_heights(tmp_path / "own.exr"), values)
    halves = values.astype(np.float16)
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    with OpenEXR.File(header, {"height.z": halves}) as file:
        file.write(str(tmp_path / "half.exr"))
    assert np.array_equal(read_heights(tmp_path / "half.exr", "height.z"), halves.astype(np.float32))


def test_what_is_written_is_read_by_others(tmp_path: Path) -> None:
    heights = np.linspace(-0.4, 1.0, 5000).reshape(50, 100).astype(np.float32)
    write_heights(tmp_path / "a.png", heights)
    found = np.asarray(Image.open(tmp_path / "a.png"))
    assert found.dtype == np.uint16
    assert np.array_equal(found, to_steps(heights))
    write_heights(tmp_path / "a.tif", heights)
    assert np.array_equal(tifffile.imread(tmp_path / "a.tif"), heights)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["a.png", "a.tif"]


def test_channels_are_chosen_and_named(tmp_path: Path) -> None:
    pixels = np.zeros((8, 8, 4), np.uint8)
    pixels[..., 0], pixels[..., 3] = np.arange(8)[None], np.arange(8)[:, None] * 30
    Image.fromarray(pixels).save(tmp_path / "four.png")
    assert read_picture(tmp_path / "four.png").channels == ("red", "green", "blue", "alpha")
    assert read_heights(tmp_path / "four.png", "alpha")[7, 0] == 210
    write_exr(tmp_path / "two.exr", {"U": np.eye(4, dtype=np.float32), "V": np.eye(4, dtype=np.float32)})
    with pytest.raises(HeightsError, match="no channel called depth: it has U, V"):
        read_heights(tmp_path / "two.exr", "depth")


def test_bad_pictures_are_told_apart(tmp_path: Path) -> None:
    def of(name: str, data: bytes) -> Path:
        path = tmp_path / name
        path.write_bytes(data)
        return path

    Image.fromarray(RAMP).save(tmp_path / "good.png")
    whole = (tmp_path / "good.png").read_bytes()
    write_heights(tmp_path / "good.exr", RAMP.astype(np.float32))
    Image.new("CMYK", (20, 20)).save(tmp_path / "print.jpg")
    tifffile.imwrite(tmp_path / "print.tif", np.zeros((9, 9, 4), np.uint8), photometric="separated")
    Image.new("L", (20, 20), 7).save(tmp_path / "one.png")
    frames = [Image.new("L", (9, 9), k * 90) for k in range(3)]
    frames[0].save(tmp_path / "moving.webp", save_all=True, append_images=frames[1:])
    tifffile.imwrite(tmp_path / "pages.tif", np.zeros((3, 9, 9), np.uint8), photometric="minisblack")
    tifffile.imwrite(tmp_path / "holes.tif", np.full((9, 9), np.nan, np.float32))
    huge = bytearray(whole)
    huge[16:24] = struct.pack(">II", 30_000, 30_000)
    huge[29:33] = struct.pack(">I", zlib.crc32(bytes(huge[12:29])))
    for path, words in (
        (of("half.png", whole[: len(whole) // 2]), "damaged"),
        (of("words.png", b"hello"), "not a picture"),
        (of("none.png", b""), "is empty"),
        (of("half.exr", (tmp_path / "good.exr").read_bytes()[:300]), "damaged"),
        (tmp_path / "print.jpg", "printing colours"),
        (tmp_path / "print.tif", "printing colours"),
        (tmp_path / "one.png", "same value"),
        (tmp_path / "moving.webp", "moving picture"),
        (tmp_path / "pages.tif", "3 pages"),
        (tmp_path / "holes.tif", "no numbers"),
        (of("huge.png", bytes(huge)), "30,000 x 30,000"),
        (tmp_path / "gone.png", "cannot be read"),
    ):
        with pytest.raises(HeightsError, match=words):
            read_heights(path)


def test_what_is_large_comes_in_smaller(tmp_path: Path) -> None:
    wide = np.zeros((20, LARGEST + 10), np.uint8)
    wide[:, ::2] = 200
    wide[:10] += 20
    Image.fromarray(wide).save(tmp_path / "wide.png")
    found = read_heights(tmp_path / "wide.png")
    assert found.shape == (10, (LARGEST + 10) // 2)
    assert found[0, 0] == pytest.approx(120)


def test_deep_presses_go_out_and_come_in_by_three_channels(tmp_path: Path) -> None:
    moves = np.random.default_rng(3).normal(0, 0.3, (24, 32, 3)).astype(np.float32)
    write_deep(tmp_path / "a.exr", moves, [("kneten", "words")])
    assert np.array_equal(read_deep(tmp_path / "a.exr"), moves)
    assert words_of_exr(tmp_path / "a.exr", "kneten") == "words"
    with OpenEXR.File(str(tmp_path / "a.exr"), separate_channels=True) as file:
        assert np.array_equal(file.channels()["G"].pixels, moves[..., 1])
    write_heights(tmp_path / "one.exr", moves[..., 0])
    Image.fromarray(RAMP).save(tmp_path / "grey.png")
    write_deep(tmp_path / "flat.exr", moves * [1, 1, 0])
    write_deep(tmp_path / "far.exr", moves * 1e5)
    for name, words in (
        ("one.exr", "R, G and B"),
        ("grey.png", "no deep press"),
        ("flat.exr", "moves nothing out"),
        ("far.exr", "hundred times"),
    ):
        with pytest.raises(HeightsError, match=words):
            read_deep(tmp_path / name)
