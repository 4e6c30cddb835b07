"""What is done with a part's levels and layers; each function that changes the project is one undo step."""

from __future__ import annotations

import uuid
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

import numpy as np

from kneten.core.arrays import F32, U8
from kneten.core.changes import change_to
from kneten.core.mesh import Mesh
from kneten.core.paint.layers import BASE, ended, packed_in, paint_of, seen_values, wanted_hand
from kneten.core.paint.packed import COVER, SLIM, Paint, times_cover
from kneten.core.relief import Relief
from kneten.core.stack import Layer, LayerGroup, Stack
from kneten.core.values import existing
from kneten.document.driving import driven
from kneten.document.masks import with_mask
from kneten.document.opening import StackError, check_highest, stack_of
from kneten.document.project import Project
from kneten.document.scene import Part


def exchange_level(project: Project, part_id: str, stack: Stack, mesh: Mesh, name: str) -> None:
    """Take another level in hand, or another stack altogether."""
    project.replace_mesh(part_id, mesh, name, stack=None if stack.plain else stack)


def _taken(part: Part) -> Stack:
    """The stack with all that was done to its clay taken over: form and paint."""
    return packed_in(stack_of(part), part.mesh).taken(part.mesh.positions)


def set_stack(project: Project, part: Part, stack: Stack, form: F32 | None, name: str) -> None:
    """Give a part, and its linked copies, other layers; `form` (n, 3) is where its vertices belong then.

    What strokes are to paint is in hand then, and the colours are those that the layers give.
    """
    set_stacks(project, [(part, stack, form)], name)


def set_stacks(project: Project, several: Sequence[tuple[Part, Stack, F32 | None]], name: str) -> None:
    """The same for several parts: each with its layers, and where its vertices (n, 3) belong then."""
    _set([(part, *_shown_paint(stack, part.mesh), form) for part, stack, form in several], project, name)


def _set(
    several: Sequence[tuple[Part, Stack, Mapping[str, U8 | None], F32 | None]], project: Project, name: str
) -> None:
    """Give parts stacks, values and places of their vertices: one step."""
    changed = []
    with project.at_once(name):
        for part, stack, values, form in several:
            kept = None if stack.plain else stack
            changed += [replace(p, stack=kept) for p in (part, *project.scene.linked(part))]
            if form is not None and change_to(part.mesh, "positions", form) is not None:
                project.move_vertices(part.id, form, name)
            for what, value in values.items():
                project.set_values(part.id, what, value, name)
        # The scene is written and shown once, however many parts there are.
        project.change(name, project.scene.with_part(*changed))
        for part in changed:
            layers = () if part.stack is None else part.stack.layers
            if part.mesh.seat is not None and not any(layer.grain for layer in layers):
                # Nobody needs to know any more where the clay was.
                project.set_values(part.id, "seat", None, name)


def _shown_paint(stack: Stack, mesh: Mesh) -> tuple[Stack, dict[str, U8 | None]]:
    """A stack, all of whose paint is packed, with the right layer's in hand; and what the mesh's values are then."""
    tint = stack.tint
    if tint is None:
        return stack, {}
    top = stack.levels[stack.top]
    if stack.level == stack.top:
        stack = replace(stack, hand=wanted_hand(stack))
        last = ended(stack)
        if last.tint is None:
            colour = _with_opacity(tint, mesh.value("colour"))
            return last, {"paint": None, "colour": colour, "material": stack.material}
        held = paint_of(stack, stack.hand)
        return stack, {"paint": held, **seen_values(stack, None, mesh.value("colour"))}
    # Paint lies above: each level below shows what is seen there of its vertices.
    given: dict[str, U8 | None] = seen_values(stack, None, top.values["colour"])
    if stack.hand != BASE and all(layer.id != stack.hand for layer in stack.layers):
        stack = replace(stack, hand=BASE)
    given["paint"] = paint_of(stack, stack.hand)
    levels = list(stack.levels)
    for k in range(stack.top, stack.level, -1):
        step = levels[k].step
        assert step is not None
        values = existing({**levels[k].values, **given})
        given = {name: None if value is None else value[step.of_vertex] for name, value in given.items()}
        handed = existing({**(levels[k].handed or {}), **given})
        levels[k] = replace(levels[k], values=values, handed=handed)
    return replace(stack, levels=tuple(levels)), given


def _with_opacity(colour: U8, like: U8) -> U8:
    out = colour.copy()
    out[:, 3] = like[:, 3]
    return out


