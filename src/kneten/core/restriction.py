"""What reaches from a level to the one below it, and which vertices that touches."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, AnyArray, in_parts, kernel
from kneten.core.mesh import Mesh
from kneten.core.relief import Relief
from kneten.core.subdivide import Step, sharper
from kneten.core.topology import Topology
from kneten.core.values import VALUES, met_most


@kernel
def _restrict(
    faces: I32, ends: I32, of_vertex: I32, of_edge: I32, of_face: I32, moves: F32, out: F64, weight: F64
) -> None:
    for v in range(out.shape[0]):
        for a in range(3):
            out[v, a] = moves[of_vertex[v], a]
        weight[v] = 1.0
    for e in range(ends.shape[0]):
        u = of_edge[e]
        for side in range(2):
            v = ends[e, side]
            weight[v] += 0.5
            for a in range(3):
                out[v, a] += 0.5 * moves[u, a]
    for f in range(faces.shape[0]):
        size = 3 if faces[f, 3] < 0 else 4
        u = of_face[f]
        for c in range(size):
            v = faces[f, c]
            weight[v] += 1.0 / size
            for a in range(3):
                out[v, a] += moves[u, a] / size
    for v in range(out.shape[0]):
        for a in range(3):
            out[v, a] /= weight[v]


def restricted(step: Step, below: Topology, moves: F32) -> F32:
    """What moves (n, 3) of a level are on the level below: means around each vertex's place, (m, 3) float32.

    Each vertex counts fully, each edge's by half, each face's by a quarter (by a third of a triangle).
    """
    out, weight = np.empty((below.n_vertices, 3)), np.empty(below.n_vertices)
    _restrict(below.faces, step.ends, step.of_vertex, step.of_edge, step.of_face, moves, out, weight)
    return out.astype(np.float32)


def restricted_some(step: Step, below: Topology, moves: Relief) -> tuple[I32, F32]:
    """The same for moves of some vertices only, to the bit: the vertices below that move, (k,), and their moves, (k, 3).

    Costs in proportion to what has moved, where that is little.
    """
    n = len(step.source)
    if 8 * len(moves.values) > n:
        dense = restricted(step, below, moves.dense(n))
        rows = np.flatnonzero(dense.any(axis=1)).astype(np.int32)
        return rows, dense[rows]
    kinds, numbers = step.kinds(moves.rows)
    sums = np.zeros((below.n_vertices, 3))
    marks = np.zeros(below.n_vertices, np.uint8)
    _gather(below.faces, step.ends, kinds, numbers, moves.values, sums, marks)
    rows = np.flatnonzero(marks).astype(np.int32)
    out = np.empty((len(rows), 3), np.float32)
    _weigh(below.faces, below.ring, below.ring_faces, below.border, rows, sums, out)
    moved = out.any(axis=1)
    return rows[moved], out[moved]


@kernel
def _gather(faces: I32, ends: I32, kinds: I32, numbers: I32, moves: F32, sums: F64, marks: U8) -> None:
    # By kinds, one after the other, as for all: so that sums are the same to the bit.
    for kind in range(3):
        for i in range(kinds.shape[0]):
            if kinds[i] != kind:
                continue
            number = numbers[i]
            if kind == 0:
                marks[number] = 1
                for a in range(3):
                    sums[number, a] = moves[i, a]
            elif kind == 1:
                for side in range(2):
                    v = ends[number, side]
                    marks[v] = 1
                    for a in range(3):
                        sums[v, a] += 0.5 * moves[i, a]
            else:
                size = 3 if faces[number, 3] < 0 else 4
                for c in range(size):
                    v = faces[number, c]
                    marks[v] = 1
                    for a in range(3):
                        sums[v, a] += moves[i, a] / size


@kernel
def _weigh(faces: I32, start: I32, ring: I32, border: U8, rows: I32, sums: F64, out: F32) -> None:
    for i in range(rows.shape[0]):
        v = rows[i]
        around = start[v, 1] - start[v, 0]
        # An open corner has one edge more than it has faces.
        weight = 1.0
        for _ in range(around + (1 if border[v] != 0 else 0)):
            weight += 0.5
        for k in range(start[v, 0], start[v, 1]):
            weight += 1.0 / (3 if faces[ring[k], 3] < 0 else 4)
        for a in range(3):
            out[i, a] = sums[v, a] / weight


@kernel
def _other_rows(a: F32, b: F32, out: I32) -> int:
    n = 0
    for v in range(a.shape[0]):
        if a[v, 0] != b[v, 0] or a[v, 1] != b[v, 1] or a[v, 2] != b[v, 2]:
            out[n] = v
            n += 1
    return n


def other_rows(a: F32, b: F32) -> I32:
    """The rows in which two arrays (n, 3) differ, ascending."""
    out = np.empty(len(a), np.int32)
    return out[: _other_rows(a, b, out)].copy()


@kernel
def _touch(faces: I32, edges: I32, of_vertex: I32, of_edge: I32, of_face: I32, moved: U8, marks: U8) -> None:
    for f in range(faces.shape[0]):
        size = 3 if faces[f, 3] < 0 else 4
        any_moved = False
        for c in range(size):
            any_moved = any_moved or moved[faces[f, c]] != 0
        if not any_moved:
            continue
        marks[of_face[f]] = 1
        for c in range(size):
            marks[of_edge[edges[f, c]]] = 1
            marks[of_vertex[faces[f, c]]] = 1


@kernel
def _spread(faces: I32, marks: U8, first: int, last: int, out: U8) -> None:
    for f in range(first, last):
        size = 3 if faces[f, 3] < 0 else 4
        near = False
        for c in range(size):
            near = near or marks[faces[f, c]] != 0
        if near:
            for c in range(size):
                out[faces[f, c]] = 1


def touched(step: Step, below: Topology, above: Topology, moved: I32) -> I32:
    """Vertices of a level whose smooth places or frames change when some of the level below (m,) move, (k,) ascending."""
    low, marks = np.zeros(below.n_vertices, np.uint8), np.zeros(above.n_vertices, np.uint8)
    low[moved] = 1
    _touch(below.faces, step.edges, step.of_vertex, step.of_edge, step.of_face, low, marks)
    out = marks.copy()
    # A frame is read off a face: it has changed where any of its corners has.
    in_parts(above.n_faces, lambda first, last: _spread(above.faces, marks, first, last, out))
    return np.flatnonzero(out).astype(np.int32)


def with_frames(shape: Topology, rows: I32) -> I32:
    """Some vertices (k,) and those that their frames are read off, (m,) ascending."""
    marks = np.zeros(shape.n_vertices, bool)
    marks[rows] = True
    rings = shape.ring[rows]
    has = rings[:, 1] > rings[:, 0]
    corners = shape.faces[shape.ring_faces[rings[has, 0]]].reshape(-1)
    marks[corners[corners >= 0]] = True
    return np.flatnonzero(marks).astype(np.int32)


def handed_down(step: Step, below: Topology, mesh: Mesh) -> dict[str, AnyArray]:
    """What the level below gets of a mesh's values, (n, ...) each: a vertex's own; of a face's, what most of its quads have."""
    made: dict[str, AnyArray] = {}
    # Each face below was cut into quads around its middle.
    quads = _quads_of(step, mesh.topology) if any(VALUES[name].by_face for name in mesh.values()) else None
    for name, value in mesh.values().items():
        if not VALUES[name].by_face:
            made[name] = np.ascontiguousarray(value[step.of_vertex])
            continue
        assert quads is not None
        made[name] = (
            _of_first_corners(name, value, _by_corner(step, below, mesh.topology, quads))
            if VALUES[name].around
            else met_most(value, quads)
        )
    return {name: value for name, value in made.items() if VALUES[name].blank or value.any()}


