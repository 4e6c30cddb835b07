"""Maps of a part: what is baked from where, for workers; and those that are kept with the project."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from kneten.core.arrays import AnyArray, Progress
from kneten.core.carry import source_of
from kneten.core.maps.bake import MAPS, Baked, BakeWish, baked, padded
from kneten.core.maps.skin import painted, skin_of
from kneten.core.maps.surfaces import Cage, High, Low, deviation
from kneten.core.mesh import Mesh
from kneten.core.topology import MeshError
from kneten.core.uv.measure import tiles_of
from kneten.document.carried_parts import matrix_between
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.document.things import KeptMap, PaintSkin

KEPT = ("normal", "colour", "occlusion", "roughness", "metalness")
"""Maps that stay with the project, with eight bits: they are shown, and go into files of models."""

PRESETS: dict[str, tuple[str, str, BakeWish]] = {
    "game": ("Games", "Normal, occlusion, colour, roughness and metalness at 2k", BakeWish(("normal", "occlusion", "colour", "roughness", "metalness"), 2048, 2)),
    "film": ("Film", "Displacement of 32 bits, vectors, colour, roughness and ids at 4k", BakeWish(("displacement", "vector", "colour", "roughness", "metalness", "id"), 4096, 1)),
    "web": ("Web", "Normal, occlusion, colour and roughness at 1k", BakeWish(("normal", "occlusion", "colour", "roughness"), 1024, 2)),
}  # fmt: skip
"""By key: name, what is in it, and the wish."""


@dataclass(frozen=True, eq=False)
class Made:
    """What was baked of a part.

    Attributes
    ----------
    part_id : str
    wish : BakeWish
    tiles : list of Baked
    reach : float
        How far from the low mesh the fine clay lies at most, in its millimetres.
    """

    part_id: str
    wish: BakeWish
    tiles: list[Baked]
    reach: float

    @property
    def missed(self) -> float:
        """The share of faces for some of whose texels rays have found nothing."""
        return float(np.mean(np.max([one.missed for one in self.tiles], axis=0) > 0)) if self.tiles else 0.0


def fine_clay(part: Part, progress: Progress) -> Mesh:
    """A part on its finest level, with its layers, paint and UVs."""
    return source_of(part.mesh, part.stack, np.eye(4), progress).mesh


def has_finer(part: Part) -> bool:
    """Whether a part has levels above the one in hand."""
    return part.stack is not None and part.stack.top > part.stack.level


def baked_part(
    part: Part, sources: Sequence[Part], wish: BakeWish, cage: Cage | None, progress: Progress
) -> Made:
    """Bake a part's maps. For workers: nothing is changed.

    Parameters
    ----------
    part : Part
        At the level that the maps are for.
    sources : sequence of Part
        Other parts that have the detail; without any it is the part itself, on its finest level.
    cage : Cage or None
        None measures how far rays have to look.

    Raises
    ------
    MeshError
        Where it cannot be baked.
    Cancelled
        Through `progress`.
    """
    low = Low.of(part.mesh) if part.mesh.uv is not None else None
    if low is None:
        # Says so in the words that all bakes have.
        baked(_no_uv(part.mesh), High([part.mesh]), Cage(0, 0), wish, progress)
        raise AssertionError
    progress.report(0.0, "Reading the fine clay")
    if sources:
        meshes = [source_of(one.mesh, one.stack, matrix_between(one, part), progress).mesh for one in sources]
    else:
        meshes = [fine_clay(part, progress)]
    high = High(meshes)
    reach = deviation(part.mesh, high, progress) if cage is None else max(cage.ahead, cage.behind)
    wish = replace(wish, own=not sources and meshes[0].uv is not None)
    tiles = baked(low, high, cage or Cage(1.5 * reach, 1.5 * reach), wish, progress)
    return Made(part.id, wish, tiles, reach)


def _no_uv(mesh: Mesh) -> Low:
    none = np.zeros(0, np.int32)
    return Low(mesh, none, none.reshape(0, 3), none.reshape(0, 3), np.zeros((0, 3, 2), np.float32), np.zeros((0, 3, 4), np.float32))  # fmt: skip


# -- kept --------------------------------------------------------------------------------------------


def keep(project: Project, made: Made, packed: Callable[[AnyArray], bytes]) -> None:
    """Keep what can be shown with the project, instead of what was baked of the part before: one step.

    `packed` makes a PNG of eight bits of a map (h, w, c).
    """
    part = project.scene.part(made.part_id)
    fresh = []
    for one in made.tiles:
        for key in KEPT:
            if key in one.pictures:
                data = np.frombuffer(packed(one.pictures[key]), np.uint8).copy()
                fresh.append(KeptMap(key, part.id, one.tile[0], one.tile[1], made.wish.size, data))
    others = tuple(kept for kept in project.scene.maps if kept.part != part.id)
    project.change(f"Bake {part.name}", replace(project.scene, maps=(*others, *fresh)))


def drop(project: Project, part: Part) -> None:
    """Forget the maps of a part: one step."""
    others = tuple(kept for kept in project.scene.maps if kept.part != part.id)
    project.change(f"No maps of {part.name}", replace(project.scene, maps=others))


def maps_of(scene: Scene, part_id: str) -> dict[tuple[int, int], dict[str, KeptMap]]:
    """The maps of a part by their tiles, and there by their keys."""
    found: dict[tuple[int, int], dict[str, KeptMap]] = {}
    for one in scene.maps:
        if one.part == part_id and one.key in MAPS:
            found.setdefault((one.u, one.v), {})[one.key] = one
    return found


# -- painted on -----------------------------------------------------------------------------------------


def skin_made(part: Part, size: int, progress: Progress) -> Mesh:
    """A skin to paint a part's picture on. For workers. Raises `MeshError` and `Cancelled`."""
    progress.report(0.1, "Reading the fine clay")
    clay = fine_clay(part, progress)
    if clay.uv is None:
        raise MeshError("it has no UVs: unwrap it first")
    progress.report(0.5, "Making texels")
    return skin_of(High([clay]), size)


