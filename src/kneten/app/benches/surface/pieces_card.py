"""The card of rows and scatter."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QLabel, QWidget

from kneten.app.fields.fields import Words, choice, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.dials import DialCard, beside
from kneten.core.live.recipes import Laid
from kneten.core.scatter.numbers import ALONG, FLOWS, OVER, SHRINKS, Row, Scatter
from kneten.document.regions import region_name

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

SEVERAL = "several"
"""Stands for the parts that a row or scatter is made of in turn."""


class PiecesCard(DialCard):
    """The numbers of the row or scatter in hand."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Rows and scatter", desk.studio, "pieces")
        self._layings = desk.layings
        self.none = QLabel("Take clay in hand and lay small pieces\nover it, or along its guides.")
        self.none.setObjectName("quiet")
        self.column.addWidget(self.none)
        self.piece = choice("Piece", "What is laid: one of our own pieces, or a part", {})
        self.piece.activated.connect(lambda _: self._take_piece())
        self.of = choice("Which", "The region or the strand that is meant", {})
        self.of.activated.connect(lambda _: self._picked("of", str(self.of.currentData())))
        self.words = Words()
        self.of_row = labelled("Which", self.of)
        self.details = self._common()
        self.scatter_rows = self._of_scatter()
        self.row_rows = self._of_row()
        for widget in (*self.details, *self.scatter_rows, *self.row_rows, self.of_row, self.words):
            self.column.addWidget(widget)
        keys = (
            ("laying.scatter", "Scatter"), ("laying.row", "Row"), ("laying.anew", "Lay anew"),
            ("laying.mask", "On mask"), ("laying.parts", "Chosen parts"), ("live.bake", "Bake"),
        )  # fmt: skip
        grid, self.buttons = command_grid(desk.registry, keys)
        self.column.addLayout(grid)
        for signal in (desk.studio.scene_changed, desk.studio.project_changed):
            signal.connect(self.fill)
        self.fill()

    def _common(self) -> list[QWidget]:
        """What rows and scatter have in common."""
        size = self.number(
            "size", "Size", 0.02, 5000, "mm", "How large a piece's longer side on the clay is", 3
        )
        vary = self.number("vary", "Differ", 0, 90, "%", "By how much their sizes differ by chance")
        gap = self.number(
            "gap",
            "Apart",
            -90,
            500,
            "%",
            "How far they are apart, against their size; below 0 they lie over each other",
            2,
        )
        turn = self.number("turn", "Turn", -180, 180, "°", "How far they are turned on the clay")
        loose = self.number(
            "loose", "Loose", 0, 180, "°", "By how much they are turned by chance, to either side"
        )
        lean = self.number("lean", "Lean", -80, 80, "°", "How far they lean along their heading")
        sink = self.number("sink", "Sunk", -50, 100, "%", "How much of their height is sunk into the clay")
        self.switch("bend", "Bent", "They follow the clay as a whole; else only their foot does")
        self.switch("mirrored", "Mirrored", "The right side is the left side's mirror image")
        seed = self.number("seed", "Variant", 1, 999, "", "Another number lets chance fall otherwise")
        return [
            labelled("Piece", self.piece),
            labelled("Size, differ", size, vary),
            labelled("Apart, sunk", gap, sink),
            labelled("Turn, loose", turn, loose),
            labelled("Lean, variant", lean, seed),
            beside(self.switches["bend"], self.switches["mirrored"]),
        ]

    def _of_scatter(self) -> list[QWidget]:
        """What only scatter has."""
        self.pick("over", "Where", "What the pieces lie on", OVER)
        most = self.number("most", "At most", 1, 1_000_000, "", "How many pieces there are at most", 4)
        even = self.number("even", "Even", 0, 100, "%", "0: where chance has them; 100: as evenly as can be")
        self.pick("flow", "Pointing", "Which way they point", FLOWS)
        self.pick("shrink_by", "Smaller by", "What makes them smaller", SHRINKS)
        shrink = self.number("shrink", "Least", 5, 100, "%", "How large they are where they are smallest")
        reach = self.number("reach", "Within", 0, 5000, "mm", "How far from the guides they grow smaller", 3)
        self.shrink_row = labelled("Least", shrink)
        self.reach_row = labelled("Within", reach)
        return [
            labelled("Where", self.choices["over"]),
            labelled("At most, even", most, even),
            labelled("Pointing", self.choices["flow"]),
            labelled("Smaller by", self.choices["shrink_by"]),
            self.shrink_row,
            self.reach_row,
        ]

    def _of_row(self) -> list[QWidget]:
        """What only rows have."""
        self.pick("along", "Along", "What the row follows", ALONG)
        count = self.number(
            "count", "Count", 0, 100_000, "", "How many stand on each line; 0 for as many as fit", 4
        )
        ends = self.number(
            "ends", "At the ends", 5, 400, "%", "How large they are at a line's ends, against its middle"
        )
        aside = self.number(
            "aside", "Beside", -1000, 1000, "mm", "How far they stand beside the line, to its left", 3
        )
        self.switch("weave", "To and fro", "Every second one stands on the other side, turned round")
        return [
            labelled("Along", self.choices["along"]),
            labelled("Count, ends", count, ends),
            labelled("Beside", aside, self.switches["weave"]),
        ]

    def dial(self, **traits: object) -> None:
        """Show the row or scatter in hand with other numbers."""
        self._layings.dial(**traits)

    def change(self, **traits: object) -> None:
        """Give the row or scatter in hand other numbers."""
        if "over" in traits or "along" in traits:
            # The region, or the strand, that is meant with it.
            known = self._named(str(traits.get("over", traits.get("along"))))
            traits["of"] = known[-1][0] if known else ""
        self._layings.change(**traits)

    def _take_piece(self) -> None:
        key = str(self.piece.currentData())
        if not self._showing and key != SEVERAL:
            self._layings.change(sources=(key,))

    def _named(self, what: str) -> list[tuple[str, str]]:
        """The regions or strands that can be meant: what they are kept as, and their names."""
        scene = self._studio.project.scene
        if what in ("region", "border"):
            return [(str(number), region_name(scene, number)) for number in self._layings.regions()]
        if what == "strands":
            return [(part.id, part.name) for part in self._layings.strands()]
        return []

    def fill(self) -> None:
        """Show the row or scatter in hand."""
        part = self._layings.chosen
        recipe = part.recipe if part is not None else None
        self._showing = True
        self.none.setVisible(recipe is None)
        for widget in self.details:
            widget.setVisible(recipe is not None)
        for widget in self.scatter_rows:
            widget.setVisible(isinstance(recipe, Scatter))
        for widget in self.row_rows:
            widget.setVisible(isinstance(recipe, Row))
        for key, button in self.buttons.items():
            needs_one = key not in ("laying.scatter", "laying.row")
            button.setVisible(recipe is not None or not needs_one)
        self.buttons["laying.mask"].setVisible(isinstance(recipe, Scatter))
        self.of_row.setVisible(False)
        self.words.setVisible(recipe is not None)
        if isinstance(recipe, Laid):
            self._show(recipe)
        self._showing = False

    def _show(self, recipe: Laid) -> None:
        self.show_fields(recipe)
        self.words.setText(self._layings.words())
        self.piece.clear()
        for key, name in self._layings.pieces().items():
            self.piece.addItem(name, key)
        if len(recipe.sources) > 1:
            self.piece.addItem(f"{len(recipe.sources)} parts in turn", SEVERAL)
        at = self.piece.findData(recipe.sources[0] if len(recipe.sources) == 1 else SEVERAL)
        self.piece.setCurrentIndex(at)
        if isinstance(recipe, Scatter):
            shrinks = recipe.shrink_by != "none"
            self.shrink_row.setVisible(shrinks)
            self.reach_row.setVisible(recipe.shrink_by == "guides")
        known = self._named(recipe.over if isinstance(recipe, Scatter) else recipe.along)
        self.of_row.setVisible(bool(known))
        self.of.clear()
        for key, name in known:
            self.of.addItem(name, key)
        self.of.setCurrentIndex(max(self.of.findData(recipe.of), 0))
