"""Pack: islands side by side on a tile, with a margin, by xatlas; mirror images on each other where that is wanted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import xatlas
from scipy.spatial import cKDTree

from kneten.core.arrays import F32, F64, AnyArray, Progress
from kneten.core.mesh import Mesh
from kneten.core.regions import middles
from kneten.core.uv.islands import Islands

GRID = 512
"""Cells across that places are sought on one by one; more islands than `MANY` are placed by chance instead."""

MANY = 150

LEAST_MARGIN = 1

TRIES = 5
"""Ways to turn the islands that are tried."""


@dataclass(frozen=True)
class PackWish:
    """How islands are packed.

    Attributes
    ----------
    size : int
        Texels across the picture that the margin is meant for.
    margin : int
        Texels between islands.
    turn : bool
        Islands may be turned by right angles.
    tiles : int
        How many tiles they are spread over.
    stack_mirrored : bool
        Islands that are mirror images of each other share their place.
    """

    size: int = 2048
    margin: int = 8
    turn: bool = True
    tiles: int = 1
    stack_mirrored: bool = False


def packed(
    mesh: Mesh,
    islands: Islands,
    uv: F32,
    wish: PackWish,
    progress: Progress,
    importance: AnyArray | None = None,
) -> tuple[F32, AnyArray]:
    """Islands side by side.

    Parameters
    ----------
    uv : (f, 8) float32
        Each as large beside the others as it is to be.
    importance : (islands,) float, optional
        How much larger each is to be, in length; those of 0 stay where they are.

    Returns
    -------
    uv : (f, 8) float32
        From 0 to 1 on the first tile; further tiles to its right.
    stacked : (f,) bool
        Faces that lie on their mirror image.

    Raises
    ------
    Cancelled
        Through `progress`.
    """
    at = islands.at_points(uv).astype(np.float64)
    of_points = islands.of_points()
    if importance is None:
        importance = np.ones(islands.count)
    at *= np.where(importance > 0, importance, 1.0)[of_points][:, None]
    members = islands.members()
    there = np.array([bool((uv[rows] != 0).any()) for rows in members])
    moving = there & (importance > 0)
    twins = mirrored_islands(mesh, islands) if wish.stack_mirrored else {}
    twins = {k: other for k, other in twins.items() if moving[k] and moving[other]}
    alone = [k for k in np.flatnonzero(moving).tolist() if k not in twins]
    areas = {k: _area(at, islands.points[members[k]]) for k in alone}
    for tile, group in enumerate(_shared_out(alone, areas, wish.tiles)):
        progress.report(0.1 + 0.8 * tile / wish.tiles, "Packing")
        _pack(at, islands, [members[k] for k in group], of_points, group, wish, tile)
    made = islands.at_corners(at)
    stacked = np.zeros(len(uv), bool)
    for k, other in twins.items():
        rows, theirs, corners = _matched(mesh, islands, members[k], members[other])
        table = made.reshape(-1, 4, 2)
        table[rows] = np.take_along_axis(table[theirs], np.maximum(corners, 0)[:, :, None], axis=1)
        table[rows] *= (corners >= 0)[:, :, None]
        stacked[rows] = True
    return made, stacked


def _area(at: F64, points: AnyArray) -> float:
    q = at[np.where(points >= 0, points, points[:, :1])]
    a, b = q[:, 2] - q[:, 0], q[:, 3] - q[:, 1]
    return float(np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum() / 2)


def _shared_out(alone: Sequence[int], areas: dict[int, float], tiles: int) -> list[list[int]]:
    """Islands by tile: the largest first, each to the tile that has least."""
    groups: list[list[int]] = [[] for _ in range(tiles)]
    full = [0.0] * tiles
    for k in sorted(alone, key=lambda k: -areas[k]):
        least = int(np.argmin(full))
        groups[least].append(k)
        full[least] += areas[k]
    return [group for group in groups if group]


def _pack(
    at: F64,
    islands: Islands,
    members: list[AnyArray],
    of_points: AnyArray,
    group: list[int],
    wish: PackWish,
    tile: int,
) -> None:
    """Put some islands onto a tile, in place."""
    faces = islands.points[np.concatenate(members)]
    quads = faces[:, 3] >= 0
    triangles = np.concatenate([faces[:, :3], faces[quads][:, [0, 2, 3]]])
    used, flat = np.unique(triangles, return_inverse=True)
    local = np.ascontiguousarray(flat.reshape(-1, 3), np.uint32)
    places = at[used]
    # xatlas takes what hangs together by places; islands that touch would be one.
    numbers = of_points[used]
    rank = np.zeros(islands.count, np.int64)
    rank[group] = np.arange(len(group))
    span = float(np.ptp(places, axis=0).max()) + 1.0
    apart = _spread(places, rank[numbers], len(group))
    materials = rank[numbers[np.searchsorted(used, triangles[:, 0])]].astype(np.uint32)[:, None]
    brute = len(group) <= MANY
    cells = GRID if brute else 2 * GRID
    # xatlas turns islands by swapping their axes, which mirrors them: it is given them turned instead, in several ways.
    rng = np.random.default_rng(len(group))
    best: tuple[float, F64] | None = None
    for attempt in range(TRIES if wish.turn and len(group) > 1 else 1):
        turned = np.zeros(len(group), bool) if attempt == 0 else rng.random(len(group)) < 0.5
        here = np.where(turned[rank[numbers]][:, None], apart[:, ::-1] * [-1.0, 1.0], apart)
        here = _spread(here, rank[numbers], len(group))
        atlas = xatlas.Atlas()
        atlas.add_uv_mesh((here * (64.0 / span)).astype(np.float32), local, materials)
        options = xatlas.PackOptions()
        options.resolution, options.bruteForce = cells, brute
        options.padding = max(round(wish.margin * cells / wish.size), LEAST_MARGIN)
        options.rotate_charts = options.rotate_charts_to_axis = False
        atlas.generate(pack_options=options)
        name, _, found = atlas.get_mesh(0)
        side = max(atlas.width, atlas.height)
        # How large an island has become is what counts: the same for all of them.
        large = atlas.texels_per_unit / side
        if best is None or large > best[0]:
            placed = np.zeros((len(used), 2))
            placed[name] = found.astype(np.float64) * [atlas.width / side, atlas.height / side]
            best = (large, placed)
    assert best is not None
    at[used] = best[1] + [tile, 0]


def _spread(places: F64, rank: AnyArray, count: int) -> F64:
    """Islands (n, 2) of a rank each moved apart, so that none touches another."""
    low, high = np.full((count, 2), np.inf), np.full((count, 2), -np.inf)
    np.minimum.at(low, rank, places)
    np.maximum.at(high, rank, places)
    span = float((high - low).max()) * 1.01 + 1e-6
    across = int(np.ceil(np.sqrt(count)))
    return np.asarray(places - low[rank] + np.stack([rank % across, rank // across], axis=1) * span)


def mirrored_islands(mesh: Mesh, islands: Islands, axis: int = 0) -> dict[int, int]:
    """Islands that are the mirror images of others across the part's middle: which one of each."""
    at = middles(mesh)
    image = at * np.where(np.arange(3) == axis, -1.0, 1.0)
    size = float(np.ptp(mesh.positions, axis=0).max())
    far, other = cKDTree(at).query(image)
    near = far < 1e-4 * size
    found: dict[int, int] = {}
    for k, rows in enumerate(islands.members()):
        theirs = islands.of_face[other[rows]]
        if not near[rows].all() or (theirs != theirs[0]).any() or theirs[0] == k:
            continue
        twin = int(theirs[0])
        counts = np.count_nonzero(islands.of_face == twin)
        if counts == len(rows) and at[rows, axis].mean() < 0:
            found[k] = twin
    return found


def _matched(
    mesh: Mesh, islands: Islands, rows: AnyArray, others: AnyArray
) -> tuple[AnyArray, AnyArray, AnyArray]:
    """The faces of an island, those of its mirror image, and which of their corners is which."""
    at, p = middles(mesh), mesh.positions.astype(np.float64)
    mirror = np.array([-1.0, 1.0, 1.0])
    _, which = cKDTree(at[others]).query(at[rows] * mirror)
    theirs = others[which]
    mine, yours = islands.faces[rows], islands.faces[theirs]
    here = p[np.maximum(mine, 0)] * mirror
    there = np.where((yours >= 0)[:, :, None], p[np.maximum(yours, 0)], np.inf)
    far = np.linalg.norm(here[:, :, None] - there[:, None], axis=3)
    return rows, theirs, np.where(mine >= 0, np.argmin(far, axis=2), -1)
