"""What a project is made of at one moment: parts and milestones. Values, not behaviour."""

from __future__ import annotations

import datetime
import itertools
import re
import uuid
from dataclasses import dataclass, field

import numpy as np

from kneten.core.arrays import F32, F64, U8
from kneten.core.mesh import Mesh
from kneten.core.topology import Topology
from kneten.core.transform import Transform


def new_id() -> str:
    """A name that no other thing has."""
    return uuid.uuid4().hex


@dataclass(frozen=True, eq=False)
class Part:
    """One object of clay. A changed part is a new `Part`; only strokes change the mesh in place."""

    name: str
    mesh: Mesh
    id: str = field(default_factory=new_id)
    mesh_id: str = field(default_factory=new_id)
    transform: Transform = Transform()
    visible: bool = True

    def bounds(self) -> tuple[F64, F64]:
        """Low and high corner of the box around the part, in the scene."""
        low, high = self.mesh.bounds()
        corners = np.array(list(itertools.product(*zip(low, high, strict=True))), np.float64)
        placed = self.transform.to_scene(corners)
        return placed.min(axis=0), placed.max(axis=0)


@dataclass(frozen=True, eq=False)
class KeptPart:
    """A part as a milestone keeps it: the shared topology and copies of the values."""

    name: str
    id: str
    transform: Transform
    visible: bool
    topology: Topology
    positions: F32
    colour: U8 | None
    mask: F32 | None
    mesh_id: str = field(default_factory=new_id)

    @classmethod
    def of(cls, part: Part) -> KeptPart:
        """Keep a part as it is now."""
        mesh = part.mesh
        return cls(
            part.name,
            part.id,
            part.transform,
            part.visible,
            mesh.topology,
            mesh.positions.copy(),
            None if mesh.colour is None else mesh.colour.copy(),
            None if mesh.mask is None else mesh.mask.copy(),
        )

    def restored(self) -> Part:
        """A part of living clay again; the kept state stays as it is."""
        mesh = Mesh(
            self.topology,
            self.positions.copy(),
            None if self.colour is None else self.colour.copy(),
            None if self.mask is None else self.mask.copy(),
        )
        return Part(self.name, mesh, self.id, new_id(), self.transform, self.visible)

    @property
    def nbytes(self) -> int:
        extra = sum(a.nbytes for a in (self.colour, self.mask) if a is not None)
        return int(self.positions.nbytes + extra)


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

    def part(self, part_id: str) -> Part:
        """The part with this id. Raises `KeyError` when there is none."""
        for part in self.parts:
            if part.id == part_id:
                return part
        raise KeyError(part_id)

    def with_part(self, new: Part) -> Scene:
        """The scene with one part exchanged for its changed self."""
        parts = tuple(new if part.id == new.id else part for part in self.parts)
        return Scene(parts, self.milestones)

    def bounds(self) -> tuple[F64, F64]:
        """Box around all visible parts; a 100 mm cube when there is none."""
        boxes = [part.bounds() for part in self.parts if part.visible]
        if not boxes:
            return np.full(3, -50.0), np.full(3, 50.0)
        low = np.min([box[0] for box in boxes], axis=0)
        high = np.max([box[1] for box in boxes], axis=0)
        return low, high

    def free_name(self, wanted: str) -> str:
        """`wanted`, or the next numbered name when a part has it already."""
        wanted = " ".join(wanted.split()) or "Part"
        taken = {part.name for part in self.parts}
        if wanted not in taken:
            return wanted
        stem = re.sub(r" \d+$", "", wanted)
        return next(n for i in itertools.count(2) if (n := f"{stem} {i}") not in taken)
