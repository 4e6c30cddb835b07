"""How a picture is to be drawn: ground, look, which part is in hand, how much effort."""

from __future__ import annotations

from dataclasses import dataclass, field

from kneten.core.arrays import F32
from kneten.core.light.finish import ColourTable, Finish
from kneten.document.look import Look
from kneten.render.laid import Sheets

Colour = tuple[float, float, float]


@dataclass(frozen=True)
class Ground:
    """What is behind the clay, and the colour of lines drawn on it."""

    middle: Colour = (0.185, 0.168, 0.152)
    rim: Colour = (0.085, 0.076, 0.068)
    line: Colour = (0.46, 0.43, 0.40)
    accent: Colour = (0.498, 0.722, 0.643)


KILN = Ground()
PORCELAIN = Ground((0.90, 0.885, 0.86), (0.74, 0.72, 0.69), (0.50, 0.475, 0.44), (0.184, 0.490, 0.408))

PAPER = Ground((0.80, 0.785, 0.76), (0.70, 0.685, 0.66), (0.50, 0.475, 0.44), (0.184, 0.490, 0.408))
"""Behind a silhouette, in both themes: a dark form needs a pale ground."""

EFFECTS = ("Plain", "Smooth edges", "Creases", "All")
"""What each level of effort draws; each includes those before."""

ALL_EFFECTS = 3


@dataclass(frozen=True)
class Style:
    """Everything about a picture but scene and camera.

    Attributes
    ----------
    active : str or None
        Id of the part in hand: outlined, or the only one that is whole.
    effects : int
        0 to 3, see `EFFECTS`: what a slow machine leaves out first stands last.
    matcaps : dict
        The user's own pictures by name.
    clear_ground : bool
        Leave the ground transparent.
    distances : dict
        For each part's id a value (n,) 0..1 of its vertices: shown as colours instead of the look.
    finish : Finish
        What is done to the picture after light, in the look Lit.
    table : ColourTable or None
        That of the finish.
    only_ground : bool
        The clay casts its shadows, and is not drawn itself.
    marks : dict
        For parts' ids numbers, 1 to 2000, by which they are told apart in `Renderer.read_normals`.
    laid : dict
        For parts' ids what is drawn on them by their UVs.
    """

    ground: Ground = KILN
    look: Look = Look()
    active: str | None = None
    effects: int = ALL_EFFECTS
    matcaps: dict[str, bytes] = field(default_factory=dict)
    clear_ground: bool = False
    distances: dict[str, F32] = field(default_factory=dict)
    finish: Finish = Finish()
    table: ColourTable | None = None
    only_ground: bool = False
    marks: dict[str, float] = field(default_factory=dict)
    laid: dict[str, Sheets] = field(default_factory=dict)

    @property
    def heat(self) -> str:
        """The measure that colours the clay, or ""."""
        if self.distances:
            return "distance"
        # What UVs are like is to be read, whatever the light.
        return "laid" if any(not sheets.pictures for sheets in self.laid.values()) else self.look.heat

    @property
    def materials(self) -> bool:
        """Whether it shows what the clay is made of."""
        return self.look.kind in ("sky", "lit") and not self.heat

    @property
    def behind(self) -> Ground:
        """The ground that is really drawn."""
        return PAPER if self.look.kind == "silhouette" else self.ground

    @property
    def cavity(self) -> bool:
        """Whether creases are drawn."""
        return self.look.cavity and self.effects >= 2 and self.look.kind not in ("silhouette", "flat")

    @property
    def cover(self) -> bool:
        """Whether covered places are darkened."""
        return self.look.cover and self.effects >= 3 and self.look.kind not in ("silhouette", "flat")
