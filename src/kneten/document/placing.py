"""Where parts stand: moved, turned and sized, dropped, stood on something; their pivots.

Each function makes one undo step.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from kneten.core.arrays import F32, F64
from kneten.core.guides import held as nearest_held
from kneten.core.live.primitive import Primitive
from kneten.core.live.recipes import OnItsOwn
from kneten.core.live.strand import Strand, Strands, laid_onto
from kneten.core.loose import LooseMesh
from kneten.core.motion import Motion, soft_shares
from kneten.core.placing import long_line
from kneten.core.transform import LARGE, SMALL, Transform, from_axes
from kneten.core.words import FAR
from kneten.document.blocking import add, bake, said, twin
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.document.things import new_id

SQUARE = 1e-9
"""Share of a size that a live body may lean by and still take up a change of it."""


LEAST, MOST = 1e-3, 1e8
"""Longest side of a part, in the scene's millimetres: a micrometre, a hundred kilometres."""


@dataclass(frozen=True)
class Hold:
    """What of the chosen parts follows a motion.

    Attributes
    ----------
    unmasked : bool
        Of parts that have a mask only what it leaves free.
    soft : float
        Millimetres around the pivot within which clay follows less and less; 0 for all of it.
    """

    unmasked: bool = False
    soft: float = 0.0

    def clay_of(self, part: Part) -> bool:
        """Whether a part's clay follows, not the part as a whole."""
        return self.soft > 0 or (self.unmasked and part.mesh.mask is not None)


def on_clay(parts: Sequence[Part], points: F64) -> F64:
    """The places of visible parts nearest to points of the scene, (k, 3); the points themselves where there is no clay."""
    best, off = points, np.full(len(points), np.inf)
    for part in parts:
        if not part.visible or isinstance(part.mesh, LooseMesh):
            continue
        local = part.transform.to_part(points)
        there = part.transform.to_scene(nearest_held(part.mesh, local).places(part.mesh))
        far = np.linalg.norm(there - points, axis=1)
        best, off = np.where((far < off)[:, None], there, best), np.minimum(far, off)
    return best


def laid_on(parts: Sequence[Part], strand: Strand, transform: Transform) -> Strand:
    """A strand, in the space of a part with that transform, laid onto the clay of other parts."""

    def onto(places: F64) -> F64:
        return transform.to_part(on_clay(parts, transform.to_scene(places)))

    return laid_onto(strand, onto)


def laid_again(scene: Scene, part: Part, recipe: OnItsOwn) -> OnItsOwn:
    """A live part's recipe whose strands that lie on clay lie on it again where they have changed."""
    if not isinstance(recipe, Strands):
        return recipe
    before = part.recipe.strands if isinstance(part.recipe, Strands) else ()
    others = [other for other in scene.parts if other.id != part.id]
    if not others:
        return recipe
    strands = tuple(
        laid_on(others, strand, part.transform) if strand.laid and strand not in before else strand
        for strand in recipe.strands
    )
    return replace(recipe, strands=strands)


def beyond(parts: Sequence[Part], motion: Motion) -> str:
    """Why parts cannot follow a motion: they would become too small, too large or too far off; "" when they can."""
    linear = motion.linear()
    for part in parts:
        corners = np.array(list(itertools.product(*zip(*part.bounds(), strict=True))))
        long, was = (float(np.ptp(sides, axis=0).max()) for sides in (corners @ linear.T, corners))
        scale = part.transform.scale * (motion.factors[0] if motion.even else 1.0)
        if long < was and (long < LEAST or scale < SMALL):
            return (
                f"{part.name} would become smaller than can be worked on: {long:.2g} mm. It stays as it is."
            )
        if long > was and (long > MOST or scale > LARGE):
            return f"{part.name} would become larger than can be worked on: {long:.2g} mm. It stays as it is."
        if np.abs(motion.moved(corners)).max() > FAR:
            return f"{part.name} would go farther off than {FAR / 1e6:,.0f} km. It stays where it is."
    return ""


def move(
    project: Project, parts: Sequence[Part], motion: Motion, name: str, hold: Hold | None = None
) -> None:
    """Have parts follow a motion, as one step with one pivot; linked copies change their shared clay once.

    What is not even changes the clay. Live bodies take it up in their numbers where they can, and are baked where not.
    Raises `ValueError` where they cannot follow; see `beyond`.
    """
    hold = hold or Hold()
    if motion.still:
        return
    parts = [project.scene.part(part.id) for part in parts]
    if why := beyond(parts, motion):
        raise ValueError(why)
    held = [part for part in parts if hold.clay_of(part)]
    what = f"{said(parts)}'s unmasked clay" if held and hold.unmasked else said(parts)
    with project.at_once(f"{name} {what}"):
        changed = held if motion.even else parts
        project.settle([part.id for part in changed])
        parts = [project.scene.part(part.id) for part in parts]
        held = [part for part in parts if hold.clay_of(part)]
        if held:
            bake(project, held)
        for part in _first_of_each(held):
            project.move_vertices(part.id, _followed(part, motion, hold), name)
        whole = [part for part in parts if not hold.clay_of(part)]
        if motion.even:
            put_all(project, {p.id: motion.placed(p.transform) for p in whole}, name)
        else:
            _knead(project, whole, motion, name)


