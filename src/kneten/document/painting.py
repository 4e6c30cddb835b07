"""What is done with colour: each function that changes the project is one undo step."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from kneten.core.arrays import F32, U8, AnyArray, Progress
from kneten.core.mesh import Mesh
from kneten.core.paint.ink import Colour, Ink, Material
from kneten.core.paint.layers import (
    BASE,
    begun,
    material_under,
    open_paint,
    packed_in,
    seen,
    seen_values,
    wanted_hand,
)
from kneten.core.paint.light import DECODED
from kneten.core.paint.materials import Preset
from kneten.core.paint.mixing import encode_rows
from kneten.core.paint.packed import COVER, MATERIAL, MATERIAL_COVER, SLIM, Paint, with_material
from kneten.core.paint.reading import greys
from kneten.core.paint.shifting import Shift, shifted
from kneten.core.paint.wash import KINDS as WASHES
from kneten.core.paint.wash import Wash, measured, washed
from kneten.core.stack import Layer, Stack
from kneten.document.layering import change_paint
from kneten.document.opening import StackError, check_highest, open_layer, stack_of
from kneten.document.project import Project
from kneten.document.scene import Part
from kneten.document.settings import Palette


def add_palette(project: Project, name: str, colours: tuple[Colour, ...]) -> Palette:
    """Keep colours as a palette of the project."""
    palette = Palette(name, colours)
    project.change_settings(palettes=(*project.settings.palettes, palette))
    return palette


def remove_palette(project: Project, palette_id: str) -> None:
    """Take a palette out of the project."""
    rest = tuple(one for one in project.settings.palettes if one.id != palette_id)
    project.change_settings(palettes=rest)


def add_materials(project: Project, presets: tuple[Preset, ...]) -> None:
    """Keep materials with the project; one that is called like another takes its place."""
    names = {preset.name for preset in presets}
    rest = tuple(one for one in project.settings.materials if one.name not in names)
    project.change_settings(materials=(*rest, *presets))


def remove_material(project: Project, preset_id: str) -> None:
    """Take a material out of the project."""
    rest = tuple(one for one in project.settings.materials if one.id != preset_id)
    project.change_settings(materials=rest)


def set_ink(project: Project, **values: object) -> None:
    """Take another colour in hand."""
    project.change_settings(ink=replace(project.settings.ink, **values))  # type: ignore[arg-type]


def filled(
    project: Project,
    part: Part,
    ink: Ink,
    amount: F32 | None,
    name: str,
    masked: bool = False,
    light: F32 | None = None,
) -> bool:
    """Lay ink over the whole of a part, or of each vertex as much as `amount` (n,) says, on the layer in hand or the base.

    With `light` (n, 3), each vertex gets that, and how light it is for what it is made of, instead of the ink's. What is masked stays as it is, unless `masked`. False when nothing changed. Raises `StackError` as `Project.begin_stroke` does.
    """
    with project.at_once(name):
        open_layer(project, part)
        part = project.scene.part(part.id)
        mesh = part.mesh
        share = np.ones(mesh.n_vertices, np.float32) if amount is None else amount
        if mesh.mask is not None and not masked:
            share = share * (1 - mesh.mask)
        changed = ink.reaches("opacity") and _thinned(project, part, ink, share, name, light)
        if not ink.reaches("colour") and not ink.reaches("material"):
            return changed
        part = project.scene.part(part.id)
        mesh, stack = part.mesh, part.stack
        if stack is not None and stack.tint is not None:
            held, below = mesh.value("paint"), None
            if ink.reaches("material") and stack.hand != BASE:
                every = np.arange(mesh.n_vertices, dtype=np.int32)
                below = material_under(stack, held, every, stack.hand)
            new = painted_over(held, ink, share, stack.hand == BASE, below, light)
            painted = project.set_values(part.id, "paint", new, name)
            if painted:
                refresh_seen(project, project.scene.part(part.id), name)
            return changed or painted
        held = with_material(mesh.value("colour"), mesh.value("material"))
        new = painted_over(held, ink, share, True, None, light)
        new[:, COVER] = mesh.value("colour")[:, COVER]
        if ink.reaches("colour"):
            changed |= project.set_values(part.id, "colour", new[:, :SLIM].copy(), name)
        if ink.reaches("material"):
            changed |= project.set_values(part.id, "material", new[:, MATERIAL].copy(), name)
    return changed


def _thinned(project: Project, part: Part, ink: Ink, share: F32, name: str, light: F32 | None) -> bool:
    """Give the clay the ink's opacity, or as much as `light` (n, 3) is light, by shares (n,); whether that changed any."""
    new = part.mesh.value("colour").copy()
    wanted = np.float32(ink.opacity) if light is None else 255 * greys(light)
    was = new[:, COVER].astype(np.float32)
    new[:, COVER] = np.rint(np.clip(was + (wanted - was) * np.clip(share, 0, 1), 0, 255))
    return project.set_values(part.id, "colour", new, name)


