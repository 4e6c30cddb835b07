"""The viewport: the pictures, the pointer, and the hand that is at work."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import QEvent, QPointF, Qt, QTimer, Signal
from PySide6.QtGui import (
    QColor,
    QFocusEvent,
    QHoverEvent,
    QInputDevice,
    QKeyEvent,
    QKeySequence,
    QMouseEvent,
    QNativeGestureEvent,
    QPainter,
    QPointingDevice,
    QTabletEvent,
    QWheelEvent,
)

from kneten.app.view import hands
from kneten.app.view.aim import Aim
from kneten.app.view.canvas import Overlay, PaintUnder, ScenePreview
from kneten.app.view.cursor import Ring, paint_press, paint_ring
from kneten.app.view.handles import Handles
from kneten.app.view.hands import BUSY, Hand, Pointer
from kneten.app.view.marks import Feel, paint_marks
from kneten.app.view.modes import Mode, line
from kneten.app.view.picture import PictureView
from kneten.app.view.recasting import Recasting
from kneten.app.view.tease_hand import tease
from kneten.core.arrays import F32, F64, I32
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.changes import noted
from kneten.core.mesh import Mesh
from kneten.core.picking import pick
from kneten.core.stack import Stack
from kneten.document.scene import Part, Scene

if TYPE_CHECKING:
    from kneten.app.work.studio import Studio

BUDGET = 0.02
"""Seconds a hand may work before the window is painted and looks for input again."""


PEN_BUTTONS = {Qt.MouseButton.RightButton: "lower", Qt.MouseButton.MiddleButton: "upper"}
"""How Qt names the two buttons on a pen's side."""


FINISH = 0.5
"""Seconds a hand may take to work off what it was given before a command that changes its clay."""


