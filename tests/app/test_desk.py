"""The desk around the clay: rack, panels, pen, shortcuts, welcome, tour, running work."""

from __future__ import annotations

import re
import threading
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QMimeData, QPoint, QPointF, Qt
from PySide6.QtGui import QDropEvent, QKeySequence
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QLineEdit,
    QListWidget,
    QProgressBar,
    QPushButton,
    QTreeWidget,
    QWidget,
)

from kneten.app.fields.fields import CurveField, NumberField
from kneten.app.shell.overview import feel_sheet, section
from kneten.app.shell.rack import CARRIED
from kneten.app.shell.tour import STEPS
from kneten.app.shell.window import Window
from kneten.app.work.advisor import Advisor
from kneten.app.work.preferences import PEN_ACTIONS, Preferences, load_preferences, save_preferences
from kneten.core.arrays import Progress
from kneten.core.brushes.toolbox import TOOLS
from kneten.document.preview import preview_of
from kneten.document.project import Project
from kneten.document.project_file import save_project
from tests.app.windows import LEFT, NONE, clay, drag, middle, said, settle, tablet, until


def names_on(window: Window) -> list[str]:
    return list(window.rack.buttons)


# -- rack and tools ---------------------------------------------------------------------------------


def drop(window: Window, key: str, above: int) -> None:
    """Drop a card of the rack above another."""
    words = QMimeData()
    words.setData(CARRIED, key.encode())
    target = list(window.rack.buttons.values())[above]
    at = QPointF(target.mapTo(window.rack.viewport(), QPoint(10, 4)))
    event = QDropEvent(at, Qt.DropAction.MoveAction, words, LEFT, NONE)
    window.rack.dropEvent(event)
    QApplication.processEvents()


def test_the_rack_is_rearranged_by_drag_for_each_stage_and_kept(window: Window) -> None:
    before = names_on(window)
    drop(window, before[4], 0)
    assert names_on(window) == [before[4], *before[:4], *before[5:]]
    # The number keys follow.
    window.registry.run("rack.slot-1")
    assert window.studio.tool.key == before[4].removeprefix("tool.")
    block = [key for key, _ in window.rack_entries()]
    window.choose_stage("Block")
    assert names_on(window) != block
    window.choose_stage("Form")
    assert names_on(window) == block
    save_preferences(window.studio.preferences)
    assert load_preferences().racks["Form"] == block
    window.registry.run("edit.rack")
    assert names_on(window) == before


def test_a_card_dragged_off_the_rack_can_be_put_back(window: Window) -> None:
    before = names_on(window)
    window.take_off_rack("tool.score")
    assert names_on(window) == [key for key in before if key != "tool.score"]
    assert any("off this stage's rack" in n.text for n in window.notices.notices)
    window.put_on_rack("tool.score")
    assert names_on(window)[-1] == "tool.score"


def test_all_tools_are_found_with_their_feel_sheets(window: Window) -> None:
    window.registry.run("edit.tools")
    until(lambda: len(window.overview._known) == len(TOOLS), 120)
    for key, sheet in window.overview.sheets.items():
        assert len(sheet._sheet) == (4 if TOOLS[key].reversed_name else 3)
    window.overview.field.setText("groove")
    shown = [key for key, entry in window.overview.entries.items() if entry.isVisible()]
    assert shown == ["score"]
    button = next(
        b
        for b in window.overview.entries["score"].findChildren(QAbstractButton)
        if b.accessibleName() == "Take Score"
    )
    button.click()
    assert window.studio.tool.key == "score"
    assert not window.overview.isVisible()


@pytest.mark.parametrize("key", list(TOOLS))
def test_feel_sheets_show_what_the_tool_does(window: Window, key: str) -> None:
    tool = TOOLS[key]
    if tool.density:
        sections = [after for _, _, after in feel_sheet(tool)[:3]]
        if tool.density == "grow":
            assert all(len(s) and s[:, 1].max() > 8 for s in sections)
        else:
            counts = [len(s) for s in sections]
            assert counts == sorted(counts, reverse=tool.density == "coarsen")
            assert counts[0] != counts[2]
        return
    heights = [np.abs(after - before).max() for _, before, after in feel_sheet(tool)[:3]]
    assert 0.01 < heights[0] <= heights[1] * 1.05
    # Paint that covers covers fully from the first.
    assert heights[2] > heights[0] or (tool.changes and heights[2] == heights[0])
    if tool.reversed_name and key in ("raise", "inflate", "pellet", "score"):
        (before, up), (_, down) = section(tool, 0.6, False), section(tool, 0.6, True)
        middle_row = len(before) // 2
        assert (up - before)[middle_row, 1] * (down - before)[middle_row, 1] < 0


