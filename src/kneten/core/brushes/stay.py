"""Moves along the surface that do not change it: each vertex ends on the faces it came from."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, inlined, kernel
from kneten.core.mesh import Mesh
from kneten.core.reach import Reach, add_push, over
from kneten.core.workspace import Workspace


@inlined
def _nearest(positions: F32, a: int, b: int, c: int, x: float, y: float, z: float, out: F64) -> float:
    """The place of a triangle nearest to a point, into `out`; its squared distance (Ericson 2005, 5.1.5)."""
    ax = np.float64(positions[a, 0])
    ay = np.float64(positions[a, 1])
    az = np.float64(positions[a, 2])
    ux = positions[b, 0] - ax
    uy = positions[b, 1] - ay
    uz = positions[b, 2] - az
    wx = positions[c, 0] - ax
    wy = positions[c, 1] - ay
    wz = positions[c, 2] - az
    px = x - ax
    py = y - ay
    pz = z - az
    # The mirror image of a triangle has its other two corners in the other order: the shorter side comes first, or else
    # the one less towards the point, so that both are worked out alike, to the bit.
    one = ux * ux + uy * uy + uz * uz
    two = wx * wx + wy * wy + wz * wz
    if two < one or (two == one and wx * px + wy * py + wz * pz < ux * px + uy * py + uz * pz):
        ux, uy, uz, wx, wy, wz = wx, wy, wz, ux, uy, uz
    d1 = ux * px + uy * py + uz * pz
    d2 = wx * px + wy * py + wz * pz
    uu = ux * ux + uy * uy + uz * uz
    uw = ux * wx + uy * wy + uz * wz
    ww = wx * wx + wy * wy + wz * wz
    d3 = d1 - uu
    d4 = d2 - uw
    d5 = d1 - uw
    d6 = d2 - ww
    s = 0.0
    t = 0.0
    vc = d1 * d4 - d3 * d2
    vb = d5 * d2 - d1 * d6
    va = d3 * d6 - d5 * d4
    if d1 <= 0.0 and d2 <= 0.0:
        pass
    elif d3 >= 0.0 and d4 <= d3:
        s = 1.0
    elif d6 >= 0.0 and d5 <= d6:
        t = 1.0
    elif vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        s = d1 / max(d1 - d3, 1e-30)
    elif vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        t = d2 / max(d2 - d6, 1e-30)
    elif va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        t = (d4 - d3) / max((d4 - d3) + (d5 - d6), 1e-30)
        s = 1.0 - t
    else:
        total = va + vb + vc
        if total > 0.0:
            s = vb / total
            t = vc / total
    # Both sides are added up first: where they are as long, it does not matter which of them came first.
    out[0] = ax + (s * ux + t * wx)
    out[1] = ay + (s * uy + t * wy)
    out[2] = az + (s * uz + t * wz)
    return (out[0] - x) ** 2 + (out[1] - y) ** 2 + (out[2] - z) ** 2


@kernel
def stay_kernel(
    positions: F32,
    faces: I32,
    start: I32,
    ring: I32,
    vertices: I32,
    places: I32,
    weights: F32,
    wish: F64,
    push: F64,
    push_weight: F64,
) -> None:
    """Move each vertex by its share of `wish` (k, 3), then onto the nearest place of the faces around it."""
    out = np.empty(3)
    best = np.empty(3)
    for i in range(vertices.shape[0]):
        v = vertices[i]
        w = max(np.float64(weights[i]), 1e-9)
        x = positions[v, 0] + wish[i, 0] * w
        y = positions[v, 1] + wish[i, 1] * w
        z = positions[v, 2] + wish[i, 2] * w
        least = np.inf
        tied = np.inf
        many = 1.0
        for k in range(start[v, 0], start[v, 1]):
            f = ring[k]
            size = 3 if faces[f, 3] < 0 else 4
            own = 0
            while faces[f, own] != v:
                own += 1
            # A quad is cut from this vertex to the opposite one: so mirrored quads are cut alike.
            for half in range(size - 2):
                b = faces[f, (own + 1 + half) % size]
                c = faces[f, (own + 2 + half) % size]
                far = _nearest(positions, v, b, c, x, y, z, out)
                # Of two faces alike, the one with the nearer corners, whatever their order around the vertex; of mirror
                # images their middle, so that what lies on the seam stays there.
                size_of = 0.0
                for a in range(3):
                    size_of += (np.float64(positions[b, a]) - positions[c, a]) ** 2
                if far == least and size_of == tied:
                    many += 1.0
                    best += out
                elif far < least or (far == least and size_of < tied):
                    least = far
                    tied = size_of
                    many = 1.0
                    best[:] = out
        if least < np.inf:
            add_push(
                push,
                push_weight,
                places[i],
                weights[i],
                (best[0] / many - positions[v, 0]) / w,
                (best[1] / many - positions[v, 1]) / w,
                (best[2] / many - positions[v, 2]) / w,
            )


def stay(mesh: Mesh, work: Workspace, reach: Reach, wish: F64) -> None:
    """Ask for moves along the surface towards where vertices wish to go, (k, 3)."""
    shape = mesh.topology
    wish = np.ascontiguousarray(wish)
    over(
        reach,
        lambda rows: stay_kernel(
            mesh.positions,
            shape.faces,
            shape.ring,
            shape.ring_faces,
            reach.vertices[rows],
            reach.places[rows],
            reach.weights[rows],
            wish[rows],
            work.push,
            work.push_weight,
        ),
    )
