"""Dabs along a line across the front of a ball, as figures time them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kneten.core.brushes.tool import Dab, Strip
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.mesh import Mesh
from kneten.core.press import Press
from kneten.core.primitives import ball
from kneten.core.stroke import Stroke

DAB_VERTICES = 30_000
VIEW = np.array([0.0, 0.0, -1.0])


def clay(vertices: int) -> Mesh:
    """A ball of about so many vertices, 200 mm across."""
    return Mesh.from_faces(*ball(100.0, int(np.sqrt(vertices / 6))))


def dab_radius(mesh: Mesh, count: int = DAB_VERTICES) -> float:
    """The radius that holds about `count` vertices."""
    share = count / mesh.n_vertices
    return 200.0 * float(np.sqrt(share))


class Dabs:
    """Raise along a line across the front of a ball."""

    def __init__(self, mesh: Mesh, radius: float) -> None:
        self.mesh, self.radius = mesh, radius
        tool = TOOLS["raise"]
        self.stroke = Stroke(mesh, tool, tool.defaults)
        self.count = 0
        self.strength = -0.2

    def __call__(self, i: int) -> None:
        angle = 0.05 + 0.004 * i
        centre = np.array([np.sin(angle), 0.1, np.cos(angle)])
        centre *= 100.0 / np.linalg.norm(centre)
        # Up and down in turns: a hand's dabs are on the clay, not inside of what others have left.
        self.strength = -self.strength
        self.stroke.dab(Dab(centre, np.array([1.0, 0.0, 0.0]), VIEW, self.radius, self.strength, 0.12))
        self.count = self.stroke.n_reached


class Presses:
    """Press along the same line, stamped or rolled."""

    def __init__(self, mesh: Mesh, radius: float, rolled: bool = False) -> None:
        self.mesh, self.radius, self.rolled = mesh, radius, rolled
        tool = TOOLS["press"]
        y, x = np.mgrid[0:1024, 0:1024] / 1024
        press = Press((np.sin(40 * x) * np.cos(40 * y)).astype(np.float32), True)
        tip = replace(tool.defaults.tip, height=0.02, rolled=rolled)
        self.stroke = Stroke(mesh, tool, replace(tool.defaults, tip=tip, kind="continuous"), press=press)
        self.count = 0

    def __call__(self, i: int) -> None:
        angle = 0.05 + 0.004 * i
        line = np.array(
            [[np.sin(a), 0.1, np.cos(a)] for a in angle + np.linspace(-0.8, 0, 9) * self.radius / 100]
        )
        line *= 100.0 / np.linalg.norm(line, axis=1)[:, None]
        ways = np.gradient(line, axis=0)
        ways /= np.linalg.norm(ways, axis=1)[:, None]
        held = Strip(np.stack([line, ways], 1), np.linspace(0, 0.8, 9) + 0.1 * i) if self.rolled else None
        dab = Dab(line[4], ways[4], VIEW, self.radius, 1.0, 0.12, up=np.array([0.0, 1.0, 0.0]), strip=held)
        self.stroke.dab(dab)
        self.count = self.stroke.n_reached
