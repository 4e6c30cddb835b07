"""Tangents as the open standard has them that tools and games agree on (Mikkelsen 2008, MikkTSpace).

For each corner of each triangle the way along which the first coordinate of the picture grows on the surface, and on which
side of it the second one does. What a normal map means depends on them: whoever writes one and whoever reads it must
find the same.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F32, F64, I32, I64, U8, AnyArray, kernel

PRESERVING, ANY = 1, 2


def welded(positions: F32, normals: F32, uv: F32) -> tuple[I32, int]:
    """A number for each corner, (t, 3), the same for those alike in place, normal and UV; and how many there are."""
    rows = np.concatenate([positions.reshape(-1, 3), normals.reshape(-1, 3), uv.reshape(-1, 2)], axis=1)
    rows = np.ascontiguousarray(rows, np.float32) + np.float32(0)
    keys = rows.view([("", rows.dtype)] * rows.shape[1]).ravel()
    _, names = np.unique(keys, return_inverse=True)
    corners: I32 = names.reshape(-1, 3).astype(np.int32)
    return corners, int(corners.max(initial=-1)) + 1


@kernel
def _triangles(p: F64, uv: F64, flags: U8, s: F64, t: F64) -> None:
    """For each triangle its two ways, of length one, and what kind it is."""
    for i in range(len(p)):
        t21x, t21y = uv[i, 1, 0] - uv[i, 0, 0], uv[i, 1, 1] - uv[i, 0, 1]
        t31x, t31y = uv[i, 2, 0] - uv[i, 0, 0], uv[i, 2, 1] - uv[i, 0, 1]
        area = t21x * t31y - t21y * t31x
        flags[i] = ANY | (PRESERVING if area > 0 else 0)
        if abs(area) < 1.2e-38:
            continue
        one, two = 0.0, 0.0
        for k in range(3):
            d1, d2 = p[i, 1, k] - p[i, 0, k], p[i, 2, k] - p[i, 0, k]
            s[i, k] = t31y * d1 - t21y * d2
            t[i, k] = -t31x * d1 + t21x * d2
            one += s[i, k] * s[i, k]
            two += t[i, k] * t[i, k]
        one, two = np.sqrt(one), np.sqrt(two)
        sign = 1.0 if area > 0 else -1.0
        for k in range(3):
            if one > 1.2e-38:
                s[i, k] *= sign / one
            if two > 1.2e-38:
                t[i, k] *= sign / two
        if one > 1.2e-38 and two > 1.2e-38:
            flags[i] &= PRESERVING


@kernel
def _groups(names: I32, near: I32, flags: U8, group: I32, preserving: U8) -> int:
    """Groups of corners that share one tangent: round a vertex as far as faces of one hand hang together by edges."""
    count = 0
    stack = np.empty(3 * len(names) + 8, np.int64)
    for f in range(len(names)):
        for c in range(3):
            if flags[f] & ANY or group[f, c] >= 0:
                continue
            vertex = names[f, c]
            hand = flags[f] & PRESERVING
            group[f, c] = count
            preserving[count] = hand
            top = 0
            stack[0] = near[f, c]
            stack[1] = near[f, (c + 2) % 3]
            top = 2
            while top > 0:
                top -= 1
                g = stack[top]
                if g < 0:
                    continue
                k = 0
                while k < 3 and names[g, k] != vertex:
                    k += 1
                if k == 3 or group[g, k] >= 0:
                    continue
                if flags[g] & ANY and group[g, 0] < 0 and group[g, 1] < 0 and group[g, 2] < 0:
                    # The first group that comes says which hand it has.
                    flags[g] = ANY | hand
                if flags[g] & PRESERVING != hand:
                    continue
                group[g, k] = count
                stack[top] = near[g, k]
                stack[top + 1] = near[g, (k + 2) % 3]
                top += 2
            count += 1
    return count


@kernel
def _sums(p: F64, n: F64, flags: U8, s: F64, group: I32, out: F64) -> None:
    """Each group's tangent: of its triangles, laid into the vertex's plane, by their angles there."""
    way = np.empty(3)
    one = np.empty(3)
    two = np.empty(3)
    for f in range(len(p)):
        if flags[f] & ANY:
            continue
        for c in range(3):
            g = group[f, c]
            if g < 0:
                continue
            dot, a, b = 0.0, 0.0, 0.0
            for k in range(3):
                dot += n[f, c, k] * s[f, k]
                a += n[f, c, k] * (p[f, (c + 2) % 3, k] - p[f, c, k])
                b += n[f, c, k] * (p[f, (c + 1) % 3, k] - p[f, c, k])
            long, la, lb = 0.0, 0.0, 0.0
            for k in range(3):
                way[k] = s[f, k] - dot * n[f, c, k]
                one[k] = p[f, (c + 2) % 3, k] - p[f, c, k] - a * n[f, c, k]
                two[k] = p[f, (c + 1) % 3, k] - p[f, c, k] - b * n[f, c, k]
                long += way[k] * way[k]
                la += one[k] * one[k]
                lb += two[k] * two[k]
            long, la, lb = np.sqrt(long), np.sqrt(la), np.sqrt(lb)
            cosine = 0.0
            for k in range(3):
                cosine += (one[k] / la if la > 0 else 0.0) * (two[k] / lb if lb > 0 else 0.0)
            angle = np.arccos(min(max(cosine, -1.0), 1.0))
            for k in range(3):
                out[g, k] += angle * (way[k] / long if long > 0 else way[k])


def _neighbours(names: I32) -> I32:
    """The triangle beyond each side, from corner c to the next, (t, 3) int32; -1 where there is none."""
    here = names.reshape(-1).astype(np.int64)
    there = names[:, [1, 2, 0]].reshape(-1).astype(np.int64)
    n = int(names.max(initial=0)) + 1
    near = np.full(len(here), -1, np.int32)
    order = np.argsort(here * n + there, kind="stable")
    forth = (here * n + there)[order]
    at = np.searchsorted(forth, there * n + here)
    at = np.minimum(at, len(forth) - 1)
    found = (forth[at] == there * n + here) if len(forth) else np.zeros(0, bool)
    near[found] = (order[at[found]] // 3).astype(np.int32)
    return near.reshape(-1, 3)


def tangents_of(positions: F32, normals: F32, uv: F32) -> F32:
    """The tangents of a surface of triangles.

    Parameters
    ----------
    positions, normals : (t, 3, 3) float32
        Of the corners of each triangle; normals of length one.
    uv : (t, 3, 2) float32
        v goes up.

    Returns
    -------
    (t, 3, 4) float32
        For each corner the tangent, of length one, and the sign: the bitangent is sign times normal cross tangent.
    """
    count = len(positions)
    out = np.zeros((count, 3, 4), np.float32)
    # Where no group comes by, as the standard leaves it.
    out[:, :, 0], out[:, :, 3] = 1.0, -1.0
    if not count:
        return out
    names, _ = welded(positions, normals, uv)
    same = (positions[:, [0, 1, 2]] == positions[:, [1, 2, 0]]).all(axis=2).any(axis=1)
    good = np.flatnonzero(~same)
    p, n = positions[good].astype(np.float64), normals[good].astype(np.float64)
    flags = np.zeros(len(good), np.uint8)
    s, t = np.zeros((len(good), 3)), np.zeros((len(good), 3))
    _triangles(p, uv[good].astype(np.float64), flags, s, t)
    group = np.full((len(good), 3), -1, np.int32)
    preserving = np.zeros(3 * len(good) + 1, np.uint8)
    own: I32 = np.ascontiguousarray(names[good])
    groups = _groups(own, _neighbours(own), flags, group, preserving)
    ways = np.zeros((groups + 1, 3))
    _sums(p, n, flags, s, group, ways)
    long = np.linalg.norm(ways, axis=1)
    ways = np.where(long[:, None] > 0, ways / np.maximum(long, 1e-300)[:, None], [1.0, 0.0, 0.0])
    signs = np.where(preserving[:-1] > 0, 1.0, -1.0)
    has = group >= 0
    made = out[good]
    made[has, :3] = ways[group[has]]
    made[has, 3] = signs[group[has]]
    out[good] = made
    _borrowed(out, names, good, np.flatnonzero(same))
    return out


def _borrowed(out: F32, names: I32, good: AnyArray, bad: AnyArray) -> None:
    """Triangles without area take what a sound one has at the same corner."""
    if not len(bad):
        return
    known: dict[int, I64] = {}
    wanted = np.unique(names[bad])
    rows, corners = np.nonzero(np.isin(names[good], wanted))
    for row, corner in zip(good[rows][::-1].tolist(), corners[::-1].tolist(), strict=True):
        known[int(names[row, corner])] = np.array([row, corner])
    for row in bad.tolist():
        for corner in range(3):
            if (found := known.get(int(names[row, corner]))) is not None:
                out[row, corner] = out[found[0], found[1]]
