"""Draws a scene: geometry to normals and colours, light on these, then edges are polished.

The picture is kept. A stroke redraws only the rectangles it changed, and only the patches that these
rectangles show.
"""

from __future__ import annotations

import importlib.resources
import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import moderngl
import numpy as np

from kneten.core.arrays import F32, F64, AnyArray
from kneten.core.camera import Camera
from kneten.core.culling import clip_planes, seen_runs
from kneten.document.scene import Part, Scene
from kneten.render.parts import DrawnMesh

Rect = tuple[int, int, int, int]
"""x, y, width, height in picture pixels, y up."""

Colour = tuple[float, float, float]

CLAY: Colour = (0.735, 0.69, 0.63)
"""Grey-buff stoneware, sRGB."""

MARGIN = 16
"""Pixels around a change whose light it may alter: the reach of creases and cover, at scale 1."""


@dataclass(frozen=True)
class Ground:
    """What is behind the clay."""

    middle: Colour = (0.185, 0.168, 0.152)
    rim: Colour = (0.085, 0.076, 0.068)


KILN = Ground()
PORCELAIN = Ground((0.90, 0.885, 0.86), (0.74, 0.72, 0.69))


@dataclass
class Frame:
    """What one picture is drawn with: camera, depth range, clip matrix, where clay can be seen."""

    camera: Camera
    near: float
    far: float
    clip: F64
    clay: Rect


def _source(name: str) -> str:
    return (importlib.resources.files("kneten.render") / "shaders" / name).read_text()


