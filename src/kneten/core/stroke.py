"""A running stroke: dabs and their mirrored twins, from the press to the difference they leave."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, U32, kernel
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.falloff import curve_table
from kneten.core.mesh import Mesh
from kneten.core.normals import stamp_in_order, sum_areas, turn_normals
from kneten.core.patches import fit_clusters, loosen_boxes, patches_near
from kneten.core.reach import Reach, apply_push, keep_connected, weigh
from kneten.core.topology import PATCH, PATCH_BITS
from kneten.core.workspace import Workspace

Axes = tuple[bool, bool, bool]

LOOSE = 0.1
"""How loose boxes may become before they are fitted again, as a share of the brush's radius."""

NO_MASK = np.empty(0, np.float32)


@dataclass(frozen=True)
class VertexChange:
    """Which vertices a stroke moved, and where they were before: enough to undo and redo it.

    Attributes
    ----------
    vertices : (k,) int32
    positions : (k, 3) float32
        The other state: `swap` puts these in and keeps what it found.
    """

    vertices: I32
    positions: F32

    @property
    def nbytes(self) -> int:
        return self.vertices.nbytes + self.positions.nbytes

    def swap(self, mesh: Mesh) -> VertexChange:
        """Put the kept positions in, and return the change that takes this back."""
        found = mesh.positions[self.vertices]
        mesh.positions[self.vertices] = self.positions
        touched, owners = patches_of(mesh, self.vertices)
        refresh_after_move(mesh, self.vertices, owners)
        mesh.refit(touched)
        return VertexChange(self.vertices, found)


@kernel
def _mark_owners(faces: U32, start: U32, ring: U32, vertices: U32, marks: U8) -> None:
    for i in range(vertices.shape[0]):
        v = vertices[i]
        marks[v >> PATCH_BITS] |= 1
        for k in range(start[v], start[v + 1]):
            f = ring[k]
            # A face lies in the patch of its least corner; a triangle's missing one is the greatest number.
            least = min(min(faces[f, 0], faces[f, 1]), min(faces[f, 2], faces[f, 3]))
            marks[least >> PATCH_BITS] |= 2


def patches_of(mesh: Mesh, vertices: I32) -> tuple[I32, I32]:
    """The patches that hold these vertices or own a face of them, and only the latter; ascending."""
    marks = np.zeros(mesh.topology.n_patches, np.uint8)
    _mark_owners(*mesh.topology.walk, vertices.view(np.uint32), marks)
    return np.flatnonzero(marks).astype(np.int32), np.flatnonzero(marks & 2).astype(np.int32)


def refresh_after_move(mesh: Mesh, moved: I32, owners: I32) -> None:
    """Renew normals around moved vertices and mark them dirty; `owners` own all their faces."""
    room = 2 * len(moved) + 4096
    base = mesh.next_stamps(room)
    stamp_in_order(mesh.stamp, base, moved)
    listed = mesh.scratch("listed", room, np.uint32)
    listed[: len(moved)] = moved
    _renew_normals(mesh, base, listed, [(0, len(moved))], [owners])


