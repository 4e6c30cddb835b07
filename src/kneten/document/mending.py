"""What was found wrong with shapes, mended or said to be meant so; each mending is one undo step."""

from __future__ import annotations

import functools
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

import numpy as np

from kneten.core.arrays import F32, F64, I32
from kneten.core.mesh import Mesh
from kneten.core.pose.shape_check import Around, evened_out, grown
from kneten.core.pose.shape_edits import alone
from kneten.core.pose.shapes import Driver, ShapeError, driven_dials
from kneten.core.relief import Relief
from kneten.core.stack import Layer, Stack
from kneten.core.twins import pairs_of
from kneten.document.driving import shape_layer, shapes_of
from kneten.document.layering import change_layers_of
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.document.shape_checks import RINGS, Mended, PairMended, ShapeFind, Trial, lifts
from kneten.document.shapes import add_shape


def no_mending(found: ShapeFind, scene: Scene) -> str:
    """Why a find cannot be mended by itself; "" where it can."""
    held = shapes_of(scene)
    if any(key not in held for key in found.shapes):
        return "The shape is not there any more: check again."
    if len(found.shapes) > 1:
        return (
            "Two shapes are wrong only together: Mend pairs corrects them, or Correct it and sculpt it right."
        )
    part = next((one for one in scene.parts if one.id == found.part_id), None)
    if part is None or found.find.rows.max() >= part.mesh.n_vertices:
        return "The part has other clay by now: check again."
    return ""


def mean_find(project: Project, found: ShapeFind) -> None:
    """Have the check tell no more of what a shape does so on purpose: one step. Raises `ShapeError` where the shape is gone."""
    held = shapes_of(project.scene)
    if len(found.shapes) != 1 or found.shapes[0] not in held:
        raise ShapeError("Only what one shape does by itself can be meant so.")
    one = held[found.shapes[0]]
    mean_kind(project, one.id, found.find.kind)


def mean_kind(project: Project, shape_id: str, kind: str) -> None:
    """Have the check tell no more of one kind of find with a shape: one step."""
    one = shapes_of(project.scene)[shape_id]
    _mean(project, [shape_id], (*one.shape.meant, kind), f"{one.name} is meant so")


def tell_all(project: Project, shape_ids: Sequence[str]) -> None:
    """Have the check tell of everything again that is wrong with some shapes: one step."""
    _mean(project, shape_ids, (), "Tell of all finds")


def _mean(project: Project, shape_ids: Sequence[str], kinds: Sequence[str], name: str) -> None:
    meant = tuple(dict.fromkeys(kinds))
    some = set(shape_ids)

    def change(now: Stack) -> Stack:
        layers = tuple(
            replace(one, shape=replace(one.shape, meant=meant))
            if one.shape is not None and one.shape.id in some
            else one
            for one in now.layers
        )
        return replace(now, layers=layers)

    held = shapes_of(project.scene)
    parts = dict.fromkeys(key for one in shape_ids for key in held[one].layers)
    change_layers_of(project, [(project.scene.part(key), change) for key in parts], name, paint=False)


def _mended(project: Project, found: ShapeFind, rows: I32, wanted: F64, verb: str) -> None:
    """Have a shape move some vertices (k,) so, (k, 3), where it moved them otherwise."""
    part = project.scene.part(found.part_id)
    layer = shape_layer(part, found.shapes[0])
    if layer is None:
        raise ShapeError(f"{part.name} takes no part in this shape any more.")
    mended = Mended(layer.id, rows, wanted)
    change_layers_of(project, [(part, mended.on)], f"{verb} {layer.name}", paint=False)


def mend_all(project: Project, mended: Mapping[str, Sequence[Mended]]) -> None:
    """Have shapes move vertices of parts, by their ids, as a trial found that they should: one step."""

    def change(some: Sequence[Mended]) -> Callable[[Stack], Stack]:
        return lambda now: functools.reduce(lambda stack, one: one.on(stack), some, now)

    several = [(project.scene.part(key), change(some)) for key, some in mended.items() if some]
    if several:
        change_layers_of(project, several, "Mend shapes", paint=False)


