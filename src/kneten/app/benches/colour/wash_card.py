"""The card of paint that follows the form: its limits are seen on the clay before anything is painted."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QCheckBox

from kneten.app.benches.colour.renewing import MOST
from kneten.app.fields.fields import Words, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.dials import DialCard, beside
from kneten.core.paint.wash import KINDS, START, Wash

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


class WashCard(DialCard):
    """Where paint lies by the form, and the layers that follow it."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("By form", desk.studio, "wash")
        self._washes = desk.washes
        kind = self.pick("kind", "Follows", "What the paint goes by", KINDS)
        low = self.number("low", "From", 0, 100, "%", "Painted is what measures more than this")
        high = self.number("high", "To", 0, 100, "%", "Painted is what measures less than this")
        soft = self.number("soft", "Softness", 0, 100, "%", "How gradually the paint begins and ends")
        strength = self.number(
            "strength", "Covers", 0, 100, "%", "How much of what is below the paint covers"
        )
        self.scale = self.number("scale", "Scale", 0.1, 2000, "mm", "How wide the largest patches are", 3)
        self.seed = self.number("seed", "Variant", 1, 999, "", "Another number lets chance fall otherwise")
        for row in (
            labelled("Follows", kind),
            labelled("From, to", low, high),
            labelled("Softness", soft),
            labelled("Covers", strength),
        ):
            self.column.addWidget(row)
        self.pattern = labelled("Scale, variant", self.scale, self.seed)
        self.column.addWidget(self.pattern)
        self.brush = QCheckBox("Brush it")
        self.brush.setAccessibleName("Brush by form")
        self.brush.setToolTip("Paint lays its colour only where the limits say, for the form as it is")
        self.brush.toggled.connect(lambda on: None if self._showing else self._washes.brush(on))
        self.renews = QCheckBox("By itself")
        self.renews.setAccessibleName("Renew by itself")
        self.renews.setToolTip(
            f"Layers that follow the form are worked out anew once the hand rests, on parts of up to {MOST:,} vertices"
        )
        self.renews.toggled.connect(lambda on: None if self._showing else self._renew(on))
        self.column.addWidget(beside(self.brush, self.renews))
        self.words = Words()
        self.column.addWidget(self.words)
        keys = (
            ("wash.show", "Show"), ("wash.paint", "Paint"), ("wash.layer", "As a layer"),
            ("wash.renew", "Renew"), ("wash.bake", "Bake"),
        )  # fmt: skip
        self.column.addLayout(command_grid(desk.registry, keys)[0])
        for signal in (desk.studio.scene_changed, desk.studio.project_changed, desk.studio.ink_changed):
            signal.connect(self.fill)
        self.fill()

    def dial(self, **traits: object) -> None:
        """Show the paint with other limits."""
        self._washes.dial(**traits)

    def change(self, **traits: object) -> None:
        """Keep other limits; a layer that follows the form gets them."""
        if "kind" in traits:
            low, high, soft = START[str(traits["kind"])]
            traits = {**traits, "low": low, "high": high, "soft": soft}
        self._washes.change(**traits)

    def _renew(self, on: bool) -> None:
        self._studio.preferences.renew_washes = on
        self._studio.scene_changed.emit()

    def fill(self) -> None:
        """Show the limits of the wash in hand."""
        wash: Wash = self._washes.wash
        self._showing = True
        self.show_fields(wash)
        self.brush.setChecked(self._washes.brushed)
        self.renews.setChecked(self._studio.preferences.renew_washes)
        self.pattern.setVisible(wash.kind in ("clouds", "speckles"))
        self.words.setText(KINDS[wash.kind][1] + ". " + self._washes.words())
        self._showing = False
