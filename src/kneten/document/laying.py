"""Rows and scatter in a project: what they are made of, how they are made, and that they follow it.

A laid part's clay follows from others: its ground, its sources, guides, a kept mask. `gathered` takes all of it from a
scene, on the window's thread; `Gathered.worked_out` may run on any. A change by hand is an undo step (`add_laid`,
`change_laid`); what only follows is not (`follow`): undoing what it follows from makes it follow again.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from kneten.core.arrays import F32, F64, Progress
from kneten.core.guides import resampled
from kneten.core.live.clay import RecipeError
from kneten.core.live.recipes import Laid, Recipe
from kneten.core.live.strand import Strands
from kneten.core.mesh import Mesh
from kneten.core.scatter.laying import laid_clay, laid_positions
from kneten.core.scatter.numbers import Row, Scatter
from kneten.core.scatter.pieces import OWN, Piece, own_piece, piece_from
from kneten.core.scatter.rows import border_of, rims, strung
from kneten.core.scatter.sites import Ground, Lines, Sites, headings, placed
from kneten.core.scatter.walk import spots_of
from kneten.document.masks import recalled
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.document.things import KeptMask, KeptSites, guide_places, laid, new_id


def part_of(scene: Scene, part_id: str) -> Part | None:
    """The part with this id, or None."""
    return next((part for part in scene.parts if part.id == part_id), None)


def sits_on(scene: Scene, part: Part) -> str:
    """The name of the clay that a row or scatter goes along with; "" for what goes by itself."""
    ground = part_of(scene, part.recipe.ground) if isinstance(part.recipe, Laid) else None
    return "" if ground is None else ground.name


def sites_of(scene: Scene, part_id: str) -> KeptSites | None:
    """Where the pieces of a scatter sit, or None."""
    return next((held for held in scene.things("sites") if held.serves == part_id), None)


def laid_parts(scene: Scene) -> list[Part]:
    """The parts that are rows or scatter."""
    return [part for part in scene.parts if isinstance(part.recipe, Laid)]


def lacking(scene: Scene, part_id: str, recipe: Laid) -> str:
    """Why a row or scatter cannot be made anew, or ""."""
    ground = part_of(scene, recipe.ground)
    if ground is None:
        return "the clay that it lies on is not there any more: bake it, or lay another"
    for key in recipe.sources:
        if key not in OWN and part_of(scene, key) is None:
            return "a part that it is made of is not there any more: choose another piece"
    if part_id and _reaches(scene, recipe, part_id, set()):
        return "it would be made of itself: choose another piece"
    return ""


def _reaches(scene: Scene, recipe: Laid, part_id: str, seen: set[str]) -> bool:
    """Whether a part is among what a recipe is made of, or what that is made of."""
    for key in (recipe.ground, *recipe.sources):
        if key == part_id:
            return True
        other = part_of(scene, key)
        if other is not None and key not in seen and isinstance(other.recipe, Laid):
            seen.add(key)
            if _reaches(scene, other.recipe, part_id, seen):
                return True
    return False


def made_from(scene: Scene, recipe: Laid) -> tuple[Any, ...]:
    """All that a row or scatter follows from, to be compared: while it is the same, so is the clay."""
    parts = [part_of(scene, key) for key in (recipe.ground, *recipe.sources)]
    state: list[Any] = [recipe]
    for number, part in enumerate(parts):
        if part is None:
            state.append(None)
            continue
        state += [part.mesh.topology.uid, id(part.mesh), part.mesh.shape_version]
        if number > 0:
            state.append(part.mesh.values_version)
    if isinstance(recipe, Row):
        ground = parts[0]
        if recipe.along == "border" and ground is not None:
            state.append(ground.mesh.values_version)
        if recipe.along == "strands":
            strand = part_of(scene, recipe.of)
            state += [None] if strand is None else [strand.recipe, strand.transform]
            state.append(None if ground is None else ground.transform)
    state += [id(guide) for guide in scene.guides if guide.part == recipe.ground]
    if isinstance(recipe, Scatter):
        state += [id(mask) for mask in scene.kept_masks if mask.id == recipe.mask]
    return tuple(state)


def shapes_of(scene: Scene, recipe: Laid) -> tuple[str, ...]:
    """What says of which faces the pieces are: while it is the same, only places can differ."""
    parts = [part_of(scene, key) for key in recipe.sources]
    return tuple(
        key if part is None else part.mesh.topology.uid
        for key, part in zip(recipe.sources, parts, strict=True)
    )


# -- gathering --------------------------------------------------------------------------------------


@dataclass(frozen=True, eq=False)
class Made:
    """A row or scatter that has been worked out.

    Attributes
    ----------
    mesh : Mesh or None
        New clay; None where only places have changed.
    positions : (n, 3) float32 or None
        In source order, where that is so.
    held : KeptSites or None
        Where the pieces of a scatter sit.
    count : int
        How many pieces there are.
    """

    mesh: Mesh | None
    positions: F32 | None
    held: KeptSites | None
    count: int


@dataclass(frozen=True, eq=False)
class Gathered:
    """All that a row or scatter is made of, out of reach of strokes.

    Attributes
    ----------
    lines : list of pairs
        Lines (k, 3) in the ground's space, and whether each is closed.
    held : KeptSites or None
        Where pieces sit already; None to place them anew.
    """

    recipe: Laid
    part_id: str
    mesh: Mesh
    mask: F32 | None
    lines: Sequence[tuple[F64, bool]]
    pieces: Sequence[Piece]
    held: KeptSites | None

    def worked_out(self, progress: Progress, places_only: bool = False) -> Made:
        """Make it, on any thread; on demand only where its vertices are. Raises `RecipeError`, `Cancelled`."""
        recipe, mesh = self.recipe, self.mesh
        held = None
        if isinstance(recipe, Row):
            sites, heads = strung(mesh, recipe, self.lines, self.pieces)
        else:
            sites, held = self._sites(recipe, progress)
            lines = Lines([line for line, _ in self.lines], recipe.size) if recipe.flow == "guides" else None
            spots = sites.spots
            heads = headings(recipe, spots.places(mesh), spots.normals(mesh), sites.spins, lines)
            heads = np.where(sites.hands[:, None] < 0, self._mirrored(recipe, sites, lines), heads)
        progress.report(0.85, "Laying the pieces")
        if places_only:
            return Made(None, laid_positions(mesh, sites, heads, recipe, self.pieces)[0], held, len(sites))
        clay = laid_clay(mesh, sites, heads, recipe, self.pieces)
        progress.report(0.93, "Bringing the clay there")
        return Made(clay.mesh(), None, held, len(sites))

    def _mirrored(self, recipe: Scatter, sites: Sites, lines: Lines | None) -> F64:
        """What mirror images' headings are: those of what they mirror."""
        flip = np.array([-1.0, 1.0, 1.0])
        places = sites.spots.places(self.mesh) * flip
        normals = sites.spots.normals(self.mesh) * flip
        return headings(recipe, places, normals, -sites.spins, lines) * flip

    def _sites(self, recipe: Scatter, progress: Progress) -> tuple[Sites, KeptSites]:
        mesh = self.mesh
        if self.held is not None:
            held = self.held
            spots = spots_of(mesh, held.corners, held.shares)
            numbers = held.numbers.astype(np.float64)
            hands = np.where(numbers[:, 2] < 0, -1, 1).astype(np.int8)
            which = np.minimum(held.which, len(self.pieces) - 1)
            return Sites(spots, numbers[:, 0], numbers[:, 1], which, hands), held
        ground = Ground(mesh, self.mask, [line for line, _ in self.lines])
        found = placed(ground, recipe, self.pieces, progress)
        numbers = np.stack([found.sizes, found.spins, found.hands], axis=1).astype(np.float32)
        held = KeptSites(
            recipe.ground,
            self.part_id,
            found.spots.corners(mesh),
            found.spots.shares.astype(np.float32),
            mesh.topology.uid,
            found.spots.places(mesh).astype(np.float32),
            np.asarray(numbers, np.float32),
            found.which,
        )
        # What is read from a file later has these numbers, to the bit.
        kept = replace(found, sizes=numbers[:, 0].astype(np.float64), spins=numbers[:, 1].astype(np.float64))
        shares = held.shares.astype(np.float64)
        return replace(kept, spots=replace(found.spots, shares=shares)), held


