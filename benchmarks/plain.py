"""Every tool's dab in plain vectorised NumPy: what the compiled kernels are measured and tested against.

Each does the same work as its kernel, by the same constants: finds what the brush reaches, asks for moves, notes what
undo needs, moves, renews the normals. Rings are known beforehand, as the kernels know them.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from kneten.core import pressing
from kneten.core.brushes import (
    burnish,
    coil,
    flatten,
    grid,
    inflate,
    pellet,
    pinch,
    raise_,
    restore,
    score,
    shave,
    slab,
    smooth,
    span,
    tease,
)
from kneten.core.brushes import slide as slide_tool
from kneten.core.brushes.tool import Dab
from kneten.core.falloff import SAMPLES
from kneten.core.mesh import Mesh
from kneten.core.normals import LOPSIDED, STEEP
from kneten.core.press import DOME, Tip
from kneten.core.reach import AWAY, SOFT
from kneten.core.rings import SHARP
from kneten.core.stroke import MIDDLE
from kneten.core.topology import PATCH_BITS
from kneten.core.value_stroke import INSIDE, RATE

Array = np.ndarray


def dots(a: Array, b: Array) -> Array:
    """Row by row."""
    return np.einsum("ij,ij->i", a, b)


def unit(v: Array) -> Array:
    """Of length one, or zero."""
    length = np.linalg.norm(v)
    return v / length if length > 0 else v


@dataclass
class Reached:
    """What a dab reaches: vertices, weights, the way to the ring's mean, its mean square edge, the mean plane."""

    near: Array
    w: Array
    points: Array
    normals: Array
    even: Array
    squares: Array
    back: Array
    middle: Array
    up: Array

    def slide(self) -> Array:
        """The way to the ring's mean along the surface."""
        return self.even - dots(self.even, self.normals)[:, None] * self.normals

    def heights(self) -> Array:
        """Over the mean plane."""
        return (self.points - self.middle) @ self.up

    def line(self, dab: Dab) -> tuple[Array, Array]:
        """The stroke's direction along the surface, and each vertex's way sideways to the stroke's line."""
        along = dab.along - self.up * (dab.along @ self.up)
        length = np.linalg.norm(along)
        along = along / length if length > 1e-6 else np.zeros(3)
        side = dab.centre - self.points
        side = side - np.outer(side @ self.up, self.up) - np.outer(side @ along, along)
        return along, side


