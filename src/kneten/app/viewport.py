"""The viewport: the picture, the pointer, and the hand that is at work."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Iterator
from dataclasses import replace
from typing import TYPE_CHECKING

import moderngl
import numpy as np
from PySide6.QtCore import QEvent, QPointF, Qt, QTimer, Signal
from PySide6.QtGui import (
    QColor,
    QHoverEvent,
    QInputDevice,
    QKeyEvent,
    QMouseEvent,
    QNativeGestureEvent,
    QPainter,
    QPointingDevice,
    QTabletEvent,
    QWheelEvent,
)
from PySide6.QtOpenGLWidgets import QOpenGLWidget

from kneten.app import hands
from kneten.app.cursor import Ring, paint_ring
from kneten.app.handles import Handles
from kneten.app.hands import BUSY, Aim, Hand, Pointer
from kneten.core.arrays import F64
from kneten.core.camera import Camera
from kneten.core.picking import pick
from kneten.core.stroke import Stroke
from kneten.core.transform import Transform
from kneten.document.scene import Part, Scene
from kneten.render.renderer import KILN, Ground, Rect, Renderer, screen_rect

if TYPE_CHECKING:
    from kneten.app.studio import Studio

BUDGET = 0.02
"""Seconds a hand may work before the window is painted and looks for input again."""

SETTLE = 140
"""Milliseconds after the last camera move until the full picture is drawn."""

LARGE = 400_000
"""Visible triangles from which on a full picture is drawn in steps."""


def _reset_for_painter(view: QOpenGLWidget) -> None:
    """Put back the state that Qt's painter takes for granted and the renderer has changed."""
    gl = view.context().functions()
    for switch in (0x0C11, 0x0B71, 0x0B44, 0x0BE2, 0x0B90):  # scissor, depth, cull, blend, stencil
        gl.glDisable(switch)
    gl.glUseProgram(0)
    gl.glActiveTexture(0x84C0)
    # An index buffer unbound while a part's vertex array is bound would be torn out of that array.
    view.context().extraFunctions().glBindVertexArray(0)
    gl.glBindBuffer(0x8892, 0)
    gl.glColorMask(True, True, True, True)
    gl.glDepthMask(True)


