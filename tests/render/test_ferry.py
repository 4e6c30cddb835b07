"""The scene of the portfolio still: what is around Tarn, Pim on the shoulder, both lights."""

from __future__ import annotations

import itertools
from pathlib import Path

import numpy as np
import pytest

from kneten.demo.ferry import DAY, NIGHT, by_day, made, strip
from kneten.demo.ferry_set import RAIL_TOP, WATER, ferry_set
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.render.filming import finished
from kneten.render.lit import Light
from kneten.render.still import draw_still
from kneten.render.style import Style


@pytest.fixture(scope="module")
def ferry() -> Project:
    return made()


def test_what_is_around_is_painted_clay_in_its_place() -> None:
    parts = {part.name: part for part in ferry_set()}
    assert {"Rail", "Post", "Lake", "Shore 1", "Shore 2"} <= set(parts)
    for part in parts.values():
        assert np.isfinite(part.mesh.positions).all()
        assert part.mesh.colour is not None
        assert part.mesh.material is not None
    assert parts["Rail"].bounds()[1][1] == pytest.approx(RAIL_TOP, abs=3)
    assert abs(parts["Lake"].bounds()[1][1] - WATER) < 30
    # The shore hides where the lake ends.
    assert parts["Shore 1"].bounds()[1][1] > WATER + 200
    assert np.ptp(parts["Rail"].mesh.colour[:, 0]) > 40


def test_pim_sits_on_the_shoulder_and_both_cameras_have_their_finish(ferry: Project) -> None:
    scene = ferry.scene
    tarn = next(part for part in scene.parts if part.name == "Tarn")
    pim = next(part for part in scene.parts if part.name == "Pim")
    low, high = pim.bounds()
    assert tarn.bounds()[0][1] < low[1] < tarn.bounds()[1][1]
    assert (low + high)[0] / 2 < -60
    shots = {shot.name: shot for shot in scene.things("cameras")}
    assert set(shots) == {NIGHT, DAY}
    assert shots[NIGHT].finish.blurs
    assert ferry.settings.through == shots[NIGHT].id


def test_his_hands_lie_on_the_rail_with_the_fingers_over_it(ferry: Project) -> None:
    parts = {part.name: part for part in ferry.scene.parts}
    rail = parts["Rail"].bounds()
    for name, side in (("Hand left", 1), ("Hand right", -1)):
        hand = parts[name]
        low, high = hand.bounds()
        # The palm above it, the tips before it and below its upper edge.
        assert side * (low + high)[0] > 100
        places = hand.transform.to_scene(hand.mesh.positions.astype(np.float64))
        before = places[:, 2] > rail[1][2]
        assert places[before, 1].min() < RAIL_TOP - 20
        # Nothing of it is in the wood; the palm lies on it.
        over = (places[:, 2] < rail[1][2] - 4) & (places[:, 2] > rail[0][2] + 4)
        assert RAIL_TOP - 3 < places[over, 1].min() < RAIL_TOP + 4
        assert np.ptp(hand.mesh.colour[:, 0]) > 40  # type: ignore[index]
        (fur,) = [one for one in ferry.scene.things("furs") if one.part == hand.id]
        assert len(fur.corners) > 10


@pytest.mark.long
def test_it_is_saved_and_lit_by_night_and_by_day(ferry: Project, tmp_path: Path) -> None:
    save_project(ferry, tmp_path / "ferry.kneten", small=True)
    again = open_project(tmp_path / "ferry.kneten")
    assert [part.name for part in again.scene.parts] == [part.name for part in ferry.scene.parts]
    shots = {shot.name: shot for shot in again.scene.things("cameras")}
    pictures = {}
    for name in (NIGHT, DAY):
        if name == DAY:
            by_day(again)
        style = finished(Style(look=again.settings.look), again.scene, shots[name].id)
        still = draw_still(again.scene, shots[name].camera, 240, 135, style)
        pictures[name] = np.asarray(still.image().convert("L")).astype(float)
    # By night the face, before the lantern, is what is bright.
    night, day = pictures[NIGHT], pictures[DAY]
    assert night[40:80, 80:130].mean() > 1.5 * night[:, 200:].mean()
    assert day.mean() > 1.3 * night.mean()


@pytest.mark.long
def test_the_strip_shows_tarn_from_all_sides(ferry: Project) -> None:
    found = strip(ferry, 164).astype(float)
    assert found.shape == (24, 164, 3)
    sides = [found[:, 20 * k : 20 * k + 20] for k in range(8)]
    for one, other in itertools.pairwise(sides):
        assert np.abs(one - other).mean() > 2


def test_fur_is_lit_by_what_lights_its_near_side(ferry: Project) -> None:
    """A strong moon behind does not leave it black before the lantern."""
    shot = next(one for one in ferry.scene.things("cameras") if one.name == NIGHT)
    light = Light.of(ferry.scene, shot.camera, *ferry.scene.bounds())
    way, colour, around = light.key()
    assert way[2] > 0.3
    assert colour[0] > colour[2]
    assert (around > 0).all()
