"""Sun and sky by the hour, and where a backdrop stands."""

from __future__ import annotations

import numpy as np
import pytest

from kneten.core.light.day import LUMINANCE, day_sky, sun_light, sun_way
from kneten.core.light.skies import day_tables, directions, solid_angles
from kneten.core.light.surroundings import Surroundings, Sweep


def test_the_sun_goes_round_from_the_left_over_the_front_to_the_right() -> None:
    ways = np.array([sun_way(hour) for hour in np.arange(0.0, 24.0, 0.25)])
    assert np.allclose(np.linalg.norm(ways, axis=1), 1.0)
    assert ways[:, 1].argmax() == 48
    assert sun_way(8.0)[0] < 0 < sun_way(16.0)[0]
    assert sun_way(12.0)[2] > 0.6
    assert np.degrees(np.arcsin(sun_way(12.0)[1])) == pytest.approx(90 - 48 + 8)
    assert sun_way(5.0)[1] < 0 < sun_way(6.0)[1]
    assert sun_way(0.0)[1] == pytest.approx(ways[:, 1].min())


def test_a_low_sun_is_redder_and_weaker_and_haze_more_so() -> None:
    noon, evening = sun_light(12.0, 0.2), sun_light(17.8, 0.2)
    assert LUMINANCE @ noon > 3 * (LUMINANCE @ evening)
    assert evening[0] / evening[2] > 2 * noon[0] / noon[2]
    assert (sun_light(12.0, 0.9) < noon).all()
    assert (sun_light(22.0, 0.2) == 0).all()


@pytest.mark.parametrize("haze", [0.0, 0.3, 1.0])
def test_the_sky_is_light_that_goes_down_with_the_sun_without_jumps(haze: float) -> None:
    ways, angles = directions(32), solid_angles(32)
    hours = np.arange(11.5, 22.0, 0.05)
    bright = []
    for hour in hours:
        light = day_sky(ways, float(hour), haze)
        assert np.isfinite(light).all()
        assert light.min() >= 0
        bright.append(float(angles @ (light @ LUMINANCE)) / (4 * np.pi))
    assert bright[0] > 12 * bright[-1] > 0
    steps = np.abs(np.diff(np.log(bright)))
    assert steps.max() < 0.3


def test_a_clear_noon_is_blue_above_and_brighter_about_the_sun() -> None:
    sun = sun_way(12.0)
    above, about, opposite = day_sky(np.array([[0.0, 1.0, 0.0], sun, [-sun[0], sun[1], -sun[2]]]), 12.0, 0.2)
    assert above[2] > 1.3 * above[0]
    assert LUMINANCE @ about > 2 * (LUMINANCE @ opposite)


def test_its_tables_are_made_once_for_an_hour() -> None:
    assert day_tables(9.0, 0.2) is day_tables(9.0, 0.2)
    assert np.abs(day_tables(9.0, 0.2).mean - day_tables(19.5, 0.2).mean).max() > 0.05


def test_a_sweep_stands_behind_what_the_camera_sees() -> None:
    low, high = np.array([-50.0, 10.0, -50.0]), np.array([50.0, 110.0, 50.0])
    sweep = Sweep.behind(low, high, np.eye(3))
    assert np.allclose(sweep.middle, (0, 10, 0))
    assert np.allclose(sweep.back, (0, 0, -1))
    assert sweep.wall > sweep.bend > 0
    # The clay stands before the bend.
    assert sweep.wall - sweep.bend > 50
    above = np.array([[1.0, 0, 0], [0, 0, -1.0], [0, 1.0, 0]])
    assert np.allclose(Sweep.behind(low, high, above).back, (0, 0, -1))


@pytest.mark.parametrize(
    "traits",
    [{"hour": 25.0}, {"haze": -0.1}, {"backdrop": "curtain"}, {"tone": (0, 0, 300)}, {"hour": np.nan}],
)
def test_surroundings_that_cannot_be_are_refused(traits: dict[str, object]) -> None:
    with pytest.raises(ValueError, match="surroundings"):
        Surroundings(**traits).check()  # type: ignore[arg-type]
