"""Carry over from part to part: prepared and landed; landing is one undo step."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from kneten.core.arrays import F64, Progress
from kneten.core.carry import CarriedOver, CarryWish, carried_over, source_of
from kneten.core.mesh import Mesh
from kneten.core.stack import Stack
from kneten.document.layering import stack_of
from kneten.document.masks import recalled
from kneten.document.project import Project
from kneten.document.scene import Part
from kneten.document.things import KeptMask


@dataclass(frozen=True, eq=False)
class Carried:
    """What carrying over made of a part.

    Attributes
    ----------
    kept_masks : tuple of KeptMask
        The source's, on the target.
    """

    made: CarriedOver
    kept_masks: tuple[KeptMask, ...]

    @property
    def missed(self) -> int:
        """How many vertices have no match."""
        return int(np.count_nonzero(self.made.missed))


def matrix_between(source: Part, target: Part) -> F64:
    """(4, 4), from a part's space into another's."""
    return np.asarray(np.linalg.inv(target.transform.matrix()) @ source.transform.matrix())


def carry(
    source: Part, target: Part, kept: Sequence[KeptMask], wish: CarryWish, progress: Progress
) -> Carried:
    """Lay one part's clay onto another's mesh. For workers: neither part is changed.

    Parameters
    ----------
    kept : sequence of KeptMask
        Those of the project; the source's go along.

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
    return Carried(made, masks)


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
