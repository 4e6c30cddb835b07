"""Clay that is seen through: the nearest of it, drawn to a picture of its own and laid over the light of what is behind it."""

from __future__ import annotations

import moderngl
import numpy as np

from kneten.document.scene import Part
from kneten.render.frame import Frame
from kneten.render.geometry import GeometryPicture
from kneten.render.programs import Programs, put
from kneten.render.rects import Rect, overlap
from kneten.render.sheet import Sheet

CLEAR_UNIT = 7
"""Where what is seen through reads how far what is behind it lies."""

UNDER_UNIT = 10

BEND_MOST = 32.0
"""Pixels at scale 1 that what is seen through clear clay may be bent aside."""


class SeenThrough:
    """What a renderer of one size draws clear clay to.

    Attributes
    ----------
    geometry : GeometryPicture
        The nearest of what is seen through.
    """

    def __init__(self, ctx: moderngl.Context, programs: Programs, size: tuple[int, int]) -> None:
        self._ctx, self._programs, self._size = ctx, programs, size
        self.geometry = GeometryPicture(ctx, size)
        self._used = False
        self._under: moderngl.Framebuffer | None = None

    def forget(self) -> None:
        """What was drawn is of clay that has become another."""
        self._used = False

    def begin(self, rect: Rect, behind: moderngl.Texture) -> None:
        """Clear a rectangle and have it drawn to, before depths of what hides all."""
        target = self.geometry.target(True)
        target.use()
        inside = rect if self._used else None
        target.scissor = inside  # type: ignore[assignment]
        target.clear(0.0, 0.0, 0.0, 0.0, depth=1.0, viewport=inside)
        target.scissor = rect
        self._used = True
        behind.use(CLEAR_UNIT)

    def keep_under(self, sheet: Sheet, rect: Rect) -> None:
        """Keep the light of what is behind in a rectangle: clear clay bends where it is seen."""
        if self._under is not None and self._under.color_attachments[0].dtype != sheet.texture.dtype:
            self._release_under()
        if self._under is None:
            texture = self._ctx.texture(self._size, 4, dtype=sheet.texture.dtype)
            texture.repeat_x = texture.repeat_y = False
            self._under = self._ctx.framebuffer([texture])
        self._under.use()
        self._under.scissor = rect
        self._ctx.enable_only(moderngl.NOTHING)
        program = self._programs.screen("show")
        sheet.texture.use(0)
        put(program, picture=0, corner=(0.0, 0.0), size=self._size, mirrored=0.0, squint=0.0)
        self._programs.run(program)

    def use_under(
        self, program: moderngl.Program, frame: Frame, depths: moderngl.Texture, scale: float
    ) -> None:
        """Have a program read what was kept, and the depths of that."""
        assert self._under is not None
        texture = self._under.color_attachments[0]
        assert isinstance(texture, moderngl.Texture)
        texture.use(UNDER_UNIT)
        depths.use(CLEAR_UNIT)
        put(program, under=UNDER_UNIT, behind=CLEAR_UNIT)
        put(program, clip_from_scene=frame.clip, bend_most=BEND_MOST * scale)

    def _release_under(self) -> None:
        if self._under is not None:
            for attachment in self._under.color_attachments:
                attachment.release()
            self._under.release()
            self._under = None

    def release(self) -> None:
        """Give the graphics memory back."""
        self.geometry.release()
        self._release_under()


def rect_of(thin: list[Part], rect: Rect, frame: Frame) -> Rect:
    """What of a rectangle parts are seen in."""
    corners = np.concatenate([part.bounds() for part in thin])
    box = np.concatenate([corners.min(axis=0), corners.max(axis=0)]).astype(np.float32)
    seen = frame.window.rect(frame.camera, box)
    lit = overlap(rect, frame.clay)
    return lit if seen is None else overlap(lit, seen)
