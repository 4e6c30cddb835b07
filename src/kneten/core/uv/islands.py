"""Islands: the faces that hang together where nothing is cut, and the points that their corners share.

A *point* is what a vertex becomes in the picture plane: one of each island at least, more where a cut runs through it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, I32, U8, AnyArray, kernel
from kneten.core.mesh import Mesh
from kneten.core.subdivide import edges_of
from kneten.core.topology import Topology


@dataclass(frozen=True, eq=False)
class Edges:
    """The edges of a topology, as `subdivide.edges_of` numbers them.

    Attributes
    ----------
    of_face : (f, 4) int32
    ends, sides : (m, 2) int32
    """

    of_face: I32
    ends: I32
    sides: I32

    @classmethod
    def of(cls, shape: Topology) -> Edges:
        """Number them."""
        return cls(*edges_of(shape))

    @property
    def inner(self) -> AnyArray:
        """Which have exactly two faces, (m,) bool."""
        return np.asarray((self.sides >= 0).all(axis=1))

    def marked(self, bits: U8, faces: I32) -> AnyArray:
        """Which edges have their bit set at any of their faces, (m,) bool; `bits` is (f,)."""
        out = np.zeros(len(self.ends), bool)
        for c in range(4):
            here = ((bits >> c) & 1).astype(bool) & (faces[:, c] >= 0)
            out[self.of_face[here, c]] = True
        return out

    def bits(self, marked: AnyArray, faces: I32) -> U8:
        """For each face, (f,), the bits of those of its edges that are among `marked` (m,)."""
        return ((marked[self.of_face] & (faces >= 0)) << np.arange(4)).sum(axis=1).astype(np.uint8)


@dataclass(frozen=True, eq=False)
class Islands:
    """Faces by what hangs together.

    Attributes
    ----------
    faces : (f, 4) int32
        The mesh's own.
    points : (f, 4) int32
        The point of each corner; -1 where a triangle has none.
    vertex : (p,) int32
        The vertex of each point.
    of_face : (f,) int32
        The island of each face, the largest number of faces first.
    count : int
    """

    faces: I32
    points: I32
    vertex: I32
    of_face: I32
    count: int

    def of_points(self) -> I32:
        """The island of each point, (p,)."""
        out = np.zeros(len(self.vertex), np.int32)
        has = self.points >= 0
        out[self.points[has]] = np.broadcast_to(self.of_face[:, None], self.points.shape)[has]
        return out

    def at_points(self, uv: F32) -> F32:
        """UVs (f, 8) as those of points, (p, 2)."""
        out = np.zeros((len(self.vertex), 2), np.float32)
        has = self.points >= 0
        out[self.points[has]] = uv.reshape(-1, 4, 2)[has]
        return out

    def at_corners(self, at: AnyArray) -> F32:
        """Places of points (p, 2) as UVs, (f, 8)."""
        out = np.zeros((*self.points.shape, 2), np.float32)
        has = self.points >= 0
        out[has] = at[self.points[has]]
        return out.reshape(len(self.points), 8)

    def members(self) -> list[AnyArray]:
        """The faces of each island, (k,) each."""
        order = np.argsort(self.of_face, kind="stable")
        return np.split(order, np.cumsum(np.bincount(self.of_face, minlength=self.count))[:-1])


@kernel
def _root(up: I32, k: int) -> int:
    while up[k] != k:
        up[k] = up[up[k]]
        k = up[k]
    return k


@kernel
def _join_corners(faces: I32, of_face: I32, sides: I32, ends: I32, cut: U8, up: I32) -> None:
    """Join the corners that two faces have at an edge that is not cut."""
    for e in range(len(ends)):
        if cut[e]:
            continue
        for k in range(2):
            v = ends[e, k]
            mine = -1
            for s in range(2):
                f = sides[e, s]
                c = 0
                while c < 4 and faces[f, c] != v:
                    c += 1
                if c == 4:
                    continue
                root = _root(up, 4 * f + c)
                if mine >= 0:
                    up[max(mine, root)] = min(mine, root)
                mine = min(root, mine) if mine >= 0 else root


@kernel
def _join_faces(sides: I32, cut: U8, up: I32) -> None:
    for e in range(len(sides)):
        if not cut[e]:
            a = _root(up, sides[e, 0])
            b = _root(up, sides[e, 1])
            up[max(a, b)] = min(a, b)


@kernel
def _flatten(up: I32) -> None:
    for k in range(len(up)):
        up[k] = up[up[k]]


def islands_of(shape: Topology, edges: Edges, cut: AnyArray) -> Islands:
    """What hangs together where edges are cut, (m,) bool; open edges and those of many faces always are."""
    faces = shape.faces
    closed = np.ascontiguousarray(cut | ~edges.inner).astype(np.uint8)
    up = np.arange(4 * len(faces), dtype=np.int32)
    _join_corners(faces, edges.of_face, edges.sides, edges.ends, closed, up)
    _flatten(up)
    has = faces.reshape(-1) >= 0
    roots, points = np.unique(up[has], return_inverse=True)
    named = np.full(len(up), -1, np.int32)
    named[has] = points
    whole = np.arange(len(faces), dtype=np.int32)
    _join_faces(edges.sides, closed, whole)
    _flatten(whole)
    _, first, number, counts = np.unique(whole, return_index=True, return_inverse=True, return_counts=True)
    rank = np.empty(len(first), np.int32)
    rank[np.lexsort((first, -counts))] = np.arange(len(first), dtype=np.int32)
    return Islands(faces, named.reshape(-1, 4), faces.reshape(-1)[roots], rank[number], len(first))


def cut_by_uv(uv: F32, shape: Topology, edges: Edges) -> AnyArray:
    """Which edges lie in different places on their two sides, (m,) bool."""
    table, faces = uv.reshape(-1, 4, 2), shape.faces
    out = ~edges.inner
    inner = np.flatnonzero(~out)
    for k in range(2):
        v = edges.ends[inner, k]
        found = []
        for s in range(2):
            f = edges.sides[inner, s]
            found.append(table[f, np.argmax(faces[f] == v[:, None], axis=1)])
        out[inner] |= (found[0] != found[1]).any(axis=1)
    return np.asarray(out)


def has_uv(uv: F32 | None) -> AnyArray:
    """Which faces are laid out at all, (f,) bool: those whose corners do not all lie at nought."""
    if uv is None:
        return np.zeros(0, bool)
    return np.asarray((uv != 0).any(axis=1))


def islands_of_uv(mesh: Mesh, edges: Edges | None = None) -> Islands:
    """The islands of a mesh's UVs, which must be there."""
    assert mesh.uv is not None
    edges = edges or Edges.of(mesh.topology)
    return islands_of(mesh.topology, edges, cut_by_uv(mesh.uv, mesh.topology, edges))
