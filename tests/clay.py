"""No tool breaks clay: `python -m tests.clay [TOOL ...]` tries every tool, way, strength and size on many kinds of clay.

Ten passes over one spot each: no number is lost, no faces cross or fold that did not, nothing moves that is out of reach,
and both sides stay mirror images. Prints what is broken; ends with an error if anything is. `tests/core/test_clay.py`
does a few of the same.
"""

from __future__ import annotations

import itertools
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from kneten.core.brushes.tool import BrushSettings, Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.crossings import crossing
from kneten.core.mesh import Mesh
from kneten.core.picking import pick
from kneten.core.primitives import ball, lattice
from kneten.core.remesh import triangulate
from kneten.core.stroke import Stroke
from tests.conftest import FRONT, make_sheet

FOLD = 150.0
"""Degrees between neighbouring faces from which on clay is folded."""

FAR = 100.0
"""From where the clay is looked at, in millimetres."""

HANDS = [
    key for key, tool in TOOLS.items() if not tool.changes and not tool.density and not tool.needs_before
]


def box(width: float, height: float, depth: float, edge: float = 1.0) -> Mesh:
    """A box of even quads around the middle."""
    counts = [round(size / edge) for size in (width, height, depth)]
    points, faces = lattice(*counts)
    return Mesh.from_faces(((points - np.array(counts) / 2) * edge).astype(np.float32), faces)


def fingers(edge: float = 1.0) -> Mesh:
    """Three round rods beside each other, with 2 mm between them, in one mesh."""
    rod, faces = box(10.0, 40.0, 10.0, edge).source_arrays()
    out = np.maximum(np.abs(rod[:, [0, 2]]).max(axis=1), 1e-9) / np.maximum(
        np.linalg.norm(rod[:, [0, 2]], axis=1), 1e-9
    )
    rod[:, 0] *= out
    rod[:, 2] *= out
    rods = [rod + np.float32([way, 0.0, 0.0]) for way in (-12.0, 0.0, 12.0)]
    return Mesh.from_faces(
        np.concatenate(rods), np.concatenate([faces + k * len(rod) for k in range(3)]).astype(np.int32)
    )


def masked(edge: float = 1.0) -> Mesh:
    """A ball with a hard mask over the half above y = 2."""
    mesh = round_ball(edge)
    mesh.mask = (mesh.positions[:, 1] > 2.0).astype(np.float32)
    return mesh


def round_ball(edge: float = 1.0) -> Mesh:
    return Mesh.from_faces(*ball(30.0, int(np.sqrt(4 * np.pi * 900 / edge**2 / 6))))


def ridged(edge: float = 1.0) -> Mesh:
    """A ball with narrow teeth over its front."""
    mesh = round_ball(edge)
    at = mesh.positions
    wave = np.maximum(np.sin(at[:, 0] * (2 * np.pi / (4 * edge))), 0.0) * (at[:, 2] > 15.0)
    mesh.positions += mesh.normals * (2.0 * edge * wave[:, None]).astype(np.float32)
    mesh.refresh_all()
    return mesh


CLAY: dict[str, Callable[[float], Mesh]] = {
    "ball": round_ball,
    "sheet": lambda edge: make_sheet(round(60 / edge / 2) * 2, edge),
    "slab": lambda edge: box(60.0, 60.0, 4.0, edge),
    "body": lambda edge: box(45.0, 48.0, 17.0, edge),
    "fingers": fingers,
    "masked": masked,
    "ridged": ridged,
}


@dataclass(frozen=True)
class Case:
    """One way of holding one tool on one kind of clay."""

    key: str
    variant: str
    clay: str
    radius: float
    strength: float
    edge: float = 1.0
    sign: int = 1
    mirrored: bool = False

    def __str__(self) -> str:
        way = f" {self.variant}" if self.variant else ""
        sides = f"{' reversed' if self.sign < 0 else ''}{' mirrored' if self.mirrored else ''}"
        return f"{self.key}{way}{sides} on {self.clay} of {self.edge:g} mm, {self.radius:g} mm, {self.strength:.0%}"


def angles(mesh: Mesh) -> np.ndarray:
    """Degrees between the triangles at each inner edge."""
    triangles = triangulate(mesh.topology.faces)
    corners = mesh.positions[triangles].astype(np.float64)
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-30)
    sides = np.sort(
        np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), axis=1
    )
    key = sides[:, 0].astype(np.int64) * mesh.n_vertices + sides[:, 1]
    order = np.argsort(key, kind="stable")
    same = np.flatnonzero(np.diff(key[order]) == 0)
    face = np.tile(np.arange(len(triangles)), 3)[order]
    return np.degrees(np.arccos(np.clip((normals[face[same]] * normals[face[same + 1]]).sum(axis=1), -1, 1)))


def volume(mesh: Mesh) -> float:
    """What closed clay encloses."""
    corners = mesh.positions[triangulate(mesh.topology.faces)].astype(np.float64)
    return float((corners[:, 0] * np.cross(corners[:, 1], corners[:, 2])).sum() / 6)


