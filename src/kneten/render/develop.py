"""The finish of a picture: from light, however bright, to the colours of a screen; in the view, in stills, in ray-traced ones."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import moderngl
import numpy as np

from kneten.core.arrays import F32
from kneten.core.camera import Camera
from kneten.core.light.finish import CURVES, ColourTable, Finish
from kneten.render.frame import Window
from kneten.render.programs import Programs, put
from kneten.render.rects import Rect, grown

SPREAD = 200
"""Rows, about, of the picture of what blooms, whatever the size of that which it is for: so it spreads as far."""

REACH = 28.0
"""Pixels that what is out of focus spreads at most from its middle, at scale 1."""

BLOCK = 8
"""Pixels across, at scale 1, of blocks that know together how far discs reach them."""

TABLE_UNIT = 5


@dataclass(frozen=True, eq=False)
class Negative:
    """What is to be developed.

    Attributes
    ----------
    picture : moderngl.Texture
        Codes whose squares are light, multiplied by alpha.
    depths : moderngl.Texture
    depth_terms : four floats
        How far before the eye a depth lies, in mm: (x + y d) / (z + w d).
    camera : Camera
    window : Window
    scale : float
        How many pixels make one of an ordinary screen.
    """

    picture: moderngl.Texture
    depths: moderngl.Texture
    depth_terms: tuple[float, float, float, float]
    camera: Camera
    window: Window
    scale: float


class Developer:
    """Gives pictures of one size their finish; what it needs for that it makes when it is first wanted.

    Attributes
    ----------
    spread : moderngl.Texture or None
        What blooms, in a small picture; that of a whole picture may serve all of its tiles.
    """

    def __init__(
        self, ctx: moderngl.Context, programs: Programs, size: tuple[int, int], fine: bool = False
    ) -> None:
        self._ctx = ctx
        self._programs = programs
        self.size = size
        self.developed = ctx.texture(size, 4, dtype="f2" if fine else "f1")
        self.developed.repeat_x = self.developed.repeat_y = False
        self.target = ctx.framebuffer([self.developed])
        self._blurred: moderngl.Framebuffer | None = None
        self._sharp: moderngl.Texture | None = None
        self._nearest: moderngl.Framebuffer | None = None
        self._reaches: moderngl.Framebuffer | None = None
        self._bright: moderngl.Framebuffer | None = None
        self._spread: moderngl.Framebuffer | None = None
        self.spread: moderngl.Texture | None = None
        self._table: moderngl.Texture3D | None = None
        self._table_of: ColourTable | None = None

    @staticmethod
    def margin(finish: Finish, scale: float) -> int:
        """Pixels around a change that look otherwise for it, bloom left aside."""
        wide = REACH * scale if finish.blurs else 0.0
        return int(np.ceil(wide + (2 * scale if finish.sharpen else 0.0)))

    # -- lens -----------------------------------------------------------------------------------

    def focus(self, negative: Negative, finish: Finish) -> None:
        """Find out how far what is out of focus spreads; what was found stays until then."""
        if finish.lens(negative.camera) <= 0:
            return
        block = self._block(negative)
        small = (-(-self.size[0] // block), -(-self.size[1] // block))
        if self._nearest is None or self._reaches is None:
            self._nearest, self._reaches = (
                self._ctx.framebuffer([self._ctx.texture(small, 1, dtype="f2")]) for _ in range(2)
            )
        self._ctx.enable_only(moderngl.NOTHING)
        self._nearest.use()
        self._nearest.scissor = None  # type: ignore[assignment]
        program = self._programs.screen("nearest")
        negative.depths.use(1)
        put(program, depths=1, block=block, **_lens(negative, finish))
        self._programs.run(program)
        self._reaches.use()
        self._reaches.scissor = None  # type: ignore[assignment]
        program = self._programs.screen("reach")
        _texture(self._nearest).use(0)
        put(program, nearest=0, block=float(block), around=int(np.ceil(REACH * negative.scale / block)))
        self._programs.run(program)

    @staticmethod
    def _block(negative: Negative) -> int:
        return max(round(BLOCK * negative.scale), 1)

    def blur(self, negative: Negative, finish: Finish, rect: Rect) -> None:
        """Put what is out of focus out of focus, within a rectangle."""
        if finish.lens(negative.camera) <= 0:
            self._sharp = negative.picture
            return
        if self._reaches is None:
            self.focus(negative, finish)
        if self._blurred is None:
            texture = self._ctx.texture(self.size, 4, dtype="f2")
            texture.repeat_x = texture.repeat_y = False
            self._blurred = self._ctx.framebuffer([texture])
        self._sharp = _texture(self._blurred)
        self._blurred.use()
        self._blurred.scissor = rect
        self._ctx.enable_only(moderngl.NOTHING)
        program = self._programs.screen("lens")
        negative.picture.use(0)
        negative.depths.use(1)
        assert self._reaches is not None
        _texture(self._reaches).use(2)
        put(program, picture=0, depths=1, reaches=2, block=self._block(negative))
        put(program, corner=negative.window.corner, **_lens(negative, finish))
        self._programs.run(program)

    def read_blurred(self) -> F32:
        """What is out of focus by now, codes (h, w, 4), top row first."""
        assert self._blurred is not None
        data = self._blurred.read(components=4, dtype="f2")
        width, height = self.size
        return np.frombuffer(data, np.float16).reshape(height, width, 4)[::-1].astype(np.float32)

    def bloom(self, negative: Negative, finish: Finish) -> None:
        """Spread what is bright over a small picture; the one there is stays until then."""
        if finish.bloom <= 0:
            return
        block = max(round(self.size[1] / SPREAD), 1)
        small = (-(-self.size[0] // block), -(-self.size[1] // block))
        if self._bright is None or self._spread is None:
            self._bright, self._spread = (
                self._ctx.framebuffer([self._ctx.texture(small, 3, dtype="f2")]) for _ in range(2)
            )
            for frame in (self._bright, self._spread):
                texture = _texture(frame)
                texture.repeat_x = texture.repeat_y = False
                texture.filter = (moderngl.LINEAR, moderngl.LINEAR)
        bright, spread = _texture(self._bright), _texture(self._spread)
        self._ctx.enable_only(moderngl.NOTHING)
        self._bright.use()
        self._bright.scissor = None  # type: ignore[assignment]
        program = self._programs.screen("bright")
        (self._sharp or negative.picture).use(0)
        put(program, picture=0, block=block)
        self._programs.run(program)
        levels = max(min(int(np.log2(max(small))), 6), 1)
        bright.build_mipmaps(0, levels)
        bright.filter = (moderngl.LINEAR_MIPMAP_LINEAR, moderngl.LINEAR)
        self._spread.use()
        self._spread.scissor = None  # type: ignore[assignment]
        program = self._programs.screen("spread")
        bright.use(0)
        put(program, bright=0, size=small, levels=levels)
        self._programs.run(program)
        self.spread = spread

    # -- film -----------------------------------------------------------------------------------

    def develop(
        self,
        negative: Negative,
        finish: Finish,
        table: ColourTable | None,
        rect: Rect,
        target: moderngl.Framebuffer | None = None,
        resting: bool = False,
        marked: bool = False,
    ) -> None:
        """Bring light to colours within a rectangle, to `target` or to `developed`.

        With `resting` what takes long is left out: it follows when the picture rests. With `marked` alpha is no cover, and is kept.
        """
        to = target or self.target
        to.use()
        to.scissor = rect
        self._ctx.enable_only(moderngl.NOTHING)
        blooms = finish.bloom > 0 and self.spread is not None and not resting
        tabled = table is not None and finish.table_share > 0
        program = self._programs.screen(
            "develop",
            CURVE=list(CURVES).index(finish.curve),
            BLOOM=int(blooms),
            GRADE=int(finish.graded),
            TABLE=int(tabled),
            SHARPEN=int(finish.sharpen > 0 and not resting),
            PRINT=int(finish.vignette > 0 or finish.grain > 0),
            MARKED=int(marked),
        )
        sharp = None if resting else self._sharp
        (sharp or negative.picture).use(0)
        window = negative.window
        if blooms and self.spread is not None:
            self.spread.use(1)
            put(program, spread=1, bloom=finish.bloom)
        if tabled and table is not None:
            self._use_table(table)
            put(program, table=TABLE_UNIT, table_share=finish.table_share, table_steps=float(table.size))
        put(
            program,
            picture=0,
            balance=tuple(finish.balance().tolist()),
            lift=finish.lift,
            gamma=tuple(1 / one for one in finish.gamma),
            gain=finish.gain,
            colourful=finish.colourful,
            sharpen=finish.sharpen,
            vignette=finish.vignette,
            grain=finish.grain,
            size=window.size,
            corner=window.corner,
            whole=window.whole,
            pixel_scale=negative.scale,
        )
        self._programs.run(program)

    def _use_table(self, table: ColourTable) -> None:
        if self._table is None or table is not self._table_of:
            if self._table is not None:
                self._table.release()
            n = table.size
            self._table = self._ctx.texture3d(
                (n, n, n), 3, table.steps.astype(np.float16).tobytes(), dtype="f2"
            )
            self._table.repeat_x = self._table.repeat_y = self._table.repeat_z = False
            self._table.filter = (moderngl.LINEAR, moderngl.LINEAR)
            self._table_of = table
        self._table.use(TABLE_UNIT)

    def around(self, rect: Rect, finish: Finish, scale: float) -> Rect:
        """A rectangle with all that looks otherwise when it does."""
        return grown(rect, self.margin(finish, scale), *self.size)

    def release(self) -> None:
        """Give the graphics memory back."""
        for frame in (self._blurred, self._nearest, self._reaches, self._bright, self._spread):
            if frame is not None:
                for attachment in frame.color_attachments:
                    attachment.release()
                frame.release()
        self.target.release()
        self.developed.release()
        if self._table is not None:
            self._table.release()


def _lens(negative: Negative, finish: Finish) -> dict[str, Any]:
    """What programs need to know of a lens that is open."""
    camera = negative.camera
    return {
        "depth_terms": negative.depth_terms,
        "sharp": finish.focus_distance(camera),
        "wide": finish.spread(camera, negative.window.whole[1]),
        "most": REACH * negative.scale,
    }


def _texture(frame: moderngl.Framebuffer) -> moderngl.Texture:
    """What a framebuffer draws to."""
    texture = frame.color_attachments[0]
    assert isinstance(texture, moderngl.Texture)
    return texture
