"""What presses are made of: places spread evenly, cells, marks, lines and unevenness, all going on at their edges."""

from __future__ import annotations

import numpy as np
from scipy.ndimage import gaussian_filter, map_coordinates

from kneten.core.arrays import F32, F64, I32, AnyArray, in_parts, kernel

SIDE = 1024
"""Pixels along a side of a press of our own."""

ROWS = 128
"""Least number of rows that a thread of its own is worth."""

ROUND, FLAT, PIT, ROOF = 0, 1, 2, 3
"""Sections of marks and lines: a soft hill, a flat top with round edges, half of a ball, a straight slope."""

HIGHEST, LOWEST, ADD = 0, 1, 2
"""What a mark makes of what is there."""


def blank(rows: int = SIDE, columns: int = SIDE) -> F32:
    """A picture (rows, columns) of nothing."""
    return np.zeros((rows, columns), np.float32)


def places(rows: int = SIDE, columns: int = SIDE) -> tuple[F64, F64]:
    """Where the pixels are, x to the right and y down, 0 to 1, (rows, columns) each."""
    y, x = np.mgrid[0:rows, 0:columns]
    return (x + 0.5) / columns, (y + 0.5) / rows


def step(low: float, high: float, t: AnyArray) -> AnyArray:
    """0 below `low`, 1 above `high`, without a corner between; of any shape, as (h, w), like what follows."""
    s = np.clip((t - low) / (high - low), 0.0, 1.0)
    return s * s * (3.0 - 2.0 * s)


def bump(t: AnyArray) -> AnyArray:
    """A soft hill: 1 at 0, nothing from 1 on, (h, w)."""
    return 0.5 + 0.5 * np.cos(np.pi * np.clip(np.abs(t), 0.0, 1.0))


def ball(t: AnyArray) -> AnyArray:
    """Half of a ball: 1 at 0, nothing from 1 on, (h, w)."""
    return np.sqrt(np.clip(1.0 - t * t, 0.0, 1.0))


@kernel
def _gradient_noise(first: int, last: int, gx: F64, gy: F64, out: F32) -> None:
    """Rows `first` to `last`; the gradients (down + 1, across + 1) go on at the edges."""
    rows = out.shape[0]
    columns = out.shape[1]
    down = gx.shape[0] - 1
    across = gx.shape[1] - 1
    for i in range(first, last):
        y = (i + 0.5) / rows * down
        top = int(y)
        fy = y - top
        wy = fy * fy * fy * (fy * (fy * 6.0 - 15.0) + 10.0)
        for j in range(columns):
            x = (j + 0.5) / columns * across
            left = int(x)
            fx = x - left
            wx = fx * fx * fx * (fx * (fx * 6.0 - 15.0) + 10.0)
            a = gx[top, left] * fx + gy[top, left] * fy
            b = gx[top, left + 1] * (fx - 1.0) + gy[top, left + 1] * fy
            c = gx[top + 1, left] * fx + gy[top + 1, left] * (fy - 1.0)
            d = gx[top + 1, left + 1] * (fx - 1.0) + gy[top + 1, left + 1] * (fy - 1.0)
            upper = a + wx * (b - a)
            lower = c + wx * (d - c)
            out[i, j] = (upper + wy * (lower - upper)) * 1.4


def uneven(across: int, seed: int, down: int = 0, shape: tuple[int, int] = (SIDE, SIDE)) -> F32:
    """Ups and downs between -1 and 1, so many across and down (Perlin 2002), (rows, columns)."""
    down = down or max(round(across * shape[0] / shape[1]), 1)
    angles = np.pad(np.random.default_rng(seed).uniform(0, 2 * np.pi, (down, across)), (0, 1), mode="wrap")
    gx, gy, out = np.cos(angles), np.sin(angles), np.empty(shape, np.float32)
    in_parts(shape[0], lambda first, last: _gradient_noise(first, last, gx, gy, out), ROWS)
    return out


