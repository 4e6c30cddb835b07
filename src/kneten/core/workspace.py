"""Scratch memory of a running stroke. It grows with the patches touched, never with the mesh."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, AnyArray, kernel
from kneten.core.mesh import Mesh
from kneten.core.press import Press, Tip
from kneten.core.topology import PATCH, PATCH_BITS


@kernel
def _open_slots(
    patches: I32, patch_slot: I32, n_slots: int, slot_patch: I32, positions: F32, origin: F32
) -> int:
    for i in range(patches.shape[0]):
        p = patches[i]
        if patch_slot[p] >= 0:
            continue
        patch_slot[p] = n_slots
        slot_patch[n_slots] = p
        first = p << PATCH_BITS
        for k in range(min(PATCH, positions.shape[0] - first)):
            for a in range(3):
                origin[(n_slots << PATCH_BITS) + k, a] = positions[first + k, a]
        n_slots += 1
    return n_slots


@kernel
def _moved_vertices(
    slot_patch: I32, n_slots: int, positions: F32, origin: F32, vertices: I32, before: F32
) -> int:
    n = 0
    for slot in range(n_slots):
        first = slot_patch[slot] << PATCH_BITS
        base = slot << PATCH_BITS
        for k in range(min(PATCH, positions.shape[0] - first)):
            v = first + k
            same = (
                positions[v, 0] == origin[base + k, 0]
                and positions[v, 1] == origin[base + k, 1]
                and positions[v, 2] == origin[base + k, 2]
            )
            if not same:
                vertices[n] = v
                for a in range(3):
                    before[n, a] = origin[base + k, a]
                n += 1
    return n


@kernel
def _split_ways(made: I32, patch_slot: I32, positions: F32, origin: F32, trace: F32) -> None:
    """Let vertices on edges, in rows of themselves and their ends, have come as far as the ends have in the mean."""
    for i in range(made.shape[0]):
        m, a, b = made[i, 0], made[i, 1], made[i, 2]
        at = (patch_slot[m >> PATCH_BITS] << PATCH_BITS) + (m & (PATCH - 1))
        one = (patch_slot[a >> PATCH_BITS] << PATCH_BITS) + (a & (PATCH - 1))
        two = (patch_slot[b >> PATCH_BITS] << PATCH_BITS) + (b & (PATCH - 1))
        for k in range(3):
            way_a = np.float64(positions[a, k]) - origin[one, k]
            way_b = np.float64(positions[b, k]) - origin[two, k]
            origin[at, k] = positions[m, k] - 0.5 * (way_a + way_b)
        if trace.shape[0] > 0:
            trace[at, 0] = max(trace[one, 0], trace[two, 0])
            trace[at, 1] = np.float32(0.5) * (trace[one, 1] + trace[two, 1])


@kernel
def _split_coats(made: I32, patch_slot: I32, found: F32, coat: F64) -> None:
    """The same for what a press has laid, and the normals that it lies along."""
    for i in range(made.shape[0]):
        m, a, b = made[i, 0], made[i, 1], made[i, 2]
        at = (patch_slot[m >> PATCH_BITS] << PATCH_BITS) + (m & (PATCH - 1))
        one = (patch_slot[a >> PATCH_BITS] << PATCH_BITS) + (a & (PATCH - 1))
        two = (patch_slot[b >> PATCH_BITS] << PATCH_BITS) + (b & (PATCH - 1))
        for k in range(7):
            coat[at, k] = 0.5 * (coat[one, k] + coat[two, k])
        length = 0.0
        for k in range(3):
            found[at, k] = found[one, k] + found[two, k]
            length += np.float64(found[at, k]) * found[at, k]
        for k in range(3):
            found[at, k] /= max(np.sqrt(length), 1e-30)


@kernel
def _join_ways(pairs: I32, ways: F32, traces: F32) -> None:
    """Give the second of each pair the mean of both; in order, for one may have taken in several."""
    for i in range(pairs.shape[0]):
        u, v = pairs[i, 0], pairs[i, 1]
        for k in range(3):
            ways[v, k] = np.float32(0.5) * (ways[u, k] + ways[v, k])
        traces[v, 0] = max(traces[u, 0], traces[v, 0])
        traces[v, 1] = np.float32(0.5) * (traces[u, 1] + traces[v, 1])


class Workspace:
    """Slots of 512 vertices, one for each patch a stroke has come near.

    Attributes
    ----------
    patch_slot : (patches,) int32
        The slot of each patch, -1 where the stroke has not been.
    origin : (slots * 512, 3) float32
        Positions as the stroke found them.
    push : (slots * 512, 3) float64
        Sum of the weighted moves that a dab and its mirrored twins ask for.
    push_weight : (slots * 512, 2) float64
        Sum and greatest of the weights in `push`.
    trace : (slots * 512, 2) float32
        How far the stroke was when it was here last (0 never), and what it found; only where it is needed.
    found : (slots * 512, 3) float32 or None
        Normals as the stroke found them; only for presses, as what follows.
    lean : (slots * 512, 3) float64 or None
        Sum of the weighted ways that a press and its mirrored twins ask for.
    coat : (slots * 512, 7) float64 or None
        What a press has laid here so far.
    press : Press or None
        The press on the tool's tip.
    tip : Tip
        How it is held.
    unit : float
        The part's lengths in a millimetre.
    falloff : (k,) float32
        The falloff of a press, from its middle to its rim.
    fade : float
        Over how many radii a press that is rolled begins and ends.
    before : (n, 3) float32 or None
        Where the clay was at the milestone that is gone back to.
    """

    def __init__(self, mesh: Mesh) -> None:
        self.mesh = mesh
        self.patch_slot = np.full(mesh.topology.n_patches, -1, np.int32)
        self.n_slots = 0
        self.trace: F32 | None = None
        self.found: F32 | None = None
        self.coat: F64 | None = None
        self.lean: F64 | None = None
        self.press: Press | None = None
        self.tip = Tip()
        self.falloff: F32 = np.ones(2, np.float32)
        self.fade = 0.0
        self.unit = 1.0
        self.before: F32 | None = None
        self._room(64)
        self._near = np.empty(mesh.topology.n_patches, np.int32)

    def _room(self, slots: int) -> None:
        kept = self.n_slots * PATCH

        def grown(width: int, kind: type, old: str) -> AnyArray:
            new: AnyArray = np.zeros((slots * PATCH, width), kind)
            if kept:
                new[:kept] = getattr(self, old)[:kept]
            return new

        self.origin: F32 = grown(3, np.float32, "origin")
        self.push: F64 = grown(3, np.float64, "push")
        self.push_weight: F64 = grown(2, np.float64, "push_weight")
        if self.trace is not None:
            self.trace = grown(2, np.float32, "trace")
        if self.found is not None:
            self.found, self.coat = grown(3, np.float32, "found"), grown(7, np.float64, "coat")
            self.lean = grown(3, np.float64, "lean")
        slot_patch = np.full(slots, -1, np.int32)
        if kept:
            slot_patch[: self.n_slots] = self.slot_patch[: self.n_slots]
        self.slot_patch: I32 = slot_patch

    def need_trace(self) -> F32:
        """The trace (slots * 512, 2), begun with zeros where there was none."""
        if self.trace is None:
            self.trace = np.zeros((len(self.origin), 2), np.float32)
        return self.trace

    def need_coat(self) -> None:
        """Note normals, and how a press lies, from now on: before any patch is opened."""
        self.found = np.zeros((len(self.origin), 3), np.float32)
        self.coat = np.zeros((len(self.origin), 7))
        self.lean = np.zeros((len(self.origin), 3))
        self.need_trace()

    @property
    def near_buffer(self) -> I32:
        """Room for a list of patches, (p,), as long as the mesh has patches."""
        if len(self._near) < self.mesh.topology.n_patches:
            self._near = np.empty(self.mesh.topology.n_patches, np.int32)
        return self._near

    def open(self, patches: I32) -> None:
        """Give every one of these patches (p,) a slot, and note its positions."""
        more = self.mesh.topology.n_patches - len(self.patch_slot)
        if more > 0:
            self.patch_slot = np.concatenate([self.patch_slot, np.full(more, -1, np.int32)])
        need = self.n_slots + len(patches)
        if need > len(self.slot_patch):
            self._room(max(need, 2 * len(self.slot_patch)))
        began = self.n_slots
        self.n_slots = _open_slots(
            patches,
            self.patch_slot,
            self.n_slots,
            self.slot_patch,
            self.mesh.positions,
            self.origin,
        )
        if self.found is not None:
            self._find_normals(began)

    def _find_normals(self, first: int) -> None:
        """Note the normals of what lies in the slots from `first` on."""
        assert self.found is not None
        vertices = (self.slot_patch[first : self.n_slots, None] << PATCH_BITS) + np.arange(PATCH)
        there = vertices < len(self.mesh.positions)
        self.found[first * PATCH : self.n_slots * PATCH][there.reshape(-1)] = self.mesh.normals[
            vertices[there]
        ]

    def split(self, made: I32) -> None:
        """Let vertices that were put on edges have come as far as the edges' ends, in the mean.

        Were they taken for new, what a stroke does once for each place would be done to them again.

        Parameters
        ----------
        made : (n, 3) int32
            The vertex, and the two ends of its edge.
        """
        self._open_for(made.reshape(-1))
        trace = np.empty((0, 2), np.float32) if self.trace is None else self.trace
        _split_ways(made, self.patch_slot, self.mesh.positions, self.origin, trace)
        if self.coat is not None and self.found is not None:
            _split_coats(made, self.patch_slot, self.found, self.coat)

    def ways(self, vertices: I32) -> tuple[F32, F32]:
        """How far vertices have come in this stroke, (n, 3), and their traces, (n, 2)."""
        self._open_for(vertices)
        places = self._places(vertices)
        ways = self.mesh.positions[vertices] - self.origin[places]
        return ways, np.zeros((len(places), 2), np.float32) if self.trace is None else self.trace[places]

    def join(self, vertices: I32, ways: F32, traces: F32, made: I32) -> None:
        """Let what was drawn together have come as far as both had, in the mean.

        Parameters
        ----------
        vertices : (n,) int32
            Ascending.
        ways, traces : arrays
            What `ways` told of them before.
        made : (m, 2) int32
            Which was drawn into which, in the order it was done.
        """
        _join_ways(np.searchsorted(vertices, made).astype(np.int32), ways, traces)
        kept = np.unique(made[:, 1])
        rows, places = np.searchsorted(vertices, kept), self._places(kept)
        self.origin[places] = self.mesh.positions[kept] - ways[rows]
        if self.trace is not None:
            self.trace[places] = traces[rows]

    def rename(self, old: I32, new: I32) -> None:
        """Let vertices that went from old to new places, (k,) each, keep what is known of them."""
        self._open_for(old, new)
        here, there = self._places(old), self._places(new)
        self.origin[there] = self.origin[here]
        if self.trace is not None:
            self.trace[there] = self.trace[here]
        if self.coat is not None and self.found is not None:
            self.coat[there], self.found[there] = self.coat[here], self.found[here]

    def restart(self) -> None:
        """Take the clay as it is for what the stroke found."""
        vertices = (self.slot_patch[: self.n_slots, None] << PATCH_BITS) + np.arange(PATCH)
        there = vertices < len(self.mesh.positions)
        self.origin[: self.n_slots * PATCH][there.reshape(-1)] = self.mesh.positions[vertices[there]]
        self.forget()
        if self.found is not None:
            self._find_normals(0)

    def forget(self) -> None:
        """Know nothing of what the stroke has done so far: all of it has been put back."""
        used = self.n_slots * PATCH
        if self.trace is not None:
            self.trace[:used] = 0
        if self.coat is not None:
            self.coat[:used] = 0

    def lift_at(self, point: F64, corners: I32) -> F64:
        """How far the stroke has moved the clay at a point (3,) of a face with these corners (k,), (3,): by the nearer ones most."""
        slots = self.patch_slot[corners >> PATCH_BITS]
        places = (slots.astype(np.int64) << PATCH_BITS) + (corners & (PATCH - 1))
        at = self.mesh.positions[corners].astype(np.float64)
        moved = np.where((slots >= 0)[:, None], at - self.origin[np.maximum(places, 0)], 0.0)
        near = 1.0 / (((at - point) ** 2).sum(axis=1) + 1e-12)
        lift: F64 = near @ moved / near.sum()
        return lift

    def _open_for(self, *vertices: I32) -> None:
        self.open(np.unique(np.concatenate(vertices) >> PATCH_BITS).astype(np.int32))

    def _places(self, vertices: I32) -> I32:
        places: I32 = (self.patch_slot[vertices >> PATCH_BITS] << PATCH_BITS) + (vertices & (PATCH - 1))
        return places

    def _traced(self) -> F32:
        return np.empty((0, 2), np.float32) if self.trace is None else self.trace

    def touched_patches(self) -> I32:
        """The patches with a slot, (p,) ascending."""
        return np.sort(self.slot_patch[: self.n_slots])

    def moved(self) -> tuple[I32, F32]:
        """The vertices that are not where the stroke found them, (k,), and where it found them, (k, 3)."""
        vertices = np.empty(self.n_slots * PATCH, np.int32)
        before = np.empty((self.n_slots * PATCH, 3), np.float32)
        n = _moved_vertices(self.slot_patch, self.n_slots, self.mesh.positions, self.origin, vertices, before)
        return vertices[:n].copy(), before[:n].copy()
