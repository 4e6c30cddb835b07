"""A limb bent along its middle: hinges with soft bands on a line, and what becomes of the clay around it.

Each vertex of a limb has a *station*: how far along the middle line it lies. The line is bent by turning its tangent at
each hinge, softly over the hinge's band, and walking along it again; the clay goes along with its station's place and turn:

    p' = C(s) + M(s) (p - c(s))

c is the line as it was, C as it is, M the turn there with what the limb swells by across. The line keeps its length, and
where it is bent the outside gains what the inside loses, so that the volume stays. For a vertex this is an affine map:
it is undone exactly, and moves can be told from before it.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from scipy.spatial.transform import Rotation

from kneten.core.arrays import F32, F64, I32, in_parts, inlined, kernel
from kneten.core.words import all_finite

STEPS = 400
"""Places along a line at which its turn is worked out."""

WIDEN = 1.6
"""Radii that a band takes at least for a radian of bend: less would fold the inside of it."""

REACH = 2.6
"""Radii on the body's side of the first hinge that a band may reach."""

MOST_BEND, MOST_TWIST = 175.0, 720.0

LEAST_LENGTH, MOST_LENGTH = 0.2, 5.0


@dataclass(frozen=True)
class Hinge:
    """One place where a limb bends.

    Attributes
    ----------
    at : float
        Its station, mm.
    band : float
        How far along the limb the bend spreads, mm.
    radius : float
        Of the limb there, mm.
    bend : three floats
        Axis of the bend times its angle in degrees, in the limb's frame at rest: across, aside and along (0).
    twist : float
        Degrees about the limb; it spreads up to the next hinge.
    length, thickness : float
        What the limb becomes longer and thicker by from here to the next hinge; 1 leaves it.
    limit : float
        Degrees that it bends at most when its chain is pulled.
    """

    at: float
    band: float
    radius: float
    bend: tuple[float, float, float] = (0.0, 0.0, 0.0)
    twist: float = 0.0
    length: float = 1.0
    thickness: float = 1.0
    limit: float = 120.0

    @property
    def usable(self) -> bool:
        """Whether its numbers make sense."""
        sizes = self.band > 0 and self.radius > 0 and 0 < self.limit <= MOST_BEND
        grows = all(LEAST_LENGTH <= one <= MOST_LENGTH for one in (self.length, self.thickness))
        turns = (
            len(self.bend) == 3 and float(np.linalg.norm(self.bend)) <= 200 and abs(self.twist) <= MOST_TWIST
        )
        return all_finite(vars(self)) and sizes and grows and turns


