"""Subdivide: Catmull-Clark (1978) for quads and triangles, with open edges as in DeRose et al. (1998)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from kneten.core.arrays import F64, I32, U8, AnyArray, Progress, kernel
from kneten.core.mesh import Mesh
from kneten.core.topology import Topology, face_order, finish_topology


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


@kernel
def _middles(faces: I32, edges: I32, values: AnyArray, middles: F64, sums: F64, uses: I32) -> None:
    """Middles of faces; for each edge the sum of its faces' middles, and how many there are."""
    width = values.shape[1]
    for f in range(faces.shape[0]):
        size = 3 if faces[f, 3] < 0 else 4
        for k in range(width):
            total = 0.0
            for c in range(size):
                total += values[faces[f, c], k]
            middles[f, k] = total / size
        for c in range(size):
            e = edges[f, c]
            uses[e] += 1
            for k in range(width):
                sums[e, k] += middles[f, k]


@kernel
def _new_values(
    faces: I32,
    start: I32,
    ring: I32,
    edges: I32,
    ends: I32,
    border: U8,
    values: AnyArray,
    middles: F64,
    sums: F64,
    uses: I32,
    smooth: bool,
    of_vertex: I32,
    of_edge: I32,
    of_face: I32,
    out: AnyArray,
) -> None:
    """Values of the new vertices, each at its place in the new order."""
    width = values.shape[1]
    total = np.zeros(width)
    for v in range(values.shape[0]):
        count = start[v, 1] - start[v, 0]
        if not smooth or count == 0:
            for k in range(width):
                out[of_vertex[v], k] = values[v, k]
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
                if v in (a, b) and uses[edges[f, c]] == 1:
                    n_open += 1
                    for k in range(width):
                        total[k] += values[b if a == v else a, k]
        for k in range(width):
            value = np.float64(values[v, k])
            if n_open == 2:
                value = 0.75 * value + 0.125 * total[k]
            out[of_vertex[v], k] = value
    for e in range(ends.shape[0]):
        a = ends[e, 0]
        b = ends[e, 1]
        for k in range(width):
            middle = np.float64(values[a, k]) + np.float64(values[b, k])
            if smooth and uses[e] == 2:
                out[of_edge[e], k] = (middle + sums[e, k]) / 4.0
            else:
                out[of_edge[e], k] = middle / 2.0
    for f in range(faces.shape[0]):
        for k in range(width):
            out[of_face[f], k] = middles[f, k]


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


@dataclass(frozen=True)
class Step:
    """How the vertices of a level come from those of the level below.

    Attributes
    ----------
    edges : (f, 4) int32
        The numbers of each face's edges below.
    ends : (m, 2) int32
        The vertices of each edge below.
    of_vertex, of_edge, of_face : (n,), (m,), (f,) int32
        The vertex that came from each vertex, edge and face below.
    source : (n + m + f,) int32
        Source order: the vertices below as they came in, then the edges', then the faces'.
    """

    edges: I32
    ends: I32
    of_vertex: I32
    of_edge: I32
    of_face: I32
    source: I32

    @classmethod
    def of(cls, shape: Topology) -> Step:
        """Number what subdividing a topology makes."""
        faces, n = shape.faces, shape.n_vertices
        edges = np.empty((len(faces), 4), np.int32)
        ends = np.empty((int(np.count_nonzero(faces >= 0)), 2), np.int32)
        m = number_edges(faces, shape.ring, shape.ring_faces, edges, ends)
        ends = ends[:m].copy()
        of_vertex, of_edge = np.empty(n, np.int32), np.empty(m, np.int32)
        of_face = np.empty(len(faces), np.int32)
        source = np.empty(n + m + len(faces), np.int32)
        _places(faces, ends, n, of_vertex, of_edge, of_face, source, shape.source_vertex)
        return cls(edges, ends, of_vertex, of_edge, of_face, source)

    @property
    def nbytes(self) -> int:
        arrays = (self.edges, self.ends, self.of_vertex, self.of_edge, self.of_face, self.source)
        return int(sum(array.nbytes for array in arrays))

    def refine(self, below: Topology, values: AnyArray, smooth: bool, kind: type) -> AnyArray:
        """Values (n, k) of the level below on this one: by the smooth rules, or simple means."""
        width = values.shape[1]
        middles = np.empty((below.n_faces, width))
        sums = np.zeros((len(self.ends), width))
        uses = np.zeros(len(self.ends), np.int32)
        _middles(below.faces, self.edges, values, middles, sums, uses)
        out = np.empty((len(self.source), width), kind)
        _new_values(
            below.faces,
            below.ring,
            below.ring_faces,
            self.edges,
            self.ends,
            below.border,
            values,
            middles,
            sums,
            uses,
            smooth,
            self.of_vertex,
            self.of_edge,
            self.of_face,
            out,
        )
        return out

    def topology(self, below: Topology) -> Topology:
        """The faces of the level: each below is cut into as many quads as it has corners."""
        faces = np.empty((int(np.count_nonzero(below.faces >= 0)), 4), np.int32)
        _new_faces(below.faces, self.edges, self.of_vertex, self.of_edge, self.of_face, faces)
        order = face_order(faces, len(self.source))
        return finish_topology(faces[order], self.source, order)

    def values(self, mesh: Mesh, topology: Topology) -> dict[str, Any]:
        """What a mesh below has of values, on the level: means of a vertex's, each face's own."""
        below = mesh.topology
        made: dict[str, Any] = {}
        if mesh.colour is not None:
            colour = self.refine(below, mesh.colour, False, np.float64)
            made["colour"] = np.rint(colour).astype(np.uint8)
        if mesh.mask is not None:
            made["mask"] = self.refine(below, mesh.mask[:, None], False, np.float32)[:, 0].copy()
        if mesh.origin is not None:
            # A new vertex belongs where most of what it was made from belongs.
            kinds = np.unique(mesh.origin)
            shares = [
                self.refine(below, (mesh.origin == kind).astype(np.float32)[:, None], False, np.float32)
                for kind in kinds
            ]
            made["origin"] = kinds[np.argmax(np.concatenate(shares, axis=1), axis=1)]
        # Every face is followed by as many as it has corners.
        corners = np.where(below.faces[:, 3] >= 0, 4, 3)
        for name in ("regions", "hidden"):
            value = getattr(mesh, name)
            if value is not None:
                made[name] = np.repeat(value, corners)[topology.source_face]
        return made


def subdivide(mesh: Mesh, progress: Progress) -> Mesh:
    """Cut every face into quads and round them towards the limit surface."""
    progress.report(0.1, "Numbering edges")
    step = Step.of(mesh.topology)
    progress.report(0.3, "Placing vertices")
    positions = step.refine(mesh.topology, mesh.positions, True, np.float32)
    progress.report(0.5, "Making faces")
    topology = step.topology(mesh.topology)
    return Mesh(topology, positions, **step.values(mesh, topology))