class PlainClay:
    """A mesh whose rings are known, and the tools.

    Parameters
    ----------
    mesh : Mesh
        Closed; its positions, normals and mask are copied.
    """

    def __init__(self, mesh: Mesh) -> None:
        faces = mesh.topology.faces
        quads = np.where(faces[:, 3:] < 0, faces[:, [0, 1, 2, 0]], faces)
        a, b = quads.reshape(-1), np.roll(quads, -1, axis=1).reshape(-1)
        kept = a != b
        ends = np.unique(np.concatenate([np.stack([a, b], 1)[kept], np.stack([b, a], 1)[kept]]), axis=0)
        self.ring = ends[:, 1]
        self.start = np.searchsorted(ends[:, 0], np.arange(mesh.n_vertices + 1))
        corners = np.where(faces >= 0, faces, mesh.n_vertices).reshape(-1)
        order = np.argsort(corners, kind="stable")
        self.face_of = order // 4
        self.face_start = np.searchsorted(corners[order], np.arange(mesh.n_vertices + 1))
        self.quads = quads
        self.positions, self.normals = mesh.positions.copy(), mesh.normals.copy()
        self.origin, self.before = self.positions.copy(), self.positions.copy()
        self.trace = np.zeros((mesh.n_vertices, 2), np.float32)
        self.mask = np.zeros(mesh.n_vertices, np.float32)
        self.regions = np.zeros(len(faces), np.uint16)
        self.held: tuple[Array, Array, Array] | None = None
        self.steep = False

    def _gather(self, start: Array, items: Array, of: Array) -> tuple[Array, Array]:
        counts = start[of + 1] - start[of]
        at = np.repeat(start[of] - np.cumsum(counts) + counts, counts) + np.arange(counts.sum())
        return items[at], np.cumsum(counts) - counts

    def weigh(self, centre: Array, radius: float, falloff: Array) -> tuple[Array, Array]:
        """The vertices within a ball and their weights."""
        away = self.positions - centre.astype(np.float32)
        d2 = dots(away, away)
        near = np.flatnonzero(d2 < radius**2)
        w = np.interp(np.sqrt(d2[near]) / radius, np.linspace(0, 1, SAMPLES), falloff)
        about = radius * (MIDDLE if (d2[near] < (MIDDLE * radius) ** 2).any() else 1.0)
        share = (SOFT / (SOFT + d2[near] / about**2)) ** 2
        middle = d2[near] < about**2
        side = unit((self.normals[near][middle] * share[middle, None]).sum(axis=0))
        w *= np.clip(1 + AWAY * (self.normals[near] @ side), 0, 1)
        return near[w > 0], w[w > 0].astype(np.float32)

    def reach(self, dab: Dab, falloff: Array) -> Reached:
        """What a dab reaches."""
        near, w = self.weigh(dab.centre, dab.radius, falloff)
        points, normals = self.positions[near], self.normals[near]
        ring, first = self._gather(self.start, self.ring, near)
        counts = self.start[near + 1] - self.start[near]
        corners = self.positions[ring]
        even = np.add.reduceat(corners, first, axis=0) / counts[:, None] - points
        edges = corners - np.repeat(points, counts, axis=0)
        squares = np.add.reduceat(dots(edges, edges), first) / counts
        needle = dots(even, even) / squares
        back = np.clip((needle - SHARP) * 2.5, 0, 0.6)[:, None] * even
        middle = (points * w[:, None]).sum(axis=0) / w.sum()
        up = unit((normals * w[:, None]).sum(axis=0))
        return Reached(near, w, points, normals, even, squares, back, middle, up)

    def move(self, near: Array, to: Array) -> None:
        """Put vertices elsewhere, and renew the normals around them."""
        self.undo = self.positions[near].copy()
        self.dirty = np.unique(near >> PATCH_BITS)
        self.positions[near] = to
        faces, _ = self._gather(self.face_start, self.face_of, near)
        touched = np.unique(self.quads[np.unique(faces)])
        around, first = self._gather(self.face_start, self.face_of, touched)
        used, back = np.unique(around, return_inverse=True)
        corners = self.positions[self.quads[used]].astype(np.float64)
        area = np.cross(corners[:, 2] - corners[:, 0], corners[:, 3] - corners[:, 1])
        triangles = (self.quads[used, 3] == self.quads[used, 0])[:, None]
        area = np.where(
            triangles, np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), area
        )
        # A first look for folds, as the compiled version takes one.
        one, other = self.normals[self.quads[used, 0]], self.normals[self.quads[used, 2]]
        like = one + other
        facing = dots(area, like)
        least = np.minimum(dots(area, one), dots(area, other))
        half = dots(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), like)
        self.steep = bool(
            (least * abs(least) < STEEP * dots(area, area)).any()
            or (half < LOPSIDED * facing).any()
            or (facing - half < LOPSIDED * facing).any()
        )
        total = np.add.reduceat(area[back], first, axis=0)
        self.normals[touched] = total / np.linalg.norm(total, axis=1, keepdims=True)

    # -- how they are used ------------------------------------------------------------------------

    def dab(self, key: str, dab: Dab, falloff: Array, number: int = 1) -> int:
        """One dab of a tool; returns how many vertices it reached."""
        if key in ("mask", "region"):
            near, w = self.weigh(dab.centre, dab.radius, falloff)
            (self.paint if key == "mask" else self.paint_faces)(near, w, dab, number)
            return len(near)
        reached = self.reach(dab, falloff)
        name = f"{key}-{dab.variant}" if dab.variant else key
        if key == "press":
            near, flat = self.weigh(dab.centre, dab.radius, np.ones(SAMPLES))
            self.move(near, self.press(near, flat, dab, falloff))
            return len(near)
        if name in ("smooth-relax", "slide"):
            self.move(reached.near, self.stay(reached, dab, key))
        else:
            asked = MOVES[name](self, reached, dab)
            self.move(reached.near, reached.points + reached.w[:, None] * asked)
        return len(reached.near)

    def grab(self, centre: Array, radius: float, falloff: Array) -> None:
        """Take hold of what is under the brush."""
        near, w = self.weigh(centre, radius, falloff)
        self.held = near, w, self.positions[near].astype(float)

    def drag(self, key: str, dab: Dab) -> int:
        """Bring what is held where a drag of a tool wants it; returns how many vertices that are."""
        assert self.held is not None
        near, w, origin = self.held
        self.move(near, origin + HELD[key](origin - dab.centre, w, dab))
        return len(near)

    # -- tools that are no sum of moves -----------------------------------------------------------

    def paint(self, near: Array, w: Array, dab: Dab, number: int) -> None:
        """Mask."""
        self.undo = self.mask[near].copy()
        rate = abs(dab.strength) * dab.spacing * RATE * 2
        self.mask[near] += (1 - self.mask[near]) * np.minimum(w * rate, 1)

    def paint_faces(self, near: Array, w: Array, dab: Dab, number: int) -> None:
        """Region."""
        faces, _ = self._gather(self.face_start, self.face_of, near[w >= INSIDE])
        self.undo = self.regions[faces].copy()
        self.regions[faces] = number

    def press(self, near: Array, flat: Array, dab: Dab, falloff: Array) -> Array:
        """Where vertices come to under a dome that Press lays."""
        away = (self.positions[near].astype(float) - dab.centre) / dab.radius
        normals = self.normals[near].astype(float)
        share = (pressing.WIDE / (pressing.WIDE + dots(away, away))) ** 2
        heard = dots(away, away) <= pressing.HEARD
        share *= heard
        out = unit((normals * share[:, None]).sum(axis=0))
        narrow = (pressing.NARROW / (pressing.NARROW + dots(away, away))) ** 2 * heard
        away = away - np.outer(np.full(len(away), (away @ out * narrow).sum() / narrow.sum()), out)
        top = unit(np.array([0.0, 1.0, 0.0]) - out * out[1])
        axes = np.stack([np.cross(top, out), top])
        flat_at, fall = away @ axes.T, away @ out
        # How the normals lean with the place, by least squares.
        centred = flat_at - (flat_at * share[:, None]).sum(axis=0) / share.sum()
        leans = normals @ axes.T
        spread = (centred * share[:, None]).T @ centred
        bend = np.linalg.solve(spread, (centred * share[:, None]).T @ leans).T
        bend = 0.5 * (bend + bend.T)
        d2 = dots(flat_at, flat_at)
        at = flat_at * np.minimum(np.sqrt(1 + fall**2 / (d2 + pressing.CLOSE)), pressing.WRAP)[:, None]
        hold = flat * np.interp(np.linalg.norm(at, axis=1), np.linspace(0, 1, SAMPLES), falloff)
        edge = (3.14 / len(near)) ** 0.5
        picture = DOME.level(edge * max(DOME.heights.shape) / 2)
        rows, columns = picture.shape
        px, py = (0.5 + 0.5 * at[:, 0]) * columns - 0.5, (0.5 - 0.5 * at[:, 1]) * rows - 0.5
        left, high = np.floor(px).astype(int), np.floor(py).astype(int)
        tx, ty = px - left, py - high

        def pixel(i: Array, j: Array) -> Array:
            return picture[np.clip(i, 0, rows - 1), np.clip(j, 0, columns - 1)]

        upper = pixel(high, left) * (1 - tx) + pixel(high, left + 1) * tx
        lower = pixel(high + 1, left) * (1 - tx) + pixel(high + 1, left + 1) * tx
        heights = (upper * (1 - ty) + lower * ty) * hold * dab.strength * dab.radius * Tip().height
        lean = at @ bend.T
        ways = np.outer(np.sqrt(np.maximum(1 - dots(lean, lean), 0.04)), out) + lean @ axes
        ways /= np.linalg.norm(ways, axis=1, keepdims=True)
        return self.positions[near] + ways * heights[:, None]

    def stay(self, reached: Reached, dab: Dab, key: str) -> Array:
        """Where vertices come to that go along the surface: on the nearest of the triangles around each."""
        rate = slide_tool.EVEN if key == "slide" else min(abs(dab.strength) * smooth.RATE * dab.spacing, 0.9)
        wish = rate * reached.even
        if key == "slide":
            wish = wish + dab.along * np.clip(dab.strength, -1, 1)
        goal = reached.points + wish * reached.w[:, None]
        faces, first = self._gather(self.face_start, self.face_of, reached.near)
        counts = self.face_start[reached.near + 1] - self.face_start[reached.near]
        row = np.repeat(np.arange(len(reached.near)), counts)
        quads = self.quads[faces]
        own = np.argmax(quads == reached.near[row][:, None], axis=1)
        corner = [quads[np.arange(len(own)), (own + k) % 4] for k in range(4)]
        a = reached.points[row]
        best = np.full(len(row), np.inf)
        place = np.empty((len(row), 3))
        for one, two in ((1, 2), (2, 3)):
            found = nearest(goal[row], a, self.positions[corner[one]], self.positions[corner[two]])
            far = dots(found - goal[row], found - goal[row])
            better = far < best
            best[better], place[better] = far[better], found[better]
        # The least of each vertex's own: sorted by vertex, then by distance, the first of each.
        order = np.lexsort((best, row))
        return np.asarray(place[order[first]])


