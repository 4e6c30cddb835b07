"""Open rims closed with a grid of quads between four sides, whose corners are where the rim turns."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F64, AnyArray
from kneten.core.mesh import Mesh
from kneten.core.net.draft import Draft, Made, chains_of, laddered, rims_of
from kneten.core.net.drawing import Ground
from kneten.core.topology import MeshError

ROUNDS = 12
"""Times that the inner vertices of a patch are drawn to the middles of their neighbours, and laid on the clay."""

UNEVEN = 0.6
"""What it costs that sides across from each other differ by all of the rim, in right angles that corners turn by."""

EVEN = 0.15
"""What it is worth that a patch has as many quads one way as the other, where nothing else tells."""


def patched(mesh: Mesh, vertices: AnyArray, ground: Ground | None = None) -> Made:
    """Open rims that have chosen vertices (n,) bool closed with quads, and a triangle where their number is odd. Raises `MeshError`."""
    d = Draft.of(mesh)
    rims = _rims(d, vertices)
    d.chosen[:] = False
    for way in rims:
        ring = way
        if len(ring) > 4 and len(ring) % 2:
            k = int(np.argmax(turns(d.p[ring])))
            d.put([[ring[k - 1], ring[k], ring[(k + 1) % len(ring)]]], chosen=True)
            ring = ring[:k] + ring[k + 1 :]
        if len(ring) <= 4:
            laddered(d, ring)
        else:
            _grid(d, ring, ground)
    return d.done()


def foretold(mesh: Mesh, vertices: AnyArray) -> list[tuple[int, int]]:
    """How many quads open rims with chosen vertices (n,) bool would get along both their sides; rims of five and fewer are left out."""
    d = Draft.of(mesh)
    try:
        rims = _rims(d, vertices)
    except MeshError:
        return []
    found = []
    for ring in rims:
        if len(ring) > 5:
            k = len(ring) - len(ring) % 2
            _, a = corners_of(d.p[ring[:k]])
            found.append((a, k // 2 - a))
    return found


def _rims(d: Draft, vertices: AnyArray) -> list[list[int]]:
    rims = [way for way in chains_of(rims_of(d.f)[:, ::-1]) if vertices[way].any() and len(way) >= 3]
    if not rims:
        raise MeshError("no open rim is chosen")
    return rims


def turns(places: F64) -> F64:
    """By how much a closed way (k, 3) turns at each place, in right angles, (k,): to its inside above nought."""
    before, after = places - np.roll(places, 1, axis=0), np.roll(places, -1, axis=0) - places
    up = np.cross(places - places.mean(axis=0), np.roll(places, -1, axis=0) - places.mean(axis=0)).sum(axis=0)
    up /= max(float(np.linalg.norm(up)), 1e-30)
    sine = np.cross(before, after) @ up
    cosine = np.einsum("kd,kd->k", before, after)
    return np.asarray(np.arctan2(sine, cosine) / (np.pi / 2))


def corners_of(places: F64) -> tuple[int, int]:
    """The first corner of a closed way (k, 3) of an even number of places, and how many edges its first side has.

    Sides across from each other have as many edges. Corners are where the way turns most like one, and such sides about as
    long as each other.
    """
    k = len(places)
    half = k // 2
    told = turns(places)
    # How much more like a corner each place is than like a place on a side.
    gain = np.abs(told) - np.abs(told - 1)
    steps = np.linalg.norm(np.roll(places, -1, axis=0) - places, axis=1)
    whole = float(steps.sum())
    sums = np.concatenate([[0.0], np.cumsum(np.tile(steps, 2))])
    at = np.arange(k)
    best, found = -np.inf, (0, 1)
    for a in range(1, half):
        first, second, third = at + a, at + half, at + half + a
        lengths = [sums[first] - sums[at], sums[second] - sums[first], sums[third] - sums[second]]
        last = whole - lengths[0] - lengths[1] - lengths[2]
        worth = gain + gain[first % k] + gain[second % k] + gain[third % k]
        worth = worth - UNEVEN * (np.abs(lengths[0] - lengths[2]) + np.abs(lengths[1] - last)) / max(
            whole, 1e-30
        )
        worth = worth + EVEN * min(a, half - a) / max(a, half - a)
        here = int(np.argmax(worth))
        if worth[here] > best + 1e-9:
            best, found = float(worth[here]), (here, a)
    return found


def _grid(d: Draft, ring: list[int], ground: Ground | None) -> None:
    """Close a ring of vertices, in the direction that its faces are to run, with a grid."""
    start, a = corners_of(d.p[ring])
    ring = ring[start:] + ring[:start]
    b = len(ring) // 2 - a
    names = np.full((a + 1, b + 1), -1, np.int64)
    names[:, 0] = ring[: a + 1]
    names[a, :] = ring[a : a + b + 1]
    names[::-1, b] = ring[a + b : 2 * a + b + 1]
    names[0, 1:] = [ring[-j] for j in range(1, b + 1)]
    if a > 1 and b > 1:
        places = _between(d.p, names)
        for _ in range(ROUNDS):
            places[1:-1, 1:-1] = (
                places[:-2, 1:-1] + places[2:, 1:-1] + places[1:-1, :-2] + places[1:-1, 2:]
            ) / 4
            if ground is not None:
                laid, _ = ground.laid(places[1:-1, 1:-1].reshape(-1, 3))
                places[1:-1, 1:-1] = laid.reshape(a - 1, b - 1, 3)
        # What they have besides places they have of the nearer end of their row.
        left, right = (np.repeat(names[1:-1, side][:, None], b - 1, axis=1) for side in (0, b))
        share = np.broadcast_to(np.arange(1, b) / b, (a - 1, b - 1))
        fresh = d.add(
            places[1:-1, 1:-1].reshape(-1, 3),
            np.stack([left.reshape(-1), right.reshape(-1)], axis=1),
            share.reshape(-1),
        )
        names[1:-1, 1:-1] = fresh.reshape(a - 1, b - 1)
    quads = np.stack([names[:-1, :-1], names[1:, :-1], names[1:, 1:], names[:-1, 1:]], axis=-1)
    d.put(quads.reshape(-1, 4), chosen=True)


def _between(p: F64, names: AnyArray) -> F64:
    """Places (a + 1, b + 1, 3) between four sides, by Coons' rule; `names` has the vertices of the sides."""
    places = np.zeros((*names.shape, 3))
    rim = names >= 0
    places[rim] = p[names[rim]]
    u = np.linspace(0, 1, names.shape[0])[:, None, None]
    v = np.linspace(0, 1, names.shape[1])[None, :, None]
    along = (1 - v) * places[:, :1] + v * places[:, -1:]
    across = (1 - u) * places[:1, :] + u * places[-1:, :]
    both = (
        (1 - u) * (1 - v) * places[0, 0]
        + u * (1 - v) * places[-1, 0]
        + (1 - u) * v * places[0, -1]
        + u * v * places[-1, -1]
    )
    made = along + across - both
    made[rim] = places[rim]
    return np.asarray(made)
