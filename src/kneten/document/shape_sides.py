"""Shapes across a body: halves, mirror images, what is masked, what goes along. Each change is one undo step."""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace

import numpy as np

from kneten.core.arrays import F32, AnyArray
from kneten.core.mesh import Mesh
from kneten.core.pose.shape_edits import (
    alone,
    halves,
    lessened,
    levels_of,
    mirrored_moves,
    own_moves,
    pieces_of,
    ridden,
    told,
    twins_between,
)
from kneten.core.pose.shapes import ShapeError, following
from kneten.core.relief import Relief
from kneten.core.stack import Layer, Stack
from kneten.document.driving import shape_layer, shapes_of
from kneten.document.layering import change_layers_of
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.document.shapes import add_part, add_shape, each_layer, found, free_shape
from kneten.document.things import new_id

SIDES = ("left", "right")

EMPTY = 1e-5
"""Of a part's size: what moves it less than this does nothing to it."""


def sided(name: str, side: str) -> str:
    """A shape's name for one of its sides."""
    return f"{name} {side}"


def other_side(name: str) -> str:
    """A name with left for right, and the other way round; as it is where it says neither."""
    for here, there in (SIDES, SIDES[::-1]):
        if name.lower().endswith(here):
            return name[: -len(here)] + there
    return name


def _across(body: Part, part: Part) -> Callable[[F32], AnyArray]:
    """From places of a part to how far each is to the left of a body's middle, mm."""

    def across(places: F32) -> AnyArray:
        x = body.transform.to_part(part.transform.to_scene(places.astype(np.float64)))[:, 0]
        return np.asarray(x)

    return across


def split_shape(project: Project, body: Part, shape_id: str, width: float) -> tuple[str, str]:
    """Make a shape's left and right half of it, each with its dial, over a border of some width, mm, in a body's middle: one step. Their ids.

    Raises
    ------
    ShapeError
        When the shape has drivers: those would be of both halves.
    """
    one = found(project.scene, shape_id)
    if one.shape.drivers:
        raise ShapeError(f"{one.name} follows others: split those, and correct each side.")
    ids = new_id(), new_id()
    names = [free_shape(project.scene, sided(one.name, side)) for side in SIDES]

    def change(now: Stack, layer: Layer, part: Part) -> Stack:
        made = []
        for half, key, name in zip(halves(now, layer, _across(body, part), width), ids, names, strict=True):
            if nothing(now, half):
                continue
            made.append(replace(half, id=new_id(), name=name, shape=replace(one.shape, id=key)))
        at = now.layers.index(layer)
        layers = (*now.layers[:at], *made, *now.layers[at + 1 :])
        recording = "" if now.recording == layer.id else now.recording
        return replace(now, layers=layers, recording=recording)

    held = shapes_of(project.scene)
    followers = following({key: other.shape for key, other in held.items()}, {shape_id})
    if followers:
        names_of = ", ".join(held[key].name for key in held if key in followers)
        raise ShapeError(
            f"{names_of} follow{'s' if len(followers) == 1 else ''} {one.name}: split it before that."
        )
    each_layer(project, one, change, f"Split {one.name}")
    return ids


def nothing(stack: Stack, layer: Layer) -> bool:
    """Whether a layer moves a part by nothing that can be seen."""
    size = float(np.ptp(stack.base, axis=0).max())
    return not any(len(one.values) and np.abs(one.values).max() > EMPTY * size for one in layer.reliefs)