class Renderer:
    """Draws into a picture of its own on any OpenGL 3.3 context."""

    def __init__(self, ctx: moderngl.Context) -> None:
        self.ctx = ctx
        self._clay = ctx.program(_source("clay.vert"), _source("clay.frag"))
        screen = _source("screen.vert")
        shade = _source("shade.frag")
        self._shade = ctx.program(screen, shade.replace("WITH_CREASES CREASES", "WITH_CREASES 1"))
        # Software OpenGL runs both sides of a branch, so the fast light is a program of its own.
        self._shade_fast = ctx.program(screen, shade.replace("WITH_CREASES CREASES", "WITH_CREASES 0"))
        self._ground = ctx.program(screen, _source("ground.frag"))
        self._polish = ctx.program(screen, _source("polish.frag"))
        self._shade_array = ctx.vertex_array(self._shade, [])
        self._shade_fast_array = ctx.vertex_array(self._shade_fast, [])
        self._ground_array = ctx.vertex_array(self._ground, [])
        self._polish_array = ctx.vertex_array(self._polish, [])
        self._drawn: dict[str, DrawnMesh] = {}
        self.size = (0, 0)
        self.scale = 1.0
        self._shown: moderngl.Framebuffer
        self._frame: Frame | None = None

    def resize(self, width: int, height: int, scale: float = 1.0) -> None:
        """Give the picture another size; `scale` is how many pixels make one of an ordinary screen."""
        self.scale = scale
        if (width, height) == self.size:
            return
        if self.size != (0, 0):
            for thing in (self._geometry, self._lit, self.picture, *self._textures):
                thing.release()
        self._frame = None
        self.size = (width, height)
        ctx, size = self.ctx, self.size
        normals = ctx.texture(size, 4, dtype="f2")
        albedos = ctx.texture(size, 4)
        depths = ctx.depth_texture(size)
        depths.compare_func = ""
        lit = ctx.texture(size, 4)
        final = ctx.texture(size, 4)
        for texture in (normals, albedos, depths):
            texture.filter = (moderngl.NEAREST, moderngl.NEAREST)
        lit.repeat_x = lit.repeat_y = False
        self._textures = (normals, albedos, depths, lit, final)
        self._geometry = ctx.framebuffer([normals, albedos], depths)
        self._lit = ctx.framebuffer([lit])
        self.picture = ctx.framebuffer([final])

    def _sync(self, scene: Scene) -> None:
        """Have buffers for exactly the visible parts."""
        wanted = {part.mesh_id: part for part in scene.parts if part.visible}
        for mesh_id in [m for m in self._drawn if m not in wanted]:
            self._drawn.pop(mesh_id).release()
        for mesh_id, part in wanted.items():
            kept = self._drawn.get(mesh_id)
            if kept is None or kept.mesh is not part.mesh:
                if kept is not None:
                    kept.release()
                self._drawn[mesh_id] = DrawnMesh(self.ctx, self._clay, part.mesh)
            else:
                kept.upload()

    def draw(
        self,
        scene: Scene,
        camera: Camera,
        ground: Ground = KILN,
        rects: Sequence[Rect] | None = None,
        moving: bool = False,
        clear_ground: bool = False,
    ) -> None:
        """Bring the picture up to date.

        Parameters
        ----------
        rects : rectangles or None
            Redraw only these; None redraws everything.
        moving : bool
            The camera is turning: large parts are drawn by their stand-ins, without creases.
        clear_ground : bool
            Leave the ground transparent.
        """
        frame = self._begin(scene, camera, rects is not None)
        if rects is not None and frame is not self._frame:
            rects = None
        self._frame = frame
        width, height = self.size
        margin = int(np.ceil(MARGIN * self.scale))
        for rect in [(0, 0, width, height)] if rects is None else _merge(rects):
            outer = _grow(rect, margin, width, height)
            # What the light reads around the changed rectangle is still there from before.
            self._draw_geometry(scene, _grow(rect, 1, width, height), frame, moving)
            self._draw_light(outer, frame, ground, moving, clear_ground)
            if not moving:
                self._draw_polish(_grow(outer, 2, width, height))
        self._shown = self._lit if moving else self.picture

    def draw_in_steps(self, scene: Scene, camera: Camera, ground: Ground = KILN) -> Iterator[None]:
        """Redraw everything in pieces of about 30 ms, over the picture shown while moving."""
        frame = self._frame = self._begin(scene, camera)
        width, height = self.size
        triangles = sum(p.mesh.topology.n_triangles for p in scene.parts if p.visible)
        bands = min(max(triangles // 150_000, 1), 24)
        edges = np.linspace(0, height, bands + 1).astype(int).tolist()
        for low, high in itertools.pairwise(edges):
            self._draw_geometry(scene, (0, low, width, high - low), frame, False)
            yield
        edges = np.linspace(0, height, 5).astype(int).tolist()
        for low, high in itertools.pairwise(edges):
            self._draw_light((0, low, width, high - low), frame, ground, False, False)
            yield
        self._draw_polish((0, 0, width, height))
        self._shown = self.picture

    def _begin(self, scene: Scene, camera: Camera, again: bool = False) -> Frame:
        """Upload what changed and settle what to draw with.

        With `again` it is the last frame, as long as its depth range holds the clay: depths drawn
        with another range would not fit to those around them.
        """
        self._sync(scene)
        width, height = self.size
        low, high = scene.bounds()
        box = np.concatenate([low, high]).astype(np.float32)
        clay = box_rect(camera, box, width, height) or (0, 0, 0, 0)
        near, far = camera.depth_range(low, high, 1.0)
        last = self._frame
        if again and last is not None and last.near <= near and far <= last.far:
            last.clay = clay
            return last
        near, far = camera.depth_range(low, high, 1.3)
        clip = camera.projection_matrix(width / height, near, far) @ camera.view_matrix()
        return Frame(camera, near, far, clip, clay)

    def _draw_geometry(self, scene: Scene, rect: Rect, frame: Frame, moving: bool) -> None:
        ctx = self.ctx
        camera = frame.camera
        axes = camera.axes()
        width, height = self.size
        self._geometry.use()
        self._geometry.scissor = rect
        self._geometry.clear(0.0, 0.0, 0.0, 0.0, depth=1.0, viewport=rect)
        self._clay["tint"] = CLAY
        x, y, w, h = rect
        bounds = (2 * x / width - 1, 2 * (x + w) / width - 1)
        bounds += (2 * y / height - 1, 2 * (y + h) / height - 1)
        for part in scene.parts:
            if not part.visible:
                continue
            drawn = self._drawn[part.mesh_id]
            matrix = frame.clip @ part.transform.matrix()
            self._clay["clip_from_part"].write(matrix.T.astype("f4").tobytes())
            turn = axes @ part.transform.rotation()
            self._clay["eye_from_part"].write(turn.T.astype("f4").tobytes())
            # Closed clay hides its inside; open clay shows it.
            ctx.enable_only(moderngl.DEPTH_TEST | (moderngl.CULL_FACE if drawn.closed else 0))
            if moving and drawn.stand_in_array is not None:
                drawn.stand_in_array.render()
                continue
            mesh = part.mesh
            planes = clip_planes(matrix, *bounds)
            eye = np.append(part.transform.to_part(camera.eye()[None])[0], 1.0)
            if camera.orthographic:
                eye = np.append(part.transform.way_to_part(axes[2]), 0.0)
            starts = drawn.triangle_starts
            runs = seen_runs(mesh.boxes, mesh.clusters, drawn.cones, planes, eye, drawn.closed)
            for first, last in runs.tolist():
                begin, end = int(starts[first]), int(starts[last])
                drawn.array.render(vertices=3 * (end - begin), first=3 * begin)

    def _draw_light(
        self,
        rect: Rect,
        frame: Frame,
        ground: Ground,
        moving: bool,
        clear_ground: bool,
    ) -> None:
        height = self.size[1]
        self._lit.use()
        self.ctx.enable_only(moderngl.NOTHING)
        self._lit.scissor = rect
        for program in (self._ground, self._shade_fast if moving else self._shade):
            program["size"] = self.size
            program["ground_middle"] = ground.middle
            program["ground_rim"] = ground.rim
            program["clear_ground"] = float(clear_ground)
        self._ground_array.render(moderngl.TRIANGLES, 3)
        lit = _overlap(rect, frame.clay)
        if lit[2] <= 0 or lit[3] <= 0:
            return
        self._lit.scissor = lit
        normals, albedos, depths, _, _ = self._textures
        shade = self._shade_fast if moving else self._shade
        for unit, (name, texture) in enumerate(
            (("normals", normals), ("albedos", albedos), ("depths", depths))
        ):
            if name in shade:
                texture.use(unit)
                shade[name] = unit
        if moving:
            self._shade_fast_array.render(moderngl.TRIANGLES, 3)
            return
        camera, near, far = frame.camera, frame.near, frame.far
        shade["pixel_scale"] = self.scale
        slope = 2 * float(np.tan(np.radians(camera.angle) / 2)) / height
        if camera.orthographic:
            shade["depth_terms"] = (near, far - near, 1.0, 0.0)
            shade["inverse_focus"] = 0.0
            shade["flat_size"] = slope * camera.distance
        else:
            shade["depth_terms"] = (near * far, 0.0, far, near - far)
            shade["inverse_focus"] = slope
            shade["flat_size"] = 0.0
        self._shade_array.render(moderngl.TRIANGLES, 3)

    def _draw_polish(self, rect: Rect) -> None:
        self.picture.use()
        self.picture.scissor = rect
        self._textures[3].use(0)
        self._polish["picture"] = 0
        self._polish["size"] = self.size
        self._polish_array.render(moderngl.TRIANGLES, 3)

    def present(self, target: moderngl.Framebuffer) -> None:
        """Copy the picture to another framebuffer of the same size."""
        self._shown.scissor = None
        self.ctx.copy_framebuffer(target, self._shown)

    def read(self) -> AnyArray:
        """The picture as (height, width, 4) uint8, top row first."""
        width, height = self.size
        self.picture.scissor = None
        data = self.picture.read(components=4)
        return np.frombuffer(data, np.uint8).reshape(height, width, 4)[::-1].copy()

    def release(self) -> None:
        """Give all graphics memory back."""
        for drawn in self._drawn.values():
            drawn.release()
        self._drawn.clear()


def screen_rect(camera: Camera, part: Part, box: F32, width: int, height: int) -> Rect | None:
    """The rectangle of the picture that a box in the part's space can cover; None when unseen."""
    return _points_rect(camera, part.transform.to_scene(_corners(box)), width, height)


def box_rect(camera: Camera, box: F32, width: int, height: int) -> Rect | None:
    """The same for a box in the scene."""
    return _points_rect(camera, _corners(box), width, height)


def _corners(box: F32) -> F64:
    xs, ys, zs = (box[0], box[3]), (box[1], box[4]), (box[2], box[5])
    return np.array([(x, y, z) for x in xs for y in ys for z in zs], np.float64)


def _points_rect(camera: Camera, points: F64, width: int, height: int) -> Rect | None:
    seen = camera.project(points, width, height)
    if not camera.orthographic and (seen[:, 2] <= 0).any():
        return (0, 0, width, height)
    left, right = np.floor(seen[:, 0].min()) - 1, np.ceil(seen[:, 0].max()) + 1
    top, bottom = np.floor(seen[:, 1].min()) - 1, np.ceil(seen[:, 1].max()) + 1
    left, right = max(left, 0), min(right, width)
    top, bottom = max(top, 0), min(bottom, height)
    if left >= right or top >= bottom:
        return None
    return (int(left), int(height - bottom), int(right - left), int(bottom - top))


def _overlap(a: Rect, b: Rect) -> Rect:
    left, low = max(a[0], b[0]), max(a[1], b[1])
    right, high = min(a[0] + a[2], b[0] + b[2]), min(a[1] + a[3], b[1] + b[3])
    return (left, low, right - left, high - low)


def _grow(rect: Rect, by: int, width: int, height: int) -> Rect:
    x, y, w, h = rect
    left, low = max(x - by, 0), max(y - by, 0)
    right, high = min(x + w + by, width), min(y + h + by, height)
    return (left, low, right - left, high - low)


def _merge(rects: Sequence[Rect]) -> list[Rect]:
    """Join rectangles that overlap or nearly do: each is a pass over the parts."""
    out: list[Rect] = []
    for rect in rects:
        x, y, w, h = rect
        again = True
        while again:
            again = False
            for other in out:
                ox, oy, ow, oh = other
                if x <= ox + ow and ox <= x + w and y <= oy + oh and oy <= y + h:
                    right, high = max(x + w, ox + ow), max(y + h, oy + oh)
                    x, y = min(x, ox), min(y, oy)
                    w, h = right - x, high - y
                    out.remove(other)
                    again = True
                    break
        out.append((x, y, w, h))
    return out
