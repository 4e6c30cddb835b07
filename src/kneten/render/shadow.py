"""Maps of what a lamp reaches, and of how high clay stands over the floor."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import moderngl
import numpy as np

from kneten.core.arrays import F64
from kneten.document.scene import Part
from kneten.render.parts import Shelf
from kneten.render.programs import Programs, put

STEP_TRIANGLES = 60_000
"""Triangles drawn to a map in one step."""


@dataclass(frozen=True)
class Sight:
    """What a map looks at.

    Attributes
    ----------
    matrix : (4, 4) float64
        From the scene to the map's clip space.
    texel : float
        Size in the scene of one of its pixels.
    """

    matrix: F64
    texel: float


def lamp_sight(way: F64, low: F64, high: F64, size: int) -> Sight:
    """A parallel view of a box between corners (3,), against a direction (3,) towards the lamp."""
    centre = (low + high) / 2
    radius = float(np.linalg.norm(high - low)) / 2 * 1.02 + 1e-6
    back = way / np.linalg.norm(way)
    side = np.cross([0.0, 1.0, 0.0] if abs(back[1]) < 0.95 else [1.0, 0.0, 0.0], back)
    side /= np.linalg.norm(side)
    axes = np.array([side, np.cross(back, side), back])
    matrix = np.eye(4)
    matrix[:3, :3] = axes * np.array([[1.0], [1.0], [-1.0]]) / radius
    matrix[:3, 3] = -matrix[:3, :3] @ centre
    return Sight(matrix, 2 * radius / size)


def floor_sight(low: F64, high: F64, size: int) -> Sight:
    """From below the floor straight up at a box between corners (3,): the nearest clay is the lowest. x and z across, y into the map."""
    centre = (low + high) / 2
    half = floor_half(low, high)
    deep = float(high[1] - low[1]) * 1.01 + 1e-6
    matrix = np.zeros((4, 4))
    matrix[0, 0] = 1 / half
    matrix[0, 3] = -centre[0] / half
    matrix[1, 2] = 1 / half
    matrix[1, 3] = -centre[2] / half
    matrix[2, 1] = 2 / deep
    matrix[2, 3] = -2 * low[1] / deep - 1
    matrix[3, 3] = 1
    return Sight(matrix, 2 * half / size)


def floor_half(low: F64, high: F64) -> float:
    """Half the width of the floor's map: the clay, between corners (3,), and as much again around it."""
    return float(max(high[0] - low[0], high[2] - low[2])) * 0.95 + 1e-6


class DepthMap:
    """A square picture of depths only."""

    def __init__(self, ctx: moderngl.Context, size: int) -> None:
        self.ctx = ctx
        self.size = size
        self.texture = ctx.depth_texture((size, size))
        self.texture.compare_func = ""
        self.texture.repeat_x = self.texture.repeat_y = False
        self._frame = ctx.framebuffer([], self.texture)
        self.sight: Sight | None = None

    def draw(
        self, parts: list[Part], shelf: Shelf, programs: Programs, sight: Sight, clear: bool
    ) -> Iterator[None]:
        """Draw the parts in steps, large ones by their stand-ins; with `clear` not what one sees through."""
        self.sight = sight
        self._frame.use()
        self._frame.clear(depth=1.0)
        count = 0
        for part in parts:
            drawn = shelf[part]
            program = programs.mesh("depth", CLEAR=int(clear and drawn.need_opacity()))
            array = drawn.array(program, "stand-in" if drawn.is_large else "faces")
            total = array.vertices
            for first in range(0, total, 3 * STEP_TRIANGLES):
                self._frame.use()
                self.ctx.enable_only(moderngl.DEPTH_TEST)
                put(program, clip_from_part=sight.matrix @ part.transform.matrix())
                array.render(vertices=min(3 * STEP_TRIANGLES, total - first), first=first)
                count += 1
                yield

    def release(self) -> None:
        """Give the memory back."""
        self._frame.release()
        self.texture.release()
