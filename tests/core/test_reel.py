"""A reel's steps, its camera, and pictures on a page."""

from __future__ import annotations

import numpy as np
import pytest

from kneten.core.camera import Camera
from kneten.core.light.page import PAPERS, laid_out
from kneten.core.light.reel import Framing, Reel


def test_all_steps_are_played_before_the_rest() -> None:
    reel = Reel(seconds=5, pace=10, rest=1)
    steps = reel.steps(1000)
    assert len(steps) == reel.pictures == 50
    assert (np.diff(steps) >= 0).all()
    assert steps[0] == 25
    assert (steps[39:] == 1000).all()
    # Fewer steps than pictures: each is seen.
    assert sorted(set(reel.steps(7).tolist())) == list(range(1, 8))


def test_a_reel_ends_at_its_camera() -> None:
    camera = Camera(target=(1.0, 2.0, 3.0), distance=500.0, yaw=30.0)
    reel = Reel(seconds=2, pace=10, turns=1.5)
    last = reel.camera(camera, reel.pictures - 1, np.zeros(3), 1.0)
    assert np.allclose(last.eye(), camera.eye())
    first = reel.camera(camera, 0, np.array([10.0, 0, 0]), 0.5)
    assert first.distance == pytest.approx(250.0)
    assert np.allclose(first.target, (11.0, 2.0, 3.0))
    assert abs(first.yaw - camera.yaw) > 1


def test_clay_that_grows_is_framed_smoothly() -> None:
    low, high = np.array([-100.0, -100, -100]), np.array([100.0, 100, 100])
    framing = Framing(low, high, 24.0)
    _, growth = framing.follow(low / 2, high / 2)
    assert growth == pytest.approx(0.5)
    seen = [framing.follow(low, high)[1] for _ in range(60)]
    assert max(np.diff([growth, *seen])) < 0.1
    assert seen[-1] == pytest.approx(1.0, abs=0.01)


@pytest.mark.parametrize(
    ("reel", "words"),
    [
        (Reel(seconds=0.01), "2 to"),
        (Reel(seconds=1e5), "pictures"),
        (Reel(rest=20.0), "end of a reel"),
        (Reel(turns=200), "100 times"),
        (Reel(pace=0.1), "a second"),
    ],
)
def test_a_reel_that_is_not_usable_is_refused(reel: Reel, words: str) -> None:
    with pytest.raises(ValueError, match=words):
        reel.check()


@pytest.mark.parametrize("paper", PAPERS)
@pytest.mark.parametrize("count", [1, 2, 3, 5, 12, 40])
@pytest.mark.parametrize("aspect", [0.6, 1.0, 1.9])
def test_pictures_lie_on_a_page_without_touching(paper: str, count: int, aspect: float) -> None:
    _, width, height = PAPERS[paper]
    layout = laid_out(count, width, height, aspect)
    assert len(layout.cells) == count
    boxes = [(c.x, c.y, c.x + c.width, c.y + c.height + c.caption) for c in layout.cells]
    for box in boxes:
        assert box[0] >= layout.margin - 1e-6
        assert box[2] <= width - layout.margin + 1e-6
        assert box[1] >= layout.margin + layout.title - 1e-6
        assert box[3] <= height - layout.margin + 1e-6
    for k, a in enumerate(boxes):
        assert layout.cells[k].width / layout.cells[k].height == pytest.approx(aspect)
        for b in boxes[:k]:
            assert a[0] >= b[2] or b[0] >= a[2] or a[1] >= b[3] or b[1] >= a[3]


def test_a_page_without_pictures_or_room_is_refused() -> None:
    with pytest.raises(ValueError, match="needs pictures"):
        laid_out(0, 210, 297, 1.0)
    with pytest.raises(ValueError, match="no room"):
        laid_out(60, 210, 297, 1.0, columns=1)