def test_feel_pad_changes_size_and_strength_in_one_drag(window: Window) -> None:
    x, y = middle(window)
    window.studio.set_brush(size=50.0, strength=0.5)
    before = clay(window).copy()
    view = window.view
    view.setFocus()
    QTest.keyPress(view, Qt.Key.Key_E)
    drag(window, [(x, y), (x + 87, y - 40)], release=False)
    assert view.feel is not None
    assert view.feel.size == pytest.approx(100, rel=0.02)
    drag(window, [(x, y), (x + 87, y - 40)][1:] * 2)
    QTest.keyRelease(view, Qt.Key.Key_E)
    held = window.studio.settings()
    assert held.size == pytest.approx(100, rel=0.02)
    assert held.strength == pytest.approx(0.7, abs=0.01)
    assert view.feel is None
    assert np.array_equal(clay(window), before)


def test_quick_card_by_key_and_arrow(window: Window) -> None:
    x, y = middle(window)
    window.registry.run("tool.pinch")
    drag(window, [(x, y), (x + 20, y)])
    window.registry.run("tool.raise")
    drag(window, [(x, y), (x + 20, y)])
    QTest.keyClick(window, Qt.Key.Key_Q)
    window.registry.run("view.quick-card") if not window.quick.isVisible() else None
    card = window.quick
    assert card.isVisible()
    assert [b.accessibleName() for b in card.tool_buttons[:2]] == ["Raise", "Pinch"]
    assert card.focusWidget() is card.tool_buttons[0]
    QTest.keyClick(card, Qt.Key.Key_Right)
    assert card.focusWidget() is card.tool_buttons[1]
    QTest.keyClick(card, Qt.Key.Key_Return)
    assert window.studio.tool.key == "pinch"
    assert not card.isVisible()


def test_quick_card_undoes_and_sets(window: Window) -> None:
    x, y = middle(window)
    start = clay(window).copy()
    drag(window, [(x, y), (x + 20, y)])
    drag(window, [(x, y + 30), (x + 20, y + 30)])
    window.quick.open(QPoint(600, 400))
    window.quick.radius.set_value(33.0)
    window.quick.radius.changed.emit(33.0)
    assert window.studio.settings().size == 33.0
    assert window.rect().contains(window.quick.geometry())
    window.quick.step_buttons[1].click()
    assert np.array_equal(clay(window), start)


# -- pen --------------------------------------------------------------------------------------------


def test_tilt_widens_the_brush_where_wanted(window: Window) -> None:
    x, y = middle(window)
    window.studio.set_brush(size=40.0, tilt_size=True)
    widths = []
    for tilt in (0.0, 60.0):
        before = clay(window).copy()
        tablet(window, QEvent.Type.TabletPress, x - 4, y, 0.8, tilt=tilt)
        for step in range(1, 6):
            tablet(window, QEvent.Type.TabletMove, x - 4 + 2 * step, y, 0.8, tilt=tilt)
        tablet(window, QEvent.Type.TabletRelease, x + 6, y, 0.8, tilt=tilt)
        moved = np.abs(clay(window) - before).max(axis=1) > 0
        widths.append(np.ptp(before[moved, 1]))
        window.registry.run("edit.undo")
    assert widths[1] > 1.5 * widths[0]


@pytest.mark.parametrize("action", list(PEN_ACTIONS))
def test_pen_buttons_do_what_is_set(window: Window, action: str) -> None:
    x, y = middle(window)
    drag(window, [(x, y), (x + 10, y)])
    window.studio.preferences.pen_buttons["lower"] = action
    camera, before = window.view.camera, clay(window).copy()
    right = Qt.MouseButton.RightButton
    held = LEFT | right if action in ("reverse", "smooth") else right
    button = LEFT if action in ("reverse", "smooth") else right
    tablet(window, QEvent.Type.TabletPress, x, y, 0.7, button=button, held=held)
    for step in range(1, 8):
        tablet(window, QEvent.Type.TabletMove, x + 4 * step, y + step, 0.7, held=held)
    tablet(window, QEvent.Type.TabletRelease, x + 28, y + 7, 0.7, button=button)
    QApplication.processEvents()
    names = window.studio.project.history.names()[0]
    if action in ("turn", "pan", "zoom"):
        assert window.view.camera != camera
        assert np.array_equal(clay(window), before)
    elif action == "reverse":
        assert "reversed" in names[-1]
    elif action == "smooth":
        assert names[-1].startswith("Smooth")
    elif action == "view.quick-card":
        assert window.quick.isVisible()
    elif action == "edit.undo":
        assert names == []
    else:
        assert window.studio.settings().reverse


