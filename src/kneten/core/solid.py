"""Solids: exact union, difference and intersection of closed clay, and cutting with a drawn outline.

The exact arithmetic is manifold3d's. What lies here is what sculptors need around it: faces that the
operation did not touch stay the quads they were, colour, mask and origin go along, and clay that is not
solid is said to be so, or made solid first.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import manifold3d
import numpy as np

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress, kernel
from kneten.core.face_tree import FaceTree
from kneten.core.mesh import Mesh
from kneten.core.placing import flipped, kneaded, turned_out
from kneten.core.regions import with_face_values
from kneten.core.remesh import Soup, mean_edge, remesh, soup_of
from kneten.core.slivers import without_slivers
from kneten.core.solid_work import RawSolid, Request, SolidError, solved
from kneten.core.symmetry import exactly_symmetric
from kneten.core.topology import MeshError
from kneten.core.values import between, of_any_faces, rows_of, turned_over
from kneten.core.voxels import cross_lines

LINES = 160
"""Lines across the longest side along which clay is looked through for shells within shells."""

# -- looking ------------------------------------------------------------------------------------


def depths(mesh: Mesh) -> tuple[int, int]:
    """Least and greatest number of shells that places on a grid of lines lie in.

    0 and 1 for a sound solid; greater where shells cross, below 0 where they are inside out.
    """
    low = mesh.positions.min(axis=0).astype(np.float64)
    high = mesh.positions.max(axis=0).astype(np.float64)
    extent = np.maximum(high - low, 1e-9)
    step = float(extent.max()) / LINES
    low = low - step * 1.37
    shape = tuple(int(n) for n in np.ceil(extent / step) + 4)
    counts = np.zeros(shape, np.int16)
    none, empty = np.empty((0, 0, 0), np.int32), np.empty(0, np.int32)
    triangles = soup_of([mesh]).triangles
    axis = int(np.argmin(extent))
    flags = np.zeros(shape, np.uint8)
    cross_lines(
        mesh.positions, mesh.normals, triangles, triangles, 0, len(triangles), axis, low, step, counts, flags, none,
        np.empty((0, 6)), empty, False,
    )  # fmt: skip
    depth = np.cumsum(counts, axis=axis, dtype=np.int16)
    return int(depth.min()), int(depth.max())


def flaw(mesh: Mesh) -> str:
    """What keeps clay from being a sound solid, in words; "" when nothing does."""
    if mesh.topology.has_border:
        return "has open edges"
    lowest, highest = depths(mesh)
    if highest <= 0 and lowest < 0:
        return "is inside out"
    if lowest < 0 or highest > 1:
        return "crosses itself"
    return ""


def made_solid(mesh: Mesh, progress: Progress) -> Mesh:
    """Closed clay without crossings, at the mesh's own edge length. Raises `MeshError`."""
    if not mesh.topology.has_border:
        lowest, highest = depths(mesh)
        if lowest == -1 and highest <= 0:
            # Only turned inside out: nothing has to be made anew.
            values = turned_over(mesh.own_values(), mesh.topology.faces)
            return Mesh(flipped(mesh.topology), mesh.positions, **values)
    edge = mean_edge(mesh)
    if mesh.topology.has_border:
        low, high = mesh.bounds()
        # A sheet without thickness encloses nothing; half-open vessels close along their rims.
        if float(np.min(high - low)) < edge * 0.5:
            raise MeshError("it is a sheet without thickness, which encloses nothing")
    return with_face_values([mesh], remesh(soup_of([mesh]), edge, progress))


# -- exact operations ---------------------------------------------------------------------------


@kernel
def _slot(bits: AnyArray, i: int, mask: int) -> int:
    """Where in a table of a power of two the search for a row begins."""
    h = (bits[i, 0] * np.uint64(0x9E3779B97F4A7C15)) ^ (bits[i, 1] * np.uint64(0xC2B2AE3D27D4EB4F))
    h ^= bits[i, 2] * np.uint64(0x165667B19E3779F9)
    h ^= h >> np.uint64(29)
    return np.int64(h & np.uint64(mask))  # type: ignore[return-value]


