"""What a pressed pointer does, each as one generator: press, then moves, then release.

A hand waits for the next event with `event = yield`, and lets the window breathe with `yield BUSY`
when it has worked for long.
"""

from __future__ import annotations

import inspect
import time
from collections.abc import Callable, Generator, Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from kneten.app.view.marks import Feel
from kneten.core.arrays import F64
from kneten.core.brush_path import EvenSpacing, Leash, PenPoint, RoundedPath, Touch
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.camera import Camera
from kneten.core.falloff import curve_at
from kneten.core.live_density import Density
from kneten.core.picking import Hit, pick
from kneten.core.stroke import Stroke
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

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
    force = (
        curve_at(settings.pressure_curve_strength, pressure) if settings.pressure_curve_strength else factor
    )
    # A touch without pressure still leaves a mark of a fifth of the size.
    size = 0.2 + 0.8 * factor if settings.pressure_size else 1.0
    if settings.tilt_size:
        size *= 1.0 + TILT_SIZE * tilt
    return size, force if settings.pressure_strength else 1.0


class Aim:
    """Where pixels of the view meet one part, in the part's space."""

    def __init__(self, view: Canvas, part: Part, settings: BrushSettings, tool: Tool | None = None) -> None:
        self.density = None if tool is None else view.studio.live.density(part, tool)
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

    def detail(self, touch: Touch) -> Density | None:
        """What a dab there makes of the mesh."""
        if self.density is None:
            return None
        place = self.part.transform
        pixel = self.camera.pixel_size(place.to_scene(touch.point[None])[0], self.height)
        return self.density(pixel, touch.radius * place.scale)

    def hit(self, x: float, y: float) -> Hit | None:
        """Where a pixel meets the clay."""
        origin, way = self.camera.ray(x, y, self.width, self.height)
        place = self.part.transform
        return pick(self.part.mesh, place.to_part(origin[None])[0], place.way_to_part(way))

    def touch(self, pen: PenPoint) -> Touch | None:
        """Where the pen meets the clay."""
        place = self.part.transform
        hit = self.hit(pen.x, pen.y)
        if hit is None:
            return None
        local_way = place.way_to_part(self.camera.ray(pen.x, pen.y, self.width, self.height)[1])
        point = place.to_scene(hit.point[None])[0]
        return Touch(hit.point, local_way, self.radius(point, pen.pressure, pen.tilt), pen.pressure)


def sculpt(view: Canvas, press: Pointer, part: Part, tool: Tool, settings: BrushSettings) -> Hand:
    """Leave dabs along the way, as the kind of stroke has it."""
    kinds = {"line": _line_stroke, "dragged": _dragged_dab, "sized": _sized_dab}
    stroke = _begin(view, press, part, tool, settings)
    way = kinds.get(settings.kind, _free_stroke)
    kept = False
    try:
        if (yield from way(view, press, part, tool, settings, stroke)):
            verb = tool.name
            if settings.reverse and tool.reversed_name:
                verb = f"{tool.name} reversed"
            _end(view, part, stroke, verb)
            kept = True
    finally:
        view.stroke_moved(stroke, part)
        if not kept:
            stroke.cancel()
            view.refresh()


def _begin(view: Canvas, press: Pointer, part: Part, tool: Tool, settings: BrushSettings) -> Stroke:
    aim = Aim(view, part, settings)
    hit = aim.hit(press.x, press.y)
    stroke = view.studio.project.begin_stroke(
        part.id, tool, settings, -1 if hit is None else hit.face, view.studio.softens
    )
    stroke.most = view.studio.live.most(part)
    return stroke


def _end(view: Canvas, part: Part, stroke: Stroke, name: str) -> None:
    """Keep what a stroke has done."""
    view.studio.project.end_stroke(part.id, stroke, name)
    if stroke.full:
        view.studio.say(
            f"{part.name} has {part.mesh.count:,} vertices, and there is room for no more: the stroke added none. "
            "Choose a larger detail size, coarsen where less will do, or close other programs.",
            "warning",
        )
    elif stroke.did_less:
        view.studio.say_now_and_then(
            f"less {part.id} {stroke.tool.key}",
            f"{stroke.tool.name} did less than asked: more would fold {part.name} or lead it through itself. "
            "A finer mesh, live density, a smaller or a weaker brush let it go farther.",
        )


Way = Generator[str | None, Pointer | None, bool]
"""The part of a hand that leaves the dabs; whether they are to be kept."""


