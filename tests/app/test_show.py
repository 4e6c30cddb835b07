"""Light through the real window: lamps added, placed by clicks, dragged, dialled; surroundings; sets of one's own."""

from __future__ import annotations

import itertools
from dataclasses import replace
from pathlib import Path

import numpy as np
import OpenEXR
import pytest
from PySide6.QtWidgets import QFileDialog, QInputDialog

from kneten.app.benches.show.lamp_marks import mark_places
from kneten.app.shell.window import Window
from kneten.core.light.lamps import KINDS
from kneten.core.light.rigs import RIGS
from kneten.core.light.skies import SKIES
from kneten.core.light.surroundings import Surroundings
from kneten.core.live.primitive import Primitive
from kneten.core.transform import Transform
from kneten.document.blocking import add_live
from kneten.document.lighting import MOST_LAMPS, add_lamp, around, lamps_of
from kneten.document.look import Look
from kneten.document.project_file import open_project, save_project
from tests.app.windows import drag, middle, picture, run, said, settle, steps


@pytest.fixture
def shows(window: Window) -> Window:
    """The stage Show; what lies over the clay is off, so that light alone is measured."""
    run(window, "stage.show")
    window.studio.set_look(kind="lit", cavity=False, cover=False)
    window.view.set_effects(0)
    settle(window)
    return window


def lamps(window: Window) -> list[str]:
    return [lamp.name for lamp in lamps_of(window.studio.project.scene)]


def brightest(pixels: np.ndarray) -> np.ndarray:
    """Where the picture is brightest, x and y: the middle of its few brightest places."""
    light = pixels[..., :3].astype(int).sum(axis=2)
    y, x = np.nonzero(light >= np.sort(light.ravel())[-40])
    return np.array([x.mean(), y.mean()])


@pytest.mark.parametrize("kind", ["sun", "panel", "rim"])
def test_lamps_are_added_and_undone(shows: Window, kind: str) -> None:
    before = picture(shows)
    shows.studio.set_look(kind="clay")
    run(shows, f"light.add-{kind}")
    # What has been added is to be seen.
    assert shows.studio.project.settings.look.kind == "lit"
    assert lamps(shows) == [KINDS[kind][0]]
    assert shows.lights.chosen is not None
    assert shows.lights.chosen.kind == kind
    after = picture(shows)
    assert (np.abs(after.astype(int) - before).max(axis=2) > 12).mean() > 0.02
    run(shows, f"light.add-{kind}")
    assert lamps(shows) == [KINDS[kind][0], f"{KINDS[kind][0]} 2"]
    run(shows, "light.remove")
    run(shows, "edit.undo")
    run(shows, "edit.undo")
    run(shows, "edit.undo")
    assert lamps(shows) == []
    assert np.array_equal(picture(shows), before)
    run(shows, "edit.redo")
    assert np.array_equal(picture(shows), after)


@pytest.mark.parametrize("key", ["window", "lantern"])
def test_a_set_lights_the_clay(shows: Window, key: str) -> None:
    assert all(f"light.set-{one}" in shows.registry.commands for one in RIGS)
    card = shows.light_card
    card.sets.setCurrentIndex(card.sets.findData(key))
    card.sets.activated.emit(card.sets.currentIndex())
    settle(shows)
    assert steps(shows) == [f"Light by {RIGS[key][0]}"]
    assert card.which.count() == len(lamps(shows)) > 0
    assert picture(shows)[..., :3].max() > 90
    run(shows, "edit.undo")
    assert lamps(shows) == []


def test_the_highlight_goes_where_one_clicks(shows: Window) -> None:
    run(shows, "light.add-sun")
    part = shows.studio.project.active
    part.mesh.material = np.tile(np.uint8([60, 0, 0, 0]), (part.mesh.n_vertices, 1))
    shows.lights.change_around(strength=0.0)
    shows.view.refresh()
    x, y = middle(shows)
    for off in ((-70.0, -40.0), (60.0, 30.0)):
        run(shows, "light.highlight")
        assert shows.view.mode is not None
        drag(shows, [(x, y), (x + off[0], y + off[1])])
        settle(shows)
        assert steps(shows)[-1] == "Highlight of Sun"
        found = brightest(picture(shows))
        assert np.hypot(*(found - (x + off[0], y + off[1]))) < 14
        run(shows, "light.highlight")
        assert shows.view.mode is None


def test_the_lit_side_and_the_edge_of_shadow_go_where_one_clicks(shows: Window) -> None:
    run(shows, "light.add-sun")
    shows.lights.change_around(strength=0.05)
    x, y = middle(shows)
    at = (x + 60, y - 30)
    run(shows, "light.lit")
    drag(shows, [at, at], events=1)
    settle(shows)
    lit = picture(shows).astype(int)[round(at[1]), round(at[0])].sum()
    run(shows, "light.edge")
    drag(shows, [at, at], events=1)
    settle(shows)
    seen = picture(shows).astype(int)
    assert seen[round(at[1]), round(at[0])].sum() < 0.7 * lit
    assert steps(shows)[-2:] == ["Lit side of Sun", "Edge of Sun"]
    shows.view.take_mode(None)


