"""Lamps, and how they are placed by what they do to the clay.

Light is counted so that 1 makes white clay that faces the lamp white. A lamp's strength is what arrives where it aims:
moving it away makes it softer or harder, not weaker; beyond and before that place light falls off with the square.
"""

from __future__ import annotations

import functools
import uuid
from dataclasses import dataclass, field, replace

import numpy as np
from scipy.spatial.transform import Rotation

from kneten.core.arrays import F64
from kneten.core.words import FAR, all_finite

KINDS: dict[str, tuple[str, str]] = {
    "sun": ("Sun", "Light from far away: the same everywhere, its size in degrees"),
    "panel": ("Soft panel", "A wide, soft window of light"),
    "point": ("Point", "Light in all directions, as of a lantern"),
    "spot": ("Spot", "A cone of light"),
    "rim": ("Rim", "Stays behind the clay, whatever the camera does, and draws its outline"),
}
"""Kinds of lamps: names, and what they are."""

FAR_AWAY = ("sun", "rim")
"""Kinds whose light is the same everywhere."""

MOST = 8
"""Lamps that are lit at once."""

WARMTHS = (1000.0, 20000.0)
"""Temperatures that a lamp may have, kelvin."""

Place = tuple[float, float, float]
Codes = tuple[int, int, int]


@dataclass(frozen=True)
class Lamp:
    """A lamp of a project.

    Attributes
    ----------
    kind : str
        A key of `KINDS`.
    way : three floats
        The unit direction from where it aims towards it, in the scene; of a rim in the eye's space.
    aim : three floats
        The place that it lights, in the scene.
    distance : float
        Millimetres from there to the lamp; of no meaning for those of `FAR_AWAY`.
    strength : float
        What arrives where it aims; 1 makes white clay white.
    warmth : float
        Temperature of its colour, kelvin.
    free : bool
        It has `colour` instead, sRGB codes.
    size : float
        How wide it is: millimetres, of those far away degrees. The wider, the softer its shadows.
    cone : float
        Degrees across that a spot lights; its edge is soft over a fifth of that.
    shown, solo : bool
        It is lit; only those that are solo are, if any is.
    group : str
        What those are called that are lit and put out together; "" for none.
    """

    name: str
    kind: str = "sun"
    way: Place = (-0.48, 0.62, 0.62)
    aim: Place = (0.0, 0.0, 0.0)
    distance: float = 600.0
    strength: float = 1.0
    warmth: float = 5600.0
    free: bool = False
    colour: Codes = (255, 236, 214)
    size: float = 4.0
    cone: float = 50.0
    shown: bool = True
    solo: bool = False
    group: str = ""
    id: str = field(default_factory=lambda: uuid.uuid4().hex)

    @property
    def is_far(self) -> bool:
        """Whether its light is the same everywhere."""
        return self.kind in FAR_AWAY

    def check(self) -> None:
        """Raise `ValueError` where it is not usable."""
        words = f"the lamp {self.name} is not usable"
        if self.kind not in KINDS or not all_finite(vars(self)):
            raise ValueError(words)
        if max(map(abs, (*self.aim, self.distance, self.size))) > FAR or self.distance <= 0 or self.size < 0:
            raise ValueError(words)
        if not 0.5 < float(np.linalg.norm(self.way)) < 1.5 or not 0 <= self.strength <= 1000:
            raise ValueError(words)
        if not WARMTHS[0] <= self.warmth <= WARMTHS[1] or not 1 <= self.cone <= 175:
            raise ValueError(words)
        if len(self.colour) != 3 or not all(0 <= code <= 255 for code in self.colour):
            raise ValueError(words)

    def towards(self, axes: F64) -> F64:
        """The unit direction (3,) towards it in the scene, for a camera whose axes are the rows of (3, 3)."""
        way = np.array(self.way, np.float64)
        way /= np.linalg.norm(way)
        return axes.T @ way if self.kind == "rim" else way

    def place(self) -> F64:
        """Where it stands, (3,), in the scene."""
        return np.array(self.aim) + self.towards(np.eye(3)) * self.distance

    def light(self) -> F64:
        """Its light where it aims, (3,): red, green and blue."""
        tint = colour_light(self.colour) if self.free else warm_light(self.warmth)
        return tint * self.strength

    def spread(self) -> float:
        """How wide it is seen from where it aims, as the tangent of half the angle."""
        if self.is_far:
            return float(np.tan(np.radians(min(self.size, 120.0)) / 2))
        return self.size / 2 / self.distance


def lit(lamps: tuple[Lamp, ...]) -> list[Lamp]:
    """Those that light the clay: shown, solo where any is, the strongest where there are too many."""
    shown = [lamp for lamp in lamps if lamp.shown and lamp.strength > 0]
    alone = [lamp for lamp in shown if lamp.solo]
    some = alone or shown
    if len(some) > MOST:
        strong = sorted(some, key=lambda lamp: -lamp.strength)[:MOST]
        some = [lamp for lamp in some if lamp in strong]
    return some


# -- colour ---------------------------------------------------------------------------------------


def _lobe(wave: F64, middle: float, below: float, above: float) -> F64:
    t = (wave - middle) * np.where(wave < middle, below, above)
    return np.asarray(np.exp(-0.5 * t * t))


