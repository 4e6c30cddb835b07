"""What fitting joints to a body rests on: its ends, the limbs that lead to them, and where on a limb a joint may be."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from kneten.core.arrays import F64, I32
from kneten.core.pose.middles import Branch, Inside, far_ends
from kneten.core.pose.rig import Joint, Vector, as_vector

ASIDE = 0.022
"""Of a body's size, from which on something lies beside its middle."""

ALIKE = 0.93
"""Share of a body that must lie on its own mirror image for both sides to be fitted as one."""

SLIM = 2.5
"""Times as long as it is thick where it begins, that a limb must at least be."""

DIGIT = 0.42
"""Of a limb's length from its end, up to which what hangs on it is a toe or a finger of it."""


@dataclass(frozen=True)
class Bend:
    """A joint of a limb.

    Attributes
    ----------
    name : str
    share : float
        Where such limbs usually have it, of the way from the limb's first joint to its end.
    loose : float
        How far from there it may well be.
    bent, thin : float
        How much it counts that the limb bends there, and that it is narrow there.
    """

    name: str
    share: float
    loose: float = 0.1
    bent: float = 1.0
    thin: float = 0.3


@dataclass
class Body:
    """A body while its joints are found.

    Attributes
    ----------
    inside : Inside
    pins : dict of str to Vector
        Places of ends that were pointed at, mm.
    found : dict of str to (3,) float64
        Ends by their names.
    joints : list of (name, parent, (3,) float64)
        What a joint hangs on comes before it.
    """

    inside: Inside
    pins: dict[str, Vector]
    found: dict[str, F64] = field(default_factory=dict)
    joints: list[tuple[str, str, F64]] = field(default_factory=list)

    def __post_init__(self) -> None:
        places = self.inside.places
        low, high = places.min(axis=0), places.max(axis=0)
        self.low, self.high, self.size = low, high, self.inside.size
        self.middle, self.alike = float(np.median(places[:, 0])), False
        for middle in (0.0, 0.5 * float(low[0] + high[0])):
            mirrored = places[::7] * [-1.0, 1.0, 1.0] + [2 * middle, 0.0, 0.0]
            off = self.inside.tree.query(mirrored, distance_upper_bound=1.5 * self.inside.step)[0]
            if float(np.isfinite(off).mean()) > ALIKE:
                self.middle, self.alike = middle, True
                break
        self.start = int(np.argmax(self.inside.depth))
        self.ways = far_ends(self.inside, self.start)
        self.before = self.inside.cheapest(self.start)[1]

    def put(self, name: str, parent: str, place: F64) -> None:
        """One more joint at a place (3,), where there is none called so."""
        if all(had != name for had, _, _ in self.joints):
            self.joints.append((name, parent, np.asarray(place, np.float64)))

    def place(self, name: str) -> F64:
        """Where a joint is, (3,)."""
        return next(place for had, _, place in self.joints if had == name)

    def has(self, name: str) -> bool:
        """Whether there is a joint."""
        return any(had == name for had, _, _ in self.joints)

    # -- ends -----------------------------------------------------------------------------------

    def ends(self) -> list[tuple[I32, F64]]:
        """Ways that are limbs, not toes or fingers of one, and their ends (3,)."""
        seen: dict[int, tuple[int, int]] = {}
        out = []
        for number, way in enumerate(self.ways):
            meets = seen.get(int(way[-1]))
            digit = False
            if meets is not None:
                other = self.ways[meets[0]]
                digit = meets[1] < DIGIT * self._outside(self.inside.way(self.before, int(other[0])))
            for k, place in enumerate(way):
                seen.setdefault(int(place), (number, k))
            if not digit:
                out.append((way, self.inside.places[way[0]]))
        return out

    def _outside(self, way: I32) -> int:
        """How many places of a way are beyond the ball around where it ends."""
        off = np.linalg.norm(self.inside.places[way] - self.inside.places[way[-1]], axis=1)
        return int((off > self.inside.depth[way[-1]]).sum())

    def take(self, name: str, some: Sequence[F64], best: Callable[[F64], float]) -> F64 | None:
        """The end that is called so: the one pointed at, else the best of some (3,); None without any."""
        if name in self.pins:
            self.found[name] = self.inside.places[self.inside.nearest(self.pins[name])]
        elif some:
            self.found[name] = max(some, key=best)
        return self.found.get(name)

    def aside(self, place: F64) -> int:
        """1 for a place (3,) beside the middle to the left, -1 to the right, 0 in the middle."""
        off = float(place[0]) - self.middle
        return 0 if abs(off) < ASIDE * self.size else int(np.sign(off))

    # -- lines ----------------------------------------------------------------------------------

    def line(self, end: F64, other: F64 | None = None) -> Branch:
        """The way from an end (3,) to another place, else to where the body is thickest."""
        number = self.inside.nearest(end)
        if other is None:
            return self.inside.branch(self.inside.way(self.before, number))
        return self.inside.branch(
            self.inside.way(self.inside.cheapest(self.inside.nearest(other))[1], number)
        )

    def limb(
        self,
        name: str,
        parent: str,
        line: Branch,
        trunk: Branch,
        bends: Sequence[Bend],
        tip: str,
        side: str,
        beyond: float = 0.0,
        collar: str = "",
    ) -> None:
        """Joints of a limb that a line leads through from its end to the trunk, one more within that where it has a name."""
        root = long = first_joint(line, trunk, beyond)
        if long < max(4 * self.inside.step, 0.4 * float(trunk.radii.max())):
            # What was pointed at is the trunk itself.
            self.found = {
                end: place for end, place in self.found.items() if not np.allclose(place, line.points[0])
            }
            return
        if collar:
            inner = 0.55 * line.at(root) + 0.45 * self.place(parent)
            self.put(collar + side, parent, inner)
            parent = collar
        self.put(name + side, parent + (side if self.has(parent + side) else ""), line.at(root))
        last, held = root, name + side
        for bend in bends:
            place = bend_at(line, long, bend, last)
            self.put(bend.name + side, held, line.at(place))
            held, last = bend.name + side, place
        self.put(tip + side, held, line.points[0])


