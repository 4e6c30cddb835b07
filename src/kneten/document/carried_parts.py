"""Carry over from part to part: prepared and landed; landing is one undo step."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from kneten.core.arrays import F64, Progress
from kneten.core.carry import CarriedOver, CarryWish, carried_over, source_of
from kneten.core.mesh import Mesh
from kneten.core.stack import Stack
from kneten.document.masks import recalled
from kneten.document.opening import stack_of
from kneten.document.project import Project
from kneten.document.scene import Part
from kneten.document.things import Guide, KeptMask, Landmark, guide_places, laid, marked, place_in_part


@dataclass(frozen=True, eq=False)
class Carried:
    """What carrying over made of a part.

    Attributes
    ----------
    kept_masks : tuple of KeptMask
        The source's, on the target.
    lines : tuple of (Guide, (k, 3))
        The source's guides, and where they come to lie in the target's space.
    marks : tuple of (Landmark, (3,))
        Its landmarks likewise.
    """

    made: CarriedOver
    kept_masks: tuple[KeptMask, ...]
    lines: tuple[tuple[Guide, F64], ...] = ()
    marks: tuple[tuple[Landmark, F64], ...] = ()

    @property
    def missed(self) -> int:
        """How many vertices have no match."""
        return int(np.count_nonzero(self.made.missed))


def matrix_between(source: Part, target: Part) -> F64:
    """(4, 4), from a part's space into another's."""
    return np.asarray(np.linalg.inv(target.transform.matrix()) @ source.transform.matrix())


def carry(
    source: Part,
    target: Part,
    kept: Sequence[KeptMask],
    wish: CarryWish,
    progress: Progress,
    guides: Sequence[Guide] = (),
    marks: Sequence[Landmark] = (),
) -> Carried:
    """Lay one part's clay onto another's mesh. For workers: neither part is changed.

    Parameters
    ----------
    kept : sequence of KeptMask
        Those of the project; the source's go along.
    guides, marks : sequences of Guide and Landmark
        Those of the project; the source's go along where all of it is carried over.

    Returns
    -------
    Carried
        Where vertices have no match they are masked.
    """
    matrix = matrix_between(source, target)
    clay = source_of(source.mesh, source.stack, matrix, progress)
    made = carried_over(clay, target.mesh, stack_of(target), wish, progress)
    masks = _kept_on(made, clay.mesh, source, target, kept, matrix) if wish.mask else ()
    if made.missed.any():
        if wish.mask and clay.mesh.mask is not None and made.mesh.mask is not None:
            values = np.rint(made.mesh.mask * 255).astype(np.uint8)
            masks = (
                *masks,
                KeptMask(f"Mask of {source.name}", target.id, made.mesh.positions.copy(), values),
            )
        made.mesh.mask = made.missed.astype(np.float32)
    elif wish.where == "masked":
        # Those that were masked for want of a match have one now.
        made.mesh.mask = None
    made.mesh.forget_protection()
    if not wish.lines or wish.where != "all":
        return Carried(made, masks)
    lines = [(guide, guide_places(guide, source.mesh)) for guide in guides if guide.part == source.id]
    spots = [(mark, place_in_part(mark, source)[None]) for mark in marks if mark.part == source.id]
    return Carried(
        made,
        masks,
        tuple((guide, _gone_along(made, clay.mesh, places, matrix)) for guide, places in lines),
        tuple((mark, _gone_along(made, clay.mesh, place, matrix)[0]) for mark, place in spots),
    )


def _gone_along(made: CarriedOver, clay: Mesh, places: F64, matrix: F64) -> F64:
    """Where places (k, 3) of the source's space come to: with the target's vertex that lies on the clay nearest to each."""
    places = places @ matrix[:3, :3].T + matrix[:3, 3]
    there = np.flatnonzero(made.found.there)
    if not len(there):
        return np.asarray(places)
    met = made.found.of(clay.positions)[there].astype(np.float64)
    _, nearest = cKDTree(met).query(places)
    return np.asarray(places + made.mesh.positions[there[nearest]] - met[nearest])


def _kept_on(
    made: CarriedOver, clay: Mesh, source: Part, target: Part, kept: Sequence[KeptMask], matrix: F64
) -> tuple[KeptMask, ...]:
    found = []
    for mask in kept:
        if mask.part != source.id:
            continue
        places = (mask.positions @ matrix[:3, :3].T + matrix[:3, 3]).astype(np.float32)
        values = recalled(replace(mask, positions=places), clay)
        there = np.rint(made.found.of(values[:, None])[:, 0] * 255).clip(0, 255).astype(np.uint8)
        found.append(KeptMask(mask.name, target.id, made.mesh.positions.copy(), there))
    return tuple(found)


def land(project: Project, target_id: str, carried: Carried, name: str) -> None:
    """Give a part what was made: its mesh, levels and layers, and the masks kept with it. One step."""
    with project.at_once(name):
        give(project, target_id, carried, name)


def give(project: Project, target_id: str, carried: Carried, name: str) -> None:
    """The same as a part of a larger step."""
    stack: Stack = carried.made.stack
    kept = None if stack.plain else stack
    project.replace_mesh(target_id, carried.made.mesh, name, stack=kept, recipe=None)
    new = {(mask.name, mask.part) for mask in carried.kept_masks}
    if new:
        others = tuple(m for m in project.scene.kept_masks if (m.name, m.part) not in new)
        project.change(name, replace(project.scene, kept_masks=(*others, *carried.kept_masks)))
    if not carried.lines and not carried.marks:
        return
    part, scene = project.scene.part(target_id), project.scene
    lines = {guide.id: replace(laid(guide, line, part.mesh), part=part.id) for guide, line in carried.lines}
    marks = {mark.id: replace(marked(mark.name, part, place), id=mark.id) for mark, place in carried.marks}
    guides = tuple(lines.get(guide.id, guide) for guide in scene.guides)
    landmarks = tuple(marks.get(mark.id, mark) for mark in scene.landmarks)
    project.change(name, replace(scene, guides=guides, landmarks=landmarks))
