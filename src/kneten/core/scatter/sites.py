"""Where the pieces of scatter sit: over a surface, apart from each other, evenly."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from kneten.core.arrays import F32, F64, I32, U16, AnyArray, Progress, kernel
from kneten.core.guides import held, resampled
from kneten.core.live.clay import RecipeError
from kneten.core.mesh import Mesh
from kneten.core.scatter.apart import push, throw
from kneten.core.scatter.numbers import Scatter, check_amount
from kneten.core.scatter.pieces import Piece
from kneten.core.scatter.walk import Spots, spots_of, walked

TRIES = 5
"""Places tried for each piece that the clay has room for."""

MOST_TRIES = 1_500_000

CYCLES, ROUNDS = 2, 9
"""How often pieces are spread and gaps are filled, and how often they give way to each other in between."""

CLOSER = 0.84
"""How large pieces count, before they give way to each other: chance fills half of a surface, this three quarters."""

FULL = 0.72
"""Share of a surface that pieces cover where there is no room for more."""

MASKED = 0.5
"""From which share of the mask on pieces lie there."""


@dataclass(frozen=True, eq=False)
class Ground:
    """What pieces sit on.

    Attributes
    ----------
    mesh : Mesh
        At rest.
    mask : (n,) float32 or None
        What scatter over a mask, or shrunk by one, goes by.
    lines : list of (k, 3) float64
        Guides, in the mesh's space.
    """

    mesh: Mesh
    mask: F32 | None = None
    lines: Sequence[F64] = ()


@dataclass(frozen=True, eq=False)
class Sites:
    """Where pieces sit.

    Attributes
    ----------
    spots : Spots
    sizes : (n,) float64
    spins : (n,) float64
        Chance, -1 to 1: how far each is turned.
    which : (n,) int32
        Which of the pieces.
    hands : (n,) int8
        -1 for a mirror image.
    """

    spots: Spots
    sizes: F64
    spins: F64
    which: I32
    hands: AnyArray

    def __len__(self) -> int:
        """How many there are."""
        return len(self.sizes)

    def taken(self, rows: I32) -> Sites:
        """Some of them, rows (k,), in this order."""
        return Sites(
            self.spots.taken(rows), self.sizes[rows], self.spins[rows], self.which[rows], self.hands[rows]
        )


def together(sites: Sequence[Sites]) -> Sites:
    """All of them."""
    spots = Spots(
        np.concatenate([s.spots.faces for s in sites]),
        np.concatenate([s.spots.halves for s in sites]),
        np.concatenate([s.spots.shares for s in sites]),
    )
    return Sites(
        spots,
        np.concatenate([s.sizes for s in sites]),
        np.concatenate([s.spins for s in sites]),
        np.concatenate([s.which for s in sites]),
        np.concatenate([s.hands for s in sites]),
    )


# -- places by chance --------------------------------------------------------------------------------


@kernel
def _twice_area(f: int, half: int, positions: F32, faces: I32) -> float:
    """Twice the area of a face's first or second triangle."""
    a = faces[f, 0]
    b = faces[f, 1 + half]
    c = faces[f, 2 + half]
    ux = float(positions[b, 0]) - positions[a, 0]
    uy = float(positions[b, 1]) - positions[a, 1]
    uz = float(positions[b, 2]) - positions[a, 2]
    vx = float(positions[c, 0]) - positions[a, 0]
    vy = float(positions[c, 1]) - positions[a, 1]
    vz = float(positions[c, 2]) - positions[a, 2]
    x = uy * vz - uz * vy
    y = uz * vx - ux * vz
    z = ux * vy - uy * vx
    return np.sqrt(x * x + y * y + z * z)


@kernel
def _face_weights(
    positions: F32, faces: I32, free: AnyArray, regions: U16, number: int, scale: F32, least: float, out: F64
) -> None:
    """How many pieces each face has room for: its area over what one takes up."""
    for f in range(faces.shape[0]):
        out[f] = 0.0
        if number > 0 and regions[f] != number:
            continue
        inside = 0.0
        wide = 0.0
        count = 0
        area = 0.0
        for k in range(4):
            v = faces[f, k]
            if v < 0:
                continue
            count += 1
            if free.shape[0] > 0:
                inside += free[v]
            wide += scale[v] if scale.shape[0] > 0 else 1.0
        if free.shape[0] > 0 and inside < least * count:
            continue
        for half in range(2):
            if half == 1 and faces[f, 3] < 0:
                break
            area += _twice_area(f, half, positions, faces)
        wide /= count
        out[f] = area / 2 / (wide * wide)


