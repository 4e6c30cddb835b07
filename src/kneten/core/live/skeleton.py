"""A skeleton to compare with, made for an armature: its bones lie in the limbs that the balls mean.

Nothing of it is meant to be anatomy for its own sake: it shows how long bones are, where they turn and how thick they may
be, where ribs and pelvis end. So it fits any armature, a beast's as well as a body's.
"""

from __future__ import annotations

import numpy as np

from kneten.core.arrays import F64, Progress
from kneten.core.live.armature import Armature, Joint
from kneten.core.live.clay import Clay, RecipeError, joined
from kneten.core.live.skull import CROWN, skull
from kneten.core.live.strand import Knot, Strand, Strands

SHAFT = (
    (0.0, 0.62),
    (0.06, 1.0),
    (0.14, 0.82),
    (0.3, 0.55),
    (0.5, 0.5),
    (0.7, 0.55),
    (0.86, 0.8),
    (0.94, 0.95),
    (1.0, 0.6),
)
"""How thick a long bone is along its length, 1 at its heads."""

BONE = 0.34
"""Radius of a long bone's head as a share of the limb's."""

RIBS = 7
"""Pairs of ribs for a trunk's ball."""


def skeleton(armature: Armature, progress: Progress) -> Clay:
    """The skeleton of an armature, in its space.

    Raises
    ------
    RecipeError
        When the armature has no limb.
    """
    joints = {joint.key: joint for joint in armature.joints}
    limbs = [(joints[joint.parent], joint) for joint in armature.joints if joint.parent in joints]
    if not limbs:
        raise RecipeError("an armature of one ball has no bones")
    trunk = max((j.radius for j in armature.joints if _in_middle(j)), default=0.0)
    strands: list[Strand] = []
    for a, b in limbs:
        if _in_middle(a) and _in_middle(b):
            strands += _spine(a, b)
            if min(a.radius, b.radius) > 0.55 * trunk:
                strands += _ribs(a, b)
        else:
            strands.append(_long_bone(a, b))
    first = armature.joints[0]
    if len(strands) > 4:
        strands.append(_ring(np.array(first.place), first.radius, 0.85, 0.2, tilt=0.5))
    progress.report(0.3, "Laying bones")
    pieces = [Strands(tuple(strands), sides=10, spans=4).made()]
    pieces += [
        _head(joint, any(j.name == "jaw" for j in armature.joints), progress)
        for joint in armature.joints
        if joint.name == "skull"
    ]
    return joined(pieces)


def _in_middle(joint: Joint) -> bool:
    return joint.twin == joint.key or abs(joint.place[0]) < 1e-6


def _knot(place: F64, radius: float) -> Knot:
    x, y, z = (float(v) for v in place)
    return Knot((x, y, z), radius)


def _long_bone(a: Joint, b: Joint) -> Strand:
    """A bone from joint to joint, its heads as thick as the limb allows."""
    start, end = np.array(a.place), np.array(b.place)
    knots = []
    for share, thick in SHAFT:
        limb = min(a.radius, b.radius) * (1 - share) + b.radius * share
        knots.append(_knot(start + (end - start) * share, BONE * thick * min(limb, 2.0 * b.radius)))
    return Strand(tuple(knots))


def _back(along: F64) -> F64:
    """The way to the back of a trunk that runs along: backwards of one that stands, upwards of one that lies."""
    standing = abs(along[1]) > 0.7
    way = np.array([0.0, 0.0, -1.0]) if standing else np.array([0.0, 1.0, 0.0])
    way = way - (way @ along) * along
    return np.asarray(way / max(float(np.linalg.norm(way)), 1e-12))


def _spine(a: Joint, b: Joint) -> list[Strand]:
    """Vertebrae along a limb of the trunk, towards its back, each with its spine."""
    start, end = np.array(a.place), np.array(b.place)
    long = float(np.linalg.norm(end - start))
    if long < 1e-9:
        return []
    along = (end - start) / long
    back = _back(along)
    thick = 0.24 * min(a.radius, b.radius)
    count = max(round(long / (2.2 * thick)), 1)
    found = []
    for k in range(count):
        share = (k + 0.5) / count
        radius = a.radius * (1 - share) + b.radius * share
        middle = start + (end - start) * share + back * 0.5 * radius
        half = along * 0.36 * long / count
        found.append(Strand((_knot(middle - half, thick), _knot(middle + half, thick))))
        found.append(Strand((_knot(middle, 0.3 * thick), _knot(middle + back * 0.42 * radius, 0.16 * thick))))
    return found


def _ribs(a: Joint, b: Joint) -> list[Strand]:
    """Rings round a thick limb of the trunk, leaning forwards."""
    start, end = np.array(a.place), np.array(b.place)
    found = []
    for k in range(RIBS):
        share = (k + 0.5) / RIBS
        radius = a.radius * (1 - share) + b.radius * share
        found.append(_ring(start + (end - start) * share, radius, 0.9, 0.06, tilt=0.25, along=end - start))
    return found


def _ring(
    middle: F64, radius: float, wide: float, thick: float, tilt: float, along: F64 | None = None
) -> Strand:
    """A closed ring about a place: of a share of a radius, thicknesses likewise, its front lower by a tilt."""
    way = np.array([0.0, 1.0, 0.0]) if along is None else along / max(float(np.linalg.norm(along)), 1e-12)
    back = _back(way)
    side = np.cross(way, back)
    places = [
        middle
        + radius * wide * (np.sin(t) * side + 0.82 * np.cos(t) * back)
        + way * radius * tilt * np.cos(t)
        for t in np.linspace(0, 2 * np.pi, 13)[:-1]
    ]
    return Strand(tuple(_knot(place, thick * radius) for place in places), True)


def _head(joint: Joint, human: bool, progress: Progress) -> Clay:
    """The skull in its ball: ours for a body with a jaw, else a plain brain-case."""
    x, y, z = joint.place
    if not human:
        case = Strand(
            (
                _knot(np.array([x, y, z - 0.35 * joint.radius]), 0.7 * joint.radius),
                _knot(np.array([x, y, z + 0.3 * joint.radius]), 0.6 * joint.radius),
            )
        )
        return Strands((case,), sides=16).made()
    made = skull(progress=progress)
    high = float(made.positions[:, 1].max())
    scale = 2.1 * joint.radius / (CROWN - float(made.positions[:, 1].min()))
    middle = np.array(
        [0.0, high - 0.45 * 2.0 * joint.radius / max(scale, 1e-12), float(made.positions[:, 2].mean())]
    )
    moved = (made.positions - middle) * scale + np.array([x, y, z])
    return Clay(moved.astype(np.float32), made.faces)
