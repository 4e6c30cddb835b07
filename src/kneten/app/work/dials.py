"""A card of numbers that are dragged and settled, all about one thing in hand."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Protocol

from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QWidget

from kneten.app.fields.fields import NumberField, choice
from kneten.app.work.card import Card
from kneten.app.work.studio import Studio


class Named(Protocol):
    """What a list shows: a layer, a fur."""

    @property
    def id(self) -> str:
        """Its name that no other has."""

    @property
    def name(self) -> str:
        """What it is called."""


class DialCard(Card):
    """Numbers, switches and choices for the fields of a frozen thing.

    Attributes
    ----------
    numbers, switches, choices : dict
        By the names of the fields that they are for.
    """

    def __init__(self, title: str, studio: Studio, of: str) -> None:
        super().__init__(title, studio)
        self._of = of
        self._showing = False
        self.numbers: dict[str, NumberField] = {}
        self.switches: dict[str, QCheckBox] = {}
        self.choices: dict[str, QComboBox] = {}

    # -- what those who are cards of something say ----------------------------------------------

    def dial(self, **traits: object) -> None:
        """Show what is in hand with other values while one is dragged."""

    def change(self, **traits: object) -> None:
        """Give what is in hand other values."""

    def unit_scale(self) -> float:
        """Millimetres of the scene to one of what is in hand."""
        part = self._studio.project.active
        return part.transform.scale if part is not None else 1.0

    # -- making fields --------------------------------------------------------------------------

    def number(
        self, field: str, name: str, low: float, high: float, unit: str, tip: str, curve: float = 1
    ) -> NumberField:
        """A number: mm are of the scene; % stand for shares; without a unit, and as degrees, it is whole."""
        box = NumberField(
            f"{name} of the {self._of}",
            low,
            high,
            unit=unit if unit == "mm" else "",
            suffix=unit if unit != "mm" else "",
            decimals=2 if unit == "mm" else 0,
            curve=curve,
            tip=tip,
        )
        box.changed.connect(lambda value: self._turned(field, value, False))
        box.settled.connect(lambda value: self._turned(field, value, True))
        self.numbers[field] = box
        return box

    def switch(self, field: str, text: str, tip: str) -> QCheckBox:
        """Something that is on or off."""
        box = QCheckBox(text)
        box.setToolTip(tip)
        box.setAccessibleName(text)
        box.toggled.connect(lambda on: self._picked(field, on))
        self.switches[field] = box
        return box

    def pick(self, field: str, name: str, tip: str, words: Mapping[str, tuple[str, str]]) -> QComboBox:
        """One of several words."""
        box = choice(name, tip, dict(words))
        box.activated.connect(lambda _: self._picked(field, str(box.currentData())))
        self.choices[field] = box
        return box

    # -- turning them ---------------------------------------------------------------------------

    def told(self, field: str, value: float) -> float | int:
        """A number as the thing has it."""
        box = self.numbers[field]
        if box.suffix == "%":
            return value / 100
        if box.suffix == "":
            return value / self.unit_scale() if box.unit == "mm" else round(value)
        return value

    def _turned(self, field: str, value: float, settled: bool) -> None:
        if not self._showing:
            (self.change if settled else self.dial)(**{field: self.told(field, value)})

    def _picked(self, field: str, value: object) -> None:
        if not self._showing:
            self.change(**{field: value})

    def list_things(self, box: QComboBox, things: Sequence[Named]) -> None:
        """Put the names of things into a list, the newest first; left alone while they are the same."""
        known = [(one.name, one.id) for one in reversed(things)]
        if known != [(box.itemText(k), box.itemData(k)) for k in range(box.count())]:
            box.clear()
            for name, key in known:
                box.addItem(name, key)

    def show_fields(self, thing: object) -> None:
        """Fill in all fields that a thing has."""
        for field, box in self.numbers.items():
            if not hasattr(thing, field):
                continue
            value = float(getattr(thing, field))
            if box.suffix == "%":
                value *= 100
            elif box.unit == "mm":
                value *= self.unit_scale()
            box.set_value(value)
        for field, switch in self.switches.items():
            if hasattr(thing, field):
                switch.setChecked(bool(getattr(thing, field)))
        for field, picked in self.choices.items():
            if hasattr(thing, field):
                picked.setCurrentIndex(picked.findData(getattr(thing, field)))


def beside(*widgets: QWidget) -> QWidget:
    """Widgets in one row."""
    row = QWidget()
    line = QHBoxLayout(row)
    line.setContentsMargins(0, 0, 0, 0)
    for widget in widgets:
        line.addWidget(widget)
    return row