def free_part(line: Branch, trunk: Branch) -> float:
    """How far from a limb's end it goes into the trunk's balls."""
    off = np.linalg.norm(line.points[:, None] - trunk.points[None, ::3], axis=2) - trunk.radii[None, ::3]
    outside = np.flatnonzero(off.min(axis=1) > 0)
    return float(line.along[outside[-1]]) if len(outside) else 0.0


def is_limb(line: Branch, trunk: Branch) -> bool:
    """Whether a line leads through a limb: it reaches much farther out of the trunk than it is thick there."""
    free = free_part(line, trunk)
    return free > SLIM * float(line.radius(0.8 * free)) and free > float(trunk.radii.max())


def first_joint(line: Branch, trunk: Branch, beyond: float = 0.0) -> float:
    """How far from a limb's end its first joint is: about where it leaves the trunk's balls, at a bend near there.

    Parameters
    ----------
    beyond : float
        How far outside of these it usually is, of the trunk's thickness.
    """
    free, thick = free_part(line, trunk), float(trunk.radii.max())
    out = free - beyond * thick
    near = line.along[(line.along > 0.75 * out) & (line.along < min(out + 0.35 * thick, line.length))]
    if not len(near):
        return out
    over, loose = 0.1 * free, 0.12 * free + 0.3 * thick
    score = [bent(line, s, over) / 50.0 - ((s - out) / loose) ** 2 for s in near]
    return float(near[int(np.argmax(score))])


def bent(line: Branch, at: float, over: float) -> float:
    """Degrees that a line turns by around a place."""
    a = line.at(at) - line.at(max(at - over, 0.0))
    b = line.at(min(at + over, line.length)) - line.at(at)
    sizes = float(np.linalg.norm(a) * np.linalg.norm(b))
    return float(np.degrees(np.arccos(np.clip(a @ b / sizes, -1, 1)))) if sizes > 0 else 0.0


def bend_at(line: Branch, long: float, bend: Bend, last: float) -> float:
    """How far from a limb's end one of its joints is, that lies beyond another."""
    wanted = (1.0 - bend.share) * long
    tries = np.linspace(
        max(wanted - 2 * bend.loose * long, 0.02 * long), min(wanted + 2 * bend.loose * long, 0.97 * last), 60
    )
    around = line.radius(np.linspace(max(wanted - 0.2 * long, 0), wanted + 0.2 * long, 40)).mean()
    score = [
        bend.bent * bent(line, s, 0.08 * long) / 60.0
        + bend.thin * (1.0 - float(line.radius(s)) / float(around))
        - ((s - wanted) / (bend.loose * long)) ** 2
        for s in tries
    ]
    return float(tries[int(np.argmax(score))])


def cut(line: Branch, first: float, last: float) -> Branch:
    """The part of a line between two distances from its end."""
    inner = (line.along >= first) & (line.along <= last)
    return Branch(line.points[inner], line.radii[inner]) if inner.sum() > 1 else line


def nearest_on(line: Branch, place: F64) -> float:
    """How far along a line it is nearest to a place (3,)."""
    return float(line.along[int(np.argmin(np.linalg.norm(line.points - place, axis=1)))])


def chain(body: Body, names: Sequence[str], parent: str, line: Branch, first: float, last: float) -> str:
    """Joints evenly along a line; the last one's name."""
    for name, at in zip(names, np.linspace(first, last, len(names)), strict=True):
        body.put(name, parent, line.at(float(at)))
        parent = name
    return parent


# -- joints ---------------------------------------------------------------------------------------


def made(body: Body) -> tuple[Joint, ...]:
    """What was found as joints, each after what it hangs on, none on top of another."""
    numbers: dict[str, int] = {}
    out: list[Joint] = []
    for name, parent, place in body.joints:
        above = numbers.get(parent, -1)
        if above >= 0 and np.linalg.norm(place - out[above].place) < 1e-3 * body.size:
            numbers[name] = above
            continue
        numbers[name] = len(out)
        out.append(Joint(name, above, as_vector(place)))
    return tuple(_twinned(out))


def _twinned(joints: Sequence[Joint]) -> list[Joint]:
    """Joints that know their twins, by their names."""
    at = {joint.name: k for k, joint in enumerate(joints)}
    swap = {" left": " right", " right": " left"}
    out = []
    for k, joint in enumerate(joints):
        side = next((side for side in swap if joint.name.endswith(side)), "")
        other = at.get(joint.name.removesuffix(side) + swap[side], -1) if side else k
        out.append(replace(joint, twin=other))
    return out


def two_sided(body: Body) -> tuple[Joint, ...]:
    """The joints of a body both of whose sides are alike: as far to the left as to the right, or in the middle."""
    joints = list(made(body))
    across, twice = np.array([-1.0, 1.0, 1.0]), np.array([2 * body.middle, 0.0, 0.0])
    for k, joint in enumerate(joints):
        if joint.twin == k:
            joints[k] = replace(joint, place=(body.middle, *joint.place[1:]))
        elif joint.twin > k:
            place = 0.5 * (np.array(joint.place) + across * joints[joint.twin].place + twice)
            joints[k] = replace(joint, place=as_vector(place))
            joints[joint.twin] = replace(joints[joint.twin], place=as_vector(across * place + twice))
    return tuple(joints)
