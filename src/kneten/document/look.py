"""How the clay is looked at: kept with the project, never part of the clay."""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Any

from kneten.core.words import all_finite

LOOKS: dict[str, tuple[str, str]] = {
    "clay": ("Clay", "Stoneware under a studio's soft light"),
    "matcap": ("Matcap", "A material painted on a ball, carried over by direction"),
    "lamp": ("Lamp", "One lamp, dragged over the form, with its shadow"),
    "sky": ("Sky", "A real material under sky and sun"),
    "lit": ("Lit", "All lamps of the project, its sky and its floor"),
    "flat": ("Flat", "Only the colours, without light"),
    "planes": ("Planes", "The form cut into flat planes"),
    "curvature": ("Curvature", "Ridges and hollows in colours"),
    "contours": ("Contours", "Lines of equal height"),
    "stretch": ("Stretch", "Where faces are pulled out of shape"),
    "density": ("Density", "How long the edges are"),
    "regions": ("Regions", "Each region of the clay in a glaze of its own"),
    "silhouette": ("Silhouette", "The outline alone, flat on the ground"),
}
"""Name and what it shows, by key."""

HEATS = ("curvature", "stretch", "density", "regions")
"""Looks that colour each vertex by a measure or by what it belongs to."""


@dataclass(frozen=True)
class Look:
    """A look and what lies over it.

    Attributes
    ----------
    kind : str
        A key of `LOOKS`.
    matcap : str
        Which one: a name of ours, or ``own:`` and the name of a picture of the user's.
    lamp : two floats
        Where the lamp shines from: right and up, -1..1, on the half ball before the picture.
    lamp_soft : float
        0 a hard edge of the shadow, 1 a very soft one.
    roughness, metalness : float
        Of the material under the sky, 0..1.
    steps : int
        Planes over a quarter turn.
    band : float
        Millimetres between contours; 0 chooses by the size of what is seen.
    cavity, cover, outline, wires, xray, back_faces, floor : bool
        Creases; ambient occlusion; the outline of the part in hand; the mesh's edges; hidden forms shining
        through; insides marked; a floor with grid and contact shadow.
    ghost : bool
        All parts but the one in hand as outlines only.
    isolate : bool
        Only the part in hand.
    """

    kind: str = "clay"
    matcap: str = "form"
    lamp: tuple[float, float] = (-0.55, 0.5)
    lamp_soft: float = 0.4
    roughness: float = 0.45
    metalness: float = 0.0
    steps: int = 3
    band: float = 0.0
    cavity: bool = True
    cover: bool = True
    outline: bool = False
    wires: bool = False
    xray: bool = False
    back_faces: bool = False
    floor: bool = False
    ghost: bool = False
    isolate: bool = False

    @property
    def casts_shadow(self) -> bool:
        """Whether the light needs a map of what it reaches."""
        return self.kind in ("lamp", "sky", "lit")

    @property
    def heat(self) -> str:
        """The measure that colours the clay, or ""."""
        return self.kind if self.kind in HEATS else ""


def look_from_words(words: dict[str, Any]) -> Look:
    """A look from a file. Raises `ValueError` when a value is not usable."""
    known = {}
    for field in fields(Look):
        if field.name not in words:
            continue
        value = words[field.name]
        default = field.default
        if field.name == "lamp":
            x, y = (float(v) for v in value)
            value = (min(max(x, -1.0), 1.0), min(max(y, -1.0), 1.0))
        elif isinstance(default, bool | int | float | str):
            value = type(default)(value)
        known[field.name] = value
    look = Look(**known)
    if look.kind not in LOOKS or not 1 <= look.steps <= 12 or not all_finite(vars(look)):
        raise ValueError("the look is not usable")
    return look
