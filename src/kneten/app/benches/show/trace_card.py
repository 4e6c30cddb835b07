"""The card of the ray-traced still: the picture as it grows."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QImage, QPixmap
from PySide6.QtWidgets import QLabel

from kneten.app.fields.fields import NumberField, Words, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk
    from kneten.render.still import Still


class TraceCard(Card):
    """What is traced, how far it is, and what it is to be."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Ray-traced still", desk.studio)
        self._traces = desk.traces
        self._seen: Still | None = None
        self.picture = QLabel()
        self.picture.setAccessibleName("Ray-traced picture")
        self.picture.setToolTip("The ray-traced picture as far as it is")
        self.picture.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.column.addWidget(self.picture)
        self.words = Words()
        self.column.addWidget(self.words)
        self.numbers = {
            name: self._number(name, label, low, high, suffix, tip)
            for name, label, low, high, suffix, tip in (
                ("width", "Width", 64, 8192, "px", "Pixels across; the height follows from the camera"),
                ("samples", "Samples", 1, 4096, "", "For each pixel: the more, the less is left to guess"),
                ("seed", "Seed", 0, 9999, "", "The same seed gives the same picture"),
            )
        }
        keys = (
            ("trace.start", "Trace"), ("trace.save", "Save…"), ("trace.pause", "Rest"),
            ("trace.enough", "Enough"), ("trace.cancel", "Cancel"),
        )  # fmt: skip
        grid, self.buttons = command_grid(desk.registry, keys)
        self.column.addLayout(grid)
        desk.traces.changed.connect(self.fill)
        self.fill()

    def _number(self, name: str, label: str, low: float, high: float, suffix: str, tip: str) -> NumberField:
        box = NumberField(f"{label} of the picture", low, high, suffix=suffix, decimals=0, curve=2, tip=tip)
        box.set_value(getattr(self._traces, name))
        box.settled.connect(lambda value: setattr(self._traces, name, round(value)))
        self.column.addWidget(labelled(label, box))
        return box

    def fill(self) -> None:
        """Show the picture, and how far it is."""
        traces = self._traces
        self.words.setText(traces.words())
        self.buttons["trace.start"].setVisible(not traces.at_work)
        for key in ("trace.pause", "trace.enough", "trace.cancel"):
            self.buttons[key].setVisible(traces.at_work)
        self.buttons["trace.pause"].setText(
            "Go on" if traces.tracing is not None and traces.tracing.paused else "Rest"
        )
        self.buttons["trace.save"].setVisible(traces.still is not None)
        self.picture.setVisible(traces.still is not None)
        if traces.still is not None and traces.still is not self._seen:
            self._seen = traces.still
            codes = np.ascontiguousarray(
                np.clip(np.rint(traces.still.colours[..., :3] * 255), 0, 255), np.uint8
            )
            height, width = codes.shape[:2]
            image = QImage(codes.tobytes(), width, height, 3 * width, QImage.Format.Format_RGB888)
            room = max(self.width() - 28, 180)
            shown = QPixmap.fromImage(image)
            self.picture.setPixmap(
                shown.scaled(
                    room, room, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation
                )
            )
