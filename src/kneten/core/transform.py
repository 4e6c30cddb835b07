"""Where a part stands: mirrored or not, turned, scaled evenly, moved."""

from __future__ import annotations

import functools
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial.transform import Rotation

from kneten.core.arrays import F32, F64
from kneten.core.words import FAR

SMALL, LARGE = 1e-6, 1e6
"""Scales between which a part's own space can be told from the scene's in every number."""

POLE = 1e-6
"""Cosine of the turn about x up to which the other two angles cannot be told apart."""


@dataclass(frozen=True)
class Transform:
    """A part's place. Uneven scaling is kneaded into the clay itself, so that brushes stay round.

    Attributes
    ----------
    place : three floats
        Millimetres.
    turn : four floats
        Unit quaternion, x y z w.
    scale : float
    mirror : bool
        Left and right exchanged first, across the part's own x = 0.
    typed : three floats or None
        The angles about x, y and z that the turn was given by, in degrees: many stand for the same turn.
    """

    place: tuple[float, float, float] = (0.0, 0.0, 0.0)
    turn: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)
    scale: float = 1.0
    mirror: bool = False
    typed: tuple[float, float, float] | None = None

    @property
    def usable(self) -> bool:
        """Whether points can be taken there and back: files are refused where this does not hold."""
        return SMALL <= self.scale <= LARGE and max(map(abs, self.place)) <= FAR

    @functools.cached_property
    def _rotation(self) -> F64:
        # Asked for by every part of every picture: building it anew takes 0.1 ms.
        return np.asarray(Rotation.from_quat(self.turn).as_matrix())

    def matrix(self) -> F64:
        """(4, 4), from the part's own space to the scene."""
        out = np.eye(4)
        out[:3, :3] = self.axes() * self.scale
        out[:3, 3] = self.place
        return out

    def rotation(self) -> F64:
        """(3, 3)."""
        return self._rotation.copy()

    def axes(self) -> F64:
        """(3, 3), the part's own axes in the scene as columns: turned, and mirrored where it is."""
        return self._axes.copy()

    @functools.cached_property
    def _axes(self) -> F64:
        out = self.rotation()
        if self.mirror:
            out[:, 0] *= -1
        return out

    def to_scene(self, points: F64 | F32) -> F64:
        """Points (k, 3) of the part, in the scene."""
        return points @ (self._axes * self.scale).T + np.array(self.place)

    def to_part(self, points: F64) -> F64:
        """Points (k, 3) of the scene, in the part."""
        return (points - np.array(self.place)) @ self._axes / self.scale

    def way_to_part(self, way: F64) -> F64:
        """A direction (3,) of the scene, in the part; lengths are kept."""
        return way @ self._axes

    def degrees(self) -> tuple[float, float, float]:
        """Turns about x, y and z, in degrees (intrinsic y, x, z); as they were typed, if they were."""
        if self.typed is not None:
            return self.typed
        axes = self._rotation
        x = float(np.degrees(np.arcsin(np.clip(-axes[1, 2], -1.0, 1.0))))
        if np.hypot(axes[1, 0], axes[1, 1]) < POLE:
            # Looking straight up or down, turns about y and z are the same: it is all said by y.
            return x, float(np.degrees(np.arctan2(-axes[2, 0], axes[0, 0]))), 0.0
        y = np.degrees(np.arctan2(axes[0, 2], axes[2, 2]))
        return x, float(y), float(np.degrees(np.arctan2(axes[1, 0], axes[1, 1])))

    def with_degrees(self, x: float, y: float, z: float) -> Transform:
        """Turned to these angles."""
        a, b, c, d = Rotation.from_euler("YXZ", [y, x, z], degrees=True).as_quat()
        return replace(self, turn=(float(a), float(b), float(c), float(d)), typed=(x, y, z))

    def turned_about(self, axis: F64, degrees: float, pivot: F64) -> Transform:
        """Turned in the scene about an axis (3,) through a point (3,)."""
        spin = Rotation.from_rotvec(np.radians(degrees) * axis / np.linalg.norm(axis))
        a, b, c, d = (spin * Rotation.from_quat(self.turn)).as_quat()
        x, y, z = spin.apply(np.array(self.place) - pivot) + pivot
        return replace(
            self,
            place=(float(x), float(y), float(z)),
            turn=(float(a), float(b), float(c), float(d)),
            typed=None,
        )

    def scaled_about(self, factor: float, pivot: F64) -> Transform:
        """Scaled evenly about a point (3,) of the scene."""
        x, y, z = (np.array(self.place) - pivot) * factor + pivot
        return replace(self, place=(float(x), float(y), float(z)), scale=self.scale * factor)

    def moved(self, way: F64) -> Transform:
        """Moved in the scene by a way (3,)."""
        x, y, z = np.array(self.place) + way
        return replace(self, place=(float(x), float(y), float(z)))

    def mirrored(self, point: F64, normal: F64) -> Transform:
        """Mirrored in the scene across a plane through a point (3,), square to `normal` (3,).

        A mirror image has the opposite handedness: the part's own x is exchanged and the turn makes up
        for it.
        """
        n = normal / np.linalg.norm(normal)
        flip = np.eye(3) - 2 * np.outer(n, n)
        place = flip @ (np.array(self.place) - point) + point
        return from_axes(flip @ self.axes(), place, self.scale)

    def inside(self, outer: Transform) -> Transform:
        """This place, given within another part's space, in the scene."""
        place = outer.to_scene(np.array(self.place)[None])[0]
        return from_axes(outer.axes() @ self.axes(), place, self.scale * outer.scale)


def from_axes(axes: F64, place: F64, scale: float = 1.0) -> Transform:
    """The transform with these own axes (columns of an orthogonal (3, 3)), mirrored if they are."""
    turn = axes.copy()
    mirror = bool(np.linalg.det(turn) < 0)
    if mirror:
        turn[:, 0] *= -1
    a, b, c, d = Rotation.from_matrix(turn).as_quat()
    x, y, z = place
    return Transform(
        (float(x), float(y), float(z)), (float(a), float(b), float(c), float(d)), float(scale), mirror
    )
