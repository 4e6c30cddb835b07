"""A mask that runs out along the surface, dragged over the clay."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QPainter

from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode, dot, line
from kneten.core.arrays import F32
from kneten.core.geodesic import distances, from_place
from kneten.core.masks import COMBINE
from kneten.core.mesh import Mesh
from kneten.core.picking import Hit, pick
from kneten.document.masks import mask_of, with_mask
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas


class ShownMask:
    """A mask that is only shown while it is dragged."""

    def __init__(self, view: Canvas, mesh: Mesh, before: F32) -> None:
        self._view = view
        self._mesh = mesh
        self._before = before
        self.over = False

    def put_back(self) -> None:
        """The mask as it was."""
        self.over = True
        self._view.show_mask(self._mesh, self._before)


class GradientMode(Mode):
    """Masked where the drag begins, free where it ends; between, by the distance over the surface."""

    key = "mask.gradient"
    hint = "Drag over the clay from what is to be masked to where it is to be free; Ctrl turns it round"

    def __init__(self, view: Canvas, way: str = "replace") -> None:
        super().__init__(view)
        self.way = way
        self._line: tuple[tuple[float, float], tuple[float, float]] | None = None

    def _hit(self, part: Part, x: float, y: float) -> Hit | None:
        view = self.view
        origin, way = view.camera.ray(x, y, view.wide, view.high)
        place = part.transform
        return pick(part.mesh, place.to_part(origin[None])[0], place.way_to_part(way))

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        part = self.studio.project.active
        if part is None:
            return None
        blocked = self.studio.move_blocked(part)
        if blocked:
            self.studio.say(blocked, "warning")
            return None
        hit = self._hit(part, press.x, press.y)
        if hit is None:
            return None
        return self._drag(part, press, hit, bool(keys & Qt.KeyboardModifier.ControlModifier))

    def _drag(self, part: Part, press: Pointer, hit: Hit, turned: bool) -> Hand:
        mesh = part.mesh
        before = mask_of(mesh).copy()
        trial = ShownMask(self.view, mesh, before)
        self._line = ((press.x, press.y), (press.x, press.y))
        found: list[F32] = []
        # The distances from where the drag began are measured aside; the drag goes on meanwhile.
        self.studio.aside(lambda: distances(mesh, *from_place(mesh, hit.face, hit.point)), found.append)
        now: F32 | None = None
        try:
            while True:
                event = yield None
                if event is None:
                    continue
                if event.kind == "cancel" or trial.over:
                    now = None
                    return
                self._line = ((press.x, press.y), (event.x, event.y))
                end = self._hit(part, event.x, event.y)
                while event.kind == "release" and not found:
                    yield "busy"
                if end is not None and found:
                    far = found[0]
                    corners, off = from_place(mesh, end.face, end.point)
                    length = float(np.min(far[corners] + off))
                    if np.isfinite(length) and length > 0:
                        share = np.clip(1.0 - far / length, 0.0, 1.0)
                        share = (share * share * (3.0 - 2.0 * share)).astype(np.float32)
                        now = COMBINE[self.way](before, 1.0 - share if turned else share)
                        self.studio.project.try_on(trial)
                        self.view.show_mask(mesh, now)
                self.view.repaint_over()
                if event.kind == "release":
                    break
        finally:
            self._line = None
            if not trial.over:
                self.studio.project.end_trials()
            if now is None:
                self.view.refresh()
        if now is None:
            self.studio.say("The drag ended beside the clay; nothing was masked.")
        else:
            with_mask(self.studio.project, part, now, "Mask by gradient on")

    def paint(self, painter: QPainter) -> None:
        if self._line is not None:
            accent = QColor(self.view.ring_colour)
            line(painter, np.array(self._line), accent, 1.6, True)
            for at, filled in zip(self._line, (True, False), strict=True):
                dot(painter, np.array(at), accent, 5.0, filled)
