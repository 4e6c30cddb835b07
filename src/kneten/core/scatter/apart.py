"""Outlines of pieces that keep apart from each other: which can stay, and where they give way."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F64, I32, I64, AnyArray, kernel


@kernel
def _gap(i: int, j: int, at: F64, normals: F64, heads: F64, half: F64, is_round: AnyArray) -> float:
    """How far two outlines are apart, seen along their mean normal; below 0 they meet. On other sides they never do."""
    nx = normals[i, 0] + normals[j, 0]
    ny = normals[i, 1] + normals[j, 1]
    nz = normals[i, 2] + normals[j, 2]
    long = np.sqrt(nx * nx + ny * ny + nz * nz)
    if long < 1.0:
        return np.inf
    nx /= long
    ny /= long
    nz /= long
    # Two axes of the plane: along the first one's heading, and to its side.
    off = heads[i, 0] * nx + heads[i, 1] * ny + heads[i, 2] * nz
    ex = heads[i, 0] - off * nx
    ey = heads[i, 1] - off * ny
    ez = heads[i, 2] - off * nz
    long = max(np.sqrt(ex * ex + ey * ey + ez * ez), 1e-12)
    ex /= long
    ey /= long
    ez /= long
    fx = ny * ez - nz * ey
    fy = nz * ex - nx * ez
    fz = nx * ey - ny * ex
    dx = at[j, 0] - at[i, 0]
    dy = at[j, 1] - at[i, 1]
    dz = at[j, 2] - at[i, 2]
    p = dx * ex + dy * ey + dz * ez
    q = dx * fx + dy * fy + dz * fz
    c = heads[j, 0] * ex + heads[j, 1] * ey + heads[j, 2] * ez
    s = heads[j, 0] * fx + heads[j, 1] * fy + heads[j, 2] * fz
    long = max(np.sqrt(c * c + s * s), 1e-12)
    c /= long
    s /= long
    far = np.sqrt(p * p + q * q)
    best = -np.inf
    for k in range(7):
        if k == 0:
            u, v = (p / far, q / far) if far > 1e-12 else (1.0, 0.0)
        elif k == 1:
            u, v = 1.0, 0.0
        elif k == 2:
            u, v = 0.0, 1.0
        elif k == 3:
            u, v = c, s
        elif k == 4:
            u, v = -s, c
        elif k == 5:
            u, v = 0.7071067811865476, 0.7071067811865476
        else:
            u, v = 0.7071067811865476, -0.7071067811865476
        if is_round[i]:
            mine = np.sqrt((half[i, 1] * u) ** 2 + (half[i, 0] * v) ** 2)
        else:
            mine = half[i, 1] * abs(u) + half[i, 0] * abs(v)
        along = u * c + v * s
        side = v * c - u * s
        if is_round[j]:
            yours = np.sqrt((half[j, 1] * along) ** 2 + (half[j, 0] * side) ** 2)
        else:
            yours = half[j, 1] * abs(along) + half[j, 0] * abs(side)
        best = max(best, abs(p * u + q * v) - mine - yours)
    return best


@kernel
def _bucket(x: int, y: int, z: int, size: int) -> int:
    return int((x * 73856093 ^ y * 19349663 ^ z * 83492791) & (size - 1))


@kernel
def throw(
    at: F64,
    normals: F64,
    heads: F64,
    half: F64,
    is_round: AnyArray,
    cell: float,
    most: int,
    first: I32,
    after: I32,
) -> I32:
    """The rows that keep apart from all taken before them, ascending, `most` at most."""
    n = at.shape[0]
    size = first.shape[0]
    for i in range(size):
        first[i] = -1
    taken = np.empty(n, np.int32)
    count = 0
    for i in range(n):
        if count >= most:
            break
        cx = int(np.floor(at[i, 0] / cell))
        cy = int(np.floor(at[i, 1] / cell))
        cz = int(np.floor(at[i, 2] / cell))
        mine = max(half[i, 0], half[i, 1])
        if not is_round[i]:
            mine = np.sqrt(half[i, 0] ** 2 + half[i, 1] ** 2)
        free = True
        for k in range(27):
            j = first[_bucket(cx + k % 3 - 1, cy + k // 3 % 3 - 1, cz + k // 9 - 1, size)]
            while j >= 0:
                far = (at[i, 0] - at[j, 0]) ** 2 + (at[i, 1] - at[j, 1]) ** 2 + (at[i, 2] - at[j, 2]) ** 2
                yours = max(half[j, 0], half[j, 1])
                if not is_round[j]:
                    yours = np.sqrt(half[j, 0] ** 2 + half[j, 1] ** 2)
                if far < (mine + yours) ** 2 and _gap(i, j, at, normals, heads, half, is_round) < 0:
                    free = False
                    break
                j = after[j]
            if not free:
                break
        if free:
            b = _bucket(cx, cy, cz, size)
            after[i] = first[b]
            first[b] = i
            taken[count] = i
            count += 1
    return taken[:count]


@kernel
def push(
    at: F64,
    normals: F64,
    heads: F64,
    half: F64,
    is_round: AnyArray,
    cell: float,
    slack: float,
    first: I32,
    after: I32,
    cells: I64,
    out: F64,
) -> None:
    """Where each piece gives way to its neighbours: away from those nearer than `slack` of both their sizes."""
    n = at.shape[0]
    size = first.shape[0]
    for i in range(size):
        first[i] = -1
    for i in range(n):
        for k in range(3):
            cells[i, k] = int(np.floor(at[i, k] / cell))
            out[i, k] = 0.0
        b = _bucket(cells[i, 0], cells[i, 1], cells[i, 2], size)
        after[i] = first[b]
        first[b] = i
    for i in range(n):
        mine = (half[i, 0] + half[i, 1]) / 2
        for k in range(27):
            x = cells[i, 0] + k % 3 - 1
            y = cells[i, 1] + k // 3 % 3 - 1
            z = cells[i, 2] + k // 9 - 1
            j = first[_bucket(x, y, z, size)]
            while j >= 0:
                # Other cells may be in the same bucket.
                if j > i and cells[j, 0] == x and cells[j, 1] == y and cells[j, 2] == z:
                    wanted = slack * (mine + (half[j, 0] + half[j, 1]) / 2)
                    dx = at[j, 0] - at[i, 0]
                    dy = at[j, 1] - at[i, 1]
                    dz = at[j, 2] - at[i, 2]
                    far = np.sqrt(dx * dx + dy * dy + dz * dz)
                    reach = half[i, 0] + half[i, 1] + half[j, 0] + half[j, 1] + wanted
                    if 1e-12 < far < reach:
                        lacking = wanted - _gap(i, j, at, normals, heads, half, is_round)
                        if lacking > 0:
                            step = 0.5 * lacking / far
                            out[i, 0] -= dx * step
                            out[i, 1] -= dy * step
                            out[i, 2] -= dz * step
                            out[j, 0] += dx * step
                            out[j, 1] += dy * step
                            out[j, 2] += dz * step
                j = after[j]
