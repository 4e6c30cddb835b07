"""Regions: numbered sets of faces. Found, grown, coloured, and carried to clay made from other clay."""

from __future__ import annotations

import colorsys
from collections.abc import Sequence

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from kneten.core.arrays import F32, F64, I32, U8, U16, U32, AnyArray, Progress, kernel
from kneten.core.face_tree import FaceTree
from kneten.core.mesh import Mesh
from kneten.core.subdivide import number_edges
from kneten.core.topology import PATCH
from kneten.core.values import VALUES, of_any_faces, of_faces, put_together

GOLDEN = 0.618034
"""Hues this far apart round the circle: neighbouring numbers never look alike."""


EYE_WHITE, EYE_CORNEA, EYE_IRIS, EYE_PUPIL = range(65_501, 65_505)

OWN = {EYE_WHITE: "White of the eye", EYE_CORNEA: "Cornea", EYE_IRIS: "Iris", EYE_PUPIL: "Pupil"}
"""Regions that recipes make, and what they are called: the same numbers in every project, so that eyes may be joined,
kept and brought in, and one material reaches the irises of all."""

FIRST_OWN = 65_500
"""From here on numbers are kept for such regions."""


def region_colour(number: int) -> tuple[int, int, int]:
    """The glaze a region is shown in, sRGB; 0 is bare clay."""
    if number == 0:
        return 196, 188, 176
    hue = (0.44 + number * GOLDEN) % 1.0
    light = (0.60, 0.48, 0.70)[number % 3]
    r, g, b = colorsys.hls_to_rgb(hue, light, 0.42)
    return round(r * 255), round(g * 255), round(b * 255)


@kernel
def _tint(start: U32, ring: U32, regions: U16, table: U8, which: I32, n: int, out: U8) -> None:
    row = 0
    for i in range(which.shape[0]):
        first = which[i] * PATCH
        for v in range(first, min(first + PATCH, n)):
            r = 0
            g = 0
            b = 0
            count = 0
            for k in range(start[v, 0], start[v, 1]):
                number = regions[ring[k]]
                r += table[number, 0]
                g += table[number, 1]
                b += table[number, 2]
                count += 1
            count = max(count, 1)
            out[row, 0] = r // count
            out[row, 1] = g // count
            out[row, 2] = b // count
            out[row, 3] = 255
            row += 1


def region_colours(mesh: Mesh, patches: I32) -> U8:
    """Colours (k, 4) of the vertices of some patches: the mean of their faces' glazes."""
    rows = int(sum(min((p + 1) * PATCH, mesh.n_vertices) - p * PATCH for p in patches.tolist()))
    regions = mesh.regions
    if regions is None:
        return np.tile(np.array([*region_colour(0), 255], np.uint8), (rows, 1))
    table = np.zeros((int(regions.max()) + 1, 3), np.uint8)
    for number in np.unique(regions).tolist():
        table[number] = region_colour(number)
    out = np.empty((rows, 4), np.uint8)
    _, start, ring = mesh.topology.walk
    _tint(start, ring, regions, table, patches, mesh.n_vertices, out)
    return out


def numbers_of(mesh: Mesh) -> list[int]:
    """The regions a mesh has, ascending."""
    return [] if mesh.regions is None else [n for n in np.unique(mesh.regions).tolist() if n]


# -- from faces to vertices and back -------------------------------------------------------------


def vertices_of(mesh: Mesh, faces: AnyArray) -> AnyArray:
    """Which vertices (n,) bool have one of these faces (f,) bool."""
    seen = np.zeros(mesh.n_vertices + 1, bool)
    seen[mesh.topology.faces[faces].reshape(-1)] = True
    return seen[:-1]


def faces_within(mesh: Mesh, vertices: AnyArray) -> AnyArray:
    """Which faces (f,) bool have only such vertices (n,) bool."""
    return np.asarray(np.append(vertices, True)[mesh.topology.faces].all(axis=1))


def faces_of_mask(mesh: Mesh, mask: F32, least: float = 0.5) -> AnyArray:
    """Which faces (f,) bool are masked by at least a share, on the mean of their corners."""
    faces = mesh.topology.faces
    sums = np.append(mask, np.float32(0))[faces].sum(axis=1)
    return np.asarray(sums >= least * np.where(faces[:, 3] >= 0, 4, 3))


def grown(mesh: Mesh, faces: AnyArray, steps: int) -> AnyArray:
    """Faces (f,) bool and as many rings around them as there are steps; fewer for negative ones."""
    for _ in range(abs(steps)):
        if steps > 0:
            faces = np.asarray(np.append(vertices_of(mesh, faces), False)[mesh.topology.faces].any(axis=1))
        else:
            faces = faces & faces_within(mesh, ~vertices_of(mesh, ~faces))
    return faces


# -- what belongs together ------------------------------------------------------------------------


