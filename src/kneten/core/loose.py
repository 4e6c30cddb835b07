"""Clay whose mesh changes under the brush: triangles in patches with room to grow.

A *loose* mesh is a mesh whose arrays have empty places. Patch `p` has the vertices `512 p .. 512 (p + 1)` and the
faces `1024 p .. 1024 (p + 1)`, of which some are dead: a dead vertex has no faces, a dead face names one vertex three
times, the patch's last, which is kept empty for that (the *anchor*). So every kernel that works patch by patch works
on it as on any other mesh, and what a dab changes is local: edges are split, collapsed and flipped where the brush is.
A patch that has run full is halved, and its half goes to a new patch at the end.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np

from kneten.core.arrays import F32, I32, U8, U32, AnyArray, kernel
from kneten.core.changes import patches_of, refresh_after_move
from kneten.core.loose_places import (
    ANCHOR,
    FACE_BITS,
    FACES,
    ROOM,
    Store,
    fill_free,
    fill_rings,
    find_borders,
    halve,
    owners_of_rings,
    park,
)
from kneten.core.mesh import Mesh
from kneten.core.ordering import space_order
from kneten.core.patches import fit_boxes, fit_clusters
from kneten.core.topology import CLUSTER, PATCH, PATCH_BITS, MeshError, Topology
from kneten.core.values import VALUES, between, of_any_faces, rows_of

if TYPE_CHECKING:
    from kneten.core.loose_change import LooseLog

FILL = 320
"""Vertices put into a patch at first: room for two thirds more before it halves."""

BLENDED = ("colour", "mask", "origin", "regions", "hidden")
"""The values that kernels know, fields of `Store`; all others follow what was done (`LooseMesh.others`)."""

VERTEX_ARRAYS = {
    "positions": (np.float32, 3),
    "normals": (np.float32, 3),
    "stamp": (np.int32, 0),
    "guard": (np.float32, 0),
    "ring": (np.int32, 2),
    "room": (np.uint8, 0),
    "border": (np.uint8, 0),
}
"""What a loose mesh has for each place of a vertex besides `VALUES`: kind and columns."""

PATCH_ARRAYS = {
    "boxes": (np.float32, 6),
    "free_vertices": (np.int16, PATCH),
    "n_free_vertices": (np.int32, 0),
    "free_faces": (np.int16, FACES),
    "n_free_faces": (np.int32, 0),
    "changed": (np.uint8, 0),
    "noted": (np.uint8, 0),
    "_dirty": (np.uint8, 0),
    "_dirty_list": (np.int32, 0),
    "_value_dirty": (np.uint8, 0),
}

MOST_FACES = 240
"""Faces around one vertex that a loose mesh can hold."""


class LooseTopology(Topology):
    """The shape of a loose mesh. Unlike others it changes, by `LooseMesh` only."""

    @property
    def walk(self) -> tuple[U32, U32, U32]:
        """`faces` (f, 4), rings (n, 2) and their faces (k,), as unsigned numbers."""
        return self.faces.view(np.uint32), self.ring.view(np.uint32), self.ring_faces.view(np.uint32)

    @property
    def face_bits(self) -> int:
        """A face's number shifted by this is its patch."""
        return FACE_BITS

    def live_vertices(self) -> AnyArray:
        """Which places hold a vertex, (n,) bool."""
        return np.asarray(self.ring[:, 0] != self.ring[:, 1])

    def live_faces(self) -> AnyArray:
        """Which places hold a face, (f,) bool."""
        return np.asarray(self.faces[:, 0] != self.faces[:, 1])

    @property
    def n_triangles(self) -> int:
        """How many faces there are; places without one not counted."""
        return int(np.count_nonzero(self.live_faces()))

    @property
    def has_border(self) -> bool:
        """Whether there are open edges."""
        return bool(self.border.any())

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        arrays = (self.faces, self.ring, self.ring_faces, self.border, self.patch_faces)
        return sum(array.nbytes for array in arrays)

    def become(self, **arrays: AnyArray) -> None:
        """Take other arrays, after the mesh has grown."""
        for name, array in arrays.items():
            # As read-only as any topology's: kernels are then compiled for one kind of arrays.
            view = array.view()
            view.flags.writeable = False
            object.__setattr__(self, name, view)


