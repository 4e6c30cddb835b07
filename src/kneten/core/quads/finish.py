"""A cage brought onto the clay: square quads, corners on the surface, lines on their lines; and what can be said of it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from kneten.core.arrays import F64, I32, U8, AnyArray, Progress
from kneten.core.face_tree import FaceTree
from kneten.core.quads.extract import Cage, corner_sines
from kneten.core.quads.ground import Lines, Source, on_source

PASSES = 24
"""Times that quads are squared and brought back onto the clay."""


@dataclass(frozen=True)
class Quality:
    """What can be said of a cage.

    Attributes
    ----------
    faces, vertices : int
    quads : float
        Share of faces that are quads.
    irregular : float
        Share of vertices inside that do not have four edges.
    shape : float
        Mean scaled Jacobian of quads: 1 for squares.
    worst : float
        The least of them; below zero where a quad turns in.
    """

    faces: int
    vertices: int
    quads: float
    irregular: float
    shape: float
    worst: float


def quality(points: F64, faces: I32) -> Quality:
    """What can be said of faces (f, 4), -1 for a triangle's last corner, between points (n, 3)."""
    quads = faces[faces[:, 3] >= 0]
    off = int(irregular(points, faces).sum())
    sines = corner_sines(points, quads).min(axis=1) if len(quads) else np.zeros(1)
    return Quality(
        len(faces), len(points), len(quads) / max(len(faces), 1), off / max(len(points), 1), float(sines.mean()), float(sines.min())
    )  # fmt: skip


