"""Where a limb begins: the narrowest way round it near a place, what lies beyond, and its middle line.

The cut is the shortest closed line in which a plane through the place meets the clay; it slides along the limb to where
that is narrowest nearby. What it parts from the body is the limb. Distances over its surface give each vertex a first
station; the middles of what is equally far make the line; then each vertex takes the place on the line that is nearest to
it, so that the clay is cut square all along.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter1d

from kneten.core.arrays import F32, F64, I32, U8, Progress, in_parts, inlined, kernel
from kneten.core.geodesic import Geodesics
from kneten.core.mesh import Mesh
from kneten.core.pose.chain import REACH, Hinge, Limb

DIRECTIONS = 160
"""Planes that are tried through a place, before the best is turned further."""

SLIDE = 0.7
"""Radii that a cut slides along the limb to where it is narrower."""

LINE_STEPS = 160
"""Places of a limb's line."""


class LimbError(ValueError):
    """There is no limb at a place. The text says why, and what to do."""


@dataclass(frozen=True, eq=False)
class Cut:
    """A closed line round a limb.

    Attributes
    ----------
    points : (k, 3) float64
        Its places, in order.
    edges : (k, 2) int32
        The edge on which each lies: the vertex behind the plane first.
    middle : (3,) float64
    normal : (3,) float64
        Square to its plane.
    length : float
    """

    points: F64
    edges: I32
    middle: F64
    normal: F64
    length: float

    @property
    def radius(self) -> float:
        """How far it lies from its middle, in the mean."""
        return float(np.linalg.norm(self.points - self.middle, axis=1).mean())


@inlined
def _side(positions: F32, v: int, px: float, py: float, pz: float, nx: float, ny: float, nz: float) -> float:
    return (positions[v, 0] - px) * nx + (positions[v, 1] - py) * ny + (positions[v, 2] - pz) * nz


@kernel
def _section(
    positions: F32, faces: I32, start: I32, ring: I32, begin: int, point: F64, normal: F64, points: F64, edges: I32
) -> int:  # fmt: skip
    """Walk along a plane from a face on; how many edges were crossed until it closed, or 0 where it does not."""
    px, py, pz = point[0], point[1], point[2]
    nx, ny, nz = normal[0], normal[1], normal[2]
    face = begin
    came_u = -1
    came_v = -1
    count = 0
    while count < points.shape[0]:
        corners = 3 if faces[face, 3] < 0 else 4
        u = -1
        v = -1
        # On from the edge by which it came in, to the next one that lies on both sides.
        first = 0
        if came_u >= 0:
            for k in range(corners):
                a, b = faces[face, k], faces[face, (k + 1) % corners]
                if (a == came_u and b == came_v) or (a == came_v and b == came_u):
                    first = k + 1
        for k in range(corners):
            a, b = faces[face, (first + k) % corners], faces[face, (first + k + 1) % corners]
            if (a == came_u and b == came_v) or (a == came_v and b == came_u):
                continue
            at_a = _side(positions, a, px, py, pz, nx, ny, nz) >= 0
            at_b = _side(positions, b, px, py, pz, nx, ny, nz) >= 0
            if at_a != at_b and (came_u >= 0 or (not at_a and at_b)):
                u, v = a, b
                break
        if u < 0:
            return 0
        # The vertex behind the plane first.
        if _side(positions, u, px, py, pz, nx, ny, nz) >= 0:
            u, v = v, u
        if count > 0 and u == edges[0, 0] and v == edges[0, 1]:
            return count
        du = _side(positions, u, px, py, pz, nx, ny, nz)
        dv = _side(positions, v, px, py, pz, nx, ny, nz)
        t = du / (du - dv)
        for k in range(3):
            points[count, k] = positions[u, k] + (np.float64(positions[v, k]) - positions[u, k]) * t
        edges[count, 0] = u
        edges[count, 1] = v
        count += 1
        beyond = -1
        for i in range(start[u, 0], start[u, 1]):
            other = ring[i]
            if other == face:
                continue
            for k in range(4):
                if faces[other, k] == v:
                    beyond = other
        if beyond < 0:
            return 0
        face = beyond
        came_u, came_v = u, v
    return 0


