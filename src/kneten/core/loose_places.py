"""The places of a loose mesh: taken and given back, rings kept, patches halved."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from kneten.core.arrays import F32, I32, U8, U16, AnyArray, kernel
from kneten.core.topology import PATCH, PATCH_BITS

FACE_BITS = 10
FACES = 1 << FACE_BITS
"""Places for faces in a patch. 511 vertices have about 1,022 triangles: a patch runs full of both at about the same
time, and halves. Empty places cost time: kernels walk over them."""

ANCHOR = PATCH - 1
"""The place in each patch that stays empty, for dead faces to name."""

ROOM = 14
"""Faces around a vertex at most, unless it had more to begin with: six is the mean, flips keep it near that."""


class Store(NamedTuple):
    """The arrays of a loose mesh as kernels take them; those it does not have are empty."""

    positions: F32
    normals: F32
    colour: U8
    mask: F32
    origin: U8
    guard: F32
    faces: I32
    regions: U16
    hidden: U8
    ring: I32
    room: U8
    ring_faces: I32
    border: U8
    free_vertices: AnyArray
    n_free_vertices: I32
    free_faces: AnyArray
    n_free_faces: I32
    changed: U8
    noted: U8
    cut_from: I32


@kernel
def ring_add(s: Store, v: int, f: int) -> None:
    """Add a face to a vertex's ring."""
    s.ring_faces[s.ring[v, 1]] = f
    s.ring[v, 1] += 1


@kernel
def ring_drop(s: Store, v: int, f: int) -> None:
    """Take a face out of a vertex's ring."""
    last = s.ring[v, 1] - 1
    for k in range(s.ring[v, 0], last + 1):
        if s.ring_faces[k] == f:
            s.ring_faces[k] = s.ring_faces[last]
            s.ring[v, 1] = last
            return


@kernel
def valence(s: Store, v: int) -> int:
    """How many faces a vertex has."""
    return s.ring[v, 1] - s.ring[v, 0]


@kernel
def swap_corner(s: Store, f: int, old: int, new: int) -> None:
    """Give a face another vertex in the place of one."""
    for c in range(3):
        if s.faces[f, c] == old:
            s.faces[f, c] = new
    s.changed[f >> FACE_BITS] = 1


@kernel
def take_face(s: Store, first: int, second: int, third: int) -> int:
    """A free place for a face in one of three patches, or -1."""
    for i in range(3):
        p = first if i == 0 else (second if i == 1 else third)
        if s.n_free_faces[p] > 0:
            s.n_free_faces[p] -= 1
            return (p << FACE_BITS) + s.free_faces[p, s.n_free_faces[p]]
    return -1


@kernel
def give_face(s: Store, f: int) -> None:
    """Give a face's place back."""
    p = f >> FACE_BITS
    anchor = (p << PATCH_BITS) + ANCHOR
    s.faces[f, 0] = anchor
    s.faces[f, 1] = anchor
    s.faces[f, 2] = anchor
    s.free_faces[p, s.n_free_faces[p]] = f - (p << FACE_BITS)
    s.n_free_faces[p] += 1
    s.changed[p] = 1


@kernel
def take_vertex(s: Store, first: int, second: int) -> int:
    """A place for a vertex near two others, or -1 when there is none."""
    for i in range(2):
        p = first if i == 0 else second
        if s.n_free_vertices[p] > 0:
            s.n_free_vertices[p] -= 1
            return (p << PATCH_BITS) + s.free_vertices[p, s.n_free_vertices[p]]
    return -1


@kernel
def give_vertex(s: Store, v: int) -> None:
    """Give a vertex's place back."""
    p = v >> PATCH_BITS
    s.ring[v, 1] = s.ring[v, 0]
    s.guard[v] = 1.0
    s.border[v] = 0
    for a in range(3):
        s.normals[v, a] = 0.0
    s.free_vertices[p, s.n_free_vertices[p]] = v - (p << PATCH_BITS)
    s.n_free_vertices[p] += 1
    s.changed[p] = 1


@kernel
def copy_face(s: Store, old: int, new: int) -> None:
    """Let a face stand in another place."""
    for c in range(4):
        s.faces[new, c] = s.faces[old, c]
    if s.regions.shape[0] > 0:
        s.regions[new] = s.regions[old]
    if s.hidden.shape[0] > 0:
        s.hidden[new] = s.hidden[old]
    if s.cut_from.shape[0] > 0:
        s.cut_from[new] = s.cut_from[old]
    s.changed[new >> FACE_BITS] = 1


