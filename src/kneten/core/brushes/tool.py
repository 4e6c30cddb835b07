"""What a tool is: its words, its defaults, and the function that moves the clay."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from kneten.core.arrays import F32, F64
from kneten.core.falloff import PRESETS, PRESSURE_LINEAR, Points
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, mean_normal, measure
from kneten.core.workspace import Workspace


@dataclass(frozen=True)
class BrushSettings:
    """How a tool is held.

    Attributes
    ----------
    size : float
        Radius, in screen pixels at 1x, or in millimetres when `size_on_model`.
    strength : float
        0..1.
    falloff : points of a curve, from the middle (0) to the rim (1)
    spacing : float
        Distance between dabs as a share of the radius.
    pressure_size, pressure_strength : bool
        Whether the pen's pressure changes size and strength, through `pressure_curve`.
    tilt_size : bool
        Whether a tilted pen widens the brush.
    steadying : float
        Length of the leash between cursor and brush, in pixels; 0 follows at once.
    front_only, connected_only : bool
    build_up_limit : float
        The farthest one stroke may move the clay, as a share of the radius; 0 is without limit.
    reverse : bool
    """

    size: float = 60.0
    strength: float = 0.5
    falloff: Points = PRESETS["soft"]
    spacing: float = 0.12
    size_on_model: bool = False
    pressure_size: bool = False
    pressure_strength: bool = True
    tilt_size: bool = False
    pressure_curve: Points = PRESSURE_LINEAR
    steadying: float = 0.0
    front_only: bool = False
    connected_only: bool = False
    build_up_limit: float = 0.0
    reverse: bool = False


@dataclass(frozen=True)
class Dab:
    """One touch of the brush, in the part's own space.

    Attributes
    ----------
    centre, along, view : (3,) float64
        Where; the stroke's direction there (zero when not known yet); from the eye to the clay.
    radius : float
    strength : float
        Negative when reversed; pressure is in it.
    spacing : float
        Share of the radius to the next dab: what a dab does is scaled by it, so that the form left
        by a stroke does not depend on how densely it was sampled.
    """

    centre: F64
    along: F64
    view: F64
    radius: float
    strength: float
    spacing: float


Displace = Callable[[Mesh, Workspace, Reach, Dab], None]


@dataclass(frozen=True)
class Tool:
    """A sculpting tool.

    Attributes
    ----------
    key : str
        Name in files and commands.
    holds : bool
        Whether it keeps what it grabbed at the press (Pull) instead of leaving dabs.
    needs : int
        Vertices under the brush below which what it leaves looks stepped.
    reversed_name : str
        What it does while reversed; empty when reversing changes nothing.
    """

    key: str
    name: str
    does: str
    displace: Displace
    defaults: BrushSettings = field(default_factory=BrushSettings)
    holds: bool = False
    needs: int = 40
    reversed_name: str = ""


def measured(mesh: Mesh, reach: Reach, dab: Dab) -> F32:
    """Mean position and normal under the dab, (6,) float32."""
    out = np.zeros(6, np.float32)
    x, y, z = dab.centre
    measure(mesh.positions, mesh.normals, reach.vertices, reach.weights, x, y, z, dab.radius, out)
    return out


def facing(mesh: Mesh, reach: Reach) -> F32:
    """Mean normal under the dab where `measured` has it, at half the price: (6,) float32."""
    out = np.zeros(6, np.float32)
    mean_normal(mesh.normals, reach.vertices, reach.weights, out)
    return out


def stroke_line(mesh: Mesh, reach: Reach, dab: Dab) -> tuple[F32, F64, F64]:
    """Mean surface (6,), a point on the stroke's line, and the line's direction along the surface."""
    plane = measured(mesh, reach, dab)
    normal = plane[3:].astype(np.float64)
    along = dab.along - normal * float(dab.along @ normal)
    length = float(np.sqrt(along @ along))
    if length > 1e-6:
        return plane, dab.centre, along / length
    return plane, dab.centre, np.zeros(3)
