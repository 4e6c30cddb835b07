"""A mesh: a shared topology and the values of its vertices."""

from __future__ import annotations

from typing import Any

import numpy as np

from kneten.core.arrays import F32, I32, U8, U16, AnyArray, kernel
from kneten.core.normals import compute_normals
from kneten.core.patches import all_boxes, fit_all, fit_clusters
from kneten.core.topology import PATCH_BITS, MeshError, Topology, build_topology
from kneten.core.values import VALUES, checked, rows_of
from kneten.core.words import FAR


@kernel
def _mark_patches(vertices: I32, dirty: U8, dirty_list: I32, n_dirty: int) -> int:
    for i in range(vertices.shape[0]):
        p = vertices[i] >> PATCH_BITS
        if dirty[p] == 0:
            dirty[p] = 1
            dirty_list[n_dirty] = p
            n_dirty += 1
    return n_dirty


@kernel
def _mark_values(vertices: I32, dirty: U8) -> None:
    for i in range(vertices.shape[0]):
        dirty[vertices[i] >> PATCH_BITS] = 1


MOST_BOXES = 48
"""Boxes that what is to be drawn anew is told in."""


class Mesh:
    """Topology and values of one piece of clay, with what is needed to change it fast.

    Attributes
    ----------
    topology : Topology
    positions, normals : (n, 3) float32
        In internal order; changed in place by strokes.
    colour : (n, 4) uint8 or None
        sRGB and opacity.
    material : (n, 4) uint8 or None
        Roughness, metalness, subsurface, wet.
    paint : (n, 9) uint8 or None
        What the layer that is in hand has painted, where layers have paint: see `paint.packed`.
    mask : (n,) float32 or None
        1 is fully protected.
    origin : (n,) uint8 or None
        Which of the parts that this one was joined from a vertex belongs to.
    seat : (n, 3) float32 or None
        Where the clay was when grain was first laid on it; 0 where that is not known.
    regions : (f,) uint16 or None
        The region of each face; 0 is none.
    hidden : (f,) uint8 or None
        1 where a face is not shown, and not touched.
    uv : (f, 8) float32 or None
        Where each corner of each face lies in the picture plane: u and v of the first, then of the others.
    seams : (f,) uint8 or None
        A bit for each edge of a face, from its corner to the next, along which unwrapping is to cut.
    creases : (f, 4) uint8 or None
        How sharp the edge from each corner to the next stays when the mesh is subdivided: `subdivide.CREASE` for each
        time that it stays wholly so, 255 for ever.
    boxes, clusters : (patches, 6), (clusters, 6) float32
        May be larger than needed during a stroke, never smaller.
    faces_version, values_version, shape_version : int
        Grow when what is hidden, when any of the values, and when any place changes.
    in_flux : bool
        Only the vertices of its stand-in are where they belong: it is tried how it would look.
    stamp : (n,) int32
        Scratch: a vertex is "seen" when its stamp equals the id of the running pass.
    """

    in_flux = False
    shape_version = 0
    colour: U8 | None
    material: U8 | None
    paint: U8 | None
    mask: F32 | None
    origin: U8 | None
    seat: F32 | None
    regions: U16 | None
    hidden: U8 | None
    uv: F32 | None
    seams: U8 | None
    creases: U8 | None

    def __init__(
        self,
        topology: Topology,
        positions: F32,
        colour: U8 | None = None,
        mask: F32 | None = None,
        normals: F32 | None = None,
        boxes: tuple[F32, F32] | None = None,
        **values: AnyArray | None,
    ) -> None:
        self.topology = topology
        self.positions = np.ascontiguousarray(positions, np.float32)
        given = checked({"colour": colour, "mask": mask, **values})
        for name in VALUES:
            setattr(self, name, given.get(name))
        self.faces_version = 0
        self.values_version = 0
        self._value_dirty = np.zeros(topology.n_patches, np.uint8)
        self._protection: F32 | None = None
        self.normals = compute_normals(self.positions, topology) if normals is None else normals
        self.boxes, self.clusters = boxes or all_boxes(self.positions, topology)
        self.stamp = np.zeros(topology.n_vertices, np.int32)
        self.stamp_id = 0
        self._dirty = np.zeros(topology.n_patches, np.uint8)
        self._dirty_list = np.empty(topology.n_patches, np.int32)
        self._n_dirty = 0
        self._moved: list[F32] = []
        self._versions = (0, 0)
        self._scratch: dict[str, AnyArray] = {}

    @classmethod
    def from_faces(
        cls,
        positions: F32,
        faces: I32,
        colour: U8 | None = None,
        mask: F32 | None = None,
        **values: AnyArray | None,
    ) -> Mesh:
        """Build from positions (n, 3) and faces (f, 4) in source order, and any of `VALUES`. Raises `MeshError` on bad indices or unusable positions."""
        positions = np.ascontiguousarray(positions, np.float32)
        if len(positions) == 0:
            raise MeshError("there are no vertices")
        if not np.isfinite(positions).all():
            raise MeshError("a position is not a finite number")
        if max(float(positions.max()), -float(positions.min())) > FAR:
            raise MeshError(
                "a vertex lies further than a thousand kilometres from the middle: check the unit"
            )
        topology, order = build_topology(faces, positions)
        had = checked({"colour": colour, "mask": mask, **values})
        return cls(topology, positions[order], **rows_of(had, order, topology.source_face))

    def values(self) -> dict[str, Any]:
        """What it has of `VALUES`, by name."""
        return {name: value for name in VALUES if (value := getattr(self, name)) is not None}

    def own_values(self) -> dict[str, Any]:
        """Copies of the same: as keywords they make another mesh that strokes on this one do not reach."""
        return {name: value.copy() for name, value in self.values().items()}

    def copy(self) -> Mesh:
        """The same clay once more, which strokes on this one do not reach: 10 ms for a million vertices."""
        values = self.own_values()
        boxes = (self.boxes.copy(), self.clusters.copy())
        return Mesh(self.topology, self.positions.copy(), normals=self.normals.copy(), boxes=boxes, **values)

    def with_positions(self, positions: F32) -> Mesh:
        """Clay of the same shape and values in other places (n, 3)."""
        return Mesh(self.topology, positions, **self.own_values())

    @property
    def n_vertices(self) -> int:
        """How long arrays of vertices are."""
        return self.topology.n_vertices

    @property
    def count(self) -> int:
        """How many vertices there are; `n_vertices` is how long arrays are, places without a vertex included."""
        return self.n_vertices

    def settled(self) -> Mesh:
        """Clay that any operation works on: itself."""
        return self

    @property
    def nbytes(self) -> int:
        """Bytes on the CPU, scratch included."""
        total = self.topology.nbytes + self.positions.nbytes + self.normals.nbytes
        total += self.stamp.nbytes + self.boxes.nbytes + self.clusters.nbytes
        total += self._dirty.nbytes + self._dirty_list.nbytes
        return total + sum(value.nbytes for value in self.values().values())

    def scratch(self, name: str, length: int, kind: type) -> AnyArray:
        """Room (length,) for a pass over part of the mesh, used again by the next; its contents are anything.

        Fresh memory for every dab would be paid for page by page: half a millisecond a dab. Rooms for
        more than two million numbers are not kept.
        """
        kept = self._scratch.get(name)
        if kept is None or len(kept) < length:
            kept = np.empty(max(length, 2 * len(kept) if kept is not None else 0), kind)
            if len(kept) <= 2_000_000:
                self._scratch[name] = kept
        return kept[:length]

    def next_stamp(self) -> int:
        """A new id for a pass over `stamp`."""
        return self.next_stamps(1)

    def next_stamps(self, count: int) -> int:
        """The first of `count` new ids, all greater than any in `stamp`."""
        if self.stamp_id + count > 2**31 - 4:
            self.stamp[:] = 0
            self.stamp_id = 0
        first = self.stamp_id + 1
        self.stamp_id += count
        return first

    def need(self, name: str) -> AnyArray:
        """One of `VALUES` as an array (n, ...), made blank where there was none."""
        value = self.value(name)
        setattr(self, name, value)
        return value

    def value(self, name: str) -> AnyArray:
        """One of `VALUES`, (n, ...); what `need` would make of it where there is none."""
        value: AnyArray | None = getattr(self, name)
        if value is None:
            value = VALUES[name].none(self.topology.n_faces if VALUES[name].by_face else self.n_vertices)
        return value

    def protection(self) -> F32:
        """(n,): 1 for what tools may not touch: the mask, and vertices all of whose faces are hidden.

        Empty when nothing is protected. Whoever changes the mask or what is hidden calls `forget_protection`.
        """
        if self.hidden is None:
            return np.empty(0, np.float32) if self.mask is None else self.mask
        if self._protection is None:
            shown = np.zeros(self.n_vertices + 1, bool)
            shown[self.topology.faces[self.hidden == 0].reshape(-1)] = True
            self._protection = np.where(shown[:-1], 0 if self.mask is None else self.mask, 1).astype(
                np.float32
            )
        return self._protection

    def forget_protection(self) -> None:
        """The mask, or what is hidden, has changed."""
        self._protection = None

    def mark_dirty(self, vertices: I32, shape: bool = True) -> None:
        """Remember that the picture of these vertices (k,) is out of date; `shape`: only where they stand."""
        if not shape:
            self.values_version += 1
            _mark_values(vertices, self._value_dirty)
            return
        self.shape_version += 1
        self._n_dirty = _mark_patches(vertices, self._dirty, self._dirty_list, self._n_dirty)

    def changing(self) -> int:
        """A number that grows with everything that makes the picture out of date; see `note_moved`."""
        return self.shape_version + self.values_version

    def note_moved(self, before: int, boxes: F32) -> None:
        """All that has changed since `changing` gave a number lies in boxes (k, 6): only there is it drawn anew."""
        taken, known = self._versions
        self._versions = (taken, known + self.changing() - before)
        if not len(boxes):
            return
        if len(boxes) > MOST_BOXES:
            # Patches next to each other in number are near in space.
            starts = np.linspace(0, len(boxes), MOST_BOXES + 1).astype(int)[:-1]
            low = np.minimum.reduceat(boxes[:, :3], starts)
            boxes = np.concatenate([low, np.maximum.reduceat(boxes[:, 3:], starts)], axis=1)
        self._moved.append(boxes)
        if len(self._moved) > MOST_BOXES:
            whole = np.concatenate(self._moved)
            self._moved = [np.concatenate([whole[:, :3].min(axis=0), whole[:, 3:].max(axis=0)])[None]]

    def take_moved(self) -> F32 | None:
        """The boxes, (k, 6), that hold all that has changed since the last call; None where that is not known."""
        (taken, known), moved = self._versions, self._moved
        self._versions, self._moved = (self.changing(), 0), []
        if self._versions[0] - taken != known or not moved:
            return None
        return np.concatenate(moved)

    @property
    def is_dirty(self) -> bool:
        """Whether anything changed since `take_dirty`."""
        return self._n_dirty > 0

    def take_changed_values(self) -> I32:
        """The patches whose values changed since the last call, (p,) ascending."""
        patches = np.flatnonzero(self._value_dirty).astype(np.int32)
        self._value_dirty[patches] = 0
        return patches

    @property
    def is_outdated(self) -> bool:
        """Whether anything that is drawn changed since it was taken."""
        return self._n_dirty > 0 or bool(self._value_dirty.any())

    def take_dirty(self) -> I32:
        """The patches changed since the last call, (p,) ascending."""
        patches = np.sort(self._dirty_list[: self._n_dirty])
        self._dirty[patches] = 0
        self._n_dirty = 0
        return patches

    def refit(self, patches: I32) -> None:
        """Make the boxes of these patches, (p,) ascending, tight again."""
        fit_all(self.positions, self.topology, patches, self.boxes)
        fit_clusters(self.boxes, patches, self.clusters)

    def refresh_all(self) -> None:
        """Renew normals, boxes and dirty marks after positions changed everywhere."""
        self.normals[:] = compute_normals(self.positions, self.topology)
        self.boxes[:], self.clusters[:] = all_boxes(self.positions, self.topology)
        self.mark_all_dirty()

    def mark_all_dirty(self) -> None:
        """The picture of all of it is out of date."""
        self.shape_version += 1
        n = self.topology.n_patches
        self._dirty[:] = 1
        self._dirty_list[:] = np.arange(n)
        self._n_dirty = n

    def bounds(self) -> tuple[F32, F32]:
        """Low and high corner, (3,) each, of the box around all vertices."""
        return self.clusters[:, :3].min(axis=0), self.clusters[:, 3:].max(axis=0)

    def source_arrays(self) -> tuple[F32, I32]:
        """Positions (n, 3) and faces (f, 4) in the order the mesh came in."""
        topology = self.topology
        positions = np.empty_like(self.positions)
        positions[topology.source_vertex] = self.positions
        names = np.append(topology.source_vertex, np.int32(-1))
        faces = np.empty_like(topology.faces)
        faces[topology.source_face] = names[topology.faces]
        return positions, faces

    def in_source_order(self, values: AnyArray) -> AnyArray:
        """Values of vertices, (n, ...), in the order the mesh came in."""
        out = np.empty_like(values)
        out[self.topology.source_vertex] = values
        return out
