"""Materials of our own: what skin, horn, tin and the like are made of.

The numbers are set by eye under the look *Sky*, and kept within what is known of such stuff: bare metal is metalness 1, all
else 0; water lies on things as a coat of its own and leaves them as rough as they are.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from uuid import uuid4

from kneten.core.paint.ink import OPAQUE, Colour, Material

FAMILIES = {
    "body": "Body",
    "hard": "Horn, tooth, bone",
    "worn": "Hide and cloth",
    "metal": "Metal",
    "earth": "Earth and water",
}


@dataclass(frozen=True)
class Preset:
    """A material with a name.

    Attributes
    ----------
    colour : three ints
        sRGB codes.
    material : four ints
        Roughness, metalness, subsurface and wet, of 255.
    family : str
        One of `FAMILIES`; "" for the user's own.
    opacity : int
        How far it hides what is behind, of 255.
    """

    name: str
    colour: Colour
    material: Material
    family: str = ""
    id: str = field(default_factory=lambda: uuid4().hex[:12])
    opacity: int = OPAQUE

    def check(self) -> None:
        """Raise `ValueError` where it is not usable."""
        if not self.name.strip() or len(self.name) > 80:
            raise ValueError("a material has no usable name")
        if len(self.colour) != 3 or not all(0 <= code <= 255 for code in self.colour):
            raise ValueError(f"the colour of {self.name} is not usable")
        if len(self.material) != 4 or not all(0 <= code <= 255 for code in self.material):
            raise ValueError(f"the material {self.name} is not usable")
        if not 0 <= self.opacity <= 255:
            raise ValueError(f"the opacity of {self.name} is not usable")


def _some(family: str, **held: tuple[str | int, ...]) -> dict[str, Preset]:
    """Presets of a family, of a colour as hexadecimal digits and percents of roughness, metalness, subsurface, wet and, where it is not all, opacity."""
    made = {}
    for key, (colour, *shares) in held.items():
        r, g, b = (int(str(colour)[k : k + 2], 16) for k in (0, 2, 4))
        rough, metal, deep, wet, *hides = (round(255 * int(share) / 100) for share in shares)
        name = key.replace("_", " ").capitalize()
        made[key] = Preset(name, (r, g, b), (rough, metal, deep, wet), family, key, *hides)
    return made


PRESETS: dict[str, Preset] = {
    **_some(
        "body",
        pale_skin=("d9a78c", 48, 0, 70, 0),
        tanned_skin=("a8714f", 46, 0, 60, 0),
        dark_skin=("5b3a2a", 42, 0, 45, 0),
        flushed_skin=("c9796a", 45, 0, 75, 0),
        lip=("a4524e", 34, 0, 65, 25),
        nose_leather=("3c2f2c", 38, 0, 15, 60),
        gum=("b5605f", 30, 0, 70, 85),
        tongue=("b8686a", 42, 0, 75, 70),
        eye_white=("e6dcd0", 22, 0, 45, 100),
        iris=("7a5a2c", 25, 0, 20, 100),
        frog_skin=("6f7f3a", 36, 0, 50, 80),
        gill=("c2505a", 30, 0, 95, 90),
        fin=("b3653f", 30, 0, 95, 80, 45),
        cornea=("dfe8e6", 4, 0, 0, 100, 6),
        slime=("8b9a55", 20, 0, 90, 100),
        scar=("cf9a8c", 30, 0, 60, 0),
    ),
    **_some(
        "hard",
        horn=("6d5a44", 36, 0, 30, 0),
        claw=("3f352c", 26, 0, 20, 0),
        tooth=("dccfae", 22, 0, 50, 60),
        bone=("d6c7a6", 62, 0, 35, 0),
        shell=("a88a63", 24, 0, 25, 20),
        chitin=("2e2a26", 18, 0, 5, 0),
        scale=("667155", 28, 0, 20, 15),
    ),
    **_some(
        "worn",
        fur=("7a5f45", 78, 0, 15, 0),
        wet_fur=("4a3a2c", 52, 0, 10, 55),
        hide=("6a4a34", 60, 0, 10, 0),
        oiled_leather=("3f2a1d", 34, 0, 5, 10),
        linen=("b9ac8f", 88, 0, 15, 0),
        wool=("7d7566", 95, 0, 20, 0),
        rope=("a58c5c", 84, 0, 10, 0),
        feather=("59616b", 55, 0, 25, 0),
    ),
    **_some(
        "metal",
        tin=("b4b3ac", 38, 100, 0, 0),
        brass=("c59d4f", 28, 100, 0, 0),
        copper=("c0724d", 30, 100, 0, 0),
        iron=("6e6a66", 46, 100, 0, 0),
        gold=("e2b04a", 20, 100, 0, 0),
        rust=("7a4424", 88, 0, 0, 0),
        verdigris=("5f9480", 80, 0, 5, 0),
    ),
    **_some(
        "earth",
        clay=("bcb0a1", 45, 0, 0, 0),
        glaze=("3f6b5c", 30, 0, 20, 90),
        stone=("8b867d", 78, 0, 0, 0),
        wet_stone=("55524d", 50, 0, 0, 85),
        wood=("8a6440", 66, 0, 5, 0),
        wax=("e3d3a4", 36, 0, 95, 0),
        amber=("c07a25", 12, 0, 95, 60),
        water=("7d9a92", 4, 0, 0, 100, 18),
        glass=("c9d4cc", 6, 0, 0, 0, 10),
        mud=("4c3c2c", 70, 0, 5, 30),
        moss=("5a6a2e", 92, 0, 30, 0),
        soot=("23201e", 90, 0, 0, 0),
    ),
}  # fmt: skip
"""All by their keys."""
