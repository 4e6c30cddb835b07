"""Decimate: fewer triangles, where they are needed least.

Edges are drawn together in passes of rising error: quadric error metrics (Garland and Heckbert 1997) without a queue,
each pass taking what costs less than its threshold. On a million triangles that is several times as fast as a queue,
and differs little in what it gives. Borders of the clay and of its regions are held by planes of their own (as in the
same paper), colours and masks go along and weigh, and what a mask covers may be kept finer.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from kneten.core.arrays import F32, F64, I32, U8, AnyArray, Progress, kernel
from kneten.core.distance import around
from kneten.core.loose import as_triangles
from kneten.core.mesh import Mesh
from kneten.core.symmetry import exactly_symmetric
from kneten.core.topology import MeshError
from kneten.core.values import VALUES, staying

BORDER = 30.0
"""Weight of the planes that hold borders, against those of faces."""

COLOUR = 0.05
"""What a full difference of colour costs, as a distance in bodies: a tenth of it as much as a hollow of 0.5 %."""

KEEP = 400.0
"""How many times more a collapse costs where the weight is full: detail lives on at a fifth of the edge length."""

PASSES = 400

CHEAPEST = 0.2
"""Share of the triangles that a pass takes edges of: the cheapest, as a sample tells. The smaller, the nearer to a
queue, which always takes the cheapest of all; below a fifth little is gained."""

TRIES = 5

REBUILD = 4
"""Passes after which triangles that are gone are taken out and rings are built anew."""


@dataclass(frozen=True)
class Wanted:
    """How far to go.

    Attributes
    ----------
    triangles : int
        Stop at so many; 0 to stop by the error alone.
    error : float
        The farthest the surface may move, about, in the mesh's space; infinite to stop by the count alone.
    keep_regions : bool
        Borders of regions stay where they are.
    weigh_mask : bool
        Masked clay is kept finer.
    """

    triangles: int = 0
    error: float = np.inf
    keep_regions: bool = True
    weigh_mask: bool = True


@kernel
def _plane(q: F64, v: int, a: float, b: float, c: float, d: float, w: float) -> None:
    q[v, 0] += w * a * a
    q[v, 1] += w * a * b
    q[v, 2] += w * a * c
    q[v, 3] += w * a * d
    q[v, 4] += w * b * b
    q[v, 5] += w * b * c
    q[v, 6] += w * b * d
    q[v, 7] += w * c * c
    q[v, 8] += w * c * d
    q[v, 9] += w * d * d


@kernel
def _error_at(q: F64, u: int, v: int, x: float, y: float, z: float) -> float:
    """The sum of both vertices' quadrics at a place."""
    a = q[u, 0] + q[v, 0]
    b = q[u, 1] + q[v, 1]
    c = q[u, 2] + q[v, 2]
    d = q[u, 3] + q[v, 3]
    e = q[u, 4] + q[v, 4]
    f = q[u, 5] + q[v, 5]
    g = q[u, 6] + q[v, 6]
    h = q[u, 7] + q[v, 7]
    i = q[u, 8] + q[v, 8]
    j = q[u, 9] + q[v, 9]
    return (
        a * x * x + 2 * b * x * y + 2 * c * x * z + 2 * d * x + e * y * y + 2 * f * y * z + 2 * g * y + h * z * z
        + 2 * i * z + j
    )  # fmt: skip