def as_triangles(positions: F32, faces: I32) -> tuple[I32, I32]:
    """Triangles (t, 4) of faces, quads cut along their shorter diagonal, and the face each comes from."""
    quads = np.flatnonzero(faces[:, 3] >= 0)
    a, b, c, d = faces[quads].T
    one = ((positions[a] - positions[c]) ** 2).sum(axis=1)
    two = ((positions[b] - positions[d]) ** 2).sum(axis=1)
    straight = one <= two
    first = np.where(straight[:, None], np.stack([a, b, c], 1), np.stack([a, b, d], 1))
    second = np.where(straight[:, None], np.stack([a, c, d], 1), np.stack([b, c, d], 1))
    rest = np.flatnonzero(faces[:, 3] < 0)
    triangles = np.concatenate([faces[rest, :3], first, second]).astype(np.int32)
    source = np.concatenate([rest, quads, quads]).astype(np.int32)
    # Both halves of a quad beside each other: near in space is near in memory.
    order = np.argsort(source, kind="stable")
    none = np.full((len(triangles), 1), -1, np.int32)
    return np.concatenate([triangles[order], none], 1), source[order]


class LooseMesh(Mesh):
    """Clay whose mesh may change under the brush.

    Attributes
    ----------
    n_patches : int
        Patches in use; all arrays are as long as these need, with room behind them to grow into.
    """

    topology: LooseTopology
    faces: I32
    ring_faces: I32
    guard: F32
    ring: I32
    room: U8
    border: U8
    free_vertices: AnyArray
    n_free_vertices: I32
    free_faces: AnyArray
    n_free_faces: I32
    changed: U8
    noted: U8

    def __init__(self, positions: F32, faces: I32, values: dict[str, AnyArray]) -> None:
        """Loosen a mesh: `positions` (n, 3), `faces` (f, 4), and those of `VALUES` that there are."""
        order = space_order(positions)
        place = np.empty(len(order), np.int32)
        at = np.arange(len(order), dtype=np.int32)
        place[order] = (at // FILL << PATCH_BITS) + at % FILL
        triangles, source = as_triangles(positions, faces)
        patches = (len(order) + FILL - 1) // FILL
        corners = place[triangles[:, :3]]
        owner = corners.min(axis=1) >> PATCH_BITS
        by_owner = np.argsort(owner, kind="stable")
        counts = np.bincount(owner, minlength=patches)
        if counts.max() > FACES - 64:
            raise MeshError("too many faces meet in one place for live density; remesh the part evenly first")
        valence = np.bincount(corners.reshape(-1), minlength=patches * PATCH)
        if valence.max() > MOST_FACES:
            raise MeshError(
                f"{valence.max():,} faces meet in one vertex; live density takes up to {MOST_FACES}. "
                "Remesh the part evenly first"
            )
        starts = np.concatenate([[0], np.cumsum(counts)])[:-1]
        slots = (owner[by_owner] << FACE_BITS) + np.arange(len(owner)) - starts[owner[by_owner]]
        self._room_patches = 0
        self._kept: dict[str, AnyArray] = {}
        self._scratch = {}
        self.n_patches = 0
        self.faces_version = self.values_version = 0
        self.stamp_id = 0
        self._n_dirty = 0
        self._moved = []
        self._versions = (0, 0)
        self._protection = None
        self._guard_stale = True
        self.cut_from: I32 = np.empty(0, np.int32)
        for name in VALUES:
            setattr(self, name, None)
        self.topology = LooseTopology(*([np.empty(0, np.int32)] * 7))  # type: ignore[arg-type]
        self._reserve(patches + max(patches // 3, 8))
        self._use(patches)
        self.positions[place[order]] = positions[order]
        live = np.zeros(len(self.positions), bool)
        live[place] = True
        self.faces[slots, :3] = corners[by_owner]
        rooms = np.maximum(valence + 4, ROOM).astype(np.int64)
        first = np.concatenate([[0], np.cumsum(rooms)])
        if first[-1] > 2**31 - 1 - len(self._kept["ring_faces"]):
            raise MeshError("the part is too large for live density")
        self.room[:] = rooms
        # Rings of what is there now; those of patches to come lie behind them, `ROOM` for each place.
        self._first_ring = int(first[-1])
        self._ring_patches = patches
        self.ring[:, 0] = self.ring[:, 1] = first[:-1]
        self._make_ring_room()
        fill_rings(self.faces, self.ring, self.ring_faces)
        for name, value in of_any_faces(values).items():
            by_face = VALUES[name].by_face
            array = self.need(name)
            if by_face:
                array[slots] = value[source[by_owner]]
            else:
                array[place] = value
        every = np.arange(patches, dtype=np.int32)
        s = self.store()
        fill_free(s, every)
        find_borders(s, np.flatnonzero(live).astype(np.int32))
        park(s, every)
        self.refresh_all()

    # -- arrays --------------------------------------------------------------------------------

    def _reserve(self, patches: int) -> None:
        """Have memory for so many patches."""
        if patches <= self._room_patches:
            return
        kept = self._kept

        def grown(name: str, length: int, kind: Any, columns: int) -> None:
            new: AnyArray = np.zeros((length, columns) if columns else length, kind)
            old = kept.get(name)
            if old is not None:
                new[: len(old)] = old
            kept[name] = new

        for name, (kind, columns) in VERTEX_ARRAYS.items():
            grown(name, patches * PATCH, kind, columns)
        for name, (kind, columns) in PATCH_ARRAYS.items():
            grown(name, patches, kind, columns)
        for name, value in VALUES.items():
            if name in kept:
                grown(name, patches * (FACES if value.by_face else PATCH), value.kind, value.columns)
        grown("faces", patches * FACES, np.int32, 4)
        grown("clusters", (patches + CLUSTER - 1) // CLUSTER, np.float32, 6)
        if "ring_faces" not in kept:
            kept["ring_faces"] = np.zeros(0, np.int32)
        self._room_patches = patches

    def _make_ring_room(self) -> None:
        need = self._first_ring + (self._room_patches - self._ring_patches) * PATCH * ROOM
        old = self._kept["ring_faces"]
        if len(old) < need:
            self._kept["ring_faces"] = np.zeros(need, np.int32)
            self._kept["ring_faces"][: len(old)] = old
        self.ring_faces = self._kept["ring_faces"]
        self.topology.become(ring_faces=self.ring_faces)

    def _use(self, patches: int) -> None:
        """Let the first so many patches be in use; new ones are empty."""
        kept, before = self._kept, self.n_patches
        self._adopt()
        self.n_patches = patches
        n = patches * PATCH
        for name in VERTEX_ARRAYS:
            setattr(self, name, kept[name][:n])
        for name in PATCH_ARRAYS:
            setattr(self, name, kept[name][:patches])
        for name, value in VALUES.items():
            if name in kept:
                setattr(self, name, kept[name][: patches * (FACES if value.by_face else PATCH)])
        self.clusters = kept["clusters"][: (patches + CLUSTER - 1) // CLUSTER]
        anchors = (np.arange(before, patches, dtype=np.int32) << PATCH_BITS) + ANCHOR
        new = kept["faces"][before * FACES : patches * FACES]
        new[:, :3] = np.repeat(anchors, FACES)[:, None]
        new[:, 3] = -1
        self.guard[before * PATCH :] = 1.0
        self.faces = kept["faces"][: patches * FACES]
        self.topology.become(
            faces=self.faces,
            ring=self.ring,
            border=self.border,
            patch_faces=np.arange(patches + 1, dtype=np.int32) * FACES,
            source_vertex=np.broadcast_to(np.int32(0), (n,)),
            source_face=np.broadcast_to(np.int32(0), (patches * FACES,)),
        )

    def _adopt(self) -> None:
        """Take values that somebody has put in or taken away into the arrays with room."""
        for name, kind in VALUES.items():
            value = getattr(self, name)
            if value is None:
                self._kept.pop(name, None)
                continue
            room = self._kept.get(name)
            if room is not None and value.base is room:
                continue
            room = kind.none(self._room_patches * (FACES if kind.by_face else PATCH))
            room[: len(value)] = value
            self._kept[name] = room
            setattr(self, name, room[: len(value)])

    def store(self) -> Store:
        """The arrays as kernels take them."""
        self._adopt()
        self.protection()
        held = {
            name: VALUES[name].none(0) if getattr(self, name) is None else getattr(self, name)
            for name in BLENDED
        }
        return Store(
            self.positions,
            self.normals,
            held["colour"],
            held["mask"],
            held["origin"],
            self.guard,
            self.faces,
            held["regions"],
            held["hidden"],
            self.ring,
            self.room,
            self.ring_faces,
            self.border,
            self.free_vertices,
            self.n_free_vertices,
            self.free_faces,
            self.n_free_faces,
            self.changed,
            self.noted,
            self._cuts(),
        )

    def _cuts(self) -> I32:
        """For each place of a face the one it was cut from, itself for most; empty where nobody asks."""
        if not self.others(True):
            return np.empty(0, np.int32)
        if len(self.cut_from) < self.n_patches * FACES:
            self.cut_from = np.arange(self._room_patches * FACES, dtype=np.int32)
        return self.cut_from

    def open_patch(self) -> int:
        """Add an empty patch at the end; its number."""
        p = self.n_patches
        if p + 1 > self._room_patches:
            self._reserve(p + 1 + max(p // 2, 8))
            self._make_ring_room()
            self._use(p)
        self._use(p + 1)
        first = self._first_ring + (p - self._ring_patches) * PATCH * ROOM
        starts = first + np.arange(PATCH, dtype=np.int32) * ROOM
        self.ring[p * PATCH :, 0] = self.ring[p * PATCH :, 1] = starts
        self.room[p * PATCH :] = ROOM
        fill_free(self.store(), np.array([p], np.int32))
        return p

    # -- what a mesh can do ---------------------------------------------------------------------

    @property
    def count(self) -> int:
        """How many vertices there are; places without one not counted."""
        return int(PATCH * self.n_patches - self.n_patches - int(self.n_free_vertices.sum()))

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        return sum(array.nbytes for array in self._kept.values())

    def protection(self) -> F32:
        """(n,): what tools may not touch; places without a vertex too."""
        if self._guard_stale:
            self._guard_stale = False
            guard = np.zeros(len(self.positions), np.float32) if self.mask is None else self.mask.copy()
            if self.hidden is not None:
                shown = np.zeros(len(guard), bool)
                shown[self.faces[self.hidden == 0, :3].reshape(-1)] = True
                guard[~shown] = 1.0
            guard[~self.topology.live_vertices()] = 1.0
            self.guard[:] = guard
        return self.guard

    def forget_protection(self) -> None:
        """The mask, or what is hidden, has changed."""
        self._guard_stale = True

    def refit(self, patches: I32) -> None:
        """Make the boxes of these patches (p,) tight again."""
        park(self.store(), patches)
        super().refit(patches)

    def need(self, name: str) -> AnyArray:
        """One of `VALUES` as an array with a row for every place, (n, ...)."""
        super().need(name)
        self._adopt()
        return np.asarray(getattr(self, name))

    def take_changed_faces(self) -> I32:
        """The patches whose faces changed since the last call, (p,) ascending."""
        found = np.flatnonzero(self.changed).astype(np.int32)
        self.changed[found] = 0
        return found

    @property
    def is_outdated(self) -> bool:
        """Whether anything that is drawn changed since it was taken."""
        return super().is_outdated or bool(self.changed.any())

    def settled(self) -> Mesh:
        """The same clay as a mesh without empty places, for everything but strokes; they part here."""
        return self.settling()()

    def settling(self) -> Callable[[], Mesh]:
        """What makes that mesh of the clay as it is now, on any thread: a tenth of the work is done here."""
        live = self.topology.live_vertices()
        names = np.cumsum(live, dtype=np.int32) - 1
        faces = self.topology.live_faces()
        rows = self.faces[faces].copy()
        rows[:, :3] = names[rows[:, :3]]
        positions, values = self.positions[live], rows_of(self.values(), live, faces)
        return lambda: Mesh.from_faces(positions, rows, **values)

    def copy(self) -> Mesh:
        """The same clay once more, settled: nothing but strokes works on loose clay."""
        return self.settled()

    def source_arrays(self) -> tuple[F32, I32]:
        """Positions (n, 3) and faces (f, 4) without the empty places."""
        return self.settled().source_arrays()

    def array(self, name: str) -> AnyArray:
        """Positions (n, 3), faces (f, 4), or one of `VALUES`, made where there was none."""
        if name == "positions":
            return self.positions
        return self.faces if name == "faces" else self.need(name)

    def others(self, by_face: bool) -> dict[str, AnyArray]:
        """Values (n, ...) that vertices or faces have and that kernels do not know: they follow by the methods below."""
        found = self.values()
        return {
            name: value
            for name, value in found.items()
            if name not in BLENDED and VALUES[name].by_face == by_face
        }

    def follow_splits(self, made: I32) -> None:
        """New vertices, (n, 3) with the ends of their edges, get what lies between the ends."""
        for name, value in self.others(False).items():
            value[made[:, 0]] = between(name, value, made[:, 1:], np.full((len(made), 2), 0.5))
        if self.others(True) and len(made):
            self.follow_faces(patches_of(self, np.sort(made[:, 0]))[1])

    def follow_joins(self, made: I32) -> None:
        """What was drawn together, (n, 2) the first into the second, gets what lies between the two."""
        for name, value in self.others(False).items():
            for row in made:
                value[row[1]] = between(name, value, row[None], np.full((1, 2), 0.5))[0]

    def follow_names(self, old: I32, new: I32) -> None:
        """Vertices that went from old to new places, (k,) each, take along what they have."""
        for value in self.others(False).values():
            value[new] = value[old]

    def follow_faces(self, patches: I32) -> None:
        """Faces of these patches (p,) that were cut from others have what those have."""
        others = self.others(True)
        if not others:
            return
        places = (
            (patches.astype(np.int32) << FACE_BITS)[:, None] + np.arange(FACES, dtype=np.int32)
        ).reshape(-1)
        cut = places[self.cut_from[places] != places]
        for value in others.values():
            value[cut] = value[self.cut_from[cut]]
        self.cut_from[cut] = cut

    def renew_around(self, vertices: I32) -> None:
        """Normals, boxes and picture of these places (k,), each named once, are out of date."""
        here = np.unique(vertices >> PATCH_BITS).astype(np.int32)
        live = vertices[self.ring[vertices, 0] != self.ring[vertices, 1]]
        if len(live):
            touched, owners = patches_of(self, live)
            self.refit(np.union1d(np.union1d(touched, owners), here).astype(np.int32))
            refresh_after_move(self, live, owners)
        else:
            self.refit(here)
        self.mark_dirty(vertices)
        self.mark_dirty(vertices, shape=False)

    def halve(self, p: int, log: LooseLog) -> bool:
        """Make room in a patch by bringing half of it to a new one; whether any of it could go."""
        marks = np.zeros(self.n_patches, np.uint8)
        owners_of_rings(self.store(), p, marks)
        marks[p] = 1
        log.note(np.flatnonzero(marks).astype(np.int32))
        q = self.open_patch()
        log.note(np.array([q], np.int32))
        moved, names = np.empty(PATCH, np.int32), np.empty(PATCH, np.int32)
        n = halve(self.store(), p, q, moved, names)
        self.follow_faces(np.array([q], np.int32))
        log.renamed.append((names[:n].copy(), moved[:n].copy()))
        both = np.array([p, q], np.int32)
        self.refit(both)
        fit_boxes(self.positions, self.faces, self.topology.patch_faces, both, self.boxes)
        fit_clusters(self.boxes, both, self.clusters)
        self.mark_dirty(np.array([p << PATCH_BITS, q << PATCH_BITS], np.int32))
        self.mark_dirty(np.array([p << PATCH_BITS, q << PATCH_BITS], np.int32), shape=False)
        return n > 0

    def are_faces(self, corners: I32) -> AnyArray:
        """Whether three vertices each, (k, 3), still have a face in common, (k,) bool."""
        out = np.empty(len(corners), bool)
        _faces_there(self.faces, self.ring, self.ring_faces, corners, out)
        return out

    def is_face(self, corners: tuple[int, int, int]) -> bool:
        """Whether three vertices still have a face in common."""
        return bool(self.are_faces(np.array([corners], np.int32))[0])


@kernel
def _faces_there(faces: I32, ring: I32, ring_faces: I32, corners: I32, out: AnyArray) -> None:
    for i in range(corners.shape[0]):
        a = corners[i, 0]
        b = corners[i, 1]
        c = corners[i, 2]
        out[i] = False
        if max(a, b, c) >= ring.shape[0]:
            continue
        for k in range(ring[a, 0], ring[a, 1]):
            f = ring_faces[k]
            if b in (faces[f, 0], faces[f, 1], faces[f, 2]) and c in (faces[f, 0], faces[f, 1], faces[f, 2]):
                out[i] = True
                break


def loosened(mesh: Mesh) -> LooseMesh:
    """Clay that changes its mesh under the brush. Raises `MeshError` where it cannot be."""
    return LooseMesh(mesh.positions, mesh.topology.faces, mesh.values())
