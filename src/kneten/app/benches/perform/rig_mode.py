"""Rigs in the view: joints dragged to pose a body, or put into it where it rests."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from kneten.app.benches.perform.playing import faded
from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode, dot, dragged, label, let_go, line
from kneten.core.arrays import F64
from kneten.core.pose.rig import Joint, Rig, pulled
from kneten.document.rigging import spun

if TYPE_CHECKING:
    from kneten.app.benches.perform.rigging import Rigging
    from kneten.app.view.canvas import Canvas
    from kneten.document.scene import Part

TURN = 0.6
"""Degrees for each pixel that a ring is dragged."""

FAR_UP = 3
"""Joints that a pull with Shift goes through."""

ROUND = 40
"""Places of a ring."""


def paint_bones(
    painter: QPainter, joints: Sequence[Joint], at: F64, accent: QColor, quiet: QColor, chosen: int
) -> None:
    """Paint joints at pixels (k, 2) with the bones between them, the chosen one lit."""
    for k, joint in enumerate(joints):
        if joint.parent >= 0:
            lit = chosen in (k, joint.parent)
            line(painter, at[[joint.parent, k]], accent if lit else quiet, 2.0 if lit else 1.3)
    for k, joint in enumerate(joints):
        # Where joints lie close, as in a hand seen from afar, their dots would hide each other.
        room = float(np.hypot(*(at[k] - at[joint.parent]))) if joint.parent >= 0 else 20.0
        size = 5.5 if k == chosen else min(max(0.3 * room, 1.5), 3.5)
        dot(painter, at[k], accent if k == chosen else quiet, size, k == chosen)


class Joints(Mode):
    """What both ways of working with joints share."""

    def __init__(self, view: Canvas, rigging: Rigging) -> None:
        super().__init__(view)
        self._rigging = rigging
        self._words = ""
        self._dragged: tuple[int, F64] | None = None

    def places(self) -> F64:
        """Where the joints are in the scene, as the body is posed, (k, 3)."""
        body, rig = self._rigging.body, self._rigging.rig
        if body is None or rig is None:
            return np.empty((0, 3))
        found = body.transform.to_scene(rig.places_now())
        if self._dragged is not None:
            found[self._dragged[0]] = self._dragged[1]
        return found

    def follow(self, press: Pointer, name: str, change: Callable[[Pointer], Rig]) -> Hand:
        """Show what a drag makes of the rig, and keep it at its end."""
        rigging = self._rigging
        try:
            yield from dragged(press, change, rigging.show, lambda rig: rigging.keep(rig, name), rigging.stop)
        finally:
            self._words = ""
            self.view.repaint_over()

    def hold(self, press: Pointer, number: int, point: F64, through: F64, up: int) -> Hand:
        """Turn joints so that a place (3,) at rest of what one turns follows the pointer, on the plane through a place (3,) of the scene."""
        rigging, body, rig = self._rigging, self._rigging.body, self._rigging.rig
        assert body is not None
        assert rig is not None
        start = self.on_plane(press.x, press.y, through)

        def change(event: Pointer) -> Rig:
            to = through + self.on_plane(event.x, event.y, through) - start
            new = pulled(rig, number, point, body.transform.to_part(to[None])[0], up)
            for joint in rig.chain(number)[:up]:
                new = rigging.with_twin(new, joint)
            self._words = f"{np.linalg.norm(new.joints[number].turn):.0f}°"
            return new

        return self.follow(press, rig.joints[number].name, change)

    def paint(self, painter: QPainter) -> None:
        """Paint bones and joints, the chosen one with its ring."""
        rig, places = self._rigging.rig, self.places()
        if rig is None or not len(places):
            return
        accent, quiet = QColor(self.view.ring_colour), QColor(self.view.ring_colour)
        self._shadows(painter, rig)
        quiet.setAlpha(150)
        at, chosen = self.pixels(places), self._rigging.number
        paint_bones(painter, rig.joints, at, accent, quiet, chosen)
        if chosen >= 0:
            words = self._words or rig.joints[chosen].name
            label(painter, self.view, QPointF(at[chosen, 0] + 10.0, at[chosen, 1] - 14.0), words)

    def _shadows(self, painter: QPainter, rig: Rig) -> None:
        """Paint where the bones were a little earlier in a motion."""
        body, playing = self._rigging.body, self._rigging.playing
        if body is None or playing is None:
            return
        shadows = playing.shadows()
        for places, alpha in zip(shadows, faded(len(shadows)), strict=True):
            colour = QColor(self.view.ring_colour)
            colour.setAlpha(alpha)
            at = self.pixels(body.transform.to_scene(places))
            painter.setPen(QPen(colour, 1.2))
            for k, joint in enumerate(rig.joints):
                if joint.parent >= 0:
                    painter.drawLine(QPointF(*at[joint.parent]), QPointF(*at[k]))

    def leave(self) -> None:
        """The mode ends."""
        self._rigging.stop()


class RigMode(Joints):
    """Joints, or the clay itself, are dragged; what hangs on them follows."""

    key = "rig.pose"
    hint = "Drag a joint or the clay to turn what carries it, Shift: three joints; drag the ring to turn about the limb · Esc leaves"

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        """What a press begins: on a joint, on the chosen one's ring, on clay."""
        rigging, rig, body = self._rigging, self._rigging.rig, self._rigging.body
        if rig is None or body is None:
            return None
        up = FAR_UP if keys & Qt.KeyboardModifier.ShiftModifier else 1
        places = self.places()
        number = self.near(places, press.x, press.y)
        if number >= 0:
            rigging.choose(rig.joints[number].name)
            parent = rig.joints[number].parent
            if parent < 0:
                return self._shift(press, number, places[number])
            return self.hold(press, parent, rig.places[number], places[number], up)
        ring = self._ring(body, rig, rigging.number)
        if ring is not None and float(np.hypot(*(self.pixels(ring) - [press.x, press.y]).T).min()) < 9.0:
            return self._turn(press, rigging.number)
        found = self.view.part_at(press.x, press.y)
        if found is None or found[0].id != body.id:
            return None
        held = rigging.grabbed(body.transform.to_part(found[1][None])[0])
        if held is None:
            return None
        number, rest = held
        rigging.choose(rig.joints[number].name)
        return self.hold(press, number, rest, found[1], up)

    def _shift(self, press: Pointer, number: int, place: F64) -> Hand:
        """Move the body as a whole."""
        body, rig = self._rigging.body, self._rigging.rig
        assert body is not None
        assert rig is not None
        start = self.on_plane(press.x, press.y, place)
        first = np.array(rig.joints[number].shift)

        def change(event: Pointer) -> Rig:
            way = np.stack([place, place + self.on_plane(event.x, event.y, place) - start])
            a, b = body.transform.to_part(way)
            x, y, z = (float(value) for value in first + b - a)
            self._words = f"{np.linalg.norm(b - a) * body.transform.scale:.0f} mm"
            return rig.with_joint(number, shift=(x, y, z))

        return self.follow(press, rig.joints[number].name, change)

    def _turn(self, press: Pointer, number: int) -> Hand:
        """Turn a joint about the limb that it begins."""
        rigging, rig = self._rigging, self._rigging.rig
        assert rig is not None
        along = rig.matrices()[number, :3, :3] @ rig.axes(number)[2]

        def change(event: Pointer) -> Rig:
            degrees = (event.x - press.x) * TURN
            self._words = f"turned {degrees:.0f}°"
            return rigging.with_twin(spun(rig, number, along * np.radians(degrees)), number)

        return self.follow(press, rig.joints[number].name, change)

    def _ring(self, body: Part, rig: Rig, number: int) -> F64 | None:
        """A ring (ROUND + 1, 3) about the limb that a joint turns, in the scene; None at a limb's end."""
        if number < 0 or not rig.children[number]:
            return None
        across, aside, along = rig.axes(number) @ rig.matrices()[number, :3, :3].T
        place = rig.places_now()[number]
        long = float(np.linalg.norm(rig.tail(number) - rig.places[number]))
        turn = np.linspace(0, 2 * np.pi, ROUND + 1)[:, None]
        ring = 0.35 * long * (np.cos(turn) * across + np.sin(turn) * aside)
        return body.transform.to_scene(place + 0.35 * long * along + ring)

    def paint(self, painter: QPainter) -> None:
        """Paint the joints, and the ring of the chosen one."""
        rig, body = self._rigging.rig, self._rigging.body
        if rig is not None and body is not None:
            ring = self._ring(body, rig, self._rigging.number)
            if ring is not None:
                line(painter, self.pixels(ring), QColor(self.view.ring_colour), 1.6)
        super().paint(painter)

    def pressed_key(self, key: int) -> bool:
        """Delete and Backspace bring the chosen joint to rest."""
        if key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self._rigging.number >= 0:
            self._rigging.keep(self._rigging.with_numbers(0.0, 0.0, 0.0), "Rest")
            return True
        return False


