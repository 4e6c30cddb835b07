"""What a dab reaches, how strongly, and how its moves are applied."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, F64, I32, U32, AnyArray, inlined, kernel
from kneten.core.mesh import Mesh
from kneten.core.topology import NO_CORNER, PATCH, PATCH_BITS

FIXED = float(1 << 36)
"""Sums over a dab are taken in whole numbers of 2**-36: their order cannot change the result, so a
mirrored dab gives the mirrored move to the bit. 2**36 * 8 M vertices stays below 2**63."""


STEP = 1.0 / (1 << 40)
"""9e-13 mm: far below float32 at any size, and sums up to 8 m stay exact in float64."""


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
    """

    vertices: I32
    places: I32
    weights: F32


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
    vertices: I32,
    places: I32,
    weights: F32,
    n: int,
) -> int:
    """Append the vertices within `radius` of a point, with their weights. Returns the new count."""
    limit = radius * radius
    last = falloff.shape[0] - 1
    for i in range(near.shape[0]):
        first = near[i] << PATCH_BITS
        base = patch_slot[near[i]] << PATCH_BITS
        for k in range(min(PATCH, positions.shape[0] - first)):
            v = first + k
            dx = positions[v, 0] - x
            dy = positions[v, 1] - y
            dz = positions[v, 2] - z
            d2 = dx * dx + dy * dy + dz * dz
            if d2 >= limit:
                continue
            t = np.sqrt(d2 / limit) * last
            cell = min(int(t), last - 1)
            part = t - cell
            w = falloff[cell] * (1.0 - part) + falloff[cell + 1] * part
            if mask.shape[0] > 0:
                w *= 1.0 - mask[v]
            if front_only:
                facing = -(normals[v, 0] * view[0] + normals[v, 1] * view[1] + normals[v, 2] * view[2])
                # Fades in over the last 14 degrees before the horizon, so that no step is left.
                w *= min(max(facing * 4.0, 0.0), 1.0)
            if w > 0.0:
                vertices[n] = v
                places[n] = base + k
                weights[n] = w
                n += 1
    return n


@kernel
def keep_connected(
    positions: F32,
    faces: I32,
    start: I32,
    ring: I32,
    stamp: I32,
    inside: int,
    seen: int,
    x: float,
    y: float,
    z: float,
    vertices: I32,
    places: I32,
    weights: F32,
    first: int,
    n: int,
) -> int:
    """Drop the vertices of `vertices[first:n]` that no path within the dab joins to its middle."""
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
    queue[0] = vertices[nearest]
    stamp[queue[0]] = seen
    head = 0
    tail = 1
    while head < tail:
        v = queue[head]
        head += 1
        for k in range(start[v], start[v + 1]):
            for c in range(4):
                u = faces[ring[k], c]
                if u >= 0 and stamp[u] == inside:
                    stamp[u] = seen
                    queue[tail] = u
                    tail += 1
    kept = first
    for i in range(first, n):
        if stamp[vertices[i]] == seen:
            vertices[kept] = vertices[i]
            places[kept] = places[i]
            weights[kept] = weights[i]
            kept += 1
    return kept