def change_layers(project: Project, part: Part, change: Callable[[Stack], Stack], name: str) -> None:
    """Change a part's layers and bring its clay to the form they give."""
    change_layers_of(project, [(part, change)], name)


def change_layers_of(
    project: Project,
    several: Sequence[tuple[Part, Callable[[Stack], Stack]]],
    name: str,
    form: bool = True,
    paint: bool = True,
) -> None:
    """The same for several parts, as one step.

    Parameters
    ----------
    form : bool
        Otherwise all clay stays where it is.
    paint : bool
        Otherwise the changes look at no paint, and make none: that in hand may lie open while they are made.
    """
    if not paint:
        plain = [stack_of(part).taken(part.mesh.positions) for part, _ in several]
        made = [(part, change(stack)) for stack, (part, change) in zip(plain, several, strict=True)]
        if all(_painted_alike(now, new) for now, (_, new) in zip(plain, made, strict=True)):
            # Paint is neither packed nor seen anew: on a million vertices that takes as long as all else.
            _set(_placed(project, made, form, packed=False), project, name)
            return
    made = [(part, change(_taken(part))) for part, change in several]
    _set(_placed(project, made, form, packed=True), project, name)


def _placed(
    project: Project, made: Sequence[tuple[Part, Stack]], form: bool, packed: bool
) -> list[tuple[Part, Stack, Mapping[str, U8 | None], F32 | None]]:
    """Parts with their new stacks, what their values are then, and where their clay belongs; `packed` says that their paint is."""
    own = {part.id for part, _ in made}
    out: list[tuple[Part, Stack, Mapping[str, U8 | None], F32 | None]] = []
    for part, stack in driven(project.scene, made) if form else made:
        shown, values = stack, dict[str, U8 | None]()
        if part.id in own and packed:
            shown, values = _shown_paint(stack, part.mesh)
        elif part.id not in own and not _painted_alike(stack_of(part), stack):
            # A correction that has paint came along.
            shown, values = _shown_paint(packed_in(stack, part.mesh), part.mesh)
        formed, places = shown.formed() if form else (shown, None)
        out.append((part, formed, values, places))
    return out


def _painted_alike(now: Stack, new: Stack) -> bool:
    """Whether two states of a stack give the same colours and materials, with the same paint in hand."""
    if now.tint is not new.tint or now.material is not new.material or now.hand != new.hand:
        return False
    if new.tint is None:
        return True
    if new.hand != BASE and all(layer.id != new.hand for layer in new.layers):
        return False
    if new.level == new.top and wanted_hand(new) != new.hand:
        return False

    def told(stack: Stack) -> list[tuple[object, ...]]:
        return [
            (one.id, id(one.paint), id(one.mask), one.blend, one.leaves, stack.strength(one))
            for one in stack.layers
            if one.paint or one.mask or one.id == stack.hand
        ]

    return told(now) == told(new)


def change_paint(project: Project, part: Part, change: Callable[[Stack], Stack], name: str) -> None:
    """Change what a part's layers lay of paint, and nothing of their form: that need not be worked out."""
    set_stack(project, part, change(_taken(part)), None, name)


def add_layer(project: Project, part: Part, name: str = "Layer") -> Layer:
    """A new layer above the others, recorded on."""
    stack = _taken(part)
    layer = Layer(stack.free_name(name))
    stack = replace(stack, layers=(*stack.layers, layer), recording=layer.id, solo="")
    set_stack(project, part, stack, None, f"Add layer {layer.name}")
    return layer


def record(project: Project, part: Part, layer_id: str) -> None:
    """Let strokes go to a layer, or to the clay ("").

    Raises
    ------
    StackError
        When the layer does nothing at its strength: one would not see what one does; or is grain, or a wash.
    """
    stack = _taken(part)
    if layer_id:
        layer = stack.layer(layer_id)
        if layer.grain is not None:
            raise StackError(
                f"{layer.name} is grain, which is worked out anew again and again: bake it to record on it."
            )
        if layer.wash is not None:
            raise StackError(
                f"{layer.name} follows the form, and is worked out anew: bake it (Colour, By form) to paint on it."
            )
        if not stack.strength(layer):
            raise StackError(
                f"{layer.name} is hidden or has no strength: show it, or dial it up, to record on it."
            )
    what = f"Record on {stack.layer(layer_id).name}" if layer_id else "Record on the clay"
    set_stack(project, part, replace(stack, recording=layer_id), None, what)


def change_layer(project: Project, part: Part, layer_id: str, step: str, **traits: object) -> None:
    """Give a layer another name, strength, or hide it; recording ends where it would not be seen."""

    def change(stack: Stack) -> Stack:
        new = stack.with_layer(replace(stack.layer(layer_id), **traits))  # type: ignore[arg-type]
        return new if new.recorded is not None else replace(new, recording="")

    change_layers(project, part, change, step)