def mend_pairs(project: Project, mended: Sequence[PairMended]) -> int:
    """Have pairs of shapes corrected as a trial found that they should be: one step. How many pairs."""
    together: dict[tuple[str, ...], list[PairMended]] = {}
    for one in mended:
        together.setdefault(one.shapes, []).append(one)
    if not together:
        return 0
    name = "Mend pairs of shapes"
    with project.at_once(name):
        held = shapes_of(project.scene)
        for keys, some in together.items():
            parts = {one.part_id: project.scene.part(one.part_id) for one in some}
            known = some[0].correction
            if known and all(shape_layer(part, known) is not None for part in parts.values()):
                changes = {key: _on_correction(part, known, some) for key, part in parts.items()}
                change_layers_of(
                    project, [(parts[key], one) for key, one in changes.items()], name, paint=False
                )
                continue
            title = " + ".join(held[key].name for key in keys)
            layers = {one.part_id: moving_layer(parts[one.part_id], one.rows, one.wanted) for one in some}
            add_shape(project, list(parts), title, "", tuple(Driver(key) for key in keys), layers, name)
    return len(together)


def _on_correction(part: Part, key: str, some: Sequence[PairMended]) -> Callable[[Stack], Stack]:
    layer = shape_layer(part, key)
    assert layer is not None
    (own,) = [one for one in some if one.part_id == part.id]
    return Mended(layer.id, own.rows, own.wanted).on


def moving_layer(part: Part, rows: I32, moves: F64) -> Layer:
    """A layer, for a new shape, that moves some vertices (k,) of the level in hand so, (k, 3)."""
    stack = stack_of(part).taken(part.mesh.positions)
    told = Relief(rows, stack.bare().ground(stack.level).told(rows, moves.astype(np.float32)))
    return Layer("", 0.0, reliefs=(*(Relief.none() for _ in range(stack.level)), told))


def _start(project: Project, found: ShapeFind) -> tuple[Part, Around, F32]:
    """The part of a find, what lies around its vertices, and how the shape moves these."""
    why = no_mending(found, project.scene)
    if why:
        raise ShapeError(why)
    part = project.scene.part(found.part_id)
    layer = shape_layer(part, found.shapes[0])
    if layer is None:
        raise ShapeError(f"{part.name} takes no part in this shape any more.")
    stack = stack_of(part).taken(part.mesh.positions)
    return part, Around(part.mesh.topology, stack.bare().form(stack.level)), alone(stack, layer, stack.level)


def smooth_find(project: Project, found: ShapeFind) -> None:
    """Have a shape move the vertices of a find as smoothly as what lies around: one step. Raises `ShapeError` where that cannot be."""
    _, around, moves = _start(project, found)
    rows = grown(around, found.find.rows, RINGS)
    _mended(project, found, rows, evened_out(around, moves, rows)[rows], "Smooth")


def take_find_away(project: Project, found: ShapeFind) -> None:
    """Have a shape leave the vertices of a find where they are: one step. Raises `ShapeError` where that cannot be."""
    _start(project, found)
    rows = found.find.rows
    _mended(project, found, rows, np.zeros((len(rows), 3)), "Take away from")


def lift_find(project: Project, found: ShapeFind) -> None:
    """Have a shape bring the vertices of a find out of the clay that they go through: one step. Raises `ShapeError` where that cannot be."""
    part, _, _ = _start(project, found)
    if found.find.kind != "through":
        raise ShapeError("It goes through no other clay: smooth it instead.")
    trial = Trial(project.scene, [part, project.scene.part(found.find.other)])
    one, other = trial.checked
    dials = {found.shapes[0]: 1.0}
    dials |= driven_dials(trial.shapes, dials, {})
    moves = one.moved(dials)
    assert moves is not None
    off = lifts(one, moves, other, other.moved(dials), found.find.rows)
    rows = np.flatnonzero(off.any(axis=1)).astype(np.int32)
    _mended(project, found, rows, (one.moves[found.shapes[0]] + off)[rows], "Lift")


def even_find(project: Project, found: ShapeFind) -> None:
    """Have a shape move the vertices of a find as it does their mirror images: one step. Raises `ShapeError` where that cannot be."""
    part, around, moves = _start(project, found)
    pairs = pairs_of(Mesh(part.mesh.topology, around.rest.astype(np.float32)), 0)
    if pairs is None:
        raise ShapeError(f"The two sides of {part.name} are not meshed alike: smooth it instead.")
    rows = found.find.rows[pairs.twin[found.find.rows] >= 0]
    _mended(project, found, rows, moves[pairs.twin[rows]].astype(np.float64) * [-1.0, 1.0, 1.0], "Even")
