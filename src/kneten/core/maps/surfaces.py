"""The two sides of a bake: the low mesh with its texels, and the high clay that rays find or UVs tell."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore_scene import EmbreeScene

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress
from kneten.core.face_tree import FaceTree
from kneten.core.maps.tangents import tangents_of
from kneten.core.mesh import Mesh
from kneten.core.uv.islands import has_uv
from kneten.core.uv.raster import corner_places, filled_rows, in_texels, shares_at, triangles_of

CHUNK = 400_000
"""Rays that are cast in one go."""


@dataclass(frozen=True, eq=False)
class Low:
    """The mesh that maps are made for, as triangles that have UVs.

    Attributes
    ----------
    mesh : Mesh
    owner, corners : (t,), (t, 3) int32
        Each triangle's face, and which of its corners it has.
    vertices : (t, 3) int32
    uv : (t, 3, 2) float32
    tangents : (t, 3, 4) float32
    """

    mesh: Mesh
    owner: I32
    corners: I32
    vertices: I32
    uv: F32
    tangents: F32

    @classmethod
    def of(cls, mesh: Mesh) -> Low:
        """A mesh that has UVs."""
        assert mesh.uv is not None
        owner, corners = triangles_of(mesh.topology.faces)
        there = has_uv(mesh.uv)[owner]
        owner, corners = owner[there], corners[there]
        vertices = mesh.topology.faces[owner[:, None], corners]
        uv = corner_places(mesh.uv, owner, corners)
        tangents = tangents_of(mesh.positions[vertices], mesh.normals[vertices], uv)
        return cls(mesh, owner, corners, vertices, uv, tangents)

    def of_faces(self) -> F32:
        """The tangents by face, (f, 4, 4): of each of its corners."""
        out = np.zeros((self.mesh.topology.n_faces, 4, 4), np.float32)
        out[self.owner[:, None], self.corners] = self.tangents
        return out


@dataclass(frozen=True, eq=False)
class Spots:
    """Where the middles of some texels lie on the low mesh.

    Attributes
    ----------
    x, y : (k,) int32
    triangle, shares : (k,) int32, (k, 3) float32
    place, normal : (k, 3) float32
        The normal as it lies between its vertices', not of length one.
    tangent, side : (k, 3) float32
        The same for the two ways of the picture: the standard's frame.
    """

    x: I32
    y: I32
    triangle: I32
    shares: F32
    place: F32
    normal: F32
    tangent: F32
    side: F32

    @property
    def up(self) -> F32:
        """The normals, (k, 3), of length one."""
        return unit(self.normal)


def unit(ways: AnyArray) -> F32:
    """Ways (k, 3) of length one."""
    return np.asarray(ways / np.maximum(np.linalg.norm(ways, axis=1), 1e-20)[:, None], np.float32)


def mixed(table: AnyArray, rows: AnyArray, shares: F32) -> F32:
    """Values (n, c) between three rows (k, 3) each."""
    out = table[rows[:, 0]] * shares[:, :1]
    out += table[rows[:, 1]] * shares[:, 1:2]
    out += table[rows[:, 2]] * shares[:, 2:]
    return np.asarray(out, np.float32)


def spots_in(low: Low, size: int, first: int, last: int, tile: tuple[int, int]) -> Spots:
    """The texels of some rows of a tile's picture that the low mesh covers."""
    at = in_texels(low.uv, size, size, tile)
    triangle, _ = filled_rows(at, size, first, last)
    inside = np.nonzero(triangle >= 0)
    number: I32 = triangle[inside]
    y: I32 = (inside[0] + first).astype(np.int32)
    x: I32 = inside[1].astype(np.int32)
    shares = shares_at(at, number, x, y)
    rows = low.vertices[number]
    mesh = low.mesh
    normal = mixed(mesh.normals, rows, shares)
    three = low.tangents[number]
    tangent = np.einsum("kc,kcd->kd", shares, three[:, :, :3])
    sign = three[:, 0, 3]
    side = sign[:, None] * np.cross(normal, tangent)
    return Spots(x, y, number, shares, mixed(mesh.positions, rows, shares), normal, tangent, side.astype(np.float32))  # fmt: skip


@dataclass(frozen=True, eq=False)
class Hits:
    """Places of the high clay.

    Attributes
    ----------
    found : (k,) bool
    triangle, shares : (k,) int32, (k, 3) float32
        0 where nothing was found.
    """

    found: AnyArray
    triangle: I32
    shares: F32


