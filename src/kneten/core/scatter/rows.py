"""Where the pieces of rows sit: one after the other along lines."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from kneten.core.arrays import F64
from kneten.core.guides import held
from kneten.core.live.clay import RecipeError
from kneten.core.live.curves import lengths_along
from kneten.core.mesh import Mesh
from kneten.core.pieces import border_loops
from kneten.core.scatter.numbers import MOST_PIECES, Row
from kneten.core.scatter.pieces import Piece
from kneten.core.scatter.sites import Sites, mirrored, together, turned
from kneten.core.scatter.walk import spots_of, walked

STEP = 0.2
"""Of a piece's size: how finely a line's ways are followed."""


def rims(mesh: Mesh) -> list[F64]:
    """The open edges of clay as closed lines (k, 3)."""
    return [mesh.positions[loop].astype(np.float64) for loop in border_loops(mesh)]


def border_of(mesh: Mesh, number: int) -> list[F64]:
    """The border of a region as closed lines (k, 3), evened: it runs along faces in steps. Raises `RecipeError`."""
    if mesh.regions is None or not (mesh.regions == number).any():
        raise RecipeError("the region that it follows is not there any more")
    faces = mesh.topology.faces[mesh.regions == number]
    used, inverse = np.unique(np.maximum(faces, 0), return_inverse=True)
    own = np.where(faces >= 0, inverse.reshape(faces.shape), -1).astype(np.int32)
    alone = Mesh.from_faces(mesh.positions[used], own)
    lines = [alone.positions[loop].astype(np.float64) for loop in border_loops(alone)]
    for _ in range(6):
        lines = [(2 * line + np.roll(line, 1, 0) + np.roll(line, -1, 0)) / 4 for line in lines]
    return [line for line in lines if len(line) > 3]


def _extent(row: Row, piece: Piece) -> float:
    """Half of what a piece of size 1 takes up of the line."""
    a, b = piece.half
    turn = np.radians(row.turn)
    return float(
        np.hypot(a * np.sin(turn), b * np.cos(turn))
        if piece.is_round
        else a * abs(np.sin(turn)) + b * abs(np.cos(turn))
    )


class _Beads:
    """How pieces are strung along a line of some length."""

    def __init__(self, row: Row, pieces: Sequence[Piece], long: float, closed: bool) -> None:
        self.row, self.long, self.closed = row, max(long, 1e-30), closed
        self.extents = [_extent(row, piece) for piece in pieces]

    def tapered(self, at: F64 | float) -> F64:
        """How large pieces are at a place of the line, against their size."""
        off = np.abs(2 * np.asarray(at, np.float64) / self.long - 1)
        return np.ones_like(off) if self.closed else 1 + (self.row.ends - 1) * off**1.5

    def counted(self, rng: np.random.Generator) -> tuple[F64, F64]:
        """So many pieces, at even distances."""
        n = self.row.count
        at = np.arange(n, dtype=np.float64) * (self.long / (n if self.closed else max(n - 1, 1)))
        if n == 1 and not self.closed:
            at = np.array([self.long / 2])
        return at, self.varied(n, rng) * self.tapered(at)

    def varied(self, n: int, rng: np.random.Generator) -> F64:
        """Sizes by chance, (n,)."""
        return np.asarray(self.row.size * (1 + self.row.vary * (2 * rng.random(n) - 1)))

    def fitted(self, rng: np.random.Generator) -> tuple[F64, F64]:
        """As many pieces as fit, one after the other; what is left over of the line is spread between them."""
        row = self.row
        share = 1 + row.gap
        least = 2 * row.size * min(self.extents) * min(row.ends, 1.0) * (1 - row.vary) * share
        room = int(min(self.long / max(least, 1e-30), MOST_PIECES + 1))
        if room > MOST_PIECES:
            raise RecipeError(f"that would be more than {MOST_PIECES:,} pieces: make them larger")
        sizes = self.varied(room + 1, rng)
        places: list[float] = []
        edge = 0.0
        for k, size in enumerate(sizes.tolist()):
            half = self.extents[k % len(self.extents)] * size * share
            # How large a piece is depends on where it stands, and that on how large it is: three rounds settle it.
            at = edge + half
            for _ in range(3):
                at = edge + half * float(self.tapered(at))
            if 2 * at - edge > self.long * (1 + 1e-9) and places:
                break
            places.append(at)
            edge = 2 * at - edge
        at_all = np.array(places)
        sizes = sizes[: len(places)] * self.tapered(at_all)
        if self.closed:
            return at_all * (self.long / max(edge, 1e-30)), sizes
        if len(places) == 1:
            return np.array([self.long / 2]), sizes
        spare = (self.long - edge) / (len(places) - 1)
        return at_all + spare * np.arange(len(places)), sizes


def strung(
    mesh: Mesh, row: Row, lines: Sequence[tuple[F64, bool]], pieces: Sequence[Piece]
) -> tuple[Sites, F64]:
    """Find the places of a row's pieces along lines on clay.

    Parameters
    ----------
    lines : sequence of (k, 3) float64 and bool
        In the mesh's space; whether each is closed.

    Returns
    -------
    sites : Sites
    heads : (n, 3) float64
        Which way each points.

    Raises
    ------
    RecipeError
        Where there is no line, or too many pieces would stand on it.
    """
    row.check()
    if not lines:
        raise RecipeError("there is no line for it to follow")
    rng = np.random.default_rng(row.seed)
    all_sites, all_heads = [], []
    for line, closed in lines:
        long = lengths_along(line, closed)
        beads = _Beads(row, pieces, float(long[-1]), closed)
        at, sizes = beads.counted(rng) if row.count > 0 else beads.fitted(rng)
        whole = np.concatenate([line, line[:1]]) if closed else line
        places = np.stack([np.interp(at, long, whole[:, k]) for k in range(3)], axis=-1)
        # The way is that over half a piece to either side: a drawn line trembles.
        step = np.maximum(sizes * STEP, 1e-9)
        ahead, behind = ((at + step), (at - step))
        if closed:
            ahead, behind = ahead % long[-1], behind % long[-1]
        ways = np.stack(
            [np.interp(ahead, long, whole[:, k]) - np.interp(behind, long, whole[:, k]) for k in range(3)],
            axis=-1,
        )
        found = held(mesh, places)
        spots = spots_of(mesh, found.corners, found.shares)
        n = len(at)
        spins = 2 * rng.random(n) - 1
        odd = np.arange(n) % 2 == 1
        angles = np.radians(row.turn + row.loose * spins + np.where(row.weave & odd, 180.0, 0.0))
        if row.aside:
            left = turned(ways, spots.normals(mesh), np.full(n, np.pi / 2))
            off = np.where(row.weave & odd, -row.aside, row.aside)
            spots, _, _ = walked(mesh, spots, left * np.sign(off)[:, None], np.abs(off))
        which = (np.arange(n) % len(pieces)).astype(np.int32)
        all_sites.append(Sites(spots, sizes, spins, which, np.ones(n, np.int8)))
        all_heads.append(turned(ways, spots.normals(mesh), angles))
    sites, heads = together(all_sites), np.concatenate(all_heads)
    if row.mirrored:
        sites = mirrored(mesh, sites)
        heads = np.concatenate([heads, heads * [-1.0, 1.0, 1.0]])
    return sites, heads
