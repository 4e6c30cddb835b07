"""Lathe: a drawn curve turned around an axis."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F64, I32
from kneten.core.live.clay import MOST, Clay, RecipeError, clay_of
from kneten.core.live.curves import catmull_rom, circle
from kneten.core.placing import turned_out
from kneten.core.remesh import triangulate


@dataclass(frozen=True)
class LathePoint:
    """A point of the curve: radius and height in millimetres, smooth or sharp."""

    radius: float
    height: float
    sharp: bool = False


@dataclass(frozen=True)
class Lathe:
    """A body turned from a curve.

    Attributes
    ----------
    points : tuple of LathePoint
        From one end to the other.
    around : int
        Quads around.
    spans : int
        Rings between two points.
    thickness : float
        Millimetres of a wall inwards from the curve; 0 makes a full body.
    """

    points: tuple[LathePoint, ...] = (
        LathePoint(0.0, -50.0, True),
        LathePoint(40.0, -50.0, True),
        LathePoint(30.0, 0.0),
        LathePoint(45.0, 50.0, True),
    )
    around: int = 48
    spans: int = 6
    thickness: float = 0.0

    kind = "lathe"

    def curve(self) -> F64:
        """Radius and height along the curve, (m, 2)."""
        places = np.array([[max(p.radius, 0.0), p.height] for p in self.points], np.float64)
        # A sharp point ends one smooth run and begins the next.
        breaks = [0, *(i for i, p in enumerate(self.points[1:-1], 1) if p.sharp), len(places) - 1]
        runs = [places[a : b + 1] for a, b in itertools.pairwise(breaks)]
        pieces = [catmull_rom(run, False, self.spans)[:-1] for run in runs]
        curve = np.concatenate([*pieces, places[-1:]])
        curve[:, 0] = np.maximum(curve[:, 0], 0.0)
        return curve

    def made(self) -> Clay:
        """The clay. Raises `RecipeError` when the curve makes none."""
        if len(self.points) < 2:
            raise RecipeError("a lathe curve needs at least two points")
        curve = self.curve()
        far = float(np.ptp(curve, axis=0).max())
        if far < 1e-6 or curve[:, 0].max() < 1e-6:
            raise RecipeError("the curve lies on the axis; draw it beside the axis")
        apart = np.linalg.norm(np.diff(curve, axis=0), axis=1) > far * 1e-9
        curve = curve[np.concatenate([[True], apart])]
        if self.around < 3 or self.around * len(curve) * 2 > MOST:
            raise RecipeError(f"a lathe needs at least 3 quads around, and no more than {MOST:,} vertices")
        if self.thickness > 0:
            return self._turned(self._walled(curve), True)
        # A full body closes over the axis at both ends.
        ends = [curve]
        if curve[0, 0] > far * 1e-6:
            ends.insert(0, np.array([[0.0, curve[0, 1]]]))
        if curve[-1, 0] > far * 1e-6:
            ends.append(np.array([[0.0, curve[-1, 1]]]))
        return self._turned(np.concatenate(ends), False)

    def _walled(self, curve: F64) -> F64:
        way = np.gradient(curve, axis=0)
        way /= np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-12)
        inside = np.stack([-way[:, 1], way[:, 0]], -1)
        # Inwards is towards the axis on the whole.
        if float((inside[:, 0] * curve[:, 0]).sum()) > 0:
            inside = -inside
        inner = curve + inside * self.thickness
        inner[:, 0] = np.maximum(inner[:, 0], 0.0)
        on_axis = curve[:, 0] < 1e-9
        inner[on_axis, 0] = 0.0
        return np.concatenate([curve, inner[::-1]])

    def _turned(self, curve: F64, closed: bool) -> Clay:
        """The curve turned; where it touches the axis, one vertex."""
        n = self.around + self.around % 2
        tiny = float(np.abs(curve).max()) * 1e-9
        turn = circle(n)
        points: list[F64] = []
        rows: list[I32] = []
        total = 0
        for radius, height in curve:
            if radius <= tiny:
                points.append(np.array([[0.0, height, 0.0]]))
                rows.append(np.full(n, total, np.int32))
                total += 1
                continue
            points.append(np.stack([radius * turn[:, 0], np.full(n, height), -radius * turn[:, 1]], -1))
            rows.append((total + np.arange(n)).astype(np.int32))
            total += n
        pairs = list(itertools.pairwise(rows))
        if closed:
            pairs.append((rows[-1], rows[0]))
        faces: list[I32] = []
        for a, b in pairs:
            poles = (a[0] == a[1], b[0] == b[1])
            if all(poles):
                continue
            if poles[0]:
                faces.append(np.stack([a, np.roll(b, -1), b], -1))
            elif poles[1]:
                faces.append(np.stack([a, np.roll(a, -1), b], -1))
            else:
                faces.append(np.stack([a, np.roll(a, -1), np.roll(b, -1), b], -1))
        clay = clay_of(np.concatenate(points), [f.astype(np.int32) for f in faces])
        corners = clay.positions[triangulate(clay.faces)].astype(np.float64)
        volume = np.einsum("ij,ij->i", corners[:, 0], np.cross(corners[:, 1], corners[:, 2])).sum()
        if volume < 0:
            # Drawn from the top down: turned inside out.
            return Clay(clay.positions, turned_out(clay.faces))
        return clay
