"""What a project is made of at one moment: parts and milestones. Values, not behaviour."""

from __future__ import annotations

import datetime
import itertools
import re
import uuid
from collections.abc import Iterable
from dataclasses import dataclass, field, fields, replace
from typing import Any

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8
from kneten.core.guides import held, places
from kneten.core.live.recipes import Recipe
from kneten.core.mesh import Mesh
from kneten.core.stack import Stack
from kneten.core.topology import Topology
from kneten.core.transform import Transform


def new_id() -> str:
    """A name that no other thing has."""
    return uuid.uuid4().hex


@dataclass(frozen=True, eq=False)
class Traits:
    """Everything about a part but its clay.

    Attributes
    ----------
    recipe : Recipe or None
        What a live part is made from; None for clay.
    was : Recipe or None
        The recipe that clay was baked from, to begin again with.
    group : str
        Id of the group it lies in, or "".
    locked : bool
        Cannot be sculpted, moved or picked in the view.
    budget : int
        Vertices it should stay under; 0 for none.
    origins : tuple of str
        Names of what it was joined from, in the order of the labels in `Mesh.origin`.
    pivot : three floats
        What it turns and scales about, in its own space.
    note : str
    live_density : bool
        Its mesh changes under the brush.
    stack : Stack or None
        Its levels and layers; None for clay that has neither.
    """

    name: str
    id: str = field(default_factory=new_id, kw_only=True)
    mesh_id: str = field(default_factory=new_id, kw_only=True)
    transform: Transform = field(default=Transform(), kw_only=True)
    visible: bool = field(default=True, kw_only=True)
    recipe: Recipe | None = field(default=None, kw_only=True)
    was: Recipe | None = field(default=None, kw_only=True)
    group: str = field(default="", kw_only=True)
    locked: bool = field(default=False, kw_only=True)
    budget: int = field(default=0, kw_only=True)
    origins: tuple[str, ...] = field(default=(), kw_only=True)
    pivot: tuple[float, float, float] = field(default=(0.0, 0.0, 0.0), kw_only=True)
    note: str = field(default="", kw_only=True)
    live_density: bool = field(default=False, kw_only=True)
    stack: Stack | None = field(default=None, kw_only=True)

    def traits(self) -> dict[str, Any]:
        """Names and values of all of these."""
        return {f.name: getattr(self, f.name) for f in fields(Traits)}


@dataclass(frozen=True, eq=False)
class Part(Traits):
    """One object of clay. A changed part is a new `Part`; only strokes change the mesh in place.

    Parts with the same `mesh_id` share their mesh: linked copies, which follow each other.
    """

    mesh: Mesh

    def __post_init__(self) -> None:
        """Drop levels and layers that are of other clay."""
        # Clay of another shape has none of the levels and layers that the old one had.
        if self.stack is not None and not self.stack.fits(self.mesh):
            object.__setattr__(self, "stack", None)

    def bounds(self) -> tuple[F64, F64]:
        """Low and high corner of the box around the part, in the scene."""
        low, high = self.mesh.bounds()
        corners = np.array(list(itertools.product(*zip(low, high, strict=True))), np.float64)
        placed = self.transform.to_scene(corners)
        return placed.min(axis=0), placed.max(axis=0)

    def pivot_place(self) -> F64:
        """The pivot in the scene."""
        return self.transform.to_scene(np.array(self.pivot)[None])[0]


@dataclass(frozen=True, eq=False)
class KeptPart(Traits):
    """A part as a milestone keeps it: the shared topology and copies of the values."""

    topology: Topology
    positions: F32
    values: dict[str, Any] = field(default_factory=dict)

    @classmethod
    def of(cls, part: Part) -> KeptPart:
        """Keep a part as it is now."""
        mesh = part.mesh.settled()
        return cls(
            topology=mesh.topology,
            positions=mesh.positions.copy(),
            values=mesh.own_values(),
            **{**part.traits(), "mesh_id": new_id()},
        )

    def restored(self) -> Part:
        """A part of living clay again; the kept state stays as it is."""
        values = {name: value.copy() for name, value in self.values.items()}
        mesh = Mesh(self.topology, self.positions.copy(), **values)
        return Part(mesh=mesh, **{**self.traits(), "mesh_id": new_id()})

    @property
    def nbytes(self) -> int:
        """Bytes held."""
        return int(self.positions.nbytes + sum(value.nbytes for value in self.values.values()))


