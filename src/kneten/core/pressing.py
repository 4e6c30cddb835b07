"""How a press lies on the clay under a dab, what it asks for there, and how that is kept as one coat.

A stroke with Press keeps for each vertex how high its coat is, over where the stroke found it and along the normal it
found there. So what the card says is what comes, however often dabs lie over each other.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from kneten.core.arrays import F32, F64, I32, at_once, inlined, kernel, parts_of
from kneten.core.press import Press, Tip, sampled
from kneten.core.reach import TO_SHARE, TO_STEP, Reach, over

if TYPE_CHECKING:
    from kneten.core.brushes.tool import Dab
    from kneten.core.mesh import Mesh
    from kneten.core.workspace import Workspace

PRESS_PART = 12_000
"""Least number of vertices that a thread of its own is worth: a picture is dear to read."""

WIDE = 0.25
"""Square of the distance, in radii, at which clay has a quarter of the say in which way a press faces."""

HEARD = 0.5
"""Square of the distance, in radii, beyond which clay has no say: half of what lies under a dab tells enough."""

NARROW = 0.004
"""The same for how far the clay there has been lifted: what is right under the middle says it."""

WRAP = 1.6
"""By how much a press may be drawn together at most where the clay turns away from it."""

CLOSE = 0.02
"""Square of the distance from the middle, in radii, within which the clay's own ups and downs say nothing of its bend."""

SEAM = 0.2
"""Share of a rolled picture that passes into its own beginning, where it does not tile."""


@kernel
def _sums(
    origin: F32, found: F32, places: I32, x: float, y: float, z: float, radius: float, out: F64
) -> None:
    """Sums into `out` (26,), of places from the middle in radii and of normals; of whole steps, so that no order changes them.

    By a wide share: the share, normals (3), places (3), places by places (6), normals by places (9). By a narrow one: the
    share, places (3).
    """
    share = 1.0 / radius
    # Kept in variables: an array would be read and written for each of them.
    w = 0.0
    nx = 0.0
    ny = 0.0
    nz = 0.0
    px = 0.0
    py = 0.0
    pz = 0.0
    xx = 0.0
    yy = 0.0
    zz = 0.0
    xy = 0.0
    yz = 0.0
    zx = 0.0
    nxx = 0.0
    nxy = 0.0
    nxz = 0.0
    nyx = 0.0
    nyy = 0.0
    nyz = 0.0
    nzx = 0.0
    nzy = 0.0
    nzz = 0.0
    s = 0.0
    sx = 0.0
    sy = 0.0
    sz = 0.0
    for i in range(places.shape[0]):
        at = np.uint64(places[i])
        dx = (origin[at, 0] - x) * share
        dy = (origin[at, 1] - y) * share
        dz = (origin[at, 2] - z) * share
        far = dx * dx + dy * dy + dz * dz
        if far > HEARD:
            continue
        ax = np.float64(found[at, 0])
        ay = np.float64(found[at, 1])
        az = np.float64(found[at, 2])
        wide = WIDE / (WIDE + far)
        wide *= wide
        narrow = NARROW / (NARROW + far)
        narrow *= narrow
        w += (wide + TO_SHARE) - TO_SHARE
        nx += (wide * ax + TO_SHARE) - TO_SHARE
        ny += (wide * ay + TO_SHARE) - TO_SHARE
        nz += (wide * az + TO_SHARE) - TO_SHARE
        px += (wide * dx + TO_SHARE) - TO_SHARE
        py += (wide * dy + TO_SHARE) - TO_SHARE
        pz += (wide * dz + TO_SHARE) - TO_SHARE
        xx += (wide * dx * dx + TO_SHARE) - TO_SHARE
        yy += (wide * dy * dy + TO_SHARE) - TO_SHARE
        zz += (wide * dz * dz + TO_SHARE) - TO_SHARE
        xy += (wide * dx * dy + TO_SHARE) - TO_SHARE
        yz += (wide * dy * dz + TO_SHARE) - TO_SHARE
        zx += (wide * dz * dx + TO_SHARE) - TO_SHARE
        nxx += (wide * ax * dx + TO_SHARE) - TO_SHARE
        nxy += (wide * ax * dy + TO_SHARE) - TO_SHARE
        nxz += (wide * ax * dz + TO_SHARE) - TO_SHARE
        nyx += (wide * ay * dx + TO_SHARE) - TO_SHARE
        nyy += (wide * ay * dy + TO_SHARE) - TO_SHARE
        nyz += (wide * ay * dz + TO_SHARE) - TO_SHARE
        nzx += (wide * az * dx + TO_SHARE) - TO_SHARE
        nzy += (wide * az * dy + TO_SHARE) - TO_SHARE
        nzz += (wide * az * dz + TO_SHARE) - TO_SHARE
        s += (narrow + TO_SHARE) - TO_SHARE
        sx += (narrow * dx + TO_SHARE) - TO_SHARE
        sy += (narrow * dy + TO_SHARE) - TO_SHARE
        sz += (narrow * dz + TO_SHARE) - TO_SHARE
    out[0] = w
    out[1] = nx
    out[2] = ny
    out[3] = nz
    out[4] = px
    out[5] = py
    out[6] = pz
    out[7] = xx
    out[8] = yy
    out[9] = zz
    out[10] = xy
    out[11] = yz
    out[12] = zx
    out[13] = nxx
    out[14] = nxy
    out[15] = nxz
    out[16] = nyx
    out[17] = nyy
    out[18] = nyz
    out[19] = nzx
    out[20] = nzy
    out[21] = nzz
    out[22] = s
    out[23] = sx
    out[24] = sy
    out[25] = sz