@dataclass(frozen=True, eq=False)
class Limb:
    """Clay of a part that goes along with a line.

    Attributes
    ----------
    rows : (k,) int32
        Its vertices, ascending.
    station : (k,) float32
        How far along the line each lies, mm; negative on the body's side of the first hinge.
    line : (m, 3) float32
        The line at even steps, in the part's axes.
    first : float
        The station at which it begins.
    step : float
        Between two of its places.
    across : (3,) float64
        The axis about which the limb curls, square to the line where that begins.
    mirrored : bool
        It bends as the mirror image of what the hinges say.
    """

    rows: I32
    station: F32
    line: F32
    first: float
    step: float
    across: F64
    mirrored: bool = False

    @property
    def last(self) -> float:
        """The station of the line's end."""
        return self.first + self.step * (len(self.line) - 1)

    def frames(self, stations: F64) -> tuple[F64, F64]:
        """Places (k, 3) of the line at stations (k,), and frames (k, 3, 3): rows across, aside and along."""
        known = self.first + self.step * np.arange(len(self.line))
        tangents, acrosses = self._carried
        line = self.line.astype(np.float64)
        along, across, places = (
            np.stack([np.interp(stations, known, rows[:, k]) for k in range(3)], axis=1)
            for rows in (tangents, acrosses, line)
        )
        along /= np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-12)
        across -= np.einsum("ij,ij->i", across, along)[:, None] * along
        across /= np.maximum(np.linalg.norm(across, axis=1, keepdims=True), 1e-12)
        # Before its first place a line goes on straight, and after its last.
        places += np.minimum(stations - known[0], 0.0)[:, None] * tangents[0]
        places += np.maximum(stations - known[-1], 0.0)[:, None] * tangents[-1]
        aside = np.cross(along, across) * (-1.0 if self.mirrored else 1.0)
        return places, np.stack([across, aside, along], axis=1)

    def grid(self, before: float) -> tuple[F64, F64, F64]:
        """Stations (2 STEPS - 1,) from so far before the first hinge to the end, their places and which way the line leads, (k, 3)."""
        held = self._grids.get(before)
        if held is None:
            stations = np.linspace(-before, self.last, 2 * STEPS - 1)
            places, frames = self.frames(stations)
            held = self._grids[before] = (stations, places, np.ascontiguousarray(frames[:, 2]))
        return held

    @cached_property
    def _grids(self) -> dict[float, tuple[F64, F64, F64]]:
        return {}

    @cached_property
    def _carried(self) -> tuple[F64, F64]:
        """Which way the line leads at each of its places, (m, 3), and the axis across, carried along with the least turn."""
        tangents = np.gradient(self.line.astype(np.float64), axis=0)
        tangents /= np.maximum(np.linalg.norm(tangents, axis=1, keepdims=True), 1e-12)
        acrosses = np.empty_like(tangents)
        across = self.across
        for k, along in enumerate(tangents):
            across = across - (across @ along) * along
            across = across / max(float(np.linalg.norm(across)), 1e-12)
            acrosses[k] = across
        return tangents, acrosses

    def scaled(self, rows: I32, station: F32, line: F32, scale: float, across: F64) -> Limb:
        """The same limb over other clay, rows (k,) at stations (k,) along a line (m, 3), whose lengths are `scale` times as many; its curl is about `across` (3,)."""
        return replace(
            self,
            rows=rows,
            station=station,
            line=line,
            first=self.first * scale,
            step=self.step * scale,
            across=across,
        )


@dataclass(frozen=True, eq=False)
class Pose:
    """How limbs of a part are posed: those of a pose bend as one, mirrored or not."""

    limbs: tuple[Limb, ...]
    hinges: tuple[Hinge, ...]

    @property
    def nbytes(self) -> int:
        """Bytes of its arrays."""
        return sum(one.rows.nbytes + one.station.nbytes + one.line.nbytes for one in self.limbs)

    def with_hinge(self, index: int, hinge: Hinge) -> Pose:
        """The pose with another hinge in the place of one."""
        return replace(self, hinges=(*self.hinges[:index], hinge, *self.hinges[index + 1 :]))

    @property
    def still(self) -> bool:
        """Whether it leaves the clay where it is."""
        return all(not any(h.bend) and not h.twist and h.length == h.thickness == 1 for h in self.hinges)

    def posed(self, positions: F32, share: float, back: bool = False) -> F32:
        """Places (n, 3) of all of a part with its limbs posed by a share of their angles; with `back` brought back from that."""
        out = positions.copy()
        for limb in reversed(self.limbs) if back else self.limbs:
            course = course_of(limb, self.hinges, share)
            out[limb.rows] = _run(limb, course, out, limb.rows, limb.station, back, False)
        return out

    def turned(self, rows: I32, moves: F32, share: float, back: bool = False) -> F32:
        """Moves (k, 3) of vertices `rows`, ascending (k,), as they are once these are posed; with `back` as they were before."""
        out = moves.astype(np.float32, copy=True)
        for limb in reversed(self.limbs) if back else self.limbs:
            at = np.searchsorted(limb.rows, rows)
            at = np.minimum(at, max(len(limb.rows) - 1, 0))
            own = np.flatnonzero(limb.rows[at] == rows) if len(limb.rows) else np.empty(0, np.int64)
            if len(own):
                course = course_of(limb, self.hinges, share)
                some, stations = np.ascontiguousarray(out[own]), limb.station[at[own]]
                out[own] = _run(limb, course, some, rows[own].astype(np.int32), stations, back, True)
        return out


