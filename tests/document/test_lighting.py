"""Light as part of a project: undone, saved, recovered, kept as sets."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kneten.core.light.lamps import Lamp
from kneten.core.light.rigs import RIGS, rig
from kneten.core.light.skies import own_tables
from kneten.core.light.surroundings import OWN, Surroundings
from kneten.document.incoming import bring_in, own_scene
from kneten.document.journal import Journal
from kneten.document.kinds import THINGS, thing_words, with_thing_words
from kneten.document.lighting import (
    MOST_LAMPS,
    add_lamp,
    add_pedestal,
    add_sky,
    around,
    change_around,
    change_group,
    change_lamp,
    day_lamps,
    keep_set,
    lamp_named,
    lamps_of,
    light_by,
    remove_lamp,
    remove_set,
    remove_sky,
    sky_tables,
)
from kneten.document.project import Project
from kneten.document.project_file import ProjectFileError, open_project, save_project
from kneten.document.recovery import left_journals, recover
from kneten.document.scene import Part, Scene
from tests.conftest import make_ball


def ball() -> Project:
    return Project(Scene((Part("Ball", make_ball(50.0, 12)),)))


def lit() -> Project:
    """A ball with lamps, a sky and a set of one's own."""
    project = ball()
    light_by(project, rig("three", *project.scene.bounds()), "Light by Three")
    change_around(project, Surroundings("lantern", 0.4, 30.0, True, 0.2, False), "Change")
    keep_set(project, "Mine")
    lamp = add_lamp(project, Lamp("Key", "spot", free=True, colour=(10, 200, 30), cone=33.0, solo=True))
    change_lamp(project, replace(lamp, size=12.5, warmth=3100.0, shown=False), "Change Key")
    return project


def told(project: Project) -> object:
    words = thing_words(project.scene)
    return {name: words[name] for name in ("lamps", "surroundings", "light_sets")}


def test_each_change_is_one_step_and_undone() -> None:
    project = lit()
    assert project.history.names()[0] == [
        "Light by Three", "Change", "Keep the light as Mine", "Add Key 2", "Change Key",
    ]  # fmt: skip
    after = told(project)
    for _ in range(5):
        project.undo()
    assert lamps_of(project.scene) == ()
    assert around(project.scene) == Surroundings()
    for _ in range(5):
        project.redo()
    assert told(project) == after
    lamp = lamps_of(project.scene)[-1]
    assert not change_lamp(project, lamp, "Nothing")
    assert not change_around(project, around(project.scene), "Nothing")
    remove_lamp(project, lamp.id)
    assert lamp_named(project.scene, lamp.id) is None
    remove_lamp(project, lamp.id)
    assert len(project.history.names()[0]) == 6


@pytest.mark.parametrize("small", [False, True])
def test_light_is_saved_and_opened(tmp_path: Path, small: bool) -> None:
    project = lit()
    save_project(project, tmp_path / "a.kneten", small=small)
    assert told(open_project(tmp_path / "a.kneten")) == told(project)


def test_light_comes_back_after_a_crash(tmp_path: Path) -> None:
    project = ball()
    journal = Journal(project, tmp_path / "journals")
    journal.start(None)
    light_by(project, rig("lantern", *project.scene.bounds()), "Light by Lantern")
    lamp = add_lamp(project, Lamp("More", "rim"))
    change_lamp(project, replace(lamp, strength=0.25), "Change More")
    project.undo()
    journal._record.close()
    (journal.folder / "owner").write_text("1 0")
    (left,) = left_journals(tmp_path / "journals")
    assert told(recover(left)) == told(project)


def test_sets_take_the_place_of_what_is_there_and_of_their_namesakes() -> None:
    project = lit()
    (mine,) = project.scene.things("light_sets")
    light_by(project, rig("day", *project.scene.bounds()), "Light by Daylight")
    assert [lamp.name for lamp in lamps_of(project.scene)] == ["Sun"]
    light_by(project, (mine.lamps, mine.around), "Light by Mine")
    assert [replace(lamp, id="") for lamp in lamps_of(project.scene)] == [
        replace(lamp, id="") for lamp in mine.lamps
    ]
    assert around(project.scene) == mine.around
    # Lamps that come from a set are their own: what is done to them leaves the set as it is.
    assert {lamp.id for lamp in lamps_of(project.scene)}.isdisjoint(lamp.id for lamp in mine.lamps)
    change_around(project, Surroundings(), "Change")
    again = keep_set(project, "Mine")
    assert project.scene.things("light_sets") == (again,)
    remove_set(project, again.id)
    assert project.scene.things("light_sets") == ()


def test_there_is_an_end_of_lamps_and_bad_ones_change_nothing() -> None:
    project = ball()
    for k in range(MOST_LAMPS):
        add_lamp(project, Lamp(f"Lamp {k}"))
    before = told(project)
    with pytest.raises(ValueError, match="room for 64 lamps"):
        add_lamp(project, Lamp("More"))
    with pytest.raises(ValueError, match="not usable"):
        change_lamp(project, replace(lamps_of(project.scene)[0], strength=-1.0), "Change")
    with pytest.raises(ValueError, match="not usable"):
        change_around(project, Surroundings(blur=7.0), "Change")
    assert told(project) == before


