"""The card of grain: what lies live on the part in hand."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QLabel

from kneten.app.fields.fields import CurveField, Words, choice, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.dials import DialCard, beside
from kneten.core.grain import KINDS, WHERE
from kneten.core.stack import Layer
from kneten.document.regions import region_name

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

SHARES = ("curve", "height", "slope", "thickness")
"""Where a grain lies between two shares."""


class GrainCard(DialCard):
    """The grains of a part, and the numbers of the one in hand."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Grain", desk.studio, "grain")
        self._desk = desk
        self._grains = desk.grains
        self.none = QLabel("None yet: a pattern over all of a part,\nlive until it is baked.")
        self.none.setObjectName("quiet")
        self.column.addWidget(self.none)
        self.which = choice("Grain", "Which of the part's grains the numbers below are of", {})
        self.which.activated.connect(lambda _: self._grains.choose(str(self.which.currentData())))
        self.kind = self.pick("kind", "Pattern", "What the grain is made of", KINDS)
        scale = self.number(
            "scale", "Scale", 0.05, 2000, "mm", "How wide its largest unevenness, or the picture, is", 3
        )
        height = self.number(
            "height", "Height", -200, 200, "mm", "How far it stands out; below 0 it goes in", 3
        )
        turn = self.number("turn", "Turn", -180, 180, "°", "Degrees that the pattern is turned")
        rough = self.number(
            "roughness", "Roughness", 0, 100, "%", "How much smaller unevenness there is on the larger"
        )
        seed = self.number(
            "seed", "Variant", 1, 999, "", "Another number gives another pattern of the same kind"
        )
        self.curve = CurveField(
            "Curve", "From left to right what is low and what is high; upwards how far it stands out", False
        )
        self.curve.setFixedHeight(56)
        self.curve.changed.connect(lambda points: self._picked("curve", points))
        self.strewn = self.switch(
            "strewn", "Strewn", "Lays a press in pieces here and there: nothing is seen twice"
        )
        self.mirrored = self.switch("mirrored", "Mirrored", "The right side is the left side's mirror image")
        self.where = self.pick("where", "Where", "What says where the grain lies", WHERE)
        self.region = choice("Region", "The region that the grain lies on", {})
        self.region.activated.connect(lambda _: self._picked("of", str(self.region.currentData())))
        low = self.number("low", "From", 0, 100, "%", "It lies from here")
        high = self.number("high", "To", 0, 100, "%", "It lies up to here")
        soft = self.number("soft", "Soft", 0, 100, "%", "Over how much it runs out there")
        self.words = Words()
        self.rough_row = labelled("Roughness", rough)
        self.region_row = labelled("Region", self.region)
        self.band_rows = [labelled("From, to", low, high), labelled("Soft", soft)]
        self.details = [
            labelled("Grain", self.which),
            labelled("Pattern", self.kind),
            labelled("Scale", scale),
            labelled("Height", height),
            labelled("Turn, variant", turn, seed),
            self.rough_row,
            self.curve,
            beside(self.strewn, self.mirrored),
            labelled("Where", self.where),
            self.region_row,
            *self.band_rows,
        ]
        for widget in self.details:
            self.column.addWidget(widget)
        self.column.addWidget(self.words)
        keys = (
            ("grain.add", "Add"), ("grain.add-press", "Add press"), ("grain.renew", "Lay anew"),
            ("grain.mask", "On mask"), ("grain.bake", "Bake"), ("grain.bake-mask", "Bake mask"),
            ("grain.remove", "Take off"),
        )  # fmt: skip
        grid, self.buttons = command_grid(desk.registry, keys)
        self.column.addLayout(grid)
        for signal in (desk.studio.scene_changed, desk.studio.project_changed):
            signal.connect(self.fill)
        self.fill()

    def dial(self, **traits: object) -> None:
        """Show the grain in hand with other numbers."""
        self._grains.dial(**traits)

    def change(self, **traits: object) -> None:
        """Give the grain in hand other traits."""
        if "kind" in traits:
            layer = self._grains.chosen
            held = layer.grain.press if layer is not None and layer.grain is not None else ""
            tip = self._studio.settings().tip.press
            traits["press"] = (tip or held) if traits["kind"] == "press" else held
        if "where" in traits:
            numbers = self._grains.regions()
            traits["of"] = str(numbers[-1]) if traits["where"] == "region" and numbers else ""
        self._grains.change(**traits)

    def fill(self) -> None:
        """Show the grains of the part in hand."""
        held, layer = self._grains.all, self._grains.chosen
        self._showing = True
        self.none.setVisible(not held)
        for widget in self.details:
            widget.setVisible(bool(held))
        for key, button in self.buttons.items():
            button.setVisible(key in ("grain.add", "grain.add-press") or bool(held))
        self.list_things(self.which, held)
        if layer is not None:
            self._show(layer)
        words = self._grains.words()
        self.words.setText(words)
        self.words.setVisible(bool(words))
        self._showing = False

    def _show(self, layer: Layer) -> None:
        grain = layer.grain
        assert grain is not None
        self.which.setCurrentIndex(self.which.findData(layer.id))
        laid = grain.kind == "press"
        self.kind.setItemText(self.kind.findData("press"), "Press" if laid else "Press on the tip")
        self.kind.setToolTip(self._grains.press_named(grain) if laid else "What the grain is made of")
        self.show_fields(grain)
        self.curve.set_points(grain.curve)
        self.strewn.setEnabled(grain.kind == "press")
        self.rough_row.setVisible(grain.kind != "press")
        self.region_row.setVisible(grain.where == "region")
        for row in self.band_rows:
            row.setVisible(grain.where in SHARES)
        numbers = self._grains.regions() if grain.where == "region" else []
        self.region.clear()
        for number in numbers:
            self.region.addItem(region_name(self._studio.project.scene, number), str(number))
        self.region.setCurrentIndex(max(self.region.findData(grain.of), 0))
