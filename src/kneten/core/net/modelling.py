"""What is done with few faces by hand.

Each takes a mesh and what is chosen of it, and gives a new one with what is in hand after; values go along.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from scipy.spatial import cKDTree

from kneten.core.arrays import F64, I32, U8, AnyArray
from kneten.core.mesh import Mesh
from kneten.core.net.draft import Draft, Made, chains_of, laddered, rims_of, sides_of
from kneten.core.placing import turned_out
from kneten.core.subdivide import CREASE, FOR_EVER, crease_of_edges
from kneten.core.topology import MeshError
from kneten.core.uv.islands import Edges

SHARPEST = 10
"""Subdivisions from which on an edge that stays sharp in them stays so for ever."""


def _need(which: AnyArray, what: str) -> None:
    if not which.any():
        raise MeshError(f"no {what} is chosen")


def face_ways(p: F64, f: I32) -> F64:
    """Twice the areas of faces as vectors outwards, (f, 3)."""
    last = np.where(f[:, 3] >= 0, f[:, 3], f[:, 0])
    return np.asarray(np.cross(p[f[:, 2]] - p[f[:, 0]], p[last] - p[f[:, 1]]))


def _middles(p: F64, f: I32) -> F64:
    has = (f >= 0)[:, :, None]
    return np.asarray((p[np.maximum(f, 0)] * has).sum(axis=1) / has.sum(axis=1))


def _lifted(d: Draft, faces: AnyArray, places: F64) -> AnyArray:
    """Let chosen faces (f,) bool have vertices of their own, at places (n, 3), and walls down to where they were; names (n,)."""
    f = d.f[faces]
    used = np.unique(f[f >= 0])
    names = np.arange(len(d.p), dtype=np.int32)
    names[used] = d.add(places[used], np.stack([used, used], axis=1))
    rim = rims_of(f)
    owner = {(a, b): face for a, b, face in zip(*(one.tolist() for one in sides_of(f)), strict=True)}
    rows = np.flatnonzero(faces)
    walls = np.array([[a, b, names[b], names[a]] for a, b in rim.tolist()], np.int64).reshape(-1, 4)
    source = np.array([d.source[rows[owner[(a, b)]]] for a, b in rim.tolist()], np.int32)
    table = np.append(names, np.int32(-1))[f]
    d.changed(rows, table)
    d.put(walls, source)
    d.chosen[:] = False
    d.chosen[rows] = True
    return names


def extruded(mesh: Mesh, faces: AnyArray, distance: float) -> Made:
    """Chosen faces (f,) bool moved out by a distance, with walls behind them. Raises `MeshError`."""
    _need(faces, "face")
    d = Draft.of(mesh)
    ways = face_ways(d.p, d.f[faces])
    out = np.zeros_like(d.p)
    for c in range(4):
        v = d.f[faces][:, c]
        np.add.at(out, v[v >= 0], ways[v >= 0])
    unit = out / np.maximum(np.linalg.norm(out, axis=1), 1e-30)[:, None]
    # Where faces meet at an angle, the vertex goes farther, so that each face moves by the distance.
    normal = ways / np.maximum(np.linalg.norm(ways, axis=1), 1e-30)[:, None]
    lean, count = np.zeros(len(d.p)), np.zeros(len(d.p))
    for c in range(4):
        v = d.f[faces][:, c]
        has = v >= 0
        np.add.at(lean, v[has], np.einsum("kd,kd->k", normal[has], unit[v[has]]))
        np.add.at(count, v[has], 1)
    reach = distance / np.clip(lean / np.maximum(count, 1), 0.35, 1)
    _lifted(d, faces, d.p + reach[:, None] * unit)
    return d.done()


def inset(mesh: Mesh, faces: AnyArray, share: float) -> Made:
    """Chosen faces (f,) bool drawn in towards their middles, by a share, with a rim around them. Raises `MeshError`."""
    _need(faces, "face")
    d = Draft.of(mesh)
    f = d.f[faces]
    middle = _middles(d.p, f)
    total, count = np.zeros_like(d.p), np.zeros(len(d.p))
    for c in range(4):
        v = f[:, c]
        np.add.at(total, v[v >= 0], middle[v >= 0])
        np.add.at(count, v[v >= 0], 1)
    rim = np.zeros(len(d.p), bool)
    rim[rims_of(f).reshape(-1)] = True
    goal = np.where(rim[:, None], total / np.maximum(count, 1)[:, None], d.p)
    _lifted(d, faces, d.p + share * (goal - d.p))
    return d.done()


def loop_cut(mesh: Mesh, edge: int, share: float = 0.5) -> Made:
    """A new loop of edges across a ring of quads, beginning at an edge; a share of the way from its one side to the other. Raises `MeshError`."""
    d = Draft.of(mesh)
    edges = Edges.of(mesh.topology)
    faces = mesh.topology.faces
    mids: dict[int, int] = {}
    seen: set[int] = set()

    def middle(e: int, left: int, right: int) -> int:
        if e not in mids:
            (mids[e],) = d.add(
                ((1 - share) * d.p[left] + share * d.p[right])[None], [[left, right]], share
            ).tolist()
        return mids[e]

    gone = np.zeros(len(faces), bool)
    fresh: list[tuple[list[int], int]] = []
    a, b = edges.ends[edge].tolist()
    for side, (left, right) in zip(edges.sides[edge].tolist(), ((a, b), (a, b)), strict=True):
        face, e = side, edge
        while face >= 0 and face not in seen:
            seen.add(face)
            row = faces[face]
            c = int(np.flatnonzero((edges.of_face[face] == e) & (row >= 0))[0])
            size = 4 if row[3] >= 0 else 3
            one, two = int(row[c]), int(row[(c + 1) % size])
            m = middle(e, left, right)
            gone[face] = True
            if size == 3:
                top = int(row[(c + 2) % 3])
                fresh += [([one, m, top, -1], face), ([m, two, top, -1], face)]
                break
            three, four = int(row[(c + 2) % 4]), int(row[(c + 3) % 4])
            # The corner across from the left end is the left end there.
            next_left, next_right = (four, three) if one == left else (three, four)
            e = int(edges.of_face[face, (c + 2) % 4])
            n = middle(e, next_left, next_right)
            fresh += [([one, m, n, four], face), ([m, two, three, n], face)]
            left, right = next_left, next_right
            sides = edges.sides[e].tolist()
            face = sides[1] if sides[0] == face else sides[0]
    if not gone.any():
        raise MeshError("no face lies at that edge")
    d.take(gone)
    d.put([row for row, _ in fresh], [face for _, face in fresh])
    d.marked[list(mids.values())] = True
    return d.done()


def bridged(mesh: Mesh, faces: AnyArray, vertices: AnyArray) -> Made:
    """Two places joined by a tube: two groups of chosen faces (f,) bool, which go, or two chosen rims, by their vertices (n,) bool. Raises `MeshError`."""
    d = Draft.of(mesh)
    if faces.any():
        rims = chains_of(rims_of(d.f[faces]))
    else:
        whole = rims_of(d.f)[:, ::-1]
        own = vertices[whole].all(axis=1)
        rims = chains_of(whole[own])
    if len(rims) != 2:
        raise MeshError(f"bridging needs two rims: {len(rims)} are chosen")
    one, two = rims
    if len(one) != len(two):
        raise MeshError(f"the rims have {len(one)} and {len(two)} vertices: they need as many as each other")
    if faces.any():
        d.take(faces)
    k = len(one)
    back = np.array(two[::-1])
    costs = [float(np.linalg.norm(d.p[one] - d.p[np.roll(back, s)], axis=1).sum()) for s in range(k)]
    other = np.roll(back, int(np.argmin(costs))).tolist()
    # A rim runs as the faces did that go: what takes their place runs the same way.
    walls = [[one[i], one[(i + 1) % k], other[(i + 1) % k], other[i]] for i in range(k)]
    d.chosen[:] = False
    d.put(walls, chosen=True)
    return d.done()


def face_between(mesh: Mesh, vertices: AnyArray) -> Made:
    """A face between three or four chosen vertices (n,) bool, turned as its neighbours are. Raises `MeshError`."""
    d = Draft.of(mesh)
    which = np.flatnonzero(vertices)
    if len(which) not in (3, 4):
        raise MeshError(f"a face needs three or four vertices: {len(which)} are chosen")
    p = d.p[which]
    off = p - p.mean(axis=0)
    axes = np.linalg.svd(off, full_matrices=False)[2]
    order = which[np.argsort(np.arctan2(off @ axes[1], off @ axes[0]))]
    a, b, _ = sides_of(d.f)
    there = set(zip(a.tolist(), b.tolist(), strict=True))
    ring = order.tolist()

    def clash(way: list[int]) -> int:
        return sum((one, two) in there for one, two in zip(way, [*way[1:], way[0]], strict=True))

    if clash(ring) > clash(ring[::-1]):
        ring = ring[::-1]
    elif clash(ring) == clash(ring[::-1]):
        # Beside nothing: it looks where the vertices do.
        way = np.cross(d.p[ring[1]] - d.p[ring[0]], d.p[ring[2]] - d.p[ring[0]])
        if mesh.normals[which].sum(axis=0) @ way < 0:
            ring = ring[::-1]
    d.chosen[:] = False
    d.put([ring], chosen=True)
    return d.done()


def welded_near(mesh: Mesh, vertices: AnyArray, distance: float) -> Made:
    """Chosen vertices (n,) bool nearer to each other than a distance made one. Raises `MeshError`."""
    _need(vertices, "vertex")
    d = Draft.of(mesh)
    which = np.flatnonzero(vertices)
    pairs = cKDTree(d.p[which]).query_pairs(distance, output_type="ndarray")
    if not len(pairs):
        raise MeshError("no two of them are so near to each other")
    up = np.arange(len(which))
    for a, b in pairs.tolist():
        while up[a] != a:
            a = up[a]
        while up[b] != b:
            b = up[b]
        up[max(a, b)] = min(a, b)
    for k in range(len(up)):
        while up[up[k]] != up[k]:
            up[k] = up[up[k]]
    return _merged(d, which, up)


def collapsed(mesh: Mesh, vertices: AnyArray) -> Made:
    """All chosen vertices (n,) bool made one, in their middle. Raises `MeshError`."""
    d = Draft.of(mesh)
    which = np.flatnonzero(vertices)
    if len(which) < 2:
        raise MeshError("collapsing needs two vertices or more")
    return _merged(d, which, np.zeros(len(which), np.int64))


def _merged(d: Draft, which: AnyArray, up: AnyArray) -> Made:
    names = np.arange(len(d.p), dtype=np.int32)
    names[which] = which[up]
    for k in np.unique(up):
        d.p[which[k]] = d.p[which[up == k]].mean(axis=0)
        d.marked[which[k]] = True
    d.renamed(names)
    return d.done()


def dissolved(mesh: Mesh, marked: AnyArray) -> Made:
    """Chosen edges (m,) bool taken away: the faces on both sides become one, and vertices that are left between two edges go. Raises `MeshError`."""
    _need(marked, "edge")
    d = Draft.of(mesh)
    edges = Edges.of(mesh.topology)
    inner = np.flatnonzero(marked & edges.inner)
    up = list(range(len(d.f)))

    def root(k: int) -> int:
        while up[k] != k:
            up[k] = up[up[k]]
            k = up[k]
        return k

    for a, b in edges.sides[inner].tolist():
        one, two = root(a), root(b)
        up[max(one, two)] = min(one, two)
    touched = np.unique(edges.sides[inner])
    groups: dict[int, list[int]] = {}
    for face in touched.tolist():
        groups.setdefault(root(face), []).append(face)
    # How many edges are left at each vertex: those with two lie within what became one line.
    left = np.ones(len(edges.ends), bool)
    left[inner] = False
    degree = np.bincount(edges.ends[left].reshape(-1), minlength=len(d.p))
    ends = np.zeros(len(d.p), bool)
    ends[edges.ends[inner].reshape(-1)] = True
    loose = ends & (degree == 2)
    gone = np.zeros(len(d.f), bool)
    rings: list[tuple[list[int], int]] = []
    for members in groups.values():
        ways = chains_of(rims_of(d.f[members]))
        if len(ways) != 1:
            raise MeshError("what is chosen goes all round: a face would have a hole")
        ring = [v for v in ways[0] if not loose[v]]
        if len(ring) < 3:
            raise MeshError("nothing would be left of a face")
        gone[members] = True
        rings.append((ring, members[0]))
    # Faces beside the ends of what goes lose the same vertices.
    table = d.f.copy()
    names = np.append(loose, False)
    for row in np.flatnonzero(names[table].any(axis=1) & ~gone).tolist():
        ring = [v for v in table[row].tolist() if v >= 0 and not loose[v]]
        if len(ring) < 3:
            gone[row] = True
        else:
            d.changed(np.array([row]), np.array([[*ring, *[-1] * (4 - len(ring))]], np.int32))
    first = int(gone.sum())
    d.take(gone)
    for ring, face in rings:
        before = len(d.f)
        laddered(d, ring)
        d.source[before:] = face
    if first == 0:
        raise MeshError("an open edge cannot be dissolved: take its faces away")
    return d.done()


def split_quads(mesh: Mesh, faces: AnyArray) -> Made:
    """Chosen quads (f,) bool cut along their shorter diagonals. Raises `MeshError`."""
    d = Draft.of(mesh)
    rows = np.flatnonzero(faces & (d.f[:, 3] >= 0))
    if not len(rows):
        raise MeshError("no quad is chosen")
    q = d.f[rows]
    short = np.linalg.norm(d.p[q[:, 0]] - d.p[q[:, 2]], axis=1) <= np.linalg.norm(
        d.p[q[:, 1]] - d.p[q[:, 3]], axis=1
    )
    one = np.where(short[:, None], q[:, [0, 1, 2]], q[:, [0, 1, 3]])
    two = np.where(short[:, None], q[:, [0, 2, 3]], q[:, [1, 2, 3]])
    source = d.source[rows].copy()
    gone = np.zeros(len(d.f), bool)
    gone[rows] = True
    d.take(gone)
    d.put(np.concatenate([one, two]), np.concatenate([source, source]), chosen=True)
    return d.done()


def spun(mesh: Mesh, edge: int) -> Made:
    """An edge turned within the two faces beside it. Raises `MeshError`."""
    edges = Edges.of(mesh.topology)
    if not edges.inner[edge]:
        raise MeshError("an open edge cannot be spun")
    d = Draft.of(mesh)
    sides = edges.sides[edge]
    ways = chains_of(rims_of(d.f[sides]))
    if len(ways) != 1:
        raise MeshError("these two faces meet at more than one edge")
    ring = ways[0]
    a, b = edges.ends[edge].tolist()
    k = len(ring)
    ends = sorted((ring.index(a), ring.index(b)))
    start, stop = (ends[0] + 1) % k, (ends[1] + 1) % k
    low, high = min(start, stop), max(start, stop)
    parts = [ring[low : high + 1], ring[high:] + ring[: low + 1]]
    if any(not 3 <= len(part) <= 4 for part in parts):
        raise MeshError("turned, this edge would leave a face with more than four corners")
    source = int(d.source[sides[0]])
    gone = np.zeros(len(d.f), bool)
    gone[sides] = True
    d.take(gone)
    for part in parts:
        d.put([part], source)
    d.marked[[ring[low], ring[high]]] = True
    return d.done()


def turned(mesh: Mesh, faces: AnyArray) -> Made:
    """Chosen faces (f,) bool turned inside out. Raises `MeshError`."""
    _need(faces, "face")
    d = Draft.of(mesh)
    rows = np.flatnonzero(faces)
    d.changed(rows, turned_out(d.f)[rows].astype(np.int32))
    d.chosen[rows] = True
    return d.done()


def without(mesh: Mesh, faces: AnyArray) -> Made:
    """The mesh without chosen faces (f,) bool. Raises `MeshError`."""
    _need(faces, "face")
    d = Draft.of(mesh)
    d.take(faces)
    return d.done()


def bevelled(mesh: Mesh, marked: AnyArray, width: float) -> Made:
    """Chosen edges (m,) bool as bands of a width: each face draws back from them, and where three or more meet there is a face. Raises `MeshError`."""
    edges = Edges.of(mesh.topology)
    marked = marked & edges.inner
    _need(marked, "edge with two faces")
    d = Draft.of(mesh)
    f, shape = d.f.copy(), mesh.topology
    sizes = np.where(f[:, 3] >= 0, 4, 3)
    table = f.copy()
    near = np.unique(edges.ends[marked])
    # Bands take the place of what kept the edges sharp.
    d.smoothed = edges.ends[marked]
    fans: list[list[int]] = []
    own: dict[tuple[int, int], int] = {}
    for v in near.tolist():
        faces = shape.ring_faces[slice(*shape.ring[v])].tolist()
        corner = {face: int(np.flatnonzero(f[face] == v)[0]) for face in faces}
        into = {int(edges.of_face[face, corner[face]]): face for face in faces}
        out = {int(edges.of_face[face, (corner[face] - 1) % sizes[face]]): face for face in faces}
        ring = _fan(faces, into, out, corner, edges, sizes)
        cuts = [k for k, face in enumerate(ring) if marked[edges.of_face[face, corner[face]]]]
        if len(cuts) < 2:
            # Where one band ends, its both sides meet.
            for face in faces:
                own[(face, v)] = v
            continue
        sectors = [
            ring[a:b] if a < b else ring[a:] + ring[:b]
            for a, b in zip(cuts, [*cuts[1:], cuts[0]], strict=True)
        ]
        fan = []
        for sector in sectors:
            first, last = sector[0], sector[-1]
            ends = [
                _along(d.p, f, first, corner[first], 1, sizes),
                _along(d.p, f, last, corner[last], -1, sizes),
            ]
            if len(sector) == 1:
                way = ends[0] + ends[1]
                sine = max(float(np.linalg.norm(np.cross(ends[0], ends[1]))), 0.3)
                place = d.p[v] + way * (width / 2) / sine
            else:
                inner = [_along(d.p, f, face, corner[face], 1, sizes) for face in sector[1:]]
                way = np.mean(inner, axis=0)
                place = d.p[v] + way / max(float(np.linalg.norm(way)), 1e-12) * width / 2
            (name,) = d.add(place[None], [[v, v]]).tolist()
            fan.append(name)
            for face in sector:
                own[(face, v)] = name
        if len(fan) > 2:
            fans.append(fan)
    for (face, v), name in own.items():
        table[face][f[face] == v] = name
    d.changed(np.arange(len(f)), table)
    bands, beside = [], []
    for e in np.flatnonzero(marked).tolist():
        one, two = edges.sides[e].tolist()
        a, b = edges.ends[e].tolist()
        beside.append(one)
        c = int(np.flatnonzero((edges.of_face[one] == e) & (f[one] >= 0))[0])
        a, b = int(f[one, c]), int(f[one, (c + 1) % sizes[one]])
        bands.append([own[(one, b)], own[(one, a)], own[(two, a)], own[(two, b)]])
    d.chosen[:] = False
    d.put(bands, beside, chosen=True)
    for fan in fans:
        before = len(d.f)
        laddered(d, fan[::-1] if _inward(d.p, fan, mesh, near) else fan)
        d.source[before:] = beside[0]
    return d.done()


def _fan(
    faces: list[int],
    into: dict[int, int],
    out: dict[int, int],
    corner: dict[int, int],
    edges: Edges,
    sizes: AnyArray,
) -> list[int]:
    """The faces round a vertex, each followed by the one beyond the edge that it comes in by; an open fan from its first."""
    starts = [face for face in faces if int(edges.of_face[face, corner[face]]) not in out]
    ring = [starts[0] if starts else faces[0]]
    while len(ring) < len(faces):
        face = ring[-1]
        follow = into.get(int(edges.of_face[face, (corner[face] - 1) % sizes[face]]))
        if follow is None or follow == ring[0]:
            break
        ring.append(follow)
    return ring


def _along(p: F64, f: I32, face: int, corner: int, step: int, sizes: AnyArray) -> F64:
    """The way from a corner of a face to the next one, of length one."""
    way = p[f[face, (corner + step) % sizes[face]]] - p[f[face, corner]]
    return np.asarray(way / max(float(np.linalg.norm(way)), 1e-30))


def _inward(p: F64, fan: list[int], mesh: Mesh, near: AnyArray) -> bool:
    """Whether a face between new vertices would look into the clay."""
    q = p[fan]
    way = np.cross(q[1] - q[0], q[2] - q[0])
    which = near[int(np.argmin(np.linalg.norm(p[near] - q.mean(axis=0), axis=1)))]
    return bool(way @ mesh.normals[which].astype(np.float64) < 0)


def creased(mesh: Mesh, marked: AnyArray, times: float) -> U8 | None:
    """The creases (f, 4) of a mesh with chosen edges (m,) bool staying sharp when it is subdivided so many times; None for none at all.

    Parameters
    ----------
    times : float
        0 for not at all; `SHARPEST` for ever.

    Raises
    ------
    MeshError
        Where no edge with two faces is chosen.
    """
    edges, faces = Edges.of(mesh.topology), mesh.topology.faces
    chosen = marked & edges.inner
    _need(chosen, "edge with two faces")
    sharp = crease_of_edges(edges.of_face, faces, edges.sides, mesh.creases)
    sharp = sharp if len(sharp) else np.zeros(len(edges.ends), np.uint8)
    sharp[chosen] = FOR_EVER if times >= SHARPEST else round(CREASE * times)
    return np.where(faces >= 0, sharp[edges.of_face], 0).astype(np.uint8) if sharp.any() else None


def slid(mesh: Mesh, marked: AnyArray, share: float) -> F64:
    """Places (n, 3) with the vertices of chosen edges (m,) bool moved along the edges beside them: to the left by a share of
    them above nought, to the right below. Raises `MeshError`.
    """
    _need(marked, "edge")
    edges, f = Edges.of(mesh.topology), mesh.topology.faces
    p = mesh.positions.astype(np.float64)
    which = np.flatnonzero(marked)
    ways = _directed(edges.ends[which])
    goal, count = np.zeros_like(p), np.zeros(len(p))
    inside = np.zeros(len(p), bool)
    inside[edges.ends[which].reshape(-1)] = True
    a, b, face = sides_of(f)
    owner = {(x, y): k for x, y, k in zip(a.tolist(), b.tolist(), face.tolist(), strict=True)}
    for way in ways:
        for one, two in pairwise(way):
            here = owner.get((one, two) if share > 0 else (two, one))
            if here is None:
                continue
            ring = [v for v in f[here].tolist() if v >= 0]
            for v in (one, two):
                k = ring.index(v)
                beside = [ring[k - 1], ring[(k + 1) % len(ring)]]
                free = [u for u in beside if not inside[u]]
                if free:
                    goal[v] += p[free[0]]
                    count[v] += 1
    moving = count > 0
    p[moving] += abs(share) * (goal[moving] / count[moving][:, None] - p[moving])
    return p


def _directed(ends: AnyArray) -> list[list[int]]:
    """Edges (k, 2) as ways that run one direction each."""
    near: dict[int, list[int]] = {}
    for a, b in ends.tolist():
        near.setdefault(a, []).append(b)
        near.setdefault(b, []).append(a)
    left = {frozenset(pair) for pair in ends.tolist()}
    ways = []
    while left:
        loose = [v for v in near if sum(frozenset((v, u)) in left for u in near[v]) == 1]
        first = loose[0] if loose else next(iter(next(iter(left))))
        way = [first]
        while True:
            follow = [u for u in near[way[-1]] if frozenset((way[-1], u)) in left]
            if not follow:
                break
            left.discard(frozenset((way[-1], follow[0])))
            way.append(follow[0])
        ways.append(way)
    return ways


def relaxed_net(mesh: Mesh, vertices: AnyArray, rounds: int = 4) -> F64:
    """Places (n, 3) with chosen vertices (n,) bool, all where none is, drawn to the middles of their neighbours; open rims stay where they are."""
    p, edges = mesh.positions.astype(np.float64), Edges.of(mesh.topology)
    free = vertices if vertices.any() else np.ones(len(p), bool)
    inner = edges.ends[edges.inner]
    on_rim = np.zeros(len(p), bool)
    on_rim[edges.ends[~edges.inner].reshape(-1)] = True
    for _ in range(rounds):
        total, count = np.zeros_like(p), np.zeros(len(p))
        for a, b in (inner.T, inner.T[::-1]):
            np.add.at(total, a, p[b])
            np.add.at(count, a, 1)
        count[on_rim] = 0
        moving = free & (count > 0)
        p[moving] += 0.5 * (total[moving] / count[moving][:, None] - p[moving])
    return p


def ring_of(mesh: Mesh, edges: Edges, edge: int) -> AnyArray:
    """The numbers (k,) of the edges that lie across a row of quads, from one on both sides."""
    faces = mesh.topology.faces
    found = [edge]
    for side in edges.sides[edge].tolist():
        face, e = side, edge
        while face >= 0 and faces[face, 3] >= 0:
            c = int(np.flatnonzero(edges.of_face[face] == e)[0])
            e = int(edges.of_face[face, (c + 2) % 4])
            if e in found:
                break
            found.append(e)
            sides = edges.sides[e].tolist()
            face = sides[1] if sides[0] == face else sides[0]
    return np.array(found)


def row_of(mesh: Mesh, edges: Edges, edge: int) -> AnyArray:
    """Which faces (f,) bool the row of quads has that an edge lies across."""
    out = np.zeros(mesh.topology.n_faces, bool)
    sides = edges.sides[ring_of(mesh, edges, edge)]
    own = sides[sides >= 0]
    # A row's faces have two of its edges each; beyond its ends lie others that have one.
    met, count = np.unique(own, return_counts=True)
    out[met[count > 1]] = True
    return out
