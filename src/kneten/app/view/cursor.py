"""The brush's ring on the clay: falloff, mirrored rings, marks, and the mesh's real edge length."""

from __future__ import annotations

import functools
import math
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPainterPath, QPen, QPolygonF, QTransform

from kneten.core.arrays import F64
from kneten.core.brushes.tool import BrushSettings
from kneten.core.camera import Camera
from kneten.core.falloff import Points, curve_table
from kneten.core.transform import Transform
from kneten.core.twin_places import Twin

SEGMENTS = 72
MOST_TICKS = 140
"""Closer ticks would run together; the ring is then drawn plain: the mesh is fine enough."""


@dataclass(frozen=True)
class Ring:
    """Where the brush hovers, in the part's space."""

    point: F64
    normal: F64
    radius: float
    edge: float


def paint_ring(
    painter: QPainter,
    ring: Ring,
    transform: Transform,
    camera: Camera,
    width: int,
    height: int,
    settings: BrushSettings,
    twins: list[Twin],
    colour: QColor,
) -> None:
    """Draw the ring and its twins."""
    faint = QColor(colour)
    faint.setAlphaF(0.38)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for count, twin in enumerate(twins):
        first = count == 0
        centre, normal = twin.linear @ ring.point + twin.shift, twin.linear @ ring.normal
        across, up = _axes_across(normal) * ring.radius
        flat = _flat(transform, camera, width, height, centre, across, up)
        outline = flat.map(_circle())
        painter.setPen(QPen(colour if first else faint, 1.6 if first else 1.2))
        painter.drawPolygon(outline)
        if not first:
            continue
        painter.setPen(QPen(faint, 1.0))
        painter.drawPolygon(flat.map(_inner(settings.falloff)))
        count = round(2 * np.pi * ring.radius / max(ring.edge, 1e-9))
        if 3 <= count <= MOST_TICKS:
            painter.setPen(QPen(colour, 1.0))
            painter.drawPath(flat.map(_ticks(count)))
        _marks(painter, outline.boundingRect(), settings, colour)


SHOWN = 0.34
"""How clearly a press is shown under the pointer: the clay has to be seen through it."""


def paint_press(
    painter: QPainter,
    ring: Ring,
    transform: Transform,
    camera: Camera,
    width: int,
    height: int,
    settings: BrushSettings,
    picture: QImage | None,
) -> None:
    """Show how the press on the tip would lie here; not where the stroke's way or chance will turn it."""
    tip = settings.tip
    if picture is None or tip.rolled or tip.turned not in ("view", "pen"):
        return
    out = ring.normal / max(float(np.linalg.norm(ring.normal)), 1e-12)
    top = transform.way_to_part(camera.axes()[1])
    top = top - out * float(top @ out)
    length = float(np.linalg.norm(top))
    if length < 1e-6:
        return
    top /= length
    right = np.cross(top, out)
    c, s = math.cos(math.radians(tip.turn)), math.sin(math.radians(tip.turn))
    right, top = (right * c + top * s) * ring.radius, (top * c - right * s) * ring.radius
    corners = np.array([ring.point + a * right + b * top for a, b in ((-1, 1), (1, 1), (1, -1), (-1, -1))])
    pixels = camera.project(transform.to_scene(corners), width, height)[:, :2]
    wide, high = picture.width(), picture.height()
    side = max(wide, high)
    # A picture that is not square lies in the middle of one.
    left, above = (wide - side) / 2, (high - side) / 2
    square = QPolygonF(
        [QPointF(left + x * side, above + y * side) for x, y in ((0, 0), (1, 0), (1, 1), (0, 1))]
    )
    there = QTransform()
    if not QTransform.quadToQuad(square, QPolygonF([QPointF(*at) for at in pixels.tolist()]), there):
        return
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
    painter.setOpacity(SHOWN)
    if not tip.whole:
        path = QPainterPath()
        across, up = _axes_across(ring.normal) * ring.radius
        path.addPolygon(_flat(transform, camera, width, height, ring.point, across, up).map(_circle()))
        painter.setClipPath(path, Qt.ClipOperation.IntersectClip)
    painter.setTransform(there, True)
    painter.drawImage(QPointF(0, 0), picture)
    painter.restore()


def _axes_across(normal: F64) -> F64:
    """Two unit vectors square to a normal and to each other, (2, 3)."""
    # Written out: with every move of the pointer, NumPy's cross products alone would take half a millisecond.
    x, y, z = normal.tolist()
    length = math.sqrt(x * x + y * y + z * z)
    x, y, z = (x / length, y / length, z / length) if length > 0 else (0.0, 0.0, 1.0)
    a, b, c = (-z, 0.0, x) if abs(y) < 0.9 else (0.0, z, -y)
    wide = math.sqrt(a * a + b * b + c * c)
    a, b, c = a / wide, b / wide, c / wide
    return np.array([[a, b, c], [y * c - z * b, z * a - x * c, x * b - y * a]])


def _flat(
    transform: Transform, camera: Camera, width: int, height: int, centre: F64, across: F64, up: F64
) -> QTransform:
    """From the units of a plane of the part to pixels: Qt brings whole shapes there at once."""
    at = transform.to_scene(np.array([centre, centre + across, centre + up]))
    return QTransform(
        *camera.plane_to_pixels(at[0], at[1] - at[0], at[2] - at[0], width, height).ravel().tolist()
    )


@functools.cache
def _circle() -> QPolygonF:
    """A circle of radius 1."""
    return QPolygonF([QPointF(*at) for at in _round(SEGMENTS)])


@functools.lru_cache(64)
def _inner(falloff: Points) -> QPolygonF:
    """The circle at which the falloff has gone to a half, in a ring of radius 1."""
    half = max(float(np.argmax(curve_table(falloff) < 0.5)) / 256, 0.04)
    return QPolygonF([QPointF(half * x, half * y) for x, y in _round(SEGMENTS)])


@functools.lru_cache(2 * MOST_TICKS)
def _ticks(count: int) -> QPainterPath:
    """So many short lines inwards from a circle of radius 1."""
    path = QPainterPath()
    for x, y in _round(count):
        path.moveTo(x, y)
        path.lineTo(0.93 * x, 0.93 * y)
    return path


def _round(count: int) -> list[list[float]]:
    """Cosine and sine all round."""
    t = np.arange(count) * (2 * np.pi / count)
    return np.stack([np.cos(t), np.sin(t)], axis=1).tolist()


def _marks(painter: QPainter, outline: QRectF, settings: BrushSettings, colour: QColor) -> None:
    """At the ring's right: a half disc for front-only, a line through a ring for through-the-clay."""
    at = QPointF(outline.right() + 10, outline.center().y())
    painter.setPen(QPen(colour, 1.4))
    if settings.front_only:
        painter.setBrush(colour)
        painter.drawChord(int(at.x()) - 5, int(at.y()) - 5, 10, 10, 90 * 16, 180 * 16)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(at, 5, 5)
        at += QPointF(0, 16)
    if settings.through:
        painter.drawEllipse(at, 4, 4)
        painter.drawLine(at - QPointF(8, 0), at + QPointF(8, 0))
    if settings.reverse:
        painter.drawLine(at + QPointF(-4, 16), at + QPointF(4, 16))
