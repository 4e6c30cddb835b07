"""The card of UVs: where is cut, how islands are packed, what is done with those that are chosen."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QPushButton

from kneten.app.fields.fields import NumberField, Words, choice, labelled, switch
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.core.uv.pack import PackWish

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

SIZES = {str(size): (f"{size // 1024}k" if size >= 1024 else str(size), f"A picture of {size} texels each way") for size in (512, 1024, 2048, 4096, 8192)}  # fmt: skip


class UvCard(Card):
    """How the part in hand is laid flat."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("UVs", desk.studio)
        self._desk = desk
        self._soon = QTimer(self, singleShot=True, interval=150)
        self._soon.timeout.connect(self.fill)
        self._add_seams()
        self._add_packing()
        self._add_making()
        self._add_islands()
        for signal in (desk.studio.scene_changed, desk.unwrapping.changed):
            signal.connect(self._soon.start)
        self.head.toggled.connect(lambda _: self._soon.start())
        self.picture.currentIndexChanged.connect(lambda _: self._soon.start())

    def _add_seams(self) -> None:
        """Where it is cut."""
        registry = self._desk.registry
        rows, _ = command_grid(
            registry,
            (
                ("uv.seams", "Cut seams"),
                ("uv.borders", "Borders"),
                ("uv.sharp", "Sharp"),
                ("uv.no-seams", "No seams"),
            ),
            columns=2,
        )
        self.column.addLayout(rows)
        self.angle = NumberField("Sharp from", 5, 175, unit="°", decimals=0, tip="How far an edge turns to count as sharp")  # fmt: skip
        self.angle.set_value(60)
        self.stretch = NumberField("Stretch allowed", 5, 400, unit="%", decimals=0, tip="When seams are found by themselves: by how much lengths may be off, but for the worst half per cent; less makes more islands")  # fmt: skip
        self.stretch.set_value(60)
        self.column.addWidget(labelled("Sharp from", self.angle))
        self.column.addWidget(labelled("Stretch", self.stretch))

    def _add_packing(self) -> None:
        """How islands are packed."""
        self.picture = choice("Picture size", "The picture that margins and texels are counted for", SIZES)
        self.picture.setCurrentIndex(2)
        self.margin = NumberField("Margin", 1, 128, unit="px", decimals=0, tip="Texels between islands")
        self.margin.set_value(8)
        self.tiles = NumberField(
            "Tiles", 1, 16, decimals=0, tip="How many pictures the islands are spread over"
        )
        self.tiles.set_value(1)
        self.column.addWidget(labelled("Picture", self.picture))
        self.column.addWidget(labelled("Margin, tiles", self.margin, self.tiles))
        ticks = QHBoxLayout()
        self.turned = switch(
            "UVs", "Turn", "Islands may be turned by right angles when they are packed", True
        )
        self.stacked = switch("UVs", "Twins together", "Islands that are mirror images of each other share their place", False)  # fmt: skip
        for box in (self.turned, self.stacked):
            ticks.addWidget(box)
        self.column.addLayout(ticks)

    def _add_making(self) -> None:
        """What lays it flat, and what shows how."""
        registry = self._desk.registry
        buttons = QHBoxLayout()
        self.buttons = []
        for key, text in (("uv.unwrap", "Unwrap"), ("uv.unwrap-found", "By itself")):
            button = QPushButton(text)
            button.setObjectName("primary")
            command = registry.commands[key]
            button.setAccessibleName(command.name)
            button.setToolTip(registry.tip(command))
            button.clicked.connect(lambda _=False, key=key: registry.run(key))
            buttons.addWidget(button)
            self.buttons.append(button)
        self.column.addLayout(buttons)
        self.says = Words()
        self.column.addWidget(self.says)
        rows, _ = command_grid(
            registry,
            (("uv.checker", "Checker"), ("uv.stretch", "Stretch"), ("uv.overlap", "Overlaps"), ("uv.density", "Texels"), ("uv.pane", "Pane"), ("uv.pack", "Pack")),
            columns=3,
        )  # fmt: skip
        self.column.addLayout(rows)

    def _add_islands(self) -> None:
        """What is done with chosen islands."""
        registry = self._desk.registry
        fields = QGridLayout()
        self.turn = NumberField(
            "Turn by", -180, 180, unit="°", decimals=1, tip="How far the chosen islands are turned"
        )
        self.turn.set_value(90)
        self.grow = NumberField("Size", 10, 1000, unit="%", decimals=0, tip="How large the chosen islands become, of what they are: the face twice as large has twice the texels")  # fmt: skip
        self.grow.set_value(150)
        fields.addWidget(labelled("Turn, size", self.turn, self.grow), 0, 0)
        self.column.addLayout(fields)
        rows, _ = command_grid(
            registry,
            (("uv.turn", "Turn"), ("uv.size", "Size"), ("uv.mirror", "Mirror"), ("uv.square-up", "Align"), ("uv.stand", "Stand up"), ("uv.straighten", "Straighten"), ("uv.even", "Even sizes"), ("uv.next-tile", "Next tile"), ("uv.all", "All")),
            columns=3,
        )  # fmt: skip
        self.column.addLayout(rows)

    def wish(self) -> PackWish:
        """How islands are packed."""
        return PackWish(
            int(self.picture.currentData()),
            int(self.margin.value()),
            self.turned.isChecked(),
            int(self.tiles.value()),
            self.stacked.isChecked(),
        )

    def allowed(self) -> float:
        """By what factor lengths may be off."""
        return 1 + self.stretch.value() / 100

    def fill(self) -> None:
        """Say what there is."""
        part = self._studio.project.active
        for button in self.buttons:
            button.setEnabled(part is not None)
        if part is None or not self.body.isVisible():
            self.says.setText("")
            return
        self.says.setText(
            self._desk.unwrapping.words()
            or "No UVs yet. Cut seams and unwrap along them, or let seams be found."
        )
