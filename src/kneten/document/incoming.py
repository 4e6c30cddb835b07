"""Parts of another project that come into this one: new ids, links kept, regions under numbers of their own."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from kneten.core.live.recipes import with_parts_named
from kneten.core.mesh import Mesh
from kneten.core.regions import numbers_of
from kneten.core.stack import Stack
from kneten.document.kinds import brought_along
from kneten.document.numbers import MOST, RegionError, free_number
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.document.things import RegionName, new_id


def own_scene(scene: Scene, parts: Sequence[Part]) -> Scene:
    """A scene of only these parts the names of their regions and what lies on them, to be kept apart from the rest."""
    numbers = _numbers(parts)
    names = tuple(name for name in scene.region_names if name.number in numbers)
    alone = Scene(tuple(replace(part, group="") for part in parts), region_names=names)
    return brought_along(scene, [(part, part) for part in parts], alone)


def bring_in(project: Project, name: str, scene: Scene) -> list[Part]:
    """Add a scene's parts in one step. Raises `RegionError` when there are too many regions.

    Linked copies stay linked to each other; their regions get numbers that the project does not use yet.
    """
    numbers = sorted(_numbers(scene.parts))
    first = free_number(project.scene) if numbers else 1
    if first + len(numbers) > MOST:
        raise RegionError(f"A project holds {MOST:,} regions at most; take some away first.")
    other = {number: first + at for at, number in enumerate(numbers)}
    meshes: dict[str, tuple[str, Mesh, Stack | None]] = {}
    added: list[Part] = []
    taken: list[str] = []
    for part in scene.parts:
        if part.mesh_id not in meshes:
            meshes[part.mesh_id] = (new_id(), *_renumbered(part, other))
        mesh_id, mesh, stack = meshes[part.mesh_id]
        free = project.scene.free_name(part.name, taken)
        taken.append(free)
        added.append(replace(part, id=new_id(), mesh_id=mesh_id, mesh=mesh, stack=stack, name=free, group=""))
    here = {old.id: new.id for old, new in zip(scene.parts, added, strict=True)}
    added = [
        replace(part, recipe=with_parts_named(part.recipe, here), was=with_parts_named(part.was, here))
        for part in added
    ]
    names = tuple(
        RegionName(other[known.number], known.name) for known in scene.region_names if known.number in other
    )
    now = project.scene
    new = replace(now.with_parts((*now.parts, *added)), region_names=(*now.region_names, *names))
    project.change(name, brought_along(scene, zip(scene.parts, added, strict=True), new))
    if added:
        project.choose_all(part.id for part in added)
    return added


def _numbers(parts: Sequence[Part]) -> set[int]:
    found: set[int] = set()
    for part in parts:
        found.update(numbers_of(part.mesh))
        for level in part.stack.levels if part.stack is not None else ():
            if "regions" in level.values:
                found.update(np.unique(level.values["regions"]).tolist())
    # What recipes make has the same numbers everywhere.
    return {number for number in found if 0 < number <= MOST}


def _renumbered(part: Part, other: Mapping[int, int]) -> tuple[Mesh, Stack | None]:
    """A part's clay and levels with other region numbers."""
    if not other:
        return part.mesh, part.stack
    table = np.arange(np.iinfo(np.uint16).max + 1, dtype=np.uint16)
    for old, new in other.items():
        table[old] = new

    def values(held: Mapping[str, Any]) -> dict[str, Any]:
        return {key: table[value] if key == "regions" else value for key, value in held.items()}

    mesh, stack = part.mesh, part.stack
    if mesh.regions is not None:
        mesh = Mesh(mesh.topology, mesh.positions, normals=mesh.normals, **values(mesh.values()))
    if stack is not None:
        levels = tuple(
            replace(
                level,
                values=values(level.values),
                handed=None if level.handed is None else values(level.handed),
            )
            for level in stack.levels
        )
        stack = replace(stack, levels=levels)
    return mesh, stack
