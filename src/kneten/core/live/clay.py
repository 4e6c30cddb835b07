"""What a recipe makes, and the pieces all of them are put together from."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, U16
from kneten.core.live.curves import circle
from kneten.core.mesh import Mesh
from kneten.core.topology import as_faces
from kneten.core.values import VALUES

MOST = 4_000_000
"""Vertices a recipe may make: what a mistyped number asks for should not fill the memory."""


class RecipeError(ValueError):
    """The recipe's numbers make no clay. The text says what to change."""


@dataclass(frozen=True)
class Clay:
    """Arrays of new clay in source order.

    Attributes
    ----------
    positions : (n, 3) float32
    faces : (f, 4) int32
        -1 as the last corner of a triangle.
    colour : (n, 4) uint8 or None
    regions : (f,) uint16 or None
        Of `core.regions.OWN`.
    material : (n, 4) uint8 or None
    """

    positions: F32
    faces: I32
    colour: U8 | None = None
    regions: U16 | None = None
    material: U8 | None = None

    def mesh(self) -> Mesh:
        """A mesh of it."""
        return Mesh.from_faces(
            self.positions, self.faces, self.colour, regions=self.regions, material=self.material
        )


def clay_of(positions: F64, faces: list[I32] | I32, colour: U8 | None = None) -> Clay:
    """Clay from positions (n, 3) and faces or lists of faces, (f, 3) and (f, 4) mixed."""
    blocks = faces if isinstance(faces, list) else [faces]
    whole = np.concatenate([as_faces(block) for block in blocks if len(block)])
    return Clay(positions.astype(np.float32), whole, colour)


def joined(pieces: list[Clay]) -> Clay:
    """Several pieces as one, not connected."""
    first = 0
    faces = []
    for piece in pieces:
        faces.append(np.where(piece.faces >= 0, piece.faces + first, -1).astype(np.int32))
        first += len(piece.positions)
    regions = None
    if any(piece.regions is not None for piece in pieces):
        regions = np.concatenate(
            [np.zeros(len(p.faces), np.uint16) if p.regions is None else p.regions for p in pieces]
        )
    colour, material = (_rows(pieces, name) for name in ("colour", "material"))
    places = np.concatenate([p.positions for p in pieces])
    return Clay(places, np.concatenate(faces), colour, regions, material)


def _rows(pieces: list[Clay], name: str) -> U8 | None:
    """What the vertices of pieces have of a value together (n, 4); None where none has any."""
    held = [getattr(piece, name) for piece in pieces]
    if all(rows is None for rows in held):
        return None
    none = VALUES[name].none
    return np.concatenate(
        [none(len(p.positions)) if rows is None else rows for p, rows in zip(pieces, held, strict=True)]
    )


def wall(rings: int, around: int, first: int = 0, closed: bool = False, back: bool = False) -> I32:
    """Quads between neighbouring rings of `around` vertices each, (k, 4).

    Parameters
    ----------
    closed : bool
        The last ring is joined to the first.
    back : bool
        Turned inside out.
    """
    i = np.arange(rings if closed else rings - 1)[:, None]
    j = np.arange(around)[None, :]
    here, up = i * around, ((i + 1) % rings) * around
    side = (j + 1) % around
    quads = np.stack(np.broadcast_arrays(here + j, here + side, up + side, up + j), -1).reshape(-1, 4)
    quads = quads[:, ::-1] if back else quads
    return (quads + first).astype(np.int32)


def strips(ring: I32, back: bool = False) -> I32:
    """A ring of vertices (even count) filled by a ladder of quads, without a pole, (k, 4).

    Good for convex rings; the ladder's first and last rung is an edge of the ring.
    """
    n = len(ring)
    half = n // 2 - 1
    left = np.arange(half)
    quads = np.stack([ring[left], ring[left + 1], ring[n - 2 - left], ring[n - 1 - left]], -1)
    return (quads[:, ::-1] if back else quads).astype(np.int32)


def even_up(count: int) -> int:
    """The next even number: a row of vertices then lies in the plane of symmetry."""
    return count + count % 2


def round_grid(n: int, rings: int) -> tuple[F64, I32, I32]:
    """The unit disc in quads without a pole: a square grid in the middle, rings around it.

    Returns
    -------
    points : (k, 2) float64
    faces : (f, 4) int32
        Counter-clockwise.
    rim : (4 n,) int32
        The outermost ring, counter-clockwise.
    """
    t = (2 * np.arange(n + 1) - n) / n
    x, y = np.meshgrid(t, t, indexing="ij")
    # The square's sides bulge half-way towards the circle, which spreads its corners' angles.
    bulge = 0.45
    u = x * np.sqrt(1 - bulge * y * y / 2)
    v = y * np.sqrt(1 - bulge * x * x / 2)
    square = np.stack([u, v], -1).reshape(-1, 2) * 0.55
    index = np.arange((n + 1) ** 2).reshape(n + 1, n + 1)
    inner = np.stack([index[:-1, :-1], index[1:, :-1], index[1:, 1:], index[:-1, 1:]], -1)
    loop = np.concatenate([index[:-1, 0], index[-1, :-1], index[:0:-1, -1], index[0, :0:-1]])
    # The rim's vertices stand at equal angles, from the square's first corner on.
    points = [square]
    faces = [inner.reshape(-1, 4)]
    last = loop
    total = len(square)
    base = square[loop]
    rim_places = circle(4 * n, -1.5 * n)
    for ring in range(1, rings + 1):
        share = ring / rings
        points.append(base * (1 - share) + rim_places * share)
        now = total + np.arange(4 * n)
        total += 4 * n
        faces.append(np.stack([last, now, np.roll(now, -1), np.roll(last, -1)], -1))
        last = now
    return np.concatenate(points), np.concatenate(faces).astype(np.int32), last.astype(np.int32)