def gathered(scene: Scene, part_id: str, recipe: Laid, held: KeptSites | None = None) -> Gathered:
    """Take from a scene what a row or scatter is made of. Raises `RecipeError` with what is lacking."""
    recipe.check()
    if words := lacking(scene, part_id, recipe):
        raise RecipeError(words)
    ground = scene.part(recipe.ground)
    mesh = ground.mesh.settled()
    mesh = mesh.copy() if mesh is ground.mesh else mesh
    if held is not None and held.topology != mesh.topology.uid:
        held = _found_again(held, ground, mesh)
    pieces = [
        own_piece(key) if key in OWN else piece_from(scene.part(key).mesh.settled()) for key in recipe.sources
    ]
    lines: list[tuple[F64, bool]] = []
    mask = None
    if isinstance(recipe, Row):
        lines = _row_lines(scene, ground, mesh, recipe)
    else:
        lines = _guides(scene, ground)
        if recipe.by_mask:
            kept = next((mask for mask in scene.kept_masks if mask.id == recipe.mask), None)
            if kept is None:
                raise RecipeError(
                    "the mask that it goes by is not there any more: let it lie on the mask as it is now"
                )
            mask = recalled(kept, mesh)
    return Gathered(recipe, part_id, mesh, mask, lines, pieces, held)


def _found_again(held: KeptSites, ground: Part, mesh: Mesh) -> KeptSites:
    """KeptSites on clay that has settled since."""
    return laid(held, guide_places(held, ground.mesh), mesh)


def _guides(scene: Scene, ground: Part) -> list[tuple[F64, bool]]:
    found = [
        (guide_places(guide, ground.mesh), guide.closed) for guide in scene.guides if guide.part == ground.id
    ]
    return [(line, closed) for line, closed in found if len(line) > 1]


