"""The card of the net: what presses choose, the numbers of what is done, and the buttons that do it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer

from kneten.app.benches.net.modelling import KINDS
from kneten.app.fields.fields import NumberField, Words, choice, labelled, switch
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.core.net.modelling import SHARPEST

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

BUTTONS = (
    ("net.model", "Model"), ("net.strip", "Strips"), ("net.finish", "New base"),
    ("net.extrude", "Extrude"), ("net.inset", "Inset"), ("net.bevel", "Bevel"),
    ("net.loop", "Cut loop"), ("net.bridge", "Bridge"), ("net.fill", "Fill"),
    ("net.face", "Face"), ("net.grow", "Grow row"), ("net.weld", "Weld"),
    ("net.collapse", "Collapse"), ("net.dissolve", "Dissolve"), ("net.split", "Split"),
    ("net.spin", "Spin"), ("net.slide", "Slide"), ("net.flip", "Flip"),
    ("net.relax", "Relax"), ("net.snap", "On clay"), ("net.delete", "Delete"),
    ("net.smooth", "Smooth"), ("net.choose-all", "All"), ("net.poles", "Poles"),
    ("net.choose-loop", "Loops"), ("net.choose-ring", "Rings"), ("net.choose-more", "More"),
    ("net.crease", "Crease"), ("net.choose-creases", "Creases"),
)  # fmt: skip


class NetCard(Card):
    """How a part with few faces is modelled, and nets drawn."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Net", desk.studio)
        self._desk = desk
        self._soon = QTimer(self, singleShot=True, interval=120)
        self._soon.timeout.connect(self.fill)
        self.kind = choice("What is chosen", "What presses in Model choose", KINDS)
        self.kind.setCurrentIndex(self.kind.findData(desk.modelling.kind))
        self.kind.currentIndexChanged.connect(
            lambda _: desk.modelling.take_kind(str(self.kind.currentData()))
        )
        self.column.addWidget(labelled("Choose", self.kind))
        self.distance = NumberField("Distance", -1000, 1000, unit="mm", decimals=2, tip="How far faces are extruded, how wide bevels and grown rows are, how near vertices are welded")  # fmt: skip
        self.distance.set_value(5)
        self.share = NumberField("Share", -95, 95, unit="%", decimals=0, tip="How far faces are inset, where across a row a loop is cut, how far edges slide: below nought to the other side")  # fmt: skip
        self.share.set_value(50)
        self.column.addWidget(labelled("Distance", self.distance))
        self.column.addWidget(labelled("Share", self.share))
        self.crease = NumberField("Crease", 0, SHARPEST, decimals=1, tip="How often the part can be subdivided with the chosen edges still sharp: 0 not at all, 10 for ever")  # fmt: skip
        self.crease.set_value(2)
        self.column.addWidget(labelled("Crease", self.crease))
        self.softly = NumberField("Soft range", 0, 1000, unit="mm", decimals=1, tip="How far around what is dragged the net comes along, less and less; 0: only what is chosen")  # fmt: skip
        self.column.addWidget(labelled("Soft range", self.softly))
        self.width_field = NumberField("Width of strips", 0.1, 1000, unit="mm", decimals=1, tip="How wide strips and rings are, and about how long their quads")  # fmt: skip
        self.width_field.set_value(10)
        self.count = NumberField("Quads of a ring", 3, 128, decimals=0, tip="Round a limb")
        self.count.set_value(12)
        self.column.addWidget(labelled("Strip width", self.width_field))
        self.column.addWidget(labelled("Ring of", self.count))
        self.laid = switch("Net", "Stays on the clay", "What is drawn, grown, slid, relaxed or dragged is laid on the other parts that are seen", False)  # fmt: skip
        self.column.addWidget(self.laid)
        self.says = Words()
        self.column.addWidget(self.says)
        rows, self.buttons = command_grid(desk.registry, BUTTONS, columns=3)
        self.column.addLayout(rows)
        for signal in (desk.studio.scene_changed, desk.modelling.changed):
            signal.connect(self._soon.start)
        self.head.toggled.connect(lambda _: self._soon.start())

    def fill(self) -> None:
        """Say what there is."""
        if not self.body.isVisible():
            return
        self.says.setText(self._desk.modelling.words())
        index = self.kind.findData(self._desk.modelling.kind)
        if index != self.kind.currentIndex():
            self.kind.blockSignals(True)
            self.kind.setCurrentIndex(index)
            self.kind.blockSignals(False)
        self._desk.view.repaint_over()