def face_pairs(mesh: Mesh) -> I32:
    """Pairs of faces that share an edge, (k, 2)."""
    shape = mesh.topology
    edges = np.full((shape.n_faces, 4), -1, np.int32)
    ends = np.empty((int(np.count_nonzero(shape.faces >= 0)), 2), np.int32)
    number_edges(shape.faces, shape.ring, shape.ring_faces, edges, ends)
    flat = edges.reshape(-1)
    owner = np.repeat(np.arange(shape.n_faces, dtype=np.int32), 4)
    there = flat >= 0
    if shape.faces.shape[1] == 4:
        there &= ~((np.arange(len(flat)) % 4 == 3) & np.repeat(shape.faces[:, 3] < 0, 4))
    flat, owner = flat[there], owner[there]
    order = np.argsort(flat, kind="stable")
    flat, owner = flat[order], owner[order]
    same = flat[1:] == flat[:-1]
    return np.stack([owner[:-1][same], owner[1:][same]], axis=1)


def face_normals(mesh: Mesh) -> F64:
    """Unit normals (f, 3) of the faces."""
    return normals_of_faces(mesh.positions.astype(np.float64), mesh.topology.faces)


def normals_of_faces(at: F64, faces: I32) -> F64:
    """Unit normals (f, 3) of faces (f, 4) between points (n, 3)."""
    quads = faces[:, 3] >= 0
    fourth = np.where(quads, faces[:, 3], faces[:, 2])
    a, b, c, d = at[faces[:, 0]], at[faces[:, 1]], at[faces[:, 2]], at[fourth]
    normal = np.where(quads[:, None], np.cross(c - a, d - b), np.cross(b - a, c - a))
    return np.asarray(normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30))


def pieces(mesh: Mesh, pairs: I32) -> I32:
    """For each face, (f,), the number of the piece that these pairs (k, 2) connect, the largest piece first."""
    n = mesh.topology.n_faces
    graph = coo_matrix((np.ones(len(pairs), np.uint8), (pairs[:, 0], pairs[:, 1])), shape=(n, n))
    count, labels = connected_components(graph, directed=False)
    rank = np.empty(count, np.int32)
    rank[np.argsort(-np.bincount(labels, minlength=count), kind="stable")] = np.arange(count)
    return np.asarray(rank[labels])


def by_angle(mesh: Mesh, degrees: float) -> I32:
    """Pieces whose faces meet at less than an angle: each face's number, (f,)."""
    pairs = face_pairs(mesh)
    normals = face_normals(mesh)
    cosine = np.einsum("ij,ij->i", normals[pairs[:, 0]], normals[pairs[:, 1]])
    return pieces(mesh, pairs[cosine > np.cos(np.radians(degrees))])


def by_connection(mesh: Mesh, within: AnyArray | None = None) -> I32:
    """Pieces that hang together, on demand only over faces of the same value (f,)."""
    pairs = face_pairs(mesh)
    if within is not None:
        pairs = pairs[within[pairs[:, 0]] == within[pairs[:, 1]]]
    return pieces(mesh, pairs)


def by_origin(mesh: Mesh) -> I32:
    """The label of the part each face was joined from, (f,)."""
    if mesh.origin is None:
        return np.zeros(mesh.topology.n_faces, np.int32)
    corners = mesh.origin[np.maximum(mesh.topology.faces, 0)].astype(np.int32)
    # Two corners that agree decide; otherwise the first.
    return np.where(corners[:, 1] == corners[:, 2], corners[:, 1], corners[:, 0])


# -- carrying over --------------------------------------------------------------------------------


def middles(mesh: Mesh) -> F64:
    """Middles (f, 3) of the faces."""
    faces = mesh.topology.faces
    at = np.concatenate([mesh.positions.astype(np.float64), np.zeros((1, 3))])
    return at[faces].sum(axis=1) / np.where(faces[:, 3] >= 0, 4, 3)[:, None]


def _spans(mesh: Mesh) -> F64:
    """How far each face's first corner lies from its middle, (f,)."""
    return np.asarray(np.linalg.norm(mesh.positions[mesh.topology.faces[:, 0]] - middles(mesh), axis=1))


def with_face_values(sources: Sequence[Mesh], made: Mesh) -> Mesh:
    """Give clay made from other clay in the same space what faces have: each face that of the nearest face.

    What lies farther from all of them than their faces are wide, as the caps of a cut do, is new: of no region.
    """
    values = of_any_faces(put_together(sources, of_faces()))
    if not values:
        return made
    offsets = np.cumsum([0, *(mesh.n_vertices for mesh in sources)])
    faces = [
        np.where(mesh.topology.faces < 0, np.int32(-1), mesh.topology.faces + np.int32(first))
        for mesh, first in zip(sources, offsets[:-1], strict=True)
    ]
    tree = FaceTree.over(np.concatenate([mesh.positions for mesh in sources]), np.concatenate(faces))
    bound = float(np.quantile(np.concatenate([_spans(mesh) for mesh in (*sources, made)]), 0.99))
    at = middles(made).astype(np.float32)
    found, _ = tree.nearest(at, np.full(len(at), bound, np.float32), Progress())
    for name, value in values.items():
        setattr(made, name, np.concatenate([value, VALUES[name].none(1)])[found.faces])
    return made
