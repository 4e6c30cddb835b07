"""Retopologise: clay of any density as a clean cage of quads that follow its form and its lines."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix
from scipy.sparse.csgraph import connected_components

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress
from kneten.core.mesh import Mesh
from kneten.core.quads.extract import Cage, Corners, halved
from kneten.core.quads.field import Graph, crosses_on, crosses_over, graph_of, ladder, places_over
from kneten.core.quads.finish import Quality, fitted, normals_of, quality
from kneten.core.quads.ground import Lines, Source, laid, on_source
from kneten.core.quads.halves import BORDER, Halves
from kneten.core.quads.lines import (
    REGIONS,
    SHARPS,
    Edges,
    cut_at_plane,
    laid_in,
    line_corners,
    on_one_side,
    sharp_edges,
    smoothed_lines,
)
from kneten.core.quads.tidy import tidied
from kneten.core.regions import with_face_values
from kneten.core.remesh import soup_of, triangulate, values_at
from kneten.core.topology import MeshError

FEWEST, MOST = 24, 400_000
"""Quads that one may ask for."""

FINER = 3.0
"""Edges of the ground to one of the first, coarse quads."""

OFF = 0.05
"""How far the count may be off before it is tried again with other edges."""

TRIES = 4

SAME_WALL = 0.5
"""Normals up to 60 degrees apart belong to one wall."""

MOST_BATCHES = 12
"""Shells that go through each other are made one after the other, up to so many times; beyond, together."""

STEEPEST = 0.15
"""How much edges may grow over their own length."""


@dataclass(frozen=True)
class QuadWish:
    """How clay is to be retopologised.

    Attributes
    ----------
    count : int
        Quads.
    symmetry : int or None
        The axis across which the cage is exactly symmetric, made from the clay where that coordinate is above 0.
    curvature : float
        How much denser the cage gets where the form is rounder, 0 to 1.
    by_mask : float
        How much denser it gets where the mask is: 0 is no denser, 1 is edges of half the length.
    sharp, regions : bool
        Whether sharp edges, and borders of regions, become lines of edges.
    guides : sequence of (k, 3) float64
        Lines that edges are to run along, in the mesh's space; closed ones come back to where they begin.
    """

    count: int
    symmetry: int | None = None
    curvature: float = 0.5
    by_mask: float = 0.0
    sharp: bool = False
    regions: bool = False
    guides: Sequence[F64] = field(default=())


@dataclass(frozen=True)
class Flow:
    """Where quads will point: shown before they are made.

    Attributes
    ----------
    points, normals, crosses : (n, 3) float64
    sizes : (n,) float64
        How long the edges of quads will be.
    """

    points: F64
    normals: F64
    crosses: F64
    sizes: F64


@dataclass(frozen=True)
class _Clay:
    """Triangles (m, 3) between points (n, 3), how much denser than elsewhere (n,), the regions (m,) of the faces."""

    points: F64
    triangles: I32
    density: F64
    regions: AnyArray | None

    @classmethod
    def of(cls, mesh: Mesh, wish: QuadWish) -> _Clay:
        points, triangles = mesh.positions.astype(np.float64), triangulate(mesh.topology.faces)
        density = np.ones(len(points))
        if wish.by_mask and mesh.mask is not None:
            density += wish.by_mask * mesh.mask
        regions = None
        if wish.regions and mesh.regions is not None:
            quads = mesh.topology.faces[:, 3] >= 0
            regions = np.concatenate([mesh.regions, mesh.regions[quads]])
        return cls(points, triangles, density, regions)

    @property
    def area(self) -> float:
        """Of its surface."""
        a, b, c = (self.points[self.triangles[:, k]] for k in range(3))
        return float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum() / 2)

    def batches(self) -> list[_Clay]:
        """The clay in parts whose shells lie clear of each other, so that none is drawn onto another that it goes through."""
        n = len(self.points)
        t = self.triangles
        table = coo_matrix((np.ones(2 * len(t)), (np.concatenate([t[:, 0], t[:, 0]]), np.concatenate([t[:, 1], t[:, 2]]))), (n, n))  # fmt: skip
        count, shell = connected_components(table, directed=False)
        of = shell[t[:, 0]]
        if count == 1 or len(np.unique(of)) == 1:
            return [self]
        low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
        np.minimum.at(low, shell[t].reshape(-1), self.points[t].reshape(-1, 3))
        np.maximum.at(high, shell[t].reshape(-1), self.points[t].reshape(-1, 3))
        batch = np.zeros(count, np.int32)
        put: list[list[int]] = [[] for _ in range(MOST_BATCHES)]
        for one in np.unique(of).tolist():
            for k, others in enumerate(put):
                clear = (low[others] > high[one]).any(axis=1) | (high[others] < low[one]).any(axis=1)
                if clear.all() or k == MOST_BATCHES - 1:
                    others.append(one)
                    batch[one] = k
                    break
        found = []
        for k in range(MOST_BATCHES):
            here = batch[of] == k
            if here.any():
                used = np.unique(t[here])
                names = np.full(n, -1, np.int32)
                names[used] = np.arange(len(used), dtype=np.int32)
                regions = None if self.regions is None else self.regions[here]
                found.append(_Clay(self.points[used], names[t[here]], self.density[used], regions))
        return found

    def half(self, axis: int) -> tuple[_Clay, AnyArray]:
        """What lies on the far side of a plane, and the edges between its regions, as `edge_keys` numbers them."""
        if self.regions is None:
            points, triangles, origin = cut_at_plane(self.points, self.triangles, axis)
            numbers = None
        else:
            points, triangles, origin, numbers = cut_by_region(
                self.points, self.triangles, self.regions, axis
            )
        clay = _Clay(points, triangles, self.density[origin].mean(axis=1), numbers)
        return clay, clay.borders()

    def borders(self) -> AnyArray:
        """The edges between its regions, as `edge_keys` numbers them."""
        if self.regions is None:
            return np.empty(0, np.int64)
        edges = Edges(self.triangles, len(self.points))
        return edges.keys[(edges.counts == 2) & (self.regions[edges.first] != self.regions[edges.second])]


@dataclass
class _Prepared:
    """Clay ready to lay quads on, and how many of them it is to have before it is mirrored."""

    source: Source
    work: Halves
    graphs: list[Graph]
    size: float
    count: float


def flow_of(mesh: Mesh, wish: QuadWish, progress: Progress) -> Flow:
    """Where the quads would point, and how large they would be. Raises `MeshError` and `Cancelled`."""
    found = []
    for ready in _all_prepared(mesh, wish, progress):
        finest = ready.graphs[0]
        crosses = crosses_over(ready.graphs, progress)
        sides = [1.0] if wish.symmetry is None else [1.0, -1.0]
        for side in sides:
            turn = np.ones(3)
            turn[wish.symmetry or 0] = side
            found.append(Flow(finest.points * turn, finest.normals * turn, crosses * turn, finest.sizes / 2))
    names = ("points", "normals", "crosses", "sizes")
    return Flow(*(np.concatenate([getattr(one, name) for one in found]) for name in names))


def retopologised(mesh: Mesh, wish: QuadWish, progress: Progress) -> tuple[Mesh, Quality]:
    """Clay as quads, with what its vertices and faces have.

    Returns
    -------
    mesh : Mesh
        Two-manifold everywhere, with the shells, holes and handles of the clay; open where that was.
    quality : Quality

    Raises
    ------
    MeshError
        For a useless count, or clay without a surface.
    Cancelled
        Through `progress`.
    """
    points, faces, size, n = [], [], 0.0, 0
    for ready in _all_prepared(mesh, wish, progress):
        more, quads = _laid_on(ready, wish, progress)
        points.append(more)
        faces.append(quads + np.int32(n))
        n += len(more)
        size = max(size, ready.size)
    places, quads = np.concatenate(points), np.concatenate(faces)
    progress.report(0.95, "Reading what the clay has")
    made = places.astype(np.float32)
    clay = Mesh.from_faces(made, quads, **values_at(made, soup_of([mesh]), size))
    return with_face_values([mesh], clay), quality(places, quads)


def _laid_on(ready: _Prepared, wish: QuadWish, progress: Progress) -> tuple[F64, I32]:
    """Quads over prepared clay, with their mirror images."""
    crosses = crosses_over(ready.graphs, progress)
    on_all = crosses_on(ready.graphs, crosses)
    scale, best = 1.0, None
    for turn in range(TRIES):
        cage = _cage(ready, on_all, scale, progress, (0.4 + 0.1 * turn, 0.45 + 0.1 * turn))
        made = 4 * int((cage.faces[:, 3] >= 0).sum()) + 3 * int((cage.faces[:, 3] < 0).sum())
        off = made / ready.count
        if best is None or abs(np.log(off)) < abs(np.log(best[0])):
            best = (off, cage)
        if abs(off - 1) < OFF:
            break
        scale *= float(np.clip(np.sqrt(off), 0.6, 1.7))
    assert best is not None
    fine = halved(best[1])
    finest = ready.graphs[0]
    corners = finest.points[finest.held == 2]
    points = fitted(fine, ready.source, corners, ready.size / 2, progress, (0.8, 0.95))
    return _whole(points, fine, wish.symmetry)


def _all_prepared(mesh: Mesh, wish: QuadWish, progress: Progress) -> Iterator[_Prepared]:
    """Each batch of shells, ready to lay its share of the quads on."""
    if not FEWEST <= wish.count <= MOST:
        raise MeshError(f"between {FEWEST} and {MOST:,} quads can be made, not {wish.count:,}")
    progress.report(0.0, "Looking at the form")
    clay = _Clay.of(mesh, wish)
    area = clay.area
    if not area > 0:
        raise MeshError("the part has no surface to lay quads on")
    there = False
    for batch in clay.batches():
        count = wish.count * batch.area / area
        if batch.area > 0 and (ready := _prepared(batch, wish, max(count, 6.0), progress)):
            there = True
            yield ready
    if not there:
        raise MeshError("there is no clay on the side that the other one would be made from")


def _prepared(clay: _Clay, wish: QuadWish, count: float, progress: Progress) -> _Prepared | None:
    size = 2 * float(np.sqrt(clay.area / count))
    guides = [np.asarray(line, np.float64) for line in wish.guides]
    borders = clay.borders()
    if wish.symmetry is not None:
        clay, borders = clay.half(wish.symmetry)
        guides = on_one_side(guides, wish.symmetry, size / 4)
        count /= 2
        if not len(clay.triangles) or not clay.area > 0:
            return None
    source = _source(clay.points, clay.triangles, borders, wish, size)
    work, at = laid(source, size / clay.density / FINER, progress, share=(0.05, 0.2))
    work, at = _sized(source, work, at * FINER, wish, size, count, progress)
    if guides:
        work, pieces, kinds = laid_in(work, guides, float(np.median(at)) / FINER)
        source = source.with_lines(pieces, kinds)
        work, at = _relaid(source, work, at, progress)
    graph = graph_of(work, at)
    if wish.symmetry is not None:
        _upright(graph, wish.symmetry)
    return _Prepared(source, work, ladder(graph), size, count)


def _relaid(source: Source, work: Halves, sizes: F64, progress: Progress) -> tuple[Halves, F64]:
    work, sizes = laid(source, sizes / FINER, progress, work, rounds=2, share=(0.22, 0.28))
    return work, sizes * FINER


def cut_by_region(
    points: F64, triangles: I32, regions: AnyArray, axis: int
) -> tuple[F64, I32, I32, AnyArray]:
    """As `cut_at_plane`, with the region (j,) of each triangle as well."""
    found: list[tuple[F64, I32, I32, int]] = []
    for number in np.unique(regions):
        found.append((*cut_at_plane(points, triangles[regions == number], axis), int(number)))
    origin = np.concatenate([one[2] for one in found])
    n = len(points)
    keys = np.minimum(origin[:, 0], origin[:, 1]).astype(np.int64) * n + np.maximum(
        origin[:, 0], origin[:, 1]
    )
    _, first, name = np.unique(keys, return_index=True, return_inverse=True)
    ends = np.cumsum([0] + [len(one[0]) for one in found])
    faces = [name[one[1] + start] for one, start in zip(found, ends, strict=False)]
    numbers = np.concatenate([np.full(len(one[1]), one[3]) for one in found])
    every = np.concatenate([one[0] for one in found])
    return every[first], np.concatenate(faces).astype(np.int32), origin[first], numbers


def _source(points: F64, triangles: I32, borders: AnyArray, wish: QuadWish, size: float) -> Source:
    """The clay with its lines."""
    edges = Edges(triangles, len(points))
    marks = np.where(np.isin(edges.keys, borders), REGIONS, 0).astype(np.uint8)
    smooth = smoothed_lines(points, edges.ends[marks > 0], size / 2) if marks.any() else points
    if wish.sharp:
        marks[sharp_edges(points, triangles, edges, 1.5 * size) & (marks == 0)] = SHARPS
    open_ = edges.counts == 1
    on = open_ | (marks > 0)
    pieces = smooth[edges.ends[on]]
    # Sharp edges and borders of the surface are where they are; only steps between regions are evened out.
    exact = marks[on] != REGIONS
    pieces[exact] = points[edges.ends[on][exact]]
    kinds = np.where(open_[on], BORDER, marks[on]).astype(np.uint8)
    marked = marks > 0
    corners = line_corners(smooth, edges.ends[on], size / 4)
    return Source.of(points, triangles, (pieces, kinds), (edges.keys[marked], marks[marked]), corners, smooth)


def _upright(graph: Graph, axis: int) -> None:
    """Normals and lines in the plane of symmetry lie in that plane."""
    reach = max(float(np.abs(graph.points).max()), 1e-12)
    seam = (graph.held != 0) & (np.abs(graph.points[:, axis]) < 1e-9 * reach)
    graph.normals[seam, axis] = 0.0
    graph.normals[seam] /= np.maximum(np.linalg.norm(graph.normals[seam], axis=1, keepdims=True), 1e-300)
    ways = graph.ways[seam]
    ways[:, axis] = 0.0
    ways -= (ways * graph.normals[seam]).sum(1, keepdims=True) * graph.normals[seam]
    graph.ways[seam] = ways / np.maximum(np.linalg.norm(ways, axis=1, keepdims=True), 1e-300)


def _sized(
    source: Source, work: Halves, sizes: F64, wish: QuadWish, size: float, count: float, progress: Progress
) -> tuple[Halves, F64]:
    """The ground with edges as the form wants them: shorter where it is round, never growing too fast, as many as asked."""
    graph = graph_of(work, sizes)
    if wish.curvature > 0:
        sizes = sizes * _by_curvature(graph, size, wish.sharp) ** wish.curvature
    sizes = _enough(graph, sizes)
    sizes = _gentle(graph, sizes)
    sizes = sizes * np.sqrt((graph.areas / sizes**2).sum() / (count / 4))
    sizes = _gentle(graph, _enough(graph, sizes))
    return _relaid(source, work, sizes, progress)


ROUND_ENOUGH = 0.6
"""A form that turns by so much, in radians, over one edge gets edges as they are for evenness."""


def _by_curvature(graph: Graph, size: float, sharp: bool) -> F64:
    """By how much edges are to be longer (n,), from how much the normal turns over one; not over `sharp` edges, which are lines."""
    rows = np.repeat(np.arange(len(graph.points)), np.diff(graph.start))
    turn = np.linalg.norm(graph.normals[rows] - graph.normals[graph.to], axis=1)
    if sharp:
        turn[(graph.held[rows] != 0) | (graph.held[graph.to] != 0)] = 0.0
    far = np.maximum(np.linalg.norm(graph.points[rows] - graph.points[graph.to], axis=1), 1e-300)
    bend = np.zeros(len(graph.points))
    np.maximum.at(bend, rows, turn / far)
    counts = np.maximum(np.diff(graph.start), 1)
    for _ in range(2):
        bend = 0.5 * bend + 0.5 * np.bincount(rows, bend[graph.to], len(bend)) / counts
    return np.clip(ROUND_ENOUGH / np.maximum(bend * size, 1e-6), 0.3, 2.0)


def _enough(graph: Graph, sizes: F64) -> F64:
    """Edges short enough that each shell gets some quads."""
    n = len(graph.points)
    table = csr_matrix((graph.weights, graph.to, graph.start), (n, n))
    _, shell = connected_components(table, directed=False)
    area = np.bincount(shell, graph.areas)
    return np.minimum(sizes, np.sqrt(area / 12)[shell])


def _gentle(graph: Graph, sizes: F64) -> F64:
    """Lengths that grow no faster than the steepest from vertex to vertex."""
    rows = np.repeat(np.arange(len(graph.points)), np.diff(graph.start))
    far = np.linalg.norm(graph.points[rows] - graph.points[graph.to], axis=1) * STEEPEST
    out = sizes.copy()
    for _ in range(60):
        most = np.full(len(out), np.inf)
        np.minimum.at(most, rows, out[graph.to] + far)
        new = np.minimum(out, most)
        if np.allclose(new, out, rtol=1e-3):
            break
        out = new
    return out


def _cage(
    ready: _Prepared, crosses: list[F64], scale: float, progress: Progress, share: tuple[float, float]
) -> Cage:
    """A cage of quads, a quarter as many as there will be, with edges `scale` times as long as wanted."""
    finest = ready.graphs[0]
    places = places_over(ready.graphs, crosses, scale, progress, share)
    progress.report(share[1], "Joining corners")
    work = ready.work.copy()
    corners = Corners(work, finest.normals, crosses[0], places, finest.sizes * scale)
    corners.join()
    counts = work.line_counts()
    inside, on = counts == 0, counts == 2
    there, facing = on_source(
        ready.source, corners.places[inside], corners.normals[inside], 4 * ready.size, progress
    )
    # In narrow places what is nearest may be the other wall: there the vertex of the ground does.
    same = (facing * corners.normals[inside]).sum(1) > SAME_WALL
    work.points[inside] = np.where(same[:, None], there, work.points[inside])
    lines = Lines(ready.source.lines, ready.source.kinds)
    work.points[on] = lines.nearest(corners.places[on], work.kinds()[on])
    corners.join_short(0.45)
    corners.flip()

    def settle(points: F64, cage: Cage) -> F64:
        """Back onto the clay, lines where they are."""
        free = np.flatnonzero(np.bincount(cage.lines.reshape(-1), minlength=len(points)) == 0)
        out = points.copy()
        normals = normals_of(points, cage.faces)
        out[free], _ = on_source(ready.source, points[free], normals[free], 4 * ready.size, progress)
        return out

    return tidied(corners.cage(), settle)


def _whole(points: F64, cage: Cage, axis: int | None) -> tuple[F64, I32]:
    """The cage with its mirror image, joined along the plane."""
    if axis is None:
        return points, cage.faces
    n = len(points)
    on = np.zeros(n, bool)
    size = float(np.abs(points).max()) or 1.0
    border = np.zeros(n, bool)
    border[cage.lines.reshape(-1)] = True
    on = border & (np.abs(points[:, axis]) < 1e-6 * size)
    points = points.copy()
    points[on, axis] = 0.0
    # Quads are cut into triangles from their first to their third corner. Where both lie in the plane the mirror image would
    # be cut along the same line: there it is done the other way.
    faces = cage.faces.copy()
    along = on[faces[:, 0]] & on[faces[:, 2]]
    faces[along] = np.roll(faces[along], 1, axis=1)
    name = np.arange(n, dtype=np.int32)
    name[~on] = n + np.arange(int((~on).sum()), dtype=np.int32)
    other = points[~on].copy()
    other[:, axis] *= -1
    # Begun at the same corner, so that it is cut along the mirrored line.
    mirrored = name[faces][:, [0, 3, 2, 1]]
    return np.concatenate([points, other]), np.concatenate([faces, mirrored]).astype(np.int32)


def spread(flow: Flow, most: int) -> tuple[F32, F32]:
    """Short strokes along both arms of crosses over the clay: both ends, (k, 3) each, of most so many.

    A little above the surface, each as long as an edge would be.
    """
    step = max(len(flow.points) * 2 // max(most, 1), 1)
    at = np.arange(0, len(flow.points), step)
    p = flow.points[at] + 0.1 * flow.sizes[at, None] * flow.normals[at]
    half = 0.4 * flow.sizes[at, None]
    arms = flow.crosses[at], np.cross(flow.normals[at], flow.crosses[at])
    first = np.concatenate([p - half * arm for arm in arms])
    last = np.concatenate([p + half * arm for arm in arms])
    return first.astype(np.float32), last.astype(np.float32)