def _free_stroke(
    view: Canvas, press: Pointer, part: Part, tool: Tool, settings: BrushSettings, stroke: Stroke
) -> Way:
    """Dabs along the pointer's way: continuous, spaced or scattered."""
    dabs = Dabs(stroke, Aim(view, part, settings, tool), settings)
    leash = Leash(settings.steadying)
    path = RoundedPath()
    event: Pointer | None = press
    while True:
        assert event is not None
        pen = PenPoint(event.x, event.y, event.pressure, event.tilt)
        points = path.add(leash.follow(pen))
        if event.kind == "release":
            points = path.end()
        for _ in dabs.along(points):
            if view.over_budget():
                view.stroke_moved(stroke, part)
                yield BUSY
        view.stroke_moved(stroke, part)
        if event.kind == "release":
            return True
        event = yield None
        if event is not None and event.kind == "cancel":
            return False


def _line_stroke(
    view: Canvas, press: Pointer, part: Part, tool: Tool, settings: BrushSettings, stroke: Stroke
) -> Way:
    """Dabs along a straight line, once it has been drawn."""
    end = press
    while True:
        event = yield None
        if event is None:
            continue
        if event.kind == "cancel":
            view.guide = ()
            return False
        end = snapped(press, event) if view.studio.snaps else event
        view.guide = ((press.x, press.y), (end.x, end.y))
        view.repaint_over()
        if event.kind == "release":
            break
    view.guide = ()
    dabs = Dabs(stroke, Aim(view, part, settings, tool), settings)
    steps = max(int(np.hypot(end.x - press.x, end.y - press.y) / RoundedPath.STEP), 1)
    pressure = max(press.pressure, end.pressure)
    line = (
        PenPoint(press.x + (end.x - press.x) * t, press.y + (end.y - press.y) * t, pressure)
        for t in np.linspace(0.0, 1.0, steps + 1).tolist()
    )
    for _ in dabs.along(line):
        if view.over_budget():
            view.stroke_moved(stroke, part)
            yield BUSY
    return True


def snapped(start: Pointer, end: Pointer) -> Pointer:
    """The end of a line, turned to the nearest of 24 directions."""
    dx, dy = end.x - start.x, end.y - start.y
    step = np.pi / 12
    angle = round(float(np.arctan2(dy, dx)) / step) * step
    far = float(np.hypot(dx, dy))
    return replace(end, x=start.x + far * float(np.cos(angle)), y=start.y + far * float(np.sin(angle)))


ONE_DAB = 1.0
"""What a single dab is worth: as much as dabs over one radius of stroke."""


def _dragged_dab(
    view: Canvas, press: Pointer, part: Part, tool: Tool, settings: BrushSettings, stroke: Stroke
) -> Way:
    """One dab that follows the pointer until it is let go."""
    return (yield from _one_dab(view, press, part, tool, settings, stroke, False))


def _sized_dab(
    view: Canvas, press: Pointer, part: Part, tool: Tool, settings: BrushSettings, stroke: Stroke
) -> Way:
    """One dab where the press was, as large as the drag is long."""
    return (yield from _one_dab(view, press, part, tool, settings, stroke, True))


def _one_dab(
    view: Canvas,
    press: Pointer,
    part: Part,
    tool: Tool,
    settings: BrushSettings,
    stroke: Stroke,
    sized: bool,
) -> Way:
    aim = Aim(view, part, settings, tool)
    sign = -1.0 if settings.reverse else 1.0
    first = aim.touch(PenPoint(press.x, press.y, press.pressure))
    event: Pointer | None = press
    while True:
        assert event is not None
        touch = first if sized else aim.touch(PenPoint(event.x, event.y, event.pressure))
        if touch is not None:
            stroke.take_back()
            radius = touch.radius
            if sized:
                at = part.transform.to_scene(touch.point[None])[0]
                pixels = max(float(np.hypot(event.x - press.x, event.y - press.y)), 3.0)
                radius = pixels * view.camera.pixel_size(at, aim.height) / part.transform.scale
            strength = sign * settings.strength * pressed(settings, touch.pressure)[1]
            sized_touch = replace(touch, radius=radius)
            detail = aim.detail(sized_touch)
            stroke.dab(
                Dab(
                    touch.point,
                    np.zeros(3),
                    touch.view,
                    radius,
                    strength,
                    ONE_DAB,
                    radius * 10,
                    detail=detail,
                )
            )
        view.stroke_moved(stroke, part)
        if event.kind == "release":
            return True
        event = yield None
        if event is not None and event.kind == "cancel":
            return False