class Sections:
    """Cuts through one mesh; the arrays are used again."""

    def __init__(self, mesh: Mesh) -> None:
        self.mesh = mesh
        most = min(mesh.topology.n_faces, 200_000)
        self._points = np.empty((most, 3))
        self._edges = np.empty((most, 2), np.int32)

    def cut(self, face: int, point: F64, normal: F64) -> Cut | None:
        """The closed line in which a plane through a point (3,) of a face meets the clay; None where it is open."""
        shape = self.mesh.topology
        count = _section(
            self.mesh.positions, shape.faces, shape.ring, shape.ring_faces, face, point, normal, self._points, self._edges
        )  # fmt: skip
        if count < 3:
            return None
        points = self._points[:count].copy()
        steps = np.roll(points, -1, axis=0) - points
        lengths = np.linalg.norm(steps, axis=1)
        total = float(lengths.sum())
        if total <= 0:
            return None
        middle = ((points + steps / 2) * lengths[:, None]).sum(axis=0) / total
        return Cut(points, self._edges[:count].copy(), middle, normal / np.linalg.norm(normal), total)

    def at_vertex(self, vertex: int, normal: F64) -> Cut | None:
        """The same square to a direction (3,) through a vertex; None where that has no face the plane crosses."""
        shape = self.mesh.topology
        point = self.mesh.positions[vertex].astype(np.float64) + normal * 1e-9
        for i in range(*shape.ring[vertex].tolist()):
            found = self.cut(int(shape.ring_faces[i]), point, normal)
            if found is not None:
                return found
        return None


def _ways(count: int) -> F64:
    """Directions (count, 3) over half of a ball, evenly."""
    k = np.arange(count) + 0.5
    z = k / count
    turn = k * 2.399963229728653
    flat = np.sqrt(1 - z * z)
    return np.stack([flat * np.cos(turn), flat * np.sin(turn), z], axis=1)


def find_cut(mesh: Mesh, face: int, point: F64, slide: float = SLIDE) -> Cut:
    """The narrowest way round a limb near a point (3,) of a face. Raises `LimbError`."""
    sections = Sections(mesh)
    corners = mesh.topology.faces[face]
    out = mesh.normals[corners[corners >= 0]].astype(np.float64).mean(axis=0)
    out /= max(float(np.linalg.norm(out)), 1e-12)
    best = _narrowest(sections, face, point, _ways(DIRECTIONS), out)
    if best is None:
        raise LimbError(
            "There is no limb here that can be gone round: press on an arm, a finger, a neck or a tail."
        )
    best = _turned_further(sections, face, point, best, out)
    return _slid(sections, best, slide)


def _narrowest(sections: Sections, face: int, point: F64, ways: F64, out: F64) -> Cut | None:
    best = None
    for way in ways:
        # A plane that lies along the surface would cut off a bump.
        if abs(float(way @ out)) > 0.55:
            continue
        found = sections.cut(face, point, way)
        if found is not None and (best is None or found.length < best.length):
            best = found
    return best


def _turned_further(sections: Sections, face: int, point: F64, best: Cut, out: F64) -> Cut:
    size = 0.12
    for _ in range(5):
        side = np.cross(best.normal, out if abs(best.normal @ out) < 0.9 else np.roll(out, 1))
        side /= max(float(np.linalg.norm(side)), 1e-12)
        other = np.cross(best.normal, side)
        ways = np.array(
            [best.normal + size * (a * side + b * other) for a, b in ((1, 0), (-1, 0), (0, 1), (0, -1))]
        )
        ways /= np.linalg.norm(ways, axis=1, keepdims=True)
        found = _narrowest(sections, face, point, ways, out)
        if found is not None and found.length < best.length:
            best = found
        else:
            size /= 2
    return best


def _slid(sections: Sections, cut: Cut, reach: float) -> Cut:
    """The narrowest of the cuts nearby; going far costs, so that even limbs are cut where they were pressed."""
    if reach <= 0:
        return cut
    mesh, best, least = sections.mesh, cut, cut.length
    radius = cut.radius
    for share in np.linspace(-reach, reach, 15):
        if abs(share) < 1e-6:
            continue
        spot = cut.points[0] + cut.normal * share * radius
        near = int(np.argmin(((mesh.positions - spot.astype(np.float32)) ** 2).sum(axis=1)))
        found = sections.at_vertex(near, cut.normal)
        if found is None or np.linalg.norm(found.middle - cut.middle) > (reach + 0.5) * radius:
            continue
        cost = found.length * (1 + 0.12 * share * share)
        if cost < least:
            best, least = found, cost
    return best


@kernel
def _flood(faces: I32, start: I32, ring: I32, mark: U8, queue: I32, n: int) -> bool:
    """Mark (4) what hangs together with the queue, not across the cut's edges (from 1 to 2); whether it kept to one side."""
    done = 0
    while done < n:
        u = queue[done]
        done += 1
        for i in range(start[u, 0], start[u, 1]):
            f = ring[i]
            last = 4 if faces[f, 3] >= 0 else 3
            own = 0
            while faces[f, own] != u:
                own += 1
            for k in (own + 1, own + last - 1):
                w = faces[f, k % last]
                if mark[w] >= 4:
                    continue
                if (mark[u] & 3) == 1 and mark[w] == 2:
                    continue
                if mark[w] == 2:
                    return False
                mark[w] += 4
                queue[n] = w
                n += 1
    return True