@dataclass(frozen=True, eq=False)
class Course:
    """Where a limb's line leads when it is posed.

    Attributes
    ----------
    first, step : float
        Stations of the table's rows.
    table : (STEPS, 15) float64
        For each: its place at rest, its place now, and M as three rows.
    """

    first: float
    step: float
    table: F64

    def at(self, station: float) -> tuple[F64, F64, F64]:
        """The place at rest and now, (3,) each, and M (3, 3), of a station."""
        x = np.clip((station - self.first) / self.step, 0.0, len(self.table) - 1.0)
        low = min(int(x), len(self.table) - 2)
        row = self.table[low] * (1 - (x - low)) + self.table[low + 1] * (x - low)
        return row[:3], row[3:6], row[6:].reshape(3, 3)

    def moved(self, point: F64, station: float) -> F64:
        """Where a place (3,) at a station is now."""
        rest, now, matrix = self.at(station)
        return np.asarray(now + matrix @ (point - rest))


def band_of(hinge: Hinge, share: float) -> float:
    """How far a hinge's bend spreads, mm: wider where it would fold the clay's inside."""
    angle = np.radians(float(np.linalg.norm(hinge.bend)) * abs(share))
    wide = max(hinge.band, WIDEN * hinge.radius * angle)
    return float(min(wide, 2 * REACH * hinge.radius))


def ends_of(hinges: tuple[Hinge, ...], last: float) -> list[float]:
    """The station up to which each hinge twists, lengthens and thickens: the next one's, or near the limb's end."""
    after = [hinge.at for hinge in hinges[1:]]
    begins = hinges[-1].at
    return [*after, begins + 0.8 * max(last - begins, 0.0)]


@inlined
def _soft(x: float) -> float:
    t = min(max(x + 0.5, 0.0), 1.0)
    return t * t * (3.0 - 2.0 * t)


@inlined
def _turn(m: F64, x: float, y: float, z: float) -> None:
    """Turn (3, 3) further, by a rotation vector of its own axes (Rodrigues)."""
    angle = np.sqrt(x * x + y * y + z * z)
    # A turn too small to have an axis is left out.
    scale = 1.0 / max(angle, 1e-12)
    x, y, z = x * scale, y * scale, z * scale
    c, s = np.cos(angle), np.sin(angle)
    d = 1.0 - c
    for row in range(3):
        p, q, r = m[row, 0], m[row, 1], m[row, 2]
        m[row, 0] = p * (c + x * x * d) + q * (x * y * d + z * s) + r * (x * z * d - y * s)
        m[row, 1] = p * (x * y * d - z * s) + q * (c + y * y * d) + r * (y * z * d + x * s)
        m[row, 2] = p * (x * z * d + y * s) + q * (y * z * d - x * s) + r * (c + z * z * d)


@kernel
def _course(stations: F64, places: F64, along: F64, numbers: F64, table: F64) -> None:
    """Fill a course's table, (k, 15), from its places at rest and half-way between, (2 k - 1, 3).

    `numbers` has for each hinge: station, band, axis and angle of its bend (3), twist, reach, length, thickness.
    """
    m = np.empty((3, 3))
    now = places[0].copy()
    for i in range(stations.shape[0]):
        s = stations[i]
        for row in range(3):
            for k in range(3):
                m[row, k] = 1.0 if row == k else 0.0
        long, thick = 1.0, 1.0
        for h in range(numbers.shape[0]):
            at, band, reach = numbers[h, 0], numbers[h, 1], numbers[h, 6]
            bent = _soft((s - at) / band)
            _turn(m, numbers[h, 2] * bent, numbers[h, 3] * bent, numbers[h, 4] * bent)
            if numbers[h, 5] != 0.0:
                # It sets in with the band, and has spread where the next hinge begins.
                over = numbers[h, 5] * _soft((s - at + band / 2) / (reach + band / 2) - 0.5)
                _turn(m, along[i, 0] * over, along[i, 1] * over, along[i, 2] * over)
            inside = bent - _soft((s - at - reach) / band)
            long *= 1.0 + (numbers[h, 7] - 1.0) * inside
            thick *= 1.0 + (numbers[h, 8] - 1.0) * inside
        if i % 2 == 1:
            # Between two places the line goes on by the turn there.
            for row in range(3):
                for k in range(3):
                    now[row] += m[row, k] * long * (places[i + 1, k] - places[i - 1, k])
            continue
        j = i // 2
        for k in range(3):
            table[j, k] = places[i, k]
            table[j, 3 + k] = now[k]
        for row in range(3):
            dot = m[row, 0] * along[i, 0] + m[row, 1] * along[i, 1] + m[row, 2] * along[i, 2]
            for k in range(3):
                # Across it swells; along the line only where that grows longer.
                table[j, 6 + 3 * row + k] = thick * m[row, k] + (long - thick) * dot * along[i, k]


