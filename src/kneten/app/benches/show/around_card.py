"""The card of surroundings: sky and floor."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt

from kneten.app.fields.fields import labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.dials import DialCard
from kneten.core.light.skies import SKIES
from kneten.core.light.surroundings import BACKDROPS, OWN

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


class AroundCard(DialCard):
    """What is around the clay."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Surroundings", desk.studio, "surroundings")
        self._lights = desk.lights
        self.sky = self.pick("sky", "Sky", "What lights the clay from all around", {})
        self._skies: list[tuple[str, str, str]] = []
        self.column.addWidget(labelled("Sky", self.sky))
        keys = (("light.sky-load", "Load a sky"), ("light.sky-forget", "Take away"))
        grid, self.buttons = command_grid(desk.registry, keys, 2)
        self.column.addLayout(grid)
        for name, field, low, high, unit, tip, curve in (
            ("Strength", "strength", 0, 500, "%", "How bright the sky is", 2),
            ("Turned", "turn", -180, 180, "°", "Which way the sky is turned about the vertical", 1),
        ):
            self.column.addWidget(labelled(name, self.number(field, f"{name}", low, high, unit, tip, curve)))
        self.hours = [
            labelled(name, self.number(field, name, low, high, unit, tip))
            for name, field, low, high, unit, tip in (
                (
                    "Hour",
                    "hour",
                    0,
                    24,
                    "h",
                    "The hour of the day: where the sun stands, and what the sky is",
                ),
                ("Haze", "haze", 0, 100, "%", "How hazy the air is: the more, the paler and warmer"),
            )
        ]
        self.numbers["hour"].decimals = 1
        for row in self.hours:
            self.column.addWidget(row)
        self.column.addWidget(self.switch("shown", "Sky behind the clay", "The sky is seen behind the clay"))
        self.blur = labelled(
            "Blurred", self.number("blur", "Blur", 0, 100, "%", "How blurred the sky is seen")
        )
        self.column.addWidget(self.blur)
        self.column.addWidget(
            self.switch(
                "catches",
                "Floor catches shadows",
                "An unseen floor under the clay, on which its shadows fall",
            )
        )
        mirrors = self.number(
            "mirror", "Mirroring", 0, 100, "%", "How much the floor mirrors the clay, as polished stone does"
        )
        self.column.addWidget(labelled("Floor mirrors", mirrors))
        backdrop = self.pick("backdrop", "Backdrop", "What stands behind and below the clay", BACKDROPS)
        self.column.addWidget(labelled("Backdrop", backdrop))
        keys = (("light.backdrop-colour", "Colour in hand"), ("light.pedestal", "Pedestal"))
        grid, more = command_grid(desk.registry, keys, 2)
        self.buttons |= more
        self.column.addLayout(grid)
        for signal in (desk.studio.scene_changed, desk.studio.project_changed):
            signal.connect(self.fill)
        self.fill()

    def unit_scale(self) -> float:
        """There are no lengths."""
        return 1.0

    def dial(self, **traits: object) -> None:
        """Show other surroundings."""
        self._lights.dial_around(**traits)

    def change(self, **traits: object) -> None:
        """Have other surroundings."""
        self._lights.change_around(**traits)

    def fill(self) -> None:
        """Show the surroundings as they are."""
        self._showing = True
        self._list_skies()
        self.buttons["light.sky-forget"].setVisible(not self._lights.no_own_sky())
        self.show_fields(self._lights.around)
        self.blur.setVisible(self._lights.around.shown)
        for row in self.hours:
            row.setVisible(self._lights.around.by_hour)
        self.buttons["light.backdrop-colour"].setVisible(bool(self._lights.around.backdrop))
        self._showing = False

    def _list_skies(self) -> None:
        known = [(name, key, tip) for key, (name, tip, _) in SKIES.items()]
        known += [(one.name, OWN + one.id, "A sky of your own") for one in self._lights.own_skies]
        if known != self._skies:
            self._skies = known
            self.sky.clear()
            for row, (name, key, tip) in enumerate(known):
                self.sky.addItem(name, key)
                self.sky.setItemData(row, tip, Qt.ItemDataRole.ToolTipRole)
