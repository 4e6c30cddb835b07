"""What a dab reaches, how strongly, and how its moves are applied."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import (
    DAB_PART,
    F32,
    F64,
    I32,
    I64,
    U32,
    AnyArray,
    at_once,
    in_parts,
    inlined,
    kernel,
    parts_of,
)
from kneten.core.mesh import Mesh
from kneten.core.topology import PATCH, PATCH_BITS

FIXED = float(1 << 36)
"""Sums over a dab are taken in whole numbers of 2**-36: their order cannot change the result, so a
mirrored dab gives the mirrored move to the bit. 2**36 * 8 M vertices stays below 2**63."""


STEP = 1.0 / (1 << 36)
"""Moves are whole multiples of this: 1.5e-11 mm, far below float32 at any size; sums up to 131 m stay
exact in float64."""

TO_STEP = 1.5 * 2.0**52 * STEP
"""Adding this and taking it away rounds to a multiple of `STEP`, alike on both sides of zero, for
numbers up to 32 m: float64 has no finer bits there. Three times as fast as dividing and rounding."""

TO_SHARE = 1.5 * 2.0**52 / (1 << 28)
"""The same for shares up to 1: steps of 2**-28, of which 2**25 add up without loss."""


AWAY = np.float32(2.5)
"""How fast clay that faces away from the middle loses its say: it has none from 24 degrees beyond the horizon on."""

SOFT = 0.06
"""Square of the distance, as a share of the radius looked at, at which clay has half the say in which way it faces."""

STEEP = 0.25
"""Where all clay under a dab faces the middle at least so much, nothing can lie there that does not hang together."""


@dataclass(frozen=True)
class Reach:
    """The vertices under one dab.

    Attributes
    ----------
    vertices : (k,) int32
    places : (k,) int32
        Where each has its row in the workspace.
    weights : (k,) float32
        Falloff times what the mask and the front-only switch leave.
    near : (p,) int32
        The patches whose boxes the dab meets: they own every face of these vertices.
    """

    vertices: I32
    places: I32
    weights: F32
    near: I32


@kernel
def weigh(
    positions: F32,
    normals: F32,
    mask: F32,
    near: I32,
    patch_slot: I32,
    x: float,
    y: float,
    z: float,
    radius: float,
    falloff: F32,
    view: F64,
    front_only: bool,
    side: F32,
    one_sided: bool,
    vertices: I32,
    places: I32,
    weights: F32,
    n: int,
    least: F32,
) -> int:
    """Append the vertices within `radius` of a point, with their weights. Returns the new count.

    Parameters
    ----------
    side : (3,) float32
        Which way the clay in the middle faces.
    one_sided : bool
        Leave out what faces the other way: the far side of thin clay.
    least : (1,) float32
        Receives the least that any of them faces `side`, 1 to -1.
    """
    # Single precision and unsigned indices: two thirds of the vertices near a dab are only measured.
    limit = np.float32(radius * radius)
    x4 = np.float32(x)
    y4 = np.float32(y)
    z4 = np.float32(z)
    last = falloff.shape[0] - 1
    cells = last / radius
    lowest = np.float32(1.0)
    side_x = side[0]
    side_y = side[1]
    side_z = side[2]
    masked = mask.shape[0] > 0
    for i in range(near.shape[0]):
        first = np.uint64(near[i]) << np.uint64(PATCH_BITS)
        base = patch_slot[near[i]] << PATCH_BITS
        for k in range(min(PATCH, positions.shape[0] - (near[i] << PATCH_BITS))):
            v = first + np.uint64(k)
            dx = positions[v, 0] - x4
            dy = positions[v, 1] - y4
            dz = positions[v, 2] - z4
            d2 = dx * dx + dy * dy + dz * dz
            if d2 >= limit:
                continue
            t = np.sqrt(d2) * cells
            cell = min(int(t), last - 1)
            part = t - cell
            w = falloff[cell] * (1.0 - part) + falloff[cell + 1] * part
            if masked:
                w *= 1.0 - mask[v]
            if front_only:
                facing = -(normals[v, 0] * view[0] + normals[v, 1] * view[1] + normals[v, 2] * view[2])
                # Fades in over the last 14 degrees before the horizon, so that no step is left.
                w *= min(max(facing * 4.0, 0.0), 1.0)
            toward = normals[v, 0] * side_x + normals[v, 1] * side_y + normals[v, 2] * side_z
            lowest = min(lowest, toward)
            if one_sided and toward < 0.0:
                w *= max(1.0 + AWAY * toward, 0.0)
            if w > 0.0:
                vertices[n] = v
                places[n] = base + k
                weights[n] = w
                n += 1
    least[0] = lowest
    return n


@kernel
def side_sums(
    positions: F32, normals: F32, near: I32, x: float, y: float, z: float, radius: float, out: F64
) -> None:
    """Sum of the normals within `radius` of a place, into `out` (3,): the nearer, the more."""
    soft = SOFT * radius * radius
    limit = np.float32(radius * radius)
    x4 = np.float32(x)
    y4 = np.float32(y)
    z4 = np.float32(z)
    sx = 0.0
    sy = 0.0
    sz = 0.0
    for i in range(near.shape[0]):
        first = near[i] << PATCH_BITS
        for v in range(first, min(first + PATCH, positions.shape[0])):
            dx = positions[v, 0] - x4
            dy = positions[v, 1] - y4
            dz = positions[v, 2] - z4
            far = dx * dx + dy * dy + dz * dz
            if far < limit:
                share = soft / (soft + np.float64(far))
                share *= share
                sx += (share * normals[v, 0] + TO_SHARE) - TO_SHARE
                sy += (share * normals[v, 1] + TO_SHARE) - TO_SHARE
                sz += (share * normals[v, 2] + TO_SHARE) - TO_SHARE
    out[0] = sx
    out[1] = sy
    out[2] = sz


def side_of(mesh: Mesh, near: I32, centre: F64, radius: float) -> F32:
    """Which way clay faces at a place (3,) on it, from patches near (p,): unit, (3,), alike for its mirror image.

    The far side of thin clay has its say as well, but less: it is farther away. Zero where there is no clay.
    """
    out = np.zeros(3)
    x, y, z = centre
    side_sums(mesh.positions, mesh.normals, near, x, y, z, radius, out)
    length = math.sqrt(out[0] * out[0] + out[1] * out[1] + out[2] * out[2])
    return (out / (length or 1.0)).astype(np.float32)


@kernel
def keep_connected(
    positions: F32,
    normals: F32,
    faces: I32,
    start: I32,
    ring: I32,
    stamp: I32,
    inside: int,
    seen: int,
    gone: int,
    x: float,
    y: float,
    z: float,
    side: F32,
    through: bool,
    vertices: I32,
    places: I32,
    weights: F32,
    first: int,
    n: int,
) -> int:
    """Drop the vertices of `vertices[first:n]` that no path within the dab joins to its middle.

    Parameters
    ----------
    through : bool
        Keep pieces that face away from `side` (3,) all over: the far side of what is in hand.
    """
    if n == first:
        return n
    nearest = first
    best = np.inf
    for i in range(first, n):
        v = vertices[i]
        stamp[v] = inside
        dx = positions[v, 0] - x
        dy = positions[v, 1] - y
        dz = positions[v, 2] - z
        d2 = dx * dx + dy * dy + dz * dz
        if d2 < best:
            best = d2
            nearest = i
    queue = np.empty(n - first, np.int32)
    tail = 0
    begin = nearest
    unseen = first
    while begin < n:
        piece = tail
        head = tail
        queue[tail] = vertices[begin]
        stamp[queue[tail]] = seen
        tail += 1
        most = np.float32(-1.0)
        while head < tail:
            v = queue[head]
            head += 1
            most = max(most, normals[v, 0] * side[0] + normals[v, 1] * side[1] + normals[v, 2] * side[2])
            for k in range(start[v, 0], start[v, 1]):
                for c in range(4):
                    u = faces[ring[k], c]
                    if u >= 0 and stamp[u] == inside:
                        stamp[u] = seen
                        queue[tail] = u
                        tail += 1
        if not through:
            break
        if piece > 0 and most > 0.0:
            # What faces the same way somewhere is a neighbour, not the far side.
            for k in range(piece, tail):
                stamp[queue[k]] = gone
        while unseen < n and stamp[vertices[unseen]] != inside:
            unseen += 1
        begin = unseen
    kept = first
    for i in range(first, n):
        if stamp[vertices[i]] == seen:
            vertices[kept] = vertices[i]
            places[kept] = places[i]
            weights[kept] = weights[i]
            kept += 1
    return kept


@kernel
def limit_weights(
    positions: F32,
    normals: F32,
    faces: I32,
    start: I32,
    ring: I32,
    border: AnyArray,
    regions: AnyArray,
    edge: bool,
    cavity: bool,
    peak: bool,
    region: int,
    vertices: I32,
    places: I32,
    weights: F32,
    first: int,
    n: int,
) -> int:
    """Weaken or drop vertices of `vertices[first:n]` that a brush is to leave alone; the new count.

    Parameters
    ----------
    edge : bool
        Open edges, and the vertices next to them by half.
    cavity : bool
        Hollows: where the ring's middle stands above a vertex, by a fifth of an edge fully.
    peak : bool
        The same where it lies below.
    region : int
        Only vertices with a face of this region; -1 for any.
    """
    kept = first
    for i in range(first, n):
        v = vertices[i]
        w = weights[i]
        inside = region < 0
        sx = 0.0
        sy = 0.0
        sz = 0.0
        length = 0.0
        count = 0
        for k in range(start[v, 0], start[v, 1]):
            f = ring[k]
            if region >= 0 and regions[f] == region:
                inside = True
            for c in range(4):
                u = faces[f, c]
                if u < 0 or u == v:
                    continue
                dx = np.float64(positions[u, 0]) - positions[v, 0]
                dy = np.float64(positions[u, 1]) - positions[v, 1]
                dz = np.float64(positions[u, 2]) - positions[v, 2]
                sx += dx
                sy += dy
                sz += dz
                length += np.sqrt(dx * dx + dy * dy + dz * dz)
                count += 1
                if edge and border[u] != 0:
                    w = min(w, weights[i] * np.float32(0.5))
        if not inside or (edge and border[v] != 0):
            continue
        if (cavity or peak) and length > 0.0:
            rise = (sx * normals[v, 0] + sy * normals[v, 1] + sz * normals[v, 2]) / length
            if cavity:
                w *= np.float32(min(max(1.0 - rise * 5.0, 0.0), 1.0))
            if peak:
                w *= np.float32(min(max(1.0 + rise * 5.0, 0.0), 1.0))
        if w > 0.0:
            vertices[kept] = v
            places[kept] = places[i]
            weights[kept] = w
            kept += 1
    return kept


@kernel
def mark_trace(trace: F32, places: I32, travel: float) -> None:
    """Note that a stroke was here when it had come so far."""
    for i in range(places.shape[0]):
        trace[places[i], 0] = travel


@kernel
def fresh(stamp: I32, base: int, vertices: U32, first: int, last: int) -> int:
    """How many of `vertices[first:last]` have a stamp below `base`."""
    n = 0
    for i in range(first, last):
        if stamp[vertices[i]] < base:
            n += 1
    return n


@kernel
def apply_push(
    positions: F32,
    origin: F32,
    push: F64,
    push_weight: F64,
    from_origin: bool,
    limit: float,
    stamp: I32,
    base: int,
    vertices: U32,
    places: U32,
    first: int,
    last: int,
    moved: U32,
    was: F32,
    n_moved: int,
    longest: F64,
) -> int:
    """Move the vertices of one twin by what all twins ask for, each vertex once.

    Where twins overlap, their moves are averaged by weight and scaled to the greatest weight: on
    the seam the clay moves as far as one dab would move it, and stays on the seam.

    Parameters
    ----------
    limit : float
        The farthest a vertex may come from its origin.
    stamp : (n,) int32
        A moved vertex's stamp becomes `base` plus its place in `moved`.
    moved : (k,) uint32
        Receives the moved vertices; the new count is returned.
    was : (k, 3) float32
        Receives where they were.
    longest : (1,) float64
        Receives the longest move.
    """
    farthest = 0.0
    limited = limit < np.inf
    for i in range(first, last):
        v = vertices[i]
        if stamp[v] >= base:
            continue
        stamp[v] = base + n_moved
        moved[n_moved] = v
        n_moved += 1
        at = places[i]
        total = push_weight[at, 0]
        scale = 1.0
        if total != push_weight[at, 1]:
            scale = push_weight[at, 1] / total
        px = positions[v, 0]
        py = positions[v, 1]
        pz = positions[v, 2]
        was[n_moved - 1, 0] = px
        was[n_moved - 1, 1] = py
        was[n_moved - 1, 2] = pz
        x = np.float64(px)
        y = np.float64(py)
        z = np.float64(pz)
        if from_origin:
            x = np.float64(origin[at, 0])
            y = np.float64(origin[at, 1])
            z = np.float64(origin[at, 2])
        x += push[at, 0] * scale
        y += push[at, 1] * scale
        z += push[at, 2] * scale
        push[at, 0] = 0.0
        push[at, 1] = 0.0
        push[at, 2] = 0.0
        push_weight[at, 0] = 0.0
        push_weight[at, 1] = 0.0
        if limited:
            ax = x - origin[at, 0]
            ay = y - origin[at, 1]
            az = z - origin[at, 2]
            far = ax * ax + ay * ay + az * az
            if far > limit * limit:
                shorten = limit / np.sqrt(far)
                x = origin[at, 0] + ax * shorten
                y = origin[at, 1] + ay * shorten
                z = origin[at, 2] + az * shorten
        positions[v, 0] = x
        positions[v, 1] = y
        positions[v, 2] = z
        dx = x - px
        dy = y - py
        dz = z - pz
        farthest = max(farthest, dx * dx + dy * dy + dz * dz)
    longest[0] = np.sqrt(farthest)
    return n_moved


@kernel
def measure_sums(
    positions: F32,
    normals: F32,
    vertices: I32,
    weights: F32,
    x: float,
    y: float,
    z: float,
    radius: float,
    out: I64,
) -> None:
    """Sums over what a dab reaches, in whole steps, into `out` (7,): the weights, places from the middle in radii, normals."""
    total = np.int64(0)
    px = np.int64(0)
    py = np.int64(0)
    pz = np.int64(0)
    nx = np.int64(0)
    ny = np.int64(0)
    nz = np.int64(0)
    for i in range(vertices.shape[0]):
        v = vertices[i]
        w = np.float64(weights[i]) * FIXED
        total += np.int64(np.rint(w))
        px += np.int64(np.rint(w * ((positions[v, 0] - x) / radius)))
        py += np.int64(np.rint(w * ((positions[v, 1] - y) / radius)))
        pz += np.int64(np.rint(w * ((positions[v, 2] - z) / radius)))
        nx += np.int64(np.rint(w * normals[v, 0]))
        ny += np.int64(np.rint(w * normals[v, 1]))
        nz += np.int64(np.rint(w * normals[v, 2]))
    out[0] = total
    out[1] = px
    out[2] = py
    out[3] = pz
    out[4] = nx
    out[5] = ny
    out[6] = nz


def measure(mesh: Mesh, reach: Reach, centre: F64, radius: float) -> F32:
    """Weighted mean position and unit normal of what a dab reaches, (6,) float32; the middle where it reaches nothing.

    The sums are of whole numbers, so that neither order nor parts change them.
    """
    x, y, z = centre
    sums = gathered(
        reach,
        (7,),
        lambda rows, out: measure_sums(
            mesh.positions, mesh.normals, reach.vertices[rows], reach.weights[rows], x, y, z, radius, out
        ),
    )
    total, *rest = sums.tolist()
    if total <= 0:
        return np.array([x, y, z, 0.0, 0.0, 0.0], np.float32)
    px, py, pz, fx, fy, fz = (number / total for number in rest)
    length = math.sqrt(fx * fx + fy * fy + fz * fz) or 1.0
    return np.array(
        [x + radius * px, y + radius * py, z + radius * pz, fx / length, fy / length, fz / length], np.float32
    )


def over(reach: Reach, run: Callable[[slice], object]) -> None:
    """Run a kernel over the rows of what a dab reaches, `run(rows)`, in parts where there are many.

    A kernel that writes to the places of its own rows only gives the same in any number of parts.
    """
    in_parts(len(reach.vertices), lambda first, last: run(slice(first, last)), DAB_PART)


def gathered(reach: Reach, shape: tuple[int, ...], run: Callable[[slice, I64], object]) -> I64:
    """Sums of whole numbers over what a dab reaches, of this shape: `run(rows, sums)` adds some rows' to zeros.

    Whole numbers, so that neither order nor parts change them.
    """
    rows = parts_of(len(reach.vertices), DAB_PART)
    sums = np.zeros((len(rows) - 1, *shape), np.int64)
    at_once(len(rows) - 1, lambda part: run(slice(rows[part], rows[part + 1]), sums[part]))
    return sums[0] if len(sums) == 1 else sums.sum(axis=0)


@kernel
def normal_sums(normals: F32, vertices: I32, weights: F32, out: F64) -> None:
    """Weighted sum of unit normals, into `out` (3,)."""
    x = 0.0
    y = 0.0
    z = 0.0
    for i in range(vertices.shape[0]):
        v = vertices[i]
        w = np.float64(weights[i])
        x += (w * normals[v, 0] + TO_SHARE) - TO_SHARE
        y += (w * normals[v, 1] + TO_SHARE) - TO_SHARE
        z += (w * normals[v, 2] + TO_SHARE) - TO_SHARE
    out[0] = x
    out[1] = y
    out[2] = z


def mean_normal(mesh: Mesh, reach: Reach) -> F32:
    """Weighted mean of the normals of what a dab reaches, made unit again, (3,) float32."""
    rows = parts_of(len(reach.vertices), DAB_PART)
    sums = np.zeros((len(rows) - 1, 3))

    def some(part: int) -> None:
        first, last = rows[part], rows[part + 1]
        normal_sums(mesh.normals, reach.vertices[first:last], reach.weights[first:last], sums[part])

    at_once(len(rows) - 1, some)
    x, y, z = sums.sum(axis=0).tolist()
    length = math.sqrt(x * x + y * y + z * z) or 1.0
    return np.array([x / length, y / length, z / length], np.float32)


@inlined
def add_push(push: F64, push_weight: F64, at: int, weight: float, x: float, y: float, z: float) -> None:
    """Ask for the move `weight * (x, y, z)` at one place of the workspace.

    Moves are whole multiples of `STEP`, so that the twins' moves add up to the same sum in any
    order, and cancel exactly on the seam.
    """
    push[at, 0] += (weight * x + TO_STEP) - TO_STEP
    push[at, 1] += (weight * y + TO_STEP) - TO_STEP
    push[at, 2] += (weight * z + TO_STEP) - TO_STEP
    push_weight[at, 0] += weight
    push_weight[at, 1] = max(push_weight[at, 1], weight)
