"""What is seen of quads over the picture: their flow before they are made, their irregular vertices after."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QLineF, QPointF
from PySide6.QtGui import QColor, QPainter, QPen

from kneten.app.benches.net.seen import Seen
from kneten.core.arrays import F64
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.benches.net.retopologising import Retopologising
    from kneten.app.view.canvas import Canvas


class FlowLayer:
    """Paints strokes of the flow, and dots on irregular vertices; what the clay hides is left out."""

    def __init__(self, view: Canvas, retopologising: Retopologising) -> None:
        self._view = view
        self._of = retopologising
        self._seen = Seen(view)

    def paint(self, painter: QPainter) -> None:
        of, project = self._of, self._view.studio.project
        if self._view.at_work:
            # What is hidden by what would have to be found anew at every event.
            return
        part = next((one for one in project.scene.parts if one.id == of.strokes_of), None)
        colour = QColor(self._view.ring_colour)
        if part is not None and part.visible and len(of.strokes):
            ends = part.transform.to_scene(of.strokes.reshape(-1, 3)).reshape(-1, 2, 3)
            seen = self._seen.of("flow", part, ends.mean(axis=1))
            at = self._view.camera.project(ends[seen].reshape(-1, 3), self._view.wide, self._view.high)[:, :2]
            painter.setPen(QPen(colour, 1.3))
            painter.drawLines([QLineF(*a, *b) for a, b in at.reshape(-1, 2, 2).tolist()])
        hand = project.active
        if of.marking and hand is not None and hand.visible:
            places = part_places(hand, of.marks(hand))
            seen = self._seen.of("irregular", hand, places)
            painter.setPen(QPen(QColor(0, 0, 0, 150), 1.0))
            painter.setBrush(colour)
            for x, y in self._view.camera.project(places[seen], self._view.wide, self._view.high)[
                :, :2
            ].tolist():
                painter.drawEllipse(QPointF(x, y), 2.6, 2.6)


def part_places(part: Part, places: F64) -> F64:
    """Places (k, 3) of a part in the scene."""
    return part.transform.to_scene(places) if len(places) else places
