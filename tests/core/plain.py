"""Slow, plain versions of what the kernels do, one vertex at a time."""

from __future__ import annotations

import numpy as np

from kneten.core.brushes import flatten, inflate, pellet, pinch, raise_, score, shave, slab
from kneten.core.brushes.tool import Dab
from kneten.core.falloff import SAMPLES
from kneten.core.mesh import Mesh
from kneten.core.reach import SHARP

KNOWN = ("raise", "pellet", "inflate", "flatten", "score", "pinch", "slab", "shave")
"""Tools that have a plain version here."""


def weights(mesh: Mesh, dab: Dab, table: np.ndarray) -> np.ndarray:
    """Falloff at every vertex; 0 outside."""
    far = np.linalg.norm(mesh.positions - dab.centre, axis=1) / dab.radius
    return np.where(far < 1, np.interp(far, np.linspace(0, 1, SAMPLES), table), 0.0)


def neighbours(mesh: Mesh, v: int) -> np.ndarray:
    """Positions of the vertices that share an edge with `v`."""
    near = set()
    for face in mesh.topology.faces[(mesh.topology.faces == v).any(axis=1)]:
        corners = [c for c in face.tolist() if c >= 0]
        at = corners.index(v)
        near |= {corners[at - 1], corners[(at + 1) % len(corners)]}
    return mesh.positions[sorted(near)].astype(np.float64)


def moves(key: str, mesh: Mesh, dab: Dab, table: np.ndarray) -> np.ndarray:
    """How a dab of a tool moves every vertex, (n, 3)."""
    w = weights(mesh, dab, table)
    points, normals = mesh.positions.astype(np.float64), mesh.normals.astype(np.float64)
    middle = (points * w[:, None]).sum(axis=0) / w.sum()
    up = (normals * w[:, None]).sum(axis=0)
    up /= np.linalg.norm(up)
    along = dab.along - up * (dab.along @ up)
    if np.linalg.norm(along) > 1e-6:
        along /= np.linalg.norm(along)
    out = np.zeros_like(points)
    for v in np.flatnonzero(w):
        ring = neighbours(mesh, v) - points[v]
        even = ring.mean(axis=0)
        needle = (even @ even) / (ring * ring).sum(axis=1).mean()
        back = np.clip((needle - SHARP) * 2.5, 0, 0.6) * even
        slide = even - normals[v] * (even @ normals[v])
        height = (points[v] - middle) @ up
        side = dab.centre - points[v]
        side = side - up * (side @ up) - along * (side @ along)
        if key == "raise":
            amount = dab.strength * dab.radius * raise_.HEIGHT * dab.spacing
            move = up * amount + raise_.EVEN * slide
        elif key == "pellet":
            gap = dab.strength * dab.radius * pellet.THICKNESS - height
            gap = max(gap, 0) if dab.strength > 0 else min(gap, 0)
            move = up * gap * min(pellet.RATE * dab.spacing, 1) + pellet.EVEN * slide
        elif key == "inflate":
            amount = dab.strength * dab.radius * inflate.SWELL * dab.spacing
            move = normals[v] * amount + inflate.EVEN * even
        elif key == "flatten":
            move = -up * height * min(dab.strength * flatten.RATE * dab.spacing, 0.9)
        elif key == "slab":
            lift = dab.strength * dab.radius * slab.THICKNESS
            move = up * lift + slab.EVEN * slide
        elif key == "shave":
            sign = np.sign(dab.strength)
            off = height + sign * shave.BELOW * dab.radius
            rate = min(abs(dab.strength) * shave.RATE * dab.spacing, 0.9)
            move = -up * off * rate if off * sign > 0 else np.zeros(3)
        elif key == "score":
            gather = min(abs(dab.strength) * score.GATHER * dab.spacing, 0.5)
            if np.linalg.norm(side) < score.CLOSEST * dab.radius:
                gather = 0.0
            move = side * gather - up * dab.strength * dab.radius * score.DEPTH * dab.spacing
        elif key == "pinch":
            room = pinch.ROOM * dab.radius
            off = np.linalg.norm(side)
            gather = min(dab.strength * pinch.GATHER * dab.spacing, 0.5)
            gather *= np.clip((off - room) / (off + room), 0, 1)
            move = side * gather + 0.1 * along * (even @ along)
        else:
            raise KeyError(key)
        out[v] = w[v] * (move + back)
    return out