def copied(project: Project, parts: Sequence[Part], motion: Motion) -> list[Part]:
    """Copies of parts that have followed a motion; the parts stay.

    Raises `ValueError` where they cannot follow; see `beyond`.
    """
    if motion.still:
        return []
    if why := beyond(parts, motion):
        raise ValueError(why)
    even = motion if motion.even else replace(motion, factors=(1.0, 1.0, 1.0))
    with project.at_once(f"Copy {said(parts)}"):
        new = add(
            project, f"Copy {said(parts)}", [twin(p, p.name, even.placed(p.transform), False) for p in parts]
        )
        if not motion.even:
            move(project, new, replace(motion, way=np.zeros(3), turn=np.zeros(3)), "Scale")
    return new


def previews(parts: Sequence[Part], motion: Motion, hold: Hold, most: int) -> dict[str, Part]:
    """Parts as they would be after a motion, to be shown; loose clay, and more than `most` vertices, stay as they are.

    None where they cannot follow; see `beyond`.
    """
    shown: dict[str, Part] = {}
    if beyond(parts, motion):
        return shown
    for part in parts:
        if isinstance(part.mesh, LooseMesh) and (hold.clay_of(part) or not motion.even):
            continue
        if hold.clay_of(part):
            if part.mesh.n_vertices <= most:
                mesh = part.mesh.with_positions(_followed(part, motion, hold))
                shown[part.id] = replace(part, mesh=mesh, mesh_id=new_id())
        elif motion.even:
            shown[part.id] = replace(part, transform=motion.placed(part.transform))
        elif part.mesh.n_vertices <= most:
            mesh = part.mesh.with_positions(_kneaded(part, motion.within(part.transform)))
            shown[part.id] = replace(part, mesh=mesh, mesh_id=new_id(), transform=_gone_along(part, motion))
    return shown


def _first_of_each(parts: Sequence[Part]) -> Iterator[Part]:
    """Of parts that share their clay the first."""
    seen: set[str] = set()
    for part in parts:
        if part.mesh_id not in seen:
            seen.add(part.mesh_id)
            yield part


def _followed(part: Part, motion: Motion, hold: Hold) -> F32:
    """Positions (n, 3) of a part's clay after as much of a motion as each vertex follows."""
    mesh = part.mesh
    points = part.transform.to_scene(mesh.positions.astype(np.float64))
    shares = soft_shares(points, motion.pivot, hold.soft)
    if hold.unmasked and mesh.mask is not None:
        shares = shares * (1.0 - mesh.mask.astype(np.float64))
    there = part.transform.to_part(motion.shared(points, shares)).astype(np.float32)
    # What does not follow stays to the bit.
    return np.where(shares[:, None] > 0, there, mesh.positions)


def _kneaded(part: Part, linear: F64) -> F32:
    pivot = np.array(part.pivot)
    return ((part.mesh.positions - pivot) @ linear.T + pivot).astype(np.float32)


def _gone_along(part: Part, motion: Motion) -> Transform:
    """A part's place so that its pivot goes where the motion takes it."""
    pivot = part.pivot_place()
    return part.transform.moved(motion.moved(pivot[None])[0] - pivot)


def _knead(project: Project, parts: Sequence[Part], motion: Motion, name: str) -> None:
    """What is not even goes into the clay, about its first part's own pivot; every part's pivot goes where it should."""
    linear = {part.mesh_id: motion.within(part.transform) for part in reversed(parts)}
    middle: dict[str, F64] = {}
    for part in _first_of_each(parts):
        by = linear[part.mesh_id]
        recipe = resized(part, by)
        if recipe is not None:
            # Its body lies around its origin, wherever the pivot is.
            middle[part.mesh_id] = np.zeros(3)
            project.replace_mesh(part.id, recipe.made().mesh(), name, recipe=recipe)
            continue
        middle[part.mesh_id] = np.array(part.pivot)
        traits: dict[str, Any] = {} if part.recipe is None else {"recipe": None, "was": part.recipe}
        if part.stack is not None:
            # The body grows, not what is being recorded on it.
            traits["stack"] = replace(part.stack.taken(part.mesh.positions), recording="")
        project.replace_mesh(part.id, part.mesh.with_positions(_kneaded(part, by)), name, **traits)
    new = []
    for part in parts:
        fixed = middle[part.mesh_id]
        pivot = fixed + linear[part.mesh_id] @ (np.array(part.pivot) - fixed)
        way = motion.moved(part.pivot_place()[None])[0] - part.transform.to_scene(pivot[None])[0]
        x, y, z = (float(v) for v in pivot)
        now = project.scene.part(part.id)
        new.append(replace(now, transform=part.transform.moved(way), pivot=(x, y, z)))
    project.change(name, project.scene.with_part(*new))


