"""A human skull to compare a head with: bodies of bone, softly run together, hollows taken out of them.

Lengths are millimetres of an adult; the middle lies between the ear holes, z looks forward. Proportions follow
the common canon: the eye sockets lie at half of the height, the width is two thirds of it, the depth seven
eighths.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F64, Progress
from kneten.core.live.clay import Clay
from kneten.core.surface_nets import follow_grid, relaxed, symmetrise
from kneten.core.voxels import open_corners

Field = Callable[[F64], F64]

LOW = np.array([-78.0, -104.0, -112.0])
HIGH = np.array([78.0, 122.0, 100.0])


FEET, CROWN = -97.96, 112.28
"""Where the chin ends below and the brain case above."""


@dataclass(frozen=True)
class Body:
    """Something solid on both sides of x = 0.

    Attributes
    ----------
    field : callable
        About how far points (n, 3) with x >= 0 lie outside of it.
    low, high : (3,) float64
        The box around its half with x >= 0.
    """

    field: Field
    low: F64
    high: F64


@dataclass(frozen=True)
class Bone:
    """A body that is added, or taken away as a hollow; its seam is `soft` mm wide."""

    body: Body
    soft: float = 4.0
    hollow: bool = False


def _ball(at: tuple[float, float, float], radii: tuple[float, float, float], tilt: float = 0.0) -> Body:
    """An ellipsoid and its mirror image, tilted about x by degrees."""
    c, s = np.cos(np.radians(tilt)), np.sin(np.radians(tilt))

    def field(p: F64) -> F64:
        q = p - np.array(at)
        q[:, 1], q[:, 2] = c * q[:, 1] + s * q[:, 2], c * q[:, 2] - s * q[:, 1]
        far = np.linalg.norm(q / np.array(radii), axis=1)
        slope = np.linalg.norm(q / np.array(radii) ** 2, axis=1)
        return np.asarray(far * (far - 1.0) / np.maximum(slope, 1e-9))

    reach = np.array([radii[0], max(radii[1:]), max(radii[1:])]) if tilt else np.array(radii)
    return Body(field, np.array(at) - reach, np.array(at) + reach)


def _chain(*points: tuple[float, float, float, float]) -> Body:
    """Rods from point to point, (x, y, z, radius), and their mirror image."""
    knots = np.array(points, np.float64)

    def field(p: F64) -> F64:
        best = np.full(len(p), np.inf)
        for a, b in itertools.pairwise(knots):
            way = b[:3] - a[:3]
            t = np.clip((p - a[:3]) @ way / max(float(way @ way), 1e-9), 0.0, 1.0)
            radius = a[3] + t * (b[3] - a[3])
            best = np.minimum(best, np.linalg.norm(p - a[:3] - t[:, None] * way, axis=1) - radius)
        return best

    wide = knots[:, 3:]
    return Body(field, (knots[:, :3] - wide).min(axis=0), (knots[:, :3] + wide).max(axis=0))


def _teeth(y: float, length: float, reach: float, wide: float, front: float) -> tuple[Bone, ...]:
    """Seven teeth to a side along a bow; `length` up or down from their necks."""
    t = np.linspace(0.07, 0.97, 7)
    x = wide * np.sin(t * np.pi / 2)
    z = front - reach * (1 - np.cos(t * np.pi / 2))
    thick = (3.5, 3.1, 3.6, 3.6, 3.8, 4.6, 4.7)
    return tuple(
        Bone(_chain((x[k], y, z[k], thick[k]), (x[k], y + length, z[k] + 1.0, thick[k] * 0.86)), 1.2)
        for k in range(7)
    )


BONES = (
    # Brain case, its base cut flat below; forehead, back of the head.
    Bone(_ball((0, 46, -14), (69, 66, 88), 6.0)),
    Bone(_ball((0, 20, -62), (44, 34, 34)), 14.0),
    Bone(_ball((0, -34, -30), (80, 24, 78)), 8.0, True),
    Bone(_chain((52, -4, -8, 9.0), (50, -24, -8, 5.0)), 6.0),
    # Brows, bridge and bone of the nose, jaw above.
    Bone(_chain((8, 30, 72, 7.0), (30, 33, 68, 6.0), (48, 22, 52, 6.5)), 8.0),
    Bone(_chain((0, 24, 70, 8.0), (0, 2, 82, 4.5)), 7.0),
    Bone(_ball((0, -16, 50), (33, 34, 28)), 9.0),
    Bone(_chain((0, -42, 69, 9.0), (18, -42, 60, 9.0), (29, -40, 38, 8.0)), 8.0),
    # Cheekbone.
    Bone(_chain((34, -16, 60, 9.0), (49, -5, 52, 9.0), (50, 10, 50, 6.5), (49, 22, 50, 6.0)), 7.0),
    # Hollows: eyes, nose, temples, ears.
    Bone(_ball((28, 8, 72), (18.5, 16.5, 30), 8.0), 4.0, True),
    Bone(_ball((5.5, -20, 82), (7.5, 9, 24)), 2.5, True),
    Bone(_ball((0, -9, 84), (6.5, 12, 20)), 3.0, True),
    Bone(_ball((64, 14, 32), (15, 30, 24)), 7.0, True),
    # The arch from the cheek to the ear, the ear's hole.
    Bone(_chain((50, -6, 50, 6.5), (65, -4, 26, 4.4), (65, -1, 4, 4.6), (62, 1, -12, 6.0)), 5.0),
    Bone(_ball((72, -8, -12), (9, 4, 4)), 2.0, True),
    # Lower jaw: chin, body, the branch up to its joint.
    Bone(_chain((0, -88, 68, 10.0), (15, -87, 63, 9.0), (34, -78, 38, 8.5), (47, -62, 10, 8.5)), 5.0),
    Bone(_chain((0, -74, 68, 7.0), (20, -73, 57, 7.0), (34, -68, 34, 7.0)), 6.0),
    Bone(_chain((47, -62, 8, 8.5), (53, -34, 2, 8.0), (55, -8, 2, 6.0)), 5.0),
    Bone(_chain((49, -52, 16, 6.0), (53, -24, 20, 5.0), (52, -12, 22, 3.5)), 5.0),
    *_teeth(-48, -8.0, 40, 29, 74),
    *_teeth(-70, 9.0, 39, 28, 72),
)


def field(points: F64) -> F64:
    """About how far points (n, 3) lie outside of the bone; negative inside."""
    half = np.column_stack([np.abs(points[:, 0]), points[:, 1:]])
    whole = np.full(len(points), 1e3)
    for bone in BONES:
        body, k = bone.body, bone.soft
        # Farther away it changes nothing that is near a surface.
        near = np.flatnonzero(((half > body.low - k - 4.0) & (half < body.high + k + 4.0)).all(axis=1))
        if len(near) == 0:
            continue
        far, out = body.field(half[near]), whole[near]
        if bone.hollow:
            far = -far
            # Smooth maximum and minimum by a polynomial, no farther than the seam reaches.
            h = np.clip(0.5 - 0.5 * (out - far) / k, 0.0, 1.0)
            whole[near] = out * (1 - h) + far * h + k * h * (1 - h)
        else:
            h = np.clip(0.5 + 0.5 * (out - far) / k, 0.0, 1.0)
            whole[near] = out * (1 - h) + far * h - k * h * (1 - h)
    return whole


def _slope(points: F64) -> tuple[F64, F64]:
    step = 0.05
    value = field(points)
    grad = np.stack([field(points + step * axis) - value for axis in np.eye(3)], -1) / step
    return value, grad


def skull(edge: float = 2.2, progress: Progress | None = None) -> Clay:
    """The skull with a mean edge length in millimetres; symmetric to the bit."""
    progress = progress or Progress()
    step = edge * 1.15
    half = int(np.ceil(HIGH[0] / step)) + 1
    low = np.array([-(half + 0.5) * step, LOW[1], LOW[2]])
    shape = [2 * half + 2, *(int(np.ceil(v)) + 2 for v in (HIGH - LOW)[1:] / step)]
    flags = np.zeros(shape, np.uint8)
    y, z = np.meshgrid(*(low[a] + step * np.arange(shape[a]) for a in (1, 2)), indexing="ij")
    for i in range(half + 1):
        plane = np.stack([np.full(y.size, low[0] + i * step), y.ravel(), z.ravel()], -1)
        flags[i] = (field(plane) < 0).reshape(y.shape)
        progress.report(0.6 * i / half, "Making the skull")
    for _ in range(64):
        flags[::-1][: half + 1] = flags[: half + 1]
        if open_corners(flags) == 0:
            break
    found = follow_grid(flags, (True, False, False))
    assert found is not None
    centres, quads, twins = found
    points = low + centres * step
    for turn in range(5):
        progress.report(0.6 + 0.08 * turn, "Making the skull")
        if turn:
            points = relaxed(points, quads)
        for _ in range(2 if turn in (0, 4) else 1):
            value, grad = _slope(points)
            move = grad * (value / np.maximum((grad**2).sum(axis=1), 0.05))[:, None]
            far = np.linalg.norm(move, axis=1, keepdims=True)
            points = points - move * np.minimum(1.0, 0.5 * step / np.maximum(far, 1e-9))
    symmetrise(points, twins, (True, False, False))
    return Clay(points.astype(np.float32), quads)
