"""Keeps a dab from folding clay: where a face would turn over beside its neighbours, the clay moves less.

A corner of a face is folded when it stands more than 75 degrees off the normal of its vertex; two faces that share an
edge are then at most 150 degrees apart. What was folded before may stay as it is, or get better.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import DAB_PART, F32, F64, I32, U8, U32, at_once, inlined, kernel, parts_of
from kneten.core.mesh import Mesh
from kneten.core.topology import NO_CORNER, PATCH, PATCH_BITS

FOLDED = 0.27
"""Cosine of the angle between a face's corner and its vertex's normal from which on it counts as folded: 75 degrees."""

SAME = 1e-5
"""By so much a cosine may be less than before and still be the same: normals are kept in single precision."""

SHARES = ((0.5, 0), (0.5, 1), (0.5, 1), (0.0, 1), (0.0, 2), (0.0, 4))
"""What is left of the way of clay that folds, and how many rings around go along, in one round after the other."""

ALL = -1

ASIDE = np.float32(0.3)
"""Clay that faces the middle of a dab by more than that is not met by what else faces it."""

AGAINST = np.float32(-0.2)
"""Two places meet when the cosine between their normals is less."""

CLOSE = 0.25
"""How near clay may come to what it meets, in edges."""

CROWDED = 9.0
"""Cells of more edges hold so many vertices that looking into them would stop the hand."""

LAST = (0.5, 0.5, 0.5, 0.0)
"""What is left of the whole dab, in one round after the other, where that did not help; for what is held, at once."""


@inlined
def _place(positions: F32, was: F32, stamp: I32, base: int, n_moved: int, v: int, a: int) -> float:
    """One coordinate of a vertex, where it was before the dab."""
    row = stamp[v] - base
    at = np.float64(positions[v, a])
    if 0 <= row < n_moved:
        at = np.float64(was[row, a])
    return at


@kernel
def _corner(
    positions: F32,
    was: F32,
    stamp: I32,
    base: int,
    n_moved: int,
    left: int,
    v: int,
    right: int,
    out: F64,
) -> None:
    """Twice the area vector of a face's corner at `v` before the dab, into `out` (3,); its mirror image gives the mirror image, to the bit."""
    vx = _place(positions, was, stamp, base, n_moved, v, 0)
    vy = _place(positions, was, stamp, base, n_moved, v, 1)
    vz = _place(positions, was, stamp, base, n_moved, v, 2)
    ux = _place(positions, was, stamp, base, n_moved, right, 0) - vx
    uy = _place(positions, was, stamp, base, n_moved, right, 1) - vy
    uz = _place(positions, was, stamp, base, n_moved, right, 2) - vz
    wx = _place(positions, was, stamp, base, n_moved, left, 0) - vx
    wy = _place(positions, was, stamp, base, n_moved, left, 1) - vy
    wz = _place(positions, was, stamp, base, n_moved, left, 2) - vz
    out[0] = uy * wz - uz * wy
    out[1] = uz * wx - ux * wz
    out[2] = ux * wy - uy * wx


@inlined
def _corner_now(positions: F32, left: int, v: int, right: int) -> tuple[float, float, float]:
    """The same of a corner as it is."""
    vx = np.float64(positions[v, 0])
    vy = np.float64(positions[v, 1])
    vz = np.float64(positions[v, 2])
    ux = positions[right, 0] - vx
    uy = positions[right, 1] - vy
    uz = positions[right, 2] - vz
    wx = positions[left, 0] - vx
    wy = positions[left, 1] - vy
    wz = positions[left, 2] - vz
    return uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx


@kernel
def _was_facing(
    positions: F32,
    was: F32,
    faces: U32,
    start: U32,
    ring: U32,
    stamp: I32,
    base: int,
    n_moved: int,
    left: int,
    v: int,
    right: int,
    at: int,
) -> float:
    """The cosine between a face's corner and the normal of the vertex `at`, before the dab."""
    corner = np.empty(3)
    total = np.zeros(3)
    for k in range(start[at, 0], start[at, 1]):
        f = ring[k]
        # Of a quad, the sum of two opposite corners is the area vector that normals are made of.
        _corner(positions, was, stamp, base, n_moved, faces[f, 0], faces[f, 1], faces[f, 2], corner)
        for a in range(3):
            total[a] += corner[a]
        if faces[f, 3] != NO_CORNER:
            _corner(positions, was, stamp, base, n_moved, faces[f, 2], faces[f, 3], faces[f, 0], corner)
            for a in range(3):
                total[a] += corner[a]
    _corner(positions, was, stamp, base, n_moved, left, v, right, corner)
    dot = 0.0
    lengths = 0.0
    own = 0.0
    for a in range(3):
        dot += corner[a] * total[a]
        lengths += total[a] * total[a]
        own += corner[a] * corner[a]
    return dot / np.sqrt(max(lengths * own, 1e-60))


