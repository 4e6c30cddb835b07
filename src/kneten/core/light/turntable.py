"""A turntable: how the camera goes round the clay, picture by picture."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F64
from kneten.core.camera import Camera

MOST_PICTURES = 20_000
"""Pictures that a film may have."""


@dataclass(frozen=True)
class Turntable:
    """How a film goes round.

    Attributes
    ----------
    pictures : int
    pace : float
        Pictures a second.
    turns : int
        Whole turns; less than 0 goes round the other way.
    ease : float
        0 an even turn, 1 one that begins and ends at rest.
    pauses : int
        How often in a turn it stands still, at even distances.
    pause : float
        Seconds of each.
    """

    pictures: int = 96
    pace: float = 24.0
    turns: int = 1
    ease: float = 0.0
    pauses: int = 0
    pause: float = 0.5

    def check(self) -> None:
        """Raise `ValueError`, with words for the user, where it is not usable."""
        if not 2 <= self.pictures <= MOST_PICTURES:
            raise ValueError(f"A turntable has 2 to {MOST_PICTURES:,} pictures.")
        if not 1 <= self.pace <= 240:
            raise ValueError("A film has 1 to 240 pictures a second.")
        if self.turns == 0 or abs(self.turns) > 100:
            raise ValueError("A turntable goes round at least once, and at most a hundred times.")
        if not (0 <= self.ease <= 1 and 0 <= self.pauses <= 36 and 0 <= self.pause <= 60):
            raise ValueError("The turntable's ease or pauses are not usable.")
        if self._standing() > self.pictures - 2 * max(self.pauses, 1) * abs(self.turns):
            raise ValueError("The pauses take all pictures: have more of these, or less of those.")

    def _standing(self) -> int:
        return self.pauses * abs(self.turns) * round(self.pause * self.pace)

    def degrees(self) -> F64:
        """How far it is turned in each picture, (n,); the one after the last would be the first again."""
        self.check()
        moving = self.pictures - self._standing()
        shares = np.arange(moving) / moving
        # From rest to rest by the cosine, as much of it as is wanted.
        eased = (1 - self.ease) * shares + self.ease * (1 - np.cos(np.pi * shares)) / 2
        stops = self.pauses * abs(self.turns)
        if stops:
            at = np.arange(stops) / stops
            stands = np.repeat(at, round(self.pause * self.pace))
            eased = np.sort(np.concatenate([eased, stands]), kind="stable")
        return np.asarray(eased * 360.0 * self.turns, np.float64)

    def cameras(self, camera: Camera, pivot: F64) -> list[Camera]:
        """The camera of each picture, round a point (3,)."""
        return [camera.turned(float(angle), 0.0, pivot) for angle in self.degrees()]
