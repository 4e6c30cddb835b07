"""A mesh under work: plain arrays that say where each vertex and face came from, made clay again at the end."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from kneten.core.arrays import F64, I32, AnyArray
from kneten.core.mesh import Mesh
from kneten.core.topology import MeshError
from kneten.core.values import VALUES, between


@dataclass(eq=False)
class Draft:
    """What is worked on.

    Attributes
    ----------
    p : (n, 3) float64
    f : (f, 4) int32
        -1 for a triangle's last corner.
    rows, share : (n, 2) int32, (n,) float64
        Each vertex lies between two of the mesh's: as much of the second as the share says.
    source : (f,) int32
        The face of the mesh that each was; -1 for none.
    same : (f,) bool
        Which have the corners still that they had: what goes around those stays.
    marked, chosen : (n,), (f,) bool
        Vertices and faces that are in hand after.
    names : (n,) int32
        What each vertex of the mesh has become.
    smoothed : (k, 2) int32
        Ends of the mesh's edges that give nothing of theirs to others.
    """

    mesh: Mesh
    p: F64
    f: I32
    rows: I32
    share: F64
    source: I32
    same: AnyArray
    marked: AnyArray
    chosen: AnyArray
    names: I32
    smoothed: AnyArray

    @classmethod
    def of(cls, mesh: Mesh) -> Draft:
        """A mesh to be worked on; it is not changed itself."""
        n, faces = mesh.n_vertices, mesh.topology.faces
        every = np.arange(n, dtype=np.int32)
        return cls(
            mesh, mesh.positions.astype(np.float64), faces.copy(), np.stack([every, every], axis=1), np.zeros(n),
            np.arange(len(faces), dtype=np.int32), np.ones(len(faces), bool), np.zeros(n, bool), np.zeros(len(faces), bool),
            every.copy(), np.empty((0, 2), np.int32),
        )  # fmt: skip

    def add(self, places: ArrayLike, rows: ArrayLike, share: ArrayLike = 0.0) -> I32:
        """New vertices at places (k, 3), between rows (k, 2) of vertices that there are; their numbers (k,)."""
        at = np.asarray(places, np.float64).reshape(-1, 3)
        first, k = len(self.p), len(at)
        rows = np.asarray(rows, np.int64).reshape(k, 2)
        # What a vertex that is new itself lies between: the nearer of its own two.
        own = np.where(self.share[rows] > 0.5, self.rows[rows, 1], self.rows[rows, 0])
        self.p = np.concatenate([self.p, at])
        self.rows = np.concatenate([self.rows, own.astype(np.int32)])
        self.share = np.concatenate([self.share, np.broadcast_to(np.asarray(share, np.float64), (k,))])
        self.marked = np.concatenate([self.marked, np.zeros(k, bool)])
        return np.arange(first, first + k, dtype=np.int32)

    def put(self, faces: ArrayLike, source: ArrayLike = -1, chosen: bool = False) -> None:
        """New faces, (k, 3 or 4), each with what a face of the mesh has."""
        table = np.asarray(faces, np.int64)
        if not len(table):
            return
        if table.shape[1] == 3:
            table = np.pad(table, ((0, 0), (0, 1)), constant_values=-1)
        k = len(table)
        self.f = np.concatenate([self.f, table.astype(np.int32)])
        self.source = np.concatenate([self.source, np.broadcast_to(np.asarray(source, np.int32), (k,))])
        self.same = np.concatenate([self.same, np.zeros(k, bool)])
        self.chosen = np.concatenate([self.chosen, np.full(k, chosen)])

    def take(self, gone: AnyArray) -> None:
        """Take faces (f,) bool away."""
        kept = ~gone
        self.f, self.source, self.same, self.chosen = self.f[kept], self.source[kept], self.same[kept], self.chosen[kept]  # fmt: skip

    def renamed(self, names: AnyArray) -> None:
        """Let corners be other vertices, by names (n,)."""
        table = np.append(np.asarray(names, np.int32), np.int32(-1))
        self.names = table[self.names]
        fresh = table[self.f]
        self.same &= (fresh == self.f).all(axis=1)
        self.f = fresh

    def changed(self, faces: AnyArray, table: I32) -> None:
        """Give some faces (k,) other corners (k, 4)."""
        self.same[faces] &= (self.f[faces] == table).all(axis=1)
        self.f[faces] = table

    def done(self) -> Made:
        """Clay again. Raises `MeshError` where nothing is left."""
        faces, kept = _sound(self.f)
        if not len(faces):
            raise MeshError("nothing would be left of it")
        used = np.unique(faces[faces >= 0])
        names = np.full(len(self.p) + 1, -1, np.int32)
        names[used] = np.arange(len(used), dtype=np.int32)
        source, same = self.source[kept], self.same[kept] & (faces == self.f[kept]).all(axis=1)
        values = {}
        for name, value in self.mesh.values().items():
            kind = VALUES[name]
            if kind.by_face:
                made = np.concatenate([value, kind.none(1)])[source]
                if kind.around == "edges":
                    made = self._along_edges(value, faces)
                elif kind.around:
                    made[~same] = 0
                values[name] = made
            else:
                share = self.share[used]
                values[name] = between(name, value, self.rows[used], np.stack([1 - share, share], axis=1))
        mesh = Mesh.from_faces(self.p[used].astype(np.float32), names[faces], **values)
        order = mesh.topology.source_vertex
        return Made(mesh, self.marked[used][order], self.chosen[kept][mesh.topology.source_face])

    def _along_edges(self, value: AnyArray, faces: I32) -> AnyArray:
        """What the edges of the mesh have, (f, ...), for faces (k, 4): an edge has what the one has that it is, is part
        of, or was lifted from.
        """
        n = len(self.p)
        bits = value.ndim == 1
        table = ((value[:, None] >> np.arange(4)) & 1) if bits else value
        old = self.mesh.topology.faces
        after, has = after_each(old), old >= 0
        ends = np.append(self.names, -1)[np.stack([old[has], after[has]], axis=1)]
        known, back = np.unique(_keys(ends, n), return_inverse=True)
        most = np.zeros(len(known) + 1, value.dtype)
        np.maximum.at(most, back, table[has])
        most[np.searchsorted(known, _keys(self.smoothed, n))] = 0
        # Each vertex is one of the mesh's, or lies between two of them.
        rows = np.where(self.names[self.rows] >= 0, self.names[self.rows], self.rows)
        a, b = rows[np.maximum(faces, 0)], rows[np.maximum(after_each(faces), 0)]
        whole_a, whole_b = a[..., 0] == a[..., 1], b[..., 0] == b[..., 1]
        within = np.where(whole_a[..., None], b, a)
        lone = np.where(whole_a, a[..., 0], b[..., 0])
        part = (whole_a != whole_b) & (lone[..., None] == within).any(axis=-1)
        part |= ~whole_a & ~whole_b & (np.sort(a, axis=-1) == np.sort(b, axis=-1)).all(axis=-1)
        pair = np.where((whole_a & whole_b)[..., None], np.stack([a[..., 0], b[..., 0]], axis=-1), within)
        key = _keys(pair.reshape(-1, 2), n).reshape(faces.shape)
        at = np.minimum(np.searchsorted(known, key), len(known) - 1)
        hit = (known[at] == key) & (part | (whole_a & whole_b)) & (faces >= 0)
        found = np.where(hit, most[at], 0).astype(value.dtype)
        return (found << np.arange(4)).sum(axis=1).astype(value.dtype) if bits else found


def after_each(faces: I32) -> I32:
    """The corner after each corner of faces (k, 4), (k, 4); after a triangle's last, and where it has none, its first."""
    after = np.roll(faces, -1, axis=1)
    return np.where(after < 0, faces[:, :1], after)