@kernel
def _find(bits: AnyArray, table: I32, wanted: AnyArray, out: I32) -> None:
    """Index of each wanted row of three words among `bits`, or -1. `table` is a power of two long."""
    mask = table.shape[0] - 1
    table[:] = -1
    for i in range(bits.shape[0]):
        k = _slot(bits, i, mask)
        while table[k] >= 0:
            k = k + 1 if k < mask else 0
        table[k] = i
    for i in range(wanted.shape[0]):
        k = _slot(wanted, i, mask)
        out[i] = -1
        while table[k] >= 0:
            j = table[k]
            if bits[j, 0] == wanted[i, 0] and bits[j, 1] == wanted[i, 1] and bits[j, 2] == wanted[i, 2]:
                out[i] = j
                break
            k = k + 1 if k < mask else 0


def same_places(places: F32, wanted: F32) -> I32:
    """Index among `places` (n, 3) of each of `wanted` (k, 3) with exactly the same numbers, or -1."""

    def words(points: F32) -> AnyArray:
        # Minus zero is zero.
        return np.ascontiguousarray(points + np.float32(0)).view(np.uint32).astype(np.uint64)

    size = 1 << max(int(np.ceil(np.log2(max(2 * len(places), 2)))), 1)
    out = np.empty(len(wanted), np.int32)
    _find(words(places), np.empty(size, np.int32), words(wanted), out)
    return out


@kernel
def _pair(
    triangles: I32, of_face: I32, of_source: I32, source_vertex: I32, quads: I32, faces: I32, order: I32
) -> int:
    """Triangles (sorted by face) that still make up a whole quad become that quad again."""
    n = 0
    i = 0
    while i < order.shape[0]:
        t = order[i]
        f = of_face[t]
        whole = False
        if i + 1 < order.shape[0] and of_face[order[i + 1]] == f and quads[f, 3] >= 0:
            last = i + 2 >= order.shape[0] or of_face[order[i + 2]] != f
            if last:
                found = 0
                for c in range(4):
                    hit = False
                    for half in range(2):
                        for k in range(3):
                            if source_vertex[triangles[order[i + half], k]] == quads[f, c]:
                                hit = True
                    if hit:
                        found += 1
                known = 0
                for half in range(2):
                    for k in range(3):
                        if source_vertex[triangles[order[i + half], k]] >= 0:
                            known += 1
                # Vertices may lie in the same place without being one: the two must share an edge.
                shared = 0
                for k in range(3):
                    v = triangles[order[i + 1], k]
                    if v == triangles[t, 0] or v == triangles[t, 1] or v == triangles[t, 2]:
                        shared += 1
                whole = found == 4 and known == 6 and shared == 2
        if whole:
            # The two triangles share an edge; the corner of the second that is not on it goes between.
            a = triangles[t]
            b = triangles[order[i + 1]]
            extra = b[0]
            for k in range(3):
                if b[k] != a[0] and b[k] != a[1] and b[k] != a[2]:
                    extra = b[k]
            own = 0
            for k in range(3):
                in_b = a[k] == b[0] or a[k] == b[1] or a[k] == b[2]
                if not in_b:
                    own = k
            # From the corner only the first has: own, next, extra, last; beginning where the quad did: so it is cut along
            # the same diagonal as before wherever it is taken for two triangles.
            faces[n, 0] = a[own]
            faces[n, 1] = a[(own + 1) % 3]
            faces[n, 2] = extra
            faces[n, 3] = a[(own + 2) % 3]
            for _ in range(3):
                if source_vertex[faces[n, 0]] == quads[f, 0]:
                    break
                first = faces[n, 0]
                faces[n, 0] = faces[n, 1]
                faces[n, 1] = faces[n, 2]
                faces[n, 2] = faces[n, 3]
                faces[n, 3] = first
            i += 2
        else:
            for k in range(3):
                faces[n, k] = triangles[t, k]
            faces[n, 3] = -1
            i += 1
        n += 1
    return n


@dataclass(frozen=True)
class _Source:
    """All inputs as one soup: where results read their values from."""

    soup: Soup
    faces: I32
    triangle_of_face: I32


