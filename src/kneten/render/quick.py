"""Pictures of the look Lit that are gone at once: light, what lies behind and the finish for every second pixel, then brought to all.

Many lamps in software take too long for pictures while the camera turns, and a finish of all pixels takes as long as their light.
"""

from __future__ import annotations

from collections.abc import Callable

import moderngl

from kneten.core.camera import Camera
from kneten.core.light.finish import ColourTable, Finish
from kneten.render.develop import Developer, Negative
from kneten.render.frame import Window
from kneten.render.programs import Programs, put


class QuickPicture:
    """What is drawn to for pictures of one size."""

    def __init__(self, ctx: moderngl.Context, programs: Programs, size: tuple[int, int]) -> None:
        self._ctx, self._programs = ctx, programs
        few = ((size[0] + 1) // 2, (size[1] + 1) // 2)
        self._window = Window.of(*few)
        self._light = ctx.texture(few, 4, dtype="f2")
        self._light.filter = (moderngl.NEAREST, moderngl.NEAREST)
        self._codes = ctx.texture(few, 4)
        self._codes.repeat_x = self._codes.repeat_y = False
        self._lit, self._developed = ctx.framebuffer([self._light]), ctx.framebuffer([self._codes])

    def draw(
        self,
        ground: moderngl.Program,
        shade: Callable[[], moderngl.Program],
        developer: Developer,
        finish: Finish,
        table: ColourTable | None,
        camera: Camera,
        depths: moderngl.Texture,
        normals: moderngl.Texture,
        scale: float,
        target: moderngl.Framebuffer,
    ) -> None:
        """Light by programs that work out every second pixel, finish, and bring that to a target."""
        whole = (0, 0, *self._codes.size)
        self._lit.use()
        self._lit.scissor = whole
        self._ctx.enable_only(moderngl.NOTHING)
        self._programs.run(ground)
        self._programs.run(shade())
        negative = Negative(self._light, depths, (1.0, 0.0, 1.0, 0.0), camera, self._window, scale / 2)
        developer.develop(negative, finish, table, whole, self._developed, resting=True, marked=True)
        target.use()
        target.scissor = None  # type: ignore[assignment]
        program = self._programs.screen("enlarge_codes")
        self._codes.use(0)
        width, height = self._codes.size
        put(program, few=0, pixel=(1 / width, 1 / height))
        self._programs.run(program)

    def release(self) -> None:
        """Give the graphics memory back."""
        for thing in (self._lit, self._developed, self._light, self._codes):
            thing.release()
