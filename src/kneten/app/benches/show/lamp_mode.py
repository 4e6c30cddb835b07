"""Placing lamps in the view: by what they do to the clay at a click, or dragged about what they light."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt

from kneten.app.benches.show.lamp_marks import REACH, mark_places
from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode
from kneten.core.arrays import F64
from kneten.core.light.lamps import PLACED, Lamp, led_round, placed
from kneten.core.picking import pick

if TYPE_CHECKING:
    from kneten.app.benches.show.lights import Lights
    from kneten.app.view.canvas import Canvas

PACE = 0.011
"""Radians that a lamp goes round for each pixel."""

HINTS = {
    "highlight": "Click where the highlight is to be seen, and drag it about",
    "lit": "Click on what the lamp is to light the most",
    "edge": "Click where light and shadow are to meet",
    "drag": "Drag a lamp by its mark, around what it lights",
}


class LampMode(Mode):
    """Presses on a lamp's mark drag it; those on the clay put one of `PLACED` there.

    Parameters
    ----------
    what : str
        A key of `PLACED`, or "drag".
    """

    def __init__(self, view: Canvas, lights: Lights, what: str) -> None:
        super().__init__(view)
        self._lights = lights
        self._what = what
        self.key = f"light.{what}"
        self.hint = f"{HINTS[what]} · Esc leaves"

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        """A press on a mark takes that lamp; one on the clay places the one in hand."""
        lamp = self._under(press.x, press.y)
        if lamp is not None:
            return self._drag(press, lamp)
        chosen = self._lights.chosen
        if self._what in PLACED and chosen is not None and self._on_clay(press.x, press.y) is not None:
            return self._place(press, chosen)
        return None

    def _under(self, x: float, y: float) -> Lamp | None:
        """The lamp whose mark is at a pixel."""
        lamps = [lamp for lamp in self._lights.all if lamp.shown]
        at = mark_places(self.view, lamps)
        far = np.hypot(at[:, 0] - x, at[:, 1] - y)
        hit = np.flatnonzero(far < REACH)
        return lamps[int(hit[np.argmin(far[hit])])] if len(hit) else None

    def _on_clay(self, x: float, y: float) -> tuple[F64, F64] | None:
        """The place and its normal, (3,) each, under a pixel, in the scene."""
        view = self.view
        found = view.part_at(x, y)
        if found is None:
            return None
        part = found[0]
        origin, way = view.camera.ray(x, y, view.wide, view.high)
        hit = pick(part.mesh, part.transform.to_part(origin[None])[0], part.transform.way_to_part(way))
        if hit is None:
            return None
        corners = part.mesh.topology.faces[hit.face]
        normal = part.mesh.normals[corners[corners >= 0]].astype(np.float64).sum(axis=0)
        turned = part.transform.axes() @ normal
        return part.transform.to_scene(hit.point[None])[0], turned / max(float(np.linalg.norm(turned)), 1e-12)

    def _placed(self, lamp: Lamp, x: float, y: float) -> Lamp | None:
        found = self._on_clay(x, y)
        if found is None:
            return None
        camera = self.view.camera
        eye = camera.axes()[2] if camera.orthographic else camera.eye() - found[0]
        return placed(lamp, self._what, *found, eye / np.linalg.norm(eye), camera.axes())

    def _place(self, press: Pointer, lamp: Lamp) -> Hand:
        """Follow the pointer over the clay until it is let go."""
        last = self._placed(lamp, press.x, press.y)
        event: Pointer | None = press
        while True:
            if last is not None:
                self._lights.show(last)
            event = yield None
            if event is None or event.kind == "cancel":
                self._lights.show_again()
                return
            # Beside the clay it stays where it was.
            last = self._placed(lamp, event.x, event.y) or last
            if event.kind == "release":
                break
        if last is not None:
            self._lights.settle(last, f"{PLACED[self._what][0]} of {lamp.name}")

    def _drag(self, press: Pointer, lamp: Lamp) -> Hand:
        """Lead a lamp round what it lights."""
        self._lights.choose(lamp.id)
        axes = self.view.camera.axes()
        moved = lamp
        while True:
            event = yield None
            if event is None or event.kind == "cancel":
                self._lights.show_again()
                return
            moved = led_round(lamp, (event.x - press.x) * PACE, (event.y - press.y) * PACE, axes)
            if event.kind == "release":
                break
            self._lights.show(moved)
        self._lights.settle(moved, f"Move {lamp.name}")