@kernel
def _best(q: F64, p: F64, kind: U8, rest: F64, weight: F64, u: int, v: int, out: F64) -> float:
    """The cost of drawing an edge together, and the best place for it in `out` (3,)."""
    a = q[u, 0] + q[v, 0]
    b = q[u, 1] + q[v, 1]
    c = q[u, 2] + q[v, 2]
    d = q[u, 3] + q[v, 3]
    e = q[u, 4] + q[v, 4]
    f = q[u, 5] + q[v, 5]
    g = q[u, 6] + q[v, 6]
    h = q[u, 7] + q[v, 7]
    i = q[u, 8] + q[v, 8]
    det = a * (e * h - f * f) - b * (b * h - f * c) + c * (b * f - e * c)
    size = a + e + h
    found = False
    error = 0.0
    if abs(det) > 1e-4 * size * size * size and kind[u] == 0 and kind[v] == 0:
        out[0] = -(d * (e * h - f * f) - b * (g * h - f * i) + c * (g * f - e * i)) / det
        out[1] = -(a * (g * h - i * f) - d * (b * h - f * c) + c * (b * i - g * c)) / det
        out[2] = -(a * (e * i - f * g) - b * (b * i - g * c) + d * (b * f - e * c)) / det
        # A place far from the edge is one of nearly parallel planes: it tells nothing.
        far = 0.0
        long = 0.0
        for k in range(3):
            far += (out[k] - 0.5 * (p[u, k] + p[v, k])) ** 2
            long += (p[u, k] - p[v, k]) ** 2
        found = far < 4.0 * long
        if found:
            error = _error_at(q, u, v, out[0], out[1], out[2])
    if not found:
        error = np.inf
        for step in range(3):
            s = 0.5 * step
            if kind[u] != kind[v] and (
                (kind[u] > kind[v] and step != 0) or (kind[v] > kind[u] and step != 2)
            ):
                continue  # What is on a border, or a corner of one, stays.
            x = p[u, 0] + s * (p[v, 0] - p[u, 0])
            y = p[u, 1] + s * (p[v, 1] - p[u, 1])
            z = p[u, 2] + s * (p[v, 2] - p[u, 2])
            at = _error_at(q, u, v, x, y, z)
            if at < error:
                error = at
                out[0] = x
                out[1] = y
                out[2] = z
    apart = 0.0
    for k in range(min(rest.shape[1], 3)):
        apart += (rest[u, k] - rest[v, k]) ** 2
    if apart > 0.0:
        long = 0.0
        for k in range(3):
            long += (p[u, k] - p[v, k]) ** 2
        error += apart * COLOUR * COLOUR * long
    return max(error, 0.0) * max(weight[u], weight[v])


@kernel
def _begin(p: F64, tri: I32, edge_open: U8, q: F64, normals: F64) -> None:
    """Quadrics of faces and of borders, and the faces' normals."""
    for t in range(tri.shape[0]):
        a, b, c = tri[t, 0], tri[t, 1], tri[t, 2]
        ux = p[b, 0] - p[a, 0]
        uy = p[b, 1] - p[a, 1]
        uz = p[b, 2] - p[a, 2]
        wx = p[c, 0] - p[a, 0]
        wy = p[c, 1] - p[a, 1]
        wz = p[c, 2] - p[a, 2]
        x = uy * wz - uz * wy
        y = uz * wx - ux * wz
        z = ux * wy - uy * wx
        length = np.sqrt(x * x + y * y + z * z)
        if length > 0.0:
            x /= length
            y /= length
            z /= length
        normals[t, 0] = x
        normals[t, 1] = y
        normals[t, 2] = z
        d = -(x * p[a, 0] + y * p[a, 1] + z * p[a, 2])
        for k in range(3):
            _plane(q, tri[t, k], x, y, z, d, 1.0)
        for k in range(3):
            if edge_open[t] & (1 << k) == 0:
                continue
            u = tri[t, k]
            v = tri[t, (k + 1) % 3]
            ex = p[v, 0] - p[u, 0]
            ey = p[v, 1] - p[u, 1]
            ez = p[v, 2] - p[u, 2]
            bx = ey * z - ez * y
            by = ez * x - ex * z
            bz = ex * y - ey * x
            long = np.sqrt(bx * bx + by * by + bz * bz)
            if long > 0.0:
                bx /= long
                by /= long
                bz /= long
                off = -(bx * p[u, 0] + by * p[u, 1] + bz * p[u, 2])
                _plane(q, u, bx, by, bz, off, BORDER)
                _plane(q, v, bx, by, bz, off, BORDER)


@kernel
def _leads(kind: U8, u: int, v: int) -> bool:
    """Whether a triangle weighs its edge from `u` to `v`: of the two along an inner edge one does."""
    return u < v or (kind[u] & 1 != 0 and kind[v] & 1 != 0)