def test_pen_card_fits_the_curve_to_the_hand(window: Window) -> None:
    window.registry.run("edit.pen")
    pad = window.pen.pad
    for i, pressure in enumerate(np.linspace(0.2, 0.6, 20)):
        kind = QEvent.Type.TabletPress if i == 0 else QEvent.Type.TabletMove
        tablet(window, kind, 20 + 8 * i, 60, float(pressure), target=pad)
    assert len(pad.marks) == 20
    window.pen.fit()
    points = window.studio.settings().pressure_curve
    assert points[1][0] == pytest.approx(0.2, abs=0.01)
    assert points[2] == pytest.approx((0.6, 1.0), abs=0.01)
    window.pen.for_all()
    assert all(window.studio.preferences.settings(key).pressure_curve == points for key in TOOLS)
    pad.clear()
    window.pen.fit()
    assert "light and a firm" in window.pen.told.text()


# -- shortcuts and preferences ----------------------------------------------------------------------


def choose(window: Window, key: str) -> None:
    panel = window.shortcuts
    for i in range(panel.list.topLevelItemCount()):
        item = panel.list.topLevelItem(i)
        assert item is not None
        if item.data(0, Qt.ItemDataRole.UserRole) == key:
            panel.list.setCurrentItem(item)
            return
    raise AssertionError(key)


def test_shortcuts_are_searched_changed_kept_and_reset(window: Window) -> None:
    window.registry.run("edit.shortcuts")
    panel = window.shortcuts
    panel.field.setText("smooth")
    assert 0 < panel.list.topLevelItemCount() < 8
    choose(window, "tool.smooth")
    panel.keys.setKeySequence(QKeySequence("Ctrl+Alt+S"))
    panel._try()
    assert window.registry.shortcut("tool.smooth") == "Ctrl+Alt+S"
    assert window.registry.actions["tool.smooth"].shortcut().toString() == "Ctrl+Alt+S"
    save_preferences(window.studio.preferences)
    assert load_preferences().shortcuts == {"tool.smooth": "Ctrl+Alt+S"}
    panel.reset()
    assert window.registry.shortcut("tool.smooth") == ""


def test_shortcuts_that_clash_are_told_and_not_taken(window: Window) -> None:
    window.registry.run("edit.shortcuts")
    choose(window, "tool.smooth")
    assert not window.shortcuts.change("Ctrl+Z")
    assert "Undo" in window.shortcuts.told.text()
    assert window.registry.shortcut("tool.smooth") == ""
    choose(window, "held.feel")
    assert not window.shortcuts.change("Q")
    assert window.shortcuts.change("Y")
    assert window.studio.preferences.held_keys["feel"] == "Y"
    window.shortcuts.reset_all()
    assert window.studio.preferences.held_keys["feel"] == "E"


def test_shortcuts_from_a_file_that_clash_are_left_out(window: Window) -> None:
    window.registry.set_shortcuts(
        {"tool.pull": "Ctrl+S", "tool.raise": "Alt+1", "gone": "Z", "tool.score": "Shift+Z"}
    )
    assert window.registry.shortcut("tool.pull") == ""
    assert window.registry.shortcut("tool.score") == "Shift+Z"
    assert window.registry.shortcut("file.save") == "Ctrl+S"


def test_shortcuts_are_printed_on_pages(window: Window, tmp_path: Path) -> None:
    window.shortcuts.export(tmp_path / "keys.pdf")
    data = (tmp_path / "keys.pdf").read_bytes()
    assert data.startswith(b"%PDF-")
    assert b"/FontFile2" in data
    # All of them: on more than one page, each of the paper's size.
    boxes = re.findall(rb"/MediaBox \[0 0 ([0-9.]+) ([0-9.]+)\]", data)
    assert {tuple(round(float(side) / 72 * 25.4) for side in box) for box in boxes} == {(210, 297)}
    assert 1 <= data.count(b"/Type /Page\n") + data.count(b"/Type /Page ") <= 6
    window.shortcuts.export(tmp_path / "no" / "keys.pdf")
    assert "is not there" in said(window)


