"""The card of fur: what grows on the part in hand."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QLabel

from kneten.app.fields.fields import Words, choice, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.dials import DialCard, beside
from kneten.document.things import Fur

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

Tone = tuple[float, float, float]

TONES: dict[str, tuple[str, Tone]] = {
    "peat": ("Peat", (0.10, 0.08, 0.07)),
    "bark": ("Bark", (0.23, 0.18, 0.13)),
    "rust": ("Rust", (0.45, 0.24, 0.13)),
    "fox": ("Fox", (0.68, 0.42, 0.22)),
    "reed": ("Reed", (0.66, 0.55, 0.42)),
    "straw": ("Straw", (0.82, 0.72, 0.52)),
    "slate": ("Slate", (0.33, 0.35, 0.37)),
    "ash": ("Ash", (0.62, 0.61, 0.59)),
    "milk": ("Milk", (0.93, 0.90, 0.85)),
    "moss": ("Moss", (0.33, 0.36, 0.20)),
}
"""Colours of roots and tips."""


def tone_of(colour: Tone) -> str:
    """The tone that is nearest to a colour."""
    return min(TONES, key=lambda key: sum((a - b) ** 2 for a, b in zip(TONES[key][1], colour, strict=True)))


class FurCard(DialCard):
    """The furs of a part, and the numbers of the one in hand."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Fur", desk.studio, "fur")
        self._furs = desk.furs
        self.none = QLabel("None yet: fine fibres over a part or its\nmask, combed in the view.")
        self.none.setObjectName("quiet")
        self.column.addWidget(self.none)
        self.which = choice("Fur", "Which of the part's furs the numbers below are of", {})
        self.which.activated.connect(lambda _: self._furs.choose(str(self.which.currentData())))
        count = self.number("count", "Fibres", 100, 400_000, "", "How many fibres there are", 3)
        self.length = self.number("length", "Length", 0.05, 5000, "mm", "How long they are in the mean", 3)
        width = self.number("width", "Width", 0.005, 50, "mm", "How thick they are at the root", 3)
        vary = self.number("vary", "Differ", 0, 100, "%", "How much shorter some of them are")
        loose = self.number("loose", "Loose", 0, 100, "%", "How much they go their own ways")
        clump = self.number("clump", "Clumped", 0, 100, "%", "How near they come together at their tips")
        curl = self.number("curl", "Curled", 0, 100, "%", "How far they wave to the sides")
        seed = self.number("seed", "Variant", 1, 999, "", "Another number lets chance fall otherwise")
        shown = self.switch("shown", "Shown", "Whether the fur is seen")
        from_clay = self.switch(
            "from_clay", "Clay's colour", "The fibres take the colour of the clay under them"
        )
        self.root = self._tone("Root", "The colour at the roots", "root")
        self.tip = self._tone("Tip", "The colour at the tips", "tip")
        self.words = Words()
        self.tones = [labelled("Root", self.root), labelled("Tip", self.tip)]
        self.details = [
            labelled("Fur", self.which),
            labelled("Fibres, variant", count, seed),
            labelled("Length", self.length),
            labelled("Width, differ", width, vary),
            labelled("Loose", loose),
            labelled("Clump, curl", clump, curl),
            beside(shown, from_clay),
            *self.tones,
            self.words,
        ]
        for widget in self.details:
            self.column.addWidget(widget)
        keys = (
            ("fur.add", "Add"), ("fur.comb", "Comb"), ("fur.lift", "Lift"), ("fur.lay", "Lay down"),
            ("fur.longer", "Lengthen"), ("fur.cut", "Cut"), ("fur.curl", "Curl"), ("fur.clump", "Clump"),
            ("fur.thin", "Thin out"), ("fur.even", "Even"), ("fur.mask", "On mask"),
            ("fur.anew", "Lay anew"), ("fur.strands", "Strands"), ("fur.remove", "Take off"),
        )  # fmt: skip
        grid, self.buttons = command_grid(desk.registry, keys)
        self.column.addLayout(grid)
        for signal in (desk.studio.scene_changed, desk.studio.project_changed):
            signal.connect(self.fill)
        self.fill()

    def _tone(self, name: str, tip: str, field: str):  # type: ignore[no-untyped-def]
        box = choice(name, tip, {key: (word, tip) for key, (word, _) in TONES.items()})
        box.activated.connect(lambda _: self._picked(field, TONES[str(box.currentData())][1]))
        return box

    def dial(self, **traits: object) -> None:
        """Show the fur in hand with other numbers."""
        self._furs.dial(**traits)

    def change(self, **traits: object) -> None:
        """Give the fur in hand other numbers."""
        self._furs.change(**traits)

    def fill(self) -> None:
        """Show the furs of the part in hand."""
        held, fur = self._furs.all, self._furs.chosen
        self._showing = True
        self.none.setVisible(fur is None)
        for widget in self.details:
            widget.setVisible(fur is not None)
        for key, button in self.buttons.items():
            button.setVisible(fur is not None or key == "fur.add")
        self.list_things(self.which, held)
        if fur is not None:
            self._show(fur)
        self._showing = False

    def _show(self, fur: Fur) -> None:
        self.which.setCurrentIndex(self.which.findData(fur.id))
        self.show_fields(fur.numbers)
        self.length.set_value(self._furs.length() * self.unit_scale())
        self.root.setCurrentIndex(self.root.findData(tone_of(fur.numbers.root)))
        self.tip.setCurrentIndex(self.tip.findData(tone_of(fur.numbers.tip)))
        for row in self.tones:
            row.setVisible(not fur.numbers.from_clay)
        self.words.setText(self._furs.words())
