"""Small dialogs of blocking."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtWidgets import QCheckBox, QComboBox, QDialog, QDialogButtonBox, QVBoxLayout, QWidget

from kneten.app.fields.fields import NumberField, labelled
from kneten.core.live.strand import Strands
from kneten.document import blocking
from kneten.document.project import Project
from kneten.document.scene import Part

WAYS = ("Along a line", "In a circle", "Along a strand")


class ArrayDialog(QDialog):
    """How many copies, and where."""

    def __init__(self, parent: QWidget, parts: Sequence[Part], paths: Sequence[Part]) -> None:
        super().__init__(parent)
        self.setWindowTitle("Array")
        self._parts = parts
        self._paths = list(paths)
        column = QVBoxLayout(self)
        self.way = QComboBox()
        self.way.addItems(WAYS if paths else WAYS[:2])
        self.way.setAccessibleName("Way of the array")
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
        self.axis = QComboBox()
        self.axis.addItems(["x", "y", "z"])
        self.axis.setCurrentIndex(1)
        self.axis.setAccessibleName("Axis of the circle")
        self.circle = labelled("Angle, axis", self.angle, self.axis)
        column.addWidget(self.circle)
        self.path = QComboBox()
        self.path.addItems([p.name for p in self._paths])
        self.path.setAccessibleName("Strand to follow")
        self.along = labelled("Strand", self.path)
        column.addWidget(self.along)
        self.linked = QCheckBox("Linked: copies follow each other's strokes")
        column.addWidget(self.linked)
        buttons = QDialogButtonBox(
            QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel
        )
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)
        self.way.currentIndexChanged.connect(self._show)
        self._show()

    def _show(self) -> None:
        way = self.way.currentIndex()
        self.line.setVisible(way == 0)
        self.circle.setVisible(way == 1)
        self.along.setVisible(way == 2)
        self.adjustSize()

    def make(self, project: Project) -> None:
        """Make the array, as one undo step. The circle goes around the world's axis."""
        count, linked = round(self.count.value()), self.linked.isChecked()
        way = self.way.currentIndex()
        if way == 0:
            step = np.array([field.value() for field in self.steps])
            blocking.along_line(project, self._parts, count, step, linked)
        elif way == 1:
            axis = np.eye(3)[self.axis.currentIndex()]
            blocking.around(project, self._parts, count, self.angle.value(), axis, np.zeros(3), linked)
        else:
            part = self._paths[self.path.currentIndex()]
            assert isinstance(part.recipe, Strands)
            strand = part.recipe.strands[0]
            path = part.transform.to_scene(part.recipe.path(strand)[0])
            blocking.along_path(project, self._parts, count, path, strand.closed, linked)
