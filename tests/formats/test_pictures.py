"""Pictures and films as others read them."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import av
import numpy as np
import OpenEXR
import png
import pytest
from PIL import Image

from kneten.formats.pictures import write_film, write_layers, write_picture
from kneten.formats.pieces import FormatError


def ramp(alpha: float = 1.0) -> np.ndarray:
    out = np.zeros((40, 60, 4), np.float32)
    out[..., 0] = np.linspace(0, 1, 60)[None]
    out[..., 1] = np.linspace(0, 1, 40)[:, None]
    out[..., 3] = 1.0
    return (out * alpha).astype(np.float32)


@pytest.mark.parametrize(("ending", "off"), [(".png", 1), (".jpg", 12), (".webp", 12)])
def test_pictures_come_back(tmp_path: Path, ending: str, off: int) -> None:
    path = tmp_path / f"a{ending}"
    write_picture(path, ramp(), ramp())
    found = np.asarray(Image.open(path).convert("RGB")).astype(float)
    assert np.abs(found - ramp()[..., :3] * 255).max() <= off
    assert [one.name for one in tmp_path.iterdir()] == [path.name]


def test_sixteen_bits_are_finer_than_eight(tmp_path: Path) -> None:
    write_picture(tmp_path / "a.png", ramp(), ramp(), fine=True)
    width, height, rows, info = png.Reader(bytes=(tmp_path / "a.png").read_bytes()).read()
    assert (width, height, info["bitdepth"]) == (60, 40, 16)
    found = np.vstack([np.array(row) for row in rows]).reshape(40, 60, 3)
    assert np.abs(found / 65535 - ramp()[..., :3]).max() < 1e-5


def test_a_clear_ground_is_kept_where_the_format_can(tmp_path: Path) -> None:
    write_picture(tmp_path / "a.png", ramp(0.5), ramp(0.5), clear=True)
    found = np.asarray(Image.open(tmp_path / "a.png")).astype(float)
    assert found.shape[2] == 4
    assert np.abs(found[..., 3] - 127.5).max() <= 1
    # Colours are as they are, not multiplied by alpha.
    assert np.abs(found[..., :3] - ramp()[..., :3] * 255).max() <= 1


def test_layers_of_one_file_have_their_names(tmp_path: Path) -> None:
    light = ramp()[..., :3] * 7
    depth = np.full((40, 60), np.inf, np.float32)
    depth[5:9] = 812.5
    write_layers(tmp_path / "a.exr", {"": light, "normal": ramp()[..., :3], "depth": depth})
    with OpenEXR.File(str(tmp_path / "a.exr"), separate_channels=True) as file:
        channels = file.channels()
        assert {"R", "G", "B", "normal.R", "normal.G", "normal.B", "depth"} == set(channels)
        assert np.array_equal(channels["depth"].pixels, depth)
        # Brighter than a screen is kept.
        assert channels["R"].pixels.max() == pytest.approx(7)


@pytest.mark.parametrize("name", ["a.bmp", "a", "no/a.png", "no/a.exr"])
def test_where_nothing_can_be_written_words_say_so(tmp_path: Path, name: str) -> None:
    with pytest.raises(FormatError, match=r"written|not there"):
        write_picture(tmp_path / name, ramp(), ramp())
    assert list(tmp_path.iterdir()) == []


def test_too_large_for_webp(tmp_path: Path) -> None:
    wide = np.zeros((2, 16400, 4), np.float32)
    with pytest.raises(FormatError, match="WebP holds"):
        write_picture(tmp_path / "a.webp", wide, wide)
    assert list(tmp_path.iterdir()) == []


@pytest.mark.parametrize("ending", [".webm", ".mp4"])
def test_a_film_has_as_many_pictures_as_it_was_given(tmp_path: Path, ending: str) -> None:
    frames = [np.full((49, 65, 3), 20 * k, np.uint8) for k in range(11)]
    path = tmp_path / f"a{ending}"
    assert write_film(path, iter(frames), 24.0) == 11
    with av.open(str(path)) as film:
        found = [frame.to_ndarray(format="rgb24") for frame in film.decode(video=0)]
        assert float(film.streams.video[0].average_rate) == 24
    assert len(found) == 11
    assert found[0].shape == (48, 64, 3)
    for given, one in zip(frames, found, strict=True):
        assert np.abs(one.astype(float).mean() - given.mean()) < 6


def test_a_film_that_breaks_off_leaves_nothing(tmp_path: Path) -> None:
    def frames():  # type: ignore[no-untyped-def]
        yield np.zeros((48, 64, 3), np.uint8)
        raise RuntimeError("cancelled")

    with pytest.raises(RuntimeError):
        write_film(tmp_path / "a.webm", frames(), 24.0)
    with pytest.raises(FormatError, match="at least one"):
        write_film(tmp_path / "a.webm", iter([]), 24.0)
    with pytest.raises(FormatError, match=r"\.webm or \.mp4"):
        write_film(tmp_path / "a.avi", iter([]), 24.0)
    with pytest.raises(FormatError, match="cannot be written"):
        write_film(tmp_path / "no" / "a.webm", iter([np.zeros((8, 8, 3), np.uint8)]), 24.0)
    assert list(tmp_path.iterdir()) == []


def test_words_about_a_picture_are_kept_in_its_file(tmp_path: Path) -> None:
    words = "Kneten, ray-traced: 64 samples, seed 3"
    for name, fine in (("a.png", False), ("b.png", True), ("c.jpg", False), ("d.webp", False)):
        write_picture(tmp_path / name, ramp(), ramp(), fine, comment=words)
        with Image.open(tmp_path / name) as found:
            found.load()
            told = found.info.get("Comment", found.info.get("comment", b""))
            assert (told.decode() if isinstance(told, bytes) else told) == ("" if name == "d.webp" else words)
    write_picture(tmp_path / "e.exr", ramp(), ramp(), comment=words)
    with OpenEXR.File(str(tmp_path / "e.exr")) as file:
        assert file.header()["comments"] == words


def test_films_as_pictures_with_numbers_are_whole_or_not_there(tmp_path: Path) -> None:
    frames = [np.full((6, 8, 3), 40 * k, np.uint8) for k in range(4)]
    assert write_film(tmp_path / "turn.png", iter(frames), 24.0) == 4
    with Image.open(tmp_path / "turn-0003.png") as found:
        assert np.array_equal(np.asarray(found), frames[2])

    def broken() -> Iterator[np.ndarray]:
        yield frames[0]
        raise RuntimeError("lost")

    with pytest.raises(RuntimeError, match="lost"):
        write_film(tmp_path / "half.png", broken(), 24.0)
    with pytest.raises(FormatError, match="there already"):
        write_film(tmp_path / "turn.png", iter(frames), 24.0)
    with pytest.raises(FormatError, match="at least one"):
        write_film(tmp_path / "none.jpg", iter([]), 24.0)
    assert len(list(tmp_path.iterdir())) == 4