@dataclass(frozen=True)
class Group:
    """A folder of parts.

    Attributes
    ----------
    budget : int
        Vertices its parts together should stay under; 0 for none.
    folded : bool
        Its parts are not listed.
    """

    name: str
    id: str = field(default_factory=new_id)
    budget: int = 0
    folded: bool = False


@dataclass(frozen=True)
class RegionName:
    """What a region is called; those without are called by their number."""

    number: int
    name: str


@dataclass(frozen=True, eq=False)
class KeptMask:
    """A mask kept under a name, with the places of its vertices: so it fits any later mesh.

    Attributes
    ----------
    part : str
        The part it was kept from.
    positions : (n, 3) float32
    values : (n,) uint8
        255 is fully masked.
    """

    name: str
    part: str
    positions: F32
    values: U8
    id: str = field(default_factory=new_id)


@dataclass(frozen=True)
class Landmark:
    """A named place on a part, held by a face of it so that it moves along with strokes.

    Attributes
    ----------
    part : str
        The part's id.
    shares : three floats
        Weights of the corners of the triangle it lies in.
    corners : three ints
        Vertices of that triangle.
    topology : str
        Which shape of the mesh the numbers are of.
    place : three floats
        Where it was last, in the part's space: what it is found again by on a new mesh.
    """

    name: str
    part: str
    corners: tuple[int, int, int]
    shares: tuple[float, float, float]
    topology: str
    place: tuple[float, float, float]
    id: str = field(default_factory=new_id)


@dataclass(frozen=True, eq=False)
class Guide:
    """A line on a part, held by its triangles so that it moves along with strokes.

    Attributes
    ----------
    part : str
        The part's id.
    corners, shares : (k, 3) int32 and float32
        The triangle each point lies in, and the weights of its corners.
    topology : str
        Which shape of the mesh the numbers are of.
    places : (k, 3) float32
        Where it was when it was laid, in the part's space: what it is found again by on other clay.
    closed : bool
    note : str
    """

    part: str
    corners: I32
    shares: F32
    topology: str
    places: F32
    closed: bool = False
    note: str = ""
    id: str = field(default_factory=new_id)


def guide_of(part: Part, line: F64, closed: bool, note: str = "") -> Guide:
    """Lay a line (k, 3), in the part's space, on its clay."""
    empty = Guide(
        part.id,
        np.empty((0, 3), np.int32),
        np.empty((0, 3), np.float32),
        "",
        np.empty((0, 3), np.float32),
        closed,
        note,
    )
    return laid(empty, line, part.mesh)


def laid(guide: Guide, line: F64, mesh: Mesh) -> Guide:
    """A guide on the places of a mesh nearest to a line (k, 3)."""
    found = held(mesh, line)
    at = found.places(mesh).astype(np.float32)
    return replace(guide, corners=found.corners, shares=found.shares, topology=mesh.topology.uid, places=at)


def guide_places(guide: Guide, mesh: Mesh) -> F64:
    """Where a guide is in its part's space, on the clay as it is now."""
    if guide.topology == mesh.topology.uid:
        return places(mesh, guide.corners, guide.shares)
    return guide.places.astype(np.float64)


@dataclass(frozen=True)
class Tape:
    """A measure between two landmarks.

    Attributes
    ----------
    surface : bool
        Over the surface instead of through space.
    divisions : tuple of floats
        Shares at which it is marked, between 0 and 1.
    """

    start: str
    end: str
    surface: bool = False
    divisions: tuple[float, ...] = ()
    id: str = field(default_factory=new_id)


