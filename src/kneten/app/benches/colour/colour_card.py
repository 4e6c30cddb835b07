"""The card of colour: what is painted with, and how the layer in hand is laid over the rest."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QComboBox, QLabel, QLineEdit, QSizePolicy, QWidget

from kneten.app.benches.colour.channel_row import channel_row
from kneten.app.benches.colour.colour_field import MOST, ColourField
from kneten.app.fields.fields import NumberField, Words, choice, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card
from kneten.app.work.dials import beside
from kneten.core.paint.ink import OF_LAYERS, Colour
from kneten.core.paint.light import codes_of, lightness_colour_hue
from kneten.core.paint.mixing import BLENDS

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

CHIP = 19


class Chips(QWidget):
    """Colours to take with a click, in one or more rows."""

    taken = Signal(object)

    def __init__(self, name: str, tip: str) -> None:
        super().__init__()
        self.colours: tuple[Colour, ...] = ()
        self.setAccessibleName(name)
        self.setToolTip(tip)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_colours(self, colours: tuple[Colour, ...]) -> None:
        """Offer other colours."""
        self.colours = colours
        self._fit()
        self.update()

    def _across(self) -> int:
        return max(self.width() // CHIP, 1)

    def _fit(self) -> None:
        rows = -(-len(self.colours) // self._across())
        self.setFixedHeight(max(rows, 1) * CHIP)

    def resizeEvent(self, event: object) -> None:  # noqa: N802
        self._fit()

    def box(self, index: int) -> QRectF:
        """Where a colour stands."""
        row, column = divmod(index, self._across())
        return QRectF(column * CHIP + 1, row * CHIP + 1, CHIP - 3, CHIP - 3)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(0, 0, 0, 90), 1))
        for index, colour in enumerate(self.colours):
            painter.setBrush(QColor(*colour))
            painter.drawRoundedRect(self.box(index), 4, 4)

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        for index, colour in enumerate(self.colours):
            if self.box(index).contains(event.position()):
                self.taken.emit(colour)
                return


class Pair(QWidget):
    """The two colours in hand: the one that paints before the other."""

    swapped = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.colours: tuple[Colour, Colour] = ((0, 0, 0), (255, 255, 255))
        self.setFixedSize(58, 40)
        self.setAccessibleName("Colours in hand")
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def sizeHint(self) -> QSize:  # noqa: N802
        return QSize(58, 40)

    def paintEvent(self, event: QPaintEvent) -> None:  # noqa: N802
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(0, 0, 0, 110), 1))
        painter.setBrush(QColor(*self.colours[1]))
        painter.drawEllipse(QRectF(27, 9, 29, 29))
        painter.setBrush(QColor(*self.colours[0]))
        painter.drawEllipse(QRectF(1, 1, 37, 37))

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self.swapped.emit()


class ColourCard(Card):
    """The colour in hand, and what is done with it."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Colour", desk.studio)
        self._desk = desk
        self._colours = desk.colours
        self._filling = False
        self.field = ColourField()
        self.field.changed.connect(self._dialled)
        self.field.settled.connect(self._colours.take)
        self.column.addWidget(self.field)
        self.pair = Pair()
        self.pair.setToolTip(desk.registry.tip(desk.registry.commands["colour.swap"]))
        self.pair.swapped.connect(lambda: desk.registry.run("colour.swap"))
        self.hex = QLineEdit()
        self.hex.setAccessibleName("Colour in hexadecimal")
        self.hex.setToolTip("The colour as #rrggbb; three digits will do")
        self.hex.setMaxLength(7)
        self.hex.editingFinished.connect(self._typed)
        self.column.addWidget(beside(self.pair, self.hex))
        self.light = NumberField("Lightness", 0, 100, suffix="%", tip="Lightness, as one sees it")
        self.colourful = NumberField("Colourfulness", 0, 100, suffix="%", tip="How colourful; 0 is grey")
        self.hue = NumberField(
            "Hue", 0, 360, suffix="°", tip="Hue: red near 30, green near 145, blue near 260"
        )
        for number in (self.light, self.colourful, self.hue):
            number.settled.connect(lambda _: self._numbered())
        self.column.addWidget(beside(self.light, self.colourful, self.hue))
        self.recent = Chips("Recent colours", "The last colours that were painted with")
        self.recent.taken.connect(self._colours.take)
        self.recent_row = labelled("Recent", self.recent)
        self.column.addWidget(self.recent_row)
        self.which = QComboBox()
        self.which.setAccessibleName("Palette")
        self.which.setToolTip("The palettes of the project")
        self.which.activated.connect(lambda _: self._colours.choose_palette(str(self.which.currentData())))
        self.chips = Chips("Palette's colours", "A click takes the colour in hand")
        self.chips.taken.connect(self._colours.take)
        self.palette_rows = (labelled("Palette", self.which), self.chips)
        for row in self.palette_rows:
            self.column.addWidget(row)
        self.blend = choice("Way to blend", "How the layer's paint is laid over what is below it", BLENDS)
        self.blend.activated.connect(lambda _: self._colours.blend(str(self.blend.currentData())))
        self.blend_row = labelled("Blend", self.blend)
        self.column.addWidget(self.blend_row)
        self.lays_row, self.lays = channel_row(
            OF_LAYERS,
            "Layer lays",
            "of the layer's paint counts, or is left as it is below",
            self._colours.lays,
        )
        self.lays_words = QLabel("What counts of the layer's paint")
        self.lays_words.setObjectName("quiet")
        self.column.addWidget(self.lays_words)
        self.column.addWidget(self.lays_row)
        self.words = Words()
        self.column.addWidget(self.words)
        keys = (
            ("colour.pick", "Pick"), ("colour.fill", "Fill"), ("colour.fill-mask", "Fill mask"),
            ("colour.clear", "Clear"), ("palette.keep", "Palette"), ("palette.picture", "Picture"),
        )  # fmt: skip
        self.column.addLayout(command_grid(desk.registry, keys)[0])
        for signal in (
            desk.studio.scene_changed, desk.studio.project_changed, desk.studio.ink_changed, desk.studio.clay_changed,
        ):  # fmt: skip
            signal.connect(self.fill)
        self.fill()

    def _dialled(self, colour: Colour) -> None:
        self._show_colour(colour)

    def _typed(self) -> None:
        text = self.hex.text().strip().lstrip("#").lower()
        if re.fullmatch(r"[0-9a-f]{3}", text):
            text = "".join(2 * letter for letter in text)
        if not re.fullmatch(r"[0-9a-f]{6}", text):
            self._studio.say(
                f"{self.hex.text()!r} is no colour: it takes six digits of 0 to 9 and a to f, such as #b06a54.",
                "warning",
            )
            self.fill()
            return
        colour = (int(text[:2], 16), int(text[2:4], 16), int(text[4:], 16))
        if colour != self._colours.colour:
            self._colours.take(colour)

    def _numbered(self) -> None:
        r, g, b = codes_of(
            self.light.value() / 100, self.colourful.value() / 100 * MOST, self.hue.value()
        ).tolist()
        self._colours.take((r, g, b))

    def _show_colour(self, colour: Colour) -> None:
        self.pair.colours = (colour, self._studio.project.settings.ink.other)
        self.pair.update()
        self.hex.setText("#{:02x}{:02x}{:02x}".format(*colour))
        lightness, colourful, hue = lightness_colour_hue(colour).tolist()
        self.light.set_value(100 * lightness)
        self.colourful.set_value(min(100 * colourful / MOST, 100))
        if colourful > 0.004:
            self.hue.set_value(hue)

    def fill(self) -> None:
        """Show what is in hand."""
        ink = self._studio.project.settings.ink
        self.field.set_colour(ink.colour)
        self._show_colour(ink.colour)
        self.recent.show_colours(ink.recent)
        self.recent_row.setVisible(bool(ink.recent))
        held, palette = self._colours.palettes, self._colours.palette
        self.which.clear()
        for one in held:
            self.which.addItem(one.name, one.id)
        if palette is not None:
            self.which.setCurrentIndex(self.which.findData(palette.id))
            self.chips.show_colours(palette.colours)
        for row in self.palette_rows:
            row.setVisible(palette is not None)
        layer = self._colours.layer
        self.blend_row.setVisible(layer is not None)
        self.lays_words.setVisible(layer is not None)
        self.lays_row.setVisible(layer is not None)
        if layer is not None:
            for key, button in self.lays.items():
                button.setChecked(key not in layer.leaves)
            self.blend.setCurrentIndex(self.blend.findData(layer.blend))
        part = self._colours.part
        to = "the clay itself" if layer is None else f"the layer {layer.name}"
        self.words.setText("" if part is None else f"Paint goes to {to}.")
