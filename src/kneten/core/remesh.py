"""Remesh evenly: new clay of even quads from any closed or overlapping shells, by voxels.

The surface of a well-composed grid is followed with one vertex to each cell it passes (surface nets,
Gibson 1998). A vertex lies at the mean of the places where the old surface crosses its cell's edges, and
is then evened within the plane through them, so that planes stay plane and curves keep their size.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress, kernel
from kneten.core.creases import corner_normals
from kneten.core.face_tree import FaceTree
from kneten.core.mesh import Mesh
from kneten.core.sharpen import sharpened
from kneten.core.surface_nets import follow_cells, number_cells, symmetrise
from kneten.core.symmetry import symmetric_axes
from kneten.core.topology import MeshError, as_faces
from kneten.core.values import VALUES, between, of_vertices, put_together
from kneten.core.voxels import CHUNK, cross_lines, fill_grid

MAX_POINTS = 400_000_000
"""Grid points at most; each takes 7 bytes while remeshing: 2.8 GB."""

EVENING = 4
"""Passes of evening. Fewer leave the grid's rows visible; more do not change the spread of edges."""


@dataclass(frozen=True)
class Forecast:
    """What a remesh would give.

    Attributes
    ----------
    edge : float
        Mean edge length.
    vertices : int
    grid_points : int
    step : float
        Grid spacing.
    """

    edge: float
    vertices: int
    grid_points: int
    step: float


@dataclass(frozen=True)
class Soup:
    """Triangles of one or several parts in one space, with their normals and their vertices' values by name."""

    positions: F32
    triangles: I32
    normals: F32
    values: dict[str, AnyArray]


def triangulate(faces: I32) -> I32:
    """Triangles of (f, 4) faces; each quad is cut from its first to its third corner."""
    quads = faces[faces[:, 3] >= 0]
    return np.concatenate([faces[:, :3], quads[:, [0, 2, 3]]]).astype(np.int32)


def soup_of(meshes: list[Mesh]) -> Soup:
    """Put meshes that share a space into one list of triangles."""
    offset = 0
    triangles = []
    for mesh in meshes:
        triangles.append(triangulate(mesh.topology.faces) + np.int32(offset))
        offset += mesh.n_vertices
    positions = np.concatenate([m.positions for m in meshes])
    normals = np.concatenate([m.normals for m in meshes])
    return Soup(positions, np.concatenate(triangles), normals, put_together(meshes, of_vertices()))


@kernel
def area_sums(positions: F32, faces: I32) -> tuple[float, float]:
    """Area of the surface, and its area seen along the three axes, of (f, 3) or (f, 4) faces."""
    area = 0.0
    seen = 0.0
    for f in range(faces.shape[0]):
        a = faces[f, 0]
        b = faces[f, 1]
        c = faces[f, 2]
        for half in range(2):
            if half == 1:
                if faces.shape[1] < 4 or faces[f, 3] < 0:
                    break
                b = c
                c = faces[f, 3]
            ux = np.float64(positions[b, 0]) - positions[a, 0]
            uy = np.float64(positions[b, 1]) - positions[a, 1]
            uz = np.float64(positions[b, 2]) - positions[a, 2]
            wx = np.float64(positions[c, 0]) - positions[a, 0]
            wy = np.float64(positions[c, 1]) - positions[a, 1]
            wz = np.float64(positions[c, 2]) - positions[a, 2]
            x = uy * wz - uz * wy
            y = uz * wx - ux * wz
            z = ux * wy - uy * wx
            area += np.sqrt(x * x + y * y + z * z) * 0.5
            seen += (abs(x) + abs(y) + abs(z)) * 0.5
    return area, seen


def _grid_points(extent: F64, step: float) -> int:
    return int(np.prod(np.ceil(np.maximum(extent, 0) / step) + 5))


