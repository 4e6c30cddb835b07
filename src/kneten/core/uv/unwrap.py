"""Unwrap: each island laid flat as rigidly as possible.

First conformally, with two points pinned (Lévy, Petitjean, Ray and Maillot: Least squares conformal maps, 2002), then by turns
each triangle's best turn and all places (Liu, Zhang, Xu, Gotsman and Gortler: A local/global approach to mesh
parameterization, 2008). Where that turns triangles over, the island begins anew from a map that cannot (Tutte 1963, onto
a circle) and goes down the symmetric Dirichlet energy, no step of which may turn one over (Smith and Schaefer 2015; the
step's direction as in Kovalsky, Galun and Lipman 2016).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from scipy.sparse import coo_matrix, csc_matrix
from scipy.sparse.csgraph import connected_components, dijkstra
from scipy.sparse.linalg import splu
from scipy.spatial import ConvexHull, QhullError

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress, kernel
from kneten.core.mesh import Mesh
from kneten.core.uv.islands import Edges, Islands, islands_of

ROUNDS = 12
"""Turns of the local and the global step: what is left changes by less than a thousandth of the island."""

STEPS = 150
"""Steps down the energy at most, where triangles were turned over."""

STRAINED = 0.1
"""Mean logarithm of areas from which on a sheet with several rims is cut from one to the other."""

FLAT = 1e-9
"""Share of an island's mean area below which a triangle counts as having so much."""


@dataclass(frozen=True, eq=False)
class Unwrapped:
    """What unwrapping made.

    Attributes
    ----------
    uv : (f, 8) float32
        Each island in millimetres, with as much area as its clay, its lower left at nought.
    islands : Islands
    cuts : (m,) bool
        All edges that are cut now, those that were added among them.
    added : int
        Islands that had to be opened further, because they could not have been laid flat.
    turned : int
        Triangles that lie turned over all the same: of clay that crosses or folds.
    """

    uv: F32
    islands: Islands
    cuts: AnyArray
    added: int
    turned: int


def unwrapped(
    mesh: Mesh, cuts: AnyArray, progress: Progress, edges: Edges | None = None, only: AnyArray | None = None
) -> Unwrapped:
    """Lay a mesh flat.

    Parameters
    ----------
    cuts : (m,) bool
        Edges to cut along.
    only : (f,) bool, optional
        Faces whose islands are laid; others stay at nought.

    Raises
    ------
    Cancelled
        Through `progress`.
    """
    shape = mesh.topology
    edges = edges or Edges.of(shape)
    progress.report(0.0, "Cutting")
    cuts, added = opened(mesh, edges, cuts)
    islands = islands_of(shape, edges, cuts)
    at = np.zeros((len(islands.vertex), 2))
    turned, done = 0, 0
    for k, members in enumerate(islands.members()):
        if only is None or only[members].any():
            progress.report(0.05 + 0.9 * done / max(shape.n_faces, 1), f"Laying flat island {k + 1} of {islands.count}")  # fmt: skip
            island = Island.of(mesh, islands, members)
            flat, over = island.laid(progress)
            at[island.names] = flat
            turned += over
        done += len(members)
    return Unwrapped(islands.at_corners(at), islands, cuts, added, turned)


# -- islands that can be laid flat ------------------------------------------------------------------------


