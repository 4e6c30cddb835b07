"""Motions played on a rig: scrubbed, looped, with shadows of earlier pictures."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from kneten.core.arrays import F64
from kneten.core.pose.motions import MOTIONS, lacking, moved
from kneten.core.pose.rig import Rig

if TYPE_CHECKING:
    from kneten.app.view.desk import Desk

SHADOWS = (0.06, 0.12, 0.18)
"""How much of a round before the present the shadows are."""


class Playing(QObject):
    """Commands on motions.

    Attributes
    ----------
    key : str
        The motion that is chosen.
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
        self._shown: Rig | None = None
        self._last = 0.0
        self._clock = QTimer(self)
        self._clock.setInterval(15)
        self._clock.timeout.connect(self._tick)
        desk.rigging.changed.connect(self._follow)
        desk.rigging.playing = self

    @property
    def plays(self) -> bool:
        """Whether the motion runs."""
        return self._clock.isActive()

    @property
    def shown(self) -> bool:
        """Whether the body is shown in the motion."""
        return self._from is not None

    def no_motion(self) -> str:
        """Why the motion cannot be shown."""
        if words := self._rigging.no_rig():
            return str(words)
        rig = self._rigging.rig
        return lacking(rig, self.key) if rig is not None else ""

    def no_picture(self) -> str:
        """Why nothing can be kept of the motion."""
        return "" if self.shown else "The body is in no motion: play one, or drag its time."

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
        if self._from is None:
            self._from = self._rigging.rig
        assert self._from is not None
        self.phase = phase % 1.0
        rig = moved(self._from, self.key, self.phase)
        self._shown = rig
        self._rigging.show(rig)
        if self._rigging.rig is not rig:
            self._forget()
        self.changed.emit()

    def keep(self) -> None:
        """Leave the body as it is shown: one step."""
        rig, self._from, self._shown = self._shown, None, None
        self._clock.stop()
        if rig is not None:
            self._rigging.keep(rig, MOTIONS[self.key].name)
        self.changed.emit()

    def stop(self) -> None:
        """The body is as it was before the motion."""
        if self.shown:
            self._forget()
            self._rigging.stop()
        self.changed.emit()

    def shadows(self) -> list[F64]:
        """Where the joints were a little earlier, (k, 3) each, in the body's axes; the latest first."""
        if self._from is None:
            return []
        return [moved(self._from, self.key, (self.phase - back) % 1.0).places_now() for back in SHADOWS]

    def _tick(self) -> None:
        now = time.monotonic()
        # By the clock: a slow machine leaves pictures out.
        self.scrub(self.phase + (now - self._last) / MOTIONS[self.key].seconds)
        self._last = now

    def _follow(self) -> None:
        """Whatever else is done with the body ends the motion."""
        if self._shown is not None and self._rigging.rig is not self._shown:
            self._forget()
            self.changed.emit()

    def _forget(self) -> None:
        self._clock.stop()
        self._from, self._shown = None, None


def faded(count: int) -> list[int]:
    """How opaque each of so many shadows is, 0 to 255, the latest first."""
    return np.linspace(110, 40, count).round().astype(int).tolist()
