"""Shapes as files hold them: the clay with all dials at rest, and what each shape does to it, vertex by vertex."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from kneten.core.arrays import F32
from kneten.core.mesh import Mesh
from kneten.core.pose.shapes import LEAST_DIAL, MOST_DIAL
from kneten.core.relief import Relief, packed
from kneten.core.stack import Layer, Stack
from kneten.core.words import FAR
from kneten.document.driving import FoundShape, shapes_of
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.rigging import rig_layer
from kneten.document.scene import Part, Scene
from kneten.document.shape_sides import nothing
from kneten.document.shapes import add_shape, dial
from kneten.formats.clips import DialClip, ReadMotion, Take, dial_clips
from kneten.formats.space import Space

EMPTY = 1e-6
"""Mm below which a vertex that was read does not move."""


@dataclass(frozen=True, eq=False)
class Targets:
    """What shapes do to an object.

    Attributes
    ----------
    rest : (n, 3) float32
        Where its vertices are with all dials at rest, and all joints.
    names : tuple of str
    dials : tuple of float
    moves : tuple of (n, 3) float32
        How far each vertex goes with a shape's dial at 1.
    clips : tuple of DialClip
    """

    rest: F32
    names: tuple[str, ...]
    dials: tuple[float, ...]
    moves: tuple[F32, ...]
    clips: tuple[DialClip, ...] = ()


def at_rest(stack: Stack, rig_id: str = "") -> Stack:
    """A stack with all dials at rest, and a rig's layer, if there is one."""
    layers = tuple(
        replace(layer, strength=0.0) if layer.shape is not None or layer.id == rig_id else layer
        for layer in stack.layers
    )
    return replace(stack, layers=layers)


def told_in_hand(part: Part, places: F32, still: float) -> tuple[Relief, ...]:
    """What brings a part's clay, with all dials and its rig at rest, to places (n, 3) on the level in hand; less than `still`, mm, is nothing."""
    stack = stack_of(part).taken(part.mesh.positions)
    layer = rig_layer(part)
    rest = at_rest(stack, "" if layer is None else layer.id)
    moves = places - rest.form(rest.level)
    rows = np.flatnonzero(np.abs(moves).max(axis=1) > still).astype(np.int32)
    told = Relief(rows, rest.ground(rest.level).told(rows, moves[rows])) if len(rows) else Relief.none()
    return (*(Relief.none() for _ in range(rest.level)), told)


def shape_moves(part: Part) -> tuple[F32, dict[str, F32]]:
    """Where a part's vertices (n, 3) are with all dials and its rig at rest, and the moves (n, 3) of each of its shapes from there, by their ids."""
    stack = stack_of(part).taken(part.mesh.positions)
    layer = rig_layer(part)
    rest = at_rest(stack, "" if layer is None else layer.id)
    form = rest.form(rest.level)
    found = {}
    for one in stack.layers:
        if one.shape is not None and not nothing(stack, one):
            full = rest.with_layer(replace(one, strength=1.0, shown=True))
            found[one.shape.id] = np.asarray(full.form(rest.level) - form, np.float32)
    return form, found


def targets_of(
    parts: Sequence[Part], scene: Scene, space: Space, takes: Mapping[str, Sequence[Take]]
) -> dict[str, Targets]:
    """What shapes do to parts, by the parts' ids, in a file's space, vertices in source order; what is played of bodies is given by their ids."""
    held = shapes_of(scene)
    found = {}
    for part in parts:
        if part.stack is None or all(layer.shape is None for layer in part.stack.layers):
            continue
        rest, moves = shape_moves(part)
        some: list[FoundShape] = [held[key] for key in moves]
        order, place = part.mesh.in_source_order, part.transform
        zero = place.to_scene(np.zeros((1, 3)))
        found[part.id] = Targets(
            space.out_of(place.to_scene(order(rest).astype(np.float64))),
            tuple(one.name for one in some),
            tuple(one.dial for one in some),
            tuple(
                space.out_of(place.to_scene(order(moves[one.id]).astype(np.float64)) - zero) for one in some
            ),
            dial_clips([one.id for one in some], scene, takes),
        )
    return found


def read_targets(targets: Targets, space: Space, mesh: Mesh) -> list[tuple[str, float, F32]]:
    """The shapes that a file has of an object, over the mesh made of it: name, dial, moves (n, 3) in its order. Raises `ValueError` where one moves too far."""
    found = []
    for name, value, moves in zip(targets.names, targets.dials, targets.moves, strict=True):
        own = space.into(moves)[mesh.topology.source_vertex]
        if not (np.abs(own) <= FAR).all():
            raise ValueError(f"the shape {name} moves vertices too far to be worked with")
        own[np.abs(own).max(axis=1) < EMPTY] = 0.0
        found.append((name, min(max(value, LEAST_DIAL), MOST_DIAL), own))
    return found


def motions_in(targets: Targets) -> list[ReadMotion]:
    """What the clips that were read do to an object's shapes."""
    found = []
    for clip in targets.clips:
        dials = {
            name: (clip.times, clip.values[:, k])
            for k, name in enumerate(targets.names)
            if np.ptp(clip.values[:, k]) > 0 or abs(clip.values[0, k] - targets.dials[k]) > 0
        }
        found.append(ReadMotion(clip.key, clip.name, dials=dials))
    return found


def bring_shapes(
    project: Project, shapes: dict[str, Sequence[tuple[str, float, F32]]], name: str
) -> dict[str, str]:
    """Give parts that were read, by their ids, their shapes, moves (n, 3) of each: those of one name are one shape. The shapes' ids, by the names they were read by. Part of the step that brings the parts."""
    wanted: dict[str, dict[str, tuple[float, F32]]] = {}
    for part_id, some in shapes.items():
        for title, value, moves in some:
            wanted.setdefault(title, {}).setdefault(part_id, (value, moves))
    dials, ids = {}, {}
    for title, on in wanted.items():
        layers = {key: _layer(moves) for key, (_, moves) in on.items()}
        key = ids[title] = add_shape(project, list(on), title, on=layers, step=name)
        dials[key] = next(iter(on.values()))[0]
    if any(dials.values()):
        dial(project, dials, name)
    return ids


def _layer(moves: F32) -> Layer:
    return Layer("", 0.0, reliefs=(packed(moves),))