def nearest(p: Array, a: Array, b: Array, c: Array) -> Array:
    """The places of triangles nearest to points, (n, 3)."""
    u, v = b - a, c - a
    uu, uv, vv = dots(u, u), dots(u, v), dots(v, v)
    d1, d2 = dots(u, p - a), dots(v, p - a)
    whole = np.maximum(uu * vv - uv * uv, 1e-30)
    s, t = (vv * d1 - uv * d2) / whole, (uu * d2 - uv * d1) / whole
    inside = (s >= 0) & (t >= 0) & (s + t <= 1)
    best = np.where(inside[:, None], a + s[:, None] * u + t[:, None] * v, a)
    far = np.where(inside, -1.0, np.inf)
    for begin, way in ((a, u), (a, v), (b, c - b)):
        share = np.clip(dots(p - begin, way) / np.maximum(dots(way, way), 1e-30), 0, 1)
        place = begin + share[:, None] * way
        d = dots(p - place, p - place)
        better = d < far
        far[better], best[better] = d[better], place[better]
    return best


# -- tools that ask for moves, (k, 3), before weights -------------------------------------------------


def _raise(clay: PlainClay, r: Reached, dab: Dab) -> Array:
    return r.up * (dab.strength * dab.radius * raise_.HEIGHT * dab.spacing) + raise_.EVEN * r.slide() + r.back


