"""Slivers beside a seam: where two surfaces cut each other, triangles as thin as chance has it are drawn together.

A needle loses its short side, a cap its long one: the two cases of Botsch and Kobbelt, "A robust procedure to eliminate
degenerate faces from triangle meshes" (2001), here within a small share of an edge of where the surface was.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F64, I32, U8, AnyArray, kernel

THIN = 6.0
"""How drawn out a triangle may be, 1 for an even one."""

OUTER = 2
"""Of a vertex at the rim of what is looked at: it stays, and what lies next to it beyond is not known."""

OFF = 0.02
"""Share of the mean edge that the surface may move by."""

SAME = 0.03
"""Share of the mean edge within which two places are one."""

PASSES = 24

NEAR = 0.2
FLAT = 0.9
"""Cosine between what a triangle faces before and after."""


@kernel
def _cross(p: F64, a: int, b: int, c: int, out: F64) -> float:
    """Twice a triangle's area as a vector; its length."""
    ux, uy, uz = p[b, 0] - p[a, 0], p[b, 1] - p[a, 1], p[b, 2] - p[a, 2]
    wx, wy, wz = p[c, 0] - p[a, 0], p[c, 1] - p[a, 1], p[c, 2] - p[a, 2]
    out[0] = uy * wz - uz * wy
    out[1] = uz * wx - ux * wz
    out[2] = ux * wy - uy * wx
    return np.sqrt(out[0] * out[0] + out[1] * out[1] + out[2] * out[2])


@kernel
def _gap2(p: F64, a: int, b: int) -> float:
    return (p[a, 0] - p[b, 0]) ** 2 + (p[a, 1] - p[b, 1]) ** 2 + (p[a, 2] - p[b, 2]) ** 2


@kernel
def _drawn_out(p: F64, a: int, b: int, c: int, out: F64) -> float:
    """How drawn out a triangle is; `out` gets its area vector."""
    area = _cross(p, a, b, c, out)
    longest = max(_gap2(p, a, b), _gap2(p, b, c), _gap2(p, c, a))
    return 0.8660254 * longest / max(area, 1e-30)


@kernel
def _thinness(p: F64, triangles: I32, out: F64) -> None:
    way = np.empty(3)
    for t in range(triangles.shape[0]):
        out[t] = _drawn_out(p, triangles[t, 0], triangles[t, 1], triangles[t, 2], way)


@kernel
def _beside(triangles: I32, start: I32, ring: I32, u: int, v: int, out: I32) -> int:
    """The triangles with both vertices, at most two; how many there are."""
    n = 0
    for k in range(start[u], start[u + 1]):
        t = ring[k]
        if triangles[t, 0] == v or triangles[t, 1] == v or triangles[t, 2] == v:
            if n < 2:
                out[n] = t
            n += 1
    return n


@kernel
def _meet(triangles: I32, start: I32, ring: I32, u: int, v: int) -> int:
    """How many vertices are next to both."""
    n = 0
    for k in range(start[u], start[u + 1]):
        for i in range(3):
            w = triangles[ring[k], i]
            if w in (u, v):
                continue
            # Each neighbour of `u` comes twice: it counts where it is the next one round.
            if triangles[ring[k], (i + 2) % 3] != u:
                continue
            for m in range(start[w], start[w + 1]):
                t = ring[m]
                if triangles[t, 0] == v or triangles[t, 1] == v or triangles[t, 2] == v:
                    n += 1
                    break
    return n