@kernel
def find_folds(
    positions: F32,
    normals: F32,
    was: F32,
    faces: U32,
    start: U32,
    ring: U32,
    begins: U32,
    ends: U32,
    stamp: I32,
    base: int,
    n_moved: int,
    bad: U8,
) -> int:
    """Mark the moved vertices around corners that a dab has folded; how many faces have such.

    Parameters
    ----------
    was : (n_moved, 3) float32
        Where the moved vertices were before; the rows are their stamps less `base`.
    begins, ends : (p,) uint32
        Runs of faces, among them every face with a moved corner, or with one next to it.
    bad : (n_moved,) uint8
        Receives 1 for each of them.
    """
    found = 0
    three = np.empty(3, np.uint32)
    for i in range(begins.shape[0]):
        for f in range(begins[i], ends[i]):
            size = 3 if faces[f, 3] == NO_CORNER else 4
            # A face that has not moved may have a vertex whose normal has turned.
            touched = False
            for c in range(size):
                touched = touched or stamp[faces[f, c]] >= base
            if not touched:
                continue
            folded = False
            # A quad is looked at in all four triangles of its corners, so that no way of cutting it is folded.
            for c in range(size if size == 4 else 1):
                three[0] = faces[f, (c + size - 1) % size]
                three[1] = faces[f, c]
                three[2] = faces[f, (c + 1) % size]
                x, y, z = _corner_now(positions, three[0], three[1], three[2])
                own = np.sqrt(x * x + y * y + z * z)
                for k in range(3):
                    v = three[k]
                    dot = x * normals[v, 0] + y * normals[v, 1] + z * normals[v, 2]
                    if own > 0.0 and dot >= FOLDED * own:
                        continue
                    # Without an area it has no side to face to: as bad as can be.
                    cosine = dot / own if own > 0.0 else -1.0
                    before = _was_facing(
                        positions,
                        was,
                        faces,
                        start,
                        ring,
                        stamp,
                        base,
                        n_moved,
                        three[0],
                        three[1],
                        three[2],
                        v,
                    )
                    if cosine < before - SAME:
                        folded = True
                        for r in range(start[v, 0], start[v, 1]):
                            for corner_of in range(4):
                                u = faces[ring[r], corner_of]
                                if u != NO_CORNER and 0 <= stamp[u] - base < n_moved:
                                    bad[stamp[u] - base] = 1
            if folded:
                found += 1
    return found


