"""A picture held before the view: bent to fit, and laid or brushed through onto the clay behind it.

Nine points, three rows of three, hold it. What lies between follows them along parabolas, so that three points in a row stay
straight where they are straight. It is fixed to the view, not to the clay: turning the clay brings other clay behind it.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from uuid import uuid4

import numpy as np
from scipy.ndimage import minimum_filter
from scipy.spatial import cKDTree

from kneten.core.arrays import F32, F64, I32, U8, AnyArray, Progress
from kneten.core.camera import Camera
from kneten.core.mesh import Mesh
from kneten.core.paint.reading import as_light, between, evened
from kneten.core.seen_heights import rasterise

Point = tuple[float, float]

SIDE = 3
"""Points of the net along each side."""

SEEDS = 25
"""Places along each side from which the net is searched."""

DEPTHS = 1200
"""Pixels up to which what hides what is looked at, down the view."""

STEPS = 8


def flat_net(wide: float, high: float) -> tuple[Point, ...]:
    """The net of a picture that is not bent, in the middle of the view: so wide and high, of the view's height."""
    return tuple(
        ((column / 2 - 0.5) * wide, (0.5 - row / 2) * high) for row in range(SIDE) for column in range(SIDE)
    )


@dataclass(frozen=True)
class HeldPicture:
    """A picture before the view.

    Attributes
    ----------
    reference : str
        Id of the picture on the board.
    net : nine points
        Rows from the top; in heights of the view from its middle, y up.
    opacity : float
        How clearly it is seen, 0 to 1.
    fade : float
        Degrees by which clay may be turned away until nothing is laid on it.
    mirrored : bool
        What is laid on the part's one side is laid on the other too.
    shown : bool
    tiled : bool
        It is not held before the view but laid again and again over the whole part.
    size, turn : float
        How wide it is there in millimetres, and how many degrees it is turned.
    """

    reference: str
    net: tuple[Point, ...]
    opacity: float = 0.55
    fade: float = 75.0
    mirrored: bool = False
    shown: bool = True
    tiled: bool = False
    size: float = 40.0
    turn: float = 0.0
    id: str = field(default_factory=lambda: uuid4().hex[:12])

    @property
    def usable(self) -> bool:
        """Whether its numbers make sense."""
        numbers = np.array(self.net, float)
        fits = numbers.shape == (SIDE * SIDE, 2) and bool((np.abs(numbers) < 1e3).all())
        laid = 1e-3 <= self.size <= 1e6 and abs(self.turn) <= 360
        return fits and laid and 0 <= self.opacity <= 1 and 1 <= self.fade <= 90

    def moved(self, change: F64) -> HeldPicture:
        """With its points moved by a (2, 3) matrix."""
        points = np.array(self.net) @ change[:, :2].T + change[:, 2]
        return replace(self, net=_points(points))

    def with_point(self, index: int, at: Point) -> HeldPicture:
        """With one point elsewhere; a corner takes along half of what lies between it and the others."""
        points = np.array(self.net)
        row, column = divmod(index, SIDE)
        move = np.array(at) - points[index]
        if row != 1 and column != 1:
            middle_row, middle_column = 1 * SIDE + column, row * SIDE + 1
            points[middle_row] += move / 2
            points[middle_column] += move / 2
            points[4] += move / 4
        points[index] = at
        return replace(self, net=_points(points))


def _points(table: F64) -> tuple[Point, ...]:
    return tuple((float(x), float(y)) for x, y in table)


def _shares(t: F64) -> tuple[F64, F64]:
    """How much three points in a row count at places along them, (k, 3), and how fast that changes."""
    counts = np.stack([2 * (t - 0.5) * (t - 1), 4 * t * (1 - t), 2 * t * (t - 0.5)], axis=-1)
    return counts, np.stack([4 * t - 3, 4 - 8 * t, 4 * t - 1], axis=-1)


def places_of(net: tuple[Point, ...], uv: F64) -> F64:
    """Where places of a picture (k, 2), from 0 to 1, right and down, are in the view, (k, 2)."""
    points = np.array(net).reshape(SIDE, SIDE, 2)
    across, down = _shares(uv[:, 0])[0], _shares(uv[:, 1])[0]
    return np.einsum("kr,kc,rcx->kx", down, across, points)


