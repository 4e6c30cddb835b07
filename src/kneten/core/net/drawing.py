"""A net laid by hand: bands of quads along a line or round a limb, and rows that go on from a rim, all on the clay."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import numpy as np
from scipy.spatial import cKDTree

from kneten.core.arrays import F32, F64, AnyArray, Progress
from kneten.core.face_tree import FaceTree
from kneten.core.guides import resampled, smoothed
from kneten.core.mesh import Mesh
from kneten.core.net.draft import Draft, Made, chains_of, rims_of
from kneten.core.topology import MeshError


class Ground:
    """Clay that a net lies on."""

    def __init__(self, meshes: Sequence[Mesh]) -> None:
        first, faces = 0, []
        for mesh in meshes:
            own = mesh.topology.faces
            faces.append(np.where(own >= 0, own + np.int32(first), np.int32(-1)))
            first += mesh.n_vertices
        self._positions: F32 = np.concatenate([mesh.positions for mesh in meshes])
        self._normals: F32 = np.concatenate([mesh.normals for mesh in meshes])
        self._tree = FaceTree.over(self._positions, np.concatenate(faces).astype(np.int32))

    def laid(self, places: AnyArray) -> tuple[F64, F64]:
        """The nearest places of the clay to others (k, 3), and the way out there, (k, 3) each."""
        at = np.ascontiguousarray(places, np.float32).reshape(-1, 3)
        found, _ = self._tree.nearest(at, np.full(len(at), np.inf, np.float32), Progress())
        there, out = (
            np.einsum("kc,kcd->kd", found.shares.astype(np.float64), table[found.corners].astype(np.float64))
            for table in (self._positions, self._normals)
        )
        return there, out / np.maximum(np.linalg.norm(out, axis=1), 1e-30)[:, None]


BESIDE = 0.6
"""How far the side of a strip may be from a rim that it is to lie against, in its widths."""


def strip(line: F64, width: float, ground: Ground, closed: bool = False, rims: Sequence[F64] = ()) -> Mesh:
    """A band of quads along a line of the clay, as long as they are wide, and as long as those of a rim it lies against.

    Parameters
    ----------
    line : (k, 3) float64
    rims : sequence of (n, 3) float64
        Open rims of the net, vertex by vertex. Where a side of the strip runs along one, it takes that one's vertices.

    Raises
    ------
    MeshError
        Where the line is too short.
    """
    long = float(np.linalg.norm(np.diff(line, axis=0), axis=1).sum())
    if long < width:
        raise MeshError("the line is shorter than the strip is wide")
    step = long / max(round(long / width), 3 if closed else 1)
    points = smoothed(resampled(line, step, closed), closed, 2)
    if closed and np.linalg.norm(points[0] - points[-1]) < step / 2:
        points = points[:-1]
    held = _held_by(points, step, width, ground, rims, closed)
    rows: list[int] = []
    if held:
        points, rows = _through(points, step, [at for at, _, _ in held], closed)
    points, out = ground.laid(points)
    across = _across_of(points, out, closed)
    left, _ = ground.laid(points + across * width / 2)
    right, _ = ground.laid(points - across * width / 2)
    for row, (_, side, place) in zip(rows, held, strict=True):
        (left if side > 0 else right)[row] = place
    k = len(points)
    last = k if closed else k - 1
    faces = [[i, (i + 1) % k, k + (i + 1) % k, k + i] for i in range(last)]
    # Seen from outside the left side lies left of the way: its faces run from right to left.
    table = np.array([[row[3], row[2], row[1], row[0]] for row in faces], np.int32)
    return Mesh.from_faces(np.concatenate([left, right]).astype(np.float32), table)


def _across_of(points: F64, out: F64, closed: bool) -> F64:
    """To the left of a way (k, 3) on the clay, whose way out is `out` (k, 3)."""
    if closed:
        along = np.roll(points, -1, axis=0) - np.roll(points, 1, axis=0)
    else:
        along = np.gradient(points, axis=0)
    across = np.cross(out, along)
    return np.asarray(across / np.maximum(np.linalg.norm(across, axis=1), 1e-30)[:, None])


def _lengths(points: F64) -> F64:
    """How far along a way (k, 3) its places are, (k,)."""
    return np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])


def _held_by(
    points: F64, step: float, width: float, ground: Ground, rims: Sequence[F64], closed: bool
) -> list[tuple[float, int, F64]]:
    """The vertices of rims that a side of a strip along points (k, 3) lies against.

    Returns
    -------
    list of (float, int, (3,) float64)
        In the order of the way: how far along, on which side (1 left, -1 right), and where. All of one side: of two rims
        the longer one decides, the other is joined where it is near.
    """
    fine = np.array(resampled(_round(points, closed), step / 8, False))
    far = _lengths(fine)
    laid, out = ground.laid(fine[:-1] if closed else fine)
    across = _across_of(laid, out, closed)
    sides: dict[int, list[tuple[float, int, F64]]] = {1: [], -1: []}
    tree = cKDTree(laid)
    for rim in rims:
        _, at = tree.query(rim)
        way = rim - laid[at]
        aside = (way * across[at]).sum(axis=1)
        flat = np.abs((way * out[at]).sum(axis=1)) < width / 2
        # Past an end of the strip a vertex is not beside it.
        along = np.linalg.norm(way - aside[:, None] * across[at], axis=1) < width / 2
        for side in (1, -1):
            beside = flat & along & (np.abs(side * aside - width / 2) < BESIDE * width) & (side * aside > 0.0)
            # Single ones are corners that touch it.
            run = beside & (np.roll(beside, 1) | np.roll(beside, -1))
            sides[side] += [(float(far[at[k]]), side, rim[k]) for k in np.flatnonzero(run)]
    chosen: list[tuple[float, int, F64]] = []
    longer = sides[1] if len(sides[1]) >= len(sides[-1]) else sides[-1]
    for one in sorted(longer, key=lambda one: one[0]):
        if not chosen or one[0] - chosen[-1][0] > 0.25 * width:
            chosen.append(one)
    if closed and len(chosen) > 1 and chosen[0][0] + far[-1] - chosen[-1][0] <= 0.25 * width:
        chosen.pop()
    return chosen if len(chosen) > 1 else []


def _round(points: F64, closed: bool) -> F64:
    """A way (k, 3), a closed one with its first place once more at its end."""
    return np.concatenate([points, points[:1]]) if closed else points


def _through(points: F64, step: float, at: list[float], closed: bool) -> tuple[F64, list[int]]:
    """A way (k, 3) in steps that are even but for places, so far along it, that are among them; and which those are."""
    points = _round(points, closed)
    far = _lengths(points)
    marks = list(at)
    if closed:
        # Once round, back to where it begins: that one is not there twice.
        marks.append(at[0] + float(far[-1]))
        at = marks.copy()
    else:
        if marks[0] > step / 2:
            marks.insert(0, 0.0)
        if far[-1] - marks[-1] > step / 2:
            marks.append(float(far[-1]))
    steps: list[float] = [marks[0]]
    for a, b in pairwise(marks):
        # Between two vertices of a rim it has no other; else its own measure.
        count = 1 if a in at and b in at and b - a < 2.5 * step else max(round((b - a) / step), 1)
        steps += np.linspace(a, b, count + 1)[1:].tolist()
    rows = [int(np.argmin(np.abs(np.array(steps) - one))) for one in at]
    if closed:
        steps, rows = [one % float(far[-1]) for one in steps[:-1]], rows[:-1]
    places = np.stack([np.interp(steps, far, points[:, c]) for c in range(3)], axis=1)
    return places, rows


def with_images(line: F64, closed: bool, likes: Sequence[tuple[AnyArray, AnyArray]]) -> list[F64]:
    """A drawn line (k, 3) and its mirror images, as lines to lay bands along.

    One that runs across a mirror is made of its longer side and that one's image, and is its own image then.

    Parameters
    ----------
    likes : sequence of pairs
        For each image its (3, 3) map and (3,) shift; the line's own place is left out of them.
    """
    if len(likes) == 1 and np.linalg.det(likes[0][0]) < 0:
        linear, shift = np.asarray(likes[0][0], float), np.asarray(likes[0][1], float)
        whole = _across(line, closed, linear, shift)
        if whole is not None:
            return [whole]
    return [line, *(line @ np.asarray(linear).T + np.asarray(shift) for linear, shift in likes)]


def _across(line: F64, closed: bool, linear: F64, shift: F64) -> F64 | None:
    """A line that crosses a mirror, its longer side and the image of that; None for one that lies on one side."""
    image = line @ linear.T + shift
    way = line - image
    values, axes = np.linalg.eigh((linear + linear.T) / 2)
    out = axes[:, int(np.argmin(values))]
    side = way @ out / 2
    if not (side > 0).any() or not (side < 0).any():
        return None
    turns = np.flatnonzero(np.sign(side) != np.sign(np.roll(side, -1)))
    turns = turns[turns < len(line) - 1] if not closed else turns
    # Between two crossings, or a crossing and an end, the line is on one side: the longest such run counts.
    if closed:
        runs = [
            np.arange(a + 1, b + 1 if b > a else b + len(line) + 1) % len(line)
            for a, b in zip(turns, np.roll(turns, -1), strict=True)
        ]
    else:
        ends = [-1, *turns.tolist(), len(line) - 1]
        runs = [np.arange(a + 1, b + 1) for a, b in pairwise(ends)]

    def long(run: AnyArray) -> float:
        return float(np.linalg.norm(np.diff(line[run], axis=0), axis=1).sum()) if len(run) > 1 else 0.0

    run = max(runs, key=long)

    def crossing(inner: int, outer: int) -> F64:
        """Where the line goes through the mirror, between two of its places."""
        share = side[inner] / (side[inner] - side[outer])
        at = line[inner] + share * (line[outer] - line[inner])
        return np.asarray((at + at @ linear.T + shift) / 2)

    first, last, n = int(run[0]), int(run[-1]), len(line)
    half = line[run]
    if closed:
        half = np.concatenate([[crossing(first, (first - 1) % n)], half, [crossing(last, (last + 1) % n)]])
        back = (half @ linear.T + shift)[::-1]
        return np.concatenate([half, back[1:-1]])
    # From the mirror outwards.
    if first > 0:
        half = np.concatenate([[crossing(first, first - 1)], half])
    else:
        half = np.concatenate([half, [crossing(last, last + 1)]])[::-1]
    back = (half @ linear.T + shift)[::-1]
    return np.concatenate([back, half[1:]])


def ring(loop: F64, count: int, width: float, ground: Ground) -> Mesh:
    """A closed band round a limb, along a loop (k, 3) of the clay, of so many quads."""
    whole = np.concatenate([loop, loop[:1]])
    steps = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(whole, axis=0), axis=1))])
    at = np.linspace(0, steps[-1], count, endpoint=False)
    points = np.stack([np.interp(at, steps, whole[:, c]) for c in range(3)], axis=1)
    points, out = ground.laid(points)
    across = _across_of(points, out, True)
    left, _ = ground.laid(points + across * width / 2)
    right, _ = ground.laid(points - across * width / 2)
    k = count
    table = np.array([[k + i, k + (i + 1) % k, (i + 1) % k, i] for i in range(k)], np.int32)
    return Mesh.from_faces(np.concatenate([left, right]).astype(np.float32), table)


def joined(net: Mesh, more: Mesh, near: float) -> Mesh:
    """A net and more of it as one: open vertices of both nearer to each other than `near` become one."""
    first = net.n_vertices
    d = Draft.of(net)
    d.p = np.concatenate([d.p, more.positions.astype(np.float64)])
    rows = np.zeros((more.n_vertices, 2), np.int32)
    d.rows = np.concatenate([d.rows, rows])
    d.share = np.concatenate([d.share, np.zeros(more.n_vertices)])
    d.marked = np.concatenate([d.marked, np.zeros(more.n_vertices, bool)])
    faces = more.topology.faces
    d.put(np.where(faces >= 0, faces + first, -1), chosen=True)
    rim = np.unique(rims_of(d.f).reshape(-1))
    mine, yours = rim[rim < first], rim[rim >= first]
    names = np.arange(len(d.p), dtype=np.int32)
    if len(mine) and len(yours):
        far, which = cKDTree(d.p[mine]).query(d.p[yours])
        taken: set[int] = set()
        for k in np.argsort(far).tolist():
            target = int(mine[which[k]])
            # A vertex of the strip for each of the net's: two of one face may not become one.
            if far[k] < near and target not in taken:
                names[yours[k]] = target
                taken.add(target)
    d.renamed(names)
    return d.done().mesh


def grown(mesh: Mesh, vertices: AnyArray, distance: float, ground: Ground | None) -> Made:
    """Open rims that have chosen vertices (n,) bool grown by a row of quads, outwards along the clay. Raises `MeshError`."""
    d = Draft.of(mesh)
    rim = rims_of(d.f)
    own = rim[vertices[rim].all(axis=1)] if vertices.any() else rim
    if not len(own):
        raise MeshError("no open rim is chosen")
    used = np.unique(own)
    way, count = np.zeros_like(d.p), np.zeros(len(d.p))
    middle = {}
    a_sides = {(a, b): k for k, row in enumerate(d.f.tolist()) for a, b in _pairs(row)}
    for a, b in own.tolist():
        row = d.f[a_sides[(a, b)]]
        middle[(a, b)] = d.p[row[row >= 0]].mean(axis=0)
        half = (d.p[a] + d.p[b]) / 2
        out = half - middle[(a, b)]
        side = d.p[b] - d.p[a]
        out -= side * (out @ side) / max(float(side @ side), 1e-30)
        out /= max(float(np.linalg.norm(out)), 1e-30)
        for v in (a, b):
            way[v] += out
            count[v] += 1
    way /= np.maximum(np.linalg.norm(way, axis=1), 1e-30)[:, None]
    places = d.p[used] + distance * way[used]
    if ground is not None:
        places, _ = ground.laid(places)
    names = np.full(len(d.p), -1, np.int64)
    names[used] = d.add(places, np.stack([used, used], axis=1))
    d.put([[b, a, names[a], names[b]] for a, b in own.tolist()], chosen=True)
    d.marked[names[used]] = True
    return d.done()


def _pairs(row: list[int]) -> list[tuple[int, int]]:
    corners = [v for v in row if v >= 0]
    return list(zip(corners, [*corners[1:], corners[0]], strict=True))


def snapped(mesh: Mesh, vertices: AnyArray, ground: Ground) -> F64:
    """Places (n, 3) with chosen vertices (n,) bool, all where none is, on the clay."""
    p = mesh.positions.astype(np.float64)
    which = vertices if vertices.any() else np.ones(len(p), bool)
    p[which], _ = ground.laid(p[which])
    return p


def open_rims(mesh: Mesh) -> list[list[int]]:
    """The open rims of a mesh, as ways of vertices."""
    return chains_of(rims_of(mesh.topology.faces))