def _pellet(clay: PlainClay, r: Reached, dab: Dab) -> Array:
    gap = dab.strength * dab.radius * pellet.THICKNESS - r.heights()
    gap = np.maximum(gap, 0) if dab.strength > 0 else np.minimum(gap, 0)
    return np.outer(gap * min(pellet.RATE * dab.spacing, 1), r.up) + pellet.EVEN * r.slide() + r.back


def _slab(clay: PlainClay, r: Reached, dab: Dab) -> Array:
    thickness = dab.strength * dab.radius * slab.THICKNESS
    lift = (r.points - clay.origin[r.near]) @ r.up
    sign = np.sign(thickness)
    speed = min(slab.SPEED * dab.spacing, 1)
    move = np.maximum((thickness * r.w - lift) * sign, 0) * speed * sign / np.maximum(r.w, 1e-6)
    return np.outer(move, r.up) + slab.EVEN * r.slide() + r.back


def _coil(clay: PlainClay, r: Reached, dab: Dab) -> Array:
    radius, height = dab.radius * 0.92, dab.strength * dab.radius * coil.HEIGHT
    sign = np.sign(height)
    lifted = r.points - clay.origin[r.near]
    still = dots(lifted, lifted) <= (0.03 * dab.radius) ** 2
    ground = still if r.w[still].sum() > 0.02 * len(r.w) else np.ones(len(r.w), bool)
    up = unit((r.normals[ground] * r.w[ground, None]).sum(axis=0))
    away = r.points - dab.centre
    off2 = (dots(away, away) - (away @ up) ** 2) / radius**2
    lift = sign * (lifted @ up)
    trace = clay.trace[r.near]
    crossed = (trace[:, 0] > 0) & (dab.travel - trace[:, 0] > coil.AWAY * radius)
    trace[crossed, 1] = coil.SUNK * np.maximum(lift[crossed], 0)
    trace[:, 0] = dab.travel
    clay.trace[r.near] = trace
    round_ = np.maximum(1 - off2, 0) ** 0.6
    gap = np.where(round_ > 0, np.maximum(trace[:, 1] + sign * height * round_ - lift, 0), 0)
    gap *= min(coil.SPEED * dab.spacing, 1)
    return np.outer(sign * gap / np.maximum(r.w, 0.05), up) + coil.EVEN * r.slide() + r.back