def _loops(islands: Islands, members: AnyArray) -> tuple[int, int]:
    """Euler's number of an island, and how many open edges' loops it has."""
    points = islands.points[members]
    sizes = np.where(points[:, 3] >= 0, 4, 3)
    every = np.flatnonzero(points.reshape(-1) >= 0)
    own, corner = every // 4, every % 4
    here = points[own, corner].astype(np.int64)
    there = points[own, (corner + 1) % sizes[own]].astype(np.int64)
    n = len(islands.vertex) + 1
    keys, counts = np.unique(np.minimum(here, there) * n + np.maximum(here, there), return_counts=True)
    rim = keys[counts == 1]
    ends = np.stack([rim // n, rim % n], axis=1)
    names, flat = np.unique(ends, return_inverse=True)
    loops = 0
    if len(rim):
        flat = flat.reshape(-1, 2)
        graph = coo_matrix((np.ones(len(flat)), (flat[:, 0], flat[:, 1])), shape=(len(names),) * 2)
        loops = int(connected_components(graph, directed=False)[0])
    used = len(np.unique(here))
    return used - len(keys) + len(members), loops


def opened(mesh: Mesh, edges: Edges, cuts: AnyArray, cost: F64 | None = None) -> tuple[AnyArray, int]:
    """Cuts (m,) with what is missing for every island to be laid flat, and how many islands needed more.

    Paths go where they cost least: by `cost` (m,), or the edges' lengths.

    An island that is closed is cut along a path between two far ends; one with handles, along a graph that leaves a disk
    (Erickson and Har-Peled 2004: what a tree over the faces does not cross, less its loose ends).
    """
    shape = mesh.topology
    islands = islands_of(shape, edges, cuts)
    cuts = cuts | ~edges.inner
    p = mesh.positions.astype(np.float64)
    long = np.linalg.norm(p[edges.ends[:, 0]] - p[edges.ends[:, 1]], axis=1) if cost is None else cost
    added = 0
    for members in islands.members():
        euler, loops = _loops(islands, members)
        # A sheet with holes can be laid flat as it is; a tube could, but only drawn out of shape.
        if loops and euler == 2 - loops and (loops == 1 or not _strained(Island.of(mesh, islands, members))):
            continue
        added += 1
        inside = np.zeros(shape.n_faces, bool)
        inside[members] = True
        cuts |= _graph_of(mesh, edges, cuts, inside, long)
        if not loops and euler == 2:
            cuts |= _path_of(mesh, edges, inside, long)
    return cuts, added


def _strained(island: Island) -> bool:
    """Whether an island is drawn out of shape by being laid flat as it is."""
    flat, over = island.laid(Progress())
    large = np.abs(island.signed(flat)) / island.areas
    off = np.abs(np.log(np.maximum(large, 1e-9)))
    return bool(over) or float(np.average(off, weights=island.areas)) > STRAINED


def _graph_of(mesh: Mesh, edges: Edges, cuts: AnyArray, inside: AnyArray, long: F64) -> AnyArray:
    """Edges (m,) that open some faces into a disk, as far as loops and handles need it."""
    free = np.flatnonzero(~cuts & inside[edges.sides[:, 0]])
    a, b = edges.sides[free].T
    n = mesh.topology.n_faces
    graph = coo_matrix((long[free] + 1e-12, (a, b)), shape=(n, n)).tocsr()
    start = int(np.flatnonzero(inside)[0])
    _, up = dijkstra(graph, directed=False, indices=start, return_predecessors=True)
    tree = np.zeros(len(cuts), bool)
    tree[free] = (up[b] == a) | (up[a] == b)
    left = np.zeros(len(cuts), bool)
    left[free] = ~tree[free]
    # Loose ends go, one after the other; what is cut already holds what leads there.
    held = np.zeros(mesh.n_vertices, bool)
    rim = cuts & (inside[edges.sides[:, 0]] | inside[np.maximum(edges.sides[:, 1], 0)])
    held[edges.ends[rim].reshape(-1)] = True
    while True:
        degree = np.bincount(edges.ends[left].reshape(-1), minlength=mesh.n_vertices)
        loose = left & ((degree == 1) & ~held)[edges.ends].any(axis=1)
        if not loose.any():
            return left
        left &= ~loose


def _path_of(mesh: Mesh, edges: Edges, inside: AnyArray, long: F64) -> AnyArray:
    """Edges (m,) of a path between two far ends of closed faces."""
    own = inside[edges.sides[:, 0]]
    n = mesh.n_vertices
    graph = coo_matrix((long[own] + 1e-12, tuple(edges.ends[own].T)), shape=(n, n)).tocsr()
    here = int(edges.ends[own][0, 0])
    for _ in range(2):
        far, up = dijkstra(graph, directed=False, indices=here, return_predecessors=True)
        there = int(np.argmax(np.where(np.isfinite(far), far, -1)))
        last, here = here, there
    way = [here]
    while way[-1] != last:
        way.append(int(up[way[-1]]))
    steps = {frozenset(pair) for pair in pairwise(way)}
    out = np.zeros(len(own), bool)
    for e in np.flatnonzero(own & np.isin(edges.ends, way).all(axis=1)):
        out[e] = frozenset(edges.ends[e].tolist()) in steps
    return out


# -- one island ---------------------------------------------------------------------------------------


@kernel
def _turns(flat: F64, tri: I32, rest: F64, weights: F64, out: F64) -> None:
    """The right-hand side of the global step: each triangle's sides, turned as the triangle lies now."""
    out[:] = 0.0
    for t in range(tri.shape[0]):
        c = 0.0
        s = 0.0
        for k in range(3):
            i = tri[t, k]
            j = tri[t, (k + 1) % 3]
            w = weights[t, k]
            x = rest[t, (k + 1) % 3, 0] - rest[t, k, 0]
            y = rest[t, (k + 1) % 3, 1] - rest[t, k, 1]
            u = flat[j, 0] - flat[i, 0]
            v = flat[j, 1] - flat[i, 1]
            c += w * (x * u + y * v)
            s += w * (x * v - y * u)
        long = np.hypot(c, s)
        if long < 1e-300:
            c = 1.0
            s = 0.0
        else:
            c /= long
            s /= long
        for k in range(3):
            i = tri[t, k]
            j = tri[t, (k + 1) % 3]
            w = weights[t, k]
            x = rest[t, (k + 1) % 3, 0] - rest[t, k, 0]
            y = rest[t, (k + 1) % 3, 1] - rest[t, k, 1]
            du = w * (c * x - s * y)
            dv = w * (s * x + c * y)
            out[j, 0] += du
            out[j, 1] += dv
            out[i, 0] -= du
            out[i, 1] -= dv


@kernel
def _dirichlet(flat: F64, tri: I32, rest: F64, areas: F64, slope: F64) -> float:
    """The symmetric Dirichlet energy and its slope; infinite where a triangle is turned over."""
    slope[:] = 0.0
    total = 0.0
    for t in range(tri.shape[0]):
        x1 = rest[t, 1, 0]
        x2 = rest[t, 2, 0]
        y2 = rest[t, 2, 1]
        i, j, k = tri[t, 0], tri[t, 1], tri[t, 2]
        ax = flat[j, 0] - flat[i, 0]
        ay = flat[j, 1] - flat[i, 1]
        bx = flat[k, 0] - flat[i, 0]
        by = flat[k, 1] - flat[i, 1]
        # The triangle at rest has its first side along x.
        p = ax / x1
        q = ay / x1
        r = (bx - p * x2) / y2
        s = (by - q * x2) / y2
        det = p * s - q * r
        if det <= 0.0:
            return np.inf
        norm = p * p + q * q + r * r + s * s
        one = 1.0 + 1.0 / (det * det)
        total += areas[t] * norm * one
        back = norm / (det * det * det)
        gp = areas[t] * 2.0 * (p * one - s * back)
        gq = areas[t] * 2.0 * (q * one + r * back)
        gr = areas[t] * 2.0 * (r * one + q * back)
        gs = areas[t] * 2.0 * (s * one - p * back)
        jx = gp / x1 - gr * x2 / (x1 * y2)
        jy = gq / x1 - gs * x2 / (x1 * y2)
        kx = gr / y2
        ky = gs / y2
        slope[j, 0] += jx
        slope[j, 1] += jy
        slope[k, 0] += kx
        slope[k, 1] += ky
        slope[i, 0] -= jx + kx
        slope[i, 1] -= jy + ky
    return total


@kernel
def _farthest(flat: F64, way: F64, tri: I32) -> float:
    """How far all points may go along their ways before a triangle has no area any more."""
    most = 1e30
    for t in range(tri.shape[0]):
        i, j, k = tri[t, 0], tri[t, 1], tri[t, 2]
        ax, ay = flat[j, 0] - flat[i, 0], flat[j, 1] - flat[i, 1]
        bx, by = flat[k, 0] - flat[i, 0], flat[k, 1] - flat[i, 1]
        cx, cy = way[j, 0] - way[i, 0], way[j, 1] - way[i, 1]
        dx, dy = way[k, 0] - way[i, 0], way[k, 1] - way[i, 1]
        a = cx * dy - cy * dx
        b = ax * dy - ay * dx + cx * by - cy * bx
        c = ax * by - ay * bx
        root = b * b - 4.0 * a * c
        if root < 0.0:
            continue
        root = np.sqrt(root)
        # Both roots without cancellation.
        q = -0.5 * (b + (root if b >= 0.0 else -root))
        for found in (q / a if a != 0.0 else -1.0, c / q if q != 0.0 else -1.0):
            if 0.0 < found < most:
                most = found
    return most


@dataclass(frozen=True, eq=False)
class Island:
    """One island ready to be laid.

    Attributes
    ----------
    names : (n,) int64
        Its points.
    tri : (t, 3) int32
        Its triangles; quads are cut along their shorter diagonal.
    places : (n, 3) float64
    rest : (t, 3, 2) float64
        Each triangle in its own plane, its first side along x.
    areas : (t,) float64
    """

    names: AnyArray
    tri: I32
    places: F64
    rest: F64
    areas: F64

    @classmethod
    def of(cls, mesh: Mesh, islands: Islands, members: AnyArray) -> Island:
        """The island of some faces (k,)."""
        points = islands.points[members]
        names, flat = np.unique(points, return_inverse=True)
        local = flat.reshape(points.shape)
        if names[0] < 0:
            names, local = names[1:], local - 1
        places = mesh.positions[islands.vertex[names]].astype(np.float64)
        quads = points[:, 3] >= 0
        q = local[quads]
        far = [np.linalg.norm(places[q[:, a]] - places[q[:, a + 2]], axis=1) for a in (0, 1)]
        other = far[1] < far[0] * (1 - 1e-6)
        one = np.where(other[:, None], q[:, [0, 1, 3]], q[:, [0, 1, 2]])
        two = np.where(other[:, None], q[:, [1, 2, 3]], q[:, [0, 2, 3]])
        tri = np.concatenate([local[~quads][:, :3], one, two]).astype(np.int32)
        a, b, c = (places[tri[:, k]] for k in range(3))
        side, rise = b - a, c - a
        long = np.linalg.norm(side, axis=1)
        areas = np.linalg.norm(np.cross(side, rise), axis=1) / 2
        least = max(float(areas.mean()) * FLAT, 1e-300)
        long = np.maximum(long, np.sqrt(least))
        areas = np.maximum(areas, least)
        rest = np.zeros((len(tri), 3, 2))
        rest[:, 1, 0] = long
        rest[:, 2, 0] = np.einsum("td,td->t", side, rise) / long
        rest[:, 2, 1] = 2 * areas / long
        return cls(names, tri, places, rest, areas)

    def laid(self, progress: Progress) -> tuple[F64, int]:
        """Places (n, 2), and how many triangles lie turned over."""
        n = len(self.names)
        if len(self.tri) == 1:
            flat = np.empty((n, 2))
            flat[self.tri[0]] = self.rest[0]
            return self._placed(flat), 0
        weights = self.cotangents()
        solve = self._solver(weights, pinned=True)
        flat = self._scaled(self._conformal())
        right = np.empty((n, 2))
        for _ in range(ROUNDS):
            _turns(flat, self.tri, self.rest, weights, right)
            was, flat = flat, solve(right)
            if np.abs(flat - was - (flat - was)[0]).max() < 1e-3 * np.sqrt(self.areas.sum()):
                break
        over = self.turned(flat)
        if over:
            flat = self.without_turning(progress)
            over = self.turned(flat)
        return self._placed(flat), over

    def cotangents(self) -> F64:
        """Half the cotangent across each side of each triangle, (t, 3), held where clay is bad."""
        r = self.rest
        out = np.empty((len(r), 3))
        for k in range(3):
            a, b = r[:, k] - r[:, (k + 2) % 3], r[:, (k + 1) % 3] - r[:, (k + 2) % 3]
            out[:, k] = np.einsum("td,td->t", a, b) / (4 * self.areas)
        return np.clip(out, -50, 50)

    def laplacian(self, weights: F64) -> csc_matrix:
        """The Laplacian of its points, (n, n), by weights (t, 3) of its triangles' sides."""
        tri, n = self.tri, len(self.names)
        i = np.concatenate([tri[:, k] for k in range(3)])
        j = np.concatenate([tri[:, (k + 1) % 3] for k in range(3)])
        w = np.concatenate([weights[:, k] for k in range(3)])
        rows, columns = np.concatenate([i, j, i, j]), np.concatenate([j, i, i, j])
        return coo_matrix((np.concatenate([-w, -w, w, w]), (rows, columns)), shape=(n, n)).tocsc()

    def _solver(self, weights: F64, pinned: bool) -> Callable[[F64], F64]:
        """What solves the Laplacian for right-hand sides (n, 2): the first point pinned at nought."""
        n = len(self.names)
        whole = self.laplacian(weights)
        # Never singular: cotangents of bad clay may cancel.
        tiny = 1e-9 * abs(whole.diagonal()).mean()
        matrix = (whole + tiny * _eye(n))[1:, 1:].tocsc()
        factor = splu(matrix, permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True})  # fmt: skip

        def solve(right: F64) -> F64:
            out = np.zeros((n, 2))
            out[1:] = factor.solve(np.ascontiguousarray(right[1:]))
            return out

        return solve

    def _conformal(self) -> F64:
        """The least squares conformal map with two far points pinned."""
        n, tri, r = len(self.names), self.tri, self.rest
        # Each triangle: sum over its corners of (opposite side as a complex number) times the place, nought if conformal.
        side = np.empty((len(tri), 3), complex)
        for k in range(3):
            d = r[:, (k + 2) % 3] - r[:, (k + 1) % 3]
            side[:, k] = (d[:, 0] + 1j * d[:, 1]) / np.sqrt(2 * self.areas)
        rows = np.repeat(np.arange(len(tri)), 3)
        matrix = coo_matrix((side.reshape(-1), (rows, tri.reshape(-1))), shape=(len(tri), n)).tocsc()
        one, two = self._far_ends()
        free = np.ones(n, bool)
        free[[one, two]] = False
        held = np.zeros(n, complex)
        held[two] = np.linalg.norm(self.places[one] - self.places[two])
        part = matrix[:, free]
        normal = (part.conj().T @ part).tocsc()
        normal = normal + 1e-12 * abs(normal.diagonal()).mean() * _eye(normal.shape[0])
        right = -(part.conj().T @ (matrix @ held))
        factor = splu(normal.tocsc(), permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True})  # fmt: skip
        held[free] = factor.solve(right)
        return np.stack([held.real, held.imag], axis=1)

    def _far_ends(self) -> tuple[int, int]:
        """Two points far from each other."""
        first = int(np.argmax(np.linalg.norm(self.places - self.places.mean(axis=0), axis=1)))
        away = np.linalg.norm(self.places - self.places[first], axis=1)
        return first, int(np.argmax(away))

    def _scaled(self, flat: F64) -> F64:
        """As large as the clay, and not turned over as a whole."""
        area = self.signed(flat).sum()
        if not np.isfinite(flat).all() or abs(area) < 1e-12 * self.areas.sum():
            return self._circle()
        if area < 0:
            flat = flat * [-1.0, 1.0]
        return np.asarray(flat * np.sqrt(self.areas.sum() / abs(area)))

    def signed(self, flat: F64) -> F64:
        """The areas of the triangles, (t,), below nought where they are turned over."""
        a, b, c = (flat[self.tri[:, k]] for k in range(3))
        return np.asarray(((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0]) / 2)

    def turned(self, flat: F64) -> int:
        """How many triangles lie turned over, its points being at places (n, 2)."""
        return int((self.signed(flat) <= 0).sum())

    # -- where triangles would be turned over -------------------------------------------------------------------

    def rims(self) -> list[I32]:
        """The loops of open edges, (k,) each, the longest first."""
        tri = self.tri
        n = len(self.names)
        here = tri.reshape(-1).astype(np.int64)
        there = tri[:, [1, 2, 0]].reshape(-1).astype(np.int64)
        keys = here * n + there
        open_at = ~np.isin(keys, there * n + here)
        after = dict(zip(here[open_at].tolist(), there[open_at].tolist(), strict=True))
        loops = []
        while after:
            first, follow = after.popitem()
            loop = [first]
            while follow != first and follow in after:
                loop.append(follow)
                follow = after.pop(follow)
            loops.append(np.array(loop, np.int32))

        def long(loop: I32) -> float:
            p = self.places[loop]
            return float(np.linalg.norm(p - np.roll(p, -1, axis=0), axis=1).sum())

        return sorted(loops, key=long, reverse=True)

    def _circle(self) -> F64:
        """The rim on a circle, every point within at the mean of its neighbours: nothing is turned over."""
        rim = self.rims()[0]
        steps = self._steps(rim)
        angle = 2 * np.pi * np.concatenate([[0], np.cumsum(steps)[:-1]]) / steps.sum()
        radius = np.sqrt(self.areas.sum() / np.pi)
        return self._within(rim, radius * np.stack([np.cos(angle), np.sin(angle)], axis=1))

    def box(self, flat: F64) -> F64:
        """The island as a rectangle: its rim on the sides, by its corners as it lies now in `flat` (n, 2)."""
        rims = self.rims()
        if not rims or len(rims[0]) < 4:
            return flat
        rim = rims[0]
        low, high = flat.min(axis=0), flat.max(axis=0)
        wanted = np.array([low, [high[0], low[1]], high, [low[0], high[1]]])
        picked = [int(np.argmin(np.linalg.norm(flat[rim] - corner, axis=1))) for corner in wanted]
        start = picked[0]
        rim = np.roll(rim, -start)
        order = [(k - start) % len(rim) for k in picked]
        if sorted(order) != order or len(set(order)) < 4:
            # Its corners are not four: they are put a quarter of the way apart.
            steps = np.cumsum(self._steps(rim)) / self._steps(rim).sum()
            order = [0, *(int(np.searchsorted(steps, share)) + 1 for share in (0.25, 0.5, 0.75))]
            order = [min(k, len(rim) - 4 + j) for j, k in enumerate(order)]
        steps = self._steps(rim)
        ends = [*order, len(rim)]
        sides = [float(steps[a:b].sum()) for a, b in pairwise(ends)]
        wide, high_ = (sides[0] + sides[2]) / 2, (sides[1] + sides[3]) / 2
        corners = np.array([[0, 0], [wide, 0], [wide, high_], [0, high_], [0, 0]])
        at = np.empty((len(rim), 2))
        for k, (a, b) in enumerate(pairwise(ends)):
            share = np.concatenate([[0], np.cumsum(steps[a:b])[:-1]]) / steps[a:b].sum()
            at[a:b] = corners[k] + share[:, None] * (corners[k + 1] - corners[k])
        return self._within(rim, at)

    def _steps(self, rim: I32) -> F64:
        p = self.places[rim]
        steps = np.linalg.norm(p - np.roll(p, -1, axis=0), axis=1)
        return np.maximum(steps, steps.mean() * 1e-3 or 1.0)

    def _within(self, rim: I32, there: F64) -> F64:
        """The rim at places (k, 2), and every other point at the mean of its neighbours (n, 2)."""
        n = len(self.names)
        rims = self.rims()
        tri = self.tri
        # Holes are closed by a point each, or they would not have to stay open.
        for k, loop in enumerate(rims[1:]):
            fan = np.stack([np.roll(loop, -1), loop, np.full(len(loop), n + k, np.int32)], axis=1)
            tri = np.concatenate([tri, fan.astype(np.int32)])
        whole = n + max(len(rims) - 1, 0)
        at = np.zeros((whole, 2))
        at[rim] = there
        i = np.concatenate([tri[:, k] for k in range(3)] + [tri[:, (k + 1) % 3] for k in range(3)])
        j = np.concatenate([tri[:, (k + 1) % 3] for k in range(3)] + [tri[:, k] for k in range(3)])
        graph = coo_matrix((np.ones(len(i)), (i, j)), shape=(whole, whole)).tocsr()
        graph.data[:] = 1.0
        inner = np.ones(whole, bool)
        inner[rim] = False
        if inner.any():
            degree = np.asarray(graph.sum(axis=1)).ravel()
            matrix = (_eye(whole).multiply(degree[:, None]) - graph).tocsr()[inner]
            at[inner] = splu(matrix[:, inner].tocsc()).solve(-(matrix[:, ~inner] @ at[~inner]))
        return np.asarray(at[:n])

    def without_turning(self, progress: Progress) -> F64:
        """Places (n, 2) from the circle down the energy, as far as no triangle is turned over."""
        flat = self._circle()
        if self.turned(flat):
            # Clay that is no sheet: an edge of three faces, a triangle without area.
            return flat
        positive = np.maximum(self.cotangents(), 1e-3)
        solve = self._solver(positive, pinned=True)
        slope, fresh = np.empty_like(flat), np.empty_like(flat)
        energy = _dirichlet(flat, self.tri, self.rest, self.areas, slope)
        before = flat
        for k in range(STEPS):
            if k % 10 == 0:
                progress.report(0.5, "Laying flat without folds")
            # Ahead by what the last step brought, as far as that turns nothing over.
            ahead = flat + 0.85 * (flat - before) if k else flat
            start = _dirichlet(ahead, self.tri, self.rest, self.areas, fresh)
            if start > energy:
                ahead, start = flat, _dirichlet(flat, self.tri, self.rest, self.areas, fresh)
            way = -solve(fresh)
            step = min(0.9 * _farthest(ahead, way, self.tri), 1.0)
            fall = float((way * fresh).sum())
            while step > 1e-8:
                now = _dirichlet(ahead + step * way, self.tri, self.rest, self.areas, slope)
                if now <= start + 1e-4 * step * fall:
                    break
                step *= 0.5
            else:
                break
            before, flat = flat, ahead + step * way
            done = energy - now < 1e-5 * energy
            energy = now
            if done and k > 5:
                break
        return flat

    def _placed(self, flat: F64) -> F64:
        """As large as its clay, turned so that it takes the least room, its lower left at nought."""
        flat = flat * np.sqrt(self.areas.sum() / max(abs(float(self.signed(flat).sum())), 1e-300))
        flat = flat - flat.mean(axis=0)
        flat = flat @ upright(flat).T
        return np.asarray(flat - flat.min(axis=0))


