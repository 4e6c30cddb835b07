"""Prints of a project: what is asked for, in millimetres of the print, and the steps that make it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from kneten.core.arrays import F64, AnyArray, Progress
from kneten.core.mesh import Mesh
from kneten.core.pieces import connected, picked
from kneten.core.placing import kneaded
from kneten.core.printing.body import OneBody, one_body
from kneten.core.printing.forms import lettering, plinth
from kneten.core.printing.hollow import (
    Drain,
    Hollow,
    depth_to,
    drained,
    hollowed,
    inside_out,
    lowest_drain,
    outer_shell,
)
from kneten.core.printing.numbers import MATERIALS
from kneten.core.printing.slices import Layers
from kneten.core.printing.split import Halves, halved
from kneten.core.printing.stand import Facts, facts
from kneten.core.printing.walls import Walls, walls
from kneten.core.solid import combine, flaw, volume
from kneten.core.topology import MeshError
from kneten.core.transform import Transform
from kneten.document.print_wish import PrintWish
from kneten.document.project import Project
from kneten.document.scene import Part, Scene


def factor_of(wish: PrintWish, parts: Sequence[Part]) -> float:
    """Millimetres of the print in each of the scene."""
    if wish.sizing == "ratio":
        return 1.0 / wish.ratio
    if wish.sizing == "height" and parts:
        tall = float(np.ptp(np.stack(bounds_of(parts)), axis=0)[1])
        return wish.height / tall if tall > 0 else 1.0
    return 1.0


def bounds_of(parts: Sequence[Part]) -> tuple[F64, F64]:
    """The box around parts in the scene: lowest and highest corner (3,)."""
    rows = [part.transform.to_scene(part.mesh.positions.astype(np.float64)) for part in parts]
    low = np.min([one.min(axis=0) for one in rows], axis=0)
    return np.asarray(low), np.asarray(np.max([one.max(axis=0) for one in rows], axis=0))


def in_print(part: Part, factor: float) -> Mesh:
    """The clay of a part where it stands, in millimetres of the print."""
    return kneaded(part.mesh, np.diag([factor, factor, factor, 1.0]) @ part.transform.matrix())


def own_lengths(part: Part, factor: float) -> float:
    """Lengths of a part's own space in each millimetre of the print."""
    return 1.0 / (factor * part.transform.scale)


# -- one body -------------------------------------------------------------------------------------


def body_of(parts: Sequence[Part], edge: float, progress: Progress) -> OneBody:
    """Parts as one closed body where they stand in the scene. Raises `MeshError`."""
    return one_body([in_print(part, 1.0) for part in parts], [part.name for part in parts], edge, progress)


def land_body(project: Project, parts: Sequence[Part], body: Mesh, name: str = "Print body") -> Part:
    """Put a body made of parts into the scene as a part of its own, and hide these: one step."""
    ids = {part.id for part in parts}
    made = Part(project.scene.free_name(name), body)
    kept = [replace(one, visible=False) if one.id in ids else one for one in project.scene.parts]
    project.change("One body", project.scene.with_parts((*kept, made)))
    project.choose(made.id)
    return made


# -- hollow ---------------------------------------------------------------------------------------


def hollow_of(part: Part, wish: PrintWish, factor: float, progress: Progress) -> Hollow:
    """A part's clay made hollow, in its own space. Raises `MeshError`."""
    unit = own_lengths(part, factor)
    step = float(np.ptp(part.mesh.positions, axis=0).max()) / wish.fine
    return hollowed(part.mesh, wish.wall * unit, min(step, wish.wall * unit / 2), progress)


def land_clay(project: Project, part: Part, mesh: Mesh, name: str) -> None:
    """Give a part other clay: one step."""
    project.replace_mesh(part.id, mesh, name, recipe=None, was=part.recipe or part.was)


def cavities_of(mesh: Mesh) -> list[Mesh]:
    """The hollows of a body, each as a body of its own, outwards."""
    labels = connected(mesh)
    of_face = labels[mesh.topology.faces[:, 0]]
    found = []
    for k in range(int(labels.max(initial=-1)) + 1):
        shell = picked(mesh, of_face == k)
        if volume(shell) < 0:
            found.append(inside_out(shell))
    return found