def found_on(net: tuple[Point, ...], places: F64) -> tuple[F64, AnyArray]:
    """Which places of a picture (k, 2) lie at places of the view (k, 2), and where there is any, (k,) bool.

    The net is turned round by Newton's method, from the nearest of some places on it.
    """
    points = np.array(net).reshape(SIDE, SIDE, 2)
    t = np.linspace(0, 1, SEEDS)
    seeds = np.stack(np.meshgrid(t, t), axis=-1).reshape(-1, 2)
    uv = seeds[cKDTree(places_of(net, seeds)).query(places)[1]].copy()
    for _ in range(STEPS):
        (across, along), (down, steep) = _shares(uv[:, 0]), _shares(uv[:, 1])
        off = np.einsum("kr,kc,rcx->kx", down, across, points) - places
        du = np.einsum("kr,kc,rcx->kx", down, along, points)
        dv = np.einsum("kr,kc,rcx->kx", steep, across, points)
        area = du[:, 0] * dv[:, 1] - du[:, 1] * dv[:, 0]
        area = np.where(np.abs(area) < 1e-12, 1e-12, area)
        step = np.stack(
            [off[:, 0] * dv[:, 1] - off[:, 1] * dv[:, 0], du[:, 0] * off[:, 1] - du[:, 1] * off[:, 0]],
            axis=-1,
        )
        uv -= np.clip(step / area[:, None], -0.25, 0.25)
    off = np.linalg.norm(places_of(net, np.clip(uv, 0, 1)) - places, axis=1)
    size = float(np.ptp(points.reshape(-1, 2), axis=0).max())
    return np.clip(uv, 0, 1), off <= 1e-3 * max(size, 1e-9)


