"""Paint on the layers of a stack: what is in hand, what is kept, and what is seen of it all.

    seen = base, with the paint of each layer laid over it, the lowest first, by its way to blend and its strength

The layer that strokes go to, or the base, is *in hand*: its paint lies open as the mesh's value `paint`, and strokes
change it as they change any other value. All others are packed in the stack. What is seen is the mesh's `colour` and
`material`, worked out vertex by vertex from these and from nothing else: dialling a layer there and back gives the same
bits. Material is laid over what is below without blending: shiny is shiny, whatever the colour does.

Paint lies on the highest level. Lower ones show what it gives their vertices.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from kneten.core.arrays import DAB_PART, F32, I32, U8, in_parts
from kneten.core.mesh import Mesh
from kneten.core.paint.ink import OF_MATERIAL
from kneten.core.paint.mixing import (
    NUMBERS,
    decode_material,
    decode_rows,
    encode_material,
    encode_rows,
    lay_material,
    lay_over,
    lay_together,
    material_together,
    rounded_rows,
)
from kneten.core.paint.packed import (
    COVER,
    MATERIAL,
    MATERIAL_COVER,
    SLIM,
    WIDE,
    Paint,
    by_cover,
    from_cover,
    with_material,
)
from kneten.core.subdivide import Step
from kneten.core.topology import PATCH, Topology
from kneten.core.values import PLAIN, VALUES

if TYPE_CHECKING:
    from kneten.core.stack import Layer, Stack

BASE = ""
"""What stands for the base where else a layer's id does."""


def open_paint(stack: Stack, mesh: Mesh | None) -> U8 | None:
    """The paint in hand, (n, 9) of the highest level; None where no layer has any.

    `mesh` is that of the level in hand; it may be left out where that is not the highest.
    """
    if stack.tint is None:
        return None
    if stack.level < stack.top:
        found = stack.levels[stack.top].values.get("paint")
    else:
        assert mesh is not None
        found = mesh.paint
    # A mesh has no values that are nothing everywhere.
    return np.zeros((len(stack.tint), WIDE), np.uint8) if found is None else found


def packed_in(stack: Stack, mesh: Mesh | None) -> Stack:
    """The stack with the paint that is in hand packed where it belongs."""
    held = open_paint(stack, mesh)
    if held is None:
        return stack
    if stack.hand == BASE:
        own = np.ascontiguousarray(held[:, MATERIAL])
        return replace(stack, tint=_colours(held), material=own if (own != PLAIN).any() else None)
    if all(layer.id != stack.hand for layer in stack.layers):
        return stack
    return stack.with_layer(replace(stack.layer(stack.hand), paint=Paint.of(held)))


def _colours(dense: U8) -> U8:
    out = dense[:, :SLIM].copy()
    out[:, COVER] = 255
    return out


def paint_of(stack: Stack, layer_id: str) -> U8:
    """What a layer, or the base, has painted, (n, 9), from what the stack holds."""
    assert stack.tint is not None
    if layer_id == BASE:
        return with_material(stack.tint, base_material(stack))
    return stack.layer(layer_id).paint.dense(len(stack.tint))


def base_material(stack: Stack) -> U8:
    """The material, (n, 4), below all layers."""
    assert stack.tint is not None
    return VALUES["material"].none(len(stack.tint)) if stack.material is None else stack.material


def has_material(stack: Stack) -> bool:
    """Whether the base or any layer has material, of what is packed."""
    return stack.material is not None or any(layer.paint.has_material for layer in stack.layers)


def begun(stack: Stack, mesh: Mesh) -> Stack:
    """The stack ready for paint on layers; what is seen of the mesh, of the highest level, becomes the base."""
    if stack.tint is not None:
        return stack
    own = None if mesh.material is None else mesh.material.copy()
    return replace(stack, tint=_colours(mesh.value("colour")), material=own, hand=BASE)


