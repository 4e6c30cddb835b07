"""The card of surroundings: sky, floor, how bright the picture is."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kneten.app.fields.fields import labelled
from kneten.app.work.dials import DialCard
from kneten.core.light.skies import SKIES

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


class AroundCard(DialCard):
    """What is around the clay."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Surroundings", desk.studio, "surroundings")
        self._lights = desk.lights
        skies = {key: (name, tip) for key, (name, tip, _) in SKIES.items()}
        self.column.addWidget(
            labelled("Sky", self.pick("sky", "Sky", "What lights the clay from all around", skies))
        )
        for name, field, low, high, unit, tip, curve in (
            ("Strength", "strength", 0, 500, "%", "How bright the sky is", 2),
            ("Turned", "turn", -180, 180, "°", "Which way the sky is turned about the vertical", 1),
        ):
            self.column.addWidget(labelled(name, self.number(field, f"{name}", low, high, unit, tip, curve)))
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
        exposure = self.number(
            "exposure", "Exposure", -8, 8, "stops", "How much brighter the whole picture is"
        )
        exposure.decimals = 1
        self.column.addWidget(labelled("Exposure", exposure))
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
        self.show_fields(self._lights.around)
        self.blur.setVisible(self._lights.around.shown)
        self._showing = False