@dataclass(frozen=True)
class Seat:
    """The clay under a press as the stroke found it, evened over the press: what it faces, and how that bends.

    Attributes
    ----------
    out, middle : (3,) float64
    sums : (22,) float64
        As `_sums` has them by the wide share.
    """

    out: F64
    middle: F64
    sums: F64

    def bend(self, right: F64, top: F64) -> F64:
        """How the normal leans to the right and to the top, per radius to the right and to the top, (2, 2).

        The least squares of the normals that were found: what is finer than the press has no say.
        """
        share, s = self.sums[0], self.sums
        normal, place = s[1:4] / share, s[4:7] / share
        xx, yy, zz, xy, yz, zx = s[7:13] / share
        spread = np.array([[xx, xy, zx], [xy, yy, yz], [zx, yz, zz]])
        leans = s[13:22].reshape(3, 3) / share
        axes = (right, top)

        def of_places(a: F64, b: F64) -> float:
            return _both(a, spread, b) - _dot(a, place) * _dot(b, place)

        uu, vv, uv = of_places(right, right), of_places(top, top), of_places(right, top)
        size = uu * vv - uv * uv
        if size <= 1e-12:
            return np.zeros((2, 2))
        out = np.zeros((2, 2))
        for i, axis in enumerate(axes):
            a = _both(axis, leans, right) - _dot(axis, normal) * _dot(right, place)
            b = _both(axis, leans, top) - _dot(axis, normal) * _dot(top, place)
            out[i] = ((a * vv - b * uv) / size, (b * uu - a * uv) / size)
        return out


def _dot(a: F64, b: F64) -> float:
    ax, ay, az = a.tolist()
    bx, by, bz = b.tolist()
    return float(ax * bx + ay * by + az * bz)


def _both(a: F64, matrix: F64, b: F64) -> float:
    """A times a matrix (3, 3) times b, in an order that mirroring does not change."""
    ax, ay, az = a.tolist()
    first, second, third = (_dot(row, b) for row in matrix)
    return ax * first + ay * second + az * third


