"""Marks of the lamps over the picture: where they stand, or where from they shine, and what they aim at."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Protocol

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from kneten.core.arrays import F64
from kneten.core.light.lamps import Lamp
from kneten.document.lighting import lamps_of

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

REACH = 15.0
"""Pixels around a mark that count as on it."""

AWAY = 150.0
"""Pixels from what it aims at to the mark of a lamp that is far away or out of the picture."""

INSET = 22.0
"""Pixels from the picture's edge at which marks stay."""

BELOW = 78.0
"""The same from its top, where the chips are."""


def mark_places(view: Canvas, lamps: Sequence[Lamp]) -> F64:
    """Where the marks are, (k, 2) in pixels of the pane: near ones where they stand, others towards where they are."""
    camera = view.camera
    axes = camera.axes()
    out = np.empty((len(lamps), 2))
    for k, lamp in enumerate(lamps):
        aim = camera.project(np.array([lamp.aim]), view.wide, view.high)[0]
        place = None if lamp.is_far else camera.project(lamp.place()[None], view.wide, view.high)[0]
        if place is not None and (camera.orthographic or place[2] > 0):
            out[k] = place[:2]
        else:
            way = axes @ lamp.towards(axes)
            out[k] = aim[:2] + np.array([way[0], -way[1]]) * AWAY
    out[:, 0] = np.clip(out[:, 0], INSET, max(view.wide - INSET, INSET))
    out[:, 1] = np.clip(out[:, 1], BELOW, max(view.high - INSET, BELOW))
    return out


class Known(Protocol):
    """What the marks need to know of the light."""

    @property
    def chosen(self) -> Lamp | None:
        """The lamp in hand."""

    @property
    def is_seen(self) -> bool:
        """Whether the view shows this light."""


class LampMarks:
    """Painted over the picture while the light is worked on: in the stage Show, in the look Lit."""

    def __init__(self, view: Canvas, lights: Known) -> None:
        self._view = view
        self._lights = lights

    def paint(self, painter: QPainter) -> None:
        """A disc in each lamp's colour; the chosen one's line to what it lights."""
        view, lights = self._view, self._lights
        if view.studio.stage != "Show" or not lights.is_seen:
            return
        scene = view.studio.project.scene
        for name, things in view.shown_things.items():
            scene = scene.with_things(name, things)
        lamps = [lamp for lamp in lamps_of(scene) if lamp.shown]
        chosen = lights.chosen
        for lamp, at in zip(lamps, mark_places(view, lamps), strict=True):
            held = chosen is not None and lamp.id == chosen.id
            if held:
                aim = view.camera.project(np.array([lamp.aim]), view.wide, view.high)[0]
                painter.setPen(QPen(QColor(255, 255, 255, 110), 1.2, Qt.PenStyle.DashLine))
                painter.drawLine(QPointF(*at), QPointF(*aim[:2]))
            self._disc(painter, lamp, QPointF(*at), held)

    def _disc(self, painter: QPainter, lamp: Lamp, at: QPointF, held: bool) -> None:
        light = lamp.light()
        codes = np.sqrt(np.clip(light / max(float(light.max()), 1e-9), 0, 1)) * 255
        painter.setPen(QPen(QColor(0, 0, 0, 170), 1.6))
        painter.setBrush(QColor(*(round(code) for code in codes)))
        if lamp.kind == "panel":
            painter.drawRoundedRect(QRectF(at.x() - 9, at.y() - 7, 18, 14), 3, 3)
        else:
            size = 8.5 if lamp.kind in ("sun", "point") else 6.5
            painter.drawEllipse(at, size, size)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if lamp.is_far:
            painter.drawEllipse(at, 11.5, 11.5)
        if held:
            painter.setPen(QPen(self._view.ring_colour, 2.2))
            painter.drawEllipse(at, REACH - 1, REACH - 1)
