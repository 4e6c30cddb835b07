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


STEP = 1.0 / (1 << 36)
"""Moves are whole multiples of this: 1.5e-11 mm, far below float32 at any size; sums up to 131 m stay
exact in float64."""

TO_STEP = 1.5 * 2.0**52 * STEP
"""Adding this and taking it away rounds to a multiple of `STEP`, alike on both sides of zero, for
numbers up to 32 m: float64 has no finer bits there. Three times as fast as dividing and rounding."""

TO_SHARE = 1.5 * 2.0**52 / (1 << 28)
"""The same for shares up to 1: steps of 2**-28, of which 2**25 add up without loss."""


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
    vertices: I32,
    places: I32,
    weights: F32,
    n: int,
) -> int:
    """Append the vertices within `radius` of a point, with their weights. Returns the new count."""
    # Single precision and unsigned indices: two thirds of the vertices near a dab are only measured.
    limit = np.float32(radius * radius)
    x4 = np.float32(x)
    y4 = np.float32(y)
    z4 = np.float32(z)
    last = falloff.shape[0] - 1
    cells = last / radius
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
        for k in range(start[v, 0], start[v, 1]):
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
        if cavity and length > 0.0:
            rise = (sx * normals[v, 0] + sy * normals[v, 1] + sz * normals[v, 2]) / length
            w *= np.float32(min(max(1.0 - rise * 5.0, 0.0), 1.0))
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


@kernel
def mean_normal(normals: F32, vertices: I32, weights: F32, out: F32) -> None:
    """Weighted mean of the unit normals of what a dab reaches, made unit again, into `out` (6,)[3:]."""
    x = 0.0
    y = 0.0
    z = 0.0
    for i in range(vertices.shape[0]):
        v = vertices[i]
        w = np.float64(weights[i])
        x += (w * normals[v, 0] + TO_SHARE) - TO_SHARE
        y += (w * normals[v, 1] + TO_SHARE) - TO_SHARE
        z += (w * normals[v, 2] + TO_SHARE) - TO_SHARE
    length = np.sqrt(x * x + y * y + z * z)
    if length > 0.0:
        out[3] = x / length
        out[4] = y / length
        out[5] = z / length


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