def move_layer(project: Project, part: Part, layer_id: str, by: int) -> None:
    """Put a layer higher or lower in the list. Raises `StackError`."""
    stack = _taken(part)
    layers = list(stack.listed)
    at = layers.index(stack.layer(layer_id))
    to = min(max(at + by, 0), len(layers) - 1)
    if to == at:
        raise StackError("It is at the end already.")
    layer = layers.pop(at)
    layers.insert(to, layer)
    # Between two layers of a group it becomes one of them; away from its own it leaves it.
    beside = [layers[k].group for k in (to - 1, to + 1) if 0 <= k < len(layers)]
    inside = beside[0] if len(beside) == 2 and beside[0] == beside[1] else ""
    group = inside or (layer.group if layer.group in beside else "")
    layers[to] = replace(layer, group=group)
    shapes = stack.layers[: len(stack.layers) - len(layers)]
    name, moved = f"Move layer {layer.name}", replace(stack, layers=(*shapes, *layers)).tidied()
    # In which order limbs are posed matters.
    if group == layer.group and all(one.pose is None for one in layers):
        set_stack(project, part, moved, None, name)
    else:
        change_layers(project, part, lambda _: moved, name)


def group_layers(project: Project, part: Part, layer_id: str) -> LayerGroup:
    """Put a layer into one group with the layer below it in the list; that one's group, if it has one.

    Raises
    ------
    StackError
        When there is no layer below, or both are in one group already.
    """
    stack = _taken(part)
    listed = stack.listed
    at = listed.index(stack.layer(layer_id))
    layer = listed[at]
    if at == 0:
        raise StackError(f"There is no layer below {layer.name} to group it with.")
    below = listed[at - 1]
    if layer.group and layer.group == below.group:
        raise StackError(f"{layer.name} and {below.name} are in one group already.")
    group = stack.group(below.group) or stack.group(layer.group) or LayerGroup(_free_group(stack))
    ids = {layer.id, below.id}

    def change(now: Stack) -> Stack:
        layers = tuple(replace(one, group=group.id) if one.id in ids else one for one in now.layers)
        known = now.group(group.id) is not None
        return replace(now, layers=layers, groups=now.groups if known else (*now.groups, group)).tidied()

    change_layers(project, part, change, f"Group {layer.name} with {below.name}")
    return group


def _free_group(stack: Stack) -> str:
    names = {group.name for group in stack.groups}
    return next(name for k in range(1, len(names) + 2) if (name := f"Group {k}") not in names)


def ungroup_layer(project: Project, part: Part, layer_id: str) -> None:
    """Take a layer out of its group: above the group in the list."""
    name = stack_of(part).layer(layer_id).name

    def change(now: Stack) -> Stack:
        layer = now.layer(layer_id)
        last = max(k for k, one in enumerate(now.layers) if one.group == layer.group)
        rest = [one for one in now.layers if one.id != layer_id]
        rest.insert(last, replace(layer, group=""))
        new = replace(now, layers=tuple(rest)).tidied()
        return new if new.recorded is not None else replace(new, recording="")

    change_layers(project, part, change, f"Take {name} out of its group")


def change_group(project: Project, part: Part, group_id: str, step: str, **traits: object) -> None:
    """Give a group of layers another name or strength, hide or fold it; recording ends where it would not be seen."""

    def change(stack: Stack) -> Stack:
        group = stack.group(group_id)
        assert group is not None
        new = stack.with_group(replace(group, **traits))  # type: ignore[arg-type]
        return new if new.recorded is not None else replace(new, recording="")

    if traits.keys() & {"strength", "shown"}:
        change_layers(project, part, change, step)
    else:
        set_stack(project, part, change(_taken(part)), None, step)


def copy_layer(project: Project, part: Part, layer_id: str) -> Layer:
    """The same layer once more, hidden: the form stays as it is."""
    stack = _taken(part)
    layer = stack.layer(layer_id)
    made = replace(layer, id=uuid.uuid4().hex, name=stack.free_name(layer.name), shown=False, shape=None)
    at = stack.layers.index(layer) + 1
    layers = (*stack.layers[:at], made, *stack.layers[at:])
    set_stack(project, part, replace(stack, layers=layers), None, f"Copy layer {layer.name}")
    return made


def _paints(stack: Stack, layer: Layer) -> bool:
    """Whether a layer's paint lies on the level in hand."""
    return bool(layer.paint) and stack.level == stack.top