def _inflate(clay: PlainClay, r: Reached, dab: Dab) -> Array:
    amount = dab.strength * dab.radius * inflate.SWELL * dab.spacing
    return r.normals * amount + inflate.EVEN * r.even + r.back


def _score(clay: PlainClay, r: Reached, dab: Dab) -> Array:
    _, side = r.line(dab)
    gather = min(abs(dab.strength) * score.GATHER * dab.spacing, 0.5)
    near = np.linalg.norm(side, axis=1) < score.CLOSEST * dab.radius
    pull = np.where(near, 0, gather)[:, None] * side
    return pull - r.up * (dab.strength * dab.radius * score.DEPTH * dab.spacing) + r.back


def _pinch(clay: PlainClay, r: Reached, dab: Dab) -> Array:
    along, side = r.line(dab)
    gather = max(min(dab.strength * pinch.GATHER * dab.spacing, 0.5), -0.2)
    if gather > 0:
        off, room = np.linalg.norm(side, axis=1), pinch.ROOM * dab.radius
        side = side * np.clip((off - room) / (off + room), 0, 1)[:, None]
    return gather * side + 0.1 * np.outer(r.even @ along, along) + r.back


def _flatten(clay: PlainClay, r: Reached, dab: Dab) -> Array:
    rate = max(min(dab.strength * flatten.RATE * dab.spacing, 0.9), -0.1)
    return np.outer(-r.heights() * rate, r.up) + r.back


def _shave(clay: PlainClay, r: Reached, dab: Dab) -> Array:
    sign = 1.0 if dab.strength >= 0 else -1.0
    off = r.heights() + sign * shave.BELOW * dab.radius
    rate = min(abs(dab.strength) * shave.RATE * dab.spacing, 0.9)
    return np.outer(np.where(off * sign > 0, -off * rate, 0), r.up) + r.back


def _restore(clay: PlainClay, r: Reached, dab: Dab) -> Array:
    rate = max(min(dab.strength * restore.RATE * dab.spacing, 0.9), -0.1)
    return np.asarray((clay.before[r.near] - r.points) * rate)


def _tease(clay: PlainClay, r: Reached, dab: Dab) -> Array:
    way = float(np.linalg.norm(dab.along))
    axis = dab.along / way
    away = r.points - dab.centre
    narrow = 1 - np.exp(-tease.NARROWING * dab.strength * way / dab.radius)
    return dab.along - narrow * (away - np.outer(away @ axis, axis)) + tease.EVENING * r.slide() + r.back


def _corners(places: Array) -> tuple[Array, Array]:
    """The eight nodes around places counted in cells, and their shares; both (8, k)."""
    low = np.floor(places).astype(np.int64)
    part = places - low
    index, share = [], []
    for corner in range(8):
        at = np.array([corner & 1, corner >> 1 & 1, corner >> 2])
        cell = np.minimum(low + at, grid.SIDE - 1)
        index.append((cell[:, 0] * grid.SIDE + cell[:, 1]) * grid.SIDE + cell[:, 2])
        share.append(np.prod(np.where(at, part, 1 - part), axis=1))
    return np.array(index), np.array(share)


def _splat(index: Array, share: Array, groups: int, values: Array) -> Array:
    """Weighted sums of `values` (k, m) at the nodes; (groups * nodes, m)."""
    out = np.empty((groups * grid.NODES, values.shape[1]))
    for column in range(values.shape[1]):
        heavy = (share * values[:, column]).ravel()
        out[:, column] = np.bincount(index.ravel(), heavy, len(out))
    return out


def _blurred(cube: Array, times: int) -> Array:
    """1-2-1 along the three axes, (groups, side, side, side, m)."""
    for _ in range(times):
        for axis in (1, 2, 3):
            moved = np.moveaxis(cube, axis, 0)
            wide = moved * 2.0
            wide[1:] += moved[:-1]
            wide[:-1] += moved[1:]
            cube = np.moveaxis(wide, 0, axis) / 4
    return cube