def forecast(positions: F32, faces: I32, edge: float | None = None, vertices: int | None = None) -> Forecast:
    """What remeshing clay, (n, 3) and (f, 4), to a mean edge length, or to a number of vertices, would give.

    Raises
    ------
    MeshError
        For a useless length or count, or a surface without area.
    """
    area, seen = area_sums(positions, faces)
    if not area > 0:
        raise MeshError("the part has no surface to remesh")
    if edge is None:
        if vertices is None or vertices < FEWEST:
            raise MeshError(f"a closed form needs at least {FEWEST} vertices")
        edge = float(np.sqrt(area / vertices))
    if not np.isfinite(edge) or edge <= 0:
        raise MeshError("the edge length must be greater than zero")
    # The surface passes `seen / step^2` cell faces, each a quad of the mean area: a mean edge is
    # `sqrt(area / quads)`.
    step = edge * float(np.sqrt(seen / area))
    # By columns: NumPy takes twenty times as long for the same along the rows of (n, 3).
    extent = np.array([np.ptp(positions[:, axis]) for axis in range(3)], np.float64)
    return Forecast(edge, int(seen / step**2), _grid_points(extent, step), step)


FAR_CELLS = 3.0
"""Cells of the grid within which the old surface says what new clay has."""

FEWEST = 8
"""Vertices of a closed form at least."""


def mean_edge(mesh: Mesh) -> float:
    """How long edges are when a mesh's vertices are spread evenly over its surface; 0 for one without a surface."""
    area, _ = area_sums(mesh.positions, mesh.topology.faces)
    return float(np.sqrt(area / max(mesh.count, FEWEST))) if area > 0 else 0.0


@kernel
def _even(places: F64, anchors: F64, normals: F64, known: I32, quads: I32, out: F64) -> None:
    """Half-way to the mean of the four-ring, kept within each vertex's own plane where it has one."""
    n = places.shape[0]
    total = np.zeros((n, 3))
    count = np.zeros(n, np.int32)
    for q in range(quads.shape[0]):
        for c in range(4):
            v = quads[q, c]
            for step in (1, 3):
                u = quads[q, (c + step) & 3]
                for a in range(3):
                    total[v, a] += places[u, a]
                count[v] += 1
    for v in range(n):
        if count[v] == 0:
            continue
        off = 0.0
        for a in range(3):
            out[v, a] = 0.5 * places[v, a] + 0.5 * total[v, a] / count[v]
            off += (out[v, a] - anchors[v, a]) * normals[v, a]
        if known[v] > 0:
            for a in range(3):
                out[v, a] -= off * normals[v, a]


def _lay_grid(soup: Soup, step: float, mirror: tuple[bool, bool, bool]) -> tuple[F64, tuple[int, int, int]]:
    """Low corner and size of a grid around the clay; cells' middles lie in the mirror planes."""
    low = soup.positions.min(axis=0).astype(np.float64)
    high = soup.positions.max(axis=0).astype(np.float64)
    shape = []
    for axis in range(3):
        if mirror[axis]:
            # An odd number of cells puts the plane through the middle of a row of cells, so that
            # the seam gets a row of vertices of its own.
            half = int(np.ceil(max(high[axis], -low[axis]) / step)) + 2
            low[axis] = -(half + 0.5) * step
            shape.append(2 * half + 2)
        else:
            # A third of a cell off: grid lines should not run along edges of aligned models.
            low[axis] -= (2 + 1 / 3) * step
            shape.append(int(np.ceil((high[axis] - low[axis]) / step)) + 3)
    return low, (shape[0], shape[1], shape[2])