class Mirroring:
    """Mirror images across a body's middle: which part is another's, which vertex another's."""

    def __init__(self, scene: Scene, body: Part, part_ids: Iterable[str]) -> None:
        self._body = body
        self._parts = [scene.part(key) for key in part_ids]

    def matrix(self, source: Part, target: Part) -> AnyArray:
        """What brings places of one part to their mirror image in another's axes, (4, 3): row vectors with a 1."""
        corners = np.concatenate([np.zeros((1, 3)), np.eye(3)])
        body = self._body.transform
        flipped = body.to_part(source.transform.to_scene(corners)) * [-1.0, 1.0, 1.0]
        there = target.transform.to_part(body.to_scene(flipped))
        return np.concatenate([there[1:] - there[0], there[:1]])

    def twin_of(self, part: Part) -> Part | None:
        """The part that is a part's mirror image: itself, or one that looks like it on the other side."""
        for other in sorted(self._parts, key=lambda one: one.id != part.id):
            here, there = stack_of(part), stack_of(other)
            if here.levels[0].topology.n_vertices != there.levels[0].topology.n_vertices:
                continue
            if (self.twins(part, other, 0) >= 0).mean() > 0.9:
                return other
        return None

    def twins(self, target: Part, source: Part, level: int) -> AnyArray:
        """For each vertex of a level of one part the one of another that is its mirror image, (n,), -1 without one."""
        here, there = (
            Mesh(stack.levels[level].topology, stack.bare().form(level))
            for stack in map(stack_of, (target, source))
        )
        way = self.matrix(source, target)
        if target.id == source.id and not np.allclose(
            way, [[-1, 0, 0], [0, 1, 0], [0, 0, 1], [0, 0, 0]], atol=1e-6
        ):
            # Its own plane is not the body's: only places tell then.
            here = Mesh.from_faces(here.positions, here.topology.faces)
        return twins_between(here, there, lambda places: places @ way[:3] + way[3])

    def reliefs(self, target: Part, source: Part, layer: Layer) -> tuple[Relief, ...]:
        """A layer of one part as its mirror image on another."""
        from_stack, to_stack = stack_of(source), stack_of(target)
        turn = self.matrix(source, target)[:3].T
        out = []
        for level in levels_of(from_stack, layer):
            if not layer.relief(level) or level >= len(to_stack.levels):
                out.append(Relief.none())
                continue
            twin = self.twins(target, source, level)
            moves = mirrored_moves(own_moves(from_stack, layer, level), twin, turn)
            out.append(told(to_stack, level, moves))
        return tuple(out)


def mirror_shape(project: Project, body: Part, shape_id: str) -> tuple[str, list[str]]:
    """A new shape that is another's mirror image across a body's middle, at rest: one step.

    Returns
    -------
    str
        Its id.
    list of str
        Names of parts without a mirror image: it has nothing of them.

    Raises
    ------
    ShapeError
        When no part has a mirror image.
    """
    one = found(project.scene, shape_id)
    for part_id in one.layers:
        _take_over(project, part_id)
    scene = project.scene
    mirroring = Mirroring(scene, body, [part.id for part in scene.parts])
    name = free_shape(scene, other_side(one.name))
    made: dict[str, tuple[Relief, ...]] = {}
    left: list[str] = []
    for part_id, layer_id in one.layers.items():
        part = scene.part(part_id)
        twin = mirroring.twin_of(part)
        if twin is None:
            left.append(part.name)
            continue
        made[twin.id] = mirroring.reliefs(twin, part, stack_of(part).layer(layer_id))
    if not made:
        raise ShapeError(f"The two sides of {left[0]} are not meshed alike: it has no mirror image.")
    on = {key: Layer(name, 0.0, reliefs=reliefs) for key, reliefs in made.items()}
    step = f"Mirror shape {one.name}"
    return add_shape(project, list(made), name, one.shape.action, on=on, step=step), left


def _take_over(project: Project, part_id: str) -> None:
    """What strokes have done since is part of the stack from now on; no step of its own."""
    part = project.scene.part(part_id)
    stack = stack_of(part)
    taken = stack.taken(part.mesh.positions)
    if taken is not stack and part.stack is not None:
        same = [part, *project.scene.linked(part)]
        project.note("Take over", project.scene.with_part(*(replace(one, stack=taken) for one in same)))


def even_shape(project: Project, body: Part, shape_id: str) -> list[str]:
    """Have a shape do on the right what it does on the left: one step. Names of parts without a mirror image.

    Raises
    ------
    ShapeError
        When no part has one.
    """
    one = found(project.scene, shape_id)
    for part_id in one.layers:
        _take_over(project, part_id)
    scene = project.scene
    mirroring = Mirroring(scene, body, one.layers)
    reliefs: dict[str, tuple[Relief, ...]] = {}
    left = []
    for part_id, layer_id in one.layers.items():
        part = scene.part(part_id)
        twin = mirroring.twin_of(part)
        if twin is None:
            left.append(part.name)
            continue
        stack, own = stack_of(part), stack_of(part).layer(layer_id)
        source = stack_of(twin).layer(one.layers[twin.id])
        flipped = mirroring.reliefs(part, twin, source)
        across = _across(body, part)
        mixed = []
        for level in levels_of(stack, own):
            n = stack.levels[level].topology.n_vertices
            x = across(stack.bare().form(level))
            seam = 1e-6 * float(np.ptp(x)) if len(x) else 0.0
            kept = own.relief(level).dense(n).copy()
            there = (flipped[level] if level < len(flipped) else Relief.none()).dense(n)
            kept[x < -seam] = there[x < -seam]
            middle = np.abs(x) <= seam
            kept[middle] = 0.5 * (kept[middle] + there[middle])
            rows = np.flatnonzero(kept.any(axis=1)).astype(np.int32)
            mixed.append(Relief(rows, kept[rows]) if len(rows) else Relief.none())
        reliefs[part_id] = tuple(mixed)
    if not reliefs:
        raise ShapeError(f"The two sides of {left[0]} are not meshed alike: it has no mirror image.")
    several = []
    for key, some in reliefs.items():

        def change(now: Stack, key: str = key, some: tuple[Relief, ...] = some) -> Stack:
            return now.with_layer(replace(now.layer(one.layers[key]), reliefs=some))

        several.append((scene.part(key), change))
    change_layers_of(project, several, f"Even sides of {one.name}")
    return left


