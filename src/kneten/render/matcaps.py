"""Our own matcaps: balls of material, drawn by a few lights each, as pictures of 256 x 256."""

from __future__ import annotations

import functools
import io
from collections.abc import Callable

import numpy as np
from PIL import Image

from kneten.core.arrays import F64, U8, AnyArray

SIZE = 256

Normals = tuple[F64, F64, F64]


class MatcapError(Exception):
    """A picture cannot serve as matcap. The text says why."""


def _towards(normals: Normals, x: float, y: float, z: float) -> F64:
    """How much each place faces a direction, -1..1."""
    way = np.array([x, y, z]) / np.linalg.norm([x, y, z])
    return normals[0] * way[0] + normals[1] * way[1] + normals[2] * way[2]


def _wrapped(facing: F64, wrap: float) -> F64:
    return np.clip((facing + wrap) / (1 + wrap), 0, 1)


def _shine(normals: Normals, x: float, y: float, z: float, power: float) -> F64:
    """A highlight of a light from a direction, seen from the front."""
    light = np.array([x, y, z]) / np.linalg.norm([x, y, z])
    half = light + np.array([0.0, 0.0, 1.0])
    return np.asarray(np.clip(_towards(normals, *half), 0, 1) ** power)


def _panel(normals: Normals, x: float, y: float, wide: float, high: float, soft: float) -> F64:
    """The mirror image of a bright rectangle: sharp highlights of glazed and wet things."""
    rx = 2 * normals[2] * normals[0]
    ry = 2 * normals[2] * normals[1]
    a = np.clip((wide - np.abs(rx - x)) / soft, 0, 1)
    b = np.clip((high - np.abs(ry - y)) / soft, 0, 1)
    return np.asarray(a * a * (3 - 2 * a) * b * b * (3 - 2 * b))


def _rim(normals: Normals, power: float) -> F64:
    return np.asarray((1 - np.clip(normals[2], 0, 1)) ** power)


def _mix(amount: F64, low: tuple[float, ...], high: tuple[float, ...]) -> F64:
    return np.asarray(np.array(low) * (1 - amount[..., None]) + np.array(high) * amount[..., None])


def _tint(amount: F64, colour: tuple[float, ...]) -> F64:
    return np.asarray(amount[..., None] * np.array(colour))


def _form(n: Normals) -> F64:
    """Even steps from light to dark: every turn of the form has its own tone."""
    tone = _wrapped(_towards(n, -0.5, 0.75, 0.45), 0.55)
    out = _mix(tone, (0.10, 0.105, 0.12), (0.80, 0.79, 0.77))
    return out + _tint(_wrapped(_towards(n, 0.9, -0.3, 0.2), 0.0) * 0.10, (0.8, 0.9, 1.0))


def _crease(n: Normals) -> F64:
    """Bright where the clay faces us, falling fast to dark: the smallest fold draws a line."""
    tone = np.clip(n[2], 0, 1) ** 3.2
    out = _mix(tone, (0.035, 0.03, 0.03), (0.86, 0.84, 0.80))
    return out + _tint(_shine(n, -0.3, 0.5, 1.0, 90) * 0.25, (1, 1, 1))


def _wet(n: Normals) -> F64:
    """Dark, slippery hide: two windows mirrored sharply."""
    out = _mix(_wrapped(_towards(n, -0.4, 0.7, 0.5), 0.25), (0.02, 0.024, 0.026), (0.17, 0.165, 0.15))
    out += _tint(_panel(n, -0.55, 0.62, 0.22, 0.26, 0.10) * 0.95, (0.95, 0.98, 1.0))
    out += _tint(_panel(n, 0.72, 0.1, 0.09, 0.42, 0.12) * 0.38, (0.75, 0.85, 1.0))
    return out + _tint(_rim(n, 3.0) * 0.22, (0.6, 0.75, 0.85))


