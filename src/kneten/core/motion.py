"""What is done to things in space when they are moved, turned or sized about a pivot: wholly, or by a share of it."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy.spatial.transform import Rotation

from kneten.core.arrays import F64
from kneten.core.transform import Transform, from_axes

EVEN = 1e-12
"""Difference of factors up to which a change of size is even."""


def world() -> F64:
    """The world's axes as rows, (3, 3)."""
    return np.eye(3)


@dataclass(frozen=True, eq=False)
class Motion:
    """A change of size, then a turn, both about one pivot, then a move.

    Attributes
    ----------
    way : (3,) float64
        How far things go, in the scene's millimetres.
    turn : (3,) float64
        Axis of the turn, as long as its angle in radians.
    factors : three floats
        Change of size along the axes, each greater than zero.
    axes : (3, 3) float64
        Rows: the directions of these factors, square to each other.
    pivot : (3,) float64
        What stays where it is but for the move.
    """

    way: F64 = field(default_factory=lambda: np.zeros(3))
    turn: F64 = field(default_factory=lambda: np.zeros(3))
    factors: tuple[float, float, float] = (1.0, 1.0, 1.0)
    axes: F64 = field(default_factory=world)
    pivot: F64 = field(default_factory=lambda: np.zeros(3))

    def __post_init__(self) -> None:
        """Raise `ValueError` for factors that are not greater than zero."""
        if not all(np.isfinite(self.factors)) or min(self.factors) <= 0:
            raise ValueError("a size must be greater than zero")

    @property
    def still(self) -> bool:
        """Whether it does nothing."""
        return self.factors == (1.0, 1.0, 1.0) and not self.way.any() and not self.turn.any()

    @property
    def even(self) -> bool:
        """Whether it keeps all proportions: then a part takes it up in its place, not in its clay."""
        return max(self.factors) - min(self.factors) < EVEN

    def linear(self) -> F64:
        """(3, 3), what it does to directions."""
        grown = (self.axes.T * np.array(self.factors)) @ self.axes
        return np.asarray(Rotation.from_rotvec(self.turn).as_matrix() @ grown)

    def moved(self, points: F64) -> F64:
        """Points (k, 3) of the scene, moved by all of it."""
        return np.asarray((points - self.pivot) @ self.linear().T + self.pivot + self.way)

    def shared(self, points: F64, shares: F64) -> F64:
        """Points (k, 3) of the scene, each moved by its own share (k,), 0..1: half of a turn is a turn by half."""
        off = (points - self.pivot) @ self.axes.T
        off = (off * np.array(self.factors) ** shares[:, None]) @ self.axes
        if self.turn.any():
            off = Rotation.from_rotvec(self.turn * shares[:, None]).apply(off)
        return np.asarray(off + self.pivot + self.way * shares[:, None])

    def placed(self, place: Transform) -> Transform:
        """Where a part stands after it. Raises `ValueError` when it is not even."""
        if not self.even:
            raise ValueError("what is not even changes the clay, not its place")
        factor = self.factors[0]
        if not self.turn.any():
            return place.scaled_about(factor, self.pivot).moved(self.way)
        axes = Rotation.from_rotvec(self.turn).as_matrix() @ place.axes()
        at = self.moved(np.array(place.place)[None])[0]
        return from_axes(axes, at, place.scale * factor)

    def within(self, place: Transform) -> F64:
        """(3, 3), what it does to directions in the space of a part that stands there."""
        axes = place.axes()
        return np.asarray(axes.T @ self.linear() @ axes)


def soft_shares(points: F64, pivot: F64, reach: float) -> F64:
    """By how much each of points (k, 3) goes along with a motion of softness `reach`: 1 at the pivot, 0 from there on.

    A reach of 0 is none of it: everything goes along.
    """
    if reach <= 0:
        return np.ones(len(points))
    t = np.clip(1.0 - np.linalg.norm(points - pivot, axis=1) / reach, 0.0, 1.0)
    return np.asarray(t * t * (3.0 - 2.0 * t))
