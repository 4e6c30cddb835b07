"""UVs and seams of a part: laid on its lowest level, told to the one in hand, changed in steps that can be undone."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from kneten.core.arrays import F32, I32, AnyArray, Progress
from kneten.core.mesh import Mesh
from kneten.core.restriction import handed_down
from kneten.core.subdivide import Step
from kneten.core.topology import Topology
from kneten.core.uv.islands import Edges, has_uv, islands_of_uv
from kneten.core.uv.pack import PackWish, packed
from kneten.core.uv.seams import found_seams
from kneten.core.uv.unwrap import unwrapped
from kneten.document.project import Project
from kneten.document.scene import Part


@dataclass(frozen=True, eq=False)
class Cage:
    """The level that UVs belong to: the lowest. Those of the levels above lie straight between its corners.

    Attributes
    ----------
    mesh : Mesh
        Its faces, at the places that its vertices have on the level in hand, with UVs and seams.
    names : (n,) int32
        The vertex of the level in hand that each of its vertices is.
    steps : tuple
        For each level above, up to the one in hand: how it comes from the one below, and its topology.
    edges : Edges
    """

    mesh: Mesh
    names: I32
    steps: tuple[tuple[Step, Topology], ...]
    edges: Edges

    def raised(self, values: dict[str, AnyArray]) -> dict[str, Any]:
        """Values around the cage's faces, (f, ...) each, as the level in hand has them."""
        made: dict[str, Any] = dict(values)
        below = self.mesh.topology
        for step, shape in self.steps:
            told = Mesh(below, np.zeros((below.n_vertices, 3), np.float32), **made)
            made = step.values(told, shape, made.keys())
            below = shape
        return made

    def owners(self) -> AnyArray:
        """Which of the cage's faces each face of the level in hand belongs to, (f,)."""
        below = self.mesh.topology
        owner = np.arange(below.n_faces)
        for _, shape in self.steps:
            owner = np.repeat(owner, np.where(below.faces[:, 3] >= 0, 4, 3))[shape.source_face]
            below = shape
        return owner

    def lines(self, marked: AnyArray) -> AnyArray:
        """The vertices of the level in hand along some edges (m,) of the cage, (k, 3): both ends, and one between.

        Where the cage is in hand itself there is none between: the first end stands for it.
        """
        ends = self.edges.ends[marked]
        if not self.steps:
            return np.stack([ends[:, 0], ends[:, 0], ends[:, 1]], axis=1)
        between = self.steps[0][0].of_edge[np.flatnonzero(marked)]
        for step, _ in self.steps[1:]:
            between = step.of_vertex[between]
        return np.stack([self.names[ends[:, 0]], between, self.names[ends[:, 1]]], axis=1)

    def with_uv(self, uv: F32) -> Mesh:
        """The cage with other UVs, (f, 8)."""
        mesh = Mesh(self.mesh.topology, self.mesh.positions, **self.mesh.values())
        mesh.uv = uv
        return mesh


def cage_of(part: Part) -> Cage:
    """The lowest level of a part, whose clay is at rest."""
    mesh, stack = part.mesh, part.stack
    level = 0 if stack is None else stack.level
    steps: list[tuple[Step, Topology]] = []
    names = np.arange(mesh.n_vertices, dtype=np.int32)
    names_kept = ("uv", "seams", "regions")
    kept: dict[str, Any] = {name: value for name, value in mesh.values().items() if name in names_kept}
    now = Mesh(mesh.topology, mesh.positions, normals=mesh.normals, boxes=(mesh.boxes, mesh.clusters), **kept)
    for k in range(level, 0, -1):
        assert stack is not None
        step, under = stack.levels[k].step, stack.levels[k - 1].topology
        assert step is not None
        steps.insert(0, (step, stack.levels[k].topology))
        lower: dict[str, Any] = handed_down(step, under, now)
        names = names[step.of_vertex]
        now = Mesh(under, mesh.positions[names], **lower)
    return Cage(now, names, tuple(steps), Edges.of(now.topology))


def seams_of(cage: Cage) -> AnyArray:
    """Which edges of the cage are seams, (m,) bool."""
    if cage.mesh.seams is None:
        return np.zeros(len(cage.edges.ends), bool)
    return cage.edges.marked(cage.mesh.seams, cage.mesh.topology.faces)


def put_uv(project: Project, part: Part, cage: Cage, uv: F32 | None, name: str) -> bool:
    """Give a part UVs (f, 8) of its cage, or none: one step. Whether anything changed."""
    return project.set_values(part.id, "uv", None if uv is None else cage.raised({"uv": uv})["uv"], name)


def put_seams(project: Project, part: Part, cage: Cage, marked: AnyArray, name: str) -> bool:
    """Let these edges of the cage, (m,) bool, be the seams: one step. Whether anything changed."""
    bits = cage.edges.bits(marked, cage.mesh.topology.faces)
    return project.set_values(
        part.id, "seams", cage.raised({"seams": bits})["seams"] if bits.any() else None, name
    )


@dataclass(frozen=True, eq=False)
class Laid:
    """What unwrapping made of a cage.

    Attributes
    ----------
    uv : (f, 8) float32
    marked : (m,) bool
        The seams now.
    added : int
        Islands that had to be opened further.
    turned : int
        Triangles that are turned over.
    stacked : (f,) bool
        Faces on their mirror image.
    """

    uv: F32
    marked: AnyArray
    added: int
    turned: int
    stacked: AnyArray


def laid_flat(cage: Cage, wish: PackWish, allowed: float | None, progress: Progress) -> Laid:
    """A cage unwrapped along its seams and packed. For workers. Raises `Cancelled`.

    Parameters
    ----------
    allowed : float or None
        Seams are looked for until lengths differ by no more than this factor; None cuts along those that there are.
    """
    mesh, edges = cage.mesh, cage.edges
    marked = seams_of(cage)
    if allowed is not None:
        marked = found_seams(mesh, edges, marked, allowed, _Share(progress, 0.0, 0.6))
    made = unwrapped(mesh, marked, _Share(progress, 0.6, 0.85), edges)
    uv, stacked = packed(mesh, made.islands, made.uv, wish, _Share(progress, 0.85, 1.0))
    inner = made.cuts & edges.inner
    return Laid(uv, inner, made.added, made.turned, stacked)


def packed_anew(cage: Cage, wish: PackWish, progress: Progress) -> F32:
    """The islands that there are, side by side, UVs (f, 8). For workers. Raises `Cancelled`."""
    mesh = cage.mesh
    assert mesh.uv is not None
    return packed(mesh, islands_of_uv(mesh, cage.edges), mesh.uv, wish, progress)[0]


def land(project: Project, part: Part, cage: Cage, laid: Laid, name: str) -> None:
    """Give the part what was made of it: one step."""
    with project.at_once(name):
        put_seams(project, part, cage, laid.marked, name)
        put_uv(project, part, cage, laid.uv, name)


def is_laid(part: Part) -> bool:
    """Whether a part has UVs."""
    return part.mesh.uv is not None and bool(has_uv(part.mesh.uv).any())


class _Share(Progress):
    """A part of a progress."""

    def __init__(self, whole: Progress, low: float, high: float) -> None:
        self._whole, self._low, self._high = whole, low, high

    def report(self, fraction: float, text: str = "") -> None:
        self._whole.report(self._low + (self._high - self._low) * fraction, text)
