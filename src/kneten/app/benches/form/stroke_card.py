"""How strokes run: kind, spacing, tapers, what they leave alone, the pen."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QLabel

from kneten.app.fields.fields import CurveField, NumberField, labelled
from kneten.app.work.card import Card
from kneten.app.work.studio import Studio
from kneten.core.brushes.tool import STROKES


class StrokeCard(Card):
    """How the stroke of the tool in hand runs."""

    def __init__(self, studio: Studio) -> None:
        super().__init__("Stroke", studio)
        self._showing = False
        brush = studio.set_brush
        self.kind = QComboBox()
        self.kind.setAccessibleName("Kind of stroke")
        self.kind.setToolTip("Kind of stroke")
        for key, (name, does) in STROKES.items():
            self.kind.addItem(name, key)
            self.kind.setItemData(self.kind.count() - 1, does, 3)
        self.kind.setMinimumContentsLength(8)
        self.kind.activated.connect(lambda _: brush(kind=self.kind.currentData()))
        self.column.addWidget(labelled("Kind", self.kind))
        self.fields: dict[str, NumberField] = {}
        for name, field, low, high, suffix, share, tip in (
            ("Spacing", "spacing", 2, 100, "%", 100, "Distance from dab to dab, of the brush's radius"),
            ("Jitter", "jitter", 0, 300, "%", 100, "How far dabs are strewn about the stroke, of the radius"),
            ("Taper", "taper", 0, 8, "radii", 1, "Length over which a stroke begins and ends"),
            (
                "Build-up limit", "build_up_limit", 0, 200, "%", 100,
                "The farthest one stroke may move the clay, of the brush's radius; 0 is without limit",
            ),
            ("Steadying", "steadying", 0, 120, "px", 1, "The brush follows on a leash of this length: no tremble"),
            ("Speed narrows", "speed_size", 0, 100, "%", 100, "How much a fast stroke narrows the brush"),
        ):  # fmt: skip
            box = NumberField(name, low, high, suffix=suffix, decimals=1 if suffix == "radii" else 0, tip=tip)
            box.changed.connect(lambda v, field=field, share=share: brush(**{field: v / share}))
            self.fields[field] = box
            self.column.addWidget(labelled(name, box))
        self._shares = {"taper": 1.0, "steadying": 1.0}
        self.boxes: dict[str, QCheckBox] = {}
        title = QLabel("Leave alone")
        title.setObjectName("quiet")
        self.column.addWidget(title)
        self._pair(
            ("Open edges", "auto_edge", "Open edges stay where they are"),
            ("Hollows", "auto_cavity", "Only what stands out is worked on"),
        )
        self._pair(
            ("Peaks", "auto_peak", "Only what lies in hollows is worked on"),
            ("Other regions", "auto_region", "Only the region under the press is worked on"),
        )
        self._pair(
            ("Pen: size", "pressure_size", "Pen pressure changes the size"),
            ("Pen: strength", "pressure_strength", "Pen pressure changes the strength"),
        )
        self._pair(("Pen: tilt widens", "tilt_size", "A pen laid flat makes the brush wider"))
        self.pressure = CurveField(
            "Pressure curve",
            "Size from a light touch (left) to full pressure (right): drag the points",
            False,
        )
        self.pressure.changed.connect(lambda points: brush(pressure_curve=points))
        self.column.addWidget(self.pressure)
        self.force = CurveField(
            "Pressure curve of the strength",
            "Strength from a light touch (left) to full pressure (right): drag the points",
            False,
        )
        self.force.changed.connect(lambda points: brush(pressure_curve_strength=points))
        self.column.addWidget(self.force)
        studio.tool_changed.connect(self.fill)
        self.fill()

    def _pair(self, *boxes: tuple[str, str, str]) -> None:
        row = QHBoxLayout()
        for text, name, tip in boxes:
            box = QCheckBox(text)
            box.setToolTip(tip)
            box.setAccessibleName(text)
            box.toggled.connect(
                lambda on, name=name: None if self._showing else self._studio.set_brush(**{name: on})
            )
            row.addWidget(box)
            self.boxes[name] = box
        self.column.addLayout(row)

    def fill(self) -> None:
        """Show the tool in hand."""
        self._showing = True
        tool, held = self._studio.tool, self._studio.settings()
        self.kind.setCurrentIndex(max(self.kind.findData(held.kind), 0))
        self.kind.setEnabled(not tool.holds)
        for name, field in self.fields.items():
            field.set_value(float(getattr(held, name)) * (1.0 if self._shares.get(name) else 100.0))
        for name in ("spacing", "jitter", "taper", "speed_size"):
            self.fields[name].setEnabled(not tool.holds)
        self.fields["build_up_limit"].setEnabled(not tool.changes)
        for name, box in self.boxes.items():
            box.setChecked(bool(getattr(held, name)))
        self.pressure.set_points(held.pressure_curve)
        self.force.set_points(held.pressure_curve_strength or held.pressure_curve)
        self.pressure.setVisible(held.pressure_size)
        self.force.setVisible(held.pressure_strength)
        self._showing = False
