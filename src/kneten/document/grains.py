"""What is done with the grain of a part: each function is one undo step.

A grain is a layer that remembers what it is made of. So strength, groups, order, files, undo and recovery hold for it
as for any layer, strokes on the clay below carry it along, and baking it only makes it forget.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from kneten.core.arrays import F32, Progress
from kneten.core.grain import MOST, Grain
from kneten.core.grain_work import GrainWork
from kneten.core.mesh import Mesh
from kneten.core.press import Press
from kneten.core.stack import Layer, Stack
from kneten.document.layering import change_layers, set_stack
from kneten.document.masks import add_kept, mask_to_keep, recalled
from kneten.document.opening import StackError, stack_of
from kneten.document.project import Project
from kneten.document.scene import Part
from kneten.document.things import KeptMask


def grains_of(part: Part) -> tuple[Layer, ...]:
    """The layers of a part that are grain, the lowest first."""
    return () if part.stack is None else tuple(one for one in part.stack.layers if one.grain is not None)


def blocked(part: Part) -> str:
    """Why grain cannot be laid on a part now, or ""."""
    stack = part.stack
    if stack is not None and stack.level < stack.top:
        return f"Grain lies on the finest level: go up to level {stack.top} first."
    return ""


@dataclass(frozen=True, eq=False)
class Order:
    """A grain to be laid, with all that is asked of the project for it.

    Attributes
    ----------
    mask : (n,) float32 or None
        What it lies on, where that is a mask.
    kept : KeptMask or None
        That mask, where it is not kept yet.
    """

    layer: Layer
    mask: F32 | None = None
    kept: KeptMask | None = None


@dataclass(frozen=True, eq=False)
class Laid:
    """A grain that has been worked out.

    Attributes
    ----------
    form, seats : (n, 3) float32
        Where the clay belongs with it, and where it was when grain was first laid.
    """

    stack: Stack
    form: F32
    seats: F32


def order(project: Project, part: Part, layer: Layer) -> Order:
    """What is needed to lay a grain. Raises `StackError` with why it cannot be."""
    if words := blocked(part):
        raise StackError(words)
    held = grains_of(part)
    if len(held) >= MOST and not any(one.id == layer.id for one in held):
        raise StackError(f"{part.name} has {MOST} grains already: bake one, or take one away.")
    grain = layer.grain
    assert grain is not None
    if grain.where != "mask":
        return Order(layer)
    known = next((mask for mask in project.scene.kept_masks if mask.id == grain.of), None)
    if known is not None:
        return Order(layer, recalled(known, part.mesh))
    if part.mesh.mask is None or not part.mesh.mask.any():
        raise StackError("Nothing is masked: mask first where the grain is to lie.")
    kept = mask_to_keep(part, f"Under {layer.name}")
    return Order(replace(layer, grain=replace(grain, of=kept.id)), part.mesh.mask.copy(), kept)


def worked_out(ordered: Order, stack: Stack, mesh: Mesh, press: Press | None, progress: Progress) -> Laid:
    """Work a grain out, on any thread. Raises `StackError`, `Cancelled`."""
    grain = ordered.layer.grain
    assert grain is not None
    if stack.recording == ordered.layer.id:
        stack = replace(stack, recording="")
    progress.report(0.05, "Looking at the clay")
    work = GrainWork(stack, mesh, ordered.layer)
    measure = work.measure(grain, ordered.mask, progress)
    progress.report(0.4, "Laying the grain")
    try:
        made = work.laid(grain, press, measure)
    except ValueError as error:
        raise StackError(f"The grain cannot be laid: {error}.") from error
    progress.report(0.8, "Bringing the clay there")
    form = made.form(made.level)
    return Laid(replace(made, synced=form.copy()), form, work.seats)


def land(project: Project, part: Part, ordered: Order, laid: Laid, name: str) -> None:
    """Give a part a grain that was worked out: one undo step."""
    with project.at_once(name):
        if ordered.kept is not None:
            add_kept(project, ordered.kept)
        if part.mesh.seat is None:
            project.set_values(part.id, "seat", np.ascontiguousarray(laid.seats), name)
        set_stack(project, project.scene.part(part.id), laid.stack, laid.form, name)


def new_grain(part: Part, grain: Grain, name: str) -> Layer:
    """A layer for a grain, under a name that is free."""
    return Layer(stack_of(part).free_name(name), grain=grain)


def add_grain(project: Project, part: Part, grain: Grain, press: Press | None, name: str) -> Layer:
    """Lay a grain onto a part, on a layer of its own, above the others. Raises `StackError` with why it cannot be."""
    layer = new_grain(part, grain, name)
    lay_grain(project, part, layer, press, f"Add grain {layer.name}")
    return layer


def change_grain(project: Project, part: Part, layer_id: str, grain: Grain, press: Press | None) -> None:
    """Lay a grain anew, with other numbers or as it is. Raises `StackError`."""
    layer = grain_layer(part, layer_id)
    lay_grain(project, part, replace(layer, grain=grain), press, f"Grain {layer.name}")


def lay_grain(project: Project, part: Part, layer: Layer, press: Press | None, name: str) -> None:
    """Lay a layer's grain at once. Raises `StackError`."""
    ordered = order(project, part, layer)
    land(project, part, ordered, worked_out(ordered, stack_of(part), part.mesh, press, Progress()), name)


def bake_grain(project: Project, part: Part, layer_id: str, inside: bool = False) -> None:
    """Make a grain a layer like others; on demand only what the mask covers, the rest goes. Raises `StackError`."""
    layer = grain_layer(part, layer_id)
    plain = replace(layer, grain=None)
    if inside:
        mask = part.mesh.mask
        if mask is None or not mask.any():
            raise StackError("Nothing is masked: mask first where the grain is to stay.")
        level = stack_of(part).level
        plain = plain.with_relief(level, plain.relief(level).times(mask))
    change_layers(project, part, lambda now: now.with_layer(plain), f"Bake grain {layer.name}")


def remove_grain(project: Project, part: Part, layer_id: str) -> None:
    """Take a grain off. Raises `StackError`."""
    layer = grain_layer(part, layer_id)
    change_layers(project, part, lambda now: now.without(layer_id), f"Take grain {layer.name} off")


def grain_layer(part: Part, layer_id: str) -> Layer:
    """A part's grain. Raises `StackError` where it is not there."""
    layer = next((one for one in grains_of(part) if one.id == layer_id), None)
    if layer is None:
        raise StackError("That grain is not there any more.")
    return layer
