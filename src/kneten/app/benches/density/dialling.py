"""A strength that is being dragged: of a layer, or of a group of layers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from kneten.app.view.trial import SMALL, Trial
from kneten.core.arrays import F32, I32, U8
from kneten.core.changes import Change, noted
from kneten.core.paint.layers import open_paint, packed_in, show
from kneten.core.stack import Layer, Stack
from kneten.core.topology import PATCH
from kneten.document.opening import stack_of
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas


class DialledPaint:
    """The colours of a part, and its materials, while the strength of layers that have paint is dragged."""

    def __init__(self, view: Canvas, part: Part, stack: Stack, layers: Sequence[Layer]) -> None:
        self._mesh = mesh = part.mesh
        self._held = open_paint(stack, mesh)
        patches = np.unique(np.concatenate([layer.paint.patches for layer in layers]))
        rows = (patches[:, None] * PATCH + np.arange(PATCH)).reshape(-1)
        self._rows = rows[rows < mesh.n_vertices].astype(np.int32)
        names = ["colour", *(["material"] if any(layer.paint.has_material for layer in layers) else [])]
        self._before: dict[str, U8] = {name: mesh.need(name)[self._rows] for name in names}
        self._few: I32 = self._rows
        if len(self._rows) > SMALL and (shown := view.stand_in(part)) is not None:
            # A table, not sets: those of millions of rows take two seconds.
            stands = np.zeros(mesh.n_vertices, bool)
            stands[shown] = True
            self._few = self._rows[stands[self._rows]]

    @property
    def is_large(self) -> bool:
        """Whether only what stands in for the part is coloured while the hand moves."""
        return len(self._few) < len(self._rows)

    def show(self, stack: Stack, whole: bool = False) -> None:
        """Colour it as a stack with another strength does."""
        rows = self._rows if whole else self._few
        seen = {name: self._mesh.need(name) for name in self._before}
        show(stack, self._held, rows, seen["colour"], seen.get("material"))
        self._noted(rows)

    def put_back(self) -> None:
        """As it was before the drag."""
        for name, before in self._before.items():
            self._mesh.need(name)[self._rows] = before
        self._noted(self._rows)

    def _noted(self, rows: I32) -> None:
        if not self.is_large:
            noted(self._mesh, "colour", rows)
            return
        # Boxes around a million vertices would take longer than to draw all.
        mesh = self._mesh
        version = mesh.changing()
        mesh.mark_dirty(rows, shape=False)
        mesh.note_moved(version, np.concatenate(mesh.bounds())[None].astype(np.float32))


class Dialled:
    """A layer, or a group of layers, whose strength is being dragged: what all strengths share is worked out once."""

    def __init__(self, view: Canvas, part: Part, dialled_id: str) -> None:
        self.dialled_id = dialled_id
        stack = packed_in(stack_of(part), part.mesh).taken(part.mesh.positions)
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
        painted = [layer for layer, _ in held if layer.paint]
        on_top = stack.tint is not None and stack.level == stack.top
        self._paint = DialledPaint(view, part, stack, painted) if painted and on_top else None
        held = [(layer, share) for layer, share in held if layer.has_form]
        self._still = not held
        # What is posed turns all that lies above, and on its own level what other layers do.
        posed = bool(held) and level == 0 and any(layer.pose is not None for layer in stack.layers)
        posed = posed or any(layer.pose is not None for layer, _ in held)
        self._deep = posed or any(any(layer.reliefs[:level]) for layer, _ in held)
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
        few = False
        if self._paint is not None:
            self._paint.show(self._at(strength))
            few = self._paint.is_large
        if self._still:
            return few
        if not self._deep and self._trial is not None and len(self._few):
            self._trial.show(self._few_without + self._few_moves * np.float32(strength), self._few)
            return True
        self._show_form()
        return few

    def show_whole(self) -> None:
        """Bring all of the clay to the strength shown last."""
        if self._paint is not None:
            self._paint.show(self._at(self._strength), whole=True)
        self._show_form()

    def _show_form(self) -> None:
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
        if self._paint is not None:
            self._paint.put_back()
        if self._trial is not None:
            self._trial.let_go()
        elif not self._still:
            Change("positions", self._rows, self._before).swap(self._part.mesh)
