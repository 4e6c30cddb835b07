"""What lit clay is drawn to, and what lies over it."""

from __future__ import annotations

from typing import Any

import moderngl


class Sheet:
    """A picture of one size with the framebuffers that draw to it.

    Attributes
    ----------
    texture : moderngl.Texture
        Colours, multiplied by alpha: codes, whose squares are light. With `deep` they may be greater than 1.
    lit : moderngl.Framebuffer
        Without depths.
    over : moderngl.Framebuffer
        With those of the clay, which are not written to.
    furry : moderngl.Framebuffer
        With depths of its own, `hiding`, to which `hidden` copies those of the clay.
    """

    def __init__(
        self, ctx: moderngl.Context, size: tuple[int, int], depths: moderngl.Texture, deep: bool
    ) -> None:
        self.texture = ctx.texture(size, 4, dtype="f2" if deep else "f1")
        self.texture.repeat_x = self.texture.repeat_y = False
        self.hiding = ctx.depth_texture(size)
        self.hiding.compare_func = ""
        self.hiding.filter = (moderngl.NEAREST, moderngl.NEAREST)
        self.lit = ctx.framebuffer([self.texture])
        self.over = ctx.framebuffer([self.texture], depths)
        self.furry = ctx.framebuffer([self.texture], self.hiding)
        self.hidden = ctx.framebuffer([], self.hiding)

    def release(self) -> None:
        """Give the graphics memory back."""
        things: tuple[Any, ...] = (self.lit, self.over, self.furry, self.hidden, self.hiding, self.texture)
        for thing in things:
            thing.release()
