"""Subdivide: Catmull-Clark (1978) for quads and triangles, with open edges and creases as in DeRose et al. (1998)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, AnyArray, Progress, in_parts, inlined, kernel
from kneten.core.mesh import Mesh
from kneten.core.ordering import face_order
from kneten.core.topology import Topology, finish_topology
from kneten.core.values import VALUES

CREASE = 25
"""What an edge has for each subdivision that it stays sharp in."""

FOR_EVER = 255
"""What an edge has that never becomes blunt."""


@kernel
def number_edges(faces: I32, start: I32, ring: I32, edges: I32, ends: I32) -> int:
    """Give every edge a number.

    `edges[f, c]` receives the number of the edge from corner `c` to the next; `ends` (as long as there
    are corners, (m, 2)) its vertices. An edge is numbered at its lower vertex, among
    the handful of edges met there.
    """
    n = 0
    most = 0
    for v in range(start.shape[0]):
        most = max(most, start[v, 1] - start[v, 0])
    others = np.empty(2 * most, np.int32)
    for v in range(start.shape[0]):
        first = n
        for k in range(start[v, 0], start[v, 1]):
            f = ring[k]
            size = 3 if faces[f, 3] < 0 else 4
            c = 0
            while faces[f, c] != v:
                c += 1
            before = c - 1 if c > 0 else size - 1
            after = c + 1 if c + 1 < size else 0
            for side in range(2):
                other = faces[f, after] if side == 0 else faces[f, before]
                if other < v:
                    continue
                e = first
                while e < n and others[e - first] != other:
                    e += 1
                if e == n:
                    others[n - first] = other
                    ends[n, 0] = v
                    ends[n, 1] = other
                    n += 1
                edges[f, c if side == 0 else before] = e
    return n


@inlined
def _middle(faces: I32, values: AnyArray, f: int, k: int) -> float:
    """The middle of one face."""
    size = 3 if faces[f, 3] < 0 else 4
    total = 0.0
    for c in range(size):
        total += values[faces[f, c], k]
    return total / size


@kernel
def _sides(faces: I32, edges: I32, sides: I32) -> None:
    """The faces on both sides of each edge, -1 where there is none; where there are more than two, none either."""
    for f in range(faces.shape[0]):
        size = 3 if faces[f, 3] < 0 else 4
        for c in range(size):
            e = edges[f, c]
            if sides[e, 0] == -1:
                sides[e, 0] = f
            elif sides[e, 1] == -1:
                sides[e, 1] = f
            else:
                sides[e, 1] = -2


@kernel
def _middles(faces: I32, values: AnyArray, first: int, last: int, middles: F64) -> None:
    """Middles of faces."""
    for f in range(first, last):
        size = 3 if faces[f, 3] < 0 else 4
        for k in range(values.shape[1]):
            total = 0.0
            for c in range(size):
                total += values[faces[f, c], k]
            middles[f, k] = total / size


@inlined
def _at_crease(
    faces: I32,
    start: I32,
    ring: I32,
    edges: I32,
    sides: I32,
    border: U8,
    sharp: U8,
    values: AnyArray,
    v: int,
    k: int,
) -> float:
    """One column of a vertex at which edges are sharp: between the rules for none, two, and more of them."""
    count = start[v, 1] - start[v, 0]
    # Inner edges are met from both of their faces: twice.
    met = 0
    met_open = 0
    weight = 0.0
    along = 0.0
    along_open = 0.0
    around = 0.0
    for i in range(start[v, 0], start[v, 1]):
        f = ring[i]
        size = 3 if faces[f, 3] < 0 else 4
        own = 0
        while faces[f, own] != v:
            own += 1
        for side in range(2):
            corner = own if side == 0 else (own + size - 1) % size
            other = faces[f, (own + 1) % size] if side == 0 else faces[f, corner]
            e = edges[f, corner]
            around += 0.5 * np.float64(values[other, k])
            if sides[e, 1] == -1:
                met += 2
                met_open += 1
                along += 2.0 * np.float64(values[other, k])
                along_open += np.float64(values[other, k])
            elif sides[e, 1] >= 0 and sharp[e] > 0:
                met += 1
                weight += np.float64(sharp[e])
                along += np.float64(values[other, k])
        around += _middle(faces, values, f, k)
    value = np.float64(values[v, k])
    if border[v] != 0:
        blunt = 0.75 * value + 0.125 * along_open if met_open == 2 else value
    else:
        blunt = (around / count + (count - 2.0) * value) / count
    creased = value
    if met == 4:
        creased = 0.75 * value + 0.125 * (0.5 * along)
    elif met < 4:
        creased = blunt
    inner = met - 2 * met_open
    share = min(weight / (inner * CREASE), 1.0) if inner > 0 else 1.0
    return share * creased + (1.0 - share) * blunt


@kernel
def _of_vertices(
    faces: I32,
    start: I32,
    ring: I32,
    edges: I32,
    sides: I32,
    border: U8,
    sharp: U8,
    creased: U8,
    values: AnyArray,
    middles: F64,
    smooth: bool,
    of_vertex: I32,
    first: int,
    last: int,
    out: AnyArray,
) -> None:
    """Values of the vertices that were vertices."""
    width = values.shape[1]
    total = np.zeros(width)
    for v in range(first, last):
        count = start[v, 1] - start[v, 0]
        if not smooth or count == 0:
            for k in range(width):
                out[of_vertex[v], k] = values[v, k]
            continue
        if creased.shape[0] > 0 and creased[v] != 0:
            for k in range(width):
                out[of_vertex[v], k] = _at_crease(
                    faces, start, ring, edges, sides, border, sharp, values, v, k
                )
            continue
        total[:] = 0.0
        n_open = 0
        if border[v] == 0:
            for i in range(start[v, 0], start[v, 1]):
                f = ring[i]
                a = faces[f, 0]
                b = faces[f, 2]
                d = faces[f, 3]
                if d >= 0:
                    if v in (a, b):
                        a = faces[f, 1]
                        b = d
                elif v == a:
                    a = faces[f, 1]
                elif v == b:
                    b = faces[f, 1]
                for k in range(width):
                    # Each neighbour is met from both of the edge's faces.
                    total[k] += middles[f, k] + 0.5 * (np.float64(values[a, k]) + np.float64(values[b, k]))
            for k in range(width):
                value = (total[k] / count + (count - 2.0) * values[v, k]) / count
                out[of_vertex[v], k] = value
            continue
        for i in range(start[v, 0], start[v, 1]):
            f = ring[i]
            size = 3 if faces[f, 3] < 0 else 4
            for c in range(size):
                a = faces[f, c]
                b = faces[f, (c + 1) % size]
                if v in (a, b) and sides[edges[f, c], 1] == -1:
                    n_open += 1
                    for k in range(width):
                        total[k] += values[b if a == v else a, k]
        for k in range(width):
            value = np.float64(values[v, k])
            if n_open == 2:
                value = 0.75 * value + 0.125 * total[k]
            out[of_vertex[v], k] = value


@inlined
def _bluntness(sharp: U8, e: int) -> float:
    """How far an edge follows the smooth rule."""
    if sharp.shape[0] == 0:
        return 1.0
    return max(1.0 - sharp[e] / CREASE, 0.0)


@kernel
def _of_edges(
    ends: I32,
    sides: I32,
    sharp: U8,
    values: AnyArray,
    middles: F64,
    smooth: bool,
    of_edge: I32,
    first: int,
    last: int,
    out: AnyArray,
) -> None:
    """Values of the vertices in the middles of edges."""
    for e in range(first, last):
        a = ends[e, 0]
        b = ends[e, 1]
        f = sides[e, 0]
        g = sides[e, 1]
        blunt = _bluntness(sharp, e)
        for k in range(values.shape[1]):
            middle = np.float64(values[a, k]) + np.float64(values[b, k])
            if smooth and g >= 0:
                rounded = (middle + (middles[f, k] + middles[g, k])) / 4.0
                if blunt < 1.0:
                    rounded = blunt * rounded + (1.0 - blunt) * (middle / 2.0)
                out[of_edge[e], k] = rounded
            else:
                out[of_edge[e], k] = middle / 2.0


@kernel
def _of_faces(middles: F64, of_face: I32, first: int, last: int, out: AnyArray) -> None:
    """Values of the vertices in the middles of faces."""
    for f in range(first, last):
        for k in range(middles.shape[1]):
            out[of_face[f], k] = middles[f, k]


@kernel
def _of_some(
    faces: I32,
    start: I32,
    ring: I32,
    edges: I32,
    ends: I32,
    sides: I32,
    border: U8,
    sharp: U8,
    creased: U8,
    values: F32,
    kinds: I32,
    numbers: I32,
    rows: I32,
    out: F32,
) -> None:
    """Smooth values (n, 3) of single vertices: what the kernels above give for all, to the bit.

    Parameters
    ----------
    kinds : (k,) int32
        0 for what was a vertex, 1 an edge, 2 a face; `numbers` says which.
    """
    total = np.zeros(3)
    for i in range(rows.shape[0]):
        number = numbers[i]
        if kinds[i] == 2:
            for k in range(3):
                out[rows[i], k] = _middle(faces, values, number, k)
            continue
        if kinds[i] == 1:
            a = ends[number, 0]
            b = ends[number, 1]
            f = sides[number, 0]
            g = sides[number, 1]
            blunt = _bluntness(sharp, number)
            for k in range(3):
                middle = np.float64(values[a, k]) + np.float64(values[b, k])
                if g >= 0:
                    rounded = (middle + (_middle(faces, values, f, k) + _middle(faces, values, g, k))) / 4.0
                    if blunt < 1.0:
                        rounded = blunt * rounded + (1.0 - blunt) * (middle / 2.0)
                    out[rows[i], k] = rounded
                else:
                    out[rows[i], k] = middle / 2.0
            continue
        v = number
        count = start[v, 1] - start[v, 0]
        if count == 0:
            for k in range(3):
                out[rows[i], k] = values[v, k]
            continue
        if creased.shape[0] > 0 and creased[v] != 0:
            for k in range(3):
                out[rows[i], k] = _at_crease(faces, start, ring, edges, sides, border, sharp, values, v, k)
            continue
        total[:] = 0.0
        n_open = 0
        for j in range(start[v, 0], start[v, 1]):
            f = ring[j]
            size = 3 if faces[f, 3] < 0 else 4
            own = 0
            while faces[f, own] != v:
                own += 1
            after = faces[f, (own + 1) % size]
            before = faces[f, (own + size - 1) % size]
            if border[v] == 0:
                # In the order of the face's corners, as for all.
                low = min((own + 1) % size, (own + size - 1) % size)
                high = max((own + 1) % size, (own + size - 1) % size)
                a = faces[f, low]
                b = faces[f, high]
                for k in range(3):
                    total[k] += _middle(faces, values, f, k) + 0.5 * (
                        np.float64(values[a, k]) + np.float64(values[b, k])
                    )
                continue
            if sides[edges[f, own], 1] == -1:
                n_open += 1
                for k in range(3):
                    total[k] += values[after, k]
            if sides[edges[f, (own + size - 1) % size], 1] == -1:
                n_open += 1
                for k in range(3):
                    total[k] += values[before, k]
        for k in range(3):
            value = np.float64(values[v, k])
            if border[v] == 0:
                value = (total[k] / count + (count - 2.0) * values[v, k]) / count
            elif n_open == 2:
                value = 0.75 * value + 0.125 * total[k]
            out[rows[i], k] = value


@kernel
def _places(
    faces: I32, ends: I32, n: int, of_vertex: I32, of_edge: I32, of_face: I32, source: I32, old: I32
) -> None:
    """Where the new vertices go: behind each old vertex its edges to later ones, then its faces.

    Edges and faces come sorted by their least vertex, so that the new order follows the old through
    space and nothing needs to be sorted.
    """
    e = 0
    f = 0
    place = 0
    m = ends.shape[0]
    for v in range(n):
        of_vertex[v] = place
        source[place] = old[v]
        place += 1
        while e < m and ends[e, 0] == v:
            of_edge[e] = place
            source[place] = n + e
            place += 1
            e += 1
        while f < faces.shape[0]:
            least = min(faces[f, 0], faces[f, 1], faces[f, 2])
            if faces[f, 3] >= 0:
                least = min(least, faces[f, 3])
            if least != v:
                break
            of_face[f] = place
            source[place] = n + m + f
            place += 1
            f += 1


@kernel
def _corners_of_children(faces: I32, table: AnyArray, out: AnyArray) -> None:
    """Of each corner's quad: what the corner has, the middles of both its edges, and the face's middle."""
    count = 0
    for f in range(faces.shape[0]):
        size = 3 if faces[f, 3] < 0 else 4
        for k in range(table.shape[2]):
            middle = 0.0
            for c in range(size):
                middle += table[f, c, k]
            middle /= size
            for c in range(size):
                own = np.float64(table[f, c, k])
                out[count + c, 0, k] = own
                out[count + c, 1, k] = (own + table[f, (c + 1) % size, k]) / 2.0
                out[count + c, 2, k] = middle
                out[count + c, 3, k] = (own + table[f, (c + size - 1) % size, k]) / 2.0
        count += size


def blunter(creases: AnyArray) -> AnyArray:
    """What creases (k,) or (f, 4) have left after one more subdivision."""
    return np.where(creases == FOR_EVER, FOR_EVER, np.maximum(creases, CREASE) - CREASE).astype(np.uint8)


def sharper(creases: AnyArray) -> AnyArray:
    """What creases (k,) or (f, 4) had one subdivision before; those that are gone by now stay so."""
    raised = np.minimum(creases.astype(np.int64) + CREASE, FOR_EVER)
    return np.where(creases > 0, raised, 0).astype(np.uint8)


def _edges_of_children(faces: I32, bits: AnyArray) -> AnyArray:
    """What each corner's quad has: its first edge is half of the corner's, its last half of the one before."""
    sizes = np.where(faces[:, 3] >= 0, 4, 3)
    owner = np.repeat(np.arange(len(faces)), sizes)
    corner = np.arange(len(owner)) - np.repeat(np.cumsum(sizes) - sizes, sizes)
    before = (corner + sizes[owner] - 1) % sizes[owner]
    if bits.ndim > 1:
        out = np.zeros((len(owner), 4), bits.dtype)
        out[:, 0], out[:, 3] = bits[owner, corner], bits[owner, before]
        return blunter(out)
    return (((bits[owner] >> corner) & 1) | (((bits[owner] >> before) & 1) << 3)).astype(bits.dtype)


@kernel
def _new_faces(faces: I32, edges: I32, of_vertex: I32, of_edge: I32, of_face: I32, out: I32) -> None:
    count = 0
    for f in range(faces.shape[0]):
        size = 3 if faces[f, 3] < 0 else 4
        for c in range(size):
            out[count, 0] = of_vertex[faces[f, c]]
            out[count, 1] = of_edge[edges[f, c]]
            out[count, 2] = of_face[f]
            out[count, 3] = of_edge[edges[f, (c + size - 1) % size]]
            count += 1


def foretell(topology: Topology) -> tuple[int, int]:
    """Vertices and faces after one subdivision of a closed mesh; open edges add a few vertices."""
    corners = int(np.count_nonzero(topology.faces >= 0))
    return topology.n_vertices + corners // 2 + topology.n_faces, corners


def edges_of(shape: Topology) -> tuple[I32, I32, I32]:
    """The edges of a topology.

    Returns
    -------
    edges : (f, 4) int32
        The number of the edge from each corner of a face to the next.
    ends, sides : (m, 2) int32
        The vertices of each edge, and the faces at it; -1 for the other side of an open edge, -2 where there are more.
    """
    faces = shape.faces
    # A face that names a vertex twice has edges without a number: they must name a place that is there.
    edges = np.zeros((len(faces), 4), np.int32)
    ends = np.empty((int(np.count_nonzero(faces >= 0)), 2), np.int32)
    m = number_edges(faces, shape.ring, shape.ring_faces, edges, ends)
    ends = ends[:m].copy()
    sides = np.full((m, 2), -1, np.int32)
    _sides(faces, edges, sides)
    return edges, ends, sides


def crease_of_edges(edges: I32, faces: I32, sides: I32, creases: U8 | None) -> U8:
    """How sharp each edge stays, (m,) uint8: what either of its faces has; (0,) where none is sharp.

    Parameters
    ----------
    edges, faces : (f, 4) int32
    sides : (m, 2) int32
    creases : (f, 4) uint8 or None
    """
    if creases is None or not creases.any():
        return np.zeros(0, np.uint8)
    sharp = np.zeros(len(sides), np.uint8)
    has = faces >= 0
    np.maximum.at(sharp, edges[has], creases[has])
    # An open edge is sharp anyway.
    sharp[sides[:, 1] < 0] = 0
    return sharp


def _ends_of(sharp: U8, ends: I32, n: int) -> U8:
    out = np.zeros(n if len(sharp) else 0, np.uint8)
    out[ends[sharp > 0].reshape(-1) if len(sharp) else []] = 1
    return out


@dataclass(frozen=True)
class Step:
    """How the vertices of a level come from those of the level below.

    Attributes
    ----------
    edges : (f, 4) int32
        The numbers of each face's edges below.
    ends, sides : (m, 2) int32
        The vertices of each edge below, and the faces at it; -1 for the other side of an open edge.
    of_vertex, of_edge, of_face : (n,), (m,), (f,) int32
        The vertex that came from each vertex, edge and face below.
    source : (n + m + f,) int32
        Source order: the vertices below as they came in, then the edges', then the faces'.
    sharp : (m,) or (0,) uint8
        How sharp each edge below stays, see `CREASE`; empty where none is.
    creased : (n,) or (0,) uint8
        1 at both ends of sharp edges.
    """

    edges: I32
    ends: I32
    sides: I32
    of_vertex: I32
    of_edge: I32
    of_face: I32
    source: I32
    sharp: U8
    creased: U8

    @classmethod
    def of(cls, shape: Topology, creases: U8 | None = None) -> Step:
        """Number what subdividing a topology makes, whose faces have creases (f, 4)."""
        faces, n = shape.faces, shape.n_vertices
        edges, ends, sides = edges_of(shape)
        m = len(ends)
        of_vertex, of_edge = np.empty(n, np.int32), np.empty(m, np.int32)
        of_face = np.empty(len(faces), np.int32)
        source = np.empty(n + m + len(faces), np.int32)
        _places(faces, ends, n, of_vertex, of_edge, of_face, source, shape.source_vertex)
        sharp = crease_of_edges(edges, faces, sides, creases)
        return cls(edges, ends, sides, of_vertex, of_edge, of_face, source, sharp, _ends_of(sharp, ends, n))

    def creasing(self, sharp: U8) -> Step:
        """The same where each edge below stays as sharp as told, (m,); (0,) for none."""
        return replace(self, sharp=sharp, creased=_ends_of(sharp, self.ends, len(self.of_vertex)))

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        arrays = (self.edges, self.ends, self.sides, self.of_vertex, self.of_edge, self.of_face, self.source)
        return int(sum(array.nbytes for array in arrays)) + self.sharp.nbytes + self.creased.nbytes

    def refine(self, below: Topology, values: AnyArray, smooth: bool, kind: type) -> AnyArray:
        """Values (n, k) of the level below on this one: by the smooth rules, or simple means."""
        faces, ends = below.faces, self.ends
        middles = np.empty((below.n_faces, values.shape[1]))
        out = np.empty((len(self.source), values.shape[1]), kind)
        in_parts(len(faces), lambda first, last: _middles(faces, values, first, last, middles))

        def vertices(first: int, last: int) -> None:
            shape = (faces, below.ring, below.ring_faces, self.edges, self.sides, below.border)
            creases = (self.sharp, self.creased)
            _of_vertices(*shape, *creases, values, middles, smooth, self.of_vertex, first, last, out)

        def edges(first: int, last: int) -> None:
            _of_edges(ends, self.sides, self.sharp, values, middles, smooth, self.of_edge, first, last, out)

        in_parts(below.n_vertices, vertices)
        in_parts(len(ends), edges)
        in_parts(len(faces), lambda first, last: _of_faces(middles, self.of_face, first, last, out))
        return out

    def kinds(self, rows: I32) -> tuple[I32, I32]:
        """What some vertices were below, (k,) int32: 0 a vertex, 1 an edge, 2 a face; and which."""
        kinds = np.zeros(len(rows), np.int32)
        numbers = np.zeros(len(rows), np.int32)
        for kind, places in enumerate((self.of_vertex, self.of_edge, self.of_face)):
            at = np.minimum(np.searchsorted(places, rows), len(places) - 1)
            here = places[at] == rows
            kinds[here], numbers[here] = kind, at[here]
        return kinds, numbers

    def refine_some(self, below: Topology, values: F32, rows: I32, out: F32) -> None:
        """Smooth positions of some vertices (k,) only, into their rows of `out` (n, 3): as `refine` gives them, to the bit."""
        kinds, numbers = self.kinds(rows)
        _of_some(
            below.faces,
            below.ring,
            below.ring_faces,
            self.edges,
            self.ends,
            self.sides,
            below.border,
            self.sharp,
            self.creased,
            values,
            kinds,
            numbers,
            rows,
            out,
        )

    def faces(self, below: Topology) -> I32:
        """The faces of the level, (f, 4): each below is cut into as many quads as it has corners, one after the other."""
        faces = np.empty((int(np.count_nonzero(below.faces >= 0)), 4), np.int32)
        _new_faces(below.faces, self.edges, self.of_vertex, self.of_edge, self.of_face, faces)
        return faces

    def topology(self, below: Topology) -> Topology:
        """The shape of the level."""
        faces = self.faces(below)
        order = face_order(faces, len(self.source))
        return finish_topology(faces[order], self.source, order)

    def makes(self, below: Topology, shape: Topology) -> bool:
        """Whether a topology is that of the level, faces in their order."""
        faces = self.faces(below)
        same = len(faces) == shape.n_faces
        return same and bool(np.array_equal(faces[face_order(faces, len(self.source))], shape.faces))

    def values(self, mesh: Mesh, topology: Topology, names: Iterable[str] | None = None) -> dict[str, Any]:
        """What a mesh below has of values, all or some by their names, on the level: means of a vertex's, each face's own."""
        wanted = mesh.values() if names is None else {name: getattr(mesh, name) for name in names}
        below = mesh.topology
        made: dict[str, Any] = {}
        # Every face is followed by as many as it has corners.
        corners = np.where(below.faces[:, 3] >= 0, 4, 3)
        for name, value in wanted.items():
            if VALUES[name].around == "corners":
                table = value.reshape(len(value), 4, -1)
                children = np.empty((int(corners.sum()), *table.shape[1:]), value.dtype)
                _corners_of_children(below.faces, table, children)
                made[name] = children.reshape(len(children), -1)[topology.source_face]
            elif VALUES[name].around == "edges":
                made[name] = _edges_of_children(below.faces, value)[topology.source_face]
            elif VALUES[name].by_face:
                made[name] = np.repeat(value, corners, axis=0)[topology.source_face]
            elif VALUES[name].label:
                # A new vertex belongs where most of what it was made from belongs.
                kinds = np.unique(value)
                shares = [
                    self.refine(below, (value == kind).astype(np.float32)[:, None], False, np.float32)
                    for kind in kinds
                ]
                made[name] = kinds[np.argmax(np.concatenate(shares, axis=1), axis=1)]
            else:
                table = value.reshape(len(value), -1)
                precise = np.float32 if value.dtype == np.float32 else np.float64
                made[name] = VALUES[name].cast(self.refine(below, table, False, precise))
        return made


def subdivide(mesh: Mesh, progress: Progress) -> Mesh:
    """Cut every face into quads and round them towards the limit surface."""
    progress.report(0.1, "Numbering edges")
    step = Step.of(mesh.topology, mesh.creases)
    progress.report(0.3, "Placing vertices")
    positions = step.refine(mesh.topology, mesh.positions, True, np.float32)
    progress.report(0.5, "Making faces")
    topology = step.topology(mesh.topology)
    return Mesh(topology, positions, **step.values(mesh, topology))