def _gather(meshes: Sequence[Mesh]) -> tuple[list[RawSolid], _Source]:
    bodies = []
    faces = []
    first_vertex = first_face = 0
    for mesh in meshes:
        own = mesh.topology.faces
        quads = own[:, 3] >= 0
        triangles = np.concatenate([own[:, :3], own[quads][:, [0, 2, 3]]])
        number = np.arange(len(own), dtype=np.uint32) + np.uint32(first_face)
        bodies.append(
            RawSolid(
                mesh.positions,
                np.ascontiguousarray(triangles, np.uint32),
                np.concatenate([number, number[quads]]),
            )
        )
        faces.append(np.where(own >= 0, own + np.int32(first_vertex), np.int32(-1)))
        first_vertex += mesh.n_vertices
        first_face += len(own)
    whole = np.concatenate(faces).astype(np.int32)
    soup = soup_of(list(meshes))
    # `soup_of` lists each mesh's triangles: all faces' first halves, then the quads' second halves.
    starts = []
    at = 0
    for mesh in meshes:
        starts.append(np.arange(len(mesh.topology.faces)) + at)
        at += mesh.topology.n_triangles
    return bodies, _Source(soup, whole, np.concatenate(starts).astype(np.int32))


def mirrored_axes(groups: Sequence[Sequence[Mesh]]) -> list[int]:
    """Axes across which each group of meshes mirrors to the bit."""
    return [
        axis
        for axis in range(3)
        if all(
            exactly_symmetric(np.concatenate([mesh.positions for mesh in group]), axis) for group in groups
        )
    ]


def _landed(raw: RawSolid, source: _Source, axes: Sequence[int] = ()) -> Mesh:
    """A mesh of the result; one that was trimmed across `axes` is made whole by its mirror image.

    The diagonals of quads run where they will, and crossings found on them differ on the two sides: only
    mirroring keeps what was symmetric symmetric.
    """
    mesh = _read(raw, source, axes)
    for axis in axes:
        mesh = _doubled(mesh, axis)
    soup = source.soup
    if axes and soup.values:
        # Each side keeps its own values: a symmetric form may be painted differently left and right.
        known = same_places(soup.positions, mesh.positions)
        new = np.flatnonzero(known < 0)
        tree = FaceTree.over(soup.positions, np.pad(soup.triangles, ((0, 0), (0, 1)), constant_values=-1))
        found, _ = tree.nearest(mesh.positions[new], np.full(len(new), np.inf, np.float32), Progress())
        for name, before in soup.values.items():
            own = getattr(mesh, name)
            own[known >= 0] = before[known[known >= 0]]
            own[new] = between(name, before, found.corners, found.shares)
    return mesh


def _doubled(mesh: Mesh, axis: int) -> Mesh:
    """A half that ends in the plane where coordinate `axis` is 0, and its mirror image, as one."""
    positions, faces = mesh.positions.copy(), mesh.topology.faces
    low, high = mesh.bounds()
    seam = np.abs(positions[:, axis]) <= float(np.max(high - low)) * 1e-6
    positions[seam, axis] = 0.0
    # The lid that the cut has left in the plane goes.
    lid = seam[np.maximum(faces, 0)] | (faces < 0)
    kept = ~lid.all(axis=1)
    faces = faces[kept]
    n = mesh.n_vertices
    twin = np.where(seam, np.arange(n), np.arange(n) + n).astype(np.int32)
    other = np.where(faces >= 0, twin[np.maximum(faces, 0)], -1).astype(np.int32)
    both = np.concatenate([faces, turned_out(other)])
    mirrored = positions.copy()
    mirrored[:, axis] *= -1
    used = np.zeros(2 * n, bool)
    used[both[both >= 0]] = True
    new = np.cumsum(used, dtype=np.int32) - 1

    twice = {
        name: np.concatenate([value, value])
        for name, value in rows_of(of_any_faces(mesh.values()), slice(None), kept).items()
    }
    return Mesh.from_faces(
        np.concatenate([positions, mirrored])[used],
        np.where(both >= 0, new[np.maximum(both, 0)], -1).astype(np.int32),
        **rows_of(twice, used, slice(None)),
    )