def rough(
    across: int, seed: int, octaves: int = 4, down: int = 0, shape: tuple[int, int] = (SIDE, SIDE)
) -> F32:
    """Unevenness on top of unevenness, each half as wide and half as high, (rows, columns)."""
    down = down or max(round(across * shape[0] / shape[1]), 1)
    total = np.zeros(shape, np.float32)
    for k in range(octaves):
        total += uneven(across << k, seed + 31 * k, down << k, shape) / np.float32(1 << k)
    return total / np.float32(2.0 - 0.5 ** (octaves - 1))


def spread(across: int, seed: int, down: int = 0, stray: float = 0.35) -> F64:
    """Places spread evenly but not regularly, (n, 2) of 0 to 1: a grid of shifted rows, strayed from by chance."""
    down = down or across
    down += down % 2
    y, x = np.mgrid[0:down, 0:across]
    chance = np.random.default_rng(seed)
    x = x + 0.5 * (y % 2) + chance.uniform(-stray, stray, x.shape)
    y = y + chance.uniform(-stray, stray, y.shape)
    return np.stack([x / across % 1.0, y / down % 1.0], -1).reshape(-1, 2)


@kernel
def _cells(first: int, last: int, sx: F64, sy: F64, near: F32, border: F32, which: I32) -> None:
    """Rows `first` to `last`; the places (down + 4, across + 4) go on by two squares at each edge."""
    rows = near.shape[0]
    columns = near.shape[1]
    down = sx.shape[0] - 4
    across = sx.shape[1] - 4
    for i in range(first, last):
        y = (i + 0.5) / rows * down
        top = int(y)
        fy = y - top
        for j in range(columns):
            x = (j + 0.5) / columns * across
            left = int(x)
            fx = x - left
            best = 1e30
            bx = 0.0
            by = 0.0
            own = 0
            for oy in range(5):
                for ox in range(5):
                    dx = ox - 2 + sx[top + oy, left + ox] - fx
                    dy = oy - 2 + sy[top + oy, left + ox] - fy
                    far = dx * dx + dy * dy
                    if far < best:
                        best = far
                        bx = dx
                        by = dy
                        own = oy * 5 + ox
            # Half-way between two places lies their border; squares are compared, roots are dear.
            edge = 1e30
            for oy in range(5):
                for ox in range(5):
                    dx = ox - 2 + sx[top + oy, left + ox] - fx
                    dy = oy - 2 + sy[top + oy, left + ox] - fy
                    wide = (dx - bx) * (dx - bx) + (dy - by) * (dy - by)
                    ahead = dx * dx + dy * dy - best
                    if wide > 1e-12 and ahead * ahead < edge * wide:
                        edge = ahead * ahead / wide
            near[i, j] = np.sqrt(best)
            border[i, j] = 0.5 * np.sqrt(edge)
            which[i, j] = (top + own // 5 - 2) % down * across + (left + own % 5 - 2) % across


def cells(
    across: int, seed: int, down: int = 0, stray: float = 0.4, shape: tuple[int, int] = (SIDE, SIDE)
) -> tuple[F32, F32, F32]:
    """The cells around places strewn over a grid (Worley 1996): how far its middle and its border are, and a number of chance, (rows, columns) each.

    Lengths are in squares of the grid; the number, 0 to 1, is the same all over a cell.
    """
    down = down or max(round(across * shape[0] / shape[1]), 1)
    chance = np.random.default_rng(seed)
    shifted = 0.5 * (np.arange(down) % 2)[:, None] if down % 2 == 0 else 0.0
    sx = 0.25 + shifted + chance.uniform(-stray, stray, (down, across))
    sy = 0.5 + chance.uniform(-stray, stray, (down, across))
    near, border = np.empty(shape, np.float32), np.empty(shape, np.float32)
    which = np.empty(shape, np.int32)
    number = chance.random(down * across).astype(np.float32)
    sx, sy = np.pad(sx, 2, mode="wrap"), np.pad(sy, 2, mode="wrap")
    in_parts(shape[0], lambda first, last: _cells(first, last, sx, sy, near, border, which), ROWS)
    return near, border, number[which]


@kernel
def _marks(
    out: F32,
    x: F64,
    y: F64,
    wide: F64,
    tall: F64,
    turn: F64,
    height: F64,
    section: int,
    way: int,
    tiles: bool,
) -> None:
    rows = out.shape[0]
    columns = out.shape[1]
    for n in range(x.shape[0]):
        c = np.cos(turn[n])
        s = np.sin(turn[n])
        reach = max(wide[n], tall[n])
        for i in range(int(np.floor((y[n] - reach) * rows)), int(np.ceil((y[n] + reach) * rows)) + 1):
            if not tiles and (i < 0 or i >= rows):
                continue
            for j in range(
                int(np.floor((x[n] - reach) * columns)), int(np.ceil((x[n] + reach) * columns)) + 1
            ):
                if not tiles and (j < 0 or j >= columns):
                    continue
                dx = (j + 0.5) / columns - x[n]
                dy = (i + 0.5) / rows - y[n]
                a = (dx * c + dy * s) / wide[n]
                b = (dy * c - dx * s) / tall[n]
                d = np.sqrt(a * a + b * b)
                if d >= 1.0:
                    continue
                h = _section(section, d) * height[n]
                p = i % rows
                q = j % columns
                if way == 0:
                    out[p, q] = max(out[p, q], h)
                elif way == 1:
                    out[p, q] = min(out[p, q], h)
                else:
                    out[p, q] += h


@kernel
def _section(section: int, d: float) -> float:
    h = 0.5 + 0.5 * np.cos(np.pi * d)
    if section == 1:
        t = min(max((1.0 - d) / 0.3, 0.0), 1.0)
        h = t * t * (3.0 - 2.0 * t)
    elif section == 2:
        h = np.sqrt(max(1.0 - d * d, 0.0))
    elif section == 3:
        h = 1.0 - d
    return h


def marks(
    out: F32,
    at: F64,
    wide: AnyArray | float,
    tall: AnyArray | float | None = None,
    turn: AnyArray | float = 0.0,
    height: AnyArray | float = 1.0,
    section: int = ROUND,
    way: int = HIGHEST,
    tiles: bool = True,
) -> F32:
    """Set oval marks at places (n, 2) into a picture, in place; half-widths in picture widths, turns in radians."""
    n = len(at)

    def full(value: AnyArray | float) -> F64:
        return np.ascontiguousarray(np.broadcast_to(np.asarray(value, np.float64), (n,)))

    x, y = np.ascontiguousarray(at[:, 0]), np.ascontiguousarray(at[:, 1])
    _marks(
        out,
        x,
        y,
        full(wide),
        full(wide if tall is None else tall),
        full(turn),
        full(height),
        section,
        way,
        tiles,
    )
    return out


@kernel
def _lines(out: F32, points: F64, wide: F64, height: F64, section: int, way: int, tiles: bool) -> None:
    rows = out.shape[0]
    columns = out.shape[1]
    # Lengths across are as those down, however long the picture is.
    aspect = columns / rows
    for n in range(points.shape[0]):
        for k in range(points.shape[1] - 1):
            ax = points[n, k, 0] * aspect
            ay = points[n, k, 1]
            bx = points[n, k + 1, 0] * aspect
            by = points[n, k + 1, 1]
            reach = max(wide[n, k], wide[n, k + 1])
            if reach <= 0.0:
                continue
            top = int(np.floor((min(ay, by) - reach) * rows))
            low = int(np.ceil((max(ay, by) + reach) * rows)) + 1
            left = int(np.floor((min(ax, bx) - reach) * rows))
            right = int(np.ceil((max(ax, bx) + reach) * rows)) + 1
            wx = bx - ax
            wy = by - ay
            long = max(wx * wx + wy * wy, 1e-18)
            for i in range(top, low):
                if not tiles and (i < 0 or i >= rows):
                    continue
                for j in range(left, right):
                    if not tiles and (j < 0 or j >= columns):
                        continue
                    x = (j + 0.5) / rows - ax
                    y = (i + 0.5) / rows - ay
                    t = min(max((x * wx + y * wy) / long, 0.0), 1.0)
                    x -= t * wx
                    y -= t * wy
                    w = wide[n, k] + t * (wide[n, k + 1] - wide[n, k])
                    if w <= 0.0:
                        continue
                    d = np.sqrt(x * x + y * y) / w
                    if d >= 1.0:
                        continue
                    h = _section(section, d) * (height[n, k] + t * (height[n, k + 1] - height[n, k]))
                    p = i % rows
                    q = j % columns
                    if way == 0:
                        out[p, q] = max(out[p, q], h)
                    else:
                        out[p, q] = min(out[p, q], h)


def lines(
    out: F32,
    points: F64,
    wide: AnyArray | float,
    height: AnyArray | float = 1.0,
    section: int = ROUND,
    way: int = HIGHEST,
    tiles: bool = True,
) -> F32:
    """Draw lines (n, k, 2) into a picture, in place; half-widths in picture heights, each (n, k) or less."""
    shape = points.shape[:2]

    def full(value: AnyArray | float) -> F64:
        return np.ascontiguousarray(np.broadcast_to(np.asarray(value, np.float64), shape))

    _lines(out, np.ascontiguousarray(points), full(wide), full(height), section, way, tiles)
    return out


def strokes(
    at: F64,
    turn: AnyArray | float,
    length: AnyArray | float,
    bend: AnyArray | float = 0.0,
    waver: float = 0.0,
    seed: int = 0,
    count: int = 24,
) -> F64:
    """Lines (n, count, 2) that begin at places (n, 2), go so far in a direction, and bend by so many radians on the way."""
    n = len(at)
    t = np.linspace(0.0, 1.0, count)
    chance = np.random.default_rng(seed)
    turn = np.broadcast_to(np.asarray(turn, np.float64), (n,))[:, None]
    bend = np.broadcast_to(np.asarray(bend, np.float64), (n,))[:, None]
    length = np.broadcast_to(np.asarray(length, np.float64), (n,))[:, None]
    angle = turn + bend * t
    if waver:
        for k in (1, 2, 3):
            phase, much = chance.uniform(0, 2 * np.pi, (n, 1)), chance.normal(0, waver / k, (n, 1))
            angle = angle + much * np.sin(2 * np.pi * k * t + phase)
    steps = length / (count - 1)
    x = at[:, :1] + np.cumsum(np.cos(angle) * steps, axis=1) - np.cos(angle[:, :1]) * steps
    y = at[:, 1:] + np.cumsum(np.sin(angle) * steps, axis=1) - np.sin(angle[:, :1]) * steps
    return np.stack([x, y], -1)


def tapered(count: int = 24, begin: float = 0.5, end: float = 0.5) -> F64:
    """How wide a line is along its way, 0 to 1, (count,): it swells and runs out over these shares of it."""
    t = np.linspace(0.0, 1.0, count)
    return np.sqrt(np.clip(t / max(begin, 1e-9), 0, 1) * np.clip((1 - t) / max(end, 1e-9), 0, 1))


def warped(picture: AnyArray, dx: AnyArray | float, dy: AnyArray | float) -> F32:
    """A picture (h, w) drawn about: each pixel shows what lay `dx`, `dy` picture widths beside it; it goes on at its edges."""
    rows, columns = picture.shape
    i, j = np.mgrid[0:rows, 0:columns].astype(np.float32)
    at = [i + np.asarray(dy, np.float32) * rows, j + np.asarray(dx, np.float32) * columns]
    return map_coordinates(np.asarray(picture, np.float32), at, order=1, mode="grid-wrap")


def soft(picture: AnyArray, share: float) -> F32:
    """A picture (h, w) blurred over this share of its width."""
    return gaussian_filter(np.asarray(picture, np.float32), share * picture.shape[1], mode="wrap")
