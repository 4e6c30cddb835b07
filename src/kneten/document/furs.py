"""What is done with the fur of a part: each function is one undo step."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from kneten.core.arrays import F32, Progress
from kneten.core.fur.fibres import Roots, fibre_curves, rooted
from kneten.core.fur.leads import Leads, grown
from kneten.core.fur.numbers import FurError, FurNumbers
from kneten.core.live.strand import Knot, Strand, Strands
from kneten.core.mesh import Mesh
from kneten.document.blocking import add_live
from kneten.document.masks import recalled
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.document.things import Fur, KeptMask, leads_of, with_leads

LENGTH, SPACING, WIDTH = 0.05, 0.02, 0.0006
"""How long a new fur is, how far its leads are apart, how thick its fibres are: shares of the part's size."""

MOST_STRANDS = 400
"""Strands that a fur is made into at most."""


def furs_on(scene: Scene, part_id: str) -> tuple[Fur, ...]:
    """The furs of a part."""
    return tuple(fur for fur in scene.things("furs") if fur.part == part_id)


def fur_of(scene: Scene, fur_id: str) -> Fur | None:
    """The fur with this id, or None."""
    return next((fur for fur in scene.things("furs") if fur.id == fur_id), None)


def mask_under(scene: Scene, fur: Fur, mesh: Mesh) -> F32 | None:
    """What a fur lies on, (n,); None where that is all of the clay. Raises `FurError` where it is gone."""
    if not fur.numbers.mask:
        return None
    kept = next((mask for mask in scene.kept_masks if mask.id == fur.numbers.mask), None)
    if kept is None:
        raise FurError("the mask that the fur lies on is not there any more: lay it on the mask as it is now")
    return recalled(kept, mesh)


def sown(part: Part, mesh: Mesh, mask: F32 | None, numbers: FurNumbers, name: str, progress: Progress) -> Fur:
    """A new fur for a part's clay, or where a mask (n,) lies on it, on any thread. Raises `FurError`, `Cancelled`."""
    low, high = mesh.bounds()
    size = float(((high - low) ** 2).sum()) ** 0.5
    spots, leads = grown(mesh, mask, LENGTH * size, 28.0, SPACING * size, numbers.seed, progress)
    kept = Fur(
        name,
        part.id,
        spots.corners(mesh),
        spots.shares.astype(np.float32),
        mesh.topology.uid,
        leads.roots.astype(np.float32),
        leads.normals.astype(np.float32),
        leads.mids.astype(np.float32),
        leads.tips.astype(np.float32),
        leads.own.astype(np.float32),
        numbers,
    )
    return with_leads(kept, leads)


def free_fur_name(scene: Scene, wanted: str = "Fur") -> str:
    """A name that no fur has."""
    taken = {fur.name for fur in scene.things("furs")}
    k = 1
    while (name := wanted if k == 1 else f"{wanted} {k}") in taken:
        k += 1
    return name


def add_fur(project: Project, fur: Fur, kept: KeptMask | None = None) -> None:
    """Put a fur on its part, with the mask that it lies on."""
    scene = project.scene.with_things("furs", (*project.scene.things("furs"), fur))
    if kept is not None:
        scene = replace(scene, kept_masks=(*scene.kept_masks, kept))
    project.change(f"Add {fur.name}", scene)


def exchange_fur(project: Project, fur: Fur, name: str, kept: KeptMask | None = None) -> None:
    """Give a fur other numbers or leads."""
    furs = tuple(fur if one.id == fur.id else one for one in project.scene.things("furs"))
    scene = project.scene.with_things("furs", furs)
    if kept is not None:
        scene = replace(scene, kept_masks=(*scene.kept_masks, kept))
    project.change(name, scene)


def comb_fur(project: Project, fur: Fur, leads: Leads, name: str) -> None:
    """Give a fur the leads that combing has made of its own."""
    exchange_fur(project, with_leads(fur, leads), f"{name} {fur.name}")


def remove_fur(project: Project, fur: Fur) -> None:
    """Take a fur off."""
    rest = tuple(one for one in project.scene.things("furs") if one.id != fur.id)
    project.change(f"Take {fur.name} off", project.scene.with_things("furs", rest))


def roots_of(scene: Scene, fur: Fur, mesh: Mesh) -> Callable[[], Roots]:
    """What finds where a fur's fibres grow, on any thread. Raises `FurError`."""
    mask = mask_under(scene, fur, mesh)
    leads = leads_of(fur, mesh)
    return lambda: rooted(mesh, fur.numbers, mask, leads.roots)


def fur_to_strands(project: Project, part: Part, fur: Fur, count: int) -> Part:
    """Live strands along some of a fur's fibres, beside it: one step. Raises `FurError`."""
    mesh = part.mesh.settled()
    mask = mask_under(project.scene, fur, mesh)
    leads = leads_of(fur, mesh)
    roots = rooted(mesh, fur.numbers, mask, leads.roots)
    curves = fibre_curves(mesh, fur.numbers, roots, leads, min(count, MOST_STRANDS))
    wide = float(np.linalg.norm(curves[:, -1] - curves[:, 0], axis=1).mean()) * 0.05
    strands = tuple(
        Strand(tuple(Knot((float(x), float(y), float(z)), wide) for x, y, z in curve[[0, 2, 3, 5]]))
        for curve in curves
    )
    recipe = Strands(strands, sides=6, spans=3, taper=((0.0, 1.0), (0.6, 0.7), (1.0, 0.05)))
    return add_live(project, f"{fur.name} strands", recipe, recipe.made().mesh(), part.transform)