class Viewport(QOpenGLWidget):
    """Shows the scene and passes pointers to hands.

    Signals
    -------
    drawn()
        After each painted frame.
    """

    drawn = Signal()

    def __init__(self, studio: Studio) -> None:
        super().__init__()
        self.studio = studio
        self.ground: Ground = KILN
        self.ring_colour = QColor("#7FB8A4")
        self.preview: tuple[str, Transform] | None = None
        self.ring: Ring | None = None
        self.handles = Handles(self)
        self.renderer: Renderer | None = None
        self.failed = ""
        self._rects: list[Rect] = []
        self._everything = True
        self._moving = False
        self._steps: Iterator[None] | None = None
        self._hand: Hand | None = None
        self._queue: deque[Pointer] = deque()
        self._busy = False
        self._deadline = 0.0
        self._space = False
        self._last_at = QPointF(-1, -1)
        self._settle = QTimer(self)
        self._settle.setSingleShot(True)
        self._settle.setInterval(SETTLE)
        self._settle.timeout.connect(self.refresh)
        self.setMouseTracking(True)
        self.setTabletTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAttribute(Qt.WidgetAttribute.WA_AcceptTouchEvents, False)
        self.setMinimumSize(320, 240)
        self.setAccessibleName("Viewport")
        self.setAccessibleDescription("The clay. Drag on it to sculpt, beside it to turn.")

    # -- camera ---------------------------------------------------------------------------------

    @property
    def camera(self) -> Camera:
        return self.studio.project.settings.camera

    def set_camera(self, camera: Camera) -> None:
        """Look from elsewhere; the full picture follows when the camera rests."""
        self.studio.project.settings.camera = camera
        self.moved()

    def moved(self) -> None:
        """Something large moves: draw fast now, fully once it rests."""
        self._moving = True
        self._everything = True
        self._steps = None
        self._settle.start()
        self.update()

    def refresh(self) -> None:
        """Draw everything anew."""
        self._moving = False
        self._everything = True
        self._steps = None
        self.update()

    def refresh_clay(self) -> None:
        """Draw anew after strokes, undo or redo; nothing when the picture has followed already."""
        parts = self.studio.project.scene.parts
        if any(p.mesh.is_dirty for p in parts if p.visible):
            self.refresh()
        else:
            self.update()

    def scene(self) -> Scene:
        """The scene as it is to be drawn, with what is being dragged in its new place."""
        scene = self.studio.project.scene
        if self.preview is not None:
            part = scene.part(self.preview[0])
            scene = scene.with_part(replace(part, transform=self.preview[1]))
        return scene

    def part_at(self, x: float, y: float) -> tuple[Part, F64, float] | None:
        """The visible part at a pixel, the point on it in the scene, and the edge length there."""
        origin, way = self.camera.ray(x, y, self.width(), self.height())
        best = None
        nearest = np.inf
        for part in self.studio.project.scene.parts:
            if not part.visible:
                continue
            place = part.transform
            hit = pick(part.mesh, place.to_part(origin[None])[0], place.way_to_part(way))
            if hit is not None and hit.distance * place.scale < nearest:
                nearest = hit.distance * place.scale
                best = (part, origin + way * nearest, hit.edge * place.scale)
        return best

    def point_under(self, x: float, y: float) -> F64:
        """The clay under a pixel; beside the clay, the place at the depth of the scene's middle."""
        found = self.part_at(x, y) if self.studio.ready else None
        if found is not None:
            return found[1]
        low, high = self.studio.project.scene.bounds()
        origin, way = self.camera.ray(x, y, self.width(), self.height())
        back = self.camera.axes()[2]
        depth = float((origin - (low + high) / 2) @ back)
        return origin + way * (depth / max(float(-way @ back), 1e-6))

    # -- picture --------------------------------------------------------------------------------

    def initializeGL(self) -> None:  # noqa: N802
        # Also called when Qt had to make a new context: what was drawn with the old one is gone.
        self._steps = None
        self._everything = True
        try:
            context = moderngl.create_context(require=330)
            self.renderer = Renderer(context)
        except Exception as error:  # the driver's own words are all there is
            self.failed = f"OpenGL 3.3 is needed for the viewport: {error}"

    def resizeGL(self, width: int, height: int) -> None:  # noqa: N802
        self._everything = True

    def paintGL(self) -> None:  # noqa: N802
        renderer = self.renderer
        if renderer is None:
            return
        ratio = self.devicePixelRatioF()
        size = (max(round(self.width() * ratio), 1), max(round(self.height() * ratio), 1))
        renderer.resize(*size, ratio)
        scene = self.scene()
        if self._everything:
            self._everything = False
            self._rects.clear()
            if self._moving:
                renderer.draw(scene, self.camera, self.ground, moving=True)
            else:
                self._steps = renderer.draw_in_steps(scene, self.camera, self.ground)
                triangles = sum(p.mesh.topology.n_triangles for p in scene.parts if p.visible)
                if triangles < LARGE:
                    self.finish_picture()
        elif self._rects:
            self.finish_picture()
            renderer.draw(scene, self.camera, self.ground, self._rects)
            self._rects.clear()
        if self._steps is not None:
            if next(self._steps, "done") == "done":
                self._steps = None
            else:
                QTimer.singleShot(0, self.update)
        target = renderer.ctx.detect_framebuffer(self.defaultFramebufferObject())
        renderer.present(target)
        target.use()
        _reset_for_painter(self)
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_over(painter)
        painter.end()
        self.drawn.emit()

    def finish_picture(self) -> None:
        """Draw what is left of a picture that is drawn in steps."""
        if self._steps is not None:
            for _ in self._steps:
                pass
            self._steps = None

    def _paint_over(self, painter: QPainter) -> None:
        studio = self.studio
        part = studio.project.active
        if part is None or not part.visible:
            return
        if self.handles.mode:
            if self.preview is not None and self.preview[0] == part.id:
                part = replace(part, transform=self.preview[1])
            self.handles.paint(painter, part)
        elif self.ring is not None:
            paint_ring(
                painter,
                self.ring,
                part.transform,
                self.camera,
                self.width(),
                self.height(),
                studio.held()[1],
                studio.project.settings.symmetry,
                self.ring_colour,
            )

    def stroke_moved(self, stroke: Stroke, part: Part) -> None:
        """Have the picture follow what a stroke did since the last call."""
        ratio = self.devicePixelRatioF()
        width, height = round(self.width() * ratio), round(self.height() * ratio)
        for box in stroke.boxes:
            rect = screen_rect(self.camera, part, box, width, height)
            if rect is not None:
                self._rects.append(rect)
        stroke.boxes.clear()
        self.update()

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
        self._hand = hand
        self._busy = True
        self._pump()

    def feed(self, event: Pointer) -> None:
        """Pass an event to the hand at work."""
        if self._hand is None:
            return
        if event.kind == "cancel":
            self._queue.clear()
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
                return
            if self.over_budget() and (self._busy or self._queue):
                QTimer.singleShot(0, self._pump)
                return

    def cancel_hand(self) -> None:
        """Break off what the pointer is doing; a stroke is taken back."""
        if self._hand is not None:
            self._hand.close()
            self._hand = None
            self._busy = False
            self._queue.clear()
            self.preview = None
            self.refresh()

    def _hand_for(self, press: Pointer, button: Qt.MouseButton, keys: Qt.KeyboardModifier) -> Hand | None:
        alt = bool(keys & Qt.KeyboardModifier.AltModifier)
        ctrl = bool(keys & Qt.KeyboardModifier.ControlModifier)
        if self._space or (button == Qt.MouseButton.MiddleButton):
            return hands.pan(self, press)
        if button == Qt.MouseButton.RightButton or alt:
            return hands.zoom(self, press) if ctrl else hands.turn(self, press)
        if button != Qt.MouseButton.LeftButton or not self.studio.ready:
            return None
        active = self.studio.project.active
        if self.handles.mode and active is not None and active.visible:
            handle = self.handles.under(active, press.x, press.y)
            if handle >= 0:
                return self.handles.drag(active, handle, press)
        found = self.part_at(press.x, press.y)
        if found is None:
            return hands.turn(self, press)
        part = found[0]
        if part is not active or self.handles.mode:
            return hands.choose(self, part)
        blocked = self.studio.stroke_blocked(part)
        if blocked:
            self.studio.say(blocked, "warning")
            return None
        tool, settings = self.studio.held(keys)
        make = hands.pull if tool.holds else hands.sculpt
        return make(self, press, part, tool, settings)

    def _press(self, press: Pointer, button: Qt.MouseButton, keys: Qt.KeyboardModifier) -> None:
        if self._hand is not None:
            return
        hand = self._hand_for(press, button, keys)
        if hand is not None:
            self.take_hand(hand)

    def _hover(self, at: QPointF) -> None:
        """Put the ring where the brush would touch."""
        self._last_at = at
        ring = None
        part = self.studio.project.active
        if self.handles.mode:
            hot = self.handles.under(part, at.x(), at.y()) if part is not None else -1
            if hot != self.handles.hot:
                self.handles.hot = hot
                self.update()
        elif part is not None and part.visible and self.studio.ready:
            settings = self.studio.held()[1]
            found = self._ring_hit(part, at)
            if found is not None:
                aim = Aim(self, part, replace(settings, pressure_size=False))
                point = part.transform.to_scene(found.point[None])[0]
                ring = Ring(found.point, found.normal, aim.radius(point), found.edge)
        if ring is not self.ring:
            self.ring = ring
            self.setCursor(Qt.CursorShape.BlankCursor if ring is not None else Qt.CursorShape.ArrowCursor)
            self.update()

    def _ring_hit(self, part: Part, at: QPointF):  # type: ignore[no-untyped-def]
        origin, way = self.camera.ray(at.x(), at.y(), self.width(), self.height())
        place = part.transform
        return pick(part.mesh, place.to_part(origin[None])[0], place.way_to_part(way))

    def hover_again(self) -> None:
        """Renew the ring after the tool, its size or the clay changed."""
        if self._last_at.x() >= 0 and self._hand is None:
            self._hover(self._last_at)
            self.update()

    # -- events ---------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self.setFocus()
        at = event.position()
        self._press(Pointer("press", at.x(), at.y()), event.button(), event.modifiers())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        at = event.position()
        if self._hand is not None:
            self.feed(Pointer("move", at.x(), at.y()))
        if self._hand is None or self.handles.mode == "":
            self._hover(at)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        at = event.position()
        self.feed(Pointer("release", at.x(), at.y()))
        self._hover(at)

    def tabletEvent(self, event: QTabletEvent) -> None:  # noqa: N802
        at = event.position()
        pressure = event.pressure() if event.pressure() > 0 else 0.0
        kind = event.type()
        if kind == QEvent.Type.TabletPress:
            self.setFocus()
            keys = event.modifiers()
            if event.pointerType() == QPointingDevice.PointerType.Eraser:
                keys ^= Qt.KeyboardModifier.ControlModifier
            self._press(Pointer("press", at.x(), at.y(), pressure), event.button(), keys)
        elif kind == QEvent.Type.TabletMove:
            if self._hand is not None:
                self.feed(Pointer("move", at.x(), at.y(), pressure))
            self._hover(at)
        elif kind == QEvent.Type.TabletRelease:
            # Pens let go with falling pressure; the last whole touch ends the stroke.
            self.feed(Pointer("release", at.x(), at.y(), pressure))
        event.accept()

    def wheelEvent(self, event: QWheelEvent) -> None:  # noqa: N802
        at = event.position()
        pivot = self.point_under(at.x(), at.y())
        pad = event.device().type() == QInputDevice.DeviceType.TouchPad
        steps = event.angleDelta()
        ctrl = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if pad and not ctrl:
            move = event.pixelDelta() if not event.pixelDelta().isNull() else steps / 4
            if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                self.set_camera(self.camera.panned(move.x(), move.y(), self.height(), pivot))
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
            at = event.position()
            pivot = self.point_under(at.x(), at.y())
            if event.gestureType() == Qt.NativeGestureType.ZoomNativeGesture:
                self.set_camera(self.camera.zoomed(1 / max(1 + event.value(), 0.1), pivot))
                return True
            if event.gestureType() == Qt.NativeGestureType.PanNativeGesture:
                way = event.delta()
                self.set_camera(self.camera.panned(way.x(), way.y(), self.height(), pivot))
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
                self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        if event.key() == Qt.Key.Key_Space:
            self._space = True
        elif event.key() == Qt.Key.Key_Escape and self._hand is not None:
            self.cancel_hand()
        else:
            super().keyPressEvent(event)
        self.hover_again()

    def keyReleaseEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        if event.key() == Qt.Key.Key_Space and not event.isAutoRepeat():
            self._space = False
        super().keyReleaseEvent(event)
        self.hover_again()

    def focusOutEvent(self, event: QEvent) -> None:  # noqa: N802
        self._space = False
        super().focusOutEvent(event)