def _smooth(clay: PlainClay, r: Reached, dab: Dab) -> Array:
    rate = min(abs(dab.strength) * smooth.RATE * dab.spacing, 0.9)
    edge = np.sqrt(np.pi / len(r.near))
    share = float(np.clip((edge * grid.CELLS - 0.35) / 0.65, 0, 1))
    away = (r.points - dab.centre) / dab.radius
    index, part = _corners(away * grid.CELLS + grid.CELLS + grid.MARGIN)
    index = index + np.where(r.normals @ r.up >= 0, 0, grid.NODES)
    values = np.concatenate([np.ones((len(away), 1)), away, r.normals], axis=1)
    cube = _splat(index, part, 2, values).reshape(2, grid.SIDE, grid.SIDE, grid.SIDE, 7)
    nodes = _blurred(cube, grid.MARGIN).reshape(-1, 7)
    read = np.einsum("ck,ckm->km", part, nodes[index])
    normal = read[:, 4:] / np.maximum(np.linalg.norm(read[:, 4:], axis=1, keepdims=True), 1e-30)
    off = dots(read[:, 1:4] / np.maximum(read[:, :1], 1e-30) - away, normal) * dab.radius
    return normal * off[:, None] * (rate * (1 - share)) + r.even * (rate * (0.15 + 0.85 * share))


def _smooth_volume(clay: PlainClay, r: Reached, dab: Dab) -> Array:
    moves = _smooth(clay, r, dab)
    faces, first = clay._gather(clay.face_start, clay.face_of, r.near)
    quads = clay.quads[faces]
    at = np.repeat(r.near, np.diff(np.append(first, len(faces))))
    own = np.argmax(quads == at[:, None], axis=1)
    row, size = np.arange(len(quads)), np.where(quads[:, 3] == quads[:, 0], 3, 4)
    sides = [clay.positions[quads[row, (own + k) % size]] - clay.positions[at] for k in (1, size - 1)]
    area = np.add.reduceat(np.linalg.norm(np.cross(*sides), axis=1), first)
    lift = -(dots(moves, r.normals) * r.w * area).sum() / (r.w * area).sum()
    return moves + lift * r.normals


def _burnish(clay: PlainClay, r: Reached, dab: Dab) -> Array:
    return _to_planes(r, dab, burnish.RATE, burnish.SHARPNESS)


def _smooth_edges(clay: PlainClay, r: Reached, dab: Dab) -> Array:
    return _to_planes(r, dab, smooth.RATE, smooth.SHARPNESS)


def _to_planes(r: Reached, dab: Dab, speed: float, sharpness: float) -> Array:
    rate = min(abs(dab.strength) * speed * dab.spacing, 0.9)
    away = (r.points - dab.centre) / dab.radius
    index, part = _corners(away * grid.CELLS + grid.CELLS + grid.MARGIN)
    rise = dots(r.even, r.normals)
    flat = np.maximum(1 - rise**2 / np.maximum(r.squares * burnish.EDGED, 1e-30), 0)
    octant = (r.normals > r.normals.mean(axis=0)) @ np.array([1, 2, 4])
    values = np.concatenate([np.ones((len(away), 1)), away, r.normals], axis=1) * flat[:, None]
    cube = _splat(index + octant * grid.NODES, part, 8, values)
    nodes = _blurred(cube.reshape(8, grid.SIDE, grid.SIDE, grid.SIDE, 7), 1).reshape(8, -1, 7)
    many = nodes[..., :1].copy()
    facing = nodes[..., 4:] / np.maximum(np.linalg.norm(nodes[..., 4:], axis=2, keepdims=True), 1e-30)
    alike = np.clip(1 - burnish.ALIKE * (1 - np.einsum("ski,tki->stk", facing, facing)), 0, 1)
    nodes = np.einsum("stk,tkv->skv", alike, nodes)
    place = nodes[..., 1:4] / np.maximum(nodes[..., :1], 1e-30)
    facing = nodes[..., 4:] / np.maximum(np.linalg.norm(nodes[..., 4:], axis=2, keepdims=True), 1e-30)
    total = np.zeros(len(away))
    off = np.zeros(len(away))
    way = np.zeros_like(away)
    for octant_ in range(8):
        mean = facing[octant_, index]
        like = np.einsum("ij,cij->ci", r.normals, mean)
        say = np.maximum(1 - sharpness * np.maximum(1 - like, 0), 0) ** 16
        w = part * many[octant_, index, 0] * say
        height = np.einsum("cij,cij->ci", place[octant_, index] - away, mean)
        total += w.sum(axis=0)
        off += (w * height).sum(axis=0)
        way += np.einsum("ci,cij->ij", w, mean)
    length = np.maximum(np.linalg.norm(way, axis=1), 1e-30)
    move = off / np.maximum(total, 1e-30) * dab.radius * rate / length
    return way * move[:, None] + 0.03 * r.slide() + r.back


