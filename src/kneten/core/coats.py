"""The coats that a stroke of Press lays: how what dabs ask for is added to them, and evened where it would fold."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, U8, U32, kernel
from kneten.core.topology import PATCH, PATCH_BITS

ADD, HIGHEST, EVEN = 0, 1, 2
COATS = {"add": ADD, "highest": HIGHEST, "even": EVEN}


@kernel
def apply_press(
    positions: F32,
    origin: F32,
    coat: F64,
    push: F64,
    push_weight: F64,
    lean: F64,
    way: int,
    gain: float,
    limit: float,
    stamp: I32,
    base: int,
    vertices: U32,
    places: U32,
    first: int,
    last: int,
    moved: U32,
    was: F32,
    n_moved: int,
    longest: F64,
) -> int:
    """Add what one twin's vertices were asked for to their coats, each vertex once, and bring them there.

    As `reach.apply_push`, which says what the others are.

    Parameters
    ----------
    coat : (slots * 512, 7) float64
        The height now; for an even coat the sums of holds and of heights by them; the firmest hold; the sum of the ways it is
        to go by the holds.
    way : int
        Of `COATS`.
    gain : float
        What a dab is worth where they add up.
    """
    farthest = 0.0
    for i in range(first, last):
        v = vertices[i]
        if stamp[v] >= base:
            continue
        stamp[v] = base + n_moved
        moved[n_moved] = v
        n_moved += 1
        at = places[i]
        px = positions[v, 0]
        py = positions[v, 1]
        pz = positions[v, 2]
        was[n_moved - 1, 0] = px
        was[n_moved - 1, 1] = py
        was[n_moved - 1, 2] = pz
        total = push_weight[at, 0]
        if total <= 0.0:
            continue
        hold = push_weight[at, 1]
        asked = push[at, 0] / total
        push[at, 0] = 0.0
        push_weight[at, 0] = 0.0
        push_weight[at, 1] = 0.0
        # The dab with the firmest hold says most, of the height as of the way it goes.
        firm = hold * hold
        firm *= firm
        share = firm / total
        x = coat[at, 4] + share * lean[at, 0]
        y = coat[at, 5] + share * lean[at, 1]
        z = coat[at, 6] + share * lean[at, 2]
        coat[at, 4] = x
        coat[at, 5] = y
        coat[at, 6] = z
        lean[at, 0] = 0.0
        lean[at, 1] = 0.0
        lean[at, 2] = 0.0
        coat[at, 3] = max(coat[at, 3], hold)
        height = coat[at, 0]
        if way == ADD:
            height += asked * hold * gain
        elif way == HIGHEST:
            if abs(asked * hold) > abs(height):
                height = asked * hold
        else:
            coat[at, 1] += firm
            coat[at, 2] += firm * asked
            height = coat[at, 3] * coat[at, 2] / coat[at, 1]
        height = min(max(height, -limit), limit)
        coat[at, 0] = height
        along = height / max(np.sqrt(x * x + y * y + z * z), 1e-30)
        positions[v, 0] = origin[at, 0] + x * along
        positions[v, 1] = origin[at, 1] + y * along
        positions[v, 2] = origin[at, 2] + z * along
        dx = positions[v, 0] - px
        dy = positions[v, 1] - py
        dz = positions[v, 2] - pz
        farthest = max(farthest, dx * dx + dy * dy + dz * dz)
    longest[0] = np.sqrt(farthest)
    return n_moved


@kernel
def apply_deep(
    positions: F32,
    origin: F32,
    coat: F64,
    push_weight: F64,
    lean: F64,
    way: int,
    stamp: I32,
    base: int,
    vertices: U32,
    places: U32,
    first: int,
    last: int,
    moved: U32,
    was: F32,
    n_moved: int,
    longest: F64,
) -> int:
    """The same as `apply_press` for whole moves."""
    farthest = 0.0
    for i in range(first, last):
        v = vertices[i]
        if stamp[v] >= base:
            continue
        stamp[v] = base + n_moved
        moved[n_moved] = v
        n_moved += 1
        at = places[i]
        px = positions[v, 0]
        py = positions[v, 1]
        pz = positions[v, 2]
        was[n_moved - 1, 0] = px
        was[n_moved - 1, 1] = py
        was[n_moved - 1, 2] = pz
        total = push_weight[at, 0]
        if total <= 0.0:
            continue
        share = push_weight[at, 1] / total
        x = lean[at, 0] * share
        y = lean[at, 1] * share
        z = lean[at, 2] * share
        push_weight[at, 0] = 0.0
        push_weight[at, 1] = 0.0
        lean[at, 0] = 0.0
        lean[at, 1] = 0.0
        lean[at, 2] = 0.0
        ox = coat[at, 4]
        oy = coat[at, 5]
        oz = coat[at, 6]
        if way == ADD:
            x += ox
            y += oy
            z += oz
        else:
            old = np.sqrt(ox * ox + oy * oy + oz * oz)
            new = np.sqrt(x * x + y * y + z * z)
            share = 1.0 if new >= old else 0.0
            if way == EVEN and old + new > 0.0:
                # Each has as much to say as it moves: they pass into each other, and the same once more changes nothing.
                share = new / (old + new)
            x = ox + share * (x - ox)
            y = oy + share * (y - oy)
            z = oz + share * (z - oz)
        coat[at, 4] = x
        coat[at, 5] = y
        coat[at, 6] = z
        positions[v, 0] = origin[at, 0] + x
        positions[v, 1] = origin[at, 1] + y
        positions[v, 2] = origin[at, 2] + z
        dx = positions[v, 0] - px
        dy = positions[v, 1] - py
        dz = positions[v, 2] - pz
        farthest = max(farthest, dx * dx + dy * dy + dz * dz)
    longest[0] = np.sqrt(farthest)
    return n_moved


@kernel
def even_heights(
    positions: F32,
    origin: F32,
    patch_slot: I32,
    faces: I32,
    start: I32,
    ring: I32,
    moved: U32,
    marked: U8,
    moves: F64,
) -> None:
    """Move marked vertices (of `moved`) by the mean of those around them, from where the stroke found them; `moves` is room."""
    for i in range(marked.shape[0]):
        if marked[i] == 0:
            continue
        v = np.int64(moved[i])
        x = 0.0
        y = 0.0
        z = 0.0
        count = 0
        for k in range(start[v, 0], start[v, 1]):
            for c in range(4):
                u = faces[ring[k], c]
                if u < 0:
                    continue
                count += 1
                slot = patch_slot[u >> PATCH_BITS]
                if slot < 0:
                    continue
                at = (slot << PATCH_BITS) + (u & (PATCH - 1))
                x += np.float64(positions[u, 0]) - origin[at, 0]
                y += np.float64(positions[u, 1]) - origin[at, 1]
                z += np.float64(positions[u, 2]) - origin[at, 2]
        moves[i, 0] = x / max(count, 1)
        moves[i, 1] = y / max(count, 1)
        moves[i, 2] = z / max(count, 1)
    for i in range(marked.shape[0]):
        if marked[i] == 0:
            continue
        v = np.int64(moved[i])
        at = (patch_slot[v >> PATCH_BITS] << PATCH_BITS) + (v & (PATCH - 1))
        for a in range(3):
            positions[v, a] = origin[at, a] + moves[i, a]


def ask_alike(push: F64, push_weight: F64, lean: F64, places: I32, twins: I32, mirror: F64) -> None:
    """Ask at twins' rows (k,) for the heights that are asked for at `places` (k,), the ways turned over by `mirror` (3, 3)."""
    asked, holds, ways = push[places, 0], push_weight[places], lean[places] @ mirror.T
    lean[twins] += ways
    push[twins, 0] += asked
    push_weight[twins, 0] += holds[:, 0]
    push_weight[twins, 1] = np.maximum(push_weight[twins, 1], holds[:, 1])
