"""The rings around what a dab reaches: their means, and the moves that keep vertices in good company."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from kneten.core.arrays import (
    DAB_PART,
    F32,
    F64,
    I32,
    U32,
    AnyArray,
    at_once,
    in_parts,
    inlined,
    kernel,
    parts_of,
)
from kneten.core.mesh import Mesh
from kneten.core.normals import NONE
from kneten.core.patches import halves, runs_of
from kneten.core.reach import Reach, over
from kneten.core.topology import NO_CORNER
from kneten.core.workspace import Workspace


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
def mark_rows(stamp: I32, base: int, vertices: U32) -> None:
    """Mark each vertex with its row, counted from 1."""
    for i in range(vertices.shape[0]):
        stamp[vertices[i]] = base + 1 + i


@kernel
def ring_sums(
    positions: F32,
    faces: U32,
    begins: U32,
    ends: U32,
    stamp: I32,
    base: int,
    low: int,
    high: int,
    out: F64,
    left: U32,
) -> int:
    """Add up, for each marked vertex, those that share an edge with it, twice each, into `out` (k + 1, 4).

    The last column is the same of the squares of those edges. Faces are met in the order they lie in memory, each once.

    Parameters
    ----------
    begins, ends : (p,) uint32
        The runs of faces to go through: they hold every face of the marked vertices.
    stamp : (n,) int32
        `base` plus its row for a marked vertex, at most `base` for any other. Row 0 takes what nobody asked for.
    low, high : int
        The rows that may be written to, besides row 0.
    left : (f,) uint32
        Receives the faces with a corner in another row, of which nothing is added; how many is returned. When it has no
        room, all rows may be written to.
    """
    n_left = 0
    parted = left.shape[0] > 0
    lowest = np.uint32(low - 1)
    highest = np.uint32(high)
    for i in range(begins.shape[0]):
        for f in range(begins[i], ends[i]):
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
            if parted:
                # Row 0 less 1 is the greatest number there is, and so never the least.
                least = min(
                    min(np.uint32(row_a - 1), np.uint32(row_b - 1)),
                    min(np.uint32(row_c - 1), np.uint32(row_d - 1)),
                )
                if least < lowest or max(max(row_a, row_b), max(row_c, row_d)) >= highest:
                    left[n_left] = f
                    n_left += 1
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
    return n_left


@kernel
def ring_ends(
    positions: F32,
    faces: U32,
    start: U32,
    ring: U32,
    border: AnyArray,
    vertices: U32,
    first: int,
    last: int,
    out: F64,
) -> None:
    """Make means of the sums of `vertices[first:last]`; along an open edge only those on it count.

    Parameters
    ----------
    out : (k + 1, 4) float64
        Row `i + 1` is that of `vertices[i]`.
    """
    for i in range(first, last):
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


@kernel
def ring_means(
    positions: F32,
    faces: U32,
    start: U32,
    ring: U32,
    border: AnyArray,
    begins: U32,
    ends: U32,
    stamp: I32,
    base: int,
    vertices: U32,
    out: F64,
    left: U32,
) -> None:
    """Mean of the vertices that share an edge with each of `vertices`, and mean square of those edges: all at once."""
    out[:] = 0.0
    mark_rows(stamp, base, vertices)
    ring_sums(positions, faces, begins, ends, stamp, base, 1, vertices.shape[0] + 1, out, left)
    ring_ends(positions, faces, start, ring, border, vertices, 0, vertices.shape[0], out)


def means_of(mesh: Mesh, reach: Reach) -> F64:
    """Means and mean square edges of the rings around what a dab reaches, (k, 4).

    The mean is that of the vertices that share an edge with each; along an open edge only those on it count.
    """
    count = len(reach.vertices) + 1
    out = mesh.scratch("rows", 4 * count, np.float64).reshape(-1, 4)
    faces, start, ring = mesh.topology.walk
    border = mesh.topology.border
    base = mesh.next_stamps(count)
    vertices = reach.vertices.view(np.uint32)
    begins, ends = runs_of(mesh.topology, reach.near)
    places, stamp = mesh.positions, mesh.stamp
    rows = parts_of(count - 1, DAB_PART)
    if len(rows) == 2:
        ring_means(places, faces, start, ring, border, begins, ends, stamp, base, vertices, out, NONE)
        return out[1:]

    def begin(first: int, last: int) -> None:
        out[first:last] = 0.0
        mark_rows(stamp, base + first, vertices[first:last])

    in_parts(count - 1, begin, DAB_PART)
    out[-1] = 0.0
    # Each part adds up the faces in its own patches that stay within its own rows; the rest is added after.
    cuts = halves(reach.near, vertices, rows)
    seams: list[U32] = []

    def add(part: int) -> None:
        some = slice(cuts[part], cuts[part + 1])
        seam = np.empty(int((ends[some] - begins[some]).sum()), np.uint32)
        low, high = rows[part] + 1, rows[part + 1] + 1
        n = ring_sums(places, faces, begins[some], ends[some], stamp, base, low, high, out, seam)
        seams.append(seam[:n])

    at_once(len(rows) - 1, add)
    seam = np.sort(np.concatenate(seams))
    ring_sums(places, faces, seam, seam + np.uint32(1), stamp, base, 1, count, out, NONE)
    in_parts(
        count - 1,
        lambda first, last: ring_ends(places, faces, start, ring, border, vertices, first, last, out),
        DAB_PART,
    )
    return out[1:]


def move_each(kernel: Callable[..., None], mesh: Mesh, work: Workspace, reach: Reach, *rest: object) -> None:
    """Run a tool's kernel over what a dab reaches: in parts, on all processors, where that is much.

    Parameters
    ----------
    kernel : kernel
        Takes positions, normals, the rings' means, vertices, places, weights, then `rest`, then push and its weights.
        It writes to its own places only.
    """
    means = means_of(mesh, reach)
    over(
        reach,
        lambda rows: kernel(
            mesh.positions,
            mesh.normals,
            means[rows],
            reach.vertices[rows],
            reach.places[rows],
            reach.weights[rows],
            *rest,
            work.push,
            work.push_weight,
        ),
    )


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