def irregular(points: F64, faces: I32) -> AnyArray:
    """Which vertices (n,) bool inside of faces (f, 4) do not have four edges, or on a border not three."""
    n = len(points)
    a, b = edges_of(faces)
    keys, counts = np.unique(np.minimum(a, b) * n + np.maximum(a, b), return_counts=True)
    edges = np.bincount(np.concatenate([keys // n, keys % n]).astype(np.int64), minlength=n)
    open_ = keys[counts == 1]
    border = np.zeros(n, bool)
    border[np.concatenate([open_ // n, open_ % n])] = True
    return np.asarray(np.where(border, (edges != 3) & (edges != 2), edges != 4))


def edges_of(faces: I32) -> tuple[AnyArray, AnyArray]:
    """Both ends (k,), (k,) of the sides of faces (f, 4), each as often as there are faces at it."""
    sides = np.where(faces[:, 3] < 0, 3, 4)
    face = np.repeat(np.arange(len(faces)), sides)
    corner = np.arange(len(face)) - np.repeat(np.cumsum(sides) - sides, sides)
    return faces[face, corner].astype(np.int64), faces[face, (corner + 1) % sides[face]].astype(np.int64)


def normals_of(points: F64, faces: I32) -> F64:
    """Unit normals (n, 3) at the vertices of faces (f, 4), -1 for a triangle's last corner."""
    last = np.where(faces[:, 3] < 0, faces[:, 0], faces[:, 3])
    across = np.cross(points[faces[:, 2]] - points[faces[:, 0]], points[last] - points[faces[:, 1]])
    total = np.zeros((len(points), 3))
    for corner in range(4):
        there = faces[:, corner] >= 0
        for k in range(3):
            total[:, k] += np.bincount(faces[there, corner], across[there, k], len(points))
    return np.asarray(total / np.maximum(np.linalg.norm(total, axis=1, keepdims=True), 1e-300))


def squared(points: F64, quads: I32) -> F64:
    """Where the corners (n, 3) of quads (f, 4) would lie, on the mean, if each quad were the square it is nearest to."""
    p = points[quads]
    middle = p.mean(axis=1, keepdims=True)
    d = p - middle
    normal = np.cross(d[:, 2] - d[:, 0], d[:, 3] - d[:, 1])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)

    def turned(v: F64, quarters: int) -> F64:
        """In the plane of the quad, by quarters of a turn; what is out of the plane is left out."""
        flat = v - (v * normal).sum(1, keepdims=True) * normal
        for _ in range(quarters % 4):
            flat = np.cross(normal, flat)
        return flat

    # Each corner turned back to where the first one is: their mean is the square's first corner.
    first = np.mean([turned(d[:, k], 4 - k) for k in range(4)], axis=0)
    goal = np.stack([turned(first, k) for k in range(4)], axis=1) + middle
    total = np.stack([np.bincount(quads.reshape(-1), goal[:, :, k].reshape(-1), len(points)) for k in range(3)], axis=-1)  # fmt: skip
    counts = np.bincount(quads.reshape(-1), minlength=len(points))
    return np.asarray(total / np.maximum(counts, 1)[:, None])


TANGLED = 0.25
"""A quad of a worse shape is loosened: its corners go to the mean of their neighbours, off the clay for a while."""

SAGGING = 0.25
"""Clay nearer than so many edges is not reached for either."""

REACHES = 8
"""Times that clay far from the cage is reached for."""

LOOSENED = (6, 12, 17)
"""The passes before which that is done."""

STILL_GOOD = 0.2
"""No quad gets a worse corner by being drawn to far clay, unless it had one."""

REACHED = 0.002
"""Clay farther from the cage than this share of its diagonal is reached for."""


@dataclass
class _Fit:
    """A cage of quads being fitted to clay."""

    points: F64
    faces: I32
    source: Source
    size: float

    def __post_init__(self) -> None:
        self.n = len(self.points)
        self.a, self.b = edges_of(self.faces)
        self.counts = np.maximum(np.bincount(self.a, minlength=self.n), 1)
        self.lines = Lines(self.source.lines, self.source.kinds)
        self.kinds = np.zeros(self.n, np.uint8)
        self.free = np.ones(self.n, bool)
        self.on = np.zeros(self.n, bool)
        self.along = np.empty((0, 2), np.int32)
        diagonal = float(np.linalg.norm(np.ptp(self.source.points, axis=0)))
        # Flat quads of that size leave round clay by a few hundredths of an edge anyway.
        self.off = max(REACHED * diagonal, SAGGING * self.size)
        self._at: tuple[AnyArray, AnyArray] | None = None

    def keep(self, lines: I32, kinds: U8, corners: F64) -> None:
        """Hold vertices to the lines of kinds (k,) that edges (k, 2) make, and the ends of lines to places (c, 3)."""
        for k in (0, 1):
            self.kinds[lines[:, k]] = kinds
        met = np.bincount(lines.reshape(-1), minlength=self.n)
        kept = (met != 0) & (met != 2)
        at = np.flatnonzero(met != 0)
        if len(corners) and len(at):
            far, best = cKDTree(self.points[at]).query(corners)
            near = far < 0.75 * self.size
            kept[at[best[near]]] = True
            self.points[at[best[near]]] = corners[near]
        self.free, self.on = met == 0, (met == 2) & ~kept
        self.along = lines[self.on[lines].any(axis=1)]

    def mean(self) -> F64:
        """The mean (n, 3) of each vertex's neighbours."""
        return np.stack([np.bincount(self.a, self.points[self.b, k], self.n) for k in range(3)], axis=-1) / self.counts[:, None]  # fmt: skip

    def step(self, progress: Progress, held: AnyArray | None = None) -> None:
        """Square the quads a little, and bring all back onto the clay; what is `held` (n,) bool stays."""
        goal = 0.75 * squared(self.points, self.faces) + 0.25 * self.mean()
        free = self.free if held is None else self.free & ~held
        new = self.points.copy()
        new[free] += 0.7 * (goal - self.points)[free]
        if self.on.any():
            total = np.zeros((self.n, 3))
            for k in (0, 1):
                for axis in range(3):
                    total[:, axis] += np.bincount(
                        self.along[:, k], self.points[self.along[:, 1 - k], axis], self.n
                    )
            pull = 0.5 * goal[self.on] + 0.25 * total[self.on]
            new[self.on] += 0.7 * (pull - self.points[self.on])
            new[self.on] = self.lines.nearest(new[self.on], self.kinds[self.on])
        moved = np.flatnonzero(free)
        normals = normals_of(new, self.faces)
        new[moved], _ = on_source(self.source, new[moved], normals[moved], 4 * self.size, progress)
        self.points = new

    def loosen(self, least: float, rings: int, progress: Progress | None = None) -> bool:
        """Let go of the clay where quads have a worse shape than that, or (with `progress`) lie across from the clay.

        They are evened out in space; returns whether there are such.
        """
        bad = corner_sines(self.points, self.faces).min(axis=1) < least
        if progress is not None:
            middles = self.points[self.faces].mean(axis=1).astype(np.float32)
            _, far = self.source.tree.nearest(middles, np.full(len(middles), np.inf, np.float32), progress)
            bad |= far > 1.5 * self.off
        if not bad.any():
            return False
        loose = np.zeros(self.n, bool)
        loose[self.faces[bad]] = True
        for _ in range(rings):
            loose[self.a[loose[self.b]]] = True
        loose &= self.free
        for _ in range(10):
            goal = 0.8 * squared(self.points, self.faces) + 0.2 * self.mean()
            self.points[loose] += 0.7 * (goal - self.points)[loose]
        return True

    def reach(self, progress: Progress, held: AnyArray) -> bool:
        """Move vertices to the clay that the cage is farthest from; whether there is such. They are `held` (n,) bool then."""
        clay = self.source.points.astype(np.float32)
        tree = FaceTree.over(self.points.astype(np.float32), self.faces)
        _, far = tree.nearest(clay, np.full(len(clay), np.inf, np.float32), progress)
        rows = np.flatnonzero(far > self.off)
        if not len(rows):
            return False
        rows = rows[np.argsort(-far[rows], kind="stable")][:20_000]
        places, facing = self.source.points[rows], self.source.normals[rows]
        near = cKDTree(places)
        taken = np.zeros(len(rows), bool)
        free = np.flatnonzero(self.free & ~held)
        if len(free) < 8:
            return False
        vertices = cKDTree(self.points[free])
        normals = normals_of(self.points, self.faces)
        moved = False
        for i in range(len(rows)):
            if taken[i]:
                continue
            taken[near.query_ball_point(places[i], 0.7 * self.size)] = True
            for v in free[vertices.query(places[i], k=8)[1]]:
                if not held[v] and float(normals[v] @ facing[i]) > 0.3:
                    moved |= self._moved_to(int(v), places[i], held)
                    break
        return moved

    def off_by(self, progress: Progress) -> float:
        """How far cage and clay are apart at the worst place, in `REACHED`, and a little for each quad that turns in."""
        clay = self.source.points.astype(np.float32)
        tree = FaceTree.over(self.points.astype(np.float32), self.faces)
        _, far = tree.nearest(clay, np.full(len(clay), np.inf, np.float32), progress)
        middles = self.points[self.faces].mean(axis=1).astype(np.float32)
        _, across = self.source.tree.nearest(middles, np.full(len(middles), np.inf, np.float32), progress)
        turned = int((corner_sines(self.points, self.faces).min(axis=1) < 0).sum())
        return max(float(far.max()), float(across.max())) / max(self.off, 1e-300) + 0.1 * turned

    def _moved_to(self, v: int, place: F64, held: AnyArray) -> bool:
        """Move a vertex to a place, or part of the way, as far as no quad at it turns in; whether that was possible."""
        quads = self.faces[self._faces_at(v)]
        was, least = self.points[v].copy(), float(corner_sines(self.points, quads).min())
        for share in (1.0, 0.5, 0.25):
            self.points[v] = was + share * (place - was)
            if float(corner_sines(self.points, quads).min()) > min(STILL_GOOD, least):
                held[v] = share == 1.0
                return True
        self.points[v] = was
        return False

    def _faces_at(self, v: int) -> AnyArray:
        if self._at is None:
            corners = self.faces.reshape(-1)
            order = np.argsort(corners, kind="stable")
            self._at = order // 4, np.searchsorted(corners[order], np.arange(self.n + 1))
        faces, start = self._at
        return faces[start[v] : start[v + 1]]


def fitted(
    cage: Cage, source: Source, corners: F64, size: float, progress: Progress, share: tuple[float, float]
) -> F64:
    """The vertices (n, 3) of a cage of quads, evened out on the clay.

    Parameters
    ----------
    corners : (c, 3) float64
        Where lines end or turn sharply: the vertices nearest to them stay there.
    size : float
        How long edges are.
    """
    fit = _Fit(cage.points.copy(), cage.faces, source, size)
    fit.keep(cage.lines, cage.kinds, corners)
    for turn in range(PASSES):
        progress.report(share[0] + (share[1] - share[0]) * turn / PASSES, "Evening quads")
        if turn in LOOSENED:
            fit.loosen(TANGLED, 2)
        fit.step(progress)
    best, score = fit.points, np.inf
    for turn in range(REACHES):
        held = np.zeros(fit.n, bool)
        if turn % 2 and not fit.loosen(0.0, 1, progress):
            # Every other time all may move again.
            fit.step(progress)
        more = fit.reach(progress, held)
        fit.step(progress, held)
        fit.reach(progress, held)
        if (now := fit.off_by(progress)) < score:
            best, score = fit.points.copy(), now
        if not more:
            break
    return best
