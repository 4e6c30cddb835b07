"""The kernels of decimating: quadrics of faces, costs of edges, and edges drawn together."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F64, I32, U8, inlined, kernel

BORDER = 30.0
"""Weight of the planes that hold borders, against those of faces."""

NEEDLE = 0.05
"""Twice the area by the sum of the squared sides, up to which a face is a needle: 0.58 where all sides are alike, 0.05 at
an angle of 6 degrees between two long ones."""

WORSE = 0.8
"""Share of its goodness that what was a needle before must keep each time."""

SHORT = 1e-8
"""What an edge costs by its squared length alone: where all is flat, the short ones go first."""

COLOUR = 0.05
"""What a full difference of colour costs, as a distance in bodies: a tenth of it as much as a hollow of 0.5 %."""


@kernel
def _plane(q: F64, v: int, a: float, b: float, c: float, d: float, w: float) -> None:
    q[v, 0] += w * a * a
    q[v, 1] += w * a * b
    q[v, 2] += w * a * c
    q[v, 3] += w * a * d
    q[v, 4] += w * b * b
    q[v, 5] += w * b * c
    q[v, 6] += w * b * d
    q[v, 7] += w * c * c
    q[v, 8] += w * c * d
    q[v, 9] += w * d * d


@kernel
def _error_at(q: F64, u: int, v: int, x: float, y: float, z: float) -> float:
    """The sum of both vertices' quadrics at a place."""
    a = q[u, 0] + q[v, 0]
    b = q[u, 1] + q[v, 1]
    c = q[u, 2] + q[v, 2]
    d = q[u, 3] + q[v, 3]
    e = q[u, 4] + q[v, 4]
    f = q[u, 5] + q[v, 5]
    g = q[u, 6] + q[v, 6]
    h = q[u, 7] + q[v, 7]
    i = q[u, 8] + q[v, 8]
    j = q[u, 9] + q[v, 9]
    return (
        a * x * x + 2 * b * x * y + 2 * c * x * z + 2 * d * x + e * y * y + 2 * f * y * z + 2 * g * y + h * z * z
        + 2 * i * z + j
    )  # fmt: skip


@kernel
def _best(q: F64, p: F64, kind: U8, rest: F64, weight: F64, u: int, v: int, out: F64) -> float:
    """The cost of drawing an edge together, and the best place for it in `out` (3,)."""
    a = q[u, 0] + q[v, 0]
    b = q[u, 1] + q[v, 1]
    c = q[u, 2] + q[v, 2]
    d = q[u, 3] + q[v, 3]
    e = q[u, 4] + q[v, 4]
    f = q[u, 5] + q[v, 5]
    g = q[u, 6] + q[v, 6]
    h = q[u, 7] + q[v, 7]
    i = q[u, 8] + q[v, 8]
    det = a * (e * h - f * f) - b * (b * h - f * c) + c * (b * f - e * c)
    size = a + e + h
    found = False
    error = 0.0
    if abs(det) > 1e-4 * size * size * size and kind[u] == 0 and kind[v] == 0:
        out[0] = -(d * (e * h - f * f) - b * (g * h - f * i) + c * (g * f - e * i)) / det
        out[1] = -(a * (g * h - i * f) - d * (b * h - f * c) + c * (b * i - g * c)) / det
        out[2] = -(a * (e * i - f * g) - b * (b * i - g * c) + d * (b * f - e * c)) / det
        # A place far from the edge is one of nearly parallel planes: it tells nothing.
        far = 0.0
        long = 0.0
        for k in range(3):
            far += (out[k] - 0.5 * (p[u, k] + p[v, k])) ** 2
            long += (p[u, k] - p[v, k]) ** 2
        found = far < 4.0 * long
        if found:
            error = _error_at(q, u, v, out[0], out[1], out[2])
    if not found:
        error = np.inf
        for step in range(3):
            s = 0.5 * step
            if kind[u] != kind[v] and (
                (kind[u] > kind[v] and step != 0) or (kind[v] > kind[u] and step != 2)
            ):
                continue  # What is on a border, or a corner of one, stays.
            x = p[u, 0] + s * (p[v, 0] - p[u, 0])
            y = p[u, 1] + s * (p[v, 1] - p[u, 1])
            z = p[u, 2] + s * (p[v, 2] - p[u, 2])
            at = _error_at(q, u, v, x, y, z)
            if at < error:
                error = at
                out[0] = x
                out[1] = y
                out[2] = z
    apart = 0.0
    for k in range(min(rest.shape[1], 3)):
        apart += (rest[u, k] - rest[v, k]) ** 2
    long = 0.0
    for k in range(3):
        long += (p[u, k] - p[v, k]) ** 2
    error += (apart * COLOUR * COLOUR + SHORT) * long
    return max(error, 0.0) * max(weight[u], weight[v])


