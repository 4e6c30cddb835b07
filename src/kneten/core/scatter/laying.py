"""Pieces laid where they sit: turned, sunk, and bent so that their foot follows the clay."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, in_parts, kernel
from kneten.core.live.clay import Clay
from kneten.core.mesh import Mesh
from kneten.core.scatter.numbers import Sitting, check_amount
from kneten.core.scatter.pieces import Piece
from kneten.core.scatter.sites import Sites
from kneten.core.scatter.walk import walk
from kneten.core.values import VALUES

MOST_BENT = 1.2
"""How steeply, against its size, the clay under a piece may bend before no more is made of it."""

WAYS = 12
"""Directions in which the clay under a piece is looked at, at its foot's rim and half-way there."""


@kernel
def _unit(v: F64) -> None:
    """Make a vector (3,) as long as 1, where it has a length."""
    long = np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2])
    if long > 1e-30:
        for j in range(3):
            v[j] /= long


@kernel
def _along(v: F64, normal: F64) -> None:
    """Take out of a vector (3,) what leads along a unit normal, and make it a unit."""
    off = v[0] * normal[0] + v[1] * normal[1] + v[2] * normal[2]
    for j in range(3):
        v[j] -= off * normal[j]
    _unit(v)


@kernel
def _square_to(a: F64, b: F64, out: F64) -> None:
    """Add what is square to two vectors (3,)."""
    out[0] += a[1] * b[2] - a[2] * b[1]
    out[1] += a[2] * b[0] - a[0] * b[2]
    out[2] += a[0] * b[1] - a[1] * b[0]


@kernel
def _bent(rim: F64, frame: F64, size: float, bend: F64) -> None:
    """How clay bends under a piece: y = a x^2 + b x z + c z^2 in its frame, fitted to places of it (k, 3), all in its size.

    The places become what they stand off from the fit, in their first number.
    """
    at = np.zeros((rim.shape[0], 3))
    m = np.zeros((3, 4))
    for k in range(rim.shape[0]):
        for axis in range(3):
            for j in range(3):
                at[k, axis] += rim[k, j] * frame[1 + axis, j] / size
        t = (at[k, 0] * at[k, 0], at[k, 0] * at[k, 2], at[k, 2] * at[k, 2])
        for i in range(3):
            m[i, 3] += t[i] * at[k, 1]
            for j in range(3):
                m[i, j] += t[i] * t[j]
    # Normal equations, solved by elimination: they are positive definite but for flukes, which the ridge mends.
    for i in range(3):
        m[i, i] += 1e-9
    for i in range(3):
        for r in range(i + 1, 3):
            share = m[r, i] / m[i, i]
            for j in range(i, 4):
                m[r, j] -= share * m[i, j]
    for i in range(2, -1, -1):
        for j in range(i + 1, 3):
            m[i, 3] -= m[i, j] * bend[j]
        bend[i] = min(max(m[i, 3] / m[i, i], -MOST_BENT), MOST_BENT)
    for k in range(rim.shape[0]):
        x = at[k, 0]
        z = at[k, 2]
        rim[k, 0] = size * (at[k, 1] - bend[0] * x * x - bend[1] * x * z - bend[2] * z * z)


@kernel
def _reach(u: float, v: float, half: F64, is_round: bool) -> float:
    """How far an outline reaches from its middle, in a direction across and along its heading."""
    if is_round:
        return 1.0 / np.sqrt((u / half[0]) ** 2 + (v / half[1]) ** 2)
    return min(half[0] / max(abs(u), 1e-12), half[1] / max(abs(v), 1e-12))


@kernel
def _stations(body: F32, half: F64, is_round: bool, turns: F64, shares: F64) -> None:
    """Where each vertex of a piece lies among the ways in which the clay is looked at, and how far out, 0 to 2."""
    for n in range(body.shape[0]):
        x = float(body[n, 0])
        z = float(body[n, 2])
        far = np.sqrt(x * x + z * z)
        turns[n] = np.arctan2(x, z) / (2 * np.pi) * WAYS % WAYS
        shares[n] = min(2 * far / _reach(x / far, z / far, half, is_round), 2.0) if far > 1e-12 else 0.0