def _seated(origin: F32, found: F32, reach: Reach, dab: Dab) -> Seat | None:
    x, y, z = dab.centre
    rows = parts_of(len(reach.places), PRESS_PART)
    parts = np.zeros((len(rows) - 1, 26))

    def some(part: int) -> None:
        first, last = rows[part], rows[part + 1]
        _sums(origin, found, reach.places[first:last], x, y, z, dab.radius, parts[part])

    at_once(len(rows) - 1, some)
    sums = parts.sum(axis=0)
    nx, ny, nz = sums[1:4].tolist()
    length = math.sqrt(nx * nx + ny * ny + nz * nz)
    if length <= 0 or sums[22] <= 0:
        return None
    nx, ny, nz = nx / length, ny / length, nz / length
    px, py, pz = sums[23:26].tolist()
    lift = (px * nx + py * ny + pz * nz) / float(sums[22]) * dab.radius
    middle = np.array([x + lift * nx, y + lift * ny, z + lift * nz])
    return Seat(np.array([nx, ny, nz]), middle, sums[:22])


def frame_of(origin: F32, found: F32, reach: Reach, dab: Dab, tip: Tip) -> F64 | None:
    """Where a press lies, (5, 3); None where there is no clay.

    Its middle, its right, its top, the way it faces; and how the clay's normals lean: to the right and to the top per
    radius to the right, to the top per radius to the top.

    Parameters
    ----------
    origin, found : (slots * 512, 3) float32
        Places and normals of the vertices, by the workspace's rows.
    """
    seat = _seated(origin, found, reach, dab)
    if seat is None:
        return None
    out = seat.out
    if dab.along.any() and (tip.turned == "stroke" or dab.strip is not None):
        right = _flat(dab.along, out, dab.up)
        top = _cross(out, right) * (-1.0 if dab.flipped else 1.0)
    else:
        top = _flat(dab.up, out, dab.view)
        right = _cross(top, out) * (-1.0 if dab.flipped else 1.0)
    if dab.turn:
        c, s = math.cos(dab.turn), math.sin(dab.turn)
        right, top = right * c + top * s, top * c - right * s
    if dab.mirrored:
        right = -right
    (uu, uv), (vu, vv) = seat.bend(right, top).tolist()
    # A surface bends alike whichever way one looks at it: both mixed numbers are the same but for what is uneven.
    return np.stack([seat.middle, right, top, out, np.array([uu, 0.5 * (uv + vu), vv])])


def _flat(way: F64, out: F64, instead: F64) -> F64:
    """A direction (3,) laid into the plane that `out` (3,) stands on, unit; another one where it stands straight up."""
    nx, ny, nz = out.tolist()
    for x, y, z in (way.tolist(), instead.tolist()):
        much = x * nx + y * ny + z * nz
        flat = (x - nx * much, y - ny * much, z - nz * much)
        length = math.sqrt(flat[0] * flat[0] + flat[1] * flat[1] + flat[2] * flat[2])
        if length > 1e-6:
            return np.array(flat) / length
    return np.zeros(3)


def _cross(a: F64, b: F64) -> F64:
    ax, ay, az = a.tolist()
    bx, by, bz = b.tolist()
    return np.array([ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx])


@inlined
def _fallen(falloff: F32, m: float) -> float:
    """The falloff at a distance from the middle, 0 from 1 on."""
    last = falloff.shape[0] - 1
    w = 0.0
    if m < 1.0:
        t = m * last
        cell = int(t)
        w = falloff[cell] + (falloff[cell + 1] - falloff[cell]) * (t - cell)
    return w


@inlined
def _wrapped(a: float, b: float, h: float, radius: float) -> float:
    """By how much a press is drawn together here, so that its lengths are those along the clay.

    `a` and `b` are how far away the place is in the plane of the press, `h` how far it has fallen off it.
    """
    flat = a * a + b * b
    # (flat + fall) / flat, of which fall is h * h * flat / (flat + CLOSE * radius * radius).
    return min(np.sqrt(1.0 + h * h / (flat + CLOSE * radius * radius)), WRAP)


