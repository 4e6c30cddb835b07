"""Draws a scene: geometry to normals and colours, light on these, lines over them, edges polished.

The picture is kept. A stroke redraws only the rectangles it changed, and only the patches that these
rectangles show.
"""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from dataclasses import replace

import moderngl
import numpy as np

from kneten.core.arrays import F32, F64, I32, AnyArray
from kneten.core.camera import Camera
from kneten.core.light.finish import Finish
from kneten.document.scene import Part, Scene
from kneten.render.backdrop import Backdrop
from kneten.render.clear import BEND_MOST, CLEAR_UNIT, SeenThrough, rect_of
from kneten.render.develop import Developer, Negative
from kneten.render.frame import Frame, Window
from kneten.render.fur import STEP_FIBRES, draw_fur, light_of
from kneten.render.geometry import GeometryPicture
from kneten.render.grains import switches
from kneten.render.grounds import (
    floor_rect,
    ground_program,
    has_floor,
    mirrored_in,
    round_length,
    seen_in_mirror,
)
from kneten.render.laid import Sheets, switches_of
from kneten.render.lines import blend, draw_ghosts, draw_wires
from kneten.render.lit import SHADOW_UNIT, Light, LitLight
from kneten.render.matcaps import pixels_of
from kneten.render.parts import CROWD, DrawnMesh, Shelf
from kneten.render.programs import Programs, put
from kneten.render.quick import QuickPicture
from kneten.render.rects import Rect, grown, merged, overlap, tiles
from kneten.render.shadow import DepthMap, floor_sight, lamp_sight
from kneten.render.sheet import Sheet
from kneten.render.style import Style

STEP_TRIANGLES = 45_000
"""Triangles drawn in one step: 10 to 20 ms of software OpenGL."""

STEP_PIXELS = 200_000
"""Pixels lit in one step: about as long."""

MARGIN = 16
"""Pixels around a change whose light it may alter: the reach of creases and cover, at scale 1."""

SHADOW_SIZE = 1024
FLOOR_SIZE = 256

PROGRAM = {
    "clay": 0,
    "matcap": 1,
    "lamp": 2,
    "sky": 3,
    "flat": 4,
    "planes": 5,
    "curvature": 6,
    "stretch": 6,
    "density": 6,
    "regions": 6,
    "contours": 7,
    "silhouette": 8,
    "lit": 9,
    "open": 10,
}
"""Which light of `shade.frag` a look is drawn with."""


MIRRORED = 2048
"""Pixels along a side of what a floor mirrors, at the most."""


