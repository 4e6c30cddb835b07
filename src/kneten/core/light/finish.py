"""The finish: what is done to the picture after light, as a lens, a film and a print do it."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from kneten.core.arrays import F32, F64
from kneten.core.camera import Camera
from kneten.core.light.lamps import LUMINANCE, WARMTHS, warm_light
from kneten.core.words import FAR, all_finite

CURVES: dict[str, tuple[str, str]] = {
    "neutral": ("Neutral", "Colours stay as they were painted; only what is very bright is led to white"),
    "film": ("Film", "Darks deepen, brights fade softly to white: the open curve of the film academies"),
    "soft": ("Soft", "Little contrast: brights are pressed together, nothing burns out"),
    "straight": ("Straight", "Light as it is; what is brighter than white is cut off"),
}
"""Tone curves: names, and what they do."""

WHITE = 6500.0
"""Kelvin of the light that is white when nothing is balanced."""

LARGEST_TABLE = 65
"""Steps each way of a colour table."""

Triple = tuple[float, float, float]


@dataclass(frozen=True)
class Finish:
    """What is done to a picture after light. As it comes, only the curve is.

    Attributes
    ----------
    exposure : float
        Stops by which all is brighter.
    curve : str
        A key of `CURVES`.
    white : float
        Kelvin of the light that is to look white.
    tint : float
        -1 green to 1 magenta.
    blurs : bool
        What is not at the distance of `focus` is out of focus.
    focus : three floats
        A place in the scene that is sharp.
    stop : float
        The f-number of the lens: the smaller, the less is sharp.
    bloom : float
        Share of the light that spreads around what is bright, 0 to 1.
    lift, gamma, gain : three floats
        Of red, green and blue: what is added to the darks, -1 to 1; how the middle is bent, and what the whole is
        multiplied by, 1 for not at all.
    colourful : float
        How strong colours are, 1 as they are.
    table : str
        Id of a kept colour table; "" for none.
    table_share : float
        How much of it is taken, 0 to 1.
    vignette : float
        How much darker the corners are, 0 to 1.
    grain : float
        How strong the grain of film is, 0 to 1.
    sharpen : float
        0 to 2.
    """

    exposure: float = 0.0
    curve: str = "neutral"
    white: float = WHITE
    tint: float = 0.0
    blurs: bool = False
    focus: Triple = (0.0, 0.0, 0.0)
    stop: float = 2.8
    bloom: float = 0.0
    lift: Triple = (0.0, 0.0, 0.0)
    gamma: Triple = (1.0, 1.0, 1.0)
    gain: Triple = (1.0, 1.0, 1.0)
    colourful: float = 1.0
    table: str = ""
    table_share: float = 1.0
    vignette: float = 0.0
    grain: float = 0.0
    sharpen: float = 0.0

    def check(self) -> None:
        """Raise `ValueError` where it is not usable."""
        triples = (self.lift, self.gamma, self.gain, self.focus)
        shares = (self.bloom, self.vignette, self.grain, self.table_share)
        usable = (
            self.curve in CURVES
            and all_finite(vars(self))
            and all(len(triple) == 3 for triple in triples)
            and abs(self.exposure) <= 20
            and WARMTHS[0] <= self.white <= WARMTHS[1]
            and abs(self.tint) <= 1
            and 0.5 <= self.stop <= 64
            and all(0 <= share <= 1 for share in shares)
            and max(map(abs, self.focus)) <= FAR
            and all(-1 <= one <= 1 for one in self.lift)
            and all(0.1 <= one <= 10 for one in self.gamma)
            and all(0 <= one <= 10 for one in self.gain)
            and 0 <= self.colourful <= 3
            and 0 <= self.sharpen <= 2
        )
        if not usable:
            raise ValueError("the finish is not usable")

    @property
    def graded(self) -> bool:
        """Whether colours are graded by hand."""
        bent = self.gamma != (1.0, 1.0, 1.0) or self.gain != (1.0, 1.0, 1.0)
        return bent or self.lift != (0.0, 0.0, 0.0) or self.colourful != 1.0

    def balance(self) -> F64:
        """What red, green and blue light, (3,), are multiplied by, exposure included. White keeps its brightness."""
        wanted, now = warm_light(WHITE), warm_light(self.white)
        factors = wanted / np.maximum(now, 1e-3)
        # Magenta is what lacks green.
        factors = factors * np.array([1.0, 2.0 ** (-0.5 * self.tint), 1.0])
        factors = factors / float(factors @ LUMINANCE)
        return np.asarray(factors * 2.0**self.exposure, np.float64)

    def focus_distance(self, camera: Camera) -> float:
        """Millimetres before the eye at which a camera sees sharply; what lies behind it is taken for close."""
        depth = float((camera.eye() - np.array(self.focus)) @ camera.axes()[2])
        return max(depth, camera.distance * 1e-3)

    def lens(self, camera: Camera) -> float:
        """Millimetres that a camera's lens is open, from its middle (that is, the radius); 0 where all is sharp.

        The f-number is the focal length over the width of what is open.
        """
        if not self.blurs or camera.orthographic:
            return 0.0
        return camera.focal_length / self.stop / 2

    def spread(self, camera: Camera, height: int) -> float:
        """Pixels from the middle of the disc that a point infinitely far away becomes, in a picture so high.

        Of one at depth d it is as much times |d - s| / d, for s in focus.
        """
        pixel = 2 * self.focus_distance(camera) * float(np.tan(np.radians(camera.angle) / 2)) / height
        return self.lens(camera) / pixel


@dataclass(frozen=True, eq=False)
class ColourTable:
    """A table from colours to colours, as the .cube format has it.

    Attributes
    ----------
    name : str
    steps : (n * n * n, 3) float32
        The colours, red changing the fastest.
    """

    name: str
    steps: F32 = field(repr=False)

    @property
    def size(self) -> int:
        """Steps each way."""
        return table_size(len(self.steps))


def table_size(count: int) -> int:
    """Steps each way of a table of so many colours. Raises `ValueError` where there is no such table."""
    size = round(count ** (1 / 3))
    if size**3 != count or not 2 <= size <= LARGEST_TABLE:
        raise ValueError("the colour table is not usable")
    return size


def unmultiplied(colours: F32) -> F32:
    """Colours (h, w, 4) without the alpha that they are multiplied by."""
    alpha = colours[..., 3:4]
    out = colours.copy()
    out[..., :3] = np.divide(colours[..., :3], alpha, out=np.zeros_like(out[..., :3]), where=alpha > 0)
    return out