@kernel
def _stands_off(rim: F64, turn: float, share: float) -> float:
    """How far the clay stands off from its fit at a station: between the four places around it."""
    k = int(turn) % WAYS
    t = turn - int(turn)
    m = (k + 1) % WAYS
    inner = rim[2 * k, 0] * (1 - t) + rim[2 * m, 0] * t
    outer = rim[2 * k + 1, 0] * (1 - t) + rim[2 * m + 1, 0] * t
    return inner * share if share < 1 else inner * (2 - share) + outer * (share - 1)


@kernel
def _seat(
    f: int,
    part: int,
    shares: F64,
    head: F64,
    half: F64,
    is_round: bool,
    positions: F32,
    normals: F32,
    faces: I32,
    start: I32,
    ring: I32,
    frame: F64,
    rim: F64,
) -> None:
    """The frame under a piece (rows: place, side, out, heading, how the clay bends), and how the clay stands off from that.

    It is looked at along `WAYS`: `rim` has two places for each, half-way to the foot's rim and at it.
    """
    frame[:] = 0.0
    normal = np.zeros(3)
    for k in range(3):
        v = faces[f, 0 if k == 0 else k + part]
        for j in range(3):
            frame[0, j] += shares[k] * positions[v, j]
            normal[j] += shares[k] * normals[v, j]
    _unit(normal)
    frame[3] = head
    _along(frame[3], normal)
    _square_to(normal, frame[3], frame[1])
    for k in range(WAYS):
        u = np.sin(2 * np.pi * k / WAYS)
        v = np.cos(2 * np.pi * k / WAYS)
        far = _reach(u, v, half, is_round)
        dx = frame[1, 0] * u + frame[3, 0] * v
        dy = frame[1, 1] * u + frame[3, 1] * v
        dz = frame[1, 2] * u + frame[3, 2] * v
        face = f
        half_of = part
        b0 = shares[0]
        b1 = shares[1]
        for step in range(2):
            face, half_of, b0, b1, dx, dy, dz, _ = walk(
                face, half_of, b0, b1, dx, dy, dz, far / 2, positions, faces, start, ring
            )
            a = faces[face, 0]
            b = faces[face, 1 + half_of]
            c = faces[face, 2 + half_of]
            for j in range(3):
                rim[2 * k + step, j] = (
                    b0 * positions[a, j]
                    + b1 * positions[b, j]
                    + (1.0 - b0 - b1) * positions[c, j]
                    - frame[0, j]
                )
    for k in range(WAYS):
        _square_to(rim[2 * k + 1], rim[(2 * k + 3) % (2 * WAYS)], frame[2])
    _unit(frame[2])
    if frame[2, 0] * normal[0] + frame[2, 1] * normal[1] + frame[2, 2] * normal[2] < 0.2:
        frame[2] = normal
    _along(frame[3], frame[2])
    frame[1] = 0.0
    _square_to(frame[2], frame[3], frame[1])
    size = max(half[0], half[1])
    _bent(rim, frame, size, frame[4])
    for j in range(3):
        frame[4, j] /= size


@kernel
def _lay(
    rows: I32,
    found: I32,
    halves: I32,
    shares: F64,
    heads: F64,
    sizes: F64,
    hands: F64,
    body: F32,
    half: F64,
    is_round: bool,
    high: float,
    lean: float,
    sink: float,
    bent: bool,
    positions: F32,
    normals: F32,
    faces: I32,
    start: I32,
    ring: I32,
    starts: I32,
    out: F32,
    first: int,
    last: int,
) -> None:
    frame = np.empty((5, 3))
    rim = np.empty((2 * WAYS, 3))
    n = body.shape[0]
    turns = np.empty(n)
    outs = np.empty(n)
    _stations(body, half, is_round, turns, outs)
    for row in range(first, last):
        i = rows[row]
        s = sizes[i]
        _seat(
            found[i], halves[i], shares[i], heads[i], half * s, is_round,
            positions, normals, faces, start, ring, frame, rim,
        )  # fmt: skip
        at = starts[i]
        for v in range(n):
            x = s * hands[i] * body[v, 0]
            y = s * body[v, 1]
            z = s * body[v, 2]
            up = min(y / max(high * s, 1e-30), 1.0)
            bend = frame[4, 0] * x * x + frame[4, 1] * x * z + frame[4, 2] * z * z
            off = _stands_off(rim, turns[v] if hands[i] > 0 else (WAYS - turns[v]) % WAYS, outs[v])
            z += y * lean
            # What is uneven under a piece moves its foot only, how the clay bends all of it where it is to bend.
            y += (1.0 if bent else 1.0 - up) * bend + (1.0 - up) * off - sink * high * s
            for j in range(3):
                out[at + v, j] = frame[0, j] + x * frame[1, j] + y * frame[2, j] + z * frame[3, j]


