"""The card of pictures held before the view."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout

from kneten.app.fields.fields import NumberField, Words, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.dials import DialCard

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


class HeldCard(DialCard):
    """What is held, how it is seen, and what is laid of it."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Picture", desk.studio, "held picture")
        self._desk = desk
        self._pictures = desk.held
        self.which = QComboBox()
        self.which.setAccessibleName("Held picture")
        self.which.setToolTip("The pictures that are held before the view")
        self.which.activated.connect(lambda _: self._pictures.choose(str(self.which.currentData())))
        self.column.addWidget(self.which)
        self.rows = {
            field: labelled(name, self.number(field, name, low, high, unit, tip, 3 if unit == "mm" else 1))
            for field, name, low, high, unit, tip in (
                ("opacity", "Seen", 0, 100, "%", "How clearly the picture is seen before the clay"),
                (
                    "fade", "Fades by", 10, 90, "°",
                    "How far clay may be turned away from you until nothing is laid on it; it fades from half of that on",
                ),
                ("size", "Wide", 0.1, 2000, "mm", "How wide the picture is on the clay before it is laid again beside itself"),
                ("turn", "Turned", -180, 180, "°", "How far the picture is turned on the clay"),
            )
        }  # fmt: skip
        for row in self.rows.values():
            self.column.addWidget(row)
        switches = QHBoxLayout()
        switches.addWidget(
            self.switch("mirrored", "Mirrored", "What is laid on one side is laid on the other too")
        )
        switches.addWidget(
            self.switch(
                "tiled",
                "Tiled",
                "The picture is laid again and again over the whole part instead of from where you look",
            )
        )
        self.brush = QCheckBox("Brush it")
        self.brush.setAccessibleName("Brush the picture")
        self.brush.setToolTip("Paint lays the picture instead of the colour in hand")
        self.brush.toggled.connect(lambda on: None if self._showing else self._pictures.brush(on))
        switches.addWidget(self.brush)
        self.column.addLayout(switches)
        self.relief = NumberField(
            "Height of the relief", -200, 200, unit="mm", decimals=2, curve=3,
            tip="How far white stands over black when the picture is raised; below 0 it goes in",
        )  # fmt: skip
        self.relief.settled.connect(self._relieved)
        self.relief_row = labelled("Relief", self.relief)
        self.column.addWidget(self.relief_row)
        self.words = Words()
        self.column.addWidget(self.words)
        keys = (
            ("held.hold", "Hold"), ("held.fit", "Fit"), ("held.let-go", "Let go"),
            ("held.lay", "Lay"), ("held.relief", "Raise"), ("held.show", "Hide"),
        )  # fmt: skip
        self.column.addLayout(command_grid(desk.registry, keys)[0])
        for signal in (desk.studio.scene_changed, desk.studio.project_changed, desk.studio.ink_changed):
            signal.connect(self.fill)
        self.fill()

    def _relieved(self, value: float) -> None:
        self._pictures.relief = value

    def dial(self, **traits: object) -> None:
        """Nothing is dragged but what is seen at the end."""

    def change(self, **traits: object) -> None:
        """Give the picture in hand other traits."""
        self._pictures.change("Change", **traits)

    def unit_scale(self) -> float:
        """A picture is as wide as the scene's millimetres say."""
        return 1.0

    def fill(self) -> None:
        """Show what is held."""
        self._showing = True
        held, chosen = self._pictures.all, self._pictures.chosen
        self.which.clear()
        for one in held:
            self.which.addItem(self._pictures.reference(one).name, one.id)
        if chosen is not None:
            self.which.setCurrentIndex(self.which.findData(chosen.id))
            self.show_fields(chosen)
        for widget in (self.which, self.relief_row, self.brush, *self.switches.values()):
            widget.setVisible(chosen is not None)
        for field, row in self.rows.items():
            row.setVisible(chosen is not None and chosen.tiled == (field in ("size", "turn")))
        self.brush.setChecked(self._pictures.brushed)
        self.relief.set_value(self._pictures.relief)
        ink = self._studio.project.settings.ink
        if chosen is None:
            self.words.setText(
                "A picture of the board is held before the view, bent to fit, and laid through onto the clay; or it is tiled over a whole part."
            )
        else:
            also = "its colours" if ink.channels == ("colour",) else "what the card Material has on"
            self.words.setText(f"Laid and brushed: {also}.")
        self._showing = False