def test_a_drag_that_is_broken_off_leaves_the_lamp(shows: Window) -> None:
    run(shows, "light.add-sun")
    before, seen = lamps_of(shows.studio.project.scene), picture(shows)
    run(shows, "light.highlight")
    x, y = middle(shows)
    drag(shows, [(x, y), (x + 50, y)], release=False)
    shows.view.cancel_hand()
    assert lamps_of(shows.studio.project.scene) == before
    assert np.array_equal(picture(shows), seen)
    assert not shows.view.shown_things
    # Beside the clay the camera turns.
    yaw = shows.view.camera.yaw
    drag(shows, [(12, shows.view.height() - 12), (60, shows.view.height() - 12)])
    settle(shows)
    assert shows.view.camera.yaw != yaw
    assert lamps_of(shows.studio.project.scene) == before
    shows.view.take_mode(None)


@pytest.mark.parametrize("kind", ["sun", "point", "rim"])
def test_lamps_are_dragged_by_their_marks(shows: Window, kind: str) -> None:
    run(shows, "light.add-panel")
    shows.lights.change(way=(0.8, -0.3, 0.5))
    run(shows, f"light.add-{kind}")
    # So near that its mark is where it stands.
    shows.lights.change(distance=150.0)
    first, held = lamps_of(shows.studio.project.scene)
    shows.lights.choose(first.id)
    run(shows, "light.drag")
    x, y = mark_places(shows.view, [held])[0]
    drag(shows, [(x, y), (x + 40, y + 10)])
    settle(shows)
    assert shows.lights.chosen_id == held.id
    now = shows.lights.chosen
    assert now is not None
    assert now.way != held.way
    after = mark_places(shows.view, [now])[0]
    assert after[0] > x
    assert steps(shows)[-1] == f"Move {held.name}"
    run(shows, "light.drag")


def test_numbers_are_dialled_and_kept(shows: Window) -> None:
    run(shows, "light.add-panel")
    card = shows.light_card
    before = picture(shows)
    card.numbers["strength"].changed.emit(300.0)
    settle(shows)
    assert shows.view.shown_things["lamps"][0].strength == 3.0
    assert steps(shows) == ["Add Soft panel"]
    assert not np.array_equal(picture(shows), before)
    card.numbers["strength"].settled.emit(300.0)
    settle(shows)
    assert not shows.view.shown_things
    assert steps(shows) == ["Add Soft panel", "Change Soft panel"]
    for field, value, wanted in (
        ("warmth", 2500.0, 2500.0), ("distance", 321.0, 321.0), ("size", 45.0, 45.0),
    ):  # fmt: skip
        card.numbers[field].settled.emit(value)
        assert getattr(shows.lights.chosen, field) == wanted
    card.choices["kind"].setCurrentIndex(card.choices["kind"].findData("spot"))
    card.choices["kind"].activated.emit(0)
    card.numbers["cone"].settled.emit(33.0)
    assert shows.lights.chosen is not None
    assert (shows.lights.chosen.kind, shows.lights.chosen.cone) == ("spot", 33.0)
    assert card.cone_row.isVisibleTo(card)
    card.choices["kind"].setCurrentIndex(card.choices["kind"].findData("rim"))
    card.choices["kind"].activated.emit(0)
    card.degrees.settled.emit(7.5)
    assert shows.lights.chosen.size == 7.5
    assert not card.cone_row.isVisibleTo(card)
    card.switches["solo"].click()
    card.switches["shown"].click()
    assert (shows.lights.chosen.solo, shows.lights.chosen.shown) == (True, False)
    assert "only the sky" in card.words.text()
    run(shows, "light.colour")
    assert shows.lights.chosen.free
    assert shows.lights.chosen.colour == shows.studio.project.settings.ink.colour
    run(shows, "light.copy")
    assert len(lamps(shows)) == 2


def test_surroundings_are_dialled_and_kept(shows: Window) -> None:
    card = shows.around_card
    pictures = []
    assert [card.sky.itemData(k) for k in range(card.sky.count())] == list(SKIES)
    for key in ("overcast", "low-sun", "workshop"):
        card.choices["sky"].setCurrentIndex(card.choices["sky"].findData(key))
        card.choices["sky"].activated.emit(0)
        settle(shows)
        pictures.append(picture(shows))
    for one, other in itertools.pairwise(pictures):
        assert not np.array_equal(one, other)
    card.numbers["strength"].changed.emit(40.0)
    settle(shows)
    assert shows.view.shown_things["surroundings"][0].strength == 0.4
    card.numbers["strength"].settled.emit(40.0)
    card.numbers["turn"].settled.emit(-90.0)
    card.switches["shown"].click()
    card.numbers["blur"].settled.emit(80.0)
    card.switches["catches"].click()
    assert around(shows.studio.project.scene) == Surroundings(list(SKIES)[-1], 0.4, -90.0, True, 0.8, False)
    for _ in range(5):
        run(shows, "edit.undo")
    assert around(shows.studio.project.scene).strength == 1.0


