"""The card of grain: what lies live on the part in hand."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLabel, QWidget

from kneten.app.fields.fields import CurveField, NumberField, choice, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.core.grain import KINDS, WHERE
from kneten.core.stack import Layer
from kneten.document.regions import region_name

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

SHARES = ("curve", "height", "slope", "thickness")
"""Where a grain lies between two shares."""


class GrainCard(Card):
    """The grains of a part, and the numbers of the one in hand."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Grain", desk.studio)
        self._desk = desk
        self._grains = desk.grains
        self._showing = False
        self._known: object = None
        self.none = QLabel("None yet: a pattern over all of a part,\nlive until it is baked.")
        self.none.setObjectName("quiet")
        self.column.addWidget(self.none)
        self.which = choice("Grain", "Which of the part's grains the numbers below are of", {})
        self.which.activated.connect(lambda _: self._grains.choose(str(self.which.currentData())))
        self.kind = choice("Pattern", "What the grain is made of", KINDS)
        self.kind.activated.connect(lambda _: self._change_kind())
        self.numbers: dict[str, NumberField] = {}
        scale = self._number(
            "scale", "Scale", 0.05, 2000, "mm", "How wide its largest unevenness, or the picture, is"
        )
        height = self._number(
            "height", "Height", -200, 200, "mm", "How far it stands out; below 0 it goes in"
        )
        turn = self._number("turn", "Turn", -180, 180, "°", "Degrees that the pattern is turned")
        rough = self._number(
            "roughness", "Roughness", 0, 100, "%", "How much smaller unevenness there is on the larger"
        )
        seed = self._number(
            "seed", "Variant", 1, 999, "", "Another number gives another pattern of the same kind"
        )
        self.curve = CurveField(
            "Curve", "From left to right what is low and what is high; upwards how far it stands out", False
        )
        self.curve.setFixedHeight(56)
        self.curve.changed.connect(lambda points: self._change(curve=points))
        self.strewn = self._check(
            "Strewn", "Lays a press in pieces here and there: nothing is seen twice", "strewn"
        )
        self.mirrored = self._check("Mirrored", "The right side is the left side's mirror image", "mirrored")
        self.where = choice("Where", "What says where the grain lies", WHERE)
        self.where.activated.connect(lambda _: self._change_where())
        self.region = choice("Region", "The region that the grain lies on", {})
        self.region.activated.connect(lambda _: self._change(of=str(self.region.currentData())))
        low = self._number("low", "From", 0, 100, "%", "It lies from here")
        high = self._number("high", "To", 0, 100, "%", "It lies up to here")
        soft = self._number("soft", "Soft", 0, 100, "%", "Over how much it runs out there")
        self.words = QLabel()
        self.words.setObjectName("quiet")
        self.words.setWordWrap(True)
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        line.addWidget(self.strewn)
        line.addWidget(self.mirrored)
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
            row,
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

    def _number(self, field: str, name: str, low: float, high: float, unit: str, tip: str) -> NumberField:
        whole = unit in ("%", "") or field == "turn"
        box = NumberField(
            f"{name} of the grain",
            low,
            high,
            unit=unit if unit == "mm" else "",
            suffix=unit if unit != "mm" else "",
            decimals=0 if whole else 2,
            curve=3 if field in ("scale", "height") else 1,
            tip=tip,
        )
        box.changed.connect(lambda value: self._dial(field, value))
        box.settled.connect(lambda value: self._change(**{field: self._told(field, value)}))
        self.numbers[field] = box
        return box

    def _check(self, text: str, tip: str, field: str) -> QCheckBox:
        box = QCheckBox(text)
        box.setToolTip(tip)
        box.setAccessibleName(text)
        box.toggled.connect(lambda on: self._change(**{field: on}))
        return box

    def _told(self, field: str, value: float) -> float | int:
        """A field's number as the grain has it."""
        if field == "seed":
            return round(value)
        if self.numbers[field].suffix == "%":
            return value / 100
        if field == "turn":
            return value
        part = self._studio.project.active
        return value / (part.transform.scale if part is not None else 1.0)

    def _dial(self, field: str, value: float) -> None:
        if not self._showing:
            self._grains.dial(**{field: self._told(field, value)})

    def _change(self, **traits: object) -> None:
        if not self._showing:
            self._grains.change(**traits)

    def _change_kind(self) -> None:
        kind = str(self.kind.currentData())
        layer = self._grains.chosen
        held = layer.grain.press if layer is not None and layer.grain is not None else ""
        tip = self._studio.settings().tip.press
        self._change(kind=kind, press=(tip or held) if kind == "press" else held)

    def _change_where(self) -> None:
        where = str(self.where.currentData())
        numbers = self._grains.regions()
        self._change(where=where, of=str(numbers[-1]) if where == "region" and numbers else "")

    def fill(self) -> None:
        """Show the grains of the part in hand."""
        held, layer = self._grains.all, self._grains.chosen
        self._showing = True
        self.none.setVisible(not held)
        for widget in self.details:
            widget.setVisible(bool(held))
        for key, button in self.buttons.items():
            button.setVisible(key in ("grain.add", "grain.add-press") or bool(held))
        known = tuple((one.id, one.name) for one in held)
        if known != self._known:
            self._known = known
            self.which.clear()
            for one in reversed(held):
                self.which.addItem(one.name, one.id)
        if layer is not None:
            self._show(layer)
        words = self._grains.words()
        self.words.setText(words)
        self.words.setVisible(bool(words))
        self._showing = False

    def _show(self, layer: Layer) -> None:
        grain, part = layer.grain, self._studio.project.active
        assert grain is not None
        assert part is not None
        self.which.setCurrentIndex(self.which.findData(layer.id))
        laid = grain.kind == "press"
        self.kind.setItemText(self.kind.findData("press"), "Press" if laid else "Press on the tip")
        self.kind.setToolTip(self._grains.press_named(grain) if laid else "What the grain is made of")
        self.kind.setCurrentIndex(self.kind.findData(grain.kind))
        for field, box in self.numbers.items():
            value = float(getattr(grain, field))
            if box.suffix == "%":
                value *= 100
            elif field in ("scale", "height"):
                value *= part.transform.scale
            box.set_value(value)
        self.curve.set_points(grain.curve)
        self.strewn.setChecked(grain.strewn)
        self.strewn.setEnabled(grain.kind == "press")
        self.mirrored.setChecked(grain.mirrored)
        self.rough_row.setVisible(grain.kind != "press")
        self.where.setCurrentIndex(self.where.findData(grain.where))
        self.region_row.setVisible(grain.where == "region")
        for row in self.band_rows:
            row.setVisible(grain.where in SHARES)
        numbers = self._grains.regions() if grain.where == "region" else []
        self.region.clear()
        for number in numbers:
            self.region.addItem(region_name(self._studio.project.scene, number), str(number))
        self.region.setCurrentIndex(max(self.region.findData(grain.of), 0))