def _read(raw: RawSolid, source: _Source, axes: Sequence[int] = ()) -> Mesh:
    """A mesh of a solid, with quads and values as they were where nothing changed; without slivers beside the seam.

    What lies in the planes across `axes`, where the solid was trimmed, stays.
    """
    positions, triangles = raw.positions, raw.triangles.astype(np.int32)
    of_face = raw.faces.astype(np.int32)
    known = same_places(source.soup.positions, positions)
    whole = known
    if (known < 0).any():
        flat = 1e-6 * float(np.ptp(positions, axis=0).max())
        held = np.zeros(len(positions), bool)
        for axis in axes:
            held |= np.abs(positions[:, axis]) <= flat
        triangles, which, changed = without_slivers(positions.astype(np.float64), triangles, known < 0, held)
        of_face = of_face[which]
        # Quads there stay apart: their other diagonal may be an edge now.
        whole = np.where(changed, -1, known).astype(np.int32)
    order = np.argsort(of_face, kind="stable").astype(np.int32)
    faces = np.empty((len(triangles), 4), np.int32)
    n = _pair(triangles, of_face, of_face, whole, source.faces, faces, order)
    values = _values(positions, triangles, of_face, known, source)
    used = np.zeros(len(positions), bool)
    used[triangles.reshape(-1)] = True
    if not used.all():
        new = np.cumsum(used, dtype=np.int32) - 1
        faces[:n] = np.where(faces[:n] >= 0, new[faces[:n]], -1)
        positions = positions[used]
        values = {name: value[used] for name, value in values.items()}
    return Mesh.from_faces(positions, np.ascontiguousarray(faces[:n]), **values)


def _values(positions: F32, triangles: I32, of_face: I32, known: I32, source: _Source) -> dict[str, AnyArray]:
    """What vertices have: of the same vertex before, or between the corners of the face it cut."""
    soup = source.soup
    if not soup.values:
        return {}
    face = np.full(len(positions), -1, np.int32)
    for corner in range(3):
        face[triangles[:, corner]] = of_face
    corners = soup.triangles[source.triangle_of_face[np.maximum(face, 0)]]
    far = np.linalg.norm(
        soup.positions[corners].astype(np.float64) - positions[:, None].astype(np.float64), axis=2
    )
    share = 1.0 / np.maximum(far, 1e-9)
    share /= share.sum(axis=1, keepdims=True)

    found = {}
    for name, value in soup.values.items():
        made = between(name, value, corners, share)
        made[known >= 0] = value[known[known >= 0]]
        found[name] = made
    return found


def combine(operation: str, meshes: Sequence[Mesh], progress: Progress) -> Mesh:
    """Union of all, the first without the others, or what all share, exactly.

    Parameters
    ----------
    operation : str
        join, subtract or intersect.
    meshes : sequence of Mesh
        In one space; closed.

    Returns
    -------
    Mesh
        Closed, oriented, two-manifold; faces that were not touched stay as they were.

    Raises
    ------
    SolidError
        When a mesh is not closed, or nothing is left.
    Cancelled
        Through `progress`.
    """
    bodies, source = _gather(meshes)
    axes = mirrored_axes([meshes[:1], meshes[1:]] if operation == "subtract" else [meshes])
    (found,) = solved(Request(operation, bodies, axes), progress)
    progress.report(0.85, "Putting together")
    return with_face_values(meshes, _landed(found, source, axes))


def mirrored_whole(mesh: Mesh, axis: int, side: int, progress: Progress) -> Mesh:
    """One side of closed clay and its mirror image, merged where they meet.

    Parameters
    ----------
    side : int
        1 keeps where coordinate `axis` is above 0, -1 where it is below.

    Raises
    ------
    SolidError
        When the clay is not closed, or nothing of it lies on that side.
    """
    flip = np.eye(4)
    flip[axis, axis] = side
    turned = kneaded(mesh, flip)
    bodies, source = _gather([turned])
    (found,) = solved(Request("join", bodies, [axis]), progress)
    progress.report(0.85, "Putting together")
    return kneaded(_doubled(with_face_values([turned], _read(found, source)), axis), flip)


# -- cutting ------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Outline:
    """A drawn outline as rays: what lies inside of it, seen from the camera.

    Attributes
    ----------
    near, far : (k, 3) float64
        The outline before and behind the clay.
    span : two floats
        Between which shares of the way from near to far there is clay: only there the walls are dense.
    """

    near: F64
    far: F64
    span: tuple[float, float] = (0.0, 1.0)


