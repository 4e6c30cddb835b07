"""Posing through the real window: a limb is pressed, bent, turned, chained, dialled, undone, saved."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt

from kneten.app.benches.perform.pose_mode import PoseMode
from kneten.app.shell.window import Window
from kneten.core.live.primitive import Primitive
from kneten.core.transform import Transform
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.scene import Part, Scene
from tests.app.windows import drag, run, said, settle, small_view, steps
from tests.conftest import make_ball

SHIFT = Qt.KeyboardModifier.ShiftModifier


def arm() -> Part:
    mesh = Primitive("capsule", (40.0, 240.0, 40.0), (12, 40, 12)).made().mesh()
    return Part("Arm", mesh, id="arm")


@pytest.fixture
def perform(window: Window) -> Window:
    """An arm with a live ring round it, the stage Perform, the way of working Pose."""
    small_view(window)
    ring = Primitive("torus", (52.0, 8.0, 52.0), (16, 6, 6), 0.85)
    rider = Part("Ring", ring.made().mesh(), id="ring", recipe=ring, transform=Transform((0.0, 80.0, 0.0)))
    window.studio.take(Project(Scene((arm(), rider))))
    run(window, "stage.perform")
    run(window, "view.front")
    window.views.frame_all()
    settle(window)
    run(window, "pose.limb")
    return window


def at(window: Window, *place: float) -> tuple[float, float]:
    view = window.view
    x, y, *_ = view.camera.project(np.array([place]), view.wide, view.high)[0]
    return float(x), float(y)


def press(window: Window, *place: float) -> None:
    spot = at(window, *place)
    drag(window, [spot, spot])
    settle(window)


def pull(window: Window, start: tuple[float, float, float], *ways: tuple[float, float, float], keys=Qt.KeyboardModifier.NoModifier) -> None:  # fmt: skip
    drag(window, [at(window, *start), *(at(window, *way) for way in ways)], keys=keys, events=4)
    settle(window)


def positions(window: Window, key: str = "arm") -> np.ndarray:
    return window.studio.project.scene.part(key).mesh.positions.copy()


def test_a_limb_is_pressed_bent_and_undone(perform: Window) -> None:
    posing = perform.posing
    before = positions(perform)
    assert "No limb is in hand" in perform.registry.commands["pose.straighten"].blocked()
    assert "Press where a limb" in perform.mode_hints.hint.text()
    press(perform, 0.0, 30.0, 20.0)
    assert posing.has_limb
    assert "Drag the limb" in perform.mode_hints.hint.text()
    assert "40 mm thick" in perform.pose_card.says.text()
    # Only looked for: nothing is done yet.
    assert steps(perform) == []
    assert np.array_equal(positions(perform), before)
    pull(perform, (0.0, 110.0, 18.0), (40.0, 100.0, 18.0), (70.0, 80.0, 18.0))
    assert steps(perform) == ["Bend: Arm"]
    assert 25 < np.linalg.norm(posing.hinges[0].bend) < 90
    bent = positions(perform)
    assert np.abs(bent - before).max() > 30
    # The ring has gone along, and is clay now.
    ring = perform.studio.project.scene.part("ring")
    assert ring.recipe is None
    assert stack_of(ring).layers[0].pose is not None
    assert "clay that bends along" in said(perform)
    # Further: one more step, the same layer.
    pull(perform, (62.0, 82.0, 18.0), (70.0, 60.0, 18.0))
    assert [layer.name for layer in stack_of(perform.studio.project.scene.part("arm")).layers] == ["Pose"]
    run(perform, "edit.undo")
    assert np.abs(positions(perform) - bent).max() < 1e-3
    run(perform, "edit.undo")
    assert np.array_equal(positions(perform), before)
    assert perform.studio.project.scene.part("ring").recipe is not None
    assert posing.has_limb
    assert posing.hinges[0].bend == (0.0, 0.0, 0.0)
    run(perform, "edit.redo")
    assert np.abs(positions(perform) - bent).max() < 1e-3
    assert np.linalg.norm(posing.hinges[0].bend) > 25
    run(perform, "pose.straighten")
    assert np.abs(positions(perform) - before).max() < 1e-2


def test_rings_turn_and_widen_and_shift_grows(perform: Window) -> None:
    posing = perform.posing
    press(perform, 0.0, 30.0, 20.0)
    height = float(posing.limbs[0].line[0][1])
    wide = posing.hinges[0].band
    # The dashed ring stands half a band off, the full one where the limb bends.
    half = wide / 2
    pull(perform, (24.0, height + half, 0.0), (24.0, height + 1.6 * half, 0.0))
    assert posing.hinges[0].band > 1.2 * wide
    assert steps(perform) == []
    x, y = at(perform, 20.5, height, 0.0)
    drag(perform, [(x, y), (x + 60, y)], events=4)
    settle(perform)
    assert posing.hinges[0].twist == pytest.approx(36.0, abs=1.0)
    assert steps(perform) == ["Turn: Arm"]
    x, y = at(perform, 0.0, 100.0, 20.0)
    drag(perform, [(x, y), (x + 50, y)], keys=SHIFT, events=4)
    settle(perform)
    assert posing.hinges[0].length > 1.2
    assert np.ptp(positions(perform)[:, 1]) > 245
    drag(perform, [(x, y), (x, y - 40)], keys=SHIFT, events=4)
    settle(perform)
    assert posing.hinges[0].thickness > 1.1


def test_numbers_hinges_and_the_curl_of_the_card(perform: Window) -> None:
    posing, card = perform.posing, perform.pose_card
    press(perform, 0.0, 0.0, 20.0)
    card.fields["bend"].changed.emit(50.0)
    assert perform.studio.project.is_trying
    assert steps(perform) == []
    card.fields["bend"].settled.emit(50.0)
    assert posing.hinges[0].bend == (50.0, 0.0, 0.0)
    assert not perform.studio.project.is_trying
    run(perform, "edit.undo")
    card.count.settled.emit(3.0)
    assert len(posing.hinges) == 3
    assert card.hinge.count() == 3
    card.curl.settled.emit(35.0)
    assert {hinge.bend for hinge in posing.hinges} == {(35.0, 0.0, 0.0)}
    card.hinge.activated.emit(2)
    card.fields["limit"].settled.emit(40.0)
    assert posing.hinges[2].limit == 40.0
    # A drag that is given up leaves nothing.
    bent = positions(perform)
    card.fields["twist"].changed.emit(80.0)
    run(perform, "edit.undo")
    assert not perform.studio.project.is_trying
    run(perform, "edit.redo")
    assert np.abs(positions(perform) - bent).max() < 1e-3


def test_a_pose_is_dialled_resumed_saved_and_opened(perform: Window, tmp_path: Path) -> None:
    posing, project = perform.posing, perform.studio.project
    press(perform, 0.0, 30.0, 20.0)
    perform.pose_card.fields["bend"].settled.emit(70.0)
    whole = positions(perform)
    ((part, layer_id, name, strength),) = posing.poses()
    assert (part.id, name, strength) == ("arm", "Pose", 1.0)
    perform.levels.dial(layer_id, 0.4)
    assert np.abs(positions(perform) - whole).max() > 10
    perform.levels.keep_dial(layer_id, 0.4)
    settle(perform)
    posing.resume(project.scene.part("arm"), layer_id)
    settle(perform)
    assert isinstance(perform.view.mode, PoseMode)
    assert posing.hinges[0].bend == (70.0, 0.0, 0.0)
    assert np.abs(positions(perform) - whole).max() < 1e-3
    perform.pose_card.fields["bend"].settled.emit(20.0)
    less = positions(perform)
    assert np.abs(less - whole).max() > 20
    path = tmp_path / "posed.kneten"
    save_project(project, path)
    again = open_project(path)
    assert np.array_equal(again.scene.part("arm").mesh.positions, less)
    assert stack_of(again.scene.part("arm")).layers[0].pose is not None


def test_what_cannot_be_posed_is_said_and_changes_nothing(perform: Window) -> None:
    project = perform.studio.project
    project.delete("ring")
    torus = Primitive("torus", (150.0, 30.0, 150.0), (32, 12, 12), 0.7).made().mesh()
    project.add_meshes(
        "Add", [("Hoop", torus, Transform((160.0, 0.0, 0.0), (0.70710678, 0.0, 0.0, 0.70710678)))]
    )
    perform.views.frame_all()
    settle(perform)
    press(perform, 160.0, 67.0, 12.0)
    assert "hangs together" in said(perform)
    assert not perform.posing.has_limb
    # What is locked stays as it is.
    project.choose("arm")
    run(perform, "parts.lock")
    press(perform, 0.0, 30.0, 20.0)
    assert not perform.posing.has_limb


def test_both_sides_bend_until_it_is_switched_off(window: Window) -> None:
    small_view(window)
    mesh = make_ball(50.0, 20)
    x = mesh.positions[:, 0]
    out = np.clip((np.abs(x) - 38) / 12, 0, 1)
    places = mesh.positions.copy()
    places[:, 0] += np.sign(x) * out * 130
    window.studio.take(Project(Scene((Part("Body", mesh.with_positions(places), id="arm"),))))
    run(window, "stage.perform")
    run(window, "view.front")
    window.views.frame_all()
    settle(window)
    run(window, "pose.limb")
    before = positions(window)
    press(window, 100.0, 0.0, 20.0)
    assert len(window.posing.limbs) == 2
    pull(window, (165.0, 0.0, 15.0), (140.0, 60.0, 15.0))
    moved = np.linalg.norm(positions(window) - before, axis=1)
    assert moved[before[:, 0] > 165].min() > 5
    assert moved[before[:, 0] < -165].min() > 5
    run(window, "edit.undo")
    run(window, "pose.mirror")
    assert not window.pose_card.both.isChecked()
    assert len(window.posing.limbs) == 1
    window.pose_card.fields["bend"].settled.emit(45.0)
    moved = np.linalg.norm(positions(window) - before, axis=1)
    assert moved[before[:, 0] < -100].max() == 0
    run(window, "pose.flip")
    assert window.posing.limbs[0].last > 60
