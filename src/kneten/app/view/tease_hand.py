"""The hand that draws clay out: it leaves the surface and takes the tip along in the plane of the picture."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from kneten.app.view.aim import Aim, pressed
from kneten.app.view.hands import BUSY, Hand, Pointer
from kneten.core.brush_path import Leash, PenPoint
from kneten.core.brushes.tease import narrowed
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

STEP = 0.125
"""Length of a step, as a share of the radius: the clay of one step overlaps the next by seven eighths."""

THINNEST = 0.12
"""Share of the first radius below which the tip does not get narrower."""


def tease(view: Canvas, press: Pointer, part: Part, tool: Tool, settings: BrushSettings) -> Hand:
    """Take the clay under the press along with the pointer, step by step, adding surface on the way."""
    project = view.studio.project
    stroke = project.begin_stroke(part.id, tool, settings)
    aim = Aim(view, part, settings, tool)
    leash = Leash(settings.steadying)
    pen = PenPoint(press.x, press.y, press.pressure, press.tilt)
    leash.follow(pen)
    grabbed = aim.touch(pen)
    kept = False
    try:
        if grabbed is None:
            return
        place = part.transform
        size = view.camera.pixel_size(place.to_scene(grabbed.point[None])[0], aim.height)
        axes = view.camera.axes()
        first = radius = grabbed.radius
        # What is drawn out hangs on the ball around the press: its middle lies a little below the surface.
        tip = grabbed.point.copy()
        detail = aim.density
        while True:
            event = yield None
            if event is None:
                continue
            if event.kind == "cancel":
                return
            now = leash.follow(PenPoint(event.x, event.y, event.pressure))
            way = (axes[0] * (now.x - pen.x) - axes[1] * (now.y - pen.y)) * size
            aimed = grabbed.point + place.way_to_part(way) / place.scale
            strength = settings.strength * pressed(settings, now.pressure)[1]
            while (far := float(np.linalg.norm(aimed - tip))) > STEP * radius:
                along = (aimed - tip) * (STEP * radius / far)
                density = None if detail is None else detail(size, radius * place.scale)
                stroke.dab(Dab(tip, along, grabbed.view, radius, strength, STEP, detail=density))
                tip = tip + along
                radius = max(narrowed(radius, STEP * radius, strength), THINNEST * first)
                if view.over_budget():
                    view.stroke_moved(stroke, part)
                    yield BUSY
            view.stroke_moved(stroke, part)
            if event.kind == "release":
                break
        project.end_stroke(part.id, stroke, tool.name)
        kept = True
    finally:
        if not kept:
            stroke.cancel()
            view.refresh()
