"""Strands: tubes along points, each with its own thickness, roll and offset; one or hundreds."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import manifold3d
import numpy as np
from scipy.spatial.transform import Rotation

from kneten.core.arrays import F64, I32
from kneten.core.live.clay import MOST, Clay, RecipeError, clay_of, even_up, joined, strips, wall
from kneten.core.live.curves import catmull_rom, lengths_along, travelling_frames
from kneten.core.placing import turned_out
from kneten.core.topology import as_faces

PROFILES = ("round", "rectangle", "drawn")

TAPERS: dict[str, tuple[tuple[float, float], ...]] = {
    "none": ((0.0, 1.0), (1.0, 1.0)),
    "tip": ((0.0, 1.0), (0.5, 0.8), (1.0, 0.04)),
    "both ends": ((0.0, 0.08), (0.2, 0.75), (0.5, 1.0), (0.8, 0.75), (1.0, 0.08)),
    "leaf": ((0.0, 0.15), (0.35, 1.0), (0.7, 0.62), (1.0, 0.03)),
    "club": ((0.0, 0.35), (0.7, 0.7), (1.0, 1.0)),
}
"""Share of the thickness from root (0) to tip (1)."""

FOLDS = {"round": 2, "rectangle": 2, "drawn": 1}
"""How often a profile is the same within a whole turn."""

BEND = 0.85
"""How far a profile goes towards the middle of a bend, as a share of the way there."""

LAYING = 3
"""How often a strand's places are spread and laid onto the clay again."""

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
    laid : tuple of rows of places
        Where it lies on clay: its way between each two points. Without, it runs free.
    """

    knots: tuple[Knot, ...]
    closed: bool = False
    laid: tuple[tuple[tuple[float, float, float], ...], ...] = ()

    @property
    def spans(self) -> int:
        """How many pieces its points part it into."""
        return len(self.knots) if self.closed and len(self.knots) > 2 else len(self.knots) - 1


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
        Degrees over the whole length; a closed strand takes as many as bring its profile back upon itself.
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
        n = even_up(self.sides)
        if self.profile == "round":
            t = (np.arange(n) + 0.5) / n * 2 * np.pi
            return np.stack([np.cos(t), np.sin(t) * self.flat], -1)
        if self.profile == "rectangle":
            across, up = self._sides_of_rectangle()
            x, y = np.linspace(-1, 1, across + 1), np.linspace(-self.flat, self.flat, up + 1)
            right, top = (
                np.stack([np.ones(up), y[:-1]], -1),
                np.stack([x[:0:-1], np.full(across, self.flat)], -1),
            )
            return np.concatenate([right, top, -right, -top])
        shape = catmull_rom(np.array(self.drawn), True, 12)
        shape = shape * [1.0, self.flat]
        area = float((shape[:, 0] * np.roll(shape[:, 1], -1) - shape[:, 1] * np.roll(shape[:, 0], -1)).sum())
        if abs(area) < 1e-9:
            raise RecipeError("the drawn profile has no area")
        return _along_polygon(shape if area > 0 else shape[::-1], n)

    def _sides_of_rectangle(self) -> tuple[int, int]:
        """Edges across and up a rectangle, so that they are about as long as each other."""
        half = even_up(self.sides) // 2
        up = int(np.clip(round(half * self.flat / (1 + self.flat)), 1, half - 1))
        return half - up, up

    def path(self, strand: Strand) -> tuple[F64, F64]:
        """Places (m, 3) along a strand with thickness, roll and offset of each, (m, 4)."""
        knots = strand.knots
        rows = np.array([[*k.place, k.thickness, k.roll, *k.offset] for k in knots])
        curve = catmull_rom(rows[:, :3], strand.closed, self.spans)
        if len(strand.laid) == strand.spans:
            curve[: strand.spans * self.spans] = np.concatenate([
                _steps(rows[k, :3], between, rows[(k + 1) % len(rows), :3], self.spans)
                for k, between in enumerate(strand.laid)
            ])  # fmt: skip
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
        # A closed strand's profile comes back upon itself: it turns by as much as takes it there.
        fold = FOLDS[self.profile]
        steps = round(self.twist / 360.0 * fold)
        roll = np.radians(values[:, 1] + (steps * 360.0 / fold if closed else self.twist) * share)
        tangent, side, up = travelling_frames(curve, closed)
        turned = side * np.cos(roll)[:, None] + up * np.sin(roll)[:, None]
        risen = np.cross(tangent, turned)
        middle = curve + turned * values[:, 2:3] + risen * values[:, 3:4]
        around = len(outline)
        capped = self.capped and not closed
        if capped and self.round_caps:
            middle, tangent, turned, risen, thick = _with_round_ends(middle, tangent, turned, risen, thick)
        rings = turned[:, None] * (outline[None, :, :1] * thick[:, None, None]) + risen[:, None] * (
            outline[None, :, 1:] * thick[:, None, None]
        )
        rings = middle[:, None] + _without_overlap(rings, middle, tangent, closed)
        points = [rings.reshape(-1, 3)]
        faces: list[I32] = [wall(len(rings), around)]
        if closed:
            faces.append(_seam(len(rings), around, steps % fold * around // fold))
        if not capped:
            return clay_of(points[0], faces)
        inner, of_cap = self._cap(outline)
        for ring, back in ((0, True), (len(rings) - 1, False)):
            total = sum(len(block) for block in points)
            places = np.concatenate([np.arange(around) + ring * around, np.arange(len(inner)) + total])
            points.append(inner @ rings[ring])
            filling = as_faces(places[of_cap].astype(np.int32))
            faces.append(turned_out(filling) if back else filling)
        return clay_of(np.concatenate(points), faces)

    def _cap(self, outline: F64) -> tuple[F64, I32]:
        """What fills the profile: shares (k, sides) of its points for points within, and faces counter-clockwise."""
        n = len(outline)
        none = np.empty((0, n))
        if self.profile == "rectangle":
            return _grid_cap(*self._sides_of_rectangle())
        if self.profile == "round":
            loop = np.roll(np.arange(n), -_best_start(outline)).astype(np.int32)
            return none, strips(loop)
        return none, np.asarray(manifold3d.triangulate([outline]), np.int32)

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
            knots.append(Knot(_place(place), knot.thickness * thicker, knot.roll, knot.offset))
        return Strand(tuple(knots), strand.closed)


LAID = 16
"""Places between two points of a strand at which it is laid onto clay."""


def laid_onto(strand: Strand, onto: Callable[[F64], F64]) -> Strand:
    """A strand that lies on clay from point to point, its points too.

    Parameters
    ----------
    onto : callable
        Gives for places (k, 3) the nearest ones of the clay.
    """
    knots = onto(np.array([k.place for k in strand.knots]))
    whole = catmull_rom(knots, strand.closed, LAID + 1)[: strand.spans * (LAID + 1)]
    ways = whole.reshape(-1, LAID + 1, 3)
    ends = np.roll(knots, -1, axis=0)[: strand.spans]
    for _ in range(LAYING):
        # Nearest places bunch up over a hollow and part over a ridge: spread again, they come to lie once more.
        inner = onto(ways[:, 1:].reshape(-1, 3)).reshape(-1, LAID, 3)
        ways = np.stack([
            _steps(a, way, b, LAID + 1) for a, way, b in zip(ways[:, 0], inner, ends, strict=True)
        ])  # fmt: skip
    inner = onto(ways[:, 1:].reshape(-1, 3)).reshape(-1, LAID, 3)
    rows = tuple(tuple(_place(place) for place in way) for way in inner)
    held = tuple(replace(knot, place=_place(at)) for knot, at in zip(strand.knots, knots, strict=True))
    return replace(strand, knots=held, laid=rows)


def _place(at: F64) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in at)
    return x, y, z


def _steps(start: F64, between: F64 | tuple[tuple[float, ...], ...], end: F64, count: int) -> F64:
    """`count` even steps along a way from a start to an end, the start among them, (count, 3)."""
    way = np.concatenate([start[None], np.array(between).reshape(-1, 3), end[None]])
    along = lengths_along(way)
    at = np.arange(count) / count * along[-1]
    return np.stack([np.interp(at, along, way[:, axis]) for axis in range(3)], -1)


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


def _seam(rings: int, around: int, shift: int) -> I32:
    """The quads from the last ring to the first, which has turned on by so many places."""
    last, first = np.arange(around) + (rings - 1) * around, np.roll(np.arange(around), -shift)
    return np.stack([last, np.roll(last, -1), np.roll(first, -1), first], -1).astype(np.int32)


def _grid_cap(across: int, up: int) -> tuple[F64, I32]:
    """A grid within the outline of a rectangle, as `Strands._cap` gives it; each point between the four sides' own."""
    n = 2 * (across + up)
    ring = np.full((across + 1, up + 1), -1)
    i, j = np.arange(across + 1), np.arange(up + 1)
    # The outline runs up on the right, back along the top, down on the left, and on along the bottom.
    ring[across, j] = j
    ring[i[::-1], up] = up + i
    ring[0, j[::-1]] = up + across + j
    ring[i, 0] = (2 * up + across + i) % n
    shares: list[F64] = []
    for x in range(1, across):
        for y in range(1, up):
            s, t = x / across, y / up
            share = np.zeros(n)
            # Coons' patch: the sum of both ways between sides, less that between the corners.
            for at, weight in (
                (ring[0, y], 1 - s), (ring[across, y], s), (ring[x, 0], 1 - t), (ring[x, up], t),
                (ring[0, 0], -(1 - s) * (1 - t)), (ring[across, 0], -s * (1 - t)), (ring[0, up], -(1 - s) * t),
                (ring[across, up], -s * t),
            ):  # fmt: skip
                share[at] += weight
            ring[x, y] = n + len(shares)
            shares.append(share)
    faces = np.stack([ring[:-1, :-1], ring[1:, :-1], ring[1:, 1:], ring[:-1, 1:]], -1).reshape(-1, 4)
    return np.array(shares).reshape(-1, n), faces.astype(np.int32)


