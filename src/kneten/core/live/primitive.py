"""First pieces of clay, each from a size and a number of divisions along each axis."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F64, I32, AnyArray
from kneten.core.live.clay import MOST, Clay, RecipeError, clay_of, even_up, round_grid, wall
from kneten.core.live.curves import circle
from kneten.core.live.eye import IRISES, PUPILS, eye_clay
from kneten.core.primitives import lattice

KINDS = ("sphere", "box", "cylinder", "tube", "cone", "capsule", "torus", "disc", "plane", "eye")


LEAST_ROW = 0.2
"""Share of a row below which a straight piece is not worth one."""


@dataclass(frozen=True)
class Primitive:
    """A simple body around the origin of its part.

    Attributes
    ----------
    shape : str
        One of `KINDS`.
    size : three floats
        Full extent along x, y, z in millimetres; y is along the axis of round bodies.
    divisions : three ints
        Quads along x, y and z; for round bodies around, along, and across the wall or cap.
    inner : float
        0..1: the hole's share of a tube or torus, the tip's share of a cone, the iris' share of an eye.
    gaze : two floats
        Where an eye looks, degrees to its left and up.
    apart : float
        Millimetres between the middles of a pair of eyes; 0 for a single eye.
    iris, pupil : str
        An eye's colour and the form of its pupil: of `IRISES` and `PUPILS`.
    clear : bool
        One sees through an eye's cornea to its iris.
    """

    shape: str = "sphere"
    size: tuple[float, float, float] = (100.0, 100.0, 100.0)
    divisions: tuple[int, int, int] = (32, 32, 32)
    inner: float = 0.5
    gaze: tuple[float, float] = (0.0, 0.0)
    apart: float = 0.0
    iris: str = "moor"
    pupil: str = "round"
    clear: bool = False

    kind = "primitive"

    def made(self) -> Clay:
        """The clay. Raises `RecipeError` for sizes or divisions that make none."""
        if self.shape not in KINDS:
            raise RecipeError(f"there is no shape called {self.shape}")
        flat = self.shape in ("disc", "plane")
        sizes = (self.size[0], self.size[2]) if flat else self.size
        if not all(np.isfinite(self.size)) or min(sizes) <= 0:
            raise RecipeError("every size must be greater than zero")
        if min(self.divisions) < 1:
            raise RecipeError("there must be at least one division along each axis")
        if not 0 <= self.inner <= 1:
            raise RecipeError("the inner share lies between 0 and 1")
        a, b, c = self.divisions
        if 4 * max(a * b, b * c, a * c) > MOST:
            raise RecipeError(f"so many divisions make more than {MOST:,} vertices; choose fewer")
        return _MAKERS[self.shape](self)


def _cube_ball(points: I32, counts: tuple[int, int, int]) -> F64:
    """Grid points of a cube's surface on the unit ball, with nearly equal angles between them."""
    # Twice the index less the count is exact, so that both sides mirror to the bit.
    steps = (2 * points - np.array(counts)) / np.array(counts)
    cube = np.tan(steps * (np.pi / 4))
    return np.asarray(cube / np.sqrt((cube * cube).sum(axis=1, keepdims=True)))


def _sphere(p: Primitive) -> Clay:
    a, b, c = (max(even_up(n), 2) for n in p.divisions)
    points, faces = lattice(a, b, c)
    return clay_of(_cube_ball(points, (a, b, c)) * np.array(p.size) / 2, faces)


def _box(p: Primitive) -> Clay:
    points, faces = lattice(*p.divisions)
    counts = np.array(p.divisions)
    return clay_of((2 * points - counts) / counts * np.array(p.size) / 2, faces)


