"""Room for the clay: how much of the window it gets, what is at hand, and what one is in."""

from __future__ import annotations

import itertools

import pytest
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QEnterEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kneten.app.fields.theme import THEMES
from kneten.app.shell.card_column import MOST, WANTED
from kneten.app.shell.rack import LEAST
from kneten.app.shell.stages import CARDS, STAGES
from kneten.app.shell.window import Window
from kneten.app.shell.wishes import DesktopWishes, Wishes, text_scale
from tests.app.windows import NONE, drag, middle, run, said, settle, steps

SHIFT = Qt.KeyboardModifier.ShiftModifier


def share(window: Window) -> float:
    view = window.view
    return view.width() * view.height() / (window.width() * window.height())


def test_the_clay_gets_most_of_the_window(window: Window) -> None:
    for stage in STAGES:
        window.resize(1280, 800)
        window.choose_stage(stage)
        QApplication.processEvents()
        small = share(window)
        assert small >= 0.62
        window.resize(2560, 1440)
        QApplication.processEvents()
        assert share(window) > small


def test_a_rack_has_nothing_to_scroll_and_nothing_cut_off(window: Window) -> None:
    for stage, size in itertools.product(STAGES, ((1280, 800), (960, 620))):
        window.resize(*size)
        window.choose_stage(stage)
        # A scroll area learns of its contents' size by events of its own.
        for _ in range(4):
            QApplication.processEvents()
        assert window.rack.verticalScrollBar().maximum() == 0
        assert window.rack.verticalScrollBarPolicy() == Qt.ScrollBarPolicy.ScrollBarAlwaysOff
        for button in window.rack.buttons.values():
            assert button.height() >= LEAST
            assert button.fontMetrics().horizontalAdvance(button.text()) <= button.width()
            assert button.iconSize().height() + button.fontMetrics().height() <= button.height()


# -- cards --------------------------------------------------------------------------------------


def test_a_stage_puts_few_cards_at_hand_and_all_others_are_one_press_away(window: Window) -> None:
    side = window.side
    for stage in STAGES:
        window.choose_stage(stage)
        assert len(side.kept()) <= MOST
        assert [t for t, card in window.cards.items() if not card.isHidden()] == [
            t for t in window.cards if t in side.shown
        ]
        side.list.aboutToShow.emit()
        listed = {action.text(): action.isChecked() for action in side.list.actions() if action.isCheckable()}
        assert set(listed) == set(window.cards)
        assert {title for title, on in listed.items() if on} == set(side.kept())


def test_cards_are_kept_on_demand_for_one_stage(window: Window) -> None:
    side = window.side
    window.choose_stage("Form")
    side.list.aboutToShow.emit()
    action = next(a for a in side.list.actions() if a.text() == "Peel")
    action.trigger()
    assert "Peel" in side.kept()
    assert not window.peel_card.isHidden()
    window.choose_stage("Block")
    assert "Peel" not in side.shown
    assert window.peel_card.isHidden()
    window.choose_stage("Form")
    assert "Peel" in side.shown
    assert window.studio.preferences.cards == {"Form": [*CARDS["Form"], "Peel"]}
    side.keep("Peel", False)
    assert window.studio.preferences.cards == {}
    side.keep("Parts", False)
    side.reset()
    assert tuple(side.kept()) == CARDS["Form"]


def test_the_finder_brings_every_card(window: Window) -> None:
    window.choose_stage("Gather")
    for title, card in window.cards.items():
        key = f"card.{title.lower().replace(' ', '-')}"
        assert window.registry.commands[key] in window.registry.search(title.lower())
        window.registry.run(key)
        QApplication.processEvents()
        assert card.isVisible()
        assert card.body.isVisible()
    # It was only a visit.
    window.choose_stage("Form")
    window.choose_stage("Gather")
    assert window.side.shown == list(CARDS["Gather"])


def test_what_a_tool_needs_comes_to_the_top_and_goes_again(window: Window) -> None:
    assert set(WANTED) <= set(window.registry.commands)
    before = window.side.shown
    run(window, "tool.refine")
    assert window.side.shown[0] == "Density"
    run(window, "parts.move")
    assert window.side.shown[0] == "Place"
    run(window, "tool.raise")
    assert window.side.shown == before


# -- what am I in -------------------------------------------------------------------------------