def test_the_hour_of_the_day_lights_the_clay_and_a_backdrop_stands_behind_it(shows: Window) -> None:
    card = shows.around_card
    shows.lights.change_around(strength=0.3)
    card.choices["sky"].setCurrentIndex(card.choices["sky"].findData("hour"))
    card.choices["sky"].activated.emit(0)
    settle(shows)
    assert all(row.isVisibleTo(card) for row in card.hours)
    # A light set's weak sky would be too little for a day.
    assert shows.lights.around.strength == 1.0
    pictures = []
    for hour in (9.0, 15.0, 23.0):
        card.numbers["hour"].settled.emit(hour)
        settle(shows)
        pictures.append(picture(shows).astype(float))
    assert pictures[0].mean() > 1.3 * pictures[2].mean()
    assert np.abs(pictures[0] - pictures[1]).mean() > 2
    assert "no backdrop" in shows.registry.commands["light.backdrop-colour"].blocked()
    card.choices["backdrop"].setCurrentIndex(card.choices["backdrop"].findData("sweep"))
    card.choices["backdrop"].activated.emit(0)
    card.numbers["hour"].settled.emit(9.0)
    settle(shows)
    assert np.abs(picture(shows).astype(float) - pictures[0]).mean() > 5
    shows.studio.project.change_settings(ink=replace(shows.studio.project.settings.ink, colour=(200, 40, 40)))
    run(shows, "light.backdrop-colour")
    corner = picture(shows)[-20:, :20].reshape(-1, 4)[:, :3].mean(axis=0)
    assert corner.max() > 1.3 * corner.min()
    run(shows, "light.pedestal")
    assert [part.name for part in shows.studio.project.scene.parts] == ["Ball", "Pedestal"]
    run(shows, "edit.undo")
    assert len(shows.studio.project.scene.parts) == 1


def test_lamps_are_grouped_and_put_out_together(shows: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    run(shows, "light.set-three")
    assert "in no group" in shows.registry.commands["light.group-lit"].blocked()
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: (" Front ", True))
    for lamp in shows.lights.all[:2]:
        shows.lights.choose(lamp.id)
        run(shows, "light.group")
    assert [lamp.group for lamp in shows.lights.all] == ["Front", "Front", ""]
    run(shows, "light.group-lit")
    assert [lamp.shown for lamp in shows.lights.all] == [False, False, True]
    assert steps(shows)[-1] == "Put out Front"
    run(shows, "light.group-lit")
    run(shows, "light.group-alone")
    assert [lamp.solo for lamp in shows.lights.all] == [True, True, False]
    run(shows, "edit.undo")
    assert not any(lamp.solo for lamp in shows.lights.all)


def test_the_chip_says_that_effects_rest_while_things_move(shows: Window) -> None:
    run(shows, "light.set-three")
    assert "effects rest" not in shows.chip.text()
    shows.view.moved()
    assert "effects rest" in shows.chip.text()
    settle(shows)
    assert "effects rest" not in shows.chip.text()


def test_own_sets_are_kept_chosen_and_forgotten(shows: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    assert "No light set" in shows.registry.commands["light.forget"].blocked()
    run(shows, "light.set-lantern")
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("  My   night ", True))
    run(shows, "light.keep")
    run(shows, "light.set-day")
    (mine,) = shows.lights.own_sets
    assert mine.name == "My night"
    card = shows.light_card
    card.sets.setCurrentIndex(card.sets.findData(mine.id))
    card.sets.activated.emit(card.sets.currentIndex())
    settle(shows)
    assert lamps(shows) == ["Lantern", "Sky behind"]
    assert not shows.registry.commands["light.forget"].blocked()
    run(shows, "light.forget")
    assert shows.lights.own_sets == ()
    assert card.sets.findData(mine.id) == -1
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("", False))
    run(shows, "light.keep")
    assert shows.lights.own_sets == ()


