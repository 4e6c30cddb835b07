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

from kneten.core.arrays import F32, F64, I32, U8, AnyArray, Progress
from kneten.core.distance import nearest_points
from kneten.core.face_tree import FaceTree
from kneten.core.loose import as_triangles
from kneten.core.mesh import Mesh
from kneten.core.quadrics import begin, compact, draw_edges, errors, rings
from kneten.core.symmetry import exactly_symmetric
from kneten.core.topology import MeshError
from kneten.core.uv.islands import Edges, Islands, cut_by_uv, has_uv, islands_of
from kneten.core.uv.keep import corner_uv, read_off
from kneten.core.values import VALUES, of_any_faces, staying

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


def _open_edges(
    triangles: I32, regions: AnyArray | None, seams: AnyArray | None = None
) -> tuple[U8, AnyArray]:
    """For each triangle which of its edges are borders (bits 0 to 2), and for each of those its kind (1 open, 2 a region's or a seam (m, 2))."""
    wide = int(triangles.max()) + 1
    ends = np.sort(triangles[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1).astype(np.int64)
    keys = ends[:, 0] * wide + ends[:, 1]
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
    if seams is not None and len(seams):
        low = np.sort(seams, axis=1).astype(np.int64)
        cut = np.isin(keys[order][run], low[:, 0] * wide + low[:, 1])
        kinds[cut & (kinds == 0)] = 2
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
    laid = _Laid.of(mesh)
    found = _run(
        mesh, tri, source, regions if wanted.keep_regions else None, wanted, half is not None, progress,
        None if laid is None else laid.seams,
    )  # fmt: skip
    points, faces, owner, rest = found
    used = np.unique(faces)
    names = np.zeros(len(points), np.int32)
    names[used] = np.arange(len(used), dtype=np.int32)
    points, faces, rest = points[used], names[faces], rest[used]
    by_face = {name: value[source[owner]] for name, value in _of_faces(mesh).items()}
    if laid is not None:
        by_face["island"] = laid.islands.of_face[source[owner]]
    if half is not None:
        points, faces, rest, by_face = _mirrored(points, faces, rest, by_face)
    if laid is not None:
        by_face["uv"] = laid.kept(mesh, points, faces, by_face.pop("island"), half is not None, progress)
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
    seams: AnyArray | None = None,
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
        halved
        or mesh.topology.has_border
        or (regions is not None and bool((regions != regions[0]).any()))
        or (seams is not None and len(seams) > 0)
    )
    if borders:
        bits, by_edge = _open_edges(tri, regions, seams)
        ends = tri[:, [[0, 1], [1, 2], [2, 0]]]
    for which in (1, 2) if borders else ():
        there = ends[by_edge == which].reshape(-1)
        kind[there] |= which
        # Where three or more borders meet is a corner: it stays.
        met = np.bincount(there, minlength=n)
        kind[met > (2 if which == 1 else 4)] |= 4
    q, normals = np.zeros((n, 10)), np.empty((n_tri, 3))
    begin(p, tri, bits, q, normals)
    err = np.empty((n_tri, 4))
    errors(tri, p, q, kind, rest, weight, 0, n_tri, err)
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
            n_tri = compact(tri, gone, normals, err, owner, n_tri)
            n_refs = rings(tri, n, n_tri, start, count, refs)
        dirty[:n_tri] = 0
        share = (whole - left) / max(whole - target, 1)
        progress.report(0.05 + 0.9 * min(share, 1.0), "Drawing edges together")
        # What refused last time is cheap still, and in the way: look further each time nothing came, at last at every edge
        # there is, not at the cheapest of each triangle alone. On a cylinder those cost nothing and make needles.
        wide = min(CHEAPEST * (1 + idle), 1.0)
        few = slice(None, n_tri, max(n_tri // 20_000, 1))
        sample = err[few, :3] if idle else err[few, 3]
        sample = sample[gone[few] == 0]
        limit = float(np.quantile(sample[np.isfinite(sample)], wide)) * (1.0 + 1e-9) + 1e-18
        capped = min(limit, cap)
        taken, n_refs, mark = draw_edges(
            tri, gone, dirty, normals, err, p, q, kind, rest, weight, start, count, refs, n_refs, stamp, mark,
            capped, left - target, n_tri, halved,
        )  # fmt: skip
        left -= taken
        idle = idle + 1 if taken <= (whole if left > whole // 2 else left) // 500 else 0
    n_tri = compact(tri, gone, normals, err, owner, n_tri)
    return p * size + shift, tri[:n_tri].copy(), owner[:n_tri].copy(), rest


@dataclass(frozen=True, eq=False)
class _Laid:
    """The UVs that clay had.

    Attributes
    ----------
    islands : Islands
    seams : (m, 2) int32
        Edges that lie in two places.
    """

    islands: Islands
    seams: I32

    @classmethod
    def of(cls, mesh: Mesh) -> _Laid | None:
        """None where it has none."""
        if mesh.uv is None or not has_uv(mesh.uv).any():
            return None
        edges = Edges.of(mesh.topology)
        cut = cut_by_uv(mesh.uv, mesh.topology, edges)
        return cls(islands_of(mesh.topology, edges, cut), edges.ends[cut & edges.inner])

    def kept(
        self, mesh: Mesh, points: F64, faces: I32, of_face: I32, mirrored: bool, progress: Progress
    ) -> F32:
        """UVs (f, 8) of new triangles that lie on islands (f,); of a mirrored second half it is found anew which."""
        assert mesh.uv is not None
        tri, source = as_triangles(mesh.positions, mesh.topology.faces)
        tri = np.ascontiguousarray(tri[:, :3])
        island = self.islands.of_face[source].copy()
        island[~has_uv(mesh.uv)[source]] = -1
        of_face = of_face.copy()
        if mirrored:
            second = slice(len(faces) // 2, None)
            middles = points[faces[second]].mean(axis=1).astype(np.float32)
            found, _ = FaceTree.of(mesh).nearest(
                middles, np.full(len(middles), np.inf, np.float32), Progress()
            )
            of_face[second] = self.islands.of_face[np.maximum(found.faces, 0)]
        of_face[~np.isin(of_face, island)] = -1
        table = corner_uv(self.islands, mesh.uv, tri, source)
        return read_off(mesh.positions, tri, table, island, points, faces, of_face, progress)


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


def _of_faces(mesh: Mesh) -> dict[str, AnyArray]:
    """What faces have that goes along to others."""
    found = of_any_faces(staying(mesh.values()))
    return {name: value for name, value in found.items() if VALUES[name].by_face}


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
    by_face = list(_of_faces(mesh).values())
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
    right, left = mesh.positions[:, 0] > 0, mesh.positions[:, 0] < 0
    half, other = (one[tri[:, 0]] | one[tri[:, 1]] | one[tri[:, 2]] for one in (right, left))
    if (half & other).any():
        return None
    flat = ~half & ~other
    return None if flat.any() or not half.any() else np.asarray(half)


def _mirrored(
    points: F64, faces: I32, rest: F64, by_face: dict[str, AnyArray]
) -> tuple[F64, I32, F64, dict[str, AnyArray]]:
    """Both sides of a half whose open edge lies in the plane x = 0."""
    ends = faces[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2).astype(np.int64)
    # Of an open edge there is no other face: nothing else is looked at but what lies in the plane.
    size = float(np.ptp(points, axis=0).max())
    flat = np.abs(points[:, 0]) < 1e-3 * size
    ends = ends[flat[ends[:, 0]] & flat[ends[:, 1]]]
    keys, counts = np.unique(ends.min(axis=1) * len(points) + ends.max(axis=1), return_counts=True)
    open_ones = keys[counts == 1]
    seam = np.zeros(len(points), bool)
    seam[open_ones // len(points)] = True
    seam[open_ones % len(points)] = True
    # The seam was in the plane and is held there; rounding is taken off.
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


def distances_to(points: AnyArray, mesh: Mesh) -> F32:
    """How far points (k, 3) are from a surface, (k,) float32."""
    at = np.ascontiguousarray(points, np.float64)
    nearest, _ = nearest_points(at, mesh, Progress())
    return np.linalg.norm(nearest - at, axis=1).astype(np.float32)
