"""The card of cameras."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QCheckBox

from kneten.app.benches.show.camera_frame import CameraFrame
from kneten.app.fields.fields import NumberField, Words, choice, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.card import Card

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

ASPECTS: dict[str, tuple[str, float]] = {
    "16:9": ("A screen", 16 / 9),
    "3:2": ("A photograph", 3 / 2),
    "4:3": ("Nearly square", 4 / 3),
    "1:1": ("Square", 1.0),
    "4:5": ("Upright", 4 / 5),
    "2:3": ("A photograph, upright", 2 / 3),
    "9:16": ("A telephone", 9 / 16),
    "2.39:1": ("A wide film", 2.39),
}
"""Widths by heights of pictures, and what they are usual for."""


class CamerasCard(Card):
    """Which camera is looked through, and what it is like."""

    def __init__(self, desk: Desk, frame: CameraFrame) -> None:
        super().__init__("Cameras", desk.studio)
        self._desk = desk
        self._pictures = desk.pictures
        self._frame = frame
        self._showing = False
        self._known: list[tuple[str, str]] = []
        self.which = choice("Camera", "Looks through a camera, whose finish pictures have then", {})
        self.which.activated.connect(lambda _: self._pictures.look(str(self.which.currentData())))
        self.column.addWidget(labelled("Through", self.which))
        self.words = Words()
        self.column.addWidget(self.words)
        self.aspect = choice(
            "Shape of the picture",
            "Width of the picture by its height",
            {key: (f"{key}  {name}", name) for key, (name, _) in ASPECTS.items()},
        )
        self.aspect.activated.connect(
            lambda _: self._pictures.change(aspect=ASPECTS[str(self.aspect.currentData())][1])
        )
        self.focal = NumberField(
            "Focal length of the camera",
            10,
            400,
            suffix="mm",
            decimals=0,
            curve=2,
            tip="Of its lens, on full frame; what is in the middle keeps its size",
        )
        self.focal.changed.connect(lambda value: self._turned(value, False))
        self.focal.settled.connect(lambda value: self._turned(value, True))
        self.lines = QCheckBox("Thirds and safe part")
        self.lines.setToolTip("Lines at thirds of the picture, and around what no player cuts off")
        self.lines.setAccessibleName("Thirds and safe part")
        self.lines.toggled.connect(self._draw_lines)
        self.details = [labelled("Picture", self.aspect), labelled("Lens", self.focal), self.lines]
        for widget in self.details:
            self.column.addWidget(widget)
        keys = (
            ("camera.add", "Add"), ("camera.back", "Go back"), ("camera.set", "Set here"), ("camera.frame", "Frame all"),
            ("camera.lock", "Lock"), ("camera.copy", "Copy"), ("camera.rename", "Rename"), ("camera.remove", "Take away"),
        )  # fmt: skip
        grid, self.buttons = command_grid(desk.registry, keys)
        self.column.addLayout(grid)
        for signal in (desk.studio.scene_changed, desk.studio.project_changed):
            signal.connect(self.fill)
        desk.view.camera_changed.connect(self._tell)
        self.fill()

    def _turned(self, focal: float, settled: bool) -> None:
        if not self._showing:
            angle = 2 * math.degrees(math.atan(12.0 / focal))
            (self._pictures.change_angle if settled else self._pictures.dial_angle)(angle)

    def _draw_lines(self, on: bool) -> None:
        self._frame.lines = on
        self._desk.view.repaint_over()

    def _tell(self) -> None:
        """Say where the view is."""
        shot = self._pictures.through
        if shot is None:
            words = (
                "The view, through no camera."
                if self._pictures.shots
                else "No camera yet: add one where the view is."
            )
        elif not self._pictures.is_there(shot):
            words = f"The view has gone on from {shot.name}: go back, or set it here."
        else:
            words = f"{shot.name} is locked." if shot.locked else ""
        if words != self.words.text():
            self.words.setText(words)
        self.words.setVisible(bool(words))

    def fill(self) -> None:
        """Show cameras as they are."""
        shot = self._pictures.through
        self._showing = True
        known = [("No camera", ""), *((one.name, one.id) for one in self._pictures.shots)]
        if known != self._known:
            self._known = known
            self.which.clear()
            for name, key in known:
                self.which.addItem(name, key)
        self.which.setCurrentIndex(max(self.which.findData(shot.id if shot is not None else ""), 0))
        for widget in self.details:
            widget.setVisible(shot is not None)
        for key, button in self.buttons.items():
            button.setVisible(shot is not None or key == "camera.add")
        if shot is not None:
            near = min(ASPECTS, key=lambda one: abs(ASPECTS[one][1] - shot.aspect))
            exact = abs(ASPECTS[near][1] - shot.aspect) < 0.01
            self.aspect.setCurrentIndex(self.aspect.findData(near) if exact else -1)
            self.focal.set_value(shot.camera.focal_length)
            self.buttons["camera.lock"].setText("Unlock" if shot.locked else "Lock")
        self._tell()
        self._showing = False