class Dabs:
    """Cuts a path into dabs and leaves them."""

    def __init__(self, stroke: Stroke, aim: Aim, settings: BrushSettings) -> None:
        self._stroke = stroke
        self._aim = aim
        self._settings = settings
        self._single = settings.kind in ("spaced", "scattered")
        share = max(settings.spacing, 2.0) if self._single else settings.spacing
        self._spacing = EvenSpacing(share)
        self._jitter = settings.jitter or (1.0 if settings.kind == "scattered" else 0.0)
        # The same stroke scatters alike whenever it is drawn.
        self._random = np.random.default_rng(7)
        self._travel = 0.0
        self._before: tuple[float, float, float] | None = None
        self._speed = 0.0

    def along(self, points: Iterator[PenPoint]) -> Iterator[None]:
        """Leave the dabs that these places of the path call for; a pause after each place."""
        held = self._settings
        sign = -1.0 if held.reverse else 1.0
        for point in points:
            for touch, along in self._spacing.add(self._aim.touch(point)):
                self._travel += float(np.sqrt(along @ along))
                radius = touch.radius * self._narrowed(point)
                if self._jitter:
                    moved = self._strewn(touch)
                    if moved is None:
                        continue
                    touch = moved
                strength = sign * held.strength * pressed(held, touch.pressure)[1]
                spacing = ONE_DAB if self._single else held.spacing
                detail = self._aim.detail(replace(touch, radius=radius))
                self._stroke.dab(
                    Dab(
                        touch.point,
                        along,
                        touch.view,
                        radius,
                        strength,
                        spacing,
                        self._travel,
                        detail=detail,
                    )
                )
            yield

    def _narrowed(self, point: PenPoint) -> float:
        """What the stroke's speed leaves of the radius: half of it from 3,000 pixels a second on."""
        share = self._settings.speed_size
        if not share:
            return 1.0
        now = time.perf_counter()
        if self._before is not None:
            far, took = np.hypot(point.x - self._before[0], point.y - self._before[1]), now - self._before[2]
            if took > 0.004:
                self._speed += 0.3 * (float(far) / took - self._speed)
                self._before = (point.x, point.y, now)
        else:
            self._before = (point.x, point.y, now)
        return 1.0 - 0.5 * share * min(self._speed / 3000.0, 1.0)

    def _strewn(self, touch: Touch) -> Touch | None:
        """A place on the clay beside another, at random."""
        angle, far = self._random.uniform(0, 2 * np.pi), np.sqrt(self._random.uniform(0, 1))
        place = self._aim.part.transform
        at = place.to_scene(touch.point[None])[0]
        axes = self._aim.camera.axes()
        off = (axes[0] * np.cos(angle) + axes[1] * np.sin(angle)) * far * self._jitter
        spot = at + off * touch.radius * place.scale
        x, y, _ = self._aim.camera.project(spot[None], self._aim.width, self._aim.height)[0]
        return self._aim.touch(PenPoint(float(x), float(y), touch.pressure))


TURN_PIXELS = 120.0
"""Pixels dragged sideways that turn what is held by a right angle, or double its size."""


def pull(view: Canvas, press: Pointer, part: Part, tool: Tool, settings: BrushSettings) -> Hand:
    """Hold what was grabbed: bring it along in the plane of the picture, or turn, scale, bend it."""
    stroke = _begin(view, press, part, tool, settings)
    aim = Aim(view, part, settings, tool)
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
        hit = aim.hit(press.x, press.y)
        out = axes[2] if hit is None else part.transform.axes() @ hit.normal
        while True:
            event = yield None
            if event is None:
                continue
            if event.kind == "cancel":
                return
            now = leash.follow(PenPoint(event.x, event.y, event.pressure))
            strength = settings.strength * pressed(settings, now.pressure)[1]
            dx, dy = now.x - pen.x, now.y - pen.y
            way = (axes[0] * dx - axes[1] * dy) * size
            if settings.variant == "normal" and tool.gesture == "pull":
                way = out * float(_outwards(axes, out, dx, dy)) * size
            local = part.transform.way_to_part(way) / part.transform.scale
            sign = -1.0 if settings.reverse else 1.0
            amount = sign * dx / TURN_PIXELS
            if tool.gesture == "turn":
                amount *= np.pi / 2
            elif tool.gesture == "scale":
                amount = float(np.exp(np.log(2.0) * amount)) - 1.0
            elif tool.gesture == "bend":
                # The ends follow the pointer by as much as it moves, a radius away.
                amount = -sign * float(np.linalg.norm(local)) / grabbed.radius
            if event.kind == "move" or now != pen:
                stroke.drag(local, grabbed.radius, strength, amount)
            view.stroke_moved(stroke, part)
            if event.kind == "release":
                break
        detail = aim.detail(grabbed)
        if detail is not None:
            # What was drawn out is long now, all the way from where it was grabbed.
            steps = int(np.linalg.norm(local) / (grabbed.radius * 0.5)) + 1
            for share in np.linspace(0.0, 1.0, steps + 1).tolist():
                stroke.densify_all(grabbed.point + local * share, grabbed.radius, detail)
                if view.over_budget():
                    yield BUSY
            view.stroke_moved(stroke, part)
        _end(view, part, stroke, tool.name)
        kept = True
    finally:
        if not kept:
            stroke.cancel()
            view.refresh()


