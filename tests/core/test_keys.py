"""Motions by keys: what lies between them, what says nothing, and what is no motion."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation, Slerp

from kneten.core.pose.keys import DIAL, SHIFT, TURN, Keys, Track
from kneten.core.pose.rig import Joint, Rig

ELBOW = Track(TURN, "Elbow")


def turning(*turns: tuple[float, float, float], at: tuple[float, ...] = (0.0, 1.0, 3.0)) -> Keys:
    return Keys.of([(ELBOW, np.array(at[: len(turns)]), np.array(turns, float))])


@given(
    st.lists(st.tuples(*[st.floats(-170, 170)] * 3), min_size=2, max_size=3),
    st.floats(0, 1),
)
def test_turns_go_evenly_the_shorter_way(turns: list[tuple[float, float, float]], share: float) -> None:
    keys = turning(*turns)
    if len(keys.at) < 2:
        return
    seconds = share * keys.seconds
    mine = Rotation.from_rotvec(np.radians(keys.values(seconds)[0]))
    wanted = Slerp(keys.at, Rotation.from_rotvec(np.radians(keys.value)))(seconds)
    assert np.degrees((mine.inv() * wanted).magnitude()) < 1e-3


def test_before_the_first_key_and_after_the_last_it_rests_there() -> None:
    keys = turning((0, 0, 10), (0, 0, 50), at=(1.0, 2.0))
    assert keys.values(0.0)[0] == pytest.approx([0, 0, 10])
    assert keys.values(1.5)[0] == pytest.approx([0, 0, 30])
    assert keys.values(9.0)[0] == pytest.approx([0, 0, 50])


def test_tracks_have_keys_of_their_own() -> None:
    shift, smile = Track(SHIFT, "Hip"), Track(DIAL, "smile")
    keys = Keys.of(
        [
            (ELBOW, np.array([0.0, 2.0]), np.array([[0, 0, 0], [0, 0, 80.0]])),
            (shift, np.array([0.0, 1.0, 2.0]), np.array([[0, 0, 0], [0, 9.0, 0], [0, 0, 0]])),
            (smile, np.array([1.0]), np.array([[0.5, 0, 0]])),
        ]
    )
    keys.check()
    turns, shifts, dials = keys.told(0.5)
    assert turns["Elbow"] == pytest.approx((0, 0, 20))
    assert shifts["Hip"] == pytest.approx((0, 4.5, 0))
    assert dials == {"smile": 0.5}
    assert keys.moments().tolist() == [0.0, 1.0, 2.0]
    assert keys.joints() == ["Elbow", "Hip"]
    assert keys.dials() == ["smile"]


def test_keys_that_say_nothing_are_left_out() -> None:
    at = np.arange(6.0)
    value = np.zeros((6, 3))
    value[3] = 5.0
    keys = Keys.of([(ELBOW, at, value), (Track(SHIFT, "Hip"), at, np.ones((6, 3)))])
    assert keys.at.tolist() == [0, 2, 3, 4, 5, 0]
    for seconds in np.linspace(0, 5, 23):
        whole = [np.interp(seconds, at, value[:, 0])] * 3
        assert keys.values(seconds)[0] == pytest.approx(whole, abs=1e-5)


def test_a_slow_way_is_kept_whole() -> None:
    value = np.zeros((4000, 3))
    value[:, 0] = np.linspace(0, 0.2, 4000)
    keys = Keys.of([(Track(DIAL, "smile"), np.linspace(0, 100, 4000), value)])
    assert keys.values(50.0)[0][0] == pytest.approx(0.1, abs=1e-4)


def test_joints_without_keys_rest() -> None:
    joints = (Joint("Elbow", -1, (0, 0, 0)), Joint("Wrist", 0, (10, 0, 0), turn=(0, 0, 30)))
    rig = Rig(joints, np.zeros((1, 4), np.uint8), np.ones((1, 4), np.float32))
    posed = turning((0, 0, 0), (0, 0, 60), at=(0.0, 1.0)).posed(rig, 0.5)
    assert posed.joints[0].turn == pytest.approx((0, 0, 30))
    assert posed.joints[1].still


@pytest.mark.parametrize(
    "changes",
    [
        {"tracks": ()},
        {"tracks": (Track("colour", "Elbow"),)},
        {"tracks": (ELBOW, ELBOW)},
        {"which": np.array([0, 1, 0], np.int32)},
        {"which": np.array([3, 3, 3], np.int32)},
        {"at": np.array([0, 2, 2], np.float32)},
        {"at": np.array([-1, 0, 2], np.float32)},
    ],
)
def test_what_is_no_motion_is_refused(changes: dict[str, object]) -> None:
    keys = turning((0, 0, 0), (0, 0, 9), (0, 9, 9))
    keys.check()
    with pytest.raises(ValueError, match=r"tracks|order"):
        replace(keys, **changes).check()  # type: ignore[arg-type]
