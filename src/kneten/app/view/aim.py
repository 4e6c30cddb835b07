"""Where pixels of the view meet one part, and how a pen's pressure tells."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from kneten.core.arrays import F64
from kneten.core.brush_path import PenPoint, Touch
from kneten.core.brushes.tool import BrushSettings, Tool
from kneten.core.falloff import curve_at
from kneten.core.live_density import Density
from kneten.core.picking import Hit, pick
from kneten.document.scene import Part

if TYPE_CHECKING:
    from kneten.app.view.canvas import Canvas

TILT_SIZE = 0.8
"""By how much a pen laid flat widens the brush, where that is wanted."""


def pressed(settings: BrushSettings, pressure: float, tilt: float = 0.0) -> tuple[float, float]:
    """Factors for size and strength that a pen's pressure and tilt give."""
    factor = curve_at(settings.pressure_curve, pressure)
    force = (
        curve_at(settings.pressure_curve_strength, pressure) if settings.pressure_curve_strength else factor
    )
    # A touch without pressure still leaves a mark of a fifth of the size.
    size = 0.2 + 0.8 * factor if settings.pressure_size else 1.0
    if settings.tilt_size:
        size *= 1.0 + TILT_SIZE * tilt
    return size, force if settings.pressure_strength else 1.0


class Aim:
    """Where pixels of the view meet one part, in the part's space."""

    def __init__(self, view: Canvas, part: Part, settings: BrushSettings, tool: Tool | None = None) -> None:
        self.density = None if tool is None else view.studio.live.density(part, tool)
        self.view = view
        self.part = part
        self.settings = settings
        self.camera = view.camera
        self.width, self.height = view.wide, view.high

    def radius(self, point: F64, pressure: float = 1.0, tilt: float = 0.0) -> float:
        """The brush's radius at a point of the scene, in the part's lengths."""
        return self.full_radius(point) * pressed(self.settings, pressure, tilt)[0]

    def full_radius(self, point: F64) -> float:
        """The same as it is set, whatever the pen does."""
        size = self.settings.size
        if not self.settings.size_on_model:
            size *= self.camera.pixel_size(point, self.height)
        return size / self.part.transform.scale

    def detail(self, touch: Touch) -> Density | None:
        """What a dab there makes of the mesh."""
        if self.density is None:
            return None
        place = self.part.transform
        pixel = self.camera.pixel_size(place.to_scene(touch.point[None])[0], self.height)
        return self.density(pixel, touch.radius * place.scale)

    def hit(self, x: float, y: float) -> Hit | None:
        """Where a pixel meets the clay."""
        origin, way = self.camera.ray(x, y, self.width, self.height)
        place = self.part.transform
        return pick(self.part.mesh, place.to_part(origin[None])[0], place.way_to_part(way))

    def touch(self, pen: PenPoint, found: Callable[[F64, int], F64] | None = None) -> Touch | None:
        """Where the pen meets the clay.

        `found` tells of a place and its face where that was before the stroke: what a stroke lays is no way to go.
        """
        place = self.part.transform
        hit = self.hit(pen.x, pen.y)
        if hit is None:
            return None
        local_way = place.way_to_part(self.camera.ray(pen.x, pen.y, self.width, self.height)[1])
        point = place.to_scene(hit.point[None])[0]
        radius = self.radius(point, pen.pressure, pen.tilt)
        place_found = hit.point if found is None else found(hit.point, hit.face)
        return Touch(place_found, local_way, radius, pen.pressure, pen.way)

    def up(self, way: float = 0.0) -> F64:
        """The picture's top in the part's space, (3,); turned to the left by so many radians."""
        right, top, _ = self.camera.axes()
        return self.part.transform.way_to_part(top * float(np.cos(way)) - right * float(np.sin(way)))