def _row_lines(scene: Scene, ground: Part, mesh: Mesh, recipe: Row) -> list[tuple[F64, bool]]:
    """The lines that a row follows, in the ground's space. Raises `RecipeError` where there is none."""
    if recipe.along == "guides":
        lines = _guides(scene, ground)
        if not lines:
            raise RecipeError(f"{ground.name} has no guide for a row to follow: draw one")
        return lines
    if recipe.along == "rims":
        found = rims(mesh)
        if not found:
            raise RecipeError(f"{ground.name} has no open rim for a row to follow")
        return [(line, True) for line in found]
    if recipe.along == "border":
        return [(line, True) for line in border_of(mesh, int(recipe.of) if recipe.of.isdecimal() else 0)]
    strand = part_of(scene, recipe.of)
    if strand is None or not isinstance(strand.recipe, Strands):
        raise RecipeError("the strand that the row follows is not there any more, or is not live")
    made = [
        (strand.transform.to_scene(strand.recipe.path(one)[0]), one.closed) for one in strand.recipe.strands
    ]
    return [
        (ground.transform.to_part(resampled(path, recipe.size * ground.transform.scale / 4, closed)), closed)
        for path, closed in made
        if len(path) > 1
    ]


def maker(scene: Scene, recipe: Recipe) -> Callable[[Progress], Mesh]:
    """What makes the clay of any recipe, on any thread. Raises `RecipeError` with what is lacking."""
    if not isinstance(recipe, Laid):
        return lambda progress: recipe.made().mesh()
    have = gathered(scene, "", recipe)

    def make(progress: Progress) -> Mesh:
        mesh = have.worked_out(progress).mesh
        assert mesh is not None
        return mesh

    return make


# -- landing ----------------------------------------------------------------------------------------


def _with_sites(scene: Scene, part_id: str, held: KeptSites | None) -> Scene:
    others = tuple(one for one in scene.things("sites") if one.serves != part_id)
    return scene.with_things("sites", others if held is None else (*others, held))


def add_laid(project: Project, wanted: str, recipe: Laid, made: Made, kept: KeptMask | None = None) -> Part:
    """A new row or scatter, in hand: one step, with the mask that it goes by."""
    assert made.mesh is not None
    ground = project.scene.part(recipe.ground)
    part = Part(
        project.scene.free_name(wanted),
        made.mesh,
        transform=ground.transform,
        recipe=recipe,
        group=ground.group,
    )
    scene = project.scene.with_parts((*project.scene.parts, part))
    if kept is not None:
        scene = replace(scene, kept_masks=(*scene.kept_masks, kept))
    held = None if made.held is None else replace(made.held, serves=part.id)
    project.change(f"Add {part.name}", _with_sites(scene, part.id, held))
    project.choose(part.id)
    return part


def change_laid(
    project: Project, part: Part, recipe: Laid, made: Made, name: str, kept: KeptMask | None = None
) -> None:
    """Give a row or scatter other numbers, and the clay that they make: one step."""
    assert made.mesh is not None
    scene = project.with_mesh(part.id, made.mesh)
    now = replace(scene.part(part.id), recipe=recipe, transform=project.scene.part(recipe.ground).transform)
    scene = scene.with_part(now)
    if kept is not None:
        others = tuple(mask for mask in scene.kept_masks if mask.id != kept.id)
        scene = replace(scene, kept_masks=(*others, kept))
    project.change(name, _with_sites(scene, part.id, made.held))


def follow(project: Project, part: Part, made: Made) -> bool:
    """Let a row or scatter be what follows from the rest now; whether anything has changed."""
    assert isinstance(part.recipe, Laid)
    changed = False
    if made.positions is not None:
        found, known = made.held, sites_of(project.scene, part.id)
        uid = project.scene.part(part.recipe.ground).mesh.topology.uid
        if found is not None and known is not None and known.topology != uid == found.topology:
            # Found again on other clay: from now on these hold, or pieces would stay where the old ones were.
            project.derive(_with_sites(project.scene, part.id, found))
        order = part.mesh.topology.source_vertex
        changed = project.derive_positions(part.id, np.ascontiguousarray(made.positions[order]))
    elif made.mesh is not None:
        scene = replace_mesh(project.scene, part, made.mesh)
        project.derive(_with_sites(scene, part.id, made.held))
        changed = True
    return changed


def replace_mesh(scene: Scene, part: Part, mesh: Mesh) -> Scene:
    """The scene with other clay for a part and its linked copies."""
    mesh_id = new_id()
    return scene.with_part(*(replace(p, mesh=mesh, mesh_id=mesh_id) for p in (part, *scene.linked(part))))


def gone_along(scene: Scene) -> Scene:
    """The scene with rows and scatter where their ground stands; itself where they are there."""
    moved = []
    for part in laid_parts(scene):
        assert isinstance(part.recipe, Laid)
        ground = part_of(scene, part.recipe.ground)
        if ground is not None and part.transform != ground.transform:
            moved.append(replace(part, transform=ground.transform))
    return scene.with_part(*moved) if moved else scene