@kernel
def _drawn_to(p: F64, triangles: I32, start: I32, ring: I32, thin: F64, u: int, v: int, off: float) -> float:
    """How drawn out the worst triangle gets when `u` goes to where `v` is; infinite when that would harm the surface."""
    before = np.empty(3)
    after = np.empty(3)
    worst = 0.0
    # A step that is next to nothing turns only what is next to nothing.
    flat = FLAT if _gap2(p, u, v) > off * off else NEAR
    for k in range(start[u], start[u + 1]):
        t = ring[k]
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        if a == v or b == v or c == v:
            continue
        old = _cross(p, a, b, c, before)
        a, b, c = v if a == u else a, v if b == u else b, v if c == u else c
        worst = max(worst, _drawn_out(p, a, b, c, after))
        new = np.sqrt(after[0] ** 2 + after[1] ** 2 + after[2] ** 2)
        facing = before[0] * after[0] + before[1] * after[1] + before[2] * after[2]
        # What the thinnest slivers face is chance, that of others is not much more.
        if thin[t] < 4 * THIN and facing < flat * old * new:
            return np.inf
        if thin[t] < 1000 * THIN and facing < 0.0:
            return np.inf
        if thin[t] < 4 * THIN:
            away = (
                before[0] * (p[v, 0] - p[u, 0])
                + before[1] * (p[v, 1] - p[u, 1])
                + before[2] * (p[v, 2] - p[u, 2])
            ) / max(old, 1e-30)
            if abs(away) > off:
                return np.inf
    return worst


@kernel
def _pass(
    p: F64,
    triangles: I32,
    start: I32,
    ring: I32,
    thin: F64,
    order: I32,
    fixed: U8,
    seam: U8,
    edge: float,
    touched: U8,
    gone: U8,
) -> int:
    """Draw together or turn what is too thin, the worst first, each place once; how many changes there were."""
    two = np.empty(2, np.int32)
    after = np.empty(3)
    facing = np.empty(3)
    changes = 0
    for at in range(order.shape[0]):
        t = order[at]
        if gone[t]:
            continue
        clear = True
        for i in range(3):
            if touched[triangles[t, i]]:
                clear = False
        if not clear:
            continue
        # The shortest side, each end going to the other.
        best = thin[t]
        keep, away = -1, -1
        shortest, longest = 0, 0
        for i in range(3):
            gap = _gap2(p, triangles[t, i], triangles[t, (i + 1) % 3])
            if gap < _gap2(p, triangles[t, shortest], triangles[t, (shortest + 1) % 3]):
                shortest = i
            if gap > _gap2(p, triangles[t, longest], triangles[t, (longest + 1) % 3]):
                longest = i
        a, b = triangles[t, shortest], triangles[t, (shortest + 1) % 3]
        # Places that all but coincide are one, however thin what is around them still is.
        same = _gap2(p, a, b) < (SAME * edge) ** 2
        if same:
            best = np.inf
        if _gap2(p, a, b) < (0.5 * edge) ** 2:
            for side in range(2):
                u, v = (a, b) if side == 0 else (b, a)
                if fixed[u] or fixed[v] == OUTER or (seam[u] and not seam[v] and not same):
                    continue
                if (
                    _beside(triangles, start, ring, u, v, two) != 2
                    or _meet(triangles, start, ring, u, v) != 2
                ):
                    continue
                worst = _drawn_to(p, triangles, start, ring, thin, u, v, OFF * edge)
                if worst < (best if same else 0.8 * best):
                    best, keep, away = worst, v, u
        if keep >= 0:
            seam[keep] |= seam[away]
            for k in range(start[away], start[away + 1]):
                s = ring[k]
                for i in range(3):
                    touched[triangles[s, i]] = 1
                if triangles[s, 0] == keep or triangles[s, 1] == keep or triangles[s, 2] == keep:
                    gone[s] = 1
                else:
                    for i in range(3):
                        if triangles[s, i] == away:
                            triangles[s, i] = keep
            # The ring of what stays has changed as well.
            for k in range(start[keep], start[keep + 1]):
                for i in range(3):
                    touched[triangles[ring[k], i]] = 1
            changes += 1
            continue
        # The longest side is turned, when that moves the surface by next to nothing.
        a, b, c = triangles[t, longest], triangles[t, (longest + 1) % 3], triangles[t, (longest + 2) % 3]
        if _cross(p, a, b, c, after) / max(np.sqrt(_gap2(p, a, b)), 1e-30) > OFF * edge:
            continue
        if _beside(triangles, start, ring, a, b, two) != 2:
            continue
        s = two[0] if two[1] == t else two[1]
        d = triangles[s, 0]
        for i in range(3):
            if triangles[s, i] != a and triangles[s, i] != b:
                d = triangles[s, i]
        if touched[d] or d == c or (fixed[c] == OUTER and fixed[d] == OUTER):
            continue
        if _beside(triangles, start, ring, c, d, two) != 0:
            continue
        old = _cross(p, triangles[s, 0], triangles[s, 1], triangles[s, 2], facing)
        fine = True
        worst = 0.0
        for half in range(2):
            x, y, z = (a, d, c) if half == 0 else (d, b, c)
            worst = max(worst, _drawn_out(p, x, y, z, after))
            new = np.sqrt(after[0] ** 2 + after[1] ** 2 + after[2] ** 2)
            if after[0] * facing[0] + after[1] * facing[1] + after[2] * facing[2] < FLAT * old * new:
                fine = False
        if not fine or worst >= max(thin[t], thin[s]):
            continue
        triangles[t, 0], triangles[t, 1], triangles[t, 2] = a, d, c
        triangles[s, 0], triangles[s, 1], triangles[s, 2] = d, b, c
        touched[a] = touched[b] = touched[c] = touched[d] = 1
        changes += 1
    return changes


