"""The pieces that rows and scatter are made of: our own shapes, and whatever clay is given.

A piece stands with its foot on y = 0, y off the clay, z along its heading; its longer side on the ground is 1.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8
from kneten.core.live.clay import RecipeError, round_grid
from kneten.core.mesh import Mesh


@dataclass(frozen=True, eq=False)
class Piece:
    """Clay that is laid many times.

    Attributes
    ----------
    positions : (n, 3) float32
    faces : (f, 4) int32
    colour : (n, 4) uint8 or None
    half : two floats
        Half the extent of its outline on the ground, across its heading and along it.
    high : float
        How far it stands up.
    is_round : bool
        Whether its outline is an oval; else it is a rectangle.
    """

    positions: F32
    faces: I32
    colour: U8 | None
    half: tuple[float, float]
    high: float
    is_round: bool


def piece_of(positions: F64 | F32, faces: I32, colour: U8 | None = None) -> Piece:
    """A piece of clay of positions (n, 3) and faces (f, 4), in any place and size: its foot is where it is lowest.

    Raises
    ------
    RecipeError
        When it has no extent on the ground.
    """
    at = positions.astype(np.float64)
    low, high = at.min(axis=0), at.max(axis=0)
    wide = float(max(high[0] - low[0], high[2] - low[2]))
    if not wide > 1e-9:
        raise RecipeError("a piece must have some extent across its own y")
    at = (at - [(low[0] + high[0]) / 2, low[1], (low[2] + high[2]) / 2]) / wide
    half = np.maximum((high - low)[[0, 2]] / wide / 2, 1e-9)
    tall = float(high[1] - low[1]) / wide
    # An oval that holds all of it, where that takes up less room than the rectangle does.
    oval = float(((at[:, [0, 2]] / half) ** 2).sum(axis=1).max())
    is_round = oval < 4 / np.pi
    if is_round:
        half = half * max(oval, 1.0) ** 0.5
    return Piece(at.astype(np.float32), faces, colour, (float(half[0]), float(half[1])), tall, is_round)


def piece_from(mesh: Mesh) -> Piece:
    """A part's clay as a piece. Raises `RecipeError`."""
    colour = None if mesh.colour is None else mesh.colour.copy()
    return piece_of(mesh.positions, mesh.topology.faces, colour)


# -- our own ---------------------------------------------------------------------------------------


def _dome(
    height: Callable[[F64, F64], F64], outline: Callable[[F64, F64], tuple[F64, F64]], n: int = 4
) -> Piece:
    """A body over a flat foot: the unit disc brought to an outline, and how high it stands over each place."""
    disc, faces, _ = round_grid(n, 3)
    x, z = disc[:, 0], disc[:, 1]
    rim = np.hypot(x, z) > 0.999
    px, pz = outline(x, z)
    top = np.stack([px, np.where(rim, 0.0, height(x, z)), pz], axis=-1)
    # The foot shares the rim with what is above it.
    inner = np.flatnonzero(~rim)
    below = np.arange(len(disc), dtype=np.int32)
    below[inner] = len(disc) + np.arange(len(inner), dtype=np.int32)
    foot = np.stack([px, np.zeros_like(px), pz], axis=-1)[inner]
    # On the ground x runs to the right and z towards us: the disc's turn is the other way round.
    return piece_of(
        np.concatenate([top, foot]), np.concatenate([faces[:, ::-1], below[faces]]).astype(np.int32)
    )


