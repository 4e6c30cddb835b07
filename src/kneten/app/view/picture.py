"""The pictures of the viewport: panes, cameras, drawing in short steps."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

import moderngl
import numpy as np
from PySide6.QtCore import QPointF, QTimer, Signal
from PySide6.QtGui import QColor, QPainter, QShowEvent
from PySide6.QtOpenGLWidgets import QOpenGLWidget

from kneten.app.view.canvas import Canvas
from kneten.app.view.panes import FOUR, Pane, side_camera
from kneten.core.arrays import F32, F64
from kneten.core.camera import Camera
from kneten.core.light.finish import Finish
from kneten.core.stroke import Stroke
from kneten.document.picturing import finish_of, table_of
from kneten.document.scene import Part, Scene
from kneten.render.laid import Sheets
from kneten.render.parts import Shelf
from kneten.render.programs import Programs
from kneten.render.renderer import Renderer
from kneten.render.style import ALL_EFFECTS, KILN, Ground, Style

if TYPE_CHECKING:
    from kneten.app.work.studio import Studio

STEP = 0.015
"""Seconds a picture is drawn at a time; the window looks for input in between."""

SHADOWS = 600
"""Milliseconds after a stroke until shadows fall anew: as long as another stroke may follow, its picture comes first."""

SETTLE = 140
"""Milliseconds after the last camera move until the full picture is drawn."""

BLINK = 600
"""Milliseconds that each of two compared states is shown."""

FLIGHT = 0.24
"""Seconds a smooth move of the camera takes."""

SQUINT = 14.0
"""Pixels that run together as seen with half-closed eyes."""

SLOW_LIGHT = 0.6
"""Seconds for a million lit pixels beyond which effects are left out: 40 ms for the field of a brush."""


def reset_for_painter(view: QOpenGLWidget) -> None:
    """Put back the state that Qt's painter takes for granted and the renderer has changed."""
    gl = view.context().functions()
    for switch in (0x0C11, 0x0B71, 0x0B44, 0x0BE2, 0x0B90):  # scissor, depth, cull, blend, stencil
        gl.glDisable(switch)
    gl.glUseProgram(0)
    gl.glActiveTexture(0x84C0)
    # An index buffer unbound while a part's vertex array is bound would be torn out of that array.
    view.context().extraFunctions().glBindVertexArray(0)
    gl.glBindBuffer(0x8892, 0)
    # Letters are uploaded row by row, four bytes a step.
    gl.glPixelStorei(0x0CF5, 4)
    gl.glColorMask(True, True, True, True)
    gl.glDepthMask(True)


