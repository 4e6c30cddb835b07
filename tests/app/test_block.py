"""Blocking in the real window: what a hand does from the first ball to the saved creature."""

from __future__ import annotations

import itertools
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QInputDialog

from kneten.app.benches.block.armature_mode import ArmatureMode
from kneten.app.benches.block.cut_mode import SHAPES, CutMode
from kneten.app.benches.block.dialogs import ArrayDialog
from kneten.app.benches.block.live_mode import LiveMode
from kneten.app.benches.block.parts_card import COUNT, EYE, NAME, PART
from kneten.app.benches.block.strand_mode import KnotMode
from kneten.app.benches.gather.references import PictureError, read_picture
from kneten.app.shell.window import Window
from kneten.core.live.armature import Armature
from kneten.core.live.lathe import Lathe
from kneten.core.live.primitive import Primitive
from kneten.core.live.strand import Strands
from kneten.core.loose import LooseMesh
from kneten.core.mesh import Mesh
from kneten.core.pieces import picked
from kneten.core.planes import between, to_scene, turned
from kneten.core.regions import faces_of_mask
from kneten.core.solid import flaw
from kneten.core.transform import Transform
from kneten.core.twins import pairs_of
from kneten.document import blocking
from kneten.document.guides import add_guides
from kneten.document.marks import place_of
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.scene import Part, Scene
from kneten.document.things import Reference
from tests.app.windows import (
    LEFT,
    NONE,
    answer_dialogs,
    drag,
    pixel,
    run,
    said,
    send,
    settle,
    shown,
    steps,
    until,
)
from tests.long import few, some

CTRL = Qt.KeyboardModifier.ControlModifier
SHIFT = Qt.KeyboardModifier.ShiftModifier


def alone(window: Window, key: str) -> Part:
    """Only a new live part in the scene, the camera on it."""
    run(window, "parts.delete")
    run(window, key)
    run(window, "view.front")
    run(window, "view.frame-all")
    part = window.studio.project.active
    assert part is not None
    return part


def click(window: Window, at: tuple[float, float], keys: Qt.KeyboardModifier = NONE) -> None:
    drag(window, [at, at], keys=keys)
    settle(window)


def test_a_small_creature_from_nothing(window: Window, tmp_path: Path) -> None:
    """Armature, bake, strand, mirror, fuse, cut, save, reopen: all with the mouse."""
    project = window.studio.project
    alone(window, "armature.new")
    mode = window.view.mode
    assert isinstance(mode, ArmatureMode)
    body = mode.now()
    assert body is not None
    radius = body.joints[0].radius
    centre = project.active.transform.place
    # A head above, a pair of legs below.
    x, y = pixel(window, centre)
    up = pixel(window, np.array(centre) + np.array([0, radius * 2.2, 0]))
    drag(window, [(x, y), up], keys=SHIFT)
    settle(window)
    leg = pixel(window, np.array(centre) + np.array([radius * 1.2, -radius * 1.8, 0]))
    drag(window, [(x, y), leg], keys=SHIFT)
    settle(window)
    grown = project.active.recipe
    assert isinstance(grown, Armature)
    assert len(grown.joints) == 4
    assert grown.symmetric()
    assert steps(window)[-1] == "Pull a ball out of Armature"
    assert len(project.active.mesh.positions) > len(body.made().positions)
    run(window, "live.bake")
    assert window.view.mode is None
    assert project.active.was == grown
    # A strand drawn from the head outwards, and its twin.
    run(window, "view.frame-all")
    run(window, "strand.free")
    head = np.array(centre) + np.array([0, radius * 2.2, 0])
    root, tip = (
        pixel(window, head + np.array([radius * 0.5, 0, 0])),
        pixel(window, head + np.array([radius * 2.5, radius, 0])),
    )
    drag(window, [root, ((root[0] + tip[0]) / 2, root[1] - 12), tip])
    settle(window)
    strand = project.active
    assert isinstance(strand.recipe, Strands)
    run(window, "live.bake")
    run(window, "copy.mirror-x")
    assert len(project.scene.parts) == 3
    # All of it fused, then cut flat at the feet.
    run(window, "parts.all")
    window.density_card.fuse.set_value(radius / 8)
    run(window, "parts.fuse")
    assert len(project.scene.parts) == 1
    fused = project.active
    assert flaw(fused.mesh) == ""
    assert len(fused.origins) == 3
    low, high = fused.bounds()
    run(window, "view.frame-all")
    run(window, "cut.line")
    foot = low[1] + (high[1] - low[1]) * 0.12
    # From left to right: what lies to the right of that way is below it.
    drag(window, [pixel(window, (low[0] * 1.5, foot, 0)), pixel(window, (high[0] * 1.5, foot, 0))])
    settle(window)
    cut = project.active
    assert cut.bounds()[0][1] == pytest.approx(foot, abs=(high[1] - low[1]) * 0.06)
    assert flaw(cut.mesh) == ""
    saved = cut.mesh.positions.copy()
    path = tmp_path / "creature.kneten"
    window.studio.save_path(path)
    settle(window)
    assert not window.studio.project.unsaved
    window.studio.open_path(path)
    settle(window)
    again = window.studio.project
    assert again is not project
    assert np.array_equal(again.active.mesh.positions, saved)
    assert again.active.origins == cut.origins


def test_armature_balls_move_turn_size_and_go(window: Window) -> None:
    project = window.studio.project
    part = alone(window, "armature.slender")
    mode = window.view.mode
    assert isinstance(mode, ArmatureMode)

    def place(name: str) -> np.ndarray:
        joints = project.scene.part(part.id).recipe.joints
        return np.array(next(j.place for j in joints if j.name == name))

    def key(name: str) -> int:
        return next(j.key for j in project.scene.part(part.id).recipe.joints if j.name == name)

    elbow, wrist = place("elbow left"), place("wrist left")
    x, y = pixel(window, elbow)
    assert mode.ball_at(x, y) == key("elbow left")
    drag(window, [(x, y), (x + 30, y - 20)])
    settle(window)
    assert place("elbow left")[0] > elbow[0]
    assert place("elbow right") == pytest.approx(place("elbow left") * [-1, 1, 1])
    assert np.array_equal(place("wrist left"), wrist)
    run(window, "edit.undo")
    drag(window, [(x, y), (x + 30, y - 20)], keys=CTRL)
    settle(window)
    assert place("wrist left") - wrist == pytest.approx(place("elbow left") - elbow)
    run(window, "edit.undo")
    drag(window, [(x, y), (x + 100, y)], keys=CTRL | SHIFT)
    settle(window)
    assert np.array_equal(place("elbow left"), elbow)
    assert np.linalg.norm(place("wrist left") - elbow) == pytest.approx(np.linalg.norm(wrist - elbow))
    assert np.linalg.norm(place("wrist left") - wrist) > 5
    run(window, "edit.undo")
    # A click on a limb puts a ball in, Delete takes it out.
    thigh, knee = place("thigh left"), place("knee left")
    count = len(project.scene.part(part.id).recipe.joints)
    click(window, pixel(window, (thigh + knee) / 2))
    assert len(project.scene.part(part.id).recipe.joints) == count + 2
    QTest.keyClick(window.view, Qt.Key.Key_Delete)
    settle(window)
    assert len(project.scene.part(part.id).recipe.joints) == count
    click(window, pixel(window, place("skull")))
    radius = project.scene.part(part.id).recipe.joint(key("skull")).radius
    QTest.keyClick(window.view, Qt.Key.Key_Plus)
    settle(window)
    assert project.scene.part(part.id).recipe.joint(key("skull")).radius == pytest.approx(radius * 1.1)
    click(window, pixel(window, place("elbow left")))
    arm = place("wrist left") - place("elbow left")
    QTest.keyClick(window.view, Qt.Key.Key_PageUp)
    settle(window)
    assert place("wrist left") - place("elbow left") == pytest.approx(arm * 1.1)
    # Hung on the ball under the pointer: the skull.
    x, y = pixel(window, place("skull"))
    send(window, QEvent.Type.MouseMove, x, y, Qt.MouseButton.NoButton, NONE)
    assert mode.hot == key("skull")
    QTest.keyClick(window.view, Qt.Key.Key_H)
    settle(window)
    assert project.scene.part(part.id).recipe.joint(key("elbow left")).parent == key("skull")
    assert project.scene.part(part.id).recipe.symmetric()
    QTest.keyClick(window.view, Qt.Key.Key_Escape)
    assert window.view.mode is None


