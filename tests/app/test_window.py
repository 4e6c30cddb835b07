"""The real window: press, drag, release, and what becomes of the clay, the undo list, the picture."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QColor, QMouseEvent, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMenu, QWidget
from pytestqt.qtbot import QtBot

from kneten.app.fields.fields import CurveField, NumberField
from kneten.app.fields.theme import THEMES
from kneten.app.shell.stages import STAGES
from kneten.app.shell.window import Window
from kneten.app.work import dialogs
from kneten.app.work.preferences import Preferences, load_preferences, save_preferences
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.symmetry import exactly_symmetric
from kneten.core.transform import Transform
from kneten.core.warm import OPENING, STROKE
from kneten.document.project import Project
from kneten.document.project_file import open_project
from kneten.document.recovery import left_journals
from kneten.document.scene import Part, Scene
from kneten.render.style import ALL_EFFECTS
from tests.app.windows import (
    LEFT,
    NONE,
    answer_dialogs,
    clay,
    drag,
    middle,
    picture,
    send,
    settle,
    small_view,
    tablet,
    until,
)
from tests.conftest import make_ball
from tests.long import some


def motley(positions: np.ndarray) -> np.ndarray:
    """Colours that are nowhere even, (n, 4)."""
    codes = 128 + 100 * np.sin(positions / 9.0)
    return np.concatenate([codes, np.full((len(codes), 1), 255)], axis=1).astype(np.uint8)


@pytest.mark.parametrize("key", some([key for key, tool in TOOLS.items() if not tool.density], 5))
def test_a_stroke_changes_clay_undo_list_and_its_rectangle(window: Window, key: str) -> None:
    x, y = middle(window)
    # On a machine that is busy with something else, effects would be left out between two pictures.
    window.view.set_effects(ALL_EFFECTS)
    window.registry.run(f"tool.{key}")
    if TOOLS[key].presses:
        # On a machine that has never had it the press is made first, aside.
        window.studio.presses.made(window.studio.settings().tip.press)
    kept = 0
    if key == "restore":
        window.registry.run("edit.milestone")
        settle(window)
        kept = 1
    if key in ("smooth", "flatten", "pinch", "shave", "span", "burnish", "restore", "slide"):
        part = window.studio.project.scene.parts[0]
        part.mesh.positions[:, 2] += np.random.default_rng(0).normal(0, 0.8, part.mesh.n_vertices)
        part.mesh.refresh_all()
        window.studio.project.change_settings(symmetry=(False, False, False))
        window.view.refresh()
    if TOOLS[key].changes == "paint":
        part = window.studio.project.scene.parts[0]
        part.mesh.colour = motley(part.mesh.positions)
        window.view.refresh()
    window.studio.set_brush(size=30.0)
    before, old = clay(window).copy(), picture(window)
    drag(window, [(x + 40, y - 20), (x + 90, y + 30)])
    after, new = clay(window).copy(), picture(window)
    assert window.studio.project.history.names()[0][kept:] == [f"{TOOLS[key].name} on Ball"]
    if TOOLS[key].changes == "paint":
        assert np.array_equal(after, before)
        assert (new != old).any(axis=2).sum() > 40
        window.registry.run("edit.undo")
        mesh = window.studio.project.active.mesh
        assert np.array_equal(mesh.colour, motley(mesh.positions))
        return
    if TOOLS[key].changes:
        assert getattr(window.studio.project.active.mesh, TOOLS[key].changes).any()
        assert np.array_equal(after, before)
        window.registry.run("edit.undo")
        assert getattr(window.studio.project.active.mesh, TOOLS[key].changes) is None
        return
    assert not np.array_equal(after, before)
    changed = (new != old).any(axis=2)
    rows, columns = np.nonzero(changed)
    assert changed.sum() > 40
    # The stroke and its mirror image, the ring's radius and the light's reach around them.
    reach = 120 if TOOLS[key].holds else 60
    assert rows.min() > y - 20 - reach
    assert rows.max() < y + 30 + reach
    assert columns.min() > x - 90 - reach
    assert columns.max() < x + 90 + reach
    window.view.refresh()
    off = np.argwhere(np.abs(picture(window) - new).max(axis=2) > 6)
    assert len(off) == 0, (
        f"{len(off)} pixels from {off.min(axis=0)} to {off.max(axis=0)} were not drawn again"
    )
    window.registry.run("edit.undo")
    assert np.array_equal(clay(window), before)
    assert np.abs(picture(window) - old).max() <= 6
    window.registry.run("edit.redo")
    assert np.array_equal(clay(window), after)


def test_symmetry_mirrors_the_stroke(window: Window) -> None:
    x, y = middle(window)
    window.studio.set_brush(size=30.0)
    drag(window, [(x + 60, y), (x + 90, y + 30)])
    assert exactly_symmetric(clay(window), 0)
    window.registry.run("form.symmetry-x")
    drag(window, [(x + 60, y - 60), (x + 90, y - 80)])
    assert not exactly_symmetric(clay(window), 0)


def test_ctrl_reverses_and_shift_smooths(window: Window) -> None:
    x, y = middle(window)
    window.studio.set_brush(size=40.0)
    front = np.argmax(clay(window)[:, 2])
    drag(window, [(x - 5, y), (x + 5, y)])
    high = clay(window)[front, 2]
    drag(window, [(x - 5, y), (x + 5, y)], keys=Qt.KeyboardModifier.ControlModifier)
    assert clay(window)[front, 2] < high
    drag(window, [(x - 5, y), (x + 5, y)], keys=Qt.KeyboardModifier.ShiftModifier)
    names = window.studio.project.history.names()[0]
    assert names == ["Raise on Ball", "Raise reversed on Ball", "Smooth on Ball"]


def test_escape_takes_a_running_stroke_back(window: Window) -> None:
    x, y = middle(window)
    before, old = clay(window).copy(), picture(window)
    drag(window, [(x, y), (x + 40, y)], release=False)
    assert not np.array_equal(clay(window), before)
    QTest.keyClick(window.view, Qt.Key.Key_Escape)
    assert np.array_equal(clay(window), before)
    assert window.studio.project.history.names() == ([], [])
    assert np.abs(picture(window) - old).max() <= 6


@pytest.mark.parametrize("eraser", [False, True])
def test_pen_pressure_and_eraser(window: Window, eraser: bool) -> None:
    x, y = middle(window)
    window.studio.set_brush(size=40.0, pressure_strength=True)
    heights = []
    front = np.argmax(clay(window)[:, 2])
    for pressure in (0.2, 1.0):
        start = clay(window)[front, 2]
        tablet(window, QEvent.Type.TabletPress, x - 6, y, pressure, eraser)
        for step in range(1, 7):
            tablet(window, QEvent.Type.TabletMove, x - 6 + 2 * step, y, pressure, eraser)
        tablet(window, QEvent.Type.TabletRelease, x + 6, y, pressure, eraser)
        heights.append(float(clay(window)[front, 2] - start))
        window.registry.run("edit.undo")
    assert all(h < 0 for h in heights) if eraser else all(h > 0 for h in heights)
    assert abs(heights[1]) > 3 * abs(heights[0])


def test_camera_by_mouse_and_keys(window: Window) -> None:
    view = window.view
    x, y = middle(window)
    before = view.camera
    drag(window, [(x, y), (x + 80, y + 20)], Qt.MouseButton.RightButton)
    assert view.camera.yaw != before.yaw
    assert view.camera.pitch != before.pitch
    drag(window, [(5, 5), (60, 20)])
    assert view.camera.yaw != before.yaw
    target = view.camera.target
    drag(window, [(x, y), (x + 80, y + 20)], Qt.MouseButton.MiddleButton)
    assert view.camera.target != target
    point = view.part_at(x + 30, y)
    distance = view.camera.distance
    wheel = QWheelEvent(
        QPointF(x + 30, y), view.mapToGlobal(QPointF(x + 30, y)), QPoint(), QPoint(0, 240),
        Qt.MouseButton.NoButton, NONE, Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(view, wheel)
    assert view.camera.distance < distance
    again = view.part_at(x + 30, y)
    assert point is not None
    assert again is not None
    assert again[1] == pytest.approx(point[1], abs=0.5)
    for name in ("front", "back", "left", "right", "top", "bottom"):
        window.registry.run(f"view.{name}")
        assert view.camera == view.camera.seen_from(name)
    window.registry.run("view.lens")
    assert view.camera.orthographic
    assert window.studio.project.history.names() == ([], [])


def test_clicking_a_part_takes_it_in_hand(window: Window) -> None:
    window.registry.run("parts.ball")
    window.views.frame_all()
    settle(window)
    project = window.studio.project
    ball, other = project.scene.parts
    assert project.active_id == other.id
    at = window.view.camera.project(np.zeros((1, 3)), window.view.width(), window.view.height())[0]
    drag(window, [(at[0], at[1]), (at[0] + 1, at[1])])
    assert project.active_id == ball.id
    assert len(project.history.names()[0]) == 1


@pytest.mark.parametrize("mode", ["move", "turn", "scale"])
def test_handles_change_the_part_in_one_step(window: Window, mode: str) -> None:
    view = window.view
    project = window.studio.project
    window.registry.run(f"parts.{mode}")
    part = project.scene.parts[0]
    if mode == "turn":
        ring = view.handles._pixels(view.handles._ring(part, 2))
        # Where no other ring crosses it.
        start, end = ring[4], ring[12]
        handle = 2
    else:
        start = view.handles._pixels(view.handles._ends(part))[0]
        end = start + np.array([40.0, 0.0])
        handle = 0
    assert view.handles.under(part, *start) == handle
    size = part.mesh.bounds()[1][0] - part.mesh.bounds()[0][0]
    drag(window, [tuple(start), tuple(end)])
    now = project.scene.parts[0]
    assert len(project.history.names()[0]) == 1
    if mode == "move":
        assert now.transform.place[0] > 10
        assert now.transform.place[1:] == pytest.approx((0, 0), abs=1e-6)
    elif mode == "turn":
        assert now.transform.degrees()[2] == pytest.approx(45, abs=4)
    else:
        assert now.mesh.bounds()[1][0] - now.mesh.bounds()[0][0] > size * 1.2
    window.registry.run("edit.undo")
    assert project.scene.parts[0].transform == part.transform


def test_place_card_by_number(window: Window) -> None:
    card, project = window.place_card, window.studio.project
    type_in(card.place[0], "1 cm + 5mm")
    assert project.scene.parts[0].transform.place[0] == pytest.approx(15)
    type_in(card.turn[1], "90")
    assert project.scene.parts[0].transform.degrees()[1] == pytest.approx(90)
    type_in(card.sizes[0], "100")
    assert project.scene.parts[0].transform.scale == pytest.approx(0.5, rel=1e-3)
    card.even.setChecked(False)
    type_in(card.sizes[1], "300")
    low, high = project.scene.parts[0].mesh.bounds()
    assert (high - low)[1] / (high - low)[0] == pytest.approx(3, rel=1e-3)
    assert len(project.history.names()[0]) == 4
    type_in(card.sizes[1], "apples")
    assert card.sizes[1].property("bad")
    assert len(project.history.names()[0]) == 4


def type_in(field: NumberField, text: str) -> None:
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)
    QTest.keyClick(field, Qt.Key.Key_Return)
    QApplication.processEvents()


def test_remesh_and_subdivide_on_another_thread(window: Window, qtbot: QtBot) -> None:
    project = window.studio.project
    before = project.scene.parts[0].mesh
    window.side.bring("Density")
    window.density_card.count.set_value(6000)
    window.density_card._lead(True)
    window.density_card.fill()
    qtbot.waitUntil(lambda: "Remeshed: 6\u202f000" in window.density_card.forecast.text())
    window.registry.run("density.remesh")
    # The part rests while it is worked on.
    x, y = middle(window)
    drag(window, [(x, y), (x + 10, y)])
    settle(window)
    assert project.scene.parts[0].mesh.n_vertices == pytest.approx(6000, rel=0.05)
    window.registry.run("density.subdivide")
    settle(window)
    assert project.scene.parts[0].mesh.n_vertices == pytest.approx(24_000, rel=0.05)
    names = [n for n in project.history.names()[0] if "Raise" not in n]
    assert names == ["Remesh Ball", "Subdivide Ball"]
    for _ in project.history.names()[0]:
        window.registry.run("edit.undo")
    assert project.scene.parts[0].mesh is before


def test_long_work_can_be_cancelled(window: Window) -> None:
    part = window.studio.project.scene.parts[0]
    window.studio.remesh_active(0.7)
    job = window.studio.jobs[0]
    notice = window.notices.follow(job)
    assert "Remesh" in notice.text
    job.cancel()
    settle(window)
    assert window.studio.project.scene.parts[0] is part
    assert part.id not in window.studio.locked


def test_fusing_joins_visible_parts(window: Window) -> None:
    window.registry.run("parts.ball")
    project = window.studio.project
    other = project.scene.parts[1]
    project.place(other.id, other.transform.moved(np.array([-80.0, 0, 0])))
    window.registry.run("parts.fuse")
    settle(window)
    assert [p.name for p in project.scene.parts] == ["Ball"]
    assert project.scene.parts[0].bounds()[1][0] > 120
    window.registry.run("edit.undo")
    assert len(project.scene.parts) == 2


def test_save_reopen_and_crash(window: Window, tmp_path: Path) -> None:
    x, y = middle(window)
    drag(window, [(x, y), (x + 30, y)])
    window.registry.run("edit.milestone")
    until(lambda: window.studio.project.scene.milestones)
    window.studio.save_path(tmp_path / "work")
    settle(window)
    saved = tmp_path / "work.kneten"
    assert saved.exists()
    assert not window.studio.project.unsaved
    assert np.array_equal(open_project(saved).scene.parts[0].mesh.positions, clay(window))
    drag(window, [(x, y + 40), (x + 30, y + 40)])
    expected = clay(window).copy()
    assert window.studio.journal is not None
    # As if the process had been killed here.
    (window.studio.journal.folder / "owner").write_text("1 0")
    (left,) = left_journals()
    assert left.changes == 1
    window.offer_left_work()
    until(lambda: any("work of" in n.text and "1 change not saved" in n.text for n in window.notices.notices))
    window.studio.restore_left(left)
    settle(window)
    assert np.array_equal(clay(window), expected)
    assert window.studio.project.path == saved


def test_saving_where_one_cannot_is_said_and_loses_nothing(window: Window, tmp_path: Path) -> None:
    x, y = middle(window)
    drag(window, [(x, y), (x + 30, y)])
    window.studio.save_path(tmp_path / "none" / "work.kneten")
    settle(window)
    assert any("is not there" in n.text for n in window.notices.notices)
    assert window.studio.project.unsaved
    assert window.studio.project.history.names()[0] == ["Raise on Ball"]


def test_bad_imports_change_nothing(window: Window, tmp_path: Path) -> None:
    bad = tmp_path / "bad.obj"
    bad.write_text("v 0 0 0\nf 1 2 3\n")
    scene = window.studio.project.scene
    window.files.open_paths([bad])
    settle(window)
    assert window.studio.project.scene is scene
    assert any("bad.obj" in n.text and n.kind == "error" for n in window.notices.notices)


def test_export_and_import_through_the_window(window: Window, tmp_path: Path) -> None:
    from kneten.formats.space import Space

    window.studio.export_path(tmp_path / "a.obj", list(window.studio.project.scene.parts), Space(), False)
    settle(window)
    window.files.open_paths([tmp_path / "a.obj"])
    settle(window)
    assert [p.name for p in window.studio.project.scene.parts] == ["Ball", "Ball 2"]


def test_export_a_still(window: Window, tmp_path: Path) -> None:
    for name, clear in (("a.png", True), ("b.jpg", False)):
        window.files.export_still(tmp_path / name, 200, 120, clear)
        settle(window)
        with Image.open(tmp_path / name) as image:
            assert image.size == (200, 120)
            assert image.mode == ("RGBA" if clear else "RGB")


def test_milestones_are_shown_and_gone_back_to(window: Window) -> None:
    before = clay(window).copy()
    window.registry.run("edit.milestone")
    until(lambda: window.strip.buttons)
    x, y = middle(window)
    drag(window, [(x, y), (x + 30, y)])
    button = window.strip.buttons[0]
    assert "Milestone 1" in button.accessibleName()
    assert not button.icon().isNull()
    QTest.mouseClick(button, LEFT)
    (menu,) = [m for m in window.findChildren(QMenu) if m.isVisible()]
    next(action for action in menu.actions() if action.text() == "Go back to it").trigger()
    menu.close()
    settle(window)
    assert np.array_equal(clay(window), before)
    window.registry.run("edit.undo")
    assert not np.array_equal(clay(window), before)


def test_clicking_an_undo_step_goes_there(window: Window) -> None:
    x, y = middle(window)
    states = [clay(window).copy()]
    for step in range(3):
        drag(window, [(x, y + 30 * step), (x + 30, y + 30 * step)])
        states.append(clay(window).copy())
    window.strip.switch()
    steps = window.strip.steps
    assert steps.count() == 3
    steps.itemClicked.emit(steps.item(0))
    assert np.array_equal(clay(window), states[1])
    steps.itemClicked.emit(steps.item(2))
    assert np.array_equal(clay(window), states[3])


def test_a_long_stroke_is_shown_while_it_lasts(window: Window) -> None:
    """New changes keep coming before the picture of the last is complete; it must be shown all the same."""
    x, y = middle(window)
    shown = 0

    def count() -> None:
        nonlocal shown
        shown += 1

    window.view.drawn.connect(count)
    drag(window, [(x - 120, y), (x + 120, y), (x, y - 80)], release=False)
    assert shown > 6
    send(window, QEvent.Type.MouseButtonRelease, x, y - 80, LEFT, NONE)


def test_a_large_part_is_brought_in_while_the_window_lives(window: Window) -> None:
    turns = 0

    def tick() -> None:
        nonlocal turns
        turns += 1

    timer = QTimer(window)
    timer.timeout.connect(tick)
    timer.start(0)
    mesh = make_ball(100.0, 160)
    window.studio.project.add_meshes("Add", [("Large", mesh, Transform())])
    window.scene_actions.hide_or_show()
    window.scene_actions.hide_or_show()
    settle(window)
    timer.stop()
    assert turns > 3
    before = picture(window)
    x, y = middle(window)
    drag(window, [(x - 40, y), (x + 40, y)])
    assert (picture(window) != before).any()


def test_finder_runs_commands_by_keyboard(window: Window) -> None:
    window.registry.run("edit.find")
    QTest.keyClicks(window.finder.field, "porcelain")
    assert window.finder.list.count() == 1
    QTest.keyClick(window.finder.field, Qt.Key.Key_Return)
    assert window.theme.name == "Porcelain"
    assert not window.finder.isVisible()


def test_a_question_nobody_answers_does_not_hold_the_tests(window: Window) -> None:
    with pytest.raises(AssertionError, match="nobody"):
        dialogs.ask_sky(window)
    with pytest.raises(AssertionError, match="nobody"):
        dialogs.ask_unsaved(window)


def test_every_command_is_complete_and_runs_or_says_why(
    window: Window, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    shortcuts = set()
    answer_dialogs(monkeypatch)
    monkeypatch.setattr(window.scene_actions, "rename_part", lambda: None)
    small_view(window)
    for key, command in list(window.registry.commands.items()):
        assert command.name
        assert len(command.does) > 8
        assert command.place
        assert command.shortcut not in shortcuts or not command.shortcut
        shortcuts.add(command.shortcut)
        action = window.registry.actions[key]
        assert command.does in action.toolTip()
        # Demos have tests of their own.
        if key not in ("file.quit", "parts.rename") and not key.startswith("file.demo"):
            window.registry.run(key)
            for _ in range(3):
                QApplication.processEvents()
            window.views.stop()
            # Long work of hundreds of commands at once would keep each other waiting.
            end = time.monotonic() + 0.15
            while window.studio.jobs and time.monotonic() < end:
                QApplication.processEvents()
            for job in list(window.studio.jobs):
                job.cancel()
            project = window.studio.project
            if sum(p.mesh.n_vertices for p in project.scene.parts) > 40_000 or len(project.scene.parts) > 3:
                # Copies of copies and whole demos would make every later command slow.
                settle(window)
                project = Project(Scene((Part("Ball", make_ball(100.0, 24)),)))
                window.studio.take(project)
    settle(window)
    assert all(key in window.registry.commands for stage in STAGES.values() for key, _ in stage)


def contrast(a: str, b: str) -> float:
    def light(name: str) -> float:
        c = QColor(name)
        parts = [
            v / 12.92 if v <= 0.04045 else ((v + 0.055) / 1.055) ** 2.4
            for v in (c.redF(), c.greenF(), c.blueF())
        ]
        return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]

    high, low = sorted((light(a), light(b)), reverse=True)
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("name", list(THEMES))
def test_text_can_be_read_in_both_themes(name: str) -> None:
    theme = THEMES[name]
    for ground in (theme.panel, theme.raised, theme.base):
        for ink in (theme.text, theme.quiet, theme.warning, theme.error):
            assert contrast(ink, ground) >= 4.5
    assert contrast(theme.on_accent, theme.accent) >= 4.5
    assert contrast(theme.accent, theme.panel) >= 3


@pytest.mark.parametrize("size", [(1280, 800), (2560, 1440)])
@pytest.mark.parametrize("theme", list(THEMES))
def test_no_text_is_cut_off(window: Window, size: tuple[int, int], theme: str) -> None:
    window.dress(THEMES[theme])
    window.resize(*size)
    for stage in STAGES:
        window.choose_stage(stage)
        QApplication.processEvents()
        assert window.size().width() == size[0]
        assert window.side.widget().width() <= window.side.viewport().width()
        for widget in window.findChildren(QWidget):
            text = getattr(widget, "text", None)
            if not isinstance(text, Callable) or not widget.isVisible() or not text():
                continue
            if isinstance(widget, NumberField):
                needed = widget.fontMetrics().horizontalAdvance(text()) + 18
                assert widget.width() >= needed, (widget.accessibleName(), text())
            elif not getattr(widget, "wordWrap", lambda: False)():
                longest = max(text().splitlines(), key=len)
                assert widget.width() >= widget.fontMetrics().horizontalAdvance(longest), text()


def test_every_control_has_an_accessible_name(window: Window) -> None:
    from PySide6.QtWidgets import QAbstractButton, QComboBox, QLineEdit, QListWidget

    for kind in (QAbstractButton, QLineEdit, QComboBox, QListWidget, CurveField):
        for widget in window.findChildren(kind):
            if widget.parent() and widget.objectName().startswith("qt_"):
                continue
            named = widget.accessibleName() or (isinstance(widget, QAbstractButton) and widget.text())
            assert named, widget


def test_preferences_survive_and_nonsense_does_not_hurt(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("KNETEN_CONFIG", str(tmp_path))
    kept = Preferences(theme="porcelain", folded=["Place"])
    kept.tools["score"] = TOOLS["score"].defaults
    save_preferences(kept)
    assert load_preferences() == kept
    (tmp_path / "preferences.json").write_text('{"theme": 3, "tools": {"score": {"falloff": [[1]]}}}')
    assert load_preferences().theme == "kiln"
    (tmp_path / "preferences.json").write_text("{")
    assert load_preferences() == Preferences()


def test_curve_is_drawn_in_place(window: Window) -> None:
    curve = window.tool_card.falloff
    before = window.studio.settings().falloff
    # Between two of its points: right above one of them there is no room for another.
    at = curve._place((0.62, 0.9)).toPoint()
    QTest.mousePress(curve, LEFT, NONE, at)
    QTest.mouseRelease(curve, LEFT, NONE, at)
    after = window.studio.settings().falloff
    assert len(after) == len(before) + 1
    assert curve._nearest(QPointF(at)) >= 0
    QTest.mouseClick(window.tool_card.presets["flat"], LEFT)
    assert window.studio.settings().falloff != before


def test_numbers_are_dragged_and_typed(window: Window) -> None:
    field = window.tool_card.radius
    start = field.value()
    at = field.rect().center()
    QTest.mousePress(field, LEFT, NONE, at)
    for step in (4, 20, 40):
        move = QMouseEvent(
            QEvent.Type.MouseMove,
            QPointF(at.x() + step, at.y()),
            field.mapToGlobal(QPointF(at)),
            LEFT,
            LEFT,
            NONE,
        )
        QApplication.sendEvent(field, move)
    QTest.mouseRelease(field, LEFT, NONE, at + QPoint(40, 0))
    assert window.studio.settings().size > start
    type_in(field, "2*30")
    assert window.studio.settings().size == 60


def test_number_keys_pick_the_racks_slots(window: Window) -> None:
    def press(number: int) -> None:
        assert window.registry.actions[f"rack.slot-{number}"].shortcut().toString() == str(number)
        window.registry.actions[f"rack.slot-{number}"].trigger()

    for slot, key in enumerate(list(TOOLS)[:9]):
        press(slot + 1)
        assert window.studio.tool.key == key
    window.choose_stage("Block")
    press(2)
    assert window.view.handles.mode == "turn"
    window.choose_stage("Gather")
    press(9)
    assert any("no slot 9" in n.text for n in window.notices.notices)


def test_commands_wait_for_the_kernels(window: Window) -> None:
    window.studio.ready = False
    scene = window.studio.project.scene
    for key in ("parts.ball", "density.subdivide", "file.new"):
        window.registry.run(key)
    assert window.studio.project.scene is scene
    assert any("getting ready" in n.text for n in window.notices.notices)
    x, y = middle(window)
    drag(window, [(x, y), (x + 20, y)])
    assert window.studio.project.history.names() == ([], [])


def test_nothing_runs_out_of_references(window: Window) -> None:
    import sys

    before = sys.getrefcount(None)
    x, y = middle(window)
    for step in range(10):
        drag(window, [(x, y + step), (x + 20, y + step)])
    settle(window)
    assert sys.getrefcount(None) > before / 2
    assert sys.getrefcount(None) > 1 << 40 or sys.version_info >= (3, 12)


def test_viewport_alone_and_back(window: Window) -> None:
    window.registry.run("view.alone")
    assert not window.rack.isVisible()
    assert not window.strip.isVisible()
    window.registry.run("view.alone")
    assert window.rack.isVisible()


def test_the_demo_opens(window: Window) -> None:
    window.files.open_demo("tarns-head")
    settle(window)
    names = [p.name for p in window.studio.project.scene.parts]
    assert names == ["Tarn", "Eye right", "Eye left"]
    assert 140_000 < window.studio.project.scene.parts[0].mesh.n_vertices < 160_000
    assert exactly_symmetric(window.studio.project.scene.parts[0].mesh.positions, 0)
    assert window.studio.project.path is None
    window.files.open_demo("tarn-forms")
    settle(window)
    project = window.studio.project
    assert [p.name for p in project.scene.parts] == ["Tarn", "Hand left", "Hand right", "Eyes"]
    assert project.scene.guides


def test_a_first_stroke_waits_for_its_own_kernels_only(window: Window) -> None:
    x, y = middle(window)
    studio = window.studio
    studio.warm = set()
    assert not studio.ready
    drag(window, [(x, y), (x + 30, y)])
    assert studio.project.history.names()[0] == []
    ran = []
    window.when_ready(lambda: ran.append("stroke"))
    window.when_ready(lambda: ran.append("opening"), OPENING)
    studio.warm |= STROKE
    window._run_what_can()
    assert ran == ["stroke"]
    assert studio.ready
    assert not studio.all_ready
    drag(window, [(x, y), (x + 30, y)])
    settle(window)
    assert studio.project.history.names()[0] == ["Raise on Ball"]
    window.registry.run("tool.score")
    drag(window, [(x, y + 60), (x + 30, y + 60)])
    assert any("Score is still getting ready" in n.text for n in window.notices.notices)
    window.registry.run("density.remesh")
    assert any("try again in a moment" in n.text for n in window.notices.notices)
    window.registry.run("look.matcap")
    assert studio.project.settings.look.kind == "matcap"
    studio.ready = True
    window._run_what_can()
    assert ran == ["stroke", "opening"]
    drag(window, [(x, y + 60), (x + 30, y + 60)])
    settle(window)
    assert studio.project.history.names()[0][-1] == "Score on Ball"


def test_leaving_during_the_first_start_compiles_nothing_here(
    window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("kneten.app.shell.window.warmed", lambda: False)
    compiled = []
    monkeypatch.setattr("kneten.app.shell.window.warm_here", lambda *a, **k: compiled.append(a))
    window.prepare()
    assert window._kernels is not None
    assert window._kernels.waitForStarted(5000)
    window.close()
    QApplication.processEvents()
    assert compiled == []
