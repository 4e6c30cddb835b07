"""Presses of our own, mixed ones, edits, and heights as they are seen."""

from __future__ import annotations

import numpy as np
import pytest

from kneten.core.press import Press, PressError, press_of
from kneten.core.press_edits import Edits, edited
from kneten.core.presses.entry import FAMILIES
from kneten.core.presses.library import library
from kneten.core.presses.mixed import KINDS, Mix, mixed
from kneten.core.seen_heights import heights_seen, over_base
from tests.conftest import make_ball, make_sheet
from tests.long import few

pytestmark = pytest.mark.some


@pytest.fixture(scope="module")
def drawn() -> dict[str, Press]:
    return {key: entry.made() for key, entry in few(library().items(), 4)}


def test_there_are_enough() -> None:
    deep = [key for key, entry in library().items() if entry.deep]
    assert len(deep) >= 10
    assert len(library()) - len(deep) >= 48


def test_all_are_what_is_promised(drawn: dict[str, Press]) -> None:
    assert {entry.family for entry in library().values()} == set(FAMILIES)
    for key, press in drawn.items():
        # Of a deep one, three numbers a pixel: it is no grain, but one form.
        assert max(press.heights.shape) >= (256 if press.aside is not None else 1024), key
        assert press.heights.dtype == np.float32
        assert np.isfinite(press.heights).all(), key
        assert np.abs(press.heights).max() == pytest.approx(1.0), key


def test_those_that_tile_go_on_at_their_edges(drawn: dict[str, Press]) -> None:
    """The step over an edge is no greater than steps inside are."""
    for key, press in drawn.items():
        heights, entry = press.heights, library()[key]
        if not entry.tiles:
            continue
        for picture in [heights] if entry.rolls else [heights, heights.T]:
            inner = np.abs(np.diff(picture, axis=1))
            over = np.abs(picture[:, 0] - picture[:, -1])
            assert over.mean() < 1.5 * inner.mean(axis=0).max() + 1e-3, key


def test_none_is_another_under_a_new_name(drawn: dict[str, Press]) -> None:
    """No two pictures have much the same spectrum and heights, however they lie."""
    told = {}
    for key, press in drawn.items():
        if press.aside is not None:
            continue
        small = press.level(max(press.heights.shape) / 128)
        spectrum = np.abs(np.fft.fft2(small - small.mean()))[:24, :24]
        spectrum = spectrum / np.linalg.norm(spectrum)
        heights = np.histogram(press.heights, 24, (-1, 1), density=True)[0]
        told[key] = (small.shape, spectrum, heights / np.linalg.norm(heights))
    keys = list(told)
    for i, one in enumerate(keys):
        for other in keys[i + 1 :]:
            if told[one][0] == told[other][0]:
                like = float((told[one][1] * told[other][1]).sum())
                assert like < 0.985 or float(told[one][2] @ told[other][2]) < 0.995, (one, other)


@pytest.mark.long
@pytest.mark.parametrize("kind", KINDS)
def test_mixed_presses_tile_and_differ_by_their_seed(kind: str) -> None:
    one, other = mixed(Mix(first=kind)), mixed(Mix(first=kind, seed=2, swirl=0.5, share=0.4, sharpness=0.5))
    assert np.isfinite(one).all()
    assert np.isfinite(other).all()
    assert not np.allclose(one, other)
    inner = np.abs(np.diff(other, axis=1)).mean()
    assert np.abs(other[:, 0] - other[:, -1]).mean() < 4 * inner + 1e-3


def test_edits_do_what_they_say() -> None:
    ramp = np.tile(np.linspace(10, 20, 200), (100, 1))
    plain = edited(ramp, Edits())
    assert plain.heights.min() == 0
    assert plain.heights.max() == 1
    half = edited(ramp, Edits(zero=0.5)).heights
    assert half.min() == pytest.approx(-1)
    assert half.max() == pytest.approx(1)
    assert edited(ramp, Edits(invert=True)).heights.min() == pytest.approx(-1)
    levels = edited(ramp, Edits(low=0.25, high=0.75)).heights
    assert (levels[:, :49] == 0).all()
    assert (levels[:, 151:] == 1).all()
    assert edited(ramp, Edits(turn=90)).heights.shape == (200, 100)
    mirrored = edited(ramp, Edits(mirror=True)).heights
    assert np.allclose(mirrored, plain.heights[:, ::-1])
    assert edited(ramp, Edits(fade=0.5)).heights[0].max() == 0
    curve = edited(ramp, Edits(curve=((0.0, 0.0), (0.5, 0.9), (1.0, 1.0)))).heights
    assert curve[50, 100] == pytest.approx(0.9, abs=0.02)
    tile = edited(ramp, Edits(tile=True))
    assert tile.tiles
    step = np.abs(tile.heights[:, 0] - tile.heights[:, -1]).max()
    assert step < 0.05
    noise = np.random.default_rng(1).random((128, 128))
    assert edited(noise, Edits(blur=5)).heights.std() < 0.5 * edited(noise, Edits()).heights.std()


def test_what_leaves_no_mark_is_refused() -> None:
    for bad in (np.zeros((8, 8)), np.full((8, 8), 3.0), np.zeros((1, 8)), np.full((4, 4), np.nan)):
        with pytest.raises(PressError):
            press_of(bad, zero=float(np.nan_to_num(bad).max()))
    with pytest.raises(PressError):
        edited(np.full((9, 9), 5.0), Edits())


def test_heights_are_seen_over_their_own_base() -> None:
    """A tilted sheet with a dome on it: the dome alone is left."""
    mesh = make_sheet(160, 100.0 / 160)
    far = np.hypot(mesh.positions[:, 0], mesh.positions[:, 1])
    mesh.positions[:, 2] = 0.3 * mesh.positions[:, 0] + 6 * np.sqrt(np.clip(1 - (far / 20) ** 2, 0, 1))
    mesh.refresh_all()
    near, _ = heights_seen([(mesh, np.eye(4))], np.zeros(3), np.eye(3), (60.0, 60.0), 240)
    heights, share = over_base(near)
    assert share == 1.0
    t = (np.arange(240) + 0.5) / 240 * 60 - 30
    wanted = 6 * np.sqrt(np.clip(1 - (np.hypot(t[:, None], t[None]) / 20) ** 2, 0, 1))
    # The dome's rim is steep; pixels beside it lie in its triangles.
    off = np.abs(heights - wanted)
    assert np.quantile(off, 0.95) < 0.1
    assert heights.max() == pytest.approx(6.0, rel=0.02)


def test_what_lies_behind_is_not_seen_and_masks_are() -> None:
    ball, far = make_ball(20.0, 24), make_sheet(10, 200.0 / 10)
    far.positions[:, 2] = -30
    ball.mask = (ball.positions[:, 0] > 0).astype(np.float32)
    near, shown = heights_seen(
        [(far, np.eye(4)), (ball, np.eye(4))], np.zeros(3), np.eye(3), (80.0, 40.0), 160
    )
    assert near.shape == (80, 160)
    assert near[40, 80] == pytest.approx(20, abs=0.3)
    assert near[2, 2] == pytest.approx(-30, abs=1e-6)
    assert shown[40, 100] == pytest.approx(1)
    assert shown[40, 60] == pytest.approx(0)
    empty, share = over_base(np.full((8, 8), -np.inf))
    assert share == 0
    assert not empty.any()