def prism(outline: Outline, edge: float) -> Mesh:
    """The body between an outline before the clay and one behind it, its walls as dense as the clay.

    Raises
    ------
    SolidError
        When the outline encloses nothing or crosses itself.
    """
    near, far = outline.near, outline.far
    if len(near) < 3:
        raise SolidError("the outline encloses nothing; draw around some clay")
    k = len(near)
    axis = (far - near).mean(axis=0)
    axis /= np.linalg.norm(axis)
    side = np.cross(axis, np.eye(3)[int(np.argmin(np.abs(axis)))])
    side /= np.linalg.norm(side)
    up = np.cross(axis, side)
    flat = np.stack([near @ side, near @ up], -1)
    area = 0.5 * float((flat[:, 0] * np.roll(flat[:, 1], -1) - flat[:, 1] * np.roll(flat[:, 0], -1)).sum())
    if abs(area) < 1e-9 * max(float(np.ptp(flat, axis=0).max()) ** 2, 1e-12):
        raise SolidError("the outline encloses nothing; draw around some clay")
    if area < 0:
        near, far, flat = near[::-1], far[::-1], flat[::-1]
    first, last = outline.span
    deep = float(np.linalg.norm(far - near, axis=1).mean()) * (last - first)
    rows = int(np.clip(np.ceil(deep / edge), 1, 1500))
    share = np.linspace(first, last, rows + 1)
    share = np.unique(np.concatenate([[0.0], share, [1.0]]))[:, None, None]
    rows = len(share) - 1
    points = (near[None] * (1 - share) + far[None] * share).reshape(-1, 3)
    i = np.arange(rows)[:, None] * k
    j = np.arange(k)[None, :]
    a, b = i + j, i + (j + 1) % k
    walls = np.stack(np.broadcast_arrays(a, b, b + k, a + k), -1).reshape(-1, 4)
    lid = np.asarray(manifold3d.triangulate([flat]), np.int64)
    if len(lid) != k - 2:
        raise SolidError("the outline crosses itself; draw it without loops")
    # Seen along the axis the outline runs clockwise or not; the volume tells.
    front = np.concatenate([lid, np.full((len(lid), 1), -1)], 1)
    back = np.concatenate([lid[:, ::-1] + rows * k, np.full((len(lid), 1), -1)], 1)
    mesh = Mesh.from_faces(
        points.astype(np.float32), np.concatenate([walls, front[:, [2, 1, 0, 3]], back[:, [2, 1, 0, 3]]]).astype(np.int32)
    )  # fmt: skip
    if volume(mesh) < 0:
        faces = np.concatenate([walls[:, ::-1], front, back]).astype(np.int32)
        mesh = Mesh.from_faces(points.astype(np.float32), faces)
    return mesh


def volume(mesh: Mesh) -> float:
    """Volume within closed clay; below 0 when it is inside out."""
    soup = soup_of([mesh])
    a, b, c = (soup.positions[soup.triangles[:, k]].astype(np.float64) for k in range(3))
    return float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6)


def cut(
    mesh: Mesh, tools: Sequence[Mesh], both: bool, front_from: F64 | None, progress: Progress
) -> list[Mesh]:
    """Cut clay by the bodies of outlines.

    Parameters
    ----------
    tools : sequence of Mesh
        Prisms in the clay's space; several where the cut is mirrored.
    both : bool
        Keep what was cut off as well, as one more closed body.
    front_from : (tools, 3) float64 or None
        Where the camera stands for each of them: only the foremost piece under the outline is cut. None cuts
        through.

    Returns
    -------
    list of Mesh
        What is left; with `both`, and what was cut off.

    Raises
    ------
    SolidError
        When the clay is not closed, the outline misses it, or nothing would be left.
    """
    bodies, source = _gather([mesh, *tools])
    axes = mirrored_axes([[mesh], tools]) if front_from is None else []
    found = solved(Request("cut", bodies, axes, both, front_from), progress)
    progress.report(0.85, "Putting together")
    return [with_face_values([mesh], _landed(piece, source, axes)) for piece in found]
