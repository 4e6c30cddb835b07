"""The card of materials: what of the paint in hand is painted, what it is made of, and materials to choose from."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QSize
from PySide6.QtGui import QIcon, QImage, QPixmap
from PySide6.QtWidgets import QCheckBox, QGridLayout, QToolButton, QWidget

from kneten.app.benches.colour.channel_row import channel_row
from kneten.app.benches.colour.materials import OWN
from kneten.app.fields.fields import NumberField, choice, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.core.paint.ink import CHANNELS, OF_MATERIAL, OPAQUE, Colour, Material
from kneten.core.paint.materials import FAMILIES, Preset
from kneten.render.material_balls import ball_picture

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

BALL = 30
ACROSS = 6


def ball_icon(colour: Colour, material: Material, opacity: int = OPAQUE) -> QIcon:
    """A material as a small ball."""
    pixels = ball_picture(colour, material, 2 * BALL, opacity)
    image = QImage(pixels.tobytes(), 2 * BALL, 2 * BALL, QImage.Format.Format_RGBA8888)
    picture = QPixmap.fromImage(image)
    picture.setDevicePixelRatio(2)
    return QIcon(picture)


class MaterialCard(Card):
    """What is painted, and what it is made of."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Material", desk.studio)
        self._desk = desk
        self._materials = desk.materials
        row, self.channels = channel_row(
            CHANNELS, "Paint", "is painted, or left as it is", desk.colours.paint_with
        )
        self.column.addWidget(row)
        self.along = QCheckBox("Form tools paint too")
        self.along.setAccessibleName("Form tools paint too")
        self.along.setToolTip(
            "Tools that change the form lay the paint in hand in the same stroke, on the highest level and where the "
            "mesh stays as it is"
        )
        self.along.clicked.connect(desk.colours.paint_along)
        self.shares: dict[str, NumberField] = {}
        for key in (*OF_MATERIAL, "opacity"):
            name, tip = CHANNELS[key]
            field = NumberField(name, 0, 100, suffix="%", tip=tip)
            field.settled.connect(lambda value, key=key: self._materials.dial(key, value / 100))
            self.shares[key] = field
            self.column.addWidget(labelled(name, field))
        entries = {key: (name, "Materials that ship with Kneten") for key, name in FAMILIES.items()}
        entries[OWN] = ("Own", "Materials that were kept or loaded; they belong to the project")
        self.family = choice("Family of materials", "Which materials are shown", entries)
        self.family.activated.connect(lambda _: self._materials.choose_family(str(self.family.currentData())))
        self.column.addWidget(labelled("Choose", self.family))
        self.balls = QWidget()
        self._grid = QGridLayout(self.balls)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setSpacing(2)
        self.column.addWidget(self.balls)
        self.buttons: list[QToolButton] = []
        self._offered: tuple[Preset, ...] = ()
        self.column.addWidget(self.along)
        keys = (
            ("material.keep", "Keep"), ("material.load", "Load"), ("material.share", "Share"),
            ("colour.fill", "Fill"), ("colour.fill-mask", "Fill mask"), ("colour.fill-region", "Fill region"),
        )  # fmt: skip
        self.column.addLayout(command_grid(desk.registry, keys)[0])
        for signal in (desk.studio.project_changed, desk.studio.ink_changed):
            signal.connect(self.fill)
        self.fill()

    def fill(self) -> None:
        """Show what is in hand."""
        ink = self._studio.project.settings.ink
        for key, button in self.channels.items():
            button.setChecked(key in ink.channels)
        for key, code in zip(OF_MATERIAL, ink.material, strict=True):
            self.shares[key].set_value(100 * code / 255)
        self.shares["opacity"].set_value(100 * ink.opacity / 255)
        self.along.setChecked(ink.along)
        self.family.setCurrentIndex(self.family.findData(self._materials.family))
        if self._offered != self._materials.shown:
            self._offer(self._materials.shown)
        chosen = self._materials.chosen
        for preset, ball in zip(self._offered, self.buttons, strict=True):
            ball.setChecked(preset is chosen)
        self.balls.setVisible(bool(self.buttons))

    def _offer(self, presets: tuple[Preset, ...]) -> None:
        """Put up other balls."""
        self._offered = presets
        for button in self.buttons:
            self._grid.removeWidget(button)
            button.hide()
            button.deleteLater()
        self.buttons = []
        for i, preset in enumerate(presets):
            button = QToolButton()
            button.setObjectName("swatch")
            button.setIcon(ball_icon(preset.colour, preset.material, preset.opacity))
            button.setIconSize(QSize(BALL, BALL))
            button.setFixedSize(BALL + 4, BALL + 4)
            button.setCheckable(True)
            button.setAccessibleName(f"Material {preset.name}")
            button.setToolTip(f"{preset.name}: takes all of it in hand")
            button.clicked.connect(lambda _=False, preset=preset: self._materials.take(preset))
            self._grid.addWidget(button, i // ACROSS, i % ACROSS)
            self.buttons.append(button)