@kernel
def blend(s: Store, a: int, b: int, m: int) -> None:
    """Give a vertex what lies half way between two others; its place on the curve their normals tell of."""
    dot_a = 0.0
    dot_b = 0.0
    length = 0.0
    for k in range(3):
        d = np.float64(s.positions[b, k]) - s.positions[a, k]
        dot_a += d * s.normals[a, k]
        dot_b += d * s.normals[b, k]
        length += d * d
    # The middle of the cubic curve that leaves both ends along the surface. Across sharp creases the normals
    # tell nothing: not more than a sixteenth of the edge.
    bulge = np.empty(3)
    far = 0.0
    for k in range(3):
        bulge[k] = 0.125 * (dot_b * s.normals[b, k] - dot_a * s.normals[a, k])
        far += bulge[k] * bulge[k]
    share = 1.0
    if far * 256.0 > length:
        share = np.sqrt(length / (far * 256.0))
    x = 0.0
    for k in range(3):
        middle = 0.5 * (np.float64(s.positions[a, k]) + s.positions[b, k])
        s.positions[m, k] = middle + share * bulge[k]
        s.normals[m, k] = s.normals[a, k] + s.normals[b, k]
        x += np.float64(s.normals[m, k]) ** 2
    if x > 0.0:
        for k in range(3):
            s.normals[m, k] /= np.sqrt(x)
    s.guard[m] = 0.5 * (s.guard[a] + s.guard[b])
    if s.mask.shape[0] > 0:
        s.mask[m] = 0.5 * (s.mask[a] + s.mask[b])
    if s.colour.shape[0] > 0:
        for k in range(4):
            s.colour[m, k] = (np.int32(s.colour[a, k]) + s.colour[b, k] + 1) // 2
    if s.origin.shape[0] > 0:
        s.origin[m] = s.origin[a]
    s.changed[m >> PATCH_BITS] = 1


@kernel
def reached(s: Store, near: I32, x: float, y: float, z: float, radius: float, out: I32) -> int:
    """List the free vertices within `radius` of a point."""
    n = 0
    limit = radius * radius
    for i in range(near.shape[0]):
        first = near[i] << PATCH_BITS
        for v in range(first, first + ANCHOR):
            if s.ring[v, 1] == s.ring[v, 0] or s.guard[v] >= 0.5:
                continue
            dx = s.positions[v, 0] - x
            dy = s.positions[v, 1] - y
            dz = s.positions[v, 2] - z
            if dx * dx + dy * dy + dz * dz < limit:
                out[n] = v
                n += 1
    return n


@kernel
def find_borders(s: Store, vertices: I32) -> None:
    """Find out which of these vertices lie on an open edge."""
    for i in range(vertices.shape[0]):
        v = vertices[i]
        mix = np.uint64(0)
        for k in range(s.ring[v, 0], s.ring[v, 1]):
            f = s.ring_faces[k]
            for c in range(3):
                u = s.faces[f, c]
                if u != v:
                    mix ^= np.uint64(u + 1) * np.uint64(0x9E3779B97F4A7C15)
        s.border[v] = 1 if mix != 0 else 0


@kernel
def owners_of_rings(s: Store, p: int, marks: U8) -> None:
    """Mark the patches that own the faces around a patch's vertices."""
    for v in range(p << PATCH_BITS, (p << PATCH_BITS) + ANCHOR):
        for k in range(s.ring[v, 0], s.ring[v, 1]):
            marks[s.ring_faces[k] >> FACE_BITS] = 1


