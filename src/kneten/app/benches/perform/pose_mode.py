"""Posing in the view: rings where a limb bends, the soft band on both sides of each, and the limb itself to be pulled."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter

from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode, dot, dragged, label, let_go, line, nothing
from kneten.core.arrays import F64
from kneten.core.pose.chain import MOST_TWIST, Hinge, Limb, band_of, course_of

if TYPE_CHECKING:
    from kneten.app.benches.perform.posing import Posing
    from kneten.app.view.canvas import Canvas
    from kneten.document.scene import Part

ROUND = 48
"""Places of a ring."""

NEAR = 8.0
"""Pixels around a ring that count as on it."""

TURN = 0.6
"""Degrees of twist for each pixel that a ring is dragged."""

GROW = 0.006
"""What a limb grows by for each pixel."""

STANDS_OUT = 0.22
"""Of a limb's radius, how far its rings stand out of it."""


class PoseMode(Mode):
    """Presses on a limb take it in hand; drags bend, turn and pull it."""

    key = "pose.limb"

    def __init__(self, view: Canvas, posing: Posing) -> None:
        super().__init__(view)
        self._posing = posing
        self._words = ""

    @property
    def hint(self) -> str:  # type: ignore[override]
        """What to do, with a limb in hand or without."""
        if not self._posing.has_limb:
            return "Press where a limb is to bend: an arm, a finger, a neck, a tail · Esc leaves"
        return (
            "Drag the limb to bend it, Shift: longer and thicker; drag a ring to turn, a dashed ring for the band, "
            "the dot to move the hinge · Esc leaves"
        )

    # -- presses --------------------------------------------------------------------------------

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        """What a press begins: on a hinge's signs, on the limb, on other clay."""
        posing = self._posing
        if posing.has_limb:
            drag = self._on_signs(press)
            if drag is not None:
                return drag
        found = self.view.part_at(press.x, press.y)
        if found is None:
            return None
        part, place, _ = found
        body = posing.body
        if body is not None and posing.goes_along(part.id):
            # What sits on the limb is pulled as the limb itself.
            held = posing.grabbed(body.transform.to_part(place[None])[0])
            if held is not None:
                return (
                    self._grow(press)
                    if keys & Qt.KeyboardModifier.ShiftModifier
                    else self._pull(press, body, place, held)
                )
        spot = part.transform.to_part(place[None])[0]
        posing.press(part, spot)
        return nothing()

    def _on_signs(self, press: Pointer) -> Hand | None:
        body = self._posing.body
        assert body is not None
        limb = self._posing.limbs[0]
        at = np.array([press.x, press.y])
        for k, hinge in enumerate(self._posing.hinges):
            rings = self._rings(body, limb, k)
            if np.hypot(*(self.pixels(rings[3][None])[0] - at)) < NEAR + 2:
                self._posing.choose(k)
                return self._slide(press, body) if k == 0 else self._along(press, body, k)
            for ring, drag in ((rings[0], self._turn), (rings[1], self._widen), (rings[2], self._widen)):
                if _away(self.pixels(ring), at) < NEAR:
                    self._posing.choose(k)
                    return drag(press, hinge.band)
        return None

    def _follow(self, press: Pointer, name: str, change: Callable[[Pointer], tuple[Hinge, ...]]) -> Hand:
        """Show what a drag makes of the hinges, and keep it at its end."""
        posing = self._posing
        try:
            yield from dragged(
                press, change, posing.show, lambda hinges: posing.keep(hinges, name), posing.stop
            )
        finally:
            self._words = ""
            self.view.repaint_over()

    def _pull(self, press: Pointer, part: Part, place: F64, held: tuple[F64, float, int]) -> Hand:
        """Pull the limb where it was taken."""
        posing = self._posing
        point, station, limb = held
        start = self.on_plane(press.x, press.y, place)

        def change(event: Pointer) -> tuple[Hinge, ...]:
            target = place + self.on_plane(event.x, event.y, place) - start
            hinges = posing.pulled(point, station, part.transform.to_part(target[None])[0], limb)
            angles = ", ".join(f"{np.linalg.norm(h.bend):.0f}°" for h in hinges)
            self._words = angles
            return hinges

        return self._follow(press, "Bend", change)

    def _turn(self, press: Pointer, _: float) -> Hand:
        posing = self._posing
        first = posing.hinges[posing.chosen].twist

        def change(event: Pointer) -> tuple[Hinge, ...]:
            twist = float(np.clip(first + (event.x - press.x) * TURN, -MOST_TWIST, MOST_TWIST))
            self._words = f"turned {twist:.0f}°"
            return posing.with_numbers(twist=twist)

        return self._follow(press, "Turn", change)

    def _widen(self, press: Pointer, band: float) -> Hand:
        posing, body = self._posing, self._posing.body
        assert body is not None
        rings = self._rings(body, posing.limbs[0], posing.chosen)
        middle = self.pixels(rings[3][None])[0]
        first = max(float(np.hypot(*(middle - [press.x, press.y]))), 6.0)

        def change(event: Pointer) -> tuple[Hinge, ...]:
            share = float(np.hypot(*(middle - [event.x, event.y]))) / first
            wide = float(np.clip(band * share, 0.1 * posing.hinges[0].radius, 5.0 * posing.hinges[0].radius))
            self._words = f"band {wide * body.transform.scale:.0f} mm"
            return posing.with_numbers(band=wide)

        return self._follow(press, "Band", change)

    def _grow(self, press: Pointer) -> Hand:
        """Sideways longer, upwards thicker."""
        posing = self._posing
        hinge = posing.hinges[posing.chosen]

        def change(event: Pointer) -> tuple[Hinge, ...]:
            across, up = event.x - press.x, press.y - event.y
            length = float(np.clip(hinge.length * np.exp(across * GROW), 0.25, 4.0))
            thick = float(np.clip(hinge.thickness * np.exp(up * GROW), 0.25, 4.0))
            # What is dragged the farther counts.
            if abs(across) > abs(up):
                thick = hinge.thickness
            else:
                length = hinge.length
            self._words = f"length {length * 100:.0f} %, thickness {thick * 100:.0f} %"
            return posing.with_numbers(length=length, thickness=thick)

        return self._follow(press, "Length and thickness", change)

    def _slide(self, press: Pointer, body: Part) -> Hand:
        """Move the first hinge along the limb, while nothing is bent."""
        posing = self._posing
        if any(any(h.bend) or h.twist for h in posing.hinges):
            self.studio.say(
                "Straighten the limb to move where it begins: what lies beyond would be another.", "warning"
            )
            yield from nothing()
            return
        event = yield from let_go()
        if event is None:
            return
        found = self.view.part_at(event.x, event.y)
        if found is not None and found[0].id == body.id:
            posing.place(body.transform.to_part(found[1][None])[0])

    def _along(self, press: Pointer, body: Part, index: int) -> Hand:
        """Move another hinge along the limb."""
        posing = self._posing
        limb, hinges = posing.limbs[0], posing.hinges
        low = hinges[index - 1].at + 0.02 * limb.last
        high = (hinges[index + 1].at if index + 1 < len(hinges) else limb.last) - 0.02 * limb.last
        stations = np.linspace(low, high, 60)

        def change(event: Pointer) -> tuple[Hinge, ...]:
            course = course_of(limb, hinges)
            places = body.transform.to_scene(np.array([course.at(s)[1] for s in stations]))
            near = np.hypot(*(self.pixels(places) - [event.x, event.y]).T)
            return posing.with_numbers(at=float(stations[int(np.argmin(near))]))

        return self._follow(press, "Move the hinge", change)

    # -- what is seen ---------------------------------------------------------------------------

    def _rings(self, body: Part, limb: Limb, index: int) -> tuple[F64, F64, F64, F64]:
        """The hinge's ring and those of its band, (ROUND + 1, 3), and its middle (3,), in the scene."""
        hinges = self._posing.now
        hinge = hinges[index]
        course = course_of(limb, hinges)
        half = band_of(hinge, 1.0) / 2
        out = []
        turn = np.linspace(0, 2 * np.pi, ROUND + 1)
        for station in (hinge.at, hinge.at - half, hinge.at + half):
            rest, frames = limb.frames(np.array([station]))
            now, matrix = course.at(station)[1:]
            # Before its table begins the limb is where it was.
            now = now + (rest[0] - course.at(station)[0])
            across, aside, _ = frames[0]
            radius = hinge.radius * (1 + STANDS_OUT)
            ring = radius * (np.cos(turn)[:, None] * across + np.sin(turn)[:, None] * aside)
            cut = self._posing.cut
            if index == 0 and station == hinge.at and cut is not None and limb is self._posing.limbs[0]:
                shape = (cut.points - cut.middle) * (1 + STANDS_OUT / 3)
                ring = np.concatenate([shape, shape[:1]])
            out.append(body.transform.to_scene(now + ring @ matrix.T))
        middle = body.transform.to_scene(course.at(hinge.at)[1][None])[0]
        return out[0], out[1], out[2], middle

    def paint(self, painter: QPainter) -> None:
        """Paint rings, bands and the middle line of each limb."""
        posing = self._posing
        body = posing.body
        if body is None:
            return
        accent, quiet = QColor(self.view.ring_colour), QColor(self.view.ring_colour)
        quiet.setAlpha(150)
        for number, limb in enumerate(posing.limbs):
            course = course_of(limb, posing.now)
            first = posing.now[0].at
            stations = np.linspace(first, limb.last, 40)
            middle = body.transform.to_scene(np.array([course.at(s)[1] for s in stations]))
            line(painter, self.pixels(middle), quiet, 1.0, True)
            for k in range(len(posing.now)):
                ring, before, after, at = self._rings(body, limb, k)
                chosen = k == posing.chosen and number == 0
                line(painter, self.pixels(ring), accent if chosen else quiet, 2.2 if chosen else 1.4)
                for one in (before, after):
                    line(painter, self.pixels(one), quiet, 1.0, True)
                dot(painter, self.pixels(at[None])[0], accent, 5.0 if chosen else 3.5, chosen)
        if self._words:
            at = self.pixels(self._rings(body, posing.limbs[0], posing.chosen)[3][None])[0]
            label(painter, self.view, QPointF(at[0] + 10.0, at[1] - 14.0), self._words)

    def pressed_key(self, key: int) -> bool:
        """Delete and Backspace straighten the limb."""
        if key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self._posing.has_limb:
            self._posing.straighten()
            return True
        return False

    def leave(self) -> None:
        """The mode ends."""
        self._posing.stop()
        self._posing.let_go()


def _away(ring: F64, at: F64) -> float:
    """Pixels between a place (2,) and a line (k, 2)."""
    a, b = ring[:-1], ring[1:]
    way = b - a
    share = np.clip(((at - a) * way).sum(axis=1) / np.maximum((way * way).sum(axis=1), 1e-9), 0, 1)
    return float(np.linalg.norm(a + way * share[:, None] - at, axis=1).min())
