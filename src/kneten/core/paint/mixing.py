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
def _in_lab(
    mode: int, r: np.float32, g: np.float32, b: np.float32, u: np.float32, v: np.float32, w: np.float32
) -> tuple[np.float32, np.float32, np.float32]:
    """Light (r, g, b) below with the lightness, colourfulness or hue of light (u, v, w) above."""
    bl, ba, bb = lab_of(r, g, b)
    sl, sa, sb = lab_of(u, v, w)
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
    x, y, z = light_of_lab(bl, ba, bb)
    return min(max(x, ZERO), ONE), min(max(y, ZERO), ONE), min(max(z, ZERO), ONE)


@kernel
def _through_codes(mode: int, below: np.float32, code: np.float32) -> np.float32:
    """One channel of light below, with a code above, by a way that is worked out on codes."""
    return light_of(_one(mode, code_of(below) / FULL, code / FULL) * FULL)


@kernel
def _found(
    mode: int, r: np.float32, g: np.float32, b: np.float32, u: np.uint8, v: np.uint8, w: np.uint8
) -> tuple[np.float32, np.float32, np.float32]:
    """What comes of light below and codes above where these cover all. Numbers alone: arrays would cost more to hand over."""
    if mode >= HUE:
        return _in_lab(mode, r, g, b, DECODED[u], DECODED[v], DECODED[w])
    if mode == ADD:
        return min(r + DECODED[u], ONE), min(g + DECODED[v], ONE), min(b + DECODED[w], ONE)
    if mode == SUBTRACT:
        return max(r - DECODED[u], ZERO), max(g - DECODED[v], ZERO), max(b - DECODED[w], ZERO)
    return (
        _through_codes(mode, r, np.float32(u)),
        _through_codes(mode, g, np.float32(v)),
        _through_codes(mode, b, np.float32(w)),
    )


@inlined
def _row(v: int, slots: I32) -> int:
    """Where a vertex stands among the rows of painted patches; -1 where its patch has none."""
    patch = v >> PATCH_BITS
    slot = slots[patch] if patch < slots.shape[0] else -1
    return (slot << PATCH_BITS) + (v & (PATCH - 1)) if slot >= 0 else -1


@inlined
def _left(v: int, hides: U8, hidden: I32) -> np.float32:
    """How much of its paint a layer's mask leaves at a vertex."""
    at = _row(v, hidden)
    return ONE - np.float32(hides[at, 3]) / FULL if at >= 0 else ONE


@kernel
def lay_over(
    work: F32,
    vertices: I32,
    paint: U8,
    slots: I32,
    hides: U8,
    hidden: I32,
    strength: np.float32,
    mode: int,
    first: int,
    last: int,
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
    hides, hidden : (h, 4) uint8, (q,) int32
        The layer's mask, in the same way: as much as it covers is not seen.
    """
    share = strength / FULL
    for i in range(first, last):
        v = vertices[i]
        at = _row(v, slots)
        if at < 0:
            continue
        cover = min(np.float32(paint[at, 3]) * share, ONE) * _left(v, hides, hidden)
        if cover <= ZERO:
            continue
        if mode == NORMAL:
            work[i, 0] += (DECODED[paint[at, 0]] - work[i, 0]) * cover
            work[i, 1] += (DECODED[paint[at, 1]] - work[i, 1]) * cover
            work[i, 2] += (DECODED[paint[at, 2]] - work[i, 2]) * cover
        else:
            r, g, b = work[i, 0], work[i, 1], work[i, 2]
            x, y, z = _found(mode, r, g, b, paint[at, 0], paint[at, 1], paint[at, 2])
            work[i, 0] = r + (x - r) * cover
            work[i, 1] = g + (y - g) * cover
            work[i, 2] = b + (z - b) * cover


@kernel
def lay_together(
    out: F32,
    work: F32,
    vertices: I32,
    paint: U8,
    slots: I32,
    hides: U8,
    hidden: I32,
    strength: np.float32,
    mode: int,
    first: int,
    last: int,
) -> None:
    """The same, and what was laid is gathered in `out` (k, 4): light times cover, and cover."""
    share = strength / FULL
    for i in range(first, last):
        v = vertices[i]
        at = _row(v, slots)
        if at < 0:
            continue
        cover = min(np.float32(paint[at, 3]) * share, ONE) * _left(v, hides, hidden)
        if cover <= ZERO:
            continue
        x, y, z = DECODED[paint[at, 0]], DECODED[paint[at, 1]], DECODED[paint[at, 2]]
        if mode != NORMAL:
            r, g, b = work[i, 0], work[i, 1], work[i, 2]
            x, y, z = _found(mode, r, g, b, paint[at, 0], paint[at, 1], paint[at, 2])
        out[i, 0] += (x - out[i, 0]) * cover
        out[i, 1] += (y - out[i, 1]) * cover
        out[i, 2] += (z - out[i, 2]) * cover
        out[i, 3] += (ONE - out[i, 3]) * cover
        work[i, 0] += (x - work[i, 0]) * cover
        work[i, 1] += (y - work[i, 1]) * cover
        work[i, 2] += (z - work[i, 2]) * cover


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


@kernel
def lay_material(
    work: F32,
    vertices: I32,
    paint: U8,
    slots: I32,
    hides: U8,
    hidden: I32,
    strength: np.float32,
    first: int,
    last: int,
) -> None:
    """Lay a layer's material over that below, (k, 4) from 0 to 1; else as `lay_over`, with paint (m, 9)."""
    share = strength / FULL
    for i in range(first, last):
        v = vertices[i]
        at = _row(v, slots)
        if at < 0:
            continue
        cover = min(np.float32(paint[at, 8]) * share, ONE) * _left(v, hides, hidden)
        for c in range(4):
            work[i, c] += (np.float32(paint[at, 4 + c]) / FULL - work[i, c]) * cover


@kernel
def material_together(
    out: F32,
    vertices: I32,
    paint: U8,
    slots: I32,
    hides: U8,
    hidden: I32,
    strength: np.float32,
    first: int,
    last: int,
) -> None:
    """The same, gathered in `out` (k, 5): material times cover, and cover."""
    share = strength / FULL
    for i in range(first, last):
        v = vertices[i]
        at = _row(v, slots)
        if at < 0:
            continue
        cover = min(np.float32(paint[at, 8]) * share, ONE) * _left(v, hides, hidden)
        for c in range(4):
            out[i, c] += (np.float32(paint[at, 4 + c]) / FULL - out[i, c]) * cover
        out[i, 4] += (ONE - out[i, 4]) * cover


@kernel
def decode_material(held: U8, column: int, vertices: I32, first: int, last: int, out: F32) -> None:
    """The material (k, 4), from 0 to 1, of some vertices (k,), which stands in `held` (n, ...) from a column on."""
    for i in range(first, last):
        v = vertices[i]
        for c in range(4):
            out[i, c] = np.float32(held[v, column + c]) / FULL


@kernel
def encode_material(work: F32, vertices: I32, first: int, last: int, material: U8) -> None:
    """Put material (k, 4), from 0 to 1, into that (n, 4) of all vertices."""
    for i in range(first, last):
        v = vertices[i]
        for c in range(4):
            material[v, c] = rounded(work[i, c] * FULL)


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