class High:
    """The clay that maps are told by, in the low mesh's space.

    Attributes
    ----------
    meshes : list of Mesh
    vertices : (t, 3) int32
        Of all of them, one after the other.
    part : (t,) int32
        The mesh of each triangle.
    """

    def __init__(self, meshes: list[Mesh]) -> None:
        self.meshes = meshes
        first, rows, owners, part = 0, [], [], []
        for number, mesh in enumerate(meshes):
            owner, corners = triangles_of(mesh.topology.faces)
            rows.append(mesh.topology.faces[owner[:, None], corners] + np.int32(first))
            owners.append(owner)
            part.append(np.full(len(owner), number, np.int32))
            first += mesh.n_vertices
        self.vertices: I32 = np.concatenate(rows).astype(np.int32)
        self.owner: I32 = np.concatenate(owners)
        self.part: I32 = np.concatenate(part)
        self.positions: F32 = np.concatenate([mesh.positions for mesh in meshes])
        self.normals: F32 = np.concatenate([mesh.normals for mesh in meshes])
        self._scene: EmbreeScene | None = None
        self._tree: FaceTree | None = None

    @property
    def scene(self) -> EmbreeScene:
        """What rays are cast against."""
        if self._scene is None:
            self._scene = EmbreeScene()
            TriangleMesh(self._scene, self.positions, self.vertices)
        return self._scene

    def place(self, hits: Hits) -> F32:
        """Where hits lie, (k, 3)."""
        return mixed(self.positions, self.vertices[hits.triangle], hits.shares)

    def normal(self, hits: Hits) -> F32:
        """The smooth normals there, (k, 3), of length one."""
        return unit(mixed(self.normals, self.vertices[hits.triangle], hits.shares))

    def value(self, name: str, hits: Hits) -> F32:
        """One of a mesh's values at hits, (k, c) float32; blank where a mesh has none."""
        tables = [
            np.asarray(mesh.value(name), np.float32).reshape(mesh.n_vertices, -1) for mesh in self.meshes
        ]
        return mixed(np.concatenate(tables), self.vertices[hits.triangle], hits.shares)

    def along(self, origins: F32, ways: F32, far: AnyArray) -> Hits:
        """What rays (k, 3) meet first, at most so far (k,) away."""
        k = len(origins)
        found, triangle, shares = np.zeros(k, bool), np.zeros(k, np.int32), np.zeros((k, 3), np.float32)
        for first in range(0, k, CHUNK):
            rows = slice(first, first + CHUNK)
            met = self.scene.run(
                np.ascontiguousarray(origins[rows], np.float32), np.ascontiguousarray(ways[rows], np.float32),
                dists=np.ascontiguousarray(far[rows], np.float32), output=True,
            )  # fmt: skip
            hit = met["primID"] >= 0
            found[rows] = hit
            triangle[rows] = np.where(hit, met["primID"], 0)
            u, v = met["u"], met["v"]
            shares[rows] = np.where(hit[:, None], np.stack([1 - u - v, u, v], axis=1), [1, 0, 0])
        return Hits(found, triangle, shares)

    def nearest(self, places: F32, reach: float) -> Hits:
        """The nearest places to others (k, 3), within a reach."""
        if self._tree is None:
            faces = np.pad(self.vertices, ((0, 0), (0, 1)), constant_values=-1).astype(np.int32)
            self._tree = FaceTree.over(self.positions, faces)
        found, far = self._tree.nearest(places, np.full(len(places), reach, np.float32), Progress())
        hit = np.isfinite(far) & (found.faces >= 0)
        return Hits(hit, np.where(hit, found.faces, 0).astype(np.int32), found.shares.astype(np.float32))

    def is_covered(self, origins: F32, ways: F32, far: float) -> AnyArray:
        """Which rays (k, 3) meet anything within a distance, (k,) bool."""
        out = np.zeros(len(origins), bool)
        for first in range(0, len(origins), CHUNK):
            rows = slice(first, first + CHUNK)
            n = len(origins[rows])
            met = self.scene.run(
                origins[rows], ways[rows], dists=np.full(n, far, np.float32), query="OCCLUDED"
            )
            out[rows] = met != -1 if met.dtype.kind == "i" else met > 0
        return out


@dataclass(frozen=True)
class Cage:
    """How far from the low mesh the high clay is looked for.

    Attributes
    ----------
    ahead, behind : float
        In millimetres of the part: outwards, and inwards.
    by_mask : float
        How much farther outwards, as a share, where the low mesh is masked.
    """

    ahead: float
    behind: float
    by_mask: float = 0.0


def by_rays(low: Low, spots: Spots, high: High, cage: Cage) -> Hits:
    """What the high clay has for texels: the first that is met on the way in, from outside."""
    up = spots.up
    ahead = np.full(len(spots.x), cage.ahead, np.float32)
    if cage.by_mask and low.mesh.mask is not None:
        ahead *= (
            1 + cage.by_mask * mixed(low.mesh.mask[:, None], low.vertices[spots.triangle], spots.shares)[:, 0]
        )
    origins = (spots.place + ahead[:, None] * up).astype(np.float32)
    return high.along(origins, -up, ahead + np.float32(cage.behind))


def by_uv(high: High, size: int, first: int, last: int, tile: tuple[int, int], spots: Spots) -> Hits:
    """The same where the high clay is the low mesh's own, on a finer level: its UVs tell."""
    (mesh,) = high.meshes
    assert mesh.uv is not None
    owner, corners = triangles_of(mesh.topology.faces)
    at = in_texels(corner_places(mesh.uv, owner, corners), size, size, tile)
    triangle, _ = filled_rows(at, size, first, last)
    number = triangle[spots.y - first, spots.x]
    found = number >= 0
    shares = shares_at(at, np.where(found, number, 0).astype(np.int32), spots.x, spots.y)
    return Hits(found, np.where(found, number, 0).astype(np.int32), shares)


def deviation(low: Mesh, high: High, progress: Progress) -> float:
    """How far the high clay lies from the low mesh at most, but for a few: what a cage needs."""
    progress.report(0.0, "Measuring")
    few = high.positions[:: max(len(high.positions) // 20_000, 1)]
    _, far = FaceTree.of(low).nearest(few, np.full(len(few), np.inf, np.float32), Progress())
    low_corner, high_corner = low.bounds()
    size = float(np.linalg.norm(high_corner - low_corner))
    known: F64 = far[np.isfinite(far)].astype(np.float64)
    return max(float(np.quantile(known, 0.995)) if len(known) else 0.0, 1e-3 * size)