def laid_positions(
    mesh: Mesh, sites: Sites, heads: F64, sitting: Sitting, pieces: Sequence[Piece]
) -> tuple[F32, I32]:
    """Where the vertices of all pieces are.

    Parameters
    ----------
    mesh : Mesh
        What they sit on, at rest.
    heads : (n, 3) float64
        Which way each points.

    Returns
    -------
    positions : (m, 3) float32
        In the mesh's space, piece after piece.
    starts : (n + 1,) int32
        Where each piece's vertices begin.
    """
    counts = np.array([len(piece.positions) for piece in pieces], np.int64)[sites.which]
    starts = np.concatenate([[0], np.cumsum(counts)]).astype(np.int32)
    out = np.empty((int(starts[-1]), 3), np.float32)
    shape = mesh.topology
    spots = sites.spots
    lean = float(np.tan(np.radians(sitting.lean)))
    hands = sites.hands.astype(np.float64)
    for which, piece in enumerate(pieces):
        rows = np.flatnonzero(sites.which == which).astype(np.int32)

        def run(first: int, last: int, rows: I32 = rows, piece: Piece = piece) -> None:
            _lay(
                rows, spots.faces, spots.halves, spots.shares, heads, sites.sizes, hands, piece.positions,
                np.array(piece.half), piece.is_round, piece.high, lean, sitting.sink, sitting.bend,
                mesh.positions, mesh.normals, shape.faces, shape.ring, shape.ring_faces, starts, out, first, last,
            )  # fmt: skip

        in_parts(len(rows), run, least=500)
    return out, starts


def laid_clay(mesh: Mesh, sites: Sites, heads: F64, sitting: Sitting, pieces: Sequence[Piece]) -> Clay:
    """All pieces as clay, pointing along `heads` (n, 3). Raises `RecipeError` where that would be too much."""
    check_amount(len(sites), max(len(piece.positions) for piece in pieces))
    positions, starts = laid_positions(mesh, sites, heads, sitting, pieces)
    blocks: list[I32] = []
    order: list[I32] = []
    for which, piece in enumerate(pieces):
        turned_over = piece.faces.copy()
        triangles = piece.faces[:, 3] < 0
        turned_over[~triangles] = piece.faces[~triangles][:, ::-1]
        turned_over[triangles, :3] = piece.faces[triangles, 2::-1]
        for hand, faces in ((1, piece.faces), (-1, turned_over)):
            rows = np.flatnonzero((sites.which == which) & (sites.hands == hand)).astype(np.int32)
            shifted = np.where(faces[None] >= 0, faces[None] + starts[rows][:, None, None], np.int32(-1))
            blocks.append(shifted.reshape(-1, 4))
            order.append(np.repeat(rows, len(faces)))
    faces = np.concatenate(blocks)[np.argsort(np.concatenate(order), kind="stable")]
    return Clay(positions, faces, _colours(sites, pieces))


def _colours(sites: Sites, pieces: Sequence[Piece]) -> U8 | None:
    if all(piece.colour is None for piece in pieces):
        return None
    bare = VALUES["colour"]
    own = [bare.none(len(p.positions)) if p.colour is None else p.colour for p in pieces]
    return np.concatenate([own[which] for which in sites.which.tolist()])
