"""The middle lines of a body: where the clay is thickest around, as a tree of paths from its trunk to its ends.

The clay is filled with a grid of places. Going from one to the next costs the more the nearer the clay's surface is, so
that the cheapest ways run in the middle of limbs. From the thickest place the ways to the farthest ends are taken one
after the other; what lies around a way is spoken for by it, and what begins there is a branch (Sato, Bitter, Bender,
Kaufman and Nakajima, "TEASAR: Tree-structure extraction algorithm for accurate and robust skeletons", 2000).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy import ndimage, sparse
from scipy.sparse.csgraph import dijkstra
from scipy.spatial import cKDTree

from kneten.core.arrays import F64, I32, AnyArray, Progress
from kneten.core.mesh import Mesh
from kneten.core.remesh import soup_of
from kneten.core.voxels import fill_grid

LINES = 176
"""Grid lines along the longest side of a body."""

MOST_PLACES = 200_000
"""Places within a body at most; a bulky one gets a coarser grid."""

AROUND = 1.35
"""Times as far as the surface is from a way's places, within which clay is spoken for by it."""

MOST_ENDS = 60

STICKS_OUT = 1.0
"""Times the thickness where it begins, that a branch must be longer than that."""


class HollowError(ValueError):
    """Clay that has no inside to find middles in."""


@dataclass(frozen=True, eq=False)
class Branch:
    """A way from an end of the body to where it meets another way, or the trunk's middle.

    Attributes
    ----------
    points : (k, 3) float64
        From the end inwards, evenly spaced and smooth, mm.
    radii : (k,) float64
        How far the surface is there, mm.
    """

    points: F64
    radii: F64

    @cached_property
    def along(self) -> F64:
        """How far each place is from the end along the way, (k,), mm."""
        steps = np.linalg.norm(np.diff(self.points, axis=0), axis=1)
        return np.concatenate([[0.0], np.cumsum(steps)])

    @property
    def length(self) -> float:
        """Mm."""
        return float(self.along[-1])

    def at(self, distances: float | F64) -> F64:
        """Places (k, 3), or one (3,), at distances (k,) from the end, mm."""
        return np.stack([np.interp(distances, self.along, self.points[:, k]) for k in range(3)], axis=-1)

    def radius(self, distances: float | F64) -> F64:
        """Thickness (k,) at distances (k,) from the end, mm."""
        return np.asarray(np.interp(distances, self.along, self.radii))


@dataclass(frozen=True, eq=False)
class Inside:
    """What a body is filled with: places on a grid, and the ways between them.

    Attributes
    ----------
    places : (n, 3) float64
        Mm, in the part's axes.
    depth : (n,) float64
        How far the surface is, mm.
    ways : (n, n) sparse
        What it costs to go from each place to those next to it.
    step : float
        Between two places, mm.
    """

    places: F64
    depth: F64
    ways: sparse.csr_matrix
    step: float

    @cached_property
    def tree(self) -> cKDTree:
        """The places, to find near ones."""
        return cKDTree(self.places)

    @cached_property
    def size(self) -> float:
        """Mm from one corner of the body's box to the opposite one."""
        return float(np.linalg.norm(np.ptp(self.places, axis=0)))

    def nearest(self, place: F64 | Sequence[float]) -> int:
        """The place within that is nearest to another (3,)."""
        return int(self.tree.query(np.asarray(place, np.float64))[1])

    def cheapest(self, start: int) -> tuple[F64, I32]:
        """What each place costs to reach from one, and from where it is reached, both (n,)."""
        cost, before = dijkstra(self.ways, indices=start, return_predecessors=True)
        return np.asarray(cost), np.asarray(before, np.int32)

    def way(self, before: I32, end: int) -> I32:
        """The places from an end back to where `before` begins, (k,)."""
        found = [end]
        while before[found[-1]] >= 0:
            found.append(int(before[found[-1]]))
        return np.array(found, np.int32)

    def branch(self, way: I32) -> Branch:
        """A way (k,) as a smooth line with its thickness."""
        points = self.places[way]
        if len(points) > 3:
            # Steps of the grid are no bends: about the width of the limb is evened out.
            wide = max(0.7 * float(np.median(self.depth[way])) / self.step, 1.0)
            smooth = ndimage.gaussian_filter1d(points, wide, axis=0, mode="nearest")
            # Ends stay where they are.
            at = np.arange(len(points))
            points = (
                points + (smooth - points) * np.clip(np.minimum(at, at[::-1]) / (2 * wide), 0, 1)[:, None]
            )
        steps = np.linalg.norm(np.diff(points, axis=0), axis=1)
        along = np.concatenate([[0.0], np.cumsum(steps)])
        count = max(int(along[-1] / (0.5 * self.step)), 2)
        even = np.linspace(0.0, along[-1], count)
        points = np.stack([np.interp(even, along, points[:, k]) for k in range(3)], axis=1)
        return Branch(points, np.asarray(self.depth[self.tree.query(points)[1]]))


