"""Few triangles that stand in for many while things move: over the same vertices, so that they follow strokes."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, I64, kernel

MANY = 200
"""Pieces from which on each of them has triangles of its own in the stand-in: joined by cells they would be shreds."""

ROOF = 4
"""Triangles of a piece's stand-in: a roof over the ends of its two longer axes."""


@kernel
def _runs_to_middle(positions: F32, low: F64, cell: float, stands: I32) -> int:
    """Vertices follow a space-filling curve, so those of one cell lie in one run (or few)."""
    first = 0
    count = 0
    before = (-1, -1, -1)
    n = positions.shape[0]
    for v in range(n + 1):
        here = (-2, -2, -2)
        if v < n:
            here = (
                int((positions[v, 0] - low[0]) / cell),
                int((positions[v, 1] - low[1]) / cell),
                int((positions[v, 2] - low[2]) / cell),
            )
        if here != before:
            middle = (first + v) // 2
            for u in range(first, v):
                stands[u] = middle
            first = v
            before = here
            count += 1
    return count


@kernel
def _cells_to_first(positions: F32, low: F64, cell: float, keys: I64, firsts: I32, stands: I32) -> bool:
    """The same for vertices in any order, by a table of cells; False when there are too many for it."""
    room = keys.shape[0] - 1
    count = 0
    for v in range(positions.shape[0]):
        i = np.int64((positions[v, 0] - low[0]) / cell)
        j = np.int64((positions[v, 1] - low[1]) / cell)
        k = np.int64((positions[v, 2] - low[2]) / cell)
        key = (i << 40) | (j << 20) | k
        at = ((key * 0x9E3779B97F4A7C1) >> 20) & room
        while keys[at] != key:
            if keys[at] < 0:
                keys[at] = key
                firsts[at] = v
                count += 1
                if 2 * count > room:
                    return False
                break
            at = (at + 1) & room
        stands[v] = firsts[at]
    return True


@kernel
def _keep_triangles(triangles: I32, stands: I32, out: I32) -> int:
    n = 0
    for t in range(triangles.shape[0]):
        a = stands[triangles[t, 0]]
        b = stands[triangles[t, 1]]
        c = stands[triangles[t, 2]]
        if a != b and b != c and a != c:
            out[n, 0] = a
            out[n, 1] = b
            out[n, 2] = c
            n += 1
    return n


