"""Nets and low-poly parts in the project: changed in steps that can be undone, and finished as a base that carries the clay's form."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from scipy.spatial import cKDTree

from kneten.core.arrays import F64, AnyArray, Progress
from kneten.core.carry import CarryWish, offered_levels, offered_reach
from kneten.core.loose import LooseMesh
from kneten.core.mesh import Mesh
from kneten.core.net.drawing import Ground
from kneten.core.placing import kneaded
from kneten.document.carried_parts import Carried, carry, give, matrix_between
from kneten.document.project import Project
from kneten.document.retopology import finest
from kneten.document.scene import Part
from kneten.document.things import KeptMask

MOST = 100_000
"""Faces up to which a part is modelled by hand."""


def unfit(part: Part) -> str:
    """Why a part cannot be modelled, or ""."""
    if isinstance(part.mesh, LooseMesh):
        return f"{part.name} has live density: switch it off first."
    if part.recipe is not None:
        return f"{part.name} is made by live numbers: make it clay first."
    if part.stack is not None and (part.stack.top > 0 or part.stack.layers):
        return f"{part.name} has levels or layers, which another base would not fit: drop them, or model a copy of its lowest level."
    if part.mesh.topology.n_faces > MOST:
        return f"{part.name} has more than {MOST:,} faces: retopologise it first."
    return ""


def put_net(project: Project, part: Part, mesh: Mesh, name: str) -> None:
    """Give a part other faces: one step."""
    project.replace_mesh(part.id, mesh, name, stack=None)


def move_net(project: Project, part: Part, places: F64, name: str) -> bool:
    """Put a part's vertices to other places (n, 3): one step. Whether anything moved."""
    return project.move_vertices(part.id, places.astype(np.float32), name)


def ground_of(parts: Sequence[Part], net: Part) -> Ground | None:
    """The clay of other parts in a net's space; None where there is none."""
    others = [part for part in parts if part.id != net.id and not isinstance(part.mesh, LooseMesh)]
    if not others:
        return None
    return Ground([kneaded(part.mesh, matrix_between(part, net)) for part in others])


def finished(net: Part, clay: Part, kept: Sequence[KeptMask], progress: Progress) -> Carried:
    """A net as a base with levels that have the clay's form, layers and paint. For workers. Raises `MeshError` and `Cancelled`."""
    fine = finest(clay, progress)
    brought = kneaded(fine, matrix_between(clay, net))
    reach = max(offered_reach(brought, net.mesh), 1e-6)
    levels = offered_levels(fine.n_vertices, net.mesh.n_vertices)
    return carry(clay, net, kept, CarryWish(reach, levels=levels, lines=False), progress)


def land_finished(project: Project, net_id: str, clay_id: str, carried: Carried) -> Part:
    """Let the net be the base, and hide the clay it was drawn on: one step."""
    name = f"New base {project.scene.part(net_id).name}"
    with project.at_once(name):
        moved = tuple(replace(mask, part=net_id) for mask in carried.kept_masks)
        give(project, net_id, replace(carried, kept_masks=moved), name)
        project.change(name, project.scene.with_part(replace(project.scene.part(net_id), net=False)))
        project.show(clay_id, False)
    return project.scene.part(net_id)


def twins_of_places(places: F64, likes: Sequence[tuple[AnyArray, AnyArray]], near: float) -> AnyArray:
    """For each place (k, 3) the places that mirror images of it lie on, (twins, k); -1 where there is none so near.

    Parameters
    ----------
    likes : sequence of pairs
        For each twin its (3, 3) map and (3,) shift.
    """
    tree = cKDTree(places)
    out = []
    for linear, shift in likes:
        far, which = tree.query(places @ np.asarray(linear).T + np.asarray(shift))
        out.append(np.where(far <= near, which, -1))
    return np.array(out)
