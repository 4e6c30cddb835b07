"""Materials through the real window: painted by channel, chosen, filled, picked, kept, shared, seen under the sky."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PySide6.QtWidgets import QFileDialog, QInputDialog

from kneten.app.shell.window import Window
from kneten.core.paint.ink import CHANNELS
from kneten.core.paint.materials import FAMILIES, PRESETS
from kneten.core.transform import Transform
from kneten.core.values import CLAY, PLAIN
from kneten.render.material_balls import ball_picture
from tests.app.windows import drag, middle, picture, run, said, settle, steps, until
from tests.conftest import make_ball


@pytest.fixture
def paints(window: Window) -> Window:
    """The stage of colour under the sky, the brush in hand."""
    run(window, "stage.colour")
    window.studio.set_look(kind="sky", cavity=False, cover=False)
    window.studio.set_brush(size=60.0, strength=1.0)
    return window


def material(window: Window) -> np.ndarray:
    return window.studio.project.active.mesh.value("material").astype(int)


def front(window: Window) -> int:
    return int(np.argmax(window.studio.project.active.mesh.positions[:, 2]))


def across(window: Window) -> None:
    x, y = middle(window)
    drag(window, [(x - 60, y), (x + 60, y)])
    settle(window)


def test_the_stage_takes_up_the_brush_and_lays_it_down(window: Window) -> None:
    run(window, "tool.pinch")
    run(window, "stage.colour")
    assert window.studio.tool.key == "paint"
    run(window, "tool.smudge")
    run(window, "stage.form")
    assert window.studio.tool.key == "pinch"
    run(window, "stage.colour")
    assert window.studio.tool.key == "smudge"
    run(window, "tool.mask")
    run(window, "stage.form")
    assert window.studio.tool.key == "mask"


def test_a_stroke_paints_the_channels_that_are_on(paints: Window) -> None:
    card = paints.material_card
    assert card.isVisible()
    assert card.channels["colour"].isChecked()
    card.channels["wet"].click()
    card.shares["wet"].settled.emit(100.0)
    card.channels["colour"].click()
    assert paints.studio.project.settings.ink.channels == ("wet",)
    before = picture(paints)
    across(paints)
    assert steps(paints) == ["Paint on Ball"]
    wet = material(paints)[front(paints)]
    assert wet[3] > 200
    assert wet[:3].tolist() == list(PLAIN[:3])
    assert paints.studio.project.active.mesh.colour is None
    after = picture(paints)
    assert (after != before).any(axis=2).sum() > 1000
    run(paints, "edit.undo")
    assert paints.studio.project.active.mesh.material is None
    assert np.array_equal(picture(paints), before)
    run(paints, "edit.redo")
    assert np.array_equal(picture(paints), after)
    # The last one cannot be switched off.
    card.channels["wet"].click()
    assert card.channels["wet"].isChecked()


def test_a_number_dialled_is_painted_from_then_on(paints: Window) -> None:
    paints.material_card.shares["metalness"].settled.emit(100.0)
    assert paints.studio.project.settings.ink.channels == ("colour", "metalness")
    assert paints.studio.project.settings.ink.material[1] == 255


def test_clay_is_painted_clear_and_shows_what_is_behind(paints: Window) -> None:
    run(paints, "look.sky")
    project = paints.studio.project
    core = make_ball(20.0, 24)
    core.colour = np.tile(np.uint8([220, 30, 30, 255]), (core.n_vertices, 1))
    project.add_meshes("Add", [("Core", core, Transform())])
    project.choose(project.scene.parts[0].id)
    settle(paints)
    before = picture(paints)
    paints.material_card.channels["colour"].click()
    paints.material_card.shares["opacity"].settled.emit(10.0)
    paints.material_card.channels["colour"].click()
    assert project.settings.ink.channels == ("opacity",)
    across(paints)
    assert steps(paints)[-1] == "Paint on Ball"
    colour = project.active.mesh.value("colour")
    assert colour[front(paints), 3] < 90
    assert (colour[:, :3] == CLAY).all()
    after = picture(paints)
    x, y = middle(paints)
    r, g, *_ = after[round(y), round(x)].astype(int)
    assert r - g > 60
    run(paints, "edit.undo")
    assert np.array_equal(picture(paints), before)
    run(paints, "edit.redo")
    assert np.array_equal(picture(paints), after)


def test_every_material_is_offered_and_taken_whole(paints: Window) -> None:
    for family in FAMILIES:
        card = paints.material_card
        card.family.setCurrentIndex(card.family.findData(family))
        card.family.activated.emit(card.family.currentIndex())
        mine = [preset for preset in PRESETS.values() if preset.family == family]
        assert [button.accessibleName() for button in card.buttons] == [
            f"Material {one.name}" for one in mine
        ]
        card.buttons[-1].click()
        ink = paints.studio.project.settings.ink
        assert (ink.colour, ink.material, ink.opacity) == (
            mine[-1].colour,
            mine[-1].material,
            mine[-1].opacity,
        )
        assert ink.channels == tuple(CHANNELS)
        assert [button.isChecked() for button in card.buttons].index(True) == len(mine) - 1


def test_a_material_fills_part_mask_and_region(paints: Window) -> None:
    paints.materials.take(PRESETS["brass"])
    run(paints, "colour.fill")
    assert (material(paints) == PRESETS["brass"].material).all()
    run(paints, "edit.undo")
    part = paints.studio.project.active
    half = (part.mesh.positions[:, 0] > 0).astype(np.float32)
    paints.studio.project.set_values(part.id, "mask", half, "Mask")
    run(paints, "colour.fill-mask")
    assert np.array_equal((material(paints) == PRESETS["brass"].material).all(axis=1), half > 0)
    for _ in range(2):
        run(paints, "edit.undo")
    assert "no regions" in paints.registry.commands["colour.fill-region"].blocked()
    part = paints.studio.project.active
    middles = part.mesh.positions[part.mesh.topology.faces[:, 0], 1]
    paints.studio.project.set_values(
        part.id, "regions", np.where(middles > 0, 7, 0).astype(np.uint16), "Regions"
    )
    settle(paints)
    x, y = middle(paints)
    run(paints, "colour.fill-region")
    drag(paints, [(x, y + 60), (x, y + 60)], events=1)
    assert steps(paints) == ["Regions"]
    drag(paints, [(x, y - 60), (x, y - 60)], events=1)
    assert paints.view.mode is None
    assert steps(paints)[-1] == "Fill a region of Ball"
    painted = (material(paints) == PRESETS["brass"].material).all(axis=1)
    assert painted[part.mesh.positions[:, 1] > 10].all()
    assert not painted[part.mesh.positions[:, 1] < -10].any()


def test_a_click_picks_the_material_with_the_colour(paints: Window) -> None:
    paints.materials.take(PRESETS["wax"])
    run(paints, "colour.fill")
    paints.materials.take(PRESETS["iron"])
    run(paints, "colour.pick")
    x, y = middle(paints)
    drag(paints, [(x, y), (x, y)], events=1)
    ink = paints.studio.project.settings.ink
    assert (ink.colour, ink.material) == (PRESETS["wax"].colour, PRESETS["wax"].material)


def test_a_layer_holds_material_and_is_dialled(paints: Window) -> None:
    paints.materials.take(PRESETS["slime"])
    run(paints, "layer.add")
    across(paints)
    full = material(paints)[front(paints)]
    assert full[3] > 200
    layer = paints.studio.project.active.stack.recorded
    before = picture(paints)
    for share in (0.3, 1.0):
        paints.levels.dial(layer.id, share)
        assert (material(paints)[front(paints)] == full).all() == (share == 1.0)
    paints.levels.dial(layer.id, 0.3)
    paints.levels.keep_dial(layer.id, 0.3)
    settle(paints)
    assert 0.2 * full[3] < material(paints)[front(paints)][3] < 0.5 * full[3]
    assert (picture(paints) != before).any()
    run(paints, "edit.undo")
    settle(paints)
    assert np.array_equal(picture(paints), before)


def test_own_materials_are_kept_shared_loaded_and_taken_away(
    paints: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert "no material of your own" in paints.registry.commands["material.share"].blocked()
    paints.materials.take(PRESETS["moss"])
    paints.materials.dial("wet", 0.8)
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("Bog", True))
    run(paints, "material.keep")
    (own,) = paints.studio.project.settings.materials
    assert own.name == "Bog"
    assert [button.accessibleName() for button in paints.material_card.buttons] == ["Material Bog"]
    path = tmp_path / "mine.json"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, **__: (str(path), ""))
    run(paints, "material.share")
    assert "mine.json" in said(paints)
    run(paints, "material.forget")
    assert not paints.studio.project.settings.materials
    assert "none of your own" in paints.registry.commands["material.forget"].blocked()
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_, **__: (str(path), ""))
    run(paints, "material.load")
    (back,) = paints.studio.project.settings.materials
    assert (back.name, back.colour, back.material) == (own.name, own.colour, own.material)
    path.write_text("{}")
    run(paints, "material.load")
    assert "holds no materials" in said(paints)
    assert len(paints.studio.project.settings.materials) == 1


def test_the_flat_look_shows_colours_as_they_are(paints: Window) -> None:
    paints.studio.set_look(kind="flat")
    paints.colours.take((200, 90, 30))
    x, y = (round(v) for v in middle(paints))
    bare = picture(paints)[y - 150, x - 40, :3].astype(int)
    assert np.abs(bare - CLAY).max() <= 1
    run(paints, "colour.fill")
    assert np.abs(picture(paints)[y - 150, x - 40, :3].astype(int) - (200, 90, 30)).max() <= 1


def test_wet_mirrors_metal_colours_and_what_is_soft_reddens(paints: Window) -> None:
    x, y = (round(v) for v in middle(paints))

    def seen(key: str) -> np.ndarray:
        paints.materials.take(PRESETS[key])
        run(paints, "colour.fill")
        return picture(paints)[..., :3].astype(int)

    wet, dry = seen("wet_stone"), seen("stone")
    assert wet.max() > dry.max() + 40
    gold = seen("gold")
    ball = gold[y - 60 : y + 60, x - 60 : x + 60].reshape(-1, 3).mean(axis=0)
    assert ball[0] > ball[2] + 30
    # In the shade, light that went in comes out red.
    skin = seen("pale_skin")
    paints.studio.set_look(kind="sky")
    paints.materials.dial("subsurface", 0.0)
    run(paints, "colour.fill")
    hard = picture(paints)[..., :3].astype(int)
    shade = (slice(y + 20, y + 90), slice(x + 10, x + 90))
    redder = (skin[shade][..., 0] - skin[shade][..., 2]) - (hard[shade][..., 0] - hard[shade][..., 2])
    assert redder.mean() > 4


def test_balls_are_pictures_of_their_materials() -> None:
    brass, soot = PRESETS["brass"], PRESETS["soot"]
    one, other = ball_picture(brass.colour, brass.material), ball_picture(soot.colour, soot.material)
    assert one.shape == (72, 72, 4)
    assert one[0, 0, 3] == 0
    assert one[36, 36, 3] == 255
    assert one[36, 36, :3].sum() > other[36, 36, :3].sum()


def test_one_thing_is_made_of_another(paints: Window) -> None:
    card = paints.into_card
    for box, key in ((card.choices["source"], "lightness"), (card.choices["target"], "mask")):
        box.setCurrentIndex(box.findData(key))
        box.activated.emit(box.currentIndex())
    card.switches["inverted"].click()
    run(paints, "into.make")
    mask = paints.studio.project.active.mesh.mask
    assert mask is not None
    assert np.ptp(mask) < 1e-3
    assert 0.2 < mask[0] < 0.4
    assert steps(paints) == ["Lightness into mask of Ball"]
    card.choices["source"].setCurrentIndex(card.choices["source"].findData("raised"))
    card.choices["source"].activated.emit(0)
    run(paints, "into.make")
    assert "No layer is recorded" in said(paints)
    card.choices["target"].setCurrentIndex(card.choices["target"].findData("height"))
    card.choices["target"].activated.emit(0)
    assert card.raises.isVisibleTo(card)
    card.numbers["height"].settled.emit(3.0)
    assert paints.becoming.into.height == 3.0


def test_variants_are_written_side_by_side_and_each_by_itself(
    paints: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert "no milestone" in paints.registry.commands["milestone.variants"].blocked()
    for key in ("brass", "moss"):
        paints.materials.take(PRESETS[key])
        run(paints, "colour.fill")
        run(paints, "edit.milestone")
        until(lambda: not paints.studio.jobs)
    paints.materials.take(PRESETS["lip"])
    run(paints, "colour.fill")
    until(lambda: len(paints.studio.project.scene.milestones) == 2)
    folder = tmp_path / "out"
    folder.mkdir()
    path = folder / "pim"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, **__: (str(path), ""))
    run(paints, "milestone.variants")
    until(lambda: "shows 3 variants" in said(paints), 30.0)
    names = sorted(one.name for one in folder.iterdir())
    assert names == ["pim-01.png", "pim-02.png", "pim-03.png", "pim.png"]
    sheet = np.asarray(Image.open(folder / "pim.png")).astype(int)
    one = np.asarray(Image.open(folder / "pim-02.png")).astype(int)
    assert sheet.shape[1] == 3 * one.shape[1]
    assert np.array_equal(sheet[: one.shape[0], one.shape[1] : 2 * one.shape[1]], one)
    middle = one[one.shape[0] // 2, one.shape[1] // 2]
    assert middle[1] > middle[2] + 20


def test_a_layer_lays_only_the_channels_that_are_on(paints: Window) -> None:
    row = paints.colour_card.lays_row
    assert not row.isVisible()
    run(paints, "layer.add")
    paints.colours.paint_with("wet", True)
    paints.materials.dial("wet", 0.8)
    paints.colours.take((200, 30, 30))
    across(paints)
    assert row.isVisible()
    mesh, at = paints.studio.project.active.mesh, front(paints)
    assert mesh.colour[at, 0] > 190
    assert material(paints)[at, 3] > 180
    paints.colour_card.lays["colour"].click()
    assert tuple(mesh.value("colour")[at, :3]) == CLAY
    assert material(paints)[at, 3] > 180
    assert not paints.colour_card.lays["colour"].isChecked()
    paints.colour_card.lays["wet"].click()
    assert material(paints)[at, 3] == 0
    run(paints, "layer.add")
    across(paints)
    run(paints, "layer.merge")
    assert "different channels" in said(paints)
    run(paints, "edit.undo")
    run(paints, "edit.undo")
    run(paints, "edit.undo")
    assert material(paints)[at, 3] > 180
    run(paints, "edit.undo")
    assert mesh.value("colour")[at, 0] > 190
    assert paints.colour_card.lays["colour"].isChecked()