def ended(stack: Stack) -> Stack:
    """Without a base of its own, where no layer has paint any more."""
    if stack.tint is None or any(layer.paint for layer in stack.layers) or stack.hand != BASE:
        return stack
    return replace(stack, tint=None, material=None)


def wanted_hand(stack: Stack) -> str:
    """What strokes are to paint: the layer recorded on, or the base."""
    return stack.recorded.id if stack.recorded is not None else BASE


def _seen_layers(stack: Stack) -> Iterator[tuple[Layer, float]]:
    for layer in stack.layers:
        strength = stack.strength(layer)
        if strength > 0 and (layer.paint or layer.id == stack.hand):
            yield layer, strength


def _mask(layer: Layer) -> tuple[U8, I32]:
    """A layer's mask as the kernels take it."""
    return layer.mask.values, layer.mask.slots


def light_under(stack: Stack, held: U8 | None, vertices: I32, above: str = "") -> F32:
    """The light, (k, 3), of some vertices of the highest level (k,), of all layers, or of those below the one named.

    Parameters
    ----------
    held : (n, 9) uint8 or None
        The paint in hand, where it is open.
    """
    work = np.empty((len(vertices), 3), np.float32)
    run = _laying(stack, held, vertices, work, above)
    in_parts(len(vertices), run, DAB_PART)
    return work


@functools.lru_cache(maxsize=8)
def _every_slot(patches: int) -> I32:
    """The slots, (patches,), of paint that lies open: each patch's own. Kept, for a dab must not cost by their number."""
    return np.arange(patches, dtype=np.int32)


