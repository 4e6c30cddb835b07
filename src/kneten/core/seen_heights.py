"""The heights of clay as it is seen square to a picture: what a press is made of."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, AnyArray, kernel
from kneten.core.mesh import Mesh
from kneten.core.remesh import triangulate

RIM = 0.06
"""Share of the frame's sides about its edge that the base plane is laid through."""


@kernel
def _rasterise(places: F64, values: F32, triangles: I32, hidden: AnyArray, near: F64, shown: F64) -> None:
    """Draw triangles at pixel places (n, 3), x right, y down, z towards the eye, over what lies deeper."""
    rows = near.shape[0]
    columns = near.shape[1]
    for t in range(triangles.shape[0]):
        if hidden.shape[0] > 0 and hidden[t] != 0:
            continue
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ax, ay = places[a, 0], places[a, 1]
        bx, by = places[b, 0], places[b, 1]
        cx, cy = places[c, 0], places[c, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        # What faces away has its corners the other way round.
        if area >= 0.0:
            continue
        left = max(int(np.ceil(min(ax, bx, cx))), 0)
        right = min(int(np.floor(max(ax, bx, cx))), columns - 1)
        top = max(int(np.ceil(min(ay, by, cy))), 0)
        low = min(int(np.floor(max(ay, by, cy))), rows - 1)
        for i in range(top, low + 1):
            for j in range(left, right + 1):
                u = ((bx - j) * (cy - i) - (by - i) * (cx - j)) / area
                v = ((cx - j) * (ay - i) - (cy - i) * (ax - j)) / area
                w = 1.0 - u - v
                if u < -1e-9 or v < -1e-9 or w < -1e-9:
                    continue
                z = u * places[a, 2] + v * places[b, 2] + w * places[c, 2]
                if z > near[i, j]:
                    near[i, j] = z
                    shown[i, j] = u * values[a] + v * values[b] + w * values[c]


def rasterise(mesh: Mesh, pixels: F64, size: tuple[int, int], mirrored: bool) -> tuple[F64, F64]:
    """How near the mesh is to the eye at each pixel, (rows, columns), -inf beside it; and how far it is masked there.

    Parameters
    ----------
    pixels : (n, 3) float64
        Where its vertices are: x right, y down, z towards the eye.
    size : two ints
        Rows and columns.
    mirrored : bool
        Its faces run round the other way.
    """
    near, shown = np.full(size, -np.inf), np.zeros(size)
    _rasterise_on(mesh, pixels, mirrored, near, shown)
    return near, shown


def _rasterise_on(mesh: Mesh, pixels: F64, mirrored: bool, near: F64, shown: F64) -> None:
    faces = mesh.topology.faces
    triangles = triangulate(faces)
    hidden = np.zeros(0, np.uint8)
    if mesh.hidden is not None and mesh.hidden.any():
        # A quad's second triangle comes after all first ones.
        hidden = np.concatenate([mesh.hidden, mesh.hidden[faces[:, 3] >= 0]])
        if len(hidden) != len(triangles):
            hidden = np.zeros(0, np.uint8)
    if mirrored:
        triangles = triangles[:, ::-1]
    values = np.zeros(mesh.n_vertices, np.float32) if mesh.mask is None else mesh.mask
    _rasterise(pixels, values, np.ascontiguousarray(triangles, np.int32), hidden, near, shown)


def heights_seen(
    pieces: list[tuple[Mesh, F64]], middle: F64, axes: F64, size: tuple[float, float], wide: int
) -> tuple[F64, F64]:
    """How high clay stands in a frame, towards the eye, and how far it is masked there, (rows, wide) each.

    Parameters
    ----------
    pieces : list of mesh and (4, 4) float64
        Clay, and what brings it into the scene.
    middle, axes : (3,) and (3, 3) float64
        Of the frame; its right, its top and the way to the eye, unit.
    size : two floats
        Its width and height in millimetres.
    wide : int
        Pixels across.

    Returns
    -------
    (rows, wide) float64, (rows, wide) float64
        Millimetres from the middle, -inf where there is no clay; and masks, 0 to 1.
    """
    rows = max(round(wide * size[1] / size[0]), 2)
    near, shown = np.full((rows, wide), -np.inf), np.zeros((rows, wide))
    for mesh, matrix in pieces:
        at = (mesh.positions @ matrix[:3, :3].T + matrix[:3, 3] - middle) @ axes.T
        at[:, 0] = (at[:, 0] / size[0] + 0.5) * wide - 0.5
        at[:, 1] = (0.5 - at[:, 1] / size[1]) * rows - 0.5
        _rasterise_on(mesh, at, bool(np.linalg.det(matrix[:3, :3]) < 0), near, shown)
    return near, shown


def over_base(near: F64) -> tuple[F32, float]:
    """Heights (h, w) over their own base plane, which goes through what lies about their edge; and the share that is clay.

    Where there is no clay they lie in that plane.
    """
    there = np.isfinite(near)
    share = float(there.mean())
    if share == 0:
        return np.zeros(near.shape, np.float32), 0.0
    rows, columns = near.shape
    y, x = np.mgrid[0:rows, 0:columns]
    edge = np.minimum(np.minimum(x, columns - 1 - x) / columns, np.minimum(y, rows - 1 - y) / rows)
    rim = there & (edge < RIM)
    if rim.sum() < 16:
        rim = there & (near <= np.quantile(near[there], 0.2))
    on = np.stack([x[rim] / columns, y[rim] / rows, np.ones(int(rim.sum()))], -1)
    plane, *_ = np.linalg.lstsq(on, near[rim], rcond=None)
    base = plane[0] * x / columns + plane[1] * y / rows + plane[2]
    return np.where(there, near - base, 0.0).astype(np.float32), share
