"""Shapes through the real window: recorded by strokes, dialled, corrected, split, mirrored, played, written and read."""

from __future__ import annotations

import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QInputDialog

from kneten.app.benches.perform.shape_mode import BorderMode
from kneten.app.shell.window import Window
from kneten.app.work import dialogs
from kneten.core.pose.keys import DIAL, Keys, Track
from kneten.core.transform import Transform
from kneten.document.driving import FoundShape, shapes_of
from kneten.document.motions import bring_motions, kept_motion
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.project_file import open_project, save_project
from kneten.document.scene import Part, Scene
from kneten.document.shapes import recorded_shape
from kneten.formats.exchange import pieces_of, write_file
from kneten.formats.space import Space
from tests.app.windows import drag, run, said, settle, small_view, steps, until
from tests.conftest import make_ball
from tests.document.test_shapes import arm, bent, bump, face, head_of, part_called


@pytest.fixture
def faces(window: Window) -> Window:
    """A head with a hat, in the stage Perform."""
    small_view(window)
    window.studio.take(face())
    run(window, "stage.perform")
    run(window, "view.front")
    window.views.frame_all()
    settle(window)
    return window


def head(window: Window) -> Part:
    return head_of(window.studio.project)


def held(window: Window) -> dict[str, FoundShape]:
    return {one.name: one for one in shapes_of(window.studio.project.scene).values()}


def stroke(window: Window, x: float = 0.4) -> None:
    """Raise the clay a little, left of the middle of the picture."""
    run(window, "tool.raise")
    wide, high = window.view.wide, window.view.high
    drag(window, [(x * wide, 0.6 * high), ((x + 0.05) * wide, 0.62 * high)])
    settle(window)


def new(window: Window, name: str) -> str:
    """A new shape that a stroke has made, at rest."""
    window.shaping.add(name)
    stroke(window)
    run(window, "shape.record")
    key = held(window)[name].id
    window.shaping.keep(key, 0.0)
    settle(window)
    return key