@inlined
def _ask(
    push: F64,
    push_weight: F64,
    lean: F64,
    at: int | np.uint64,
    weight: float,
    height: float,
    frame: F64,
    u: float,
    v: float,
) -> None:
    """Ask for a height at one place of the workspace, and for the way it is to go there.

    Weights of single precision and moves of whole steps: so twins add up in any order. `u` and `v` are radii from the
    press's middle.
    """
    w = np.float64(np.float32(weight))
    push[at, 0] += (w * height + TO_STEP) - TO_STEP
    a = frame[4, 0] * u + frame[4, 1] * v
    b = frame[4, 1] * u + frame[4, 2] * v
    c = np.sqrt(max(1.0 - a * a - b * b, 0.25))
    for k in range(3):
        lean[at, k] += (w * (frame[3, k] * c + frame[1, k] * a + frame[2, k] * b) + TO_STEP) - TO_STEP
    push_weight[at, 0] += w
    push_weight[at, 1] = max(push_weight[at, 1], w)


@inlined
def _seen_at(places: F32, at: int | np.uint64, frame: F64, radius: float) -> tuple[float, float]:
    """Where a place is on a press, in radii to its right and to its top."""
    dx = places[at, 0] - frame[0, 0]
    dy = places[at, 1] - frame[0, 1]
    dz = places[at, 2] - frame[0, 2]
    a = dx * frame[1, 0] + dy * frame[1, 1] + dz * frame[1, 2]
    b = dx * frame[2, 0] + dy * frame[2, 1] + dz * frame[2, 2]
    h = dx * frame[3, 0] + dy * frame[3, 1] + dz * frame[3, 2]
    stretch = _wrapped(a, b, h, radius) / radius
    return a * stretch, b * stretch


@inlined
def _firm(u: float, v: float, whole: bool, falloff: F32) -> float:
    """How firmly a press lies there: by the distance from its middle, or from its sides."""
    m = max(abs(u), abs(v))
    if not whole:
        m = np.sqrt(u * u + v * v)
    return _fallen(falloff, m)


@kernel
def stamp(
    origin: F32,
    places: I32,
    weights: F32,
    frame: F64,
    radius: float,
    picture: F32,
    wide: float,
    tall: float,
    tiles: bool,
    whole: bool,
    falloff: F32,
    amount: float,
    push: F64,
    push_weight: F64,
    lean: F64,
) -> None:
    """Ask for the heights of a press that lies at `frame` (5, 3)."""
    for i in range(places.shape[0]):
        at = np.uint64(places[i])
        u, v = _seen_at(origin, at, frame, radius)
        w = weights[i] * _firm(u, v, whole, falloff)
        x = 0.5 + 0.5 * u * wide
        y = 0.5 - 0.5 * v * tall
        if w > 0.0 and (tiles or (0.0 <= x <= 1.0 and 0.0 <= y <= 1.0)):
            height = sampled(picture, x, y, tiles)
            _ask(push, push_weight, lean, at, w, height * amount, frame, u, v)


@kernel
def stamp_deep(
    origin: F32,
    places: I32,
    weights: F32,
    frame: F64,
    radius: float,
    moves: F32,
    wide: float,
    tall: float,
    whole: bool,
    falloff: F32,
    amount: float,
    push_weight: F64,
    lean: F64,
) -> None:
    """Ask for the moves of a deep press that lies at `frame` (5, 3): as `stamp`, whole moves instead of heights.

    Parameters
    ----------
    moves : (h, w, 3) float32
        To its right, to its top, and out.
    """
    for i in range(places.shape[0]):
        at = np.uint64(places[i])
        u, v = _seen_at(origin, at, frame, radius)
        w = np.float64(np.float32(weights[i] * _firm(u, v, whole, falloff)))
        x = 0.5 + 0.5 * u * wide
        y = 0.5 - 0.5 * v * tall
        if w <= 0.0 or x < 0.0 or x > 1.0 or y < 0.0 or y > 1.0:
            continue
        right = sampled(moves[:, :, 0], x, y, False) * amount
        top = sampled(moves[:, :, 1], x, y, False) * amount
        out = sampled(moves[:, :, 2], x, y, False) * amount
        a = frame[4, 0] * u + frame[4, 1] * v
        b = frame[4, 1] * u + frame[4, 2] * v
        c = np.sqrt(max(1.0 - a * a - b * b, 0.25))
        # Across the clay as it bends there, so that what lies on a ball is as on a plane.
        for k in range(3):
            way = frame[3, k] * c + frame[1, k] * a + frame[2, k] * b
            across = frame[1, k] * c - frame[3, k] * a
            along = frame[2, k] * c - frame[3, k] * b
            lean[at, k] += (w * (way * out + across * right + along * top) + TO_STEP) - TO_STEP
        push_weight[at, 0] += w
        push_weight[at, 1] = max(push_weight[at, 1], w)