def folded_free(mesh: Mesh) -> Unwrapped:
    """A whole mesh laid flat along one cut, by the way that turns no triangle over: slower, and never needed where the other one does."""
    edges = Edges.of(mesh.topology)
    cuts, added = opened(mesh, edges, np.zeros(len(edges.ends), bool))
    islands = islands_of(mesh.topology, edges, cuts)
    at, turned = np.zeros((len(islands.vertex), 2)), 0
    for members in islands.members():
        island = Island.of(mesh, islands, members)
        flat = island.without_turning(Progress())
        at[island.names] = flat
        turned += island.turned(flat)
    return Unwrapped(islands.at_corners(at), islands, cuts, added, turned)


def upright(flat: AnyArray) -> F64:
    """The turn (2, 2) that gives points (n, 2) the smallest box, the longer side up."""
    try:
        rim = flat[ConvexHull(flat).vertices]
    except (QhullError, ValueError):
        return np.eye(2)
    sides = np.roll(rim, -1, axis=0) - rim
    angles = np.arctan2(sides[:, 1], sides[:, 0])
    turns = np.stack([np.stack([np.cos(angles), np.sin(angles)], 1), np.stack([-np.sin(angles), np.cos(angles)], 1)], 1)  # fmt: skip
    at = np.einsum("aij,nj->ani", turns, rim)
    spans = at.max(axis=1) - at.min(axis=1)
    best = int(np.argmin(spans.prod(axis=1)))
    turn = turns[best]
    if spans[best, 0] > spans[best, 1]:
        turn = np.array([[0.0, -1.0], [1.0, 0.0]]) @ turn
    # Of both ways up, the one nearer to how it lay.
    return -turn if turn[1, 1] < 0 else turn


def _eye(n: int) -> csc_matrix:
    every = np.arange(n)
    return csc_matrix((np.ones(n), (every, every)), shape=(n, n))
