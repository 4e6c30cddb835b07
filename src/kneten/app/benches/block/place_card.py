"""The card of where a part stands and how large it is."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
)

from kneten.app.fields.fields import NumberField, labelled
from kneten.app.work.commands import Registry
from kneten.app.work.studio import Studio
from kneten.formats.exchange import UNITS

if TYPE_CHECKING:
    pass


from kneten.app.work.card import Card


class PlaceCard(Card):
    """Where the part in hand stands, how it is turned, how large it is; and the symmetry of strokes."""

    def __init__(self, studio: Studio, registry: Registry) -> None:
        super().__init__("Place", studio)
        self.unit = QComboBox()
        self.unit.addItems(list(UNITS))
        self.unit.setAccessibleName("Unit")
        self.unit.setToolTip("Unit in which lengths are shown")
        self.unit.activated.connect(self._unit_chosen)
        self.column.addWidget(labelled("Unit", self.unit))
        far = 1e6
        self.place = [self._field(f"Position {a}", -far, far, self._placed) for a in "xyz"]
        self.turn = [self._field(f"Turn {a}", -360, 360, self._turned, "°") for a in "xyz"]
        self.sizes = [self._field(f"Size {a}", 1e-4, far, self._sized) for a in "xyz"]
        for name, fields in (("Position", self.place), ("Turn", self.turn), ("Size", self.sizes)):
            label = QLabel(f"{name}  x  y  z")
            label.setObjectName("quiet")
            self.column.addWidget(label)
            line = QHBoxLayout()
            line.setSpacing(4)
            for field in fields:
                line.addWidget(field)
            self.column.addLayout(line)
        self.space = QComboBox()
        for key, name in (("world", "World axes"), ("own", "Own axes"), ("view", "View axes")):
            self.space.addItem(name, key)
        self.space.setCurrentIndex(self.space.findData(studio.preferences.handle_space))
        self.space.setAccessibleName("Axes of the handles")
        self.space.setToolTip("Along which axes the handles stand")
        self.space.activated.connect(self._space_chosen)
        self.column.addWidget(labelled("Handles", self.space))
        self.step = NumberField(
            "Step of length",
            0,
            1e4,
            unit="mm",
            decimals=1,
            tip="Handles move in steps of this length; 0: freely",
        )
        self.step.set_value(studio.preferences.snap_length)
        self.step.changed.connect(lambda v: setattr(studio.preferences, "snap_length", v))
        self.angle = NumberField(
            "Step of angle",
            0,
            90,
            suffix="°",
            decimals=1,
            tip="Handles turn in steps of this angle; 0: freely",
        )
        self.angle.set_value(studio.preferences.snap_angle)
        self.angle.changed.connect(lambda v: setattr(studio.preferences, "snap_angle", v))
        self.column.addWidget(labelled("Steps", self.step, self.angle))
        self.even = QCheckBox("Keep proportions")
        self.even.setChecked(True)
        self.even.setAccessibleName("Keep proportions")
        self.even.setToolTip(
            "A changed size changes the other two along; otherwise it is kneaded into the clay"
        )
        self.column.addWidget(self.even)
        studio.scene_changed.connect(self.fill)
        studio.clay_changed.connect(self.fill)
        studio.hand_released.connect(self.fill)

    def _field(
        self, name: str, low: float, high: float, settled: Callable[[], None], suffix: str = ""
    ) -> NumberField:
        field = NumberField(name, low, high, unit="" if suffix else "mm", decimals=1, suffix=suffix)
        field.settled.connect(lambda _: settled())
        return field

    def _space_chosen(self) -> None:
        self._studio.preferences.handle_space = self.space.currentData()
        self._studio.scene_changed.emit()

    def _factor(self) -> float:
        return UNITS[self._studio.project.settings.unit]

    def _unit_chosen(self) -> None:
        self._studio.project.change_settings(unit=self.unit.currentText())
        self.fill()

    def fill(self) -> None:
        """Show the part in hand."""
        project = self._studio.project
        part = project.active
        self.unit.setCurrentText(project.settings.unit)
        for field in (*self.place, *self.turn, *self.sizes):
            field.setEnabled(part is not None)
        for field in (*self.place, *self.sizes):
            field.unit = project.settings.unit
            # Metres and inches need more places to show the same steps.
            field.decimals = {"mm": 1, "cm": 2, "in": 2, "m": 4}[project.settings.unit]
        if part is None:
            return
        low, high = part.mesh.bounds()
        size = (high - low) * part.transform.scale / self._factor()
        for fields, values in (
            (self.place, np.array(part.transform.place) / self._factor()),
            (self.turn, part.transform.degrees()),
            (self.sizes, size),
        ):
            for field, value in zip(fields, values, strict=True):
                field.set_value(float(value))

    def _placed(self) -> None:
        part = self._studio.project.active
        if part is not None:
            x, y, z = (field.value() * self._factor() for field in self.place)
            way = np.array([x, y, z]) - np.array(part.transform.place)
            self._studio.project.place(part.id, part.transform.moved(way), "Move")

    def _turned(self) -> None:
        part = self._studio.project.active
        if part is not None:
            x, y, z = (field.value() for field in self.turn)
            self._studio.project.place(part.id, part.transform.with_degrees(x, y, z), "Turn")

    def _sized(self) -> None:
        part = self._studio.project.active
        if part is None:
            return
        low, high = part.mesh.bounds()
        now = np.maximum((high - low) * part.transform.scale / self._factor(), 1e-9)
        wanted = np.array([field.value() for field in self.sizes])
        factors = wanted / now
        if self.even.isChecked():
            factors[:] = factors[int(np.argmax(np.abs(np.log(factors))))]
        x, y, z = (float(f) for f in factors)
        self._studio.project.resize(part.id, (x, y, z))