@kernel
def tip_weights(
    positions: F32,
    vertices: I32,
    weights: F32,
    frame: F64,
    radius: float,
    picture: F32,
    wide: float,
    tall: float,
    tiles: bool,
    whole: bool,
    falloff: F32,
    begun: float,
) -> None:
    """Weigh what a dab of another tool reaches by the press on its tip; what the press sinks is left alone."""
    for i in range(vertices.shape[0]):
        u, v = _seen_at(positions, np.uint64(vertices[i]), frame, radius)
        x = 0.5 + 0.5 * u * wide + begun
        y = 0.5 - 0.5 * v * tall
        w = 0.0
        if tiles or (0.0 <= x <= 1.0 and 0.0 <= y <= 1.0):
            w = _firm(u, v, whole, falloff) * min(max(sampled(picture, x, y, tiles), 0.0), 1.0)
        weights[i] *= np.float32(w)


@inlined
def _square_to(px: float, py: float, pz: float, way: F64, k: int) -> float:
    """How far a place lies beyond the k-th place of a way, along the way there."""
    return (
        (px - way[k, 0, 0]) * way[k, 1, 0]
        + (py - way[k, 0, 1]) * way[k, 1, 1]
        + (pz - way[k, 0, 2]) * way[k, 1, 2]
    )