def folded(mesh: Mesh, was: F32, begins: U32, ends: U32, base: int, bad: U8) -> int:
    """Mark the moved vertices around corners that a dab has folded, on all processors; how many faces have such.

    Parameters
    ----------
    was : (n, 3) float32
    begins, ends : (p,) uint32
    bad : (n,) uint8
        As for `find_folds`.
    """
    faces, start, ring = mesh.topology.walk
    cuts = parts_of(len(begins), DAB_PART // PATCH)
    found = [0] * (len(cuts) - 1)

    def some(part: int) -> None:
        runs = slice(cuts[part], cuts[part + 1])
        found[part] = find_folds(
            mesh.positions,
            mesh.normals,
            was,
            faces,
            start,
            ring,
            begins[runs],
            ends[runs],
            mesh.stamp,
            base,
            len(was),
            bad,
        )

    # Parts may mark the same vertices; all of them write the same there.
    at_once(len(found), some)
    return sum(found)


@kernel
def spread_marks(
    faces: U32, begins: U32, ends: U32, stamp: I32, base: int, n_moved: int, bad: U8, wider: U8
) -> None:
    """Mark, into `wider` (n_moved,), all moved vertices that share a face with a marked one."""
    for i in range(begins.shape[0]):
        for f in range(begins[i], ends[i]):
            size = 3 if faces[f, 3] == NO_CORNER else 4
            near = False
            for c in range(size):
                row = stamp[faces[f, c]] - base
                near = near or (0 <= row < n_moved and bad[row] != 0)
            if near:
                for c in range(size):
                    row = stamp[faces[f, c]] - base
                    if 0 <= row < n_moved:
                        wider[row] = 1


@kernel
def draw_back(positions: F32, was: F32, listed: U32, bad: U8, share: float) -> None:
    """Leave marked vertices a share of the way that they have come."""
    for row in range(bad.shape[0]):
        if bad[row] != 0:
            v = listed[row]
            for a in range(3):
                came = np.float64(positions[v, a]) - was[row, a]
                positions[v, a] = was[row, a] + came * share


@inlined
def _cell_of(x: float, y: float, z: float, cell: float, mask: int) -> int:
    """Where a place lies in a hashed grid (Teschner et al. 2003)."""
    i = np.int64(np.floor(x / cell)) * np.int64(73856093)
    j = np.int64(np.floor(y / cell)) * np.int64(19349663)
    k = np.int64(np.floor(z / cell)) * np.int64(83492791)
    return int((i ^ j ^ k) & mask)


@kernel
def _facing_off(normals: F32, near: I32, sides: F32, out: I32) -> int:
    """List the vertices of patches (p,) that do not face all of some sides (t, 3) clearly; their number."""
    n = 0
    for i in range(near.shape[0]):
        first = near[i] << PATCH_BITS
        for v in range(first, min(first + PATCH, normals.shape[0])):
            least = np.float32(1.0)
            for t in range(sides.shape[0]):
                facing = (
                    normals[v, 0] * sides[t, 0] + normals[v, 1] * sides[t, 1] + normals[v, 2] * sides[t, 2]
                )
                least = min(least, facing)
            if least < ASIDE:
                out[n] = v
                n += 1
    return n


@kernel
def _in_cells(positions: F32, which: I32, cell: float, mask: int, ends: I32, items: I32) -> None:
    """Sort vertices (k,) by the cells of a hashed grid: `ends` (mask + 2,) closes each cell's run of `items` (k,)."""
    for i in range(which.shape[0]):
        v = which[i]
        ends[_cell_of(positions[v, 0], positions[v, 1], positions[v, 2], cell, mask) + 1] += 1
    for c in range(mask + 1):
        ends[c + 1] += ends[c]
    for i in range(which.shape[0]):
        v = which[i]
        c = _cell_of(positions[v, 0], positions[v, 1], positions[v, 2], cell, mask)
        items[ends[c]] = v
        ends[c] += 1


@kernel
def _met(
    positions: F32,
    normals: F32,
    was: F32,
    listed: U32,
    stamp: I32,
    base: int,
    n_moved: int,
    cell: float,
    edge: float,
    mask: int,
    ends: I32,
    items: I32,
    bad: U8,
) -> int:
    found = 0
    margin = CLOSE * edge
    across2 = 0.8 * edge * edge
    for row in range(n_moved):
        v = listed[row]
        # Cells are twice as wide as is looked about: eight of them hold it.
        for cube in range(8):
            x = positions[v, 0] + ((cube & 1) - 0.5) * cell
            y = positions[v, 1] + ((cube >> 1 & 1) - 0.5) * cell
            z = positions[v, 2] + ((cube >> 2) - 0.5) * cell
            c = _cell_of(x, y, z, cell, mask)
            begin = 0 if c == 0 else ends[c - 1]
            for k in range(begin, ends[c]):
                u = items[k]
                like = (
                    normals[u, 0] * normals[v, 0]
                    + normals[u, 1] * normals[v, 1]
                    + normals[u, 2] * normals[v, 2]
                )
                if like > AGAINST or u == v:
                    continue
                after = 0.0
                before = 0.0
                far = 0.0
                other = stamp[u] - base
                for a in range(3):
                    way = np.float64(positions[v, a]) - positions[u, a]
                    come = np.float64(was[row, a])
                    if 0 <= other < n_moved:
                        come -= was[other, a]
                    else:
                        come -= positions[u, a]
                    after += way * normals[u, a]
                    before += come * normals[u, a]
                    far += way * way
                if far - after * after > across2:
                    continue
                # Through it, or nearer than it should ever come, and nearer than before.
                if before * after <= 0.0 or (abs(after) < margin and abs(after) < abs(before)):
                    found += 1
                    bad[row] = 1
                    if 0 <= other < n_moved:
                        bad[other] = 1
    return found


def find_meetings(
    mesh: Mesh, was: F32, listed: U32, near: I32, base: int, sides: F32, edge: float, longest: float, bad: U8
) -> int:
    """Mark moved vertices that have gone through clay which faces them from behind, or come too close to it.

    Parameters
    ----------
    was : (n, 3) float32
        Where moved vertices, `listed[:n]`, were before; the rows are their stamps less `base`.
    near : (p,) int32
        Patches whose clay they may have met.
    sides : (t, 3) float32
        Which way the clay in the middle of the dab and of its twins faces: what faces the same way is not met.
    edge, longest : float
        Length of the edges about there, and of the longest move.
    bad : (n,) uint8
        Receives 1 for each of them.

    Returns
    -------
    int
        How often it happened; 0 also where moves are too long for the clay's density to be looked through.
    """
    cell = 2.0 * max(1.2 * edge, 1.5 * longest)
    if cell > CROWDED * edge:
        return 0
    which = mesh.scratch("facing", len(near) * PATCH, np.int32)
    which = which[: _facing_off(mesh.normals, near, sides, which)]
    if not len(which):
        return 0
    mask = (1 << int(np.ceil(np.log2(len(which) + 2)))) - 1
    ends = np.zeros(mask + 2, np.int32)
    items = np.empty(len(which), np.int32)
    _in_cells(mesh.positions, which, cell, mask, ends, items)
    found: int = _met(
        mesh.positions,
        mesh.normals,
        was,
        listed,
        mesh.stamp,
        base,
        len(was),
        cell,
        edge,
        mask,
        ends,
        items,
        bad,
    )
    return found