@pytest.mark.parametrize(
    ("name", "entry"),
    [
        ("lamps", {"name": "a", "id": "x", "kind": "moon"}),
        ("lamps", {"name": "a", "id": "x", "strength": "much"}),
        ("surroundings", {"strength": -3.0}),
        ("light_sets", {"name": "a", "id": "x", "lamps": [{"name": "b", "cone": 999.0, "id": "y"}]}),
    ],
)  # fmt: skip
def test_files_with_light_that_cannot_be_are_refused(name: str, entry: dict[str, object]) -> None:
    with pytest.raises(ValueError, match=r"not usable|Expected"):
        with_thing_words(ball().scene, {name: [entry]}, lambda *_, **__: np.zeros(0))


def test_a_sky_of_a_newer_kneten_is_the_usual_one() -> None:
    scene = with_thing_words(
        ball().scene, {"surroundings": [{"sky": "from-tomorrow", "turn": 5.0}]}, lambda *_, **__: np.zeros(0)
    )
    assert around(scene) == Surroundings(turn=5.0)


def test_a_sky_of_ones_own_is_kept_saved_and_taken_away(tmp_path: Path) -> None:
    project = lit()
    light = np.random.default_rng(1).random((90, 180, 3)).astype(np.float32)
    usual = sky_tables(project.scene)
    kept = add_sky(project, "Harbour", light)
    assert around(project.scene).sky == OWN + kept.id
    assert around(project.scene).strength == 0.4
    assert not np.array_equal(sky_tables(project.scene).levels, usual.levels)
    assert sky_tables(project.scene) is sky_tables(project.scene)
    keep_set(project, "Harbour light")
    save_project(project, tmp_path / "a.kneten", small=True)
    found = open_project(tmp_path / "a.kneten")
    assert np.array_equal(found.scene.things("skies")[0].light, kept.light)
    assert np.array_equal(sky_tables(found.scene).levels, sky_tables(project.scene).levels)
    remove_sky(project, kept.id)
    assert around(project.scene).sky == Surroundings().sky
    # A set that was kept under it lights by the usual one.
    _, harbour = project.scene.things("light_sets")
    light_by(project, (harbour.lamps, harbour.around), "Light by Harbour light")
    assert np.array_equal(sky_tables(project.scene).levels, own_tables(Surroundings().sky).levels)
    project.undo()
    project.undo()
    assert around(project.scene).sky == OWN + kept.id
    bad = replace(kept, light=-kept.light)
    with pytest.raises(ValueError, match="not usable"):
        THINGS["skies"].usable(bad, None)  # type: ignore[misc]


def test_parts_that_come_from_elsewhere_leave_the_light_alone() -> None:
    project, other = ball(), lit()
    bring_in(project, "Bring in", own_scene(other.scene, list(other.scene.parts)))
    assert lamps_of(project.scene) == ()


def test_old_projects_have_no_light(tmp_path: Path) -> None:
    project = ball()
    save_project(project, tmp_path / "a.kneten")
    found = open_project(tmp_path / "a.kneten")
    assert lamps_of(found.scene) == ()
    assert around(found.scene) == Surroundings()
    with pytest.raises(ProjectFileError):
        open_project(tmp_path / "none.kneten")
    assert set(RIGS)


def test_the_sun_of_the_hour_is_a_lamp_by_itself() -> None:
    about = Surroundings("hour", hour=9.0)
    (sun,) = day_lamps(about)
    sun.check()
    assert sun.way[0] < 0
    (turned,) = day_lamps(replace(about, turn=180.0))
    assert np.allclose(turned.way, (-sun.way[0], sun.way[1], -sun.way[2]))
    assert day_lamps(replace(about, hour=23.0)) == ()
    assert day_lamps(Surroundings("studio")) == ()
    (dimmed,) = day_lamps(replace(about, strength=0.5))
    assert dimmed.strength == pytest.approx(0.5 * sun.strength)
    project = ball()
    project.change("Hour", project.scene.with_things("surroundings", (about,)))
    morning = sky_tables(project.scene)
    project.change("Hour", project.scene.with_things("surroundings", (replace(about, hour=19.0),)))
    assert sky_tables(project.scene).mean.sum() < 0.5 * morning.mean.sum()


def test_a_group_of_lamps_is_put_out_in_one_step() -> None:
    project = ball()
    for name, group in (("Key", "Front"), ("Fill", "Front"), ("Rim", "")):
        add_lamp(project, Lamp(name, group=group))
    assert change_group(project, "Front", "Put out Front", {"shown": False})
    assert [lamp.shown for lamp in lamps_of(project.scene)] == [False, False, True]
    assert not change_group(project, "Front", "Put out Front", {"shown": False})
    assert not change_group(project, "", "None", {"shown": False})
    assert project.undo() == "Put out Front"
    assert all(lamp.shown for lamp in lamps_of(project.scene))


def test_a_pedestal_is_a_live_part_below_the_clay() -> None:
    project = ball()
    low, high = project.scene.bounds()
    part = add_pedestal(project)
    assert part.recipe is not None
    assert part.bounds()[1][1] == pytest.approx(low[1], abs=1e-3)
    assert part.bounds()[0][0] < low[0]
    assert part.bounds()[1][0] > high[0]
    project.undo()
    assert len(project.scene.parts) == 1