def _by_corner(step: Step, below: Topology, above: Topology, quads: AnyArray) -> AnyArray:
    """The quads that faces were cut into, (f, 4), each where the corner stands that it begins at."""
    begins = above.faces[np.maximum(quads, 0), 0]
    wanted = step.of_vertex[np.maximum(below.faces, 0)]
    order = np.argmax((begins[:, None, :] == wanted[:, :, None]) & (quads >= 0)[:, None, :], axis=2)
    return np.where(below.faces >= 0, np.take_along_axis(quads, order, axis=1), -1)


def _of_first_corners(name: str, value: AnyArray, quads: AnyArray) -> AnyArray:
    """What goes around the faces below: each corner's quad begins at that corner, with half of its edge."""
    own = np.concatenate([value, VALUES[name].none(1)])[quads]
    if VALUES[name].around == "corners":
        share = value.shape[1] // 4
        return np.ascontiguousarray(own[:, :, :share].reshape(len(quads), -1))
    if value.ndim > 1:
        return sharper(own[:, :, 0])
    return ((own & 1) << np.arange(4)).sum(axis=1).astype(value.dtype)


def _quads_of(step: Step, above: Topology) -> AnyArray:
    """The quads that each face below was cut into, (f, 4), -1 where a triangle has none."""
    n = len(step.of_face)
    owner = np.full(above.n_vertices, -1, np.int64)
    owner[step.of_face] = np.arange(n)
    # The middle of its face is each quad's third corner.
    face = owner[above.faces[:, 2]]
    order = np.argsort(face, kind="stable")
    first = np.searchsorted(face[order], np.arange(n))
    out = np.full((n, 4), -1, np.int64)
    counts = np.bincount(face, minlength=n)
    for k in range(4):
        has = counts > k
        out[has, k] = order[first[has] + k]
    return out
