"""From pen events to evenly spaced places of the brush: steadying, rounding, spacing, pressure."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from kneten.core.arrays import F64


@dataclass(frozen=True)
class PenPoint:
    """Where the pen is, in pixels of the view (y down), how hard it presses and tilts (0..1), and where its end points.

    The last is in radians to the left from the picture's top.
    """

    x: float
    y: float
    pressure: float = 1.0
    tilt: float = 0.0
    way: float = 0.0


class Leash:
    """Steadying: the brush follows the pen at the end of a leash and so leaves out its tremble."""

    def __init__(self, length: float) -> None:
        self.length = length
        self._at: PenPoint | None = None

    def follow(self, pen: PenPoint) -> PenPoint:
        """Where the brush is when the pen is at `pen`."""
        if self._at is None or self.length <= 0:
            self._at = pen
            return pen
        dx, dy = pen.x - self._at.x, pen.y - self._at.y
        far = float(np.hypot(dx, dy))
        if far > self.length:
            go = (far - self.length) / far
            self._at = replace(pen, x=self._at.x + dx * go, y=self._at.y + dy * go)
        else:
            self._at = replace(pen, x=self._at.x, y=self._at.y)
        return self._at


class RoundedPath:
    """Turns events into a smooth path: quadratic arcs between the middles of the event segments.

    Fast strokes give few events; joined by straight lines they leave corners in the clay.
    """

    STEP = 1.5
    """Pixels between the points of the path; the spacing along the surface is cut from these."""

    def __init__(self) -> None:
        self._points: list[PenPoint] = []
        self._at: PenPoint | None = None

    def add(self, point: PenPoint) -> Iterator[PenPoint]:
        """The path's new points, up to the middle of the newest segment."""
        self._points = [*self._points[-1:], point]
        if self._at is None:
            self._at = point
            yield point
            return
        before = self._points[0]
        middle = _between(before, point, 0.5)
        yield from self._arc(before, middle)

    def end(self) -> Iterator[PenPoint]:
        """The rest of the path, to the newest event."""
        if self._at is not None and self._points:
            last = self._points[-1]
            yield from self._arc(_between(self._at, last, 0.5), last)

    def _arc(self, corner: PenPoint, to: PenPoint) -> Iterator[PenPoint]:
        begin = self._at
        assert begin is not None
        length = np.hypot(corner.x - begin.x, corner.y - begin.y)
        length += np.hypot(to.x - corner.x, to.y - corner.y)
        steps = max(int(np.ceil(length / self.STEP)), 1)
        for i in range(1, steps + 1):
            t = i / steps
            yield _between(_between(begin, corner, t), _between(corner, to, t), t)
        self._at = to


def _between(a: PenPoint, b: PenPoint, t: float) -> PenPoint:
    return PenPoint(
        a.x + (b.x - a.x) * t,
        a.y + (b.y - a.y) * t,
        a.pressure + (b.pressure - a.pressure) * t,
        a.tilt + (b.tilt - a.tilt) * t,
        b.way,
    )


@dataclass(frozen=True)
class Touch:
    """Where the brush meets the clay, in the part's space."""

    point: F64
    view: F64
    radius: float
    pressure: float
    way: float = 0.0


class EvenSpacing:
    """Cuts a path on the clay into dabs at even distances along the surface.

    Parameters
    ----------
    share : float
        Distance between dabs as a share of the radius.
    """

    def __init__(self, share: float) -> None:
        self.share = share
        self._last: Touch | None = None
        self._dab: F64 | None = None
        self._left = 0.0

    def add(self, touch: Touch | None) -> Iterator[tuple[Touch, F64]]:
        """Dabs on the way to the next place, each with the stroke's direction there, (3,).

        `None` says that the path left the clay; the next touch begins afresh.
        """
        if touch is None:
            self._last = None
            return
        last = self._last
        self._last = touch
        if last is None:
            self._left = self.share * touch.radius
            self._dab = touch.point
            yield touch, np.zeros(3)
            return
        way = touch.point - last.point
        length = float(np.sqrt(way @ way))
        # A jump of more than two radii between points 1.5 pixels apart is an edge in front of a
        # far surface, not a stroke along it.
        if length > 2.0 * touch.radius:
            self._left = self.share * touch.radius
            yield touch, np.zeros(3)
            return
        gone = 0.0
        while length - gone >= self._left and length > 0:
            gone += self._left
            t = gone / length
            here = Touch(
                last.point + way * t,
                touch.view,
                last.radius + (touch.radius - last.radius) * t,
                last.pressure + (touch.pressure - last.pressure) * t,
                touch.way,
            )
            self._left = self.share * here.radius
            along = here.point - (self._dab if self._dab is not None else last.point)
            self._dab = here.point
            yield here, along
        self._left -= length - gone
