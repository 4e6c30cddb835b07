"""What is wrong with a mesh: found, told, and repaired near the fault only."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from kneten.core.arrays import F64, I32, U8, AnyArray, Progress, kernel
from kneten.core.crossings import crossing
from kneten.core.deform import relaxed
from kneten.core.mesh import Mesh
from kneten.core.pieces import border_loops, filled, picked
from kneten.core.placing import turned_out
from kneten.core.topology import finish_topology
from kneten.core.values import VALUES, rows_of, turned_over

KINDS = {
    "holes": ("Holes", "open edges that clay ends at", "closes each with a skin as dense as the clay around it"),
    "edges": ("Edges of many faces", "edges where three or more faces meet", "cuts them out and closes the gap"),
    "joints": ("Joints", "single vertices that separate pieces of clay hang together by", "cuts them out and closes the gap"),
    "flipped": ("Flipped faces", "faces whose outside is their neighbours' inside", "turns them round"),
    "crossing": ("Crossings", "faces that go through other faces", "cuts them out and closes the gap"),
    "bits": ("Floating bits", "pieces with less than a thousandth of the largest one's surface", "takes them away"),
    "flat": ("Faces without area", "faces whose corners lie on one line", "cuts them out and closes the gap"),
    "stretched": ("Stretched faces", "faces twenty times as long as they are wide", "evens the clay around them, or makes it anew where too many meet"),
    "poles": ("Pinched poles", "vertices that nine or more faces meet at", "evens the clay around them, or makes it anew where too many meet"),
    "loose": ("Loose vertices", "vertices that no face uses", "takes them away"),
}  # fmt: skip
"""Name, what it is, what repairing does."""

ONE = {
    "holes": "hole", "edges": "edge of many faces", "joints": "joint", "flipped": "flipped face", "crossing": "crossing",
    "bits": "floating bit", "flat": "face without area", "stretched": "stretched face", "poles": "pinched pole",
    "loose": "loose vertex",
}  # fmt: skip
"""What one of them is called."""

LONG = 20.0
MANY = 9
BIT = 0.001

WIDER = 5
"""Rings around crossing faces that are tried before giving up."""

CROWDED = 12
"""Faces around a vertex beyond which it is no use to even the clay there: the faces are made anew."""

EVENED = 6
"""Rounds by which the clay around stretched faces and poles is evened."""


@dataclass(frozen=True)
class Fault:
    """One place with a fault.

    Attributes
    ----------
    kind : str
        A key of `KINDS`.
    vertices, faces : (k,), (m,) int32
        What is faulty; faces may be none.
    middle : (3,) float64
    reach : float
        Radius around the middle that holds all of it.
    """

    kind: str
    vertices: I32
    faces: I32
    middle: F64
    reach: float


def _fault(mesh: Mesh, kind: str, vertices: AnyArray, faces: AnyArray) -> Fault:
    vertices = np.unique(vertices).astype(np.int32)
    at = mesh.positions[vertices].astype(np.float64)
    middle = (at.min(axis=0) + at.max(axis=0)) / 2
    return Fault(
        kind, vertices, np.asarray(faces, np.int32), middle, float(np.linalg.norm(at - middle, axis=1).max())
    )


def _clusters(mesh: Mesh, kind: str, faces: AnyArray) -> list[Fault]:
    """Faulty faces that touch each other are one fault."""
    numbers = np.flatnonzero(faces)
    if not len(numbers):
        return []
    rows = mesh.topology.faces[numbers]
    there = rows >= 0
    owner = np.repeat(np.arange(len(numbers)), 4)[there.reshape(-1)]
    corners, at = np.unique(rows[there], return_inverse=True)
    n = len(numbers)
    graph = coo_matrix((np.ones(len(owner), np.int8), (owner, n + at)), (n + len(corners),) * 2)
    _, labels = connected_components(graph, directed=False)
    found = []
    order = np.argsort(labels[:n], kind="stable")
    for group in np.split(order, np.flatnonzero(np.diff(labels[:n][order])) + 1):
        held = rows[group]
        found.append(_fault(mesh, kind, held[held >= 0], numbers[group]))
    return found


# -- finding ------------------------------------------------------------------------------------------


def _halves(faces: I32) -> tuple[AnyArray, AnyArray, AnyArray]:
    """Of each side of a face: the face, where it begins, where it ends."""
    sizes = np.where(faces[:, 3] >= 0, 4, 3)
    face = np.repeat(np.arange(len(faces)), sizes)
    begins = faces[faces >= 0]
    first = np.cumsum(sizes) - sizes
    after = np.arange(len(begins)) + 1
    after[first + sizes - 1] = first
    return face, begins, begins[after]


@kernel
def _fans(faces: I32, start: I32, ring: I32, out: U8) -> None:
    """1 for each vertex whose faces hang together by it alone."""
    most = 0
    for v in range(start.shape[0]):
        most = max(most, start[v, 1] - start[v, 0])
    seen = np.empty(most, np.uint8)
    queue = np.empty(most, np.int32)
    for v in range(start.shape[0]):
        count = start[v, 1] - start[v, 0]
        if count < 2:
            continue
        seen[:count] = 0
        seen[0] = 1
        queue[0] = 0
        head = 0
        tail = 1
        while head < tail:
            f = ring[start[v, 0] + queue[head]]
            head += 1
            size = 3 if faces[f, 3] < 0 else 4
            own = 0
            while faces[f, own] != v:
                own += 1
            a = faces[f, (own + 1) % size]
            b = faces[f, (own + size - 1) % size]
            for k in range(count):
                if seen[k] != 0:
                    continue
                g = ring[start[v, 0] + k]
                near = False
                for c in range(4):
                    u = faces[g, c]
                    near = near or (u >= 0 and u != v and (u in (a, b)))
                if near:
                    seen[k] = 1
                    queue[tail] = k
                    tail += 1
        if tail < count:
            out[v] = 1


@kernel
def _sides(starts: I32, others: I32, against: U8, side: U8, piece: I32, queue: I32) -> int:
    """Give every face a side such that neighbours agree wherever they can; pieces are numbered."""
    pieces = 0
    for first in range(starts.shape[0] - 1):
        if piece[first] >= 0:
            continue
        piece[first] = pieces
        queue[0] = first
        head = 0
        tail = 1
        while head < tail:
            f = queue[head]
            head += 1
            for k in range(starts[f], starts[f + 1]):
                g = others[k]
                if piece[g] < 0:
                    piece[g] = pieces
                    side[g] = side[f] ^ against[k]
                    queue[tail] = g
                    tail += 1
        pieces += 1
    return pieces


def _flipped(mesh: Mesh, face: AnyArray, pair: AnyArray, same: AnyArray) -> AnyArray:
    """Faces that face against most of their piece; all of a closed piece that is inside out."""
    n = mesh.topology.n_faces
    one, two = face[pair[:, 0]], face[pair[:, 1]]
    rows, columns = np.concatenate([one, two]), np.concatenate([two, one])
    order = np.argsort(rows, kind="stable")
    starts = np.searchsorted(rows[order], np.arange(n + 1)).astype(np.int32)
    against = np.concatenate([same, same])[order].astype(np.uint8)
    side, piece = np.zeros(n, np.uint8), np.full(n, -1, np.int32)
    queue = np.empty(n, np.int32)
    count = _sides(starts, columns[order].astype(np.int32), against, side, piece, queue)
    ones = np.bincount(piece, side, count)
    sizes = np.bincount(piece, minlength=count)
    wrong = side ^ (ones * 2 > sizes).astype(np.uint8)[piece]
    # The volume that each piece encloses as the majority faces.
    faces = mesh.topology.faces
    at = mesh.positions.astype(np.float64)
    fourth = np.where(faces[:, 3] >= 0, faces[:, 3], faces[:, 2])
    a, b, c, d = at[faces[:, 0]], at[faces[:, 1]], at[faces[:, 2]], at[fourth]
    part = np.einsum("ij,ij->i", a, np.cross(b, c)) + np.einsum("ij,ij->i", a, np.cross(c, d))
    volume = np.bincount(piece, np.where(wrong != 0, -part, part), count)
    open_ = np.zeros(count, bool)
    border = mesh.topology.border[np.maximum(faces, 0)].any(axis=1)
    open_[piece[border]] = True
    out = wrong.astype(bool)
    turned = (volume < 0) & ~open_
    # A piece inside another is a hollow of it, and faces inwards by right.
    for k in np.flatnonzero(turned):
        corners = faces[piece == k]
        own = at[corners[corners >= 0]]
        other = faces[piece != k]
        rest, label = at[np.maximum(other, 0)], piece[piece != k]
        for j in np.unique(label):
            held = rest[label == j].reshape(-1, 3)
            if (held.min(axis=0) < own.min(axis=0)).all() and (held.max(axis=0) > own.max(axis=0)).all():
                turned[k] = False
                break
    out[turned[piece]] = ~out[turned[piece]]
    return out


def examined(mesh: Mesh, progress: Progress) -> list[Fault]:
    """Everything that is wrong with a mesh, in the order of `KINDS`."""
    shape, found = mesh.topology, []
    faces, n = shape.faces, mesh.n_vertices
    nothing = np.empty(0, np.int32)
    progress.report(0.05, "Looking for holes")
    found += [_fault(mesh, "holes", loop, nothing) for loop in border_loops(mesh)]
    progress.report(0.15, "Looking at edges")
    face, begins, ends = _halves(faces)
    key = np.minimum(begins, ends).astype(np.int64) * n + np.maximum(begins, ends)
    order = np.argsort(key, kind="stable")
    held = key[order]
    first = np.flatnonzero(np.append(True, held[1:] != held[:-1]))
    counts = np.diff(np.append(first, len(held)))
    many = np.repeat(counts > 2, counts)
    crowded = np.zeros(len(faces), bool)
    crowded[face[order[many]]] = True
    found += _clusters(mesh, "edges", crowded)
    progress.report(0.3, "Looking at joints")
    joints = np.zeros(n, np.uint8)
    _fans(faces, shape.ring, shape.ring_faces, joints)
    joints[begins[order[many]]] = 0
    joints[ends[order[many]]] = 0
    for v in np.flatnonzero(joints):
        found.append(_fault(mesh, "joints", _around(mesh, int(v)), shape.ring_faces[slice(*shape.ring[v])]))
    progress.report(0.4, "Looking at outsides")
    two = first[counts == 2]
    pair = np.stack([order[two], order[two + 1]], axis=1)
    same = begins[pair[:, 0]] == begins[pair[:, 1]]
    found += _clusters(mesh, "flipped", _flipped(mesh, face, pair, same))
    progress.report(0.55, "Looking for crossings")
    found += _clusters(mesh, "crossing", crossing(mesh))
    progress.report(0.8, "Looking for bits")
    graph = coo_matrix((np.ones(len(pair), np.int8), (face[pair[:, 0]], face[pair[:, 1]])), (len(faces),) * 2)
    count, piece = connected_components(graph, directed=False)
    length, width = _measures(mesh)
    # A bit is what is small, however many faces it has.
    sizes = np.bincount(piece, weights=length * width, minlength=count)
    if count > 1:
        found += _clusters(mesh, "bits", (sizes < BIT * sizes.max())[piece])
    progress.report(0.9, "Looking at shapes")
    scale = float(np.linalg.norm(np.ptp(mesh.positions, axis=0)))
    flat = width <= 1e-9 * scale
    found += _clusters(mesh, "flat", flat)
    found += _clusters(mesh, "stretched", ~flat & (length > LONG * width))
    rings = shape.ring[:, 1] - shape.ring[:, 0]
    for v in np.flatnonzero(rings >= MANY):
        found.append(_fault(mesh, "poles", _around(mesh, int(v)), shape.ring_faces[slice(*shape.ring[v])]))
    for v in np.flatnonzero(rings == 0):
        found.append(_fault(mesh, "loose", np.array([v]), nothing))
    return found


def _around(mesh: Mesh, v: int) -> AnyArray:
    corners = mesh.topology.faces[mesh.topology.ring_faces[slice(*mesh.topology.ring[v])]]
    return np.asarray(corners[corners >= 0])


def _measures(mesh: Mesh) -> tuple[F64, F64]:
    """The longest side of each face, and its area by that: how wide it is."""
    faces = mesh.topology.faces
    at = mesh.positions.astype(np.float64)
    fourth = np.where(faces[:, 3] >= 0, faces[:, 3], faces[:, 2])
    a, b, c, d = at[faces[:, 0]], at[faces[:, 1]], at[faces[:, 2]], at[fourth]
    sides = [np.linalg.norm(y - x, axis=1) for x, y in ((a, b), (b, c), (c, d), (d, a))]
    longest = np.max(sides, axis=0)
    area = 0.5 * (
        np.linalg.norm(np.cross(b - a, c - a), axis=1) + np.linalg.norm(np.cross(c - a, d - a), axis=1)
    )
    return longest, area / np.maximum(longest, 1e-30)


# -- repairing ----------------------------------------------------------------------------------------


def repaired(mesh: Mesh, faults: list[Fault], progress: Progress) -> Mesh:
    """The mesh without these faults, which are all of one kind and were found on it; the rest of it stays."""
    kind = faults[0].kind
    progress.report(0.2, f"Repairing: {KINDS[kind][0].lower()}")
    vertices = np.unique(np.concatenate([fault.vertices for fault in faults]))
    faces = np.unique(np.concatenate([fault.faces for fault in faults]))
    if kind == "holes":
        return filled(mesh, vertices)
    if kind == "flipped":
        shape = mesh.topology
        turned = shape.faces.copy()
        turned[faces] = turned_out(shape.faces)[faces]
        values = mesh.own_values()
        for name, value in turned_over(rows_of(values, slice(None), faces), shape.faces[faces]).items():
            if VALUES[name].around:
                values[name][faces] = value
        return Mesh(finish_topology(turned, shape.source_vertex, shape.source_face), mesh.positions, **values)
    keep = np.ones(mesh.topology.n_faces, bool)
    if kind == "poles":
        rings = mesh.topology.ring[:, 1] - mesh.topology.ring[:, 0]
        crowded = vertices[rings[vertices] > CROWDED]
        if len(crowded):
            # Moving does not help those: they make way for a skin of even triangles.
            for v in crowded:
                keep[mesh.topology.ring_faces[slice(*mesh.topology.ring[v])]] = False
            return _closed_again(mesh, keep)
    if kind in ("stretched", "poles"):
        free = np.zeros(mesh.n_vertices, np.float32)
        free[vertices] = 1.0
        return mesh.with_positions(relaxed(mesh, free, EVENED).astype(np.float32))
    keep[faces] = False
    if kind in ("bits", "loose"):
        return picked(mesh, keep)
    if kind == "crossing":
        return _uncrossed(mesh, keep)
    if kind == "flat":
        # One ring more: what is left must have a rim with a width.
        keep = _less_a_ring(mesh, keep)
    return _closed_again(mesh, keep)


def _less_a_ring(mesh: Mesh, keep: AnyArray) -> AnyArray:
    """Faces (f,) bool without those that touch the ones that are gone."""
    near = np.zeros(mesh.n_vertices + 1, bool)
    near[mesh.topology.faces[~keep].reshape(-1)] = True
    near[-1] = False
    return np.asarray(keep & ~near[mesh.topology.faces].any(axis=1))


def _uncrossed(mesh: Mesh, keep: AnyArray) -> Mesh:
    """Faces that cross cut out and the gaps closed, with more and more of the clay around, until the new skin crosses nothing.

    What crosses least is taken; the mesh itself where every skin crosses more than there was.
    """
    best, least = mesh, int((~keep).sum())
    for _ in range(WIDER):
        keep = _less_a_ring(mesh, keep)
        if keep.sum() < mesh.topology.n_faces // 2:
            break
        made = _closed_again(mesh, keep)
        left = int(np.count_nonzero(crossing(made)))
        if left < least:
            best, least = made, left
        if not left:
            break
    return best


def _closed_again(mesh: Mesh, keep: AnyArray) -> Mesh:
    """Faces cut out, what hangs on by nothing taken away, and the gaps that leaves closed."""
    gone = mesh.topology.faces[~keep]
    left = picked(mesh, keep)
    cut = np.zeros(mesh.n_vertices, bool)
    cut[gone[gone >= 0]] = True
    used = np.zeros(mesh.n_vertices + 1, bool)
    used[mesh.topology.faces[keep].reshape(-1)] = True
    marks = cut[np.flatnonzero(used[:-1])][left.topology.source_vertex]
    return filled(left, np.flatnonzero(marks))


def told(faults: list[Fault]) -> str:
    """The faults in a line."""
    if not faults:
        return "Nothing is wrong with it."
    counts = {kind: sum(fault.kind == kind for fault in faults) for kind in KINDS}
    return ", ".join(
        f"{count:,} {KINDS[kind][0].lower() if count > 1 else ONE[kind]}"
        for kind, count in counts.items()
        if count
    )
