"""What was changed on a piece of clay, sparsely: enough to take it back and to make it again."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import DAB_PART, F32, F64, I32, U8, U32, AnyArray, at_once, in_parts, kernel, parts_of
from kneten.core.mesh import Mesh
from kneten.core.normals import NONE, box_of_rows, stamp_in_order, sum_areas, turn_normals
from kneten.core.patches import halves, runs_of
from kneten.core.topology import PATCH_BITS
from kneten.core.values import VALUES


@dataclass(frozen=True)
class Change:
    """Values of some vertices or faces, other than those the mesh has now.

    Attributes
    ----------
    what : str
        "positions", or one of `VALUES`.
    places : (k,) int32
        Vertices, or faces for what each face has.
    values : (k, ...) array
        The other state: `swap` puts these in and keeps what it found.
    """

    what: str
    places: I32
    values: AnyArray

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        return self.places.nbytes + self.values.nbytes

    def swap(self, mesh: Mesh) -> Change:
        """Put the kept values in, and return the change that takes this back."""
        if self.what == "positions":
            found = mesh.positions[self.places]
            touched, owners = patches_of(mesh, self.places)
            version, boxes = mesh.changing(), _boxes_of(mesh, self.places, touched, 2)
            mesh.positions[self.places] = self.values
            refresh_after_move(mesh, self.places, owners)
            mesh.refit(touched)
            after = _boxes_of(mesh, self.places, touched, 2)
            low, high = np.minimum(boxes[:, :3], after[:, :3]), np.maximum(boxes[:, 3:], after[:, 3:])
            mesh.note_moved(version, np.concatenate([low, high], axis=1))
        else:
            array = mesh.need(self.what)
            found = array[self.places]
            array[self.places] = self.values
            noted(mesh, self.what, self.places)
            blank = VALUES[self.what].blank
            if (self.values == blank).all() and not (array != blank).any():
                # Nothing masked, hidden, painted, ... is the same as having no such values.
                setattr(mesh, self.what, None)
        return Change(self.what, self.places, found)


@kernel
def _box_around(
    positions: F32, faces: I32, ring: I32, ring_faces: I32, vertices: I32, box: F32, rings: int
) -> None:
    for i in range(vertices.shape[0]):
        v = vertices[i]
        for k in range(ring[v, 0], ring[v, 1]):
            for c in range(4):
                u = faces[ring_faces[k], c]
                if u < 0:
                    continue
                if rings > 1:
                    for m in range(ring[u, 0], ring[u, 1]):
                        for d in range(4):
                            w = faces[ring_faces[m], d]
                            if w >= 0:
                                for a in range(3):
                                    box[a] = min(box[a], positions[w, a])
                                    box[3 + a] = max(box[3 + a], positions[w, a])
                    continue
                for a in range(3):
                    box[a] = min(box[a], positions[u, a])
                    box[3 + a] = max(box[3 + a], positions[u, a])


def box_around(mesh: Mesh, vertices: I32, rings: int = 1) -> F32:
    """The box, (6,), of the faces around some vertices (k,): what they change of a picture lies in it.

    Parameters
    ----------
    rings : int
        1 for values; 2 for places, which change the normals of the vertices around.
    """
    box = np.repeat(np.array([np.inf, -np.inf], np.float32), 3)
    shape = mesh.topology
    _box_around(mesh.positions, shape.faces, shape.ring, shape.ring_faces, vertices, box, rings)
    if box[0] > box[3]:
        # Places of loose clay that have no faces now.
        at = mesh.positions[vertices]
        return np.concatenate([at.min(axis=0), at.max(axis=0)])
    return box


FEW = 150_000
"""Vertices up to which boxes are laid around them and no more: 15 ms. Beyond, those of their patches do."""


def _boxes_of(mesh: Mesh, vertices: I32, patches: I32, rings: int) -> F32:
    """Boxes, (k, 6), around vertices (ascending) in groups of neighbours, or of the patches that they touch."""
    if len(vertices) > FEW or len(vertices) == 0:
        return mesh.boxes[patches]
    starts = np.flatnonzero(np.diff(vertices >> PATCH_BITS, prepend=-1))
    boxes = np.stack([box_around(mesh, group) for group in np.split(vertices, starts[1:])])
    if rings > 1:
        # The second ring is about as far from the first as that is from the vertices.
        at = mesh.positions[vertices]
        boxes[:, :3] -= np.maximum(np.minimum.reduceat(at, starts) - boxes[:, :3], 0)
        boxes[:, 3:] += np.maximum(boxes[:, 3:] - np.maximum.reduceat(at, starts), 0)
    return boxes


def noted(mesh: Mesh, what: str, places: I32) -> None:
    """A mesh's values were changed at some vertices or faces (k,): its picture is out of date there."""
    if VALUES[what].guards:
        mesh.forget_protection()
    version = mesh.changing()
    if VALUES[what].by_face:
        corners = mesh.topology.faces[places].reshape(-1)
        places = np.ascontiguousarray(corners[corners >= 0])
    mesh.mark_dirty(places, shape=False)
    if what == "hidden":
        # Clay that is shown again is lit anew where it ends, too: all of it is drawn.
        mesh.faces_version += 1
        return
    places = _each_once(places, mesh.n_vertices)
    mesh.note_moved(version, _boxes_of(mesh, places, patches_of(mesh, places)[0], 1))


