"""Forming in the real window: strokes of every kind, masks, regions, symmetry, peeling, deforming."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QEvent, Qt
from PySide6.QtWidgets import QApplication
from scipy.spatial import cKDTree

from kneten.app.shell.window import Window
from kneten.app.work.preferences import load_preferences, save_preferences
from kneten.core.crossings import crossing
from kneten.core.mesh import Mesh
from kneten.core.pieces import concatenated
from kneten.core.regions import faces_of_mask
from kneten.core.symmetry import exactly_symmetric
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from tests.app.windows import (
    LEFT,
    NONE,
    answer_dialogs,
    clay,
    drag,
    middle,
    run,
    said,
    send,
    settle,
    steps,
    until,
)
from tests.clay import box
from tests.conftest import make_ball

CTRL = Qt.KeyboardModifier.ControlModifier
SHIFT = Qt.KeyboardModifier.ShiftModifier


def mesh_of(window: Window):  # type: ignore[no-untyped-def]
    part = window.studio.project.active
    assert part is not None
    return part.mesh


def raised(window: Window, before: np.ndarray) -> np.ndarray:
    """Which vertices have moved."""
    return np.linalg.norm(clay(window) - before, axis=1) > 0.05


@pytest.mark.parametrize("kind", ["spaced", "line", "scattered", "dragged", "sized"])
def test_kinds_of_strokes(window: Window, kind: str) -> None:
    x, y = middle(window)
    run(window, "tool.raise")
    window.studio.project.change_settings(symmetry=(False, False, False))
    window.studio.set_brush(size=16.0, kind=kind, strength=1.0)
    assert window.stroke_card.kind.currentData() == kind
    before = clay(window).copy()
    drag(window, [(x - 70, y), (x - 20, y + 30), (x + 70, y)])
    until(lambda: not window.view.at_work)
    settle(window)
    moved = raised(window, before)
    assert moved.any()
    where = before[moved]
    if kind == "line":
        # Straight, though the pointer went round.
        assert np.ptp(where[:, 1]) < 0.4 * np.ptp(where[:, 0])
    elif kind == "dragged":
        assert where[:, 0].min() > 0
    elif kind == "sized":
        # Placed at the press; as large as the drag was long.
        assert where[:, 0].min() < -60
        assert np.ptp(where[:, 0]) > 60
    elif kind == "spaced":
        row = before[moved & (np.abs(before[:, 1]) < 30), 0]
        assert len(np.unique(np.round(row / 3))) < 40
    assert steps(window) == ["Raise on Ball"]
    run(window, "edit.undo")
    assert np.array_equal(clay(window), before)


def test_a_cancelled_dab_that_was_being_placed_leaves_nothing(window: Window) -> None:
    x, y = middle(window)
    run(window, "tool.inflate")
    window.studio.set_brush(size=30.0, kind="dragged")
    before = clay(window).copy()
    send(window, QEvent.Type.MouseButtonPress, x, y, LEFT, NONE)
    send(window, QEvent.Type.MouseMove, x + 40, y, LEFT, NONE)
    QApplication.processEvents()
    window.view.cancel_hand()
    settle(window)
    assert np.array_equal(clay(window), before)
    assert steps(window) == []


@pytest.mark.parametrize(
    ("key", "variant"), [("pull", "normal"), ("pull", "surface"), ("smooth", "relax"), ("smooth", "volume")]
)
def test_variants_are_chosen_in_the_card(window: Window, key: str, variant: str) -> None:
    x, y = middle(window)
    run(window, f"tool.{key}")
    card = window.tool_card
    card.variant.setCurrentIndex(card.variant.findData(variant))
    card.variant.activated.emit(card.variant.currentIndex())
    assert window.studio.settings().variant == variant
    mesh = mesh_of(window)
    mesh.positions[:, 2] += np.random.default_rng(0).normal(0, 0.5, mesh.n_vertices)
    mesh.refresh_all()
    before = clay(window).copy()
    drag(window, [(x + 10, y), (x + 10, y - 30)])
    settle(window)
    moved = raised(window, before)
    assert moved.any()
    if variant == "normal":
        # Up is out: towards the camera, not up the picture.
        way = (clay(window) - before)[moved]
        assert way[np.argmax(np.abs(way).sum(axis=1)), 2] > 5


def test_restore_needs_a_milestone_and_says_so(window: Window) -> None:
    x, y = middle(window)
    run(window, "tool.restore")
    drag(window, [(x, y), (x + 30, y)])
    assert "milestone" in said(window)
    assert steps(window) == []


def test_a_painted_mask_is_freed_softened_and_kept(
    window: Window, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    answer_dialogs(monkeypatch)
    x, y = middle(window)
    run(window, "tool.mask")
    window.studio.set_brush(size=35.0)
    drag(window, [(x - 20, y), (x + 20, y)])
    settle(window)
    mesh = mesh_of(window)
    painted = mesh.mask.copy()
    assert painted.max() > 0.9
    run(window, "mask.keep")
    kept = window.studio.project.scene.kept_masks
    assert [m.name for m in kept] == ["Name"]
    drag(window, [(x - 20, y), (x + 20, y), (x - 20, y), (x + 20, y)], keys=CTRL)
    settle(window)
    assert mesh.mask is None or mesh.mask.max() < painted.max()
    run(window, "mask.invert")
    run(window, "mask.clear")
    window.mask_card.recall()
    settle(window)
    assert np.abs(mesh.mask - painted).max() < 0.005
    window.studio.save_path(tmp_path / "masks.kneten")
    settle(window)
    window.studio.open_path(tmp_path / "masks.kneten")
    settle(window)
    assert [m.name for m in window.studio.project.scene.kept_masks] == ["Name"]
    # On another mesh it is found again by place.
    window.studio.remesh_active(None, 5000)
    settle(window)
    run(window, "mask.clear")
    window.mask_card.recall()
    settle(window)
    new = mesh_of(window)
    centre = new.mask[np.argmax(new.positions[:, 2])]
    assert centre > 0.8
    assert new.mask[np.argmin(new.positions[:, 2])] == 0


def measure(window: Window, kind: str) -> None:
    """Find a mask by a kind of measure."""
    kinds = window.mask_card.kinds
    kinds.setCurrentIndex(kinds.findData(kind))
    kinds.activated.emit(kinds.currentIndex())
    settle(window)


def test_masks_by_form_follow_their_limits(window: Window) -> None:
    for kind in ("cavity", "height", "facing", "thickness", "colour"):
        card = window.mask_card
        measure(window, kind)
        mesh = mesh_of(window)
        card.low._take(0.0, False)
        card.high._take(100.0, False)
        QApplication.processEvents()
        # Shown at once, kept when the hand lets go, one step.
        assert mesh.mask.min() == 1
        before = len(steps(window))
        card.high.settled.emit(100.0)
        settle(window)
        assert len(steps(window)) == before + 1
        run(window, "edit.undo")
        if kind == "height":
            assert mesh.mask[np.argmax(mesh.positions[:, 1])] == 1
            assert mesh.mask[np.argmin(mesh.positions[:, 1])] == 0


def test_a_gradient_is_dragged_over_the_surface(window: Window) -> None:
    x, y = middle(window)
    run(window, "mask.gradient")
    drag(window, [(x, y), (x + 40, y), (x + 80, y)])
    until(lambda: not window.view.at_work)
    settle(window)
    mesh = mesh_of(window)
    assert steps(window) == ["Mask by gradient on Ball"]
    front = int(np.argmax(mesh.positions[:, 2]))
    assert mesh.mask[front] > 0.9
    angle = np.arccos(np.clip(mesh.positions[:, 2] / 100, -1, 1))
    assert np.corrcoef(angle[mesh.mask > 0.05], mesh.mask[mesh.mask > 0.05])[0, 1] < -0.9
    # A drag that ends beside the clay changes nothing.
    drag(window, [(x, y), (5, 5)])
    until(lambda: not window.view.at_work)
    settle(window)
    assert len(steps(window)) <= 2


def test_regions_from_masks_and_back(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    answer_dialogs(monkeypatch)
    x, y = middle(window)
    run(window, "region.from-mask")
    assert "Nothing of the part" in said(window)
    run(window, "mask.rectangle")
    drag(window, [(x - 40, y - 40), (x + 40, y + 40)], keys=SHIFT)
    settle(window)
    window.view.take_mode(None)
    run(window, "region.from-mask")
    mesh = mesh_of(window)
    inside = mesh.regions == window.form.region
    assert inside.any()
    run(window, "mask.clear")
    run(window, "region.mask")
    assert np.array_equal(faces_of_mask(mesh, mesh.mask, 1.0), inside)
    run(window, "region.grow")
    assert (mesh.regions > 0).sum() > inside.sum()
    run(window, "region.shrink")
    assert np.array_equal(mesh.regions > 0, inside)
    run(window, "region.rename")
    assert "Name" in window.region_card.list.item(0).text()
    run(window, "region.isolate")
    assert (mesh.hidden == 0).sum() == inside.sum()
    run(window, "region.swap")
    assert (mesh.hidden == 1).sum() == inside.sum()
    run(window, "region.show-all")
    run(window, "region.copy-out")
    assert window.studio.project.active.name == "Name"
    assert window.studio.project.active.mesh.topology.has_border
    run(window, "edit.undo")
    window.studio.project.choose(window.studio.project.scene.parts[0].id)
    run(window, "region.take-out")
    parts = window.studio.project.scene.parts
    assert len(parts) == 2
    assert not any(p.mesh.topology.has_border for p in parts)
    run(window, "edit.undo")
    run(window, "region.by-connection")
    assert len(np.unique(mesh_of(window).regions)) == 1
    run(window, "region.by-angle")
    run(window, "region.forget")
    assert "region" in said(window)


def test_regions_are_painted_and_continued(window: Window) -> None:
    x, y = middle(window)
    run(window, "tool.region")
    window.studio.set_brush(size=22.0)
    window.studio.project.change_settings(symmetry=(False, False, False))
    drag(window, [(x - 60, y), (x - 30, y)])
    drag(window, [(x + 60, y), (x + 40, y)])
    settle(window)
    mesh = mesh_of(window)
    assert np.array_equal(np.unique(mesh.regions), [0, 1, 2])
    before = (mesh.regions == 1).sum()
    drag(window, [(x - 30, y), (x - 10, y)])
    settle(window)
    assert (mesh.regions == 1).sum() > before
    assert window.region_card.list.count() == 2
    drag(window, [(x - 60, y), (x - 30, y)], keys=CTRL)
    settle(window)
    assert (mesh.regions == 1).sum() < before + 50


def test_masks_by_distance(window: Window) -> None:
    project = window.studio.project
    measure(window, "mask")
    assert "mask the place" in said(window)
    measure(window, "parts")
    assert "no other visible part" in said(window)
    x, y = middle(window)
    run(window, "mask.rectangle")
    drag(window, [(x - 20, y - 20), (x + 20, y + 20)], keys=SHIFT)
    settle(window)
    window.view.take_mode(None)
    spot = mesh_of(window).positions[mesh_of(window).mask > 0.5]
    measure(window, "mask")
    mesh = mesh_of(window)
    far, _ = cKDTree(spot).query(mesh.positions)
    size = np.linalg.norm(np.ptp(mesh.positions, axis=0))
    # To 5 %, running out over 2; over the surface it is a little farther than straight.
    assert far[mesh.mask > 0.5].max() < 0.065 * size
    assert (mesh.mask[far < 0.045 * size] > 0.5).all()
    run(window, "mask.clear")
    other = Part(
        "Other",
        make_ball(30.0, 12).with_positions(make_ball(30.0, 12).positions + np.float32([0, 140, 0])),
        mesh_id="o",
    )
    project.change("Add", project.scene.with_parts((*project.scene.parts, other)))
    measure(window, "parts")
    mesh = mesh_of(window)
    gap = np.linalg.norm(mesh.positions - np.array([0, 140, 0]), axis=1) - 30
    assert gap[mesh.mask > 0.5].max() < 0.045 * size
    assert (mesh.mask[gap < 0.025 * size] > 0.5).all()
    assert (mesh.mask > 0.5).any()


def test_tools_share_what_is_wanted_and_keep_their_own(window: Window) -> None:
    preferences, card = window.studio.preferences, window.tool_card
    run(window, "tool.pull")
    own = preferences.settings("pull")
    run(window, "tool.raise")
    window.studio.set_brush(size=77.0, strength=0.9)
    card.sharing["size"].click()
    assert preferences.shared == ["size"]
    run(window, "tool.pull")
    assert window.studio.settings().size == 77.0
    assert window.studio.settings().strength == own.strength
    window.studio.set_brush(size=31.0, strength=0.4)
    run(window, "tool.raise")
    assert (window.studio.settings().size, window.studio.settings().strength) == (31.0, 0.9)
    assert preferences.settings("smooth").size == 31.0
    save_preferences(preferences)
    again = load_preferences()
    assert again.shared == ["size"]
    assert again.settings("raise") == preferences.settings("raise")
    # Each has its own again, as it was.
    card.sharing["size"].click()
    assert preferences.settings("raise").size == 77.0
    assert preferences.settings("pull") == replace(own, strength=0.4)
    card.sharing["stroke"].click()
    window.studio.set_brush(steadying=0.6)
    run(window, "tool.smooth")
    assert window.studio.settings().steadying == 0.6
    card.sharing["stroke"].click()
    assert window.studio.settings().steadying != 0.6


def test_symmetry_is_checked_and_made_again(window: Window) -> None:
    x, y = middle(window)
    project = window.studio.project
    run(window, "symmetry.check")
    assert "is symmetric" in said(window)
    project.change_settings(symmetry=(False, False, False))
    run(window, "tool.inflate")
    window.studio.set_brush(size=30.0, strength=1.0)
    drag(window, [(x + 40, y), (x + 50, y + 20)])
    settle(window)
    run(window, "symmetry.check")
    assert "off its likes across X" in said(window)
    assert window.view.distances
    run(window, "symmetry.check")
    assert not window.view.distances
    run(window, "symmetry.right")
    assert exactly_symmetric(clay(window), 0)
    assert clay(window)[:, 0].min() < -1
    run(window, "edit.undo")
    run(window, "symmetry.cut-left")
    assert exactly_symmetric(clay(window), 0)
    assert not mesh_of(window).topology.has_border


@pytest.mark.parametrize("axis", [1, 2])
def test_symmetry_across_the_other_planes(window: Window, axis: int) -> None:
    x, y = middle(window)
    project = window.studio.project
    project.change_settings(symmetry=(False, False, False))
    run(window, "tool.inflate")
    window.studio.set_brush(size=30.0, strength=1.0)
    drag(window, [(x + 40, y - 30), (x + 50, y - 50)])
    settle(window)
    project.change_settings(symmetry=tuple(k == axis for k in range(3)))
    run(window, "symmetry.check")
    assert f"across {'XYZ'[axis]} by up to" in said(window)
    window.view.stop_compare()
    assert not exactly_symmetric(clay(window), axis)
    run(window, "symmetry.right")
    assert exactly_symmetric(clay(window), axis)
    assert not exactly_symmetric(clay(window), 0)
    run(window, "edit.undo")
    run(window, "symmetry.cut-right")
    assert exactly_symmetric(clay(window), axis)
    run(window, "edit.undo")
    # By the world's planes, of a part that is turned.
    place_of_part = project.active.transform.with_degrees(0.0, 0.0, 25.0)
    project.place(project.active.id, place_of_part, "Turn")
    project.change_settings(symmetry_space="world", symmetry=(False, True, False))
    run(window, "symmetry.cut-right")
    there = project.active.transform.to_scene(clay(window).astype(float))
    far, _ = cKDTree(there).query(there * [1, -1, 1])
    assert far.max() < 1e-3


def test_symmetry_all_round(window: Window) -> None:
    x, y = middle(window)
    project = window.studio.project
    project.change_settings(symmetry=(False, False, False), radial=(1, 4))
    run(window, "symmetry.check")
    assert "symmetric all round Y" in said(window)
    project.change_settings(radial=(1, 1))
    run(window, "tool.inflate")
    window.studio.set_brush(size=30.0, strength=1.0)
    drag(window, [(x + 20, y), (x + 30, y - 10)])
    settle(window)
    project.change_settings(radial=(1, 4))

    def off() -> float:
        at = clay(window).astype(float)
        far, _ = cKDTree(at).query(at[:, [2, 1, 0]] * [1, 1, -1])
        return float(far.max())

    assert off() > 1
    run(window, "symmetry.mean")
    assert off() < 1e-3
    mean = np.linalg.norm(clay(window), axis=1).max()
    run(window, "edit.undo")
    heights = [np.linalg.norm(clay(window), axis=1).max()]
    for key in ("right", "left"):
        run(window, f"symmetry.{key}")
        assert off() < 1e-3
        heights.append(np.linalg.norm(clay(window), axis=1).max())
        run(window, "edit.undo")
    # One of the sectors has the bump, all of it; the mean has a part of it.
    assert max(heights[1:]) == pytest.approx(heights[0], abs=1e-3)
    assert 100.2 < mean < heights[0] - 0.2
    project.change_settings(radial=(1, 5))
    run(window, "symmetry.mean")
    assert "does not repeat 5 times" in said(window)
    run(window, "symmetry.cut-right")
    assert "switch one on" in said(window)


def test_twins_by_shape_all_round_and_of_the_world(window: Window) -> None:
    x, y = middle(window)
    project = window.studio.project
    card = window.symmetry_card
    card.space.setCurrentIndex(card.space.findData("shape"))
    card.space.activated.emit(card.space.currentIndex())
    settle(window)
    assert project.settings.symmetry_space == "shape"
    run(window, "tool.inflate")
    window.studio.set_brush(size=20.0)
    before = clay(window).copy()
    drag(window, [(x + 50, y), (x + 60, y + 10)])
    settle(window)
    moved = before[raised(window, before)]
    assert moved[:, 0].max() > 20
    assert moved[:, 0].min() < -20
    card.space.setCurrentIndex(card.space.findData("world"))
    card.space.activated.emit(card.space.currentIndex())
    card.count._take(6, False)
    settle(window)
    assert "6×" in window.chip.text()
    before = clay(window).copy()
    drag(window, [(x, y + 10), (x + 5, y + 10)])
    settle(window)
    moved = before[raised(window, before)]
    assert moved[:, 2].min() < -20


def test_peel_and_deform(window: Window, tmp_path: Path) -> None:
    x, y = middle(window)
    project = window.studio.project
    run(window, "mask.peel")
    assert "Nothing of the part" in said(window)
    run(window, "mask.lasso")
    t = np.linspace(0, 6.2, 30)
    drag(window, [(x + 60 * np.cos(a), y + 60 * np.sin(a)) for a in t], keys=SHIFT)
    settle(window)
    window.view.take_mode(None)
    window.peel_card.thickness.set_value(5.0)
    run(window, "mask.peel")
    shell = project.active
    assert shell.name == "Ball shell"
    assert not shell.mesh.topology.has_border
    far = np.linalg.norm(shell.mesh.positions, axis=1)
    assert far.max() == pytest.approx(105, abs=0.6)
    card = window.deform_card
    card.kind.setCurrentIndex(card.kind.findData("twist"))
    card.kind.activated.emit(card.kind.currentIndex())
    project.choose_all([p.id for p in project.scene.parts])
    before = [p.mesh.positions.copy() for p in project.scene.parts]
    for amount in (20.0, 60.0, 90.0):
        card.amount._take(amount, False)
        QApplication.processEvents()
    count = len(steps(window))
    card.amount.settled.emit(90.0)
    settle(window)
    assert steps(window)[count:] == ["Twist 2 parts"]
    for part, old in zip(project.scene.parts, before, strict=True):
        # What the mask of the ball covers stays.
        share = np.ones(len(old)) if part.mesh.mask is None else 1 - part.mesh.mask
        assert not np.array_equal(part.mesh.positions[share == 1], old[share == 1])
        assert np.array_equal(part.mesh.positions[share == 0], old[share == 0])
    run(window, "edit.undo")
    for part, old in zip(project.scene.parts, before, strict=True):
        assert np.array_equal(part.mesh.positions, old)
    for kind in ("relax", "noise"):
        card.kind.setCurrentIndex(card.kind.findData(kind))
        card.kind.activated.emit(card.kind.currentIndex())
        card.amount._take(4.0, False)
        card.amount.settled.emit(4.0)
        settle(window)
    assert steps(window)[-1] == "Noise 2 parts"


def test_own_tools_are_kept_shared_and_forgotten(
    window: Window, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    answer_dialogs(monkeypatch)
    run(window, "own.forget")
    assert "none of your own" in said(window)
    run(window, "tool.coil")
    window.studio.set_brush(size=12.0, strength=0.9, taper=4.0)
    run(window, "own.keep")
    key = "tool.own:Name"
    assert key in window.rack.buttons
    assert window.studio.tool.name == "Name"
    assert window.tool_card.head.text().endswith("Name")
    x, y = middle(window)
    drag(window, [(x - 40, y), (x + 40, y)])
    settle(window)
    assert steps(window) == ["Name on Ball"]
    file = tmp_path / "name.kneten-tool"
    window.own_tools.save_to(file)
    window.studio.set_brush(size=90.0)
    again = load_preferences()
    assert again.own_tools["Name"].settings.size == 12.0
    run(window, "own.forget")
    assert key not in window.registry.commands
    assert key not in window.rack.buttons
    assert window.studio.tool.key == "coil"
    window.own_tools.load_from(file)
    assert window.studio.settings().taper == 4.0
    window.own_tools.load_from(file)
    assert list(window.studio.preferences.own_tools) == ["Name"]
    for text in ("{}", "no", '{"format": "kneten-tool", "name": "A", "tool": "chisel", "settings": {}}'):
        file.write_text(text)
        window.own_tools.load_from(file)
    assert "chisel" in said(window)
    assert "holds no Kneten tool" in said(window)
    assert list(window.studio.preferences.own_tools) == ["Name"]


def test_large_clay_is_tried_by_what_stands_in_for_it(window: Window) -> None:
    ball = make_ball(100.0, 165)
    window.studio.take(Project(Scene((Part("Ball", ball),))))
    window.views.frame_all()
    settle(window)
    card = window.deform_card
    card.kind.setCurrentIndex(card.kind.findData("stretch"))
    card.kind.activated.emit(card.kind.currentIndex())
    before = ball.positions.copy()
    card.amount._take(50.0, False)
    moved = (ball.positions != before).any(axis=1)
    # A few vertices while the hand moves, all of them once it rests.
    assert 1000 < moved.sum() < 0.5 * len(before)
    assert ball.in_flux
    few = ball.positions[moved].copy()
    until(lambda: not ball.in_flux)
    assert np.array_equal(ball.positions[moved], few)
    assert (ball.positions != before).any(axis=1).mean() > 0.9
    whole = ball.positions.copy()
    card.amount.settled.emit(50.0)
    settle(window)
    assert np.array_equal(ball.positions, whole)
    assert np.abs(ball.normals - Mesh(ball.topology, whole).normals).max() < 1e-5
    run(window, "edit.undo")
    assert np.array_equal(ball.positions, before)
    # A layer's strength in the same way.
    run(window, "layer.add")
    ball = mesh_of(window)
    ball.positions += ball.normals
    ball.refresh_all()
    full = ball.positions.copy()
    row = window.layers_card.rows[0]
    row.strength._take(50.0, False)
    assert ball.in_flux
    until(lambda: not ball.in_flux)
    assert np.abs(ball.positions - (before + 0.5 * (full - before))).max() < 1e-4
    row.strength.settled.emit(50.0)
    settle(window)
    run(window, "edit.undo")
    assert np.array_equal(ball.positions, full)


def test_a_stroke_that_does_less_than_asked_says_so_now_and_then(window: Window) -> None:
    plate = Part("Plate", box(60.0, 60.0, 4.0, 2.0))
    window.studio.take(Project(Scene((plate,))))
    run(window, "view.front")
    window.views.frame_all()
    run(window, "tool.shave")
    window.studio.set_brush(size=70, strength=1.0, taper=0.0)
    settle(window)
    x, y = window.view.width() / 2, window.view.height() / 2
    heard: list[str] = []
    window.studio.said.connect(lambda text, _kind: heard.append(text))
    line = [(x - 60, y), (x, y), (x + 60, y)]
    for _ in range(8):
        drag(window, line, events=6)
    settle(window)
    told = [text for text in heard if "did less than asked" in text]
    assert len(told) == 1
    assert "Plate" in told[0]
    # The far side is where it was, and the front has not come through.
    at = clay(window)
    assert at[:, 2].min() == -2.0
    assert not crossing(mesh_of(window)).any()


def test_through_the_clay_is_a_switch_of_each_tool(window: Window) -> None:
    plate = Part("Plate", box(60.0, 60.0, 4.0, 2.0))
    window.studio.take(Project(Scene((plate,))))
    run(window, "view.front")
    window.views.frame_all()
    run(window, "tool.raise")
    settle(window)
    x, y = window.view.width() / 2, window.view.height() / 2
    back = clay(window)[:, 2] == -2.0
    drag(window, [(x - 30, y), (x + 30, y)])
    assert (clay(window)[back, 2] == -2.0).all()
    run(window, "brush.through")
    assert window.studio.settings().through
    assert window.tool_card.through.isChecked()
    drag(window, [(x - 30, y), (x + 30, y)])
    assert (clay(window)[back, 2] > -2.0).any()
    run(window, "brush.through")
    assert not window.studio.settings().through


def test_a_mask_that_finds_nothing_says_so(window: Window) -> None:
    card = window.mask_card
    window.side.bring("Mask")
    window.colours.take((0, 0, 0))
    card.kinds.setCurrentIndex(card.kinds.findData("colour"))
    card._begin()
    settle(window)
    assert "Nothing of" in said(window)
    assert "Move the limits" in said(window)


def test_thin_places_are_shown_warm(window: Window) -> None:
    """A ball with a thin plate through it: the plate is told and coloured, and the same again ends it."""
    body = concatenated([make_ball(40.0, 16), box(160.0, 160.0, 3.0, 5.0)])
    window.studio.take(Project(Scene((Part("Body", body),))))
    run(window, "look.thickness")
    settle(window)
    assert "mm thick where it is thinnest" in said(window)
    (shown,) = window.view.distances.values()
    at = body.positions
    plate = (
        (np.abs(at[:, 2]) < 3) & (np.abs(at[:, :2]).max(axis=1) < 75) & (np.abs(at[:, :2]).max(axis=1) > 50)
    )
    ball = np.linalg.norm(at, axis=1) < 41
    ball &= np.abs(at[:, 2]) > 30
    assert plate.sum() > 100
    assert shown[plate].min() > shown[ball].max()
    assert window.view.distance_legend is not None
    run(window, "look.thickness")
    assert not window.view.distances
