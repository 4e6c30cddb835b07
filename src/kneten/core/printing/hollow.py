"""Clay made hollow: an inner surface at the wall's distance, holes to drain it, and plugs for these."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, F64, I32, AnyArray, Progress
from kneten.core.distance import nearest_points
from kneten.core.face_tree import FaceTree
from kneten.core.mesh import Mesh
from kneten.core.pieces import concatenated, connected, picked
from kneten.core.placing import flipped
from kneten.core.printing.depths import squared_depths
from kneten.core.printing.forms import lathed
from kneten.core.remesh import MAX_POINTS, remesh, soup_of
from kneten.core.solid import combine, volume
from kneten.core.surface_nets import follow_grid, relaxed
from kneten.core.topology import MeshError
from kneten.core.values import turned_over
from kneten.core.voxels import fill_grid, open_corners

EVENING = 3
"""Passes of evening of the inner surface before it is laid to its distance."""

DENSER = 3.0
"""How many times more faces than the grid has cells on a side clay may have before a coarser stand-in is measured from."""

STAND_IN = 1.5
"""Edges of that stand-in, in steps of the grid."""

SPARSE = 4
"""One place of so many is asked first whether a side of the clay itself is too near: what is, is never one place alone."""

RINGS = 4
"""Rings of places around one that is too near to a side which are asked, too."""

CHECKED = 10_000
"""Vertices of a hollow, about, that the wall is measured at in the end."""

NEARER = 0.98
"""Shares of a wall from which on a place is near enough to what it should keep off."""

AWAY = 12
"""Times at most that what is too near to a side is moved away from it."""

LEAST_HOLLOW = 8.0
"""Walls cubed of room that a hollow has at least: smaller ones only hold resin."""


@dataclass(frozen=True, eq=False)
class Hollow:
    """What came of it.

    Attributes
    ----------
    body : Mesh
        Outside and insides.
    cavities : tuple of Mesh
        The hollows, each as a body of its own, outwards.
    saved : float
        Share of the volume that is gone.
    least : float
        Mm of the wall where it is thinnest, from the hollows' vertices.
    """

    body: Mesh
    cavities: tuple[Mesh, ...]
    saved: float
    least: float


def grid_step(mesh: Mesh, points: int) -> float:
    """Mm of a grid's step that has so many along the longest side."""
    return float(np.ptp(mesh.positions, axis=0).max()) / max(points, 8)


