"""The card of maps: which, how large, from where."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QGridLayout, QPushButton

from kneten.app.fields.fields import NumberField, Words, choice, labelled, switch
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.core.maps.bake import MAPS, BakeWish
from kneten.core.maps.surfaces import Cage
from kneten.document.mapping import PRESETS

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

SIZES = {str(size): (f"{size // 1024}k" if size >= 1024 else str(size), f"{size} texels each way") for size in (256, 512, 1024, 2048, 4096, 8192)}  # fmt: skip

SAMPLES = {"1": ("1", "The middle of each texel"), "2": ("4", "Four places in each texel: smoother edges"), "4": ("16", "Sixteen places in each texel")}  # fmt: skip

SOURCES = {
    "own": ("Its own levels", "The part on its finest level, with all layers: exact, no rays needed"),
    "chosen": (
        "Other chosen parts",
        "The parts that are chosen besides the one in hand, found by rays from outside",
    ),
}


class MapsCard(Card):
    """How maps of the part in hand are baked."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Maps", desk.studio)
        self._desk = desk
        self._soon = QTimer(self, singleShot=True, interval=150)
        self._soon.timeout.connect(self.fill)
        words = {key: (name, does) for key, (name, does, _) in PRESETS.items()}
        self.preset = choice(
            "Maps for",
            "Sets which maps, their size and samples",
            {"": ("As below", "What is ticked"), **words},
        )
        self.preset.currentIndexChanged.connect(lambda _: self._set())
        self.column.addWidget(labelled("For", self.preset))
        grid = QGridLayout()
        grid.setSpacing(4)
        self.ticks = {}
        for k, (key, one) in enumerate(MAPS.items()):
            box = switch("Map", one.name, one.does, key in ("normal", "occlusion", "colour"))
            self.ticks[key] = box
            grid.addWidget(box, k // 2, k % 2)
        self.column.addLayout(grid)
        self.size_choice = choice("Size of maps", "Texels each way", SIZES)
        self.size_choice.setCurrentIndex(3)
        self.samples = choice("Samples", "Places in each texel that are looked at", SAMPLES)
        self.column.addWidget(labelled("Size", self.size_choice))
        self.column.addWidget(labelled("Samples", self.samples))
        self.rays = NumberField(
            "Rays", 4, 256, decimals=0, tip="For occlusion and bent normals, from each place"
        )
        self.rays.set_value(16)
        self.padding = NumberField("Padding", 0, 64, unit="px", decimals=0, tip="Texels that islands are continued by, so that nothing shows at seams")  # fmt: skip
        self.padding.set_value(16)
        self.column.addWidget(labelled("Rays, padding", self.rays, self.padding))
        self.origin = choice("From", "Where the detail is", SOURCES)
        self.column.addWidget(labelled("From", self.origin))
        self.ahead = NumberField("Outwards", 0, 1000, unit="mm", decimals=2, tip="How far outside rays begin; 0: as far as the fine clay needs")  # fmt: skip
        self.behind = NumberField("Inwards", 0, 1000, unit="mm", decimals=2, tip="How far inside rays look; 0: as far as the fine clay needs")  # fmt: skip
        self.masked = NumberField("Farther where masked", 0, 1000, unit="%", decimals=0, tip="How much farther outside rays begin where the part is masked: paint it where they miss")  # fmt: skip
        self._cage_row = labelled("Out, in", self.ahead, self.behind)
        self._mask_row = labelled("By mask", self.masked)
        self.column.addWidget(self._cage_row)
        self.column.addWidget(self._mask_row)
        self.origin.currentIndexChanged.connect(lambda _: self._rows())
        for field in (self.ahead, self.behind, self.masked):
            field.changed.connect(lambda _: desk.view.update())
        self._rows()
        self.says = Words()
        self.column.addWidget(self.says)
        self.button = QPushButton("Bake")
        self.button.setObjectName("primary")
        command = desk.registry.commands["maps.bake"]
        self.button.setAccessibleName(command.name)
        self.button.setToolTip(desk.registry.tip(command))
        self.button.clicked.connect(lambda: desk.registry.run("maps.bake"))
        self.column.addWidget(self.button)
        rows, _ = command_grid(
            desk.registry,
            (("maps.show", "Show"), ("maps.compare", "Wipe"), ("maps.missed", "Misses"), ("maps.cage", "Cage"), ("maps.write", "Write…"), ("maps.paint", "Paint on"), ("maps.take", "Take paint"), ("maps.none", "None")),
            columns=3,
        )  # fmt: skip
        self.column.addLayout(rows)
        for signal in (desk.studio.scene_changed, desk.mapping.changed):
            signal.connect(self._soon.start)
        self.head.toggled.connect(lambda _: self._soon.start())

    def _rows(self) -> None:
        rays = self.source() != "own"
        self._cage_row.setVisible(rays)
        self._mask_row.setVisible(rays)

    def _set(self) -> None:
        """Tick what a preset has."""
        key = str(self.preset.currentData())
        if not key:
            return
        wish = PRESETS[key][2]
        for name, box in self.ticks.items():
            box.setChecked(name in wish.maps)
        self.size_choice.setCurrentIndex(self.size_choice.findData(str(wish.size)))
        self.samples.setCurrentIndex(self.samples.findData(str(wish.samples)))

    def source(self) -> str:
        """Where the detail is: own or chosen."""
        return str(self.origin.currentData())

    def wish(self) -> BakeWish:
        """What is ticked."""
        return BakeWish(
            tuple(key for key, box in self.ticks.items() if box.isChecked()),
            int(self.size_choice.currentData()),
            int(self.samples.currentData()),
            int(self.rays.value()),
            padding=int(self.padding.value()),
        )

    def cage(self) -> Cage | None:
        """How far rays look; None where it is measured."""
        part = self._studio.project.active
        if part is None or not (self.ahead.value() or self.behind.value()):
            return None
        scale = part.transform.scale
        return Cage(self.ahead.value() / scale, self.behind.value() / scale, self.masked.value() / 100)

    def fill(self) -> None:
        """Say what there is."""
        self.button.setEnabled(self._studio.project.active is not None)
        if self.body.isVisible():
            self.says.setText(self._desk.mapping.words())
