"""Levels and layers as words and arrays, and back: for the project file and the journal."""

from __future__ import annotations

import weakref
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from kneten.core.arrays import AnyArray
from kneten.core.grain import Grain
from kneten.core.paint.ink import OF_LAYERS
from kneten.core.paint.mixing import BLENDS
from kneten.core.paint.packed import SLIM, WIDE, Paint
from kneten.core.paint.wash import Wash
from kneten.core.pose.shapes import Shape
from kneten.core.relief import Relief
from kneten.core.stack import LEAST, MOST, Layer, LayerGroup, Level, Stack
from kneten.core.subdivide import Step
from kneten.core.topology import PATCH, Topology
from kneten.core.values import VALUES
from kneten.core.words import FAR, thing_from, words_of
from kneten.document.pose_words import pose_from, pose_words
from kneten.document.things import new_id

FOLDER = "stacks"


class ArrayNames:
    """Names for arrays that are never changed: the same array has the same name as long as it lives."""

    def __init__(self) -> None:
        self._names: dict[int, tuple[weakref.ref[AnyArray], str]] = {}

    def __call__(self, array: AnyArray) -> str:
        """An array's name."""
        known = self._names.get(id(array))
        if known is not None and known[0]() is array:
            return known[1]
        name = f"{FOLDER}/{new_id()}.npy"
        self._names[id(array)] = (weakref.ref(array), name)
        return name


def stack_words(
    stack: Stack, arrays: dict[str, AnyArray], names: ArrayNames, topology: Callable[[Topology], None]
) -> dict[str, Any]:
    """All about a stack; its arrays, (n, 3) for each level, are put under their names, its topologies handed to `topology`."""

    def add(array: AnyArray) -> str:
        name = names(array)
        arrays[name] = array
        return name

    def relief(held: Relief) -> dict[str, str] | None:
        if not held:
            return None
        words = {"values": add(held.values)}
        return words | ({"rows": add(held.rows)} if len(held.rows) else {})

    def values(held: Mapping[str, AnyArray] | None) -> dict[str, str] | None:
        return None if held is None else {name: add(value) for name, value in held.items()}

    def paint(held: Paint) -> dict[str, str | bool] | None:
        if not held:
            return None
        return {"patches": add(held.patches), "colours": add(held.values), "wide": held.has_material}

    levels = []
    for level in stack.levels:
        topology(level.topology)
        levels.append(
            {
                "topology": level.topology.uid,
                "detail": relief(level.detail),
                "owed": relief(level.owed),
                "values": values(level.values),
                "handed": values(level.handed),
                "sharp": add(level.step.sharp) if level.step is not None and len(level.step.sharp) else None,
            }
        )
    layers = [
        {
            "id": layer.id,
            "name": layer.name,
            "strength": layer.strength,
            "shown": layer.shown,
            "group": layer.group,
            "reliefs": [relief(one) for one in layer.reliefs],
            "grain": None if layer.grain is None else words_of(layer.grain),
            "paint": paint(layer.paint),
            "blend": layer.blend,
            "wash": None if layer.wash is None else words_of(layer.wash),
            "leaves": list(layer.leaves),
            "mask": paint(layer.mask),
            "pose": pose_words(layer.pose, add),
            "shape": None if layer.shape is None else words_of(layer.shape),
        }
        for layer in stack.layers
    ]
    return {
        "base": add(stack.base),
        "synced": add(stack.synced),
        "levels": levels,
        "layers": layers,
        "level": stack.level,
        "recording": stack.recording,
        "solo": stack.solo,
        "groups": [words_of(group) for group in stack.groups],
        "tint": None if stack.tint is None else add(stack.tint),
        "hand": stack.hand,
        "material": None if stack.material is None else add(stack.material),
    }


