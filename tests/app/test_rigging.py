"""Rigs through the real window: taken from an armature, placed by hand, posed by dragging, weights by mask, poses kept."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QImage, QPixmap
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QInputDialog

from kneten.app.benches.perform.fitting import FitMode
from kneten.app.benches.perform.rig_mode import JointMode, RigMode
from kneten.app.shell.window import Window
from kneten.core.live.bodies import BODIES
from kneten.core.mesh import Mesh
from kneten.core.pose.keys import DIAL, TURN, Keys, Track
from kneten.core.pose.rig import Rig
from kneten.core.pose.weights import dense
from kneten.document.driving import shapes_of
from kneten.document.motions import bring_motions, kept_motion
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.rigging import rig_layer, rig_of
from kneten.document.scene import Part, Scene
from kneten.document.shapes import add_shape, dial, record_shape
from kneten.formats.space import Space
from tests.app.windows import drag, run, said, settle, small_view, steps, until
from tests.document.test_rigging import with_body
from tests.document.test_shapes import push

SHIFT = Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def performs(window: Window) -> Window:
    """A body that came from an armature, a ring and a lamp on it, the stage Perform."""
    small_view(window)
    from kneten.core.transform import Transform

    window.studio.take(with_body(place=Transform()))
    window.studio.project.delete("far")
    window.studio.project.choose("body")
    run(window, "stage.perform")
    run(window, "view.front")
    window.views.frame_all()
    settle(window)
    return window


@pytest.fixture
def rigged(performs: Window) -> Window:
    """The same, rigged, in the way of working Pose rig."""
    run(performs, "rig.from-armature")
    run(performs, "rig.pose")
    return performs


def part(window: Window, key: str = "body") -> Part:
    return window.studio.project.scene.part(key)


def rig(window: Window, key: str = "body") -> Rig:
    found = rig_of(part(window, key))
    assert found is not None
    return found


def at(window: Window, *place: float) -> tuple[float, float]:
    view = window.view
    x, y, *_ = view.camera.project(np.array([place]), view.wide, view.high)[0]
    return float(x), float(y)


def pull(window: Window, *ways: tuple[float, float, float], keys: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:  # fmt: skip
    drag(window, [at(window, *way) for way in ways], keys=keys, events=4)
    settle(window)


def test_a_rig_comes_from_the_armature_with_what_sits_on_the_body(performs: Window) -> None:
    card = performs.rig_card
    assert not card.rest.isVisibleTo(card)
    assert "no rig" in performs.registry.commands["rig.pose"].blocked()
    run(performs, "rig.from-armature")
    assert steps(performs)[-1] == "Rig Body"
    assert card.rest.isVisibleTo(card)
    assert card.says.text() == "Body: 6 joints, 2 parts along."
    assert card.joint.count() == 6
    # The lamp is small, the ring made from numbers: both go along as one.
    assert rig(performs, "lamp").as_one
    assert rig(performs, "ring").as_one
    run(performs, "edit.undo")
    assert rig_of(part(performs)) is None
    assert part(performs, "ring").recipe is not None
    assert not card.rest.isVisibleTo(card)
    performs.studio.project.choose("lamp")
    assert "did not come from an armature" in performs.registry.commands["rig.from-armature"].blocked()


def test_a_joint_is_dragged_and_all_of_it_undone_saved_and_opened(rigged: Window, tmp_path: Path) -> None:
    before, lamp = part(rigged).mesh.positions.copy(), part(rigged, "lamp").mesh.positions.copy()
    assert isinstance(rigged.view.mode, RigMode)
    rigged.rigging.both = False
    pull(rigged, (64, 50, 0), (56, 72, 0), (40, 82, 0))
    assert steps(rigged)[-1] == "Elbow left: Body"
    # What hangs on the elbow has followed the pointer; the other arm rests.
    turn = np.array(rig(rigged).joints[2].turn)
    assert turn[2] == pytest.approx(np.degrees(np.arctan2(32, 10)), abs=2)
    assert np.abs(turn[:2]).max() < 0.5
    assert not any(rig(rigged).joints[3].turn)
    after = part(rigged).mesh.positions.copy()
    assert np.abs(part(rigged, "lamp").mesh.positions - lamp).max() > 20
    run(rigged, "edit.undo")
    assert np.array_equal(part(rigged).mesh.positions, before)
    assert np.array_equal(part(rigged, "lamp").mesh.positions, lamp)
    run(rigged, "edit.redo")
    assert np.array_equal(part(rigged).mesh.positions, after)
    path = tmp_path / "body.kneten"
    save_project(rigged.studio.project, path)
    rigged.studio.take(open_project(path))
    settle(rigged)
    assert np.array_equal(part(rigged).mesh.positions, after)
    assert rig(rigged).joints[2].turn == pytest.approx(turn.tolist())


def test_both_sides_are_posed_and_three_joints_pulled(rigged: Window) -> None:
    assert rigged.rigging.both
    pull(rigged, (64, 50, 0), (50, 80, 0))
    left, right = (np.array(rig(rigged).joints[k].turn) for k in (2, 3))
    assert np.allclose(right, left * [1, -1, -1], atol=1e-6)
    run(rigged, "rig.rest")
    assert rig(rigged).still
    assert steps(rigged)[-1] == "Rest: Body"
    rigged.rigging.both = False
    pull(rigged, (64, 50, 0), (40, 95, 0), keys=SHIFT)
    assert sum(any(joint.turn) for joint in rig(rigged).joints) == 3


def test_the_clay_itself_is_dragged_and_the_body_moved(rigged: Window) -> None:
    rigged.rigging.both = False
    pull(rigged, (50, 52, 6), (40, 75, 6))
    assert steps(rigged)[-1] == "Elbow left: Body"
    assert rig(rigged).joints[2].turn[2] > 20
    run(rigged, "rig.rest")
    pull(rigged, (0, 0, 0), (12, 5, 0))
    assert np.allclose(rig(rigged).joints[0].shift, [12, 5, 0], atol=1.5)
    assert np.abs(part(rigged, "lamp").mesh.positions).max() > 1


def test_numbers_limit_and_the_ring(rigged: Window) -> None:
    card = rigged.rig_card
    rigged.rigging.choose("Elbow left")
    assert card.joint.currentText() == "Elbow left"
    rigged.rigging.both = False
    card.fields["bend"].changed.emit(20.0)
    assert rigged.studio.project.is_trying
    card.fields["bend"].changed.emit(35.0)
    card.fields["bend"].settled.emit(35.0)
    settle(rigged)
    assert not rigged.studio.project.is_trying
    assert rigged.rigging.numbers() == pytest.approx((35.0, 0.0, 0.0), abs=1e-6)
    card.limit.settled.emit(25.0)
    assert np.linalg.norm(rig(rigged).joints[2].turn) == pytest.approx(25.0)
    assert rig(rigged, "lamp").joints[2].limit == 25.0
    card.fields["twist"].settled.emit(90.0)
    assert np.linalg.norm(rig(rigged).joints[2].turn) == pytest.approx(25.0)
    run(rigged, "rig.rest")
    ring = rigged.view.mode._ring(part(rigged), rig(rigged), 2)  # type: ignore[union-attr]
    assert ring is not None
    x, y = at(rigged, *ring[0])
    drag(rigged, [(x, y), (x + 30, y)], events=4)
    settle(rigged)
    bend, aside, twist = rigged.rigging.numbers()
    assert twist == pytest.approx(18.0, abs=1.0)
    assert abs(bend) + abs(aside) < 0.1


def test_what_cannot_be_is_told(rigged: Window) -> None:
    rigged.studio.project.change("Lock", rigged.studio.project.scene.with_part(_locked(part(rigged, "lamp"))))
    before = part(rigged).mesh.positions.copy()
    pull(rigged, (64, 50, 0), (50, 80, 0))
    assert "Lamp" in said(rigged)
    assert np.array_equal(part(rigged).mesh.positions, before)
    rigged.rigging.choose("Chest")
    assert "already" in rigged.rigging.rename("Hip")
    assert rigged.registry.commands["rig.from-mask"].blocked()
    assert rigged.registry.commands["rig.along"].blocked()


def _locked(one: Part) -> Part:
    from dataclasses import replace

    return replace(one, locked=True)


def test_a_drag_that_is_broken_off_leaves_nothing(rigged: Window) -> None:
    before, names = part(rigged).mesh.positions.copy(), steps(rigged)
    drag(rigged, [at(rigged, 64, 50, 0), at(rigged, 50, 80, 0)], events=4, release=False)
    assert rigged.studio.project.is_trying
    rigged.view.cancel_hand()
    settle(rigged)
    assert np.array_equal(part(rigged).mesh.positions, before)
    assert steps(rigged) == names


def test_poses_are_kept_mixed_taken_and_forgotten(rigged: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    rigged.rigging.both = False
    pull(rigged, (64, 50, 0), (50, 80, 0))
    posed = part(rigged).mesh.positions.copy()
    monkeypatch.setattr(QInputDialog, "getText", lambda *_, **__: ("Wave", True))
    run(rigged, "rig.keep-pose")
    assert steps(rigged)[-1] == "Keep Wave"
    assert rigged.rig_card.poses.count() == 1
    run(rigged, "rig.mirror")
    assert any(rig(rigged).joints[3].turn)
    assert not any(rig(rigged).joints[2].turn)
    run(rigged, "rig.rest")
    kept = rigged.rigging.kept()[0]
    rigged.rigging.show(rigged.rigging.towards(kept, 0.5))
    rigged.rigging.keep(rigged.rigging.towards(kept, 0.5), kept.name)
    full, half = kept.moves[0].turn, rig(rigged).joints[2].turn
    assert np.allclose(half, np.array(full) / 2, atol=1e-6)
    rigged.rigging.take_pose(kept)
    assert np.abs(part(rigged).mesh.positions - posed).max() < 1e-3
    rigged.rigging.forget_pose(kept)
    assert rigged.rig_card.poses.count() == 0
    run(rigged, "edit.undo")
    assert rigged.rig_card.poses.count() == 1


def test_weights_are_painted_by_the_mask(rigged: Window) -> None:
    rigged.rigging.choose("Elbow left")
    run(rigged, "rig.to-mask")
    mesh = part(rigged).mesh
    assert mesh.mask is not None
    assert np.abs(mesh.mask - dense(rig(rigged), [2])[:, 0]).max() < 0.01
    painted = mesh.mask.copy()
    painted[mesh.positions[:, 1] < 20] = 1.0
    rigged.studio.project.set_values("body", "mask", painted, "Mask")
    run(rigged, "rig.from-mask")
    assert steps(rigged)[-1] == "Mask as weights: Body"
    low = mesh.positions[:, 1] < 20
    assert dense(rig(rigged), [2])[low].min() > 0.99
    run(rigged, "mask.clear")
    run(rigged, "rig.smooth")
    assert dense(rig(rigged), [2])[mesh.positions[:, 1] < 10].min() > 0.9
    run(rigged, "rig.mirror-weights")
    assert steps(rigged)[-1] == "Mirror weights: Body"
    run(rigged, "rig.weights")
    assert dense(rig(rigged), [2])[low].max() < 0.1
    for _ in range(5):
        run(rigged, "edit.undo")
    assert np.abs(part(rigged).mesh.mask - painted).max() < 0.01


def test_joints_are_placed_moved_named_and_taken_away(performs: Window) -> None:
    performs.studio.project.delete_all(["ring", "lamp"])
    run(performs, "rig.place")
    assert isinstance(performs.view.mode, JointMode)
    performs.rigging.both = True
    for spot in ((0.0, 8.0, 14.0), (0.0, 40.0, 14.0), (32.0, 50.0, 8.0), (60.0, 50.0, 6.0)):
        pull(performs, spot, spot)
    joints = rig(performs).joints
    assert [joint.name for joint in joints] == [
        "Root",
        "Joint",
        "Joint left",
        "Joint right",
        "Joint left 2",
        "Joint right 2",
    ]
    assert [joint.parent for joint in joints] == [-1, 0, 1, 1, 2, 3]
    assert np.abs(np.array(joints[2].place) - [32, 50, 0]).max() < 2.5
    pull(performs, joints[2].place, (28.0, 52.0, 0.0))
    assert np.allclose(rig(performs).joints[2].place[:2], [28, 52], atol=1)
    assert np.allclose(rig(performs).joints[3].place[:2], [-28, 52], atol=1)
    performs.rig_card.name.setText("Elbow left")
    performs.rig_card.name.editingFinished.emit()
    assert rig(performs).joints[2].name == "Elbow left"
    performs.rigging.choose("Joint left 2")
    assert performs.view.mode.pressed_key(Qt.Key.Key_Delete)
    settle(performs)
    assert len(rig(performs).joints) == 4
    run(performs, "rig.remove")
    assert rig_of(part(performs)) is None
    while steps(performs):
        run(performs, "edit.undo")
    assert part(performs).stack is None


def test_parts_begin_and_cease_to_go_along(rigged: Window) -> None:
    rigged.rigging.go_along("lamp", "no")
    assert rig_of(part(rigged, "lamp")) is None
    rigged.studio.project.choose_all(["lamp", "body"])
    assert rigged.studio.project.active_id == "body"
    run(rigged, "rig.along")
    assert rig(rigged, "lamp").as_one
    rigged.rigging.go_along("ring", "soft")
    assert not rig(rigged, "ring").as_one
    card = rigged.rig_card
    card.along.setCurrentIndex(card.along.findData("ring"))
    card.along.activated.emit(card.along.currentIndex())
    assert card.how.currentData() == "soft"


def test_a_dialled_rig_is_shown_in_full_before_it_is_posed(rigged: Window) -> None:
    layer = rig_layer(part(rigged))
    assert layer is not None
    rigged.levels.keep_dial(layer.id, 0.5)
    settle(rigged)
    pull(rigged, (64, 50, 0), (50, 80, 0))
    assert stack_of(part(rigged)).layer(layer.id).strength == 1.0
    assert any(rig(rigged).joints[2].turn)


def test_a_motion_is_scrubbed_played_kept_and_ended(rigged: Window) -> None:
    playing, card = rigged.playing, rigged.rig_card
    before, names = part(rigged).mesh.positions.copy(), steps(rigged)
    assert rigged.registry.commands["rig.keep-frame"].blocked()
    card.motion.setCurrentIndex(card.motion.findData("reach"))
    card.motion.activated.emit(card.motion.currentIndex())
    # No joint of this body is called so.
    run(rigged, "rig.play")
    assert "looks for joints called shoulder" in said(rigged)
    for old, new in (("Elbow left", "Shoulder left"), ("Elbow right", "Shoulder right")):
        rigged.rigging.choose(old)
        assert rigged.rigging.rename(new) == ""
    card.time.changed.emit(50.0)
    assert playing.shown
    assert rigged.studio.project.is_trying
    settle(rigged)
    assert np.abs(part(rigged).mesh.positions - before).max() > 10
    assert len(playing.shadows()) == 3
    rigged.registry.run("rig.play")
    assert playing.plays
    assert card.buttons["rig.play"].text() == "Pause"
    first = playing.phase
    until(lambda: playing.phase != first)
    rigged.registry.run("rig.play")
    assert not playing.plays
    assert playing.shown
    rigged.registry.run("rig.stop")
    settle(rigged)
    assert np.array_equal(part(rigged).mesh.positions, before)
    assert len(steps(rigged)) == len(names) + 2
    playing.scrub(0.5)
    rigged.registry.run("rig.keep-frame")
    settle(rigged)
    assert steps(rigged)[-1] == "Reach: Body"
    assert any(rig(rigged).joints[3].turn)
    # Any other work ends the motion first.
    kept = part(rigged).mesh.positions.copy()
    playing.scrub(0.2)
    run(rigged, "edit.undo")
    assert not playing.shown
    assert np.array_equal(part(rigged).mesh.positions, before)
    run(rigged, "edit.redo")
    assert np.array_equal(part(rigged).mesh.positions, kept)


def test_a_rig_goes_out_as_glb_and_comes_in_again(rigged: Window, tmp_path: Path) -> None:
    rigged.rigging.both = False
    pull(rigged, (64, 50, 0), (50, 80, 0))
    rigged.rigging.keep_pose("Wave")
    path = tmp_path / "body.glb"
    rigged.studio.export_path(path, list(rigged.studio.project.scene.parts), Space("m"), False)
    settle(rigged)
    assert "6 joints, 3 skins" in said(rigged)
    posed = part(rigged).mesh.source_arrays()[0]
    rigged.studio.take(Project())
    rigged.studio.import_path(path, None)
    settle(rigged)
    assert steps(rigged) == ["Import body.glb"]
    body = next(one for one in rigged.studio.project.scene.parts if one.name == "Body")
    assert np.abs(body.mesh.source_arrays()[0] - posed).max() < 2e-3
    rigged.studio.project.choose(body.id)
    assert rigged.rig_card.says.text() == "Body: 6 joints, 2 parts along."
    assert [one.name for one in rigged.rigging.kept()] == ["Wave"]
    run(rigged, "rig.rest")
    assert rigged.rigging.rig.still
    run(rigged, "edit.undo")
    run(rigged, "edit.undo")
    assert rigged.studio.project.scene.parts == ()


def test_joints_are_found_shown_dragged_and_taken_as_one_step(performs: Window) -> None:
    card, fitting = performs.rig_card, performs.fitting
    armature = BODIES["slender"][1]()
    clay = armature.made()
    body = Part("Runner", Mesh.from_faces(clay.positions, clay.faces), id="body")
    performs.studio.take(Project(Scene((body,))))
    performs.views.frame_all()
    settle(performs)
    assert "find them first" in performs.registry.commands["rig.fit-take"].blocked()
    card.kind.setCurrentIndex(card.kind.findData("biped"))
    card.kind.activated.emit(card.kind.currentIndex())
    run(performs, "rig.fit")
    performs.studio.wait(60)
    settle(performs)
    assert isinstance(performs.view.mode, FitMode)
    assert "27 joints" in card.fits.text()
    assert fitting.asks == ()
    # Nothing of the project has changed yet.
    assert rig_of(part(performs)) is None
    assert steps(performs) == []
    elbow = next(k for k, joint in enumerate(fitting.joints) if joint.name == "Elbow left")
    place = np.array(fitting.joints[elbow].place)
    there = (float(place[0]) + 4, float(place[1]), float(place[2]))
    pull(performs, fitting.joints[elbow].place, there)
    assert fitting.joints[elbow].place[0] == pytest.approx(place[0] + 4, abs=0.7)
    assert fitting.joints[fitting.joints[elbow].twin].place[0] == pytest.approx(-place[0] - 4, abs=0.7)
    QTest.keyClick(performs.view, Qt.Key.Key_Return)
    performs.studio.wait(60)
    settle(performs)
    assert performs.view.mode is None
    assert steps(performs) == ["Rig Runner"]
    assert len(rig(performs).joints) == 27
    assert rig(performs).joints[elbow].place[0] == pytest.approx(place[0] + 4, abs=0.7)
    run(performs, "rig.pose")
    run(performs, "edit.undo")
    assert rig_of(part(performs)) is None


def test_ends_that_are_not_found_are_asked_for_skipped_or_pointed_at(performs: Window) -> None:
    armature = BODIES["slender"][1]()
    key = next(joint.key for joint in armature.joints if joint.name == "hip left")
    clay = armature.without(key, subtree=True).made()
    body = Part("Bust", Mesh.from_faces(clay.positions, clay.faces), id="body")
    performs.studio.take(Project(Scene((body,))))
    performs.views.frame_all()
    settle(performs)
    performs.fitting.choose("biped")
    run(performs, "rig.fit")
    performs.studio.wait(60)
    settle(performs)
    fitting = performs.fitting
    assert fitting.asks == ("Foot left", "Foot right")
    assert "left foot" in performs.rig_card.fits.text()
    assert "left foot" in performs.view.mode.hint
    # A press on the trunk is no foot: it is asked again, and nothing is lost.
    found = fitting.joints
    pull(performs, (3, 118, 0), (3, 118, 0))
    performs.studio.wait(60)
    settle(performs)
    assert fitting.asks == ("Foot left", "Foot right")
    assert fitting.joints == found
    run(performs, "rig.fit-skip")
    assert fitting.asks == ()
    QTest.keyClick(performs.view, Qt.Key.Key_Escape)
    assert fitting.part is None
    # What is a sheet has no joints.
    sheet = Mesh.from_faces(np.array([[0, 0, 0], [90, 0, 0], [90, 60, 0], [0, 60, 0]], np.float32), np.array([[0, 1, 2, 3]], np.int32))  # fmt: skip
    performs.studio.take(Project(Scene((Part("Sheet", sheet, id="body"),))))
    run(performs, "rig.fit")
    performs.studio.wait(60)
    settle(performs)
    assert "encloses" in said(performs)
    assert fitting.joints == ()


def test_found_joints_go_when_the_clay_changes(performs: Window) -> None:
    run(performs, "rig.fit")
    performs.studio.wait(60)
    settle(performs)
    assert performs.fitting.joints
    performs.studio.project.delete("body")
    settle(performs)
    assert performs.fitting.joints == ()
    assert performs.view.mode is None


def test_kept_poses_have_their_pictures_and_a_sheet(rigged: Window, tmp_path: Path) -> None:
    rigged.sheets.export(tmp_path / "none.png", "poses", "None")
    assert "There is no pose yet" in said(rigged)
    rigged.rigging.both = False
    for name, to in (("Wave", (40, 82, 0)), ("Hang", (50, 30, 0))):
        pull(rigged, (64, 50, 0), to)
        rigged.rigging.keep_pose(name)
        run(rigged, "rig.rest")
    card = rigged.rig_card
    before = part(rigged).mesh.positions.copy()
    until(lambda: sum(not one.pixmap().isNull() for one in card._seen.values()) == 2, 60)
    pictures = [shown_of(one.pixmap()) for one in card._seen.values()]
    # They differ from each other, and drawing them has moved nothing.
    assert np.abs(pictures[0].astype(int) - pictures[1]).max() > 60
    assert np.array_equal(part(rigged).mesh.positions, before)
    rigged.sheets.export(tmp_path / "poses.png", "poses", "Poses", across=600)
    rigged.studio.wait(60)
    settle(rigged)
    assert "shows 2 pictures" in said(rigged)
    assert (tmp_path / "poses.png").stat().st_size > 5000
    # Gone with the pose; nothing is left that asks for it.
    rigged.rigging.forget_pose(rigged.rigging.kept()[0])
    assert len(card._seen) == 1


def shown_of(pixmap: QPixmap) -> np.ndarray:
    image = pixmap.toImage().convertToFormat(QImage.Format.Format_RGB888)
    rows = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
    return rows[:, : 3 * image.width()].copy()


def test_a_body_is_tried_through_a_motion_and_the_worst_moment_shown(
    rigged: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    playing, checking = rigged.playing, rigged.shape_checking
    playing.choose("walk")
    before = part(rigged).mesh.positions.copy()
    run(rigged, "rig.try-motion")
    rigged.studio.wait(60)
    settle(rigged)
    assert "16 moments tried: nothing gives" in said(rigged)
    assert np.array_equal(part(rigged).mesh.positions, before)
    # With an eye for less.
    monkeypatch.setattr("kneten.core.pose.shape_check.LONGER", 1.01)
    run(rigged, "rig.try-motion")
    until(lambda: checking.find is not None)
    assert checking.find.words.startswith("Walk at ")
    done = steps(rigged)
    assert not np.array_equal(part(rigged).mesh.positions, before)
    run(rigged, "shape.find-correct")
    assert steps(rigged) == [*done, f"{checking.find.moment.words}: Body"]
    assert not rig(rigged).still
    run(rigged, "edit.undo")
    assert np.array_equal(part(rigged).mesh.positions, before)


# -- motions that were read ------------------------------------------------------------------------


def nod(window: Window, *more: tuple[Track, np.ndarray, np.ndarray]) -> str:
    """The body has a motion that was read; its id."""
    at = np.array([0.0, 1.0, 2.0])
    turns = np.array([[0, 0, 0], [0, 0, 40.0], [0, 0, 0]])
    keys = Keys.of([(Track(TURN, "Chest"), at, turns), *more])
    bring_motions(window.studio.project, [kept_motion("Nod", "body", keys)], "Import")
    key: str = window.studio.project.scene.things("motions")[-1].id
    return key


def test_a_motion_that_was_read_is_chosen_played_kept_and_forgotten(rigged: Window, tmp_path: Path) -> None:
    playing, card = rigged.playing, rigged.rig_card
    assert card.buttons["rig.forget-motion"].isHidden()
    key = nod(rigged)
    settle(rigged)
    assert card.motion.itemText(card.motion.count() - 1) == "Nod"
    card.motion.setCurrentIndex(card.motion.findData(key))
    card.motion.activated.emit(card.motion.currentIndex())
    assert playing.key == key
    assert not card.buttons["rig.forget-motion"].isHidden()
    before = part(rigged).mesh.positions.copy()
    card.time.changed.emit(50.0)
    settle(rigged)
    assert playing.shown
    assert np.abs(part(rigged).mesh.positions - before).max() > 10
    assert len(playing.shadows()) == 3
    run(rigged, "rig.keep-frame")
    assert steps(rigged)[-1] == "Nod: Body"
    assert rig(rigged).joints[1].turn == pytest.approx((0, 0, 40), abs=1e-4)
    save_project(rigged.studio.project, tmp_path / "nod.kneten")
    assert [one.name for one in open_project(tmp_path / "nod.kneten").scene.things("motions")] == ["Nod"]
    run(rigged, "edit.undo")
    playing.scrub(0.3)
    run(rigged, "rig.forget-motion")
    assert not playing.shown
    assert playing.key == "walk"
    assert np.array_equal(part(rigged).mesh.positions, before)
    run(rigged, "edit.undo")
    playing.choose(key)
    assert playing.no_motion() == ""
    run(rigged, "edit.undo")
    # The step that brought it is undone.
    assert "is not kept of this part" in playing.no_motion()
    run(rigged, "rig.play")
    assert "is not kept of this part" in said(rigged)


def test_joints_and_dials_go_together(rigged: Window) -> None:
    project = rigged.studio.project
    lamp = next(one for one in project.scene.parts if one.name == "Lamp")
    smile = add_shape(project, ["body", lamp.id], "Smile")
    for one in ("body", lamp.id):
        clay = project.scene.part(one)
        push(project, clay, np.full((clay.mesh.n_vertices, 3), (0.0, 0.0, 4.0), np.float32))
    record_shape(project, "")
    dial(project, {smile: 0.0}, "Rest")
    at, value = np.array([0.0, 1.0]), np.array([[0, 0, 0], [1.0, 0, 0]])
    key = nod(rigged, (Track(DIAL, smile), at, value))
    project.choose("body")
    settle(rigged)
    before = {one.id: one.mesh.positions.copy() for one in project.scene.parts}
    rigged.playing.choose(key)
    rigged.playing.scrub(0.25)
    settle(rigged)
    shown = {one.id: one.mesh.positions.copy() for one in project.scene.parts}
    run(rigged, "rig.keep-frame")
    after = {one.id: one.mesh.positions for one in project.scene.parts}
    assert shapes_of(project.scene)[smile].dial == pytest.approx(0.5)
    for part_id in ("body", lamp.id):
        assert np.abs(shown[part_id] - after[part_id]).max() < 2e-3
        assert np.abs(before[part_id] - after[part_id]).max() > 1
    assert steps(rigged)[-1] == "Nod: Body"
    run(rigged, "edit.undo")
    assert all(np.array_equal(one.mesh.positions, before[one.id]) for one in project.scene.parts)
    # Tried moment by moment, the face goes along with the body.
    run(rigged, "rig.try-motion")
    rigged.studio.wait(60)
    settle(rigged)
    assert rigged.shape_checking.tried


def test_a_clip_goes_out_and_comes_in_as_a_motion(rigged: Window, tmp_path: Path) -> None:
    nod(rigged)
    rigged.studio.export_path(
        tmp_path / "nod.glb", list(rigged.studio.project.scene.parts), Space("m"), False
    )
    settle(rigged)
    rigged.studio.take(Project())
    rigged.studio.import_path(tmp_path / "nod.glb", None)
    settle(rigged)
    project = rigged.studio.project
    project.choose(next(one.id for one in project.scene.parts if one.name == "Body"))
    settle(rigged)
    (kept,) = rigged.playing.kept()
    rigged.playing.choose(kept.id)
    rest = project.active.mesh.positions.copy()  # type: ignore[union-attr]
    rigged.registry.run("rig.play")
    until(lambda: rigged.playing.phase > 0.05)
    assert not np.array_equal(project.active.mesh.positions, rest)  # type: ignore[union-attr]
    run(rigged, "rig.stop")
    assert np.array_equal(project.active.mesh.positions, rest)  # type: ignore[union-attr]