def _check_has(stack: Stack, layer: Layer) -> None:
    """Raise `StackError` where a layer has neither form nor paint on the level in hand."""
    if not layer.relief(stack.level) and not _paints(stack, layer):
        raise StackError(f"{layer.name} has nothing on level {stack.level}; go to a level where it has.")


def masked_layer(project: Project, part: Part, layer_id: str) -> None:
    """Take a layer away where the mask is, on the level in hand.

    Raises
    ------
    StackError
        When nothing is masked, or the layer has nothing on this level.
    """
    mask = part.mesh.mask
    if mask is None:
        raise StackError("Nothing is masked: mask first where the layer is to go.")
    stack = stack_of(part)
    level = stack.level
    name = f"Take layer {stack.layer(layer_id).name} off the mask"
    free = (1 - mask).astype(np.float32)

    def change(now: Stack) -> Stack:
        layer = now.layer(layer_id)
        _check_has(now, layer)
        # What is taken out by hand is not worked out again.
        plain = replace(layer, grain=None, wash=None)
        if layer.relief(level):
            plain = plain.with_relief(level, layer.relief(level).times(free))
        if _paints(now, layer):
            paint = layer.paint.dense(len(free))
            times_cover(paint, free)
            plain = replace(plain, paint=Paint.of(paint))
        return now.with_layer(plain)

    change_layers(project, part, change, name)


def set_layer_mask(project: Project, part: Part, layer_id: str, mask: F32 | None) -> None:
    """Hide a layer's paint as far as a mask (n,) of the highest level says; None shows all of it. Its form stays.

    Raises
    ------
    StackError
        When the part stands on a level below the highest.
    """
    stack = stack_of(part)
    if mask is not None:
        check_highest(stack)
    hides = Paint.none()
    if mask is not None:
        dense = np.zeros((len(mask), SLIM), np.uint8)
        dense[:, COVER] = np.rint(255 * np.clip(mask, 0, 1))
        hides = Paint.of(dense)
    verb = "Mask" if hides else "Unmask"
    name = f"{verb} layer {stack.layer(layer_id).name}"
    change_paint(project, part, lambda now: now.with_layer(replace(now.layer(layer_id), mask=hides)), name)


def mask_like_layer(project: Project, part: Part, layer_id: str) -> None:
    """Mask the clay as far as a layer's mask hides its paint.

    Raises
    ------
    StackError
        When the part stands on a level below the highest.
    """
    stack = stack_of(part)
    check_highest(stack)
    layer = stack.layer(layer_id)
    hidden = layer.mask.dense(part.mesh.n_vertices)[:, COVER] / np.float32(255)
    with_mask(project, part, hidden.astype(np.float32), f"Mask of layer {layer.name}")


def mirrored_layer(project: Project, part: Part, layer_id: str, twin: np.ndarray) -> None:
    """Make a layer's right side, on the level in hand, the mirror image of its left one.

    Parameters
    ----------
    twin : (n,) int32
        The vertex across from each, -1 where there is none.

    Raises
    ------
    StackError
        When the layer has nothing on this level.
    """
    stack = _taken(part)
    level, layer = stack.level, stack.layer(layer_id)
    _check_has(stack, layer)
    ground = stack.ground(level)
    n = len(ground.surface)
    # Frames of mirrored vertices are no mirror images: it is mirrored in space and told anew.
    moves = np.zeros((n, 3), np.float32)
    ground.add(layer.relief(level), 1.0, moves)
    to = np.flatnonzero((ground.surface[:, 0] < 0) & (twin >= 0)).astype(np.int32)
    moves[to] = moves[twin[to]] * np.array([-1, 1, 1], np.float32)
    # The seam stays on the plane.
    moves[twin == np.arange(n), 0] = 0.0
    rows = np.flatnonzero(moves.any(axis=1)).astype(np.int32)
    relief = Relief(rows, ground.told(rows, moves[rows]))
    paint = layer.paint
    if _paints(stack, layer):
        dense = paint.dense(n)
        dense[to] = dense[twin[to]]
        paint = Paint.of(dense)
    mask = layer.mask
    if mask and stack.level == stack.top:
        dense = mask.dense(n)
        dense[to] = dense[twin[to]]
        mask = Paint.of(dense)

    def change(now: Stack) -> Stack:
        plain = replace(now.layer(layer_id), grain=None, wash=None, paint=paint, mask=mask)
        return now.with_layer(plain.with_relief(level, relief))

    change_layers(project, part, change, f"Mirror layer {layer.name}")
