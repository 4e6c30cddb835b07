"""Pictures that stand in space, placed in the view: moved, turned, sized, set in depth; or aligned by two points."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter

from kneten.app.view.hands import Hand, Pointer
from kneten.core.arrays import F64
from kneten.core.planes import ORDER, Similar, between, hit, to_plane, to_scene
from kneten.document.things import Reference

if TYPE_CHECKING:
    from kneten.app.benches.gather.references import References
    from kneten.app.view.canvas import Canvas

from kneten.app.view.modes import Mode, dot, line, nothing


def after(reference: Reference, change: Similar) -> Reference:
    """A plane turned, sized and moved within itself."""
    x, y = (float(v) for v in change.moved(np.array([reference.place]))[0])
    turn = (reference.turn + change.degrees + 180.0) % 360.0 - 180.0
    return replace(reference, place=(x, y), scale=reference.scale * change.grow, turn=turn)


class PlaneMode(Mode):
    """For heirs: finds the plane under a pixel."""

    def __init__(self, view: Canvas, references: References) -> None:
        super().__init__(view)
        self.references = references

    def under(self, x: float, y: float) -> tuple[Reference, F64] | None:
        """The plane under a pixel that is nearest to the eye, and where on it, (2,)."""
        origin, ray = self.view.camera.ray(x, y, self.view.wide, self.view.high)
        best, found = np.inf, None
        for reference in self.references.standing():
            at = hit(reference.way, reference.depth, origin, ray)
            if at is None or not self.references.holds(reference, at):
                continue
            place = to_scene(reference.way, at[None], reference.depth)[0]
            far = float(np.linalg.norm(place - origin))
            if far < best:
                best, found = far, (reference, at)
        return found

    def outline(self, painter: QPainter, reference: Reference) -> None:
        """Mark a plane."""
        corners = self.references.plane_corners(reference)
        line(painter, self.pixels(corners[[0, 1, 2, 3, 0]]), self.view.ring_colour, 1.4, dashed=True)


class PlacePlaneMode(PlaneMode):
    """A picture in space is dragged to where it belongs."""

    key = "board.place-plane"
    hint = "Drag a picture to move it in its plane; Shift turns it, Ctrl sets its depth, both size it"

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        found = self.under(press.x, press.y)
        return None if found is None else self._drag(*found, press, keys)

    def _drag(self, reference: Reference, start: F64, press: Pointer, keys: Qt.KeyboardModifier) -> Hand:
        now = reference
        while True:
            event = yield None
            if event is None or event.kind == "cancel":
                self.references.show_trial(None)
                return
            now = self.changed(reference, start, press, event, keys)
            if event.kind == "release":
                break
            self.references.show_trial(now)
        self.references.show_trial(None)
        self.references.keep(now, "Place")

    def changed(
        self, reference: Reference, start: F64, press: Pointer, event: Pointer, keys: Qt.KeyboardModifier
    ) -> Reference:
        """The plane after a drag from `press`, at (2,) of it, to `event`."""
        turns = bool(keys & Qt.KeyboardModifier.ShiftModifier)
        sizes = turns and bool(keys & Qt.KeyboardModifier.ControlModifier)
        if keys & Qt.KeyboardModifier.ControlModifier and not turns:
            return replace(reference, depth=reference.depth + self._deeper(reference, start, press, event))
        origin, ray = self.view.camera.ray(event.x, event.y, self.view.wide, self.view.high)
        at = hit(reference.way, reference.depth, origin, ray)
        if at is None:
            return reference
        middle = np.array(reference.place)
        if not turns:
            return after(reference, Similar(0.0, 1.0, at - start))
        a, b = start - middle, at - middle
        if min(np.hypot(*a), np.hypot(*b)) < 1e-9:
            return reference
        degrees = float(np.degrees(np.arctan2(a[0] * b[1] - a[1] * b[0], a @ b))) if not sizes else 0.0
        grow = float(np.hypot(*b) / np.hypot(*a)) if sizes else 1.0
        step = self.studio.preferences.snap_angle
        degrees = round(degrees / step) * step if step > 0 else degrees
        change = Similar(degrees, grow, np.zeros(2))
        return after(reference, replace(change, shift=middle - change.moved(middle[None])[0]))

    def _deeper(self, reference: Reference, start: F64, press: Pointer, event: Pointer) -> float:
        """How far a drag goes along a plane's depth; seen square on it, upwards is away from the eye."""
        axis = ORDER[reference.way][2]
        place = to_scene(reference.way, start[None], reference.depth)[0]
        ends = self.pixels(np.array([place, place + np.eye(3)[axis]]))
        way = ends[1] - ends[0]
        drag = np.array([event.x - press.x, event.y - press.y])
        size = self.view.camera.pixel_size(place, self.view.high)
        if float(way @ way) * size**2 < 0.02:
            towards = 1.0 if self.view.camera.axes()[2][axis] > 0 else -1.0
            return float(drag[1]) * size * towards
        return float(drag @ way) / float(way @ way)

    def paint(self, painter: QPainter) -> None:
        for reference in self.references.standing():
            self.outline(painter, reference)


class AlignPlaneMode(PlaneMode):
    """Two places of a picture are brought onto two places of the clay."""

    key = "board.align-plane"
    hint = "Click a place on a picture, then where it belongs on the clay; then both once more"

    def __init__(self, view: Canvas, references: References) -> None:
        super().__init__(view, references)
        self.reference: Reference | None = None
        self.picked: list[F64] = []

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        if len(self.picked) % 2 == 0:
            found = self.under(press.x, press.y)
            if found is None or (self.reference is not None and found[0].id != self.reference.id):
                self.studio.say("Click on the picture that is to be aligned.")
                return nothing()
            self.reference = found[0]
            self.picked.append(found[1])
        else:
            assert self.reference is not None
            clay = self.view.part_at(press.x, press.y)
            if clay is None:
                self.studio.say("Click on the clay, where that place of the picture belongs.")
                return nothing()
            self.picked.append(to_plane(self.reference.way, clay[1][None])[0])
        if len(self.picked) == 4:
            self._align()
        self.view.repaint_over()
        return nothing()

    def _align(self) -> None:
        reference, (a, p, b, q) = self.reference, self.picked
        assert reference is not None
        self.reference, self.picked = None, []
        try:
            change = between((a, b), (p, q))
        except ValueError as error:
            self.studio.say(f"{reference.name} was not aligned: {error}.", "warning")
            return
        self.references.keep(after(reference, change), "Align")
        self.view.take_mode(None)

    def pressed_key(self, key: int) -> bool:
        if key == Qt.Key.Key_Backspace and self.picked:
            self.picked.pop()
            self.view.repaint_over()
            return True
        return False

    def paint(self, painter: QPainter) -> None:
        for reference in self.references.standing():
            self.outline(painter, reference)
        if self.reference is None:
            return
        places = to_scene(self.reference.way, np.array(self.picked).reshape(-1, 2), self.reference.depth)
        at = self.pixels(places)
        for k in range(0, len(at), 2):
            if k + 1 < len(at):
                line(painter, at[k : k + 2], self.view.ring_colour, 1.2, dashed=True)
            dot(painter, at[k], self.view.ring_colour, 5)
        for k in range(1, len(at), 2):
            dot(painter, at[k], self.view.ring_colour, 4, filled=False)