def beyond(mesh: Mesh, cut: Cut, other_side: bool | None = None) -> tuple[U8, bool]:
    """Which vertices (n,) lie beyond a cut, and whether that is before its plane: the smaller side, unless one is asked for.

    Raises `LimbError` where both sides hang together.
    """
    shape = mesh.topology
    sides = []
    for ahead in (True, False):
        mark = np.zeros(mesh.n_vertices, np.uint8)
        mark[cut.edges[:, 1 if ahead else 0]] = 1
        mark[cut.edges[:, 0 if ahead else 1]] = 2
        seeds = np.unique(cut.edges[:, 1 if ahead else 0]).astype(np.int32)
        mark[seeds] += 4
        queue = np.empty(mesh.n_vertices, np.int32)
        queue[: len(seeds)] = seeds
        if not _flood(shape.faces, shape.ring, shape.ring_faces, mark, queue, len(seeds)):
            raise LimbError(
                "The limb hangs together with the body elsewhere, too: its way round parts nothing. Press farther out."
            )
        sides.append((mark >= 4).astype(np.uint8))
    first, second = (_extent(mesh, side) for side in sides)
    ahead = first <= second
    if other_side:
        ahead = not ahead
    return sides[0 if ahead else 1], ahead


def _extent(mesh: Mesh, side: U8) -> float:
    """About how much surface a side (n,) has: faces differ in size."""
    faces = mesh.topology.faces
    inside = side[faces[:, 0]] > 0
    some = faces[inside]
    p = mesh.positions
    return float(
        np.linalg.norm(np.cross(p[some[:, 1]] - p[some[:, 0]], p[some[:, 2]] - p[some[:, 0]]), axis=1).sum()
    )


@kernel
def _nearest_on(
    positions: F32, rows: I32, line: F64, begin: float, step: float, reach: float, first: int, last: int, station: F32
) -> None:  # fmt: skip
    """For each of the rows the place on the line that is nearest to it, not far from where it was thought to be."""
    n = line.shape[0]
    for i in range(first, last):
        v = rows[i]
        x = (np.float64(station[i]) - begin) / step
        low = max(int(np.floor(x - reach / step)), 0)
        high = min(int(np.ceil(x + reach / step)), n - 2)
        best = np.inf
        found = np.float64(station[i])
        for k in range(low, high + 1):
            ax, ay, az = line[k, 0], line[k, 1], line[k, 2]
            bx, by, bz = line[k + 1, 0] - ax, line[k + 1, 1] - ay, line[k + 1, 2] - az
            qx, qy, qz = positions[v, 0] - ax, positions[v, 1] - ay, positions[v, 2] - az
            size = bx * bx + by * by + bz * bz
            t = (qx * bx + qy * by + qz * bz) / max(size, 1e-30)
            t = min(max(t, 0.0), 1.0)
            if (k == 0 and t == 0.0) or (k == n - 2 and t == 1.0):
                # Beyond its ends the line goes on straight.
                t = (qx * bx + qy * by + qz * bz) / max(size, 1e-30)
            dx, dy, dz = qx - bx * t, qy - by * t, qz - bz * t
            off = (k + t - x) * step
            cost = dx * dx + dy * dy + dz * dz + 0.25 * off * off
            if cost < best:
                best = cost
                found = begin + (k + t) * step
        station[i] = found


@kernel
def _evened(
    faces: I32, start: I32, ring: I32, rows: I32, field: F32, first: int, last: int, out: F32
) -> None:
    """The mean of each row's neighbours and itself, of those that have a number."""
    for i in range(first, last):
        v = rows[i]
        total = np.float64(field[v])
        count = 1.0
        for j in range(start[v, 0], start[v, 1]):
            f = ring[j]
            for k in range(4):
                w = faces[f, k]
                if w >= 0 and w != v and not np.isnan(field[w]):
                    total += field[w]
                    count += 1.0
        out[i] = total / count


def evened(mesh: Mesh, rows: I32, station: F32, rounds: int) -> F32:
    """Stations (k,) of rows evened with their neighbours'."""
    shape = mesh.topology
    field = np.full(mesh.n_vertices, np.nan, np.float32)
    out = station.copy()
    for _ in range(rounds):
        field[rows] = out
        out = np.empty_like(station)
        in_parts(
            len(rows),
            lambda a, b: _evened(shape.faces, shape.ring, shape.ring_faces, rows, field, a, b, out),  # noqa: B023
        )
    return out