def test_shortcuts_are_exported(window: Window, tmp_path: Path) -> None:
    window.shortcuts.export(tmp_path / "keys.txt")
    text = (tmp_path / "keys.txt").read_text()
    assert "Ctrl+Z" in text
    assert "Undo" in text
    assert "feel size and strength" in text


def test_preferences_take_effect_at_once_and_are_kept(window: Window) -> None:
    window.registry.run("edit.preferences")
    panel = window.setup
    panel.comma.setChecked(True)
    window.side.bring("Place")
    window.place_card.fill()
    assert "," in window.place_card.sizes[0].text()
    panel.comma.setChecked(False)
    panel.theme.setCurrentIndex(panel.theme.findData("porcelain"))
    panel.theme.activated.emit(1)
    assert window.theme.name == "Porcelain"
    panel.pen["upper"].setCurrentIndex(panel.pen["upper"].findData("zoom"))
    panel.pen["upper"].activated.emit(2)
    panel.still.setChecked(False)
    save_preferences(window.studio.preferences)
    again = load_preferences()
    assert (again.theme, again.pen_buttons["upper"], again.still) == ("porcelain", "zoom", False)
    panel.unit.setCurrentIndex(panel.unit.findData("cm"))
    panel.unit.activated.emit(1)
    assert window.studio.project.settings.unit == "cm"


def test_a_damaged_preferences_file_keeps_what_makes_sense(tmp_path: Path) -> None:
    save_preferences(Preferences())
    (file,) = (tmp_path / "config").glob("*.json")
    file.write_text(
        '{"theme": "pink", "effects": 99, "racks": {"Form": ["tool.pull"]}, "pen_buttons": {"lower": "fly"},'
        ' "recent": 7, "held_keys": {"feel": "B", "other": "C"}, "tools": {"raise": {"size": "wide"}}}'
    )
    found = load_preferences()
    assert found.theme == "kiln"
    assert found.effects == 3
    assert found.racks == {"Form": ["tool.pull"]}
    assert found.pen_buttons["lower"] == "turn"
    assert found.held_keys == {"pan": "Space", "feel": "B", "lamp": "L"}
    assert found.recent == []
    assert found.tools == {}
    file.write_text("[1, 2]")
    assert load_preferences() == Preferences()


# -- welcome and tour -------------------------------------------------------------------------------


def test_the_welcome_card_has_room_for_every_demo(window: Window) -> None:
    welcome = window.welcome
    for size in ((1280, 800), (960, 620)):
        window.resize(*size)
        welcome.open()
        settle(window)
        for button in welcome.begin.values():
            left = button.mapTo(welcome, button.rect().topLeft()).x()
            assert left >= 0, button.accessibleName()
            assert left + button.width() <= welcome.width(), button.accessibleName()
        welcome.leave()


def test_welcome_card_lists_recent_files_with_pictures(window: Window, tmp_path: Path) -> None:
    for name in ("one", "two"):
        save_project(Project.with_ball(), tmp_path / f"{name}.kneten", window.files.view_picture(96, 60)())
    window.studio.preferences.recent = [str(tmp_path / f"{n}.kneten") for n in ("one", "gone", "two")]
    assert preview_of(tmp_path / "one.kneten").startswith(b"\x89PNG")
    assert preview_of(tmp_path / "gone.kneten") == b""
    window.registry.run("edit.welcome")
    assert [b.accessibleName() for b in window.welcome.recent] == ["Open one", "Open two"]
    until(lambda: not window.welcome.recent[1].icon().isNull())
    window.welcome.recent[1].click()
    settle(window)
    assert window.studio.project.path == tmp_path / "two.kneten"
    assert not window.welcome.isVisible()
    assert window.studio.preferences.welcomed


