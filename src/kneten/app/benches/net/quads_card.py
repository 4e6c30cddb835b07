"""The card of quads: how many, where they are denser, which lines they keep to."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QCheckBox, QGridLayout, QPushButton

from kneten.app.fields.fields import NumberField, Words, choice, labelled, switch
from kneten.app.fields.quantities import count_text
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.core.quads.retopologise import FEWEST, MOST, QuadWish
from kneten.core.topology import MeshError

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

PLACES = {
    "own": ("A part of its own", "The quads become a part beside the old one, which is hidden"),
    "place": ("In its place", "The part in hand gets the quads instead of its clay"),
}


USUAL = 10_000
"""Quads one is offered."""


class QuadsCard(Card):
    """How the part in hand is retopologised."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Quads", desk.studio)
        self._desk = desk
        self._soon = QTimer(self, singleShot=True, interval=200)
        self._soon.timeout.connect(self.fill)
        self.count = NumberField("Quads", FEWEST, MOST, decimals=0, tip="How many quads; 10k is fine too")
        self.count.set_value(USUAL)
        self.round = NumberField(
            "Denser where round", 0, 100, unit="%", decimals=0, tip="How much smaller quads get where the form is rounder; 0: all alike"
        )  # fmt: skip
        self.round.set_value(50)
        self.masked = NumberField(
            "Denser where masked", 0, 300, unit="%", decimals=0, tip="How much denser the edges lie where the mask is: paint it where detail is wanted"
        )  # fmt: skip
        for field in (self.count, self.round, self.masked):
            field.changed.connect(lambda _: self._soon.start())
        self.column.addWidget(labelled("Quads", self.count))
        self.column.addWidget(labelled("By form", self.round))
        self.column.addWidget(labelled("By mask", self.masked))
        grid = QGridLayout()
        grid.setSpacing(4)
        self.symmetric = self._check(grid, 0, "Symmetric", "Both sides are exactly alike, made from the one on the left of the picture's front: where x is above 0", False)  # fmt: skip
        self.guides = self._check(grid, 1, "Along guides", "Edges run along the guides on the part", True)
        self.regions = self._check(grid, 2, "Region borders", "Regions are bounded by loops of edges", True)
        self.sharp = self._check(grid, 3, "Sharp edges", "Sharp edges of the clay stay sharp: for things that were built, not for skin", False)  # fmt: skip
        self.with_form = self._check(grid, 4, "Carry the form", "Levels are added that have the old part's form, layers, colour and masks; otherwise only the cage is made", True)  # fmt: skip
        self.symmetric.toggled.connect(lambda _: self._soon.start())
        self.column.addLayout(grid)
        self.where = choice("Where the quads go", "Whether they become a part of their own", PLACES)
        self.column.addWidget(labelled("Becomes", self.where))
        self.says = Words()
        self.column.addWidget(self.says)
        self.button = QPushButton("Retopologise")
        self.button.setObjectName("primary")
        command = desk.registry.commands["net.retopologise"]
        self.button.setAccessibleName(command.name)
        self.button.setToolTip(desk.registry.tip(command))
        self.button.clicked.connect(lambda: desk.registry.run("net.retopologise"))
        self.column.addWidget(self.button)
        rows, _ = command_grid(desk.registry, (("net.flow", "Flow"), ("net.poles", "Poles")), columns=2)
        self.column.addLayout(rows)
        self._asked = 0
        for signal in (desk.studio.scene_changed, desk.studio.project_changed, desk.retopologising.changed):
            signal.connect(self._soon.start)
        self.head.toggled.connect(lambda _: self._soon.start())

    def _check(self, grid: QGridLayout, at: int, name: str, tip: str, on: bool) -> QCheckBox:
        box = switch("Quads", name, tip, on)
        grid.addWidget(box, at // 2, at % 2)
        return box

    def wish(self) -> QuadWish:
        """What the card says, without guides."""
        return QuadWish(
            int(self.count.value()),
            0 if self.symmetric.isChecked() else None,
            self.round.value() / 100,
            self.masked.value() / 100,
            self.sharp.isChecked(),
            self.regions.isChecked(),
        )

    def fill(self) -> None:
        """Say how long edges will be, and what the last quads were like."""
        studio = self._studio
        part = studio.project.active
        self.button.setEnabled(part is not None)
        if part is None or not studio.all_ready or not self.body.isVisible():
            self.says.setText("")
            return
        self._asked += 1
        asked, count = self._asked, int(self.count.value())

        def look() -> str:
            try:
                edge = studio.forecast(part, None, count).edge
            except MeshError as error:
                return str(error)
            return f"{count_text(count)} quads with edges of {edge:.2g} mm in the mean"

        def show(text: str) -> None:
            if asked == self._asked:
                last = self._desk.retopologising.told
                told = [text, f"Last: {last}"] if last else [text]
                if studio.project.settings.symmetry[0] and not self.symmetric.isChecked():
                    told.append("Symmetry is on: tick Symmetric to have both sides alike")
                self.says.setText(". ".join(told) + ".")

        studio.aside(look, show)