class Viewport(PictureView):
    """Shows the scene and passes pointers to hands.

    Signals
    -------
    mode_changed()
        Another way of working, or none.
    hint_changed()
        What the way of working says to do is another now.
    """

    mode_changed = Signal()
    hint_changed = Signal()

    def __init__(self, studio: Studio) -> None:
        super().__init__(studio)
        self.ring_colour = QColor("#7FB8A4")
        self.text_colour = QColor("#ECE5DB")
        self.label_colour = QColor("#211D1A")
        self.preview: dict[str, Part] = {}
        self.shown_things: dict[str, tuple[Any, ...]] = {}
        self.shown_stacks: dict[str, Stack] = {}
        self._touched: Pointer | None = None
        self.mode: Mode | None = None
        self.solid: ScenePreview | None = None
        self.seen_as: list[Callable[[Scene], Scene]] = []
        self.behind: PaintUnder = lambda: None
        self._overlays: list[Overlay] = []
        self.recasting = Recasting(self)
        self.hidden_guides: set[str] = set()
        self.ring: Ring | None = None
        self.feel: Feel | None = None
        self.guide: tuple[tuple[float, float], ...] = ()
        self.handles = Handles(self)
        self.held_key = ""
        self._pen_keys = Qt.KeyboardModifier.NoModifier
        self._hand: Hand | None = None
        self._queue: deque[Pointer] = deque()
        self._let_go = False
        self._next: list[Pointer | tuple[Pointer, Qt.MouseButton, Qt.KeyboardModifier]] = []
        self._busy = False
        self._button = Qt.MouseButton.NoButton
        self._deadline = 0.0
        self._last_at = QPointF(-1, -1)
        self.setMouseTracking(True)
        self.setTabletTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAttribute(Qt.WidgetAttribute.WA_AcceptTouchEvents, False)
        self.setAccessibleName("Viewport")
        self.setAccessibleDescription("The clay. Drag on it to sculpt, beside it to turn.")

    def _scene(self) -> Scene:
        """The scene as it is to be drawn, with what is being dragged in its new place."""
        scene = self.studio.project.scene
        if self.preview:
            scene = scene.with_part(*self.preview.values())
        if self.shown_stacks:
            shown = (part for part in scene.parts if part.id in self.shown_stacks)
            scene = scene.with_part(*(replace(part, stack=self.shown_stacks[part.id]) for part in shown))
        for name, things in self.shown_things.items():
            scene = scene.with_things(name, things)
        for change in self.seen_as:
            scene = change(scene)
        return self.solid.applied(scene) if self.solid is not None else scene

    def stand_in(self, part: Part) -> I32 | None:
        """The few triangles that stand in for a large part while it moves, (t, 3); None for a smaller one."""
        if (
            self.renderer is None
            or not self.renderer.shelf.has(part)
            or not self.renderer.shelf[part].is_large
        ):
            return None
        return self.renderer.shelf[part].few

    def _behind(self) -> Callable[[QPainter], None] | None:
        paint = self.behind()
        pane = self.main
        if paint is None or pane is None:
            return None

        def placed(painter: QPainter) -> None:
            painter.setClipRect(pane.x, pane.y, pane.wide, pane.high)
            painter.translate(pane.x, pane.y)
            if self.mirrored:
                painter.translate(pane.wide, 0)
                painter.scale(-1, 1)
            paint(painter)

        return placed

    def take_mode(self, mode: Mode | None) -> None:
        """Work in another way; None sculpts."""
        self.cancel_hand()
        self._change_mode(mode)

    def end_mode(self) -> None:
        """Go back to sculpting, from within the hand of the mode in hand, which ends by itself."""
        self._change_mode(None)

    def _change_mode(self, mode: Mode | None) -> None:
        left, self.mode = self.mode, mode
        if left is not None:
            left.leave()
        if mode is not None:
            self.handles.mode = ""
        self.ring = None
        self.setCursor(Qt.CursorShape.CrossCursor if mode is not None else Qt.CursorShape.ArrowCursor)
        self.mode_changed.emit()
        self.repaint_over()

    def toggle_mode(self, mode: Mode) -> None:
        """Work in a way; the same again goes back to sculpting."""
        now = self.mode
        self.take_mode(None if now is not None and now.key == mode.key else mode)

    def add_overlay(self, overlay: Overlay) -> None:
        """Paint something over the picture from now on, above what was added before."""
        self._overlays.append(overlay)

    def part_at(self, x: float, y: float) -> tuple[Part, F64, float] | None:
        """The visible part at a pixel, the point on it in the scene, and the edge length there."""
        origin, way = self.camera.ray(x, y, self.wide, self.high)
        best = None
        nearest = np.inf
        look = self.studio.project.settings.look
        for part in self.studio.project.scene.parts:
            if not part.visible or part.locked:
                continue
            if look.isolate and part is not self.studio.project.active:
                continue
            place = part.transform
            hit = pick(part.mesh, place.to_part(origin[None])[0], place.way_to_part(way))
            if hit is not None and hit.distance * place.scale < nearest:
                nearest = hit.distance * place.scale
                best = (part, origin + way * nearest, hit.edge * place.scale)
        return best

    def show_mask(self, mesh: Mesh, mask: F32) -> None:
        """Show another mask for a while, without a step; whoever does puts the old one back."""
        mesh.need("mask")[:] = mask
        noted(mesh, "mask", np.arange(mesh.n_vertices, dtype=np.int32))
        self.moved()

    def point_under(self, x: float, y: float) -> F64:
        """The clay under a pixel; beside the clay, the place at the depth of the scene's middle."""
        found = self.part_at(x, y) if self.studio.ready else None
        if found is not None:
            return found[1]
        low, high = self.studio.project.scene.bounds()
        origin, way = self.camera.ray(x, y, self.wide, self.high)
        back = self.camera.axes()[2]
        depth = float((origin - (low + high) / 2) @ back)
        return origin + way * (depth / max(float(-way @ back), 1e-6))

    def _busy_pointing(self) -> bool:
        return self._hand is not None

    def _paint_over(self, painter: QPainter) -> None:
        part = self.studio.project.active
        pane = self.pane
        if pane is not None and part is not None and part.visible:
            painter.save()
            painter.setClipRect(pane.x, pane.y, pane.wide, pane.high)
            painter.translate(pane.x, pane.y)
            if self.mirrored:
                painter.translate(pane.wide, 0)
                painter.scale(-1, 1)
            if self.handles.mode:
                self.handles.paint(painter, self.preview.get(part.id, part))
            elif self.ring is not None and self.mode is None:
                held, shelf = self.studio.held()[1], self.studio.presses
                place = (part.transform, self.camera, pane.wide, pane.high)
                if held.tip.press and shelf.found(held.tip.press) is not None:
                    paint_press(painter, self.ring, *place, held, shelf.picture(held.tip.press))
                twins = self.studio.project.twins(part)
                paint_ring(painter, self.ring, *place, held, twins, self.ring_colour)
            painter.restore()
        if pane is not None:
            painter.save()
            painter.setClipRect(pane.x, pane.y, pane.wide, pane.high)
            painter.translate(pane.x, pane.y)
            if self.mirrored:
                painter.translate(pane.wide, 0)
                painter.scale(-1, 1)
            for overlay in self._overlays:
                overlay.paint(painter)
            if self.guide:
                line(painter, np.array(self.guide), self.ring_colour, 1.6, True)
            if self.mode is not None:
                self.mode.paint(painter)
            painter.restore()
        paint_marks(painter, self)

    # -- hands ----------------------------------------------------------------------------------

    def over_budget(self) -> bool:
        """Whether the running hand should let the window breathe."""
        return time.perf_counter() > self._deadline

    @property
    def at_work(self) -> bool:
        """Whether a pressed pointer is at work."""
        return self._hand is not None

    def take_hand(self, hand: Hand) -> None:
        """Begin a hand; it has seen its press already."""
        self._queue.clear()
        self._shadows.stop()
        self._hand = hand
        self._busy = True
        self._let_go = False
        self._pump()

    def feed(self, event: Pointer) -> None:
        """Pass an event to the hand at work."""
        if self._hand is None:
            return
        if event.kind == "cancel":
            self._queue.clear()
            self._next.clear()
        elif self._next:
            # It is of the press that waits.
            self._next.append(event)
            return
        self._let_go = self._let_go or event.kind == "release"
        self._queue.append(event)
        self._pump()

    def _pump(self) -> None:
        self._deadline = time.perf_counter() + BUDGET
        while self._hand is not None:
            if not self._busy and not self._queue:
                return
            event = None if self._busy else self._queue.popleft()
            try:
                # A hand that asked for time goes on where it was; it gets no event.
                self._busy = (self._hand.send(event) if event else next(self._hand)) == BUSY
            except StopIteration:
                self._hand = None
                self._busy = False
                self._queue.clear()
                self.studio.hand_ended()
                self.fall_anew()
                self._take_next()
                return
            except Exception as error:
                self._broken(error)
                return
            if self.over_budget() and (self._busy or self._queue):
                QTimer.singleShot(0, self._pump)
                return

    def _take_next(self) -> None:
        """Go on with the press that came while the last hand was still working off what it had been given."""
        waiting, self._next = self._next, []
        for one in waiting:
            if isinstance(one, Pointer):
                self.feed(one)
            else:
                self._press(*one)

    def finish_hand(self) -> bool:
        """Let a hand work off what it was given; whether none is at work on clay then.

        One that only turns the camera is broken off; one whose pointer is pressed on clay stays.
        """
        until = time.perf_counter() + FINISH
        while self._hand is not None and (self._busy or self._queue) and time.perf_counter() < until:
            self._pump()
        if self._hand is not None and hands.is_harmless(self._hand):
            self.cancel_hand()
        return self._hand is None

    def cancel_hand(self) -> None:
        """Break off what the pointer is doing; a stroke is taken back."""
        if self._hand is not None:
            hand, self._hand = self._hand, None
            self._busy = False
            self._queue.clear()
            self._next.clear()
            self.preview = {}
            self.shown_things = {}
            hand.close()
            self.studio.project.end_trials()
            self.refresh()

    def _broken(self, error: Exception) -> None:
        """A hand went wrong: it has taken back what it did."""
        self._hand = None
        self._busy = False
        self._queue.clear()
        self._next.clear()
        self.preview = {}
        self.shown_things = {}
        self.studio.project.end_trials()
        self.studio.broke("What the pointer did", error)
        self.refresh()

    def _hand_for(self, press: Pointer, button: Qt.MouseButton, keys: Qt.KeyboardModifier) -> Hand | None:
        alt = bool(keys & Qt.KeyboardModifier.AltModifier)
        ctrl = bool(keys & Qt.KeyboardModifier.ControlModifier)
        if self.held_key == "pan" or button == Qt.MouseButton.MiddleButton:
            return hands.pan(self, press)
        if button == Qt.MouseButton.RightButton or alt:
            return hands.zoom(self, press) if ctrl else hands.turn(self, press)
        if button != Qt.MouseButton.LeftButton or not self.studio.ready:
            return None
        if self.held_key == "feel":
            return hands.feel(self, press)
        if self.held_key == "lamp":
            return hands.lamp(self, press)
        if self.mode is not None:
            return self.mode.begin(press, keys) or hands.turn(self, press)
        if self.compare_mode == "wipe" and abs(press.x - self.width() * self.wipe) < 12:
            return hands.wipe(self, press)
        inside = 0 <= press.x < self.wide and 0 <= press.y < self.high
        active = self.studio.project.active
        if self.handles.mode and active is not None and active.visible:
            handle = self.handles.under(active, press.x, press.y)
            if handle >= 0:
                return self._drag_handle(active, handle, press, keys)
        found = self.part_at(press.x, press.y) if inside else None
        if found is None:
            return hands.turn(self, press)
        part = found[0]
        if self.handles.mode and keys & Qt.KeyboardModifier.ShiftModifier:
            return hands.choose_also(self, part)
        if part is not active or self.handles.mode:
            return hands.choose(self, part)
        blocked = self.studio.stroke_blocked(part)
        if blocked:
            self.studio.say(blocked, "warning")
            return None
        tool, settings = self.studio.held(keys)
        blocked = self.studio.presses.blocked(tool, settings)
        if blocked:
            self.studio.say(blocked, "warning")
            return None
        steps = {tool.name, "live density"} if part.live_density or tool.density else {tool.name}
        if not self.studio.is_warm(steps):
            self.studio.say(f"{tool.name} is still getting ready; Raise can be used already.")
            return None
        if tool.needs_before and self.studio.project.before(part) is None:
            self.studio.say(
                f"No milestone has {part.name} with this mesh; keep one first (Keep this, below), "
                "then Restore can go back to it.",
                "warning",
            )
            return None
        ring = self._ring_at(part, press.x, press.y)
        self.studio.before_stroke(part, tool, (ring.radius, ring.edge) if ring is not None else None)
        if not self.studio.live.ready(part, tool):
            return None
        part = self.studio.project.scene.part(part.id)
        self._touched = press
        make = hands.pull if tool.holds else tease if tool.density == "grow" else hands.sculpt
        return make(self, press, part, tool, settings)

    def no_finer_here(self) -> str:
        """Why the clay under the brush cannot be made finer."""
        if words := self.studio.live.blocked():
            return words
        return (
            "" if self._touched is not None else "Draw on the clay first: where you did last is made finer."
        )

    def finer_here(self) -> None:
        """Refine the clay under the brush, where a stroke began last: one step."""
        part, press, tool = self.studio.project.active, self._touched, TOOLS["refine"]
        assert part is not None
        assert press is not None
        held = self.studio.settings()
        settings = replace(tool.defaults, size=held.size, size_on_model=held.size_on_model)
        if self._hand is not None or not self.studio.live.ready(part, tool):
            return
        part = self.studio.project.scene.part(part.id)
        self.take_hand(hands.sculpt(self, press, part, tool, settings))
        for kind in ("move", "move", "release"):
            self.feed(replace(press, kind=kind))

    def _drag_handle(self, part: Part, handle: int, press: Pointer, keys: Qt.KeyboardModifier) -> Hand | None:
        blocked = next((w for p in self.studio.project.chosen if (w := self.studio.move_blocked(p))), "")
        if blocked:
            self.studio.say(blocked, "warning")
            return None
        return self.handles.drag(part, handle, press, bool(keys & Qt.KeyboardModifier.ShiftModifier))

    def _press(self, press: Pointer, button: Qt.MouseButton, keys: Qt.KeyboardModifier) -> None:
        if self._hand is not None:
            # A stroke that has been let go may still be working: the next one waits for it, and is not lost.
            if self._let_go and (not self._next or self._next_let_go()):
                self._button = button
                self._next.append((press, button, keys))
            return
        self._land()
        self.studio.pointer_pressed()
        hand = self._hand_for(press, button, keys)
        if hand is not None:
            self._button = button
            self.take_hand(hand)

    def _next_let_go(self) -> bool:
        """Whether the last press that waits has been let go again."""
        last = self._next[-1]
        return isinstance(last, Pointer) and last.kind == "release"

    def _pointer(
        self,
        kind: str,
        at: QPointF,
        pressure: float = 1.0,
        tilt: float = 0.0,
        choose: bool = False,
        way: float = 0.0,
    ) -> Pointer:
        x, y = self.local(at, choose)
        return Pointer(kind, x, y, pressure, tilt, way)

    def _hover(self, at: QPointF) -> None:
        """Put the ring where the brush would touch."""
        self._last_at = at
        x, y = self.local(at)
        ring = None
        part = self.studio.project.active
        if self.mode is not None:
            if self.studio.ready and self.mode.hover(x, y):
                self.repaint_over()
            return
        if self.handles.mode:
            hot = self.handles.under(part, x, y) if part is not None else -1
            if hot != self.handles.hot:
                self.handles.hot = hot
                self.repaint_over()
        elif part is not None and part.visible and self.studio.ready:
            ring = self._ring_at(part, x, y)
        if ring is not self.ring:
            self.ring = ring
            shape = Qt.CursorShape.BlankCursor if ring is not None else Qt.CursorShape.ArrowCursor
            if self.cursor().shape() != shape:
                self.setCursor(shape)
            self.repaint_over()

    def _ring_at(self, part: Part, x: float, y: float) -> Ring | None:
        """The ring of the brush at a pixel of the pane in use, where it meets the part."""
        aim = Aim(self, part, self.studio.held()[1])
        found = aim.hit(x, y)
        if found is None:
            return None
        point = part.transform.to_scene(found.point[None])[0]
        return Ring(found.point, found.normal, aim.full_radius(point), found.edge)

    def hover_again(self) -> None:
        """Renew the ring after the tool, its size or the clay changed."""
        if self._last_at.x() >= 0 and self._hand is None:
            self._hover(self._last_at)
            self.repaint_over()

    # -- events ---------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self.setFocus()
        press = self._pointer("press", event.position(), choose=True)
        self._press(press, event.button(), event.modifiers())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        at = event.position()
        if self._hand is not None:
            self.feed(self._pointer("move", at))
        if self._hand is None or self.handles.mode == "":
            self._hover(at)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self.mousePressEvent(event)
        if self.mode is not None and event.button() == Qt.MouseButton.LeftButton:
            self.mode.double(*self.local(event.position()))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        at = event.position()
        # Another button's release is nothing to a hand: only the one that began it ends it.
        if event.button() == self._button:
            self.feed(self._pointer("release", at))
        self._hover(at)

    def tabletEvent(self, event: QTabletEvent) -> None:  # noqa: N802
        at = event.position()
        pressure = event.pressure() if event.pressure() > 0 else 0.0
        # Pens tilt by up to 60 degrees.
        tilt = float(min(np.hypot(event.xTilt(), event.yTilt()) / 60.0, 1.0))
        # Tilted to the right, its end points to the right of the picture: to the left of its top is counted.
        way = float(-np.arctan2(event.xTilt(), -event.yTilt())) if tilt > 0 else 0.0
        kind = event.type()
        if kind == QEvent.Type.TabletPress:
            self.setFocus()
            self._pen_press(event, self._pointer("press", at, pressure, tilt, choose=True, way=way))
        elif kind == QEvent.Type.TabletMove:
            if self._hand is not None:
                self.feed(self._pointer("move", at, pressure, tilt, way=way))
            self._hover(at)
        elif kind == QEvent.Type.TabletRelease:
            self._pen_keys = Qt.KeyboardModifier.NoModifier
            # Pens let go with falling pressure; the last whole touch ends the stroke.
            if event.button() == self._button:
                self.feed(self._pointer("release", at, pressure, tilt, way=way))
        event.accept()

    def _pen_press(self, event: QTabletEvent, press: Pointer) -> None:
        """The tip, the eraser, or one of the pen's buttons, which do what the user has set."""
        keys = event.modifiers()
        button = event.button()
        if event.pointerType() == QPointingDevice.PointerType.Eraser:
            keys ^= Qt.KeyboardModifier.ControlModifier
        set_to = self.studio.preferences.pen_buttons
        for which, name in PEN_BUTTONS.items():
            action = set_to[name]
            if button == which:
                if action in ("turn", "pan", "zoom"):
                    self._press_with(getattr(hands, action)(self, press), button)
                elif action not in ("reverse", "smooth"):
                    self.studio.wanted.emit(action)
                return
            if event.buttons() & which:
                if action == "reverse":
                    keys ^= Qt.KeyboardModifier.ControlModifier
                elif action == "smooth":
                    keys |= Qt.KeyboardModifier.ShiftModifier
        self._press(press, button, keys)

    def _press_with(self, hand: Hand, button: Qt.MouseButton) -> None:
        if self._hand is None:
            self._land()
            self._button = button
            self.take_hand(hand)

    def wheelEvent(self, event: QWheelEvent) -> None:  # noqa: N802
        x, y = self.local(event.position())
        pivot = self.point_under(x, y)
        pad = event.device().type() == QInputDevice.DeviceType.TouchPad
        steps = event.angleDelta()
        ctrl = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if pad and not ctrl:
            move = event.pixelDelta() if not event.pixelDelta().isNull() else steps / 4
            if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                self.set_camera(self.camera.panned(move.x(), move.y(), self.high, pivot))
            else:
                speed = hands.TURN_SPEED
                self.set_camera(self.camera.turned(-move.x() * speed, move.y() * speed, pivot))
        else:
            # Alt turns a wheel sideways in Qt.
            amount = steps.y() or steps.x()
            self.set_camera(self.camera.zoomed(0.88 ** (amount / 120), pivot))
        event.accept()

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QNativeGestureEvent):
            x, y = self.local(event.position())
            pivot = self.point_under(x, y)
            if event.gestureType() == Qt.NativeGestureType.ZoomNativeGesture:
                self.set_camera(self.camera.zoomed(1 / max(1 + event.value(), 0.1), pivot))
                return True
            if event.gestureType() == Qt.NativeGestureType.PanNativeGesture:
                way = event.delta()
                self.set_camera(self.camera.panned(way.x(), way.y(), self.high, pivot))
                return True
        if isinstance(event, QHoverEvent) and event.type() == QEvent.Type.HoverLeave:
            self._leave()
        return super().event(event)

    def leaveEvent(self, event: QEvent) -> None:  # noqa: N802
        self._leave()

    def _leave(self) -> None:
        if self._hand is None:
            self._last_at = QPointF(-1, -1)
            if self.ring is not None:
                self.ring = None
                self.repaint_over()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        held = self._held_by(event)
        if held:
            self.held_key = held
        elif event.key() == Qt.Key.Key_Escape and self._hand is not None:
            self.cancel_hand()
        elif event.key() == Qt.Key.Key_Escape and self.comparing:
            self.stop_compare()
        elif event.key() == Qt.Key.Key_Escape and self.mode is not None:
            self.take_mode(None)
        elif self.mode is not None and self._hand is None and self.mode.pressed_key(event.key()):
            pass
        else:
            super().keyPressEvent(event)
        self.hover_again()

    def keyReleaseEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        if self._held_by(event) and not event.isAutoRepeat():
            self.held_key = ""
        super().keyReleaseEvent(event)
        self.hover_again()

    def _held_by(self, event: QKeyEvent) -> str:
        """What a key does while it is held, or ""."""
        if event.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier):
            return ""
        key = QKeySequence(event.key()).toString(QKeySequence.SequenceFormat.PortableText)
        for name, wanted in self.studio.preferences.held_keys.items():
            if key and key == wanted:
                return name
        return ""

    def focusOutEvent(self, event: QFocusEvent) -> None:  # noqa: N802
        self.held_key = ""
        super().focusOutEvent(event)
