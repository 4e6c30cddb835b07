"""Ways straight ahead over clay: from a place on a triangle so far in a direction, and where that comes out."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F32, F64, I32, in_parts, kernel
from kneten.core.mesh import Mesh

STEPS = 4000
"""Triangles crossed on one way at most: what goes in circles about a needle's point ends."""

TINY = 1e-12


@dataclass(frozen=True, eq=False)
class Spots:
    """Places on triangles of a mesh.

    Attributes
    ----------
    faces : (k,) int32
    halves : (k,) int32
        Which triangle of a quad: 0 with the second corner, 1 with the fourth.
    shares : (k, 3) float64
        Weights of the triangle's corners.
    """

    faces: I32
    halves: I32
    shares: F64

    def __len__(self) -> int:
        """How many there are."""
        return len(self.faces)

    def taken(self, rows: I32) -> Spots:
        """Some of them, rows (k,), in this order."""
        return Spots(self.faces[rows], self.halves[rows], self.shares[rows])

    def corners(self, mesh: Mesh) -> I32:
        """The vertices that hold each, (k, 3)."""
        faces = mesh.topology.faces[self.faces]
        second = np.where(self.halves == 0, faces[:, 1], faces[:, 2])
        third = np.where(self.halves == 0, faces[:, 2], faces[:, 3])
        return np.stack([faces[:, 0], second, third], axis=1)

    def places(self, mesh: Mesh) -> F64:
        """Where they are, (k, 3)."""
        at = mesh.positions[self.corners(mesh)].astype(np.float64)
        return np.asarray(np.einsum("kc,kcx->kx", self.shares, at))

    def normals(self, mesh: Mesh) -> F64:
        """Which way is off the clay, (k, 3), units."""
        ways = np.einsum("kc,kcx->kx", self.shares, mesh.normals[self.corners(mesh)].astype(np.float64))
        return np.asarray(ways / np.maximum(np.linalg.norm(ways, axis=1, keepdims=True), TINY))


@kernel
def _find_spots(corners: I32, faces: I32, start: I32, ring: I32, found: I32, halves: I32, order: I32) -> None:
    """The face that holds three vertices, and which of these is which of its triangle's corners; -1 where there is none."""
    for i in range(corners.shape[0]):
        found[i] = -1
        v = corners[i, 0]
        for r in range(start[v, 0], start[v, 1]):
            f = ring[r]
            for half in range(2):
                if half == 1 and faces[f, 3] < 0:
                    break
                mine = (faces[f, 0], faces[f, 1 + half], faces[f, 2 + half])
                met = 0
                for k in range(3):
                    for j in range(3):
                        if mine[k] == corners[i, j]:
                            order[i, k] = j
                            met += 1
                if met == 3:
                    found[i] = f
                    halves[i] = half
                    break
            if found[i] >= 0:
                break


def spots_of(mesh: Mesh, corners: I32, shares: F32 | F64) -> Spots:
    """Places that vertices (k, 3) hold by weights (k, 3), on their triangles.

    Raises
    ------
    ValueError
        Where three vertices make no triangle of the mesh.
    """
    shape = mesh.topology
    found = np.empty(len(corners), np.int32)
    halves = np.zeros(len(corners), np.int32)
    order = np.zeros((len(corners), 3), np.int32)
    _find_spots(
        np.ascontiguousarray(corners), shape.faces, shape.ring, shape.ring_faces, found, halves, order
    )
    if (found < 0).any():
        raise ValueError("places are held by triangles that are not there")
    held = np.take_along_axis(shares.astype(np.float64), order.astype(np.int64), axis=1)
    return Spots(found, halves, np.clip(held, 0.0, 1.0))


