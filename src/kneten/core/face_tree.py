"""A tree of boxes over a mesh's faces: what a line meets, and the nearest place.

Faces are halved again and again at the middle of their longest extent, so that every box has two of half as many faces
in it. Box `b` has the boxes `2 b` and `2 b + 1`, and which faces are in it follows from its number alone.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress, in_parts, inlined, kernel
from kneten.core.mesh import Mesh
from kneten.core.triangles import meet, nearest_place, weights_at

LEAF = 4
"""Faces to a leaf at most. Two make the tree twice as large and searches no faster."""

DEPTH = 64
"""Places on the stack of a search: one to a level is enough."""

CHUNK = 300_000
"""Points searched for between two reports: a third of a second."""


@dataclass(frozen=True)
class Found:
    """The places that were found for points.

    Attributes
    ----------
    faces : (k,) int32
        -1 where there was none.
    corners : (k, 3) int32
        The triangle each lies in, quads cut into two.
    shares : (k, 3) float32
        Weights of its corners.
    """

    faces: I32
    corners: I32
    shares: F32

    @property
    def there(self) -> AnyArray:
        """Which points have a place, (k,) bool."""
        return np.asarray(self.faces >= 0)

    def of(self, values: AnyArray) -> F32:
        """Values (n, c) of the mesh's vertices at the places, (k, c); zero where there is none."""
        out = np.empty((len(self.faces), values.shape[1]), np.float32)
        given = np.ascontiguousarray(values)
        in_parts(
            len(out),
            lambda first, last: _read(given, self.faces, self.corners, self.shares, first, last, out),
        )
        return out


@kernel
def _read(values: F32, faces: I32, corners: I32, shares: F32, first: int, last: int, out: F32) -> None:
    for i in range(first, last):
        for c in range(values.shape[1]):
            total = 0.0
            if faces[i] >= 0:
                for k in range(3):
                    total += np.float64(shares[i, k]) * values[corners[i, k], c]
            out[i, c] = total


@kernel
def _middles(positions: F32, faces: I32, out: F32) -> None:
    for f in range(faces.shape[0]):
        size = 3 if faces[f, 3] < 0 else 4
        for a in range(3):
            total = 0.0
            for c in range(size):
                total += positions[faces[f, c], a]
            out[f, a] = total / size