@kernel
def begin(p: F64, tri: I32, edge_open: U8, q: F64, normals: F64) -> None:
    """Quadrics of faces and of borders, and the faces' normals."""
    for t in range(tri.shape[0]):
        a, b, c = tri[t, 0], tri[t, 1], tri[t, 2]
        ux = p[b, 0] - p[a, 0]
        uy = p[b, 1] - p[a, 1]
        uz = p[b, 2] - p[a, 2]
        wx = p[c, 0] - p[a, 0]
        wy = p[c, 1] - p[a, 1]
        wz = p[c, 2] - p[a, 2]
        x = uy * wz - uz * wy
        y = uz * wx - ux * wz
        z = ux * wy - uy * wx
        length = np.sqrt(x * x + y * y + z * z)
        if length > 0.0:
            x /= length
            y /= length
            z /= length
        normals[t, 0] = x
        normals[t, 1] = y
        normals[t, 2] = z
        d = -(x * p[a, 0] + y * p[a, 1] + z * p[a, 2])
        for k in range(3):
            _plane(q, tri[t, k], x, y, z, d, 1.0)
        for k in range(3):
            if edge_open[t] & (1 << k) == 0:
                continue
            u = tri[t, k]
            v = tri[t, (k + 1) % 3]
            ex = p[v, 0] - p[u, 0]
            ey = p[v, 1] - p[u, 1]
            ez = p[v, 2] - p[u, 2]
            bx = ey * z - ez * y
            by = ez * x - ex * z
            bz = ex * y - ey * x
            long = np.sqrt(bx * bx + by * by + bz * bz)
            if long > 0.0:
                bx /= long
                by /= long
                bz /= long
                off = -(bx * p[u, 0] + by * p[u, 1] + bz * p[u, 2])
                _plane(q, u, bx, by, bz, off, BORDER)
                _plane(q, v, bx, by, bz, off, BORDER)


@kernel
def _leads(kind: U8, u: int, v: int) -> bool:
    """Whether a triangle weighs its edge from `u` to `v`: of the two along an inner edge one does."""
    return u < v or (kind[u] & 1 != 0 and kind[v] & 1 != 0)


@kernel
def errors(
    tri: I32, p: F64, q: F64, kind: U8, rest: F64, weight: F64, first: int, last: int, err: F64
) -> None:
    """What each edge of some triangles costs, and the least of the three."""
    out = np.empty(3)
    for t in range(first, last):
        least = np.inf
        for k in range(3):
            u = tri[t, k]
            v = tri[t, (k + 1) % 3]
            err[t, k] = np.inf
            if _leads(kind, u, v):
                err[t, k] = _best(q, p, kind, rest, weight, u, v, out)
            least = min(least, err[t, k])
        err[t, 3] = least


@kernel
def rings(tri: I32, n: int, n_tri: int, start: I32, count: I32, refs: I32) -> int:
    """The triangles around each vertex, as runs of `refs`; how long that is."""
    count[:] = 0
    for t in range(n_tri):
        for k in range(3):
            count[tri[t, k]] += 1
    total = 0
    for v in range(n):
        start[v] = total
        total += count[v]
        count[v] = 0
    for t in range(n_tri):
        for k in range(3):
            v = tri[t, k]
            refs[start[v] + count[v]] = t
            count[v] += 1
    return total


@inlined
def _weighed(
    p: F64, a: int, b: int, x: float, y: float, z: float, normals: F64, t: int
) -> tuple[float, float, float]:
    """Of the face from a place over `a` and `b`: twice its area along its old normal, twice its area, its squared sides."""
    ux = p[a, 0] - x
    uy = p[a, 1] - y
    uz = p[a, 2] - z
    wx = p[b, 0] - x
    wy = p[b, 1] - y
    wz = p[b, 2] - z
    nx = uy * wz - uz * wy
    ny = uz * wx - ux * wz
    nz = ux * wy - uy * wx
    sides = ux * ux + uy * uy + uz * uz + wx * wx + wy * wy + wz * wz
    sides += (ux - wx) ** 2 + (uy - wy) ** 2 + (uz - wz) ** 2
    facing = nx * normals[t, 0] + ny * normals[t, 1] + nz * normals[t, 2]
    return facing, np.sqrt(nx * nx + ny * ny + nz * nz), sides


