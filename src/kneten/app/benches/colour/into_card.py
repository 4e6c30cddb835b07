"""The card that makes one thing of another: a mask of a layer's height, wet of what is dark, and so on."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QHBoxLayout

from kneten.app.fields.fields import CurveField, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.dials import DialCard
from kneten.core.paint.into import SOURCES, TARGETS, Into
from kneten.document.becoming import become

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk


class Becoming:
    """The command that makes one thing of another.

    Attributes
    ----------
    into : Into
        What is to become what.
    """

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._studio = desk.studio
        self.into = Into()

    def make(self) -> None:
        """Make of the part in hand what is chosen."""
        part = self._studio.project.active
        assert part is not None
        self._studio.project.end_trials()
        self._studio.project.settle([part.id])
        part = self._studio.project.scene.part(part.id)
        try:
            done = become(self._studio.project, part, self.into)
        except ValueError as error:
            self._studio.say(str(error), "warning")
            return
        if not done:
            self._studio.say(f"{part.name} is like that already, or all of it is masked.")


class IntoCard(DialCard):
    """What becomes what, and how."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("One into another", desk.studio, "clay made of another thing")
        self._becoming = desk.becoming
        self.column.addWidget(
            labelled("Of", self.pick("source", "What becomes another", "What is looked at", SOURCES))
        )
        self.column.addWidget(
            labelled("Make", self.pick("target", "What it becomes", "What is made of it", TARGETS))
        )
        self.curve = CurveField(
            "Curve of one into another", "What becomes of little, at the left, and of much", False
        )
        self.curve.changed.connect(lambda points: self.change(curve=points))
        self.column.addWidget(self.curve)
        row = QHBoxLayout()
        row.addWidget(self.switch("inverted", "Inverted", "Of much becomes little"))
        self.column.addLayout(row)
        self.raises = labelled(
            "Raises by",
            self.number("height", "Height", -100, 100, "mm", "How far 100 % raises; below 0 it sinks", 3),
        )
        self.column.addWidget(self.raises)
        self.column.addLayout(command_grid(desk.registry, (("into.make", "Make it"),), 1)[0])
        self.fill()

    def unit_scale(self) -> float:
        """Its height is of the scene, whatever the part's scale."""
        return 1.0

    def change(self, **traits: object) -> None:
        """Keep another choice."""
        self._becoming.into = replace(self._becoming.into, **traits)
        self.fill()

    def fill(self) -> None:
        """Show what is chosen."""
        self._showing = True
        self.show_fields(self._becoming.into)
        self.curve.set_points(self._becoming.into.curve)
        self.raises.setVisible(self._becoming.into.target == "height")
        self._showing = False