def _chalk(n: Normals) -> F64:
    """Matt and pale, without any shine."""
    tone = _wrapped(_towards(n, -0.35, 0.8, 0.5), 0.9)
    return _mix(tone**1.1, (0.33, 0.34, 0.37), (0.90, 0.89, 0.87)) - _tint(_rim(n, 4.0) * 0.12, (1, 1, 1))


def _skin(n: Normals) -> F64:
    """Warm, with blood in the turn from light to shade."""
    key = _towards(n, -0.5, 0.6, 0.65)
    light = _wrapped(key, 0.45)
    out = _mix(light**1.2, (0.13, 0.045, 0.035), (0.86, 0.60, 0.48))
    turn = np.exp(-(((key - 0.05) / 0.28) ** 2))
    out += _tint(turn * 0.13, (1.0, 0.16, 0.08))
    out += _tint(_shine(n, -0.5, 0.7, 0.8, 22) * 0.16, (1.0, 0.95, 0.9))
    return out + _tint(_rim(n, 3.5) * 0.16, (0.75, 0.72, 0.85))


def _bone(n: Normals) -> F64:
    """Ivory with brown shade."""
    light = _wrapped(_towards(n, -0.4, 0.7, 0.6), 0.4)
    out = _mix(light, (0.17, 0.115, 0.06), (0.90, 0.84, 0.69))
    out += _tint(_shine(n, -0.35, 0.6, 0.9, 34) * 0.20, (1.0, 0.98, 0.92))
    return out - _tint(_rim(n, 2.5) * 0.10, (0.6, 0.8, 1.0))


def _bronze(n: Normals) -> F64:
    """Dark cast metal: broad warm glare, green in the depth."""
    light = _wrapped(_towards(n, -0.5, 0.6, 0.5), 0.1)
    out = _mix(light**1.6, (0.018, 0.026, 0.022), (0.27, 0.17, 0.075))
    out += _tint(_shine(n, -0.55, 0.65, 0.7, 13) * 0.52, (1.0, 0.72, 0.38))
    out += _tint(_shine(n, 0.8, 0.1, 0.5, 26) * 0.34, (0.9, 0.75, 0.55))
    out += _tint(_shine(n, -0.1, -0.9, 0.5, 18) * 0.12, (0.45, 0.7, 0.55))
    return out + _tint(_rim(n, 4.0) * 0.18, (0.7, 0.6, 0.45))


def _ash(n: Normals) -> F64:
    """Ash glaze: pale olive where it lies thick, brown where it has run off the edges."""
    light = _wrapped(_towards(n, -0.45, 0.7, 0.5), 0.35)
    out = _mix(light, (0.09, 0.085, 0.06), (0.70, 0.69, 0.52))
    out += _tint(_rim(n, 1.6) * light * 0.20, (0.55, 0.22, -0.15))
    out += _tint(_panel(n, -0.5, 0.6, 0.16, 0.30, 0.14) * 0.22, (1.0, 1.0, 0.94))
    return out + _tint(_wrapped(_towards(n, 0.85, -0.1, 0.3), 0.0) * 0.06, (0.8, 0.9, 1.0))


def _celadon(n: Normals) -> F64:
    """Grey-green glaze that gathers in the turns, with one soft window."""
    light = _wrapped(_towards(n, -0.35, 0.75, 0.55), 0.5)
    out = _mix(light, (0.07, 0.15, 0.13), (0.66, 0.80, 0.71))
    out += _tint(_panel(n, -0.45, 0.58, 0.24, 0.24, 0.22) * 0.34, (1.0, 1.0, 0.97))
    return out - _tint(_rim(n, 2.2) * 0.13, (1.0, 0.75, 0.85))


def _wax(n: Normals) -> F64:
    """Light that enters and comes out softer: big forms, no harsh shade."""
    light = _wrapped(_towards(n, -0.3, 0.7, 0.6), 1.0)
    out = _mix(light**1.3, (0.42, 0.20, 0.08), (0.95, 0.82, 0.58))
    out += _tint(_shine(n, -0.4, 0.7, 0.8, 40) * 0.22, (1, 1, 0.95))
    return out + _tint(_rim(n, 2.0) * 0.10, (1.0, 0.6, 0.3))


