"""Exact bodies that printing needs: pegs, holes, plinths, letters."""

from __future__ import annotations

import logging
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import manifold3d
import numpy as np

from kneten.core.arrays import F64, I32, AnyArray
from kneten.core.mesh import Mesh
from kneten.core.topology import MeshError

SIDES = 48
"""Corners of what is round."""

CURVE = 8
"""Straight pieces that a curve of a letter is told by."""


def frame_of(way: AnyArray) -> F64:
    """Axes as rows (3, 3), the second along a way (3,)."""
    up = np.asarray(way, np.float64)
    up = up / np.linalg.norm(up)
    side = np.cross(up, np.eye(3)[int(np.argmin(np.abs(up)))])
    side /= np.linalg.norm(side)
    return np.stack([side, up, np.cross(side, up)])


def lofted(rings: Sequence[F64]) -> Mesh:
    """A closed body through rings (k, 3) of as many corners each, going round to the left as seen from the last."""
    k = len(rings[0])
    points = [*rings, np.mean(rings[0], axis=0, keepdims=True), np.mean(rings[-1], axis=0, keepdims=True)]
    i, j = np.arange(k), (np.arange(k) + 1) % k
    faces: list[I32] = []
    for row in range(len(rings) - 1):
        a, b = row * k, (row + 1) * k
        faces.append(np.stack([a + i, a + j, b + j, b + i], axis=1))
    low, high = len(rings) * k, len(rings) * k + 1
    none = np.full(k, -1)
    last = (len(rings) - 1) * k
    faces.append(np.stack([np.full(k, low), j, i, none], axis=1))
    faces.append(np.stack([np.full(k, high), last + i, last + j, none], axis=1))
    return Mesh.from_faces(np.concatenate(points).astype(np.float32), np.concatenate(faces).astype(np.int32))


def lathed(
    profile: Sequence[tuple[float, float]], place: Sequence[float], way: Sequence[float], sides: int = SIDES
) -> Mesh:
    """A body round an axis through a place, its radius given at lengths along the way: (length, radius), lengths ascending."""
    side, up, front = frame_of(np.array(way))
    turn = np.arange(sides) * (2 * np.pi / sides)
    # To the left as seen from ahead.
    round_ = np.cos(turn)[:, None] * side + np.sin(turn)[:, None] * front
    if np.dot(np.cross(round_[0], round_[1]), up) < 0:
        round_ = round_[::-1]
    at = np.asarray(place, np.float64)
    return lofted([at + length * up + radius * round_ for length, radius in profile])


def outline(kind: str, wide: float, deep: float, sides: int = 96) -> F64:
    """The outline of a plinth seen from above, (k, 2) x and z: round (or oval), square with rounded corners, or of eight sides."""
    turn = np.arange(sides) * (2 * np.pi / sides)
    if kind == "round":
        return np.stack([np.cos(turn) * wide / 2, np.sin(turn) * deep / 2], axis=1)
    if kind == "eight":
        edge = np.pi / 8
        turn = (np.arange(8) + 0.5) * 2 * edge
        return np.stack([np.cos(turn) * wide / 2, np.sin(turn) * deep / 2], axis=1) / np.cos(edge)
    bend = min(wide, deep) * 0.08
    corners = []
    for number, (sx, sz) in enumerate(((1, 1), (-1, 1), (-1, -1), (1, -1))):
        arc = np.linspace(0, np.pi / 2, 7) + number * np.pi / 2
        middle = np.array([sx * (wide / 2 - bend), sz * (deep / 2 - bend)])
        corners.append(middle + bend * np.stack([np.cos(arc), np.sin(arc)], axis=1))
    return np.concatenate(corners)


def plinth(kind: str, wide: float, deep: float, high: float, bevel: float, top: Sequence[float]) -> Mesh:
    """A plinth whose top's middle is at a place, y up; its upper edge, and its lower a little, is bevelled. Raises `MeshError` where its sizes make no sense."""
    if min(wide, deep, high) <= 0 or bevel < 0 or bevel >= min(wide, deep) / 2 or bevel > high:
        raise MeshError(
            "a plinth needs a width, a depth and a height above nothing, and a bevel that fits them"
        )
    flat = outline(kind, wide, deep)
    middle = np.asarray(top, np.float64)
    foot = min(bevel / 3, high / 4)

    def ring(y: float, less: float) -> F64:
        share = 1 - 2 * less / np.array([wide, deep])
        rows = np.zeros((len(flat), 3))
        rows[:, [0, 2]] = flat * share
        rows[:, 1] = y
        return rows[::-1] + middle

    heights = [(-high, foot), (-high + foot, 0.0), (-bevel, 0.0), (0.0, bevel)]
    rings = [ring(y, less) for k, (y, less) in enumerate(heights) if k == 0 or y > heights[k - 1][0] + 1e-9]
    return lofted(rings)