def stand_in(positions: F32, triangles: I32, target: int, bounds: tuple[F32, F32]) -> I32:
    """Fewer triangles over the same vertices, by clustering, about `target` or fewer, (t, 3) int32.

    Because they use the part's own vertices, they follow its strokes without being built again.
    `bounds` are the low and high corner of the box around all positions. Where they are of many pieces, each has a roof.
    """
    if len(triangles) > MANY * 2 * ROOF:
        labels = np.empty(len(positions), np.int32)
        count = _number_pieces(triangles, labels)
        if MANY < count < len(triangles) // (2 * ROOF):
            return _roofs(positions, labels, count, target)
    low = bounds[0].astype(np.float64)
    extent = float((bounds[1] - low).max()) or 1.0
    stands = np.empty(len(positions), np.int32)
    out = np.empty_like(triangles)
    # Cells halve until the count is reached: the surface's area decides, unknown before.
    kept = np.empty((0, 3), np.int32)
    for bits in range(4, 12):
        _runs_to_middle(positions, low, extent * 1.0001 / (1 << bits), stands)
        n = _keep_triangles(triangles, stands, out)
        if n > target:
            break
        kept = out[:n].copy()
    if len(kept):
        return kept
    # Vertices that follow no curve through space: cells of the size that the surface's area asks for.
    some = triangles[:: max(len(triangles) // 20_000, 1)]
    a, b, c = (positions[some[:, k]].astype(np.float64) for k in range(3))
    area = float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum()) / 2 * len(triangles) / len(some)
    cell = max(np.sqrt(2 * area / target), extent / (1 << 18))
    while True:
        keys = np.full(1 << 20, -1, np.int64)
        if _cells_to_first(positions, low, cell, keys, np.empty(len(keys), np.int32), stands):
            n = _keep_triangles(triangles, stands, out)
            if n <= target:
                return out[:n].copy()
        cell *= 1.25


# -- many pieces -------------------------------------------------------------------------------------


@kernel
def _number_pieces(triangles: I32, labels: I32) -> int:
    """Number the pieces that hang together by triangles, 0 and on, vertex by vertex; -1 where there is none."""
    n = labels.shape[0]
    root = np.empty(n, np.int32)
    for v in range(n):
        root[v] = v
        labels[v] = -1
    for t in range(triangles.shape[0]):
        a = triangles[t, 0]
        for k in range(1, 3):
            b = triangles[t, k]
            while root[a] != a:
                root[a] = root[root[a]]
                a = root[a]
            while root[b] != b:
                root[b] = root[root[b]]
                b = root[b]
            if a < b:
                root[b] = a
            else:
                root[a] = b
                a = b
    used = np.zeros(n, np.uint8)
    for t in range(triangles.shape[0]):
        for k in range(3):
            used[triangles[t, k]] = 1
    count = 0
    for v in range(n):
        if not used[v]:
            continue
        r = v
        while root[r] != r:
            r = root[r]
        # The least vertex of a piece is its root: it is met first.
        if r == v:
            labels[v] = count
            count += 1
        else:
            labels[v] = labels[r]
    return count


@kernel
def _sum_pieces(positions: F32, labels: I32, means: F64, spreads: F64) -> None:
    """The middle (k, 3) of each piece's vertices, and how they spread (k, 3, 3)."""
    counts = np.zeros(means.shape[0], np.int64)
    for v in range(positions.shape[0]):
        piece = labels[v]
        if piece >= 0:
            counts[piece] += 1
            for i in range(3):
                means[piece, i] += positions[v, i]
    for piece in range(means.shape[0]):
        for i in range(3):
            means[piece, i] /= counts[piece]
    for v in range(positions.shape[0]):
        piece = labels[v]
        if piece >= 0:
            for i in range(3):
                for j in range(3):
                    spreads[piece, i, j] += (positions[v, i] - means[piece, i]) * (
                        positions[v, j] - means[piece, j]
                    )


@kernel
def _find_ends(positions: F32, labels: I32, means: F64, axes: F64, far: F64, ends: I32) -> None:
    """The vertices farthest along the axes (rows of (k, 3, 3)) of each piece, back and ahead, (k, 6)."""
    for v in range(positions.shape[0]):
        piece = labels[v]
        if piece < 0:
            continue
        for axis in range(3):
            along = 0.0
            for i in range(3):
                along += axes[piece, axis, i] * (positions[v, i] - means[piece, i])
            for side in range(2):
                reach = along if side else -along
                if reach > far[piece, 2 * axis + side]:
                    far[piece, 2 * axis + side] = reach
                    ends[piece, 2 * axis + side] = v


def _roofs(positions: F32, labels: I32, count: int, target: int) -> I32:
    """For each piece four triangles, from the ends of its two longer axes to where it stands out most along the third."""
    means = np.zeros((count, 3))
    spreads = np.zeros((count, 3, 3))
    _sum_pieces(positions, labels, means, spreads)
    # Columns of increasing spread, as rows with the longest first.
    axes = np.ascontiguousarray(np.linalg.eigh(spreads)[1].transpose(0, 2, 1)[:, ::-1])
    flip = np.linalg.det(axes) < 0
    axes[flip, 2] *= -1
    far = np.full((count, 6), -np.inf)
    ends = np.zeros((count, 6), np.int32)
    _find_ends(positions, labels, means, axes, far, ends)
    # What lies in the plane of the four ends is the foot: the other side is the roof's.
    plane = np.einsum("nkx,nx->nk", positions[ends[:, :4]] - means[:, None], axes[:, 2]).mean(axis=1)
    up = far[:, 5] - plane > far[:, 4] + plane
    top = np.where(up, ends[:, 5], ends[:, 4])
    round_it = ends[:, [1, 3, 0, 2]]
    round_it = np.where(up[:, None], round_it, round_it[:, ::-1])
    roofs = np.stack([np.stack([round_it[:, k], round_it[:, (k + 1) % 4], top], -1) for k in range(4)], 1)
    if ROOF * count > target:
        # More than can be drawn: every second, third, ... of them is.
        roofs = roofs[:: -(-ROOF * count // target)]
    flat = roofs.reshape(-1, 3)
    there = (flat[:, 0] != flat[:, 1]) & (flat[:, 1] != flat[:, 2]) & (flat[:, 0] != flat[:, 2])
    return np.ascontiguousarray(flat[there], np.int32)
