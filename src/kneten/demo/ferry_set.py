"""What is around Tarn at the ferry: a rail of grey wood, a post with rope, the lake, the far shore."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kneten.core.arrays import F64
from kneten.core.live.primitive import Primitive
from kneten.core.mesh import Mesh
from kneten.core.transform import Transform
from kneten.document.scene import Part

WATER = -430.0
"""Height of the lake, mm."""

RAIL_TOP = -158.0


def _streaks(places: F64, along: int, seed: int) -> F64:
    """How light wood is at places (n, 3), 0 to 1: long fibres along an axis, in rings across."""
    rng = np.random.default_rng(seed)
    across = [k for k in range(3) if k != along]
    u, v, w = places[:, along], places[:, across[0]], places[:, across[1]]
    wander = 1.1 * np.sin(u / 143.0 + 1.3) + 0.5 * np.sin(u / 57.0)
    rings = np.hypot(v + wander + 52.0, w * 0.7 + 0.5 * wander)
    tone = 0.5 + 0.13 * np.sin(rings * 0.8) + 0.10 * np.sin(rings * 2.3 + 0.006 * u)
    for _ in range(14):
        a, b, c = rng.normal(0, 1, 3)
        # Fibres: long ones, no two alike.
        tone += (
            0.045 * np.sin(0.016 * u * a + 2.2 * b * v + 2.2 * c * w + 6 * a) * np.sin(0.009 * u * c + 9 * b)
        )
    return np.clip(tone, 0.0, 1.0)


def _made(name: str, mesh: Mesh, colours: F64, made: tuple[float, ...] | F64) -> Part:
    """A part with colours (n, 3) in codes and what it is made of, (4,) or (n, 4) shares."""
    n = mesh.n_vertices
    codes = np.full((n, 4), 255, np.uint8)
    codes[:, :3] = np.clip(np.rint(colours), 0, 255)
    mesh.colour = codes
    shares = np.broadcast_to(np.asarray(made, np.float64), (n, 4))
    mesh.material = np.clip(np.rint(shares * 255), 0, 255).astype(np.uint8)
    return Part(name, mesh)


def _wood(name: str, primitive: Primitive, along: int, seed: int, depth: float) -> Part:
    """Old wood: grooved along its fibres, grey with brown below, worn smooth at its edges, damp in its grooves."""
    mesh = primitive.made().mesh()
    places = mesh.positions.astype(np.float64)
    tone = _streaks(places, along, seed)
    mesh = mesh.with_positions((places + mesh.normals * ((tone - 0.7) * depth)[:, None]).astype(np.float32))
    dark, light = np.array([58.0, 44.0, 34.0]), np.array([132.0, 116.0, 98.0])
    wet = np.clip(0.75 - 1.3 * tone, 0.0, 1.0)
    made = np.stack([0.86 - 0.45 * wet, 0 * wet, 0 * wet, 0.55 * wet], axis=1)
    return _made(name, mesh, dark + (light - dark) * tone[:, None], made)


def rail() -> Part:
    """The rail that Tarn leans over."""
    part = _wood("Rail", Primitive("box", (1800.0, 44.0, 64.0), (700, 16, 24)), 0, 3, 1.6)
    return replace(part, transform=Transform((40.0, RAIL_TOP - 22.0, 20.0)))


def post() -> list[Part]:
    """A post at the right with a line about it."""
    wood = _wood("Post", Primitive("cylinder", (58.0, 620.0, 58.0), (64, 260, 6)), 1, 8, 1.4)
    out = [replace(wood, transform=Transform((252.0, -300.0, 4.0)))]
    for k in range(3):
        mesh = Primitive("torus", (74.0, 9.0, 74.0), (160, 20, 1), 0.8).made().mesh()
        x, y, z = mesh.positions.astype(np.float64).T
        # A rope is a tube whose strands wind about it.
        twist = np.sin(26 * np.arctan2(z, x) + 3 * np.arctan2(y, np.hypot(x, z) - 33.0))
        mesh = mesh.with_positions(
            (mesh.positions + mesh.normals * (0.7 * twist)[:, None]).astype(np.float32)
        )
        tone = 0.5 + 0.3 * twist
        colours = np.array([96.0, 78.0, 52.0]) + np.array([70.0, 62.0, 46.0]) * tone[:, None]
        part = _made(f"Line {k + 1}", mesh, colours, (0.85, 0.0, 0.1, 0.1))
        out.append(
            replace(
                part,
                transform=Transform((252.0, -92.0 - 9.5 * k, 4.0)).with_degrees(
                    2.0 * k - 3, 40.0 * k, 3 - 2.0 * k
                ),
            )
        )
    return out


def lake() -> Part:
    """Dark water with small waves."""
    mesh = Primitive("plane", (9000.0, 1.0, 6400.0), (420, 1, 420)).made().mesh()
    x, _, z = mesh.positions.astype(np.float64).T
    rng = np.random.default_rng(11)
    high = np.zeros(len(x))
    for _ in range(22):
        way, long = rng.uniform(0, np.pi), rng.uniform(60.0, 420.0)
        high += (
            long
            * 0.006
            * np.sin((np.cos(way) * x + np.sin(way) * z * 0.7) * 2 * np.pi / long + rng.uniform(0, 6.28))
        )
    places = np.stack([x, high, z], axis=1).astype(np.float32)
    part = _made(
        "Lake", mesh.with_positions(places), np.tile([10.0, 17.0, 22.0], (len(x), 1)), (0.07, 0.0, 0.0, 0.0)
    )
    return replace(part, transform=Transform((0.0, WATER, -2700.0)))


def shore() -> list[Part]:
    """Two ridges of the far shore, one behind the other."""
    out = []
    for k, (deep, base, tall, tint) in enumerate(
        ((-4300.0, 120.0, 300.0, (13.0, 19.0, 20.0)), (-5600.0, 330.0, 460.0, (22.0, 30.0, 40.0)))
    ):
        mesh = Primitive("plane", (13000.0, 1.0, 1000.0), (420, 1, 14)).made().mesh()
        x, _, z = mesh.positions.astype(np.float64).T
        rng = np.random.default_rng(40 + k)
        line = base + 0 * x
        for step in range(7):
            long = 5200.0 / 1.9**step
            line += tall * 0.42 * 0.62**step * np.sin(2 * np.pi * x / long + rng.uniform(0, 6.28))
        line += 14.0 * np.abs(np.sin(x / 23.0 + k)) * (k == 0)
        share = (z - z.min()) / max(float(np.ptp(z)), 1e-9)
        # The strip stands upright: its far edge is the ridge.
        places = np.stack([x, (1 - share) * np.maximum(line, 30.0) * 1.0, -120.0 * (1 - share)], axis=1)
        part = _made(
            f"Shore {k + 1}",
            mesh.with_positions(places.astype(np.float32)),
            np.tile(tint, (len(x), 1)),
            (1.0, 0, 0, 0),
        )
        out.append(replace(part, transform=Transform((0.0, WATER - 2.0, deep))))
    return out


def ferry_set() -> list[Part]:
    """All of it."""
    return [rail(), *post(), lake(), *shore()]
