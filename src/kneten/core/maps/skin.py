"""A skin to paint on: clay with a vertex for every texel of a picture, where the texel lies on a mesh.

Whatever paints clay paints pictures so: tools, layers, presses, limits and casts know nothing of it, and seams are none,
since texels of two islands that meet on the clay lie side by side there.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, I32, AnyArray
from kneten.core.maps.surfaces import High
from kneten.core.mesh import Mesh
from kneten.core.pieces import concatenated
from kneten.core.topology import MeshError
from kneten.core.uv.measure import tiles_of
from kneten.core.uv.raster import corner_places, filled_rows, in_texels, shares_at, triangles_of

STEPS = ((0, -1), (0, 1), (-1, 0), (1, 0), (-1, -1), (-1, 1), (1, -1), (1, 1))


def skin_of(high: High, size: int) -> Mesh:
    """Clay of the texels of all tiles: where the fine clay is, painted as it is.

    Parameters
    ----------
    high : High
        One mesh, with UVs: the low one itself, or its finest level.

    Returns
    -------
    Mesh
        Its UVs say which texel each vertex is: the middle of it.

    Raises
    ------
    MeshError
        Where nothing lies on any tile, or islands are smaller than texels.
    """
    (mesh,) = high.meshes
    assert mesh.uv is not None
    tiles = tiles_of(mesh.uv)
    if not tiles:
        raise MeshError("nothing of it lies on a tile")
    return concatenated([_of_tile(high, size, tile) for tile in tiles])


def _of_tile(high: High, size: int, tile: tuple[int, int]) -> Mesh:
    (mesh,) = high.meshes
    at = in_texels(high_uv(mesh), size, size, tile)
    number_of, x, y = _grown(at, size)
    shares = shares_at(at, number_of, x, y)
    rows = high.vertices[number_of]
    places = np.einsum("kc,kcd->kd", shares, mesh.positions[rows].astype(np.float32))
    number = np.full((size + 1, size + 1), -1, np.int32)
    number[y, x] = np.arange(len(x), dtype=np.int32)
    a, b, c, d = number[:-1, :-1], number[1:, :-1], number[1:, 1:], number[:-1, 1:]
    whole = (a >= 0) & (b >= 0) & (c >= 0) & (d >= 0)
    faces = np.stack([a[whole], b[whole], c[whole], d[whole]], axis=1)
    # Only what lies beside each other on the clay, too, is joined: islands may touch in the picture.
    faces = faces[_near(places, faces)]
    if not len(faces):
        raise MeshError("its islands are smaller than the texels of such a picture: choose a larger one")
    used = np.unique(faces)
    names = np.full(len(places), -1, np.int32)
    names[used] = np.arange(len(used), dtype=np.int32)
    own = np.stack([(x + 0.5) / size + tile[0], 1 - (y + 0.5) / size + tile[1]], axis=1)
    uv = own[faces].reshape(-1, 8).astype(np.float32)
    values = {}
    inside = np.clip(shares, 0, 1)
    inside /= inside.sum(axis=1, keepdims=True)
    for name in ("colour", "material"):
        table: AnyArray | None = getattr(mesh, name)
        if table is not None:
            mean = np.einsum("kc,kcd->kd", inside[used], table[rows[used]].astype(np.float32))
            values[name] = np.rint(mean).astype(np.uint8)
    return Mesh.from_faces(places[used], names[faces], uv=uv, **values)


def high_uv(mesh: Mesh) -> F32:
    """The places of the corners of a mesh's triangles, (t, 3, 2)."""
    assert mesh.uv is not None
    owner, corners = triangles_of(mesh.topology.faces)
    return corner_places(mesh.uv, owner, corners)


def _grown(at: AnyArray, size: int) -> tuple[I32, I32, I32]:
    """The texels that clay covers, and one more around, so that both sides of a seam meet: triangle, column and row, (k,) each."""
    triangle, _ = filled_rows(at, size, 0, size)
    grown = triangle.copy()
    for dy, dx in STEPS:
        from_y, to_y = slice(max(dy, 0), size + min(dy, 0)), slice(max(-dy, 0), size + min(-dy, 0))
        from_x, to_x = slice(max(dx, 0), size + min(dx, 0)), slice(max(-dx, 0), size + min(-dx, 0))
        there, here = triangle[from_y, from_x], grown[to_y, to_x]
        grown[to_y, to_x] = np.where((here < 0) & (there >= 0), there, here)
    inside = np.nonzero(grown >= 0)
    number: I32 = grown[inside]
    y: I32 = inside[0].astype(np.int32)
    x: I32 = inside[1].astype(np.int32)
    return number, x, y


def _near(places: F32, faces: I32) -> AnyArray:
    """Which faces (f, 4) are not much longer than most: the others would bridge two islands."""
    p = places[faces]
    long = np.linalg.norm(p - np.roll(p, -1, axis=1), axis=2).max(axis=1)
    return np.asarray(long < 8 * max(float(np.median(long)), 1e-30)) if len(faces) else np.zeros(0, bool)


def texels_of(mesh: Mesh, size: int) -> tuple[I32, I32]:
    """Which texel each vertex of a skin is: columns and rows, (n,) each."""
    assert mesh.uv is not None
    table = mesh.uv.reshape(-1, 4, 2)
    x, y = np.full(mesh.n_vertices, -1, np.int32), np.full(mesh.n_vertices, -1, np.int32)
    faces = mesh.topology.faces
    for c in range(4):
        has = faces[:, c] >= 0
        x[faces[has, c]] = np.clip(np.floor(table[has, c, 0] % 1 * size), 0, size - 1)
        y[faces[has, c]] = np.clip(np.floor((1 - table[has, c, 1] % 1) * size), 0, size - 1)
    return x, y


def tile_of_texels(mesh: Mesh) -> I32:
    """The tile that each vertex of a skin lies on, (n, 2)."""
    assert mesh.uv is not None
    table, faces = mesh.uv.reshape(-1, 4, 2), mesh.topology.faces
    out = np.zeros((mesh.n_vertices, 2), np.int32)
    for c in range(4):
        has = faces[:, c] >= 0
        out[faces[has, c]] = np.floor(table[has, c]).astype(np.int32)
    return out


def painted(mesh: Mesh, size: int, name: str, tile: tuple[int, int] = (0, 0)) -> tuple[AnyArray, AnyArray]:
    """A skin's colour or material on a tile as a picture, (size, size, 4) uint8, and which texels it has, (size, size) bool."""
    x, y = texels_of(mesh, size)
    picture = np.zeros((size, size, 4), np.uint8)
    there = np.zeros((size, size), bool)
    known = (x >= 0) & (tile_of_texels(mesh) == tile).all(axis=1)
    picture[y[known], x[known]] = mesh.value(name)[known]
    there[y[known], x[known]] = True
    return picture, there