@kernel
def strip(
    origin: F32,
    places: I32,
    weights: F32,
    way: F64,
    travel: F64,
    frame: F64,
    hand: float,
    radius: float,
    picture: F32,
    length: float,
    tiles: bool,
    repeats: float,
    falloff: F32,
    begins: float,
    ends: float,
    amount: float,
    push: F64,
    push_weight: F64,
    lean: F64,
    trace: F32,
) -> None:
    """Ask for the heights of a press that is unrolled along the last piece of a stroke's way.

    A place belongs to that part of the way that it lies square to: so each place gets one height, and parts meet
    without a seam, round bends too.

    Parameters
    ----------
    way : (k, 2, 3) float64
        Places of the way, and the stroke's direction at each.
    travel : (k,) float64
        How far the stroke had come there, in radii, as are the lengths below.
    hand : float
        -1 for a mirrored twin.
    length : float
        Of one picture along the stroke.
    begins, ends : float
        Lengths over which it fades at the stroke's beginning, and where it has got to.
    """
    last = way.shape[0] - 1
    for i in range(places.shape[0]):
        at = places[i]
        px = np.float64(origin[at, 0])
        py = np.float64(origin[at, 1])
        pz = np.float64(origin[at, 2])
        best_w = 0.0
        best_v = 0.0
        best_travel = 0.0
        before = _square_to(px, py, pz, way, 0)
        for k in range(last):
            after = _square_to(px, py, pz, way, k + 1)
            first = before
            before = after
            if first < 0.0 or after >= 0.0:
                continue
            # Where it lies square to the way: a few steps of the secant bring a quadratic there.
            share = first / (first - after)
            qx = 0.0
            qy = 0.0
            qz = 0.0
            tx = 0.0
            ty = 0.0
            tz = 0.0
            for _ in range(3):
                tx = way[k, 1, 0] + share * (way[k + 1, 1, 0] - way[k, 1, 0])
                ty = way[k, 1, 1] + share * (way[k + 1, 1, 1] - way[k, 1, 1])
                tz = way[k, 1, 2] + share * (way[k + 1, 1, 2] - way[k, 1, 2])
                qx = px - way[k, 0, 0] - share * (way[k + 1, 0, 0] - way[k, 0, 0])
                qy = py - way[k, 0, 1] - share * (way[k + 1, 0, 1] - way[k, 0, 1])
                qz = pz - way[k, 0, 2] - share * (way[k + 1, 0, 2] - way[k, 0, 2])
                off = qx * tx + qy * ty + qz * tz
                share = min(max(share + off / max(first - after, 1e-30), 0.0), 1.0)
            sx = frame[3, 1] * tz - frame[3, 2] * ty
            sy = frame[3, 2] * tx - frame[3, 0] * tz
            sz = frame[3, 0] * ty - frame[3, 1] * tx
            across = np.sqrt(sx * sx + sy * sy + sz * sz)
            b = hand * (qx * sx + qy * sy + qz * sz) / max(across, 1e-30)
            h = qx * frame[3, 0] + qy * frame[3, 1] + qz * frame[3, 2]
            v = b * _wrapped(0.0, b, h, radius) / radius
            w = _fallen(falloff, abs(v))
            # Inside a bend a place lies square to the way more than once: where it is nearest counts.
            if w > best_w:
                best_w = w
                best_v = v
                best_travel = travel[k] + share * (travel[k + 1] - travel[k])
        w = best_w * weights[i]
        if w <= 0.0:
            continue
        if best_travel < begins:
            t = best_travel / begins
            w *= t * t * (3.0 - 2.0 * t)
        left = travel[last] - best_travel
        if left < ends:
            t = left / ends
            w *= t * t * (3.0 - 2.0 * t)
        y = 0.5 - 0.5 * best_v * repeats
        x = best_travel / length
        height = 0.0
        if tiles:
            height = sampled(picture, x, y, True)
        else:
            # What does not tile passes into its own beginning.
            x = (x - np.floor(x)) * (1.0 - SEAM)
            height = sampled(picture, x, y, False)
            if x < SEAM:
                t = x / SEAM
                t = t * t * (3.0 - 2.0 * t)
                height = height * t + sampled(picture, x + 1.0 - SEAM, y, False) * (1.0 - t)
        trace[at, 0] = max(trace[at, 0], np.float32(best_travel + 1e-3))
        if w > 0.0:
            dx = px - frame[0, 0]
            dy = py - frame[0, 1]
            dz = pz - frame[0, 2]
            u = (dx * frame[1, 0] + dy * frame[1, 1] + dz * frame[1, 2]) / radius
            v = (dx * frame[2, 0] + dy * frame[2, 1] + dz * frame[2, 2]) / radius
            _ask(push, push_weight, lean, at, w, height * amount, frame, u, v)


def shares_of(press: Press, tip: Tip) -> tuple[float, float]:
    """How many pictures lie across the brush from left to right and from top to bottom: the longer side fills it."""
    aspect = press.aspect
    repeats = tip.repeats if press.tiles else 1.0
    return repeats * max(1.0 / aspect, 1.0), repeats * max(aspect, 1.0)


def weigh_by_tip(mesh: Mesh, work: Workspace, reach: Reach, dab: Dab) -> None:
    """Weigh what a dab of another tool reaches by the press on its tip, in place."""
    press, tip = work.press, work.tip
    if press is None or len(reach.vertices) == 0:
        return
    frame = frame_of(mesh.positions, mesh.normals, replace(reach, places=reach.vertices), dab, tip)
    if frame is None:
        reach.weights[:] = 0
        return
    wide, tall = shares_of(press, tip)
    edge = dab.radius * float(np.sqrt(np.pi / len(reach.vertices)))
    picture = press.level(edge * max(wide, tall) * max(press.heights.shape) / (2.0 * dab.radius))
    # What is rolled goes on where the dab before it ended.
    begun = dab.travel / (2.0 * dab.radius) * wide if tip.rolled else 0.0
    over(
        reach,
        lambda rows: tip_weights(
            mesh.positions, reach.vertices[rows], reach.weights[rows], frame, dab.radius, picture, wide, tall,
            press.tiles or tip.rolled, tip.whole, work.falloff, begun,
        ),
    )  # fmt: skip