@dataclass(frozen=True)
class _Reader:
    """What the words of a stack name, checked.

    Attributes
    ----------
    array : callable
        Gives the array of a name, checked for kind and shape.
    topology : callable
        Gives the topology of a name that has so many vertices.
    """

    array: Callable[..., AnyArray]
    topology: Callable[[str, int], Topology]

    def relief(self, held: dict[str, str] | None, n: int) -> Relief:
        """Detail over so many vertices."""
        if held is None:
            return Relief.none()
        values = self.array(held["values"], np.float32, -1, 3)
        if not (np.abs(values) <= FAR).all():
            raise ValueError(f"{held['values']} holds numbers that are not usable")
        if "rows" not in held:
            if len(values) != n:
                raise ValueError(f"{held['values']} does not fit its level")
            return Relief(np.empty(0, np.int32), values)
        rows = self.array(held["rows"], np.int32, len(values))
        if len(rows) and (rows[0] < 0 or rows[-1] >= n or (np.diff(rows) <= 0).any()):
            raise ValueError(f"{held['rows']} does not fit its level")
        return Relief(rows, values)

    def values(self, held: dict[str, str] | None, shape: Topology) -> dict[str, AnyArray]:
        """What a level has of `VALUES`."""
        made = {}
        for name, key in (held or {}).items():
            kind = VALUES[name]
            rows = shape.n_faces if kind.by_face else shape.n_vertices
            made[name] = self.array(key, kind.kind, *kind.shape(rows))
        return made

    def levels(self, words: list[dict[str, Any]], own: Topology, level: int, n: int) -> list[Level]:
        """All levels, the lowest, of `n` vertices, first; `own` is the shape of the one in hand."""
        levels: list[Level] = []
        for k, held in enumerate(words):
            step = None if k == 0 else Step.of(levels[-1].topology)
            if step is not None and held.get("sharp") is not None:
                step = step.creasing(self.array(str(held["sharp"]), np.uint8, len(step.ends)))
            n = n if step is None else len(step.source)
            shape = own if k == level else self.topology(str(held["topology"]), n)
            if shape.n_vertices != n or shape.uid != str(held["topology"]):
                raise ValueError(f"level {k} does not fit the level below it")
            if step is not None and not step.makes(levels[-1].topology, shape):
                raise ValueError(
                    f"level {k} has its faces in another order than the level below it gives them"
                )
            handed = None
            if held["handed"] is not None and k:
                handed = self.values(held["handed"], levels[-1].topology)
            detail, owed = self.relief(held["detail"], n), self.relief(held["owed"], n)
            levels.append(Level(shape, step, detail, self.values(held["values"], shape), handed, owed))
        return levels

    def layer(self, held: dict[str, Any], levels: list[Level]) -> Layer:
        """One layer over these levels."""
        strength = _strength(held, "layer")
        if len(held["reliefs"]) > len(levels):
            raise ValueError(f"layer {held['name']} has more levels than there are")
        reliefs = tuple(
            self.relief(one, levels[k].topology.n_vertices) for k, one in enumerate(held["reliefs"])
        )
        grain = None if held.get("grain") is None else thing_from(Grain, held["grain"])
        if grain is not None and not grain.usable:
            raise ValueError(f"the grain of layer {held['name']} is not usable")
        group, shown = str(held.get("group", "")), bool(held["shown"])
        n = levels[-1].topology.n_vertices
        paint, mask, blend = (
            self.paint(held, "paint", n),
            self.paint(held, "mask", n),
            str(held.get("blend", "normal")),
        )
        if blend not in BLENDS:
            raise ValueError(f"layer {held['name']} blends in a way that is not known")
        wash = None if held.get("wash") is None else thing_from(Wash, held["wash"])
        if wash is not None and not wash.usable:
            raise ValueError(f"the wash of layer {held['name']} is not usable")
        leaves = tuple(str(name) for name in held.get("leaves", ()))
        if not set(leaves) <= set(OF_LAYERS):
            raise ValueError(f"layer {held['name']} leaves channels that are not known")
        name, layer_id = str(held["name"]), str(held["id"])
        words = held.get("pose")
        n = levels[0].topology.n_vertices
        pose = None if words is None else pose_from(words, name, n, self.array)
        shape = None if held.get("shape") is None else thing_from(Shape, held["shape"])
        if shape is not None and not shape.usable:
            raise ValueError(f"the shape of layer {name} is not usable")
        return Layer(
            name,
            strength,
            shown,
            reliefs,
            layer_id,
            group,
            grain,
            paint,
            blend,
            wash,
            leaves,
            mask,
            pose,
            shape,
        )

    def paint(self, held: dict[str, Any], what: str, n: int) -> Paint:
        """The paint of a layer, or its mask, over so many vertices."""
        words = held.get(what)
        if words is None:
            return Paint.none()
        patches = self.array(words["patches"], np.int32, -1)
        columns = WIDE if words.get("wide") else SLIM
        paint = Paint(patches, self.array(words["colours"], np.uint8, PATCH * len(patches), columns))
        if not paint.fits(n):
            raise ValueError(f"the {what} of layer {held['name']} does not fit its level")
        return paint


def _strength(held: dict[str, Any], what: str) -> float:
    strength = float(held["strength"])
    if not LEAST <= strength <= MOST:
        raise ValueError(f"the strength of {what} {held['name']} is not usable")
    return strength


def stack_from(
    words: dict[str, Any],
    own: Topology,
    array: Callable[..., AnyArray],
    topology: Callable[[str, int], Topology],
) -> Stack:
    """A stack from words and the arrays, (n, 3) for each level, that they name. Raises `KeyError`, `TypeError` or `ValueError` when they do not fit together.

    Parameters
    ----------
    own : Topology
        That of the level in hand.
    array : callable
        Gives the array of a name, checked for kind and shape.
    topology : callable
        Gives the topology of a name that has so many vertices.
    """
    read = _Reader(array, topology)
    level = int(words["level"])
    if not 0 <= level < len(words["levels"]):
        raise ValueError("the level in hand is not one of the levels")
    base = array(words["base"], np.float32, -1, 3)
    levels = read.levels(words["levels"], own, level, len(base))
    layers = [read.layer(held, levels) for held in words["layers"]]
    groups = []
    for held in words.get("groups", []):
        _strength(held, "group")
        groups.append(thing_from(LayerGroup, held))
    synced = array(words["synced"], np.float32, own.n_vertices, 3)
    if not ((np.abs(base) <= FAR).all() and (np.abs(synced) <= FAR).all()):
        raise ValueError("a level holds numbers that are not usable")
    recording, solo, hand = str(words["recording"]), str(words["solo"]), str(words.get("hand", ""))
    tint = None
    if words.get("tint") is not None:
        tint = array(words["tint"], np.uint8, levels[-1].topology.n_vertices, 4)
    material = None
    if words.get("material") is not None:
        material = array(words["material"], np.uint8, levels[-1].topology.n_vertices, 4)
    if hand and all(layer.id != hand for layer in layers):
        raise ValueError("the layer in hand is not one of the layers")
    return Stack(
        base,
        tuple(levels),
        synced,
        tuple(layers),
        level,
        recording,
        solo,
        tuple(groups),
        tint,
        hand,
        material,
    )