def _outwards(axes: F64, out: F64, dx: float, dy: float) -> float:
    """Pixels that a drag goes along a direction as it is seen; towards the eye, upwards is outwards."""
    seen = np.array([out @ axes[0], -(out @ axes[1])])
    length = float(np.linalg.norm(seen))
    # Within 30 degrees of the eye, noise of the surface would say where out is.
    if length < 0.5:
        return -dy
    return float((dx * seen[0] + dy * seen[1]) / length**2)


def _move_camera(view: Canvas, press: Pointer, moved: Callable[[float, float], Camera]) -> Hand:
    """Look from where `moved` says, of the pixels that the pointer has gone since it was asked last."""
    before = press
    while True:
        event = yield None
        if event is None or event.kind in ("release", "cancel"):
            return
        view.set_camera(moved(event.x - before.x, event.y - before.y))
        before = event


def turn(view: Canvas, press: Pointer) -> Hand:
    """Turn around the point under the cursor."""
    pivot = view.point_under(press.x, press.y)
    return _move_camera(view, press, lambda x, y: view.camera.turned(-x * TURN_SPEED, y * TURN_SPEED, pivot))


def pan(view: Canvas, press: Pointer) -> Hand:
    """Move the picture along with the cursor."""
    point = view.point_under(press.x, press.y)
    return _move_camera(view, press, lambda x, y: view.camera.panned(x, y, view.high, point))


def zoom(view: Canvas, press: Pointer) -> Hand:
    """Nearer by dragging up, farther by dragging down."""
    point = view.point_under(press.x, press.y)
    return _move_camera(view, press, lambda _, y: view.camera.zoomed(float(np.exp(y * 0.006)), point))


def feel(view: Canvas, press: Pointer) -> Hand:
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


def lamp(view: Canvas, press: Pointer) -> Hand:
    """Bring the lamp to where the pointer is on the half ball before the picture."""
    event: Pointer | None = press
    while event is not None and event.kind != "cancel":
        x = float(np.clip(2 * event.x / view.wide - 1, -1, 1))
        y = float(np.clip(1 - 2 * event.y / view.high, -1, 1))
        view.studio.set_look(lamp=(x, y), moving=event.kind != "release")
        if event.kind == "release":
            return
        event = yield None


def wipe(view: Canvas, press: Pointer) -> Hand:
    """Drag the edge between then and now."""
    event: Pointer | None = press
    while event is not None and event.kind not in ("release", "cancel"):
        view.wipe = float(np.clip(event.x / max(view.wide, 1), 0.0, 1.0))
        view.update()
        event = yield None


def choose(view: Canvas, part: Part) -> Hand:
    """Take another part in hand; the press does nothing else."""
    view.studio.project.choose(part.id)
    while True:
        event = yield None
        if event is None or event.kind in ("release", "cancel"):
            return


def choose_also(view: Canvas, part: Part) -> Hand:
    """Take one more part along, or leave it out again; the press does nothing else."""
    view.studio.project.choose_also(part.id)
    while True:
        event = yield None
        if event is None or event.kind in ("release", "cancel"):
            return


HARMLESS = frozenset(one.__code__ for one in (_move_camera, feel, lamp, wipe, choose, choose_also))
"""Hands that change no clay: a command may break them off."""


def is_harmless(hand: Hand) -> bool:
    """Whether a running hand changes no clay."""
    return inspect.isgenerator(hand) and hand.gi_code in HARMLESS