@kernel
def apply_push(
    positions: F32,
    origin: F32,
    push: F64,
    push_weight: F64,
    from_origin: bool,
    limit: float,
    stamp: I32,
    stamp_id: int,
    vertices: I32,
    places: I32,
    first: int,
    last: int,
    touched: I32,
    n_touched: int,
    longest: F64,
) -> int:
    """Move the vertices of one twin by what all twins ask for, each vertex once.

    Where twins overlap, their moves are averaged by weight and scaled to the greatest weight: on
    the seam the clay moves as far as one dab would move it, and stays on the seam.

    Parameters
    ----------
    limit : float
        The farthest a vertex may come from its origin.
    touched : (k,) int32
        Receives the moved vertices; the new count is returned.
    longest : (1,) float64
        Receives the longest move.
    """
    longest[0] = 0.0
    for i in range(first, last):
        v = vertices[i]
        if stamp[v] == stamp_id:
            continue
        stamp[v] = stamp_id
        at = places[i]
        scale = 0.0
        if push_weight[at, 0] > 0.0:
            scale = push_weight[at, 1] / push_weight[at, 0]
        moved = 0.0
        far = 0.0
        target = (0.0, 0.0, 0.0)
        if from_origin:
            target = (
                origin[at, 0] + push[at, 0] * scale,
                origin[at, 1] + push[at, 1] * scale,
                origin[at, 2] + push[at, 2] * scale,
            )
        else:
            target = (
                positions[v, 0] + push[at, 0] * scale,
                positions[v, 1] + push[at, 1] * scale,
                positions[v, 2] + push[at, 2] * scale,
            )
        for a in range(3):
            push[at, a] = 0.0
            away = target[a] - origin[at, a]
            far += away * away
        push_weight[at, 0] = 0.0
        push_weight[at, 1] = 0.0
        shorten = 1.0
        if far > limit * limit:
            shorten = limit / np.sqrt(far)
        for a in range(3):
            to = origin[at, a] + (target[a] - origin[at, a]) * shorten if shorten < 1.0 else target[a]
            step = to - positions[v, a]
            moved += step * step
            positions[v, a] = to
        longest[0] = max(longest[0], moved)
        touched[n_touched] = v
        n_touched += 1
    longest[0] = np.sqrt(longest[0])
    return n_touched


@kernel
def measure(
    positions: F32,
    normals: F32,
    vertices: I32,
    weights: F32,
    x: float,
    y: float,
    z: float,
    radius: float,
    out: F32,
) -> None:
    """Weighted mean position (`out[:3]`) and unit normal (`out[3:6]`) of what a dab reaches."""
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
    for a in range(6):
        out[a] = 0.0
    if total <= 0:
        out[0] = x
        out[1] = y
        out[2] = z
        return
    whole = np.float64(total)
    out[0] = x + radius * (np.float64(px) / whole)
    out[1] = y + radius * (np.float64(py) / whole)
    out[2] = z + radius * (np.float64(pz) / whole)
    fx = np.float64(nx)
    fy = np.float64(ny)
    fz = np.float64(nz)
    length = np.sqrt(fx * fx + fy * fy + fz * fz)
    if length > 0.0:
        out[3] = fx / length
        out[4] = fy / length
        out[5] = fz / length


@inlined
def add_push(push: F64, push_weight: F64, at: int, weight: float, x: float, y: float, z: float) -> None:
    """Ask for the move `weight * (x, y, z)` at one place of the workspace.

    Moves are whole multiples of `STEP`, so that the twins' moves add up to the same sum in any
    order, and cancel exactly on the seam.
    """
    push[at, 0] += np.rint(weight * x / STEP) * STEP
    push[at, 1] += np.rint(weight * y / STEP) * STEP
    push[at, 2] += np.rint(weight * z / STEP) * STEP
    push_weight[at, 0] += weight
    push_weight[at, 1] = max(push_weight[at, 1], weight)


@kernel
def _border_mean(
    positions: F32, faces: U32, start: U32, ring: U32, border: AnyArray, v: int
) -> tuple[float, float, float]:
    """Mean of the vertices on the open edge that share an edge with `v`."""
    sx = 0.0
    sy = 0.0
    sz = 0.0
    n = 0
    for k in range(start[v], start[v + 1]):
        f = ring[k]
        size = 3 if faces[f, 3] == NO_CORNER else 4
        here = 0
        for c in range(size):
            if faces[f, c] == v:
                here = c
        for step in (1, size - 1):
            u = faces[f, (here + step) % size]
            if border[u] != 0:
                sx += positions[u, 0]
                sy += positions[u, 1]
                sz += positions[u, 2]
                n += 1
    if n == 0:
        return np.float64(positions[v, 0]), np.float64(positions[v, 1]), np.float64(positions[v, 2])
    return sx / n, sy / n, sz / n