def without_slivers(
    positions: F64, triangles: I32, seam: AnyArray, held: AnyArray
) -> tuple[I32, AnyArray, AnyArray]:
    """Triangles of a closed surface without the slivers beside a seam.

    Parameters
    ----------
    positions : (n, 3) float64
    triangles : (t, 3) int32
    seam : (n,) bool
        Vertices on the seam: they are drawn together only with each other.
    held : (n,) bool
        Vertices that stay, and so does what lies between three of them.

    Returns
    -------
    triangles : (s, 3) int32
    which : (s,)
        The triangle each of them was.
    changed : (n,) bool
        Vertices around which triangles are others than before.
    """
    near = seam
    for _ in range(3):
        at = near[triangles].any(axis=1) & ~held[triangles].all(axis=1)
        near = np.zeros(len(positions), bool)
        near[triangles[at]] = True
    own = np.flatnonzero(at)
    if not len(own):
        return triangles, np.arange(len(triangles)), np.zeros(len(positions), bool)
    used, at_local = np.unique(triangles[own], return_inverse=True)
    local: I32 = np.ascontiguousarray(at_local.reshape(-1, 3), np.int32)
    outside = np.zeros(len(positions), bool)
    outside[triangles[~at]] = True
    fixed = np.where(outside, OUTER, held)[used].astype(np.uint8)
    points, on_seam = np.ascontiguousarray(positions[used]), seam[used].astype(np.uint8)
    sides = np.linalg.norm(points[local] - points[np.roll(local, 1, axis=1)], axis=2)
    edge = float(np.median(sides))
    changed = np.zeros(len(positions), bool)
    for _ in range(PASSES):
        thin = np.empty(len(local))
        _thinness(points, local, thin)
        order = np.flatnonzero(thin > THIN)
        if not len(order):
            break
        corners = local.reshape(-1)
        ring = (np.argsort(corners, kind="stable") // 3).astype(np.int32)
        start = np.zeros(len(used) + 1, np.int32)
        np.cumsum(np.bincount(corners, minlength=len(used)), out=start[1:])
        gone = np.zeros(len(local), np.uint8)
        worst_first = order[np.argsort(-thin[order], kind="stable")].astype(np.int32)
        touched = np.zeros(len(used), np.uint8)
        if not _pass(points, local, start, ring, thin, worst_first, fixed, on_seam, edge, touched, gone):
            break
        changed[used[touched != 0]] = True
        local, own = local[gone == 0], own[gone == 0]
    kept = np.flatnonzero(~at)
    return (
        np.concatenate([triangles[kept], used[local].astype(np.int32)]),
        np.concatenate([kept, own]),
        changed,
    )
