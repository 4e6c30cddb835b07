"""The shape of a mesh apart from its values: faces, rings, borders, patches, source order."""

from __future__ import annotations

import functools
import itertools
import uuid
from dataclasses import dataclass, field

import numpy as np

from kneten.core.arrays import F32, I32, U8, U32, in_parts, kernel
from kneten.core.ordering import (
    corner_limits,
    face_order,
    first_twice,
    least_corners,
    renamed,
    space_order,
    taken,
)

PATCH_BITS = 9
PATCH = 1 << PATCH_BITS
"""Vertices in a patch. 512 positions are 6 kB: a patch and its faces stay in a first-level cache."""

NO_CORNER = np.uint32(0xFFFFFFFF)
"""-1, as an unsigned number."""

CLUSTER = 64
"""Patches in a cluster; a part of 8 M vertices has 15,625 patches and 245 clusters."""

_counter = itertools.count(1)


class MeshError(ValueError):
    """The faces and vertices do not make a mesh. The text says what is wrong."""


@dataclass(frozen=True, eq=False)
class Topology:
    """Faces and everything that follows from them. Immutable and shared.

    Vertices and faces are in *internal* order, sorted in space, so that patch `p` is the vertices
    `512 p .. 512 (p + 1)` and the faces `patch_faces[p] .. patch_faces[p + 1]`.

    Attributes
    ----------
    faces : (f, 4) int32
        Corner vertices; the last entry is -1 for a triangle.
    ring : (n, 2) int32
        Where each vertex's faces begin and end in `ring_faces`. Where they end is kept too, so that a loose mesh
        (`core/loose.py`) can have room behind each ring.
    ring_faces : (sum of valences,) int32
        The faces around each vertex. Neighbouring vertices are read off these faces: keeping them
        as well would cost 28 bytes per vertex and read no faster.
    border : (n,) uint8
        1 where the vertex lies on an open edge.
    patch_faces : (patches + 1,) int32
        Where each patch's faces begin.
    source_vertex : (n,) int32
        The place of each internal vertex in the order the mesh came in.
    source_face : (f,) int32
        The same for faces.
    """

    faces: I32
    ring: I32
    ring_faces: I32
    border: U8
    patch_faces: I32
    source_vertex: I32
    source_face: I32
    uid: str = field(default_factory=lambda: uuid.uuid4().hex)
    serial: int = field(default_factory=lambda: next(_counter))

    @functools.cached_property
    def walk(self) -> tuple[U32, U32, U32]:
        """`faces` (f, 4), `ring` (n, 2), `ring_faces` (k,) as unsigned numbers, for the loops of a dab.

        Signed indices may be negative, and compiled loops look for that at every access: walking
        rings takes 1.8 times as long. A triangle's missing corner reads `NO_CORNER` here.
        """
        return (
            self.faces.view(np.uint32),
            self.ring.view(np.uint32),
            self.ring_faces.view(np.uint32),
        )

    @property
    def face_bits(self) -> int:
        """Where faces have places by patch, a face's number shifted by this is its patch; else 0."""
        return 0

    @property
    def n_vertices(self) -> int:
        """How many vertices there are."""
        return len(self.source_vertex)

    @property
    def n_faces(self) -> int:
        """How many faces there are."""
        return len(self.faces)

    @property
    def n_patches(self) -> int:
        """How many patches there are."""
        return len(self.patch_faces) - 1

    @functools.cached_property
    def has_border(self) -> bool:
        """Whether there are open edges."""
        return bool(self.border.any())

    @functools.cached_property
    def n_triangles(self) -> int:
        """How many triangles they are, quads counted twice."""
        return int(self.n_faces + np.count_nonzero(self.faces[:, 3] >= 0))

    @property
    def nbytes(self) -> int:
        """Bytes held on the CPU."""
        arrays = (self.faces, self.ring, self.ring_faces, self.border, self.patch_faces)
        return sum(a.nbytes for a in arrays) + self.source_vertex.nbytes + self.source_face.nbytes


MOST_AROUND = 20_000
"""Faces around a vertex at most: some passes take the square of it."""


@kernel
def _ring_sizes(faces: I32, ring: I32) -> tuple[int, int]:
    """Fill `ring` (n, 2) with where each vertex's faces begin, twice; returns how many there are, and the most of one."""
    for f in range(faces.shape[0]):
        for c in range(4):
            v = faces[f, c]
            if v >= 0:
                ring[v, 1] += 1
    total, most = 0, 0
    for v in range(ring.shape[0]):
        most = max(most, ring[v, 1])
        size = ring[v, 1]
        ring[v, 0] = total
        ring[v, 1] = total
        total += size
    return total, most


@kernel
def _ring_fill(faces: I32, ring: I32, ring_faces: I32) -> None:
    """Put every face into its vertices' rings, which then end where they should."""
    for f in range(faces.shape[0]):
        for c in range(4):
            v = faces[f, c]
            if v >= 0:
                ring_faces[ring[v, 1]] = f
                ring[v, 1] += 1


