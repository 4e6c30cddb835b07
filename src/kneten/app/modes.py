"""What the pointer does in the viewport when it is not sculpting: one class for each way of working.

A mode gets the presses that fall on clay or beside it, paints what it needs over the picture, and is left
with Escape. Turning, panning and zooming work in all of them.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from kneten.app.hands import Hand, Pointer
from kneten.core.arrays import F64
from kneten.document.blocking import flip, mirror, onto, set_pivot
from kneten.document.marks import Measured, landmark, measured, place_of
from kneten.document.scene import Landmark, Part, Tape

if TYPE_CHECKING:
    from kneten.app.viewport import Viewport

REACH = 11.0
"""Pixels around a point that count as on it."""


class Mode:
    """A way of working in the view.

    Attributes
    ----------
    key : str
        The command that begins it.
    hint : str
        What to do, in one line, shown below the picture.
    """

    key = ""
    hint = ""

    def __init__(self, view: Viewport) -> None:
        self.view = view
        self.studio = view.studio

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        """The hand for a press; None turns the camera."""
        return None

    def double(self, x: float, y: float) -> None:
        """A double click."""

    def hover(self, x: float, y: float) -> bool:
        """The pointer moves without being pressed; whether something is to be painted anew."""
        return False

    def pressed_key(self, key: int) -> bool:
        """A key; whether it was taken."""
        return False

    def paint(self, painter: QPainter) -> None:
        """Paint over the picture, in pixels of the pane."""

    def leave(self) -> None:
        """The mode ends; nothing of it stays behind."""

    # -- for heirs ------------------------------------------------------------------------------

    def pixels(self, points: F64) -> F64:
        """Where points (k, 3) of the scene are in the pane, (k, 2)."""
        return self.view.camera.project(points, self.view.wide, self.view.high)[:, :2]

    def near(self, points: F64, x: float, y: float, reach: float = REACH) -> int:
        """The index of the point of the scene under a pixel, the nearest to the camera first; or -1."""
        if len(points) == 0:
            return -1
        at = self.view.camera.project(points, self.view.wide, self.view.high)
        far = np.hypot(at[:, 0] - x, at[:, 1] - y)
        hit = np.flatnonzero(far < reach)
        return -1 if len(hit) == 0 else int(hit[np.argmin(far[hit])])

    def on_plane(self, x: float, y: float, through: F64) -> F64:
        """The place under a pixel on the plane of the picture through a point."""
        view = self.view
        origin, way = view.camera.ray(x, y, view.wide, view.high)
        back = view.camera.axes()[2]
        return origin + way * float((through - origin) @ back / (way @ back))


def nothing() -> Hand:
    """Swallow the rest of a press."""
    while True:
        event = yield None
        if event is None or event.kind in ("release", "cancel"):
            return


def dot(painter: QPainter, at: F64, colour: QColor, size: float = 4.5, filled: bool = True) -> None:
    """A point with a dark rim, readable on any clay."""
    painter.setPen(QPen(QColor(0, 0, 0, 150), 1.2))
    painter.setBrush(colour if filled else Qt.BrushStyle.NoBrush)
    painter.drawEllipse(QPointF(*at), size, size)


def line(painter: QPainter, points: F64, colour: QColor, width: float = 1.8, dashed: bool = False) -> None:
    """A polyline with a dark edge under it."""
    shape = QPolygonF([QPointF(*p) for p in points])
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(QColor(0, 0, 0, 110), width + 1.6))
    painter.drawPolyline(shape)
    pen = QPen(colour, width)
    if dashed:
        pen.setDashPattern([3, 3])
    painter.setPen(pen)
    painter.drawPolyline(shape)


def label(painter: QPainter, view: Viewport, at: QPointF, text: str) -> None:
    """A few words beside a point, on a small plate."""
    metrics = painter.fontMetrics()
    box = QRectF(metrics.boundingRect(text)).adjusted(-6, -3, 6, 3)
    box.moveTopLeft(at + QPointF(9, -box.height() / 2))
    if view.mirrored:
        painter.save()
        painter.translate(box.center())
        painter.scale(-1, 1)
        painter.translate(-box.center())
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(view.label_colour)
    painter.drawRoundedRect(box, 6, 6)
    painter.setPen(view.text_colour)
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
    if view.mirrored:
        painter.restore()


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

    def __init__(self, view: Viewport) -> None:
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


class MarkMode(Mode):
    """Landmarks are set on the clay, and moved by dragging."""

    key = "measure.landmark"
    hint = "Click the clay to set a landmark; drag one to move it; Delete takes the last one touched away"

    def __init__(self, view: Viewport) -> None:
        super().__init__(view)
        self.touched = ""

    def _places(self) -> F64:
        scene = self.studio.project.scene
        return np.array([place_of(mark, scene) for mark in scene.landmarks]).reshape(-1, 3)

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        scene = self.studio.project.scene
        hit = self.near(self._places(), press.x, press.y)
        if hit >= 0:
            self.touched = scene.landmarks[hit].id
            return self._drag(scene.landmarks[hit])
        found = self.view.part_at(press.x, press.y)
        if found is None:
            return None
        mark = self.set_at(found[0], found[1])
        self.touched = mark.id
        return nothing()

    def set_at(self, part: Part, place: F64) -> Landmark:
        """A new landmark at a place of the scene on a part."""
        from dataclasses import replace

        project = self.studio.project
        number = len(project.scene.landmarks) + 1
        mark = landmark(project.scene, f"Landmark {number}", part, part.transform.to_part(place[None])[0])
        project.change(f"Set {mark.name}", replace(project.scene, landmarks=(*project.scene.landmarks, mark)))
        return mark

    def _drag(self, mark: Landmark) -> Hand:
        from dataclasses import replace

        project = self.studio.project
        last = None
        while True:
            event = yield None
            if event is None or event.kind == "cancel":
                return
            found = self.view.part_at(event.x, event.y)
            if found is not None:
                last = found
            if event.kind == "release":
                break
        if last is not None:
            part, place, _ = last
            moved = landmark(project.scene, "moved", part, part.transform.to_part(place[None])[0])
            moved = replace(moved, name=mark.name, id=mark.id)
            marks = tuple(moved if m.id == mark.id else m for m in project.scene.landmarks)
            project.change(f"Move {mark.name}", replace(project.scene, landmarks=marks))

    def pressed_key(self, key: int) -> bool:
        if key not in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            return False
        from dataclasses import replace

        scene = self.studio.project.scene
        gone = next((m for m in scene.landmarks if m.id == self.touched), None)
        if gone is not None:
            marks = tuple(m for m in scene.landmarks if m is not gone)
            tapes = tuple(t for t in scene.tapes if gone.id not in (t.start, t.end))
            self.studio.project.change(f"Delete {gone.name}", replace(scene, landmarks=marks, tapes=tapes))
        return True


class TapeMode(MarkMode):
    """A tape is laid between two places: two clicks, or one drag; Shift lays it over the surface."""

    key = "measure.tape"
    hint = "Click two places, or drag from one to the other; with Shift the tape lies over the surface"

    def __init__(self, view: Viewport) -> None:
        super().__init__(view)
        self.first: Landmark | None = None

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        surface = bool(keys & Qt.KeyboardModifier.ShiftModifier)
        mark = self._mark_at(press.x, press.y)
        if mark is None:
            return None
        if self.first is None or self.first.id == mark.id:
            self.first = mark
            return self._to_second(press, surface)
        self.lay(self.first, mark, surface)
        self.first = None
        return nothing()

    def _mark_at(self, x: float, y: float) -> Landmark | None:
        hit = self.near(self._places(), x, y)
        if hit >= 0:
            return self.studio.project.scene.landmarks[hit]
        found = self.view.part_at(x, y)
        return None if found is None else self.set_at(found[0], found[1])

    def _to_second(self, press: Pointer, surface: bool) -> Hand:
        while True:
            event = yield None
            if event is None or event.kind == "cancel":
                return
            if event.kind == "release":
                break
        if np.hypot(event.x - press.x, event.y - press.y) > 12 and self.first is not None:
            other = self._mark_at(event.x, event.y)
            if other is not None and other.id != self.first.id:
                self.lay(self.first, other, surface)
                self.first = None

    def lay(self, start: Landmark, end: Landmark, surface: bool) -> Tape:
        """A new tape between two landmarks."""
        from dataclasses import replace

        project = self.studio.project
        tape = Tape(start.id, end.id, surface)
        scene = replace(project.scene, tapes=(*project.scene.tapes, tape))
        project.change(f"Tape from {start.name} to {end.name}", scene)
        return tape

    def leave(self) -> None:
        self.first = None

    def paint(self, painter: QPainter) -> None:
        if self.first is not None:
            at = self.pixels(place_of(self.first, self.studio.project.scene)[None])[0]
            dot(painter, at, self.view.ring_colour, 7, filled=False)


class Tapes:
    """Lengths of all tapes, measured aside whenever the clay has changed."""

    def __init__(self, view: Viewport) -> None:
        self._view = view
        self._studio = view.studio
        self.found: dict[str, Measured] = {}
        self._asked = 0

    def renew(self) -> None:
        """Measure what lies over surfaces on another thread; straight tapes at once."""
        scene = self._studio.project.scene
        known = {tape.id for tape in scene.tapes}
        self.found = {key: value for key, value in self.found.items() if key in known}
        self._asked += 1
        asked = self._asked
        for tape in scene.tapes:
            if not tape.surface:
                self.found[tape.id] = measured(tape, scene)
                continue

            def done(result: Measured, key: str = tape.id) -> None:
                if asked == self._asked:
                    self.found[key] = result
                    self._view.repaint_over()
                    self._studio.measured.emit()

            self._studio.aside(lambda tape=tape: measured(tape, scene), done)
        if scene.tapes:
            self._studio.measured.emit()

    def paint(self, painter: QPainter) -> None:
        """Landmarks with names, tapes with lengths."""
        view, scene = self._view, self._studio.project.scene
        # Elsewhere they would lie over the work; they are still there.
        wanted = self._studio.stage == "Gather" or isinstance(view.mode, MarkMode)
        if not scene.landmarks or not wanted:
            return
        accent = view.ring_colour

        def at(points: F64) -> F64:
            return view.camera.project(points, view.wide, view.high)[:, :2]

        from kneten.app.quantities import length_text

        unit = self._studio.project.settings.unit
        for tape in scene.tapes:
            lying = self.found.get(tape.id)
            if lying is None:
                continue
            pixels = at(lying.path)
            line(painter, pixels, accent, 1.6, dashed=not tape.surface)
            for mark in at(lying.marks) if len(lying.marks) else []:
                dot(painter, mark, QColor(view.text_colour), 3)
            middle = pixels[len(pixels) // 2] if len(pixels) > 2 else pixels.mean(axis=0)
            label(painter, view, QPointF(*middle), length_text(lying.length, unit))
        for mark in scene.landmarks:
            place = at(place_of(mark, scene)[None])[0]
            dot(painter, place, accent, 4)
            if not any(mark.id in (t.start, t.end) for t in scene.tapes):
                label(painter, view, QPointF(*place), mark.name)