def skin_on(scene: Scene, part_id: str) -> PaintSkin | None:
    """What says that a part is a skin, or has one."""
    return next((one for one in scene.paint_skins if part_id in (one.part, one.of)), None)


def put_on(project: Project, part: Part, skin: Mesh, size: int) -> Part:
    """Add a skin, and hide what it lies on: one step. The skin is in hand then."""
    name = f"Paint on {part.name}"
    with project.at_once(name):
        (made,) = project.add_meshes(name, [(f"{part.name}, picture", skin, part.transform)])
        told = PaintSkin(made.id, part.id, size)
        project.change(name, replace(project.scene, paint_skins=(*project.scene.paint_skins, told)))
        project.show(part.id, False)
    project.choose(made.id)
    return project.scene.part(made.id)


def taken_in(
    scene: Scene, skin: PaintSkin, padding: int, packed: Callable[[AnyArray], bytes]
) -> list[KeptMap]:
    """The maps that a skin's paint makes; `packed` makes a PNG of one (h, w, c). For workers: its part is not changed."""
    mesh = scene.part(skin.part).mesh
    out = []
    names = ("colour",) if mesh.material is None else ("colour", "material")
    assert mesh.uv is not None
    for name, tile in itertools.product(names, tiles_of(mesh.uv)):
        picture, there = painted(mesh, skin.size, name, tile)
        source = padded(there, padding)
        whole = picture.reshape(-1, 4)[np.maximum(source, 0)]
        whole[source < 0] = 0
        kept = {"colour": whole[:, :, :3]} if name == "colour" else {"roughness": whole[:, :, :1], "metalness": whole[:, :, 1:2]}  # fmt: skip
        for key, table in kept.items():
            data = np.frombuffer(packed(np.ascontiguousarray(table)), np.uint8).copy()
            out.append(KeptMap(key, skin.of, tile[0], tile[1], skin.size, data))
    return out


def take_in(project: Project, skin: PaintSkin, fresh: Sequence[KeptMap]) -> Part:
    """Let a skin's paint be the maps of what it lies on, and take the skin away: one step."""
    part = project.scene.part(skin.of)
    name = f"Paint of {part.name} into its maps"
    keys = {one.key for one in fresh}
    with project.at_once(name):
        others = tuple(one for one in project.scene.maps if one.part != part.id or one.key not in keys)
        project.change(name, replace(project.scene, maps=(*others, *fresh)))
        project.show(part.id, True)
        project.delete(skin.part)
    project.choose(part.id)
    return project.scene.part(part.id)