def _keys(pairs: AnyArray, n: int) -> AnyArray:
    """One number for each two vertices (k, 2), whichever comes first."""
    both = np.sort(pairs.astype(np.int64), axis=1)
    return np.asarray(both[:, 0] * n + both[:, 1])


@dataclass(frozen=True, eq=False)
class Made:
    """What came of it.

    Attributes
    ----------
    mesh : Mesh
    marked, chosen : (n,), (f,) bool
        Vertices and faces in hand.
    """

    mesh: Mesh
    marked: AnyArray
    chosen: AnyArray


def _sound(faces: I32) -> tuple[I32, AnyArray]:
    """Faces without corners named twice, (k, 4), and which of those given they are; what has fewer than three goes."""
    out, kept = [], []
    for row, corners in enumerate(faces.tolist()):
        ring = [v for k, v in enumerate(corners) if v >= 0]
        ring = [v for k, v in enumerate(ring) if v != ring[k - 1]]
        if len(ring) >= 3 and len(set(ring)) == len(ring):
            out.append([*ring, *[-1] * (4 - len(ring))])
            kept.append(row)
    return np.array(out, np.int32).reshape(-1, 4), np.array(kept, np.int64)


def sides_of(faces: I32) -> tuple[AnyArray, AnyArray, AnyArray]:
    """The directed sides of faces: where each begins and ends, and its face, (k,) each."""
    sizes = np.where(faces[:, 3] >= 0, 4, 3)
    flat = np.flatnonzero(faces.reshape(-1) >= 0)
    face, corner = flat // 4, flat % 4
    return (
        faces[face, corner].astype(np.int64),
        faces[face, (corner + 1) % sizes[face]].astype(np.int64),
        face,
    )