def chips(window: Window) -> list[str]:
    return [button.text().removesuffix("✕").strip() for button in window.states.buttons]


def test_states_are_shown_with_their_way_out(window: Window) -> None:
    assert chips(window) == []
    assert not window.states.isVisible()
    entered = {
        "parts.move": "Moving parts",
        "mask.lasso": "Mask with lasso",
        "view.mirror": "Mirrored picture",
        "view.squint": "Half-closed eyes",
        "look.isolate": "Alone",
        "layer.add": "Recording Layer",
    }
    for key, text in entered.items():
        run(window, key)
        assert text in chips(window), key
        assert window.states.isVisible()
        place = chips(window).index(text)
        assert window.states.buttons[place].width() > 20
        window.states.buttons[place].click()
        settle(window)
        assert text not in chips(window), key
    run(window, "density.live")
    assert "levels or layers" in said(window)
    run(window, "edit.undo")
    run(window, "edit.undo")
    run(window, "density.live")
    assert chips(window) == ["Live density"]
    window.states.buttons[0].click()
    settle(window)
    assert chips(window) == []


def test_hidden_clay_is_told_and_shown_again_from_its_chip(window: Window) -> None:
    x, y = middle(window)
    run(window, "region.lasso-hide")
    drag(window, [(x - 40, y - 40), (x + 40, y - 40), (x + 40, y + 40), (x - 40, y + 40), (x - 40, y - 40)])
    settle(window)
    run(window, "tool.raise")
    assert window.studio.project.scene.parts[0].mesh.hidden is not None
    assert chips(window) == ["Clay hidden"]
    window.states.buttons[0].click()
    settle(window)
    assert chips(window) == []


def test_chips_lie_over_no_panes_label(window: Window) -> None:
    run(window, "view.four")
    run(window, "parts.move")
    settle(window)
    bottom = window.states.geometry().bottom()
    for pane in window.view.panes:
        label = pane.y + pane.high - 32
        assert label > bottom or pane.x > window.chip.geometry().right()
    assert window.chip.geometry().bottom() < window.states.geometry().top() + 2


# -- the strip ----------------------------------------------------------------------------------


def pointed(window: Window, inside: bool) -> None:
    strip = window.strip
    at = QPointF(40, 10)
    if inside:
        QApplication.sendEvent(strip, QEnterEvent(at, at, QPointF(strip.mapToGlobal(at.toPoint()))))
    else:
        QApplication.sendEvent(strip, QEvent(QEvent.Type.Leave))


def test_the_strip_opens_when_pointed_at_and_closes_again(window: Window) -> None:
    strip = window.strip
    before = window.view.height()
    assert strip.height() == strip.HEIGHT
    assert not strip.panel.isVisible()
    pointed(window, True)
    QTest.qWait(350)
    assert strip.panel.isVisible()
    assert window.view.height() == before
    pointed(window, False)
    QTest.qWait(700)
    assert not strip.panel.isVisible()
    # Passing over it does nothing.
    pointed(window, True)
    pointed(window, False)
    QTest.qWait(300)
    assert not strip.panel.isVisible()


def test_a_pinned_strip_stays_and_takes_its_room(window: Window) -> None:
    strip = window.strip
    before = window.view.height()
    strip.pin.setChecked(True)
    QApplication.processEvents()
    assert strip.panel.isVisible()
    assert window.view.height() == before - strip.panel.HEIGHT
    assert window.studio.preferences.strip_pinned
    strip.toggle.click()
    QApplication.processEvents()
    assert window.view.height() == before
    assert not window.studio.preferences.strip_pinned


def test_the_strip_says_the_last_step_and_what_a_milestone_is(window: Window) -> None:
    window.strip.toggle.click()
    QApplication.processEvents()
    assert window.strip.none.isVisible()
    x, y = middle(window)
    drag(window, [(x, y), (x + 30, y)])
    settle(window)
    assert window.strip.now.text() == "Raise on Ball"
    assert steps(window) == ["Raise on Ball"]


# -- the desktop's wishes -----------------------------------------------------------------------


class Desktop(DesktopWishes):
    """A desktop that wishes what a test wants."""

    def __init__(self) -> None:
        super().__init__(lambda: 1.0)
        self.wishes = Wishes("porcelain", True, 1.3)

    def read(self) -> Wishes:
        return self.wishes