@kernel
def _drop(
    at: F64, dice: F64, sums: F64, positions: F32, faces: I32, found: I32, halves: I32, shares: F64
) -> None:
    """Spots for ascending numbers `at`, among running sums of the faces' weights."""
    f = 0
    for i in range(at.shape[0]):
        while f < sums.shape[0] - 1 and sums[f] < at[i]:
            f += 1
        found[i] = f
        halves[i] = 0
        if faces[f, 3] >= 0:
            first = _twice_area(f, 0, positions, faces)
            if dice[i, 2] * (first + _twice_area(f, 1, positions, faces)) > first:
                halves[i] = 1
        u = np.sqrt(dice[i, 0])
        shares[i, 0] = 1 - u
        shares[i, 1] = u * (1 - dice[i, 1])
        shares[i, 2] = u * dice[i, 1]


def room_on(
    mesh: Mesh,
    mask: F32 | None,
    regions: U16 | None = None,
    number: int = 0,
    scale: F32 | None = None,
    least: float = MASKED,
) -> F64:
    """The area of each face (f,) where something may lie: masked enough, of a region, not hidden.

    Parameters
    ----------
    least : float
        From which mask on something may lie.
    scale : (n,) float32, optional
        How large what lies there is: areas are in its own measure.
    """
    free = np.empty(0, np.float32) if mask is None else mask
    labels = np.zeros(1, np.uint16) if regions is None else regions
    sizes = np.empty(0, np.float32) if scale is None else scale
    out = np.empty(mesh.topology.n_faces)
    _face_weights(mesh.positions, mesh.topology.faces, free, labels, number, sizes, least, out)
    if mesh.hidden is not None:
        out[mesh.hidden != 0] = 0.0
    return out


def drop_evenly(mesh: Mesh, sums: F64, count: int, rng: np.random.Generator) -> Spots:
    """So many places by chance, in the order of the faces, from running sums (f,) of the faces' areas."""
    at = (np.arange(count) + rng.random(count)) / count * sums[-1]
    found, halves = np.empty(count, np.int32), np.empty(count, np.int32)
    shares = np.empty((count, 3))
    _drop(at, rng.random((count, 3)), sums, mesh.positions, mesh.topology.faces, found, halves, shares)
    return Spots(found, halves, shares)


# -- directions, sizes -------------------------------------------------------------------------------


class Lines:
    """Guides that pieces go by: which way the nearest ones lead, and how far off they are."""

    def __init__(self, lines: Sequence[F64], step: float) -> None:
        dense = [resampled(line, step, False) for line in lines if len(line) > 1]
        if not dense:
            raise RecipeError("the pieces go by guides, and the clay has none: draw one, or choose otherwise")
        self._ways = np.concatenate([np.gradient(line, axis=0) for line in dense])
        self._ways /= np.maximum(np.linalg.norm(self._ways, axis=1, keepdims=True), 1e-12)
        self._tree = cKDTree(np.concatenate(dense))

    def ways(self, places: F64) -> F64:
        """The direction at each place, (n, 3): the nearest guides' ones, the nearer the more."""
        far, row = self._tree.query(places, min(8, self._tree.n))
        far, row = far.reshape(len(places), -1), row.reshape(len(places), -1)
        weight = 1.0 / (far + 1e-6 * (1 + far.max(initial=0.0))) ** 2
        return np.asarray(np.einsum("nk,nkx->nx", weight, self._ways[row]))

    def distances(self, places: F64) -> F64:
        """How far each place is from the nearest guide, (n,)."""
        return np.asarray(self._tree.query(places)[0])


def headings(scatter: Scatter, places: F64, normals: F64, spins: F64, lines: Lines | None) -> F64:
    """Which way pieces point, (n, 3), along the clay, units: the flow, the turn, and chance."""
    if scatter.flow == "guides":
        assert lines is not None
        ways = lines.ways(places)
        loose = scatter.loose
    elif scatter.flow == "down":
        ways = np.tile([0.0, -1.0, 0.0], (len(places), 1))
        loose = scatter.loose
    else:
        ways = np.tile([0.0, -1.0, 0.0], (len(places), 1))
        loose = 180.0
    return turned(ways, normals, np.radians(scatter.turn + loose * spins))


def turned(ways: F64, normals: F64, angles: F64) -> F64:
    """Directions (n, 3) laid along the clay and turned about its normals, units."""
    along = ways - np.einsum("nx,nx->n", ways, normals)[:, None] * normals
    long = np.linalg.norm(along, axis=1, keepdims=True)
    # Where a direction leads straight off the clay, any other will do.
    other = np.eye(3)[np.abs(normals).argmin(axis=1)]
    other = other - np.einsum("nx,nx->n", other, normals)[:, None] * normals
    along = np.where(long > 1e-4, along, other)
    along /= np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-12)
    side = np.cross(normals, along)
    return np.asarray(along * np.cos(angles)[:, None] + side * np.sin(angles)[:, None])