def test_the_skin_follows_while_a_ball_is_dragged(window: Window) -> None:
    part = alone(window, "armature.new")
    centre = part.transform.place
    x, y = pixel(window, centre)
    drag(window, [(x, y), (x + 60, y - 60)], release=False)
    until(lambda: part.id in window.view.preview)
    assert window.studio.project.history.names()[0][-1] == "Add Armature"
    preview = window.view.preview[part.id]
    assert preview.mesh is not part.mesh
    QTest.keyClick(window.view, Qt.Key.Key_Escape)
    settle(window)
    assert window.view.preview == {}
    assert window.studio.project.scene.part(part.id).mesh is part.mesh


def test_strands_by_all_three_ways(window: Window) -> None:
    project = window.studio.project
    x, y = pixel(window, (0, 0, 100))
    run(window, "strand.surface")
    drag(window, [(x - 40, y), (x, y - 30), (x + 40, y)])
    settle(window)
    lying = project.active
    assert isinstance(lying.recipe, Strands)
    knots = lying.transform.to_scene(np.array([k.place for k in lying.recipe.strands[0].knots]))
    assert np.linalg.norm(knots, axis=1) == pytest.approx(np.full(len(knots), 100.0), rel=0.01)
    # Another one goes to the same part.
    drag(window, [(x - 40, y + 40), (x + 40, y + 40)])
    settle(window)
    assert len(project.active.recipe.strands) == 2
    project.choose(project.scene.parts[0].id)
    run(window, "strand.points")
    for at in ((x - 60, y + 80), (x, y + 60), (x + 60, y + 80), (x, y + 110)):
        click(window, at)
    QTest.keyClick(window.view, Qt.Key.Key_C)
    settle(window)
    assert project.active.recipe.strands[0].closed
    assert len(project.active.recipe.strands[0].knots) == 4
    project.choose(project.scene.parts[0].id)
    click(window, (x, y))
    QTest.keyClick(window.view, Qt.Key.Key_Return)
    settle(window)
    assert any("at least two points" in n.text for n in window.notices.notices)
    run(window, "strand.free")
    click(window, (x, y))
    assert any("longer stroke" in n.text for n in window.notices.notices)