def _renew_normals(
    mesh: Mesh, base: int, listed: U32, segments: list[tuple[int, int]], owners: list[I32]
) -> list[F32]:
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
    """
    faces, start, ring = mesh.topology.walk
    n_moved = segments[-1][1]
    sums = mesh.scratch("rows", 4 * len(listed), np.float64).reshape(-1, 4)
    sums[:n_moved] = 0.0
    n = n_moved
    bounds = []
    for (first, last), near in zip(segments, owners, strict=True):
        box = np.empty(6, np.float32)
        n = sum_areas(
            mesh.positions,
            faces,
            mesh.topology.patch_faces.view(np.uint32),
            near.view(np.uint32),
            mesh.stamp,
            base,
            first,
            last,
            listed,
            n,
            sums,
            box,
        )
        if n < 0:
            break
        bounds.append(box)
    if n < 0:
        # Vertices with hundreds of faces: there are more corners than room. Once more with a list that holds any.
        longer = np.empty(mesh.n_vertices + 4, np.uint32)
        longer[:n_moved] = listed[:n_moved]
        base = mesh.next_stamps(len(longer))
        stamp_in_order(mesh.stamp, base, longer[:n_moved].view(np.int32))
        return _renew_normals(mesh, base, longer, segments, owners)
    turn_normals(mesh.positions, mesh.normals, faces, start, ring, listed[:n], n_moved, sums)
    mesh.mark_dirty(listed[:n].view(np.int32))
    return bounds


class Stroke:
    """One stroke of one tool on one mesh.

    Parameters
    ----------
    symmetry : three bools
        Mirror across the part's x = 0, y = 0, z = 0 planes.

    Attributes
    ----------
    boxes : list of (6,) float32
        Where the picture is out of date, in the part's space; the view empties it.
    n_reached : int
        Vertices under the last dab, without its twins.
    """

    def __init__(
        self, mesh: Mesh, tool: Tool, settings: BrushSettings, symmetry: Axes = (False,) * 3
    ) -> None:
        self.mesh = mesh
        self.tool = tool
        self.settings = settings
        self.work = Workspace(mesh)
        self.falloff = curve_table(settings.falloff)
        choices = [(1.0, -1.0) if on else (1.0,) for on in symmetry]
        self.mirrors = [np.array(signs) for signs in itertools.product(*choices)]
        self.boxes: list[F32] = []
        self.n_reached = 0
        self._loose = 0.0
        self._grabbed: list[Reach] = []
        self._vertices = np.empty(0, np.int32)
        self._places = np.empty(0, np.int32)
        self._weights = np.empty(0, np.float32)

    def _room(self, n: int) -> None:
        if n > len(self._vertices):
            old = (self._vertices, self._places, self._weights)
            room = max(n, 2 * len(self._vertices))
            self._vertices = np.empty(room, np.int32)
            self._places = np.empty(room, np.int32)
            self._weights = np.empty(room, np.float32)
            for new, kept in zip((self._vertices, self._places, self._weights), old, strict=True):
                new[: len(kept)] = kept

    def _reach(self, centre: F64, radius: float, view: F64, n: int) -> tuple[int, I32]:
        """Append what one dab reaches to the lists; returns their new length and the patches near."""
        mesh, work = self.mesh, self.work
        x, y, z = centre
        count = patches_near(mesh.boxes, mesh.clusters, x, y, z, radius, work.near_buffer)
        near = work.near_buffer[:count].copy()
        work.open(near)
        self._room(n + count * PATCH)
        first = n
        n = weigh(
            mesh.positions,
            mesh.normals,
            NO_MASK if mesh.mask is None else mesh.mask,
            near,
            work.patch_slot,
            x,
            y,
            z,
            radius,
            self.falloff,
            view,
            self.settings.front_only,
            self._vertices,
            self._places,
            self._weights,
            n,
        )
        if self.settings.connected_only:
            shape = mesh.topology
            n = keep_connected(
                mesh.positions,
                shape.faces,
                shape.ring_start,
                shape.ring_faces,
                mesh.stamp,
                mesh.next_stamp(),
                mesh.next_stamp(),
                x,
                y,
                z,
                self._vertices,
                self._places,
                self._weights,
                first,
                n,
            )
        return n, near

    def _reaches(self, centre: F64, radius: float, view: F64) -> tuple[list[Reach], I32]:
        ends = [0]
        nears = []
        for signs in self.mirrors:
            end, near = self._reach(centre * signs, radius, view * signs, ends[-1])
            ends.append(end)
            nears.append(near)
        reaches = [
            Reach(self._vertices[a:b], self._places[a:b], self._weights[a:b], near)
            for (a, b), near in zip(itertools.pairwise(ends), nears, strict=True)
        ]
        self.n_reached = ends[1]
        return reaches, np.array(ends, np.int32)

    def dab(self, dab: Dab) -> None:
        """Touch the clay once, and at every mirrored place at the same time."""
        reaches, ends = self._reaches(dab.centre, dab.radius, dab.view)
        for signs, reach in zip(self.mirrors, reaches, strict=True):
            twin = Dab(
                dab.centre * signs,
                dab.along * signs,
                dab.view * signs,
                dab.radius,
                dab.strength,
                dab.spacing,
            )
            self.tool.displace(self.mesh, self.work, reach, twin)
        self._apply(self._vertices, self._places, ends, [reach.near for reach in reaches], dab.radius)

    def grab(self, centre: F64, radius: float, view: F64) -> None:
        """Take hold of what is under the brush; it stays held until the stroke ends."""
        reaches, ends = self._reaches(centre, radius, view)
        self._grabbed = [Reach(r.vertices.copy(), r.places.copy(), r.weights.copy(), r.near) for r in reaches]
        self._held = (
            np.concatenate([r.vertices for r in self._grabbed]),
            np.concatenate([r.places for r in self._grabbed]),
            ends,
            [r.near for r in self._grabbed],
        )

    def drag(self, way: F64, radius: float, strength: float = 1.0) -> None:
        """Bring what is held to `way` from where it was grabbed."""
        for signs, reach in zip(self.mirrors, self._grabbed, strict=True):
            way_here = way * signs * strength
            dab = Dab(np.zeros(3), way_here, np.zeros(3), radius, strength, 1.0)
            self.tool.displace(self.mesh, self.work, reach, dab)
        self._apply(*self._held, radius)

    def _apply(self, vertices: I32, places: I32, ends: I32, nears: list[I32], radius: float) -> None:
        mesh, work = self.mesh, self.work
        share = self.settings.build_up_limit
        limit = share * radius if share > 0 else np.inf
        room = 2 * int(ends[-1]) + 4096
        base = mesh.next_stamps(room)
        listed = mesh.scratch("listed", room, np.uint32)
        longest = np.zeros(1)
        segments = []
        owners = []
        moves = []
        n = 0
        for near, (first, last) in zip(nears, itertools.pairwise(ends.tolist()), strict=True):
            begin = n
            n = apply_push(
                mesh.positions,
                work.origin,
                work.push,
                work.push_weight,
                self.tool.holds,
                limit,
                mesh.stamp,
                base,
                vertices.view(np.uint32),
                places.view(np.uint32),
                first,
                last,
                listed,
                n,
                longest,
            )
            if n > begin:
                segments.append((begin, n))
                owners.append(near)
                moves.append(float(longest[0]))
        if not segments:
            return
        bounds = _renew_normals(mesh, base, listed, segments, owners)
        for box, move in zip(bounds, moves, strict=True):
            # The box holds where the clay is now; by this much it may have been outside before.
            box[:3] -= move
            box[3:] += move
            self.boxes.append(box)
        self._keep_boxes(nears, max(moves), radius)

    def _keep_boxes(self, nears: list[I32], move: float, radius: float) -> None:
        """Loosen the boxes near the dab by its longest move, and fit them anew now and then.

        A patch that owns a face of a moved vertex had that vertex in its box, so the dab was near it.
        """
        mesh, work = self.mesh, self.work
        move *= 1.0 + 1e-6
        self._loose += move
        if self._loose > LOOSE * radius:
            self._loose = 0.0
            mesh.refit(work.touched_patches())
            return
        for near in nears:
            loosen_boxes(mesh.boxes, near, move)
            fit_clusters(mesh.boxes, near, mesh.clusters)

    def finish(self) -> VertexChange | None:
        """End the stroke. Returns what undoes it, or None when nothing moved."""
        vertices, before = self.work.moved()
        self.mesh.refit(self.work.touched_patches())
        if len(vertices) == 0:
            return None
        return VertexChange(vertices, before)

    def cancel(self) -> None:
        """Put everything back as the stroke found it."""
        change = self.finish()
        if change is not None:
            change.swap(self.mesh)