def _column(radii: F64, heights: F64, lean: F64, oval: float = 1.0, around: int = 12) -> Piece:
    """A body of rings above each other, closed below and at its tip.

    Parameters
    ----------
    radii, heights, lean : (k,) float64
        Of each ring: how wide, how high, how far along z.
    oval : float
        How wide it is across its heading, against along it.
    """
    disc, faces, rim = round_grid(around // 4, 1)
    n = len(disc)
    foot = np.stack([disc[:, 0] * radii[0] * oval, np.zeros(n), disc[:, 1] * radii[0] + lean[0]], axis=-1)
    rings = [foot]
    blocks = [faces]
    last = rim
    total = n
    turn = disc[rim]
    for radius, high, far in zip(radii[1:-1], heights[1:-1], lean[1:-1], strict=True):
        rings.append(
            np.stack([turn[:, 0] * radius * oval, np.full(around, high), turn[:, 1] * radius + far], -1)
        )
        now = (total + np.arange(around)).astype(np.int32)
        blocks.append(np.stack([last, now, np.roll(now, -1), np.roll(last, -1)], -1))
        last, total = now, total + around
    # The tip is a cap of quads like the foot, turned over.
    tip = np.stack(
        [disc[:, 0] * radii[-1] * oval, np.full(n, heights[-1]), disc[:, 1] * radii[-1] + lean[-1]], -1
    )
    rings.append(tip)
    blocks.append(np.stack([last, total + rim, np.roll(total + rim, -1), np.roll(last, -1)], -1))
    blocks.append(total + faces[:, ::-1])
    return piece_of(np.concatenate(rings), np.concatenate(blocks).astype(np.int32))


def _shield(x: F64, z: F64) -> tuple[F64, F64]:
    """An outline that is round behind and runs to a blunt point in front."""
    front = np.clip(z, 0.0, 1.0)
    return x * (0.8 - 0.3 * front**3), z + 0.3 * front**2 * (1 - x**2)


def _square(x: F64, z: F64) -> tuple[F64, F64]:
    """The disc drawn out towards a square with round corners."""
    r = np.hypot(x, z)
    far = np.maximum(np.abs(x), np.abs(z))
    grow = np.where(far > 1e-9, r / np.maximum(far, 1e-9), 1.0) ** 0.75
    return x * grow, z * grow


def _scale() -> Piece:
    def height(x: F64, z: F64) -> F64:
        keel = np.exp(-((x / 0.14) ** 2)) * 0.07 * np.clip(0.9 - np.abs(z - 0.1), 0, 1)
        return 0.04 + 0.3 * ((z + 1) / 2) ** 1.5 * (1 - 0.35 * x**2) + keel

    return _dome(height, _shield, 5)


def _plate() -> Piece:
    def height(x: F64, z: F64) -> F64:
        r = np.maximum(np.abs(x), np.abs(z))
        return 0.2 * (1 - np.clip((r - 0.62) / 0.5, 0, 1) ** 2) + 0.06 * np.exp(-((x / 0.3) ** 2))

    return _dome(height, _square)


def _rivet() -> Piece:
    def height(x: F64, z: F64) -> F64:
        r = np.hypot(x, z)
        return 0.06 + 0.72 * np.sqrt(np.clip(1 - (r / 0.98) ** 2, 0, 1))

    return _dome(height, lambda x, z: (x, z))


def _bolt() -> Piece:
    angles = np.pi / 3

    def hexagon(x: F64, z: F64) -> tuple[F64, F64]:
        turn = np.arctan2(z, x) % angles - angles / 2
        side = np.cos(angles / 2) / np.cos(turn)
        return x * side, z * side

    def height(x: F64, z: F64) -> F64:
        return 0.5 + 0.12 * (1 - np.hypot(x, z) ** 2)

    return _dome(height, hexagon, 6)


def _stitch() -> Piece:
    def height(x: F64, z: F64) -> F64:
        arch = 0.14 + 0.2 * (1 - z**2)
        twist = 0.03 * np.sin(9 * z + 4 * x)
        return (arch + twist) * np.sqrt(np.clip(1 - x**2, 0.0, 1.0)) + 0.015

    return _dome(height, lambda x, z: (x * 0.26, z), 5)


def _tooth() -> Piece:
    t = np.linspace(0, 1, 9)
    radii = 0.5 * np.sqrt(np.clip(1 - t**2.2, 0, 1)) * (1 - 0.25 * t)
    radii[-1] = 0.05
    return _column(radii, 1.5 * t, 0.22 * t**2, 0.8)


def _horn() -> Piece:
    t = np.linspace(0, 1, 18)
    rings = 1 + 0.05 * np.cos(2 * np.pi * 7 * t) * (1 - t)
    radii = 0.5 * (1 - t) ** 0.8 * rings
    radii[-1] = 0.02
    bend = 1.2 * t
    return _column(radii, 2.4 * np.sin(bend) / 1.2, 2.4 * (1 - np.cos(bend)) / 1.2 * 0.8)


def _thorn() -> Piece:
    t = np.linspace(0, 1, 8)
    radii = 0.5 * (1 - t) ** 1.7
    radii[-1] = 0.025
    return _column(radii, 1.6 * t, 0.25 * t**2)


def _lock() -> Piece:
    t = np.linspace(0, 1, 16)
    radii = 0.5 * (0.55 + 0.9 * t * (1 - t) * 2) * (1 - t**3)
    radii[-1] = 0.03
    bend = 1.5 * t
    return _column(radii, 2.6 * np.sin(bend) / 1.5, 2.6 * (1 - np.cos(bend)) / 1.5, 0.6)


def _button() -> Piece:
    def height(x: F64, z: F64) -> F64:
        r = np.hypot(x, z)
        rim = 0.10 * np.exp(-(((r - 0.78) / 0.14) ** 2))
        holes = sum(np.exp(-(((x - a) ** 2 + z**2) / 0.02)) for a in (-0.26, 0.26))
        return 0.16 + rim - 0.12 * holes

    return _dome(height, lambda x, z: (x, z), 6)


def _wart() -> Piece:
    def height(x: F64, z: F64) -> F64:
        heads = (
            (0.0, 0.1, 0.5, 0.5),
            (0.45, -0.2, 0.32, 0.33),
            (-0.42, -0.25, 0.3, 0.36),
            (-0.2, 0.55, 0.3, 0.25),
        )
        out = 0.05 * (1 - np.hypot(x, z) ** 2)
        for a, b, wide, high in heads:
            out = np.maximum(out, high * np.sqrt(np.clip(1 - ((x - a) ** 2 + (z - b) ** 2) / wide**2, 0, 1)))
        return out + 0.02

    return _dome(height, lambda x, z: (x, z), 6)


OWN: dict[str, tuple[str, Callable[[], Piece]]] = {
    "scale": ("Scale", _scale),
    "plate": ("Plate", _plate),
    "wart": ("Wart", _wart),
    "tooth": ("Tooth", _tooth),
    "horn": ("Horn", _horn),
    "thorn": ("Thorn", _thorn),
    "lock": ("Lock of hair", _lock),
    "rivet": ("Rivet", _rivet),
    "bolt": ("Bolt", _bolt),
    "button": ("Button", _button),
    "stitch": ("Stitch", _stitch),
}
"""Our own pieces: what they are called, and how they are made."""


@functools.cache
def own_piece(key: str) -> Piece:
    """One of our own pieces. Raises `RecipeError` for one that is not among them."""
    if key not in OWN:
        raise RecipeError(f"there is no piece called {key}")
    return OWN[key][1]()