def test_a_stroke_becomes_a_shape_with_a_dial_and_all_of_it_is_undone_saved_and_opened(
    faces: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    rest = head(faces).mesh.positions.copy()
    monkeypatch.setattr(QInputDialog, "getItem", lambda *_: ("Jaw drop (26)", True))
    run(faces, "shape.add")
    assert "Strokes go to Jaw drop" in faces.shape_card.says.text()
    stroke(faces)
    whole = head(faces).mesh.positions.copy()
    assert np.abs(whole - rest).max() > 0.5
    run(faces, "shape.record")
    assert recorded_shape(head(faces)) == ""
    row = faces.shape_card.rows[0]
    # Dragging shows it; letting go keeps it.
    row.dial.changed.emit(50.0)
    settle(faces)
    assert np.abs(head(faces).mesh.positions - (rest + whole) / 2).max() < 1e-3
    assert held(faces)["Jaw drop"].dial == 1.0
    row.dial.settled.emit(150.0)
    settle(faces)
    assert np.abs(head(faces).mesh.positions - (1.5 * whole - 0.5 * rest)).max() < 1e-3
    assert faces.shape_card.rows[0].dial.value() == 150.0
    assert "sinks by its own weight" in faces.shape_card.moves.text()
    save_project(faces.studio.project, tmp_path / "face.kneten")
    again = shapes_of(open_project(tmp_path / "face.kneten").scene)
    assert [(one.name, one.dial, one.shape.action) for one in again.values()] == [("Jaw drop", 1.5, "26")]
    for _ in range(len(steps(faces))):
        run(faces, "edit.undo")
    assert not held(faces)
    assert np.array_equal(head(faces).mesh.positions, rest)
    run(faces, "edit.redo")
    assert list(held(faces)) == ["Jaw drop"]


def test_layers_and_shapes_are_listed_apart(faces: Window) -> None:
    new(faces, "Frown")
    run(faces, "layer.add")
    assert [row.name.accessibleName() for row in faces.layers_card.rows] == ["Layer Layer"]
    run(faces, "layer.before")
    assert all(layer.shown for layer in stack_of(head(faces)).layers if layer.shape is not None)
    run(faces, "layer.merge")
    assert "no layer below" in said(faces)


def test_corrections_follow_and_say_so(faces: Window) -> None:
    a, b = new(faces, "Frown"), new(faces, "Puff")
    faces.shaping.keep(a, 0.5)
    faces.shaping.keep(b, 1.0)
    faces.shaping.choose(a)
    faces.shaping.choose(b, more=True)
    run(faces, "shape.correct")
    name = "Frown + Puff"
    assert recorded_shape(head(faces)) == held(faces)[name].id
    stroke(faces)
    run(faces, "shape.record")
    row = faces.shape_card.rows[-1]
    assert not row.dial.isEnabled()
    assert "Follows Frown at 50 %, Puff at 100 %" in faces.shape_card.moves.text()
    shown = head(faces).mesh.positions.copy()
    run(faces, "shape.neutral")
    assert held(faces)[name].dial == 0.0
    run(faces, "shape.record")
    assert "follows others, and is at rest" in said(faces)
    # Dragging one of them brings the correction along.
    faces.shaping.show(a, 0.5)
    assert faces.shaping.dial_of(held(faces)[name].id) == 0.0
    faces.shaping.stop()
    run(faces, "shape.show")
    settle(faces)
    assert np.abs(head(faces).mesh.positions - shown).max() < 1e-3
    run(faces, "shape.play")
    assert "follows others: play one of those" in said(faces)
    run(faces, "shape.soft")
    assert all(driver.soft for driver in held(faces)[name].shape.drivers)
    faces.shaping.choose(a)
    run(faces, "shape.split")
    faces.shape_tools.split_now()
    assert "split it before that" in said(faces)
    run(faces, "shape.by-hand")
    assert "follows no other" in said(faces)
    faces.shaping.choose(held(faces)[name].id)
    run(faces, "shape.by-hand")
    assert held(faces)[name].shape.drivers == ()
    faces.shaping.choose(a)
    run(faces, "shape.remove")
    assert "Frown" not in held(faces)


def test_a_dial_brings_its_correction_along_while_it_is_dragged(faces: Window) -> None:
    a = new(faces, "Frown")
    faces.shaping.keep(a, 0.5)
    run(faces, "shape.between")
    stroke(faces, 0.5)
    run(faces, "shape.record")
    between = held(faces)["Frown at 50 %"]
    faces.shaping.keep(a, 0.25)
    wanted = head(faces).mesh.positions.copy()
    faces.shaping.keep(a, 0.0)
    faces.shaping.show(a, 0.25)
    assert faces.shaping.dial_of(between.id) == pytest.approx(0.5)
    assert np.abs(head(faces).mesh.positions - wanted).max() < 1e-3
    # Whatever else is done puts the face back first.
    run(faces, "edit.undo")
    assert faces.shaping.dial_of(a) == pytest.approx(0.25)
    faces.shaping.choose(a)
    run(faces, "shape.between")
    assert "Frown at 25 %" in held(faces)


def test_the_border_is_dragged_and_the_shape_split_there(faces: Window) -> None:
    key = new(faces, "Frown")
    faces.shaping.keep(key, 1.0)
    whole = head(faces).mesh.positions.copy()
    run(faces, "shape.split")
    mode = faces.view.mode
    assert isinstance(mode, BorderMode)
    edges = mode.lines()
    assert len(edges) == 3
    before = faces.shaping.border
    assert np.allclose(edges[2].ends[:, :, 0], before / 2, atol=1e-3)
    at = mode.pixels(mode._seen(edges[2]).mean(axis=1))
    x, y = at[np.argmin(np.abs(at[:, 1] - faces.view.high / 2))]
    drag(faces, [(x, y), (x + 12, y), (x + 24, y)])
    settle(faces)
    assert faces.shaping.border > before + 10
    assert mode.begin.__doc__
    faces.view.setFocus()
    assert mode.pressed_key(Qt.Key.Key_Return)
    settle(faces)
    assert set(held(faces)) == {"Frown left", "Frown right"}
    assert faces.view.mode is None
    assert np.abs(head(faces).mesh.positions - whole).max() < 1e-3
    run(faces, "edit.undo")
    assert set(held(faces)) == {"Frown"}


def test_a_mirror_image_the_other_side_and_what_is_masked(faces: Window) -> None:
    project = faces.studio.project
    key = new(faces, "Wink left")
    faces.shaping.choose(key)
    run(faces, "shape.off-mask")
    assert "Nothing is masked" in said(faces)
    run(faces, "shape.mirror")
    twin = held(faces)["Wink right"]
    assert twin.dial == 0.0
    faces.shaping.keep(key, 1.0)
    faces.shaping.keep(twin.id, 1.0)
    places = head(faces).mesh.positions
    gap = np.linalg.norm((places * [-1, 1, 1])[:, None] - places[None], axis=2).min(axis=1)
    assert gap.max() < 1e-2
    faces.shaping.choose(twin.id)
    run(faces, "shape.even")
    project.set_values(head(faces).id, "mask", np.ones(head(faces).mesh.n_vertices, np.float32), "Mask")
    run(faces, "shape.off-mask")
    layer = stack_of(head(faces)).layer(held(faces)["Wink right"].layers[head(faces).id])
    assert not any(layer.reliefs)


def test_what_sits_on_the_head_goes_along_and_parts_are_needed_for_it(faces: Window) -> None:
    key = new(faces, "Rise")
    faces.shaping.choose(key)
    run(faces, "shape.along")
    assert "Choose the parts" in said(faces)
    project = faces.studio.project
    project.choose_all([part_called(project, "Hat").id, head(faces).id])
    settle(faces)
    run(faces, "shape.along")
    assert len(held(faces)["Rise"].layers) == 2


def test_a_shape_is_played_and_ended(faces: Window) -> None:
    key = new(faces, "Frown")
    faces.shaping.choose(key)
    rest = head(faces).mesh.positions.copy()
    faces.registry.run("shape.play")
    assert faces.shaping.plays
    seen = set()
    ends = time.monotonic() + 20
    while len(seen) < 3 and time.monotonic() < ends:
        QApplication.processEvents()
        seen.add(round(faces.shaping.dial_of(key), 1))
    assert len(seen) >= 3
    assert faces.shape_card.buttons["shape.play"].text() == "End"
    faces.registry.run("shape.play")
    settle(faces)
    assert not faces.shaping.plays
    assert np.array_equal(head(faces).mesh.positions, rest)
    # A stroke, or anything else, ends it as well.
    faces.registry.run("shape.play")
    run(faces, "edit.undo")
    until(lambda: not faces.shaping.plays)
    settle(faces)


def test_names_copies_and_merging(faces: Window) -> None:
    key = new(faces, "Frown")
    faces.shaping.choose(key)
    card = faces.shape_card
    card.name.setText("Scowl")
    card.name.editingFinished.emit()
    assert list(held(faces)) == ["Scowl"]
    card.action.setCurrentIndex(card.action.findData("4"))
    card.action.activated.emit(card.action.currentIndex())
    assert held(faces)["Scowl"].shape.action == "4"
    run(faces, "shape.merge")
    assert "One shape is chosen" in said(faces)
    run(faces, "shape.copy")
    faces.shaping.keep(key, 1.0)
    card.rows[0].name.click()
    assert faces.shaping.chosen == [key]
    faces.shaping.choose(held(faces)["Scowl 2"].id, more=True)
    run(faces, "shape.merge")
    assert list(held(faces)) == ["Scowl 2"]
    for k in range(12):
        faces.shaping.add(f"More {k}")
    assert card.look.isVisible()
    card.look.setText("more 1")
    assert [row.name.accessibleName() for row in card.rows] == [
        "Shape More 1",
        "Shape More 10",
        "Shape More 11",
    ]


def test_a_pose_and_a_joint_give_shapes(window: Window) -> None:
    small_view(window)
    project, part = arm()
    window.studio.take(project)
    run(window, "stage.perform")
    window.views.frame_all()
    settle(window)
    run(window, "shape.of-pose")
    assert "Nothing is posed" in said(window)
    bent(project, 60.0)
    window.rigging.choose("Elbow")
    run(window, "shape.correct-joint")
    assert "Elbow turned" in held(window)
    assert "Follows Elbow, turned 60°" in window.shape_card.moves.text()
    stroke(window, 0.5)
    run(window, "shape.record")
    # The correction fades while the joint is dragged, not only after.
    key = held(window)["Elbow turned"].id
    half = window.rigging.rig.with_turn(1, np.array([0.0, 0.0, 30.0]))
    window.rigging.show(half)
    shown = project.scene.parts[0].mesh.positions.copy()
    window.rigging.keep(half, "Bend")
    assert 0.4 < held(window)["Elbow turned"].dial < 0.6
    assert np.abs(project.scene.parts[0].mesh.positions - shown).max() < 1e-3
    window.rigging.keep(window.rigging.rig.at_rest(), "Rest")
    assert held(window)["Elbow turned"].dial == pytest.approx(0.0)
    layers = {part.id: stack_of(project.scene.parts[0]).listed[0].id}
    bent(project, 60.0)
    assert held(window)["Elbow turned"].dial == pytest.approx(1.0)
    assert key in shapes_of(project.scene)
    window.shape_tools.make_of_pose("Nod", layers)
    assert "Nod" in held(window)


def test_shapes_go_out_and_come_in_as_files(
    faces: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    new(faces, "Frown")
    new(faces, "Puff")
    monkeypatch.setattr(dialogs, "ask_folder", lambda *_: tmp_path / "out")
    (tmp_path / "out").mkdir()
    run(faces, "shape.export")
    names = sorted(path.name for path in (tmp_path / "out").iterdir())
    assert names == ["Frown.obj", "Neutral.obj", "Puff.obj"]
    assert "3 files now" in said(faces)
    monkeypatch.setattr(dialogs, "ask_open", lambda *_, **__: sorted((tmp_path / "out").glob("*.obj")))
    run(faces, "shape.import")
    assert {"Frown 2", "Puff 2"} <= set(held(faces))
    faces.shaping.keep(held(faces)["Frown 2"].id, 1.0)
    moved = head(faces).mesh.positions.copy()
    run(faces, "shape.neutral")
    faces.shaping.keep(held(faces)["Frown"].id, 1.0)
    assert np.abs(head(faces).mesh.positions - moved).max() < 1e-2
    run(faces, "shape.take")
    assert "No shape is recorded" in said(faces)
    parts = faces.studio.project.scene.parts
    pieces = pieces_of(parts, Space())
    pieces = [replace(one, positions=one.positions + np.float32(1.0)) for one in pieces]
    write_file(tmp_path / "other.obj", pieces)
    faces.shaping.add("Corrected")
    monkeypatch.setattr(dialogs, "ask_open", lambda *_, **__: [tmp_path / "other.obj"])
    run(faces, "shape.take")
    assert np.abs(head(faces).mesh.source_arrays()[0] - pieces[0].positions).max() < 1e-3
    (tmp_path / "wrong.obj").write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
    monkeypatch.setattr(dialogs, "ask_open", lambda *_, **__: [tmp_path / "wrong.obj"])
    run(faces, "shape.take")
    run(faces, "shape.import")
    assert "nothing in it has as many vertices" in said(faces)
    assert "no object in it has as many vertices" in said(faces)


def test_a_sheet_of_shapes_is_written(faces: Window, tmp_path: Path) -> None:
    faces.sheets.export(tmp_path / "none.png", "shapes", "None")
    assert "There is no shape yet" in said(faces)
    new(faces, "Frown")
    new(faces, "Puff")
    faces.sheets.export(tmp_path / "shapes.png", "shapes", "Moods", across=600)
    settle(faces)
    assert (tmp_path / "shapes.png").stat().st_size > 5000
    assert "shows 2 pictures" in said(faces)


def test_rows_take_the_colours_of_the_theme_at_once(faces: Window) -> None:
    run(faces, "layer.add")
    before = faces.layers_card.rows[0].name.styleSheet()
    faces.switch_theme()
    assert faces.layers_card.rows[0].name.styleSheet() != before


def test_shapes_are_checked_a_find_shown_and_mended(faces: Window) -> None:
    run(faces, "shape.check")
    assert "takes part in no shape" in said(faces)
    project = faces.studio.project
    faces.shaping.add("Puff")
    moves = bump(head(faces), (60.0, 0.0, 75.0), 70.0)
    at = int(np.argmax(np.linalg.norm(moves, axis=1)))
    moves[at] = 0.0
    project.move_vertices(head(faces).id, head(faces).mesh.positions + moves, "Stroke")
    run(faces, "shape.record")
    run(faces, "shape.neutral")
    rest = head(faces).mesh.positions.copy()
    run(faces, "shape.mend-smooth")
    assert "No find is chosen" in said(faces)
    run(faces, "shape.check")
    card = faces.check_card
    assert card.list.count() >= 1
    assert "left behind" in card.list.item(0).text()
    card.list.setCurrentRow(0)
    settle(faces)
    # It is shown with the shape wholly there, which is no step.
    assert np.abs(head(faces).mesh.positions - rest - moves).max() < 1e-3
    assert held(faces)["Puff"].dial == 0.0
    find = faces.shape_checking.find
    assert find is not None
    pixel = faces.view.camera.project(find.place[None], faces.view.wide, faces.view.high)[0]
    assert abs(pixel[0] - faces.view.wide / 2) < faces.view.wide / 4
    count = len(faces.shape_checking.finds)
    run(faces, "shape.mend-smooth")
    assert len(faces.shape_checking.finds) == count - 1
    assert steps(faces)[-1] == "Smooth Puff"
    faces.shaping.stop()
    run(faces, "shape.check")
    assert all("1 vertex of Head" not in one.words for one in faces.shape_checking.finds)
    run(faces, "edit.undo")
    run(faces, "shape.check")
    faces.shape_checking.choose(0)
    run(faces, "shape.mend-even")
    run(faces, "shape.check")
    faces.shape_checking.choose(0)
    run(faces, "shape.find-correct")
    assert recorded_shape(head(faces)) == held(faces)["Puff"].id
    faces.studio.take(face())
    assert card.list.count() == 0
    assert "Not checked yet" in card.says.text()


def test_pairs_are_tried_by_themselves_while_the_face_is_worked_on(faces: Window) -> None:
    # Each of them is sound; together they squash what lies between.
    faces.studio.take(Project(Scene((Part("Head", make_ball()),))))
    project = faces.studio.project
    project.choose(head(faces).id)
    for name, x in (("Puff", -14.0), ("Blow", 14.0)):
        faces.shaping.add(name)
        near = np.linalg.norm(bump(head(faces), (x, 0.0, 99.0), 22.0, 1.0), axis=1)
        moves = near[:, None] * np.array([-x, 0.0, 0.0], np.float32)
        project.move_vertices(head(faces).id, head(faces).mesh.positions + moves.astype(np.float32), "Stroke")
        run(faces, "shape.record")
        run(faces, "shape.neutral")
    faces.registry.run("shape.check")
    until(lambda: faces.shape_checking.tried)
    alone = len(faces.shape_checking.finds)
    # What is tried next locks nothing.
    assert faces.studio.stroke_blocked(head(faces)) == ""
    faces.studio.wait(60)
    settle(faces)
    finds = faces.shape_checking.finds
    together = [one for one in finds if len(one.shapes) == 2]
    assert together
    assert len(finds) == alone + len(together)
    assert [one.amount for one in finds] == sorted((one.amount for one in finds), reverse=True)
    assert "in pairs" in faces.check_card.says.text()
    faces.shape_checking.choose(finds.index(together[0]))
    assert {held(faces)[name].shape.id for name in ("Puff", "Blow")} == set(together[0].shapes)


def test_a_shape_is_tried_on_its_way_and_the_worst_moment_is_shown(faces: Window) -> None:
    run(faces, "shape.try-way")
    assert "takes part in no shape" in said(faces) or "No shape is chosen" in said(faces)
    faces.studio.take(Project(Scene((Part("Head", make_ball()),))))
    project = faces.studio.project
    project.choose(head(faces).id)
    faces.shaping.add("Draw")
    near = np.linalg.norm(bump(head(faces), (-14.0, 0.0, 99.0), 22.0, 1.0), axis=1)
    moves = (near[:, None] * np.array([18.0, 0.0, 0.0])).astype(np.float32)
    project.move_vertices(head(faces).id, head(faces).mesh.positions + moves, "Stroke")
    run(faces, "shape.record")
    run(faces, "shape.neutral")
    rest = head(faces).mesh.positions.copy()
    done = steps(faces)
    run(faces, "shape.try-way")
    until(lambda: faces.shape_checking.find is not None)
    find = faces.shape_checking.find
    assert find is not None
    assert find.words.startswith("Draw at 150 %: squashed")
    # Shown as it is then, which is no step, and in the middle of the picture.
    assert np.abs(head(faces).mesh.positions - rest - 1.5 * moves).max() < 1e-3
    assert steps(faces) == done
    pixel = faces.view.camera.project(find.place[None], faces.view.wide, faces.view.high)[0]
    assert abs(pixel[0] - faces.view.wide / 2) < faces.view.wide / 4
    run(faces, "shape.mend-smooth")
    assert "It gives on the way" in said(faces)
    run(faces, "shape.find-correct")
    assert held(faces)["Draw"].dial == 1.5
    assert steps(faces)[-1] == "Draw at 150 %"
    run(faces, "edit.undo")
    assert np.array_equal(head(faces).mesh.positions, rest)


def test_all_shapes_are_mended_at_once_and_checked_again(faces: Window) -> None:
    faces.studio.take(Project(Scene((Part("Head", make_ball()),))))
    project = faces.studio.project
    project.choose(head(faces).id)
    for name, x in (("Left", 60.0), ("Right", -60.0)):
        faces.shaping.add(name)
        moves = bump(head(faces), (x, 0.0, 75.0))
        moves[int(np.argmax(np.linalg.norm(moves, axis=1)))] = 0.0
        project.move_vertices(head(faces).id, head(faces).mesh.positions + moves, "Stroke")
        run(faces, "shape.record")
        run(faces, "shape.neutral")
    run(faces, "shape.check")
    faces.studio.wait(60)
    settle(faces)
    assert len(faces.shape_checking.finds) == 2
    assert faces.check_card.buttons["shape.mend-all"].isVisible()
    done = steps(faces)
    run(faces, "shape.mend-all")
    faces.studio.wait(60)
    settle(faces)
    faces.studio.wait(60)
    settle(faces)
    assert steps(faces) == [*done, "Mend shapes"]
    assert "2 shapes mended" in said(faces) or faces.shape_checking.finds == []
    assert faces.shape_checking.finds == []
    run(faces, "edit.undo")
    run(faces, "shape.check")
    faces.studio.wait(60)
    settle(faces)
    faces.shape_checking.choose(0)
    run(faces, "shape.mean")
    assert len(faces.shape_checking.finds) == 1
    assert "meant so" in steps(faces)[-1]
    run(faces, "shape.tell-all")
    assert steps(faces)[-1] == "Tell of all finds"
    run(faces, "shape.tell-all")
    assert "Everything is told of" in said(faces)


def test_finds_have_pictures_and_skin_a_heat_map(faces: Window) -> None:
    faces.studio.take(Project(Scene((Part("Head", make_ball()),))))
    project = faces.studio.project
    project.choose(head(faces).id)
    faces.shaping.add("Puff")
    moves = bump(head(faces), (60.0, 0.0, 75.0), 30.0, 25.0)
    moves[int(np.argmax(np.linalg.norm(moves, axis=1)))] = 0.0
    project.move_vertices(head(faces).id, head(faces).mesh.positions + moves, "Stroke")
    run(faces, "shape.record")
    run(faces, "shape.neutral")
    before = head(faces).mesh.positions.copy()
    run(faces, "shape.check")
    faces.studio.wait(60)
    settle(faces)
    card = faces.check_card
    card.head.setChecked(True)

    def inked() -> bool:
        image = card.list.item(0).icon().pixmap(60, 60).toImage()
        return any(image.pixelColor(x, 30).alpha() > 0 for x in range(image.width()))

    until(inked, 60)
    assert np.array_equal(head(faces).mesh.positions, before)
    # The heat map is even at rest, and goes along with a dial.
    run(faces, "shape.heat")
    faces.studio.wait(60)
    settle(faces)
    assert faces.shape_checking.heated
    assert np.abs(faces.view.distances[head(faces).id] - 0.5).max() < 1e-3
    key = held(faces)["Puff"].id
    faces.shaping.show(key, 1.0)
    until(lambda: np.abs(faces.view.distances[head(faces).id] - 0.5).max() > 0.2)
    faces.shaping.keep(key, 0.0)
    until(
        lambda: (
            faces.shape_checking.heated and np.abs(faces.view.distances[head(faces).id] - 0.5).max() < 1e-3
        )
    )
    run(faces, "shape.heat")
    assert not faces.view.distances
    assert not faces.shape_checking.heated
    faces.shaping.show(key, 1.0)
    settle(faces)
    assert not faces.view.distances


def test_a_face_without_joints_is_shown_in_a_motion_that_was_read(faces: Window) -> None:
    card, playing = faces.rig_card, faces.playing
    key = new(faces, "Smile")
    assert card.moving.isHidden()
    at, value = np.array([0.0, 1.0]), np.array([[0, 0, 0], [1.0, 0, 0]])
    keys = Keys.of([(Track(DIAL, key), at, value)])
    bring_motions(faces.studio.project, [kept_motion("Talk", head(faces).id, keys)], "Import")
    settle(faces)
    assert not card.moving.isHidden()
    assert card.rest.isHidden()
    playing.choose(playing.kept()[0].id)
    before = head(faces).mesh.positions.copy()
    playing.scrub(0.9)
    settle(faces)
    assert playing.shown
    shown = head(faces).mesh.positions.copy()
    assert not np.array_equal(shown, before)
    run(faces, "rig.keep-frame")
    assert held(faces)["Smile"].dial == pytest.approx(0.9)
    assert np.abs(head(faces).mesh.positions - shown).max() < 1e-3
    run(faces, "edit.undo")
    playing.scrub(0.9)
    # Another dial ends the motion.
    faces.shaping.show(key, 0.2)
    assert not playing.shown
    faces.shaping.stop()
    assert np.array_equal(head(faces).mesh.positions, before)


def test_pairs_are_mended_at_once_and_checked_again(faces: Window) -> None:
    eye = Part("Eye", make_ball(12.0, 8), transform=Transform((0.0, 0.0, 118.0)))
    faces.studio.take(Project(Scene((Part("Head", make_ball()), eye))))
    project = faces.studio.project
    for name in ("One", "Other"):
        project.choose(eye.id)
        project.choose_also(head(faces).id)
        faces.shaping.add(name)
        moves = bump(head(faces), (0.0, 0.0, 100.0), 30.0, 4.0)
        project.move_vertices(head(faces).id, head(faces).mesh.positions + moves, "Stroke")
        run(faces, "shape.record")
        run(faces, "shape.neutral")
    run(faces, "shape.check")
    until(lambda: bool(faces.shape_checking.finds))
    assert {len(one.shapes) for one in faces.shape_checking.finds} == {2}
    faces.shape_checking.choose(0)
    run(faces, "shape.mend-lift")
    assert "Mend pairs corrects them" in said(faces)
    done = steps(faces)
    run(faces, "shape.mend-pairs")
    until(lambda: not faces.shape_checking.finds)
    settle(faces)
    assert steps(faces) == [*done, "Mend pairs of shapes"]
    assert "1 pair mended" in said(faces)
    assert "One + Other" in held(faces)
