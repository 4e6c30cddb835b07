"""A pair of hands for scripts: strokes along drawn lines, through the same path a pen takes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from scipy.interpolate import CubicSpline

from kneten.core.arrays import F64
from kneten.core.brush_path import EvenSpacing, Touch
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.falloff import PRESETS
from kneten.core.mesh import Mesh
from kneten.core.picking import pick
from kneten.core.primitives import ball
from kneten.core.transform import Transform
from kneten.document.placing import resize
from kneten.document.project import Project
from kneten.document.scene import Part

Line = Sequence[tuple[float, float, float]]
FRONT = (0.0, 0.0, -1.0)


def smooth_line(points: Line, step: float) -> F64:
    """Points about `step` apart on a smooth curve through the given ones, (k, 3)."""
    through = np.array(points, np.float64)
    if len(through) == 1:
        return through
    lengths = np.linalg.norm(np.diff(through, axis=0), axis=1)
    at = np.concatenate([[0.0], np.cumsum(lengths)])
    count = max(int(at[-1] / step), 1) + 1
    return np.asarray(CubicSpline(at, through)(np.linspace(0, at[-1], count)))


FORCE = {"pellet": 2.06, "slab": 0.73, "coil": 1.5, "inflate": 1.16}
"""How much harder the demo's hand presses with some tools, for forms that were found when these did more or less."""


class Sculptor:
    """Works on the part in hand of a project."""

    def __init__(self, project: Project) -> None:
        self.project = project

    @property
    def part(self) -> Part:
        """The part in hand."""
        part = self.project.active
        assert part is not None
        return part

    def ball(self, name: str, centre: tuple[float, float, float], radii: tuple[float, float, float]) -> Part:
        """Add a ball and scale it along its axes."""
        mesh = Mesh.from_faces(*ball(1.0, 48))
        part = self.project.add_meshes(f"Add {name}", [(name, mesh, Transform(centre))])[0]
        resize(self.project, [part], radii)
        return part

    def pair(self, name: str, centre: tuple[float, float, float], radii: tuple[float, float, float]) -> None:
        """The same on both sides."""
        x, y, z = centre
        self.ball(f"{name} right", (-x, y, z), radii)
        self.ball(f"{name} left", (x, y, z), radii)

    def stroke(
        self,
        key: str,
        line: Line,
        radius: float,
        strength: float = 0.5,
        *,
        reverse: bool = False,
        view: tuple[float, float, float] = FRONT,
        falloff: str = "",
        taper: bool = True,
        times: int = 1,
        variant: str = "",
    ) -> None:
        """Draw a stroke along a line seen along `view`; `taper` presses less at both ends."""
        tool = TOOLS[key]
        settings = replace(tool.defaults, strength=strength, reverse=reverse, variant=variant)
        if falloff:
            settings = replace(settings, falloff=PRESETS[falloff])
        way = np.array(view) / np.linalg.norm(view)
        points = smooth_line(line, radius * settings.spacing / 2)
        for _ in range(times):
            part = self.part
            stroke = self.project.begin_stroke(part.id, tool, settings)
            spacing = EvenSpacing(settings.spacing)
            travel = 0.0
            for i, point in enumerate(points):
                hit = pick(part.mesh, point - way * 1000.0, way)
                share = i / max(len(points) - 1, 1)
                pressure = min(1.0, 4 * share + 0.25, 4 * (1 - share) + 0.25) if taper else 1.0
                touch = None if hit is None else Touch(hit.point, way, radius, pressure)
                for dab, along in spacing.add(touch):
                    travel += float(np.linalg.norm(along))
                    force = (-1 if reverse else 1) * strength * dab.pressure * FORCE.get(key, 1.0)
                    stroke.dab(
                        Dab(dab.point, along, dab.view, dab.radius, force, settings.spacing, travel, variant)
                    )
            self.project.end_stroke(part.id, stroke, tool.name)

    def at(self, place: tuple[float, float, float], view: tuple[float, float, float] = FRONT) -> F64 | None:
        """Where the clay is, seen along `view` through a place."""
        along = np.array(view) / np.linalg.norm(view)
        hit = pick(self.part.mesh, np.array(place) - along * 1000.0, along)
        return None if hit is None else hit.point

    def pull(
        self,
        at: tuple[float, float, float],
        way: tuple[float, float, float],
        radius: float,
        view: tuple[float, float, float] = FRONT,
    ) -> None:
        """Grab the clay at a point seen along `view` and move it."""
        tool = TOOLS["pull"]
        part = self.part
        along = np.array(view) / np.linalg.norm(view)
        hit = pick(part.mesh, np.array(at) - along * 1000.0, along)
        if hit is None:
            return
        stroke = self.project.begin_stroke(part.id, tool, tool.defaults)
        stroke.grab(hit.point, radius, along)
        for share in (0.25, 0.5, 0.75, 1.0):
            stroke.drag(np.array(way) * share, radius)
        self.project.end_stroke(part.id, stroke, tool.name)