def course_of(limb: Limb, hinges: tuple[Hinge, ...], share: float = 1.0) -> Course:
    """Where the line of a limb leads with hinges at a share of their angles."""
    before = max(REACH * hinges[0].radius - hinges[0].at, -limb.first, 0.0)
    stations, places, along = limb.grid(before)
    side = -1.0 if limb.mirrored else 1.0
    _, frames = limb.frames(np.array([hinge.at for hinge in hinges]))
    rows = []
    for hinge, end, frame in zip(hinges, ends_of(hinges, limb.last), frames, strict=True):
        band = band_of(hinge, share)
        axis = np.radians(np.array(hinge.bend)) @ frame * share * side
        twist = np.radians(hinge.twist) * share * side
        grows = hinge.length**share, hinge.thickness**share
        rows.append([hinge.at, band, *axis, twist, max(end - hinge.at, band), *grows])
    table = np.empty((STEPS, 15))
    _course(stations, places, along, np.array(rows), table)
    return Course(-before, float(stations[2] - stations[0]), table)


@kernel
def _pose(
    positions: F32, rows: I32, station: F32, table: F64, begin: float, step: float, back: bool, linear: bool, first: int, last: int, out: F32
) -> None:  # fmt: skip
    """Pose rows of `positions`, or bring them back; `linear` for moves instead of places. `out` has a row for each."""
    most = table.shape[0] - 1.0
    m = np.empty(9)
    for i in range(first, last):
        x = min(max((np.float64(station[i]) - begin) / step, 0.0), most)
        low = min(int(x), table.shape[0] - 2)
        t = x - low
        v = rows[i] if not linear else i
        px, py, pz = np.float64(positions[v, 0]), np.float64(positions[v, 1]), np.float64(positions[v, 2])
        for k in range(9):
            m[k] = table[low, 6 + k] * (1 - t) + table[low + 1, 6 + k] * t
        if not linear:
            own = 3 if back else 0
            px -= table[low, own] * (1 - t) + table[low + 1, own] * t
            py -= table[low, own + 1] * (1 - t) + table[low + 1, own + 1] * t
            pz -= table[low, own + 2] * (1 - t) + table[low + 1, own + 2] * t
        if back:
            a = m[4] * m[8] - m[5] * m[7]
            b = m[5] * m[6] - m[3] * m[8]
            c = m[3] * m[7] - m[4] * m[6]
            det = m[0] * a + m[1] * b + m[2] * c
            qx = (a * px + (m[2] * m[7] - m[1] * m[8]) * py + (m[1] * m[5] - m[2] * m[4]) * pz) / det
            qy = (b * px + (m[0] * m[8] - m[2] * m[6]) * py + (m[2] * m[3] - m[0] * m[5]) * pz) / det
            qz = (c * px + (m[1] * m[6] - m[0] * m[7]) * py + (m[0] * m[4] - m[1] * m[3]) * pz) / det
        else:
            qx = m[0] * px + m[1] * py + m[2] * pz
            qy = m[3] * px + m[4] * py + m[5] * pz
            qz = m[6] * px + m[7] * py + m[8] * pz
        if not linear:
            to = 0 if back else 3
            qx += table[low, to] * (1 - t) + table[low + 1, to] * t
            qy += table[low, to + 1] * (1 - t) + table[low + 1, to + 1] * t
            qz += table[low, to + 2] * (1 - t) + table[low + 1, to + 2] * t
        out[i, 0] = qx
        out[i, 1] = qy
        out[i, 2] = qz


