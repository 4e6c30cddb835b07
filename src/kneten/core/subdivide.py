"""Subdivide: Catmull-Clark (1978) for quads and triangles, with open edges as in DeRose et al. (1998)."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import I32, AnyArray, Progress, kernel
from kneten.core.mesh import Mesh
from kneten.core.topology import Topology


@kernel
def number_edges(faces: I32, start: I32, ring: I32, edges: I32, ends: I32) -> int:
    """Give every edge a number.

    `edges[f, c]` receives the number of the edge from corner `c` to the next; `ends` (as long as there
    are corners, (m, 2)) its vertices. An edge is found from its lower vertex by looking at that vertex's
    own ring, which holds a handful of faces.
    """
    n = 0
    for f in range(faces.shape[0]):
        for c in range(4):
            edges[f, c] = -1
    for v in range(start.shape[0] - 1):
        for k in range(start[v], start[v + 1]):
            f = ring[k]
            size = 3 if faces[f, 3] < 0 else 4
            for c in range(size):
                a = faces[f, c]
                b = faces[f, (c + 1) % size]
                if min(a, b) != v or edges[f, c] >= 0:
                    continue
                other = max(a, b)
                for m in range(k, start[v + 1]):
                    g = ring[m]
                    size_g = 3 if faces[g, 3] < 0 else 4
                    for d in range(size_g):
                        p = faces[g, d]
                        q = faces[g, (d + 1) % size_g]
                        if (p == v and q == other) or (p == other and q == v):
                            edges[g, d] = n
                ends[n, 0] = v
                ends[n, 1] = other
                n += 1
    return n


@kernel
def _edge_sums(
    faces: I32, edges: I32, values: AnyArray, middles: AnyArray, sums: AnyArray, uses: I32
) -> None:
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
    values: AnyArray,
    middles: AnyArray,
    sums: AnyArray,
    uses: I32,
    smooth: bool,
    out: AnyArray,
) -> None:
    """Values of the new vertices: first the old vertices', then the edges', then the faces'."""
    n = values.shape[0]
    m = ends.shape[0]
    for v in range(n):
        count = start[v + 1] - start[v]
        for k in range(values.shape[1]):
            value = np.float64(values[v, k])
            if smooth and count > 0:
                face_sum = 0.0
                edge_sum = 0.0
                open_sum = 0.0
                n_edges = 0
                n_open = 0
                for i in range(start[v], start[v + 1]):
                    f = ring[i]
                    size = 3 if faces[f, 3] < 0 else 4
                    face_sum += middles[f, k]
                    for c in range(size):
                        a = faces[f, c]
                        b = faces[f, (c + 1) % size]
                        if a != v and b != v:
                            continue
                        other = np.float64(values[b if a == v else a, k])
                        e = edges[f, c]
                        # Each inner edge is met from both of its faces.
                        edge_sum += other / uses[e]
                        n_edges += 1
                        if uses[e] == 1:
                            open_sum += other
                            n_open += 1
                if n_open == 0:
                    value = (face_sum / count + edge_sum / count + (count - 2.0) * value) / count
                elif n_open == 2:
                    value = 0.75 * value + 0.125 * open_sum
            out[v, k] = value
    for e in range(m):
        for k in range(values.shape[1]):
            middle = np.float64(values[ends[e, 0], k]) + np.float64(values[ends[e, 1], k])
            if smooth and uses[e] == 2:
                out[n + e, k] = (middle + sums[e, k]) / 4.0
            else:
                out[n + e, k] = middle / 2.0
    for f in range(faces.shape[0]):
        for k in range(values.shape[1]):
            out[n + m + f, k] = middles[f, k]


@kernel
def _new_faces(faces: I32, edges: I32, n: int, m: int, out: I32) -> int:
    count = 0
    for f in range(faces.shape[0]):
        size = 3 if faces[f, 3] < 0 else 4
        for c in range(size):
            out[count, 0] = faces[f, c]
            out[count, 1] = n + edges[f, c]
            out[count, 2] = n + m + f
            out[count, 3] = n + edges[f, (c + size - 1) % size]
            count += 1
    return count


def foretell(topology: Topology) -> tuple[int, int]:
    """Vertices and faces after one subdivision of a closed mesh; open edges add a few vertices."""
    corners = int(np.count_nonzero(topology.faces >= 0))
    return topology.n_vertices + corners // 2 + topology.n_faces, corners


def subdivide(mesh: Mesh, progress: Progress) -> Mesh:
    """Every triangle becomes three quads and every quad four, rounded towards the limit surface.

    Works in source order, so that the old vertices come first, in the order the mesh came in.
    """
    positions, faces = mesh.source_arrays()
    shape = _source_rings(mesh, faces)
    start, ring = shape
    corners = int(np.count_nonzero(faces >= 0))
    edges = np.empty((len(faces), 4), np.int32)
    ends = np.empty((corners, 2), np.int32)
    progress.report(0.1, "Numbering edges")
    m = number_edges(faces, start, ring, edges, ends)
    ends = ends[:m]
    progress.report(0.3, "Placing vertices")

    def refine(values: AnyArray, smooth: bool) -> AnyArray:
        table = values.reshape(len(values), -1)
        middles = np.zeros((len(faces), table.shape[1]))
        sums = np.zeros((m, table.shape[1]))
        uses = np.zeros(m, np.int32)
        _edge_sums(faces, edges, table, middles, sums, uses)
        out = np.empty((len(values) + m + len(faces), table.shape[1]))
        _new_values(faces, start, ring, edges, ends, table, middles, sums, uses, smooth, out)
        return out

    new_positions = refine(positions, True).astype(np.float32)
    progress.report(0.6, "Making faces")
    new_faces = np.empty((corners, 4), np.int32)
    _new_faces(faces, edges, len(positions), m, new_faces)
    colour = mask = None
    if mesh.colour is not None:
        colour = np.rint(refine(mesh.in_source_order(mesh.colour), False)).astype(np.uint8)
    if mesh.mask is not None:
        mask = refine(mesh.in_source_order(mesh.mask), False)[:, 0].astype(np.float32)
    progress.report(0.7, "Sorting")
    return Mesh.from_faces(new_positions, new_faces, colour, mask)


def _source_rings(mesh: Mesh, faces: I32) -> tuple[I32, I32]:
    from kneten.core.topology import _ring_fill, _ring_sizes

    start = np.zeros(mesh.n_vertices + 1, np.int32)
    _ring_sizes(faces, start)
    ring = np.empty(start[-1], np.int32)
    _ring_fill(faces, start, ring)
    return start, ring