def drain_of(
    part: Part, places: Sequence[tuple[F64, F64]], wish: PrintWish, factor: float, progress: Progress
) -> tuple[Mesh, list[Mesh]]:
    """A hollow part with holes at places, each with the way in (3,), in its own space, and their plugs.

    Raises
    ------
    MeshError
        When nothing is hollow beneath.
    SolidError
        When the clay is no solid.
    """
    unit = own_lengths(part, factor)
    hollows = cavities_of(part.mesh)
    if not hollows:
        raise MeshError("it is not hollow")
    body, plugs = part.mesh, []
    for place, way in places:
        x, y, z = place.tolist()
        a, b, c = (way / np.linalg.norm(way)).tolist()
        drain = Drain((x, y, z), (a, b, c), wish.drain * unit)
        deep = depth_to(hollows, drain)
        if not np.isfinite(deep):
            raise MeshError("there is no hollow straight beneath that place")
        body, some = drained(
            body, outer_shell(body), [drain], deep + wish.drain * unit, wish.plug * unit, progress
        )
        plugs += some
    return body, plugs


def lowest_places(part: Part, wish: PrintWish, factor: float) -> list[tuple[F64, F64]]:
    """The lowest place under each hollow of a part, and the way in, (3,) each, in its own space."""
    outside, unit = outer_shell(part.mesh), own_lengths(part, factor)
    drains = [lowest_drain(one, outside, wish.drain * unit) for one in cavities_of(part.mesh)]
    return [(np.array(one.place), np.array(one.way)) for one in drains]


def land_drains(project: Project, part: Part, body: Mesh, plugs: Sequence[Mesh]) -> None:
    """Give a part its holes, and put their plugs beside: one step."""
    with project.at_once("Drain"):
        land_clay(project, part, body, "Drain")
        for plug in plugs:
            name = project.scene.free_name(f"{part.name} plug")
            new = Part(name, plug, transform=part.transform, group=part.group)
            project.change("Drain", project.scene.with_parts((*project.scene.parts, new)))
        project.choose(part.id)


# -- cut ------------------------------------------------------------------------------------------


def halves_of(
    part: Part, place: F64, normal: F64, wish: PrintWish, factor: float, progress: Progress
) -> Halves:
    """A part cut by a plane of the scene, through a place (3,) and square to a normal (3,), in its own space. Raises `MeshError`, `SolidError`."""
    unit = own_lengths(part, factor)
    at = part.transform.to_part(np.asarray(place, np.float64)[None])[0]
    way = part.transform.way_to_part(np.asarray(normal, np.float64))
    own = replace(
        wish.pegs,
        radius=wish.pegs.radius * unit, deep=wish.pegs.deep * unit, clearance=wish.pegs.clearance * unit,
    )  # fmt: skip
    return halved(part.mesh, at, way, own, progress)


def land_halves(project: Project, part: Part, made: Halves) -> list[Part]:
    """Make two parts of one: one step."""
    rest = [one for one in project.scene.parts if one.id != part.id]
    scene = project.scene.with_parts(rest)
    new = []
    for word, mesh in (("below", made.below), ("above", made.above)):
        name = scene.free_name(f"{part.name}, {word}")
        new.append(Part(name, mesh, transform=part.transform, group=part.group))
        scene = scene.with_parts((*scene.parts, new[-1]))
    project.change(f"Cut {part.name} apart", scene)
    project.choose_all(one.id for one in new)
    return new


# -- base -----------------------------------------------------------------------------------------

ROOM = 1.2
"""How much wider than what stands on it a base is, where it is not said."""

SUNK = 0.4
"""Mm that what stands on a base reaches into it: exact unions want no faces that only touch."""


def base_of(parts: Sequence[Part], wish: PrintWish, factor: float, font: Path, progress: Progress) -> Mesh:
    """A base under parts, in the scene, with what is to be written on it.

    Raises
    ------
    MeshError
        When its sizes make no sense, or there is nothing to write with.
    SolidError
        When the letters do not fit it.
    """
    low, high = bounds_of(parts)
    foot = np.concatenate([_foot(part) for part in parts])
    wide, deep = np.ptp(foot, axis=0) * ROOM
    least = 0.12 * float((high - low)[1])
    wide = wish.wide / factor or max(float(wide), least)
    deep = wish.deep / factor or max(float(deep), least)
    if wish.base != "square" and not wish.deep and not wish.wide:
        # What is round holds the corners of a footprint.
        wide, deep = (float(np.hypot(wide, deep)) / np.sqrt(1.5),) * 2
    middle = (foot.min(axis=0) + foot.max(axis=0)) / 2
    top = (float(middle[0]), float(low[1]) + SUNK / factor, float(middle[1]))
    body = plinth(wish.base, wide, deep, wish.high / factor, wish.bevel / factor, top)
    if not wish.title.strip():
        return body
    return _named(body, wish, factor, font, (wide, deep), top, progress)


