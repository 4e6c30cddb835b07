"""Typed places, turns and sizes do what handles do, in the real window."""

from __future__ import annotations

import numpy as np
import pytest

from kneten.app.shell.window import Window
from kneten.core.transform import Transform
from kneten.document import placing
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from tests.app.test_window import type_in
from tests.app.windows import drag, run, said, settle, steps
from tests.conftest import make_ball


@pytest.fixture
def two(window: Window) -> Window:
    """Two balls, both chosen, the first one in hand with its pivot at its side; the card of places open."""
    parts = (
        Part("One", make_ball(40.0, 12)),
        Part("Two", make_ball(20.0, 8), transform=Transform((100.0, 0.0, 0.0))),
    )
    window.studio.take(Project(Scene(parts)))
    project = window.studio.project
    placing.set_pivot(project, parts[:1], np.array([40.0, 0.0, 0.0]))
    project.choose_all([parts[1].id, parts[0].id])
    project.choose_all([p.id for p in parts])
    window.side.bring("Place")
    run(window, "view.front")
    run(window, "view.frame-all")
    settle(window)
    assert project.active is not None
    assert len(project.chosen) == 2
    return window


def places(part: Part) -> np.ndarray:
    return part.transform.to_scene(part.mesh.positions.astype(np.float64))


def hand_and_other(window: Window) -> tuple[Part, Part]:
    project = window.studio.project
    active = project.active
    assert active is not None
    return active, next(p for p in project.chosen if p.id != active.id)


def test_a_typed_turn_goes_about_the_pivot_with_all_that_is_chosen(two: Window) -> None:
    card, project = two.place_card, two.studio.project
    hand, other = hand_and_other(two)
    pivot, middle = hand.pivot_place(), places(other).mean(axis=0)
    before = len(steps(two))
    type_in(card.turn[2], "90")
    now = project.scene.part(hand.id)
    assert now.pivot_place() == pytest.approx(pivot, abs=1e-6)
    assert now.transform.degrees() == (0.0, 0.0, 90.0)
    off = middle - pivot
    turned = places(project.scene.part(other.id)).mean(axis=0)
    assert turned == pytest.approx(pivot + np.array([-off[1], off[0], off[2]]), abs=1e-4)
    assert len(steps(two)) == before + 1
    run(two, "edit.undo")
    assert project.scene.part(other.id).transform == other.transform


def test_ninety_thirty_twenty_stay_as_typed(two: Window, capfd: pytest.CaptureFixture[str]) -> None:
    card = two.place_card
    for field, text in zip(card.turn, ("90", "30", "20"), strict=True):
        type_in(field, text)
    card.fill()
    assert [field.value() for field in card.turn] == [90.0, 30.0, 20.0]
    assert "imbal" not in capfd.readouterr().err


@pytest.mark.parametrize("space", ["world", "own", "view"])
def test_typed_positions_go_along_the_chosen_axes(two: Window, space: str) -> None:
    card, project = two.place_card, two.studio.project
    hand, other = hand_and_other(two)
    placing.put_all(project, {hand.id: hand.transform.with_degrees(0.0, 0.0, 30.0)}, "Turn")
    run(two, "view.right")
    card.space.setCurrentIndex(card.space.findData(space))
    card.space.activated.emit(card.space.currentIndex())
    hand = project.scene.part(hand.id)
    axes = two.view.handles.axes(hand)
    before = hand.pivot_place()
    type_in(card.place[0], f"{card.place[0].value() + 12.0}")
    way = project.scene.part(hand.id).pivot_place() - before
    assert way == pytest.approx(axes[0] * 12.0, abs=0.06)
    assert np.array(project.scene.part(other.id).transform.place) == pytest.approx(
        np.array(other.transform.place) + way, abs=1e-6
    )


def test_a_typed_size_grows_all_and_only_what_the_mask_leaves(two: Window) -> None:
    card, project = two.place_card, two.studio.project
    hand, other = hand_and_other(two)
    tall = card.sizes[1].value()
    card.even.setChecked(False)
    type_in(card.sizes[1], f"{2 * tall}")
    assert project.scene.part(other.id).bounds()[1][1] == pytest.approx(
        2 * other.bounds()[1][1] if other.name == "Two" else 80.0, rel=0.01
    )
    run(two, "edit.undo")
    mesh = project.scene.part(hand.id).mesh
    mesh.mask = (mesh.positions[:, 0] < 0).astype(np.float32)
    held, start = mesh.mask == 1, places(project.scene.part(hand.id))
    run(two, "parts.unmasked")
    type_in(card.sizes[1], f"{2 * tall}")
    now = places(project.scene.part(hand.id))
    assert np.array_equal(now[held], start[held])
    assert now[~held][:, 1] == pytest.approx(2 * start[~held][:, 1], rel=0.01, abs=1e-3)


