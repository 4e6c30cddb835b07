"""The card of the finish: what is done to the picture after light."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kneten.app.fields.fields import NumberField, choice, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.dials import DialCard
from kneten.core.light.finish import CURVES

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

TONES: dict[str, tuple[str, str, float, float, float]] = {
    "lift": ("Darks", "Added to what is dark", -100, 100, 0.0),
    "gamma": ("Middles", "How bright what is between is", 10, 300, 1.0),
    "gain": ("Brights", "What all is multiplied by, most seen in what is bright", 0, 300, 1.0),
}
"""What can be graded: name, what it is, least, greatest, and none of it."""


class FinishCard(DialCard):
    """The finish of the camera that is looked through, or of the view."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Finish", desk.studio, "finish")
        self._pictures = desk.pictures
        self._tables: list[tuple[str, str]] = []
        exposure = self._fine(self.number("exposure", "Exposure", -8, 8, "stops", "How much brighter all is"))
        self.column.addWidget(labelled("Exposure", exposure))
        curve = self.pick("curve", "Tone curve", "How light becomes the colours of a screen", CURVES)
        self.column.addWidget(labelled("Curve", curve))
        white = self.number(
            "white",
            "White",
            1000,
            20000,
            "K",
            "The light that is to look white: 6,500 is day, 2,800 a lantern",
            2,
        )
        self.column.addWidget(labelled("White", white))
        for name, field, low, high, tip in (
            ("Tint", "tint", -100, 100, "Greener below 0, more magenta above"),
            ("Bloom", "bloom", 0, 100, "How much of what is bright spreads around it"),
            ("Colourful", "colourful", 0, 300, "How strong colours are"),
        ):
            self.column.addWidget(labelled(name, self.number(field, name, low, high, "%", tip)))
        self.column.addWidget(
            self.switch("blurs", "Depth of field", "What is nearer or farther than the focus is not sharp")
        )
        stop = self._fine(
            self.number("stop", "F-number", 0.7, 32, "\u2009", "The smaller, the less is sharp", 2)
        )
        self.stop = labelled("F-number", stop)
        self.column.addWidget(self.stop)
        self.tone = choice(
            "Tones",
            "Which tones the three numbers below grade",
            {key: (name, tip) for key, (name, tip, *_) in TONES.items()},
        )
        self.tone.activated.connect(lambda _: self.fill())
        self.column.addWidget(labelled("Grade", self.tone))
        self.mixed = [self._mixed(k, name) for k, name in enumerate(("Red", "Green", "Blue"))]
        self.table = choice("Colour table", "A table from colours to colours, from a .cube file", {})
        self.table.activated.connect(lambda _: self._picked("table", str(self.table.currentData())))
        self.column.addWidget(labelled("Table", self.table))
        self.share = labelled(
            "Its share",
            self.number("table_share", "Share of the table", 0, 100, "%", "How much of the table is taken"),
        )
        self.column.addWidget(self.share)
        for name, field, high, tip in (
            ("Corners", "vignette", 100, "How much darker the corners are"),
            ("Grain", "grain", 100, "Grain as of film"),
            ("Sharpen", "sharpen", 200, "Makes edges steeper"),
        ):
            self.column.addWidget(labelled(name, self.number(field, name, 0, high, "%", tip)))
        keys = (
            ("finish.focus", "Focus"),
            ("finish.compare", "Without"),
            ("finish.plain", "Plain"),
            ("finish.table-load", "Load table"),
        )
        grid, self.buttons = command_grid(desk.registry, keys, 2)
        self.column.addLayout(grid)
        for signal in (desk.studio.scene_changed, desk.studio.project_changed):
            signal.connect(self.fill)
        self.fill()

    @staticmethod
    def _fine(box: NumberField) -> NumberField:
        box.decimals = 1
        return box

    def _mixed(self, channel: int, name: str) -> NumberField:
        """A number of one colour of the tones that are graded."""
        box = NumberField(
            f"{name} of the tones", -100, 300, suffix="%", decimals=0, tip=f"{name} of the tones chosen above"
        )
        box.changed.connect(lambda value: self._graded(channel, value, False))
        box.settled.connect(lambda value: self._graded(channel, value, True))
        self.column.addWidget(labelled(name, box))
        return box

    def _graded(self, channel: int, value: float, settled: bool) -> None:
        if self._showing:
            return
        key = str(self.tone.currentData())
        three = list(getattr(self._pictures.finish, key))
        three[channel] = min(max(value, TONES[key][2]), TONES[key][3]) / 100
        (self.change if settled else self.dial)(**{key: tuple(three)})

    def unit_scale(self) -> float:
        """There are no lengths."""
        return 1.0

    def dial(self, **traits: object) -> None:
        """Show another finish."""
        self._pictures.dial_finish(**traits)

    def change(self, **traits: object) -> None:
        """Have another finish."""
        self._pictures.change_finish(**traits)

    def fill(self) -> None:
        """Show the finish as it is."""
        finish = self._pictures.finish
        self._showing = True
        self._list_tables()
        self.show_fields(finish)
        self.table.setCurrentIndex(max(self.table.findData(finish.table), 0))
        for k, box in enumerate(self.mixed):
            box.set_value(100 * getattr(finish, str(self.tone.currentData()))[k])
        self.stop.setVisible(finish.blurs)
        self.share.setVisible(bool(self.table.currentData()))
        self._showing = False

    def _list_tables(self) -> None:
        known = [("None", ""), *((one.name, one.id) for one in self._pictures.tables)]
        if known != self._tables:
            self._tables = known
            self.table.clear()
            for name, key in known:
                self.table.addItem(name, key)
