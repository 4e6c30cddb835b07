"""What a pressed pointer does, each as one generator: press, then moves, then release.

A hand waits for the next event with `event = yield`, and lets the window breathe with `yield BUSY`
when it has worked for long.
"""

from __future__ import annotations

import inspect
from collections.abc import Callable, Generator, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from kneten.app.view.aim import Aim, pressed
from kneten.app.view.dabs import ONE_DAB, Chance, Dabs
from kneten.app.view.marks import Feel
from kneten.core.arrays import F64
from kneten.core.brush_path import Leash, PenPoint, RoundedPath, Touch
from kneten.core.brushes.tool import BrushSettings, Dab, Tool
from kneten.core.camera import Camera
from kneten.core.stroke import Stroke
from kneten.document.opening import StackError
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
    way : float
        Where a tilted pen's end points, radians to the left from the picture's top.
    """

    kind: str
    x: float
    y: float
    pressure: float = 1.0
    tilt: float = 0.0
    way: float = 0.0


Hand = Generator[str | None, Pointer | None, None]


def sculpt(view: Canvas, press: Pointer, part: Part, tool: Tool, settings: BrushSettings) -> Hand:
    """Leave dabs along the way, as the kind of stroke has it."""
    kinds = {"line": _line_stroke, "dragged": _dragged_dab, "sized": _sized_dab}
    try:
        stroke = _begin(view, press, part, tool, settings)
    except StackError as error:
        view.studio.say(str(error), "warning")
        return
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
    face, tip = -1 if hit is None else hit.face, view.studio.presses.found(settings.tip.press)
    studio = view.studio
    by = studio.brush_by if tool.paints == "paint" else None
    over = None if by is None else by.over(part)
    stroke = studio.project.begin_stroke(part.id, tool, settings, face, studio.softens, tip, over)
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
    elif stroke.needs_way:
        name = view.studio.presses.name_of(stroke.settings.tip.press)
        view.studio.say_now_and_then(
            f"short {name}",
            f"{name} is rolled out along the way, and has hardly begun: draw farther than {stroke.needs_way:.1f} times "
            "the size of the brush, or switch Rolled off to lay it with a touch.",
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
        pen = PenPoint(event.x, event.y, event.pressure, event.tilt, event.way)
        points = path.add(leash.follow(pen))
        if event.kind == "release":
            points = path.end()
        for _ in dabs.along(points):
            if view.over_budget():
                view.stroke_moved(stroke, part)
                yield BUSY
        if event.kind == "release":
            dabs.end()
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
        PenPoint(press.x + (end.x - press.x) * t, press.y + (end.y - press.y) * t, pressure, way=press.way)
        for t in np.linspace(0.0, 1.0, steps + 1).tolist()
    )
    for _ in dabs.along(line):
        if view.over_budget():
            view.stroke_moved(stroke, part)
            yield BUSY
    dabs.end()
    return True


def snapped(start: Pointer, end: Pointer) -> Pointer:
    """The end of a line, turned to the nearest of 24 directions."""
    dx, dy = end.x - start.x, end.y - start.y
    step = np.pi / 12
    angle = round(float(np.arctan2(dy, dx)) / step) * step
    far = float(np.hypot(dx, dy))
    return replace(end, x=start.x + far * float(np.cos(angle)), y=start.y + far * float(np.sin(angle)))


def along_lines(view: Canvas, part: Part, tool: Tool, settings: BrushSettings, lines: Sequence[F64]) -> Hand:
    """Lead a tool along lines (k, 3) on a part, in its space: one undo step, if it is not broken off."""
    project = view.studio.project
    # What lies on the far side of the clay is meant as well.
    settings = replace(
        settings, front_only=False, kind="continuous" if settings.kind != "spaced" else "spaced"
    )
    aim = Aim(view, part, settings, tool)
    made = 0
    for line in lines:
        press = view.studio.presses.found(settings.tip.press)
        try:
            stroke = project.begin_stroke(part.id, tool, settings, press=press)
        except StackError as error:
            view.studio.say(str(error), "warning")
            return
        stroke.most = view.studio.live.most(part)
        dabs, kept = Dabs(stroke, aim, settings), False
        scene = part.transform.to_scene(line)
        touches = (
            Touch(place, np.zeros(3), aim.radius(at), 1.0) for place, at in zip(line, scene, strict=True)
        )
        try:
            for _ in dabs.over(touches):
                if view.over_budget():
                    view.stroke_moved(stroke, part)
                    yield BUSY
            dabs.end()
            made += project.end_stroke(part.id, stroke, f"{tool.name} along guides")
            kept = True
        finally:
            view.stroke_moved(stroke, part)
            if not kept:
                stroke.cancel()
                view.refresh()
    if made > 1:
        project.history.join(made)
        project.history_changed()


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
    chance = Chance(settings)
    factor, turn, over = chance.strength(), chance.angle(), chance.mirrored()
    sign = -factor if settings.reverse else factor
    first = aim.touch(PenPoint(press.x, press.y, press.pressure, way=press.way))
    event: Pointer | None = press
    right, top, _ = view.camera.axes()
    while True:
        assert event is not None
        pen = PenPoint(event.x, event.y, event.pressure, way=event.way)
        touch = first if sized else aim.touch(pen)
        if touch is not None:
            stroke.take_back()
            radius, along = touch.radius, np.zeros(3)
            if sized:
                at = part.transform.to_scene(touch.point[None])[0]
                dx, dy = event.x - press.x, event.y - press.y
                pixels = max(float(np.hypot(dx, dy)), 3.0)
                radius = pixels * view.camera.pixel_size(at, aim.height) / part.transform.scale
                # The drag says how it lies, too, where that is wanted.
                along = part.transform.way_to_part(right * dx - top * dy)
            detail = aim.detail(replace(touch, radius=radius))
            stroke.dab(
                Dab(
                    touch.point,
                    along,
                    touch.view,
                    radius,
                    sign * settings.strength * pressed(settings, touch.pressure)[1],
                    ONE_DAB,
                    radius * 10,
                    detail=detail,
                    up=aim.up(touch.way if settings.tip.turned == "pen" else 0.0),
                    turn=turn,
                    mirrored=over,
                )
            )
        view.stroke_moved(stroke, part)
        if event.kind == "release":
            return True
        event = yield None
        if event is not None and event.kind == "cancel":
            return False


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
        dab = Dab(grabbed.point, np.zeros(3), grabbed.view, grabbed.radius, 1.0, ONE_DAB, up=aim.up())
        stroke.grab(grabbed.point, grabbed.radius, grabbed.view, replace(dab, turn=Chance(settings).angle()))
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
