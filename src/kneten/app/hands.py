"""What a pressed pointer does, each as one generator: press, then moves, then release.

A hand waits for the next event with `event = yield`, and lets the window breathe with `yield BUSY`
when it has worked for long.
"""

from __future__ import annotations

from collections.abc import Generator, Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from kneten.app.marks import Feel
from kneten.core.arrays import F64
from kneten.core.brush_path import EvenSpacing, Leash, PenPoint, RoundedPath, Touch
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.falloff import curve_at
from kneten.core.picking import pick
from kneten.core.stroke import Stroke
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.viewport import Viewport

BUSY = "busy"

FEEL_SIZE = 0.008
FEEL_STRENGTH = 0.005
"""A drag of 90 pixels doubles the size; one of 200 goes from no strength to all."""

TURN_SPEED = 0.45
"""Degrees for each pixel dragged: half a turn across 400 pixels."""


@dataclass(frozen=True)
class Pointer:
    """A pointer event, in logical pixels.

    Attributes
    ----------
    kind : str
        press, move, release, or cancel.
    pressure, tilt : float
        0..1; a pen that stands upright has tilt 0.
    """

    kind: str
    x: float
    y: float
    pressure: float = 1.0
    tilt: float = 0.0


Hand = Generator[str | None, Pointer | None, None]


TILT_SIZE = 0.8
"""By how much a pen laid flat widens the brush, where that is wanted."""


def pressed(settings: BrushSettings, pressure: float, tilt: float = 0.0) -> tuple[float, float]:
    """Factors for size and strength that a pen's pressure and tilt give."""
    factor = curve_at(settings.pressure_curve, pressure)
    # A touch without pressure still leaves a mark of a fifth of the size.
    size = 0.2 + 0.8 * factor if settings.pressure_size else 1.0
    if settings.tilt_size:
        size *= 1.0 + TILT_SIZE * tilt
    return size, factor if settings.pressure_strength else 1.0


class Aim:
    """Where pixels of the view meet one part, in the part's space."""

    def __init__(self, view: Viewport, part: Part, settings: BrushSettings) -> None:
        self.view = view
        self.part = part
        self.settings = settings
        self.camera = view.camera
        self.width, self.height = view.wide, view.high

    def radius(self, point: F64, pressure: float = 1.0, tilt: float = 0.0) -> float:
        """The brush's radius at a point of the scene, in the part's lengths."""
        size = self.settings.size
        if not self.settings.size_on_model:
            size *= self.camera.pixel_size(point, self.height)
        return size * pressed(self.settings, pressure, tilt)[0] / self.part.transform.scale

    def touch(self, pen: PenPoint) -> Touch | None:
        """Where the pen meets the clay."""
        origin, way = self.camera.ray(pen.x, pen.y, self.width, self.height)
        place = self.part.transform
        local_way = place.way_to_part(way)
        hit = pick(self.part.mesh, place.to_part(origin[None])[0], local_way)
        if hit is None:
            return None
        point = place.to_scene(hit.point[None])[0]
        return Touch(hit.point, local_way, self.radius(point, pen.pressure, pen.tilt), pen.pressure)


def sculpt(view: Viewport, press: Pointer, part: Part, tool: Tool, settings: BrushSettings) -> Hand:
    """Leave dabs along the way."""
    project = view.studio.project
    stroke = project.begin_stroke(part.id, tool, settings)
    aim = Aim(view, part, settings)
    leash = Leash(settings.steadying)
    path = RoundedPath()
    spacing = EvenSpacing(settings.spacing)
    event: Pointer | None = press
    kept = False
    try:
        while True:
            assert event is not None
            pen = PenPoint(event.x, event.y, event.pressure, event.tilt)
            points = path.add(leash.follow(pen))
            if event.kind == "release":
                points = path.end()
            for _ in _dabs(stroke, aim, spacing, points, settings):
                if view.over_budget():
                    view.stroke_moved(stroke, part)
                    yield BUSY
            view.stroke_moved(stroke, part)
            if event.kind == "release":
                break
            event = yield None
            if event is not None and event.kind == "cancel":
                return
        verb = tool.name
        if settings.reverse and tool.reversed_name:
            verb = f"{tool.name} reversed"
        project.end_stroke(part.id, stroke, verb)
        kept = True
    finally:
        if not kept:
            stroke.cancel()
            view.refresh()


def _dabs(
    stroke: Stroke,
    aim: Aim,
    spacing: EvenSpacing,
    points: Iterator[PenPoint],
    settings: BrushSettings,
) -> Iterator[None]:
    sign = -1.0 if settings.reverse else 1.0
    for point in points:
        for touch, along in spacing.add(aim.touch(point)):
            strength = sign * settings.strength * pressed(settings, touch.pressure)[1]
            stroke.dab(Dab(touch.point, along, touch.view, touch.radius, strength, settings.spacing))
        yield


