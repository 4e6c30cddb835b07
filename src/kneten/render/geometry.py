"""What is seen at each pixel before it is lit: which way it faces, its colour, how deep it lies, what it is made of."""

from __future__ import annotations

import moderngl


class GeometryPicture:
    """Pictures of one size that clay is drawn to; that of materials is made when a look first wants it.

    Attributes
    ----------
    normals, albedos, depths : moderngl.Texture
    """

    def __init__(self, ctx: moderngl.Context, size: tuple[int, int]) -> None:
        self._ctx = ctx
        self.normals = ctx.texture(size, 4, dtype="f2")
        self.albedos = ctx.texture(size, 4)
        self.depths = ctx.depth_texture(size)
        self.depths.compare_func = ""
        for texture in (self.normals, self.albedos, self.depths):
            texture.filter = (moderngl.NEAREST, moderngl.NEAREST)
        self._materials: moderngl.Texture | None = None
        self._plain = ctx.framebuffer([self.normals, self.albedos], self.depths)
        self._whole: moderngl.Framebuffer | None = None

    def target(self, materials: bool) -> moderngl.Framebuffer:
        """Where clay is drawn to, with what it is made of or without."""
        if not materials:
            return self._plain
        if self._whole is None:
            self._materials = self._ctx.texture(self.normals.size, 4)
            self._materials.filter = (moderngl.NEAREST, moderngl.NEAREST)
            self._whole = self._ctx.framebuffer([self.normals, self.albedos, self._materials], self.depths)
        return self._whole

    def use(self, materials: bool) -> None:
        """Have the pictures read: normals, colours and depths at 0, 1 and 2, materials at 5."""
        for unit, texture in enumerate((self.normals, self.albedos, self.depths)):
            texture.use(unit)
        if materials and self._materials is not None:
            self._materials.use(5)

    def copy_to(self, other: GeometryPicture, materials: bool) -> None:
        """Make another of the same size like this one."""
        source, target = self.target(materials), other.target(materials)
        target.scissor = source.scissor = None  # type: ignore[assignment]
        self._ctx.copy_framebuffer(target, source)

    def release(self) -> None:
        """Give the graphics memory back."""
        for thing in (self._plain, self._whole, self.normals, self.albedos, self.depths, self._materials):
            if thing is not None:
                thing.release()