def _run(
    limb: Limb, course: Course, positions: F32, rows: I32, station: F32, back: bool, linear: bool
) -> F32:
    out = np.empty((len(rows), 3), np.float32)
    in_parts(
        len(rows),
        lambda first, last: _pose(
            positions, rows, station, course.table, course.first, course.step, back, linear, first, last, out
        ),
    )
    return out


def posed_rows(places: F32, stations: list[F32], pose: Pose, share: float, back: bool = False) -> F32:
    """Some places (k, 3) posed, whose stations on each limb are known: (k,) for each, not a number where it is not on that."""
    out = places.copy()
    limbs = list(zip(pose.limbs, stations, strict=True))
    for limb, station in reversed(limbs) if back else limbs:
        rows = np.flatnonzero(~np.isnan(station)).astype(np.int32)
        if len(rows):
            course = course_of(limb, pose.hinges, share)
            out[rows] = _run(limb, course, out, rows, station[rows], back, False)
    return out


# -- pulling --------------------------------------------------------------------------------------


def pulled(
    limb: Limb, hinges: tuple[Hinge, ...], point: F64, station: float, target: F64, rounds: int = 12
) -> tuple[Hinge, ...]:
    """Hinges turned so that a place (3,) of the limb at rest comes to a target (3,), as far as their limits let it.

    Each hinge in turn, from the place towards the body, brings it as near as it can (Wang and Chen, 1991).
    """
    side = -1.0 if limb.mirrored else 1.0
    free = [k for k, hinge in enumerate(hinges) if hinge.at < station]
    near = 1e-3 * max(hinge.radius for hinge in hinges)
    for _ in range(rounds):
        for k in reversed(free):
            course = course_of(limb, hinges)
            now = course.moved(point, station)
            if np.linalg.norm(now - target) < near:
                return hinges
            hinge = hinges[k]
            pivot = course.at(hinge.at)[1]
            have, want = now - pivot, target - pivot
            axis = np.cross(have, want)
            length = float(np.linalg.norm(axis))
            angle = float(np.arctan2(length, have @ want))
            if length < 1e-12 or angle < 1e-6:
                continue
            # The line before this hinge has been turned by those before it.
            _, frames = limb.frames(np.array([hinge.at]))
            base = _turn_before(limb, hinges, k)
            # A chain shares the way between its hinges, or the last would do all of it.
            world = Rotation.from_rotvec(axis / length * angle * (1.0 if len(free) == 1 else 0.5))
            own = Rotation.from_rotvec(np.radians(np.array(hinge.bend)) @ frames[0] * side)
            local = (base.inv() * world * base * own).as_rotvec()
            bend = np.degrees(frames[0] @ local) * side
            bend[2] = 0.0
            size = float(np.linalg.norm(bend))
            bend *= min(1.0, hinge.limit / max(size, 1e-9))
            x, y, z = bend.tolist()
            hinges = (*hinges[:k], replace(hinge, bend=(x, y, z)), *hinges[k + 1 :])
    return hinges


def _turn_before(limb: Limb, hinges: tuple[Hinge, ...], index: int) -> Rotation:
    """How far the line is turned as a whole by the hinges before one."""
    side = -1.0 if limb.mirrored else 1.0
    turn = Rotation.identity()
    for hinge in hinges[:index]:
        _, frames = limb.frames(np.array([hinge.at]))
        turn = turn * Rotation.from_rotvec(np.radians(np.array(hinge.bend)) @ frames[0] * side)
        turn = turn * Rotation.from_rotvec(np.radians(hinge.twist) * side * frames[0, 2])
    return turn


def curled(hinges: tuple[Hinge, ...], degrees: float) -> tuple[Hinge, ...]:
    """All hinges bent across by the same angle."""
    limited = [float(np.clip(degrees, -hinge.limit, hinge.limit)) for hinge in hinges]
    return tuple(replace(h, bend=(d, 0.0, 0.0)) for h, d in zip(hinges, limited, strict=True))