@kernel
def halve(s: Store, p: int, q: int, moved: I32, names: I32) -> int:
    """Bring the vertices of patch `p` beyond the middle of its longest side, and their faces, to the empty patch `q`.

    `moved` receives the vertices' new places, `names` (511,) their old ones; how many there are is returned.
    """
    first = p << PATCH_BITS
    low = np.full(3, np.inf)
    high = np.full(3, -np.inf)
    count = 0
    for v in range(first, first + ANCHOR):
        if s.ring[v, 0] == s.ring[v, 1]:
            continue
        count += 1
        for k in range(3):
            low[k] = min(low[k], s.positions[v, k])
            high[k] = max(high[k], s.positions[v, k])
    axis = 0
    for k in range(3):
        if high[k] - low[k] > high[axis] - low[axis]:
            axis = k
    at = np.empty(count, np.float32)
    n = 0
    for v in range(first, first + ANCHOR):
        if s.ring[v, 0] != s.ring[v, 1]:
            at[n] = s.positions[v, axis]
            n += 1
    middle = np.sort(at)[count // 2] if count > 0 else np.float32(0.0)
    n = 0
    for v in range(first, first + ANCHOR):
        if s.ring[v, 0] == s.ring[v, 1] or s.positions[v, axis] < middle or n >= count - count // 2:
            continue
        if valence(s, v) > ROOM:
            continue
        w = take_vertex(s, q, q)
        for k in range(3):
            s.positions[w, k] = s.positions[v, k]
        blend(s, v, v, w)
        for k in range(3):
            s.normals[w, k] = s.normals[v, k]
        s.border[w] = s.border[v]
        s.ring[w, 1] = s.ring[w, 0]
        for k in range(s.ring[v, 0], s.ring[v, 1]):
            f = s.ring_faces[k]
            swap_corner(s, f, v, w)
            ring_add(s, w, f)
        give_vertex(s, v)
        moved[n] = w
        names[n] = v
        n += 1
    # Faces whose first corner has moved go along.
    for f in range(p << FACE_BITS, (p + 1) << FACE_BITS):
        a = s.faces[f, 0]
        if a == s.faces[f, 1] or a >> PATCH_BITS != q:
            continue
        g = take_face(s, q, q, q)
        if g < 0:
            break
        copy_face(s, f, g)
        for c in range(3):
            v = s.faces[f, c]
            ring_drop(s, v, f)
            ring_add(s, v, g)
        give_face(s, f)
    anchor = (q << PATCH_BITS) + ANCHOR
    for v in range(q << PATCH_BITS, (q + 1) << PATCH_BITS):
        # Empty places stand where the patch is, so that its box stays small.
        if s.ring[v, 0] == s.ring[v, 1] and n > 0:
            for k in range(3):
                s.positions[v, k] = s.positions[moved[0], k]
    s.positions[anchor] = s.positions[moved[0]] if n > 0 else s.positions[anchor]
    return n


@kernel
def fill_rings(faces: I32, ring: I32, ring_faces: I32) -> None:
    """Enter every face into the rings of its vertices."""
    for f in range(faces.shape[0]):
        if faces[f, 0] == faces[f, 1]:
            continue
        for c in range(3):
            v = faces[f, c]
            ring_faces[ring[v, 1]] = f
            ring[v, 1] += 1


@kernel
def fill_free(s: Store, patches: I32) -> None:
    """Find the empty places of patches, the lowest to be taken first."""
    for i in range(patches.shape[0]):
        p = patches[i]
        n = 0
        for k in range(ANCHOR - 1, -1, -1):
            v = (p << PATCH_BITS) + k
            if s.ring[v, 0] == s.ring[v, 1]:
                s.free_vertices[p, n] = k
                n += 1
        s.n_free_vertices[p] = n
        n = 0
        for k in range(FACES - 1, -1, -1):
            f = (p << FACE_BITS) + k
            if s.faces[f, 0] == s.faces[f, 1]:
                s.free_faces[p, n] = k
                n += 1
        s.n_free_faces[p] = n


@kernel
def exchange_faces(s: Store, ids: I32, rows: I32) -> None:
    """Put other rows into the places of faces, and have all rings know."""
    for i in range(ids.shape[0]):
        f = ids[i]
        if s.faces[f, 0] != s.faces[f, 1]:
            for c in range(3):
                ring_drop(s, s.faces[f, c], f)
    for i in range(ids.shape[0]):
        f = ids[i]
        for c in range(4):
            s.faces[f, c], rows[i, c] = rows[i, c], s.faces[f, c]
        s.changed[f >> FACE_BITS] = 1
        if s.faces[f, 0] != s.faces[f, 1]:
            for c in range(3):
                ring_add(s, s.faces[f, c], f)


@kernel
def park(s: Store, patches: I32) -> None:
    """Let the empty places of patches stand at a vertex that is there, so that boxes stay small."""
    for i in range(patches.shape[0]):
        first = patches[i] << PATCH_BITS
        live = -1
        for v in range(first, first + PATCH):
            if s.ring[v, 0] != s.ring[v, 1]:
                live = v
                break
        if live < 0:
            live = first + ANCHOR
        for v in range(first, first + PATCH):
            if s.ring[v, 0] == s.ring[v, 1]:
                for k in range(3):
                    s.positions[v, k] = s.positions[live, k]
