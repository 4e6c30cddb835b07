"""The skin over an armature: even quads around balls and tapering limbs, softly run together.

A limb is the hull of its two balls. Each gives exp(-d / b) at distance d outside of it (b: a share of its
own thickness); the skin is where the sum is 1. Where limbs meet at a ball, all but one of them are taken
away again as that ball alone, so that a straight chain has no swellings at its joints, and only where
limbs come near each other otherwise, at branches and inside sharp bends, clay fills the corner.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F64, I32, U8, Progress, inlined, kernel
from kneten.core.crossings import crossing_among
from kneten.core.live.clay import Clay, RecipeError
from kneten.core.surface_nets import follow_grid, relaxed, symmetrise
from kneten.core.voxels import open_corners

MOST_POINTS = 60_000_000
"""Grid points at most."""

PASSES = 6
"""Rounds of evening and laying back onto the skin."""

ROUGH_PASSES = 2
"""The same while a ball is dragged: a third of the time, and edges that differ by a tenth more."""


@inlined
def _term(p: F64, a: F64, b: F64, ra: float, rb: float, blend: float, grad: F64, sign: float) -> float:
    """Adds the gradient of exp(-d / (blend r)) to `grad`; returns its value. A ball where a is b."""
    lx = b[0] - a[0]
    ly = b[1] - a[1]
    lz = b[2] - a[2]
    l2 = lx * lx + ly * ly + lz * lz
    px = p[0] - a[0]
    py = p[1] - a[1]
    pz = p[2] - a[2]
    t = 0.0
    if l2 > 0.0:
        # The hull of two balls touches a point's nearest ball where the slope of the radii says so.
        dr = ra - rb
        along = (px * lx + py * ly + pz * lz) / l2
        away2 = max(px * px + py * py + pz * pz - along * along * l2, 0.0)
        room = l2 - dr * dr
        t = along
        if room > 0.0:
            t = along - dr * np.sqrt(away2 / room) / np.sqrt(l2)
        elif dr > 0.0:
            t = 0.0
        else:
            t = 1.0
        t = min(max(t, 0.0), 1.0)
    x = px - t * lx
    y = py - t * ly
    z = pz - t * lz
    r = ra + t * (rb - ra)
    length = np.sqrt(x * x + y * y + z * z)
    width = blend * r
    value = np.exp(min(-(length - r) / width, 60.0))
    scale = -sign * value / (width * max(length, 1e-12))
    grad[0] += scale * x
    grad[1] += scale * y
    grad[2] += scale * z
    return sign * value


@kernel
def _sum_at(
    p: F64, places: F64, radii: F64, limbs: I32, weights: F64, blend: float, near: I32, n_near: int, grad: F64
) -> float:
    """The sum at a point over the listed terms: limbs first, then balls with their weights."""
    total = 0.0
    grad[0] = 0.0
    grad[1] = 0.0
    grad[2] = 0.0
    for k in range(n_near):
        i = near[k]
        if i < limbs.shape[0]:
            a = limbs[i, 0]
            b = limbs[i, 1]
            total += _term(p, places[a], places[b], radii[a], radii[b], blend, grad, 1.0)
        else:
            a = i - limbs.shape[0]
            total += _term(p, places[a], places[a], radii[a], radii[a], blend, grad, weights[a])
    return total


@kernel
def _fill(
    flags: U8,
    sums: F64,
    low: F64,
    step: float,
    places: F64,
    radii: F64,
    limbs: I32,
    weights: F64,
    blend: float,
) -> None:
    """Inside of every grid point; terms are added only where they count for anything."""
    p = np.empty(3)
    grad = np.zeros(3)
    first = np.empty(3, np.int64)
    last = np.empty(3, np.int64)
    for i in range(limbs.shape[0] + radii.shape[0]):
        ball = i >= limbs.shape[0]
        a = i - limbs.shape[0] if ball else limbs[i, 0]
        b = a if ball else limbs[i, 1]
        if ball and weights[a] == 0.0:
            continue
        sign = weights[a] if ball else 1.0
        # Beyond 7 widths a term is below a thousandth.
        reach = max(radii[a], radii[b]) * (1.0 + 7.0 * blend)
        for k in range(3):
            first[k] = max(int(np.ceil((min(places[a, k], places[b, k]) - reach - low[k]) / step)), 0)
            last[k] = min(
                int(np.floor((max(places[a, k], places[b, k]) + reach - low[k]) / step)), flags.shape[k] - 1
            )
        for x in range(first[0], last[0] + 1):
            for y in range(first[1], last[1] + 1):
                for z in range(first[2], last[2] + 1):
                    p[0] = low[0] + x * step
                    p[1] = low[1] + y * step
                    p[2] = low[2] + z * step
                    sums[x, y, z] += _term(p, places[a], places[b], radii[a], radii[b], blend, grad, sign)
    for x in range(1, flags.shape[0] - 1):
        for y in range(1, flags.shape[1] - 1):
            for z in range(1, flags.shape[2] - 1):
                if sums[x, y, z] >= 1.0:
                    flags[x, y, z] = 1


@kernel
def _find_near(
    points: F64,
    room: float,
    places: F64,
    radii: F64,
    limbs: I32,
    weights: F64,
    blend: float,
    starts: I32,
    near: I32,
) -> int:
    """For each point the terms that count within `room` of it; how many in all, also when `near` is too short."""
    n_terms = limbs.shape[0] + radii.shape[0]
    total = 0
    for v in range(points.shape[0]):
        starts[v] = total
        for i in range(n_terms):
            ball = i >= limbs.shape[0]
            a = i - limbs.shape[0] if ball else limbs[i, 0]
            b = a if ball else limbs[i, 1]
            if ball and weights[a] == 0.0:
                continue
            reach = max(radii[a], radii[b]) * (1.0 + 7.0 * blend) + room
            close = True
            for k in range(3):
                if points[v, k] < min(places[a, k], places[b, k]) - reach:
                    close = False
                if points[v, k] > max(places[a, k], places[b, k]) + reach:
                    close = False
            if close:
                if total < near.shape[0]:
                    near[total] = i
                total += 1
    starts[points.shape[0]] = total
    return total


@kernel
def _lay(
    points: F64,
    room: float,
    places: F64,
    radii: F64,
    limbs: I32,
    weights: F64,
    blend: float,
    starts: I32,
    near: I32,
    steps: int,
) -> None:
    """Bring points onto the skin along its gradient, no farther than `room` a step."""
    grad = np.zeros(3)
    for v in range(points.shape[0]):
        own = near[starts[v] : starts[v + 1]]
        for _ in range(steps):
            total = _sum_at(points[v], places, radii, limbs, weights, blend, own, own.shape[0], grad)
            if total <= 1e-12:
                break
            # Newton on ln(sum) = 0: the logarithm of an exponential runs straight.
            gx = grad[0] / total
            gy = grad[1] / total
            gz = grad[2] / total
            g2 = gx * gx + gy * gy + gz * gz
            if g2 < 1e-18:
                break
            move = -np.log(total) / g2
            far = abs(move) * np.sqrt(g2)
            if far > room:
                move *= room / far
            points[v, 0] += move * gx
            points[v, 1] += move * gy
            points[v, 2] += move * gz
            if far < 1e-5 * room:
                break


def skin(
    places: F64,
    radii: F64,
    limbs: list[tuple[int, int]],
    edge: float,
    blend: float,
    symmetric: bool,
    progress: Progress,
    passes: int = PASSES,
) -> Clay:
    """The skin over balls and limbs.

    Parameters
    ----------
    places, radii : (n, 3), (n,) float64
    limbs : pairs of rows
    edge : float
        Mean edge length.
    blend : float
        Share of the thickness over which limbs run together.
    symmetric : bool
        The balls mirror across x = 0; the skin then does, to the bit.

    Raises
    ------
    RecipeError
        When the grid would be too large or holds nothing.
    """
    if not np.isfinite(places).all() or not (radii > 0).all():
        raise RecipeError("every ball needs a place and a size greater than zero")
    blend = min(max(blend, 0.03), 0.6)
    pairs = np.array(limbs, np.int32).reshape(-1, 2)
    joined = np.zeros(len(radii))
    np.add.at(joined, pairs.reshape(-1), 1.0)
    # What more than one limb gives to a ball is taken away; a lone ball stands for itself.
    weights = 1.0 - joined
    # Quads of a grid at all angles have edges 0.87 of its step on the average.
    step = edge * 1.15
    reach = float(radii.max()) * (1 + 3 * blend)
    low = places.min(axis=0) - reach - 2.31 * step
    high = places.max(axis=0) + reach + 2 * step
    shape = [int(np.ceil(v)) + 2 for v in (high - low) / step]
    if symmetric:
        # The plane runs through the middles of a row of cells, which then get vertices of their own.
        half = int(np.ceil(max(high[0], -low[0]) / step)) + 1
        low[0] = -(half + 0.5) * step
        shape[0] = 2 * half + 2
    if float(np.prod([float(s) for s in shape])) > MOST_POINTS:
        raise RecipeError("so fine a skin over so large an armature; choose a longer edge")
    progress.report(0.05, "Skinning")
    flags = np.zeros(shape, np.uint8)
    sums = np.zeros(shape)
    _fill(flags, sums, low, step, places, radii, pairs, weights, blend)
    del sums
    for _ in range(64):
        if symmetric:
            half = shape[0] // 2
            flags[:half] |= flags[::-1][:half]
            flags[::-1][:half] = flags[:half]
        if open_corners(flags) == 0:
            break
    progress.report(0.4, "Skinning")
    surface = follow_grid(flags, (symmetric, False, False))
    if surface is None:
        raise RecipeError("the balls are smaller than the skin's edge length; choose a shorter edge")
    centres, quads, twins = surface
    points = low + centres * step
    body = (places, radii, pairs, weights, blend)
    # Points stay within two steps of where they begin: the terms around them are listed once.
    starts, near = np.empty(len(points) + 1, np.int32), np.empty(12 * len(points), np.int32)
    count = _find_near(points, 2 * step, *body, starts, near)
    if count > len(near):
        near = np.empty(count, np.int32)
        _find_near(points, 2 * step, *body, starts, near)
    args = (*body, starts, near)
    _lay(points, step * 0.6, *args, 6)
    for turn in range(passes):
        progress.report(0.5 + 0.45 * turn / passes, "Evening")
        points = relaxed(points, quads)
        _lay(points, step * 0.5, *args, 3)
    symmetrise(points, twins, (symmetric, False, False))
    if passes >= PASSES:
        points = _apart(points, low + centres * step, quads, step, twins[0] if symmetric else None)
        symmetrise(points, twins, (symmetric, False, False))
    return Clay(points.astype(np.float32), quads)


def _apart(points: F64, centres: F64, quads: I32, step: float, twin: I32 | None) -> F64:
    """Points (n, 3) whose faces go through no others: where two skins lie within a cell, they go back towards their cells.

    With all points in their own cells nothing crosses. What crosses on one side of a symmetric body need not on the
    other, for quads' diagonals differ; points and their twins (n,) go back together.
    """
    for rings, share in enumerate((0.25, 0.5, 1.0, 1.0, 1.0, 1.0), 1):
        wrong = crossing_among(points.astype(np.float32), quads)
        if not wrong.any():
            break
        near = np.zeros(len(points) + 1, bool)
        near[quads[wrong].reshape(-1)] = True
        for _ in range(rings):
            near[quads[near[quads].any(axis=1)].reshape(-1)] = True
        if twin is not None:
            near[:-1] |= near[twin]
        off = np.clip(points - centres, -0.5 * step, 0.5 * step)
        points = np.where(near[:-1, None], centres + (1 - share) * off, points)
    return points