def _laying(
    stack: Stack, held: U8 | None, vertices: I32, work: F32, above: str = ""
) -> Callable[[int, int], None]:
    """What works the light of some of the vertices out: all layers one after the other while it is at hand."""
    assert stack.tint is not None
    base = held if held is not None and stack.hand == BASE else stack.tint
    held_slots = _every_slot(-(-len(stack.tint) // PATCH))
    found: list[tuple[U8, I32, U8, I32, np.float32, int]] = []
    for layer, strength in _seen_layers(stack):
        if layer.id == above:
            break
        if "colour" in layer.leaves:
            continue
        is_open = layer.id == stack.hand and held is not None
        paint, slots = (held, held_slots) if is_open else (layer.paint.values, layer.paint.slots)
        assert paint is not None
        found.append((paint, slots, *_mask(layer), np.float32(strength), NUMBERS[layer.blend]))

    def run(first: int, last: int) -> None:
        decode_rows(base, vertices, first, last, work)
        for paint, slots, hides, hidden, strength, mode in found:
            lay_over(work, vertices, paint, slots, hides, hidden, strength, mode, first, last)

    return run


def show(stack: Stack, held: U8 | None, vertices: I32, colour: U8 | None, material: U8 | None = None) -> None:
    """Put what is seen at some vertices (k,) into the colours (n, 4) of the highest level, whose opacity stays, and into the material."""
    if colour is not None:
        _show_colour(stack, held, vertices, colour)
    if material is not None:
        _show_material(stack, held, vertices, material)


def _show_colour(stack: Stack, held: U8 | None, vertices: I32, colour: U8) -> None:
    """Put what is seen at some vertices (k,) into the colours (n, 4) of the highest level; their opacity stays."""
    work = np.empty((len(vertices), 3), np.float32)
    lay = _laying(stack, held, vertices, work)

    def run(first: int, last: int) -> None:
        lay(first, last)
        encode_rows(work, vertices, first, last, colour)

    in_parts(len(vertices), run, DAB_PART)


def _show_material(stack: Stack, held: U8 | None, vertices: I32, material: U8) -> None:
    """Put the material that is seen at some vertices (k,) into that (n, 4) of the highest level."""
    work = np.empty((len(vertices), 4), np.float32)
    lay = _laying_material(stack, held, vertices, work)

    def run(first: int, last: int) -> None:
        lay(first, last)
        encode_material(work, vertices, first, last, material)

    in_parts(len(vertices), run, DAB_PART)


def material_under(stack: Stack, held: U8 | None, vertices: I32, above: str) -> F32:
    """The material, (k, 4) from 0 to 1, of some vertices (k,) of the highest level, of the layers below the one named."""
    work = np.empty((len(vertices), 4), np.float32)
    in_parts(len(vertices), _laying_material(stack, held, vertices, work, above), DAB_PART)
    return work


def _laying_material(
    stack: Stack, held: U8 | None, vertices: I32, work: F32, above: str = ""
) -> Callable[[int, int], None]:
    """What works the material of some of the vertices out, all layers one after the other."""
    assert stack.tint is not None
    open_base = held is not None and stack.hand == BASE
    base = held if open_base else stack.material
    column = MATERIAL.start if open_base else 0
    held_slots = _every_slot(-(-len(stack.tint) // PATCH))
    found: list[tuple[U8, I32, U8, I32, np.float32, list[int]]] = []
    for layer, strength in _seen_layers(stack):
        if layer.id == above:
            break
        left = [column for column, name in enumerate(OF_MATERIAL) if name in layer.leaves]
        if layer.id == stack.hand and held is not None:
            found.append((held, held_slots, *_mask(layer), np.float32(strength), left))
        elif layer.paint.has_material:
            paint = layer.paint
            found.append((paint.values, paint.slots, *_mask(layer), np.float32(strength), left))

    def run(first: int, last: int) -> None:
        if base is None:
            work[first:last] = np.array(PLAIN, np.float32) / np.float32(255)
        else:
            decode_material(base, column, vertices, first, last, work)
        for paint, slots, hides, hidden, strength, left in found:
            below = work[first:last, left].copy() if left else None
            lay_material(work, vertices, paint, slots, hides, hidden, strength, first, last)
            if below is not None:
                work[first:last, left] = below

    return run


def seen(stack: Stack, held: U8 | None, colour: U8) -> U8:
    """What is seen of all vertices of the highest level, (n, 4), with the opacity of `colour`."""
    out = colour.copy()
    show(stack, held, np.arange(len(colour), dtype=np.int32), out)
    return out


def seen_values(stack: Stack, held: U8 | None, colour: U8) -> dict[str, U8 | None]:
    """The values `colour` and `material`, (n, 4) each, of the highest level; no material where there is none."""
    out = {"colour": colour.copy(), "material": None}
    if has_material(stack) or (held is not None and _paints_material(stack, held)):
        out["material"] = np.empty_like(colour)
    show(stack, held, np.arange(len(colour), dtype=np.int32), out["colour"], out["material"])
    return out


def _paints_material(stack: Stack, held: U8) -> bool:
    """Whether the paint in hand, (n, 9), has any material."""
    if stack.hand == BASE:
        return bool((held[:, MATERIAL] != PLAIN).any())
    return bool(held[:, MATERIAL_COVER].any())


# -- several as one ---------------------------------------------------------------------------------


def together(stack: Stack, layers: list[Layer], strengths: list[float]) -> Paint:
    """What neighbouring layers lay, as paint that is laid normally at full strength.

    Where they blend with what is below, that is as it is now.
    """
    assert stack.tint is not None
    n = len(stack.tint)
    every = np.arange(n, dtype=np.int32)
    work = light_under(stack, None, every, layers[0].id)
    out = np.zeros((n, 4), np.float32)
    for layer, strength in zip(layers, strengths, strict=True):
        if strength <= 0 or not layer.paint:
            continue
        paint, slots, mode = layer.paint.values, layer.paint.slots, NUMBERS[layer.blend]
        hides, hidden = _mask(layer)
        share = np.float32(strength)

        def run(
            first: int,
            last: int,
            paint: U8 = paint,
            slots: I32 = slots,
            hides: U8 = hides,
            hidden: I32 = hidden,
            mode: int = mode,
            share: np.float32 = share,
        ) -> None:
            lay_together(out, work, every, paint, slots, hides, hidden, share, mode, first, last)

        in_parts(n, run)
    made = rounded_rows(out)
    if any(layer.paint.has_material for layer in layers):
        made = np.concatenate([made, _materials_together(layers, strengths, every)], axis=1)
    return Paint.of(made)


def _materials_together(layers: list[Layer], strengths: list[float], every: I32) -> U8:
    """The material that layers lay on all vertices (n,), and how much it covers, (n, 5)."""
    out = np.zeros((len(every), 5), np.float32)
    for layer, strength in zip(layers, strengths, strict=True):
        if strength > 0 and layer.paint.has_material:
            paint, slots, share = layer.paint.values, layer.paint.slots, np.float32(strength)
            hides, hidden = _mask(layer)

            def run(
                first: int,
                last: int,
                paint: U8 = paint,
                slots: I32 = slots,
                hides: U8 = hides,
                hidden: I32 = hidden,
                share: np.float32 = share,
            ) -> None:
                material_together(out, every, paint, slots, hides, hidden, share, first, last)

            in_parts(len(every), run)
    out[:, :4] /= np.maximum(out[:, 4:], np.float32(1e-9))
    return np.rint(255 * np.clip(out, 0, 1)).astype(np.uint8)


def merged_paint(stack: Stack, layers: list[Layer], alone: bool) -> Paint:
    """The paint of layers that become one of strength 1; `alone` where that one will not be in their group."""
    strengths = []
    for layer in layers:
        share = layer.strength if layer.shown else 0.0
        own = stack.group(layer.group)
        if own is not None and alone:
            share *= own.strength if own.shown else 0.0
        strengths.append(share)
    return together(stack, layers, strengths)


def into_base(stack: Stack, layer: Layer) -> Stack:
    """A layer's paint laid over the base for good."""
    if stack.tint is None or not layer.paint:
        return stack
    alone = replace(
        stack, layers=(replace(layer, strength=stack.strength(layer)),), groups=(), solo="", hand=BASE
    )
    made = seen_values(alone, None, stack.tint)
    return replace(stack, tint=made["colour"], material=made["material"])


# -- from level to level ----------------------------------------------------------------------------


def finer(stack: Stack, step: Step, below: Topology) -> Stack:
    """The paint of a stack on one level more above the highest: means, weighted by how much they cover."""
    if stack.tint is None:
        return stack
    n = len(stack.tint)

    def refined(dense: U8) -> U8:
        return from_cover(step.refine(below, by_cover(dense), False, np.float32))

    layers = tuple(layer.repainted(n, refined) for layer in stack.layers)
    base = refined(paint_of(stack, BASE))
    material = None if stack.material is None else np.ascontiguousarray(base[:, MATERIAL])
    return replace(stack, tint=_colours(base), material=material, layers=layers)


def coarser(stack: Stack, levels: int) -> Stack:
    """The paint of a stack whose highest levels, so many, are about to go."""
    if stack.tint is None or levels <= 0:
        return stack
    rows = lower_rows(stack, stack.top - levels)
    n = len(stack.tint)
    layers = tuple(layer.repainted(n, lambda dense: dense[rows]) for layer in stack.layers)
    material = None if stack.material is None else stack.material[rows]
    return replace(stack, tint=stack.tint[rows], material=material, layers=layers)


def lower_rows(stack: Stack, level: int) -> I32:
    """Which vertices of the highest level came from those of a lower one, (m,)."""
    rows = np.arange(stack.levels[stack.top].topology.n_vertices, dtype=np.int32)
    for k in range(stack.top, level, -1):
        step = stack.levels[k].step
        assert step is not None
        rows = rows[step.of_vertex]
    return rows