@dataclass(frozen=True)
class Reference:
    """A picture to look at while working.

    Attributes
    ----------
    picture : str
        Key of the original among the project's pictures.
    way : str
        board; front, side or top: a plane in space; view: bound to a saved camera.
    place : two floats
        Of its middle: pixels of the board, or millimetres along the plane.
    scale : float
        Board pixels or millimetres to one pixel of the picture.
    turn : float
        Degrees.
    mirror, grey : bool
    opacity : float
    crop : four floats
        Left, top, right, bottom as shares of the picture.
    note : str
    view : str
        Id of the saved view it is bound to.
    over : bool
        Drawn over the clay instead of under it.
    depth : float
        Millimetres of a plane from the origin.
    shown : bool
    """

    name: str
    picture: str
    way: str = "board"
    place: tuple[float, float] = (0.0, 0.0)
    scale: float = 1.0
    turn: float = 0.0
    mirror: bool = False
    grey: bool = False
    opacity: float = 1.0
    crop: tuple[float, float, float, float] = (0.0, 0.0, 1.0, 1.0)
    note: str = ""
    view: str = ""
    over: bool = False
    depth: float = 0.0
    shown: bool = True
    id: str = field(default_factory=new_id)


def keep(parts: Iterable[Part]) -> tuple[KeptPart, ...]:
    """Keep parts as they are now; linked copies stay linked."""
    names: dict[str, str] = {}
    kept = []
    for part in parts:
        one = KeptPart.of(part)
        kept.append(replace(one, mesh_id=names.setdefault(part.mesh_id, one.mesh_id)))
    return tuple(kept)


def bring_back(kept: Iterable[KeptPart]) -> tuple[Part, ...]:
    """Living parts again; linked copies share their clay."""
    first: dict[str, Part] = {}
    parts = []
    for one in kept:
        part = one.restored()
        same = first.setdefault(one.mesh_id, part)
        parts.append(part if same is part else replace(part, mesh=same.mesh, mesh_id=same.mesh_id))
    return tuple(parts)


def _now() -> str:
    return datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")


@dataclass(frozen=True, eq=False)
class Milestone:
    """A kept state with a picture (PNG bytes) and the user's note."""

    name: str
    parts: tuple[KeptPart, ...]
    picture: bytes
    id: str = field(default_factory=new_id)
    time: str = field(default_factory=_now)
    note: str = ""


@dataclass(frozen=True, eq=False)
class Scene:
    """Everything that undo brings back."""

    parts: tuple[Part, ...] = ()
    milestones: tuple[Milestone, ...] = ()
    groups: tuple[Group, ...] = ()
    references: tuple[Reference, ...] = ()
    landmarks: tuple[Landmark, ...] = ()
    tapes: tuple[Tape, ...] = ()
    region_names: tuple[RegionName, ...] = ()
    kept_masks: tuple[KeptMask, ...] = ()
    guides: tuple[Guide, ...] = ()

    def part(self, part_id: str) -> Part:
        """The part with this id. Raises `KeyError` when there is none."""
        for part in self.parts:
            if part.id == part_id:
                return part
        raise KeyError(part_id)

    def group(self, group_id: str) -> Group | None:
        """The group with this id, or None."""
        return next((group for group in self.groups if group.id == group_id), None)

    def with_parts(self, parts: Iterable[Part]) -> Scene:
        """The scene with other parts; guides on parts that are gone go with them."""
        new = tuple(parts)
        ids = {part.id for part in new}
        return replace(self, parts=new, guides=tuple(guide for guide in self.guides if guide.part in ids))

    def with_part(self, *new: Part) -> Scene:
        """The scene with some parts exchanged for their changed selves."""
        changed = {part.id: part for part in new}
        return self.with_parts(changed.get(part.id, part) for part in self.parts)

    def linked(self, part: Part) -> list[Part]:
        """The other parts that share its clay."""
        return [p for p in self.parts if p.mesh_id == part.mesh_id and p.id != part.id]

    def bounds(self) -> tuple[F64, F64]:
        """Box around all visible parts; a 100 mm cube when there is none."""
        boxes = [part.bounds() for part in self.parts if part.visible]
        if not boxes:
            return np.full(3, -50.0), np.full(3, 50.0)
        low = np.min([box[0] for box in boxes], axis=0)
        high = np.max([box[1] for box in boxes], axis=0)
        return low, high

    def free_name(self, wanted: str, besides: Iterable[str] = ()) -> str:
        """`wanted`, or the next numbered name when a part, or one of `besides`, has it already."""
        wanted = " ".join(wanted.split()) or "Part"
        taken = {part.name for part in self.parts} | set(besides)
        if wanted not in taken:
            return wanted
        stem = re.sub(r" \d+$", "", wanted)
        return next(n for i in itertools.count(2) if (n := f"{stem} {i}") not in taken)
