"""The card of where a part stands and how large it is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
)
from scipy.spatial.transform import Rotation

from kneten.app.fields.fields import NumberField, labelled
from kneten.app.view.desk import Desk
from kneten.app.work.card import Card
from kneten.app.work.following import follow, hold_of
from kneten.core.arrays import F64
from kneten.core.loose import LooseMesh
from kneten.core.motion import Motion
from kneten.core.placing import reach_along
from kneten.document.blocking import said
from kneten.document.scene import Part
from kneten.formats.space import UNITS

MEANT = {
    "Position": "Where the pivot is; all chosen parts go along",
    "Turn": "How it is turned in the world; all chosen parts turn along, about the pivot in hand",
    "Size": "How far it extends; all chosen parts grow along, about the pivot in hand",
}


class PlaceCard(Card):
    """Where the part in hand stands, how it is turned, how large it is; and the symmetry of strokes."""

    def __init__(self, desk: Desk) -> None:
        studio = desk.studio
        super().__init__("Place", studio)
        self._view = desk.view
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
            label.setToolTip(MEANT[name])
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
        self.space.setAccessibleName("Axes of handles and numbers")
        self.space.setToolTip("Along which axes the handles stand, and positions and sizes are told")
        self.space.activated.connect(self._space_chosen)
        self.column.addWidget(labelled("Axes", self.space))
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
        self.soft = NumberField(
            "Soft range",
            0,
            1e5,
            unit="mm",
            decimals=1,
            tip="Clay of all chosen parts within this distance of the pivot follows less and less; 0: whole parts follow",
        )
        self.soft.changed.connect(self._softened)
        self.column.addWidget(labelled("Soft range", self.soft))
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
        desk.view.camera_changed.connect(self._camera_moved)

    def _field(
        self, name: str, low: float, high: float, settled: Callable[[], None], suffix: str = ""
    ) -> NumberField:
        field = NumberField(name, low, high, unit="" if suffix else "mm", decimals=1, suffix=suffix)
        field.settled.connect(lambda _: settled())
        return field

    def _space_chosen(self) -> None:
        self._studio.preferences.handle_space = self.space.currentData()
        self._studio.scene_changed.emit()

    def _softened(self, value: float) -> None:
        self._studio.soft_reach = value * self._factor()
        self._view.repaint_over()

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
        for field in (*self.place, *self.sizes, self.soft):
            field.unit = project.settings.unit
            # Metres and inches need more places to show the same steps.
            field.decimals = {"mm": 1, "cm": 2, "in": 2, "m": 4}[project.settings.unit]
        self.soft.set_value(self._studio.soft_reach / self._factor())
        if part is None:
            return
        for fields, values in (
            (self.place, self._position(part) / self._factor()),
            (self.turn, part.transform.degrees()),
            (self.sizes, self._size(part) / self._factor()),
        ):
            for field, value in zip(fields, values, strict=True):
                field.set_value(float(value))

    def _camera_moved(self) -> None:
        if self._studio.preferences.handle_space == "view" and self.isVisible():
            self.fill()

    def _position(self, part: Part) -> F64:
        """Where a part's pivot is along the chosen axes, (3,), in millimetres."""
        return np.asarray(self._view.handles.axes(part) @ part.pivot_place())

    def _size(self, part: Part) -> F64:
        """How far a part extends along the chosen axes, (3,), in millimetres."""
        axes = self._view.handles.axes(part) @ part.transform.axes()
        if self._studio.preferences.handle_space == "own" or isinstance(part.mesh, LooseMesh):
            low, high = part.mesh.bounds()
            return np.asarray(np.abs(axes) @ (high - low) * part.transform.scale, np.float64)
        return reach_along(part.mesh, axes) * part.transform.scale

    def _values(self, fields: list[NumberField]) -> F64:
        return np.array([field.value() for field in fields])

    def _follow(self, motion: Motion, name: str) -> bool:
        done = follow(self._studio, self._studio.project.chosen, motion, name)
        self.fill()
        return done

    def _placed(self) -> None:
        part = self._studio.project.active
        if part is not None:
            axes = self._view.handles.axes(part)
            way = (self._values(self.place) * self._factor() - self._position(part)) @ axes
            self._follow(Motion(way=way, pivot=part.pivot_place()), "Move")

    def _turned(self) -> None:
        part = self._studio.project.active
        if part is None:
            return
        x, y, z = (field.value() for field in self.turn)
        wanted = part.transform.with_degrees(x, y, z)
        way = Rotation.from_quat(wanted.turn) * Rotation.from_quat(part.transform.turn).inv()
        project = self._studio.project
        with project.at_once(f"Turn {said(project.chosen)}"):
            if not self._follow(Motion(turn=way.as_rotvec(), pivot=part.pivot_place()), "Turn"):
                return
            now = project.scene.part(part.id)
            if hold_of(self._studio).clay_of(part):
                return
            # What was typed stays as it was typed, and its turn without what rounding adds.
            project.place(part.id, replace(now.transform, turn=wanted.turn, typed=wanted.typed), "Turn")
        self.fill()

    def _sized(self) -> None:
        part = self._studio.project.active
        if part is None:
            return
        now = np.maximum(self._size(part) / self._factor(), 1e-9)
        factors = self._values(self.sizes) / now
        # Numbers are shown with few places: what was not typed is not changed by them.
        factors[np.abs(self._values(self.sizes) - now) <= 1e-9 * now] = 1.0
        if self.even.isChecked():
            factors[:] = factors[int(np.argmax(np.abs(np.log(factors))))]
        x, y, z = (float(f) for f in factors)
        axes = self._view.handles.axes(part)
        self._follow(Motion(factors=(x, y, z), axes=axes, pivot=part.pivot_place()), "Scale")
