"""Small dialogs of blocking."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtWidgets import QCheckBox, QComboBox, QDialog, QVBoxLayout, QWidget

from kneten.app.fields.fields import NumberField, labelled
from kneten.app.work.dialogs import agree_or_not
from kneten.document import rows
from kneten.document.project import Project
from kneten.document.rows import Course
from kneten.document.scene import Part

WAYS = ("Along a line", "In a circle", "Along a guide or strand")

AXES = tuple(f"{whose} {a}" for whose in ("World", "Own") for a in "xyz")

PIVOTS = ("The pivot in hand", "The world's middle")

STANDING = ("Along it", "Up from the clay")


def choice(name: str, words: Sequence[str]) -> QComboBox:
    """A list to choose from."""
    box = QComboBox()
    box.addItems(list(words))
    box.setAccessibleName(name)
    return box


class ArrayDialog(QDialog):
    """How many copies, and where."""

    def __init__(self, parent: QWidget, parts: Sequence[Part], courses: Sequence[Course]) -> None:
        super().__init__(parent)
        self.setWindowTitle("Array")
        self._parts = parts
        self._courses = list(courses)
        column = QVBoxLayout(self)
        self.way = choice("Way of the array", WAYS if courses else WAYS[:2])
        column.addWidget(labelled("Way", self.way))
        self.count = NumberField("Count", 2, 500)
        self.count.set_value(5)
        column.addWidget(labelled("Parts in all", self.count))
        low = np.min([p.bounds()[0] for p in parts], axis=0)
        high = np.max([p.bounds()[1] for p in parts], axis=0)
        self.steps = [NumberField(f"Step {a}", -1e5, 1e5, unit="mm", decimals=1) for a in "xyz"]
        self.steps[0].set_value(float(high[0] - low[0]) * 1.1)
        self.steps[1].set_value(0)
        self.steps[2].set_value(0)
        self.line = labelled("Step x y z", *self.steps)
        column.addWidget(self.line)
        self.angle = NumberField("Angle", -360, 360, suffix="°")
        self.angle.set_value(360)
        self.axis = choice("Axis of the circle", AXES)
        self.axis.setCurrentIndex(1)
        self.pivot = choice("Middle of the circle", PIVOTS)
        self.pivot.setCurrentIndex(1)
        self.circle = labelled("Angle, axis", self.angle, self.axis)
        self.about = labelled("About", self.pivot)
        column.addWidget(self.circle)
        column.addWidget(self.about)
        self.course = choice("Guide or strand to follow", [course.name for course in self._courses])
        self.standing = choice("How the parts stand", STANDING)
        self.along = labelled("Follows", self.course)
        self.stands = labelled("Parts stand", self.standing)
        column.addWidget(self.along)
        column.addWidget(self.stands)
        self.linked = QCheckBox("Linked: copies follow each other's strokes")
        column.addWidget(self.linked)
        column.addWidget(agree_or_not(self))
        self.way.currentIndexChanged.connect(self._show)
        self._show()

    def _show(self) -> None:
        way = self.way.currentIndex()
        for row, at in ((self.line, 0), (self.circle, 1), (self.about, 1), (self.along, 2), (self.stands, 2)):
            row.setVisible(way == at)
        self.adjustSize()

    def make(self, project: Project) -> None:
        """Make the array, as one undo step."""
        count, linked = round(self.count.value()), self.linked.isChecked()
        way = self.way.currentIndex()
        first = self._parts[0]
        if way == 0:
            step = np.array([field.value() for field in self.steps])
            rows.along_line(project, self._parts, count, step, linked)
        elif way == 1:
            number = self.axis.currentIndex()
            axis = first.transform.axes()[:, number - 3] if number > 2 else np.eye(3)[number]
            pivot = np.zeros(3) if self.pivot.currentIndex() else first.pivot_place()
            rows.around(project, self._parts, count, self.angle.value(), axis, pivot, linked)
        else:
            course = self._courses[self.course.currentIndex()]
            standing = self.standing.currentIndex() == 1
            rows.along_path(project, self._parts, count, course, linked, standing)