TO_SRGB = np.array([[3.2406, -1.5372, -0.4986], [-0.9689, 1.8758, 0.0415], [0.0557, -0.2040, 1.0570]])
LUMINANCE = np.array([0.2126, 0.7152, 0.0722])


@functools.lru_cache(maxsize=512)
def _warm(warmth: float) -> tuple[float, float, float]:
    wave = np.arange(380.0, 781.0, 5.0)
    # Planck's law, up to a factor.
    power = 1.0 / (wave**5 * np.expm1(1.4388e7 / (wave * warmth)))
    seen = np.array(
        [
            1.056 * _lobe(wave, 599.8, 0.0264, 0.0323)
            + 0.362 * _lobe(wave, 442.0, 0.0624, 0.0374)
            - 0.065 * _lobe(wave, 501.1, 0.0490, 0.0382),
            0.821 * _lobe(wave, 568.8, 0.0213, 0.0247) + 0.286 * _lobe(wave, 530.9, 0.0613, 0.0322),
            1.217 * _lobe(wave, 437.0, 0.0845, 0.0278) + 0.681 * _lobe(wave, 459.0, 0.0385, 0.0725),
        ]
    )
    light = np.maximum(TO_SRGB @ (seen @ power), 0.0)
    r, g, b = (light / (LUMINANCE @ light)).tolist()
    return r, g, b


def warm_light(warmth: float) -> F64:
    """The light, (3,), of a glowing body of so many kelvin, as bright as white: Planck's law seen by the CIE's observer (Wyman, 2013)."""
    return np.array(_warm(float(np.clip(warmth, *WARMTHS))))


def colour_light(colour: Codes) -> F64:
    """The light, (3,), of a colour in sRGB codes, as bright as white; black gives none."""
    codes = np.array(colour) / 255
    light = np.where(codes <= 0.04045, codes / 12.92, ((codes + 0.055) / 1.055) ** 2.4)
    bright = float(LUMINANCE @ light)
    return light / bright if bright > 0 else light


# -- placing --------------------------------------------------------------------------------------

PLACED: dict[str, tuple[str, str]] = {
    "highlight": ("Highlight", "The lamp goes where its highlight is seen at the click"),
    "lit": ("Lit side", "The lamp goes straight before the clicked place, which is lit the most"),
    "edge": ("Edge", "The lamp turns until light and shadow meet at the click"),
}
"""What of its light is put where one clicks."""


def placed(lamp: Lamp, what: str, point: F64, normal: F64, eye: F64, axes: F64) -> Lamp:
    """The lamp so placed that one of `PLACED` falls on a point.

    Parameters
    ----------
    point, normal, eye : (3,)
        The place, its unit normal, and the unit direction from there to the eye, in the scene.
    axes : (3, 3)
        The camera's axes as rows.
    """
    if what == "lit":
        way = normal
    elif what == "highlight":
        way = 2 * (normal @ eye) * normal - eye
    else:
        way = lamp.towards(axes)
        way = way - (way @ normal) * normal
        if np.linalg.norm(way) < 1e-3:
            # It stood straight above: any way along the clay will do; that from above is usual.
            up = np.array([0.0, 1.0, 0.0]) if abs(normal[1]) < 0.9 else np.array([1.0, 0.0, 0.0])
            way = up - (up @ normal) * normal
    return turned_to(replace(lamp, aim=_three(point)), way, axes)


def turned_to(lamp: Lamp, way: F64, axes: F64) -> Lamp:
    """The lamp in a direction (3,) of the scene from where it aims; `axes` (3, 3) as in `placed`."""
    way = way / np.linalg.norm(way)
    return replace(lamp, way=_three(axes @ way if lamp.kind == "rim" else way))


def led_round(lamp: Lamp, across: float, down: float, axes: F64) -> Lamp:
    """The lamp led round what it lights, as the hand goes across and down the picture: radians; `axes` (3, 3) as in `placed`."""
    way = lamp.towards(axes)
    # Behind the clay it goes with the hand, too: there the ball turns the other way.
    side = 1.0 if way @ axes[2] >= 0 else -1.0
    turn = Rotation.from_rotvec(axes[1] * across * side) * Rotation.from_rotvec(axes[0] * down * side)
    return turned_to(lamp, turn.apply(way), axes)


def became(lamp: Lamp, kind: str, axes: F64, reach: float) -> Lamp:
    """A lamp of another kind that shines from where this one does: rims turn with the camera whose `axes` (3, 3) are given.

    `reach` is half the size of what is lit, mm: lamps that stand near begin at thrice that.
    """
    way = lamp.towards(axes)
    sizes = {"sun": 2.0, "rim": 3.0, "panel": 2.0 * reach, "point": 0.1 * reach, "spot": 0.2 * reach}
    distance = 3.0 * reach if lamp.is_far and kind not in FAR_AWAY else lamp.distance
    return turned_to(replace(lamp, kind=kind, size=sizes[kind], distance=distance), way, axes)


def _three(values: F64) -> Place:
    x, y, z = (float(v) for v in values)
    return x, y, z