class Through:
    """A picture as it is held before one part: what of it lies over each of its vertices.

    Parameters
    ----------
    pixels : (h, w, 4) uint8
        sRGB and opacity.
    matrix : (4, 4) float64
        From the part's space into the scene.
    aspect : float
        The view's width over its height.
    """

    def __init__(
        self, mesh: Mesh, matrix: F64, camera: Camera, aspect: float, held: HeldPicture, pixels: U8
    ) -> None:
        self._mesh, self._matrix, self._camera, self._aspect = mesh, matrix, camera, aspect
        self._held, self._pixels = held, pixels
        self._near: F64 | None = None
        self._table: F32 | None = None

    def at(self, vertices: I32) -> tuple[F32, F32]:
        """The light of the picture over some vertices, (k, 3), and how much of it is laid there, (k,)."""
        positions = self._mesh.positions[vertices].astype(np.float64)
        normals = self._mesh.normals[vertices].astype(np.float64)
        light, share = self._over(positions, normals)
        if self._held.mirrored:
            turn = np.array([-1.0, 1.0, 1.0])
            other, more = self._over(positions * turn, normals * turn)
            better = more > share
            light[better], share = other[better], np.maximum(share, more)
        return light, share

    def seen(self, progress: Progress) -> tuple[F32, F32]:
        """The same of all vertices, (n, 3) and (n,), nothing on clay that other clay of the part hides."""
        progress.report(0.05, "Looking at what is seen")
        depths = self._depths()
        # The farthest of the pixels around: on a slope a vertex lies deeper than the middle of its pixel.
        self._near = minimum_filter(np.where(np.isfinite(depths), depths, np.inf), 3, mode="nearest")
        progress.report(0.4, "Reading the picture")
        light = np.zeros((self._mesh.n_vertices, 3), np.float32)
        share = np.zeros(self._mesh.n_vertices, np.float32)
        for first in range(0, len(share), 100_000):
            some = np.arange(first, min(first + 100_000, len(share)), dtype=np.int32)
            light[some], share[some] = self.at(some)
            progress.report(0.4 + 0.6 * first / len(share), "Reading the picture")
        self._near = None
        return light, share

    def _in_view(self, positions: F64) -> tuple[F64, F64]:
        """Places in the view (k, 2), in its heights, and how near they are (k,): greater is nearer, straight lines stay straight."""
        at = positions @ self._matrix[:3, :3].T + self._matrix[:3, 3]
        found = self._camera.project(at, self._aspect, 1.0)
        near = -found[:, 2] if self._camera.orthographic else 1.0 / np.maximum(found[:, 2], 1e-6)
        if not self._camera.orthographic:
            near = np.where(found[:, 2] > 1e-6, near, -np.inf)
        return np.stack([found[:, 0] - self._aspect / 2, 0.5 - found[:, 1]], axis=1), near

    def _over(self, positions: F64, normals: F64) -> tuple[F32, F32]:
        places, near = self._in_view(positions)
        at = positions @ self._matrix[:3, :3].T + self._matrix[:3, 3]
        eye = self._camera.axes()[2] if self._camera.orthographic else self._camera.eye() - at
        eye = eye / np.linalg.norm(np.atleast_2d(eye), axis=1, keepdims=True)
        ways = normals @ self._matrix[:3, :3].T
        ways /= np.maximum(np.linalg.norm(ways, axis=1, keepdims=True), 1e-12)
        facing = np.einsum("kx,kx->k", ways, np.broadcast_to(eye, ways.shape))
        least = np.cos(np.radians(self._held.fade))
        # Full up to half the angle, then less and less.
        full = np.cos(np.radians(self._held.fade / 2))
        t = np.clip((facing - least) / (full - least), 0, 1)
        fading = t * t * (3 - 2 * t)
        uv, there = found_on(self._held.net, places)
        there &= np.isfinite(near) & (fading > 0)
        if self._near is not None:
            there &= self._is_seen(places, near)
        light = np.zeros((len(positions), 3), np.float32)
        share = np.zeros(len(positions), np.float32)
        rows = np.flatnonzero(there)
        if len(rows):
            if self._table is None:
                self._table = evened(self._pixels, self._step())
            light[rows], opacity = as_light(between(self._table, uv[rows]))
            share[rows] = opacity * fading[rows]
        return light, share

    def _step(self) -> float:
        """Pixels of the picture from one vertex to the next, about."""
        some = self._mesh.topology.faces[:: max(self._mesh.topology.n_faces // 512, 1)]
        ends = self._mesh.positions[some[:, :2]].astype(np.float64).reshape(-1, 3)
        at = self._in_view(ends)[0].reshape(-1, 2, 2)
        edge = float(np.median(np.linalg.norm(at[:, 0] - at[:, 1], axis=1)))
        size = np.ptp(np.array(self._held.net), axis=0).max()
        return edge / max(float(size), 1e-9) * max(self._pixels.shape[:2])

    def _depths(self) -> F64:
        """How near the clay is at each pixel of the view, (rows, columns); -inf beside it."""
        rows, columns = DEPTHS, max(round(DEPTHS * self._aspect), 2)
        places, near = self._in_view(self._mesh.positions.astype(np.float64))
        pixels = np.stack(
            [(places[:, 0] / self._aspect + 0.5) * columns - 0.5, (0.5 - places[:, 1]) * rows - 0.5, near],
            axis=1,
        )
        return rasterise(self._mesh, pixels, (rows, columns), np.linalg.det(self._matrix[:3, :3]) < 0)[0]

    def _is_seen(self, places: F64, near: F64) -> AnyArray:
        """Whether nothing of the part lies before places of the view (k, 2) that are so near."""
        assert self._near is not None
        rows, columns = self._near.shape
        j = np.rint((places[:, 0] / self._aspect + 0.5) * columns - 0.5).astype(np.int64)
        i = np.rint((0.5 - places[:, 1]) * rows - 0.5).astype(np.int64)
        inside = (i >= 0) & (i < rows) & (j >= 0) & (j < columns)
        far = self._near[np.clip(i, 0, rows - 1), np.clip(j, 0, columns - 1)]
        slack = 1e-3 * float(np.abs(near[np.isfinite(near)]).max(initial=0.0))
        return inside & ~(near < far - slack)