def _each_once(places: I32, n: int) -> I32:
    """Vertices (k,) of `n`, ascending, each once. NumPy's own way takes a second and a half for two millions."""
    if (places[1:] > places[:-1]).all():
        return np.ascontiguousarray(places, np.int32)
    if len(places) < n // 16:
        # What few dabs have touched must not cost by the size of the whole.
        return np.unique(places).astype(np.int32)
    marks = np.zeros(n, bool)
    marks[places] = True
    return np.flatnonzero(marks).astype(np.int32)


@kernel
def _mark_others(one: AnyArray, other: AnyArray, first: int, last: int, marks: U8) -> None:
    """Mark the rows of two arrays (n, c) that differ: NumPy's `any` along short rows takes five times as long."""
    for i in range(first, last):
        for c in range(one.shape[1]):
            if one[i, c] != other[i, c]:
                marks[i] = 1
                break


def change_to(mesh: Mesh, what: str, values: AnyArray | None) -> Change | None:
    """The change that gives a mesh these values, (n, ...); None when it has them. None for values is all zero."""
    before = mesh.positions if what == "positions" else mesh.value(what)
    if values is None:
        values = np.zeros_like(before)
    if before.ndim > 1 and before.dtype == values.dtype:
        marks = np.zeros(len(before), np.uint8)
        in_parts(len(before), lambda first, last: _mark_others(before, values, first, last, marks))
    else:
        other = before != values
        marks = other.any(axis=1) if other.ndim > 1 else other
    places = np.flatnonzero(marks).astype(np.int32)
    return Change(what, places, values[places]) if len(places) else None


@kernel
def _mark_owners(faces: U32, start: U32, ring: U32, face_bits: int, vertices: U32, marks: U8) -> None:
    for i in range(vertices.shape[0]):
        v = vertices[i]
        marks[v >> PATCH_BITS] |= 1
        for k in range(start[v, 0], start[v, 1]):
            f = ring[k]
            if face_bits > 0:
                marks[f >> face_bits] |= 2
                continue
            # A face lies in the patch of its least corner; a triangle's missing one is the greatest number.
            least = min(min(faces[f, 0], faces[f, 1]), min(faces[f, 2], faces[f, 3]))
            marks[least >> PATCH_BITS] |= 2


def patches_of(mesh: Mesh, vertices: I32) -> tuple[I32, I32]:
    """The patches that hold these vertices (k,) or own a face of them, and only the latter; (p,) each, ascending."""
    marks = np.zeros(mesh.topology.n_patches, np.uint8)
    _mark_owners(*mesh.topology.walk, mesh.topology.face_bits, vertices.view(np.uint32), marks)
    return np.flatnonzero(marks).astype(np.int32), np.flatnonzero(marks & 2).astype(np.int32)


