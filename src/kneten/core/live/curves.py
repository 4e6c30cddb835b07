"""Curves through points, and frames that travel along them without needless turning."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F64, AnyArray


def circle(count: int, first: float = 0.0) -> F64:
    """Cosine and sine of `count` equal steps around, (count, 2); mirrored places are equal to the bit.

    `first` is where it begins, in steps; it is exact for multiples of a quarter step.
    """

    def sine(quarters: AnyArray) -> F64:
        # Brought back to the first quarter of the turn, counted in fourths of a step.
        whole = 4 * count
        turn = np.mod(quarters, whole)
        sign = np.where(turn * 2 > whole, -1.0, 1.0)
        turn = np.where(turn * 2 > whole, whole - turn, turn)
        turn = np.where(turn * 4 > whole, whole / 2 - turn, turn)
        return np.asarray(sign * np.sin(turn / whole * 2 * np.pi))

    at = np.round((np.arange(count) + first) * 4)
    return np.stack([sine(at + count), sine(at)], -1)


def catmull_rom(points: F64, closed: bool, per_span: int) -> F64:
    """A smooth curve through points (k, d): `per_span` places for each span, and the last point.

    Centripetal (Yuksel, Schaefer, Keyser 2011): no loops or cusps, however uneven the points lie.

    Returns
    -------
    curve : (m, d) float64
        A closed curve does not repeat its first place.
    """
    k = len(points)
    if k == 1:
        return points.astype(np.float64)
    if k == 2 and closed:
        closed = False
    p = points.astype(np.float64)
    if closed:
        before, after = np.roll(p, 1, 0), np.roll(p, -2, 0)
        start, end = p, np.roll(p, -1, 0)
    else:
        start, end = p[:-1], p[1:]
        # Ends are mirrored outwards: the curve leaves its first point straight on.
        before = np.concatenate([[2 * p[0] - p[1]], p[:-2]])
        after = np.concatenate([p[2:], [2 * p[-1] - p[-2]]])
    gap = [
        np.maximum(np.sqrt(np.linalg.norm(b - a, axis=1)), 1e-9)[:, None, None]
        for a, b in ((before, start), (start, end), (end, after))
    ]
    t = (np.arange(per_span) / per_span)[None, :, None]
    t1, t2, t3 = gap[0], gap[0] + gap[1], gap[0] + gap[1] + gap[2]
    at = t1 + t * gap[1]
    p0, p1, p2, p3 = (x[:, None, :] for x in (before, start, end, after))
    a1 = p0 + (p1 - p0) * at / t1
    a2 = p1 + (p2 - p1) * (at - t1) / gap[1]
    a3 = p2 + (p3 - p2) * (at - t2) / gap[2]
    b1 = a1 + (a2 - a1) * at / t2
    b2 = a2 + (a3 - a2) * (at - t1) / (t3 - t1)
    curve = (b1 + (b2 - b1) * (at - t1) / gap[1]).reshape(-1, p.shape[1])
    return curve if closed else np.concatenate([curve, p[-1:]])


def lengths_along(curve: F64, closed: bool = False) -> F64:
    """Length from the start to each place (and back to the start, when closed)."""
    whole = np.concatenate([curve, curve[:1]]) if closed else curve
    steps = np.linalg.norm(np.diff(whole, axis=0), axis=1)
    return np.concatenate([[0.0], np.cumsum(steps)])


def travelling_frames(curve: F64, closed: bool) -> tuple[F64, F64, F64]:
    """Tangent, side and up at each place, (m, 3) each, with as little turning as possible.

    The double reflection method (Wang, Juettler, Zheng, Liu 2008). On a closed curve what is left of
    the turn is spread evenly, so that the ends meet.
    """
    m = len(curve)
    if closed:
        tangent = np.roll(curve, -1, 0) - np.roll(curve, 1, 0)
    else:
        tangent = np.gradient(curve, axis=0) if m > 1 else np.array([[0.0, 1.0, 0.0]])
    long = np.linalg.norm(tangent, axis=1, keepdims=True)
    tangent = np.where(long > 1e-12, tangent / np.maximum(long, 1e-12), [[0.0, 1.0, 0.0]])
    start = np.eye(3)[int(np.argmin(np.abs(tangent[0])))]
    side = np.empty_like(tangent)
    side[0] = start - (start @ tangent[0]) * tangent[0]
    side[0] /= np.linalg.norm(side[0])
    for i in range(m - 1):
        side[i + 1] = _reflected(curve[i], curve[i + 1], tangent[i], tangent[i + 1], side[i])
    if closed and m > 2:
        end = _reflected(curve[-1], curve[0], tangent[-1], tangent[0], side[-1])
        off = np.arctan2(np.cross(end, side[0]) @ tangent[0], end @ side[0])
        along = lengths_along(curve, True)
        turn = (off * along[:-1] / max(along[-1], 1e-12))[:, None]
        side = side * np.cos(turn) + np.cross(tangent, side) * np.sin(turn)
    return tangent, side, np.cross(tangent, side)


def _reflected(a: F64, b: F64, ta: F64, tb: F64, side: F64) -> F64:
    v = b - a
    c = float(v @ v)
    if c < 1e-24:
        return side
    left = side - 2 / c * (v @ side) * v
    t = ta - 2 / c * (v @ ta) * v
    w = tb - t
    d = float(w @ w)
    out = left - 2 / d * (w @ left) * w if d > 1e-24 else left
    out = out - (out @ tb) * tb
    return np.asarray(out / max(float(np.linalg.norm(out)), 1e-12))


def thinned(points: F64, tolerance: float) -> list[int]:
    """Few of many points (k, 3), so that no other lies farther than the tolerance from the lines between.

    Douglas and Peucker 1973. Returns their indices, the first and the last among them.
    """
    keep = {0, len(points) - 1}
    todo = [(0, len(points) - 1)]
    while todo:
        first, last = todo.pop()
        if last - first < 2:
            continue
        a, b = points[first], points[last]
        way = b - a
        inner = points[first + 1 : last]
        t = np.clip((inner - a) @ way / max(float(way @ way), 1e-24), 0, 1)
        off = np.linalg.norm(inner - (a + t[:, None] * way), axis=1)
        worst = int(np.argmax(off))
        if off[worst] > tolerance:
            middle = first + 1 + worst
            keep.add(middle)
            todo += [(first, middle), (middle, last)]
    return sorted(keep)
