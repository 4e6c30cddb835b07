"""Ways of working with where parts stand: pivot, surface, mirror line."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter

from kneten.app.view.hands import Hand, Pointer
from kneten.core.arrays import F64
from kneten.document.blocking import flip, mirror
from kneten.document.marks import place_of
from kneten.document.placing import onto, set_pivot

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

from kneten.app.view.modes import Mode, dot, line, nothing


class PivotMode(Mode):
    """The pivot of the chosen parts goes where one clicks; it snaps to surfaces, landmarks, pivots, grid."""

    key = "parts.pivot"
    hint = "Click to put the pivot there. It snaps to landmarks, other pivots and clay; beside the clay, to the grid"

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        place = self.snapped(press.x, press.y)
        set_pivot(self.studio.project, self.studio.project.chosen, place)
        return nothing()

    def snapped(self, x: float, y: float) -> F64:
        """The place a click means."""
        project = self.studio.project
        held = {part.id for part in project.chosen}
        known = [place_of(mark, project.scene) for mark in project.scene.landmarks]
        known += [p.pivot_place() for p in project.scene.parts if p.visible and p.id not in held]
        hit = self.near(np.array(known).reshape(-1, 3), x, y)
        if hit >= 0:
            return np.asarray(known[hit])
        found = self.view.part_at(x, y)
        if found is not None:
            return found[1]
        active = project.active
        through = active.pivot_place() if active is not None else np.zeros(3)
        step = self.studio.snap_length or 1.0
        return np.round(self.on_plane(x, y, through) / step) * step

    def paint(self, painter: QPainter) -> None:
        accent = self.view.ring_colour
        for part in self.studio.project.chosen:
            at = self.pixels(part.pivot_place()[None])[0]
            dot(painter, at, accent, 5)
            for arm in (np.array([11.0, 0.0]), np.array([0.0, 11.0])):
                line(painter, np.array([at - arm, at + arm]), accent, 1.4)
        for mark in self.studio.project.scene.landmarks:
            dot(painter, self.pixels(place_of(mark, self.studio.project.scene)[None])[0], accent, 3)


class SettleMode(Mode):
    """The part in hand is stood on the surface under the pointer."""

    key = "parts.onto"
    hint = "Click on another part: the part in hand stands there, its own up along the surface"

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        part = self.studio.project.active
        found = self._under(press.x, press.y)
        if part is None or found is None:
            return None
        onto(self.studio.project, part, *found)
        return nothing()

    def _under(self, x: float, y: float) -> tuple[F64, F64] | None:
        from kneten.core.picking import pick

        view = self.view
        origin, way = view.camera.ray(x, y, view.wide, view.high)
        held = {part.id for part in self.studio.project.chosen}
        best = None
        for part in self.studio.project.scene.parts:
            if not part.visible or part.id in held:
                continue
            place = part.transform
            hit = pick(part.mesh, place.to_part(origin[None])[0], place.way_to_part(way))
            if hit is not None and (best is None or hit.distance * place.scale < best[0]):
                normal = place.axes() @ hit.normal
                best = (hit.distance * place.scale, origin + way * hit.distance * place.scale, normal)
        return None if best is None else (best[1], best[2])


class MirrorMode(Mode):
    """The chosen parts are mirrored across a plane that is drawn as a line in the picture."""

    key = "copy.mirror-line"
    hint = "Draw the line to mirror across; Ctrl makes linked copies, Shift flips the parts themselves"

    def __init__(self, view: Canvas) -> None:
        super().__init__(view)
        self._line: list[tuple[float, float]] = []

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        return self._draw(press, keys)

    def _draw(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand:
        while True:
            event = yield None
            if event is None or event.kind == "cancel":
                self._line = []
                self.view.repaint_over()
                return
            self._line = [(press.x, press.y), (event.x, event.y)]
            self.view.repaint_over()
            if event.kind == "release":
                break
        (x0, y0), (x1, y1) = self._line
        self._line = []
        if np.hypot(x1 - x0, y1 - y0) < 8:
            self.studio.say("Draw a longer line to mirror across.")
            return
        point, normal = self.plane(x0, y0, x1, y1)
        project = self.studio.project
        if keys & Qt.KeyboardModifier.ShiftModifier:
            flip(project, project.chosen, point, normal)
        else:
            linked = bool(keys & Qt.KeyboardModifier.ControlModifier)
            mirror(project, project.chosen, point, normal, linked)
        self.view.repaint_over()

    def plane(self, x0: float, y0: float, x1: float, y1: float) -> tuple[F64, F64]:
        """A point and the normal of the plane through a line of the picture, straight away from the eye.

        At the depth of the pivot in hand the line lies on it; perspective does not lean it.
        """
        active = self.studio.project.active
        through = active.pivot_place() if active is not None else np.zeros(3)
        a, b = self.on_plane(x0, y0, through), self.on_plane(x1, y1, through)
        return a, np.cross(b - a, self.view.camera.axes()[2])

    def paint(self, painter: QPainter) -> None:
        if self._line:
            line(painter, np.array(self._line), self.view.ring_colour, 1.8, dashed=True)
