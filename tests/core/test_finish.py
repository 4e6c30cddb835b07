"""What a finish may be, and how a turntable goes round."""

from __future__ import annotations

import numpy as np
import pytest

from kneten.core.camera import Camera
from kneten.core.light.finish import Finish
from kneten.core.light.lamps import warm_light
from kneten.core.light.turntable import Turntable


@pytest.mark.parametrize(
    "traits",
    [
        {"exposure": 30.0},
        {"exposure": float("nan")},
        {"curve": "none"},
        {"white": 100.0},
        {"tint": 2.0},
        {"stop": 0.0},
        {"bloom": -0.1},
        {"gamma": (0.0, 1.0, 1.0)},
        {"lift": (2.0, 0.0, 0.0)},
        {"gain": (1.0, 1.0)},
        {"focus": (float("inf"), 0.0, 0.0)},
        {"vignette": 2.0},
        {"sharpen": 3.0},
        {"colourful": -1.0},
    ],
)
def test_what_is_no_finish_is_refused(traits: dict[str, object]) -> None:
    with pytest.raises(ValueError, match="finish"):
        Finish(**traits).check()  # type: ignore[arg-type]


def test_white_stays_as_bright_and_what_was_warm_is_white() -> None:
    bright = np.array([0.2126, 0.7152, 0.0722])
    for white in (2000.0, 6500.0, 15000.0):
        assert bright @ Finish(white=white).balance() == pytest.approx(1.0)
    lit = warm_light(2800.0) * Finish(white=2800.0).balance()
    neutral = warm_light(6500.0)
    assert lit / lit.sum() == pytest.approx(neutral / neutral.sum(), abs=1e-6)
    assert Finish(exposure=2.0).balance() @ bright == pytest.approx(4.0)


def test_a_turn_is_whole_and_its_end_is_next_to_its_beginning() -> None:
    for table in (
        Turntable(96),
        Turntable(60, turns=-2),
        Turntable(96, ease=1.0),
        Turntable(96, pauses=4, pause=0.25),
    ):
        degrees = table.degrees()
        assert len(degrees) == table.pictures
        assert degrees[0] == 0
        steps = np.diff(np.append(degrees, 360.0 * table.turns)) * np.sign(table.turns)
        assert (steps >= -1e-9).all()
        assert steps.sum() == pytest.approx(360.0 * abs(table.turns))
        # The last picture is no further from the first than the widest step.
        assert steps[-1] <= steps.max() + 1e-9


def test_ease_begins_and_ends_slowly() -> None:
    steps = np.diff(Turntable(96, ease=1.0).degrees())
    assert steps[0] < 0.1 * steps.max()
    assert steps[-1] < 0.1 * steps.max()


def test_pauses_stand_still_where_they_should() -> None:
    table = Turntable(120, 24.0, pauses=4, pause=0.5)
    degrees = table.degrees()
    for at in (0.0, 90.0, 180.0, 270.0):
        assert (np.abs(degrees - at) < 2.0).sum() >= 12


@pytest.mark.parametrize(
    "table",
    [
        Turntable(1),
        Turntable(10, 0.0),
        Turntable(10, turns=0),
        Turntable(10, ease=2.0),
        Turntable(24, 24.0, pauses=4, pause=1.0),
    ],
)
def test_turntables_that_cannot_be_are_refused_with_words(table: Turntable) -> None:
    with pytest.raises(ValueError, match=r"\."):
        table.check()


def test_what_is_turned_round_stays_in_the_middle() -> None:
    pivot = np.array([10.0, 20.0, -5.0])
    camera = Camera((10.0, 20.0, -5.0), 300.0, pitch=12.0)
    for one in Turntable(8).cameras(camera, pivot):
        assert one.project(pivot[None], 100, 100)[0, :2] == pytest.approx([50, 50])
