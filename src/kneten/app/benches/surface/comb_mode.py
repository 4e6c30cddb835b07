"""Combing fur: its leads are drawn along, lifted, laid down, lengthened, curled and so on under the pointer."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from kneten.app.view.aim import Aim
from kneten.app.view.hands import Hand, Pointer
from kneten.app.view.modes import Mode
from kneten.core.arrays import F64
from kneten.core.fur.leads import (
    CLUMP,
    CURL,
    ROOM,
    Leads,
    combed,
    evened,
    lengthened,
    lifted,
    made_own,
    shares_near,
)
from kneten.document.furs import comb_fur, fur_of
from kneten.document.scene import Part
from kneten.document.things import Fur, leads_of, with_leads

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

TOOLS = {
    "comb": ("Comb", "Drag over the fur: it lies the way you drag"),
    "lift": ("Lift", "Drag over the fur: it stands up"),
    "lay": ("Lay down", "Drag over the fur: it lies down on the clay"),
    "longer": ("Lengthen", "Drag over the fur: it grows longer"),
    "cut": ("Cut", "Drag over the fur: it becomes shorter"),
    "curl": ("Curl", "Drag over the fur: it waves to the sides"),
    "clump": ("Clump", "Drag over the fur: it comes together in tufts"),
    "thin": ("Thin out", "Drag over the fur: fewer fibres grow"),
    "even": ("Even", "Drag over the fur: it lies, and is as long, as its neighbours are"),
}
"""What is done with fur: names, and hints."""

LIFT, GROW = 0.16, 0.10
"""How much one event lifts, and lengthens, at full strength."""

OWN = {"curl": (CURL, 0.06), "clump": (CLUMP, 0.12), "thin": (ROOM, -0.12)}
"""What of the leads' own the other tools change, and how much one event does."""

PASSES = ("comb", "even")
"""Tools that have no opposite."""

LONGEST = 0.6
"""Share of the part's size that fur is long at most."""


class CombMode(Mode):
    """One of `TOOLS` on one fur."""

    def __init__(self, view: Canvas, tool: str, chosen: Callable[[], Fur | None]) -> None:
        super().__init__(view)
        self.tool = tool
        self.key = f"fur.{tool}"
        back = "" if tool in PASSES else " · Ctrl: the opposite"
        self.hint = f"{TOOLS[tool][1]}{back} · size and strength are those of the tool in hand · Esc leaves"
        self._chosen = chosen
        self._at: tuple[float, float] | None = None

    def begin(self, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        fur = self._chosen()
        if fur is None:
            return None
        part = self.studio.project.scene.part(fur.part)
        blocked = self.studio.move_blocked(part)
        if blocked:
            self.studio.say(blocked, "warning")
            return None
        aim = Aim(self.view, part, replace(self.studio.settings(), pressure_size=False, tilt_size=False))
        hit = aim.hit(press.x, press.y)
        sign = -1.0 if keys & Qt.KeyboardModifier.ControlModifier else 1.0
        return None if hit is None else self._drag(part, fur, aim, press, sign)

    def _drag(self, part: Part, fur: Fur, aim: Aim, press: Pointer, sign: float) -> Hand:
        project = self.studio.project
        leads = first = leads_of(fur, part.mesh)
        last: F64 | None = None
        kept = False
        at = press
        try:
            while True:
                hit = aim.hit(at.x, at.y)
                if hit is not None:
                    place = hit.point
                    leads = self._touched(part, leads, aim, place, last, at.pressure, sign)
                    last = place
                    tried = with_leads(fur, leads)
                    rest = tuple(tried if one.id == fur.id else one for one in project.scene.things("furs"))
                    self.view.shown_things = {"furs": rest}
                    self.view.moved()
                event = yield None
                while event is None:
                    event = yield None
                if event.kind == "cancel":
                    return
                self._at = (event.x, event.y)
                if event.kind == "release":
                    break
                at = event
            kept = leads is not first
        finally:
            self.view.shown_things = {}
            if not kept:
                self.view.refresh()
        if kept and fur_of(project.scene, fur.id) is fur:
            comb_fur(project, fur, leads, TOOLS[self.tool][0])

    def _touched(
        self, part: Part, leads: Leads, aim: Aim, place: F64, last: F64 | None, pressure: float, sign: float
    ) -> Leads:
        """The leads after the tool has been at a place, and at its mirror image where strokes are mirrored."""
        radius = aim.radius(part.transform.to_scene(place[None])[0])
        strength = self.studio.settings().strength * (0.3 + 0.7 * pressure)
        way = np.zeros(3) if last is None else place - last
        view = part.transform.way_to_part(aim.camera.axes()[2])
        sides = [np.ones(3)]
        if self.studio.project.settings.symmetry[0]:
            sides.append(np.array([-1.0, 1.0, 1.0]))
        for side in sides:
            shares = strength * shares_near(leads, place * side, radius, view * side)
            leads = self._worked(part, leads, shares, way * side, sign)
        return leads

    def _worked(self, part: Part, leads: Leads, shares: F64, way: F64, sign: float) -> Leads:
        """After one of the tools, or its opposite where `sign` is -1."""
        if self.tool == "comb":
            far = float(np.linalg.norm(way))
            # As far as it is long, whatever way the pointer has gone since.
            most = float(leads.lengths().mean())
            return combed(leads, shares, way * min(1.0, most / max(far, 1e-12)))
        if self.tool in ("lift", "lay"):
            return lifted(leads, shares, sign * (LIFT if self.tool == "lift" else -LIFT))
        if self.tool in OWN:
            which, amount = OWN[self.tool]
            return made_own(leads, shares, which, sign * amount)
        if self.tool == "even":
            return evened(leads, shares)
        low, high = part.mesh.bounds()
        most = LONGEST * float(((high - low) ** 2).sum()) ** 0.5
        return lengthened(leads, shares, 1 + sign * (GROW if self.tool == "longer" else -GROW), most)

    def hover(self, x: float, y: float) -> bool:
        """The ring goes along."""
        self._at = (x, y)
        return True

    def paint(self, painter: QPainter) -> None:
        """A ring as wide as the tool."""
        if self._at is None:
            return
        settings = self.studio.settings()
        size = settings.size
        if settings.size_on_model:
            size /= max(self.view.camera.pixel_size(self.view.point_under(*self._at), self.view.high), 1e-12)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for colour, width in ((QColor(0, 0, 0, 120), 2.6), (QColor(self.view.ring_colour), 1.3)):
            painter.setPen(QPen(colour, width))
            painter.drawEllipse(QPointF(*self._at), size, size)
