"""Paint that follows the form: where it lies is worked out from hollows, peaks, height, slope, thickness and the like."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core import masks
from kneten.core.arrays import F32, F64, U8, Progress
from kneten.core.covered import covered
from kneten.core.grain import Grain, heights
from kneten.core.mesh import Mesh
from kneten.core.paint.ink import Colour

KINDS: dict[str, tuple[str, str]] = {
    "hollows": ("Hollows", "Creases and hollows: 0 % is flat, 100 % the deepest"),
    "peaks": ("Edges, peaks", "Edges and what stands out: 0 % is flat, 100 % the sharpest"),
    "covered": (
        "Covered",
        "How much of the sky other clay of the part covers: 0 % is open, 100 % is shut in",
    ),
    "height": (
        "Height",
        "How high it lies in the scene: 0 % is the lowest, 100 % the highest place of the part",
    ),
    "up": ("Facing up", "How far the clay leans: 0 % faces down, 50 % is upright, 100 % faces up"),
    "thin": ("Thin", "How thin the clay is: 100 % is as thin as can be"),
    "mask": ("Near the mask", "How near the masked clay is: 100 % is at it"),
    "clouds": ("Clouds", "Uneven patches without a cause"),
    "speckles": ("Speckles", "Separate spots, strewn"),
}
"""What paint can follow: names, and what the limits mean."""

START: dict[str, tuple[float, float, float]] = {
    "hollows": (0.5, 1.0, 0.45),
    "peaks": (0.5, 1.0, 0.45),
    "covered": (0.35, 1.0, 0.3),
    "height": (0.0, 0.15, 0.35),
    "up": (0.8, 1.0, 0.25),
    "thin": (0.96, 1.0, 0.03),
    "mask": (0.98, 1.0, 0.06),
    "clouds": (0.6, 1.0, 0.15),
    "speckles": (0.3, 1.0, 0.12),
}
"""Limits to begin with: from, to, and how softly it runs out."""

CREASES = ("hollows", "peaks")

FULL = 0.42
"""How far the measure of creases is from flat where it counts as deepest; beyond are only the mesh's own edges."""

BROAD, MOST_ROUNDS = 0.012, 40
"""How far creases are evened, as a share of the part's size, so that paint runs out into what lies around; and rings at most."""

PATTERNS = {"clouds": "clouds", "speckles": "pits"}
"""The grain that a pattern is taken from."""


@dataclass(frozen=True)
class Wash:
    """A colour, and where it lies.

    Attributes
    ----------
    kind : str
        Of `KINDS`.
    low, high, soft : float
        The measures between which it lies, 0 to 1, and over how much it runs out there.
    colour : three ints
        sRGB codes.
    strength : float
        How much it covers, 0 to 1.
    scale : float
        How wide the largest patch of a pattern is, in the part's own units.
    seed : int
        Another number gives another pattern.
    """

    kind: str = "hollows"
    low: float = 0.5
    high: float = 1.0
    soft: float = 0.45
    colour: Colour = (90, 60, 50)
    strength: float = 0.7
    scale: float = 12.0
    seed: int = 1

    @property
    def usable(self) -> bool:
        """Whether its numbers make sense."""
        shares = (self.low, self.high, self.soft, self.strength)
        return (
            self.kind in KINDS
            and all(0 <= share <= 1 for share in shares)
            and 0 < self.scale < 1e6
            and all(0 <= code <= 255 for code in self.colour)
        )


def measured(wash: Wash, mesh: Mesh, up: F64, mask: F32 | None, progress: Progress) -> F32:
    """What a wash goes by, 0 to 1, for each vertex, (n,).

    Parameters
    ----------
    up : (3,) float64
        Upwards in the mesh's own space.
    mask : (n,) float32 or None
        What is masked; without any nothing is near it.
    """
    kind, extent = wash.kind, masks.extent(mesh)
    edge = extent / max(np.sqrt(mesh.n_vertices), 1.0)
    if kind in CREASES:
        off = masks.cavity(mesh, int(np.clip(BROAD * extent / edge, 2, MOST_ROUNDS))) - 0.5
        return np.clip(off / (-FULL if kind == "hollows" else FULL), 0, 1).astype(np.float32)
    if kind == "covered":
        return covered(mesh, progress)
    if kind == "height":
        return masks.along(mesh.positions.astype(np.float64), up)
    if kind == "up":
        return masks.facing(mesh.normals, up)
    if kind == "thin":
        return 1 - masks.thickness(mesh, progress)
    if kind == "mask":
        return np.zeros(mesh.n_vertices, np.float32) if mask is None else 1 - masks.from_mask(mesh, mask)
    grain = Grain(kind=PATTERNS[kind], scale=wash.scale, seed=wash.seed, roughness=0.6)
    found = heights(grain, None, mesh.positions, mesh.normals, edge)
    # Pits are spots, the deeper the nearer to their middles.
    return np.clip(-found if kind == "speckles" else 0.5 + 0.5 * found, 0, 1).astype(np.float32)


def share_of(wash: Wash, measure: F32) -> F32:
    """How much paint each vertex gets, (n,), by its measure (n,)."""
    low, high = sorted((wash.low, wash.high))
    return masks.between(measure, low, high, wash.soft) * np.float32(wash.strength)


def washed(wash: Wash, measure: F32) -> U8:
    """The paint of a layer that a wash makes, (n, 4), by the measures (n,)."""
    out = np.empty((len(measure), 4), np.uint8)
    out[:, :3] = wash.colour
    out[:, 3] = np.rint(255 * share_of(wash, measure))
    out[out[:, 3] == 0] = 0
    return out
