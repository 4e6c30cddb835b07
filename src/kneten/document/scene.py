"""What a project is made of at one moment: parts and milestones. Values, not behaviour."""

from __future__ import annotations

import datetime
import itertools
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, fields, replace
from typing import Any

import numpy as np

from kneten.core.arrays import F32, F64
from kneten.core.live.recipes import Recipe
from kneten.core.mesh import Mesh
from kneten.core.stack import Stack
from kneten.core.topology import Topology
from kneten.core.transform import Transform
from kneten.document.kinds import tidied
from kneten.document.things import (
    Group,
    Guide,
    KeptMap,
    KeptMask,
    Landmark,
    PaintSkin,
    Reference,
    RegionName,
    SentForm,
    Tape,
    new_id,
)


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
    net : bool
        It lies on other clay as a net that is drawn, not yet clay of its own.
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
    net: bool = field(default=False, kw_only=True)
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
        """Low and high corner, (3,) each, of the box around the part, in the scene."""
        low, high = self.mesh.bounds()
        corners = np.array(list(itertools.product(*zip(low, high, strict=True))), np.float64)
        placed = self.transform.to_scene(corners)
        return placed.min(axis=0), placed.max(axis=0)

    def pivot_place(self) -> F64:
        """The pivot in the scene, (3,)."""
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
    sent_forms: tuple[SentForm, ...] = ()
    more: Mapping[str, tuple[Any, ...]] = field(default_factory=dict)
    maps: tuple[KeptMap, ...] = ()
    paint_skins: tuple[PaintSkin, ...] = ()

    def things(self, name: str) -> tuple[Any, ...]:
        """All things of a kind in `THINGS`: a field of that name, or kept in `more`."""
        own: tuple[Any, ...] | None = getattr(self, name, None)
        return self.more.get(name, ()) if own is None else own

    def with_things(self, name: str, things: tuple[Any, ...]) -> Scene:
        """The scene with other things of a kind."""
        if hasattr(self, name):
            changes: dict[str, Any] = {name: things}
            return replace(self, **changes)
        return replace(self, more={**self.more, name: things})

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
        """The scene with other parts; what is on parts that are gone goes with them."""
        new = tuple(parts)
        scene = replace(self, parts=new)
        return scene if {part.id for part in new} >= {part.id for part in self.parts} else tidied(scene)

    def with_part(self, *new: Part) -> Scene:
        """The scene with some parts exchanged for their changed selves."""
        changed = {part.id: part for part in new}
        return self.with_parts(changed.get(part.id, part) for part in self.parts)

    def linked(self, part: Part) -> list[Part]:
        """The other parts that share its clay."""
        return [p for p in self.parts if p.mesh_id == part.mesh_id and p.id != part.id]

    def bounds(self) -> tuple[F64, F64]:
        """Corners, (3,) each, of the box around all visible parts; a 100 mm cube when there is none."""
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