@kernel
def ring_means(
    positions: F32,
    faces: U32,
    start: U32,
    ring: U32,
    border: AnyArray,
    vertices: U32,
    out: F64,
) -> None:
    """Mean of the vertices that share an edge with each of `vertices`, into `out` (k, 4).

    The last column is the mean square of those edges. Along an open edge only those on it count.
    """
    for i in range(vertices.shape[0]):
        v = vertices[i]
        first = start[v]
        last = start[v + 1]
        if border[v] != 0 or first == last:
            sx, sy, sz = _border_mean(positions, faces, start, ring, border, v)
            out[i, 0] = sx
            out[i, 1] = sy
            out[i, 2] = sz
            out[i, 3] = np.inf
            continue
        sx = 0.0
        sy = 0.0
        sz = 0.0
        squares = 0.0
        px = positions[v, 0]
        py = positions[v, 1]
        pz = positions[v, 2]
        for k in range(first, last):
            f = ring[k]
            # The two neighbours of `v` in this face, without a search.
            a = faces[f, 0]
            b = faces[f, 1]
            c = faces[f, 2]
            d = faces[f, 3]
            if d != NO_CORNER:
                if v in (a, c):
                    a = b
                    c = d
            elif v == a:
                a = b
            elif v == c:
                c = b
            sx += np.float64(positions[a, 0]) + positions[c, 0]
            sy += np.float64(positions[a, 1]) + positions[c, 1]
            sz += np.float64(positions[a, 2]) + positions[c, 2]
            # In a closed ring each neighbour is one face's first and another's second.
            dx = positions[a, 0] - px
            dy = positions[a, 1] - py
            dz = positions[a, 2] - pz
            ex = positions[c, 0] - px
            ey = positions[c, 1] - py
            ez = positions[c, 2] - pz
            squares += np.float64(dx * dx + dy * dy + dz * dz) + (ex * ex + ey * ey + ez * ez)
        share = 0.5 / np.float64(last - first)
        out[i, 0] = sx * share
        out[i, 1] = sy * share
        out[i, 2] = sz * share
        out[i, 3] = squares * share


def means_of(mesh: Mesh, reach: Reach) -> F64:
    """Means and mean square edges of the rings around what a dab reaches, (k, 4)."""
    out = mesh.scratch("means", 4 * len(reach.vertices), np.float64).reshape(-1, 4)
    faces, start, ring = mesh.topology.walk
    vertices = reach.vertices.view(np.uint32)
    ring_means(mesh.positions, faces, start, ring, mesh.topology.border, vertices, out)
    return out


SHARP = 0.16
"""Square of how far a vertex may stand off the mean of its ring, in edge lengths, before it is drawn
back: 0.4 edges is a crease of 75 degrees along a row of vertices. Without this, 200 strokes on one spot
leave a single vertex on a needle."""


@inlined
def keep_even(
    positions: F32, normals: F32, means: F64, i: int, v: int, amount: float
) -> tuple[float, float, float]:
    """The move that keeps `v` in good company.

    Along the surface by `amount` (0..1) towards the mean of its ring; and, where it stands off that mean
    like a needle, back towards it.
    """
    mx = means[i, 0] - positions[v, 0]
    my = means[i, 1] - positions[v, 1]
    mz = means[i, 2] - positions[v, 2]
    off = mx * normals[v, 0] + my * normals[v, 1] + mz * normals[v, 2]
    sharp = (mx * mx + my * my + mz * mz) / max(means[i, 3], 1e-30)
    back = min(max((sharp - SHARP) * 2.5, 0.0), 0.6)
    return (
        amount * (mx - off * normals[v, 0]) + back * mx,
        amount * (my - off * normals[v, 1]) + back * my,
        amount * (mz - off * normals[v, 2]) + back * mz,
    )
