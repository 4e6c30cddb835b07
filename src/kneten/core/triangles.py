"""One triangle: where a line meets it, the nearest place of it, and weights of its corners."""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, inlined, kernel


@inlined
def meet(positions: F32, a: int, b: int, c: int, point: F64, way: F64, out: F64) -> float:
    """Where a line meets a triangle (Moeller and Trumbore 1997), from `point` in lengths of `way`; infinity if not.

    `out` (3,) receives the weights of its corners there.
    """
    e1x = np.float64(positions[b, 0]) - positions[a, 0]
    e1y = np.float64(positions[b, 1]) - positions[a, 1]
    e1z = np.float64(positions[b, 2]) - positions[a, 2]
    e2x = np.float64(positions[c, 0]) - positions[a, 0]
    e2y = np.float64(positions[c, 1]) - positions[a, 1]
    e2z = np.float64(positions[c, 2]) - positions[a, 2]
    px = way[1] * e2z - way[2] * e2y
    py = way[2] * e2x - way[0] * e2z
    pz = way[0] * e2y - way[1] * e2x
    det = e1x * px + e1y * py + e1z * pz
    sx = point[0] - positions[a, 0]
    sy = point[1] - positions[a, 1]
    sz = point[2] - positions[a, 2]
    t = np.inf
    u = (sx * px + sy * py + sz * pz) / det if det != 0.0 else -1.0
    if -1e-9 <= u <= 1.0 + 1e-9:
        qx = sy * e1z - sz * e1y
        qy = sz * e1x - sx * e1z
        qz = sx * e1y - sy * e1x
        v = (way[0] * qx + way[1] * qy + way[2] * qz) / det
        if v >= -1e-9 and u + v <= 1.0 + 1e-9:
            out[0] = 1.0 - u - v
            out[1] = u
            out[2] = v
            t = (e2x * qx + e2y * qy + e2z * qz) / det
    return t


@kernel
def nearest_place(p: F64, at: F64, out: F64) -> float:
    """The nearest place of a triangle (Ericson, Real-Time Collision Detection, 5.1.5); its squared distance.

    `at` (3, 3) are its corners; `out` (3,) receives the place.
    """
    d1 = 0.0
    d2 = 0.0
    d3 = 0.0
    d4 = 0.0
    d5 = 0.0
    d6 = 0.0
    for k in range(3):
        ab = at[1, k] - at[0, k]
        ac = at[2, k] - at[0, k]
        d1 += ab * (p[k] - at[0, k])
        d2 += ac * (p[k] - at[0, k])
        d3 += ab * (p[k] - at[1, k])
        d4 += ac * (p[k] - at[1, k])
        d5 += ab * (p[k] - at[2, k])
        d6 += ac * (p[k] - at[2, k])
    va = d3 * d6 - d5 * d4
    vb = d5 * d2 - d1 * d6
    vc = d1 * d4 - d3 * d2
    v = 0.0
    w = 0.0
    if d1 <= 0.0 and d2 <= 0.0:
        pass
    elif d3 >= 0.0 and d4 <= d3:
        v = 1.0
    elif d6 >= 0.0 and d5 <= d6:
        w = 1.0
    elif vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        v = d1 / (d1 - d3)
    elif vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        w = d2 / (d2 - d6)
    elif va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        w = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        v = 1.0 - w
    else:
        v = vb / (va + vb + vc)
        w = vc / (va + vb + vc)
    far = 0.0
    for k in range(3):
        out[k] = at[0, k] + (at[1, k] - at[0, k]) * v + (at[2, k] - at[0, k]) * w
        far += (out[k] - p[k]) ** 2
    return far


@kernel
def weights_at(at: F64, spot: F64, out: F32) -> None:
    """Weights of the corners `at` (3, 3) of a triangle at a place in it."""
    uu = 0.0
    uv = 0.0
    vv = 0.0
    up = 0.0
    vp = 0.0
    for k in range(3):
        u = at[1, k] - at[0, k]
        v = at[2, k] - at[0, k]
        p = spot[k] - at[0, k]
        uu += u * u
        uv += u * v
        vv += v * v
        up += u * p
        vp += v * p
    det = uu * vv - uv * uv
    b = 0.0
    c = 0.0
    if det > 1e-30:
        b = (vv * up - uv * vp) / det
        c = (uu * vp - uv * up) / det
    out[0] = 1.0 - b - c
    out[1] = b
    out[2] = c