def _slate(n: Normals) -> F64:
    """Cold stone lit from both sides: symmetric, for checking one side against the other."""
    left = _wrapped(_towards(n, -0.9, 0.35, 0.35), 0.1)
    right = _wrapped(_towards(n, 0.9, 0.35, 0.35), 0.1)
    out = _mix(np.maximum(left, right) ** 1.4, (0.06, 0.068, 0.08), (0.62, 0.66, 0.70))
    return out + _tint(_wrapped(_towards(n, 0, 1, 0.3), 0.2) * 0.16, (0.9, 0.95, 1.0))


MATCAPS: dict[str, tuple[str, str, Callable[[Normals], F64]]] = {
    "form": ("Form", "Even steps of tone: for reading big forms", _form),
    "crease": ("Crease", "Falls fast to dark: for reading folds", _crease),
    "wet": ("Wet hide", "Dark and slippery", _wet),
    "chalk": ("Chalk", "Pale and matt", _chalk),
    "skin": ("Skin", "Warm, with blood in the turn of light", _skin),
    "bone": ("Bone", "Ivory with brown shade", _bone),
    "bronze": ("Bronze", "Dark cast metal", _bronze),
    "ash": ("Ash", "Ash glaze: olive, brown at the edges", _ash),
    "celadon": ("Celadon", "Grey-green glaze", _celadon),
    "wax": ("Wax", "Light that enters: big soft forms", _wax),
    "slate": ("Slate", "Lit alike from both sides", _slate),
}
"""Name, use, and the function that paints it, by key."""


@functools.cache
def matcap_pixels(key: str) -> U8:
    """One of our matcaps, (256, 256, 3) sRGB, top row first. Raises `KeyError`."""
    paint = MATCAPS[key][2]
    at = (np.arange(SIZE) + 0.5) / SIZE * 2 - 1
    x, y = np.meshgrid(at, -at)
    # Beyond the ball its rim goes on, so that filtering there brings in no foreign colour.
    length = np.maximum(np.sqrt(x * x + y * y), 1e-9)
    inside = np.minimum(length, 0.9999)
    x, y = x / length * inside, y / length * inside
    colours = paint((x, y, np.sqrt(1 - x * x - y * y)))
    return np.asarray(np.rint(np.clip(colours, 0, 1) * 255), np.uint8)


def own_matcap(data: bytes) -> U8:
    """A user's picture as matcap pixels, (size, size, 3). Raises `MatcapError`."""
    try:
        with Image.open(io.BytesIO(data)) as image:
            if image.width * image.height > 64_000_000:
                raise MatcapError("The picture is larger than 64 million pixels; make it smaller.")
            square = min(image.size)
            left, top = (image.width - square) // 2, (image.height - square) // 2
            box = (left, top, left + square, top + square)
            small = image.convert("RGB").resize((SIZE, SIZE), Image.Resampling.LANCZOS, box=box)
    except MatcapError:
        raise
    except Exception as error:  # Pillow raises many kinds for files that are none
        raise MatcapError("This file is not a picture that can be read (PNG and JPEG can).") from error
    return np.asarray(small, np.uint8)


def matcap_png(data: bytes) -> bytes:
    """A user's picture, cut and scaled, as it is kept in the project. Raises `MatcapError`."""
    out = io.BytesIO()
    Image.fromarray(own_matcap(data)).save(out, "PNG")
    return out.getvalue()


def pixels_of(key: str, own: dict[str, bytes]) -> AnyArray:
    """The pixels, (size, size, 3), of a matcap of ours or (``own:name``) of the user's; *form* when it is missing."""
    if key.startswith("own:"):
        data = own.get(key[4:])
        if data is not None:
            return own_matcap(data)
    return matcap_pixels(key if key in MATCAPS else "form")
