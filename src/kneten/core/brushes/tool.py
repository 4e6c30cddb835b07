"""What a tool is: its words, its defaults, and the function that moves the clay."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from kneten.core.arrays import F32, F64
from kneten.core.falloff import PRESETS, PRESSURE_LINEAR, Points
from kneten.core.live_density import Density
from kneten.core.mesh import Mesh
from kneten.core.press import Tip
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
    front_only : bool
    through : bool
        Reach all clay within the radius: its far side, and what lies beside it, as well.
    build_up_limit : float
        The farthest one stroke may move the clay, as a share of the radius; 0 is without limit.
    reverse : bool
    taper : float
        Length over which a stroke begins and ends, in radii; 0 begins and ends at once.
    kind : str
        How dabs follow the pointer: a key of `STROKES`.
    jitter : float
        How far dabs are strewn about the stroke, in radii.
    variant : str
        Which of a tool's variants; "" is its first.
    pressure_curve_strength : points
        The same as `pressure_curve`, for the strength; empty follows that one.
    speed_size : float
        How much a fast stroke narrows the brush: 0 not at all, 1 by half.
    auto_edge, auto_cavity, auto_peak, auto_region : bool
        Leave alone: open edges; hollows; what stands out; every region but that under the press.
    tip : Tip
        The press on its tip.
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
    through: bool = False
    build_up_limit: float = 0.0
    reverse: bool = False
    taper: float = 0.0
    kind: str = "continuous"
    jitter: float = 0.0
    variant: str = ""
    pressure_curve_strength: Points = ()
    speed_size: float = 0.0
    auto_edge: bool = False
    auto_cavity: bool = False
    auto_peak: bool = False
    auto_region: bool = False
    tip: Tip = Tip()


STROKES: dict[str, tuple[str, str]] = {
    "continuous": ("Continuous", "Dabs so close that they run together"),
    "spaced": ("Spaced", "Single dabs, one diameter apart"),
    "line": ("Straight line", "From the press to the release; Shift snaps to steps of 15 degrees"),
    "scattered": ("Scattered", "Single dabs strewn about the stroke"),
    "dragged": ("Dragged to place", "One dab that is dragged to where it belongs"),
    "sized": ("Placed and sized", "One dab: the press places it, the drag says how large it is"),
}
"""Kinds of strokes: name and what they do."""


@dataclass(frozen=True)
class Strip:
    """The last piece of a stroke's way, in the part's own space.

    Attributes
    ----------
    way : (k, 2, 3) float64
        Places of it, and the stroke's direction at each.
    travel : (k,) float64
        How far the stroke had come there, in radii.
    """

    way: F64
    travel: F64


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
    travel : float
        How far the stroke has come.
    variant : str
    detail : Density or None
        What the mesh under the dab is brought to first, where it can change.
    up : (3,) float64
        Where the top of a press on its tip is; zero when it does not matter.
    turn : float
        By how much that press is turned besides, radians to the left.
    mirrored : bool
        Whether that press is turned over.
    flipped : bool
        Whether this is a mirrored twin's dab.
    strip : Strip or None
        The piece of the way that a press is unrolled over.
    """

    centre: F64
    along: F64
    view: F64
    radius: float
    strength: float
    spacing: float
    travel: float = 0.0
    variant: str = ""
    detail: Density | None = None
    up: F64 = field(default_factory=lambda: np.zeros(3))
    turn: float = 0.0
    mirrored: bool = False
    flipped: bool = False
    strip: Strip | None = None


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
    whole : bool
        Takes the body under the brush as a whole, its far side too; never what lies beside it.
    needs : int
        Vertices under the brush below which what it leaves looks stepped.
    reversed_name : str
        What it does while reversed; empty when reversing changes nothing.
    gesture : str
        What a drag means to a tool that holds: "pull" brings along, "turn", "scale" and "bend" by how far.
    variants : triples of key, name and what it does
        Other ways of doing it; the first is the usual one.
    needs_before : bool
        Works towards the clay of a milestone.
    changes : str
        What it changes instead of the form: "mask", "regions" or "paint".
    paints : str
        What it does to colours: of `paint.stroke.DOES`.
    presses : bool
        Lays the press on its tip into the clay; other tools are shaped by it.
    density : str
        "refine" or "coarsen": what it does to the mesh; "grow" draws the mesh out. These need clay with live density.
    """

    key: str
    name: str
    does: str
    displace: Displace
    defaults: BrushSettings = field(default_factory=BrushSettings)
    holds: bool = False
    whole: bool = False
    needs: int = 40
    reversed_name: str = ""
    gesture: str = "pull"
    variants: tuple[tuple[str, str, str], ...] = ()
    needs_before: bool = False
    changes: str = ""
    paints: str = ""
    density: str = ""
    presses: bool = False


def measured(mesh: Mesh, reach: Reach, dab: Dab) -> F32:
    """Mean position and normal under the dab, (6,) float32."""
    return measure(mesh, reach, dab.centre, dab.radius)


def facing(mesh: Mesh, reach: Reach) -> F32:
    """Mean normal under the dab where `measured` has it, at half the price: (6,) float32."""
    out = np.zeros(6, np.float32)
    out[3:] = mean_normal(mesh, reach)
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