def test_the_desktops_wishes_are_followed_until_one_chooses(window: Window) -> None:
    desktop = Desktop()
    held = window.studio.preferences
    held.still = False
    window.follow(desktop)
    assert window.theme is THEMES["porcelain"]
    assert held.still
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    assert app.font().pixelSize() == 17
    desktop.wishes = Wishes("kiln", False, 1.0)
    desktop.changed.emit()
    assert window.theme is THEMES["kiln"]
    assert not held.still
    run(window, "view.theme")
    assert not held.follow_desktop
    desktop.wishes = Wishes("kiln", True, 1.5)
    desktop.changed.emit()
    assert window.theme is THEMES["porcelain"]
    assert held.text_scale == 1.0
    run(window, "edit.preferences")
    assert not window.setup.follow.isChecked()
    window.setup.follow.setChecked(True)
    assert window.theme is THEMES["kiln"]
    assert held.text_scale == 1.5
    window.setup.follow.setChecked(False)
    held.text_scale, held.still = 1.0, True
    window.dress(THEMES["kiln"])


def test_what_this_desktop_wishes_can_be_read(window: Window) -> None:
    found = DesktopWishes().read()
    assert found.theme in ("", "kiln", "porcelain")
    assert 1.0 <= found.text <= 1.5
    assert text_scale() == found.text


PANELS = ("shortcuts", "setup", "pen", "welcome", "overview", "library_panel")


@pytest.mark.parametrize("name", PANELS)
def test_tab_stays_in_a_panel_and_escape_closes_it(window: Window, name: str) -> None:
    panel = getattr(window, name)
    panel.open()
    settle(window)
    seen = set()
    for forward in (True, False):
        for _ in range(30):
            QTest.keyClick(window.focusWidget() or panel, Qt.Key.Key_Tab, NONE if forward else SHIFT)
            now = window.focusWidget()
            assert now is not None
            assert panel.isAncestorOf(now), now
            seen.add(now)
    # From any place in it at most two of them: the first may end what is being typed.
    for place in seen:
        if not panel.isVisible():
            panel.open()
        place.setFocus()
        for _ in range(2):
            if panel.isVisible():
                QTest.keyClick(window.focusWidget() or window, Qt.Key.Key_Escape)
        assert not panel.isVisible(), place


def test_escape_ends_the_tour(window: Window) -> None:
    window.tour.start()
    assert window.tour.card.isVisible()
    QTest.keyClick(window.view, Qt.Key.Key_Escape)
    assert window.tour.at == -1
    assert not window.tour.card.isVisible()


def test_notices_leave_or_stay_as_wished(window: Window) -> None:
    for wished in (False, True):
        window.setup.stay.setChecked(wished)
        assert window.studio.preferences.notices_stay == wished
        window.studio.say(f"Something happened, {wished}.")
        window.studio.say("Something is wrong.", "error")
    assert [notice.stays for notice in window.notices.notices] == [False, True, True]


def test_a_stage_says_at_its_first_visit_what_it_is_for(window: Window) -> None:
    window.choose_stage("Deliver")
    settle(window)
    assert window.side.words.isVisible()
    assert "each looked through" in window.side.words.text()
    window.choose_stage("Net")
    window.choose_stage("Deliver")
    settle(window)
    assert not window.side.words.isVisible()
    assert {"Net", "Deliver"} <= set(window.studio.preferences.visited)


TRADE = {
    "lod": "game.set", "boolean": "join.subtract", "voxels": "density.remesh", "blendshape": "shape.record",
    "retopo": "net.retopologise", "watertight": "print.body", "supports": "print.overhang", "screenshot": "file.still",
    "low poly": "net.model", "skelet": "rig.pose",
}  # fmt: skip


def test_words_of_the_trade_find_what_has_another_name(window: Window) -> None:
    for typed, key in TRADE.items():
        found = [command.key for command in window.registry.search(typed)]
        assert key in found, typed


def test_what_synonyms_stand_for_is_there(window: Window) -> None:
    from kneten.app.work.synonyms import SYNONYMS

    texts = [f"{one.name} {one.place} {one.does}".lower() for one in window.registry.commands.values()]
    for word, others in SYNONYMS.items():
        assert any(other in text for other in others for text in texts), word