def test_numbers_that_do_not_fit_are_told(two: Window) -> None:
    card = two.place_card
    before = len(steps(two))
    for field, text in ((card.sizes[0], "-5"), (card.angle, "120")):
        kept = field.value()
        type_in(field, text)
        assert field.property("bad")
        assert field.value() == kept
        field.clearFocus()
    two.side.bring("Density")
    for text in ("50 %", "-3", "100.5"):
        type_in(two.density_card.count, text)
        assert two.density_card.count.property("bad"), text
    type_in(two.density_card.count, "12 000")
    assert two.density_card.count.value() == 12_000
    assert len(steps(two)) == before


@pytest.mark.parametrize("mode", ["move", "scale"])
def test_handles_of_two_axes(two: Window, mode: str) -> None:
    project, handles = two.studio.project, two.view.handles
    hand, _ = hand_and_other(two)
    run(two, f"parts.{mode}")
    # Seen from the front, x and y span the square beside z.
    at = handles._pixels(handles._plane(hand, 2)).mean(axis=0)
    assert handles.under(hand, *at) == 6
    assert handles.under(hand, *handles._pixels(handles._plane(hand, 0)).mean(axis=0)) != 4
    start = places(hand)
    drag(two, [tuple(at), (at[0] + 30.0, at[1] - 30.0)])
    now = places(project.scene.part(hand.id))
    if mode == "move":
        way = (now - start).mean(axis=0)
        assert way[0] > 1
        assert way[1] > 1
        assert abs(way[2]) < 1e-6
    else:
        grown = np.ptp(now, axis=0) / np.ptp(start, axis=0)
        assert grown[0] == pytest.approx(grown[1], rel=1e-4)
        assert grown[0] > 1.1
        assert grown[2] == pytest.approx(1.0, rel=1e-4)
    assert len(steps(two)) >= 1


def test_turning_about_the_line_of_sight(two: Window) -> None:
    hand, _ = hand_and_other(two)
    run(two, "parts.turn")
    handles = two.view.handles
    ring = handles._pixels(handles._ring(hand, 3))
    assert handles.under(hand, *ring[5]) == 3
    drag(two, [tuple(ring[5]), tuple(ring[13])])
    now = two.studio.project.scene.part(hand.id)
    assert abs(abs(now.transform.degrees()[2]) - 45) < 4
    assert now.transform.degrees()[:2] == pytest.approx((0, 0), abs=1e-6)


def test_a_soft_range_in_the_card_softens_the_handles(two: Window) -> None:
    card, project, handles = two.place_card, two.studio.project, two.view.handles
    hand, other = hand_and_other(two)
    type_in(card.soft, "30")
    run(two, "parts.move")
    at = handles._pixels(handles._ends(hand))[1]
    start = places(hand)
    drag(two, [tuple(at), tuple(at - [0.0, 40.0])])
    far = np.linalg.norm(places(project.scene.part(hand.id)) - start, axis=1)
    near = np.linalg.norm(start - hand.pivot_place(), axis=1)
    assert far[near < 5].min() > 5
    assert far[near > 30].max() == 0
    assert project.scene.part(hand.id).transform == hand.transform
    assert project.scene.part(other.id).transform == other.transform


def test_a_live_body_that_becomes_clay_is_told(window: Window) -> None:
    run(window, "parts.delete")
    run(window, "live.box")
    settle(window)
    project = window.studio.project
    part = project.active
    assert part is not None
    placing.put_all(project, {part.id: part.transform.with_degrees(0, 0, 30)}, "Turn")
    window.side.bring("Place")
    window.place_card.even.setChecked(False)
    type_in(window.place_card.sizes[0], f"{window.place_card.sizes[0].value() * 2}")
    assert project.scene.part(part.id).recipe is None
    assert "clay now" in said(window)
