"""What changes a loose mesh in one place: an edge split, collapsed, flipped.

Each leaves rings, borders and empty places as they must be, and refuses what would spoil the surface. All that is
written lies in patches that have been *noted* (`core/loose_change.py`), so that it can be taken back.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, kernel
from kneten.core.loose_places import (
    FACE_BITS,
    Store,
    blend,
    copy_face,
    give_face,
    give_vertex,
    ring_add,
    ring_drop,
    swap_corner,
    take_face,
    take_vertex,
    valence,
)
from kneten.core.topology import PATCH_BITS

DONE = 0
REFUSED = 1
FULL = 2
"""What came of a change: made; refused; there was no room in the patch."""


@kernel
def _shared(s: Store, a: int, b: int, out: I32) -> int:
    """Faces with both vertices, as face and third corner in rows of `out`; how many there are."""
    n = 0
    for k in range(s.ring[a, 0], s.ring[a, 1]):
        f = s.ring_faces[k]
        x = s.faces[f, 0]
        y = s.faces[f, 1]
        z = s.faces[f, 2]
        third = -1
        if x == b:
            third = y if z == a else z
        elif y == b:
            third = x if z == a else z
        elif z == b:
            third = x if y == a else y
        if third >= 0:
            if n < 2:
                out[n, 0] = f
                out[n, 1] = third
            n += 1
    return n


@kernel
def _split(s: Store, a: int, b: int, pair: I32, made: I32, n_made: int) -> int:
    """Put a vertex on the edge between two, and cut its faces there; `made` gets it and the two."""
    n = _shared(s, a, b, pair)
    if n == 0 or n > 2:
        return REFUSED
    for i in range(n):
        if valence(s, pair[i, 1]) >= s.room[pair[i, 1]]:
            return REFUSED
    pa = a >> PATCH_BITS
    # All that is written lies in patches that are near the dab: those of `a`, and the owners of its faces.
    first = pair[0, 0] >> FACE_BITS
    second = pair[n - 1, 0] >> FACE_BITS
    m = take_vertex(s, pa, first)
    if m < 0:
        return FULL
    g = take_face(s, first, pa, second)
    h = -1
    if n == 2 and g >= 0:
        h = take_face(s, second, pa, first)
    if g < 0 or (n == 2 and h < 0):
        if g >= 0:
            give_face(s, g)
        give_vertex(s, m)
        return FULL
    blend(s, a, b, m)
    s.ring[m, 1] = s.ring[m, 0]
    s.border[m] = 1 if n == 1 else 0
    for i in range(n):
        f = pair[i, 0]
        c = pair[i, 1]
        new = g if i == 0 else h
        copy_face(s, f, new)
        swap_corner(s, f, b, m)
        swap_corner(s, new, a, m)
        ring_drop(s, b, f)
        ring_add(s, b, new)
        ring_add(s, c, new)
        ring_add(s, m, f)
        ring_add(s, m, new)
    made[n_made, 0] = m
    made[n_made, 1] = a
    made[n_made, 2] = b
    return DONE


@kernel
def _normal(s: Store, a: int, b: int, c: int, old: int, x: float, y: float, z: float, out: F64) -> None:
    """Twice the area vector of a triangle, one of whose corners is put elsewhere."""
    p = np.empty((3, 3))
    for i in range(3):
        v = a if i == 0 else (b if i == 1 else c)
        if v == old:
            p[i, 0] = x
            p[i, 1] = y
            p[i, 2] = z
        else:
            for k in range(3):
                p[i, k] = s.positions[v, k]
    ux = p[1, 0] - p[0, 0]
    uy = p[1, 1] - p[0, 1]
    uz = p[1, 2] - p[0, 2]
    wx = p[2, 0] - p[0, 0]
    wy = p[2, 1] - p[0, 1]
    wz = p[2, 2] - p[0, 2]
    out[0] = uy * wz - uz * wy
    out[1] = uz * wx - ux * wz
    out[2] = ux * wy - uy * wx


@kernel
def _stays_short(s: Store, u: int, x: float, y: float, z: float, longest: float) -> bool:
    """Whether no edge of `u` grows beyond a length (squared) when it is put elsewhere."""
    for k in range(s.ring[u, 0], s.ring[u, 1]):
        f = s.ring_faces[k]
        for i in range(3):
            v = s.faces[f, i]
            dx = s.positions[v, 0] - x
            dy = s.positions[v, 1] - y
            dz = s.positions[v, 2] - z
            if v != u and dx * dx + dy * dy + dz * dz > longest:
                return False
    return True


@kernel
def _stays_well(s: Store, u: int, other: int, x: float, y: float, z: float) -> bool:
    """Whether the faces around `u`, without those of `other`, do not turn over when it is put elsewhere."""
    before = np.empty(3)
    after = np.empty(3)
    for k in range(s.ring[u, 0], s.ring[u, 1]):
        f = s.ring_faces[k]
        a = s.faces[f, 0]
        b = s.faces[f, 1]
        c = s.faces[f, 2]
        if other in (a, b, c):
            continue
        _normal(s, a, b, c, -1, x, y, z, before)
        _normal(s, a, b, c, u, x, y, z, after)
        dot = before[0] * after[0] + before[1] * after[1] + before[2] * after[2]
        one = before[0] ** 2 + before[1] ** 2 + before[2] ** 2
        two = after[0] ** 2 + after[1] ** 2 + after[2] ** 2
        # A turn of 60 degrees is a fold; a face without area has no direction to keep.
        if one > 0.0 and (two <= 1e-6 * one or dot * abs(dot) < 0.25 * one * two):
            return False
    return True


@kernel
def _collapse(s: Store, u: int, v: int, longest: float, pair: I32) -> int:
    """Draw the edge between two vertices together to its middle; `u` is gone then."""
    if s.border[u] != 0 or s.border[v] != 0 or s.noted[v >> PATCH_BITS] == 0:
        return REFUSED
    x = 0.5 * (np.float64(s.positions[u, 0]) + s.positions[v, 0])
    y = 0.5 * (np.float64(s.positions[u, 1]) + s.positions[v, 1])
    z = 0.5 * (np.float64(s.positions[u, 2]) + s.positions[v, 2])
    # What refuses most comes first: what cannot be joined now is asked again with every dab.
    if not _stays_short(s, u, x, y, z, longest) or not _stays_short(s, v, x, y, z, longest):
        return REFUSED
    if _shared(s, u, v, pair) != 2:
        return REFUSED
    if valence(s, u) + valence(s, v) - 4 > s.room[v] or valence(s, u) + valence(s, v) < 7:
        return REFUSED
    if valence(s, pair[0, 1]) <= 3 or valence(s, pair[1, 1]) <= 3:
        return REFUSED
    # Only the two vertices across may lie beside both: otherwise the surface would pinch together.
    for k in range(s.ring[u, 0], s.ring[u, 1]):
        f = s.ring_faces[k]
        for c in range(3):
            w = s.faces[f, c]
            if w in (u, v, pair[0, 1], pair[1, 1]):
                continue
            for m in range(s.ring[v, 0], s.ring[v, 1]):
                g = s.ring_faces[m]
                if w in (s.faces[g, 0], s.faces[g, 1], s.faces[g, 2]):
                    return REFUSED
    if s.regions.shape[0] > 0 or s.hidden.shape[0] > 0:
        # Borders of regions stay where they are.
        for k in range(s.ring[u, 0], s.ring[u, 1]):
            f = s.ring_faces[k]
            if s.regions.shape[0] > 0 and s.regions[f] != s.regions[pair[0, 0]]:
                return REFUSED
            if s.hidden.shape[0] > 0 and s.hidden[f] != s.hidden[pair[0, 0]]:
                return REFUSED
    if not _stays_well(s, u, v, x, y, z) or not _stays_well(s, v, u, x, y, z):
        return REFUSED
    blend(s, u, v, v)
    for i in range(2):
        f = pair[i, 0]
        ring_drop(s, v, f)
        ring_drop(s, u, f)
        ring_drop(s, pair[i, 1], f)
        give_face(s, f)
    for k in range(s.ring[u, 0], s.ring[u, 1]):
        f = s.ring_faces[k]
        swap_corner(s, f, u, v)
        ring_add(s, v, f)
    give_vertex(s, u)
    return DONE


@kernel
def _cot(s: Store, c: int, a: int, b: int) -> float:
    """Cotangent of the angle at `c`."""
    ux = np.float64(s.positions[a, 0]) - s.positions[c, 0]
    uy = np.float64(s.positions[a, 1]) - s.positions[c, 1]
    uz = np.float64(s.positions[a, 2]) - s.positions[c, 2]
    wx = np.float64(s.positions[b, 0]) - s.positions[c, 0]
    wy = np.float64(s.positions[b, 1]) - s.positions[c, 1]
    wz = np.float64(s.positions[b, 2]) - s.positions[c, 2]
    x = uy * wz - uz * wy
    y = uz * wx - ux * wz
    z = ux * wy - uy * wx
    return (ux * wx + uy * wy + uz * wz) / max(np.sqrt(x * x + y * y + z * z), 1e-30)


FLAT = 0.85
"""Cosine of the angle between two faces up to which their edge may be flipped: 32 degrees. Creases stay."""


@kernel
def _flip(s: Store, a: int, b: int, pair: I32) -> int:
    """Turn the edge between two triangles where the other diagonal makes better ones."""
    if _shared(s, a, b, pair) != 2:
        return REFUSED
    f = pair[0, 0]
    g = pair[1, 0]
    c = pair[0, 1]
    d = pair[1, 1]
    if s.noted[f >> FACE_BITS] == 0 or s.noted[g >> FACE_BITS] == 0:
        return REFUSED
    if c == d or valence(s, a) <= 4 or valence(s, b) <= 4:
        return REFUSED
    if valence(s, c) >= s.room[c] or valence(s, d) >= s.room[d]:
        return REFUSED
    if s.regions.shape[0] > 0 and s.regions[f] != s.regions[g]:
        return REFUSED
    if s.hidden.shape[0] > 0 and s.hidden[f] != s.hidden[g]:
        return REFUSED
    if _cot(s, c, a, b) + _cot(s, d, a, b) > -1e-3:
        return REFUSED
    for k in range(s.ring[c, 0], s.ring[c, 1]):
        h = s.ring_faces[k]
        if d in (s.faces[h, 0], s.faces[h, 1], s.faces[h, 2]):
            return REFUSED
    # Which way round the first face has the edge.
    i = 0
    while s.faces[f, i] != a:
        i += 1
    if s.faces[f, (i + 1) % 3] != b:
        a, b = b, a
    one = np.empty(3)
    two = np.empty(3)
    new_one = np.empty(3)
    new_two = np.empty(3)
    _normal(s, a, b, c, -1, 0.0, 0.0, 0.0, one)
    _normal(s, b, a, d, -1, 0.0, 0.0, 0.0, two)
    _normal(s, c, a, d, -1, 0.0, 0.0, 0.0, new_one)
    _normal(s, d, b, c, -1, 0.0, 0.0, 0.0, new_two)
    l1 = np.sqrt(one[0] ** 2 + one[1] ** 2 + one[2] ** 2)
    l2 = np.sqrt(two[0] ** 2 + two[1] ** 2 + two[2] ** 2)
    if one[0] * two[0] + one[1] * two[1] + one[2] * two[2] < FLAT * l1 * l2:
        return REFUSED
    sx = one[0] + two[0]
    sy = one[1] + two[1]
    sz = one[2] + two[2]
    l3 = np.sqrt(new_one[0] ** 2 + new_one[1] ** 2 + new_one[2] ** 2)
    l4 = np.sqrt(new_two[0] ** 2 + new_two[1] ** 2 + new_two[2] ** 2)
    whole = np.sqrt(sx * sx + sy * sy + sz * sz)
    if new_one[0] * sx + new_one[1] * sy + new_one[2] * sz <= 0.5 * l3 * whole:
        return REFUSED
    if new_two[0] * sx + new_two[1] * sy + new_two[2] * sz <= 0.5 * l4 * whole:
        return REFUSED
    s.faces[f, 0] = c
    s.faces[f, 1] = a
    s.faces[f, 2] = d
    s.faces[g, 0] = d
    s.faces[g, 1] = b
    s.faces[g, 2] = c
    ring_drop(s, a, g)
    ring_drop(s, b, f)
    ring_add(s, c, g)
    ring_add(s, d, f)
    s.changed[f >> FACE_BITS] = 1
    s.changed[g >> FACE_BITS] = 1
    return DONE


@kernel
def collect(
    s: Store,
    near: I32,
    stamp: I32,
    mark: int,
    above: float,
    below: float,
    long: I32,
    long_keys: F32,
    short: I32,
    short_keys: F32,
    counts: I32,
) -> None:
    """List the edges with an end at a marked vertex that are too long and too short, each once.

    The faces of the patches near are met in the order they lie in memory: walking rings takes five times as long.
    """
    positions = s.positions
    faces = s.faces
    border = s.border
    n_long = 0
    n_short = 0
    for i in range(near.shape[0]):
        for f in range(near[i] << FACE_BITS, (near[i] + 1) << FACE_BITS):
            a = faces[f, 0]
            b = faces[f, 1]
            if a == b:
                continue
            c = faces[f, 2]
            if stamp[a] != mark and stamp[b] != mark and stamp[c] != mark:
                continue
            for k in range(3):
                u = a if k == 0 else (b if k == 1 else c)
                v = b if k == 0 else (c if k == 1 else a)
                # Two faces go along an inner edge in opposite directions: one of them lists it.
                if u > v and (border[u] == 0 or border[v] == 0):
                    continue
                if stamp[u] != mark:
                    u, v = v, u
                    if stamp[u] != mark:
                        continue
                dx = positions[u, 0] - positions[v, 0]
                dy = positions[u, 1] - positions[v, 1]
                dz = positions[u, 2] - positions[v, 2]
                far = dx * dx + dy * dy + dz * dz
                if far > above and n_long < long.shape[0]:
                    long[n_long, 0] = u
                    long[n_long, 1] = v
                    long_keys[n_long] = far
                    n_long += 1
                elif far < below and n_short < short.shape[0]:
                    short[n_short, 0] = u
                    short[n_short, 1] = v
                    short_keys[n_short] = far
                    n_short += 1
    counts[0] = n_long
    counts[1] = n_short


@kernel
def mean_edge(s: Store, near: I32, stamp: I32, mark: int) -> float:
    """Mean length of the edges with an end at a marked vertex; 0 where there is none."""
    total = 0.0
    n = 0
    for i in range(near.shape[0]):
        for f in range(near[i] << FACE_BITS, (near[i] + 1) << FACE_BITS):
            if s.faces[f, 0] == s.faces[f, 1]:
                continue
            for k in range(3):
                u = s.faces[f, k]
                v = s.faces[f, (k + 1) % 3]
                if stamp[u] != mark and stamp[v] != mark:
                    continue
                far = 0.0
                for c in range(3):
                    far += (np.float64(s.positions[u, c]) - s.positions[v, c]) ** 2
                total += np.sqrt(far)
                n += 1
    return total / n if n > 0 else 0.0


@kernel
def stamp_all(vertices: I32, stamp: I32, mark: int) -> None:
    """Mark vertices."""
    for i in range(vertices.shape[0]):
        stamp[vertices[i]] = mark


@kernel
def split_all(s: Store, edges: I32, limit: float, made: I32, full: I32, counts: I32) -> None:
    """Split listed edges, the longest first: rows of the new vertex and its ends; which patches ran full."""
    pair = np.empty((2, 2), np.int32)
    for i in range(edges.shape[0]):
        a = edges[i, 0]
        b = edges[i, 1]
        if s.guard[b] >= 1.0 or counts[0] >= made.shape[0]:
            continue
        dx = s.positions[a, 0] - s.positions[b, 0]
        dy = s.positions[a, 1] - s.positions[b, 1]
        dz = s.positions[a, 2] - s.positions[b, 2]
        if dx * dx + dy * dy + dz * dz <= limit:
            continue
        found = _split(s, a, b, pair, made, counts[0])
        if found == DONE:
            counts[0] += 1
        elif found == FULL and counts[1] < full.shape[0]:
            full[counts[1]] = a >> PATCH_BITS
            counts[1] += 1


@kernel
def collapse_all(s: Store, edges: I32, limit: float, longest: float, made: I32, counts: I32) -> None:
    """Draw together all edges of a list that are shorter than a limit, where that leaves sound clay.

    `made` gets rows of which vertex went into which.
    """
    pair = np.empty((2, 2), np.int32)
    for i in range(edges.shape[0]):
        a = edges[i, 0]
        b = edges[i, 1]
        if s.ring[a, 0] == s.ring[a, 1] or s.ring[b, 0] == s.ring[b, 1] or s.guard[b] >= 0.5:
            continue
        if counts[0] >= made.shape[0]:
            return
        dx = s.positions[a, 0] - s.positions[b, 0]
        dy = s.positions[a, 1] - s.positions[b, 1]
        dz = s.positions[a, 2] - s.positions[b, 2]
        if dx * dx + dy * dy + dz * dz >= limit:
            continue
        if _collapse(s, a, b, longest, pair) == DONE:
            made[counts[0], 0] = a
            made[counts[0], 1] = b
            counts[0] += 1


@kernel
def flip_around(s: Store, fresh: I32, rounds: int) -> int:
    """Flip edges around new vertices, and of the faces across from them, until none is better."""
    pair = np.empty((2, 2), np.int32)
    total = 0
    for _ in range(rounds):
        n = 0
        for i in range(fresh.shape[0]):
            v = fresh[i]
            k = s.ring[v, 0]
            while k < s.ring[v, 1]:
                f = s.ring_faces[k]
                k += 1
                a = s.faces[f, 0]
                b = s.faces[f, 1]
                c = s.faces[f, 2]
                if v == b:
                    a, b, c = b, c, a
                elif v == c:
                    a, b, c = c, a, b
                if _flip(s, b, c, pair) == DONE:
                    n += 1
                if valence(s, v) > 4 and _flip(s, v, b, pair) == DONE:
                    n += 1
        total += n
        if n == 0:
            break
    return total