def place(mesh: Mesh, x: float, y: float) -> np.ndarray | None:
    """The place of the clay that is seen at x, y from the front."""
    hit = pick(mesh, np.array([x, y, FAR]), FRONT)
    return None if hit is None else hit.point


def stroke(
    mesh: Mesh,
    key: str,
    line: list[tuple[float, float]],
    radius: float,
    strength: float,
    settings: BrushSettings | None = None,
    mirrored: bool = False,
) -> Stroke:
    """One stroke along a line of the picture, or one click where it is a single place; drags for what holds."""
    tool = TOOLS[key]
    held = settings or tool.defaults
    made = Stroke(mesh, tool, held, (mirrored, False, False))
    ends = np.array(line, float)
    if tool.holds:
        grip = place(mesh, *ends[0])
        if grip is not None:
            made.grab(grip, radius, FRONT)
            for share in np.linspace(0.1, 1.0, 10):
                way = np.array([*(ends[-1] - ends[0]), 0.5 * radius]) * share * strength
                made.drag(way, radius, 1.0, 1.5 * share * strength)
    else:
        steps = max(int(np.linalg.norm(ends[-1] - ends[0]) / (held.spacing * radius)), 1)
        last, travel = None, 0.0
        for share in np.linspace(0.0, 1.0, steps + 1)[: 1 if len(line) == 1 else None]:
            at = place(mesh, *(ends[0] + (ends[-1] - ends[0]) * share))
            if at is None:
                continue
            along = np.zeros(3) if last is None else at - last
            travel += float(np.linalg.norm(along))
            made.dab(Dab(at, along, FRONT, radius, strength, held.spacing, travel, held.variant))
            last = at
    made.finish()
    return made


def mirror_error(mesh: Mesh) -> float:
    """How far the clay is from its mirror image across x = 0; vertices are told apart by where they are."""
    at = mesh.positions.astype(np.float64)
    return float(cKDTree(at).query(at * [-1.0, 1.0, 1.0])[0].max())


def broken_by(case: Case, passes: tuple[int, ...] = (1, 3, 10)) -> Iterator[str]:
    """What ten passes on one spot break, in words."""
    mesh = CLAY[case.clay](case.edge)
    before = mesh.positions.copy()
    folds, crossed = int((angles(mesh) > FOLD).sum()), crossing(mesh)
    held = replace(TOOLS[case.key].defaults, variant=case.variant, taper=0.0)
    for turn in range(1, max(passes) + 1):
        # To and fro.
        line = [(-8.0, 3.0), (8.0, 3.0)][:: 1 if turn % 2 else -1]
        stroke(mesh, case.key, line, case.radius, case.sign * case.strength, held, case.mirrored)
        if turn not in passes:
            continue
        when = f"after {turn}"
        if not np.isfinite(mesh.positions).all():
            yield f"{when}: not a number"
            return
        if (more := int((angles(mesh) > FOLD).sum()) - folds) > 0:
            yield f"{when}: {more} folds"
        if more := int((crossing(mesh) & ~crossed).sum()):
            yield f"{when}: {more} crossing faces"
        moved = (mesh.positions != before).any(axis=1)
        if mesh.mask is not None and (moved & (mesh.mask == 1.0)).any():
            yield f"{when}: masked clay has moved"
        if case.mirrored and (off := mirror_error(mesh)) > 0.0:
            yield f"{when}: {off:.2g} mm from its mirror image"


def cases(keys: list[str]) -> Iterator[Case]:
    """All of them: tools, ways, kinds of clay, sizes, strengths, coarse and fine, reversed."""
    for key in keys:
        tool = TOOLS[key]
        ways = [variant for variant, _, _ in tool.variants] or [""]
        signs = (1, -1) if tool.reversed_name else (1,)
        for way, clay, sign in itertools.product(ways, CLAY, signs):
            for radius, strength in itertools.product((2.0, 6.0, 15.0, 40.0), (0.5, 1.0)):
                yield Case(key, way, clay, radius, strength, sign=sign)
            yield Case(key, way, clay, 15.0, 1.0, 3.0, sign)
            yield Case(key, way, clay, 6.0, 1.0, 0.5, sign)
        for way in ways:
            yield Case(key, way, "ball", 15.0, 1.0, mirrored=True)
            yield Case(key, way, "slab", 15.0, 1.0, mirrored=True)


def main() -> int:
    """Try all of them, or those of some tools."""
    keys = sys.argv[1:] or HANDS
    wrong = tried = 0
    began = time.monotonic()
    for case in cases(keys):
        tried += 1
        if told := list(broken_by(case)):
            wrong += 1
            print(f"{case}: {'; '.join(told)}", flush=True)
    print(f"{tried} tried, {wrong} broken, {time.monotonic() - began:.0f} s")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
