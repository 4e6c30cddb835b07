"""What is done with regions and hidden faces: each function is one undo step."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from kneten.core.arrays import AnyArray
from kneten.core.regions import OWN
from kneten.document.numbers import MOST, RegionError, free_number
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.document.things import RegionName


def region_name(scene: Scene, number: int) -> str:
    """What a region is called."""
    for known in scene.region_names:
        if known.number == number:
            return known.name
    return OWN.get(number, f"Region {number}")


def _named(scene: Scene, names: Mapping[int, str]) -> Scene:
    rest = tuple(known for known in scene.region_names if known.number not in names)
    new = tuple(RegionName(number, name) for number, name in names.items())
    return replace(scene, region_names=rest + new)


def make_region(project: Project, part: Part, faces: AnyArray, name: str = "") -> int:
    """Make faces (f,) bool a region of their own; returns its number.

    Raises
    ------
    RegionError
        When there are no such faces.
    """
    if not faces.any():
        raise RegionError("No face of the part lies there; nothing was made a region.")
    number = free_number(project.scene)
    regions = _regions(part)
    regions[faces] = number
    with project.at_once(f"Region on {part.name}"):
        project.set_values(part.id, "regions", regions, "Region")
        if name:
            project.change("Name", _named(project.scene, {number: name}))
    return number


def make_regions(project: Project, part: Part, labels: AnyArray, what: str, names: Sequence[str] = ()) -> int:
    """Make a region of each label (f,); returns how many there are.

    Raises
    ------
    RegionError
        When there would be too many.
    """
    kinds, places = np.unique(labels, return_inverse=True)
    first = free_number(project.scene)
    if first + len(kinds) > MOST:
        raise RegionError(
            f"That would be {len(kinds):,} regions, too many to hold. Choose a larger angle, or smooth the clay."
        )
    with project.at_once(f"Regions by {what} on {part.name}"):
        project.set_values(part.id, "regions", (places + first).astype(np.uint16), "Regions")
        found = {first + k: names[int(kind)] for k, kind in enumerate(kinds) if int(kind) < len(names)}
        if found:
            project.change("Name", _named(project.scene, found))
    return len(kinds)


def put_in_region(project: Project, part: Part, faces: AnyArray, number: int, verb: str) -> bool:
    """Give faces (f,) bool to a region, or to none (0)."""
    regions = _regions(part)
    regions[faces] = number
    return project.set_values(part.id, "regions", regions, f"{verb} on {part.name}")


def set_extent(project: Project, part: Part, faces: AnyArray, number: int, verb: str) -> bool:
    """Make a region exactly these faces (f,) bool."""
    regions = _regions(part)
    regions[regions == number] = 0
    regions[faces] = number
    return project.set_values(part.id, "regions", regions, f"{verb} {region_name(project.scene, number)}")


def forget_region(project: Project, part: Part, number: int) -> None:
    """The faces of a region belong to none any more."""
    put_in_region(project, part, _regions(part) == number, 0, "Take region away")


def rename_region(project: Project, number: int, wanted: str) -> None:
    """Give a region another name."""
    wanted = " ".join(wanted.split())
    before = region_name(project.scene, number)
    if wanted and wanted != before:
        project.change(f"Rename {before} to {wanted}", _named(project.scene, {number: wanted}))


def _regions(part: Part) -> AnyArray:
    mesh = part.mesh
    if mesh.regions is None:
        return np.zeros(mesh.topology.n_faces, np.uint16)
    return mesh.regions.copy()


# -- hiding -------------------------------------------------------------------------------------


def hide_faces(project: Project, part: Part, faces: AnyArray, name: str = "Hide") -> bool:
    """Hide faces (f,) bool in addition to those hidden already.

    Raises
    ------
    RegionError
        When nothing would be left to see.
    """
    hidden = np.zeros(part.mesh.topology.n_faces, np.uint8)
    if part.mesh.hidden is not None:
        hidden[:] = part.mesh.hidden
    hidden[faces] = 1
    if hidden.all():
        raise RegionError("Nothing of the part would be left to see. Hide the part itself in the parts list.")
    return project.set_values(part.id, "hidden", hidden, f"{name} on {part.name}")


def isolate_faces(project: Project, part: Part, faces: AnyArray) -> bool:
    """Show only faces (f,) bool. Raises `RegionError` when there are none."""
    if not faces.any():
        raise RegionError("No face of the part lies there; nothing was hidden.")
    return project.set_values(part.id, "hidden", (~faces).astype(np.uint8), f"Isolate on {part.name}")


def show_all(project: Project, part: Part) -> bool:
    """Show all faces of a part again."""
    return project.set_values(part.id, "hidden", None, f"Show all of {part.name}")


def swap_hidden(project: Project, part: Part) -> bool:
    """Show what is hidden, hide what is shown. Raises `RegionError`."""
    if part.mesh.hidden is None:
        raise RegionError("Nothing of the part is hidden.")
    return project.set_values(
        part.id, "hidden", (part.mesh.hidden == 0).astype(np.uint8), f"Exchange hidden on {part.name}"
    )
