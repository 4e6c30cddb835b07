"""The card that makes colours others: hues turned, lighter, richer, on what paint goes to."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from kneten.app.fields.fields import Words, labelled
from kneten.app.work.buttons import command_grid
from kneten.app.work.dials import DialCard
from kneten.core.arrays import U8
from kneten.core.changes import noted
from kneten.core.mesh import Mesh
from kneten.core.paint.shifting import Shift
from kneten.document.opening import StackError
from kneten.document.painting import recolour, recoloured

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

AT_ONCE = 400_000
"""Vertices up to which all of a part is coloured while a number is dragged: 15 ms."""


class RecolourCard(DialCard):
    """Hue, lightness and colourfulness of a layer's paint, or of the clay's own colours."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Recolour", desk.studio, "colours")
        self._desk = desk
        self._was: tuple[Mesh, U8] | None = None
        for field, name, low, high, unit, tip in (
            ("hue", "Hue", -180, 180, "°", "How far hues are turned"),
            ("light", "Lightness", -100, 100, "%", "Darker below 0, lighter above"),
            ("rich", "Colourfulness", -100, 100, "%", "Greyer below 0, richer above"),
        ):
            self.column.addWidget(labelled(name, self.number(field, name, low, high, unit, tip)))
        self.words = Words()
        self.column.addWidget(self.words)
        self.column.addLayout(
            command_grid(
                desk.registry, (("edit.milestone", "Keep variant"), ("milestone.variants", "Picture")), 2
            )[0]
        )
        for signal in (desk.studio.scene_changed, desk.studio.project_changed):
            signal.connect(self.fill)
        desk.studio.project_changed.connect(self._forget)
        self.fill()

    def _forget(self) -> None:
        self._was = None

    def _blocked(self) -> str:
        return str(self._desk.colours.none())

    def dial(self, **traits: object) -> None:
        """Show the colours that a number would give."""
        part = self._studio.project.active
        if self._blocked() or part is None or part.mesh.n_vertices > AT_ONCE:
            return
        mesh = part.mesh
        self._studio.project.try_on(self)
        if self._was is None:
            self._was = mesh, mesh.value("colour").copy()
        try:
            mesh.need("colour")[:] = recoloured(part, replace(Shift(), **traits))  # type: ignore[arg-type]
        except StackError:
            return
        self._noted(mesh)

    def put_back(self) -> None:
        """The colours as they were."""
        was, self._was = self._was, None
        if was is not None:
            mesh, colour = was
            mesh.need("colour")[:] = colour
            self._noted(mesh)

    def _noted(self, mesh: Mesh) -> None:
        noted(mesh, "colour", np.arange(mesh.n_vertices, dtype=np.int32))
        self._desk.view.moved()

    def change(self, **traits: object) -> None:
        """Make the colours others: one step; the numbers begin at 0 again."""
        self._studio.project.end_trials()
        shift = replace(Shift(), **traits)  # type: ignore[arg-type]
        part = self._studio.project.active
        if blocked := self._blocked():
            self._studio.say(blocked, "warning")
        elif part is not None and shift != Shift() and shift.usable:
            self._studio.project.settle([part.id])
            try:
                recolour(self._studio.project, self._studio.project.scene.part(part.id), shift)
            except StackError as error:
                self._studio.say(str(error), "warning")
        self.fill()

    def fill(self) -> None:
        """Begin at 0, and say what is meant."""
        self._showing = True
        self.show_fields(Shift())
        layer = self._desk.colours.layer
        what = "the clay's own colours" if layer is None else f"the paint of {layer.name}"
        self.words.setText(f"Makes {what} others.")
        self._showing = False
