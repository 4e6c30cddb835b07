"""The card of the tool in hand."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QPushButton,
    QSizePolicy,
    QToolButton,
)

from kneten.app.benches.form.trial_ball import TrialBall
from kneten.app.fields.fields import CurveField, NumberField, labelled
from kneten.app.work.preferences import SHARED
from kneten.app.work.studio import Studio
from kneten.core.falloff import PRESETS

if TYPE_CHECKING:
    pass


from kneten.app.work.card import Card

TELLS = {
    "size": "The brush's size is",
    "strength": "The strength is",
    "stroke": "Spacing, steadying, jitter, taper and what the pen does are",
}
"""What a group of shared settings is, in a tooltip."""


def _toggle(text: str, name: str, tip: str) -> QToolButton:
    """A small switch that shares a row with others."""
    button = QToolButton()
    button.setObjectName("toggle")
    button.setText(text)
    button.setAccessibleName(name)
    button.setToolTip(tip)
    button.setCheckable(True)
    button.setStyleSheet("padding: 3px 0px; font-size: 12px;")
    button.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
    return button


class ToolCard(Card):
    """How the tool in hand is held."""

    def __init__(self, studio: Studio) -> None:
        super().__init__("Tool", studio)
        self._showing = False
        brush = studio.set_brush
        self.radius = NumberField(
            "Size", 2, 400, suffix="px", curve=2, tip="Radius of the brush on screen ([ and ])"
        )
        self.radius.changed.connect(lambda v: brush(size=v))
        self.strength = NumberField("Strength", 0, 100, suffix="%", tip="How much each dab does (, and .)")
        self.strength.changed.connect(lambda v: brush(strength=v / 100))
        self.column.addWidget(labelled("Size", self.radius))
        self.column.addWidget(labelled("Strength", self.strength))
        self.variant = QComboBox()
        self.variant.setAccessibleName("Variant")
        self.variant.setToolTip("Another way of working of the same tool")
        self.variant.setMinimumContentsLength(8)
        self.variant.activated.connect(lambda _: brush(variant=self.variant.currentData()))
        self.variant_row = labelled("Way", self.variant)
        self.column.addWidget(self.variant_row)
        self.on_model = self._check(
            "Size in millimetres",
            "The brush keeps its size on the clay when the view comes nearer",
            "size_on_model",
        )
        self.column.addWidget(self.on_model)
        self.falloff = CurveField(
            "Falloff", "How the force falls from the middle to the rim: drag the points", True
        )
        self.falloff.changed.connect(lambda points: brush(falloff=points))
        self.column.addWidget(self.falloff)
        row = QHBoxLayout()
        row.setSpacing(3)
        self.presets: dict[str, QToolButton] = {}
        for name in PRESETS:
            button = _toggle(
                name.capitalize(), f"{name.capitalize()} falloff", f"{name.capitalize()} falloff"
            )
            button.setMinimumWidth(40)
            button.clicked.connect(lambda _=False, name=name: brush(falloff=PRESETS[name]))
            row.addWidget(button)
            self.presets[name] = button
        self.column.addLayout(row)
        self.trial = TrialBall(studio)
        self.column.addWidget(self.trial)
        self.reverse = self._check("Reverse", "Does the opposite (hold Ctrl for a while)", "reverse")
        self.front = self._check("Front only", "Leaves alone what faces away from you", "front_only")
        self.through = self._check(
            "Through the clay",
            "Reaches all within the ring: the far side of thin clay and what lies beside it, too",
            "through",
        )
        pair = QHBoxLayout()
        pair.addWidget(self.reverse)
        pair.addWidget(self.front)
        self.column.addLayout(pair)
        self.column.addWidget(self.through)
        self.sharing: dict[str, QToolButton] = {}
        for group, (name, _) in SHARED.items():
            tip = f"{TELLS[group]} the same for all tools; otherwise each tool keeps its own"
            button = _toggle(name, f"{name} for all tools", tip)
            button.setMinimumWidth(button.fontMetrics().horizontalAdvance(name))
            button.clicked.connect(lambda on, group=group: studio.share(group, on))
            self.sharing[group] = button
        self.column.addWidget(labelled("All tools", *self.sharing.values()))
        self.reset = QPushButton("As it was made")
        self.reset.setAccessibleName("Reset tool")
        self.reset.setToolTip("Hold this tool the way it came with Kneten")
        self.reset.clicked.connect(self._reset)
        self.column.addWidget(self.reset)
        studio.tool_changed.connect(self.fill)
        self.fill()

    def _check(self, text: str, tip: str, name: str) -> QCheckBox:
        box = QCheckBox(text)
        box.setToolTip(tip)
        box.setAccessibleName(text)
        box.toggled.connect(lambda on: None if self._showing else self._studio.set_brush(**{name: on}))
        return box

    def _reset(self) -> None:
        self._studio.preferences.tools.pop(self._studio.tool.key, None)
        self._studio.tool_changed.emit()

    def fill(self) -> None:
        """Show the tool in hand."""
        self._showing = True
        tool, held = self._studio.tool, self._studio.settings()
        self.set_title(tool.name)
        self.radius.set_value(held.size)
        self.strength.set_value(held.strength * 100)
        self.falloff.set_points(held.falloff)
        self.radius.suffix = "mm" if held.size_on_model else "px"
        self.radius.set_value(held.size)
        self.variant.clear()
        for key, name, does in tool.variants:
            self.variant.addItem(name, key)
            self.variant.setItemData(self.variant.count() - 1, does, Qt.ItemDataRole.ToolTipRole)
        self.variant.setCurrentIndex(max(self.variant.findData(held.variant), 0) if tool.variants else -1)
        self.variant_row.setVisible(bool(tool.variants))
        for box, on in (
            (self.reverse, held.reverse),
            (self.front, held.front_only),
            (self.through, held.through),
            (self.on_model, held.size_on_model),
        ):
            box.setChecked(on)
        for group, button in self.sharing.items():
            button.setChecked(group in self._studio.preferences.shared)
        self.reverse.setEnabled(bool(tool.reversed_name))
        for name, button in self.presets.items():
            button.setChecked(held.falloff == PRESETS[name])
        self._showing = False
