"""Symmetry: of what planes and axes strokes have twins, how far the clay is from it, and making it so again."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QToolButton

from kneten.app.fields.fields import NumberField, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

SPACES = {
    "part": ("Part", "The part's own planes and axes"),
    "world": ("World", "The planes and axes of the scene"),
    "shape": ("Shape", "Twins across X by the shape of the mesh: for posed figures"),
}


class SymmetryCard(Card):
    """The symmetry of strokes and of the part in hand."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Symmetry", desk.studio)
        self._desk = desk
        registry = desk.registry
        row = QHBoxLayout()
        row.setSpacing(4)
        self.mirrors = []
        for axis, name in enumerate("XYZ"):
            button = QToolButton()
            button.setObjectName("toggle")
            button.setText(name)
            button.setCheckable(True)
            button.setAccessibleName(f"Symmetry across {name}")
            button.setToolTip(registry.tip(registry.commands[f"form.symmetry-{name.lower()}"]))
            button.clicked.connect(lambda _=False, n=name: registry.run(f"form.symmetry-{n.lower()}"))
            row.addWidget(button)
            self.mirrors.append((axis, button))
        self.column.addLayout(row)
        self.space = QComboBox()
        self.space.setAccessibleName("Planes of the symmetry")
        self.space.setToolTip("Planes of the symmetry")
        self.space.setMinimumContentsLength(8)
        for key, (name, does) in SPACES.items():
            self.space.addItem(name, key)
            self.space.setItemData(self.space.count() - 1, does, 3)
        self.space.activated.connect(lambda _: desk.symmetry_work.by(str(self.space.currentData())))
        self.column.addWidget(labelled("Planes of", self.space))
        self.axis = QComboBox()
        self.axis.setAccessibleName("Axis of the radial symmetry")
        self.axis.setToolTip("Axis of the radial symmetry")
        for axis, name in enumerate("XYZ"):
            self.axis.addItem(name, axis)
        self.axis.activated.connect(lambda _: self._radial())
        self.count = NumberField(
            "Repeats all round", 1, 64, tip="Strokes repeated about the axis; 1 for none"
        )
        self.count.changed.connect(lambda _: self._radial())
        self.column.addWidget(labelled("All round", self.axis, self.count))
        self.soft = NumberField(
            "Soft seam", 0, 100, unit="mm", decimals=1, tip="Within this of the plane both sides run together"
        )
        self.column.addWidget(labelled("Soft seam", self.soft))
        entries = (
            ("symmetry.check", "Check"), ("symmetry.right", "+ to −"), ("symmetry.left", "− to +"),
            ("symmetry.mean", "Mean"), ("symmetry.cut-right", "New + to −"), ("symmetry.cut-left", "New − to +"),
        )  # fmt: skip
        self.column.addLayout(command_grid(registry, entries)[0])
        desk.studio.project_changed.connect(self.fill)
        desk.studio.scene_changed.connect(self.fill)

    def _radial(self) -> None:
        self._studio.project.change_settings(radial=(int(self.axis.currentData()), round(self.count.value())))
        self._desk.fill_chip()
        self._desk.view.hover_again()

    def fill(self) -> None:
        """Show what is on."""
        held = self._studio.project.settings
        for axis, button in self.mirrors:
            button.setChecked(held.symmetry[axis])
            button.setEnabled(held.symmetry_space != "shape")
        self.space.setCurrentIndex(self.space.findData(held.symmetry_space))
        self.axis.setCurrentIndex(held.radial[0])
        self.count.set_value(held.radial[1])
        for field in (self.axis, self.count):
            field.setEnabled(held.symmetry_space != "shape")