class Renderer:
    """Draws into a picture of its own on any OpenGL 3.3 context.

    Parameters
    ----------
    shelf : Shelf, optional
        Where the parts are; one of its own when left out.
    programs : Programs, optional
        The same for shader programs.
    lit_light : LitLight, optional
        The same for lamps' maps and sky tables.

    Attributes
    ----------
    slow : bool
        Whether OpenGL runs in software: steps then wait for their pixels, so that none takes long.
    fine : bool
        Set before the first `resize`: the picture has more than eight bits for each colour.
    spread : moderngl.Texture or None
        What blooms in the whole picture, where only a tile of it is drawn.
    light_cost : float
        Seconds that lighting a million pixels has taken lately; 0 before it was measured.
    """

    def __init__(
        self,
        ctx: moderngl.Context,
        shelf: Shelf | None = None,
        programs: Programs | None = None,
        lit_light: LitLight | None = None,
    ) -> None:
        self.ctx = ctx
        self.shelf = shelf or Shelf(ctx)
        self.programs = programs or Programs(ctx)
        self._own: list[Shelf | Programs | LitLight] = [
            thing for thing, given in ((self.shelf, shelf), (self.programs, programs)) if not given
        ]
        self.slow = any(name in ctx.info["GL_RENDERER"].lower() for name in ("llvmpipe", "softpipe", "swr"))
        self.light_cost = 0.0
        self.size = (0, 0)
        self.scale = 1.0
        self._shown: moderngl.Framebuffer | None = None
        self._squinted: moderngl.Texture | None = None
        self._frame: Frame | None = None
        self._matcap: moderngl.Texture | None = None
        self._matcap_key: object = None
        self._shadow: DepthMap | None = None
        self._floor: DepthMap | None = None
        self._backdrop: Backdrop | None = None
        self._clear: SeenThrough | None = None
        self._half: moderngl.Framebuffer | None = None
        self._quick: QuickPicture | None = None
        self._sheets: dict[bool, Sheet] = {}
        self._developer: Developer | None = None
        self.window = Window.of(1, 1)
        self.fine = False
        self.spread: moderngl.Texture | None = None
        self._lit_light = lit_light or LitLight(ctx)
        if lit_light is None:
            self._own.append(self._lit_light)
        self._mirror: Renderer | None = None

    def resize(self, width: int, height: int, scale: float = 1.0, window: Window | None = None) -> None:
        """Give the picture another size; `scale` is how many pixels make one of an ordinary screen.

        With a `window` of that size only what lies in that is drawn of a larger picture.
        """
        self.scale = scale
        self.window = window or Window.of(width, height)
        if window is not None:
            self._frame = None
        if (width, height) == self.size:
            return
        self._let_go()
        self._frame = None
        self._shown = None
        self.size = (width, height)
        ctx, size = self.ctx, self.size
        self._final = ctx.texture(size, 4, dtype="f2" if self.fine else "f1")
        self._final.repeat_x = self._final.repeat_y = False
        self._geometry = GeometryPicture(ctx, size)
        self.picture = ctx.framebuffer([self._final])
        self._backdrop = Backdrop(ctx, size)

    def _let_go(self) -> None:
        if self._backdrop is not None:
            self._backdrop.release()
        if self._clear is not None:
            self._clear.release()
            self._clear = None
        if self._half is not None:
            for attachment in self._half.color_attachments:
                attachment.release()
            self._half.release()
            self._half = None
        if self._quick is not None:
            self._quick.release()
            self._quick = None
        for sheet in self._sheets.values():
            sheet.release()
        self._sheets = {}
        if self._developer is not None:
            self._developer.release()
            self._developer = None
        if self.size != (0, 0):
            for thing in (self._geometry, self.picture, self._final):
                thing.release()

    def _sheet(self, frame: Frame) -> Sheet:
        """What the picture's light is drawn to: one that holds more than a screen shows where a finish follows."""
        deep = frame.light is not None
        for other, sheet in list(self._sheets.items()):
            # It serves a look that is gone; but what is shown stays until there is another picture.
            if other != deep and sheet.lit is not self._shown:
                self._sheets.pop(other).release()
        if deep not in self._sheets:
            self._sheets[deep] = Sheet(self.ctx, self.size, self._geometry.depths, deep or self.fine)
        return self._sheets[deep]

    def _finisher(self) -> Developer:
        if self._developer is None:
            self._developer = Developer(self.ctx, self.programs, self.size, self.fine)
        if self.spread is not None:
            self._developer.spread = self.spread
        return self._developer

    # -- drawing --------------------------------------------------------------------------------

    def draw(
        self,
        scene: Scene,
        camera: Camera,
        style: Style | None = None,
        rects: Sequence[Rect] | None = None,
        moving: bool = False,
    ) -> None:
        """Bring the picture up to date.

        Parameters
        ----------
        rects : rectangles or None
            Redraw only these; None redraws everything.
        moving : bool
            The camera turns, or parts change: large parts are drawn by their stand-ins, without creases.
        """
        style = style or Style()
        if moving:
            frame = self._draw_moving(scene, camera, style)
            whole = (0, 0, *self.size)
            thin = self._thin(self.shelf.drawable(scene), frame)
            if frame.light is not None and not thin and self._is_quick(scene, frame):
                self._draw_quick(frame)
                return
            self._draw_clear(thin, whole, frame, True)
            self._draw_light(whole, frame, True)
            self._light_clear(whole, frame, True, thin)
            self._draw_over(scene, whole, frame, True)
            if frame.light is None:
                self._shown = self._sheet(frame).lit
            else:
                style = frame.style
                negative = self._negative(scene, frame)
                self._finisher().develop(negative, style.finish, style.table, whole, self.picture, True)
                self._shown = self.picture
            return
        if style.heat:
            self.shelf.sync(scene)
            scene = self.shelf.drawable(scene)
            self.shelf.warm_up(scene, style, np.inf)
        for _ in self.draw_in_steps(scene, camera, style, rects):
            pass

    def _draw_moving(self, scene: Scene, camera: Camera, style: Style) -> Frame:
        """The geometry of one of many pictures; while the camera rests, only parts that change are drawn."""
        assert self._backdrop is not None
        backdrop = self._backdrop
        whole = (0, 0, *self.size)
        self.shelf.sync(scene)
        scene = self.shelf.drawable(scene)
        parts = self._whole(scene, style)
        coarse = sum(self.shelf[part].n_triangles for part in parts) > CROWD
        last = self._frame
        frame = self._begin(scene, camera, style, last is not None and last.camera == camera)
        self._frame = frame
        frame.style = style
        # Depths are kept as the frame has them, so they serve no other.
        resting, changing = backdrop.sort(parts, self.shelf, (frame, style.look, style.active, coarse))
        if style.heat or not resting:
            self._draw_geometry(parts, whole, frame, True, coarse)
            return frame
        lacking = backdrop.put_back(self._geometry, resting, style.materials)
        if lacking is None or lacking:
            self._draw_geometry(
                resting if lacking is None else lacking, whole, frame, True, coarse, over=lacking is not None
            )
            backdrop.keep(self._geometry, resting, style.materials)
        self._draw_geometry(changing, whole, frame, True, coarse, over=True)
        return frame

    def draw_in_steps(
        self,
        scene: Scene,
        camera: Camera,
        style: Style | None = None,
        rects: Sequence[Rect] | None = None,
    ) -> Iterator[None]:
        """The same in steps that take 10 to 30 ms in software.

        Until the last, `present` may show parts of the old picture. The scene and the shelf must not be
        drawn by anyone else in between; what strokes do meanwhile is not seen before the next drawing.
        """
        self.shelf.sync(scene)
        asked, scene = scene, self.shelf.drawable(scene)
        style = style or Style()
        frame = self._begin(scene, camera, style, rects is not None)
        if style.look.wires:
            # Now, while the clay is as it was sent: a stroke may change it before its edges are drawn.
            for part in self._whole(scene, style):
                self.shelf[part].need_edges()
        if rects is not None and frame is not self._frame:
            rects = None
        self._frame = frame
        thin = self._thin(scene, frame)
        width, height = self.size
        if rects is None:
            yield from self._draw_maps(scene, frame)
            yield from self._draw_mirror(asked, frame)
        bends = bool(thin) and frame.light is not None
        margin = int(np.ceil((MARGIN + (BEND_MOST if bends else 0)) * self.scale))
        for rect in [(0, 0, width, height)] if rects is None else merged(rects):
            outer = grown(rect, margin, width, height)
            # What the light reads around the changed rectangle is still there from before.
            inner = grown(rect, 1, width, height)
            for tile in tiles(inner, self._count_triangles(scene, inner, frame) / STEP_TRIANGLES):
                self._draw_geometry(self._drawn(scene, style), tile, frame, False)
                self._draw_clear(thin, tile, frame, False)
                yield from self._stepped()
            spent = 0.0
            lights = list(
                tiles(
                    outer,
                    max(
                        outer[2] * outer[3] / STEP_PIXELS,
                        self._count_fibres(scene, outer, frame) / STEP_FIBRES,
                    ),
                )
            )
            for tile in lights:
                began = time.perf_counter()
                self._draw_light(tile, frame, False)
                if self.slow:
                    self.ctx.finish()
                spent += time.perf_counter() - began
                if not thin:
                    self._draw_over(scene, tile, frame, False)
                yield from self._stepped()
            if thin:
                # One may see through it what lies in another tile.
                if bends and self._clear is not None:
                    self._clear.keep_under(self._sheet(frame), outer)
                for tile in lights:
                    self._light_clear(tile, frame, False, thin)
                    self._draw_over(scene, tile, frame, False)
                    yield from self._stepped()
            if frame.light is not None:
                yield from self._develop(scene, outer, frame, rects is None)
                outer = self._finisher().around(outer, frame.style.finish, self.scale)
            self._draw_polish(grown(outer, 2, width, height), frame)
            yield from self._stepped()
            self._note_cost(spent, overlap(outer, frame.clay))
        self._shown = self.picture

    @property
    def spreading(self) -> moderngl.Texture | None:
        """What blooms in the last whole picture; None where nothing does."""
        return self._developer.spread if self._developer is not None else None

    def margin(self, style: Style, scale: float) -> int:
        """Pixels around a place that look otherwise for it, at a scale; bloom left aside."""
        lit = style.look.kind == "lit" and not style.heat
        beyond = Developer.margin(style.finish, scale) if lit else 0
        return int(np.ceil((MARGIN + (BEND_MOST if lit else 0)) * scale)) + beyond + 4

    def _negative(self, scene: Scene, frame: Frame) -> Negative:
        """What the finish is given to."""
        sheet = self._sheet(frame)
        furry = self.shelf.furs.any and not frame.style.heat
        depths = sheet.hiding if furry else self._geometry.depths
        terms = _depth_terms(frame)
        return Negative(sheet.texture, depths, terms, frame.camera, frame.window, self.scale)

    def _develop(self, scene: Scene, rect: Rect, frame: Frame, whole: bool) -> Iterator[None]:
        """Give a rectangle its finish, in steps; what blooms spreads anew with whole pictures only."""
        style, finisher = frame.style, self._finisher()
        finish, negative = style.finish, self._negative(scene, frame)
        around = finisher.around(rect, finish, self.scale)
        if whole:
            finisher.focus(negative, finish)
        for tile in tiles(around, around[2] * around[3] / STEP_PIXELS if finish.blurs else 1):
            finisher.blur(negative, finish, tile)
            yield from self._stepped()
        if whole and frame.window.size == frame.window.whole:
            finisher.bloom(negative, finish)
        finisher.develop(negative, finish, style.table, around)
        yield from self._stepped()

    def _note_cost(self, seconds: float, lit: Rect) -> None:
        pixels = max(lit[2], 0) * max(lit[3], 0)
        if pixels > 20_000:
            cost = seconds / pixels * 1e6
            self.light_cost = cost if self.light_cost == 0 else 0.7 * self.light_cost + 0.3 * cost

    def _stepped(self) -> Iterator[None]:
        if self.slow:
            self.ctx.finish()
        yield

    def _begin(self, scene: Scene, camera: Camera, style: Style, again: bool = False) -> Frame:
        """Settle what to draw with.

        With `again` it is the last frame, as long as its depth range holds the clay: depths drawn
        with another range would not fit to those around them.
        """
        low, high = scene.bounds()
        box = np.concatenate([low, high]).astype(np.float32)
        clay = self.window.rect(camera, box) or (0, 0, 0, 0)
        near, far = camera.depth_range(low, high, 1.0)
        last = self._frame
        lit = style.look.kind == "lit" and not style.heat
        light = Light.of(scene, camera, low, high) if lit else None
        if again and last is not None and last.near <= near and far <= last.far:
            last.clay, last.light = clay, light
            return last
        near, far = camera.depth_range(low, high, 1.3)
        clip = camera.projection_matrix(self.window.aspect, near, far) @ camera.view_matrix()
        clip = self.window.matrix() @ clip
        return Frame(camera, near, far, clip, clay, low, high, style, self.window, light)

    # -- geometry -------------------------------------------------------------------------------

    def _whole(self, scene: Scene, style: Style) -> list[Part]:
        """The visible parts that are drawn as clay."""
        parts = [part for part in scene.parts if part.visible]
        alone = (style.look.ghost or style.look.isolate) and any(p.id == style.active for p in parts)
        return [p for p in parts if p.id == style.active] if alone else parts

    def _drawn(self, scene: Scene, style: Style) -> list[Part]:
        """Those of them that are seen, and do not only cast shadows."""
        return [] if style.only_ground else self._whole(scene, style)

    def _seen(self, part: Part, rect: Rect, frame: Frame) -> I32:
        return frame.seen(part, self.shelf[part], rect)

    def _count_triangles(self, scene: Scene, rect: Rect, frame: Frame) -> int:
        total = 0
        for part in self._whole(scene, frame.style):
            runs = self.shelf[part].triangle_starts[self._seen(part, rect, frame)]
            total += int((runs[:, 1] - runs[:, 0]).sum())
        return total

    def _count_fibres(self, scene: Scene, rect: Rect, frame: Frame) -> int:
        """How many fibres a rectangle may show."""
        if not self.shelf.furs.any or frame.style.heat:
            return 0
        total = 0
        for part in self._whole(scene, frame.style):
            for _, drawn in self.shelf.furs.on(scene, part):
                seen = self._seen(part, rect, frame)
                for level in range(len(drawn.roots.starts)):
                    runs = drawn.runs(part, level, seen)
                    total += int((runs[:, 1] - runs[:, 0]).sum())
        return total

    def _draw_geometry(
        self,
        parts: list[Part],
        rect: Rect,
        frame: Frame,
        moving: bool,
        coarse: bool = False,
        over: bool = False,
    ) -> None:
        """Draw parts to normals, colours and depths, over what is there or afresh."""
        target = self._geometry.target(frame.style.materials)
        target.use()
        target.scissor = rect
        if not over:
            target.clear(0.0, 0.0, 0.0, 0.0, depth=1.0, viewport=rect)
        self._draw_parts(parts, rect, frame, moving, coarse)

    def _thin(self, scene: Scene, frame: Frame) -> list[Part]:
        """The parts that show what is behind them, in looks that show what clay is made of."""
        if not frame.style.materials:
            return []
        return [part for part in self._drawn(scene, frame.style) if self.shelf[part].need_opacity()]

    def _draw_clear(self, thin: list[Part], rect: Rect, frame: Frame, moving: bool) -> None:
        """Draw what is seen through to a picture of its own: the nearest of it, before what hides all."""
        if not thin:
            if self._clear is not None:
                self._clear.forget()
            return
        if self._clear is None:
            self._clear = SeenThrough(self.ctx, self.programs, self.size)
        self._clear.begin(rect, self._geometry.depths)
        self._draw_parts(thin, rect, frame, moving, moving, clear=True)

    def _draw_parts(
        self, parts: list[Part], rect: Rect, frame: Frame, moving: bool, coarse: bool, clear: bool = False
    ) -> None:
        """Draw parts to the framebuffer that is in use: all that hides what is behind, or only what is seen through."""
        ctx, style = self.ctx, frame.style
        heat, look = style.heat, style.look
        for part in parts:
            drawn = self.shelf[part]
            # Clay without a material of its own is made of what the look says.
            own = 0 if not style.materials else 1 if drawn.need_materials() else 2
            # Moving clay is shown without what its mesh is too coarse for: it would flicker.
            grained = None if moving or heat else self.shelf.grains.on(part)
            choices = {"GRAINS": 0} if grained is None else switches(grained[1])
            through = 2 if clear else int(style.materials and drawn.need_opacity())
            clay = self.programs.mesh("clay", "", MATERIAL=own, CLEAR=through, **choices)
            if grained is not None:
                grained[0].use(clay, grained[1])
            put(clay, hatch=9.0 * self.scale, material_of_all=(look.roughness, look.metalness, 0.0, 0.0))
            frame.place(clay, part)
            mark = 2.0 if part.id == style.active else 1.0
            put(clay, mark=style.marks.get(part.id, mark), behind=CLEAR_UNIT)
            # Closed clay hides its inside; open clay shows it.
            hides = drawn.closed and not style.look.back_faces
            ctx.enable_only(moderngl.DEPTH_TEST | (moderngl.CULL_FACE if hides else 0))
            sheets = style.laid.get(part.id)
            if (
                sheets is not None
                and not clear
                and part.mesh.uv is not None
                and sheets.fits(part.mesh.topology.n_faces)
            ):
                self._draw_laid(part, drawn, sheets, rect, frame)
                continue
            if moving and (coarse or drawn.is_large) and not heat:
                drawn.array(clay, "stand-in").render()
                continue
            array = drawn.array(clay, "heat" if heat else "faces", None if grained is None else grained[0])
            for first, last in drawn.triangle_starts[self._seen(part, rect, frame)].tolist():
                array.render(vertices=3 * (last - first), first=3 * first)

    def _draw_laid(self, part: Part, drawn: DrawnMesh, sheets: Sheets, rect: Rect, frame: Frame) -> None:
        """Draw a part by its UVs."""
        look = frame.style.look
        program = self.programs.mesh("laid", "", **switches_of(sheets, frame.style.materials))
        drawn.need_laid(sheets).use(program)
        put(program, material_of_all=(look.roughness, look.metalness, 0.0, 0.0))
        put(program, mark=2.0 if part.id == frame.style.active else 1.0)
        frame.place(program, part)
        array = drawn.array(program)
        for first, last in drawn.triangle_starts[self._seen(part, rect, frame)].tolist():
            put(program, first_triangle=first)
            array.render(vertices=3 * (last - first), first=3 * first)

    # -- light ----------------------------------------------------------------------------------

    def _draw_maps(self, scene: Scene, frame: Frame) -> Iterator[None]:
        """Renew what shadows are read from; strokes in progress keep the old."""
        look, parts = frame.style.look, self._whole(scene, frame.style)
        if frame.light is not None:
            if frame.style.effects >= 1:
                yield from self._lit_light.draw_maps(frame.light, parts, self.shelf, self.programs)
        elif look.casts_shadow and frame.style.effects >= 1:
            self._shadow = self._shadow or DepthMap(self.ctx, SHADOW_SIZE)
            way = frame.camera.axes().T @ lamp_way(look.lamp)
            sight = lamp_sight(way, frame.low, frame.high, SHADOW_SIZE)
            yield from self._shadow.draw(parts, self.shelf, self.programs, sight, frame.style.materials)
        if has_floor(frame, False):
            self._floor = self._floor or DepthMap(self.ctx, FLOOR_SIZE)
            sight = floor_sight(frame.low, frame.high, FLOOR_SIZE)
            yield from self._floor.draw(parts, self.shelf, self.programs, sight, frame.style.materials)

    def _draw_mirror(self, scene: Scene, frame: Frame) -> Iterator[None]:
        """Draw what the floor mirrors: the clay as a camera below it sees it, smaller where it need not be fine."""
        if frame.light is None or frame.light.around.mirror <= 0:
            return
        if self._mirror is None:
            self._mirror = Renderer(self.ctx, self.shelf, self.programs, self._lit_light)
        whole = frame.window.whole
        share = min(1.0 if self.fine else 0.5, MIRRORED / max(whole))
        width, height = (max(round(n * share), 1) for n in whole)
        self._mirror.resize(width, height, self.scale * share)
        look = replace(frame.style.look, cavity=False, cover=False, outline=False, floor=False, wires=False)
        style = replace(frame.style, look=look, only_ground=False, clear_ground=True, finish=Finish())
        camera = mirrored_in(frame.camera, float(frame.low[1]))
        yield from self._mirror.draw_in_steps(seen_in_mirror(scene, frame.camera.axes()), camera, style)

    def _mirrored(self, frame: Frame) -> moderngl.Texture | None:
        """What the floor mirrors in the last whole picture; None where it mirrors nothing."""
        if self._mirror is None or frame.light is None or frame.light.around.mirror <= 0:
            return None
        last = self._mirror._frame
        return None if last is None else self._mirror._sheet(last).texture

    def _lit_switches(self, frame: Frame, moving: bool) -> dict[str, int]:
        """How many lamps the picture's light has, and whether they cast shadows."""
        assert frame.light is not None
        shadows = not moving and frame.style.effects >= 1 and self._lit_light.has_shadows_of(frame.light)
        return {"LAMPS": len(frame.light.lamps), "SHADOW": int(shadows), "MOVING": int(moving)}

    def _ground_program(
        self, frame: Frame, moving: bool, heights: DepthMap | None, half: bool = False
    ) -> moderngl.Program:
        switches = {} if frame.light is None else self._lit_switches(frame, moving)
        mirrored = None if moving or heights is None else self._mirrored(frame)
        program = ground_program(self.programs, frame, heights, switches, half, mirrored)
        if frame.light is not None:
            self._lit_light.put(program, frame.light, frame.camera, bool(switches["SHADOW"]))
        return program

    def _draw_light(self, rect: Rect, frame: Frame, moving: bool) -> None:
        self._squinted = None
        sheet = self._sheet(frame)
        over = sheet.over
        over.use()
        over.scissor = rect
        self.ctx.enable_only(moderngl.DEPTH_TEST)
        self.ctx.depth_func = "<="
        over.depth_mask = False
        self.programs.run(self._ground_program(frame, moving, None))
        if self._floor is not None and has_floor(frame, moving):
            # Only where the floor is: its shadows take long.
            floor = overlap(rect, floor_rect(frame))
            if floor[2] > 0 and floor[3] > 0:
                over.scissor = floor
                self.programs.run(self._ground_program(frame, moving, self._floor))
        over.depth_mask = True
        lit = overlap(rect, frame.clay)
        if lit[2] <= 0 or lit[3] <= 0:
            return
        self.ctx.enable_only(moderngl.NOTHING)
        if moving and frame.light is not None:
            self._light_half(lit, frame)
        else:
            sheet.lit.use()
            sheet.lit.scissor = lit
            self.programs.run(self._shade_program(frame, moving, self._geometry))

    def _light_clear(self, rect: Rect, frame: Frame, moving: bool, thin: list[Part]) -> None:
        """Light what is seen through, over what is behind it."""
        if not thin or self._clear is None:
            return
        sheet = self._sheet(frame)
        bends = frame.light is not None and not moving
        lit = rect_of(thin, rect, frame)
        if lit[2] <= 0 or lit[3] <= 0:
            return
        program = self._shade_program(frame, moving, self._clear.geometry, clear=True)
        if bends:
            self._clear.use_under(program, frame, self._geometry.depths, self.scale)
        sheet.lit.use()
        sheet.lit.scissor = lit
        self.ctx.enable_only(moderngl.BLEND)
        self.ctx.blend_func = moderngl.ONE, moderngl.ONE_MINUS_SRC_ALPHA
        self.programs.run(program)

    def _is_quick(self, scene: Scene, frame: Frame) -> bool:
        """Whether nothing is drawn over lit clay, which all pixels are needed for."""
        look, style = frame.style.look, frame.style
        others = look.ghost and len(self._whole(scene, style)) < sum(part.visible for part in scene.parts)
        return not (self.shelf.furs.any or look.xray or others or look.floor or style.clear_ground)

    def _draw_quick(self, frame: Frame) -> None:
        """A whole picture in the look Lit while things move."""
        if self._quick is None:
            self._quick = QuickPicture(self.ctx, self.programs, self.size)
        self._squinted = None
        style, geometry = frame.style, self._geometry
        self._quick.draw(
            self._ground_program(frame, True, None, half=True),
            lambda: self._shade_program(frame, True, geometry, half=True),
            self._finisher(),
            style.finish,
            style.table,
            frame.camera,
            geometry.depths,
            geometry.normals,
            self.scale,
            self.picture,
        )
        self._shown = self.picture

    def _light_half(self, rect: Rect, frame: Frame) -> None:
        """Light every second pixel each way, and bring that to all: many lamps in software take too long for a picture that is gone at once."""
        width, height = ((n + 1) // 2 for n in self.size)
        if self._half is None:
            few = self.ctx.texture((width, height), 4, dtype="f2")
            few.filter = (moderngl.NEAREST, moderngl.NEAREST)
            self._half = self.ctx.framebuffer([few])
        x, y, w, h = rect
        self._half.use()
        # What is read about the rectangle's edge is there, too.
        self._half.scissor = grown((x // 2, y // 2, w // 2 + 1, h // 2 + 1), 2, width, height)
        self._half.clear(viewport=self._half.scissor)
        self.programs.run(self._shade_program(frame, True, self._geometry, half=True))
        sheet = self._sheet(frame)
        sheet.lit.use()
        sheet.lit.scissor = rect
        program = self.programs.screen("enlarge")
        attachment = self._half.color_attachments[0]
        assert isinstance(attachment, moderngl.Texture)
        attachment.use(0)
        self._geometry.normals.use(1)
        put(program, few=0, normals=1)
        self.programs.run(program)

    def _shade_program(
        self,
        frame: Frame,
        moving: bool,
        geometry: GeometryPicture,
        clear: bool = False,
        half: bool = False,
    ) -> moderngl.Program:
        style, camera, look = frame.style, frame.camera, frame.style.look
        shadow = (
            look.casts_shadow
            and not style.heat
            and not moving
            and self._shadow is not None
            and style.effects >= 1
            and frame.light is None
        )
        switches = {"SHADOW": int(shadow)} if frame.light is None else self._lit_switches(frame, moving)
        program = self.programs.screen(
            "shade",
            LOOK=6 if style.heat else PROGRAM[look.kind],
            CREASES=int(style.cavity and not moving),
            COVER=int(style.cover and not moving),
            OUTLINE=int(look.outline),
            BACKS=int(look.back_faces and not clear),
            CLEAR=int(clear),
            HALF=int(half),
            **switches,
        )
        if frame.light is not None:
            self._lit_light.put(program, frame.light, camera, bool(switches["SHADOW"]))
        geometry.use(style.materials)
        put(program, normals=0, albedos=1, depths=2, matcap=3, shadows=SHADOW_UNIT, materials=5)
        width, height = frame.window.whole
        slope = float(np.tan(np.radians(camera.angle) / 2))
        axes = camera.axes()
        put(program, depth_terms=_depth_terms(frame), stretch=frame.window.stretch())
        if camera.orthographic:
            put(program, inverse_focus=0.0, slope=(0.0, 0.0))
            put(program, flat_size=2 * slope / height * camera.distance)
        else:
            put(program, inverse_focus=2 * slope / height)
            put(program, flat_size=0.0, slope=(slope * width / height, slope))
        put(
            program,
            size=self.size,
            corner=frame.window.corner,
            pixel_scale=self.scale,
            accent=style.behind.accent,
            lamp_way=tuple(lamp_way(look.lamp).tolist()),
            lamp_soft=look.lamp_soft,
            up=tuple(axes[:, 1].tolist()),
            scene_from_eye=axes.T,
            eye_to_scene=axes.T,
            steps=float(look.steps),
            band=look.band or contour_band(frame.low, frame.high),
            scene_from_clip=np.linalg.inv(frame.clip),
        )
        if shadow and self._shadow is not None and self._shadow.sight is not None:
            self._shadow.texture.use(4)
            sight = self._shadow.sight
            put(program, shadow_from_scene=sight.matrix, shadow_texel=sight.texel)
        if look.kind == "matcap" and not style.heat:
            self._use_matcap(style)
        return program

    def _use_matcap(self, style: Style) -> None:
        key = (style.look.matcap, style.matcaps.get(style.look.matcap[4:]))
        if self._matcap is None or key != self._matcap_key:
            if self._matcap is not None:
                self._matcap.release()
            pixels = pixels_of(style.look.matcap, style.matcaps)
            self._matcap = self.ctx.texture(pixels.shape[1::-1], 3, pixels.tobytes())
            self._matcap.repeat_x = self._matcap.repeat_y = False
            self._matcap_key = key
        self._matcap.use(3)

    # -- lines and ghosts -----------------------------------------------------------------------

    def _draw_over(self, scene: Scene, rect: Rect, frame: Frame, moving: bool) -> None:
        style, look = frame.style, frame.style.look
        if look.kind == "silhouette":
            return
        whole, sheet = self._drawn(scene, style), self._sheet(frame)
        if self.shelf.furs.any and not style.heat:
            self._draw_furs(scene, whole, rect, frame, moving)
        others = [p for p in scene.parts if p.visible and p not in whole] if look.ghost else []
        if look.xray or others:
            sheet.lit.use()
            sheet.lit.scissor = rect
            draw_ghosts(self.programs, self.shelf, [*others, *(whole if look.xray else [])], frame, moving)
        if look.wires and not moving:
            sheet.over.use()
            sheet.over.scissor = rect
            sheet.over.depth_mask = False
            draw_wires(self.programs, self.shelf, whole, rect, frame, self.scale)
            sheet.over.depth_mask = True

    def _draw_furs(self, scene: Scene, parts: list[Part], rect: Rect, frame: Frame, moving: bool) -> None:
        """Fibres over the lit clay; they hide each other, but not what is drawn over all."""
        sheet = self._sheet(frame)
        sheet.hidden.use()
        sheet.hidden.scissor = rect
        self.ctx.enable_only(moderngl.DEPTH_TEST)
        self.ctx.depth_func = "1"
        self._geometry.depths.use(0)
        program = self.programs.screen("depths")
        put(program, depths=0)
        self.programs.run(program)
        self.ctx.depth_func = "<="
        sheet.furry.use()
        sheet.furry.scissor = rect
        light = light_of(frame.style, lamp_way(frame.style.look.lamp), frame.light)
        half = (self.size[0] / 2, self.size[1] / 2)
        for part in parts:
            for fur, drawn in self.shelf.furs.on(scene, part):
                scale = part.transform.scale
                reach = float(np.abs(fur.tips).max()) * scale
                middle = part.transform.to_scene(np.asarray(part.mesh.bounds(), np.float64)).mean(axis=0)
                pixel = frame.camera.pixel_size(middle, frame.window.whole[1])
                outer = grown(rect, int(reach / max(pixel, 1e-12)) + 2, *self.size)
                turn = frame.camera.axes() @ part.transform.axes()
                matrices = {"clip_from_part": frame.clip @ part.transform.matrix(), "eye_from_part": turn}
                wide = fur.numbers.width * scale / max(pixel, 1e-12) / self.scale
                runs = self._seen(part, outer, frame) if not moving else np.empty((0, 2), np.int32)
                draw_fur(self.programs, part, fur, drawn, wide, runs, half, light, matrices, moving)

    def _draw_polish(self, rect: Rect, frame: Frame) -> None:
        self._squinted = None
        self.picture.use()
        self.picture.scissor = rect
        self.ctx.enable_only(moderngl.NOTHING)
        source = self._sheet(frame).texture if frame.light is None else self._finisher().developed
        source.use(0)
        program = self.programs.screen("polish", SMOOTH=int(frame.style.effects >= 1))
        put(program, picture=0, size=self.size)
        self.programs.run(program)

    # -- showing --------------------------------------------------------------------------------

    @property
    def has_picture(self) -> bool:
        """Whether anything was drawn since the size changed."""
        return self._shown is not None

    def present(
        self,
        target: moderngl.Framebuffer,
        at: tuple[int, int] = (0, 0),
        mirrored: bool = False,
        squint: float = 0.0,
        share: tuple[float, float] = (0.0, 1.0),
        over: bool = False,
    ) -> None:
        """Bring the picture to another framebuffer; black before there is one.

        Parameters
        ----------
        at : two ints
            Its lower left corner there.
        mirrored : bool
            Left and right exchanged.
        squint : float
            Pixels that run together; 0 for a sharp picture.
        share : two floats
            Only what lies between these shares of the width.
        over : bool
            Over what is there already, where the picture's ground is clear.
        """
        width, height = self.size
        if self._shown is None:
            target.scissor = (*at, width, height)
            target.clear(viewport=(*at, width, height))
            target.scissor = None  # type: ignore[assignment]
            return
        self._shown.scissor = None  # type: ignore[assignment]
        plain = at == (0, 0) and not mirrored and not squint and share == (0.0, 1.0) and not over
        if plain and target.size == self.size:
            self.ctx.copy_framebuffer(target, self._shown)
            return
        texture = self._shown.color_attachments[0]
        assert isinstance(texture, moderngl.Texture)
        if squint and self._squinted is not texture:
            # Once for a picture: it is shown again with every move of the pointer.
            texture.build_mipmaps(0, 6)
            self._squinted = texture
        if squint:
            texture.filter = (moderngl.LINEAR_MIPMAP_LINEAR, moderngl.LINEAR)
        target.use()
        target.viewport = (*at, width, height)
        left, right = (round(s * width) for s in share)
        target.scissor = (at[0] + left, at[1], max(right - left, 0), height)
        self.ctx.enable_only(moderngl.BLEND if over else moderngl.NOTHING)
        if over:
            blend(self.ctx)
        program = self.programs.screen("show")
        texture.use(0)
        put(
            program,
            picture=0,
            corner=tuple(float(v) for v in at),
            size=self.size,
            mirrored=float(mirrored),
            squint=squint * self.scale,
        )
        self.programs.run(program)
        target.scissor = None  # type: ignore[assignment]
        if squint:
            texture.filter = (moderngl.LINEAR, moderngl.LINEAR)

    def read(self) -> AnyArray:
        """The picture as (height, width, 4) uint8, or float16 where it is `fine`, top row first."""
        self.picture.scissor = None  # type: ignore[assignment]
        data = self.picture.read(components=4, dtype="f2" if self.fine else "f1")
        return self._rows(data, np.float16 if self.fine else np.uint8)

    def _rows(self, data: bytes, kind: type) -> AnyArray:
        width, height = self.size
        return np.frombuffer(data, kind).reshape(height, width, -1)[::-1].copy()

    def read_light(self) -> F32:
        """The light of the last whole picture before its finish, (height, width, 4), the last being alpha, by which it is multiplied.

        Of looks that have no finish it is that of what is seen.
        """
        assert self._frame is not None
        texture = self._sheet(self._frame).texture
        codes = self._rows(texture.read(), np.float16 if texture.dtype == "f2" else np.uint8).astype(
            np.float32
        )
        if texture.dtype != "f2":
            codes /= 255
        light = codes.copy()
        light[..., :3] = codes[..., :3] ** 2 / np.maximum(codes[..., 3:], 1e-4)
        return light

    def read_normals(self) -> F32:
        """Which way clay faces in the eye's space and the mark of its part, (height, width, 4); nothing is 0."""
        return self._rows(self._geometry.normals.read(), np.float16).astype(np.float32)

    def read_depths(self) -> F32:
        """Millimetres before the eye, (height, width); infinite where there is no clay."""
        assert self._frame is not None
        found = self._rows(self._geometry.depths.read(), np.float32)[..., 0].astype(np.float64)
        x, y, z, w = _depth_terms(self._frame)
        return np.where(found < 1, (x + y * found) / (z + w * found), np.inf).astype(np.float32)

    def release(self) -> None:
        """Give all graphics memory back."""
        self._let_go()
        if self._mirror is not None:
            self._mirror.release()
        self.size = (0, 0)
        for map_ in (self._shadow, self._floor):
            if map_ is not None:
                map_.release()
        for thing in self._own:
            thing.release()


def _depth_terms(frame: Frame) -> tuple[float, float, float, float]:
    """How far before the eye a depth lies, in mm: (x + y d) / (z + w d)."""
    near, far = frame.near, frame.far
    if frame.camera.orthographic:
        return (near, far - near, 1.0, 0.0)
    return (near * far, 0.0, far, near - far)


def lamp_way(lamp: tuple[float, float]) -> F64:
    """The direction, (3,), towards a lamp on the half ball before the picture, in the eye's space."""
    x, y = lamp
    flat = min(float(np.hypot(x, y)), 0.98)
    length = max(float(np.hypot(x, y)), 1e-9)
    return np.array([x / length * flat, y / length * flat, np.sqrt(1 - flat * flat)])


def contour_band(low: F64, high: F64) -> float:
    """Millimetres between contours: about sixty over the height of the clay, from corner to corner (3,)."""
    return round_length(max(float(high[1] - low[1]) / 60, 1e-6))