def painted_over(
    held: U8, ink: Ink, share: AnyArray, bare: bool, below: F32 | None = None, light: F32 | None = None
) -> U8:
    """Paint (n, 9) with more of an ink laid over, by shares (n,): what a stroke of `PaintStroke` would lay.

    Parameters
    ----------
    bare : bool
        It is the base's, all of which is covered.
    below : (n, 4) float32
        The material below the layer, 0 to 1: as much as is covered more, what the ink does not change is laid like it.
    """
    a = np.clip(share, 0, 1).astype(np.float32)[:, None]
    out = held.copy()
    if ink.reaches("colour"):
        inked = DECODED[np.array(ink.colour)] if light is None else light
        cover, mixed = _covered(DECODED[held[:, :COVER]], held[:, COVER], inked, a, bare)
        rows = np.arange(len(held), dtype=np.int32)
        encode_rows(mixed, rows, 0, len(rows), out)
        out[:, COVER] = cover
    if ink.reaches("material"):
        was, before = held[:, MATERIAL].astype(np.float32), held[:, MATERIAL_COVER, None].astype(np.float32)
        inks = np.array([np.nan if code is None else code for code in ink.inked()], np.float32)
        laid = inks if light is None else np.where(np.isnan(inks), inks, 255 * greys(light)[:, None])
        cover, mixed = _covered(was, held[:, MATERIAL_COVER], laid, a, bare)
        kept = was
        if below is not None:
            after = np.maximum(cover[:, None].astype(np.float32), np.float32(1e-6))
            kept = ((was * before + 255 * below * (after - before)) / after).astype(np.float32)
        out[:, MATERIAL] = np.rint(np.clip(np.where(np.isnan(inks), kept, mixed), 0, 255))
        out[:, MATERIAL_COVER] = cover
    for columns, cover_at in ((slice(0, COVER), COVER), (MATERIAL, MATERIAL_COVER)):
        out[out[:, cover_at] == 0, columns] = 0
    return out


def tinted(colour: U8, ink: Colour, share: AnyArray) -> U8:
    """Colours (n, 4) with one laid over, by shares (n,) from 0 to 1."""
    a = np.clip(share, 0, 1).astype(np.float32)[:, None]
    mixed = DECODED[colour[:, :COVER]] * (1 - a) + DECODED[np.array(ink)] * a
    out = colour.copy()
    encode_rows(mixed, np.arange(len(out), dtype=np.int32), 0, len(out), out)
    return out


def _covered(was: F32, covers: U8, ink: F32, a: F32, bare: bool) -> tuple[U8, F32]:
    """How much is covered, (n,), and the mixture, (n, k), of numbers (n, k) with ink (k,) or (n, k) laid over by `a` (n, 1)."""
    cover = np.ones_like(a) if bare else covers[:, None].astype(np.float32) / 255
    covered = cover + (1 - cover) * a
    mixed = (was * cover * (1 - a) + ink * a) / np.maximum(covered, np.float32(1e-9))
    return np.rint(255 * covered[:, 0]).astype(np.uint8), np.ascontiguousarray(mixed, np.float32)