@kernel
def _find_border(faces: U32, ring: U32, ring_faces: U32, border: U8, first: int, last: int) -> None:
    """Around an inner vertex each neighbour is met twice, so that all of them cancel under XOR.

    Neighbours are scrambled first (Knuth's multiplier): small numbers alone could cancel by chance. Takes unsigned
    numbers, as `Topology.walk` does.
    """
    scramble = np.uint64(0x9E3779B97F4A7C15)
    for v in range(first, last):
        mix = np.uint64(0)
        for k in range(ring[v, 0], ring[v, 1]):
            f = ring_faces[k]
            a, b, c, d = faces[f, 0], faces[f, 1], faces[f, 2], faces[f, 3]
            if d != NO_CORNER:
                if v in (a, c):
                    a, c = b, d
            elif v == a:
                a = b
            elif v == c:
                c = b
            mix ^= (np.uint64(a) + np.uint64(1)) * scramble
            mix ^= (np.uint64(c) + np.uint64(1)) * scramble
        if mix != 0:
            border[v] = 1


def as_faces(polygons: I32) -> I32:
    """Faces as (f, 4) int32 from (f, 3) or (f, 4)."""
    faces = np.ascontiguousarray(polygons, np.int32)
    if faces.ndim == 2 and faces.shape[1] == 3:
        faces = np.concatenate([faces, np.full((len(faces), 1), -1, np.int32)], axis=1)
    return faces


def check_faces(faces: I32, n_vertices: int) -> None:
    """Raise `MeshError` unless `faces` is a usable (f, 4) array over `n_vertices` vertices."""
    if faces.ndim != 2 or faces.shape[1] != 4:
        raise MeshError(f"faces must be an (f, 3) or (f, 4) array, not {faces.shape}")
    if len(faces) == 0:
        raise MeshError("there are no faces")
    low, low_last, high = corner_limits(faces)
    if low < 0 or low_last < -1 or high >= n_vertices:
        raise MeshError(f"a face names a vertex that is not there (there are {n_vertices:,})")


def check_distinct(faces: I32) -> None:
    """Raise `MeshError` where one of the faces (f, 4) names a vertex twice."""
    if (first := first_twice(faces)) >= 0:
        raise MeshError(f"face {first + 1} names a vertex twice")


def build_topology(faces: I32, positions: F32) -> tuple[Topology, I32]:
    """Sort a mesh in space and build its topology.

    Parameters
    ----------
    faces : (f, 3) or (f, 4) int
        In source order.
    positions : (n, 3) float32
        In source order.

    Returns
    -------
    topology : Topology
    order : (n,) int32
        `positions[order]` are the positions in internal order.

    Raises
    ------
    MeshError
        When an index is out of range or there are no faces.
    """
    faces = as_faces(faces)
    n = len(positions)
    check_faces(faces, n)
    order = space_order(positions)
    place = np.empty(n, np.int32)
    place[order] = np.arange(n, dtype=np.int32)
    moved = renamed(faces, place)
    by_least = face_order(moved, n)
    return finish_topology(taken(moved, by_least), order, by_least), order


def finish_topology(
    faces: I32, source_vertex: I32, source_face: I32, uid: str = "", ordered: bool = True
) -> Topology:
    """Build rings, borders and patches of faces (f, 4) that are in internal order already.

    Parameters
    ----------
    ordered : bool
        Faces must be in the order of their least vertices; where they need not be, patches mean nothing.

    Raises
    ------
    MeshError
        When an index is out of range, faces are not in order, or too many meet in a vertex.
    """
    n = len(source_vertex)
    check_faces(faces, n)
    ring = np.zeros((n, 2), np.int32)
    total, most = _ring_sizes(faces, ring)
    ring_faces = np.empty(total, np.int32)
    _ring_fill(faces, ring, ring_faces)
    border = np.zeros(n, np.uint8)
    walk = faces.view(np.uint32), ring.view(np.uint32), ring_faces.view(np.uint32)
    in_parts(n, lambda first, last: _find_border(*walk, border, first, last))
    if most > MOST_AROUND:
        raise MeshError(f"a vertex has more than {MOST_AROUND:,} faces around it")
    least = least_corners(faces)
    if ordered and (least[1:] < least[:-1]).any():
        # Patches are runs of faces: kernels would look for them where they are not.
        raise MeshError("its faces are not in the order of their least vertices")
    n_patches = (n + PATCH - 1) // PATCH
    # Of the same kind as what is looked through, which else is copied whole; its last is no vertex any more.
    bounds = np.minimum(np.arange(n_patches + 1, dtype=np.int64) * PATCH, n).astype(np.int32)
    patch_faces = np.searchsorted(least, bounds).astype(np.int32)
    arrays = (faces, ring, ring_faces, border, patch_faces, source_vertex, source_face)
    for array in arrays:
        array.flags.writeable = False
    return Topology(*arrays, uid=uid or uuid.uuid4().hex)
