"""Strands: tubes along points, each with its own thickness, roll and offset; one or hundreds."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation

from kneten.core.arrays import F64, I32
from kneten.core.live.clay import MOST, Clay, RecipeError, clay_of, joined, strips, wall
from kneten.core.live.curves import catmull_rom, lengths_along, travelling_frames

PROFILES = ("round", "rectangle", "drawn")

TAPERS: dict[str, tuple[tuple[float, float], ...]] = {
    "none": ((0.0, 1.0), (1.0, 1.0)),
    "tip": ((0.0, 1.0), (0.5, 0.8), (1.0, 0.04)),
    "both ends": ((0.0, 0.08), (0.2, 0.75), (0.5, 1.0), (0.8, 0.75), (1.0, 0.08)),
    "leaf": ((0.0, 0.15), (0.35, 1.0), (0.7, 0.62), (1.0, 0.03)),
    "club": ((0.0, 0.35), (0.7, 0.7), (1.0, 1.0)),
}
"""Share of the thickness from root (0) to tip (1)."""

STRAIGHT = ((0.0, 0.0), (1.0, 0.0))


@dataclass(frozen=True)
class Knot:
    """A point of a strand.

    Attributes
    ----------
    place : three floats
    thickness : float
        Radius in millimetres.
    roll : float
        Degrees about the strand.
    offset : two floats
        Millimetres away from the point, along the strand's side and up.
    """

    place: tuple[float, float, float]
    thickness: float = 4.0
    roll: float = 0.0
    offset: tuple[float, float] = (0.0, 0.0)


@dataclass(frozen=True)
class Strand:
    """One path.

    Attributes
    ----------
    knots : tuple of Knot
    closed : bool
        The end meets the beginning.
    """

    knots: tuple[Knot, ...]
    closed: bool = False


@dataclass(frozen=True)
class Strands:
    """Tubes along any number of paths.

    Attributes
    ----------
    profile : str
        round, rectangle, or drawn.
    drawn : points
        The drawn profile: a closed curve of (x, y), 1 at the thickness.
    flat : float
        Height of the profile as a share of its width.
    sides : int
        Vertices around.
    spans : int
        Rings between two knots.
    taper : points
        Share of the thickness over the length, 0 at the root to 1 at the tip.
    twist : float
        Degrees over the whole length.
    capped, round_caps : bool
        Open ends are closed, flat or round.
    copies : int
        Further strands beside each path.
    spread : float
        How far from the path copies stand, in thicknesses.
    vary_length, vary_thickness : float
        0..1: how much copies differ.
    vary_turn : float
        Degrees by which copies lean.
    seed : int
        Another arrangement of the copies.
    """

    strands: tuple[Strand, ...] = ()
    profile: str = "round"
    drawn: tuple[tuple[float, float], ...] = ((1.0, 0.0), (0.0, 1.0), (-1.0, 0.0), (0.0, -1.0))
    flat: float = 1.0
    sides: int = 12
    spans: int = 6
    taper: tuple[tuple[float, float], ...] = TAPERS["none"]
    twist: float = 0.0
    capped: bool = True
    round_caps: bool = True
    copies: int = 0
    spread: float = 2.0
    vary_length: float = 0.2
    vary_thickness: float = 0.2
    vary_turn: float = 8.0
    seed: int = 1

    kind = "strand"

    def made(self) -> Clay:
        """The clay. Raises `RecipeError` when there is no strand to make."""
        strands = [s for s in self.strands if _usable(s)]
        if not strands:
            raise RecipeError("a strand needs at least two points that lie apart")
        if self.sides < 3 or self.spans < 1:
            raise RecipeError("a strand needs at least 3 sides and 1 ring between points")
        knots = sum(len(s.knots) for s in strands)
        if knots * self.spans * self.sides * (self.copies + 1) > MOST:
            raise RecipeError(f"so many strands make more than {MOST:,} vertices; choose fewer or coarser")
        outline = self.outline()
        pieces = []
        for number, strand in enumerate(strands):
            pieces.append(self._tube(strand, outline))
            random = np.random.default_rng([self.seed, number])
            for _ in range(self.copies):
                pieces.append(self._tube(self._copy(strand, random), outline))
        return joined(pieces)

    def outline(self) -> F64:
        """The profile, (sides, 2), counter-clockwise, 1 at the thickness. Raises `RecipeError`."""
        n = self.sides + self.sides % 2
        if self.profile == "round":
            t = (np.arange(n) + 0.5) / n * 2 * np.pi
            return np.stack([np.cos(t), np.sin(t) * self.flat], -1)
        if self.profile == "rectangle":
            corners = np.array([[1.0, -self.flat], [1, self.flat], [-1, self.flat], [-1, -self.flat]])
            return _along_polygon(corners, n)
        shape = catmull_rom(np.array(self.drawn), True, 12)
        shape = shape * [1.0, self.flat]
        area = float((shape[:, 0] * np.roll(shape[:, 1], -1) - shape[:, 1] * np.roll(shape[:, 0], -1)).sum())
        if abs(area) < 1e-9:
            raise RecipeError("the drawn profile has no area")
        return _along_polygon(shape if area > 0 else shape[::-1], n)

    def path(self, strand: Strand) -> tuple[F64, F64]:
        """Places (m, 3) along a strand with thickness, roll and offset of each, (m, 4)."""
        knots = strand.knots
        rows = np.array([[*k.place, k.thickness, k.roll, *k.offset] for k in knots])
        curve = catmull_rom(rows[:, :3], strand.closed, self.spans)
        # Values run straight between knots' own: a spline would overshoot into negative thickness.
        count = len(knots)
        at = np.arange(len(curve)) / self.spans
        index = np.arange(count + 1 if strand.closed else count)
        values = [np.interp(at, index, np.resize(rows[:, c], len(index))) for c in range(3, 7)]
        return curve, np.stack(values, -1)

    def _tube(self, strand: Strand, outline: F64) -> Clay:
        curve, values = self.path(strand)
        closed = strand.closed and len(strand.knots) > 2
        along = lengths_along(curve, closed)
        share = along[: len(curve)] / max(along[-1], 1e-12)
        taper = np.array(self.taper)
        if closed:
            thick = values[:, 0]
        else:
            thick = values[:, 0] * np.interp(share, taper[:, 0], taper[:, 1])
        roll = np.radians(values[:, 1] + self.twist * share)
        tangent, side, up = travelling_frames(curve, closed)
        turned = side * np.cos(roll)[:, None] + up * np.sin(roll)[:, None]
        risen = np.cross(tangent, turned)
        middle = curve + turned * values[:, 2:3] + risen * values[:, 3:4]
        around = len(outline)
        capped = self.capped and not closed
        if capped and self.round_caps:
            rows = _with_round_ends(middle, tangent, turned, risen, thick)
            middle, turned, risen, thick = rows
        rings = (
            middle[:, None]
            + turned[:, None] * (outline[None, :, :1] * thick[:, None, None])
            + risen[:, None] * (outline[None, :, 1:] * thick[:, None, None])
        )
        points = rings.reshape(-1, 3)
        faces: list[I32] = [wall(len(rings), around, closed=closed)]
        if capped:
            start = _best_start(outline)
            loop = np.roll(np.arange(around), -start).astype(np.int32)
            faces.append(strips(loop, back=True))
            faces.append(strips((loop + (len(rings) - 1) * around).astype(np.int32)))
        return clay_of(points, faces)

    def _copy(self, strand: Strand, random: np.random.Generator) -> Strand:
        """A strand like it, beside it."""
        angle = random.uniform(0, 2 * np.pi)
        away = self.spread * np.sqrt(random.uniform(0.05, 1))
        longer = 1 - self.vary_length * random.uniform(0, 1)
        thicker = 1 - self.vary_thickness * random.uniform(0, 1)
        lean = Rotation.from_rotvec(np.radians(self.vary_turn) * random.uniform(-1, 1, 3))
        places = np.array([k.place for k in strand.knots])
        _, side, up = travelling_frames(places, strand.closed)
        root = places[0]
        knots = []
        for k, knot in enumerate(strand.knots):
            move = (side[k] * np.cos(angle) + up[k] * np.sin(angle)) * away * knot.thickness
            place = root + lean.apply((places[k] - root) * longer) + move
            x, y, z = (float(v) for v in place)
            knots.append(Knot((x, y, z), knot.thickness * thicker, knot.roll, knot.offset))
        return Strand(tuple(knots), strand.closed)


def _usable(strand: Strand) -> bool:
    places = np.array([k.place for k in strand.knots])
    return len(places) > 1 and bool(np.ptp(places, axis=0).max() > 1e-6)


def _along_polygon(corners: F64, count: int) -> F64:
    """`count` places along a closed polygon, evenly, but corners met exactly where there are enough."""
    along = lengths_along(corners, True)
    whole = np.concatenate([corners, corners[:1]])
    at = np.arange(count) / count * along[-1]
    if count >= 2 * len(corners):
        # The nearest place moves onto each corner, so that edges stay sharp.
        for length in along[:-1]:
            gap = np.abs(at - length)
            at[int(np.argmin(np.minimum(gap, along[-1] - gap)))] = length
        at = np.sort(at)
    return np.stack([np.interp(at, along, whole[:, axis]) for axis in range(2)], -1)


def _best_start(outline: F64) -> int:
    """Where a ladder across the profile begins: the ladder then runs along its length."""
    best, found = np.inf, 0
    n = len(outline)
    for start in range(n):
        ring = np.roll(outline, -start, axis=0)
        rungs = np.linalg.norm(ring[: n // 2] - ring[::-1][: n // 2], axis=1)
        if rungs.max() < best:
            best, found = float(rungs.max()), start
    return found


def _with_round_ends(
    middle: F64, tangent: F64, turned: F64, risen: F64, thick: F64
) -> tuple[F64, F64, F64, F64]:
    """Rings added at both ends that close them like half balls."""
    steps = np.radians([32.0, 62.0])
    rows: list[tuple[F64, F64, F64, float]] = []
    for angle in steps[::-1]:
        rows.append((
            middle[0] - tangent[0] * thick[0] * np.sin(angle), turned[0], risen[0], thick[0] * np.cos(angle)
        ))  # fmt: skip
    for i in range(len(middle)):
        rows.append((middle[i], turned[i], risen[i], float(thick[i])))
    for angle in steps:
        rows.append((
            middle[-1] + tangent[-1] * thick[-1] * np.sin(angle), turned[-1], risen[-1],
            thick[-1] * np.cos(angle),
        ))  # fmt: skip
    parts = list(zip(*rows, strict=True))
    return np.array(parts[0]), np.array(parts[1]), np.array(parts[2]), np.array(parts[3])
