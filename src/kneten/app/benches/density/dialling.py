"""A strength that is being dragged: of a layer, or of a group of layers."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from kneten.app.view.trial import SMALL, Trial
from kneten.core.arrays import F32
from kneten.core.changes import Change
from kneten.core.stack import Stack
from kneten.document.opening import stack_of
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas


class Dialled:
    """A layer, or a group of layers, whose strength is being dragged: what all strengths share is worked out once."""

    def __init__(self, view: Canvas, part: Part, dialled_id: str) -> None:
        self.dialled_id = dialled_id
        stack = stack_of(part).taken(part.mesh.positions)
        self._stack = stack
        self._group = stack.group(dialled_id)
        level = stack.level
        if self._group is None:
            layer = stack.layer(dialled_id)
            own = stack.group(layer.group)
            held, self._strength = [(layer, own.strength if own is not None else 1.0)], layer.strength
        else:
            inside = [layer for layer in stack.layers if layer.group == dialled_id]
            held, self._strength = [(layer, layer.strength) for layer in inside], self._group.strength
        # What is not seen now is not seen at another strength either.
        trial = self._at(1.0)
        held = [(layer, share) for layer, share in held if trial.strength(trial.layer(layer.id))]
        self._still = not held
        self._deep = any(any(layer.reliefs[:level]) for layer, _ in held)
        self._trial: Trial | None = None
        self._part = part
        if self._still or self._deep:
            if self._deep:
                self._trial = Trial(view, part)
            return
        ground = stack.ground(level)
        moves = np.zeros_like(ground.surface)
        for layer, share in held:
            ground.add(layer.relief(level), share, moves)
        self._rows = np.flatnonzero(moves.any(axis=1)).astype(np.int32)
        self._moves: F32 = moves[self._rows]
        # As it stands now, less the layer: so a strength dragged back to where it was changes nothing.
        strength = np.float32(self._strength)
        self._without: F32 = part.mesh.positions[self._rows] - self._moves * strength
        self._before: F32 = part.mesh.positions[self._rows]
        if len(self._rows) > SMALL:
            self._trial = Trial(view, part)
            self._few = self._trial.rows
            self._few_moves: F32 = moves[self._few]
            self._few_without: F32 = part.mesh.positions[self._few] - self._few_moves * strength

    def _at(self, strength: float) -> Stack:
        """The stack with another strength."""
        if self._group is not None:
            return self._stack.with_group(replace(self._group, strength=strength))
        return self._stack.with_layer(replace(self._stack.layer(self.dialled_id), strength=strength))

    def show(self, strength: float) -> bool:
        """Bring the clay to a strength; whether only what stands in for it was."""
        self._strength = strength
        if self._still:
            return False
        if not self._deep and self._trial is not None and len(self._few):
            self._trial.show(self._few_without + self._few_moves * np.float32(strength), self._few)
            return True
        self.show_whole()
        return False

    def show_whole(self) -> None:
        """Bring all of the clay to the strength shown last."""
        strength, mesh = self._strength, self._part.mesh
        if self._still:
            return
        if self._deep:
            assert self._trial is not None
            self._trial.show(self._at(strength).form(self._stack.level))
            return
        wanted = self._without + self._moves * np.float32(strength)
        if self._trial is not None:
            form = self._trial.before.copy()
            form[self._rows] = wanted
            self._trial.show(form)
        else:
            Change("positions", self._rows, wanted).swap(mesh)

    def put_back(self) -> None:
        """As it was before the drag."""
        if self._trial is not None:
            self._trial.let_go()
        elif not self._still:
            Change("positions", self._rows, self._before).swap(self._part.mesh)