@kernel
def _errors(
    tri: I32, p: F64, q: F64, kind: U8, rest: F64, weight: F64, first: int, last: int, err: F64
) -> None:
    out = np.empty(3)
    for t in range(first, last):
        least = np.inf
        for k in range(3):
            u = tri[t, k]
            v = tri[t, (k + 1) % 3]
            err[t, k] = np.inf
            if _leads(kind, u, v):
                err[t, k] = _best(q, p, kind, rest, weight, u, v, out)
            least = min(least, err[t, k])
        err[t, 3] = least


@kernel
def _rings(tri: I32, n: int, n_tri: int, start: I32, count: I32, refs: I32) -> int:
    count[:] = 0
    for t in range(n_tri):
        for k in range(3):
            count[tri[t, k]] += 1
    total = 0
    for v in range(n):
        start[v] = total
        total += count[v]
        count[v] = 0
    for t in range(n_tri):
        for k in range(3):
            v = tri[t, k]
            refs[start[v] + count[v]] = t
            count[v] += 1
    return total


@kernel
def _turns_over(
    p: F64, tri: I32, gone: U8, normals: F64, start: I32, count: I32, refs: I32, u: int, v: int, at: F64
) -> bool:
    """Whether a face around `u`, without those of `v`, would turn over or become a needle."""
    for i in range(start[u], start[u] + count[u]):
        t = refs[i]
        if gone[t] != 0:
            continue
        k = 0
        while k < 2 and tri[t, k] != u:
            k += 1
        a = tri[t, (k + 1) % 3]
        b = tri[t, (k + 2) % 3]
        if v in (a, b):
            continue
        ux = p[a, 0] - at[0]
        uy = p[a, 1] - at[1]
        uz = p[a, 2] - at[2]
        wx = p[b, 0] - at[0]
        wy = p[b, 1] - at[1]
        wz = p[b, 2] - at[2]
        lu = np.sqrt(ux * ux + uy * uy + uz * uz)
        lw = np.sqrt(wx * wx + wy * wy + wz * wz)
        if lu == 0.0 or lw == 0.0 or abs(ux * wx + uy * wy + uz * wz) > 0.995 * lu * lw:
            return True
        x = uy * wz - uz * wy
        y = uz * wx - ux * wz
        z = ux * wy - uy * wx
        dot = x * normals[t, 0] + y * normals[t, 1] + z * normals[t, 2]
        if dot < 0.25 * np.sqrt(x * x + y * y + z * z):
            return True
    return False


@kernel
def _pinches(
    tri: I32, gone: U8, start: I32, count: I32, refs: I32, stamp: I32, mark: int, u: int, v: int
) -> bool:
    """Whether other vertices than those across the edge lie beside both: drawn together, two sheets would meet."""
    across = 0
    for i in range(start[u], start[u] + count[u]):
        t = refs[i]
        if gone[t] != 0:
            continue
        has = False
        for k in range(3):
            stamp[tri[t, k]] = mark
            has = has or tri[t, k] == v
        if has:
            across += 1
    beside = 0
    for i in range(start[v], start[v] + count[v]):
        t = refs[i]
        if gone[t] != 0:
            continue
        for k in range(3):
            w = tri[t, k]
            if w not in (u, v) and stamp[w] == mark:
                stamp[w] = mark - 1
                beside += 1
    return beside != across