@kernel
def _turns_over(
    p: F64, tri: I32, gone: U8, normals: F64, start: I32, count: I32, refs: I32, u: int, v: int, at: F64
) -> bool:
    """Whether a face around `u`, without those of `v`, would turn over or become a needle."""
    for i in range(start[u], start[u] + count[u]):
        t = refs[i]
        if gone[t] != 0:
            continue
        k = 0
        while k < 2 and tri[t, k] != u:
            k += 1
        a = tri[t, (k + 1) % 3]
        b = tri[t, (k + 2) % 3]
        if v in (a, b):
            continue
        if normals[t, 0] == 0.0 and normals[t, 1] == 0.0 and normals[t, 2] == 0.0:
            continue  # It had no area before.
        facing, area, sides = _weighed(p, a, b, at[0], at[1], at[2], normals, t)
        if facing < 0.25 * area:
            return True
        if area < NEEDLE * sides:
            # What was a needle before may be one still, but hardly worse.
            _, before, longer = _weighed(p, a, b, p[u, 0], p[u, 1], p[u, 2], normals, t)
            if before >= NEEDLE * longer or area * longer <= before * sides * WORSE:
                return True
    return False


@kernel
def _pinches(
    tri: I32, gone: U8, start: I32, count: I32, refs: I32, stamp: I32, mark: int, u: int, v: int
) -> bool:
    """Whether other vertices than those across the edge lie beside both: drawn together, two sheets would meet."""
    across = 0
    for i in range(start[u], start[u] + count[u]):
        t = refs[i]
        if gone[t] != 0:
            continue
        has = False
        for k in range(3):
            stamp[tri[t, k]] = mark
            has = has or tri[t, k] == v
        if has:
            across += 1
    beside = 0
    for i in range(start[v], start[v] + count[v]):
        t = refs[i]
        if gone[t] != 0:
            continue
        for k in range(3):
            w = tri[t, k]
            if w not in (u, v) and stamp[w] == mark:
                stamp[w] = mark - 1
                beside += 1
    return beside != across


@kernel
def _may_go_together(tri: I32, gone: U8, kind: U8, start: I32, count: I32, refs: I32, u: int, v: int) -> bool:
    """Whether borders allow it: two places of borders go together along one border only."""
    if kind[u] == 0 or kind[v] == 0:
        return True
    if kind[u] >= 4 or kind[v] >= 4 or (kind[u] & kind[v]) == 0:
        return False
    if kind[u] & 1 == 0:
        return True
    shared = 0
    for i in range(start[u], start[u] + count[u]):
        s = refs[i]
        if gone[s] == 0 and v in (tri[s, 0], tri[s, 1], tri[s, 2]):
            shared += 1
    return shared == 1


@kernel
def _bridges(tri: I32, gone: U8, kind: U8, start: I32, count: I32, refs: I32, u: int, v: int) -> bool:
    """Whether an edge from one place of an open border to another, across the clay, would come to be.

    Where the border is to be a seam, that edge would have four faces.
    """
    if kind[u] & 1 == kind[v] & 1:
        return False
    b, inner = (u, v) if kind[u] & 1 else (v, u)
    for i in range(start[inner], start[inner] + count[inner]):
        t = refs[i]
        if gone[t] != 0:
            continue
        for k in range(3):
            w = tri[t, k]
            if w in (b, inner) or kind[w] & 1 == 0:
                continue
            shared = 0
            for j in range(start[b], start[b] + count[b]):
                s = refs[j]
                if gone[s] == 0 and w in (tri[s, 0], tri[s, 1], tri[s, 2]):
                    shared += 1
            if shared != 1:
                return True
    return False