def test_the_tour_waits_until_each_step_is_really_done(window: Window) -> None:
    window.registry.run("edit.tour")
    tour = window.tour
    assert tour.card.isVisible()
    x, y = middle(window)

    def goes_on(step: int) -> None:
        tour.look()
        assert tour.at == step, STEPS[min(tour.at, len(STEPS) - 1)].text

    goes_on(0)
    drag(window, [(x, y), (x + 60, y)], Qt.MouseButton.RightButton)
    goes_on(1)
    window.view.set_camera(window.view.camera.zoomed(0.9, np.zeros(3)))
    goes_on(2)
    goes_on(2)
    drag(window, [(x, y), (x + 30, y)])
    goes_on(3)
    drag(window, [(x, y), (x + 30, y)])
    goes_on(3)
    drag(window, [(x, y), (x + 30, y)], keys=Qt.KeyboardModifier.ControlModifier)
    goes_on(4)
    QTest.keyPress(window.view, Qt.Key.Key_E)
    drag(window, [(x, y), (x + 30, y + 10)])
    QTest.keyRelease(window.view, Qt.Key.Key_E)
    goes_on(5)
    drag(window, [(x, y), (x + 30, y)], keys=Qt.KeyboardModifier.ShiftModifier)
    goes_on(6)
    window.registry.run("edit.milestone")
    until(lambda: window.studio.project.scene.milestones)
    goes_on(7)
    window.registry.run("edit.find")
    tour.look()
    assert tour.at == -1
    assert not tour.card.isVisible()


# -- milestones -------------------------------------------------------------------------------------


