"""What is done with shapes: each function that changes the project is one undo step, over all parts that take part."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace

import numpy as np

from kneten.core.arrays import F32, F64
from kneten.core.pose.actions import ACTIONS
from kneten.core.pose.rig import Joint, Rig, Vector
from kneten.core.pose.shapes import (
    LEAST_DIAL,
    MOST_DIAL,
    NAUGHT,
    RISING,
    Driver,
    Shape,
    ShapeError,
    following,
)
from kneten.core.relief import Relief
from kneten.core.stack import Layer, Stack
from kneten.document.blocking import bake
from kneten.document.driving import FoundShape, formed_scene, shapes_of
from kneten.document.layering import change_layers_of
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.rigging import rig_layer
from kneten.document.scene import Part, Scene
from kneten.document.things import new_id

STEM = "Shape"

CLEARLY = 0.1
"""Of how far a shape moves clay at most, from which on it is seen that it moves."""


def found(scene: Scene, shape_id: str) -> FoundShape:
    """A shape of a scene. Raises `ShapeError` where there is none."""
    one = shapes_of(scene).get(shape_id)
    if one is None:
        raise ShapeError("This shape is not there any more.")
    return one


def free_shape(scene: Scene, wanted: str) -> str:
    """A name that no shape has."""
    wanted = " ".join(wanted.split()) or STEM
    taken = {one.name for one in shapes_of(scene).values()}
    return (
        wanted
        if wanted not in taken
        else next(n for k in range(2, 9999) if (n := f"{wanted} {k}") not in taken)
    )


def each_layer(
    project: Project,
    one: FoundShape,
    change: Callable[[Stack, Layer, Part], Stack],
    name: str,
    paint: bool = True,
) -> None:
    """Change the stacks of all parts of a shape, each given its layer: one step."""
    several = []
    for part_id in one.layers:
        part = project.scene.part(part_id)

        def run(now: Stack, part: Part = part) -> Stack:
            return change(now, now.layer(one.layers[part.id]), part)

        several.append((part, run))
    change_layers_of(project, several, name, paint=paint)


# -- making and dialling --------------------------------------------------------------------------


def add_shape(
    project: Project,
    part_ids: Sequence[str],
    name: str,
    action: str = "",
    drivers: tuple[Driver, ...] = (),
    on: Mapping[str, Layer] | None = None,
    step: str = "",
) -> str:
    """A new shape over some parts, recorded on and wholly there, unless it has drivers: those say how much. Its id.

    Parameters
    ----------
    on : dict, optional
        What it does to parts already, by their id, as layers; it is not recorded on then.

    Raises
    ------
    ShapeError
        When it would be there of no part, its action is not known, or shapes would drive each other in a circle.
    """
    if not part_ids:
        raise ShapeError("Choose the parts that the shape is to move.")
    if action and action not in ACTIONS:
        raise ShapeError(f"There is no action {action} in the coding.")
    name = free_shape(project.scene, name)
    shape = Shape(new_id(), action, drivers)
    with project.at_once(step or f"Add shape {name}"):
        parts = [project.scene.part(key) for key in part_ids]
        # What is made from numbers is clay from now on; a copy that shares its clay would move twice.
        bake(project, parts)
        for key in part_ids:
            project.give_own(key)
        several = []
        for key in part_ids:
            held = (on or {}).get(key, Layer(name))
            layer = replace(held, name=name, id=new_id(), shape=shape, shown=True, group="", pose=None)

            def change(now: Stack, layer: Layer = layer) -> Stack:
                new = replace(now.with_shapes(layer), solo="")
                return new if on is not None else replace(new, recording=layer.id)

            several.append((project.scene.part(key), change))
        change_layers_of(project, several, step or f"Add shape {name}", paint=False)
    return shape.id


def dial(project: Project, dials: Mapping[str, float], name: str) -> None:
    """Set the dials of shapes, by their ids, and bring what follows them along: one step; none where nothing changes.

    Raises
    ------
    ShapeError
        When one of them has drivers, or is not there.
    """
    scene = project.scene
    held = shapes_of(scene)
    for key in dials:
        one = held.get(key)
        if one is None:
            raise ShapeError("This shape is not there any more.")
        if one.shape.drivers:
            raise ShapeError(f"{one.name} follows others: dial those, or give it a dial of its own.")
    wanted = {key: min(max(value, LEAST_DIAL), MOST_DIAL) for key, value in dials.items()}
    wanted = {key: value for key, value in wanted.items() if abs(value - held[key].dial) > NAUGHT}
    if wanted:
        change_layers_of(project, dialled(scene, wanted), name, paint=False)


def dialled(scene: Scene, dials: Mapping[str, float]) -> list[tuple[Part, Callable[[Stack], Stack]]]:
    """The parts that shapes, by their ids, move, and what gives their stacks these dials."""
    held = shapes_of(scene)
    parts = {part_id for key in dials for part_id in held[key].layers}

    def change(now: Stack) -> Stack:
        layers = tuple(
            replace(layer, strength=dials[layer.shape.id])
            if layer.shape is not None and layer.shape.id in dials
            else layer
            for layer in now.layers
        )
        return replace(now, layers=layers)

    return [(part, change) for part in scene.parts if part.id in parts]


def neutral(project: Project, part_ids: Iterable[str]) -> None:
    """All dials of what moves some parts at rest: one step."""
    some = set(part_ids)
    dials = {
        key: 0.0
        for key, one in shapes_of(project.scene).items()
        if not one.shape.drivers and some & set(one.layers)
    }
    dial(project, dials, "Neutral")


def record_shape(project: Project, shape_id: str) -> None:
    """Let strokes on all its parts go to a shape; to the clay again with "". A shape at rest is dialled to 1: one step.

    Raises
    ------
    ShapeError
        When what it follows leaves it at rest: one would not see what one does.
    """
    if not shape_id:
        several = []
        for part in project.scene.parts:
            recorded = None if part.stack is None else part.stack.recorded
            if recorded is not None and recorded.shape is not None:
                several.append((part, lambda now: replace(now, recording="")))
        if several:
            change_layers_of(project, several, "Record on the clay", form=False, paint=False)
        return
    one = found(project.scene, shape_id)
    if one.shape.drivers and abs(one.dial) < NAUGHT:
        raise ShapeError(
            f"{one.name} follows others, and is at rest: bring those to where it is to be seen (Show it does)."
        )
    with project.at_once(f"Record on {one.name}"):
        if abs(one.dial) < NAUGHT:
            dial(project, {shape_id: 1.0}, f"Record on {one.name}")
        each_layer(
            project,
            one,
            lambda now, layer, _: replace(now, recording=layer.id, solo=""),
            f"Record on {one.name}",
            paint=False,
        )


def recorded_shape(part: Part) -> str:
    """The id of the shape that strokes on a part go to; "" for the clay or another layer."""
    layer = None if part.stack is None else part.stack.recorded
    return layer.shape.id if layer is not None and layer.shape is not None else ""


def rename_shape(project: Project, shape_id: str, name: str, action: str | None = None) -> None:
    """Give a shape another name, on all parts, and another action of the coding."""
    one = found(project.scene, shape_id)
    name = one.name if name == one.name else free_shape(project.scene, name)
    shape = one.shape if action is None else replace(one.shape, action=action)
    if (name, shape) != (one.name, one.shape):
        each_layer(
            project,
            one,
            lambda now, layer, _: now.with_layer(replace(layer, name=name, shape=shape)),
            f"Call {one.name} {name}" if name != one.name else f"Action of {name}",
        )


def set_drivers(project: Project, shape_id: str, drivers: tuple[Driver, ...]) -> None:
    """Have a shape follow others, or none: then it has a dial of its own, where it is now. One step.

    Raises
    ------
    ShapeError
        When shapes would drive each other in a circle, or a driver makes no sense.
    """
    one = found(project.scene, shape_id)
    shape = replace(one.shape, drivers=drivers)
    if not shape.usable:
        raise ShapeError(f"{one.name} cannot follow that.")
    verb = f"{one.name} follows" if drivers else f"{one.name} by hand"
    each_layer(project, one, lambda now, layer, _: now.with_layer(replace(layer, shape=shape)), verb)


def remove_shape(project: Project, shape_id: str) -> list[str]:
    """Take a shape away, with the corrections that follow it: one step. Their names."""
    held = shapes_of(project.scene)
    one = found(project.scene, shape_id)
    gone = following({key: other.shape for key, other in held.items()}, {shape_id}) | {shape_id}

    def change(now: Stack) -> Stack:
        for layer in now.layers:
            if layer.shape is not None and layer.shape.id in gone:
                now = now.without(layer.id)
        return now

    parts = {key for other in gone for key in held[other].layers}
    change_layers_of(
        project, [(part, change) for part in project.scene.parts if part.id in parts], f"Remove {one.name}"
    )
    return [held[key].name for key in held if key in gone and key != shape_id]


def add_part(project: Project, shape_id: str, part_ids: Sequence[str]) -> None:
    """Have more parts take part in a shape: nothing of them moves yet. One step."""
    one = found(project.scene, shape_id)
    new = [key for key in part_ids if key not in one.layers]
    with project.at_once(f"More parts in {one.name}"):
        bake(project, [project.scene.part(key) for key in new])
        several = []
        for key in new:
            project.give_own(key)
            layer = Layer(one.name, one.dial, shape=one.shape)
            several.append((project.scene.part(key), lambda now, layer=layer: now.with_shapes(layer)))
        change_layers_of(project, several, f"More parts in {one.name}")


# -- corrections ----------------------------------------------------------------------------------


def drivers_now(scene: Scene, shape_ids: Iterable[str]) -> tuple[Driver, ...]:
    """Drivers that are at 1 with these shapes as they are dialled now. Raises `ShapeError` where one is at rest."""
    made = []
    for key in shape_ids:
        one = found(scene, key)
        if abs(one.dial) < NAUGHT:
            raise ShapeError(f"{one.name} is at rest: dial it to where the correction is to be made.")
        points = ((0.0, 0.0), (one.dial, 1.0)) if one.dial > 0 else ((one.dial, 1.0), (0.0, 0.0))
        made.append(Driver(key, points))
    if not made:
        raise ShapeError("Choose the shapes that the correction is to follow.")
    return tuple(made)


def between_driver(one: FoundShape) -> Driver:
    """The driver of an in-between: at 1 where a shape is dialled now, gone at rest and where it is wholly there.

    Raises
    ------
    ShapeError
        When it is dialled to rest, or to 1 and more.
    """
    if not NAUGHT < one.dial < 1 - NAUGHT:
        raise ShapeError(f"Dial {one.name} to between 0 and 1: the in-between is made there.")
    return Driver(one.id, ((0.0, 0.0), (one.dial, 1.0), (1.0, 0.0)))


def joint_drivers(part: Part, names: Iterable[str]) -> tuple[Driver, ...]:
    """Drivers that are at 1 with these joints turned as they are now. Raises `ShapeError` where one rests."""
    layer = rig_layer(part)
    if layer is None or not isinstance(layer.pose, Rig):
        raise ShapeError(f"{part.name} has no rig whose joints could drive a correction.")
    joints = {joint.name: joint for joint in layer.pose.joints}
    made = []
    for name in names:
        joint: Joint | None = joints.get(name)
        if joint is None or not any(joint.turn):
            raise ShapeError(f"{name} rests: turn it to where the correction is to be made.")
        share = layer.strength if layer.shown else 0.0
        towards: Vector = (share * joint.turn[0], share * joint.turn[1], share * joint.turn[2])
        made.append(Driver(name, RISING, layer.pose.id, towards, True))
    if not made:
        raise ShapeError("Choose the joint that the correction is to follow.")
    return tuple(made)


def where_seen(scene: Scene, shape_id: str) -> dict[str, float]:
    """The dials of shapes, by their ids, with which one is seen wholly: its own, or those of what it follows."""
    held = shapes_of(scene)
    one = found(scene, shape_id)
    if not one.shape.drivers:
        return {shape_id: 1.0}
    out: dict[str, float] = {}
    for driver in one.shape.drivers:
        if driver.rig or driver.source not in held:
            continue
        if held[driver.source].shape.drivers:
            out |= where_seen(scene, driver.source)
            continue
        out[driver.source] = max(driver.points, key=lambda point: point[1])[0]
    return out


# -- copies --------------------------------------------------------------------------------------


def copy_shape(project: Project, shape_id: str) -> str:
    """The same shape once more, at rest, with a dial of its own: one step. Its id."""
    one = found(project.scene, shape_id)
    shape, name = Shape(new_id(), one.shape.action), free_shape(project.scene, one.name)

    def change(now: Stack, layer: Layer, _: Part) -> Stack:
        made = replace(layer, id=new_id(), name=name, shape=shape, strength=0.0)
        return now.with_shapes(made)

    each_layer(project, one, change, f"Copy shape {one.name}")
    return shape.id


def merge_shapes(project: Project, shape_ids: Sequence[str], wanted: str) -> str:
    """One shape that does what several do as they are dialled now; they go, with what follows them. One step. Its id.

    Raises
    ------
    ShapeError
        When all of them are at rest, or there are fewer than two.
    """
    held = shapes_of(project.scene)
    some = [found(project.scene, key) for key in shape_ids]
    if len(some) < 2:
        raise ShapeError("Choose two shapes or more to make one of them.")
    if all(abs(one.dial) < NAUGHT for one in some):
        raise ShapeError("All of them are at rest: dial each to how much of it is to go in.")
    kept = set(shape_ids)
    gone = kept | following({key: one.shape for key, one in held.items()}, kept)
    # What follows them and is seen now goes in as well: nothing moves.
    shape = Shape(new_id(), some[0].shape.action)
    name = wanted if wanted in [one.name for one in some] else free_shape(project.scene, wanted)
    parts = {key for other in gone for key in held[other].layers}

    def change(now: Stack) -> Stack:
        own = [layer for layer in now.layers if layer.shape is not None and layer.shape.id in gone]
        made = Layer(name, shape=shape)
        for level in range(len(now.levels)):
            total = Relief.none()
            for layer in own:
                total = total.plus(layer.relief(level), layer.strength, now.levels[level].topology.n_vertices)
            made = made.with_relief(level, total)
        rest = tuple(layer for layer in now.layers if layer not in own)
        recording = "" if any(layer.id == now.recording for layer in own) else now.recording
        return replace(now, layers=rest, recording=recording).with_shapes(made)

    change_layers_of(
        project, [(part, change) for part in project.scene.parts if part.id in parts], f"Merge into {name}"
    )
    return shape.id


def moved_within(scene: Scene) -> tuple[F64, F64]:
    """Corners (3,) of the box around all clay at rest that any shape moves clearly; that of all clay where none does."""
    corners = []
    for part in scene.parts:
        stack = stack_of(part)
        forms: dict[int, F32] = {}
        for layer in stack.layers:
            for level, relief in enumerate(layer.reliefs if layer.shape is not None else ()):
                if not relief:
                    continue
                if level not in forms:
                    forms[level] = stack.bare().form(level)
                size = np.abs(relief.dense(len(forms[level]))).max(axis=1)
                places = part.transform.to_scene(forms[level][size > CLEARLY * size.max()])
                corners += [places.min(axis=0), places.max(axis=0)]
    if not corners:
        return scene.bounds()
    return np.min(corners, axis=0), np.max(corners, axis=0)


def with_dials(scene: Scene, dials: Mapping[str, float]) -> Scene:
    """A scene of its own with other dials, and what follows them: nothing of the first one changes."""
    made = [
        (part, change(stack_of(part).taken(part.mesh.positions))) for part, change in dialled(scene, dials)
    ]
    return formed_scene(scene, made)