class JointMode(Joints):
    """Presses on clay put joints into it; joints are dragged where they are to be."""

    key = "rig.place"
    hint = "Press on a limb: a joint in the middle of it, hung on the chosen one; drag a joint to move it, Delete takes it away · Esc leaves"

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        """What a press begins: on a joint, or on clay."""
        rigging = self._rigging
        rig, places = rigging.rig, self.places()
        number = self.near(places, press.x, press.y)
        if rig is not None and number >= 0:
            rigging.choose(rig.joints[number].name)
            return self._move(press, number, places[number])
        found = self.view.part_at(press.x, press.y)
        if found is None:
            return None
        return self._add(found[0], found[1])

    def _add(self, part: Part, place: F64) -> Hand:
        if (yield from let_go()) is None:
            return
        active = self.studio.project.active
        if active is None or part.id != active.id:
            self.studio.project.choose(part.id)
            return
        blocked = self._rigging.no_part()
        if blocked:
            self.studio.say(blocked, "warning")
            return
        self._rigging.add_joint(part, part.transform.to_part(place[None])[0])

    def _move(self, press: Pointer, number: int, place: F64) -> Hand:
        body = self._rigging.body
        assert body is not None
        start = self.on_plane(press.x, press.y, place)
        try:
            while True:
                event = yield None
                if event is None:
                    continue
                if event.kind == "cancel":
                    return
                if event.kind == "release":
                    break
                if float(np.hypot(event.x - press.x, event.y - press.y)) > 3:
                    to = place + self.on_plane(event.x, event.y, place) - start
                    self._dragged = number, to
                    self.view.repaint_over()
            if self._dragged is not None:
                to = self._dragged[1]
                self._rigging.move_joint(number, body.transform.to_part(to[None])[0])
        finally:
            self._dragged = None
            self.view.repaint_over()

    def pressed_key(self, key: int) -> bool:
        """Delete and Backspace take the chosen joint away."""
        if key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self._rigging.number >= 0:
            self._rigging.remove_joint()
            return True
        return False