def clean_shape(project: Project, part: Part, shape_id: str) -> None:
    """Take a shape away where a part is masked, on all its levels: one step.

    Raises
    ------
    ShapeError
        When nothing is masked, or the part takes no part in the shape.
    """
    mask = part.mesh.mask
    layer = shape_layer(part, shape_id)
    if mask is None or not mask.any():
        raise ShapeError("Nothing is masked: mask first where the shape is to go.")
    if layer is None:
        raise ShapeError(f"{part.name} takes no part in this shape.")
    free = (1 - mask).astype(np.float32)
    change_layers_of(
        project,
        [(part, lambda now: now.with_layer(lessened(now, now.layer(layer.id), free)))],
        f"Take {layer.name} off the mask",
    )


# -- what goes along ------------------------------------------------------------------------------


def take_along(
    project: Project, body: Part, shape_id: str, part_ids: Sequence[str], stiff: Callable[[Part], bool]
) -> None:
    """Have parts that sit on a body go along with what a shape does to that: one step, in place of what it did to them.

    Stiff parts go piece by piece: each tooth, each whisker as one.

    Raises
    ------
    ShapeError
        When the body takes no part in the shape.
    """
    one = found(project.scene, shape_id)
    if body.id not in one.layers:
        raise ShapeError(f"{body.name} takes no part in {one.name}.")
    with project.at_once(f"{one.name} takes along"):
        others = [key for key in part_ids if key != body.id]
        add_part(project, shape_id, others)
        _take_over(project, body.id)
        body = project.scene.part(body.id)
        stack = stack_of(body)
        layer = stack.layer(one.layers[body.id])
        level = stack.level
        rest = Mesh(stack.levels[level].topology, stack.bare().form(level))
        moves = alone(stack, layer, level)
        several: list[tuple[Part, Callable[[Stack], Stack]]] = []
        for key in others:
            part = project.scene.part(key)
            own = shape_layer(part, shape_id)
            assert own is not None
            held = stack_of(part)
            low = held.bare().form(0)
            places = body.transform.to_part(part.transform.to_scene(low.astype(np.float64)))
            pieces = None
            if stiff(part):
                which = pieces_of(held.levels[0].topology)
                order = np.argsort(which, kind="stable").astype(np.int32)
                pieces = np.split(order, np.flatnonzero(np.diff(which[order])) + 1)
            gone = ridden(rest, moves, places.astype(np.float32), pieces)
            after = part.transform.to_part(body.transform.to_scene(places + gone))
            relief = told(held, 0, (after - low).astype(np.float32))

            def change(now: Stack, own: Layer = own, relief: Relief = relief) -> Stack:
                return now.with_layer(replace(now.layer(own.id), reliefs=(relief,)))

            several.append((part, change))
        change_layers_of(project, several, f"{one.name} takes along")


def shape_of_pose(project: Project, layer_name: str, layers: Mapping[str, str]) -> str:
    """Make a shape of what layers do that pose parts, given by the parts' ids: one step. The pose goes. Its id."""
    with project.at_once(f"{layer_name} as a shape"):
        on: dict[str, Layer] = {}
        for part_id, layer_id in layers.items():
            _take_over(project, part_id)
            stack = stack_of(project.scene.part(part_id))
            layer = stack.layer(layer_id)
            on[part_id] = Layer(layer_name, reliefs=(told(stack, 0, alone(stack, layer, 0)),))
        several: list[tuple[Part, Callable[[Stack], Stack]]] = [
            (project.scene.part(key), functools.partial(Stack.without, layer_id=layer_id))
            for key, layer_id in layers.items()
        ]
        change_layers_of(project, several, f"{layer_name} as a shape")
        return add_shape(project, list(layers), layer_name, on=on, step=f"{layer_name} as a shape")
