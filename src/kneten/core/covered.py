"""How much of the sky nearby clay covers: what dirt stays in, where light does not come.

Looked at from many directions all round: a place is open towards those from which it is the foremost. Each counts by how
steeply it is met, so that the share is that of evenly spread light (Zhukov, Iones and Kronin, "An ambient light
illumination model", 1998).
"""

from __future__ import annotations

import threading

import numpy as np
from scipy.ndimage import minimum_filter

from kneten.core.arrays import F32, F64, I32, Progress, in_parts, kernel
from kneten.core.mesh import Mesh
from kneten.core.remesh import triangulate

WAYS = 48
"""Directions."""

SIDE = 512
"""Pixels of a view along each side."""

SLACK = 1.5
"""Pixels by which something must lie before a place to cover it."""


def _ways() -> F64:
    """Directions spread evenly over a ball, (WAYS, 3), along a spiral."""
    k = np.arange(WAYS) + 0.5
    z = 1 - 2 * k / WAYS
    turn = np.pi * (1 + 5**0.5) * k
    flat = np.sqrt(1 - z * z)
    return np.stack([flat * np.cos(turn), flat * np.sin(turn), z], axis=1)


@kernel
def _see(positions: F32, middle: F64, axes: F64, pixel: float, at: F32) -> None:
    """Where vertices are in a view: pixels right and down, and pixels towards the eye."""
    for v in range(positions.shape[0]):
        x = positions[v, 0] - middle[0]
        y = positions[v, 1] - middle[1]
        z = positions[v, 2] - middle[2]
        at[v, 0] = (x * axes[0, 0] + y * axes[0, 1] + z * axes[0, 2]) / pixel + SIDE / 2 - 0.5
        at[v, 1] = SIDE / 2 - 0.5 - (x * axes[1, 0] + y * axes[1, 1] + z * axes[1, 2]) / pixel
        at[v, 2] = (x * axes[2, 0] + y * axes[2, 1] + z * axes[2, 2]) / pixel


@kernel
def _draw(at: F32, triangles: I32, near: F32) -> None:
    """How near what faces the eye is at each pixel."""
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ax, ay, bx, by, cx, cy = at[a, 0], at[a, 1], at[b, 0], at[b, 1], at[c, 0], at[c, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        # What faces away has its corners the other way round.
        if area >= 0.0:
            continue
        left = int(np.ceil(min(ax, bx, cx)))
        right = int(np.floor(max(ax, bx, cx)))
        if left > right:
            continue
        top = int(np.ceil(min(ay, by, cy)))
        low = int(np.floor(max(ay, by, cy)))
        for i in range(max(top, 0), min(low, SIDE - 1) + 1):
            for j in range(max(left, 0), min(right, SIDE - 1) + 1):
                u = ((bx - j) * (cy - i) - (by - i) * (cx - j)) / area
                v = ((cx - j) * (ay - i) - (cy - i) * (ax - j)) / area
                w = 1.0 - u - v
                if u < -1e-4 or v < -1e-4 or w < -1e-4:
                    continue
                z = u * at[a, 2] + v * at[b, 2] + w * at[c, 2]
                near[i, j] = max(near[i, j], z)


@kernel
def _count(at: F32, near: F32, normals: F32, way: F64, lit: F32, whole: F32) -> None:
    """Add how steeply each vertex is met: to `lit` where nothing lies before it, to `whole` anyway."""
    for v in range(at.shape[0]):
        weight = normals[v, 0] * way[0] + normals[v, 1] * way[1] + normals[v, 2] * way[2]
        if weight <= 0.0:
            continue
        whole[v] += weight
        i = min(max(int(np.rint(at[v, 1])), 0), SIDE - 1)
        j = min(max(int(np.rint(at[v, 0])), 0), SIDE - 1)
        if at[v, 2] >= near[i, j] - SLACK:
            lit[v] += weight


def covered(mesh: Mesh, progress: Progress) -> F32:
    """The share of the sky that the mesh itself covers, (n,) from 0 to 1, for each vertex.

    Raises `Cancelled` through `progress`.
    """
    low, high = (corner.astype(np.float64) for corner in mesh.bounds())
    middle = (low + high) / 2
    pixel = 2 * max(float(np.linalg.norm(high - low)) / 2, 1e-9) / (SIDE - 2)
    positions, normals = mesh.positions[: mesh.n_vertices], mesh.normals[: mesh.n_vertices]
    faces = mesh.topology.faces
    if mesh.hidden is not None:
        faces = faces[mesh.hidden == 0]
    triangles = np.ascontiguousarray(triangulate(faces), np.int32)
    ways, lock, done = _ways(), threading.Lock(), [0]
    total = [np.zeros(len(positions), np.float32), np.zeros(len(positions), np.float32)]

    def look(first: int, last: int) -> None:
        lit, whole = (np.zeros(len(positions), np.float32) for _ in range(2))
        at = np.empty((len(positions), 3), np.float32)
        for way in ways[first:last]:
            across = np.cross(way, [0.0, 1.0, 0.0] if abs(way[1]) < 0.9 else [1.0, 0.0, 0.0])
            across /= np.linalg.norm(across)
            _see(positions, middle, np.stack([across, np.cross(way, across), way]), pixel, at)
            near = np.full((SIDE, SIDE), -np.inf, np.float32)
            _draw(at, triangles, near)
            # The farthest of the pixels around: on a slope a vertex lies deeper than the middle of its pixel.
            near = minimum_filter(np.where(np.isfinite(near), near, np.inf), 3, mode="nearest")
            _count(at, near.astype(np.float32), normals, way, lit, whole)
            with lock:
                done[0] += 1
                progress.report(done[0] / WAYS, "Looking at what is covered")
        with lock:
            total[0] += lit
            total[1] += whole

    in_parts(WAYS, look, 1)
    return np.asarray(1 - total[0] / np.maximum(total[1], np.float32(1e-9)), np.float32)