@kernel
def _pass(
    tri: I32,
    gone: U8,
    dirty: U8,
    normals: F64,
    err: F64,
    p: F64,
    q: F64,
    kind: U8,
    rest: F64,
    weight: F64,
    start: I32,
    count: I32,
    refs: I32,
    n_refs: int,
    stamp: I32,
    mark: int,
    limit: float,
    most: int,
    n_tri: int,
) -> tuple[int, int, int]:
    """Draw edges together that cost less than a limit, until `most` triangles are gone."""
    at = np.empty(3)
    taken = 0
    for t in range(n_tri):
        if gone[t] != 0 or dirty[t] != 0 or err[t, 3] >= limit:
            continue
        for k in range(3):
            if err[t, k] >= limit:
                continue
            u = tri[t, k]
            v = tri[t, (k + 1) % 3]
            cost = _best(q, p, kind, rest, weight, u, v, at)
            if cost >= limit:
                continue
            mark += 2
            if kind[u] != 0 and kind[v] != 0:
                # Two places of borders go together along one border only.
                shared = 0
                for i in range(start[u], start[u] + count[u]):
                    s = refs[i]
                    if gone[s] == 0 and v in (tri[s, 0], tri[s, 1], tri[s, 2]):
                        shared += 1
                if (
                    kind[u] >= 4
                    or kind[v] >= 4
                    or (kind[u] & kind[v]) == 0
                    or (kind[u] & 1 != 0 and shared != 1)
                ):
                    continue
            if _pinches(tri, gone, start, count, refs, stamp, mark, u, v):
                continue
            if _turns_over(p, tri, gone, normals, start, count, refs, u, v, at):
                continue
            if _turns_over(p, tri, gone, normals, start, count, refs, v, u, at):
                continue
            if n_refs + count[u] + count[v] > refs.shape[0]:
                return taken, n_refs, mark
            share = 0.0
            long = 0.0
            for c in range(3):
                share += (at[c] - p[u, c]) * (p[v, c] - p[u, c])
                long += (p[v, c] - p[u, c]) ** 2
            share = min(max(share / long, 0.0), 1.0) if long > 0.0 else 0.0
            if share > 0.5:
                # Those of the nearer end: blended with every collapse, borders of colours would run.
                for c in range(rest.shape[1]):
                    rest[u, c] = rest[v, c]
            weight[u] = max(weight[u], weight[v])
            kind[u] |= kind[v]
            for c in range(3):
                p[u, c] = at[c]
            for c in range(10):
                q[u, c] += q[v, c]
            first = n_refs
            for side in range(2):
                w = u if side == 0 else v
                for i in range(start[w], start[w] + count[w]):
                    s = refs[i]
                    if gone[s] != 0:
                        continue
                    if side == 1:
                        if u in (tri[s, 0], tri[s, 1], tri[s, 2]):
                            gone[s] = 1
                            taken += 1
                            continue
                        for c in range(3):
                            if tri[s, c] == v:
                                tri[s, c] = u
                    elif v in (tri[s, 0], tri[s, 1], tri[s, 2]):
                        gone[s] = 1
                        taken += 1
                        continue
                    dirty[s] = 1
                    refs[n_refs] = s
                    n_refs += 1
            start[u] = first
            count[u] = n_refs - first
            count[v] = 0
            for i in range(first, n_refs):
                s = refs[i]
                least = np.inf
                for c in range(3):
                    a = tri[s, c]
                    b = tri[s, (c + 1) % 3]
                    if u in (a, b):  # The edge across has not changed.
                        err[s, c] = np.inf
                        if _leads(kind, a, b):
                            err[s, c] = _best(q, p, kind, rest, weight, a, b, at)
                    least = min(least, err[s, c])
                err[s, 3] = least
            break
        if taken >= most:
            break
    return taken, n_refs, mark


@kernel
def _compact(tri: I32, gone: U8, normals: F64, err: F64, owner: I32, n_tri: int) -> int:
    n = 0
    for t in range(n_tri):
        if gone[t] != 0:
            continue
        for k in range(3):
            tri[n, k] = tri[t, k]
            normals[n, k] = normals[t, k]
        for k in range(4):
            err[n, k] = err[t, k]
        owner[n] = owner[t]
        n += 1
    gone[:n] = 0
    return n