def _named(
    body: Mesh,
    wish: PrintWish,
    factor: float,
    font: Path,
    sides: tuple[float, float],
    top: Sequence[float],
    progress: Progress,
) -> Mesh:
    """A plinth with a name on its front."""
    wide, deep = sides
    upright = (wish.high - wish.bevel) / factor
    size = min(wish.letter / factor, 0.75 * upright)
    out = wish.raised / factor
    inside = max(0.6 / factor, abs(out))
    behind, before = (-inside, out) if out > 0 else (out, inside)
    radius = wide / 2 if wish.base == "round" and abs(wide - deep) < 1e-6 * wide else 0.0
    room = 1.9 * radius if radius else (0.72 * wide if wish.base != "eight" else 0.38 * wide)
    text = lettering(wish.title.strip(), font, size, room, behind, before, radius)
    high = wish.high / factor
    front = 0.0 if radius else deep / 2
    y = top[1] - (wish.bevel / factor + (high - wish.bevel / factor) / 2)
    moved = np.eye(4)
    moved[:3, 3] = [top[0], y, top[2] + front]
    letters = kneaded(text, moved)
    return combine("join" if out > 0 else "subtract", [body, letters], progress)


def _foot(part: Part) -> F64:
    """Where the lowest tenth of a part lies, (k, 2) x and z."""
    points = part.transform.to_scene(part.mesh.positions.astype(np.float64))
    near = points[points[:, 1] <= points[:, 1].min() + 0.1 * max(float(np.ptp(points[:, 1])), 1e-9)]
    return near[:, [0, 2]]


def land_base(project: Project, mesh: Mesh) -> Part:
    """Put a base into the scene: one step."""
    made = Part(project.scene.free_name("Base"), mesh, transform=Transform())
    project.change("Base", project.scene.with_parts((*project.scene.parts, made)))
    project.choose(made.id)
    return made


# -- checked --------------------------------------------------------------------------------------


@dataclass(frozen=True, eq=False)
class Checked:
    """What is known of one body of a print.

    Attributes
    ----------
    name : str
    mesh : Mesh
        In millimetres of the print.
    flaw : str
        What keeps it from being printed; "" for nothing.
    facts : Facts
    walls : Walls
    price : float
    layers : Layers
    """

    name: str
    mesh: Mesh
    flaw: str
    facts: Facts
    walls: Walls
    price: float
    layers: Layers

    @property
    def good(self) -> bool:
        """Whether it can be printed as it is."""
        return not self.flaw and self.walls.thin < THIN_ENOUGH

    def words(self, wish: PrintWish) -> list[str]:
        """What is wrong, in words."""
        found = [f"{self.name} {self.flaw}"] if self.flaw else []
        if self.walls.thin >= THIN_ENOUGH:
            found.append(
                f"{self.name} is thinner than {wish.thinnest:g} mm on {100 * self.walls.thin:.1f} % of its surface, "
                f"{self.walls.least:.2f} mm at the thinnest"
            )
        if not self.facts.stands:
            found.append(f"{self.name} does not stand by itself")
        return found


THIN_ENOUGH = 0.001
"""Share of the surface that may be thinner than asked for without a word: the tip of a whisker."""


def checked(name: str, mesh: Mesh, wish: PrintWish, progress: Progress) -> Checked:
    """Look through one body, in millimetres of the print."""
    said = flaw_of(mesh)
    told = facts(mesh, MATERIALS[wish.material][1], wish.angle)
    return Checked(
        name, mesh, said, told, walls(mesh, wish.thinnest, progress), told.volume * wish.price, Layers(mesh)
    )


def flaw_of(mesh: Mesh) -> str:
    """What keeps a body from being printed; hollows are none."""
    if mesh.topology.has_border:
        return flaw(mesh)
    solids = [mesh]
    hollows = cavities_of(mesh)
    if hollows:
        solids = [outer_shell(mesh), *hollows]
    found = [words for one in solids if (words := flaw(one))]
    return found[0] if found else ""


def checks(scene: Scene, wish: PrintWish, progress: Progress) -> list[Checked]:
    """All that is visible, body by body, on its plate."""
    parts = [part for part in scene.parts if part.visible]
    factor = factor_of(wish, parts)
    return [checked(part.name, in_print(part, factor), wish, progress) for part in parts]


def thick_map(off: AnyArray, asked: float) -> AnyArray:
    """Thickness (n,) as 0 to 1 for colours: a half is what was asked for."""
    return np.clip(np.where(np.isfinite(off), off, 2 * asked) / (2 * asked), 0, 1).astype(np.float32)