def refresh_seen(project: Project, part: Part, name: str) -> None:
    """Bring what is seen of a part to what its layers give."""
    stack = part.stack
    if stack is not None and stack.tint is not None and stack.level == stack.top:
        values = seen_values(stack, open_paint(stack, part.mesh), part.mesh.value("colour"))
        for what, value in values.items():
            project.set_values(part.id, what, value, name)


def measured_on(part: Part, wash: Wash, progress: Progress) -> F32:
    """What a wash goes by on a part, (n,) of the level in hand, on any thread."""
    up = part.transform.way_to_part(np.array([0.0, 1.0, 0.0]))
    return measured(wash, part.mesh, up / np.linalg.norm(up), part.mesh.mask, progress)


def lay_wash(project: Project, part: Part, wash: Wash, measure: F32, layer_id: str = "") -> Layer:
    """Lay a wash on a new layer above the others, or anew on its own: one step.

    Parameters
    ----------
    measure : (n,) float32
        As `measured_on` gives it, for the highest level, which must be the one in hand.

    Raises
    ------
    StackError
        When the part stands on a level below the highest, or has other vertices by now.
    """
    stack = stack_of(part)
    if stack.level < stack.top or len(measure) != part.mesh.n_vertices:
        raise StackError(
            f"Paint lies on the highest level, {stack.top}: go up to it, and lay the wash there."
        )
    paint = Paint.of(washed(wash, measure))
    old = next((layer for layer in stack.layers if layer.id == layer_id), None)
    name = stack.free_name(WASHES[wash.kind][0]) if old is None else old.name
    layer = Layer(name, paint=paint, wash=wash) if old is None else replace(old, paint=paint, wash=wash)
    ready = begun(packed_in(stack, part.mesh), part.mesh)

    def change(now: Stack) -> Stack:
        if now.tint is None:
            now = replace(now, tint=ready.tint, material=ready.material)
        return replace(now, layers=(*now.layers, layer)) if old is None else now.with_layer(layer)

    verb = "Lay" if old is None else "Change" if old.wash != wash else "Renew"
    change_paint(project, part, change, f"{verb} {name} on {part.name}")
    return layer


def newly_washed(part: Part, mesh: Mesh, progress: Progress) -> dict[str, Paint]:
    """The paint of all layers that follow the form, by their ids, where it is another for a mesh of the highest level: on any thread.

    What lies near the mask stays: the mask may be about something else by now.
    """
    stack = stack_of(part)
    found = {}
    for layer in stack.layers:
        if layer.wash is None or layer.wash.kind == "mask":
            continue
        measure = measured_on(replace(part, mesh=mesh), layer.wash, progress)
        paint = Paint.of(washed(layer.wash, measure))
        if paint.values.tobytes() != layer.paint.values.tobytes():
            found[layer.id] = paint
    return found


def with_paints(stack: Stack, paints: Mapping[str, Paint]) -> Stack:
    """The stack with other paint on some layers, by their ids."""
    layers = tuple(
        replace(layer, paint=paints[layer.id]) if layer.id in paints else layer for layer in stack.layers
    )
    return replace(stack, layers=layers)


def renew_washes(
    project: Project, part: Part, paints: Mapping[str, Paint], values: Mapping[str, U8 | None]
) -> None:
    """Have layers follow the form again: no step of its own, it is undone with the one before.

    Parameters
    ----------
    paints : dict
        As `newly_washed` gives them.
    values : dict
        The colour and material, (n, 4), that are seen then.
    """
    stack = with_paints(stack_of(part), paints)
    same = [part, *project.scene.linked(part)]
    with project.at_once("Renew", silent=True):
        project.change("Renew", project.scene.with_part(*(replace(one, stack=stack) for one in same)))
        for what, value in values.items():
            project.set_values(part.id, what, value, "Renew")


def bake_wash(project: Project, part: Part, layer_id: str) -> None:
    """Let a wash no longer follow the form: its paint stays, to be painted on."""
    name = stack_of(part).layer(layer_id).name
    change_paint(
        project, part, lambda now: now.with_layer(replace(now.layer(layer_id), wash=None)), f"Bake {name}"
    )