def resized(part: Part, linear: F64) -> OnItsOwn | None:
    """The recipe of a live body after a change of size (3, 3) in its own space; None where its numbers cannot say it."""
    recipe = part.recipe
    factors = np.diag(linear)
    if not isinstance(recipe, Primitive) or np.abs(linear - np.diag(factors)).max() > SQUARE * factors.max():
        return None
    x, y, z = (float(s * f) for s, f in zip(recipe.size, factors, strict=True))
    return replace(recipe, size=(x, y, z), apart=float(recipe.apart * factors[0]))


def put_all(project: Project, places: dict[str, Transform], name: str) -> None:
    """Give several parts their places."""
    moved = [
        replace(part, transform=places[part.id])
        for part in project.scene.parts
        if part.id in places and part.transform != places[part.id]
    ]
    if moved:
        project.change(f"{name} {said(moved)}", project.scene.with_part(*moved))


def resize(project: Project, parts: Sequence[Part], factors: tuple[float, float, float]) -> None:
    """Scale parts along the first one's own axes about its pivot.

    Raises `ValueError` when a factor is not greater than zero.
    """
    first = project.scene.part(parts[0].id)
    motion = Motion(factors=factors, axes=first.transform.axes().T, pivot=first.pivot_place())
    move(project, parts, motion, "Scale")


def to_floor(project: Project, parts: Sequence[Part], each: bool = False) -> None:
    """Down, or up, until the lowest of them stands at y = 0, places to each other kept; or until each does."""
    lows = [_lowest(part) for part in parts]
    downs = lows if each else [min(lows)] * len(lows)
    places = {
        p.id: p.transform.moved(np.array([0.0, -low, 0.0])) for p, low in zip(parts, downs, strict=True)
    }
    put_all(project, places, "Drop")


def _lowest(part: Part) -> float:
    row = part.transform.axes()[1] * part.transform.scale
    return float((part.mesh.positions @ row).min() + part.transform.place[1])


def onto(project: Project, part: Part, place: F64, normal: F64, base: bool = True) -> None:
    """Stand a part on a place (3,) of a surface, its own y along the surface's normal (3,)."""
    up = normal / np.linalg.norm(normal)
    z = part.transform.axes()[:, 2]
    z = z - up * (z @ up)
    if np.linalg.norm(z) < 1e-6:
        z = np.cross(up, np.eye(3)[int(np.argmin(np.abs(up)))])
    z = z / np.linalg.norm(z)
    axes = np.stack([np.cross(up, z), up, z], -1)
    if part.transform.mirror:
        axes[:, 0] *= -1
    low = float(part.mesh.bounds()[0][1]) if base else part.pivot[1]
    foot = np.array([part.pivot[0], low, part.pivot[2]])
    turned = from_axes(axes, np.zeros(3), part.transform.scale)
    project.place(part.id, turned.moved(place - turned.to_scene(foot[None])[0]), "Place")


PIVOTS = ("middle", "base", "tip", "axis", "world")
"""Where pivots go in one command."""


def pivot_to(project: Project, parts: Sequence[Part], where: str) -> None:
    """Put each part's pivot where one of `PIVOTS` says.

    A tip is the narrower end of a part; of one whose pivot is there already the other end. On its axis a pivot comes
    to lie as near as can be to where it is.
    """
    new = []
    for part in (project.scene.part(p.id) for p in parts):
        low, high = (np.asarray(corner, np.float64) for corner in part.mesh.bounds())
        pivot = (low + high) / 2
        if where == "world":
            pivot = part.transform.to_part(np.zeros((1, 3)))[0]
        elif where == "base":
            world_low, world_high = part.bounds()
            foot = np.array([*(world_low + world_high) / 2])
            foot[1] = _lowest(part)
            pivot = part.transform.to_part(foot[None])[0]
        elif where in ("tip", "axis"):
            tip, other = long_line(part.mesh)
            way, at = other - tip, np.array(part.pivot)
            pivot = tip if np.linalg.norm(at - tip) > 1e-3 * np.linalg.norm(way) else other
            if where == "axis":
                pivot = tip + way * np.clip((at - tip) @ way / max(float(way @ way), 1e-300), 0.0, 1.0)
        x, y, z = (float(v) for v in pivot)
        new.append(replace(part, pivot=(x, y, z)))
    project.change(f"Pivot of {said(parts)}", project.scene.with_part(*new))


def set_pivot(project: Project, parts: Sequence[Part], place: F64) -> None:
    """Put the pivots of parts to a place (3,) of the scene; the parts stay where they are."""
    new = []
    for part in (project.scene.part(p.id) for p in parts):
        x, y, z = (float(v) for v in part.transform.to_part(place[None])[0])
        new.append(replace(part, pivot=(x, y, z)))
    project.change(f"Pivot of {said(parts)}", project.scene.with_part(*new))
