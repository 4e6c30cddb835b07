"""Colour through the real window: painted, picked, filled, laid by the form, dialled."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QInputDialog

from kneten.app.shell.stages import PAINT
from kneten.app.shell.states import states_of
from kneten.app.shell.window import Window
from kneten.core.paint.layers import open_paint, seen
from kneten.core.paint.light import lightness_colour_hue
from kneten.core.transform import Transform
from kneten.core.values import CLAY
from kneten.document.opening import stack_of
from kneten.document.painting import has_paint
from tests.app.windows import LEFT, NONE, drag, middle, picture, run, said, settle, steps, until
from tests.conftest import make_ball
from tests.long import some


@pytest.fixture
def paints(window: Window) -> Window:
    """The stage of colour, the brush in hand."""
    run(window, "stage.colour")
    run(window, "tool.paint")
    window.studio.set_brush(size=50.0, strength=0.8)
    window.colours.take((180, 90, 60))
    return window


def colours(window: Window) -> np.ndarray:
    return window.studio.project.active.mesh.value("colour")[:, :3].astype(int)


def consistent(window: Window) -> bool:
    part = window.studio.project.active
    if part.stack is None or part.stack.tint is None:
        return True
    shown = part.mesh.value("colour")
    return bool(np.array_equal(seen(part.stack, open_paint(part.stack, part.mesh), shown), shown))


def test_the_stage_has_its_tools_and_cards(paints: Window) -> None:
    keys = list(paints.rack.buttons)
    assert [f"tool.{key}" for key in PAINT] == keys[: len(PAINT)]
    assert paints.colour_card.isVisible()


def test_a_stroke_lays_the_colour_in_hand_and_is_undone(paints: Window) -> None:
    x, y = middle(paints)
    before = picture(paints)
    drag(paints, [(x - 60, y), (x + 60, y)])
    settle(paints)
    assert steps(paints) == ["Paint on Ball"]
    front = int(np.argmax(paints.studio.project.active.mesh.positions[:, 2]))
    assert np.abs(colours(paints)[front] - (180, 90, 60)).max() < 45
    assert (picture(paints) != before).any(axis=2).sum() > 3000
    assert paints.colour_card.recent.colours == ((180, 90, 60),)
    run(paints, "edit.undo")
    assert (colours(paints) == CLAY).all()
    settle(paints)
    assert np.array_equal(picture(paints), before)


def test_shift_blends_and_ctrl_takes_off(paints: Window) -> None:
    x, y = middle(paints)
    drag(paints, [(x - 60, y), (x + 60, y)])
    painted = colours(paints).copy()
    QTest.keyPress(paints.view, Qt.Key.Key_Shift)
    drag(paints, [(x - 60, y - 30), (x + 60, y - 30)], keys=Qt.KeyboardModifier.ShiftModifier)
    QTest.keyRelease(paints.view, Qt.Key.Key_Shift)
    drag(paints, [(x - 60, y), (x + 60, y)], keys=Qt.KeyboardModifier.ControlModifier)
    settle(paints)
    assert steps(paints)[-1] == "Paint reversed on Ball"
    assert colours(paints).sum() > painted.sum()


def test_a_layer_is_painted_dialled_blended_and_cleared(paints: Window) -> None:
    run(paints, "colour.fill")
    assert (colours(paints) == (180, 90, 60)).all()
    run(paints, "layer.add")
    paints.colours.take((40, 80, 200))
    x, y = middle(paints)
    drag(paints, [(x - 60, y), (x + 60, y)])
    settle(paints)
    shown = colours(paints).copy()
    layer = paints.colours.layer
    assert layer is not None
    # Dragged: seen at once, a step only at the end; dragged back it is as it was.
    for share in (0.2, 0.6, 1.0):
        paints.levels.dial(layer.id, share)
        assert np.array_equal(colours(paints), shown) == (share == 1.0)
    paints.levels.dial(layer.id, 0.4)
    tried = colours(paints).copy()
    paints.levels.keep_dial(layer.id, 0.4)
    settle(paints)
    assert np.array_equal(colours(paints), tried)
    assert consistent(paints)
    run(paints, "edit.undo")
    assert np.array_equal(colours(paints), shown)
    box = paints.colour_card.blend
    assert box.isVisible()
    box.setCurrentIndex(box.findData("multiply"))
    box.activated.emit(box.currentIndex())
    settle(paints)
    assert (colours(paints).sum(axis=1) <= 330).all()
    assert consistent(paints)
    part = paints.studio.project.active
    assert has_paint(part.stack.layers[0], part.stack, part)
    run(paints, "colour.clear")
    assert (colours(paints) == (180, 90, 60)).all()
    assert paints.registry.commands["colour.clear"].blocked()


def test_painting_below_the_highest_level_says_where_paint_lies(paints: Window) -> None:
    run(paints, "layer.add")
    x, y = middle(paints)
    drag(paints, [(x - 40, y), (x + 40, y)])
    run(paints, "density.subdivide")
    run(paints, "level.down")
    kept = len(steps(paints))
    drag(paints, [(x - 40, y + 40), (x + 40, y + 40)])
    settle(paints)
    assert len(steps(paints)) == kept
    assert "highest level" in said(paints)
    run(paints, "level.up")
    drag(paints, [(x - 40, y + 40), (x + 40, y + 40)])
    settle(paints)
    assert steps(paints)[-1] == "Paint on Ball"
    assert consistent(paints)


def test_a_click_picks_the_colour_of_the_clay(paints: Window) -> None:
    run(paints, "colour.fill")
    paints.colours.take((1, 2, 3))
    x, y = middle(paints)
    run(paints, "colour.pick")
    assert paints.view.mode is not None
    drag(paints, [(x, y), (x + 1, y)], events=1)
    settle(paints)
    assert paints.colours.colour == (180, 90, 60)
    assert paints.view.mode is None
    # Beside the clay nothing is taken.
    run(paints, "colour.pick")
    drag(paints, [(6, 300), (9, 303)], events=1)
    settle(paints)
    assert paints.colours.colour == (180, 90, 60)
    assert paints.view.mode is not None
    run(paints, "colour.pick")
    assert paints.view.mode is None


def test_two_colours_are_swapped(paints: Window) -> None:
    ink = paints.studio.project.settings.ink
    run(paints, "colour.swap")
    assert paints.colours.colour == ink.other
    QTest.mouseClick(paints.colour_card.pair, LEFT)
    assert paints.colours.colour == ink.colour


@pytest.mark.parametrize(
    ("text", "wanted"),
    [("#336699", (0x33, 0x66, 0x99)), ("abc", (0xAA, 0xBB, 0xCC)), ("nothing", None), ("12345", None)],
)
def test_a_colour_is_typed(paints: Window, text: str, wanted: tuple[int, int, int] | None) -> None:
    field = paints.colour_card.hex
    field.setText(text)
    field.editingFinished.emit()
    if wanted is None:
        assert paints.colours.colour == (180, 90, 60)
        assert "is no colour" in said(paints)
        assert field.text() == "#b45a3c"
    else:
        assert paints.colours.colour == wanted


def test_the_field_is_dragged_keyed_and_told_in_numbers(paints: Window) -> None:
    card = paints.colour_card
    field = card.field

    def mouse(kind: QEvent.Type, x: float, y: float) -> None:
        button = NONE if kind == QEvent.Type.MouseMove else LEFT
        at = QPointF(x, y)
        event = QMouseEvent(
            kind, at, field.mapToGlobal(at), LEFT if button else Qt.MouseButton.NoButton, LEFT, NONE
        )
        (
            field.mousePressEvent
            if kind == QEvent.Type.MouseButtonPress
            else field.mouseMoveEvent
            if kind == QEvent.Type.MouseMove
            else field.mouseReleaseEvent
        )(event)

    mouse(QEvent.Type.MouseButtonPress, field.width() * 0.4, 40)
    assert paints.colours.colour == (180, 90, 60)
    mouse(QEvent.Type.MouseMove, field.width() * 0.6, 30)
    mouse(QEvent.Type.MouseButtonRelease, field.width() * 0.6, 30)
    lightness, _, hue = lightness_colour_hue(paints.colours.colour)
    assert hue == pytest.approx(216, abs=6)
    assert lightness == pytest.approx(1 - 30 / 118, abs=0.03)
    assert card.hue.value() == pytest.approx(hue, abs=1)
    before = paints.colours.colour
    QTest.keyClick(field, Qt.Key.Key_Down)
    assert lightness_colour_hue(paints.colours.colour)[0] < lightness
    QTest.keyClick(field, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    assert paints.colours.colour != before
    card.light.set_value(50)
    card.light.settled.emit(50)
    assert lightness_colour_hue(paints.colours.colour)[0] == pytest.approx(0.5, abs=0.01)


def wavy(window: Window) -> np.ndarray:
    """The ball with furrows down its front; 1 on their crests, -1 in their grounds."""
    mesh = window.studio.project.active.mesh
    mesh.positions += (2.0 * np.sin(mesh.positions[:, [0]] / 5.0)) * mesh.normals
    mesh.refresh_all()
    return np.sin(mesh.positions[:, 0] / 5.0) * (np.abs(mesh.positions[:, 0]) < 60)


def settled(window: Window, **values: float | str) -> None:
    """Numbers of the card, each let go."""
    for name, value in values.items():
        window.wash_card.change(**{name: value})
        settle(window)


def test_paint_follows_the_form(paints: Window) -> None:
    waves = wavy(paints)
    mesh = paints.studio.project.active.mesh
    for kind, sign in (("hollows", -1), ("peaks", 1)):
        settled(paints, kind=kind)
        run(paints, "wash.paint")
        settle(paints)
        assert steps(paints)[-1].startswith("Paint ")
        painted = CLAY[2] - colours(paints)[:, 2]
        there, elsewhere = painted[waves * sign > 0.8].mean(), painted[waves * sign < -0.8].mean()
        assert there > 3 * elsewhere + 5, kind
        run(paints, "edit.undo")
    for kind, low, high in (("height", -60, 60), ("up", 60, -60)):
        settled(paints, kind=kind)
        run(paints, "wash.paint")
        settle(paints)
        painted = CLAY[2] - colours(paints)[:, 2]
        y = mesh.positions[:, 1]
        ends = painted[y < -80].mean(), painted[y > 80].mean()
        assert (ends[0] > 3 * ends[1] + 5) == (low < high), kind
        run(paints, "edit.undo")


def test_limits_are_seen_before_anything_is_painted(paints: Window) -> None:
    wavy(paints)
    kept = len(steps(paints))
    run(paints, "wash.show")
    settle(paints)
    shown = colours(paints).copy()
    assert (shown != CLAY).any()
    assert len(steps(paints)) == kept
    paints.wash_card.dial(low=0.6)
    assert (colours(paints) != CLAY).any(axis=1).sum() < (shown != CLAY).any(axis=1).sum()
    # Whatever comes next finds the clay as it was.
    run(paints, "layer.add")
    assert (colours(paints) == CLAY).all()


def test_a_layer_follows_the_form_until_it_is_baked(paints: Window) -> None:
    waves = wavy(paints)
    settled(paints, kind="hollows")
    run(paints, "wash.layer")
    settle(paints)
    layer = paints.levels.chosen
    assert layer.wash.kind == "hollows"
    assert consistent(paints)
    first = colours(paints).copy()
    # Strokes go to the clay, not to what is worked out.
    paints.levels.record(layer.id)
    assert "follows the form" in said(paints)
    settled(paints, low=0.7)
    assert steps(paints)[-1].startswith("Change Hollows")
    assert (colours(paints) != CLAY).any(axis=1).sum() < (first != CLAY).any(axis=1).sum()
    run(paints, "edit.undo")
    assert np.array_equal(colours(paints), first)
    mesh = paints.studio.project.active.mesh
    mesh.positions -= (4.0 * waves[:, None]) * mesh.normals
    mesh.refresh_all()
    run(paints, "wash.renew")
    settle(paints)
    assert steps(paints)[-1].startswith("Renew Hollows")
    painted = CLAY[2] - colours(paints)[:, 2]
    assert painted[waves > 0.8].mean() > painted[waves < -0.8].mean()
    run(paints, "wash.bake")
    assert stack_of(paints.studio.project.active).layer(layer.id).wash is None
    paints.levels.record(layer.id)
    x, y = middle(paints)
    drag(paints, [(x - 40, y), (x + 40, y)])
    settle(paints)
    assert steps(paints)[-1] == "Paint on Ball"
    assert consistent(paints)


@pytest.mark.parametrize("kind", some(["clouds", "speckles", "thin", "mask", "covered"], 2))
def test_patterns_thin_clay_and_what_is_near_the_mask(paints: Window, kind: str) -> None:
    part = paints.studio.project.active
    if kind == "mask":
        values = (part.mesh.positions[:, 1] > 60).astype(np.float32)
        paints.studio.project.set_values(part.id, "mask", values, "Mask")
    settled(paints, kind=kind)
    assert paints.wash_card.pattern.isVisibleTo(paints.wash_card) == (kind in ("clouds", "speckles"))
    if kind in ("thin", "covered"):
        settled(paints, low=0.0)
    run(paints, "wash.layer")
    settle(paints)
    changed = (colours(paints) != CLAY).any(axis=1)
    assert 0.005 < changed.mean() <= 1
    if kind == "mask":
        assert part.mesh.positions[changed, 1].min() > 20
    assert consistent(paints)


def test_palettes_are_kept_taken_from_pictures_and_forgotten(
    paints: Window, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    assert paints.registry.commands["palette.keep"].blocked()
    assert paints.registry.commands["palette.picture"].blocked()
    x, y = middle(paints)
    drag(paints, [(x - 20, y), (x + 20, y)])
    settle(paints)
    monkeypatch.setattr(QInputDialog, "getText", lambda *a, **k: ("Skin", True))
    run(paints, "palette.keep")
    assert paints.colours.palette.name == "Skin"
    assert paints.colour_card.chips.colours == ((180, 90, 60),)
    table = np.zeros((40, 60, 3), np.uint8)
    table[:, :30], table[:, 30:] = (20, 40, 60), (220, 200, 180)
    Image.fromarray(table).save(tmp_path / "heath.png")
    paints.references.add_files([tmp_path / "heath.png"])
    until(lambda: bool(paints.studio.project.scene.references))
    run(paints, "palette.picture")
    assert set(paints.colours.palette.colours) == {(20, 40, 60), (220, 200, 180)}
    chips = paints.colour_card.chips
    QTest.mouseClick(chips, LEFT, pos=chips.box(1).center().toPoint())
    assert paints.colours.colour == chips.colours[1]
    run(paints, "palette.forget")
    assert paints.colours.palette.name == "Skin"


def test_colours_are_dialled_into_others(paints: Window) -> None:
    run(paints, "colour.fill")
    settle(paints)
    kept, before = len(steps(paints)), colours(paints).copy()
    card = paints.recolour_card
    card.dial(hue=120.0)
    tried = colours(paints).copy()
    assert lightness_colour_hue(tried[0])[2] == pytest.approx(lightness_colour_hue(before[0])[2] + 120, abs=4)
    assert len(steps(paints)) == kept
    # Whatever comes next finds the clay as it was.
    run(paints, "mask.invert")
    assert np.array_equal(colours(paints), before)
    run(paints, "edit.undo")
    card.numbers["hue"].changed.emit(60.0)
    card.numbers["hue"].settled.emit(120.0)
    settle(paints)
    assert np.array_equal(colours(paints), tried)
    assert steps(paints)[-1] == "Recolour Ball"
    assert card.numbers["hue"].value() == 0
    run(paints, "edit.undo")
    assert np.array_equal(colours(paints), before)


def test_paint_waits_for_its_part(paints: Window) -> None:
    project = paints.studio.project
    project.choose(None)
    assert "no part" in paints.registry.commands["colour.fill"].blocked()
    project.choose(project.scene.parts[0].id)
    assert paints.registry.commands["colour.fill-mask"].blocked()
    part = project.active
    project.set_values(part.id, "mask", (part.mesh.positions[:, 1] > 0).astype(np.float32), "Mask")
    run(paints, "colour.fill-mask")
    high = part.mesh.positions[:, 1] > 0
    assert (colours(paints)[high] == (180, 90, 60)).all()
    assert (colours(paints)[~high] == CLAY).all()
    assert stack_of(part).tint is None


def test_a_layers_paint_is_hidden_where_the_clay_is_masked(paints: Window) -> None:
    assert "no layer" in paints.registry.commands["layer.mask"].blocked()
    run(paints, "layer.add")
    run(paints, "colour.fill")
    settle(paints)
    assert "Nothing is masked" in paints.registry.commands["layer.mask"].blocked()
    assert "has no mask" in paints.registry.commands["layer.unmask"].blocked()
    full = colours(paints).copy()
    project = paints.studio.project
    right = (project.active.mesh.positions[:, 0] > 0).astype(np.float32)
    project.set_values(project.active.id, "mask", right, "Mask")
    run(paints, "layer.mask")
    settle(paints)
    found = colours(paints)
    assert (found[right == 1] == CLAY).all()
    assert np.array_equal(found[right == 0], full[right == 0])
    assert consistent(paints)
    paints.side.bring("Layers")
    settle(paints)
    row = next(row for row in paints.cards["Layers"].rows if row.layer_id == paints.levels.chosen.id)
    assert "(masked)" in row.name.text()
    assert steps(paints)[-1].startswith("Mask layer")
    # The clay's mask may go: the layer has its own, which comes back to be worked on.
    run(paints, "mask.clear")
    assert project.active.mesh.mask is None
    run(paints, "layer.mask-get")
    assert np.array_equal(project.active.mesh.mask, right)
    run(paints, "layer.unmask")
    assert np.array_equal(colours(paints), full)
    run(paints, "edit.undo")
    assert (colours(paints)[right == 1] == CLAY).all()
    assert consistent(paints)


def test_a_brush_keeps_to_the_form_and_the_chip_ends_it(paints: Window) -> None:
    settled(paints, kind="up")
    settled(paints, low=0.5, high=1.0, soft=0.0)
    card = paints.cards["By form"]
    card.brush.click()
    settle(paints)
    assert paints.studio.brush_by is paints.washes
    assert not (colours(paints) != CLAY).any()
    x, y = middle(paints)
    for dx in (-40, 0, 40):
        drag(paints, [(x + dx, y - 60), (x + dx, y + 60)])
    settle(paints)
    painted = (colours(paints) != CLAY).any(axis=1)
    mesh = paints.studio.project.active.mesh
    assert painted.sum() > 30
    assert mesh.normals[painted, 1].min() > -0.1
    # Another way to lay paint takes its place; each is told in a chip with the way out.
    states = [state.text for state in states_of(paints)]
    assert "Painting by form: facing up" in states
    # Form that has changed counts as it is now.
    settled(paints, kind="hollows")
    settled(paints, low=0.3)
    waves = wavy(paints)
    run(paints, "edit.undo")
    deep = np.abs(waves) > 0.5
    paints.studio.project.move_vertices(
        paints.studio.project.active.id,
        (mesh.positions + 3.0 * waves[:, None] * mesh.normals).astype(np.float32),
        "Waves",
    )
    settle(paints)
    before = colours(paints).copy()
    drag(paints, [(x - 60, y), (x + 60, y)])
    settle(paints)
    new = (colours(paints) != before).any(axis=1)
    assert waves[new & deep].mean() < 0
    next(state for state in states_of(paints) if state.text.startswith("Painting by form")).leave()
    assert paints.studio.brush_by is None
    assert not card.brush.isChecked()
    drag(paints, [(x - 60, y + 30), (x + 60, y + 30)])
    settle(paints)
    assert (colours(paints) != CLAY).any(axis=1).sum() > painted.sum()


def test_what_is_large_is_measured_beside_the_hand_first(
    paints: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("kneten.app.benches.colour.washes.AT_ONCE", 0)
    settled(paints, kind="up")
    paints.washes.brush(True)
    paints.washes._known = None
    x, y = middle(paints)
    drag(paints, [(x - 40, y - 40), (x + 40, y - 40)])
    assert "being measured" in said(paints)
    assert not (colours(paints) != CLAY).any()
    until(lambda: paints.washes._known is not None)
    drag(paints, [(x - 40, y - 40), (x + 40, y - 40)])
    settle(paints)
    assert (colours(paints) != CLAY).any()
    # After a change of form it is measured again once the hand rests.
    first = paints.washes._known
    run(paints, "tool.raise")
    drag(paints, [(x - 40, y), (x + 40, y)])
    settle(paints)
    until(lambda: paints.washes._known is not first)


def test_layers_that_follow_the_form_are_renewed_once_the_hand_rests(paints: Window) -> None:
    settled(paints, kind="up")
    settled(paints, low=0.0, high=0.45, soft=0.1)
    run(paints, "wash.layer")
    settle(paints)
    layer, project = paints.levels.chosen, paints.studio.project
    first, before = colours(paints).copy(), steps(paints)
    run(paints, "tool.raise")
    x, y = middle(paints)
    drag(paints, [(x - 60, y), (x + 60, y)])
    settle(paints)
    form = project.active.mesh.positions.copy()
    until(lambda: not np.array_equal(colours(paints), first))
    settle(paints)
    assert consistent(paints)
    renewed = colours(paints).copy()
    # It is what laying it anew gives, and no step of its own.
    assert steps(paints) == [*before, "Raise on Ball"]
    run(paints, "wash.renew")
    settle(paints)
    assert np.array_equal(colours(paints), renewed)
    while steps(paints)[-1] != "Raise on Ball":
        run(paints, "edit.undo")
    run(paints, "edit.undo")
    assert np.array_equal(colours(paints), first)
    assert consistent(paints)
    QTest.qWait(1300)
    # While something can be made again nothing is put in between.
    run(paints, "edit.redo")
    assert np.array_equal(project.active.mesh.positions, form)
    assert np.array_equal(colours(paints), renewed)
    assert consistent(paints)
    assert stack_of(project.active).layer(layer.id).wash is not None


def test_they_stay_as_they_are_where_that_is_wanted(paints: Window) -> None:
    settled(paints, kind="up")
    settled(paints, low=0.0, high=0.45, soft=0.1)
    run(paints, "wash.layer")
    settle(paints)
    first = colours(paints).copy()
    card = paints.cards["By form"]
    card.renews.click()
    assert not paints.studio.preferences.renew_washes
    run(paints, "tool.raise")
    x, y = middle(paints)
    drag(paints, [(x - 60, y), (x + 60, y)])
    settle(paints)
    QTest.qWait(1500)
    assert np.array_equal(colours(paints), first)
    # Switched on, it takes up what was missed.
    card.renews.click()
    until(lambda: not np.array_equal(colours(paints), first))
    assert consistent(paints)


def test_what_was_measured_goes_to_its_part_whatever_is_in_hand_by_then(paints: Window) -> None:
    settled(paints, kind="up")
    project = paints.studio.project
    first = project.active
    (other,) = project.add_meshes("Add Small", [("Small", make_ball(20.0, 6), Transform((200.0, 0.0, 0.0)))])
    for key in ("wash.paint", "wash.layer", "wash.show"):
        project.choose(first.id)
        paints.registry.run(key)
        project.choose(other.id)
        settle(paints)
        assert not paints.studio.mishaps
        assert project.scene.part(other.id).mesh.colour is None
    assert steps(paints)[-2:] == ["Paint facing up of Ball", "Lay Facing up on Ball"]
    assert project.scene.part(first.id).stack is not None