def letters(text: str, font: Path, size: float) -> list[F64]:
    """The outlines (k, 2) of a line of text, its middle at the origin, as high as `size` from the foot of a letter to the top of a capital.

    Raises
    ------
    MeshError
        When the font has none of its letters.
    """
    from fontTools.pens.recordingPen import DecomposingRecordingPen
    from fontTools.ttLib import TTFont

    # Of a font it only matters how its letters are drawn.
    logging.getLogger("fontTools").setLevel(logging.ERROR)
    with TTFont(font) as told:
        glyphs, named = told.getGlyphSet(), told.getBestCmap()
        scale = size / float(getattr(told["OS/2"], "sCapHeight", 0) or 0.7 * told["head"].unitsPerEm)
        at, found = 0.0, []
        for letter in text:
            name = named.get(ord(letter))
            if name is None:
                continue
            pen = DecomposingRecordingPen(glyphs)
            glyphs[name].draw(pen)
            found += [points + np.array([at, 0.0]) for points in _flat(pen.value)]
            at += float(glyphs[name].width)
    if not found:
        raise MeshError("there is no letter in it that the font has")
    rows = np.concatenate(found)
    middle = np.array([(rows[:, 0].min() + rows[:, 0].max()) / 2, size / scale / 2])
    return [(points - middle) * scale for points in found]


def _flat(drawn: list[tuple[str, Any]]) -> list[F64]:
    """What a pen has recorded, as polygons."""
    polygons: list[F64] = []
    now: list[tuple[float, float]] = []
    for what, given in drawn:
        if what == "moveTo":
            now = [given[0]]
        elif what == "lineTo":
            now.append(given[0])
        elif what == "qCurveTo":
            *controls, end = given
            for k, control in enumerate(controls):
                follows = controls[k + 1] if k + 1 < len(controls) else None
                stop = (
                    end if follows is None else ((control[0] + follows[0]) / 2, (control[1] + follows[1]) / 2)
                )
                now += _curve([now[-1], control, stop])
        elif what == "curveTo":
            now += _curve([now[-1], *given])
        elif what in ("closePath", "endPath"):
            if len(now) > 2:
                rows = np.array(now, np.float64)
                keep = np.linalg.norm(rows - np.roll(rows, 1, axis=0), axis=1) > 1e-6
                polygons.append(rows[keep])
            now = []
    return polygons


def _curve(points: Sequence[tuple[float, float]]) -> list[tuple[float, float]]:
    """Places on a curve of Bézier's after its first (de Casteljau)."""
    out = []
    for t in np.linspace(0, 1, CURVE + 1)[1:]:
        rows = np.array(points, np.float64)
        while len(rows) > 1:
            rows = rows[:-1] * (1 - t) + rows[1:] * t
        out.append((float(rows[0, 0]), float(rows[0, 1])))
    return out


def raised(polygons: Sequence[F64], behind: float, before: float, fine: float) -> Mesh:
    """A body of outlines (k, 2) in x and y, from `behind` to `before` along z, its sides no longer than `fine`.

    Raises
    ------
    MeshError
        When they enclose nothing.
    """
    flat = manifold3d.CrossSection([one.tolist() for one in polygons], manifold3d.FillRule.NonZero)
    solid = flat.extrude(before - behind).translate((0.0, 0.0, behind))
    if solid.is_empty():
        raise MeshError("the letters enclose nothing")
    if fine > 0:
        solid = solid.refine_to_length(fine)
    found = solid.to_mesh()
    triangles = np.full((len(found.tri_verts), 4), -1, np.int32)
    triangles[:, :3] = found.tri_verts
    return Mesh.from_faces(np.ascontiguousarray(found.vert_properties[:, :3], np.float32), triangles)


def lettering(
    text: str, font: Path, size: float, room: float, behind: float, before: float, radius: float = 0.0
) -> Mesh:
    """A line of text as a body that looks towards z, at most `room` wide, bent round an upright axis behind it where a radius is given.

    Raises
    ------
    MeshError
        When there is nothing to write.
    """
    polygons = letters(text, font, size)
    wide = max(float(np.ptp(np.concatenate(polygons)[:, 0])), 1e-9)
    if wide > room:
        polygons = [one * (room / wide) for one in polygons]
    body = raised(polygons, behind, before, radius / 12 if radius else 0.0)
    if radius:
        points = body.positions.astype(np.float64)
        turn, out = points[:, 0] / radius, radius + points[:, 2]
        bent = np.stack([out * np.sin(turn), points[:, 1], out * np.cos(turn)], axis=1)
        body = Mesh(body.topology, bent.astype(np.float32))
    return body