def limb_beyond(
    mesh: Mesh, cut: Cut, other_side: bool = False, progress: Progress | None = None
) -> tuple[Limb, Hinge]:
    """The limb beyond a cut, and the hinge at that. Raises `LimbError`."""
    progress = progress or Progress()
    progress.report(0.1, "What lies beyond")
    side, ahead = beyond(mesh, cut, other_side)
    normal = cut.normal if ahead else -cut.normal
    radius = cut.radius
    progress.report(0.3, "Distances")
    ends = np.unique(cut.edges).astype(np.int32)
    off = np.abs((mesh.positions[ends].astype(np.float64) - cut.middle) @ normal)
    reached, far = Geodesics(mesh).reach(ends, off)
    out = side[reached] > 0
    kept = out | (far <= 2 * REACH * radius)
    rows, far, out = reached[kept], far[kept], out[kept]
    order = np.argsort(rows, kind="stable")
    rows, far, out = rows[order].astype(np.int32), far[order], out[order]
    progress.report(0.6, "The middle line")
    line, arc = _middle_line(mesh, rows[out], far[out], cut, normal)
    length = float(arc[-1, 1])
    step = length / LINE_STEPS
    station = np.where(out, np.interp(far, arc[:, 0], arc[:, 1]), -far).astype(np.float32)
    beyond_rows = np.flatnonzero(out).astype(np.int32)
    own = np.ascontiguousarray(station[beyond_rows])
    outer = rows[beyond_rows]
    in_parts(
        len(outer), lambda a, b: _nearest_on(mesh.positions, outer, line, 0.0, step, 1.2 * radius, a, b, own)
    )
    station[beyond_rows] = own
    # Behind the cut it is flat as the cut is, and farther off as the clay goes.
    behind = np.flatnonzero(~out)
    flat = (mesh.positions[rows[behind]].astype(np.float64) - cut.middle) @ normal
    share = np.clip(far[behind] / (1.5 * radius), 0, 1)
    station[behind] = np.minimum((1 - share) * np.minimum(flat, 0.0) - share * far[behind], 0.0)
    progress.report(0.9, "Evening")
    station = evened(mesh, rows, station, 4)
    kept = station > -REACH * radius
    across = _across(mesh, cut, normal)
    limb = Limb(rows[kept], station[kept], line.astype(np.float32), 0.0, step, across)
    return limb, Hinge(0.0, 2.4 * radius, radius)


def _across(mesh: Mesh, cut: Cut, normal: F64) -> F64:
    """The axis of the curl: square to the limb, and level with where it was pressed."""
    out = cut.points[0] - cut.middle
    axis = np.cross(normal, out)
    return np.asarray(axis / max(float(np.linalg.norm(axis)), 1e-12))


def _middle_line(mesh: Mesh, rows: I32, far: F64, cut: Cut, normal: F64) -> tuple[F64, F64]:
    """The line (LINE_STEPS + 1, 3) at even steps, and a table (m, 2) of distances over the surface and along the line."""
    if len(rows) < 8:
        raise LimbError("There is too little clay beyond this place to be posed: press nearer to the body.")
    radius = cut.radius
    longest = float(np.quantile(far, 0.995))
    count = int(np.clip(longest / (0.35 * radius), 4, 120))
    edges = np.linspace(0.0, longest, count + 1)
    which = np.clip(np.searchsorted(edges, far, side="right") - 1, 0, count - 1)
    weights = np.bincount(which, minlength=count).astype(np.float64)
    places = mesh.positions[rows].astype(np.float64)
    middles = np.stack([np.bincount(which, places[:, k], count) for k in range(3)], axis=1)
    good = weights > 0
    centres = middles[good] / weights[good][:, None]
    distances = ((edges[:-1] + edges[1:]) / 2)[good]
    # It begins in the middle of the cut, square to it; what is wider than the limb itself is no turn of it.
    start = np.concatenate([cut.middle[None], centres])
    distances = np.concatenate([[0.0], distances])
    extended = np.concatenate([cut.middle - normal * (distances[1:6][::-1])[:, None], start])
    points: F64 = gaussian_filter1d(extended, 1.2, axis=0, mode="nearest")[len(distances[1:6]) :]
    points += (cut.middle - points[0]) * np.exp(-distances / radius)[:, None]
    arc = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])
    if arc[-1] < 0.3 * radius:
        raise LimbError("What lies beyond this place is too short to be posed: press nearer to the body.")
    even = np.linspace(0.0, arc[-1], LINE_STEPS + 1)
    line = np.stack([np.interp(even, arc, points[:, k]) for k in range(3)], axis=1)
    line = np.asarray(gaussian_filter1d(line, 2.0, axis=0, mode="nearest"), np.float64)
    line += (cut.middle - line[0]) * np.linspace(1, 0, len(line))[:, None] ** 4
    table = np.stack([distances, arc], axis=1)
    return line, table
