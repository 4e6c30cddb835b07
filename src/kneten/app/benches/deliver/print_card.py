"""The card of a print: how large, of what, how thick; what the check found; layers."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QLabel, QPushButton, QSlider

from kneten.app.benches.deliver.slice_view import SliceView
from kneten.app.fields.fields import NumberField, Words, choice, labelled
from kneten.app.fields.quantities import count_text, number_text
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.core.printing.numbers import MATERIALS

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

SIZES = {
    "asis": ("As it stands", "A millimetre of clay is one of the print"),
    "height": ("By height", "All that is visible together is so high"),
    "ratio": ("By scale", "One of so many: 6 for a sixth"),
}


class PrintCard(Card):
    """How the print is to be, and what is known of it."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Print", desk.studio)
        self._desk = desk
        self._printing = desk.printing
        self._soon = QTimer(self, singleShot=True, interval=150)
        self._soon.timeout.connect(self.fill)
        self.sizing = choice("Size of the print", "How large it becomes", SIZES)
        self.sizing.activated.connect(lambda _: self._printing.change(sizing=str(self.sizing.currentData())))
        self.column.addWidget(labelled("Size", self.sizing))
        self.tall = self._number("Height of the print", 1, 5000, "mm", 1, "height", "How high all of it is")
        self.ratio = self._number("Scale of the print", 0.01, 1000, "", 2, "ratio", "One of so many")
        self._height_row = labelled("Height", self.tall)
        self._ratio_row = labelled("1 :", self.ratio)
        self.column.addWidget(self._height_row)
        self.column.addWidget(self._ratio_row)
        stuffs = {
            key: (name, f"{density:g} g in each cubic centimetre")
            for key, (name, density) in MATERIALS.items()
        }
        self.material = choice("Material of the print", "What it weighs", stuffs)
        self.material.activated.connect(
            lambda _: self._printing.change(material=str(self.material.currentData()))
        )
        self.column.addWidget(labelled("Material", self.material))
        self.price = self._number(
            "Price of a cubic centimetre", 0, 1000, "", 2, "price", "Of a cubic centimetre, in your money"
        )
        self.thinnest = self._number("Least thickness", 0.05, 50, "mm", 2, "thinnest", "Thinner walls break")
        self.angle = self._number(
            "Overhang", 0, 89, "°", 0, "angle", "Farther from upright, it needs supports"
        )
        self.layer = self._number("Layer", 0.01, 5, "mm", 3, "layer", "How thick each layer is laid")
        self.column.addWidget(labelled("Price, cm³", self.price))
        self.column.addWidget(labelled("Thinnest", self.thinnest))
        self.column.addWidget(labelled("Overhang", self.angle))
        self.says = Words()
        self.column.addWidget(self.says)
        rows, _ = command_grid(
            desk.registry,
            (("print.thin", "Walls"), ("print.overhang", "Overhangs"), ("print.thicken", "Thicken"), ("print.check", "Check")),
            columns=2,
        )  # fmt: skip
        self.column.addLayout(rows)
        self.column.addWidget(labelled("Layer", self.layer))
        self.slice = SliceView()
        self.slice.stepped.connect(lambda step: self._printing.show_layer(self._printing.layer + step))
        self.column.addWidget(self.slice)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setAccessibleName("Which layer")
        self.slider.setToolTip("From the plate to the top")
        self.slider.valueChanged.connect(self._slid)
        self.column.addWidget(self.slider)
        self.which = QLabel()
        self.which.setObjectName("quiet")
        self.column.addWidget(self.which)
        self.button = QPushButton("Print set…")
        self.button.setObjectName("primary")
        command = desk.registry.commands["print.set"]
        self.button.setAccessibleName(command.name)
        self.button.setToolTip(desk.registry.tip(command))
        self.button.clicked.connect(lambda: desk.registry.run("print.set"))
        self.column.addWidget(self.button)
        for signal in (desk.studio.scene_changed, desk.studio.project_changed, self._printing.changed):
            signal.connect(self._soon.start)
        self.head.toggled.connect(lambda _: self._soon.start())
        self.fill()

    def _number(
        self, name: str, low: float, high: float, unit: str, decimals: int, key: str, tip: str
    ) -> NumberField:
        field = NumberField(name, low, high, unit=unit, decimals=decimals, curve=2.0, tip=tip)
        field.settled.connect(lambda value: self._printing.change(**{key: value}))
        return field

    def _slid(self, value: int) -> None:
        if value != self._printing.layer:
            self._printing.show_layer(value)

    def showEvent(self, event: QShowEvent) -> None:  # noqa: N802
        self._soon.start()
        super().showEvent(event)

    def fill(self) -> None:
        """Say what is asked for and what is known."""
        wish = self._printing.wish
        for box, key in ((self.sizing, wish.sizing), (self.material, wish.material)):
            box.setCurrentIndex(box.findData(key))
        self.tall.set_value(wish.height)
        for name in ("ratio", "price", "thinnest", "angle", "layer"):
            getattr(self, name).set_value(getattr(wish, name))
        self._height_row.setVisible(wish.sizing == "height")
        self._ratio_row.setVisible(wish.sizing == "ratio")
        if not self.body.isVisible():
            return
        self.says.setText(self._words())
        self._fill_layer()

    def _words(self) -> str:
        found, wish = self._printing.found, self._printing.wish
        if not found:
            return "Check says whether it is closed, thick enough and stands, what it weighs and costs."
        size = np.ptp(
            np.concatenate(
                [[one.mesh.positions.min(axis=0), one.mesh.positions.max(axis=0)] for one in found]
            ),
            axis=0,
        )
        lines = [
            " x ".join(number_text(float(side)) for side in size) + " mm",
            f"{number_text(sum(one.facts.weight for one in found), 4)} g, {number_text(sum(one.price for one in found), 4)} for it",
        ]
        for one in found[:6]:
            words = one.words(wish)
            lines += words or [f"{one.name}: sound, tips at {one.facts.lean:.0f}°"]
        return "\n".join(lines)

    def _fill_layer(self) -> None:
        heights = self._printing.heights()
        count = len(heights)
        self.slider.setEnabled(count > 1)
        self.slider.blockSignals(True)
        self.slider.setRange(0, max(count - 1, 0))
        self.slider.setValue(self._printing.layer)
        self.slider.blockSignals(False)
        if not count:
            self.slice.show_loops([], np.zeros(2), np.ones(2))
            self.which.setText("Check lays its layers.")
            return
        cuts = self._printing.sections()
        box = self._printing.plate()
        loops = [loop[:, [0, 2]] for cut in cuts for loop in cut.loops]
        self.slice.show_loops(loops, *box)
        number = self._printing.layer
        area = sum(cut.area for cut in cuts) / 100
        self.which.setText(f"{count_text(number + 1)} of {count_text(count)} · {number_text(area)} cm²")
