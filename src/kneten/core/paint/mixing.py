"""How a layer's colour is laid over what lies below it.

The ways that take each of red, green and blue by itself are those of the W3C's recommendation "Compositing and Blending
Level 1", worked out on sRGB codes; hue, colour and the like are exchanged in OKLab. What comes of it is laid over the rest
in light, by how much the layer covers.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, I32, U8, inlined, kernel
from kneten.core.paint.light import DECODED, code_of, lab_of, light_of, light_of_lab
from kneten.core.topology import PATCH, PATCH_BITS

BLENDS: dict[str, tuple[str, str]] = {
    "normal": ("Normal", "The layer's colour, as it is"),
    "multiply": ("Multiply", "Darkens as glazes do: white leaves all as it is"),
    "screen": ("Screen", "Lightens as lamps do: black leaves all as it is"),
    "overlay": ("Overlay", "Darkens what is dark below, lightens what is light"),
    "soft-light": ("Soft light", "The same, gently"),
    "hard-light": ("Hard light", "Darkens where the layer is dark, lightens where it is light"),
    "darken": ("Darken", "The darker of both"),
    "lighten": ("Lighten", "The lighter of both"),
    "color-dodge": ("Dodge", "Brightens what is below, the lights most"),
    "color-burn": ("Burn", "Deepens what is below, the darks most"),
    "difference": ("Difference", "How far both are apart"),
    "add": ("Add", "Both lights together"),
    "subtract": ("Subtract", "Takes the layer's light away"),
    "hue": ("Hue", "The layer's hue, with the lightness and colourfulness below"),
    "saturation": ("Colourfulness", "The layer's colourfulness, with the lightness and hue below"),
    "color": ("Colour", "The layer's hue and colourfulness, with the lightness below"),
    "luminosity": ("Lightness", "The layer's lightness, with the colour below"),
}
"""Ways to blend: names, and what they do."""

NUMBERS = {name: number for number, name in enumerate(BLENDS)}

(
    NORMAL, MULTIPLY, SCREEN, OVERLAY, SOFT, HARD, DARKEN, LIGHTEN, DODGE, BURN, DIFFERENCE, ADD, SUBTRACT, HUE,
    SATURATION, COLOUR, LUMINOSITY,
) = range(len(BLENDS))  # fmt: skip

ZERO, HALF, ONE, TWO, FULL = (np.float32(value) for value in (0.0, 0.5, 1.0, 2.0, 255.0))


@kernel
def _hard(b: np.float32, s: np.float32) -> np.float32:
    if s <= HALF:
        return b * TWO * s
    t = TWO * s - ONE
    return b + t - b * t


@kernel
def _one(mode: int, b: np.float32, s: np.float32) -> np.float32:
    """One channel of what comes of codes below and above, 0 to 1."""
    if mode == MULTIPLY:
        return b * s
    if mode == SCREEN:
        return b + s - b * s
    if mode == OVERLAY:
        return _hard(s, b)
    if mode == HARD:
        return _hard(b, s)
    if mode == SOFT:
        if s <= HALF:
            return b - (ONE - TWO * s) * b * (ONE - b)
        d = (
            np.sqrt(b)
            if b > np.float32(0.25)
            else ((np.float32(16.0) * b - np.float32(12.0)) * b + np.float32(4.0)) * b
        )
        return b + (TWO * s - ONE) * (d - b)
    if mode == DARKEN:
        return min(b, s)
    if mode == LIGHTEN:
        return max(b, s)
    if mode == DODGE:
        if b <= ZERO:
            return ZERO
        return ONE if s >= ONE else min(ONE, b / (ONE - s))
    if mode == BURN:
        if b >= ONE:
            return ONE
        return ZERO if s <= ZERO else ONE - min(ONE, (ONE - b) / s)
    return abs(b - s)


@kernel
def _in_lab(mode: int, below: F32, above: F32) -> None:
    """Exchange lightness, colourfulness or hue: light (3,) below becomes what is seen."""
    bl, ba, bb = lab_of(below[0], below[1], below[2])
    sl, sa, sb = lab_of(above[0], above[1], above[2])
    bc = np.sqrt(ba * ba + bb * bb)
    sc = np.sqrt(sa * sa + sb * sb)
    tiny = np.float32(1e-6)
    if mode == LUMINOSITY:
        bl = sl
    elif mode == COLOUR:
        ba, bb = sa, sb
    elif mode == HUE:
        share = bc / max(sc, tiny)
        ba, bb = sa * share, sb * share
    else:
        share = sc / max(bc, tiny)
        ba, bb = ba * share, bb * share
    r, g, b = light_of_lab(bl, ba, bb)
    below[0] = min(max(r, ZERO), ONE)
    below[1] = min(max(g, ZERO), ONE)
    below[2] = min(max(b, ZERO), ONE)


@kernel
def _over(
    work: F32, row: int, paint: U8, at: int, strength: np.float32, mode: int, found: F32, own: F32
) -> None:
    """Lay one row of paint over the light in a row of `work`."""
    cover = min(max(np.float32(paint[at, 3]) * strength / FULL, ZERO), ONE)
    if cover <= ZERO:
        return
    for c in range(3):
        found[c] = work[row, c]
        own[c] = DECODED[paint[at, c]]
    if mode == NORMAL:
        for c in range(3):
            found[c] = own[c]
    elif mode == ADD:
        for c in range(3):
            found[c] = min(found[c] + own[c], ONE)
    elif mode == SUBTRACT:
        for c in range(3):
            found[c] = max(found[c] - own[c], ZERO)
    elif mode >= HUE:
        _in_lab(mode, found, own)
    else:
        for c in range(3):
            found[c] = light_of(_one(mode, code_of(found[c]) / FULL, np.float32(paint[at, c]) / FULL) * FULL)
    for c in range(3):
        work[row, c] += (found[c] - work[row, c]) * cover


@kernel
def lay_over(
    work: F32, vertices: I32, paint: U8, slots: I32, strength: np.float32, mode: int, first: int, last: int
) -> None:
    """Lay a layer's paint over light.

    Parameters
    ----------
    work : (k, 3) float32
        The light below, of each of the vertices; receives what is seen.
    vertices : (k,) int32
    paint : (m, 4) uint8
        sRGB and how much it covers, patch after patch.
    slots : (p,) int32
        Which of these each patch is; -1, or left out at the end, where nothing is painted.
    """
    found = np.empty(3, np.float32)
    own = np.empty(3, np.float32)
    for i in range(first, last):
        v = vertices[i]
        patch = v >> PATCH_BITS
        if patch < slots.shape[0] and slots[patch] >= 0:
            at = (slots[patch] << PATCH_BITS) + (v & (PATCH - 1))
            _over(work, i, paint, at, strength, mode, found, own)


@kernel
def lay_together(
    out: F32,
    work: F32,
    vertices: I32,
    paint: U8,
    slots: I32,
    strength: np.float32,
    mode: int,
    first: int,
    last: int,
) -> None:
    """The same, and what was laid is gathered in `out` (k, 4): light times cover, and cover."""
    found = np.empty(3, np.float32)
    own = np.empty(3, np.float32)
    for i in range(first, last):
        v = vertices[i]
        patch = v >> PATCH_BITS
        if patch >= slots.shape[0] or slots[patch] < 0:
            continue
        at = (slots[patch] << PATCH_BITS) + (v & (PATCH - 1))
        cover = min(max(np.float32(paint[at, 3]) * strength / FULL, ZERO), ONE)
        if cover <= ZERO:
            continue
        _over(work, i, paint, at, strength, mode, found, own)
        for k in range(3):
            out[i, k] = out[i, k] * (ONE - cover) + found[k] * cover
        out[i, 3] += (ONE - out[i, 3]) * cover


@kernel
def decode_rows(colour: U8, vertices: I32, first: int, last: int, out: F32) -> None:
    """The light (k, 3) of the codes (n, 3 or 4) of some vertices (k,)."""
    for i in range(first, last):
        v = vertices[i]
        for c in range(3):
            out[i, c] = DECODED[colour[v, c]]


@kernel
def encode_rows(work: F32, vertices: I32, first: int, last: int, colour: U8) -> None:
    """Put light (k, 3) into the codes (n, 4) of some vertices (k,); their opacity stays."""
    for i in range(first, last):
        v = vertices[i]
        for c in range(3):
            colour[v, c] = np.uint8(code_of(work[i, c]) + HALF)


@inlined
def rounded(value: np.float32) -> np.uint8:
    """A code, from 0 to 255, as a whole number."""
    return np.uint8(min(max(value, ZERO), FULL) + HALF)


def rounded_rows(gathered: F32) -> U8:
    """Codes and cover (k, 4) of gathered light times cover, and cover (k, 4)."""
    out = np.zeros(gathered.shape, np.uint8)
    _round_rows(gathered, out)
    return out


@kernel
def _round_rows(gathered: F32, out: U8) -> None:
    for i in range(gathered.shape[0]):
        cover = gathered[i, 3]
        if cover <= ZERO:
            continue
        for c in range(3):
            out[i, c] = rounded(code_of(gathered[i, c] / cover))
        out[i, 3] = rounded(cover * FULL)
