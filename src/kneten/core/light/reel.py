"""A reel: the work played again in a given time, while the camera goes round it."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from kneten.core.arrays import F64, I64
from kneten.core.camera import Camera
from kneten.core.light.turntable import MOST_PICTURES

SETTLES = 1.2
"""Seconds in which the camera comes to frame clay that has grown."""


@dataclass(frozen=True)
class Reel:
    """How the work is played.

    Attributes
    ----------
    seconds : float
        How long the film is.
    pace : float
        Pictures a second.
    turns : float
        How often the camera goes round while it is played; less than 0 the other way.
    rest : float
        Seconds at the end, in which what came of it is shown.
    """

    seconds: float = 20.0
    pace: float = 24.0
    turns: float = 1.0
    rest: float = 2.0

    @property
    def pictures(self) -> int:
        """How many pictures it has."""
        return round(self.seconds * self.pace)

    def check(self) -> None:
        """Raise `ValueError`, with words for the user, where it is not usable."""
        if not 1 <= self.pace <= 240:
            raise ValueError("A film has 1 to 240 pictures a second.")
        if not 2 <= self.pictures <= MOST_PICTURES:
            raise ValueError(f"A reel has 2 to {MOST_PICTURES:,} pictures: make it longer or shorter.")
        if not 0 <= self.rest < self.seconds or abs(self.turns) > 100:
            raise ValueError(
                "The end of a reel is shorter than the reel, and it goes round at most 100 times."
            )

    def steps(self, count: int) -> I64:
        """After which of so many steps, from 1, each picture is taken, (pictures,); those of the rest at the end show the last."""
        self.check()
        playing = max(self.pictures - round(self.rest * self.pace), 1)
        k = np.minimum(np.arange(1, self.pictures + 1), playing)
        return np.maximum(-(-k * count // playing), 1).astype(np.int64)

    def camera(self, camera: Camera, number: int, middle: F64, growth: float) -> Camera:
        """The camera of a picture, from 0; the last is the one that is given.

        `middle` (3,) is the middle of the clay, mm, by how much it is off that of the end, and `growth` its size as a share of then.
        """
        turned = camera.turned(
            360.0 * self.turns * ((number + 1) / self.pictures - 1), 0.0, np.array(camera.target)
        )
        x, y, z = (float(v) for v in np.array(turned.target) + middle)
        return replace(turned, target=(x, y, z), distance=turned.distance * growth)


class Framing:
    """Clay that grows by jumps, framed without any: what is given is followed in `SETTLES` seconds."""

    def __init__(self, low: F64, high: F64, pace: float) -> None:
        self._middle, self._size = (low + high) / 2, float(np.linalg.norm(high - low))
        self._share = 1 - float(np.exp(-3.0 / (SETTLES * pace)))
        self._off: F64 = np.zeros(3)
        self._growth = 1.0
        self._began = False

    def follow(self, low: F64, high: F64) -> tuple[F64, float]:
        """How far off, (3,), and how large the frame is for clay with these corners (3,) each, as `Reel.camera` wants it."""
        off = (low + high) / 2 - self._middle
        growth = float(np.linalg.norm(high - low)) / self._size if self._size > 0 else 1.0
        share = self._share if self._began else 1.0
        self._began = True
        self._off = self._off + share * (off - self._off)
        self._growth *= float(max(growth, 1e-3) / self._growth) ** share
        return self._off, self._growth
