"""The card of light: lamps and light sets."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QLabel

from kneten.app.fields.fields import NumberField, Words, choice, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.dials import DialCard, beside
from kneten.core.light.lamps import KINDS
from kneten.core.light.rigs import RIGS

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

NO_SET = ""


class LightCard(DialCard):
    """What lights the clay, and the numbers of the lamp in hand."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Light", desk.studio, "lamp")
        self._lights = desk.lights
        self._sets: list[tuple[str, str]] = []
        self.sets = choice(
            "Light set", "Lights the clay by a set, in the place of all lamps and of the surroundings", {}
        )
        self.sets.activated.connect(lambda _: self._light_by(str(self.sets.currentData())))
        self.column.addWidget(labelled("Light by", self.sets))
        self.words = Words()
        self.column.addWidget(self.words)
        self._build_lamp()
        self._build_buttons(desk)
        for signal in (desk.studio.scene_changed, desk.studio.project_changed):
            signal.connect(self.fill)
        self.fill()

    def _build_lamp(self) -> None:
        """The numbers of a lamp."""
        self.which = choice("Lamp", "Which lamp the numbers below are of", {})
        self.which.activated.connect(lambda _: self._lights.choose(str(self.which.currentData())))
        kind = self.pick("kind", "Kind of the lamp", "What kind of lamp it is", KINDS)
        strength = self.number(
            "strength",
            "Strength",
            0,
            1000,
            "%",
            "What arrives where it aims: 100 % makes white clay white",
            2,
        )
        warmth = self.number(
            "warmth",
            "Warmth",
            1000,
            20000,
            "K",
            "The temperature of its colour: 2,000 is a flame, 5,600 the sun, 10,000 blue sky",
            2,
        )
        self.distance = self.number(
            "distance",
            "Distance",
            1,
            100_000,
            "mm",
            "From the place that it lights to the lamp: nearer is softer",
            3,
        )
        self.wide = self.number(
            "size", "Width", 0, 50_000, "mm", "How wide it is: the wider, the softer its shadows", 3
        )
        self.degrees = NumberField(
            "Angle of the lamp",
            0,
            90,
            suffix="°",
            decimals=1,
            curve=2,
            tip="How wide it is seen, in degrees: the wider, the softer its shadows",
        )
        self.degrees.changed.connect(lambda value: self._turned("size", value, False))
        self.degrees.settled.connect(lambda value: self._turned("size", value, True))
        self.cone = self.number("cone", "Cone", 1, 175, "°", "How wide the cone is that it lights")
        shown = self.switch("shown", "Lit", "Whether it lights the clay")
        solo = self.switch("solo", "Alone", "Only lamps that are alone are lit, as long as there are any")
        self.free = self.switch(
            "free", "Own colour", "It shines in a colour of its own instead of one by its warmth"
        )
        self.warm_row = labelled("Warmth", warmth)
        self.far_rows = (labelled("Angle", self.degrees),)
        self.near_rows = (labelled("Distance", self.distance), labelled("Width", self.wide))
        self.cone_row = labelled("Cone", self.cone)
        self.details = [
            labelled("Lamp", self.which),
            labelled("Kind", kind),
            labelled("Strength", strength),
            self.warm_row,
            *self.far_rows,
            *self.near_rows,
            self.cone_row,
            beside(shown, solo),
            self.free,
        ]  # fmt: skip
        for widget in self.details:
            self.column.addWidget(widget)

    def _build_buttons(self, desk: Desk) -> None:
        keys = (
            ("light.highlight", "Highlight"), ("light.lit", "Lit side"), ("light.edge", "Edge"),
            ("light.drag", "Drag"), ("light.colour", "Colour"), ("light.copy", "Copy"), ("light.remove", "Take away"),
            ("light.keep", "Keep set"), ("light.group", "Group…"), ("light.group-lit", "Group lit"),
            ("light.group-alone", "Group alone"), ("light.forget", "Forget set"),
        )  # fmt: skip
        grid, self.buttons = command_grid(desk.registry, keys)
        self.column.addLayout(grid)
        adds = tuple((f"light.add-{key}", name) for key, (name, _) in KINDS.items())
        self.column.addWidget(QLabel("Add a lamp"))
        self.column.addLayout(command_grid(desk.registry, adds)[0])

    def unit_scale(self) -> float:
        """Lengths are of the scene."""
        return 1.0

    def dial(self, **traits: object) -> None:
        """Show the lamp in hand otherwise."""
        self._lights.dial(**traits)

    def change(self, **traits: object) -> None:
        """Have the lamp in hand otherwise."""
        self._lights.change(**traits)

    def _light_by(self, key: str) -> None:
        if key and not self._showing:
            self._lights.light_by(key)

    def fill(self) -> None:
        """Show lamps and sets as they are."""
        lights, lamp = self._lights, self._lights.chosen
        self._showing = True
        self._list_sets()
        self.words.setText(lights.words())
        self.words.setVisible(bool(lights.words()))
        for widget in self.details:
            widget.setVisible(lamp is not None)
        for key, button in self.buttons.items():
            button.setVisible(lamp is not None or key == "light.keep")
        self.buttons["light.forget"].setVisible(not lights.no_own_set())
        for key in ("light.group-lit", "light.group-alone"):
            self.buttons[key].setVisible(not lights.no_group())
        self.list_things(self.which, lights.all[::-1])
        if lamp is not None:
            self.which.setCurrentIndex(self.which.findData(lamp.id))
            self.show_fields(lamp)
            self.degrees.set_value(lamp.size)
            self.warm_row.setVisible(not lamp.free)
            for row in self.far_rows:
                row.setVisible(lamp.is_far)
            for row in self.near_rows:
                row.setVisible(not lamp.is_far)
            self.cone_row.setVisible(lamp.kind == "spot")
        self._showing = False

    def _list_sets(self) -> None:
        known = [("Choose a light set", NO_SET)]
        known += [(name, key) for key, (name, _, _) in RIGS.items()]
        known += [(one.name, one.id) for one in self._lights.own_sets]
        if known != self._sets:
            self._sets = known
            self.sets.clear()
            for name, key in known:
                self.sets.addItem(name, key)
        self.sets.setCurrentIndex(max(self.sets.findData(self._lights.set_key), 0))