def recoloured(part: Part, shift: Shift) -> U8:
    """What would be seen of a part, (n, 4), whose layer recorded on, or else whose base, has other colours.

    Raises
    ------
    StackError
        When that is a layer, and the part stands on a level below the highest.
    """
    stack, mesh = part.stack, part.mesh
    if stack is None or stack.tint is None:
        return shifted(mesh.value("colour"), shift)
    check_highest(stack)
    packed = packed_in(stack, mesh)
    hand = wanted_hand(packed)
    colour = mesh.value("colour")
    if hand == BASE:
        assert packed.tint is not None
        return seen(replace(packed, tint=shifted(packed.tint, shift)), None, colour)
    layer = packed.layer(hand)
    n = mesh.n_vertices
    dense = np.ascontiguousarray(layer.paint.dense(n)[:, :SLIM])
    other = replace(layer, paint=Paint.of(shifted(dense, shift)))
    return seen(packed.with_layer(other), None, colour)


def recolour(project: Project, part: Part, shift: Shift) -> bool:
    """Make the paint of the layer recorded on, or the base, other colours: one step. False when nothing changed.

    Raises `StackError` as `recoloured` does.
    """
    with project.at_once(f"Recolour {part.name}"):
        open_layer(project, part)
        part = project.scene.part(part.id)
        what = "colour" if part.stack is None or part.stack.tint is None else "paint"
        new = part.mesh.value(what).copy()
        new[:, :SLIM] = shifted(np.ascontiguousarray(new[:, :SLIM]), shift)
        changed = project.set_values(part.id, what, new, "Recolour")
        if changed and what == "paint":
            refresh_seen(project, project.scene.part(part.id), "Recolour")
    return changed


def cleared(project: Project, part: Part, layer_id: str) -> None:
    """Take all paint off a layer. Raises `StackError` when it has none."""
    name = stack_of(part).layer(layer_id).name

    def change(stack: Stack) -> Stack:
        layer = stack.layer(layer_id)
        if not layer.paint:
            raise StackError(f"{name} has no paint.")
        return stack.with_layer(replace(layer, paint=Paint.none(), wash=None))

    change_paint(project, part, change, f"Clear the paint of {name}")


def set_leaves(project: Project, part: Part, layer_id: str, leaves: tuple[str, ...]) -> None:
    """Have a layer's paint leave some channels as they are below it."""

    def change(stack: Stack) -> Stack:
        return stack.with_layer(replace(stack.layer(layer_id), leaves=leaves))

    change_paint(project, part, change, f"Channels of {stack_of(part).layer(layer_id).name}")


def set_blend(project: Project, part: Part, layer_id: str, blend: str) -> None:
    """Lay a layer's paint over the rest in another way."""

    def change(stack: Stack) -> Stack:
        return stack.with_layer(replace(stack.layer(layer_id), blend=blend))

    change_paint(project, part, change, f"Blend {stack_of(part).layer(layer_id).name}")


def paint_at(part: Part, face: int, place: AnyArray) -> tuple[Colour, Material, int]:
    """What is seen near a place (3,) of a face, in the part's own space: colour, material and opacity of its nearest corner."""
    mesh = part.mesh
    corners = mesh.topology.faces[face]
    corners = corners[corners >= 0]
    nearest = corners[int(np.argmin(np.linalg.norm(mesh.positions[corners] - place, axis=1)))]
    r, g, b, opacity = mesh.value("colour")[nearest].tolist()
    rough, metal, deep, wet = mesh.value("material")[nearest].tolist()
    return (r, g, b), (rough, metal, deep, wet), opacity


def has_paint(layer: Layer, stack: Stack, part: Part) -> bool:
    """Whether a layer has any paint, the one in hand included."""
    held = open_paint(stack, part.mesh) if layer.id == stack.hand else None
    return bool(layer.paint) if held is None else bool(held[:, [COVER, MATERIAL_COVER]].any())
