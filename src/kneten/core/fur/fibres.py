"""Fibres: where they grow from, and the vertices that they are drawn with."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from kneten.core.arrays import F32, F64, I32, U8, AnyArray, in_parts, kernel
from kneten.core.fur.leads import Leads
from kneten.core.fur.numbers import FurError, FurNumbers
from kneten.core.mesh import Mesh
from kneten.core.scatter.sites import drop_evenly, room_on

POINTS = 6
"""Vertices of a fibre."""

SHARES = (0.06, 0.14, 0.3, 0.5)
"""How much of the fur is drawn first where it is seen small, and what is added the nearer one comes."""

THIN = 0.1
"""From which mask on fibres grow; they are as much shorter as it is weaker."""

TUFT = 45
"""Fibres that come together at their tips."""

NEAR = 3
"""Leads that a fibre follows."""

ZERO, ONE, SMALL, FULL, WHITE = (
    np.float32(0.0),
    np.float32(1.0),
    np.float32(1e-24),
    np.float32(127.0),
    np.float32(255.0),
)
"""As single numbers: doubles would make writing fibres half as fast again."""

BARE = 180.0
"""The colour of clay that has none, of 255."""


@dataclass(frozen=True, eq=False)
class Roots:
    """Where fibres grow from; sorted by level, and within it by patch.

    Attributes
    ----------
    corners : (n, 3) int32
        The vertices that hold each.
    shares : (n, 3) float32
        Their weights.
    faces : (n,) int32
    near : (n, 3) int32
        The leads that each follows, the nearest first.
    weights : (n, 3) float32
    lengths : (n,) float32
        How long each is, against its leads.
    chances : (n, 4) float32
        -1 to 1.
    tufts : (n,) int32
        The fibre that each comes together with at its tip.
    starts : (levels, patches + 1) int32
        Where the fibres of each patch begin, level by level.
    """

    corners: I32
    shares: F32
    faces: I32
    near: I32
    weights: F32
    lengths: F32
    chances: F32
    tufts: I32
    starts: I32

    def __len__(self) -> int:
        """How many there are."""
        return len(self.faces)

    def taken(self, rows: AnyArray) -> Roots:
        """Some of them, rows (k,), in this order; where patches begin among them is not told."""
        return Roots(
            self.corners[rows], self.shares[rows], self.faces[rows], self.near[rows], self.weights[rows],
            self.lengths[rows], self.chances[rows], self.tufts[rows], np.zeros((0, 0), np.int32),
        )  # fmt: skip


def rooted(mesh: Mesh, numbers: FurNumbers, mask: F32 | None, lead_roots: F64) -> Roots:
    """Spread fibres over clay, the longer the more it is masked, (n,) or None, and find which leads they follow, rooted at (k, 3).

    Raises
    ------
    FurError
        Where there is no clay for them, or no lead to follow.
    """
    numbers.check()
    if not len(lead_roots):
        raise FurError("the fur has no leads to follow")
    weights = room_on(mesh, mask, least=THIN)
    total = float(weights.sum())
    if not total > 0:
        raise FurError("there is no clay where the fur is to grow")
    rng = np.random.default_rng(numbers.seed)
    n = numbers.count
    spots = drop_evenly(mesh, np.cumsum(weights), n, rng)
    # Faces are sorted by patches already: only levels have to be told apart.
    level = np.searchsorted(np.cumsum(SHARES)[:-1], rng.random(n), side="right").astype(np.int8)
    order = np.argsort(level, kind="stable").astype(np.int32)
    spots, level = spots.taken(order), level[order]
    shape = mesh.topology
    patches = np.searchsorted(shape.patch_faces, spots.faces, side="right") - 1
    starts = np.empty((len(SHARES), shape.n_patches + 1), np.int32)
    begin = 0
    for k in range(len(SHARES)):
        own = patches[level == k]
        starts[k] = begin + np.searchsorted(own, np.arange(shape.n_patches + 1))
        begin += len(own)
    places = spots.places(mesh)
    count = min(NEAR, len(lead_roots))
    far, near = cKDTree(lead_roots).query(places, count, workers=-1)
    far, near = far.reshape(n, count), near.reshape(n, count)
    weight = 1.0 / (far + 1e-9 + 0.02 * far.mean()) ** 2
    weight /= weight.sum(axis=1, keepdims=True)
    lacking = NEAR - count
    near = np.pad(near, ((0, 0), (0, lacking)))
    weight = np.pad(weight, ((0, 0), (0, lacking)))
    heads = np.sort(rng.permutation(n)[: max(n // TUFT, 1)])
    tufts = heads[cKDTree(places[heads]).query(places, workers=-1)[1]]
    chances = (2 * rng.random((n, 4)) - 1).astype(np.float32)
    lengths = 1 - numbers.vary * rng.random(n) ** 2
    if mask is not None:
        lengths *= np.einsum("nc,nc->n", spots.shares, np.clip(mask[spots.corners(mesh)], 0, 1))
    return Roots(
        spots.corners(mesh),
        spots.shares.astype(np.float32),
        spots.faces,
        near.astype(np.int32),
        weight.astype(np.float32),
        lengths.astype(np.float32),
        chances,
        tufts.astype(np.int32),
        starts,
    )


@dataclass(frozen=True, eq=False)
class Fibres:
    """The vertices of fibres, in the order of their roots, `POINTS` each.

    Attributes
    ----------
    places : (n, POINTS, 3) float32
    ways : (n, POINTS, 4) uint8
        Which way the fibre leads there, -1 to 1 as 0 to 254, and how far along it is, 0 to 1 as 0 to 255.
    outs : (n, POINTS, 4) uint8
        Which way is off the clay at the root, as 0 to 254.
    colours : (n, POINTS, 4) uint8
        With how long the fibre is against its leads: the shorter, the less are its roots covered.
    """

    places: F32
    ways: U8
    outs: U8
    colours: U8

    @classmethod
    def room(cls, count: int) -> Fibres:
        """Room for so many fibres; its contents are anything."""
        return cls(
            np.empty((count, POINTS, 3), np.float32),
            np.empty((count, POINTS, 4), np.uint8),
            np.empty((count, POINTS, 4), np.uint8),
            np.empty((count, POINTS, 4), np.uint8),
        )

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        return self.places.nbytes + self.ways.nbytes + self.outs.nbytes + self.colours.nbytes


@kernel
def _write(
    corners: I32,
    shares: F32,
    faces: I32,
    near: I32,
    weights: F32,
    lengths: F32,
    chances: F32,
    tufts: I32,
    all_corners: I32,
    all_shares: F32,
    positions: F32,
    normals: F32,
    hidden: U8,
    clay: U8,
    mids: F32,
    tips: F32,
    own: F32,
    loose: np.float32,
    clumped: np.float32,
    curled: np.float32,
    curve: F32,
    shades: F32,
    places: F32,
    ways: U8,
    outs: U8,
    colours: U8,
    first: int,
    last: int,
) -> None:
    for i in range(first, last):
        a = corners[i, 0]
        b = corners[i, 1]
        c = corners[i, 2]
        s = shares[i, 0]
        t = shares[i, 1]
        u = shares[i, 2]
        x = s * positions[a, 0] + t * positions[b, 0] + u * positions[c, 0]
        y = s * positions[a, 1] + t * positions[b, 1] + u * positions[c, 1]
        z = s * positions[a, 2] + t * positions[b, 2] + u * positions[c, 2]
        nx = s * normals[a, 0] + t * normals[b, 0] + u * normals[c, 0]
        ny = s * normals[a, 1] + t * normals[b, 1] + u * normals[c, 1]
        nz = s * normals[a, 2] + t * normals[b, 2] + u * normals[c, 2]
        mx = ZERO
        my = ZERO
        mz = ZERO
        ex = ZERO
        ey = ZERO
        ez = ZERO
        curl = curled
        clump = clumped
        room = ONE
        for k in range(3):
            j = near[i, k]
            w = weights[i, k]
            mx += w * mids[j, 0]
            my += w * mids[j, 1]
            mz += w * mids[j, 2]
            ex += w * tips[j, 0]
            ey += w * tips[j, 1]
            ez += w * tips[j, 2]
            curl += w * own[j, 0]
            clump += w * own[j, 1]
            room += w * own[j, 2]
        curl = min(max(curl, ZERO), ONE)
        clump = min(max(clump, ZERO), ONE)
        scale = lengths[i]
        # Where fur is thin, those go whose chance falls so: the digits behind are as good as another number.
        lot = np.abs(chances[i, 1]) * np.float32(64.0)
        if lot - np.floor(lot) >= room:
            scale = ZERO
        if hidden.shape[0] > 0 and hidden[faces[i]] != 0:
            scale = ZERO
        long = np.sqrt(ex * ex + ey * ey + ez * ez) * scale
        mx *= scale
        my *= scale
        mz *= scale
        # Its own way, and together with its neighbours at the lead's tip.
        j = tufts[i]
        a2 = all_corners[j, 0]
        b2 = all_corners[j, 1]
        c2 = all_corners[j, 2]
        s2 = all_shares[j, 0]
        t2 = all_shares[j, 1]
        u2 = all_shares[j, 2]
        hx = s2 * positions[a2, 0] + t2 * positions[b2, 0] + u2 * positions[c2, 0]
        hy = s2 * positions[a2, 1] + t2 * positions[b2, 1] + u2 * positions[c2, 1]
        hz = s2 * positions[a2, 2] + t2 * positions[b2, 2] + u2 * positions[c2, 2]
        far = loose * long
        pull = clump if scale > 0 else ZERO
        ex = ex * scale + far * chances[i, 0] + pull * (hx - x)
        ey = ey * scale + far * chances[i, 1] + pull * (hy - y)
        ez = ez * scale + far * chances[i, 2] + pull * (hz - z)
        # Waves go to the side: square to where it leads, and to what is off the clay.
        sx = ey * nz - ez * ny
        sy = ez * nx - ex * nz
        sz = ex * ny - ey * nx
        wave = curl * long / np.sqrt(sx * sx + sy * sy + sz * sz + SMALL)
        bright = ONE + np.float32(0.12) * chances[i, 3]
        cover = np.uint8(min(scale, ONE) * WHITE)
        phase = np.float32(3.1416) * chances[i, 3]
        red = bright
        green = bright
        blue = bright
        if clay.shape[0] > 0:
            red *= s * clay[a, 0] + t * clay[b, 0] + u * clay[c, 0]
            green *= s * clay[a, 1] + t * clay[b, 1] + u * clay[c, 1]
            blue *= s * clay[a, 2] + t * clay[b, 2] + u * clay[c, 2]
        ox = np.uint8(nx * FULL + FULL)
        oy = np.uint8(ny * FULL + FULL)
        oz = np.uint8(nz * FULL + FULL)
        for p in range(POINTS):
            # A curve of second degree from the root, by way of the middle.
            f = curve[p, 0]
            g = curve[p, 1]
            df = curve[p, 2]
            dg = curve[p, 3]
            off = ZERO
            if curl > 0:
                off = wave * curve[p, 4] * np.sin(np.float32(9.0) * curve[p, 4] + phase)
            places[i, p, 0] = x + f * mx + g * ex + off * sx
            places[i, p, 1] = y + f * my + g * ey + off * sy
            places[i, p, 2] = z + f * mz + g * ez + off * sz
            dx = df * mx + dg * ex
            dy = df * my + dg * ey
            dz = df * mz + dg * ez
            unit = FULL / np.sqrt(dx * dx + dy * dy + dz * dz + SMALL)
            ways[i, p, 0] = np.uint8(dx * unit + FULL)
            ways[i, p, 1] = np.uint8(dy * unit + FULL)
            ways[i, p, 2] = np.uint8(dz * unit + FULL)
            ways[i, p, 3] = np.uint8(curve[p, 4] * WHITE)
            outs[i, p, 0] = ox
            outs[i, p, 1] = oy
            outs[i, p, 2] = oz
            outs[i, p, 3] = 0
            colours[i, p, 0] = np.uint8(min(red * shades[p, 0], WHITE))
            colours[i, p, 1] = np.uint8(min(green * shades[p, 1], WHITE))
            colours[i, p, 2] = np.uint8(min(blue * shades[p, 2], WHITE))
            colours[i, p, 3] = cover


FROM_CLAY = ((0.55, 0.55, 0.55), (1.12, 1.12, 1.12))
"""How bright roots and tips are that take their colour from the clay."""


def write_fibres(
    mesh: Mesh,
    numbers: FurNumbers,
    roots: Roots,
    leads: Leads,
    out: Fibres,
    first: int = 0,
    last: int = -1,
    whole: Roots | None = None,
) -> None:
    """Write the vertices of fibres, or only of a run of them, for the clay and the leads as they are now.

    Parameters
    ----------
    whole : Roots, optional
        All that `roots` were taken from: where tufts are.
    """
    coloured = numbers.from_clay and mesh.colour is not None
    ends = np.array(FROM_CLAY if numbers.from_clay else (numbers.root, numbers.tip))
    if not coloured:
        ends *= BARE if numbers.from_clay else 255.0
    h = np.linspace(0, 1, POINTS)
    shades = (ends[0] + h[:, None] * (ends[1] - ends[0])).astype(np.float32)
    curve = np.stack([2 * h * (1 - h), h * h, 2 - 4 * h, 2 * h, h], axis=1).astype(np.float32)
    clay = mesh.colour if coloured and mesh.colour is not None else np.empty((0, 4), np.uint8)
    hidden = np.empty(0, np.uint8) if mesh.hidden is None else mesh.hidden
    mids, tips = leads.mids.astype(np.float32), leads.tips.astype(np.float32)
    whole = roots if whole is None else whole
    own = leads.own.astype(np.float32)
    loose, clump, curl = np.float32(numbers.loose), np.float32(numbers.clump), np.float32(numbers.curl)
    begin, end = first, len(roots) if last < 0 else last

    def run(a: int, b: int) -> None:
        _write(
            roots.corners, roots.shares, roots.faces, roots.near, roots.weights, roots.lengths, roots.chances,
            roots.tufts, whole.corners, whole.shares, mesh.positions, mesh.normals, hidden, clay, mids, tips, own, loose, clump, curl, curve, shades,
            out.places, out.ways, out.outs, out.colours, begin + a, begin + b,
        )  # fmt: skip

    in_parts(end - begin, run, least=20_000)


def fibre_lines(count: int) -> AnyArray:
    """The vertices at both ends of each piece of so many fibres, (k, 2) uint32."""
    one = np.stack([np.arange(POINTS - 1), np.arange(1, POINTS)], axis=1).astype(np.uint32)
    return (np.arange(count, dtype=np.uint32)[:, None, None] * np.uint32(POINTS) + one).reshape(-1, 2)


def fibre_curves(mesh: Mesh, numbers: FurNumbers, roots: Roots, leads: Leads, count: int) -> F64:
    """The courses of some fibres, spread over all of the fur, (k, POINTS, 3), in the mesh's space."""
    out = Fibres.room(len(roots))
    write_fibres(mesh, numbers, roots, leads, out)
    rng = np.random.default_rng(numbers.seed)
    some = np.sort(rng.permutation(len(roots))[:count])
    long = np.linalg.norm(out.places[some, -1] - out.places[some, 0], axis=1)
    return np.asarray(out.places[some][long > 0], np.float64)


def seen_level(pixels: float) -> int:
    """How many levels are drawn where fibres are so many pixels thick: the thinner, the fewer stand for all."""
    share = 0.0
    for level, own in enumerate(SHARES):
        share += own
        if share >= min(pixels, 1.0):
            return level + 1
    return len(SHARES)