def test_a_sky_is_loaded_from_a_file_and_taken_away(
    shows: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    light = np.full((16, 32, 3), 0.02, np.float32)
    light[4:8, 20:26] = (9.0, 2.0, 1.0)
    light[0, 0] = -1.0
    path = tmp_path / "harbour.exr"
    with OpenEXR.File({"type": OpenEXR.scanlineimage}, {"RGB": light}) as file:
        file.write(str(path))
    before = picture(shows)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_, **__: (str(path), ""))
    run(shows, "light.sky-load")
    assert "1 pixels of harbour.exr" in said(shows)
    assert steps(shows) == ["Under harbour"]
    assert shows.around_card.sky.currentText() == "harbour"
    assert not np.array_equal(picture(shows), before)
    run(shows, "light.sky-forget")
    assert shows.lights.own_skies == ()
    assert np.array_equal(picture(shows), before)
    path.write_bytes(b"no sky")
    run(shows, "light.sky-load")
    assert "no picture of a sky" in said(shows)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_, **__: ("", ""))
    run(shows, "light.sky-load")
    assert shows.lights.own_skies == ()


def test_what_cannot_be_says_why(shows: Window) -> None:
    assert "No lamp yet" in shows.light_card.words.text()
    for key in ("light.drag", "light.highlight", "light.copy", "light.remove", "light.colour"):
        assert "no lamp yet" in shows.registry.commands[key].blocked()
    run(shows, "light.add-point")
    lamp = shows.lights.chosen
    assert lamp is not None
    for _ in range(MOST_LAMPS - 1):
        add_lamp(shows.studio.project, lamp)
    assert "The 8 strongest lamps are lit; 56 more are not." in shows.light_card.words.text()
    run(shows, "light.add-sun")
    run(shows, "light.copy")
    assert len(lamps(shows)) == MOST_LAMPS
    assert "room for 64 lamps" in said(shows)
    shows.lights.settle(replace(lamp, strength=-1.0), "Change")
    assert "not usable" in said(shows)
    shows.lights.change(distance=1.0)
    shows.lights.chosen_id = lamp.id
    shows.lights.change(solo=True)
    assert "within the clay's bounds" in shows.light_card.words.text()


def test_one_sculpts_and_paints_in_this_light(shows: Window) -> None:
    shows.view.set_effects(3)
    run(shows, "light.set-three")
    shows.studio.choose_tool("raise")
    x, y = middle(shows)
    before = picture(shows)
    drag(shows, [(x - 40, y), (x + 40, y)])
    settle(shows)
    after = picture(shows)
    assert (after != before).any()
    shows.view.refresh()
    assert np.array_equal(picture(shows), after)
    run(shows, "edit.undo")
    assert np.array_equal(picture(shows), before)
    shows.studio.project.change_settings(look=Look())
    settle(shows)
    assert not shows.lights.is_seen


def kept_as_seen(window: Window, path: Path) -> None:
    """What is seen is seen again when it is saved and opened."""
    seen = picture(window)
    save_project(window.studio.project, path)
    window.studio.take(open_project(path))
    settle(window)
    assert np.array_equal(picture(window), seen)


def test_a_cornea_is_made_clear_undone_and_kept(shows: Window, tmp_path: Path) -> None:
    project = shows.studio.project
    eye = Primitive("eye", (80.0, 80.0, 80.0))
    project.delete(project.scene.parts[0].id)
    add_live(project, "Eye", eye, eye.made().mesh(), Transform())
    project.choose(project.scene.parts[0].id)
    run(shows, "light.add-sun")
    run(shows, "view.frame-all")
    solid = picture(shows)
    switch = shows.live_card.clear
    assert switch.isVisibleTo(shows.live_card)
    switch.click()
    settle(shows)
    assert project.active.recipe.clear
    clear = picture(shows)
    assert (np.abs(clear.astype(int) - solid).max(axis=2) > 12).mean() > 0.01
    run(shows, "edit.undo")
    assert np.array_equal(picture(shows), solid)
    assert not switch.isChecked()
    run(shows, "edit.redo")
    assert np.array_equal(picture(shows), clear)
    assert switch.isChecked()
    kept_as_seen(shows, tmp_path / "eye.kneten")
    assert shows.studio.project.active.recipe.clear
    run(shows, "live.bake")
    assert (shows.studio.project.active.mesh.value("colour")[:, 3] < 128).any()


def test_the_floors_light_comes_goes_and_is_kept(shows: Window, tmp_path: Path) -> None:
    run(shows, "light.add-sun")
    shows.lights.change_around(strength=0.0, catches=False)
    settle(shows)
    without = picture(shows)
    shows.lights.change_around(catches=True)
    settle(shows)
    lit = picture(shows)
    height, width = lit.shape[:2]
    below = np.s_[round(height * 0.7) : round(height * 0.75), round(width * 0.45) : round(width * 0.55), :3]
    assert lit[below].mean() > 1.1 * without[below].mean()
    run(shows, "edit.undo")
    assert np.array_equal(picture(shows), without)
    run(shows, "edit.redo")
    assert np.array_equal(picture(shows), lit)
    kept_as_seen(shows, tmp_path / "floor.kneten")
