"""Bake: for every texel of a low mesh, what the high clay has there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from kneten.core.arrays import F32, I32, U8, AnyArray, Progress, in_parts, kernel
from kneten.core.maps.surfaces import Cage, High, Hits, Low, Spots, by_rays, by_uv, mixed, spots_in, unit
from kneten.core.masks import cavity, extent, thickness
from kneten.core.mesh import Mesh
from kneten.core.topology import MeshError
from kneten.core.uv.measure import tiles_of


@dataclass(frozen=True)
class Map:
    """A kind of map.

    Attributes
    ----------
    name, does : str
        For people.
    channels : int
    kind : str
        way: a direction, told as 0.5 + half of it; share: 0 to 1; length: millimetres; code: sRGB; label.
    """

    name: str
    does: str
    channels: int
    kind: str


MAPS: dict[str, Map] = {
    "normal": Map("Normal", "Which way the fine clay faces, by the tangents that games and renderers agree on", 3, "way"),
    "object": Map("Object normal", "The same by the part's own axes", 3, "way"),
    "displacement": Map("Displacement", "How far out the fine clay lies, in millimetres", 1, "length"),
    "vector": Map("Vectors", "Where the fine clay lies, undercuts too: along the tangent, the other way, and out", 3, "length"),
    "occlusion": Map("Occlusion", "How much of the sky is seen", 1, "share"),
    "bent": Map("Bent normal", "Which way most of the sky is seen, by tangents", 3, "way"),
    "cavity": Map("Cavity", "Creases dark, all else white", 1, "share"),
    "curvature": Map("Curvature", "Hollows dark, edges light, grey where flat", 1, "share"),
    "thickness": Map("Thickness", "How thick the clay is, as a share of the part's size", 1, "share"),
    "position": Map("Position", "Where in the box around the fine clay", 3, "share"),
    "colour": Map("Colour", "The paint", 3, "code"),
    "roughness": Map("Roughness", "How rough", 1, "share"),
    "metalness": Map("Metalness", "How metallic", 1, "share"),
    "id": Map("Ids", "A colour for each region, or each part where there are several", 3, "label"),
}  # fmt: skip
"""All maps, by their keys."""

MOST_TILES = 64

SMALLEST, LARGEST = 64, 8192
"""Texels across a map."""

BAND = 1 << 18
"""Texels that are worked on at once."""

LIFT = 2e-5
"""How far off the clay rays for occlusion begin, as a share of its size."""

BROAD = 8
"""Rings over which curvature is evened."""


@dataclass(frozen=True)
class BakeWish:
    """What is baked.

    Attributes
    ----------
    maps : tuple of str
        Keys of `MAPS`.
    size : int
        Texels across.
    samples : int
        Along each side of a texel: 2 looks at four places in it.
    rays : int
        For occlusion, from each place.
    reach : float
        How far other clay covers, as a share of the part's size.
    padding : int
        Texels that islands are continued by.
    own : bool
        The high clay is a finer level of the low: its UVs tell where, and no rays are needed.
    """

    maps: tuple[str, ...]
    size: int = 2048
    samples: int = 1
    rays: int = 16
    reach: float = 0.3
    padding: int = 16
    own: bool = False


@dataclass(frozen=True, eq=False)
class Baked:
    """The maps of one tile.

    Attributes
    ----------
    tile : two ints
    pictures : dict
        By key: (size, size, channels); uint16 for ways and shares, uint8 for codes and labels, float32 for lengths.
    covered : (size, size) bool
        Texels that clay covers; all others are padding or empty.
    missed : (f,) float32
        The share of each of the low mesh's texels that rays have found nothing for; those took the nearest clay.
    most : float
        The greatest length of the displacement, in millimetres: what its 16 bits reach up to.
    """

    tile: tuple[int, int]
    pictures: dict[str, AnyArray]
    covered: AnyArray
    missed: F32
    most: float = 0.0
    tangents: F32 = field(default_factory=lambda: np.zeros((0, 4, 4), np.float32))


def bytes_for(wish: BakeWish, low_faces: int, high_faces: int, tiles: int = 1) -> int:
    """Bytes that a bake takes at its most, roughly."""
    each = 0
    for key in wish.maps:
        kind = MAPS[key].kind
        each += MAPS[key].channels * (4 if kind == "length" else 1 if kind in ("code", "label") else 2)
    whole = wish.size * wish.size
    return (
        tiles * whole * each + whole * 8 + 400 * low_faces + 260 * high_faces + BAND * wish.samples**2 * 220
    )


def checked(mesh: Mesh, wish: BakeWish) -> None:
    """Refuse what cannot be baked. Raises `MeshError`, with words for the user."""
    if mesh.uv is None or not (mesh.uv != 0).any():
        raise MeshError("it has no UVs: unwrap it first")
    if not np.isfinite(mesh.uv).all():
        raise MeshError("some of its UVs are not finite numbers: unwrap it anew")
    if not SMALLEST <= wish.size <= LARGEST:
        raise MeshError(f"maps are {SMALLEST} to {LARGEST} texels across")
    strange = [key for key in wish.maps if key not in MAPS]
    if strange or not wish.maps:
        raise MeshError(f"no such map: {', '.join(strange) or 'none is chosen'}")
    if len(tiles_of(mesh.uv)) > MOST_TILES:
        raise MeshError(f"its UVs lie on more than {MOST_TILES} tiles: pack them")


def baked(low: Low, high: High, cage: Cage, wish: BakeWish, progress: Progress) -> list[Baked]:
    """Bake maps, tile by tile.

    Raises
    ------
    MeshError
        For what `checked` refuses.
    Cancelled
        Through `progress`.
    """
    checked(low.mesh, wish)
    assert low.mesh.uv is not None
    progress.report(0.0, "Measuring the clay")
    teller = _Teller(low, high, wish, progress)
    tiles = tiles_of(low.mesh.uv)
    return [
        _tile(low, high, cage, wish, tile, teller, progress, 0.1 + 0.9 * k / len(tiles), 0.9 / len(tiles))
        for k, tile in enumerate(tiles)
    ]


def _tile(
    low: Low, high: High, cage: Cage, wish: BakeWish, tile: tuple[int, int], teller: _Teller, progress: Progress,
    begin: float, part: float,
) -> Baked:  # fmt: skip
    size, fine = wish.size, wish.samples
    pictures: dict[str, AnyArray] = {}
    for key in wish.maps:
        kind = MAPS[key].kind
        form = np.float32 if kind == "length" else np.uint8 if kind in ("code", "label") else np.uint16
        pictures[key] = np.zeros((size, size, MAPS[key].channels), form)
    covered = np.zeros((size, size), bool)
    faces = low.mesh.topology.n_faces
    missed, seen = np.zeros(faces), np.zeros(faces)
    rows = max(BAND // (size * fine * fine), 1)
    for first in range(0, size, rows):
        progress.report(begin + part * first / size, f"Baking {100 * first // size} %")
        last = min(first + rows, size)
        spots = spots_in(low, size * fine, first * fine, last * fine, tile)
        if not len(spots.x):
            continue
        hits = by_uv(high, size * fine, first * fine, last * fine, tile, spots) if wish.own else by_rays(low, spots, high, cage)  # fmt: skip
        face = low.owner[spots.triangle]
        seen += np.bincount(face, minlength=faces)
        if not hits.found.all():
            missed += np.bincount(face[~hits.found], minlength=faces)
            hits = _helped(spots, high, hits, cage)
        at = (spots.y // fine - first) * size + spots.x // fine
        count = np.bincount(at, minlength=(last - first) * size)
        there = count > 0
        covered[first:last] = there.reshape(-1, size)
        for key in wish.maps:
            values = teller.tell(key, spots, hits)
            band = pictures[key][first:last].reshape(-1, MAPS[key].channels)
            if MAPS[key].kind == "label":
                band[at] = values
                continue
            if fine == 1:
                band[at] = _coded(key, values)
                continue
            sums = [np.bincount(at, values[:, c], len(count)) for c in range(values.shape[1])]
            mean = np.stack(sums, axis=1)[there].astype(np.float64) / count[there][:, None]
            band[there] = _coded(key, unit(mean) if MAPS[key].kind == "way" else mean)
    progress.report(begin + part, "Continuing islands")
    source = padded(covered, wish.padding)
    for key, picture in pictures.items():
        blank = np.array([32768, 32768, 65535], np.uint16) if MAPS[key].kind == "way" else 0
        flat = picture.reshape(-1, picture.shape[2])
        out = flat[np.maximum(source, 0).reshape(-1)]
        out[(source < 0).reshape(-1)] = blank
        pictures[key] = out.reshape(picture.shape)
    most = float(np.abs(pictures["displacement"]).max(initial=0)) if "displacement" in pictures else 0.0
    share = np.divide(missed, np.maximum(seen, 1)).astype(np.float32)
    return Baked(tile, pictures, covered, share, most, low.of_faces())


def _coded(key: str, values: AnyArray) -> AnyArray:
    """Values (k, c) as the map holds them."""
    kind = MAPS[key].kind
    if kind == "length":
        return np.asarray(values, np.float32)
    if kind == "code":
        return np.rint(np.clip(values, 0, 255)).astype(np.uint8)
    share = 0.5 + 0.5 * values if kind == "way" else values
    return np.rint(np.clip(share, 0, 1) * 65535).astype(np.uint16)


def _helped(spots: Spots, high: High, hits: Hits, cage: Cage) -> Hits:
    """Where nothing was met, the nearest clay."""
    lost = np.flatnonzero(~hits.found)
    near = high.nearest(spots.place[lost], 4 * max(cage.ahead, cage.behind, 1e-6))
    triangle, shares = hits.triangle.copy(), hits.shares.copy()
    triangle[lost], shares[lost] = near.triangle, near.shares
    return Hits(hits.found, triangle, shares)


class _Teller:
    """Works out what maps say at hits."""

    def __init__(self, low: Low, high: High, wish: BakeWish, progress: Progress) -> None:
        self._low, self._high, self._wish = low, high, wish
        corner, other = np.min(high.positions, axis=0), np.max(high.positions, axis=0)
        self._low_corner, self._span = corner, np.maximum(other - corner, 1e-12)
        self._size = float(np.linalg.norm(other - corner)) or 1.0
        self._tables: dict[str, F32] = {}
        meshes = high.meshes
        if "cavity" in wish.maps:
            self._tables["cavity"] = np.concatenate([np.clip(2 * cavity(m, 2), 0, 1) for m in meshes])
        if "curvature" in wish.maps:
            self._tables["curvature"] = np.concatenate([cavity(m, BROAD) for m in meshes])
        if "thickness" in wish.maps:
            self._tables["thickness"] = np.concatenate([thickness(m, progress) * (extent(m) / self._size) for m in meshes])  # fmt: skip
        self._ways = hemisphere(wish.rays)
        self._open: tuple[Hits, F32, F32] | None = None

    def tell(self, key: str, spots: Spots, hits: Hits) -> AnyArray:
        """The values (k, c) of a map."""
        high = self._high
        if key in ("normal", "object"):
            way = high.normal(hits)
            return in_frame(spots, way) if key == "normal" else way
        if key in ("displacement", "vector"):
            off = high.place(hits) - spots.place
            if key == "displacement":
                return np.einsum("kd,kd->k", off, spots.up)[:, None]
            return np.stack([np.einsum("kd,kd->k", off, way) for way in square_frame(spots)], axis=1)
        if key in ("occlusion", "bent"):
            seen, bent = self._sky(hits)
            return seen[:, None] if key == "occlusion" else in_frame(spots, bent)
        if key in self._tables:
            return mixed(self._tables[key][:, None], high.vertices[hits.triangle], hits.shares)
        if key == "position":
            return (high.place(hits) - self._low_corner) / self._span
        if key == "colour":
            return high.value("colour", hits)[:, :3]
        if key in ("roughness", "metalness"):
            return high.value("material", hits)[:, [("roughness", "metalness").index(key)]] / 255
        return self._labels(hits)

    def _labels(self, hits: Hits) -> U8:
        high = self._high
        part = high.part[hits.triangle].astype(np.int64)
        number = part
        if len(high.meshes) == 1 and high.meshes[0].regions is not None:
            number = high.meshes[0].regions[high.owner[hits.triangle]].astype(np.int64)
        return label_colours(number)

    def _sky(self, hits: Hits) -> tuple[F32, F32]:
        """How much of the sky is seen from hits, (k,), and which way most of it, (k, 3)."""
        if self._open is not None and self._open[0] is hits:
            return self._open[1], self._open[2]
        high, rays = self._high, self._wish.rays
        up, at = high.normal(hits), high.place(hits)
        k = len(up)
        seen, bent = np.zeros(k, np.float32), np.zeros((k, 3), np.float32)
        lift, far = LIFT * self._size, self._wish.reach * self._size
        side = unit(np.cross(up, np.where(np.abs(up[:, :1]) < 0.9, [[1.0, 0, 0]], [[0, 1.0, 0]])))
        other = np.cross(up, side)
        # Each place turns the same rays by an angle of its own: noise instead of steps, the same every time.
        spin = (hits.triangle.astype(np.float64) * 0.7548776662 + hits.shares[:, 1] * 91.17 + hits.shares[:, 2] * 37.7) % 1  # fmt: skip
        begin = (at + lift * up).astype(np.float32)

        def some(first: int, last: int) -> None:
            rows = slice(first, last)
            turn = (2 * np.pi * spin[rows]).astype(np.float32)
            c, s = np.cos(turn)[:, None], np.sin(turn)[:, None]
            a, b = c * side[rows] + s * other[rows], c * other[rows] - s * side[rows]
            for way in self._ways:
                ray = (way[0] * a + way[1] * b + way[2] * up[rows]).astype(np.float32)
                clear = ~high.is_covered(begin[rows], ray, far)
                seen[rows] += clear
                bent[rows] += clear[:, None] * ray

        in_parts(k, some, 20_000)
        dark = seen == 0
        seen /= rays
        bent[dark] = up[dark]
        self._open = (hits, seen, unit(bent))
        return self._open[1], self._open[2]


def hemisphere(count: int) -> F32:
    """Ways (count, 3) over the upper half of a sphere, as many as the cosine says (Malley's method on a spiral)."""
    k = np.arange(count) + 0.5
    radius, turn = np.sqrt(k / count), k * np.pi * (3 - np.sqrt(5))
    return np.stack([radius * np.cos(turn), radius * np.sin(turn), np.sqrt(1 - k / count)], axis=1).astype(
        np.float32
    )


def in_frame(spots: Spots, ways: AnyArray) -> F32:
    """Ways (k, 3) as the standard's frame tells them: what, put back into it, gives them again."""
    t, b, n = (v.astype(np.float64) for v in (spots.tangent, spots.side, spots.normal))
    # The inverse of the frame's matrix, but for its size, which does not matter for a way.
    bn, nt, tb = np.cross(b, n), np.cross(n, t), np.cross(t, b)
    hand = np.sign(np.einsum("kd,kd->k", t, bn))[:, None]
    out = np.stack([np.einsum("kd,kd->k", row, ways) for row in (bn, nt, tb)], axis=1) * np.where(
        hand == 0, 1, hand
    )
    flat = np.linalg.norm(out, axis=1) < 1e-12
    out[flat] = [0, 0, 1]
    return unit(out)


def square_frame(spots: Spots) -> tuple[F32, F32, F32]:
    """Tangent, its other way and normal, (k, 3) each, of length one and square to each other."""
    up = spots.up
    tangent = unit(spots.tangent - np.einsum("kd,kd->k", spots.tangent, up)[:, None] * up)
    side = np.cross(up, tangent)
    sign = np.sign(np.einsum("kd,kd->k", side, spots.side))[:, None]
    return tangent, (side * np.where(sign == 0, 1, sign)).astype(np.float32), up


def label_colours(numbers: AnyArray) -> U8:
    """A colour for each number (k,), (k, 3): neighbours in number far from each other in hue; 0 is grey."""
    hue = (numbers * 0.61803398875) % 1
    three = np.abs((hue[:, None] * 6 + np.array([0.0, 4.0, 2.0])) % 6 - 3) - 1
    light = 0.55 + 0.4 * ((numbers * 7) % 3) / 2
    colour = np.clip(three, 0, 1) * light[:, None]
    colour[numbers == 0] = 0.5
    return np.rint(255 * colour).astype(np.uint8)


@kernel
def _spread(known: U8, source: I32, rounds: int) -> None:
    """Each round, what borders on what is known takes its neighbour's number."""
    high, wide = source.shape
    fresh = np.empty(high * wide, np.int64)
    steps = ((0, -1), (0, 1), (-1, 0), (1, 0), (-1, -1), (-1, 1), (1, -1), (1, 1))
    for _ in range(rounds):
        n = 0
        for y in range(high):
            for x in range(wide):
                if known[y, x]:
                    continue
                for dy, dx in steps:
                    v, u = y + dy, x + dx
                    if 0 <= v < high and 0 <= u < wide and known[v, u]:
                        source[y, x] = source[v, u]
                        fresh[n] = y * wide + x
                        n += 1
                        break
        if n == 0:
            return
        for i in range(n):
            known[fresh[i] // wide, fresh[i] % wide] = 1


def padded(covered: AnyArray, rounds: int) -> I32:
    """Which texel, by its number, each texel takes its value from, (h, w); -1 where it is too far from any that is covered."""
    source = np.where(covered, np.arange(covered.size, dtype=np.int32).reshape(covered.shape), np.int32(-1))
    known = covered.astype(np.uint8)
    _spread(known, source, rounds)
    return source


def packed_together(pictures: Sequence[AnyArray | None], size: int) -> U8:
    """Three maps of one channel as one picture, (size, size, 3): white where there is none."""
    out = np.full((size, size, 3), 255, np.uint8)
    for c, picture in enumerate(pictures):
        if picture is not None:
            out[:, :, c] = as_bytes(picture)[:, :, 0]
    return out


def as_bytes(picture: AnyArray) -> U8:
    """A map (h, w, c) of 16 bits as one of eight."""
    if picture.dtype == np.uint16:
        return ((picture.astype(np.uint32) + 128) // 257).astype(np.uint8)
    return np.asarray(picture, np.uint8)