class PictureView(Canvas):
    """Shows the scene in one pane or several; what is painted over it is its heirs' affair.

    Signals
    -------
    drawn()
        After each painted frame.
    camera_changed()
        The main camera looks from elsewhere.
    effects_changed()
        The machine can do more or less than was thought, or effects rest while something moves.
    """

    drawn = Signal()
    camera_changed = Signal()
    effects_changed = Signal()

    def __init__(self, studio: Studio) -> None:
        super().__init__()
        self.studio = studio
        self.ground: Ground = KILN
        self.panes: list[Pane] = []
        self.pane_index = 0
        self.four = False
        self.mirrored = False
        self.squint = False
        self.then: Pane | None = None
        self.compare_mode = ""
        self.compared = ""
        self.wipe = 0.5
        self.shows_then = False
        self.distances: dict[str, F32] = {}
        self.laid: dict[str, Sheets] = {}
        self.distance_legend: tuple[str, str, str, str] | None = None
        self.distance_range = 1.0
        self._blink = QTimer(self)
        self._blink.setInterval(BLINK)
        self._blink.timeout.connect(self.blink)
        self.unfinished = False
        self.effects = ALL_EFFECTS
        self.effects_rest = False
        self._dearer = 0
        self._slow = 0
        self.last_touched: tuple[str, F64, F64] | None = None
        self.failed = ""
        self._shelf: Shelf | None = None
        self._told: set[str] = set()
        self._programs: Programs | None = None
        self._flight: tuple[Camera, Camera, float] | None = None
        self._flying = QTimer(self)
        self._flying.setInterval(12)
        self._flying.timeout.connect(self._fly_on)
        self._settle = QTimer(self)
        self._settle.setSingleShot(True)
        self._settle.setInterval(SETTLE)
        self._settle.timeout.connect(self._settled)
        self._shadows = QTimer(self, singleShot=True, interval=SHADOWS)
        self._shadows.timeout.connect(self.refresh)
        self._shadows_old = False
        self._more = QTimer(self)
        self._more.setSingleShot(True)
        self._more.setInterval(0)
        self._more.timeout.connect(self._continue)
        self.setMinimumSize(320, 240)

    def _scene(self) -> Scene:
        """The scene as it is to be drawn."""
        return self.studio.project.scene

    def _paint_over(self, painter: QPainter) -> None:
        """Paint what lies over the pictures."""

    def _behind(self) -> Callable[[QPainter], None] | None:
        """What paints behind the clay, or None when nothing does."""
        return None

    def _busy_pointing(self) -> bool:
        """Whether the pane in use must stay the same."""
        return False

    # -- panes and camera -----------------------------------------------------------------------

    @property
    def pane(self) -> Pane | None:
        """The pane the pointer is or was in; pointer positions are pixels of it."""
        return self.panes[self.pane_index] if self.pane_index < len(self.panes) else None

    @property
    def main(self) -> Pane | None:
        """The pane that shows the project's own camera."""
        return next((pane for pane in self.panes if pane.name == "main"), None)

    @property
    def renderer(self) -> Renderer | None:
        """What draws the main picture."""
        main = self.main
        return main.renderer if main is not None else None

    @property
    def wide(self) -> int:
        """Width of the pane in use."""
        return self.pane.wide if self.pane is not None else self.width()

    @property
    def high(self) -> int:
        """Height of the pane in use."""
        return self.pane.high if self.pane is not None else self.height()

    @property
    def camera(self) -> Camera:
        """The camera of the pane in use."""
        pane = self.pane
        if pane is None or pane.name == "main":
            return self.studio.project.settings.camera
        return pane.camera

    def set_camera(self, camera: Camera) -> None:
        """Look from elsewhere; the full picture follows when the camera rests."""
        pane = self.pane
        self._land()
        if pane is None or pane.name == "main":
            self.set_main(camera)
        else:
            pane.camera = camera
            self._moved(pane)

    def set_main(self, camera: Camera) -> None:
        """Have the main camera look from elsewhere."""
        self.studio.project.try_settings(camera=camera)
        self.camera_changed.emit()
        main = self.main
        if main is not None:
            main.camera = camera
            self._moved(main)
        if self.then is not None:
            self._moved(self.then)

    def fly(self, camera: Camera) -> None:
        """Move the main camera there, smoothly unless the user wants no motion."""
        if self.studio.preferences.still or not self.isVisible():
            self._land()
            self.set_main(camera)
            return
        self._flight = (self.studio.project.settings.camera, camera, time.perf_counter())
        self._flying.start()

    def _fly_on(self) -> None:
        if self._flight is None:
            return
        start, goal, begun = self._flight
        t = min((time.perf_counter() - begun) / FLIGHT, 1.0)
        if t >= 1.0:
            self._land()
        self.set_main(start.between(goal, t * t * (3 - 2 * t)))

    def _land(self) -> None:
        self._flight = None
        self._flying.stop()

    @property
    def flying(self) -> bool:
        """Whether the camera is on its way."""
        return self._flight is not None

    def set_four(self, four: bool) -> None:
        """Show four views at once, or one."""
        self.four = four
        main = self.studio.project.settings.camera
        keep = {pane.name: pane for pane in self.panes}
        self.panes = []
        for name in FOUR if four else ("main",):
            camera = main if name == "main" else side_camera(main, name)
            if name in keep:
                self.panes.append(keep[name])
            elif self._shelf is not None:
                renderer = Renderer(self._shelf.ctx, self._shelf, self._programs)
                self.panes.append(Pane(name, renderer, camera))
        self.pane_index = [pane.name for pane in self.panes].index("main") if self.panes else 0
        if self._shelf is not None:
            self.makeCurrent()
            for pane in keep.values():
                if pane not in self.panes:
                    pane.renderer.release()
            self.doneCurrent()
        self.refresh()
        self.update()

    def _lay_out(self) -> bool:
        """Place the panes; whether any has a new size."""
        ratio = self.devicePixelRatioF()
        width, height = self.width(), self.height()
        if self.then is not None and self.compare_mode == "side":
            left = width // 2
            new = self.then.place(0, 0, left - 1, height, ratio)
            return self.panes[0].place(left + 1, 0, width - left - 1, height, ratio) or new
        if self.then is not None:
            new = self.then.place(0, 0, width, height, ratio)
            return self.panes[0].place(0, 0, width, height, ratio) or new
        if len(self.panes) == 1:
            return self.panes[0].place(0, 0, width, height, ratio)
        left, upper = width // 2, height // 2
        gap = 1
        places = (
            (0, 0, left - gap, upper - gap),
            (left + gap, 0, width - left - gap, upper - gap),
            (0, upper + gap, left - gap, height - upper - gap),
            (left + gap, upper + gap, width - left - gap, height - upper - gap),
        )
        # All are placed, also after one that is new.
        fresh = [pane.place(*at, ratio) for pane, at in zip(self.panes, places, strict=True)]
        return any(fresh)

    def local(self, at: QPointF, choose: bool = True) -> tuple[float, float]:
        """A position in the viewport as pixels of its pane, which becomes the pane in use."""
        if choose and not self._busy_pointing():
            for i, pane in enumerate(self.panes):
                if pane.holds(at.x(), at.y()):
                    self.pane_index = i
        used = self.pane
        if used is None:
            return at.x(), at.y()
        x = at.x() - used.x
        return (used.wide - x if self.mirrored else x), at.y() - used.y

    # -- comparing ------------------------------------------------------------------------------

    def start_compare(self, scene: Scene, name: str, mode: str) -> None:
        """Show another scene beside or over the present one.

        Parameters
        ----------
        name : str
            What it is called.
        mode : str
            wipe, blink or side.
        """
        self.stop_compare()
        if self._shelf is None:
            return
        if self.four:
            self.set_four(False)
        self.makeCurrent()
        renderer = Renderer(self._shelf.ctx, Shelf(self._shelf.ctx, patient=True), self._programs)
        self.then = Pane("then", renderer, self.studio.project.settings.camera)
        self.then.scene = scene
        self.compare_mode, self.compared = mode, name
        self.shows_then = mode == "blink"
        if mode == "blink" and not self.studio.preferences.still:
            self._blink.start()
        self.doneCurrent()
        self.refresh()
        self.update()

    def show_distances(
        self, distances: dict[str, F32], range_: float, legend: tuple[str, str, str, str] | None = None
    ) -> None:
        """Colour the parts by values 0..1 of their vertices.

        `range_` is what 1 stands for, in mm, -1 times that what 0 does; unless a `legend` says what is shown, and what
        0, a half and 1 stand for.
        """
        self.stop_compare()
        self.distances, self.distance_range, self.distance_legend = distances, range_, legend
        self.refresh()

    def show_laid(self, laid: dict[str, Sheets]) -> None:
        """Show parts by their UVs; by none of them from now on where it is empty."""
        if laid or self.laid:
            self.laid = laid
            self.refresh()

    @property
    def comparing(self) -> bool:
        """Whether the present is compared with something."""
        return self.then is not None or bool(self.distances)

    def wipe_x(self) -> float:
        """Where the edge between then and now stands, in pixels of the viewport."""
        return self.width() * (1 - self.wipe if self.mirrored else self.wipe)

    def stop_compare(self) -> None:
        """Show the present alone again."""
        self._blink.stop()
        then, self.then = self.then, None
        self.compare_mode = ""
        if then is not None:
            self.makeCurrent()
            then.renderer.release()
            then.renderer.shelf.release()
            self.doneCurrent()
            self.refresh()
        if self.distances:
            self.distances = {}
            self.refresh()
        self.update()

    def blink(self) -> None:
        """Exchange what is shown while blinking."""
        self.shows_then = not self.shows_then
        self.update()

    def _present_then(self, target: moderngl.Framebuffer, ratio: float, full: int) -> None:
        then = self.then
        assert then is not None
        share = (0.0, 1.0)
        if self.compare_mode == "wipe":
            share = (0.0, self.wipe)
        elif self.compare_mode == "blink" and not self.shows_then:
            return
        at = (round(then.x * ratio), full - round(then.y * ratio) - then.renderer.size[1])
        then.renderer.present(target, at, self.mirrored, SQUINT if self.squint else 0.0, share)

    def moved(self) -> None:
        """Something large moves: draw fast now, fully once it rests."""
        for pane in self.pictures:
            self._moved(pane)

    def _moved(self, pane: Pane) -> None:
        pane.move()
        self._settle.start()
        self._more.start()
        self._note_rest(self.studio.project.settings.look.kind == "lit")

    def _note_rest(self, rest: bool) -> None:
        """Tell when shadows and what takes long of a finish rest, and when they are back."""
        if rest != self.effects_rest:
            self.effects_rest = rest
            self.effects_changed.emit()

    def refresh(self) -> None:
        """Draw everything anew."""
        self._shadows_old = False
        self._shadows.stop()
        for pane in self.pictures:
            pane.refresh()
        self._more.start()
        self._note_rest(False)

    @property
    def pictures(self) -> list[Pane]:
        """All panes, with the one that shows what is compared."""
        return [*self.panes, self.then] if self.then is not None else self.panes

    def _settled(self) -> None:
        for pane in self.pictures:
            if pane.moving:
                pane.refresh()
        self._more.start()
        self._note_rest(False)

    def repaint_over(self) -> None:
        """Paint the ring and the handles anew; a picture that is being drawn brings them along."""
        if not self._more.isActive():
            self.update()

    def refresh_clay(self) -> None:
        """Draw anew after strokes, undo or redo, where the clay has changed; nothing when the picture has followed."""
        parts = [part for part in self.studio.project.scene.parts if part.visible]
        look = self.studio.project.settings.look
        moved = {part.mesh_id: (part.mesh.is_outdated, part.mesh.take_moved()) for part in parts}
        outdated = [part for part in parts if moved[part.mesh_id][0]]
        if look.casts_shadow or look.floor or any(moved[part.mesh_id][1] is None for part in outdated):
            # Shadows fall elsewhere; or nobody knows where it has changed.
            self.refresh()
            return
        for pane in self.panes:
            for part in outdated:
                boxes = moved[part.mesh_id][1]
                assert boxes is not None
                pane.clay_moved(part, boxes)
        if outdated:
            self._more.start()
        else:
            self.repaint_over()

    @property
    def resting(self) -> bool:
        """Whether all pictures are complete and nothing moves."""
        still = not any(pane.outdated or pane.moving for pane in self.pictures)
        waits = self.flying or self._settle.isActive() or self._shadows.isActive()
        return bool(self.panes) and still and not waits

    def fall_anew(self) -> None:
        """A stroke has ended, whose pictures kept the shadows as they were: they fall anew once the hand rests."""
        look = self.studio.project.settings.look
        if self._shadows_old and (look.casts_shadow or look.floor):
            self._shadows.start()

    def picture_style(self) -> Style:
        """How the panes are drawn."""
        settings, scene = self.studio.project.settings, self._scene()
        finish = Finish() if self.unfinished else finish_of(scene, settings.through)
        return Style(
            self.ground,
            settings.look,
            self.studio.project.active_id,
            self.effects,
            settings.matcaps,
            clear_ground=self._behind() is not None,
            distances=self.distances,
            laid=self.laid,
            finish=finish,
            table=table_of(scene, finish),
        )

    # -- picture --------------------------------------------------------------------------------

    def initializeGL(self) -> None:  # noqa: N802
        # Also called when Qt had to make a new context: what was drawn with the old one is gone.
        try:
            context = moderngl.create_context(require=330)
            self._shelf = Shelf(context, patient=True)
            self._programs = Programs(context)
            self.panes = []
            self.set_four(self.four)
        except Exception as error:  # the driver's own words are all there is
            self.failed = f"OpenGL 3.3 is needed for the viewport: {error}"

    def give_back(self) -> None:
        """Give all graphics memory back: the window closes. Contexts that share would keep it."""
        if not self.panes:
            return
        self.makeCurrent()
        for pane in self.pictures:
            pane.steps = None
            pane.renderer.release()
        self.panes, self.then = [], None
        if self._shelf is not None:
            self._shelf.release()
        if self._programs is not None:
            self._programs.release()
        self._shelf = self._programs = None
        self.doneCurrent()

    def showEvent(self, event: QShowEvent) -> None:  # noqa: N802
        super().showEvent(event)
        # What was asked for while nothing could be drawn would never come else: what is shown again is not painted again.
        self._more.start()

    def paintGL(self) -> None:  # noqa: N802
        if not self.panes:
            return
        if self._lay_out():
            # Something to see at once, and all of it when the window's size has settled.
            self.moved()
        if not all(pane.renderer.has_picture for pane in self.pictures):
            self._draw_on()
        context = self.panes[0].renderer.ctx
        target = context.detect_framebuffer(self.defaultFramebufferObject())
        if len(self.panes) > 1 or self.compare_mode == "side":
            target.use()
            target.scissor = None  # type: ignore[assignment]  # moderngl's stubs leave the None out
            target.clear(*self.ground.line, viewport=(0, 0, *target.size))
        ratio = self.devicePixelRatioF()
        full = round(self.height() * ratio)
        behind = self._behind()
        if behind is not None:
            reset_for_painter(self)
            painter = QPainter(self)
            try:
                painter.fillRect(self.rect(), QColor.fromRgbF(*self.ground.middle))
                behind(painter)
            finally:
                painter.end()
            target.use()
        for pane in self.panes:
            at = (round(pane.x * ratio), full - round(pane.y * ratio) - pane.renderer.size[1])
            squint = SQUINT if self.squint else 0.0
            pane.renderer.present(target, at, self.mirrored, squint, over=behind is not None)
        if self.then is not None:
            self._present_then(target, ratio, full)
        target.use()
        reset_for_painter(self)
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        try:
            self._paint_over(painter)
        finally:
            # A painter that outlives its event takes the process down.
            painter.end()
        self.drawn.emit()

    def _draw_on(self) -> bool:
        """Work on the pictures for a moment; whether a new one is complete. The rest follows by itself."""
        until = time.perf_counter() + STEP
        scene, style = self._scene(), self.picture_style()
        complete = False
        # The pane in use first.
        order = [*self.pictures[self.pane_index :], *self.pictures[: self.pane_index]]
        for pane in order:
            if pane.outdated:
                if pane.name in ("main", "then"):
                    pane.camera = self.studio.project.settings.camera
                there = style if pane.scene is None else replace(style, distances={}, laid={}, active=None)
                complete |= pane.draw_on(pane.scene or scene, there, until)
                if pane.steps is not None or time.perf_counter() > until:
                    break
        if self._shelf is not None:
            for mesh_id in self._shelf.broken.keys() - self._told:
                names = [part.name for part in scene.parts if part.mesh_id == mesh_id]
                self._told.add(mesh_id)
                self.studio.broke(f"Drawing {' and '.join(names)}", self._shelf.broken[mesh_id][1])
        if any(pane.outdated for pane in self.pictures):
            self._more.start()
        elif complete:
            self._weigh_effects()
        return complete

    def _weigh_effects(self) -> None:
        """Leave out what this machine is too slow for, or take it up again."""
        wanted = self.studio.preferences.effects
        if wanted >= 0:
            effects = wanted
        else:
            cost = max((pane.renderer.light_cost for pane in self.panes), default=0.0)
            effects = self.effects
            # One slow picture may be another program's fault.
            self._slow = self._slow + 1 if cost > SLOW_LIGHT else 0
            if self._slow >= 3 and effects > 1:
                effects -= 1
                self._slow = 0
            elif 0 < cost < SLOW_LIGHT / 5 and effects < ALL_EFFECTS and self._dearer < 2:
                # Two tries are enough to know that more is too much here.
                effects += 1
                self._dearer += 1
        if effects != self.effects:
            self.effects = effects
            for pane in self.panes:
                pane.renderer.light_cost = 0.0
            self.refresh()
            self.effects_changed.emit()

    def set_effects(self, wanted: int) -> None:
        """Draw with a level of effort, or (-1) with what the machine can do."""
        self.studio.preferences.effects = wanted
        self._dearer = 0
        if wanted < 0:
            self.effects = ALL_EFFECTS
            self.refresh()
        self._weigh_effects()
        self.effects_changed.emit()

    def _continue(self) -> None:
        """Draw on outside of painting: what is shown changes only when a picture is complete."""
        if not self.panes or not self.isVisible():
            return
        self.makeCurrent()
        # A pane that has come since the window was last painted has no place yet.
        self._lay_out()
        complete = self._draw_on()
        self.doneCurrent()
        if complete:
            self.update()

    def stroke_moved(self, stroke: Stroke, part: Part) -> None:
        """Have the pictures follow what a stroke did since the last call."""
        for pane in self.panes:
            pane.stroke_moved(stroke, part)
        if stroke.boxes:
            low = np.min([box[:3] for box in stroke.boxes], axis=0)
            high = np.max([box[3:] for box in stroke.boxes], axis=0)
            self.last_touched = (part.id, low.astype(np.float64), high.astype(np.float64))
            self._shadows_old = True
        stroke.boxes.clear()
        part.mesh.take_moved()  # The stroke's own boxes have told it.
        self._more.start()