@kernel
def _halve(middles: F32, order: I32, first: int, last: int, axis: int) -> None:
    """Bring the lower half of some faces, by where their middles lie, before the upper (Hoare 1961)."""
    wanted = (first + last) // 2
    low = first
    high = last - 1
    while low < high:
        pivot = middles[order[(low + high) // 2], axis]
        i = low
        j = high
        while i <= j:
            while middles[order[i], axis] < pivot:
                i += 1
            while middles[order[j], axis] > pivot:
                j -= 1
            if i <= j:
                order[i], order[j] = order[j], order[i]
                i += 1
                j -= 1
        if wanted <= j:
            high = j
        elif wanted >= i:
            low = i
        else:
            return


@kernel
def _sort(middles: F32, order: I32, first: int, last: int, levels: int) -> None:
    """Sort the faces of one box, so many levels down."""
    lasts = np.empty((DEPTH, 3), np.int64)
    lasts[0, 0] = first
    lasts[0, 1] = last
    lasts[0, 2] = levels
    top = 0
    while top >= 0:
        first = lasts[top, 0]
        last = lasts[top, 1]
        left = lasts[top, 2]
        top -= 1
        if left == 0 or last - first < 2:
            continue
        widest = -1.0
        axis = 0
        for a in range(3):
            low = middles[order[first], a]
            high = low
            for k in range(first + 1, last):
                low = min(low, middles[order[k], a])
                high = max(high, middles[order[k], a])
            if high - low > widest:
                widest = high - low
                axis = a
        _halve(middles, order, first, last, axis)
        middle = (first + last) // 2
        for half in range(2):
            top += 1
            lasts[top, 0] = first if half == 0 else middle
            lasts[top, 1] = middle if half == 0 else last
            lasts[top, 2] = left - 1


@kernel
def _bound(positions: F32, faces: I32, order: I32, levels: int, boxes: F32) -> None:
    n = order.shape[0]
    leaves = 1 << levels
    for leaf in range(leaves):
        b = leaves + leaf
        boxes[b, :3] = np.inf
        boxes[b, 3:] = -np.inf
        first, last = _range_of(n, leaf, levels)
        for k in range(first, last):
            for c in range(4):
                v = faces[order[k], c]
                if v < 0:
                    continue
                for a in range(3):
                    boxes[b, a] = min(boxes[b, a], positions[v, a])
                    boxes[b, 3 + a] = max(boxes[b, 3 + a], positions[v, a])
    for b in range(leaves - 1, 0, -1):
        for a in range(3):
            boxes[b, a] = min(boxes[2 * b, a], boxes[2 * b + 1, a])
            boxes[b, 3 + a] = max(boxes[2 * b, 3 + a], boxes[2 * b + 1, 3 + a])


@inlined
def _range_of(n: int, leaf: int, levels: int) -> tuple[int, int]:
    """The places in the order of faces that a leaf has."""
    first = 0
    last = n
    for level in range(levels - 1, -1, -1):
        middle = (first + last) // 2
        if (leaf >> level) & 1:
            first = middle
        else:
            last = middle
    return first, last


@inlined
def _box_distance(boxes: F32, b: int, x: float, y: float, z: float) -> float:
    """Squared distance of a place from a box."""
    dx = max(max(boxes[b, 0] - x, x - boxes[b, 3]), 0.0)
    dy = max(max(boxes[b, 1] - y, y - boxes[b, 4]), 0.0)
    dz = max(max(boxes[b, 2] - z, z - boxes[b, 5]), 0.0)
    return dx * dx + dy * dy + dz * dz


@inlined
def _way_to(
    boxes: F32,
    b: int,
    x: float,
    y: float,
    z: float,
    ix: float,
    iy: float,
    iz: float,
    nx: int,
    ny: int,
    nz: int,
    back: float,
    ahead: float,
) -> float:
    """How far along a line, either way, a box is between two places of it; infinity where it is not met.

    `ix`, `iy`, `iz` are one over the line's way, `nx`, `ny`, `nz` the numbers of the sides it enters by.
    """
    low = back
    high = ahead
    # Written so that a NaN (a line in the box's wall) leaves the limits as they are.
    t = (boxes[b, nx] - x) * ix
    low = t if t > low else low
    t = (boxes[b, 3 - nx] - x) * ix
    high = t if t < high else high
    t = (boxes[b, ny] - y) * iy
    low = t if t > low else low
    t = (boxes[b, 5 - ny] - y) * iy
    high = t if t < high else high
    t = (boxes[b, nz] - z) * iz
    low = t if t > low else low
    t = (boxes[b, 7 - nz] - z) * iz
    high = t if t < high else high
    slack = 1e-6 * (abs(low) + abs(high)) + 1e-12
    far = low if low > 0.0 else (-high if high < 0.0 else 0.0)
    return far if low <= high + slack else np.inf


@inlined
def _faces_with(positions: F32, a: int, b: int, c: int, way: F64, least: float) -> bool:
    """Whether a triangle's normal leans towards a way by at least a cosine."""
    ux = np.float64(positions[b, 0]) - positions[a, 0]
    uy = np.float64(positions[b, 1]) - positions[a, 1]
    uz = np.float64(positions[b, 2]) - positions[a, 2]
    wx = np.float64(positions[c, 0]) - positions[a, 0]
    wy = np.float64(positions[c, 1]) - positions[a, 1]
    wz = np.float64(positions[c, 2]) - positions[a, 2]
    x = uy * wz - uz * wy
    y = uz * wx - ux * wz
    z = ux * wy - uy * wx
    dot = x * way[0] + y * way[1] + z * way[2]
    return dot >= least * np.sqrt(x * x + y * y + z * z)


@kernel
def _along(
    boxes: F32,
    levels: int,
    order: I32,
    positions: F32,
    faces: I32,
    points: F32,
    ways: F32,
    back: float,
    ahead: float,
    facing: float,
    first: int,
    last: int,
    found: I32,
    corners: I32,
    shares: F32,
    distances: F32,
) -> None:
    leaves = 1 << levels
    waiting = np.empty(DEPTH, np.int64)
    off = np.empty(DEPTH)
    point, way, spot = np.empty(3), np.empty(3), np.empty(3)
    for i in range(first, last):
        for a in range(3):
            point[a] = points[i, a]
            way[a] = ways[i, a]
        x = point[0]
        y = point[1]
        z = point[2]
        ix = 1.0 / way[0] if way[0] != 0.0 else np.inf
        iy = 1.0 / way[1] if way[1] != 0.0 else np.inf
        iz = 1.0 / way[2] if way[2] != 0.0 else np.inf
        nx = 0 if ix > 0.0 else 3
        ny = 1 if iy > 0.0 else 4
        nz = 2 if iz > 0.0 else 5
        found[i] = -1
        best = np.inf
        # A line without a way (of a face without a size) meets nothing, but would be in every box.
        top = -1 if way[0] == 0.0 and way[1] == 0.0 and way[2] == 0.0 else 0
        waiting[0] = 1
        off[0] = 0.0
        while top >= 0:
            box = waiting[top]
            far = off[top]
            top -= 1
            if far == np.inf or far > best:
                continue
            if box < leaves:
                # The nearer one comes last, to be looked into first.
                low = -min(back, best)
                high = min(ahead, best)
                here = _way_to(boxes, 2 * box, x, y, z, ix, iy, iz, nx, ny, nz, low, high)
                there = _way_to(boxes, 2 * box + 1, x, y, z, ix, iy, iz, nx, ny, nz, low, high)
                nearer = 0 if here <= there else 1
                top += 1
                waiting[top] = 2 * box + 1 - nearer
                off[top] = there if nearer == 0 else here
                top += 1
                waiting[top] = 2 * box + nearer
                off[top] = here if nearer == 0 else there
                continue
            begin, end = _range_of(order.shape[0], box - leaves, levels)
            for k in range(begin, end):
                f = order[k]
                for half in range(2):
                    if half == 1 and faces[f, 3] < 0:
                        break
                    a = faces[f, 0]
                    b = faces[f, 1 + half]
                    c = faces[f, 2 + half]
                    t = meet(positions, a, b, c, point, way, spot)
                    if not (-back <= t <= ahead) or abs(t) >= best:
                        continue
                    if not _faces_with(positions, a, b, c, way, facing):
                        continue
                    best = abs(t)
                    distances[i] = t
                    found[i] = f
                    corners[i, 0] = a
                    corners[i, 1] = b
                    corners[i, 2] = c
                    for j in range(3):
                        shares[i, j] = spot[j]


@kernel
def _nearest(
    boxes: F32,
    levels: int,
    order: I32,
    positions: F32,
    faces: I32,
    points: F32,
    ways: F32,
    reaches: F32,
    facing: float,
    rows: I32,
    first: int,
    last: int,
    found: I32,
    corners: I32,
    shares: F32,
    distances: F32,
) -> None:
    leaves = 1 << levels
    waiting = np.empty(DEPTH, np.int64)
    off = np.empty(DEPTH)
    point, way, spot = np.empty(3), np.empty(3), np.empty(3)
    at = np.empty((3, 3))
    for r in range(first, last):
        i = rows[r]
        for a in range(3):
            point[a] = points[i, a]
            way[a] = ways[i, a]
        best = float(reaches[i]) ** 2
        top = 0
        waiting[0] = 1
        off[0] = 0.0
        while top >= 0:
            box = waiting[top]
            far = off[top]
            top -= 1
            if far >= best:
                continue
            if box < leaves:
                here = _box_distance(boxes, 2 * box, point[0], point[1], point[2])
                there = _box_distance(boxes, 2 * box + 1, point[0], point[1], point[2])
                nearer = 0 if here <= there else 1
                top += 1
                waiting[top] = 2 * box + 1 - nearer
                off[top] = there if nearer == 0 else here
                top += 1
                waiting[top] = 2 * box + nearer
                off[top] = here if nearer == 0 else there
                continue
            begin, end = _range_of(order.shape[0], box - leaves, levels)
            for k in range(begin, end):
                f = order[k]
                for half in range(2):
                    if half == 1 and faces[f, 3] < 0:
                        break
                    a = faces[f, 0]
                    b = faces[f, 1 + half]
                    c = faces[f, 2 + half]
                    if facing > -1.0 and not _faces_with(positions, a, b, c, way, facing):
                        continue
                    for j in range(3):
                        at[0, j] = positions[a, j]
                        at[1, j] = positions[b, j]
                        at[2, j] = positions[c, j]
                    d = nearest_place(point, at, spot)
                    if d >= best:
                        continue
                    best = d
                    found[i] = f
                    corners[i, 0] = a
                    corners[i, 1] = b
                    corners[i, 2] = c
                    weights_at(at, spot, shares[i])
                    distances[i] = np.sqrt(d)


@dataclass(frozen=True, eq=False)
class FaceTree:
    """The tree over faces as they were when it was made.

    Attributes
    ----------
    positions : (n, 3) float32
    faces : (f, 4) int32
    boxes : (2 x leaves, 6) float32
        The first is none, the second around all, the second half are the leaves.
    levels : int
        There are two to the power of this many leaves.
    order : (f,) int32
        The faces, leaf after leaf.
    """

    positions: F32
    faces: I32
    boxes: F32
    levels: int
    order: I32

    @classmethod
    def of(cls, mesh: Mesh) -> FaceTree:
        """Grow a tree over a mesh."""
        return cls.over(mesh.positions, mesh.topology.faces)

    @classmethod
    def over(cls, positions: F32, faces: I32) -> FaceTree:
        """Grow a tree over faces (f, 4), -1 for a triangle's last corner."""
        n = len(faces)
        levels = max(int(np.ceil(np.log2(max(n / LEAF, 1)))), 0)
        middles = np.empty((n, 3), np.float32)
        _middles(positions, faces, middles)
        order = np.arange(n, dtype=np.int32)
        # The halves of the whole one after the other, then each on a thread of its own.
        _sort(middles, order, 0, n, min(levels, 1))
        if levels > 1:
            ends = (0, n // 2, n)

            def half(first: int, last: int) -> None:
                for k in (0, 1):
                    if first <= k * n // 2 < last:
                        _sort(middles, order, ends[k], ends[k + 1], levels - 1)

            in_parts(n, half)
        boxes = np.empty((2 << levels, 6), np.float32)
        _bound(positions, faces, order, levels, boxes)
        return cls(positions, faces, boxes, levels, order)

    def _blank(self, n: int) -> tuple[Found, F32]:
        found = Found(np.full(n, -1, np.int32), np.zeros((n, 3), np.int32), np.zeros((n, 3), np.float32))
        return found, np.full(n, np.inf, np.float32)

    def along(
        self,
        points: F32,
        ways: F32,
        back: float,
        ahead: float,
        facing: float,
        progress: Progress,
        share: tuple[float, float] = (0.0, 1.0),
    ) -> tuple[Found, F32]:
        """What lines through points meet next to them.

        Parameters
        ----------
        points, ways : (k, 3) float32
            The ways are unit vectors.
        back, ahead : float
            How far the lines go against and along their ways.
        facing : float
            Least cosine between a way and the normal of a face that counts.
        share : two floats
            What part of the progress this is.

        Returns
        -------
        found : Found
        distances : (k,) float32
            Along the way, below zero against it; infinite where there is nothing.
        """
        found, distances = self._blank(len(points))
        for start in range(0, len(points), CHUNK):
            progress.report(
                share[0] + (share[1] - share[0]) * start / len(points), "Looking along the normals"
            )

            def some(first: int, last: int, start: int = start) -> None:
                _along(
                    self.boxes, self.levels, self.order, self.positions, self.faces, points, ways,
                    back, ahead, facing, start + first, start + last,
                    found.faces, found.corners, found.shares, distances,
                )  # fmt: skip

            in_parts(min(CHUNK, len(points) - start), some)
        return found, distances

    def nearest(
        self,
        points: F32,
        reaches: F32,
        progress: Progress,
        ways: F32 | None = None,
        facing: float = -2.0,
        rows: I32 | None = None,
        into: tuple[Found, F32] | None = None,
        share: tuple[float, float] = (0.0, 1.0),
    ) -> tuple[Found, F32]:
        """The nearest places to points.

        Parameters
        ----------
        points : (k, 3) float32
        reaches : (k,) float32
            How far each may be; infinite for any distance.
        ways, facing
            As for `along`; all faces count at -1 and below.
        rows : (m,) int32, optional
            The only points to look for.
        into : (Found, distances), optional
            Where what is found is written; the rest of it stays.

        Returns
        -------
        found : Found
        distances : (k,) float32
            Infinite where there is nothing within reach.
        """
        found, distances = into or self._blank(len(points))
        rows = np.arange(len(points), dtype=np.int32) if rows is None else rows
        ways = points if ways is None else ways
        for start in range(0, len(rows), CHUNK):
            progress.report(
                share[0] + (share[1] - share[0]) * start / len(rows), "Looking for what is nearest"
            )

            def some(first: int, last: int, start: int = start) -> None:
                _nearest(
                    self.boxes, self.levels, self.order, self.positions, self.faces, points, ways, reaches,
                    facing, rows, start + first, start + last,
                    found.faces, found.corners, found.shares, distances,
                )  # fmt: skip

            in_parts(min(CHUNK, len(rows) - start), some)
        return found, distances
