"""Keeps a dab from folding clay: where a face would turn over beside its neighbours, the clay moves less.

A corner of a face is folded when it stands more than 75 degrees off the normal of its vertex; two faces that share an
edge are then at most 150 degrees apart. What is held looks at such edges themselves: narrow faces beside a sharp rim stand
far off their vertices' normals without being folded. What was folded before may stay as it is, or get better.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import DAB_PART, F32, F64, I32, U8, U32, at_once, inlined, kernel, parts_of
from kneten.core.mesh import Mesh
from kneten.core.topology import NO_CORNER, PATCH, PATCH_BITS

FOLDED = 0.27
"""Cosine of the angle between a face's corner and its vertex's normal from which on it counts as folded: 75 degrees."""

HELD_APART, HELD_TURNED = -0.7, -0.5
"""What is held and moved as one piece folds later, since it finds clay that dabs have brought to their limit, and must
still be able to move it: not while all faces on an edge are within 134 degrees, or a corner within 120 of its vertex."""

NONE_APART = -2.0
"""No angle between faces is looked at."""

SAME = 1e-5
"""By so much a cosine may be less than before and still be the same: normals are kept in single precision."""

SHARES = ((0.5, 0), (0.5, 1), (0.5, 1), (0.0, 1), (0.0, 2), (0.0, 4))
"""What is left of the way of clay that folds, and how many rings around go along, in one round after the other."""

ALL = -1

ASIDE = np.float32(0.3)
"""Clay that faces the middle of a dab by more than that is not met by what else faces it."""

AGAINST = np.float32(-0.2)
"""Two places meet when the cosine between their normals is less."""

OPPOSITE = np.float32(-0.8)
"""From there on they are kept apart; at a wider angle what is near is joined close by, and folds before it meets."""

CLOSE = 0.25
"""How near clay may come to what it meets, in edges."""

BESIDE = 0.25
"""How far outside of a triangle, in shares of it, its clay still counts."""

CAME = 1.0
"""The same before the dab: what comes from farther beside has passed the rim, not the face."""

CLOSER, HELD_CLOSER = 0.95, 0.7
"""What is as near as that already may come nearer by so much: else a sharp rim, one of whose sides nears the other a
little with any move, could not be moved at all. What is held may come nearer than a dab may bring it."""

CROWDED = 9.0
"""Cells of more edges hold so many vertices that looking into them would stop the hand."""

SAMPLE = 200
"""Vertices by whose edges the density about a dab is told."""

LAST = (0.5, 0.5, 0.5, 0.0)
"""What is left of the whole dab, in one round after the other, where that did not help; for what is held, at once."""


@inlined
def place_before(positions: F32, was: F32, stamp: I32, base: int, n_moved: int, v: int, a: int) -> float:
    """One coordinate of a vertex, where it was before the dab; with an `n_moved` of 0, where it is."""
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
    vx = place_before(positions, was, stamp, base, n_moved, v, 0)
    vy = place_before(positions, was, stamp, base, n_moved, v, 1)
    vz = place_before(positions, was, stamp, base, n_moved, v, 2)
    ux = place_before(positions, was, stamp, base, n_moved, right, 0) - vx
    uy = place_before(positions, was, stamp, base, n_moved, right, 1) - vy
    uz = place_before(positions, was, stamp, base, n_moved, right, 2) - vz
    wx = place_before(positions, was, stamp, base, n_moved, left, 0) - vx
    wy = place_before(positions, was, stamp, base, n_moved, left, 1) - vy
    wz = place_before(positions, was, stamp, base, n_moved, left, 2) - vz
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
def _apart(
    positions: F32,
    was: F32,
    faces: U32,
    start: U32,
    ring: U32,
    stamp: I32,
    base: int,
    n_moved: int,
    of: int,
    three: U32,
) -> float:
    """The least cosine between a corner of a face `of` and the corners of those on its edges; `n_moved` is 0 for now."""
    own = np.empty(3)
    other = np.empty(3)
    _corner(positions, was, stamp, base, n_moved, three[0], three[1], three[2], own)
    length = own[0] * own[0] + own[1] * own[1] + own[2] * own[2]
    least = 1.0
    for i in range(3):
        for k in range(start[three[i], 0], start[three[i], 1]):
            f = ring[k]
            size = 3 if faces[f, 3] == NO_CORNER else 4
            shared = 0
            for c in range(size):
                for e in range(4):
                    shared += faces[of, e] == faces[f, c]
            # What meets it in a corner alone may face anywhere; of itself, a quad's other corners count.
            if shared < 2:
                continue
            for c in range(size if size == 4 else 1):
                left, at, right = faces[f, (c + size - 1) % size], faces[f, c], faces[f, (c + 1) % size]
                _corner(positions, was, stamp, base, n_moved, left, at, right, other)
                dot = 0.0
                lengths = 0.0
                for a in range(3):
                    dot += own[a] * other[a]
                    lengths += other[a] * other[a]
                least = min(least, dot / np.sqrt(max(lengths * length, 1e-60)))
    return least


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
    allowed: float,
    turned: float,
    bad: U8,
) -> int:
    """Mark the moved vertices around corners that a dab has folded; how many faces have such.

    Parameters
    ----------
    was : (n_moved, 3) float32
        Where the moved vertices were before; the rows are their stamps less `base`.
    begins, ends : (p,) uint32
        Runs of faces, among them every face with a moved corner, or with one next to it.
    allowed : float
        Cosine between two faces on an edge up to which neither is folded; `NONE_APART` looks at corners alone.
    turned : float
        Cosine between a corner and its vertex's normal from which on it is folded even so.
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
                # Of the corner, whichever of its vertices asks.
                looked = own == 0.0 or allowed == NONE_APART
                bent = False
                for k in range(3):
                    v = three[k]
                    dot = x * normals[v, 0] + y * normals[v, 1] + z * normals[v, 2]
                    if own > 0.0 and dot >= FOLDED * own:
                        continue
                    # Without an area it has no side to face to: as bad as can be.
                    cosine = dot / own if own > 0.0 else -1.0
                    if not looked:
                        looked = True
                        apart = _apart(positions, was, faces, start, ring, stamp, base, 0, f, three)
                        bent = apart <= allowed and apart < -SAME + _apart(
                            positions, was, faces, start, ring, stamp, base, n_moved, f, three
                        )
                    worse = bent
                    if cosine <= turned and not worse:
                        worse = cosine < -SAME + _was_facing(
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
                    if worse:
                        folded = True
                        for r in range(start[v, 0], start[v, 1]):
                            for corner_of in range(4):
                                u = faces[ring[r], corner_of]
                                if u != NO_CORNER and 0 <= stamp[u] - base < n_moved:
                                    bad[stamp[u] - base] = 1
            if folded:
                found += 1
    return found


def folded(mesh: Mesh, was: F32, begins: U32, ends: U32, base: int, held: bool, bad: U8) -> int:
    """Mark the moved vertices around corners that a dab has folded, on all processors; how many faces have such.

    Parameters
    ----------
    was : (n, 3) float32
    begins, ends : (p,) uint32
    held : bool
        Whether it was a piece of clay that is held.
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
            *((HELD_APART, HELD_TURNED) if held else (NONE_APART, FOLDED)),
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


@inlined
def _offset(
    positions: F32,
    was: F32,
    stamp: I32,
    base: int,
    n_moved: int,
    v: int,
    a: int,
    b: int,
    c: int,
    out: F64,
) -> None:
    """Where a vertex was over a triangle, into `out` (4,): three shares of its foot, and the way along the normal."""
    ux = place_before(positions, was, stamp, base, n_moved, b, 0) - place_before(
        positions, was, stamp, base, n_moved, a, 0
    )
    uy = place_before(positions, was, stamp, base, n_moved, b, 1) - place_before(
        positions, was, stamp, base, n_moved, a, 1
    )
    uz = place_before(positions, was, stamp, base, n_moved, b, 2) - place_before(
        positions, was, stamp, base, n_moved, a, 2
    )
    wx = place_before(positions, was, stamp, base, n_moved, c, 0) - place_before(
        positions, was, stamp, base, n_moved, a, 0
    )
    wy = place_before(positions, was, stamp, base, n_moved, c, 1) - place_before(
        positions, was, stamp, base, n_moved, a, 1
    )
    wz = place_before(positions, was, stamp, base, n_moved, c, 2) - place_before(
        positions, was, stamp, base, n_moved, a, 2
    )
    px = place_before(positions, was, stamp, base, n_moved, v, 0) - place_before(
        positions, was, stamp, base, n_moved, a, 0
    )
    py = place_before(positions, was, stamp, base, n_moved, v, 1) - place_before(
        positions, was, stamp, base, n_moved, a, 1
    )
    pz = place_before(positions, was, stamp, base, n_moved, v, 2) - place_before(
        positions, was, stamp, base, n_moved, a, 2
    )
    nx = uy * wz - uz * wy
    ny = uz * wx - ux * wz
    nz = ux * wy - uy * wx
    area2 = max(nx * nx + ny * ny + nz * nz, 1e-60)
    # Cross products with the foot's way, along the normal: the shares of the corners b and c.
    share_b = ((py * wz - pz * wy) * nx + (pz * wx - px * wz) * ny + (px * wy - py * wx) * nz) / area2
    share_c = ((uy * pz - uz * py) * nx + (uz * px - ux * pz) * ny + (ux * py - uy * px) * nz) / area2
    area = np.sqrt(area2)
    out[0] = 1.0 - share_b - share_c
    out[1] = share_b
    out[2] = share_c
    out[3] = (px * nx + py * ny + pz * nz) / area


@kernel
def _through_ring(
    positions: F32,
    was: F32,
    faces: U32,
    start: U32,
    ring: U32,
    stamp: I32,
    base: int,
    n_moved: int,
    v: int,
    u: int,
    now: F64,
    before: F64,
) -> bool:
    """Whether `v` has gone through a face around `u`; `now`, `before` (4,) are room."""
    for k in range(start[u, 0], start[u, 1]):
        f = ring[k]
        own = False
        for c in range(4):
            own = own or faces[f, c] == v
        if own:
            continue
        size = 3 if faces[f, 3] == NO_CORNER else 4
        # A quad in all four triangles of its corners, as it is for folds: its mirror image may begin elsewhere.
        for at in range(size if size == 4 else 1):
            a, b, c = faces[f, (at + size - 1) % size], faces[f, at], faces[f, (at + 1) % size]
            _offset(positions, was, stamp, base, 0, v, a, b, c, now)
            if min(now[0], min(now[1], now[2])) < -BESIDE:
                continue
            _offset(positions, was, stamp, base, n_moved, v, a, b, c, before)
            if min(before[0], min(before[1], before[2])) < -CAME:
                continue
            if now[3] * before[3] <= 0.0:
                return True
    return False


@kernel
def _met(
    positions: F32,
    normals: F32,
    was: F32,
    faces: U32,
    start: U32,
    ring: U32,
    listed: U32,
    stamp: I32,
    base: int,
    n_moved: int,
    cell: float,
    edge: float,
    closer: float,
    mask: int,
    ends: I32,
    items: I32,
    bad: U8,
) -> int:
    found = 0
    now = np.empty(4)
    then = np.empty(4)
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
                # Through it, or nearer than it should ever come, and nearer than before. Beside a sharp rim much is near
                # that never meets: what does not face it squarely must have gone through a face that is there.
                crossed = before * after <= 0.0
                nearer = abs(after) < margin and abs(after) < closer * abs(before)
                if (like < OPPOSITE and (crossed or nearer)) or (
                    crossed
                    and _through_ring(
                        positions, was, faces, start, ring, stamp, base, n_moved, v, u, now, then
                    )
                ):
                    found += 1
                    bad[row] = 1
                    if 0 <= other < n_moved:
                        bad[other] = 1
    return found


def edge_about(mesh: Mesh, vertices: U32) -> float:
    """The mean length of edges about some of these vertices (n,), n > 0."""
    faces, start, ring = mesh.topology.walk
    some = vertices[:: max(len(vertices) // SAMPLE, 1)]
    some = some[start[some, 1] > start[some, 0]]
    if not len(some):
        return 0.0
    at = mesh.positions[faces[ring[start[some, 0]], :3]]
    return float(np.linalg.norm(at[:, 1:] - at[:, :2], axis=2).mean())


def find_meetings(
    mesh: Mesh,
    was: F32,
    listed: U32,
    near: I32,
    base: int,
    sides: F32,
    edge: float,
    longest: float,
    held: bool,
    bad: U8,
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
    held : bool
        Whether it was a piece of clay that is held.
    bad : (n,) uint8
        Receives 1 for each of them.

    Returns
    -------
    int
        How often it happened; 0 also where moves are too long for the clay's density to be looked through.
    """
    cell = 2.0 * max(1.2 * edge, 1.5 * longest)
    if not 0.0 < cell <= CROWDED * edge:
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
        *mesh.topology.walk,
        listed,
        mesh.stamp,
        base,
        len(was),
        cell,
        edge,
        HELD_CLOSER if held else CLOSER,
        mask,
        ends,
        items,
        bad,
    )
    return found