def remesh(
    soup: Soup, edge: float, progress: Progress, keep_symmetry: bool = True, keep_edges: bool = False
) -> Mesh:
    """New clay of even quads.

    Parameters
    ----------
    soup : Soup
        Overlapping shells merge; small holes close.
    edge : float
        Mean edge length of the result.
    keep_symmetry : bool
        Keep the symmetry the input has, to the bit.
    keep_edges : bool
        Bring vertices near sharp edges of the old surface onto them.

    Returns
    -------
    Mesh
        Closed, oriented, two-manifold; what vertices have is read off the old surface.

    Raises
    ------
    MeshError
        When the grid would be too large, or nothing encloses a grid point.
    Cancelled
        Through `progress`.
    """
    predicted = forecast(soup.positions, soup.triangles, edge=edge)
    if predicted.grid_points > MAX_POINTS:
        raise MeshError(
            f"an edge length of {edge:.3g} needs a grid of {predicted.grid_points:,} points; "
            f"{MAX_POINTS:,} is the most. Choose a longer edge or fewer vertices."
        )
    step = predicted.step
    mirror = symmetric_axes(soup.positions, edge * 1e-3) if keep_symmetry else (False,) * 3
    low, shape = _lay_grid(soup, step, mirror)
    flags = fill_grid(soup.positions, soup.normals, soup.triangles, low, step, shape, mirror, progress)
    progress.report(0.5, "Following the surface")
    cell_of = np.full(shape, -1, np.int32)
    n = number_cells(flags, cell_of)
    if n == 0:
        raise MeshError(
            "nothing is enclosed at this edge length. Choose a shorter edge, or close the holes first."
        )
    sums = np.zeros((n, 6))
    hits = np.zeros(n, np.int32)
    counts = np.empty((0, 0, 0), np.int16)
    normals_at, corners = corner_normals(soup.positions, soup.normals, soup.triangles)
    for axis in range(3):
        for first in range(0, len(soup.triangles), CHUNK):
            last = min(first + CHUNK, len(soup.triangles))
            cross_lines(
                soup.positions,
                normals_at,
                soup.triangles,
                corners,
                first,
                last,
                axis,
                low,
                step,
                counts,
                flags,
                cell_of,
                sums,
                hits,
                True,
            )
            done = (axis + last / len(soup.triangles)) / 3
            progress.report(0.5 + done * 0.3, "Following the surface")
    centres, quads, twins = follow_cells(flags, cell_of, n, mirror)
    del flags, cell_of
    progress.report(0.85, "Evening")
    known = hits > 0
    anchors = np.where(known[:, None], sums[:, :3] / np.maximum(hits, 1)[:, None], centres)
    lengths = np.linalg.norm(sums[:, 3:], axis=1, keepdims=True)
    normals = sums[:, 3:] / np.maximum(lengths, 1e-12)
    # Where the crossings' normals cancel (a thin wall within one cell) there is no plane to keep.
    hits[(lengths[:, 0] < 0.3 * hits) | ~known] = 0
    places = anchors.copy()
    for _ in range(EVENING):
        out = places.copy()
        _even(places, anchors, normals, hits, quads, out)
        # Clay that no old triangle explains (a closed hole) keeps moving; the rest stays in its cell.
        stay = np.clip(out, centres - 0.75, centres + 0.75)
        places = np.where(hits[:, None] > 0, stay, out)
        progress.report(0.9, "Evening")
    places = low + places * step
    if keep_edges:
        places = sharpened(places, quads, soup.positions, soup.triangles, step, progress)
    symmetrise(places, twins, mirror)
    made = places.astype(np.float32)
    values = values_at(made, soup, step)
    progress.report(0.95, "Sorting")
    return Mesh.from_faces(made, quads, **values)


def values_at(places: F32, soup: Soup, step: float) -> dict[str, AnyArray]:
    """What vertices at some places (n, 3) have, read off the old surface where it is nearest; blank where there is none near.

    Each side reads its own: a symmetric form may be painted differently left and right.
    """
    if not soup.values:
        return {}
    tree = FaceTree.over(soup.positions, as_faces(soup.triangles))
    found, _ = tree.nearest(places, np.full(len(places), FAR_CELLS * step, np.float32), Progress())
    there = np.flatnonzero(found.there)
    made = {}
    for name, value in soup.values.items():
        made[name] = VALUES[name].none(len(places))
        made[name][there] = between(name, value, found.corners[there], found.shares[there])
    return made