def _open_edges(triangles: I32, regions: AnyArray | None) -> tuple[U8, AnyArray]:
    """For each triangle which of its edges are borders (bits 0 to 2), and for each of those its kind (1 open, 2 region)."""
    ends = np.sort(triangles[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1).astype(np.int64)
    keys = ends[:, 0] * (int(triangles.max()) + 1) + ends[:, 1]
    order = np.argsort(keys, kind="stable")
    run = np.concatenate([[True], keys[order][1:] != keys[order][:-1]])
    number = np.cumsum(run) - 1
    count = np.bincount(number)
    kinds = np.zeros(len(count), np.uint8)
    kinds[count == 1] = 1
    if regions is not None:
        of = np.repeat(regions, 3)[order].astype(np.int64)
        low, high = np.full(len(count), 1 << 40), np.full(len(count), -1)
        np.minimum.at(low, number, of)
        np.maximum.at(high, number, of)
        kinds[(low != high) & (kinds == 0)] = 2
    flat = np.empty(len(keys), np.uint8)
    flat[order] = kinds[number]
    by_edge = flat.reshape(-1, 3)
    bits = ((by_edge != 0) * np.array([1, 2, 4], np.uint8)).sum(axis=1).astype(np.uint8)
    return bits, by_edge


@dataclass(frozen=True)
class Decimated:
    """What came of it.

    Attributes
    ----------
    mesh : Mesh
    error : float
        How far the surface has moved, in the mesh's space, at the worst of some thousand places.
    symmetric : bool
        It was and is symmetric across x = 0, to the bit.
    """

    mesh: Mesh
    error: float
    symmetric: bool


def decimated(mesh: Mesh, wanted: Wanted, progress: Progress) -> Decimated:
    """Clay with fewer triangles; quads are cut along their shorter diagonal first.

    Quadrics tell distances from planes, which on curved clay are less than those from the surface: to an error, what
    was made is measured, and made again with less where it went too far.

    Raises
    ------
    MeshError
        When it has fewer triangles already.
    """
    if not np.isfinite(wanted.error):
        return _decimated(mesh, wanted, progress)
    allowed = wanted.error
    for _ in range(TRIES):
        made = _decimated(mesh, replace(wanted, error=allowed), progress)
        if made.error <= wanted.error:
            break
        allowed *= 0.9 * wanted.error / made.error
    return made


def _decimated(mesh: Mesh, wanted: Wanted, progress: Progress) -> Decimated:
    shape = mesh.topology
    if wanted.triangles >= shape.n_triangles:
        raise MeshError(
            f"it has {shape.n_triangles:,} triangles already; decimating cannot give {wanted.triangles:,}"
        )
    progress.report(0.0, "Weighing")
    triangles, source = as_triangles(mesh.positions, shape.faces)
    tri = np.ascontiguousarray(triangles[:, :3])
    half = _half_of(mesh, tri) if _alike(mesh, tri, source) else None
    if half is not None:
        tri, source = tri[half], source[half]
    regions = mesh.regions[source] if mesh.regions is not None else None
    found = _run(
        mesh, tri, source, regions if wanted.keep_regions else None, wanted, half is not None, progress
    )
    points, faces, owner, rest = found
    used = np.unique(faces)
    names = np.zeros(len(points), np.int32)
    names[used] = np.arange(len(used), dtype=np.int32)
    points, faces, rest = points[used], names[faces], rest[used]
    by_face = {
        name: value[source[owner]] for name, value in staying(mesh.values()).items() if VALUES[name].by_face
    }
    if half is not None:
        points, faces, rest, by_face = _mirrored(points, faces, rest, by_face)
    made = Mesh.from_faces(
        points.astype(np.float32),
        faces,
        **_from_columns(mesh, rest),
        **by_face,
    )
    few = mesh.positions[:: max(mesh.n_vertices // 5000, 1)]
    return Decimated(made, float(distances_to(few, made).max()), half is not None)


def _run(
    mesh: Mesh,
    tri: I32,
    source: I32,
    regions: AnyArray | None,
    wanted: Wanted,
    halved: bool,
    progress: Progress,
) -> tuple[F64, I32, I32, F64]:
    low = mesh.positions.min(axis=0).astype(np.float64)
    size = float((mesh.positions.max(axis=0) - low).max()) or 1.0
    shift = np.zeros(3) if halved else low
    p = (mesh.positions.astype(np.float64) - shift) / size
    n, n_tri = len(p), len(tri)
    rest = _rest(mesh)
    weight = np.ones(n)
    if wanted.weigh_mask and mesh.mask is not None:
        weight += (KEEP - 1.0) * mesh.mask.astype(np.float64) ** 2
    kind = np.zeros(n, np.uint8)
    bits = np.zeros(n_tri, np.uint8)
    borders = (
        halved or mesh.topology.has_border or (regions is not None and bool((regions != regions[0]).any()))
    )
    if borders:
        bits, by_edge = _open_edges(tri, regions)
        ends = tri[:, [[0, 1], [1, 2], [2, 0]]]
    for which in (1, 2) if borders else ():
        there = ends[by_edge == which].reshape(-1)
        kind[there] |= which
        # Where three or more borders meet is a corner: it stays.
        met = np.bincount(there, minlength=n)
        kind[met > (2 if which == 1 else 4)] |= 4
    q, normals = np.zeros((n, 10)), np.empty((n_tri, 3))
    _begin(p, tri, bits, q, normals)
    err = np.empty((n_tri, 4))
    _errors(tri, p, q, kind, rest, weight, 0, n_tri, err)
    gone, dirty = np.zeros(n_tri, np.uint8), np.zeros(n_tri, np.uint8)
    start, count = np.empty(n, np.int32), np.empty(n, np.int32)
    refs = np.empty(3 * n_tri * 4 + 64, np.int32)
    stamp, mark = np.zeros(n, np.int32), 1
    owner = np.arange(n_tri, dtype=np.int32)
    target = wanted.triangles // 2 if halved else wanted.triangles
    cap = (wanted.error / size) ** 2
    left, whole, n_refs = n_tri, n_tri, 0
    idle = 0
    for step in range(PASSES):
        if left <= target or idle > 8:
            break
        if step % REBUILD == 0 or n_refs > len(refs) * 3 // 4:
            n_tri = _compact(tri, gone, normals, err, owner, n_tri)
            n_refs = _rings(tri, n, n_tri, start, count, refs)
        dirty[:n_tri] = 0
        share = (whole - left) / max(whole - target, 1)
        progress.report(0.05 + 0.9 * min(share, 1.0), "Drawing edges together")
        sample = err[: n_tri : max(n_tri // 20_000, 1), 3][gone[: n_tri : max(n_tri // 20_000, 1)] == 0]
        # What refused last time is cheap still, and in the way: look a little further each time nothing came.
        limit = float(np.quantile(sample, min(CHEAPEST * (1 + idle), 1.0))) * (1.0 + 1e-9) + 1e-18
        capped = min(limit, cap)
        taken, n_refs, mark = _pass(
            tri, gone, dirty, normals, err, p, q, kind, rest, weight, start, count, refs, n_refs, stamp, mark,
            capped, left - target, n_tri,
        )  # fmt: skip
        left -= taken
        idle = idle + 1 if taken < (whole if left > whole // 2 else left) // 500 else 0
    n_tri = _compact(tri, gone, normals, err, owner, n_tri)
    return p * size + shift, tri[:n_tri].copy(), owner[:n_tri].copy(), rest


def _columns(mesh: Mesh) -> list[tuple[str, float]]:
    """What goes along with vertices, by name, and what a full difference of it is: its range, or 1 for labels."""
    found = []
    for name, value in mesh.values().items():
        kind = VALUES[name]
        if kind.by_face:
            continue
        full = 1.0
        if not kind.label:
            whole = np.issubdtype(kind.kind, np.integer)
            full = (
                float(np.iinfo(value.dtype).max) if whole else max(float(np.abs(value).max(initial=0)), 1.0)
            )
        found.append((name, full))
    return found


def _rest(mesh: Mesh) -> F64:
    """What goes along with vertices, in columns, each as a share of its range."""
    columns = [
        getattr(mesh, name).reshape(mesh.n_vertices, -1).astype(np.float64) / full
        for name, full in _columns(mesh)
    ]
    return (
        np.ascontiguousarray(np.concatenate(columns, axis=1)) if columns else np.zeros((mesh.n_vertices, 0))
    )


def _from_columns(mesh: Mesh, rest: F64) -> dict[str, Any]:
    """Values from what `_rest` has made of them."""
    found, at = {}, 0
    for name, full in _columns(mesh):
        wide = max(VALUES[name].columns, 1)
        found[name] = VALUES[name].cast(rest[:, at : at + wide] * full)
        at += wide
    return found


def _alike(mesh: Mesh, tri: I32, source: I32) -> bool:
    """Whether both sides of x = 0 are each other's mirror image to the bit, in form and in all else."""
    p = mesh.positions
    if not exactly_symmetric(p, 0):
        return False

    def with_number(places: F32, numbers: AnyArray) -> F32:
        # Numbers as a shift along z: equal sets of the shifted places are equal sets of places with numbers.
        out = places.copy()
        out[:, 2] += numbers.astype(np.float32) * np.float32(977.0)
        return out

    columns = _rest(mesh)
    if not all(exactly_symmetric(with_number(p, columns[:, k]), 0) for k in range(columns.shape[1])):
        return False
    by_face = [value for name, value in staying(mesh.values()).items() if VALUES[name].by_face]
    if not by_face:
        return True
    # Corners are added in the order of their size, which is the same on both sides.
    corners = np.sort(p[tri], axis=1)
    corners[:, :, 0] = (
        np.sort(np.abs(p[tri][:, :, 0]), axis=1) * np.sign(p[tri][:, :, 0].sum(axis=1))[:, None]
    )
    middles = np.ascontiguousarray(corners.sum(axis=1), np.float32)
    tables = [value.reshape(len(value), -1) for value in by_face]
    return all(
        exactly_symmetric(with_number(middles, table[source, k]), 0)
        for table in tables
        for k in range(table.shape[1])
    )


def _half_of(mesh: Mesh, tri: I32) -> AnyArray | None:
    """The triangles of the side of greater x; None where some cross the middle."""
    side = np.sign(mesh.positions[:, 0])[tri]
    if ((side.min(axis=1) < 0) & (side.max(axis=1) > 0)).any():
        return None
    half = side.max(axis=1) > 0
    flat = ~half & (side.min(axis=1) == 0)
    return None if flat.any() or not half.any() else np.asarray(half)


def _mirrored(
    points: F64, faces: I32, rest: F64, by_face: dict[str, AnyArray]
) -> tuple[F64, I32, F64, dict[str, AnyArray]]:
    """Both sides of a half whose open edge lies in the plane x = 0."""
    ends = np.sort(faces[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1)
    edges, counts = np.unique(ends, axis=0, return_counts=True)
    seam = np.zeros(len(points), bool)
    seam[edges[counts == 1].reshape(-1)] = True
    # The seam was in the plane and is held there; rounding is taken off.
    size = float(np.ptp(points, axis=0).max())
    seam &= np.abs(points[:, 0]) < 1e-3 * size
    points = points.copy()
    points[seam, 0] = 0.0
    names = np.arange(len(points))
    names[~seam] = len(points) + np.arange(int((~seam).sum()))
    other = points[~seam] * [-1.0, 1.0, 1.0]
    both = np.concatenate([faces, names[faces][:, ::-1]]).astype(np.int32)
    return (
        np.concatenate([points, other]),
        both,
        np.concatenate([rest, rest[~seam]]),
        {name: np.concatenate([value, value]) for name, value in by_face.items()},
    )


NEAREST = 4
"""Vertices around whose faces the nearest place is looked for: on coarse clay it may lie beside the nearest one's."""


def distances_to(points: AnyArray, mesh: Mesh) -> F32:
    """How far points (k, 3) are from a surface, (k,) float32."""
    points = np.ascontiguousarray(points, np.float64)
    _, near = cKDTree(mesh.positions).query(points, k=min(NEAREST, mesh.n_vertices))
    near = near.reshape(len(points), -1).astype(np.int32)
    best = np.full(len(points), np.inf)
    for k in range(near.shape[1]):
        corners, shares, _ = around(points, np.ascontiguousarray(near[:, k]), mesh)
        at = np.einsum("kc,kcx->kx", shares.astype(np.float64), mesh.positions[corners].astype(np.float64))
        best = np.minimum(best, np.linalg.norm(at - points, axis=1))
    return best.astype(np.float32)
