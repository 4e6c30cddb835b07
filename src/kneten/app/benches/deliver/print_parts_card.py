"""The card of what is made for a print: one body, hollows, cuts with pegs, a base."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QLineEdit, QWidget

from kneten.app.benches.deliver.printing import WAYS
from kneten.app.fields.fields import NumberField, choice, labelled, switch
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

BASES = {
    "round": ("Round", "A disc"),
    "square": ("Square", "Four sides, rounded corners"),
    "eight": ("Eight sides", "An octagon"),
}


class PrintPartsCard(Card):
    """Numbers of what is made, and the buttons that make it."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Print parts", desk.studio)
        self._desk = desk
        self._printing = desk.printing
        self._soon = QTimer(self, singleShot=True, interval=150)
        self._soon.timeout.connect(self.fill)
        self._add_hollow()
        self._add_cut()
        self._add_base()
        for signal in (desk.studio.project_changed, self._printing.changed):
            signal.connect(self._soon.start)
        self.head.toggled.connect(lambda _: self._soon.start())
        self.fill()

    def _add_hollow(self) -> None:
        """One body, hollow, with drains."""
        self._buttons(("print.body", "One body"), ("print.hollow", "Hollow out"))
        self.wall = self._number(
            "Wall of a hollow", 0.2, 100, "mm", 2, "wall", "How thick what is hollow stays"
        )
        self.fine = self._number(
            "Grid of a hollow",
            32,
            1024,
            "",
            0,
            "fine",
            "Points along the longest side that a hollow is made by",
        )
        self.drain = self._number(
            "Radius of a drain", 0.3, 100, "mm", 2, "drain", "Of the hole that resin or powder runs out by"
        )
        self.plug = self._number(
            "Clearance of a plug",
            0,
            5,
            "mm",
            2,
            "plug",
            "How much narrower than its hole a plug is, all round",
        )
        self._rows(("Wall", self.wall), ("Grid", self.fine), ("Drain", self.drain), ("Plug gap", self.plug))
        self._buttons(("print.drain", "Drill"), ("print.drain-lowest", "Lowest"))

    def _add_cut(self) -> None:
        """Where it is cut apart, and the pegs that hold it."""
        self.where = choice(
            "Where it is cut",
            "The plane that cuts it apart",
            {key: (name, does) for key, (name, does, _) in WAYS.items()},
        )
        self.count = self._peg("Pegs", 0, 12, "", 0, "count", "How many at most; none holds by glue alone")
        self.radius = self._peg("Radius of a peg", 0.3, 100, "mm", 2, "radius", "Half its width")
        self.deep = self._peg(
            "Length of a peg", 0.5, 200, "mm", 1, "deep", "How far it reaches into the other half"
        )
        self.clearance = self._peg(
            "Clearance of a peg", 0, 5, "mm", 2, "clearance", "How much wider its hole is, all round"
        )
        self.square = switch("Pegs", "Square keys", "They cannot turn", False)
        self.square.toggled.connect(lambda on: self._pegs(square=on))
        self._rows(
            ("Cut", self.where), ("Pegs", self.count), ("Peg radius", self.radius), ("Peg length", self.deep),
            ("Peg gap", self.clearance),
        )  # fmt: skip
        self.column.addWidget(self.square)
        self._buttons(("print.cut", "Cut apart"))

    def _add_base(self) -> None:
        """What it stands on, with its name."""
        self.base = choice("Kind of base", "Seen from above", BASES)
        self.base.activated.connect(lambda _: self._printing.change(base=str(self.base.currentData())))
        self.wide = self._number(
            "Width of the base", 0, 2000, "mm", 1, "wide", "0: as wide as what stands on it, and some more"
        )
        self.depth_field = self._number(
            "Depth of the base", 0, 2000, "mm", 1, "deep", "0: as deep as what stands on it, and some more"
        )
        self.high = self._number("Height of the base", 0.5, 500, "mm", 1, "high", "How high it is")
        self.bevel = self._number(
            "Bevel of the base", 0, 100, "mm", 1, "bevel", "How far its upper edge is taken off"
        )
        self.title_field = QLineEdit()
        self.title_field.setAccessibleName("Name on the base")
        self.title_field.setToolTip("What is written on its front; nothing where it is empty")
        self.title_field.setPlaceholderText("no name")
        self.title_field.editingFinished.connect(self._named)
        self.letter = self._number("Height of letters", 0.5, 200, "mm", 1, "letter", "Of a capital")
        self.raised = self._number("Letters stand out", -20, 20, "mm", 2, "raised", "Below 0 they are cut in")
        self._rows(
            ("Base", self.base), ("Width", self.wide), ("Depth", self.depth_field), ("Height", self.high),
            ("Bevel", self.bevel), ("Name", self.title_field), ("Letters", self.letter), ("Raised", self.raised),
        )  # fmt: skip
        self._buttons(("print.base", "Put a base under it"))

    def _rows(self, *rows: tuple[str, QWidget]) -> None:
        for text, field in rows:
            self.column.addWidget(labelled(text, field))

    def _buttons(self, *buttons: tuple[str, str]) -> None:
        rows, _ = command_grid(self._desk.registry, buttons, columns=len(buttons))
        self.column.addLayout(rows)

    def _number(
        self, name: str, low: float, high: float, unit: str, decimals: int, key: str, tip: str
    ) -> NumberField:
        field = NumberField(
            name, low, high, unit=unit, decimals=decimals, curve=2.0 if low >= 0 else 1.0, tip=tip
        )
        whole = decimals == 0
        field.settled.connect(lambda value: self._printing.change(**{key: round(value) if whole else value}))
        return field

    def _peg(
        self, name: str, low: float, high: float, unit: str, decimals: int, key: str, tip: str
    ) -> NumberField:
        field = NumberField(name, low, high, unit=unit, decimals=decimals, curve=2.0, tip=tip)
        whole = decimals == 0
        field.settled.connect(lambda value: self._pegs(**{key: round(value) if whole else value}))
        return field

    def _pegs(self, **values: float) -> None:
        pegs = self._printing.wish.pegs
        wanted = replace(pegs, **values)
        if wanted != pegs:
            self._printing.change(pegs=wanted)

    def _named(self) -> None:
        text = self.title_field.text().strip()
        if text != self._printing.wish.title:
            self._printing.change(title=text)

    def way(self) -> str:
        """Where parts are cut: a key of `WAYS`."""
        return str(self.where.currentData())

    def fill(self) -> None:
        """Say what is asked for."""
        wish = self._printing.wish
        for field, key in (
            (self.wall, "wall"), (self.fine, "fine"), (self.drain, "drain"), (self.plug, "plug"), (self.wide, "wide"),
            (self.depth_field, "deep"), (self.high, "high"), (self.bevel, "bevel"), (self.letter, "letter"), (self.raised, "raised"),
        ):  # fmt: skip
            field.set_value(getattr(wish, key))
        for field, key in (
            (self.count, "count"),
            (self.radius, "radius"),
            (self.deep, "deep"),
            (self.clearance, "clearance"),
        ):
            field.set_value(getattr(wish.pegs, key))
        self.square.blockSignals(True)
        self.square.setChecked(wish.pegs.square)
        self.square.blockSignals(False)
        self.base.setCurrentIndex(self.base.findData(wish.base))
        if not self.title_field.hasFocus():
            self.title_field.setText(wish.title)