class _Placing:
    """The placing of one scatter."""

    def __init__(self, ground: Ground, scatter: Scatter, pieces: Sequence[Piece]) -> None:
        self.ground, self.scatter = ground, scatter
        self.half = np.array([piece.half for piece in pieces])
        self.rounds = np.array([piece.is_round for piece in pieces])
        wants_lines = scatter.flow == "guides" or scatter.shrink_by == "guides"
        self.lines = Lines(ground.lines, scatter.size) if wants_lines else None
        self.smallest = scatter.shrink if scatter.shrink_by != "none" else 1.0

    def shrunk(self, places: F64, mask: F64) -> F64:
        """How large pieces are at places, against their size, (n,)."""
        low = self.scatter.shrink
        if self.scatter.shrink_by == "mask":
            return np.asarray(low + (1 - low) * np.clip(mask, 0, 1))
        if self.scatter.shrink_by == "guides":
            assert self.lines is not None
            t = np.clip(self.lines.distances(places) / max(self.scatter.reach, 1e-9), 0, 1)
            return np.asarray(low + (1 - low) * t * t * (3 - 2 * t))
        return np.ones(len(places))

    def masked(self, spots: Spots) -> F64:
        """The mask at places, (n,)."""
        mask = self.ground.mask
        if mask is None:
            return np.ones(len(spots))
        return np.asarray(np.einsum("nc,nc->n", spots.shares, mask[spots.corners(self.ground.mesh)]))

    def allowed(self, sites: Sites) -> AnyArray:
        """Whether pieces may sit where they are, (n,) bool."""
        scatter, mesh, spots = self.scatter, self.ground.mesh, sites.spots
        free = np.ones(len(spots), bool)
        if scatter.over == "mask":
            free &= self.masked(spots) >= MASKED
        elif scatter.over == "region":
            assert mesh.regions is not None
            free &= mesh.regions[spots.faces] == int(scatter.of)
        if mesh.hidden is not None:
            free &= mesh.hidden[spots.faces] == 0
        if scatter.mirrored:
            places, normals, heads = self.frames(sites)
            half, is_round = self.outlines(sites)
            # How far an outline reaches towards the mirror.
            ahead = half[:, 1] * np.abs(heads[:, 0])
            aside = half[:, 0] * np.abs(np.cross(normals, heads)[:, 0])
            free &= places[:, 0] >= np.where(is_round, np.hypot(ahead, aside), ahead + aside)
        return free

    def sizes(self, sites: Sites) -> F64:
        """How large pieces are where they are now, (n,)."""
        if self.scatter.shrink_by == "none":
            return sites.sizes
        places = sites.spots.places(self.ground.mesh)
        return np.asarray(sites.sizes * self.shrunk(places, self.masked(sites.spots)))

    def outlines(self, sites: Sites) -> tuple[F64, AnyArray]:
        """Half extents (n, 2) with the gap around them, and whether they are oval, (n,)."""
        half = self.half[sites.which] * (self.sizes(sites) * (1 + self.scatter.gap))[:, None]
        return half, self.rounds[sites.which]

    def frames(self, sites: Sites) -> tuple[F64, F64, F64]:
        """Places, normals and headings, (n, 3) each."""
        places, normals = sites.spots.places(self.ground.mesh), sites.spots.normals(self.ground.mesh)
        return places, normals, headings(self.scatter, places, normals, sites.spins, self.lines)

    def room(self) -> F64:
        """How much each face has room for, (f,): area over what a piece takes up there."""
        mesh, scatter = self.ground.mesh, self.scatter
        scale = None
        if scatter.shrink_by != "none":
            mask = np.ones(mesh.n_vertices) if self.ground.mask is None else self.ground.mask
            scale = self.shrunk(mesh.positions.astype(np.float64), mask.astype(np.float64)).astype(np.float32)
        if scatter.over == "mask" and self.ground.mask is None:
            raise RecipeError("the mask that it lies on is not there any more")
        number = int(scatter.of) if scatter.over == "region" and scatter.of.isdecimal() else 0
        if scatter.over == "region" and (
            number == 0 or mesh.regions is None or not (mesh.regions == number).any()
        ):
            raise RecipeError("the region that it lies on is not there any more")
        out = room_on(mesh, self.ground.mask if scatter.over == "mask" else None, mesh.regions, number, scale)
        if not out.sum() > 0:
            raise RecipeError("there is no clay where it is to lie")
        return out

    def tried(self, sums: F64, count: int, rng: np.random.Generator) -> Sites:
        """Places by chance, in an order by chance."""
        mesh, scatter = self.ground.mesh, self.scatter
        spots = drop_evenly(mesh, sums, count, rng)
        spots = spots.taken(rng.permutation(count).astype(np.int32))
        sizes = scatter.size * (1 + scatter.vary * (2 * rng.random(count) - 1))
        which = rng.integers(0, len(self.half), count).astype(np.int32)
        sites = Sites(spots, sizes, 2 * rng.random(count) - 1, which, np.ones(count, np.int8))
        return sites.taken(np.flatnonzero(self.allowed(sites)).astype(np.int32))

    def thrown(self, sites: Sites, most: int, closer: float = 1.0) -> Sites:
        """Those that keep apart from the ones before them, as if they were `closer` times as large."""
        places, normals, heads = self.frames(sites)
        half, is_round = self.outlines(sites)
        half *= closer
        cell = float(2 * np.hypot(half[:, 0], half[:, 1]).max(initial=1e-9))
        size = _buckets(len(sites))
        buckets = np.empty(size, np.int32), np.empty(len(sites), np.int32)
        rows = throw(places, normals, heads, half, is_round, cell, most, *buckets)
        return sites.taken(rows)

    def spread(self, sites: Sites, slack: float) -> Sites:
        """Pieces that have given way to their neighbours once."""
        mesh = self.ground.mesh
        places, normals, heads = self.frames(sites)
        half, is_round = self.outlines(sites)
        cell = float((2 + slack) * half.sum(axis=1).max(initial=1e-9))
        size = _buckets(len(sites))
        away = np.empty_like(places)
        push(
            places, normals, heads, half, is_round, cell, slack,
            np.empty(size, np.int32), np.empty(len(sites), np.int32),
            np.empty((len(sites), 3), np.int64), away,
        )  # fmt: skip
        long = np.linalg.norm(away, axis=1)
        spots, _, _ = walked(mesh, sites.spots, away, np.minimum(long, half.min(axis=1)))
        free = self.allowed(replace(sites, spots=spots))
        kept = Spots(
            np.where(free, spots.faces, sites.spots.faces),
            np.where(free, spots.halves, sites.spots.halves),
            np.where(free[:, None], spots.shares, sites.spots.shares),
        )
        return replace(sites, spots=kept)