def refresh_after_move(mesh: Mesh, moved: I32, owners: I32) -> None:
    """Renew normals around moved vertices (k,) and mark them dirty; the patches `owners` (p,) own all their faces."""
    room = 2 * len(moved) + 4096
    base = mesh.next_stamps(room)
    stamp_in_order(mesh.stamp, base, moved)
    listed = mesh.scratch("listed", room, np.uint32)
    listed[: len(moved)] = moved
    renew_normals(mesh, base, listed, [(0, len(moved))], [owners])


def renew_normals(
    mesh: Mesh, base: int, listed: U32, segments: list[tuple[int, int]], owners: list[I32]
) -> tuple[list[F32], bool]:
    """Renew the normals of moved vertices and of those around them, and mark them dirty.

    Parameters
    ----------
    listed : (room,) uint32
        Begins with the moved vertices, whose stamps are `base` plus their place.
    segments, owners
        Which of them each twin moved, and the patches that own their faces.

    Returns
    -------
    list of (6,) float32
        The box around what each twin changed.
    bool
        Whether some face stands steeply to the clay around it, as it was: see `sum_areas`.
    """
    faces, start, ring = mesh.topology.walk
    n_moved = segments[-1][1]
    sums = mesh.scratch("rows", 4 * len(listed), np.float64).reshape(-1, 4)
    in_parts(n_moved, lambda first, last: sums[first:last].fill(0.0), DAB_PART)
    n = n_moved
    bounds = []
    steep = np.zeros(1, np.uint8)
    for twin, near in zip(segments, owners, strict=True):
        extent = np.zeros(3, np.float32)
        begins, ends = runs_of(mesh.topology, near)
        if twin[1] - twin[0] >= 2 * DAB_PART:
            begins = _sum_within(mesh, base, listed, twin, near, sums, extent, steep)
            ends = begins + np.uint32(1)
        more, _ = sum_areas(
            mesh.positions,
            mesh.normals,
            faces,
            begins,
            ends,
            mesh.stamp,
            base,
            twin,
            twin,
            listed,
            n,
            sums,
            extent,
            NONE,
            steep,
        )
        if more < 0:
            break
        box = np.empty(6, np.float32)
        first, last = np.array([twin[0], n]), np.array([twin[1], more])
        box_of_rows(mesh.positions, listed, first, last, extent, box)
        bounds.append(box)
        n = more
    if more < 0:
        # Vertices with hundreds of faces: there are more corners than room. Once more with a list that holds any.
        longer = np.empty(mesh.n_vertices + 4, np.uint32)
        longer[:n_moved] = listed[:n_moved]
        base = mesh.next_stamps(len(longer))
        stamp_in_order(mesh.stamp, base, longer[:n_moved].view(np.int32))
        return renew_normals(mesh, base, longer, segments, owners)
    in_parts(
        n,
        lambda first, last: turn_normals(
            mesh.positions, mesh.normals, faces, start, ring, listed[:n], n_moved, sums, first, last
        ),
        DAB_PART,
    )
    mesh.mark_dirty(listed[:n].view(np.int32))
    return bounds, bool(steep[0])


def _sum_within(
    mesh: Mesh, base: int, listed: U32, twin: tuple[int, int], near: I32, sums: F64, extent: F32, steep: U8
) -> U32:
    """Add up areas on all processors, each within rows of its own; the faces between them are given back, (f,)."""
    rows = [twin[0] + end for end in parts_of(twin[1] - twin[0], DAB_PART)]
    cuts = halves(near, listed, rows)
    begins, ends = runs_of(mesh.topology, near)
    extents = np.zeros((len(rows) - 1, 3), np.float32)
    seams: list[U32] = []

    def add(part: int) -> None:
        some = slice(cuts[part], cuts[part + 1])
        own = (rows[part], rows[part + 1])
        seam = np.empty(int((ends[some] - begins[some]).sum()), np.uint32)
        _, n = sum_areas(
            mesh.positions,
            mesh.normals,
            mesh.topology.walk[0],
            begins[some],
            ends[some],
            mesh.stamp,
            base,
            twin,
            own,
            listed,
            0,
            sums,
            extents[part],
            seam,
            steep,
        )
        seams.append(seam[:n])

    at_once(len(rows) - 1, add)
    extent[:] = extents.max(axis=0)
    return np.sort(np.concatenate(seams))
