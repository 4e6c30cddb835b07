"""Fields for what is done to a press's picture before it is laid."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from kneten.app.fields.fields import CurveField, NumberField, labelled
from kneten.core.falloff import Points
from kneten.core.press_edits import Edits


class EditFields(QWidget):
    """Levels, zero, curve, blur, edge, turn and mirror.

    Signals
    -------
    changed(Edits)
        While dragging, too.
    """

    changed = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self._edits = Edits()
        self._showing = False
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        title = QLabel("Its picture, which stays as it came")
        title.setObjectName("quiet")
        column.addWidget(title)
        self.low = self._number("Lowest level", "low", "What is darker is as low as this")
        self.high = self._number("Highest level", "high", "What is lighter is as high as this")
        column.addWidget(labelled("Levels", self.low, self.high))
        self.zero = self._number(
            "Zero", "zero", "The level that leaves the clay where it is: darker sinks in, lighter stands out"
        )
        column.addWidget(labelled("Zero", self.zero))
        self.curve = CurveField(
            "Heights", "From dark to light (left to right): how high it stands; drag the points", False
        )
        self.curve.setFixedHeight(64)
        self.curve.changed.connect(self._curve)
        column.addWidget(self.curve)
        self.blur = NumberField(
            "Blur", 0, 20, suffix="%", decimals=1, curve=2, tip="Softens it, over so much of its width"
        )
        self.blur.changed.connect(lambda v: self._set(blur=v))
        self.fade = self._number("Edge fade", "fade", "How far in from its edge it begins to rise")
        column.addWidget(labelled("Blur, edge", self.blur, self.fade))
        row = QHBoxLayout()
        self.checks: dict[str, QCheckBox] = {}
        for text, field, tip in (
            ("Invert", "invert", "What stood out sinks in"),
            ("Mirror", "mirror", "Turns it over, left to right"),
            ("Tile", "tile", "Lets its edges pass into each other, so that it goes on"),
        ):
            box = QCheckBox(text)
            box.setAccessibleName(f"{text} the press")
            box.setToolTip(tip)
            box.toggled.connect(lambda on, field=field: self._set(**{field: on}))
            self.checks[field] = box
            row.addWidget(box)
        self.turn = QPushButton("Turn")
        self.turn.setToolTip("Turns it by a quarter to the left")
        self.turn.setAccessibleName("Turn the press by a quarter")
        self.turn.clicked.connect(lambda: self._set(turn=(self._edits.turn + 90) % 360))
        row.addWidget(self.turn)
        column.addLayout(row)

    def _number(self, name: str, field: str, tip: str) -> NumberField:
        box = NumberField(name, 0, 100, suffix="%", tip=tip)
        box.changed.connect(lambda v: self._set(**{field: v / 100}))
        return box

    def _curve(self, points: Points) -> None:
        self._set(curve=points)

    def _set(self, **values: Any) -> None:
        if not self._showing:
            self._edits = replace(self._edits, **values)
            self.changed.emit(self._edits)

    def show_edits(self, edits: Edits, tiles: bool) -> None:
        """Show other edits; a picture that goes on at its edges anyway need not be made to."""
        self._showing = True
        self._edits = edits
        self.low.set_value(edits.low * 100)
        self.high.set_value(edits.high * 100)
        self.zero.set_value(edits.zero * 100)
        self.curve.set_points(edits.curve)
        self.blur.set_value(edits.blur)
        self.fade.set_value(edits.fade * 100)
        for field, box in self.checks.items():
            box.setChecked(bool(getattr(edits, field)))
        self.checks["tile"].setEnabled(not tiles)
        self._showing = False
