"""A part whose limbs are being posed: fast while the hand moves, whole once it rests."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from kneten.app.view.trial import Trial
from kneten.core.arrays import F32, I32
from kneten.core.pose.chain import REACH, Hinge, Pose, posed_rows
from kneten.document.posing import LowClay, stations_above, with_hinges
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas


class HeldLimb:
    """One part of what is posed.

    Attributes
    ----------
    part_id : str
    layer_id : str
        Of the layer that the pose is on; "" before there is one.
    there : bool
        Whether the part has that layer: it may have been undone.
    low : LowClay
        Its lowest level, without this pose.
    pose : Pose
        As it was kept last.
    """

    def __init__(self, part: Part, low: LowClay, pose: Pose, layer_id: str = "") -> None:
        self.part_id, self.layer_id, self.there = part.id, layer_id, bool(layer_id)
        self.low, self.pose = low, pose
        above = stations_above(pose, low.stack, low.stack.level)
        # What is not on a limb is not touched.
        above[above <= -0.999 * REACH * pose.hinges[0].radius] = np.nan
        self._stations = above
        self._trial: Trial | None = None
        self._rest: F32 | None = None
        self._few: F32 | None = None

    def begin(self, view: Canvas, part: Part) -> None:
        """Take hold of the part."""
        self._trial = Trial(view, part)
        rows = self._trial.rows
        if len(rows):
            self._few = self._back(self._trial.before[rows], rows)
        else:
            self._few = None
            self._rest = self._back(self._trial.before, None)

    def _of(self, rows: I32 | None) -> list[F32]:
        held = self._stations if rows is None else self._stations[rows]
        return [np.ascontiguousarray(held[:, k]) for k in range(held.shape[1])]

    def _back(self, places: F32, rows: I32 | None) -> F32:
        if self.pose.still or not self.there:
            return places
        return posed_rows(places, self._of(rows), self.pose, 1.0, back=True)

    def show(self, hinges: tuple[Hinge, ...]) -> bool:
        """Show it with other hinges; whether only what stands in for it was."""
        assert self._trial is not None
        pose, rows = with_hinges(self.pose, hinges), self._trial.rows
        if self._few is None:
            self.show_whole(hinges)
            return False
        self._trial.show(posed_rows(self._few, self._of(rows), pose, 1.0), rows)
        return True

    def show_whole(self, hinges: tuple[Hinge, ...]) -> None:
        """Show all of it with other hinges."""
        assert self._trial is not None
        if self._rest is None:
            self._rest = self._back(self._trial.before, None)
        self._trial.show(posed_rows(self._rest, self._of(None), with_hinges(self.pose, hinges), 1.0))

    def end(self) -> None:
        """Let go of the part; it is as it was."""
        trial, self._trial, self._rest, self._few = self._trial, None, None, None
        if trial is not None:
            trial.let_go()