@kernel
def walk(
    f: int,
    half: int,
    share0: float,
    share1: float,
    dx: float,
    dy: float,
    dz: float,
    length: float,
    positions: F32,
    faces: I32,
    start: I32,
    ring: I32,
) -> tuple[int, int, float, float, float, float, float, float]:
    """Walk straight ahead, a direction being unfolded over each edge.

    Returns
    -------
    tuple
        Face, half, two shares, the direction there (three numbers), and how much of the way was left where clay ended.
    """
    left = length
    b0 = share0
    b1 = share1
    for _ in range(STEPS):
        a = faces[f, 0]
        b = faces[f, 1 + half]
        c = faces[f, 2 + half]
        ax = float(positions[a, 0])
        ay = float(positions[a, 1])
        az = float(positions[a, 2])
        # The triangle's two edges from its last corner, in which a direction is two numbers.
        ux = ax - positions[c, 0]
        uy = ay - positions[c, 1]
        uz = az - positions[c, 2]
        vx = positions[b, 0] - positions[c, 0]
        vy = positions[b, 1] - positions[c, 1]
        vz = positions[b, 2] - positions[c, 2]
        uu = ux * ux + uy * uy + uz * uz
        uv = ux * vx + uy * vy + uz * vz
        vv = vx * vx + vy * vy + vz * vz
        det = uu * vv - uv * uv
        if det <= TINY * uu * vv or left <= 0.0:
            break
        du = dx * ux + dy * uy + dz * uz
        dv = dx * vx + dy * vy + dz * vz
        r0 = (vv * du - uv * dv) / det
        r1 = (uu * dv - uv * du) / det
        # The direction within the triangle, made a unit.
        wx = r0 * ux + r1 * vx
        wy = r0 * uy + r1 * vy
        wz = r0 * uz + r1 * vz
        norm = np.sqrt(wx * wx + wy * wy + wz * wz)
        if norm < TINY:
            break
        r0 /= norm
        r1 /= norm
        dx = wx / norm
        dy = wy / norm
        dz = wz / norm
        r2 = -r0 - r1
        b2 = 1.0 - b0 - b1
        out = -1
        far = np.inf
        if r0 < -TINY and b0 / -r0 < far:
            far = max(b0, 0.0) / -r0
            out = 0
        if r1 < -TINY and b1 / -r1 < far:
            far = max(b1, 0.0) / -r1
            out = 1
        if r2 < -TINY and b2 / -r2 < far:
            far = max(b2, 0.0) / -r2
            out = 2
        if out < 0 or far >= left:
            b0 += r0 * left
            b1 += r1 * left
            left = 0.0
            break
        b0 = min(max(b0 + r0 * far, 0.0), 1.0)
        b1 = min(max(b1 + r1 * far, 0.0), 1.0)
        b2 = min(max(1.0 - b0 - b1, 0.0), 1.0)
        left -= far
        if out == 0:
            p, q = b, c
            sp, sq = b1, b2
        elif out == 1:
            p, q = c, a
            sp, sq = b2, b0
        else:
            p, q = a, b
            sp, sq = b0, b1
        # The triangle on the other side of the edge: the quad's other half, or another face.
        g = -1
        other = 0
        if faces[f, 3] >= 0 and ((half == 0 and out == 1) or (half == 1 and out == 2)):
            g = f
            other = 1 - half
        else:
            for r in range(start[p, 0], start[p, 1]):
                h = ring[r]
                if h == f:
                    continue
                for k in range(2):
                    if k == 1 and faces[h, 3] < 0:
                        break
                    has = 0
                    for j in range(3):
                        w = faces[h, 0 if j == 0 else j + k]
                        if w in (p, q):
                            has += 1
                    if has == 2:
                        g = h
                        other = k
                        break
                if g >= 0:
                    break
        if g < 0:
            # Clay ends here: the place stays on its edge.
            break
        # Unfold: what goes along the edge stays, what goes across it leads into the next triangle.
        ex = positions[q, 0] - positions[p, 0]
        ey = positions[q, 1] - positions[p, 1]
        ez = positions[q, 2] - positions[p, 2]
        long = np.sqrt(ex * ex + ey * ey + ez * ez)
        if long < TINY:
            break
        ex /= long
        ey /= long
        ez /= long
        t = -1
        for j in range(3):
            w = faces[g, 0 if j == 0 else j + other]
            if w not in (p, q):
                t = w
        if t < 0:
            break
        gx = positions[t, 0] - positions[p, 0]
        gy = positions[t, 1] - positions[p, 1]
        gz = positions[t, 2] - positions[p, 2]
        along = gx * ex + gy * ey + gz * ez
        gx -= along * ex
        gy -= along * ey
        gz -= along * ez
        rise = np.sqrt(gx * gx + gy * gy + gz * gz)
        if rise < TINY:
            break
        here = dx * ex + dy * ey + dz * ez
        across = np.sqrt(max(1.0 - here * here, 0.0))
        dx = here * ex + across * gx / rise
        dy = here * ey + across * gy / rise
        dz = here * ez + across * gz / rise
        whole = sp + sq
        sp = sp / whole if whole > 0 else 0.5
        f = g
        half = other
        b0 = 0.0
        b1 = 0.0
        if faces[f, 0] == p:
            b0 = sp
        elif faces[f, 0] == q:
            b0 = 1.0 - sp
        if faces[f, 1 + half] == p:
            b1 = sp
        elif faces[f, 1 + half] == q:
            b1 = 1.0 - sp
    return f, half, b0, b1, dx, dy, dz, left


@kernel
def _walk_all(
    found: I32,
    halves: I32,
    shares: F64,
    ways: F64,
    lengths: F64,
    positions: F32,
    faces: I32,
    start: I32,
    ring: I32,
    left: F64,
    first: int,
    last: int,
) -> None:
    for i in range(first, last):
        f, half, b0, b1, dx, dy, dz, rest = walk(
            found[i], halves[i], shares[i, 0], shares[i, 1], ways[i, 0], ways[i, 1], ways[i, 2],
            lengths[i], positions, faces, start, ring,
        )  # fmt: skip
        found[i] = f
        halves[i] = half
        shares[i, 0] = b0
        shares[i, 1] = b1
        shares[i, 2] = 1.0 - b0 - b1
        ways[i, 0] = dx
        ways[i, 1] = dy
        ways[i, 2] = dz
        left[i] = rest


def walked(mesh: Mesh, spots: Spots, ways: F64, lengths: F64) -> tuple[Spots, F64, F64]:
    """Where ways straight ahead over clay lead.

    Parameters
    ----------
    ways : (k, 3) float64
        Directions, in the mesh's space; what points off the clay does not count.
    lengths : (k,) float64

    Returns
    -------
    spots : Spots
        Where each comes out, or where clay ended before.
    ways : (k, 3) float64
        The directions there.
    left : (k,) float64
        How much of each way was left where clay ended.
    """
    shape = mesh.topology
    out = Spots(spots.faces.copy(), spots.halves.copy(), spots.shares.copy())
    ways = np.array(ways, np.float64)
    left = np.zeros(len(spots))
    arrays = (mesh.positions, shape.faces, shape.ring, shape.ring_faces)
    in_parts(
        len(spots),
        lambda first, last: _walk_all(
            out.faces, out.halves, out.shares, ways, lengths, *arrays, left, first, last
        ),
        least=2000,
    )
    return out, ways, left