def test_a_strand_on_the_clay_stays_there_when_its_points_move(window: Window, tmp_path: Path) -> None:
    project = window.studio.project
    x, y = pixel(window, (0, 0, 100))
    run(window, "strand.surface")
    drag(window, [(x - 90, y), (x - 45, y - 50), (x, y), (x + 45, y + 50), (x + 90, y)])
    settle(window)

    def off() -> float:
        part = project.active
        assert part is not None
        assert isinstance(part.recipe, Strands)
        curve, _ = part.recipe.path(part.recipe.strands[0])
        return float(np.abs(np.linalg.norm(part.transform.to_scene(curve), axis=1) - 100.0).max())

    assert off() < 0.6
    run(window, "strand.edit")
    part = project.active
    assert part is not None
    assert isinstance(part.recipe, Strands)
    middle = part.recipe.strands[0].knots[len(part.recipe.strands[0].knots) // 2]
    at = pixel(window, tuple(part.transform.to_scene(np.array(middle.place)[None])[0]))
    drag(window, [at, (at[0] + 10, at[1] - 40), (at[0] + 30, at[1] - 70)])
    settle(window)
    now = project.active
    assert now is not None
    assert now.recipe != part.recipe
    assert off() < 0.6
    window.live_card.laid.setChecked(False)
    settle(window)
    assert off() > 1.0
    project.undo()
    assert off() < 0.6
    path = tmp_path / "lying.kneten"
    save_project(project, path)
    assert open_project(path).scene.parts[-1].recipe == project.scene.parts[-1].recipe


def test_points_of_a_strand(window: Window) -> None:
    project = window.studio.project
    run(window, "parts.delete")
    run(window, "strand.free")
    drag(window, [(300, 300), (380, 240), (460, 300)])
    settle(window)
    part = project.active
    run(window, "strand.edit")
    mode = window.view.mode
    assert isinstance(mode, KnotMode)

    def knot(k: int):  # type: ignore[no-untyped-def]
        return project.scene.part(part.id).recipe.strands[0].knots[k]

    def at(k: int) -> tuple[float, float]:
        return pixel(window, part.transform.to_scene(np.array([knot(k).place]))[0])

    x, y = at(1)
    thickness, roll = knot(1).thickness, knot(1).roll
    drag(window, [(x, y), (x + 20, y - 20)])
    settle(window)
    assert at(1) == pytest.approx((x + 20, y - 20), abs=1)
    drag(window, [at(1), (at(1)[0] + 60, at(1)[1])], keys=SHIFT)
    settle(window)
    assert knot(1).thickness > thickness * 1.5
    drag(window, [at(1), (at(1)[0] + 60, at(1)[1])], keys=CTRL)
    settle(window)
    assert knot(1).roll > roll + 20
    window.live_card.knot[0].setText("7.5")
    window.live_card.knot[0].editingFinished.emit()
    settle(window)
    assert knot(1).thickness == pytest.approx(7.5)
    count = len(project.scene.part(part.id).recipe.strands[0].knots)
    middle = (np.array(at(0)) + np.array(at(1))) / 2
    curve, _ = project.scene.part(part.id).recipe.path(project.scene.part(part.id).recipe.strands[0])
    spot = pixel(window, part.transform.to_scene(curve[2:3])[0])
    assert np.hypot(*(middle - spot)) < 60
    click(window, spot)
    assert len(project.scene.part(part.id).recipe.strands[0].knots) == count + 1
    QTest.keyClick(window.view, Qt.Key.Key_Delete)
    settle(window)
    assert len(project.scene.part(part.id).recipe.strands[0].knots) == count


def test_numbers_of_live_parts_in_the_card(window: Window) -> None:
    project = window.studio.project
    window.choose_stage("Block")
    part = alone(window, "live.box")
    size = window.live_card._fields["size 1"]
    size.setText("25 mm + 5")
    size.editingFinished.emit()
    settle(window)
    now = project.scene.part(part.id)
    assert now.recipe.size[1] == pytest.approx(30)
    assert np.ptp(now.mesh.positions[:, 1]) == pytest.approx(30, rel=1e-5)
    divisions = window.live_card._fields["divisions 0"]
    divisions.setText("3")
    divisions.editingFinished.emit()
    settle(window)
    assert project.scene.part(part.id).recipe.divisions[0] == 3
    run(window, "edit.undo")
    assert project.scene.part(part.id).recipe.divisions[0] == part.recipe.divisions[0]
    # A live part is not sculpted by accident.
    drag(window, [(300, 300), (320, 300)])
    x, y = pixel(window, part.transform.place)
    drag(window, [(x, y), (x + 30, y)])
    assert any("Bake it to clay" in n.text for n in window.notices.notices)
    assert isinstance(project.scene.part(part.id).recipe, Primitive)


def test_the_lathe_is_drawn_beside_its_result(window: Window) -> None:
    project = window.studio.project
    window.choose_stage("Block")
    part = alone(window, "live.lathe")
    field = window.live_card.lathe
    start = field.place(field.points[2])
    goal = start + QPointF(24, 0)

    def send_to(kind: str, at: QPointF) -> None:
        getattr(QTest, kind)(
            field, Qt.MouseButton.LeftButton, pos=at.toPoint()
        ) if kind != "mouseMove" else None

    send_to("mousePress", start)
    from PySide6.QtGui import QMouseEvent

    move = QMouseEvent(QEvent.Type.MouseMove, goal, field.mapToGlobal(goal), LEFT, LEFT, NONE)
    QApplication.sendEvent(field, move)
    send_to("mouseRelease", goal)
    settle(window)
    now = project.scene.part(part.id)
    assert isinstance(now.recipe, Lathe)
    assert now.recipe.points[2].radius > part.recipe.points[2].radius + 5
    assert now.mesh.n_vertices > 100


def outline(window: Window, shape: str) -> None:
    """An outline of a shape over the right half of the ball, or across it."""
    x, y = pixel(window, (0, 0, 0))
    radius = pixel(window, (100.0, 0, 0))[0] - x
    if shape == "lasso":
        t = np.linspace(0, 6.2, 40)
        drag(window, [(x + 30 + 40 * np.cos(a), y + 40 * np.sin(a)) for a in t], events=2)
    elif shape in ("rectangle", "line"):
        drag(window, [(x - radius * 1.4, y + 30), (x + radius * 1.4, y + radius * 0.7)])
    else:
        for at in ((x - radius * 1.3, y), (x, y + 20), (x + radius * 1.3, y), (x, y - radius * 1.4)):
            click(window, at)
        if shape == "curve":
            QTest.keyClick(window.view, Qt.Key.Key_Backspace)
        QTest.keyClick(window.view, Qt.Key.Key_Return)
    settle(window)


@pytest.mark.parametrize("shape", some(list(SHAPES), 2))
def test_every_cut_leaves_closed_clay(window: Window, shape: str) -> None:
    project = window.studio.project
    before = project.active.mesh
    run(window, f"cut.{shape}")
    outline(window, shape)
    after = project.active.mesh
    assert after is not before
    assert flaw(after) == ""
    assert steps(window) == ["Cut Ball"]
    run(window, "edit.undo")
    assert project.active.mesh is before


def test_splitting_cutting_the_front_and_missing(window: Window) -> None:
    project = window.studio.project
    project.change_settings(symmetry=(False, False, False))
    x, y = pixel(window, (0, 0, 0))
    run(window, "cut.rectangle")
    drag(window, [(x - 30, y - 300), (x + 300, y + 300)], keys=CTRL)
    settle(window)
    assert [p.name for p in project.scene.parts] == ["Ball", "Ball cut off"]
    assert all(flaw(p.mesh) == "" for p in project.scene.parts)
    run(window, "edit.undo")
    drag(window, [(2, 2), (12, 12)])
    settle(window)
    assert any("misses" in n.text for n in window.notices.notices)
    drag(window, [(x, y), (x + 1, y)])
    settle(window)
    assert any("too small" in n.text for n in window.notices.notices)
    assert steps(window) == []


@pytest.mark.parametrize("shape", some(list(SHAPES), 3))
def test_masks_hiding_and_regions_take_every_shape_and_its_mirror_image(window: Window, shape: str) -> None:
    project = window.studio.project
    for symmetric in (False, True):
        project.change_settings(symmetry=(symmetric, False, False))
        run(window, f"mask.{shape}")
        outline(window, shape)
        mesh = project.active.mesh
        assert mesh.mask is not None
        masked = mesh.mask > 0
        assert 0.005 < masked.mean() < 0.9
        twin = pairs_of(mesh, 0).twin
        # Some of the outlines are symmetric by themselves.
        assert np.array_equal(masked[twin], masked) == (symmetric or shape not in ("lasso", "line"))
        run(window, "edit.undo")
        run(window, f"region.{shape}")
        outline(window, shape)
        faces = project.active.mesh.regions == 1
        assert np.array_equal(faces, faces_of_mask(project.active.mesh, masked.astype(np.float32)))
        run(window, "edit.undo")
        run(window, f"region.{shape}-hide")
        outline(window, shape)
        assert np.array_equal(project.active.mesh.hidden == 1, faces)
        run(window, "edit.undo")


def test_an_outline_is_repeated_all_round(window: Window) -> None:
    project = window.studio.project
    project.change_settings(symmetry=(False, False, False), radial=(1, 4))
    x, y = pixel(window, (0, 0, 100))
    run(window, "mask.rectangle")
    drag(window, [(x - 20, y - 20), (x + 20, y + 20)], keys=SHIFT)
    settle(window)
    at = project.active.mesh.positions[project.active.mesh.mask > 0]
    turns = np.unique(np.round(np.degrees(np.arctan2(at[:, 0], at[:, 2])) / 90).astype(int) % 4)
    assert turns.tolist() == [0, 1, 2, 3]
    assert np.abs(at[:, 1]).max() < 60


def test_arrows_choose_another_shape_and_how_cuts_run(window: Window) -> None:
    project = window.studio.project
    project.change_settings(symmetry=(False, False, False))
    run(window, "mask.lasso")
    QTest.keyClick(window.view, Qt.Key.Key_Right)
    assert window.view.mode.key == "mask.rectangle"
    QTest.keyClick(window.view, Qt.Key.Key_Left)
    QTest.keyClick(window.view, Qt.Key.Key_Left)
    assert window.view.mode.key == "mask.curve"
    window.view.take_mode(None)
    camera = window.view.camera
    assert not camera.orthographic
    sides = []
    for square in (False, True):
        run(window, "cut.rectangle")
        if square:
            QTest.keyClick(window.view, Qt.Key.Key_Up)
            assert "from the eye again" in window.view.mode.hint
        x, y = pixel(window, (0, 0, 0))
        drag(window, [(x + 60, y - 400), (x + 800, y + 400)])
        settle(window)
        window.view.take_mode(None)
        mesh = project.active.mesh
        assert flaw(mesh) == ""
        right = camera.axes()[:, 0]
        across, deep = mesh.positions @ right, mesh.positions @ camera.axes()[:, 2]
        rim = across > across.max() - 25
        near, far = (
            across[rim & (deep > 20)].max(),
            across[rim & (deep < -20)].max() if (rim & (deep < -20)).any() else -1,
        )
        sides.append(near - far)
        run(window, "edit.undo")
    # From the eye what is nearer is cut more narrowly; square to the picture all alike.
    assert sides[0] < -2
    assert abs(sides[1]) < 1


def test_symmetry_cuts_both_sides(window: Window) -> None:
    project = window.studio.project
    assert project.settings.symmetry[0]
    x, y = pixel(window, (0, 0, 0))
    run(window, "cut.rectangle")
    drag(window, [(x + 40, y - 20), (x + 80, y + 20)])
    settle(window)
    from kneten.core.symmetry import exactly_symmetric

    assert exactly_symmetric(project.active.mesh.positions, 0)


def test_joining_says_what_had_to_be_made_solid(window: Window) -> None:
    project = window.studio.project
    run(window, "live.disc")
    disc = project.active
    ball = next(p for p in project.scene.parts if p.id != disc.id)
    project.place(disc.id, disc.transform.moved(-np.array(disc.transform.place)))
    project.choose_all([ball.id, disc.id])
    project.active_id = ball.id
    run(window, "join.subtract")
    assert any("encloses nothing" in n.text for n in window.notices.notices)
    assert len(project.scene.parts) == 2
    project.choose(disc.id)
    run(window, "parts.delete")
    run(window, "join.subtract")
    assert any("at least two parts" in n.text for n in window.notices.notices)


def test_subtracting_and_its_preview(window: Window) -> None:
    project = window.studio.project
    ball = project.active
    run(window, "live.sphere")
    tool = project.active
    project.place(tool.id, tool.transform.moved(np.array([-60.0, 0, 0]) - np.array(tool.transform.place)))
    project.choose_all([ball.id, tool.id])
    project.active_id = ball.id
    run(window, "join.preview-subtract")
    until(lambda: not window.view._scene().part(tool.id).visible)
    shown_scene = window.view._scene()
    assert shown_scene.part(ball.id).mesh is not ball.mesh
    run(window, "join.preview-subtract")
    assert window.view._scene().part(ball.id).mesh is ball.mesh
    run(window, "join.subtract")
    assert [p.name for p in project.scene.parts] == ["Ball"]
    assert project.active.mesh.topology.faces[:, 3].max() >= 0
    run(window, "edit.undo")
    assert len(project.scene.parts) == 2


def test_several_parts_move_with_one_handle(window: Window) -> None:
    project = window.studio.project
    run(window, "live.sphere")
    run(window, "view.frame-all")
    run(window, "parts.all")
    run(window, "parts.move")
    part = project.active
    places = {p.id: np.array(p.transform.place) for p in project.scene.parts}
    window.studio.preferences.snap_length = 10.0
    start = window.view.handles._pixels(window.view.handles._ends(part))[1]
    drag(window, [tuple(start), (start[0], start[1] - 60)])
    settle(window)
    moves = [np.array(p.transform.place) - places[p.id] for p in project.scene.parts]
    assert moves[0] == pytest.approx(moves[1])
    assert moves[0][1] > 0
    assert moves[0][1] % 10 == pytest.approx(0, abs=1e-6)
    assert steps(window)[-1] == "Move 2 parts"
    # With Shift the parts stay, and copies come along.
    start = window.view.handles._pixels(window.view.handles._ends(project.active))[1]
    drag(window, [tuple(start), (start[0], start[1] - 60)], keys=SHIFT)
    settle(window)
    assert len(project.scene.parts) == 4


def test_pivots_snap_and_parts_stand_on_surfaces(window: Window) -> None:
    project = window.studio.project
    ball = project.active
    run(window, "parts.pivot")
    click(window, pixel(window, (0, 0, 100)))
    assert project.active.pivot_place() == pytest.approx([0, 0, 100], abs=1)
    run(window, "live.cone")
    cone = project.active
    run(window, "parts.onto")
    click(window, pixel(window, (30.0, 40.0, 86.0)))
    stood = project.scene.part(cone.id)
    up = stood.transform.axes()[:, 1]
    assert up == pytest.approx(np.array([30, 40, 86]) / np.linalg.norm([30, 40, 86]), abs=0.05)
    foot = stood.transform.to_scene(stood.mesh.positions) @ up
    assert foot.min() == pytest.approx(100, abs=1)
    assert ball.id in {p.id for p in project.scene.parts}


def test_the_parts_list(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    project = window.studio.project
    for _ in range(9):
        blocking.copy(project, project.scene.parts[:1], linked=True)
    settle(window)
    card = window.parts_card
    assert len(card.rows()) == 10
    assert card.search.isVisible()
    card.search.setText("ball 7")
    assert [r.text(NAME) for r in card.rows() if not r.isHidden()] == ["Ball 7"]
    card.search.clear()
    rows = card.rows()
    for row in rows[2:5]:
        row.setSelected(True)
    for row in rows[:2] + rows[5:]:
        row.setSelected(False)
    until(lambda: len(project.chosen) == 3)
    run(window, "parts.group")
    monkeypatch.setattr(QInputDialog, "getText", staticmethod(lambda *a, **k: ("Teeth", True)))
    card.rename_group(project.scene.groups[0].id)
    assert project.scene.groups[0].name == "Teeth"
    group = card.list.topLevelItem(2)
    assert group.text(NAME) == "Teeth"
    assert group.childCount() == 3
    card._clicked(group, EYE)
    until(lambda: not any(p.visible for p in project.scene.parts if p.group))
    blocking.lock(project, [project.scene.parts[0]], True)
    run(window, "view.frame-all")
    before = steps(window)
    project.choose(project.scene.parts[0].id)
    run(window, "parts.delete")
    assert steps(window) == before
    assert any("is locked" in n.text for n in window.notices.notices)
    blocking.set_budget(project, project.scene.parts[1], 100)
    settle(window)
    assert "budget" in card.rows()[1].toolTip(COUNT)
    assert card.rows()[1].data(NAME, PART) == project.scene.parts[1].id


# -- proportion ---------------------------------------------------------------------------------


def test_tapes_over_surface_and_through_space(window: Window) -> None:
    project = window.studio.project
    run(window, "measure.tape")
    left, right = pixel(window, (-70.0, 0, 71.0)), pixel(window, (70.0, 0, 71.0))
    click(window, left)
    click(window, right)
    tapes = project.scene.tapes
    assert len(tapes) == 1
    assert window.tapes.found[tapes[0].id].length == pytest.approx(140, rel=0.03)
    drag(window, [left, right], keys=SHIFT)
    settle(window)
    assert len(project.scene.tapes) == 2
    over = project.scene.tapes[1]
    until(lambda: over.id in window.tapes.found)
    assert window.tapes.found[over.id].length == pytest.approx(100 * np.pi / 2, rel=0.04)
    run(window, "measure.divide-3")
    assert project.scene.tapes[1].divisions == pytest.approx((1 / 3, 2 / 3))
    run(window, "measure.marks")
    assert len(project.scene.landmarks) == 4
    window.choose_stage("Gather")
    card = window.proportion_card
    card.fill()
    for row in range(2):
        card.list.item(row).setSelected(True)
    until(lambda: "Ratio 1.1" in card.ratio.text())
    place = place_of(project.scene.landmarks[0], project.scene)
    run(window, "tool.inflate")
    window.studio.set_brush(size=60.0)
    x, y = pixel(window, place)
    drag(window, [(x, y), (x + 8, y), (x, y)])
    settle(window)
    assert np.linalg.norm(place_of(project.scene.landmarks[0], project.scene)) > np.linalg.norm(place) + 0.5


def test_the_ruler_shows_head_units(window: Window) -> None:
    before = shown(window)
    run(window, "measure.ruler")
    window.view.repaint()
    assert (np.abs(shown(window) - before).max(axis=2) > 30).sum() > 200
    assert window.proportion.height()[1] == pytest.approx(100, abs=1)
    window.proportion.keep_canon("Mine", (0.25, 0.6))
    assert window.proportion.marks() == (0.0, 0.25, 0.6, 1.0)
    assert "Mine" in window.proportion.canons()


# -- references ---------------------------------------------------------------------------------


def picture_file(
    folder: Path, name: str = "sketch.png", colour: tuple[int, int, int] = (200, 60, 40)
) -> Path:
    path = folder / name
    image = Image.new("RGB", (120, 80), colour)
    image.paste((20, 30, 200), (0, 0, 60, 80))
    image.save(path)
    return path


def test_the_board_keeps_pictures_with_the_project(window: Window, tmp_path: Path) -> None:
    project = window.studio.project
    window.references.add_files([picture_file(tmp_path), picture_file(tmp_path, "two.jpg", (10, 200, 30))])
    settle(window)
    assert [r.name for r in project.scene.references] == ["sketch", "two"]
    assert window.board.shown
    original = picture_file(tmp_path).read_bytes()
    assert original in project.settings.originals.values()
    sketch = project.scene.references[0]
    sheet = window.board._sheets[sketch.id]
    window.board.sample(sheet, sheet.mapToScene(QPointF(-40, 0)))
    assert window.colours.colour == (20, 30, 200)
    window.references.change(sketch.id, "Mirror", mirror=True)
    assert window.references.image(project.scene.references[0]).pixelColor(110, 40).blue() == 200
    window.references.change(sketch.id, "Grey", grey=True)
    grey = window.references.image(project.scene.references[0]).pixelColor(110, 40)
    assert grey.red() == grey.blue()
    window.board.crop(window.board._sheets[sketch.id], QPointF(-60, -40), QPointF(0, 0))
    assert project.scene.references[0].crop == pytest.approx((0.5, 0, 1.0, 0.5), abs=0.02)
    run(window, "board.arrange")
    assert steps(window)[-1] == "Arrange the board"
    for place in ("over", "window", "beside"):
        run(window, f"board.{place}")
        assert window.board.shown
        assert window.board.isWindow() == (place == "window")
        # Wherever it stands, it goes with the window.
        assert window.isAncestorOf(window.board) or window.board.parent() is window
    path = tmp_path / "kept.kneten"
    window.studio.save_path(path)
    settle(window)
    window.studio.open_path(path)
    settle(window)
    again = window.studio.project
    assert again.settings.originals == project.settings.originals
    assert again.scene.references == project.scene.references
    run(window, "board.show")
    assert not window.board.shown


def test_pictures_that_cannot_be_used_say_why(window: Window, tmp_path: Path) -> None:
    good = picture_file(tmp_path).read_bytes()
    broken, gif, text = tmp_path / "broken.png", tmp_path / "moving.gif", tmp_path / "words.png"
    broken.write_bytes(good[: len(good) // 2])
    Image.new("P", (8, 8)).save(gif)
    text.write_text("not a picture")
    window.references.add_files([broken, gif, text, tmp_path / "missing.png"])
    settle(window)
    told = " ".join(n.text for n in window.notices.notices)
    for words in (
        "broken.png is damaged",
        "a GIF file",
        "words.png is not a picture",
        "missing.png cannot be read",
    ):
        assert words in told
    assert window.studio.project.scene.references == ()
    assert steps(window) == []


def test_a_picture_of_thirty_thousand_pixels(tmp_path: Path) -> None:
    path = tmp_path / "long.png"
    Image.new("L", (30_000, 30)).save(path)
    key, data = read_picture(path.read_bytes(), "long.png")
    assert key.endswith(".png")
    assert data == path.read_bytes()
    import struct
    import zlib

    def chunk(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    head = chunk(b"IHDR", struct.pack(">IIBBBBB", 30_000, 30_000, 8, 2, 0, 0, 0))
    huge = b"\x89PNG\r\n\x1a\n" + head + chunk(b"IDAT", zlib.compress(b"")) + chunk(b"IEND", b"")
    with pytest.raises(PictureError, match="900 megapixels"):
        read_picture(huge, "huge.png")


def test_planes_in_space_and_calibration(window: Window, tmp_path: Path) -> None:
    project = window.studio.project
    window.references.add_files([picture_file(tmp_path)])
    settle(window)
    key = project.scene.references[0].id
    before = shown(window)
    window.references.to_plane(key, "front")
    window.references.change(key, "Order", over=True)
    settle(window)
    assert (np.abs(shown(window) - before).max(axis=2) > 40).sum() > 2000
    corners = window.references.plane_corners(project.scene.references[0])
    assert np.ptp(corners[:, 1]) == pytest.approx(200, rel=0.01)
    window.references.calibrate(key, (0.0, 0.5), (1.0, 0.5), 90.0)
    corners = window.references.plane_corners(project.scene.references[0])
    assert np.ptp(corners[:, 0]) == pytest.approx(90)
    with pytest.raises(PictureError, match="apart"):
        window.references.calibrate(key, (0.5, 0.5), (0.5, 0.5), 90.0)
    window.references.change(key, "Order", over=False)
    settle(window)
    behind = shown(window)
    middle = behind[behind.shape[0] // 2, behind.shape[1] // 2]
    assert np.ptp(middle) < 60  # clay, not the picture's red or blue


def plane(window: Window, tmp_path: Path, way: str = "front") -> Reference:
    """A picture that stands in space before the clay, with a view square onto it."""
    references = window.references
    references.add_files([picture_file(tmp_path)])
    settle(window)
    key = window.studio.project.scene.references[0].id
    references.to_plane(key, way)
    run(window, {"front": "view.front", "side": "view.right", "top": "view.top"}[way])
    window.views.frame_all()
    settle(window)
    return window.studio.project.scene.references[0]


@pytest.mark.parametrize("way", some(["front", "side", "top"], 3))
def test_planes_are_dragged_turned_sized_and_set_in_depth(window: Window, tmp_path: Path, way: str) -> None:
    before = plane(window, tmp_path, way)
    project, references = window.studio.project, window.references

    def now() -> Reference:
        return project.scene.references[0]

    def at(u: float, v: float) -> tuple[float, float]:
        flat = np.array([[before.place[0] + u, before.place[1] + v]])
        return pixel(window, to_scene(way, flat, before.depth)[0])

    run(window, "board.place-plane")
    assert window.view.mode is not None
    drag(window, [at(20, 30), at(45, 20)])
    assert np.subtract(now().place, before.place) == pytest.approx([25, -10], abs=0.3)
    assert (now().scale, now().turn, now().depth) == (before.scale, 0.0, before.depth)
    assert steps(window)[-1] == f"Place {before.name}"
    run(window, "edit.undo")
    drag(window, [at(40, 0), at(0, 40)], keys=SHIFT)
    assert abs(now().turn) == pytest.approx(90, abs=1)
    assert now().place == pytest.approx(before.place, abs=1e-6)
    corners = references.plane_corners(now())
    turned = references.plane_corners(replace(now(), turn=0.0))
    assert np.linalg.norm(corners[0] - corners[1]) == pytest.approx(np.linalg.norm(turned[0] - turned[1]))
    assert np.linalg.norm(corners - turned, axis=1).min() > 10
    run(window, "edit.undo")
    drag(window, [at(30, 0), at(45, 0)], keys=SHIFT | CTRL)
    assert now().scale == pytest.approx(before.scale * 1.5, rel=0.02)
    run(window, "edit.undo")
    x, y = at(20, 30)
    drag(window, [(x, y), (x, y - 30)], keys=CTRL)
    assert now().place == before.place
    assert abs(now().depth - before.depth) > 3
    run(window, "edit.undo")
    assert now() == before


def test_a_plane_is_aligned_by_two_points_of_the_clay(window: Window, tmp_path: Path) -> None:
    reference = plane(window, tmp_path)
    window.references.change(reference.id, "Order", over=True, depth=150.0, place=(130.0, 10.0))
    settle(window)
    window.views.frame_box(np.array([-150.0, -120, -100]), np.array([260.0, 120, 150]))
    settle(window)
    reference = window.studio.project.scene.references[0]
    run(window, "board.align-plane")
    picks = [np.array([110.0, -20.0]), np.array([150.0, 20.0])]
    goals = []
    for pick, (x, y) in zip(picks, ((-30.0, -40.0), (20.0, 60.0)), strict=True):
        click(window, pixel(window, to_scene("front", pick[None], 150.0)[0]))
        spot = pixel(window, (x, y, 70.0))
        goals.append(window.view.part_at(*spot)[1][:2])
        click(window, spot)
    now = window.studio.project.scene.references[0]
    assert steps(window)[-1] == f"Align {reference.name}"
    assert window.view.mode is None
    change = between((picks[0], picks[1]), (goals[0], goals[1]))
    assert now.scale == pytest.approx(reference.scale * change.grow, rel=0.03)
    assert now.turn == pytest.approx(change.degrees, abs=2)
    # The same spots of the picture lie on the clay's now.
    for pick, goal in zip(picks, goals, strict=True):
        own = turned((pick - reference.place)[None], -reference.turn)[0] / reference.scale
        there = turned((own * now.scale)[None], now.turn)[0] + now.place
        assert there == pytest.approx(goal, abs=1.5)


def test_a_picture_bound_to_a_view(window: Window, tmp_path: Path) -> None:
    project = window.studio.project
    window.references.add_files([picture_file(tmp_path)])
    settle(window)
    run(window, "board.show")
    before = shown(window)
    window.references.bind(project.scene.references[0].id)
    settle(window)
    assert len(project.settings.views) == 1
    over = shown(window)
    assert (np.abs(over - before).max(axis=2) > 25).mean() > 0.3
    run(window, "view.left")
    assert window.references.bound() == []
    run(window, "view.next")
    assert len(window.references.bound()) == 1
    run(window, "board.blink")
    window.references._blink_on()
    settle(window)
    window.view.repaint()
    assert (np.abs(shown(window) - before).max(axis=2) > 25).mean() < 0.05
    run(window, "board.blink")


# -- library, arrays ----------------------------------------------------------------------------


def test_the_library_gives_and_takes(window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("KNETEN_STATE", str(tmp_path))
    project = window.studio.project
    answer_dialogs(monkeypatch)
    window.library.keep_parts("My: ball", project.chosen)
    settle(window)
    run(window, "library.open")
    panel = window.library_panel
    names = [panel.list.item(i).text() for i in range(panel.list.count())]
    assert "Claw" in names
    assert names[-1] == "My ball"
    panel.list.setCurrentRow(len(names) - 1)
    panel.put()
    settle(window)
    assert [p.name for p in project.scene.parts] == ["Ball", "Ball 2"]
    run(window, "library.open")
    panel.list.setCurrentRow(names.index("Claw"))
    panel.put()
    settle(window)
    assert isinstance(project.active.recipe, Strands)


def test_an_array_by_its_dialog(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    answer_dialogs(monkeypatch)
    run(window, "copy.array")
    project = window.studio.project
    assert len(project.scene.parts) == 5
    assert steps(window) == ["Array of Ball"]


@pytest.mark.parametrize("view", ["front", "right", "top"])
@pytest.mark.parametrize("near", [False, True])
def test_a_new_part_comes_where_it_is_seen_whole(window: Window, view: str, near: bool) -> None:
    """Beside the part in hand, a third of its size, whatever the view; where there is no room, all is framed."""
    project = window.studio.project
    blocking.copy(project, project.chosen, way=np.array([900.0, 0, 0]))
    project.choose(project.scene.parts[0].id)
    window.registry.run(f"view.{view}")
    window.views.frame_all()
    if near:
        window.views.frame_part()
    settle(window)
    size = float((np.subtract(*project.scene.parts[0].bounds()[::-1])).max())
    run(window, "live.sphere")
    settle(window)
    new = project.active
    low, high = new.bounds()
    assert float((high - low).max()) == pytest.approx(size / 3, rel=0.05)
    wide, tall = window.view.wide, window.view.high
    corners = np.array(
        [[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])]
    )
    at = window.view.camera.project(corners, wide, tall)[:, :2]
    assert (at > -2).all()
    assert (at < [wide + 2, tall + 2]).all()
    # It does not run into the part in hand.
    a, b = project.scene.parts[0].bounds()
    assert ((low >= b - 1e-6) | (high <= a + 1e-6)).any()


def test_an_array_along_a_guide_by_its_dialog(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    project = window.studio.project
    body = project.scene.parts[0]
    t = np.linspace(0.2, 1.3, 12)
    high = float(body.mesh.bounds()[1][1])
    add_guides(project, body, [high * np.stack([0 * t, np.cos(t), np.sin(t)], -1)], False, "spine")
    run(window, "live.cone")
    settle(window)

    def fill(dialog: ArrayDialog) -> int:
        dialog.way.setCurrentIndex(2)
        assert dialog.course.currentText() == "spine"
        assert dialog.stands.isVisibleTo(dialog)
        assert not dialog.circle.isVisibleTo(dialog)
        dialog.standing.setCurrentIndex(1)
        dialog.count.set_value(4)
        return 1

    monkeypatch.setattr(ArrayDialog, "exec", fill)
    run(window, "copy.array")
    assert len(project.scene.parts) == 5
    assert steps(window)[-1] == "Cone along spine"
    run(window, "edit.undo")
    assert len(project.scene.parts) == 2


def test_a_half_is_welded_to_its_image(window: Window) -> None:
    project = window.studio.project
    run(window, "copy.mirror-weld")
    assert "not welded" in said(window)
    body = project.scene.parts[0].mesh
    half = picked(body, body.positions[body.topology.faces].mean(axis=1)[:, 0] > 0)
    window.studio.take(Project(Scene((Part("Half", half),))))
    run(window, "copy.mirror-weld")
    project = window.studio.project
    assert steps(window) == ["Mirror and weld Half"]
    assert flaw(project.scene.parts[0].mesh) == ""


def test_where_parts_meet(window: Window) -> None:
    project = window.studio.project
    blocking.copy(project, project.chosen, way=np.array([170.0, 0, 0]))
    run(window, "parts.meeting")
    assert any("1 pairs" in n.text and "30." in n.text for n in window.notices.notices)


def test_silhouette_stays_on_while_blocking(window: Window) -> None:
    run(window, "view.silhouette")
    run(window, "live.box")
    run(window, "parts.move")
    assert window.studio.project.settings.look.kind == "silhouette"
    run(window, "parts.move")
    x, y = pixel(window, (0.0, 30.0, 0.0))
    assert shown(window)[int(y), int(x)].max() < 40


def test_a_lassoed_mask_protects_and_is_seen(window: Window) -> None:
    project = window.studio.project
    before = shown(window)
    x, y = pixel(window, (0, 0, 100))
    run(window, "mask.lasso")
    t = np.linspace(0, 6.2, 30)
    drag(window, [(x + 60 * np.cos(a), y + 60 * np.sin(a)) for a in t], keys=SHIFT)
    settle(window)
    mesh = project.active.mesh
    assert mesh.mask is not None
    assert mesh.positions[mesh.mask == 1, 2].min() > 0
    hatched = shown(window)
    green = hatched[int(y) - 30 : int(y) + 30, int(x) - 30 : int(x) + 30].astype(float)
    plain = before[int(y) - 30 : int(y) + 30, int(x) - 30 : int(x) + 30].astype(float)
    assert (green[..., 0] - green[..., 1]).mean() < (plain[..., 0] - plain[..., 1]).mean() - 15
    run(window, "tool.inflate")
    window.studio.set_brush(size=30.0)
    start = mesh.positions.copy()
    drag(window, [(x - 10, y), (x + 10, y)])
    settle(window)
    moved = np.abs(mesh.positions - start).max(axis=1) > 0
    assert not moved[mesh.mask == 1].any()
    masked = mesh.mask.copy()
    run(window, "mask.invert")
    assert np.array_equal(project.active.mesh.mask == 1, masked == 0)
    run(window, "mask.clear")
    assert project.active.mesh.mask is None
    run(window, "mask.clear")
    assert any("Nothing of the part" in n.text for n in window.notices.notices)
    for _ in range(2):
        run(window, "edit.undo")
    assert np.array_equal(project.active.mesh.mask, masked)


def test_lassos_hide_and_make_regions(window: Window, tmp_path: Path) -> None:
    project = window.studio.project
    x, y = pixel(window, (0, 0, 100))
    t = np.linspace(0, 6.2, 30)
    loop = [(x + 50 * np.cos(a), y + 50 * np.sin(a)) for a in t]
    run(window, "region.lasso")
    drag(window, loop, keys=SHIFT)
    settle(window)
    mesh = project.active.mesh
    inside = mesh.regions == 1
    front = mesh.positions[np.maximum(mesh.topology.faces[inside], 0)].reshape(-1, 3)
    assert 0 < inside.sum() < len(inside) / 4
    assert front[:, 2].min() > 0
    assert window.region_card.list.count() == 1
    run(window, "view.front")
    clay = shown(window)
    run(window, "region.look")
    glazed = shown(window)
    at = (int(y), int(x))
    assert np.abs(glazed[at].astype(int) - clay[at]).max() > 25
    run(window, "region.look")
    run(window, "region.lasso-hide")
    drag(window, loop)
    settle(window)
    window.view.take_mode(None)
    # Through both sides: the ground is seen, no stroke lands there, and the hidden clay stays where it is.
    assert shown(window)[at].astype(int).max() < 60
    still = mesh.positions.copy()
    run(window, "tool.raise")
    drag(window, [(x - 70, y), (x + 70, y)])
    settle(window)
    hidden = mesh.hidden == 1
    held = np.unique(mesh.topology.faces[hidden])
    shown_too = np.unique(mesh.topology.faces[~hidden])
    assert np.array_equal(mesh.positions[np.setdiff1d(held, shown_too)], still[np.setdiff1d(held, shown_too)])
    assert not np.array_equal(mesh.positions, still)
    window.studio.save_path(tmp_path / "regions.kneten")
    settle(window)
    window.studio.open_path(tmp_path / "regions.kneten")
    settle(window)
    again = window.studio.project.active.mesh
    assert np.array_equal(again.hidden, mesh.hidden)
    assert np.array_equal(again.regions, mesh.regions)
    run(window, "region.show-all")
    assert again.hidden is None
    run(window, "region.look")
    run(window, "region.look")
    assert shown(window)[at].astype(int).max() > 60
    run(window, "edit.undo")
    assert again.hidden is not None


def test_notes_brief_and_mannequin(window: Window, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    answer_dialogs(monkeypatch)
    project = window.studio.project
    run(window, "parts.note")
    assert project.active.note == "Note"
    assert "Note" in window.parts_card.rows()[0].toolTip(NAME)
    run(window, "measure.brief")
    window.studio.save_path(tmp_path / "noted.kneten")
    settle(window)
    window.studio.open_path(tmp_path / "noted.kneten")
    settle(window)
    assert window.studio.project.settings.brief == "Note"
    run(window, "measure.skull")
    bone = window.studio.project.scene.parts[-1]
    clay = window.studio.project.scene.parts[0]
    assert bone.name == "Skull"
    assert bone.bounds()[0][1] == pytest.approx(clay.bounds()[0][1], abs=1.0)
    assert bone.bounds()[1][1] == pytest.approx(clay.bounds()[1][1], abs=1.0)
    assert flaw(bone.mesh) == ""
    run(window, "measure.mannequin")
    body = window.studio.project.scene.parts[-1]
    assert body.locked
    assert np.ptp([b[1] for b in body.bounds()]) == pytest.approx(200, rel=0.03)


def test_mirroring_across_a_drawn_line(window: Window) -> None:
    project = window.studio.project
    run(window, "live.cone")
    cone = project.active
    run(window, "view.front")
    run(window, "view.frame-all")
    run(window, "copy.mirror-line")
    x, _ = pixel(window, (cone.transform.place[0] + 60.0, 0, cone.transform.place[2]))
    drag(window, [(x, 100), (x, 300)])
    settle(window)
    other = project.active
    assert other.id != cone.id
    assert other.transform.mirror
    assert other.transform.place[0] == pytest.approx(cone.transform.place[0] + 120, abs=4)
    assert other.transform.place[1:] == pytest.approx(cone.transform.place[1:], abs=2)
    drag(window, [(x, 100), (x + 2, 102)])
    assert any("longer line" in n.text for n in window.notices.notices)


def test_the_boards_slider_fades_a_picture(window: Window, tmp_path: Path) -> None:
    project = window.studio.project
    window.references.add_files([picture_file(tmp_path)])
    settle(window)
    board = window.board
    board._sheets[project.scene.references[0].id].setSelected(True)
    assert board.fade.isVisible()
    board.fade.setValue(40)
    assert project.scene.references[0].opacity == pytest.approx(0.4)
    assert steps(window)[-1] == "Opacity of sketch"
    run(window, "edit.undo")
    assert project.scene.references[0].opacity == 1.0


@pytest.mark.some
def test_no_grip_hides_another(window: Window) -> None:
    """From straight before, above and aside, on a body of a few pixels; each is found where it is seen."""
    window.studio.take(Project(Scene(())))
    for shape in few(("eye", "torus", "tube", "cone", "box"), 2):
        recipe = Primitive(shape, (30.0, 30.0, 30.0), (16, 16, 8), 1.0 if shape == "torus" else 0.3)
        blocking.add_live(window.studio.project, shape, recipe, recipe.made().mesh(), Transform())
        for way, distance in itertools.product(("view.front", "view.top", "view.right"), (120.0, 4000.0)):
            run(window, way)
            window.view.set_camera(replace(window.view.camera, distance=distance))
            run(window, "live.edit")
            mode = window.view.mode
            assert isinstance(mode, LiveMode)
            part, grips = mode._now()
            seen = mode._shown(part, grips)
            apart = np.hypot(*(seen[:, None] - seen[None]).transpose(2, 0, 1)) + 1e3 * np.eye(len(seen))
            assert apart.min() >= 20.0
            assert [mode._under(part, grips, *place) for place in seen] == list(range(len(grips)))
            window.view.take_mode(None)


def test_grips_of_live_bodies_in_the_view(window: Window) -> None:
    project = window.studio.project
    part = alone(window, "live.tube")
    run(window, "live.edit")

    def at(place: tuple[float, float, float]) -> tuple[float, float]:
        now = project.scene.part(part.id)
        return pixel(window, now.transform.to_scene(np.array([place]))[0])

    size, inner = part.recipe.size, part.recipe.inner
    start, goal = at((size[0] / 2, 0, 0)), at((size[0] * 0.75, 0, 0))
    drag(window, [start, goal])
    settle(window)
    now = project.scene.part(part.id).recipe
    assert now.size[0] == pytest.approx(size[0] * 1.5, rel=0.03)
    assert now.size[1:] == size[1:]
    half = now.size[0] / 2
    drag(window, [at((inner * half, size[1] / 2, 0)), at((0.4 * half, size[1] / 2, 0))])
    settle(window)
    assert project.scene.part(part.id).recipe.inner == pytest.approx(0.4, abs=0.03)
    run(window, "edit.undo")
    run(window, "edit.undo")
    assert project.scene.part(part.id).recipe == part.recipe
    lathe = alone(window, "live.lathe")
    run(window, "live.edit")
    part = lathe
    point = lathe.recipe.points[2]
    drag(window, [at((point.radius, point.height, 0)), at((point.radius + 20, point.height + 5, 0))])
    settle(window)
    moved = project.scene.part(lathe.id).recipe.points[2]
    assert moved.radius == pytest.approx(point.radius + 20, abs=1.5)
    assert moved.height == pytest.approx(point.height + 5, abs=1.5)
    run(window, "parts.delete")
    assert window.view.mode is None


def test_parts_of_a_few_vertices_are_fused_or_refused_in_words(window: Window) -> None:
    """A leaf of two triangles has fewer vertices than any closed form."""
    leaf = Mesh.from_faces(
        np.array([[0, 0, 100], [60, 0, 130], [60, 60, 130], [0, 60, 100]], np.float32),
        np.array([[0, 1, 2, -1], [0, 2, 3, -1]], np.int32),
    )
    ball = window.studio.project.scene.parts[0]
    window.studio.take(Project(Scene((ball, Part("Leaf", leaf)))))
    assert window.joining.fuse_count() >= 0
    run(window, "parts.fuse")
    settle(window)
    window.studio.wait()
    assert window.studio.project.scene.parts
    # Points without a surface are refused.
    flat = Mesh.from_faces(np.zeros((3, 3), np.float32), np.array([[0, 1, 2, -1]], np.int32))
    window.studio.take(Project(Scene((Part("One", flat), Part("Two", flat.copy())))))
    assert window.joining.fuse_count() == 0
    run(window, "parts.fuse")
    assert any("has a surface" in n.text for n in window.notices.notices)


@pytest.mark.long
def test_a_skeleton_is_fitted_to_the_armature_or_to_the_height(window: Window) -> None:
    project = window.studio.project
    body = alone(window, "armature.slender")
    window.view.take_mode(None)
    project.place(body.id, replace(project.scene.part(body.id).transform, place=(40.0, 10.0, 0.0)))
    for baked in (False, True):
        if baked:
            run(window, "live.bake")
        run(window, "measure.skeleton")
        until(lambda: any(p.name.startswith("Skeleton") for p in project.scene.parts))
        bones = next(p for p in project.scene.parts if p.name.startswith("Skeleton"))
        assert bones.locked
        assert project.active_id == body.id
        for ours, theirs in zip(bones.bounds(), project.scene.part(body.id).bounds(), strict=True):
            assert ours == pytest.approx(theirs, abs=4.0)
        run(window, "edit.undo")
    run(window, "parts.ball")
    ball = project.active
    assert ball is not None
    run(window, "measure.skeleton")
    until(lambda: any(p.name.startswith("Skeleton") for p in project.scene.parts))
    bones = next(p for p in project.scene.parts if p.name.startswith("Skeleton"))
    low, high = ball.bounds()
    assert bones.bounds()[1][1] == pytest.approx(high[1], abs=0.05 * (high[1] - low[1]))


def test_an_outline_chooses_on_clay_that_is_loose(window: Window) -> None:
    project = window.studio.project
    x, y = pixel(window, (0, 0, 100))
    run(window, "density.live")
    drag(window, [(x - 30, y), (x + 30, y)])
    settle(window)
    assert isinstance(project.active.mesh, LooseMesh)
    window.view.take_mode(CutMode(window.view, "mask", "rectangle"))
    drag(window, [(x - 20, y - 20), (x + 20, y + 20)])
    settle(window)
    assert not window.studio.mishaps
    assert project.active.mesh.mask is not None
    assert project.active.mesh.mask.any()