def _capsule(p: Primitive) -> Clay:
    """Two half balls with a straight piece between them, whose length is what is left of the height."""
    a = c = max(even_up(p.divisions[0]), 2)
    width, height, depth = p.size
    radius = min(width, depth, height) / 2
    straight = height - 2 * radius
    # No rows closer than a fifth of a quad, and none where there is nothing between the halves.
    middle = min(max(p.divisions[1], 1), int(np.ceil(5 * straight * a / (np.pi * radius) - LEAST_ROW)))
    points, faces = lattice(a, a + middle, c)
    rows = points[:, 1]
    below = np.minimum(rows, a // 2)
    above = np.maximum(rows - middle, a // 2)
    lower = rows <= a // 2
    upper = rows >= a // 2 + middle
    folded = points.copy()
    folded[:, 1] = np.where(lower, below, np.where(upper, above, a // 2))
    ball = _cube_ball(folded, (a, a, c))
    along = np.clip((rows - a // 2) / max(middle, 1), 0.0, 1.0) - 0.5
    out = ball * np.array([width / 2, radius, depth / 2])
    out[:, 1] += along * straight
    return clay_of(out, faces)


def _around(p: Primitive) -> int:
    """Quads along one side of the middle square: a quarter of those around, even for symmetry."""
    return max(even_up(round(p.divisions[0] / 4)), 2)


def _column(p: Primitive, top: float) -> Clay:
    """A disc, a wall of rings, a disc; the upper one `top` times as wide."""
    n, along, rings = _around(p), p.divisions[1], max(p.divisions[2] // 4, 1)
    cap, quads, rim = round_grid(n, rings)
    around = 4 * n
    width, height, depth = (s / 2 for s in p.size)
    low = np.stack([cap[:, 0] * width, np.full(len(cap), -height), -cap[:, 1] * depth], -1)
    points = [low]
    faces = [quads[:, ::-1]]
    share = np.arange(1, along) / along
    circle = cap[rim]
    wide = 1 + (top - 1) * share
    middle = np.empty((along - 1, around, 3))
    middle[..., 0] = circle[None, :, 0] * width * wide[:, None]
    middle[..., 1] = (2 * share - 1)[:, None] * height
    middle[..., 2] = -circle[None, :, 1] * depth * wide[:, None]
    points.append(middle.reshape(-1, 3))
    first_high = len(low) + len(points[1])
    rows: list[AnyArray] = [rim, *(len(low) + np.arange(around) + around * k for k in range(along - 1))]
    if top > 0:
        high = low * np.array([top, -1.0, top])
        points.append(high)
        faces.append(quads + first_high)
        rows.append(rim + first_high)
        for a, b in itertools.pairwise(rows):
            faces.append(np.stack([a, np.roll(a, -1), np.roll(b, -1), b], -1))
        return clay_of(np.concatenate(points), [f.astype(np.int32) for f in faces])
    points.append(np.array([[0.0, height, 0.0]]))
    for a, b in itertools.pairwise(rows):
        faces.append(np.stack([a, np.roll(a, -1), np.roll(b, -1), b], -1))
    tip = np.full(around, first_high)
    faces.append(np.stack([rows[-1], np.roll(rows[-1], -1), tip], -1))
    return clay_of(np.concatenate(points), [f.astype(np.int32) for f in faces])


def _ring_body(p: Primitive, profile: F64) -> Clay:
    """A closed profile (k, 2) of radius share and height, turned around y."""
    around = 4 * _around(p)
    turn = circle(around)
    x = turn[:, :1] * profile[None, :, 0] * p.size[0] / 2
    z = -turn[:, 1:] * profile[None, :, 0] * p.size[2] / 2
    y = np.broadcast_to(profile[None, :, 1], x.shape)
    points = np.stack([x, y, z], -1).reshape(-1, 3)
    return clay_of(points, wall(around, len(profile), closed=True, back=True))


def _tube(p: Primitive) -> Clay:
    inner = min(max(p.inner, 0.02), 0.98)
    along, across = p.divisions[1], max(p.divisions[2] // 8, 1)
    half = p.size[1] / 2
    up = np.linspace(-half, half, along + 1)
    over = np.linspace(1, inner, across + 1)
    outside = np.stack([np.ones(along), up[:-1]], -1)
    top = np.stack([over[:-1], np.full(across, half)], -1)
    inside = np.stack([np.full(along, inner), up[:0:-1]], -1)
    bottom = np.stack([over[:0:-1], np.full(across, -half)], -1)
    return _ring_body(p, np.concatenate([outside, top, inside, bottom]))


def _torus(p: Primitive) -> Clay:
    count = max(even_up(p.divisions[1]), 4)
    inner = min(max(p.inner, 0.0), 0.95)
    thick = (1 - inner) / 2
    t = np.arange(count) / count * 2 * np.pi
    height = p.size[1] / 2
    profile = np.stack([1 - thick + thick * np.cos(t), height * np.sin(t)], -1)
    return _ring_body(p, profile)


def _disc(p: Primitive) -> Clay:
    points, faces, _ = round_grid(_around(p), max(p.divisions[2] // 4, 1))
    flat = np.stack([points[:, 0] * p.size[0] / 2, np.zeros(len(points)), -points[:, 1] * p.size[2] / 2], -1)
    return clay_of(flat, faces)


def _plane(p: Primitive) -> Clay:
    a, _, c = p.divisions
    x, z = np.meshgrid(np.arange(a + 1), np.arange(c + 1), indexing="ij")
    flat = np.stack([(2 * x - a) / a * p.size[0] / 2, np.zeros(x.shape), (2 * z - c) / c * p.size[2] / 2], -1)
    index = np.arange((a + 1) * (c + 1)).reshape(a + 1, c + 1)
    quads = np.stack([index[:-1, :-1], index[:-1, 1:], index[1:, 1:], index[1:, :-1]], -1)
    return clay_of(flat.reshape(-1, 3), quads.reshape(-1, 4).astype(np.int32))


def _eye(p: Primitive) -> Clay:
    if p.iris not in IRISES or p.pupil not in PUPILS:
        raise RecipeError(f"there is no eye of {p.iris} with a {p.pupil} pupil")
    sides = (_around(p), max(p.divisions[1], 8))
    return eye_clay(p.size, sides, p.inner, (p.gaze, p.apart), (p.iris, p.pupil), p.clear)


_MAKERS = {
    "sphere": _sphere,
    "box": _box,
    "cylinder": lambda p: _column(p, 1.0),
    "tube": _tube,
    "cone": lambda p: _column(p, p.inner),
    "capsule": _capsule,
    "torus": _torus,
    "disc": _disc,
    "plane": _plane,
    "eye": _eye,
}
