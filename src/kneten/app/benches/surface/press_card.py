"""The card of the press on the tool's tip: which it is and how it is laid."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QIcon, QPixmap
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QPushButton, QToolButton, QVBoxLayout, QWidget

from kneten.app.fields.fields import NumberField, Words, choice, labelled
from kneten.app.work.card import Card
from kneten.core.press import OVERLAPS, TURNS

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

PICTURE = 84


class PressCard(Card):
    """How a press is held."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Tip", desk.studio)
        self._desk = desk
        self._showing = False
        tip = desk.studio.set_tip
        self.column.addLayout(self._head())
        self.height_field = NumberField(
            "Height", 0, 1000, decimals=2, curve=3, tip="How high its highest stands out, at full strength"
        )
        self.height_field.changed.connect(self._raise)
        self.in_mm = self._check(
            "mm",
            "Height in millimetres, whatever the brush's size; otherwise a share of its radius",
            "height_mm",
        )
        self.height_row = labelled("Height", self.height_field, self.in_mm)
        self.overlap = choice("Overlap", "What becomes of dabs over each other in one stroke", OVERLAPS)
        self.overlap.activated.connect(lambda _: tip(overlap=self.overlap.currentData()))
        self.overlap_row = labelled("Overlap", self.overlap)
        self.turned = choice("Turned", "How the press lies", TURNS)
        self.turned.activated.connect(lambda _: tip(turned=self.turned.currentData()))
        self.turn = NumberField(
            "Turn", -180, 180, suffix="°", tip="Degrees it is turned besides, to the left"
        )
        self.turn.changed.connect(lambda v: tip(turn=v))
        self.repeats = NumberField(
            "Repeats",
            0.25,
            20,
            decimals=2,
            curve=2,
            tip="How often it stands across the brush: only for presses that go on at their edges",
        )
        self.repeats.changed.connect(lambda v: tip(repeats=v))
        self.whole = self._check(
            "Whole picture", "Lays its corners too; otherwise what lies in the ring", "whole"
        )
        self.rolled = self._check("Rolled", "Unrolls it along the stroke, as a seal is", "rolled")
        self.flip = self._check("Turned over", "Mirrors dabs by chance", "flip_chance")
        self.side = self._check("In or out", "Dabs go in or out by chance", "side_chance")
        self.chances: dict[str, NumberField] = {}
        self.details: list[QWidget] = [
            self.height_row,
            self.overlap_row,
            labelled("Turned", self.turned, self.turn),
            labelled("Repeats", self.repeats),
            _pair(self.whole, self.rolled),
        ]
        for name, field, what in (
            ("Chance: turn", "turn_chance", "each dab is turned another way"),
            ("Chance: size", "size_chance", "dabs differ in size"),
            ("Chance: force", "strength_chance", "dabs differ in strength"),
        ):
            box = NumberField(name, 0, 100, suffix="%", tip=f"By how much {what}")
            box.changed.connect(lambda v, field=field: tip(**{field: v / 100}))
            self.chances[field] = box
            self.details.append(labelled(name, box))
        self.details.append(_pair(self.flip, self.side))
        for row in self.details:
            self.column.addWidget(row)
        desk.studio.tool_changed.connect(self.fill)
        desk.studio.project_changed.connect(self.fill)
        desk.studio.presses.arrived.connect(self._arrived)
        desk.studio.presses.changed.connect(self.fill)
        self.fill()

    def _head(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(10)
        self.button = QToolButton()
        self.button.setAccessibleName("Press on the tip")
        self.button.setToolTip("Shows the shelf of presses (Ctrl+Alt+P)")
        self.button.setIconSize(QSize(PICTURE, PICTURE))
        self.button.setFixedSize(PICTURE + 10, PICTURE + 10)
        self.button.clicked.connect(lambda: self._desk.registry.run("press.shelf"))
        row.addWidget(self.button)
        words = QVBoxLayout()
        words.setSpacing(4)
        self.name = Words(quiet=False)
        self.state = Words()
        self.off = QPushButton("Take it off")
        self.off.setAccessibleName("Take the press off")
        self.off.setToolTip("Frees the tip: the tool works round again")
        self.off.clicked.connect(lambda: self._desk.registry.run("press.none"))
        words.addWidget(self.name)
        words.addWidget(self.state)
        words.addStretch(1)
        words.addWidget(self.off)
        row.addLayout(words, 1)
        return row

    def _check(self, text: str, tip: str, name: str) -> QCheckBox:
        box = QCheckBox(text)
        box.setToolTip(tip)
        box.setAccessibleName("Height in millimetres" if text == "mm" else text)
        box.toggled.connect(lambda on: None if self._showing else self._desk.studio.set_tip(**{name: on}))
        return box

    def _raise(self, value: float) -> None:
        mm = self._desk.studio.settings().tip.height_mm
        self._desk.studio.set_tip(height=value if mm else value / 100)

    def _arrived(self, key: str) -> None:
        if key == self._desk.studio.settings().tip.press:
            self.fill()

    def fill(self) -> None:
        """Show the tip of the tool in hand."""
        studio = self._desk.studio
        tool, tip, shelf = studio.tool, studio.settings().tip, studio.presses
        self._showing = True
        name = shelf.name_of(tip.press)
        self.set_title(f"Tip: {name}" if name else "Tip")
        self.name.setText(name or ("Choose a press" if tool.presses else "No press on the tip"))
        listed = next((one for one in shelf.listed() if one.key == tip.press), None)
        ready = shelf.found(tip.press) is not None
        words = "" if listed is None else listed.family
        self.state.setText(words if ready or not name else f"{words} · being made")
        image = shelf.picture(tip.press) if name else None
        if image is None:
            self.button.setIcon(QIcon())
            self.button.setText("…" if name else "+")
            self.button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextOnly)
        else:
            self.button.setIcon(QIcon(QPixmap.fromImage(image)))
            self.button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonIconOnly)
        self.off.setVisible(bool(tip.press) and not tool.presses)
        for row in self.details:
            row.setVisible(bool(tip.press))
        self.height_row.setVisible(tool.presses)
        self.overlap_row.setVisible(tool.presses)
        self.in_mm.setChecked(tip.height_mm)
        self.height_field.suffix = "" if tip.height_mm else "%"
        self.height_field.set_value(tip.height if tip.height_mm else tip.height * 100)
        self.overlap.setCurrentIndex(max(self.overlap.findData(tip.overlap), 0))
        self.turned.setCurrentIndex(max(self.turned.findData(tip.turned), 0))
        self.turn.set_value(tip.turn)
        self.repeats.set_value(tip.repeats)
        self.repeats.setEnabled(listed is not None and listed.tiles)
        for field, box in self.chances.items():
            box.set_value(getattr(tip, field) * 100)
            box.setEnabled(not tip.rolled or not tool.presses)
        for check, on in (
            (self.whole, tip.whole),
            (self.rolled, tip.rolled),
            (self.flip, tip.flip_chance),
            (self.side, tip.side_chance),
        ):
            check.setChecked(on)
        deep = listed is not None and listed.deep
        single = deep or studio.settings().kind in ("spaced", "scattered", "dragged", "sized")
        self.rolled.setEnabled(not single and not tool.holds)
        rolls = tip.rolled and not single
        self.whole.setEnabled(not rolls)
        self.turned.setEnabled(not rolls)
        self.turn.setEnabled(not rolls)
        for check in (self.flip, self.side):
            check.setEnabled(not rolls)
        for box in self.chances.values():
            box.setEnabled(not rolls)
        self._showing = False


def _pair(*boxes: QWidget) -> QWidget:
    row = QWidget()
    layout = QHBoxLayout(row)
    layout.setContentsMargins(0, 0, 0, 0)
    for box in boxes:
        layout.addWidget(box)
    return row
