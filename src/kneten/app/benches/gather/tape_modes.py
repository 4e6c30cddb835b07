"""Landmarks and tapes in the view."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter

from kneten.app.view.hands import Hand, Pointer
from kneten.core.arrays import F64
from kneten.document.marks import Measured, landmark, measured, place_of
from kneten.document.scene import Part
from kneten.document.things import Landmark, Tape

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

from kneten.app.view.modes import Mode, dot, label, line, nothing


class MarkMode(Mode):
    """Landmarks are set on the clay, and moved by dragging."""

    key = "measure.landmark"
    hint = "Click the clay to set a landmark; drag one to move it; Delete takes the last one touched away"

    def __init__(self, view: Canvas) -> None:
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

    def __init__(self, view: Canvas) -> None:
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

    def __init__(self, view: Canvas) -> None:
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

            self._studio.aside(partial(measured, tape, scene), done)
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

        from kneten.app.fields.quantities import length_text

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