def _without_overlap(rings: F64, middle: F64, tangent: F64, closed: bool) -> F64:
    """Rings (m, k, 3) about their middles, drawn in on the inside of a bend that is narrower than they are wide.

    Each ring stays on its own side of the planes of those next to it: so the wall never folds over.
    """
    rings = rings.copy()
    count = len(rings)
    for step in (1, -1, 2, -2, 3, -3):
        which = np.arange(count)
        if not closed:
            which = which[np.abs(which + step - (count - 1) / 2) <= (count - 1) / 2]
        there = (which + step) % count
        turns = np.einsum("ij,ij->i", tangent[which], tangent[there]) > 0.1
        which, there = which[turns], there[turns]
        plane = np.sign(step) * tangent[there]
        room = np.einsum("ij,ij->i", middle[there] - middle[which], plane)
        own = tangent[which]
        lean = plane - np.einsum("ij,ij->i", plane, own)[:, None] * own
        steep = np.maximum(np.linalg.norm(lean, axis=1), 1e-12)
        lean /= steep[:, None]
        reach = np.einsum("mkj,mj->mk", rings[which], lean)
        over = np.maximum(reach - (BEND * np.maximum(room, 0) / steep)[:, None], 0)
        rings[which] -= over[:, :, None] * lean[:, None]
    return rings


def _with_round_ends(
    middle: F64, tangent: F64, turned: F64, risen: F64, thick: F64
) -> tuple[F64, F64, F64, F64, F64]:
    """Rings added at both ends that close them like half balls."""
    steps = np.radians([32.0, 62.0])
    within = np.arange(len(middle))
    own = np.concatenate([np.zeros(2, int), within, np.full(2, within[-1])])
    angles = np.concatenate([-steps[::-1], np.zeros(len(middle)), steps])
    way = tangent[own] * (thick[own] * np.sin(angles))[:, None]
    return middle[own] + way, tangent[own], turned[own], risen[own], thick[own] * np.cos(angles)