def filled(meshes: Sequence[Mesh], progress: Progress | None = None) -> Inside:
    """The inside of clay that shares a space; the largest piece that hangs together.

    Raises
    ------
    HollowError
        Where nothing encloses anything.
    """
    progress = progress or Progress()
    soup = soup_of(list(meshes))
    low, high = soup.positions.min(axis=0).astype(np.float64), soup.positions.max(axis=0).astype(np.float64)
    step = float((high - low).max()) / LINES
    if step <= 0:
        raise HollowError("it has no size")
    while True:
        start = low - 2.37 * step
        nx, ny, nz = (int(n) for n in np.ceil((high - low) / step) + 6)
        flags = fill_grid(
            soup.positions, soup.normals, soup.triangles, start, step, (nx, ny, nz), (False,) * 3, progress
        )
        marks, count = ndimage.label(flags)
        if not count:
            raise HollowError("nothing of it encloses anything: it is a sheet, or has holes")
        solid = marks == 1 + int(np.argmax(np.bincount(marks.ravel())[1:]))
        inside = int(solid.sum())
        if inside <= MOST_PLACES:
            break
        step *= float(np.cbrt(inside / MOST_PLACES)) * 1.02
    progress.report(0.6, "Finding the middles")
    if inside < 50:
        raise HollowError("it is too thin to have middles")
    depth = ndimage.distance_transform_edt(solid) * step
    number = np.full(solid.shape, -1, np.int32)
    at = np.argwhere(solid)
    number[solid] = np.arange(len(at), dtype=np.int32)
    deep = depth[solid]
    return Inside(start + step * at, deep, _ways(number, deep, step), step)


def _ways(number: AnyArray, deep: F64, step: float) -> sparse.csr_matrix:
    """What it costs to go from one place of a grid to the next: how far over how deep, squared."""
    rows, columns, costs = [], [], []
    for i, j, k in np.ndindex(3, 3, 3):
        shift = np.array([i, j, k]) - 1
        if tuple(shift) <= (0, 0, 0):
            continue
        first = tuple(slice(max(-s, 0), n - max(s, 0)) for s, n in zip(shift, number.shape, strict=True))
        second = tuple(slice(max(s, 0), n - max(-s, 0)) for s, n in zip(shift, number.shape, strict=True))
        a, b = number[first].ravel(), number[second].ravel()
        both = (a >= 0) & (b >= 0)
        a, b = a[both], b[both]
        rows.append(a)
        columns.append(b)
        between = 0.5 * (deep[a] + deep[b])
        costs.append(step * float(np.linalg.norm(shift)) / between**2)
    r, c, v = np.concatenate(rows), np.concatenate(columns), np.concatenate(costs)
    half = sparse.coo_matrix((v, (r, c)), shape=(len(deep), len(deep)))
    return (half + half.T).tocsr()


def far_ends(inside: Inside, start: int, most: int = MOST_ENDS) -> list[I32]:
    """Ways from the ends of a body to a place within, the longest first; each ends where it meets one before it.

    Parameters
    ----------
    start : int
        A place within, as `Inside.nearest` tells.

    Returns
    -------
    list of (k,) int32
        Places from an end inwards.
    """
    _, before = inside.cheapest(start)
    straight = _straight(inside, start)
    free = np.ones(len(inside.places), bool)
    on_way = np.zeros(len(inside.places), bool)
    on_way[start] = True
    _speak_for(inside, np.array([start], np.int32), free)
    found: list[I32] = []
    while len(found) < most and free.any():
        left = np.flatnonzero(free)
        end = int(left[np.argmax(straight[left])])
        whole = inside.way(before, end)
        meets = int(np.argmax(on_way[whole]))
        way = whole[: meets + 1]
        _speak_for(inside, way, free)
        free[end] = False
        long = float(np.linalg.norm(np.diff(inside.places[way], axis=0), axis=1).sum())
        if long > (1.0 + STICKS_OUT) * inside.depth[way[-1]] * 0.5 + 4 * inside.step and _sticks_out(
            inside, way
        ):
            found.append(way)
            on_way[way] = True
    return found


def _straight(inside: Inside, start: int) -> F64:
    """How far each place is from one through the clay, (n,), mm."""
    ways = inside.ways.copy()
    rows = np.repeat(np.arange(len(inside.places)), np.diff(ways.indptr))
    ways.data = np.linalg.norm(inside.places[rows] - inside.places[ways.indices], axis=1)
    return np.asarray(dijkstra(ways, indices=start))


def _sticks_out(inside: Inside, way: I32) -> bool:
    """Whether a way leaves the ball of clay around where it begins."""
    off = float(np.linalg.norm(inside.places[way[0]] - inside.places[way[-1]]))
    return off > (1.0 + STICKS_OUT * 0.15) * float(inside.depth[way[-1]])


def _speak_for(inside: Inside, way: I32, free: AnyArray) -> None:
    """Mark what lies around a way."""
    last = np.inf
    for at in way:
        last += inside.step
        # Balls that overlap by most of their size leave nothing out between them.
        if last > 0.3 * inside.depth[at]:
            near = inside.tree.query_ball_point(
                inside.places[at], AROUND * inside.depth[at] + 1.5 * inside.step
            )
            free[near] = False
            last = 0.0