def _buckets(count: int) -> int:
    return 1 << max(int(np.ceil(np.log2(max(count, 2)))), 8)


def placed(ground: Ground, scatter: Scatter, pieces: Sequence[Piece], progress: Progress) -> Sites:
    """Find places for the pieces of scatter that keep apart from each other.

    Raises
    ------
    RecipeError
        Where there is no clay for them, or they would be too much of it.
    Cancelled
    """
    scatter.check()
    work = _Placing(ground, scatter, pieces)
    rng = np.random.default_rng(scatter.seed)
    sums = np.cumsum(work.room())
    one = float((4 * work.half[:, 0] * work.half[:, 1]).mean()) * (scatter.size * (1 + scatter.gap)) ** 2
    fits = sums[-1] / max(one, 1e-30)
    most = scatter.most // 2 if scatter.mirrored else scatter.most
    wanted = int(min(max(most, 1), fits + 1))
    check_amount(min(wanted, MOST_TRIES), max(len(piece.positions) for piece in pieces) // 4)
    progress.report(0.05, "Looking for places")
    count = int(min(TRIES * wanted + 100, MOST_TRIES))
    if scatter.even:
        # More than chance has room for is thrown closer, and then spread.
        closer = 1 - (1 - CLOSER) * scatter.even
        sites = work.thrown(work.tried(sums, count, rng), most, closer)
        for cycle in range(CYCLES):
            slack = min(max(np.sqrt(FULL * fits / max(len(sites), 1)) - 1, 0.02), 4.0)
            for k in range(ROUNDS):
                progress.report(0.1 + 0.7 * (cycle + k / ROUNDS) / CYCLES, "Spreading the pieces")
                sites = work.spread(sites, slack)
            sites = work.thrown(together([sites, work.tried(sums, count, rng)]), most)
    else:
        sites = work.thrown(work.tried(sums, 2 * count, rng), most)
    if len(sites) == 0:
        raise RecipeError("there is no room for a single piece: make them smaller")
    sites = replace(sites, sizes=work.sizes(sites))
    return mirrored(ground.mesh, sites) if scatter.mirrored else sites


def mirrored(mesh: Mesh, sites: Sites) -> Sites:
    """Pieces, and their mirror images across x = 0."""
    found = held(mesh, sites.spots.places(mesh) * [-1.0, 1.0, 1.0])
    twins = replace(
        sites, spots=spots_of(mesh, found.corners, found.shares), spins=-sites.spins, hands=-sites.hands
    )
    return together([sites, twins])
