"""Which points of a grid lie in the clay, and where the surface crosses the grid's lines.

Every triangle is cast down the lines of the grid along one axis at a time. A line's crossings, added up
with their directions, tell how many shells a point lies in: overlapping shells merge by themselves. All
three axes vote, so that a hole leaks along no more than one.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, AnyArray, Progress, kernel

CHUNK = 200_000
"""Triangles between two looks at the cancel button: about 50 ms."""


@kernel
def _edge_side(ay: float, az: float, by: float, bz: float, y: float, z: float) -> float:
    """Twice the signed area of (a, b, point); the same magnitude from both sides of an edge."""
    if ay > by or (ay == by and az > bz):
        return -((ay - by) * (z - bz) - (az - bz) * (y - by))
    return (by - ay) * (z - az) - (bz - az) * (y - ay)


@kernel
def _owns(ay: float, az: float, by: float, bz: float) -> bool:
    """Of two triangles at an edge, the one that owns points exactly on it (top-left rule)."""
    return az < bz or (az == bz and ay > by)


@kernel
def cross_lines(
    positions: F32,
    normals: F32,
    triangles: I32,
    corners: I32,
    first: int,
    last: int,
    axis: int,
    low: F64,
    step: float,
    counts: AnyArray,
    flags: U8,
    cell_of: I32,
    sums: F64,
    hits: I32,
    store: bool,
) -> None:
    """Cast triangles `first..last` down the grid lines along `axis`.

    With `store` false, `counts[i, j, k]` (int16) receives the direction of each crossing at the first
    grid point behind it. With `store` true, every crossing between an inside and an outside point is
    added to the up to four cells around that line: to `sums` (position, normal) and `hits`.

    Parameters
    ----------
    normals : (n, 3) float32
    corners : (t, 3) int32
        Which of them each corner of the triangles has.
    """
    b_axis = (axis + 1) % 3
    c_axis = (axis + 2) % 3
    nb = flags.shape[b_axis]
    nc = flags.shape[c_axis]
    na = flags.shape[axis]
    index = np.zeros(3, np.int64)
    for t in range(first, last):
        v0 = triangles[t, 0]
        v1 = triangles[t, 1]
        v2 = triangles[t, 2]
        y0 = (positions[v0, b_axis] - low[b_axis]) / step
        y1 = (positions[v1, b_axis] - low[b_axis]) / step
        y2 = (positions[v2, b_axis] - low[b_axis]) / step
        z0 = (positions[v0, c_axis] - low[c_axis]) / step
        z1 = (positions[v1, c_axis] - low[c_axis]) / step
        z2 = (positions[v2, c_axis] - low[c_axis]) / step
        b_first = max(int(np.ceil(min(y0, y1, y2))), 0)
        b_last = min(int(np.floor(max(y0, y1, y2))), nb - 1)
        c_first = max(int(np.ceil(min(z0, z1, z2))), 0)
        c_last = min(int(np.floor(max(z0, z1, z2))), nc - 1)
        if b_first > b_last or c_first > c_last:
            continue
        area = (y1 - y0) * (z2 - z0) - (z1 - z0) * (y2 - y0)
        if area == 0.0:
            continue
        turn = 1.0 if area > 0.0 else -1.0
        x0 = (positions[v0, axis] - low[axis]) / step
        x1 = (positions[v1, axis] - low[axis]) / step
        x2 = (positions[v2, axis] - low[axis]) / step
        for b in range(b_first, b_last + 1):
            for c in range(c_first, c_last + 1):
                w0 = _edge_side(y1, z1, y2, z2, b, c) * turn
                w1 = _edge_side(y2, z2, y0, z0, b, c) * turn
                w2 = _edge_side(y0, z0, y1, z1, b, c) * turn
                if w0 < 0.0 or w1 < 0.0 or w2 < 0.0:
                    continue
                # Reversed triangles run round their edges the other way.
                if w0 == 0.0 and (_owns(y1, z1, y2, z2) != (turn > 0)):
                    continue
                if w1 == 0.0 and (_owns(y2, z2, y0, z0) != (turn > 0)):
                    continue
                if w2 == 0.0 and (_owns(y0, z0, y1, z1) != (turn > 0)):
                    continue
                x = (w0 * x0 + w1 * x1 + w2 * x2) / (w0 + w1 + w2)
                behind = int(np.floor(x)) + 1
                index[b_axis] = b
                index[c_axis] = c
                if not store:
                    index[axis] = max(behind, 0)
                    if behind < na:
                        # Entering the clay along +axis means the surface faces -axis.
                        counts[index[0], index[1], index[2]] += -1 if turn > 0.0 else 1
                    continue
                if behind < 1 or behind >= na:
                    continue
                index[axis] = behind
                here = flags[index[0], index[1], index[2]]
                index[axis] = behind - 1
                if flags[index[0], index[1], index[2]] == here:
                    continue
                whole = w0 + w1 + w2
                dx, dy, dz, nx, ny, nz = _curved(
                    positions, normals, triangles[t], corners[t], w0 / whole, w1 / whole, w2 / whole
                )
                rounded = (dx / step, dy / step, dz / step)
                for side in range(4):
                    index[axis] = behind - 1
                    index[b_axis] = b - (side & 1)
                    index[c_axis] = c - (side >> 1)
                    if index[b_axis] < 0 or index[c_axis] < 0:
                        continue
                    cell = cell_of[index[0], index[1], index[2]]
                    if cell < 0:
                        continue
                    sums[cell, axis] += x + rounded[axis]
                    sums[cell, b_axis] += b + rounded[b_axis]
                    sums[cell, c_axis] += c + rounded[c_axis]
                    sums[cell, 3] += nx
                    sums[cell, 4] += ny
                    sums[cell, 5] += nz
                    hits[cell] += 1


@kernel
def _curved(
    positions: F32,
    normals: F32,
    triangle: I32,
    corners: I32,
    s: float,
    t: float,
    u: float,
) -> tuple[float, float, float, float, float, float]:
    """Way from a point of a flat triangle to the curved surface its corners' normals tell of; normal there.

    Phong tessellation (Boubekeur and Alexa 2008), three quarters of the way as in the paper. Without
    it a finer mesh shows the facets of the coarser one it came from.
    """
    shares = (s, t, u)
    px = 0.0
    py = 0.0
    pz = 0.0
    for i in range(3):
        v = triangle[i]
        px += shares[i] * np.float64(positions[v, 0])
        py += shares[i] * np.float64(positions[v, 1])
        pz += shares[i] * np.float64(positions[v, 2])
    mx = 0.0
    my = 0.0
    mz = 0.0
    nx = 0.0
    ny = 0.0
    nz = 0.0
    for i in range(3):
        v = triangle[i]
        x = np.float64(normals[corners[i], 0])
        y = np.float64(normals[corners[i], 1])
        z = np.float64(normals[corners[i], 2])
        off = 0.75 * ((positions[v, 0] - px) * x + (positions[v, 1] - py) * y + (positions[v, 2] - pz) * z)
        mx += shares[i] * off * x
        my += shares[i] * off * y
        mz += shares[i] * off * z
        nx += shares[i] * x
        ny += shares[i] * y
        nz += shares[i] * z
    length = max(np.sqrt(nx * nx + ny * ny + nz * nz), 1e-30)
    return mx, my, mz, nx / length, ny / length, nz / length


@kernel
def _vote(counts: AnyArray, axis: int, votes: U8) -> None:
    """Run down the lines; each point within at least one shell gets a vote. Clears `counts`."""
    if axis == 2:
        for i in range(counts.shape[0]):
            for j in range(counts.shape[1]):
                depth = 0
                for k in range(counts.shape[2]):
                    depth += counts[i, j, k]
                    counts[i, j, k] = 0
                    if depth > 0:
                        votes[i, j, k] += 1
        return
    # Along the other axes whole rows run side by side, so that memory is read in order.
    if axis == 1:
        depths = np.zeros((counts.shape[0], counts.shape[2]), np.int32)
        for i in range(counts.shape[0]):
            for j in range(counts.shape[1]):
                for k in range(counts.shape[2]):
                    depths[i, k] += counts[i, j, k]
                    counts[i, j, k] = 0
                    if depths[i, k] > 0:
                        votes[i, j, k] += 1
        return
    depths = np.zeros((counts.shape[1], counts.shape[2]), np.int32)
    for i in range(counts.shape[0]):
        for j in range(counts.shape[1]):
            for k in range(counts.shape[2]):
                depths[j, k] += counts[i, j, k]
                counts[i, j, k] = 0
                if depths[j, k] > 0:
                    votes[i, j, k] += 1


@kernel
def _majority(votes: U8) -> None:
    for i in range(votes.shape[0]):
        for j in range(votes.shape[1]):
            for k in range(votes.shape[2]):
                edge = (
                    i == 0
                    or j == 0
                    or k == 0
                    or i == votes.shape[0] - 1
                    or j == votes.shape[1] - 1
                    or k == votes.shape[2] - 1
                )
                votes[i, j, k] = 1 if votes[i, j, k] >= 2 and not edge else 0


def _mirror_votes(votes: U8, axis: int) -> None:
    """Inside on either side is inside on both."""
    half = votes.shape[axis] // 2
    lower = np.moveaxis(votes, axis, 0)[:half]
    upper = np.moveaxis(votes, axis, 0)[::-1][:half]
    np.bitwise_or(lower, upper, out=lower)
    upper[...] = lower


@kernel
def open_corners(flags: U8) -> int:
    """Fill points until no two inside (or outside) points of a cell touch only across a corner.

    Such a *well-composed* grid has a two-manifold surface (Latecki, Eckhardt, Rosenfeld 1995), and
    each of its cells holds a single sheet. Returns how many points were filled in this pass.
    """
    filled = 0
    ni, nj, nk = flags.shape
    for i in range(ni - 1):
        for j in range(nj - 1):
            for k in range(nk - 1):
                total = 0
                for corner in range(8):
                    total += flags[i + (corner & 1), j + ((corner >> 1) & 1), k + (corner >> 2)]
                if total == 0 or total == 8:
                    continue
                # The three faces that meet at this cell's low corner; the others belong to neighbours.
                for face in range(3):
                    a = flags[i, j, k]
                    if face == 0:
                        b, c, d = flags[i, j + 1, k], flags[i, j, k + 1], flags[i, j + 1, k + 1]
                    elif face == 1:
                        b, c, d = flags[i + 1, j, k], flags[i, j, k + 1], flags[i + 1, j, k + 1]
                    else:
                        b, c, d = flags[i + 1, j, k], flags[i, j + 1, k], flags[i + 1, j + 1, k]
                    if a == d and b == c and a != b:
                        # Filling both empty points of the face keeps a mirrored grid mirrored.
                        flags[i, j, k] = 1
                        if face == 0:
                            flags[i, j + 1, k] = 1
                            flags[i, j, k + 1] = 1
                            flags[i, j + 1, k + 1] = 1
                        elif face == 1:
                            flags[i + 1, j, k] = 1
                            flags[i, j, k + 1] = 1
                            flags[i + 1, j, k + 1] = 1
                        else:
                            flags[i + 1, j, k] = 1
                            flags[i, j + 1, k] = 1
                            flags[i + 1, j + 1, k] = 1
                        filled += 2
                total = 0
                for corner in range(8):
                    total += flags[i + (corner & 1), j + ((corner >> 1) & 1), k + (corner >> 2)]
                if total == 2 or total == 6:
                    odd = 1 if total == 2 else 0
                    for corner in range(4):
                        a = flags[i + (corner & 1), j + ((corner >> 1) & 1), k]
                        b = flags[i + 1 - (corner & 1), j + 1 - ((corner >> 1) & 1), k + 1]
                        if a == odd and b == odd:
                            for other in range(8):
                                flags[i + (other & 1), j + ((other >> 1) & 1), k + (other >> 2)] = 1
                            filled += 1
    return filled


def fill_grid(
    positions: F32,
    normals: F32,
    triangles: I32,
    low: F64,
    step: float,
    shape: tuple[int, int, int],
    mirror: tuple[bool, bool, bool],
    progress: Progress,
) -> U8:
    """Which grid points lie in the clay.

    Parameters
    ----------
    low : (3,) float64
        Position of grid point (0, 0, 0).
    mirror : three bools
        Axes along which the grid's middle is a plane of symmetry to be kept.

    Returns
    -------
    flags : (nx, ny, nz) uint8
        1 inside; well-composed, and 0 all around the outside.
    """
    counts = np.zeros(shape, np.int16)
    votes = np.zeros(shape, np.uint8)
    none = np.empty((0, 0, 0), np.int32)
    sums = np.empty((0, 6))
    empty = np.empty(0, np.int32)
    for axis in range(3):
        for first in range(0, len(triangles), CHUNK):
            last = min(first + CHUNK, len(triangles))
            cross_lines(
                positions,
                normals,
                triangles,
                triangles,
                first,
                last,
                axis,
                low,
                step,
                counts,
                votes,
                none,
                sums,
                empty,
                False,
            )
            progress.report((axis + last / len(triangles)) / 3 * 0.4, "Filling the grid")
        _vote(counts, axis, votes)
    _majority(votes)
    for _ in range(64):
        for axis in range(3):
            if mirror[axis]:
                _mirror_votes(votes, axis)
        progress.report(0.45, "Joining corners")
        if open_corners(votes) == 0:
            break
    return votes
