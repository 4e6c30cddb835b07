"""Shapes whose dials are being moved: fast while the hand moves, whole once it rests."""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer

from kneten.app.view.trial import RESTED, Trial
from kneten.core.paint.layers import packed_in
from kneten.core.pose.blend import Blend
from kneten.core.pose.shape_edits import moves_in_hand
from kneten.core.pose.shapes import driven_dials, following
from kneten.document.driving import shapes_of, turns_in
from kneten.document.opening import stack_of
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas
    from kneten.app.view.desk import Desk


SLOWEST = 500
"""Milliseconds without a change after which the hand rests in any case."""


class HeldClay:
    """One part that shapes move.

    Attributes
    ----------
    part : Part
    """

    def __init__(self, view: Canvas, part: Part, ids: Collection[str]) -> None:
        self.part = part
        self._stack = packed_in(stack_of(part), part.mesh).taken(part.mesh.positions)
        self._layers = [one for one in self._stack.layers if one.shape is not None and one.shape.id in ids]
        self._trial = Trial(view, part)
        self._blend = Blend(self._trial.before, moves_in_hand(self._stack, self._layers))

    def show(self, dials: Mapping[str, float]) -> bool:
        """Show it at some dials; whether only what stands in for it was."""
        amounts = []
        for layer in self._layers:
            assert layer.shape is not None
            amounts.append(dials.get(layer.shape.id, layer.strength) - layer.strength)
        rows = self._trial.rows
        if len(rows):
            self._trial.show(self._blend.at(amounts, rows), rows)
            return True
        self._trial.show(self._blend.at(amounts))
        return False

    def show_whole(self, dials: Mapping[str, float]) -> None:
        """Show it as it is when that is kept."""
        stack = self._stack
        for layer in self._layers:
            assert layer.shape is not None
            strength = dials.get(layer.shape.id, layer.strength)
            stack = stack.with_layer(replace(layer, strength=strength))
        self._trial.show(stack.form(stack.level))

    def let_go(self) -> None:
        """Everything as it was."""
        self._trial.let_go()


class HeldShapes(QObject):
    """All clay that shapes move together.

    Attributes
    ----------
    dials : dict
        What is shown, by the shapes' ids; empty while nothing is.
    """

    def __init__(self, desk: Desk, after: Callable[[], object]) -> None:
        super().__init__(desk)
        self._desk = desk
        self._after = after
        self.dials: dict[str, float] = {}
        self._parts: list[HeldClay] = []
        self._ids: set[str] = set()
        self._resting = QTimer(self)
        self._resting.setSingleShot(True)
        self._last = 0.0
        self._resting.timeout.connect(self._show_whole)

    def show(self, dials: Mapping[str, float]) -> None:
        """Show all clay at other dials of some shapes; those that follow them go along."""
        project = self._desk.studio.project
        scene = project.scene
        held = shapes_of(scene)
        shapes = {key: one.shape for key, one in held.items()}
        if not self._parts:
            self._ids = set(dials) | following(shapes, set(dials))
            touched = {part_id for key in self._ids if key in held for part_id in held[key].layers}
            project.try_on(self)
            self._parts = [HeldClay(self._desk.view, scene.part(key), self._ids) for key in touched]
        stacks = {part.id: part.stack for part in scene.parts if part.stack is not None}
        asked = {key: one.dial for key, one in held.items()} | self.dials | dict(dials)
        self.dials = {key: asked[key] for key in self._ids if key in asked}
        if any(shape.drivers for shape in shapes.values()):
            self.dials |= {
                key: value
                for key, value in driven_dials(shapes, asked, turns_in(stacks)).items()
                if key in self._ids
            }
        for part in self._parts:
            part.show(self.dials)
        # Where pictures take long, a hand that goes on would be taken for one that rests.
        now = time.monotonic()
        gap, self._last = 1000 * (now - self._last), now
        self._resting.start(int(min(max(RESTED, 2 * gap), SLOWEST)))
        self._desk.view.moved()

    def _show_whole(self) -> None:
        for part in self._parts:
            part.show_whole(self.dials)
        self._desk.view.moved()

    def holds(self, ids: Collection[str]) -> bool:
        """Whether these shapes are in hand."""
        return bool(self._parts) and set(ids) <= self._ids

    def put_back(self) -> None:
        """All clay as it was before."""
        self._resting.stop()
        for part in self._parts:
            part.let_go()
        self._parts, self.dials, self._ids = [], {}, set()
        self._desk.view.moved()
        self._after()

    def stop(self) -> None:
        """Nothing of what is shown is kept."""
        if self._parts:
            self._desk.studio.project.trial_over(self)
            self.put_back()