def _span(clay: PlainClay, r: Reached, dab: Dab) -> Array:
    cells = int(np.clip(np.sqrt(len(r.near) / (2 * np.pi)), span.FEWEST, span.CELLS))
    side = 2 * cells + 1
    axis = int(np.argmax(np.abs(r.up)))
    one, two = (axis + 1) % 3, (axis + 2) % 3
    up = np.sign(r.up[axis])
    away = (r.points - dab.centre) / dab.radius
    seen = r.normals @ r.up > 0
    p, q = (np.rint(away[:, a] * cells).astype(int) + cells for a in (one, two))
    at = np.clip(p, 0, side - 1) * side + np.clip(q, 0, side - 1)
    counts = np.bincount(at[seen], minlength=side * side).reshape(side, side)
    sums = np.bincount(at[seen], away[seen, axis] * up, side * side).reshape(side, side)
    base = np.where(counts > 0, sums / np.maximum(counts, 1), 0)
    here = counts > 0
    skin = base.copy()
    for _ in range(span.ROUNDS):
        other = base.copy()
        for a in (0, 1):
            s, h, o = (np.moveaxis(x, a, 0) for x in (skin, here, other))
            lines = np.where(h[:-2] & h[2:], 0.5 * (s[:-2] + s[2:]), -np.inf)
            o[1:-1] = np.maximum(o[1:-1], lines)
        skin = np.where(here, other, base)
    lifted = (skin - base) * dab.radius
    x, y = away[:, one] * cells + cells, away[:, two] * cells + cells
    i, j = np.floor(x).astype(int), np.floor(y).astype(int)
    within = seen & (i >= 0) & (j >= 0) & (i + 1 < side) & (j + 1 < side)
    i, j = np.clip(i, 0, side - 2), np.clip(j, 0, side - 2)
    s, t = x - i, y - j
    lift = (lifted[i, j] * (1 - s) + lifted[i + 1, j] * s) * (1 - t)
    lift += (lifted[i, j + 1] * (1 - s) + lifted[i + 1, j + 1] * s) * t
    out = r.back.copy()
    out[:, axis] += np.where(within, lift * min(abs(dab.strength) * span.RATE * dab.spacing, 0.9) * up, 0)
    return out


MOVES: dict[str, Callable[[PlainClay, Reached, Dab], Array]] = {
    "raise": _raise,
    "pellet": _pellet,
    "slab": _slab,
    "coil": _coil,
    "inflate": _inflate,
    "score": _score,
    "pinch": _pinch,
    "smooth": _smooth,
    "smooth-volume": _smooth_volume,
    "flatten": _flatten,
    "shave": _shave,
    "span": _span,
    "burnish": _burnish,
    "smooth-edges": _smooth_edges,
    "restore": _restore,
    "tease": _tease,
}


# -- tools that hold what they have grabbed: the whole move from there -------------------------------


def _pull(away: Array, w: Array, dab: Dab) -> Array:
    return np.outer(w, dab.along)


def _turned(away: Array, axis: Array, angle: Array) -> Array:
    c, s = np.cos(angle)[:, None] - 1, np.sin(angle)[:, None]
    return np.asarray(c * (away - np.outer(away @ axis, axis)) + s * np.cross(axis, away))


def _twist(away: Array, w: Array, dab: Dab) -> Array:
    return _turned(away, dab.view, dab.strength * w)


def _swell(away: Array, w: Array, dab: Dab) -> Array:
    return away * (w * dab.strength)[:, None]


def _bend(away: Array, w: Array, dab: Dab) -> Array:
    long = unit(np.cross(dab.view, dab.along))
    return _turned(away, dab.view, dab.strength * w * (away @ long) / dab.radius)


HELD: dict[str, Callable[[Array, Array, Dab], Array]] = {
    "pull": _pull,
    "twist": _twist,
    "swell": _swell,
    "bend": _bend,
}
