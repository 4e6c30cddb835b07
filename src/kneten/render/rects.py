"""Rectangles of a picture: where something can be seen, and how they are joined and cut."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np

from kneten.core.arrays import F32, F64
from kneten.core.camera import Camera
from kneten.document.scene import Part

Rect = tuple[int, int, int, int]
"""x, y, width, height in picture pixels, y up."""


def screen_rect(camera: Camera, part: Part, box: F32, width: int, height: int) -> Rect | None:
    """The rectangle of the picture that a box (6,) in the part's space can cover; None when unseen."""
    return _points_rect(camera, part.transform.to_scene(_corners(box)), width, height)


def box_rect(camera: Camera, box: F32, width: int, height: int) -> Rect | None:
    """The same for a box (6,) in the scene."""
    return _points_rect(camera, _corners(box), width, height)


def _corners(box: F32) -> F64:
    xs, ys, zs = (box[0], box[3]), (box[1], box[4]), (box[2], box[5])
    return np.array([(x, y, z) for x in xs for y in ys for z in zs], np.float64)


def _points_rect(camera: Camera, points: F64, width: int, height: int) -> Rect | None:
    seen = camera.project(points, width, height)
    if not camera.orthographic and (seen[:, 2] <= 0).any():
        return (0, 0, width, height)
    left, right = np.floor(seen[:, 0].min()) - 1, np.ceil(seen[:, 0].max()) + 1
    top, bottom = np.floor(seen[:, 1].min()) - 1, np.ceil(seen[:, 1].max()) + 1
    left, right = max(left, 0), min(right, width)
    top, bottom = max(top, 0), min(bottom, height)
    if left >= right or top >= bottom:
        return None
    return (int(left), int(height - bottom), int(right - left), int(bottom - top))


def overlap(a: Rect, b: Rect) -> Rect:
    """What two rectangles share; width or height is not above zero when nothing."""
    left, low = max(a[0], b[0]), max(a[1], b[1])
    right, high = min(a[0] + a[2], b[0] + b[2]), min(a[1] + a[3], b[1] + b[3])
    return (left, low, right - left, high - low)


def grown(rect: Rect, by: int, width: int, height: int) -> Rect:
    """A rectangle with a margin, within the picture."""
    x, y, w, h = rect
    left, low = max(x - by, 0), max(y - by, 0)
    right, high = min(x + w + by, width), min(y + h + by, height)
    return (left, low, right - left, high - low)


def tiles(rect: Rect, count: float) -> list[Rect]:
    """The rectangle cut into about so many strips across its longer side, at least one."""
    x, y, w, h = rect
    n = max(min(int(np.ceil(count)), 32), 1)
    edges = np.linspace(0, max(w, h), n + 1).astype(int).tolist()
    spans = [(a, b) for a, b in itertools.pairwise(edges) if b > a]
    return [(x + a, y, b - a, h) if w >= h else (x, y + a, w, b - a) for a, b in spans]


def merged(rects: Sequence[Rect]) -> list[Rect]:
    """Join rectangles that overlap or nearly do: each is a pass over the parts."""
    out: list[Rect] = []
    for rect in rects:
        x, y, w, h = rect
        again = True
        while again:
            again = False
            for other in out:
                ox, oy, ow, oh = other
                if x <= ox + ow and ox <= x + w and y <= oy + oh and oy <= y + h:
                    right, high = max(x + w, ox + ow), max(y + h, oy + oh)
                    x, y = min(x, ox), min(y, oy)
                    w, h = right - x, high - y
                    out.remove(other)
                    again = True
                    break
        out.append((x, y, w, h))
    return out