def hollowed(mesh: Mesh, wall: float, step: float, progress: Progress) -> Hollow:
    """A closed body with walls of a thickness and nothing within.

    A grid of the body tells how deep each of its points lies (an exact distance transform); what lies deeper than the wall
    is followed by surface nets, and laid to its distance from the outside.

    Parameters
    ----------
    wall, step : float
        Mm.

    Raises
    ------
    MeshError
        When it is not closed, the wall is too thick for it, or the grid would be too large.
    Cancelled
        Through `progress`.
    """
    if mesh.topology.has_border:
        raise MeshError("it has open edges: make one closed body of it first")
    if not wall > 0:
        raise MeshError("a wall has to be thicker than nothing")
    low = mesh.positions.min(axis=0).astype(np.float64) - 2.31 * step
    high = mesh.positions.max(axis=0).astype(np.float64) + 2.31 * step
    nx, ny, nz = (int(n) for n in np.ceil((high - low) / step) + 1)
    # Depths take eight bytes a point twice over, the grid itself seven.
    if 2 * nx * ny * nz > MAX_POINTS:
        raise MeshError(
            f"a step of {step:.3g} mm needs a grid of {nx * ny * nz:,} points: choose a coarser one"
        )
    soup = soup_of([mesh])
    # The walls of clay that is far denser than the grid are measured from what the grid can tell of it.
    dense = mesh.topology.n_faces > DENSER * float(np.prod((nx, ny, nz))) ** (2 / 3)
    ground = remesh(soup, STAND_IN * step, Progress(), keep_symmetry=False) if dense else mesh
    flags = fill_grid(
        soup.positions, soup.normals, soup.triangles, low, step, (nx, ny, nz), (False,) * 3, progress
    )
    progress.report(0.45, "Measuring depths")
    # The surface lies between grid points: half a step before the nearest one outside, in the mean.
    asked = wall / step + 0.5
    deep = squared_depths(flags, int(np.ceil(asked)) + 1)
    inner = (deep > asked * asked).astype(np.uint8)
    whole = int(np.count_nonzero(flags))
    del deep, flags
    open_corners(inner)
    progress.report(0.6, "Following the hollow")
    found = follow_grid(inner, (False,) * 3)
    if found is None:
        raise MeshError(f"nothing of it is thicker than two walls of {wall:.3g} mm")
    points, quads, _ = found
    places = low + points * step
    for _ in range(EVENING):
        places = relaxed(places, quads)
    progress.report(0.65, "Laying the hollow")
    tree, reach = FaceTree.of(ground), wall + 3 * step
    places, feet = _laid(places, tree, wall, reach)
    if not dense:
        # Evened once more between, or the grid's rows stay visible.
        places, feet = _laid(relaxed(places, quads), tree, wall, reach)
    progress.report(0.8, "Laying the hollow")
    _kept_off(places, _creased(places, feet, quads, step), tree, wall, reach)
    if dense:
        # What the stand-in has lost, slits and the like, is nearer than a wall: nothing farther is looked at.
        tree = FaceTree.of(mesh)
        _kept_off(places, _too_near(places, quads, tree, NEARER * wall), tree, wall, NEARER * wall)
    shell = Mesh.from_faces(places.astype(np.float32), quads)
    sized = _roomy(shell, wall)
    if not sized:
        raise MeshError(f"what would be hollow within walls of {wall:.3g} mm is too small to be worth it")
    cavities = [one for _, one in sized]
    progress.report(0.9, "Putting together")
    body = concatenated([mesh, *(inside_out(one) for one in cavities)])
    some = np.concatenate([one.positions for one in cavities]).astype(np.float64)
    some = some[:: max(len(some) // CHECKED, 1)]
    off = np.linalg.norm(_feet(some, tree, wall + 3 * step) - some, axis=1)
    least = float(off[off > 0].min(initial=wall))
    saved = sum(room for room, _ in sized) / (whole * step**3)
    return Hollow(body, tuple(cavities), saved, least)


def _feet(places: F64, tree: FaceTree, reach: float) -> F64:
    """The places (k, 3) of the surface that lie nearest to others; these themselves where none is within reach."""
    at = np.ascontiguousarray(places, np.float32)
    found, _ = tree.nearest(at, np.full(len(at), reach, np.float32), Progress())
    return np.where(found.there[:, None], found.of(tree.positions).astype(np.float64), places)


def _laid(places: F64, tree: FaceTree, wall: float, reach: float) -> tuple[F64, F64]:
    """Places (k, 3) within, brought to the wall's distance from the surface, and where on it that is, (k, 3)."""
    feet = _feet(places, tree, reach)
    way = places - feet
    off = np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-9)
    return np.where(off > 1e-6, feet + way / off * wall, places), feet


def _creased(places: F64, feet: F64, quads: I32, step: float) -> AnyArray:
    """Which places (k, 3), by number, lie where walls of several sides meet, and their neighbours: the feet (k, 3) of neighbours lie far apart there."""
    marked = np.zeros(len(places), bool)
    for k in range(4):
        a, b = quads[:, k], quads[:, (k + 1) & 3]
        apart = np.linalg.norm(feet[a] - feet[b], axis=1)
        wide = apart > 2.0 * np.linalg.norm(places[a] - places[b], axis=1) + step
        marked[a[wide]] = True
        marked[b[wide]] = True
    for _ in range(2):
        marked[quads[marked[quads].any(axis=1)].ravel()] = True
    return np.flatnonzero(marked)


def _too_near(places: F64, quads: I32, tree: FaceTree, reach: float) -> AnyArray:
    """Which places (k, 3), by number, may have a side of the surface within reach: all around those of some that have."""
    asked = np.arange(0, len(places), SPARSE)
    marked = np.zeros(len(places), bool)
    marked[asked[np.linalg.norm(_feet(places[asked], tree, reach) - places[asked], axis=1) > 1e-6]] = True
    for _ in range(RINGS if marked.any() else 0):
        marked[quads[marked[quads].any(axis=1)].ravel()] = True
    return np.flatnonzero(marked)


def _kept_off(places: F64, near: AnyArray, tree: FaceTree, wall: float, reach: float) -> None:
    """Move places (k, 3), of those numbered `near` (m,), that are nearer than a wall to any side of the surface away from it, by turns, until none is: where two walls meet, away from one is often towards the other."""
    for _ in range(AWAY):
        feet = _feet(places[near], tree, reach)
        way = places[near] - feet
        off = np.linalg.norm(way, axis=1)
        close = (off < 0.995 * wall) & (off > 1e-6)
        if not close.any():
            return
        near = near[close]
        places[near] = feet[close] + way[close] / off[close][:, None] * wall * 1.002


def _roomy(shell: Mesh, wall: float) -> list[tuple[float, Mesh]]:
    """The bodies of a surface that hold enough to be worth a hollow, with what they hold, the largest first."""
    labels = connected(shell)
    count = int(labels.max(initial=-1)) + 1
    of_face = labels[shell.topology.faces[:, 0]]
    bodies = [shell] if count == 1 else [picked(shell, of_face == k) for k in range(count)]
    sized = [(volume(one), one) for one in bodies]
    return [pair for pair in sorted(sized, key=lambda pair: -pair[0]) if pair[0] > LEAST_HOLLOW * wall**3]


def inside_out(mesh: Mesh) -> Mesh:
    """A mesh turned inside out."""
    values = turned_over(mesh.own_values(), mesh.topology.faces)
    return Mesh(flipped(mesh.topology), mesh.positions, **values)


@dataclass(frozen=True)
class Drain:
    """A hole from the outside into a hollow.

    Attributes
    ----------
    place, way : three floats
        Where it begins on the surface, and the way in.
    radius : float
        Mm.
    """

    place: tuple[float, float, float]
    way: tuple[float, float, float]
    radius: float


def drained(
    body: Mesh, solid: Mesh, drains: Sequence[Drain], deep: float, clearance: float, progress: Progress
) -> tuple[Mesh, list[Mesh]]:
    """A body with holes, and a plug for each: what was cut out of the wall, narrower by the clearance.

    Parameters
    ----------
    body : Mesh
        Hollow.
    solid : Mesh
        Its outside alone: plugs follow that.
    deep : float
        Mm from the surface that a hole goes at least.
    clearance : float
        Mm all round.

    Raises
    ------
    SolidError
        When the clay is no solid.
    """
    plugs = []
    for drain in drains:
        hole = lathed([(-deep, drain.radius), (deep, drain.radius)], drain.place, drain.way)
        slim = max(drain.radius - clearance, 0.3 * drain.radius)
        cork = lathed([(-deep, slim * 1.02), (0.95 * deep, slim * 0.96)], drain.place, drain.way)
        plugs.append(combine("intersect", [solid, cork], progress))
        body = combine("subtract", [body, hole], progress)
    return body, plugs


def outer_shell(mesh: Mesh) -> Mesh:
    """The shell of a body that holds the most: its outside."""
    labels = connected(mesh)
    of_face = labels[mesh.topology.faces[:, 0]]
    count = int(labels.max(initial=0)) + 1
    if count == 1:
        return mesh
    return max((picked(mesh, of_face == k) for k in range(count)), key=volume)


def lowest_drain(cavity: Mesh, outside: Mesh, radius: float) -> Drain:
    """Where resin would run out by itself: straight under the lowest place of a hollow, through the nearest wall."""
    bottom = cavity.positions[int(cavity.positions[:, 1].argmin())].astype(np.float64)
    nearest, _ = nearest_points(bottom[None], outside, Progress())
    way = bottom - nearest[0]
    length = float(np.linalg.norm(way))
    unit: AnyArray = way / length if length > 1e-9 else np.array([0.0, 1.0, 0.0])
    x, y, z = nearest[0].tolist()
    a, b, c = unit.tolist()
    return Drain((x, y, z), (a, b, c), radius)


def depth_to(cavities: Sequence[Mesh], drain: Drain) -> float:
    """Mm along a drain's way until it is well within the nearest hollow."""
    origin: F32 = np.array(drain.place, np.float32)
    best = np.inf
    for cavity in cavities:
        off = (cavity.positions - origin) @ np.array(drain.way, np.float32)
        aside = np.linalg.norm(
            cavity.positions - origin - off[:, None] * np.array(drain.way, np.float32), axis=1
        )
        near = (aside < 2 * drain.radius) & (off > 0)
        if near.any():
            best = min(best, float(off[near].min()))
    return best
