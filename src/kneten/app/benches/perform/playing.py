"""Motions played on a rig: scrubbed, looped, with shadows of earlier pictures."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from kneten.core.arrays import F64
from kneten.core.pose.rig import Rig
from kneten.document.motions import ByKeys, Moment, Played, forget_motion, motions_of, played
from kneten.document.rigging import rig_of
from kneten.document.scene import Part
from kneten.document.things import KeptMotion

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

SHADOWS = (0.06, 0.12, 0.18)
"""How much of a round before the present the shadows are."""


class Playing(QObject):
    """Commands on motions.

    Attributes
    ----------
    key : str
        The motion that is chosen: one of Kneten's own, or the id of one that is kept.
    phase : float
        Where in its round it is, 0 to 1.
    """

    changed = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self._rigging = desk.rigging
        self.key = "walk"
        self.phase = 0.0
        self._from: Rig | None = None
        self._on = False
        self._moment = Moment("")
        self._last = 0.0
        self._clock = QTimer(self)
        self._clock.setInterval(15)
        self._clock.timeout.connect(self._tick)
        desk.rigging.changed.connect(self._follow)
        desk.rigging.playing = self

    # -- what there is --------------------------------------------------------------------------

    @property
    def part(self) -> Part | None:
        """The part in hand."""
        return self._desk.studio.project.active

    @property
    def motion(self) -> Played | None:
        """The motion that is chosen; None where it is not there any more."""
        return played(self._desk.studio.project.scene, self.part, self.key)

    def kept(self) -> tuple[KeptMotion, ...]:
        """The motions that are kept of the part in hand."""
        return motions_of(self._desk.studio.project.scene, self.part)

    @property
    def plays(self) -> bool:
        """Whether the motion runs."""
        return self._clock.isActive()

    @property
    def shown(self) -> bool:
        """Whether the body is shown in the motion."""
        return self._on

    def no_motion(self) -> str:
        """Why the motion cannot be shown."""
        studio, part, motion = self._desk.studio, self.part, self.motion
        if part is None:
            return "There is no part in hand."
        if words := studio.stroke_blocked(part):
            return words
        if motion is None:
            return "The chosen motion is not kept of this part: choose another."
        return motion.lacking(studio.project.scene, rig_of(part))

    def no_kept(self) -> str:
        """Why no kept motion can be forgotten."""
        if isinstance(self.motion, ByKeys):
            return ""
        return "The chosen motion is none that was read: those of Kneten's own stay."

    def no_picture(self) -> str:
        """Why nothing can be kept of the motion."""
        return "" if self.shown else "The body is in no motion: play one, or drag its time."

    # -- playing --------------------------------------------------------------------------------

    def choose(self, key: str) -> None:
        """Take another motion."""
        self.stop()
        self.key, self.phase = key, 0.0
        self.changed.emit()

    def play(self) -> None:
        """Let the motion run from where it is; again has it stop there."""
        if self.plays:
            self._clock.stop()
        else:
            self._last = time.monotonic()
            self.scrub(self.phase)
            if self.shown:
                self._clock.start()
        self.changed.emit()

    def scrub(self, phase: float) -> None:
        """Show the body at a phase of the motion, 0 to 1."""
        if words := self.no_motion():
            self._desk.studio.say(words, "warning")
            return
        motion, rigging = self.motion, self._rigging
        assert motion is not None
        if not self._on:
            self._from = rigging.rig
        self.phase = phase % 1.0
        self._moment = motion.at(self._desk.studio.project.scene, self._from, self.phase)
        # While it is being shown nothing else is done with the body.
        self._on = False
        rigging.show(self._moment.rig, self._moment.dials)
        self._on = bool(rigging.shows)
        if not self._on:
            self._forget()
        self.changed.emit()

    def keep(self) -> None:
        """Leave the body, and its face, as they are shown: one step."""
        motion = self.motion
        assert motion is not None
        self._forget()
        self._rigging.take(self._moment, motion.name)
        self.changed.emit()

    def stop(self) -> None:
        """The body is as it was before the motion."""
        if self.shown:
            self._forget()
            self._rigging.stop()
        self.changed.emit()

    def forget(self) -> None:
        """Forget the chosen motion, which is kept."""
        motion = self.motion
        assert isinstance(motion, ByKeys)
        self.stop()
        forget_motion(self._desk.studio.project, motion.kept)
        self.choose("walk")

    def shadows(self) -> list[F64]:
        """Where the joints were a little earlier, (k, 3) each, in the body's axes; the latest first."""
        motion = self.motion
        if not self._on or motion is None:
            return []
        scene = self._desk.studio.project.scene
        rigs = [motion.at(scene, self._from, (self.phase - back) % 1.0).rig for back in SHADOWS]
        return [rig.places_now() for rig in rigs if rig is not None]

    def _tick(self) -> None:
        now, motion = time.monotonic(), self.motion
        if motion is None:
            self.stop()
            return
        # By the clock: a slow machine leaves pictures out.
        self.scrub(self.phase + (now - self._last) / motion.seconds)
        self._last = now

    def _follow(self) -> None:
        """Whatever else is done with the body ends the motion."""
        if self._on and not (self._rigging.shows and self._rigging.shown is self._moment.rig):
            self._forget()
            self.changed.emit()

    def _forget(self) -> None:
        self._clock.stop()
        self._from, self._on = None, False


def faded(count: int) -> list[int]:
    """How opaque each of so many shadows is, 0 to 255, the latest first."""
    return np.linspace(110, 40, count).round().astype(int).tolist()
