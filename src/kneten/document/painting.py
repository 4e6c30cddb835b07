"""What is done with colour: each function that changes the project is one undo step."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kneten.core.arrays import F32, U8, AnyArray
from kneten.core.paint.ink import Colour
from kneten.core.paint.layers import open_paint, seen
from kneten.core.paint.light import DECODED
from kneten.core.paint.mixing import encode_rows
from kneten.core.paint.packed import Paint
from kneten.core.stack import Layer, Stack
from kneten.document.layering import change_layers
from kneten.document.opening import StackError, open_layer, stack_of
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


def set_ink(project: Project, **values: object) -> None:
    """Take another colour in hand."""
    project.change_settings(ink=replace(project.settings.ink, **values))  # type: ignore[arg-type]


def filled(
    project: Project, part: Part, colour: Colour, amount: F32 | None, name: str, masked: bool = False
) -> bool:
    """Paint all of a part, or of each vertex as much as `amount` (n,) says, on the layer in hand or the base.

    What is masked stays as it is, unless `masked`. False when nothing changed. Raises `StackError` as `Project.begin_stroke` does.
    """
    with project.at_once(name):
        open_layer(project, part)
        part = project.scene.part(part.id)
        mesh, stack = part.mesh, part.stack
        share = np.ones(mesh.n_vertices, np.float32) if amount is None else amount
        if mesh.mask is not None and not masked:
            share = share * (1 - mesh.mask)
        what = "colour" if stack is None or stack.tint is None else "paint"
        held = mesh.value(what)
        bare = stack is None or stack.tint is None or stack.hand == ""
        new = painted_over(held, colour, share, bare)
        changed = project.set_values(part.id, what, new, name)
        if changed and what == "paint":
            refresh_colour(project, project.scene.part(part.id), name)
    return changed


def painted_over(held: U8, colour: Colour, share: AnyArray, bare: bool) -> U8:
    """Paint (n, 4) with more of a colour laid over, by shares (n,): what a stroke of `PaintStroke` would lay."""
    a = np.clip(share, 0, 1).astype(np.float32)[:, None]
    light, ink = DECODED[held[:, :3]], DECODED[np.array(colour)]
    cover = np.ones_like(a) if bare else held[:, 3:].astype(np.float32) / 255
    covered = cover + (1 - cover) * a
    mixed = (light * cover * (1 - a) + ink * a) / np.maximum(covered, np.float32(1e-9))
    out = held.copy()
    rows = np.arange(len(held), dtype=np.int32)
    encode_rows(np.ascontiguousarray(mixed, np.float32), rows, 0, len(rows), out)
    if not bare:
        out[:, 3] = np.rint(255 * covered[:, 0])
        out[out[:, 3] == 0] = 0
    return out


def refresh_colour(project: Project, part: Part, name: str) -> None:
    """Bring what is seen of a part to what its layers give."""
    stack = part.stack
    if stack is not None and stack.tint is not None and stack.level == stack.top:
        colour = seen(stack, open_paint(stack, part.mesh), part.mesh.value("colour"))
        project.set_values(part.id, "colour", colour, name)


def cleared(project: Project, part: Part, layer_id: str) -> None:
    """Take all paint off a layer. Raises `StackError` when it has none."""
    name = stack_of(part).layer(layer_id).name

    def change(stack: Stack) -> Stack:
        layer = stack.layer(layer_id)
        if not layer.paint:
            raise StackError(f"{name} has no paint.")
        return stack.with_layer(replace(layer, paint=Paint.none()))

    change_layers(project, part, change, f"Clear the paint of {name}")


def set_blend(project: Project, part: Part, layer_id: str, blend: str) -> None:
    """Lay a layer's paint over the rest in another way."""

    def change(stack: Stack) -> Stack:
        return stack.with_layer(replace(stack.layer(layer_id), blend=blend))

    change_layers(project, part, change, f"Blend {stack_of(part).layer(layer_id).name}")


def colour_at(part: Part, face: int, place: AnyArray) -> Colour:
    """What is seen near a place (3,) of a face, in the part's own space: the colour of its nearest corner."""
    mesh = part.mesh
    corners = mesh.topology.faces[face]
    corners = corners[corners >= 0]
    far = np.linalg.norm(mesh.positions[corners] - place, axis=1)
    r, g, b, _ = mesh.value("colour")[corners[int(np.argmin(far))]].tolist()
    return r, g, b


def has_paint(layer: Layer, stack: Stack, part: Part) -> bool:
    """Whether a layer has any paint, the one in hand included."""
    if layer.id != stack.hand or stack.tint is None:
        return bool(layer.paint)
    held = part.mesh.paint if stack.level == stack.top else stack.levels[stack.top].values.get("paint")
    return held is not None and bool(held[:, 3].any())
