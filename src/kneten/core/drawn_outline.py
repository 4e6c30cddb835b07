"""An outline drawn over the picture: what of the clay lies within it, and the rays that cut along it."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np

from kneten.core.arrays import F32, F64, AnyArray
from kneten.core.camera import Camera
from kneten.core.live.curves import lengths_along
from kneten.core.mesh import Mesh
from kneten.core.pieces import inside
from kneten.core.solid import Outline
from kneten.core.transform import Transform
from kneten.core.twin_places import Twin


def within(
    mesh: Mesh,
    place: Transform,
    outline: F64,
    camera: Camera,
    size: tuple[float, float],
    twins: Sequence[Twin],
    front: bool,
) -> AnyArray:
    """Vertices (n,) bool that lie within an outline, or within one of its likes.

    Parameters
    ----------
    place : Transform
        Of the part.
    outline : (k, 2) float64
        Closed, in pixels of a picture.
    size : two floats
        Of the picture, pixels.
    twins : sequence of Twin
        Where the outline has its likes, in the part's space, itself among them.
    front : bool
        Only what faces the camera, or its like.
    """
    chosen = np.zeros(mesh.n_vertices, bool)
    eye = place.to_part(camera.eye()[None])[0]
    positions = mesh.positions.astype(np.float64)
    low, top = outline.min(axis=0), outline.max(axis=0)
    for twin in twins:
        # Where the clay would be seen if the camera and the outline were the twin's.
        back = np.linalg.inv(twin.linear)
        there = (positions - twin.shift) @ back.T
        at = camera.project(place.to_scene(there), *size)
        near = ((at[:, :2] >= low) & (at[:, :2] <= top)).all(axis=1) & (at[:, 2] > 0)
        index = np.flatnonzero(near)
        index = index[inside(outline, at[index, :2])]
        if front:
            facing = mesh.normals[index].astype(np.float64) @ twin.linear
            index = index[np.einsum("ij,ij->i", eye - there[index], facing) > 0]
        chosen[index] = True
    return chosen


def rays(
    outline: F64, camera: Camera, size: tuple[float, float], place: Transform, box: tuple[F32, F32] | tuple[F64, F64],
    edge: float, square: bool = False,
) -> Outline:  # fmt: skip
    """An outline in pixels as rays through a part, in the part's space, as dense as the clay's edges.

    The rays end where the part's box does, a little before and behind it.

    Parameters
    ----------
    outline : (k, 2) float64
        Closed, in pixels of a picture of a size.
    box : two of (3,)
        The corners of the part's box in the scene.
    edge : float
        In the part's space.
    square : bool
        They run square to the picture, as seen in the depth of the part's middle; otherwise from the eye.
    """
    wide, high = size
    low, high_corner = box
    middle = (np.asarray(low, np.float64) + high_corner) / 2
    reach = float(np.linalg.norm(np.asarray(high_corner, np.float64) - low)) / 2
    back = camera.axes()[2]
    depth = float((camera.eye() - middle) @ back)
    near, far = depth - reach * 1.05, depth + reach * 1.05
    if not camera.orthographic and not square:
        near = max(near, min(depth, camera.distance) * 1e-3)
    pixel = camera.pixel_size(middle, high)
    step = max(edge * place.scale / pixel, 1.0)
    corners = np.array(list(itertools.product(*zip(low, high_corner, strict=True))))
    dense = _dense(outline, step, *_seen(corners, camera, size, depth < reach or square, step))
    lines = [camera.ray(float(x), float(y), wide, high) for x, y in dense]
    origin = np.array([o for o, _ in lines])
    way = np.array([w for _, w in lines])
    # Along the ray until a plane before the camera at that depth.
    slope = -(way @ back)
    start_depth = (camera.eye() - origin) @ back
    if square:
        at = origin + way * ((depth - start_depth) / slope)[:, None]
        first, last = at + back * (depth - near), at - back * (far - depth)
    else:
        first = origin + way * ((near - start_depth) / slope)[:, None]
        last = origin + way * ((far - start_depth) / slope)[:, None]
    depths = (camera.eye() - corners) @ back
    span = np.clip((np.array([depths.min(), depths.max()]) - near) / (far - near), 0.0, 1.0)
    room = 0.01 * (span[1] - span[0])
    return Outline(
        place.to_part(first),
        place.to_part(last),
        (max(float(span[0]) - room, 0.0), min(float(span[1]) + room, 1.0)),
    )


def _seen(
    corners: F64, camera: Camera, size: tuple[float, float], everywhere: bool, step: float
) -> tuple[F64, F64]:
    """Between which pixels there may be clay: elsewhere nothing is cut, and an outline need not be dense."""
    if not camera.orthographic and everywhere:
        # The camera is among the clay, or what is cut lies otherwise than it is seen.
        return np.full(2, -1e9), np.full(2, 1e9)
    seen = camera.project(corners, *size)[:, :2]
    return seen.min(axis=0) - 4 * step, seen.max(axis=0) + 4 * step


def _dense(outline: F64, step: float, low: F64, high: F64) -> F64:
    """A closed outline with places at every step between two corners of the picture, (m, 2)."""
    along = lengths_along(outline, True)
    whole = np.concatenate([outline, outline[:1]])
    places = [along[:-1]]
    for (a, b), start in zip(itertools.pairwise(whole), along[:-1], strict=True):
        length = float(np.linalg.norm(b - a))
        count = int(length // step)
        if count:
            t = np.arange(1, count + 1) / (count + 1)
            spots = a + (b - a) * t[:, None]
            near_clay = ((spots > low) & (spots < high)).all(axis=1)
            places.append(start + t[near_clay] * length)
    at = np.unique(np.concatenate(places))
    return np.stack([np.interp(at, along, whole[:, k]) for k in range(2)], -1)
