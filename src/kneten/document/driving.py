"""Shapes of a scene, gathered from the layers of its parts; corrections brought to what they follow."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from kneten.core.mesh import Mesh
from kneten.core.pose.rig import Rig, Vector
from kneten.core.pose.shapes import NAUGHT, Shape, driven_dials
from kneten.core.stack import Layer, Stack
from kneten.document.scene import Part, Scene
from kneten.document.things import new_id


@dataclass(frozen=True)
class FoundShape:
    """A shape, as the parts have it.

    Attributes
    ----------
    dial : float
    layers : dict
        The ids of its layers, by part.
    """

    shape: Shape
    name: str
    dial: float
    layers: Mapping[str, str]

    @property
    def id(self) -> str:
        """The same on all parts."""
        return self.shape.id


def shapes_in(stacks: Mapping[str, Stack]) -> dict[str, FoundShape]:
    """The shapes of parts, given their stacks by the parts' ids; by the shapes' ids, in the order of the layers."""
    found: dict[str, FoundShape] = {}
    for key, stack in stacks.items():
        for layer in stack.layers:
            shape = layer.shape
            if shape is None:
                continue
            known = found.get(shape.id)
            if known is None:
                found[shape.id] = FoundShape(shape, layer.name, layer.strength, {key: layer.id})
            else:
                found[shape.id] = replace(known, layers={**known.layers, key: layer.id})
    return found


def shapes_of(scene: Scene) -> dict[str, FoundShape]:
    """The shapes of a scene."""
    return shapes_in({part.id: part.stack for part in scene.parts if part.stack is not None})


def shape_layer(part: Part, shape_id: str) -> Layer | None:
    """The layer of a part that a shape is on; None where the part takes no part in it."""
    layers = () if part.stack is None else part.stack.layers
    return next((one for one in layers if one.shape is not None and one.shape.id == shape_id), None)


def turns_in(stacks: Mapping[str, Stack]) -> dict[str, dict[str, Vector]]:
    """How the joints of all rigs are turned, in degrees, by the rigs' ids and their names: as their first part has them."""
    turns: dict[str, dict[str, Vector]] = {}
    for stack in stacks.values():
        for layer in stack.layers:
            if isinstance(layer.pose, Rig) and layer.pose.id not in turns:
                share = stack.strength(layer)
                turns[layer.pose.id] = {
                    joint.name: (share * joint.turn[0], share * joint.turn[1], share * joint.turn[2])
                    for joint in layer.pose.joints
                }
    return turns


def driven(scene: Scene, made: Sequence[tuple[Part, Stack]]) -> list[tuple[Part, Stack]]:
    """Parts of a scene with their new stacks, corrections dialled as what they follow is then; with those that this changes as well.

    Strokes go to the clay again where the layer they went to is gone or at rest.

    Raises
    ------
    ShapeError
        When shapes drive each other in a circle.
    """
    new = {part.id: (part, _still_recorded(stack)) for part, stack in made}
    shared = {one.id: part.id for part, _ in made for one in scene.linked(part)}
    now = {
        part.id: new[shared.get(part.id, part.id)][1] if shared.get(part.id, part.id) in new else part.stack
        for part in scene.parts
    }
    stacks = {key: stack for key, stack in now.items() if stack is not None}
    found = shapes_in(stacks)
    shapes = {key: one.shape for key, one in found.items()}
    if not any(shape.drivers for shape in shapes.values()):
        return list(new.values())
    dials = driven_dials(shapes, {key: one.dial for key, one in found.items()}, turns_in(stacks))
    done: set[str] = set()
    for part in scene.parts:
        stack = stacks.get(part.id)
        if stack is None or part.id in shared or part.mesh_id in done:
            continue
        done.add(part.mesh_id)
        if not any(_other(layer, dials) for layer in stack.layers):
            continue
        if part.id not in new:
            stack = stack.taken(part.mesh.positions)
        layers = tuple(
            replace(layer, strength=dials[layer.shape.id])
            if _other(layer, dials) and layer.shape is not None
            else layer
            for layer in stack.layers
        )
        new[part.id] = part, _still_recorded(replace(stack, layers=layers))
    return list(new.values())


def formed_scene(scene: Scene, made: Sequence[tuple[Part, Stack]]) -> Scene:
    """A scene of its own with other stacks for some parts, and with what follows them: nothing of the first one changes."""
    parts = []
    for part, stack in driven(scene, made):
        formed, form = stack.formed()
        values = part.mesh.own_values()
        parts.append(
            replace(part, stack=formed, mesh=Mesh(part.mesh.topology, form, **values), mesh_id=new_id())
        )
    return scene.with_part(*parts)


def _other(layer: Layer, dials: Mapping[str, float]) -> bool:
    return (
        layer.shape is not None and abs(dials.get(layer.shape.id, layer.strength) - layer.strength) > NAUGHT
    )


def _still_recorded(stack: Stack) -> Stack:
    return stack if stack.recorded is not None or not stack.recording else replace(stack, recording="")
