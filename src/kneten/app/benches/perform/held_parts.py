"""Parts that are being posed: fast while the hand moves, whole once it rests."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import replace
from types import MappingProxyType
from typing import TYPE_CHECKING, Protocol

import numpy as np
from PySide6.QtCore import QObject, QTimer

from kneten.app.view.trial import RESTED, Trial
from kneten.core.arrays import F32, I32, U8
from kneten.core.paint.layers import packed_in
from kneten.core.pose.bending import Bending
from kneten.core.pose.chain import REACH, Pose, posed_rows
from kneten.core.pose.rig import Rig
from kneten.core.pose.shape_edits import moves_in_hand
from kneten.core.pose.shapes import driven_dials
from kneten.core.pose.weights import weights_above
from kneten.core.stack import Stack
from kneten.document.driving import shapes_of, turns_in
from kneten.document.opening import stack_of
from kneten.document.posing import LowClay, stations_above
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas
    from kneten.app.view.desk import Desk


NO_DIALS: Mapping[str, float] = MappingProxyType({})


class Above(Protocol):
    """How a pose of the lowest level bends the vertices of the level in hand."""

    def moved(self, pose: Bending, places: F32, rows: I32 | None, back: bool = False) -> F32:
        """Places (k, 3) of some of its vertices, or of all, posed or brought back."""


class LimbsAbove:
    """By stations along limbs."""

    def __init__(self, pose: Pose, stack: Stack) -> None:
        held = stations_above(pose, stack, stack.level)
        # What is not on a limb is not touched.
        held[held <= -0.999 * REACH * pose.hinges[0].radius] = np.nan
        self._stations = held

    def moved(self, pose: Bending, places: F32, rows: I32 | None, back: bool = False) -> F32:
        """Places (k, 3) posed, or brought back."""
        assert isinstance(pose, Pose)
        held = self._stations if rows is None else self._stations[rows]
        stations = [np.ascontiguousarray(held[:, k]) for k in range(held.shape[1])]
        return posed_rows(places, stations, pose, 1.0, back)


class RigAbove:
    """By weights."""

    def __init__(self, rig: Rig, stack: Stack) -> None:
        shapes = [level.topology for level in stack.levels]
        steps = [level.step for level in stack.levels[1 : stack.level + 1]]
        self._which, self._share = weights_above(rig, shapes, [step for step in steps if step is not None])
        self._few: tuple[I32, U8, F32] | None = None

    def moved(self, pose: Bending, places: F32, rows: I32 | None, back: bool = False) -> F32:
        """Places (k, 3) posed, or brought back."""
        assert isinstance(pose, Rig)
        if rows is None:
            return pose.posed_some(places, self._which, self._share, 1.0, back)
        if self._few is None or self._few[0] is not rows:
            self._few = rows, self._which[rows], self._share[rows]
        return pose.posed_some(places, self._few[1], self._few[2], 1.0, back)


class HeldPart:
    """One part of what is posed.

    Attributes
    ----------
    part_id : str
    layer_id : str
        Of the layer that the pose is on; "" before there is one.
    there : bool
        Whether the part has that layer: it may have been undone.
    stack : Stack
        Its levels.
    pose : Bending
        As it was kept last.
    """

    def __init__(self, part: Part, stack: Stack, pose: Bending, layer_id: str = "") -> None:
        self.part_id, self.layer_id, self.there = part.id, layer_id, bool(layer_id)
        self.stack, self.pose = stack, pose
        self._above = above(pose, stack)
        self._trial: Trial | None = None
        self._rest: F32 | None = None
        self._few: F32 | None = None
        self._follow: list[tuple[str, float, F32]] = []

    def fits(self, stack: Stack, rig: Rig) -> bool:
        """Whether what was worked out for its weights still holds."""
        same = self.stack.levels[self.stack.level].topology is stack.levels[stack.level].topology
        return (
            same
            and isinstance(self.pose, Rig)
            and self.pose.which is rig.which
            and self.pose.share is rig.share
        )

    def begin(self, view: Canvas, part: Part, ids: Collection[str] = ()) -> None:
        """Take hold of the part; the shapes with these ids are going to be dialled."""
        self._trial = Trial(view, part)
        rows = self._trial.rows
        if len(rows):
            self._few = self._back(self._trial.before[rows], rows)
        else:
            self._few = None
            self._rest = self._back(self._trial.before, None)
        self._follow = self._dialled(part, ids)

    def _dialled(self, part: Part, ids: Collection[str]) -> list[tuple[str, float, F32]]:
        """The shapes with these ids, and those that follow joints: id, dial now, and what they do (n, 3) before the pose."""
        stack = stack_of(part).taken(part.mesh.positions)
        own = [
            one
            for one in stack.layers
            if one.shape is not None and (one.shape.id in ids or any(d.rig for d in one.shape.drivers))
        ]
        if not own:
            return []
        straight = [replace(one, strength=0.0) if one.id == self.layer_id else one for one in stack.layers]
        moves = moves_in_hand(replace(stack, layers=tuple(straight)), own)
        n = part.mesh.n_vertices
        return [
            (one.shape.id, one.strength, relief.dense(n))
            for one, relief in zip(own, moves, strict=True)
            if one.shape is not None and relief
        ]

    def _corrected(self, places: F32, dials: Mapping[str, float], rows: I32 | None) -> F32:
        """Places at rest, of some rows or all, with shapes dialled otherwise."""
        for key, now, moves in self._follow:
            more = dials.get(key, now) - now
            if more:
                places = places + np.float32(more) * (moves if rows is None else moves[rows])
        return places

    def _back(self, places: F32, rows: I32 | None) -> F32:
        if self.pose.still or not self.there:
            return places
        return self._above.moved(self.pose, places, rows, back=True)

    def show(self, pose: Bending, dials: Mapping[str, float] = NO_DIALS) -> bool:
        """Show it posed otherwise, with shapes dialled so; whether only what stands in for it was."""
        assert self._trial is not None
        if self._few is None:
            self.show_whole(pose, dials)
            return False
        rows = self._trial.rows
        self._trial.show(self._above.moved(pose, self._corrected(self._few, dials, rows), rows), rows)
        return True

    def show_whole(self, pose: Bending, dials: Mapping[str, float] = NO_DIALS) -> None:
        """Show all of it posed otherwise."""
        assert self._trial is not None
        if self._rest is None:
            self._rest = self._back(self._trial.before, None)
        self._trial.show(self._above.moved(pose, self._corrected(self._rest, dials, None), None))

    def show_rested(self, pose: Bending, dials: Mapping[str, float] = NO_DIALS) -> None:
        """Show it once the hand rests."""
        self.show_whole(pose, dials)

    def end(self) -> None:
        """Let go of the part; it is as it was."""
        trial, self._trial, self._rest, self._few = self._trial, None, None, None
        self._follow = []
        if trial is not None:
            trial.let_go()


class Unbent:
    """Nothing bends it."""

    nbytes = 0
    still = True

    def posed(self, positions: F32, share: float, back: bool = False) -> F32:
        """The places (n, 3) that are given."""
        return positions

    def turned(self, rows: I32, moves: F32, share: float, back: bool = False) -> F32:
        """The moves (k, 3) that are given."""
        return moves

    def moved(self, pose: Bending, places: F32, rows: I32 | None, back: bool = False) -> F32:
        """The places (k, 3) that are given."""
        return places


class HeldFace(HeldPart):
    """A part that only shapes move."""

    def __init__(self, part: Part) -> None:
        super().__init__(part, stack_of(part), Unbent())
        self._part = part

    def show_rested(self, pose: Bending, dials: Mapping[str, float] = NO_DIALS) -> None:
        """Show it as it is when that is kept: what lies on higher levels turns with what is below."""
        assert self._trial is not None
        stack = packed_in(self.stack, self._part.mesh).taken(self._trial.before)
        for layer in stack.layers:
            if layer.shape is not None and layer.shape.id in dials:
                stack = stack.with_layer(replace(layer, strength=dials[layer.shape.id]))
        self._trial.show(stack.form(stack.level))


def above(pose: Bending, stack: Stack) -> Above:
    """How a pose bends the level in hand."""
    if isinstance(pose, Rig):
        return RigAbove(pose, stack)
    if isinstance(pose, Unbent):
        return pose
    assert isinstance(pose, Pose)
    return LimbsAbove(pose, stack)


class HeldLimb(HeldPart):
    """A part whose limbs are posed.

    Attributes
    ----------
    low : LowClay
        Its lowest level, without this pose.
    """

    def __init__(self, part: Part, low: LowClay, pose: Pose, layer_id: str = "") -> None:
        super().__init__(part, low.stack, pose, layer_id)
        self.low = low

    @property
    def limbs(self) -> Pose:
        """The pose, as limbs."""
        assert isinstance(self.pose, Pose)
        return self.pose


class HeldParts(QObject):
    """All that is posed together.

    Attributes
    ----------
    parts : dict
        By their ids.
    trying : bool
        Whether they are shown posed otherwise than they are.
    ids : frozenset of str
        The shapes that were taken hold of.
    """

    def __init__(self, desk: Desk, after: Callable[[], object]) -> None:
        super().__init__(desk)
        self._desk = desk
        self._after = after
        self.parts: Mapping[str, HeldPart] = {}
        self.trying = False
        self.ids: frozenset[str] = frozenset()
        self._shown: Mapping[str, Bending] = {}
        self._dials: Mapping[str, float] = NO_DIALS
        self._resting = QTimer(self)
        self._resting.setSingleShot(True)
        self._resting.setInterval(RESTED)
        self._resting.timeout.connect(self._show_whole)

    def begin(self, ids: Collection[str] = ()) -> None:
        """Take hold of all of them; the shapes with these ids are going to be dialled."""
        if self.trying:
            return
        project = self._desk.studio.project
        project.try_on(self)
        for part_id, held in self.parts.items():
            held.begin(self._desk.view, project.scene.part(part_id), ids)
        self.trying, self.ids = True, frozenset(ids)

    def show(self, poses: Mapping[str, Bending], dials: Mapping[str, float] = NO_DIALS) -> None:
        """Show each posed otherwise, by its id, and shapes that were taken hold of dialled otherwise."""
        faces = {key: held.pose for key, held in self.parts.items() if isinstance(held, HeldFace)}
        self._shown = {**faces, **poses}
        self._dials = {**dials, **self._following(poses, dials)}
        few = [
            held.show(self._shown[key], self._dials) for key, held in self.parts.items() if key in self._shown
        ]
        if any(few):
            self._resting.start()
        self._desk.view.moved()
        self._desk.view.repaint_over()

    def _following(self, poses: Mapping[str, Bending], dials: Mapping[str, float]) -> dict[str, float]:
        """The dials of what follows joints and shapes, with these posed and dialled so."""
        scene = self._desk.studio.project.scene
        found = shapes_of(scene)
        shapes = {key: one.shape for key, one in found.items()}
        if not any(driver.rig or driver.source in dials for one in shapes.values() for driver in one.drivers):
            return {}
        turns = turns_in({part.id: part.stack for part in scene.parts if part.stack is not None})
        turns |= {
            pose.id: {j.name: j.turn for j in pose.joints} for pose in poses.values() if isinstance(pose, Rig)
        }
        return driven_dials(shapes, {key: one.dial for key, one in found.items()} | dict(dials), turns)

    def _show_whole(self) -> None:
        if self.trying:
            for key, held in self.parts.items():
                if key in self._shown:
                    held.show_rested(self._shown[key], self._dials)
            self._desk.view.moved()

    def put_back(self) -> None:
        """All clay as it was before the drag."""
        self._resting.stop()
        if self.trying:
            self.trying = False
            for held in self.parts.values():
                held.end()
        self._shown = {}
        self._desk.view.moved()
        self._after()

    def stop(self) -> None:
        """Nothing of what is shown is kept."""
        self._desk.studio.project.trial_over(self)
        self.put_back()
