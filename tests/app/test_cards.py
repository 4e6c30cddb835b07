"""Cards: made when they are first asked for, and showing what is whenever they are seen."""

from __future__ import annotations

import time

from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QApplication,
    QComboBox,
    QLabel,
    QLineEdit,
    QPushButton,
    QSlider,
    QTreeWidget,
    QWidget,
)

from kneten.app.fields.fields import Words
from kneten.app.shell.stages import CARDS, STAGES
from kneten.app.shell.window import Window
from kneten.app.work.card import Card
from tests.app.windows import drag, middle, run, settle


def told(card: Card) -> list[tuple[str, str, object]]:
    """What a card shows, widget by widget."""
    lines: list[tuple[str, str, object]] = []
    for widget in card.body.findChildren(QWidget):
        if not widget.isVisibleTo(card) or isinstance(widget.parentWidget(), QAbstractItemView):
            continue
        kind, name = type(widget).__name__, widget.accessibleName()
        if isinstance(widget, QLabel):
            lines.append((kind, name, widget.text()))
        elif isinstance(widget, QAbstractButton):
            lines.append((kind, name, (widget.text(), widget.isChecked(), widget.isEnabled())))
        elif isinstance(widget, QComboBox):
            items = [widget.itemText(k) for k in range(widget.count())]
            lines.append((kind, name, (items, widget.currentIndex())))
        elif isinstance(widget, QLineEdit):
            lines.append((kind, name, (widget.text(), widget.isEnabled())))
        elif isinstance(widget, QSlider):
            lines.append((kind, name, (widget.value(), widget.maximum())))
        elif isinstance(widget, QTreeWidget):
            lines.append((kind, name, widget.topLevelItemCount()))
    return lines


def seen(window: Window, title: str) -> list[tuple[str, str, object]]:
    """What a card tells once it is before the user and at rest."""
    window.side.bring(title)
    settle(window)
    card = window.cards[title]
    # Some gather what happens for a moment before they look.
    soon = getattr(card, "_soon", None) or getattr(card, "soon", None)
    if soon is not None:
        soon.stop()
        card.fill()
    # Others have it worked out beside.
    found: list[list[tuple[str, str, object]]] = []
    while (
        len(found) < 5
        or any(one != found[-1] for one in found[-5:])
        or (title == "Carry over" and card._asked_for is not None)
    ):
        settle(window)
        found.append(told(card))
        time.sleep(0.02)
    return found[-1]


def test_only_the_cards_that_are_seen_are_made(window: Window) -> None:
    made = set(window.cards.made)
    assert set(CARDS["Form"]) <= made
    assert len(made) < len(window.cards) / 3
    assert set(window.cards) > made
    window.choose_stage("Show")
    assert set(CARDS["Show"]) <= set(window.cards.made)


def test_a_card_is_made_once_and_hidden_until_it_is_wanted(window: Window) -> None:
    card = window.net_card
    assert card is window.net_card is window.cards["Net"]
    assert not card.isVisible()
    window.choose_stage("Net")
    settle(window)
    assert card.isVisible()
    assert window.card_open("net_card")
    assert not window.card_open("fur_card")
    assert "Fur" not in window.cards.made


def test_filling_a_card_does_not_make_it(window: Window) -> None:
    window.fill_card("trip_card")
    assert "Round trip" not in window.cards.made


def test_a_card_shows_what_is_as_soon_as_it_is_seen(window: Window) -> None:
    window.choose_stage("Net")
    settle(window)
    assert window.net_card.says.text() == window.modelling.words() != ""


def test_cards_made_late_tell_what_those_made_early_tell(window: Window) -> None:
    for title in window.cards:
        window.cards[title]
    x, y = middle(window)
    window.choose_tool("mask")
    drag(window, [(x - 60, y), (x + 60, y + 20)])
    for key in (
        "region.from-mask", "mask.blur", "layer.add", "light.set-three", "camera.add",
        "grain.add", "measure.skull", "copy.copy", "live.sphere", "parts.group", "look.next",
    ):  # fmt: skip
        run(window, key)
    for stage in STAGES:
        window.choose_stage(stage)
    window.choose_stage("Form")
    window.choose_tool("pinch")
    early = {title: seen(window, title) for title in window.cards}
    # Back to where none had been asked for.
    for card in window.cards.made.values():
        card.hide()
        card.setParent(None)
    olds = dict(window.cards.made)
    window.cards.made.clear()
    late = {title: seen(window, title) for title in window.cards}
    assert not olds.keys() - window.cards.made.keys()
    different = {
        title: [one for one in early[title] + late[title] if (one in early[title]) != (one in late[title])]
        for title in early
        if early[title] != late[title]
    }
    for card in olds.values():
        card.deleteLater()
    assert not different


def test_other_words_on_a_card_squeeze_nothing(window: Window) -> None:
    long = "words that need more than one line where a card is as narrow as all cards are, and then some more"
    tried = 0
    for stage in STAGES:
        window.choose_stage(stage)
        for title in CARDS[stage]:
            card = window.cards[title]
            card.head.setChecked(True)
            QApplication.processEvents()
            for words in card.findChildren(Words):
                if not words.isVisible():
                    continue
                for text in ("short", long, long + long, "short"):
                    words.setText(text)
                    QApplication.processEvents()
                    assert words.height() >= words.heightForWidth(words.width()), title
                    for button in card.findChildren(QPushButton):
                        assert not button.isVisible() or button.height() >= button.minimumSizeHint().height(), (title, button.text())  # fmt: skip
                    tried += 1
    assert tried > 40