def pull(view: Viewport, press: Pointer, part: Part, tool: Tool, settings: BrushSettings) -> Hand:
    """Hold what was grabbed and bring it along in the plane of the picture."""
    project = view.studio.project
    stroke = project.begin_stroke(part.id, tool, settings)
    aim = Aim(view, part, settings)
    leash = Leash(settings.steadying)
    pen = PenPoint(press.x, press.y, press.pressure, press.tilt)
    leash.follow(pen)
    grabbed = aim.touch(pen)
    kept = False
    try:
        if grabbed is None:
            return
        stroke.grab(grabbed.point, grabbed.radius, grabbed.view)
        at = part.transform.to_scene(grabbed.point[None])[0]
        size = view.camera.pixel_size(at, aim.height)
        axes = view.camera.axes()
        while True:
            event = yield None
            if event is None:
                continue
            if event.kind == "cancel":
                return
            now = leash.follow(PenPoint(event.x, event.y, event.pressure))
            strength = settings.strength * pressed(settings, now.pressure)[1]
            way = (axes[0] * (now.x - pen.x) - axes[1] * (now.y - pen.y)) * size
            local = part.transform.way_to_part(way) / part.transform.scale
            if event.kind == "move" or now != pen:
                stroke.drag(local, grabbed.radius, strength)
            view.stroke_moved(stroke, part)
            if event.kind == "release":
                break
        project.end_stroke(part.id, stroke, tool.name)
        kept = True
    finally:
        if not kept:
            stroke.cancel()
            view.refresh()


def turn(view: Viewport, press: Pointer) -> Hand:
    """Turn around the point under the cursor."""
    pivot = view.point_under(press.x, press.y)
    before = press
    while True:
        event = yield None
        if event is None or event.kind in ("release", "cancel"):
            return
        view.set_camera(
            view.camera.turned(-(event.x - before.x) * TURN_SPEED, (event.y - before.y) * TURN_SPEED, pivot)
        )
        before = event


def pan(view: Viewport, press: Pointer) -> Hand:
    """Move the picture along with the cursor."""
    point = view.point_under(press.x, press.y)
    before = press
    while True:
        event = yield None
        if event is None or event.kind in ("release", "cancel"):
            return
        view.set_camera(view.camera.panned(event.x - before.x, event.y - before.y, view.high, point))
        before = event


def zoom(view: Viewport, press: Pointer) -> Hand:
    """Nearer by dragging up, farther by dragging down."""
    point = view.point_under(press.x, press.y)
    before = press
    while True:
        event = yield None
        if event is None or event.kind in ("release", "cancel"):
            return
        view.set_camera(view.camera.zoomed(float(np.exp((event.y - before.y) * 0.006)), point))
        before = event


def feel(view: Viewport, press: Pointer) -> Hand:
    """Change the brush: to the right larger, upwards stronger."""
    held = view.studio.settings()
    pane = view.pane
    across = press.x if pane is None or not view.mirrored else pane.wide - press.x
    left, top = (pane.x, pane.y) if pane is not None else (0, 0)
    event: Pointer | None = press
    size, strength = held.size, held.strength
    while event is not None and event.kind != "cancel":
        dx = (event.x - press.x) * (-1 if view.mirrored else 1)
        size = float(np.clip(held.size * np.exp(dx * FEEL_SIZE), 2.0, 400.0))
        strength = float(np.clip(held.strength - (event.y - press.y) * FEEL_STRENGTH, 0.0, 1.0))
        view.feel = Feel(left + across, top + press.y, size, strength)
        view.repaint_over()
        if event.kind == "release":
            view.studio.set_brush(size=size, strength=strength)
            break
        event = yield None
    view.feel = None
    view.repaint_over()


def lamp(view: Viewport, press: Pointer) -> Hand:
    """Bring the lamp to where the pointer is on the half ball before the picture."""
    event: Pointer | None = press
    while event is not None and event.kind != "cancel":
        x = float(np.clip(2 * event.x / view.wide - 1, -1, 1))
        y = float(np.clip(1 - 2 * event.y / view.high, -1, 1))
        view.studio.set_look(lamp=(x, y), moving=event.kind != "release")
        if event.kind == "release":
            return
        event = yield None


def wipe(view: Viewport, press: Pointer) -> Hand:
    """Drag the edge between then and now."""
    event: Pointer | None = press
    while event is not None and event.kind not in ("release", "cancel"):
        view.wipe = float(np.clip(event.x / max(view.wide, 1), 0.0, 1.0))
        view.update()
        event = yield None


def choose(view: Viewport, part: Part) -> Hand:
    """Take another part in hand; the press does nothing else."""
    view.studio.project.choose(part.id)
    while True:
        event = yield None
        if event is None or event.kind in ("release", "cancel"):
            return


def choose_also(view: Viewport, part: Part) -> Hand:
    """Take one more part along, or leave it out again; the press does nothing else."""
    view.studio.project.choose_also(part.id)
    while True:
        event = yield None
        if event is None or event.kind in ("release", "cancel"):
            return


def with_keys(
    tool: Tool, settings: BrushSettings, smooth_tool: Tool, smooth: BrushSettings, keys: tuple[bool, bool]
) -> tuple[Tool, BrushSettings]:
    """Tool and settings while (reverse, smooth) keys are held."""
    reverse, smoothing = keys
    if smoothing:
        return smooth_tool, replace(smooth, size=settings.size, size_on_model=settings.size_on_model)
    if reverse:
        return tool, replace(settings, reverse=not settings.reverse)
    return tool, settings