@kernel
def _border_mean(
    positions: F32, faces: U32, start: U32, ring: U32, border: AnyArray, v: int
) -> tuple[float, float, float]:
    """Mean of the vertices on the open edge that share an edge with `v`."""
    sx = 0.0
    sy = 0.0
    sz = 0.0
    n = 0
    for k in range(start[v, 0], start[v, 1]):
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
    patch_faces: U32,
    near: U32,
    stamp: I32,
    base: int,
    vertices: U32,
    out: F64,
) -> None:
    """Mean of the vertices that share an edge with each of `vertices`, into `out` (k, 4).

    The last column is the mean square of those edges. Along an open edge only those on it count.
    Faces are met in the order they lie in memory, each once.

    Parameters
    ----------
    near : (p,) int32
        Patches that own every face of `vertices`.
    stamp : (n,) int32
        Every stamp is less than `base`.
    out : (k + 1, 4) float64
        Row `i + 1` is that of `vertices[i]`; row 0 takes what nobody asked for.
    """
    out[:] = 0.0
    for i in range(vertices.shape[0]):
        stamp[vertices[i]] = base + 1 + i
    for i in range(near.shape[0]):
        for f in range(patch_faces[near[i]], patch_faces[near[i] + 1]):
            a = faces[f, 0]
            b = faces[f, 1]
            c = faces[f, 2]
            d = faces[f, 3]
            quad = d != NO_CORNER
            if not quad:
                d = a
            row_a = np.uint32(max(stamp[a] - base, 0))
            row_b = np.uint32(max(stamp[b] - base, 0))
            row_c = np.uint32(max(stamp[c] - base, 0))
            row_d = np.uint32(max(stamp[d] - base, 0))
            if (row_a | row_b | row_c | row_d) == 0:
                continue
            ax = positions[a, 0]
            ay = positions[a, 1]
            az = positions[a, 2]
            bx = positions[b, 0]
            by = positions[b, 1]
            bz = positions[b, 2]
            cx = positions[c, 0]
            cy = positions[c, 1]
            cz = positions[c, 2]
            dx = positions[d, 0]
            dy = positions[d, 1]
            dz = positions[d, 2]
            # Beside b and d lie a and c, beside a and c lie b and d; in a triangle d is a once more.
            # In a closed ring each neighbour is one face's first and another's second.
            ux = cx - ax
            uy = cy - ay
            uz = cz - az
            acx = np.float64(ax) + cx
            acy = np.float64(ay) + cy
            acz = np.float64(az) + cz
            squares = ux * ux + uy * uy + uz * uz
            if quad:
                # The diagonals' squares add up to those of the four edges (exactly, in a parallelogram).
                wx = dx - bx
                wy = dy - by
                wz = dz - bz
                share = np.float64(np.float32(0.5) * (squares + (wx * wx + wy * wy + wz * wz)))
                bdx = np.float64(bx) + dx
                bdy = np.float64(by) + dy
                bdz = np.float64(bz) + dz
                out[row_a, 0] += bdx
                out[row_a, 1] += bdy
                out[row_a, 2] += bdz
                out[row_a, 3] += share
                out[row_b, 0] += acx
                out[row_b, 1] += acy
                out[row_b, 2] += acz
                out[row_b, 3] += share
                out[row_c, 0] += bdx
                out[row_c, 1] += bdy
                out[row_c, 2] += bdz
                out[row_c, 3] += share
                out[row_d, 0] += acx
                out[row_d, 1] += acy
                out[row_d, 2] += acz
                out[row_d, 3] += share
            else:
                wx = bx - ax
                wy = by - ay
                wz = bz - az
                ab = wx * wx + wy * wy + wz * wz
                wx = cx - bx
                wy = cy - by
                wz = cz - bz
                bc = wx * wx + wy * wy + wz * wz
                out[row_a, 0] += np.float64(bx) + cx
                out[row_a, 1] += np.float64(by) + cy
                out[row_a, 2] += np.float64(bz) + cz
                out[row_a, 3] += np.float64(ab + squares)
                out[row_b, 0] += acx
                out[row_b, 1] += acy
                out[row_b, 2] += acz
                out[row_b, 3] += np.float64(ab + bc)
                out[row_c, 0] += np.float64(ax) + bx
                out[row_c, 1] += np.float64(ay) + by
                out[row_c, 2] += np.float64(az) + bz
                out[row_c, 3] += np.float64(bc + squares)
    for i in range(vertices.shape[0]):
        v = vertices[i]
        count = start[v, 1] - start[v, 0]
        if border[v] != 0 or count == 0:
            sx, sy, sz = _border_mean(positions, faces, start, ring, border, v)
            out[i + 1, 0] = sx
            out[i + 1, 1] = sy
            out[i + 1, 2] = sz
            out[i + 1, 3] = np.inf
        else:
            share = 0.5 / np.float64(count)
            out[i + 1, 0] *= share
            out[i + 1, 1] *= share
            out[i + 1, 2] *= share
            out[i + 1, 3] *= share


def means_of(mesh: Mesh, reach: Reach) -> F64:
    """Means and mean square edges of the rings around what a dab reaches, (k, 4)."""
    count = len(reach.vertices) + 1
    out = mesh.scratch("rows", 4 * count, np.float64).reshape(-1, 4)
    faces, start, ring = mesh.topology.walk
    ring_means(
        mesh.positions,
        faces,
        start,
        ring,
        mesh.topology.border,
        mesh.topology.patch_faces.view(np.uint32),
        reach.near.view(np.uint32),
        mesh.stamp,
        mesh.next_stamps(count),
        reach.vertices.view(np.uint32),
        out,
    )
    return out[1:]


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
    apart = mx * mx + my * my + mz * mz
    edge = means[i, 3]
    back = 0.0
    if apart > SHARP * edge:
        back = min((apart / max(edge, 1e-30) - SHARP) * 2.5, 0.6)
    return (
        amount * (mx - off * normals[v, 0]) + back * mx,
        amount * (my - off * normals[v, 1]) + back * my,
        amount * (mz - off * normals[v, 2]) + back * mz,
    )
