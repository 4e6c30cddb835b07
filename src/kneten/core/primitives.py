"""First pieces of clay."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, I32

_SIDES = (
    # Normal axis, its sign, and the two axes that span the side, turned so that quads face outwards.
    (0, 1, 1, 2),
    (0, -1, 2, 1),
    (1, 1, 2, 0),
    (1, -1, 0, 2),
    (2, 1, 0, 1),
    (2, -1, 1, 0),
)


def lattice(a: int, b: int, c: int) -> tuple[I32, I32]:
    """The surface of a box of a by b by c cells: its grid points (n, 3) and outward quads (f, 4)."""
    counts = (a, b, c)
    # A number for each point of each side: memory goes with the surface, not with the room inside.
    sides = {
        (axis, end): np.full([counts[k] + 1 for k in range(3) if k != axis], -1, np.int32)
        for axis in range(3)
        for end in {0, counts[axis]}
    }
    faces, points = [], []
    total = 0
    for axis, sign, first, second in _SIDES:
        index = np.empty((counts[first] + 1, counts[second] + 1, 3), np.int64)
        index[..., axis] = counts[axis] if sign > 0 else 0
        index[..., first] = np.arange(counts[first] + 1)[:, None]
        index[..., second] = np.arange(counts[second] + 1)[None, :]
        flat = index.reshape(-1, 3)
        own = sides[axis, counts[axis] if sign > 0 else 0]
        others = [k for k in range(3) if k != axis]
        added = flat[own[flat[:, others[0]], flat[:, others[1]]] < 0]
        names = total + np.arange(len(added), dtype=np.int32)
        for (across, end), side in sides.items():
            # Points on an edge lie on two sides, corners on three.
            here = added[:, across] == end
            u, v = (k for k in range(3) if k != across)
            side[added[here, u], added[here, v]] = names[here]
        total += len(added)
        points.append(added)
        grid = own[index[..., others[0]], index[..., others[1]]]
        quads = np.stack([grid[:-1, :-1], grid[1:, :-1], grid[1:, 1:], grid[:-1, 1:]], -1)
        faces.append(quads.reshape(-1, 4))
    return np.concatenate(points).astype(np.int32), np.concatenate(faces).astype(np.int32)


def ball(radius: float = 1.0, divisions: int = 64) -> tuple[F32, I32]:
    """A ball without poles: a cube's grid blown up, with nearly even quads.

    Parameters
    ----------
    radius : float
    divisions : int
        Quads along each edge of the cube, even, so that a row of vertices lies in every plane of
        symmetry. The ball has 6 d^2 quads and 6 d^2 + 2 vertices.

    Returns
    -------
    positions : (n, 3) float32
        Exactly symmetric across the three planes.
    faces : (6 d^2, 4) int32
    """
    d = divisions + divisions % 2
    points, faces = lattice(d, d, d)
    # Equal angles instead of equal steps: edges then differ by 1.4 instead of 5 to 1.
    cube = np.tan((2 * points - d) / d * (np.pi / 4))
    positions = cube * (radius / np.sqrt((cube * cube).sum(axis=1, keepdims=True)))
    return positions.astype(np.float32), faces
