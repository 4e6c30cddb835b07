"""A part as clean quads: prepared beside the window, landed in one step, with its form on levels above where that is wanted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from kneten.core.arrays import F64, Progress
from kneten.core.carry import CarryWish, offered_levels, offered_reach, source_of
from kneten.core.mesh import Mesh
from kneten.core.quads.finish import Quality
from kneten.core.quads.retopologise import Flow, QuadWish, flow_of, retopologised
from kneten.document.blocking import add
from kneten.document.carried_parts import Carried, carry, give
from kneten.document.guides import lines_of
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.document.things import KeptMask, new_id


@dataclass(frozen=True, eq=False)
class Laid:
    """What was made of a part.

    Attributes
    ----------
    mesh : Mesh
        The cage, in the part's space.
    quality : Quality
    carried : Carried or None
        The same with levels on it that have the part's form, layers and values.
    """

    mesh: Mesh
    quality: Quality
    carried: Carried | None


def with_guides(wish: QuadWish, scene: Scene, part: Part) -> QuadWish:
    """A wish with the guides on a part; closed ones come back to where they begin."""
    lines: list[F64] = []
    for guide, places in lines_of(scene, part):
        lines.append(np.concatenate([places, places[:1]]) if guide.closed else places)
    return replace(wish, guides=tuple(lines))


def finest(part: Part, progress: Progress) -> Mesh:
    """A part's finest level with its layers, in its own space."""
    return source_of(part.mesh, part.stack, np.eye(4), progress).mesh


def shown_flow(part: Part, wish: QuadWish, progress: Progress) -> Flow:
    """Where the quads of a part would point. For workers. Raises `MeshError` and `Cancelled`."""
    return flow_of(finest(part, progress), wish, progress)


def laid_quads(
    part: Part, kept: Sequence[KeptMask], wish: QuadWish, with_form: bool, progress: Progress
) -> Laid:
    """A part as quads. For workers: the part is not changed.

    Parameters
    ----------
    kept : sequence of KeptMask
        Those of the project; the part's go along with its form.
    with_form : bool
        Whether levels are added that have the form, the layers and the values of the part.

    Raises
    ------
    MeshError
        Where there is nothing to lay quads on.
    Cancelled
        Through `progress`.
    """
    clay = finest(part, progress)
    mesh, made_of = retopologised(clay, wish, progress)
    if not with_form:
        return Laid(mesh, made_of, None)
    progress.report(0.96, "Carrying over")
    target = replace(part, id=new_id(), mesh=mesh, mesh_id=new_id(), stack=None, recipe=None)
    levels = offered_levels(clay.n_vertices, mesh.n_vertices)
    reach = max(offered_reach(clay, mesh), 1e-6)
    return Laid(
        mesh, made_of, carry(part, target, kept, CarryWish(reach, levels=levels, lines=False), progress)
    )


def land_apart(project: Project, part_id: str, laid: Laid) -> Part:
    """Put the quads into the scene as a part of its own, and hide the one they were made from: one step."""
    part = project.scene.part(part_id)
    name = f"Retopologise {part.name}"
    fresh = replace(
        part, id=new_id(), name=f"{part.name} quads", mesh=laid.mesh, mesh_id=new_id(), stack=None, recipe=None, was=None
    )  # fmt: skip
    with project.at_once(name):
        (made,) = add(project, name, [fresh])
        if laid.carried is not None:
            moved = tuple(replace(mask, part=made.id) for mask in laid.carried.kept_masks)
            give(project, made.id, replace(laid.carried, kept_masks=moved), name)
        project.show(part_id, False)
    return project.scene.part(made.id)


def land_in_place(project: Project, part_id: str, laid: Laid) -> Part:
    """Give the part the quads instead of its clay: one step."""
    part = project.scene.part(part_id)
    name = f"Retopologise {part.name}"
    with project.at_once(name):
        if laid.carried is not None:
            moved = tuple(replace(mask, part=part_id) for mask in laid.carried.kept_masks)
            give(project, part_id, replace(laid.carried, kept_masks=moved), name)
        else:
            project.replace_mesh(part_id, laid.mesh, name, recipe=None, was=part.recipe or part.was)
    return project.scene.part(part_id)


def finest_faces(part: Part) -> int:
    """How many faces a part's finest level has."""
    return stack_of(part).levels[-1].topology.n_faces