def test_milestones_are_named_noted_taken_from_and_deleted(
    window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    project = window.studio.project
    assert "no milestone" in window.registry.commands["milestone.wipe"].blocked()
    kept = clay(window).copy()
    window.registry.run("edit.milestone")
    until(lambda: project.scene.milestones)
    monkeypatch.setattr(
        "kneten.app.benches.revise.milestones.QInputDialog.getText", lambda *a, **k: ("Before the nose", True)
    )
    monkeypatch.setattr(
        "kneten.app.benches.revise.milestones.QInputDialog.getMultiLineText", lambda *a, **k: ("calm", True)
    )
    window.registry.run("milestone.rename")
    window.registry.run("milestone.note")
    (milestone,) = project.scene.milestones
    assert (milestone.name, milestone.note) == ("Before the nose", "calm")
    assert "calm" in window.strip.buttons[0].toolTip()
    x, y = middle(window)
    drag(window, [(x + 50, y), (x + 70, y)])
    changed = clay(window).copy()
    assert "masked" in window.registry.commands["milestone.take-masked"].blocked()
    part = project.active
    assert part is not None
    part.mesh.mask = (part.mesh.positions[:, 0] > 0).astype(np.float32)
    window.registry.run("milestone.take-masked")
    settle(window)
    mask = part.mesh.mask > 0
    assert np.abs(clay(window)[mask] - kept[mask]).max() < 1e-4
    assert np.array_equal(clay(window)[~mask], changed[~mask])
    window.registry.run("edit.undo")
    assert np.array_equal(clay(window), changed)
    window.registry.run("milestone.take-part")
    assert np.array_equal(clay(window), kept)
    window.registry.run("milestone.delete")
    assert project.scene.milestones == ()
    window.registry.run("edit.undo")
    assert project.scene.milestones[0].note == "calm"


def test_clicking_a_milestone_offers_what_can_be_done(window: Window) -> None:
    window.registry.run("edit.milestone")
    until(lambda: window.studio.project.scene.milestones)
    menu = window.milestones.menu(window.studio.project.scene.milestones[0], QPoint(100, 100))
    texts = [action.text() for action in menu.actions()]
    assert texts[0] == "Compare by wipe"
    assert "Go back to it" in texts
    menu.close()


# -- running work -----------------------------------------------------------------------------------


def test_running_work_is_listed_and_can_be_cancelled(window: Window) -> None:
    go_on = threading.Event()
    done = []

    def work(progress: Progress) -> str:
        while not go_on.is_set():
            progress.report(0.5, "Half way")
            go_on.wait(0.01)
        progress.report(0.9)
        return "finished"

    window.studio.start("Long", work, done.append)
    second = window.studio.start("Other", work, done.append)
    assert window.work.isVisible()
    assert window.work.text() == "2 at work"
    window.work.click()
    assert window.work.list.isVisible()
    cancel = next(
        b for b in window.work.list.findChildren(QAbstractButton) if b.accessibleName() == "Cancel Other"
    )
    cancel.click()
    until(lambda: second not in window.studio.jobs)
    until(lambda: window.work.text() == "1 at work")
    go_on.set()
    settle(window)
    assert done == ["finished"]
    until(lambda: not window.work.isVisible())


# -- reach ------------------------------------------------------------------------------------------


CONTROLS = (
    QAbstractButton,
    QLineEdit,
    QComboBox,
    QListWidget,
    QTreeWidget,
    QProgressBar,
    QAbstractSpinBox,
    NumberField,
    CurveField,
)


def test_every_control_of_the_whole_window_has_an_accessible_name_and_a_tooltip(window: Window) -> None:
    window.registry.run("edit.tools")
    for panel in (window.shortcuts, window.setup, window.pen, window.welcome):
        panel.open()
    window.quick.open(QPoint(400, 300))
    window.tour.start()
    window.registry.run("look.matcap")
    seen = 0
    for widget in window.findChildren(QWidget):
        inner = widget.objectName().startswith("qt_") or isinstance(
            widget.parent(), QComboBox | QAbstractSpinBox
        )
        part_of_keys = widget.parent() is window.shortcuts.keys
        if not isinstance(widget, CONTROLS) or inner or part_of_keys:
            continue
        seen += 1
        assert widget.accessibleName() or getattr(widget, "text", str)(), widget
        needs_tip = isinstance(widget, QAbstractButton | QComboBox | NumberField | CurveField)
        assert not needs_tip or widget.toolTip(), (widget, widget.accessibleName())
    assert seen > 120


def test_panels_are_left_by_escape_and_never_block(window: Window) -> None:
    for key, panel in (
        ("edit.shortcuts", window.shortcuts),
        ("edit.preferences", window.setup),
        ("edit.pen", window.pen),
        ("edit.welcome", window.welcome),
    ):
        window.registry.run(key)
        assert panel.isVisible()
        assert window.rect().contains(panel.geometry())
        QTest.keyClick(panel, Qt.Key.Key_Escape)
        assert not panel.isVisible()


@pytest.mark.parametrize("size", [(1280, 800), (3840, 2160)])
def test_panels_fit_in_small_and_large_windows(window: Window, size: tuple[int, int]) -> None:
    window.resize(*size)
    QApplication.processEvents()
    for panel in (window.shortcuts, window.setup, window.pen, window.welcome):
        panel.open()
        for button in panel.findChildren(QAbstractButton):
            assert button.sizeHint().width() <= button.width() + 1 or not button.isVisible(), button.text()
        panel.leave()


def test_notices_leave_room_for_the_clay(window: Window) -> None:
    """Three at a time; what went wrong stays until it is dismissed."""
    board = window.notices
    for notice in list(board.notices):
        notice.leave()
    settle(window)
    board.show("The file is damaged.", "error")
    for number in range(6):
        board.show(f"Something {number}", "warning")
    settle(window)
    assert [notice.text for notice in board.notices] == [
        "The file is damaged.", "Something 3", "Something 4", "Something 5",
    ]  # fmt: skip


@pytest.mark.parametrize("buttons", [0, 1, 3])
def test_a_notice_is_as_high_as_its_words(window: Window, buttons: int) -> None:
    """And none of them is cut off."""
    text = "Press did less than asked: more would fold the clay or lead it through itself. " * 2
    actions = [(f"Do {number}", lambda: None) for number in range(buttons)]
    notice = window.notices.show(text, "warning", actions)
    settle(window)
    label = notice._label
    lines = label.heightForWidth(label.width())
    assert label.height() >= lines
    others = notice.findChildren(QPushButton)
    below = (
        max((one.geometry().bottom() for one in others), default=0)
        if buttons > 2
        else label.geometry().bottom()
    )
    assert notice.height() <= below + 14
    if buttons <= 2:
        assert notice.height() <= max(lines, *(one.height() for one in [*others, notice.close_button])) + 24
    notice.leave()


def test_advice_is_not_given_again_from_level_to_level(window: Window) -> None:
    told: list[str] = []
    window.studio.advised.connect(lambda text, _: told.append(text))
    part = window.studio.project.active
    assert part is not None
    advisor = Advisor(window.studio)
    tool = TOOLS["raise"]
    for number in range(3):
        advisor.before_stroke(replace(part, mesh_id=f"level {number}"), tool, (2.0, 1.0))
    assert len(told) == 1
    # Another tool, or another part, is another matter.
    advisor.before_stroke(part, TOOLS["score"], (1.0, 1.0))
    advisor.before_stroke(replace(part, id="other", mesh_id="other"), tool, (2.0, 1.0))
    assert len(told) == 3