@kernel
def _draw_together(
    tri: I32,
    gone: U8,
    dirty: U8,
    p: F64,
    q: F64,
    kind: U8,
    rest: F64,
    weight: F64,
    start: I32,
    count: I32,
    refs: I32,
    n_refs: int,
    u: int,
    v: int,
    at: F64,
) -> tuple[int, int]:
    """Draw an edge together into its first end; the new end of the lists of rings, and how many triangles went."""
    share = 0.0
    long = 0.0
    for c in range(3):
        share += (at[c] - p[u, c]) * (p[v, c] - p[u, c])
        long += (p[v, c] - p[u, c]) ** 2
    share = min(max(share / long, 0.0), 1.0) if long > 0.0 else 0.0
    if share > 0.5:
        # Those of the nearer end: blended with every collapse, borders of colours would run.
        for c in range(rest.shape[1]):
            rest[u, c] = rest[v, c]
    weight[u] = max(weight[u], weight[v])
    kind[u] |= kind[v]
    for c in range(3):
        p[u, c] = at[c]
    for c in range(10):
        q[u, c] += q[v, c]
    first = n_refs
    lost = 0
    for side in range(2):
        w = u if side == 0 else v
        other = v if side == 0 else u
        for i in range(start[w], start[w] + count[w]):
            s = refs[i]
            if gone[s] != 0:
                continue
            if other in (tri[s, 0], tri[s, 1], tri[s, 2]):
                gone[s] = 1
                lost += 1
                continue
            for c in range(3):
                if tri[s, c] == v:
                    tri[s, c] = u
            dirty[s] = 1
            refs[n_refs] = s
            n_refs += 1
    start[u] = first
    count[u] = n_refs - first
    count[v] = 0
    return n_refs, lost


@kernel
def _cost_anew(
    tri: I32,
    err: F64,
    p: F64,
    q: F64,
    kind: U8,
    rest: F64,
    weight: F64,
    refs: I32,
    first: int,
    last: int,
    u: int,
    at: F64,
) -> None:
    """The costs of the edges around a place that has moved."""
    for i in range(first, last):
        s = refs[i]
        least = np.inf
        for c in range(3):
            a = tri[s, c]
            b = tri[s, (c + 1) % 3]
            if u in (a, b):  # The edge across has not changed.
                err[s, c] = np.inf
                if _leads(kind, a, b):
                    err[s, c] = _best(q, p, kind, rest, weight, a, b, at)
            least = min(least, err[s, c])
        err[s, 3] = least


@kernel
def draw_edges(
    tri: I32,
    gone: U8,
    dirty: U8,
    normals: F64,
    err: F64,
    p: F64,
    q: F64,
    kind: U8,
    rest: F64,
    weight: F64,
    start: I32,
    count: I32,
    refs: I32,
    n_refs: int,
    stamp: I32,
    mark: int,
    limit: float,
    most: int,
    n_tri: int,
    seam: bool,
) -> tuple[int, int, int]:
    """Draw edges together that cost less than a limit, until `most` triangles are gone.

    Of a `seam` the two halves of mirrored clay will be joined at their open border.
    """
    at = np.empty(3)
    taken = 0
    for t in range(n_tri):
        if gone[t] != 0 or dirty[t] != 0 or err[t, 3] >= limit:
            continue
        for k in range(3):
            if err[t, k] >= limit:
                continue
            u = tri[t, k]
            v = tri[t, (k + 1) % 3]
            cost = _best(q, p, kind, rest, weight, u, v, at)
            if cost >= limit:
                continue
            mark += 2
            if not _may_go_together(tri, gone, kind, start, count, refs, u, v):
                continue
            if _pinches(tri, gone, start, count, refs, stamp, mark, u, v):
                continue
            if seam and _bridges(tri, gone, kind, start, count, refs, u, v):
                continue
            if _turns_over(p, tri, gone, normals, start, count, refs, u, v, at):
                continue
            if _turns_over(p, tri, gone, normals, start, count, refs, v, u, at):
                continue
            if n_refs + count[u] + count[v] > refs.shape[0]:
                return taken, n_refs, mark
            first = n_refs
            n_refs, lost = _draw_together(
                tri, gone, dirty, p, q, kind, rest, weight, start, count, refs, n_refs, u, v, at
            )
            taken += lost
            _cost_anew(tri, err, p, q, kind, rest, weight, refs, first, n_refs, u, at)
            break
        if taken >= most:
            break
    return taken, n_refs, mark


@kernel
def compact(tri: I32, gone: U8, normals: F64, err: F64, owner: I32, n_tri: int) -> int:
    """Take triangles that are gone out of the arrays; how many are left."""
    n = 0
    for t in range(n_tri):
        if gone[t] != 0:
            continue
        for k in range(3):
            tri[n, k] = tri[t, k]
            normals[n, k] = normals[t, k]
        for k in range(4):
            err[n, k] = err[t, k]
        owner[n] = owner[t]
        n += 1
    gone[:n] = 0
    return n