def rims_of(faces: I32) -> AnyArray:
    """The sides, (k, 2) from and to, that some faces have and no other of them runs back along."""
    a, b, _ = sides_of(faces)
    n = int(max(a.max(initial=0), b.max(initial=0))) + 1
    alone = ~np.isin(a * n + b, b * n + a)
    return np.stack([a[alone], b[alone]], axis=1)


def chains_of(pairs: AnyArray) -> list[list[int]]:
    """Directed sides (k, 2) as ways of vertices, closed ones first; the first vertex of a closed one is not named again."""
    after: dict[int, list[int]] = {}
    for a, b in pairs.tolist():
        after.setdefault(a, []).append(b)
    ends = {b for _, b in pairs.tolist()}
    ways: list[list[int]] = []

    def walk(first: int) -> list[int]:
        way = [first]
        while after.get(way[-1]):
            follow = after[way[-1]].pop()
            if follow == first:
                return way
            way.append(follow)
        return way

    starts = [a for a in after if a not in ends]
    opened = [walk(a) for a in starts]
    for a in list(after):
        while after[a]:
            ways.append(walk(a))
    return [*ways, *(way for way in opened if len(way) > 1)]


def laddered(d: Draft, ring: Sequence[int]) -> None:
    """Close a ring of vertices, in the direction that its faces are to run, with quads between two sides."""
    ring = list(ring)
    k = len(ring)
    if k <= 4:
        d.put([ring], chosen=True)
        return

    # The two sides of a ladder: turned so that its rungs are shortest.
    def cost(s: int) -> float:
        turned = ring[s:] + ring[:s]
        return float(sum(np.linalg.norm(d.p[turned[i]] - d.p[turned[k - 1 - i]]) for i in range(k // 2)))

    start = min(range(k), key=cost)
    turned = ring[start:] + ring[:start]
    quads = [
        [turned[i], turned[i + 1], turned[k - 2 - i], turned[k - 1 - i]]
        for i in range((k - 2) // 2 + (k % 2))
    ]
    if k % 2:
        i = k // 2
        quads = quads[: i - 1]
        d.put([[turned[i - 1], turned[i], turned[i + 1]]], chosen=True)
    d.put(quads, chosen=True)
