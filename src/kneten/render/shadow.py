"""Maps of what a lamp reaches, and of how high clay stands over the floor."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import moderngl
import numpy as np

from kneten.core.arrays import F64
from kneten.document.scene import Part
from kneten.render.parts import LARGE, Shelf
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
        Size in the scene of one of its pixels; of a map that is seen from a place, at a distance of 1.
    deep : two floats
        The least and the greatest distance that it tells apart, mm.
    share : float
        How much of its width a millimetre takes; of a map that is seen from a place, at a distance of 1.
    """

    matrix: F64
    texel: float
    deep: tuple[float, float] = (0.0, 1.0)
    share: float = 1.0


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


def far_sight(way: F64, low: F64, high: F64, size: int) -> Sight:
    """As `lamp_sight`, of a box between corners (3,), with depths counted from where the light reaches it."""
    sight = lamp_sight(way, low, high, size)
    across = sight.texel * size
    return Sight(sight.matrix, sight.texel, (0.0, across), 1 / across)


WIDEST = 1.30
"""Half the angle that a map from a place looks across at the most, radians: clay all round it cannot be on one map."""


def near_sight(place: F64, aim: F64, low: F64, high: F64, size: int) -> Sight:
    """A view from a place (3,) at all of a box between corners (3,) that is before it, towards the box or where it aims."""
    centre, radius = (low + high) / 2, float(np.linalg.norm(high - low)) / 2 * 1.02 + 1e-6
    away = float(np.linalg.norm(centre - place))
    outside = away > radius * 1.05
    ahead = centre - place if outside else aim - place
    ahead = ahead / max(float(np.linalg.norm(ahead)), 1e-9)
    half = min(float(np.arcsin(radius / away)) * 1.02, WIDEST) if outside else WIDEST
    near = max(away - radius, 0.01 * radius)
    far = max(away + radius, near * 1.5)
    side = np.cross([0.0, 1.0, 0.0] if abs(ahead[1]) < 0.95 else [1.0, 0.0, 0.0], -ahead)
    side /= np.linalg.norm(side)
    axes = np.array([side, np.cross(-ahead, side), -ahead])
    slope = float(np.tan(half))
    view = np.eye(4)
    view[:3, :3], view[:3, 3] = axes, -axes @ place
    lens = np.zeros((4, 4))
    lens[0, 0] = lens[1, 1] = 1 / slope
    lens[2, 2], lens[2, 3] = -(far + near) / (far - near), -2 * far * near / (far - near)
    lens[3, 2] = -1.0
    return Sight(lens @ view, 2 * slope / size, (near, far), 1 / (2 * slope))


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
    """A square picture of depths only, or so many side by side and one above the other."""

    def __init__(self, ctx: moderngl.Context, size: int, tiles: tuple[int, int] = (1, 1)) -> None:
        self.ctx = ctx
        self.size = size
        self.tiles = tiles
        self.texture = ctx.depth_texture((size * tiles[0], size * tiles[1]))
        self.texture.compare_func = ""
        self.texture.repeat_x = self.texture.repeat_y = False
        self._frame = ctx.framebuffer([], self.texture)
        self.sight: Sight | None = None

    def tile(self, k: int) -> tuple[float, float, float, float]:
        """Where a picture lies in all: its corner and its size, as shares."""
        across, high = self.tiles
        return k % across / across, k // across / high, 1 / across, 1 / high

    def draw(
        self,
        parts: list[Part],
        shelf: Shelf,
        programs: Programs,
        sight: Sight,
        clear: bool,
        tile: int = 0,
        whole: int = LARGE,
    ) -> Iterator[None]:
        """Draw the parts to a picture in steps, those of more triangles than `whole` by their stand-ins; with `clear` not what one sees through."""
        self.sight = sight
        place = (tile % self.tiles[0] * self.size, tile // self.tiles[0] * self.size, self.size, self.size)
        self._frame.viewport = place
        self._frame.scissor = place
        self._frame.use()
        self._frame.clear(depth=1.0, viewport=place)
        count = 0
        for part in parts:
            drawn = shelf[part]
            program = programs.mesh("depth", CLEAR=int(clear and drawn.need_opacity()))
            few = drawn.is_large and drawn.n_triangles > whole
            array = drawn.array(program, "stand-in" if few else "faces")
            # As it was sent: loose clay may have grown since.
            total = array.vertices if few else 3 * drawn.n_triangles
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
