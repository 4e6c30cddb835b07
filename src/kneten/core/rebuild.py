"""Lower levels found again in a dense mesh that came from subdividing a coarser one.

Subdividing leaves only quads, each with one corner that was a vertex, one that was the middle of a face, and between
them two that were middles of edges. So middles of edges alternate with all others along every edge, and vertices with
middles of faces across every quad: two colourings with two colours each, found by walking (the idea of Taubin 2002,
"Detecting and reconstructing subdivision connectivity"). Which colour is which the numbers of faces around tell:
there are four around the middle of an edge (two at an open one), and three or four around that of a face.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import I32, AnyArray, Progress, kernel
from kneten.core.mesh import Mesh
from kneten.core.relief import packed
from kneten.core.stack import Level, Stack
from kneten.core.subdivide import Step
from kneten.core.topology import Topology, build_topology, finish_topology
from kneten.core.values import VALUES, of_round_faces, taken_round

ROUNDS = 40
"""Corrections that find the coarse vertices whose smooth surface meets the fine ones; each leaves three quarters at
most."""

FEW = 3
"""The same for a mesh that was sculpted since: the details take the rest, and the coarse vertices are not thrown about."""

CLEAN = 1e-4
"""Largest detail, as a share of the mean edge, of a mesh that was only subdivided."""


class RebuildError(ValueError):
    """A mesh did not come from subdividing. The text says by what one sees it."""


@kernel
def _alternate(faces: I32, start: I32, ring: I32, colour: I32, piece: I32, queue: I32) -> int:
    """Colour the two ends of every edge unlike; pieces are numbered. Their count, -1 when it cannot be done."""
    pieces = 0
    for first in range(start.shape[0]):
        if colour[first] >= 0:
            continue
        colour[first] = 0
        piece[first] = pieces
        queue[0] = first
        head = 0
        tail = 1
        while head < tail:
            v = queue[head]
            head += 1
            for k in range(start[v, 0], start[v, 1]):
                f = ring[k]
                own = 0
                while faces[f, own] != v:
                    own += 1
                for side in (1, 3):
                    u = faces[f, (own + side) % 4]
                    if colour[u] < 0:
                        colour[u] = 1 - colour[v]
                        piece[u] = pieces
                        queue[tail] = u
                        tail += 1
                    elif colour[u] == colour[v]:
                        return -1
        pieces += 1
    return pieces


@kernel
def _across(faces: I32, start: I32, ring: I32, middle: I32, colour: I32, queue: I32) -> bool:
    """Colour what lies across from each other in a quad unlike, middles of edges left out; False when it cannot be done."""
    for first in range(start.shape[0]):
        if middle[first] != 0 or colour[first] >= 0:
            continue
        colour[first] = 0
        queue[0] = first
        head = 0
        tail = 1
        while head < tail:
            v = queue[head]
            head += 1
            for k in range(start[v, 0], start[v, 1]):
                f = ring[k]
                own = 0
                while faces[f, own] != v:
                    own += 1
                u = faces[f, (own + 2) % 4]
                if colour[u] < 0:
                    colour[u] = 1 - colour[v]
                    queue[tail] = u
                    tail += 1
                elif colour[u] == colour[v]:
                    return False
    return True


@dataclass(frozen=True)
class Coarser:
    """The mesh that another one, in any order, was subdivided from.

    Attributes
    ----------
    faces : (f, 4) int32
        -1 for the last corner of a triangle.
    vertices : (n,) int32
        The finer mesh's vertex that each of its vertices became.
    middles : (f,) int32
        The same for faces.
    pairs, betweens : (m, 2), (m,) int32
        Vertices of each edge, the lesser first and in ascending order, and the finer mesh's vertex in its middle.
    """

    faces: I32
    vertices: I32
    middles: I32
    pairs: I32
    betweens: I32


def coarser(shape: Topology) -> Coarser:
    """What a mesh was subdivided from. Raises `RebuildError`."""
    faces, n = shape.faces, shape.n_vertices
    if (faces[:, 3] < 0).any():
        raise RebuildError("it has triangles; subdividing leaves quads only")
    counts = shape.ring[:, 1] - shape.ring[:, 0]
    colour, piece = np.full(n, -1, np.int32), np.zeros(n, np.int32)
    queue = np.empty(n, np.int32)
    pieces = _alternate(faces, shape.ring, shape.ring_faces, colour, piece, queue)
    if pieces < 0:
        raise RebuildError("going around along its edges, one meets odd numbers of steps")
    edge_like = np.where(shape.border == 1, counts == 2, counts == 4)
    middle = np.zeros(n, np.int32)
    # For each piece, the colour all of which could be middles of edges.
    bad = [np.bincount(piece[(colour == c) & ~edge_like], minlength=pieces) for c in (0, 1)]
    if ((bad[0] > 0) & (bad[1] > 0)).any():
        raise RebuildError("no half of its vertices has four faces throughout, as middles of edges have")
    middle[colour == np.where(bad[0] == 0, 0, 1)[piece]] = 1
    other = np.full(n, -1, np.int32)
    if not _across(faces, shape.ring, shape.ring_faces, middle, other, queue):
        raise RebuildError("its quads do not lie in fours around what were faces")
    kind = np.zeros(n, np.int32)
    face_like = (shape.border == 0) & ((counts == 3) | (counts == 4))
    inner = middle == 0
    bad = [np.bincount(piece[inner & (other == c) & ~face_like], minlength=pieces) for c in (0, 1)]
    if ((bad[0] > 0) & (bad[1] > 0)).any():
        raise RebuildError(
            "neither half of the rest has three or four faces throughout, as middles of faces have"
        )
    # Where both could be: what had only quads, rather than triangles among them.
    odd = [np.bincount(piece[inner & (other == c) & (counts != 4)], minlength=pieces) for c in (0, 1)]
    zero = (bad[0] == 0) & ((bad[1] > 0) | (odd[0] <= odd[1]))
    kind[inner & (other == np.where(zero, 0, 1)[piece])] = 1
    return _gathered(shape, middle, kind)


def _gathered(shape: Topology, middle: I32, face_kind: I32) -> Coarser:
    """The coarser mesh, once it is known what each vertex was."""
    faces = shape.faces
    vertex = (middle == 0) & (face_kind == 0)
    own = np.argmax(vertex[faces], axis=1)
    rows = np.arange(len(faces))
    corner, after, centre, before = (faces[rows, (own + k) % 4] for k in range(4))
    vertices = np.flatnonzero(vertex).astype(np.int32)
    middles = np.flatnonzero(face_kind).astype(np.int32)
    name = np.full(shape.n_vertices, -1, np.int32)
    name[vertices] = np.arange(len(vertices))
    number = np.full(shape.n_vertices, -1, np.int64)
    number[middles] = np.arange(len(middles))
    # Around each middle: the quad that begins where this one ends.
    key = number[centre] * shape.n_vertices + before
    order = np.argsort(key)
    at = np.searchsorted(key[order], number[centre] * shape.n_vertices + after)
    follows = order[np.minimum(at, len(order) - 1)]
    if (key[follows] != number[centre] * shape.n_vertices + after).any():
        raise RebuildError("its quads do not close around what were faces")
    first = np.empty(len(middles), np.int64)
    first[number[centre[::-1]]] = rows[::-1]
    made = np.full((len(middles), 4), -1, np.int32)
    quad = first.copy()
    for k in range(4):
        going = (quad != first) | (k == 0)
        made[going, k] = name[corner[quad[going]]]
        quad = np.where(going, follows[quad], quad)
    if (quad != first).any():
        raise RebuildError("around some of its vertices there are more than four quads")
    # An edge's middle lies after its one vertex and before its other.
    ends = np.stack([name[corner], name[corner[follows]]], axis=1)
    low, high = ends.min(axis=1).astype(np.int64), ends.max(axis=1)
    keys, once = np.unique(low * len(vertices) + high, return_index=True)
    pairs = np.stack([keys // len(vertices), keys % len(vertices)], axis=1).astype(np.int32)
    if len(keys) != int(middle.sum()):
        raise RebuildError("it has more or fewer middles of edges than edges")
    return Coarser(made, vertices, middles, pairs, after[once].astype(np.int32))


def rebuilt(mesh: Mesh, progress: Progress) -> tuple[Stack, Mesh]:
    """The lower levels of a mesh, and the mesh in the order that fits them. Raises `RebuildError`."""
    found: list[Coarser] = []
    shape = mesh.topology
    while True:
        progress.report(min(0.1 + 0.1 * len(found), 0.5), f"Looking for level {-len(found) - 1}")
        try:
            below = coarser(shape)
        except RebuildError:
            if not found:
                raise
            break
        if len(below.faces) < 4:
            break
        found.append(below)
        shape = _as_is(below.faces, len(below.vertices))
    if not found:
        raise RebuildError("what is below it would be fewer than four faces")
    places = [mesh.positions]
    for below in found:
        places.append(places[-1][below.vertices])
    lowest, order = build_topology(found[-1].faces, places[-1])
    face_names = lowest.source_face
    levels = [Level(lowest)]
    orders = [order]
    for depth in range(len(found) - 1, -1, -1):
        progress.report(0.5 + 0.2 * (len(found) - depth) / len(found), "Putting in order")
        raw, under = found[depth], levels[-1].topology
        step = Step.of(under)
        names = np.empty(len(step.source), np.int32)
        names[step.of_vertex] = raw.vertices[order]
        names[step.of_face] = raw.middles[face_names]
        ends = np.sort(order[step.ends], axis=1).astype(np.int64)
        keys = raw.pairs[:, 0].astype(np.int64) * len(raw.vertices) + raw.pairs[:, 1]
        names[step.of_edge] = raw.betweens[np.searchsorted(keys, ends[:, 0] * len(raw.vertices) + ends[:, 1])]
        finer = mesh.topology.faces if depth == 0 else found[depth - 1].faces
        topology = step.topology(under)
        face_names = _same_faces(names[topology.faces], finer)
        if depth == 0:
            # Names in the order the mesh came in stay what they were.
            held = mesh.topology
            topology = finish_topology(
                topology.faces, held.source_vertex[names], held.source_face[face_names]
            )
        levels.append(Level(topology, step))
        orders.append(names)
        order = names
    return _fitted(mesh, levels, orders, face_names, progress)


def _as_is(faces: I32, n: int) -> Topology:
    every = np.arange(len(faces), dtype=np.int32)
    return finish_topology(faces, np.arange(n, dtype=np.int32), every, ordered=False)


def _same_faces(some: AnyArray, others: AnyArray) -> I32:
    """Where each of some quads is among others, by their two least corners across."""
    n = int(others.max()) + 1

    def keys(faces: AnyArray) -> AnyArray:
        low = np.minimum(faces[:, 0], faces[:, 2]).astype(np.int64) * n + np.maximum(faces[:, 0], faces[:, 2])
        high = np.minimum(faces[:, 1], faces[:, 3]).astype(np.int64) * n + np.maximum(
            faces[:, 1], faces[:, 3]
        )
        return np.stack([np.minimum(low, high), np.maximum(low, high)], axis=1)

    a, b = keys(some), keys(others)
    left, right = np.lexsort((a[:, 1], a[:, 0])), np.lexsort((b[:, 1], b[:, 0]))
    out = np.empty(len(some), np.int32)
    out[left] = right
    return out


def _fitted(
    mesh: Mesh, levels: list[Level], orders: list[I32], face_names: I32, progress: Progress
) -> tuple[Stack, Mesh]:
    """Forms for all levels: each such that the smooth surface of the one below meets it as well as it can."""
    top = len(levels) - 1
    values = {
        name: np.ascontiguousarray(value[face_names if VALUES[name].by_face else orders[-1]])
        for name, value in mesh.values().items()
    }
    # A quad of a level begins where it has its vertex of the level below.
    now, was = orders[-1][levels[-1].topology.faces], mesh.topology.faces[face_names]
    corners = np.argmax(was[:, None, :] == now[:, :, None], axis=2)
    values |= taken_round(of_round_faces(values), corners, np.full(len(now), 4))
    forms = [np.ascontiguousarray(mesh.positions[orders[-1]])]
    for depth in range(top, 0, -1):
        progress.report(0.7 + 0.3 * (top - depth) / top, f"Fitting level {depth - 1}")
        step, under = levels[depth].step, levels[depth - 1].topology
        assert step is not None
        wanted = forms[-1][step.of_vertex]
        form = wanted.copy()
        for k in range(ROUNDS):
            if k == FEW:
                few = form.copy()
            form += wanted - step.refine(under, form, True, np.float32)[step.of_vertex]
        smooth = step.refine(under, form, True, np.float32)
        edge = float(np.linalg.norm(np.ptp(forms[-1], axis=0))) / np.sqrt(len(forms[-1]))
        if np.abs(smooth - forms[-1]).max() > CLEAN * edge:
            form = few
        forms.append(form)
    forms.reverse()
    stack = Stack(forms[0], tuple(levels), forms[-1].copy(), level=top)
    for depth in range(1, top + 1):
        ground = stack.ground(depth, forms[depth - 1])
        rows = np.arange(len(forms[depth]), dtype=np.int32)
        detail = ground.told(rows, forms[depth] - ground.surface)
        edge = float(np.linalg.norm(np.ptp(forms[depth], axis=0))) / np.sqrt(len(rows))
        # What rounding left of nothing is nothing.
        detail[np.abs(detail).max(axis=1) < 1e-6 * edge] = 0.0
        stack = stack.with_detail(depth, packed(detail))
    form = stack.form(top)
    stack = Stack(forms[0], stack.levels, form.copy(), level=top)
    return stack, stack.mesh_of(top, form, values)
