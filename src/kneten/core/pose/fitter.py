"""Joints found from the form alone: for bodies on two legs and four, birds, serpents and hands.

The ends of a body's middle lines are told apart by where they are: what stands lowest to the left is the left foot. On the
line from an end to the trunk, joints are where it bends, where the limb is narrowest, and where such limbs usually have
theirs; each joint weighs these three. Bodies stand upright and look along +z, their left is +x.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.signal import find_peaks

from kneten.core.arrays import F64
from kneten.core.pose.fitted_body import (
    ASIDE,
    Bend,
    Body,
    bend_at,
    chain,
    cut,
    first_joint,
    free_part,
    is_limb,
    made,
    nearest_on,
    two_sided,
)
from kneten.core.pose.middles import Branch, Inside, far_ends
from kneten.core.pose.rig import Joint, RigError, Vector

LEGS, HORNS = 0.7, 0.15
"""How far down the trunk, from the top of the head to where the legs part, legs begin, and how far horns and ears still do."""

SIDES = ((" left", 1.0), (" right", -1.0))


ARM = (Bend("Elbow", 0.39), Bend("Wrist", 0.73, 0.07, 0.3, 1.5))
LEG = (Bend("Knee", 0.39), Bend("Ankle", 0.75, 0.09), Bend("Ball of foot", 0.91, 0.03, 0.0, 0.0))
HIND = (Bend("Knee", 0.29), Bend("Hock", 0.58, 0.09), Bend("Hind fetlock", 0.82, 0.06))
FORE = (Bend("Elbow", 0.24, 0.08), Bend("Wrist", 0.56, 0.09, 0.5), Bend("Fetlock", 0.8, 0.06))
STILT = (Bend("Knee", 0.16, 0.06), Bend("Hock", 0.46, 0.09), Bend("Foot", 0.8, 0.05))
WING = (Bend("Wing elbow", 0.25, 0.08), Bend("Wing wrist", 0.46, 0.08), Bend("Wing hand", 0.72, 0.1, 0.5))
FINGER = (("knuckle", 0.0), ("1", 0.47), ("2", 0.78))
THUMB = (("root", 0.0), ("1", 0.36), ("2", 0.68))
FINGERS = {
    1: ("Index",),
    2: ("Index", "Little"),
    3: ("Index", "Middle", "Little"),
    4: ("Index", "Middle", "Ring", "Little"),
}

GROWN = 0.42
"""How far on the way from a finger's thickness to that of the palm's middle the clay is at a knuckle."""

SERPENT = 15
"""Joints between a serpent's skull and the tip of its tail."""


@dataclass(frozen=True)
class Kind:
    """A kind of body.

    Attributes
    ----------
    name : str
    ends : tuple of str
        What it should have; what is not found may be pointed at.
    """

    name: str
    ends: tuple[str, ...]


KINDS: dict[str, Kind] = {
    "biped": Kind("Body on two legs", ("Head", "Hand left", "Hand right", "Foot left", "Foot right")),
    "beast": Kind(
        "Beast on four legs",
        ("Head", "Tail", "Front foot left", "Front foot right", "Hind foot left", "Hind foot right"),
    ),
    "bird": Kind("Bird", ("Head", "Tail", "Wing left", "Wing right", "Foot left", "Foot right")),
    "serpent": Kind("Serpent", ("Head", "Tail")),
    "hand": Kind("Hand", ("Forearm", "Thumb")),
}


@dataclass(frozen=True)
class Fit:
    """Joints that were found.

    Attributes
    ----------
    joints : tuple of Joint
        What a joint hangs on comes before it.
    asks : tuple of str
        Ends of the body, of those its kind should have, that were not found.
    """

    joints: tuple[Joint, ...]
    asks: tuple[str, ...]


def fit(inside: Inside, kind: str, pins: Mapping[str, Vector] | None = None) -> Fit:
    """The joints of a body.

    Parameters
    ----------
    inside : Inside
        What the body is filled with, as `filled` tells.
    kind : str
        One of `KINDS`.
    pins : mapping of str to Vector
        Places of ends that were pointed at, mm.

    Raises
    ------
    RigError
        Where too little of such a body is found.
    """
    body = Body(inside, dict(pins or {}))
    MAKERS[kind](body)
    if len(body.joints) < 2:
        raise RigError(
            f"no {KINDS[kind].name.lower()} is found in it: point at its ends, or place its joints by hand"
        )
    asks = tuple(name for name in KINDS[kind].ends if name not in body.found)
    return Fit(two_sided(body) if body.alike and kind not in ("hand", "serpent") else made(body), asks)


# -- kinds ----------------------------------------------------------------------------------------


def _biped(body: Body) -> None:
    places, limbs = body.inside.places, body.ends()
    core = places[np.abs(places[:, 0] - body.middle) < 0.5 * ASIDE * body.size]
    # A tail may hang lower than where the legs part.
    under = core[np.abs(core[:, 2] - places[body.start, 2]) < 1.3 * body.inside.depth[body.start]]
    top, fork = core[int(np.argmax(core[:, 1]))], under[int(np.argmin(under[:, 1]))]
    head = body.take("Head", [top], lambda place: 0.0)
    assert head is not None
    tall = float(body.high[1] - body.low[1])
    rough = body.line(head, fork)
    slim = {tuple(end): line for _, end in limbs if is_limb(line := body.line(end), rough)}
    # How far down the trunk each begins: legs where it forks, arms above, horns and ears at the head.
    roots = {
        end: nearest_on(rough, line.at(first_joint(line, rough))) / rough.length for end, line in slim.items()
    }
    feet: dict[str, Branch] = {}
    hands: dict[str, Branch] = {}
    for side, way in SIDES:
        some = [end for _, end in limbs if body.aside(end) == way and tuple(end) in slim]
        legs = [end for end in some if roots[tuple(end)] > LEGS]
        foot = body.take("Foot" + side, legs, lambda end: float(np.linalg.norm(end - top)))
        if foot is not None:
            feet[side] = body.line(foot)
        arms = [end for end in some if HORNS < roots[tuple(end)] <= LEGS]
        hand = body.take("Hand" + side, arms, lambda end: float(np.linalg.norm(end - top)))
        if hand is not None:
            hands[side] = body.line(hand)
    if feet:
        # Where the legs meet is the pelvis.
        tops = [line.at(first_joint(line, rough)) for line in feet.values()]
        pelvis = np.mean(tops, axis=0)
        pelvis[0] = body.middle
        pelvis[1] += 0.02 * tall
    else:
        near = under[under[:, 1] < fork[1] + 0.15 * tall]
        pelvis = np.array([body.middle, fork[1] + 0.08 * tall, float(np.median(near[:, 2]))])
    spine = body.line(head, pelvis)
    neck, base, skull = _neck(spine, [line.at(first_joint(line, spine)) for line in hands.values()])
    low_part = spine.length - base
    whole = (("Pelvis", 1.0), ("Waist", 0.72), ("Chest", 0.35), ("Collar", 0.0))
    # A bust ends at its chest.
    parent = ""
    for name, share in whole if feet else whole[1:] if hands else (("Chest", 0.7), ("Collar", 0.0)):
        body.put(name, parent, spine.at(base + share * low_part))
        parent = name
    body.put("Neck", "Collar", spine.at(0.5 * (base + neck)))
    body.put("Skull", "Neck", spine.at(skull))
    body.put("Crown", "Skull", spine.points[0])
    trunk = cut(spine, neck, spine.length)
    for side, line in hands.items():
        body.limb("Shoulder", "Collar", line, trunk, ARM, "Fingertips", side, 0.5, "Clavicle")
    for side, line in feet.items():
        body.limb("Hip", "Pelvis", line, trunk, LEG, "Toe tip", side)
    behind = float(pelvis[2]) - 0.12 * tall
    back = [
        end
        for _, end in limbs
        if body.aside(end) == 0 and end[2] < behind and end[1] < body.place("Chest")[1]
    ]
    if back and feet:
        tail = body.line(min(back, key=lambda end: float(end[2])))
        chain(body, ("Tail 1", "Tail 2", "Tail 3", "Tail tip"), "Pelvis", tail, first_joint(tail, trunk), 0.0)


def _neck(spine: Branch, shoulders: Sequence[F64]) -> tuple[float, float, float]:
    """How far from the top of a head the neck's middle, its base and the skull's are."""
    radii = spine.radii
    base = float(np.mean([nearest_on(spine, place) for place in shoulders])) if shoulders else 0.0
    above = 0.85 * base if base else 0.6 * spine.length
    peaks = find_peaks(radii, prominence=0.03 * float(radii.max()))[0]
    upper = [k for k in peaks if spine.along[k] < above]
    first = float(spine.along[upper[0]]) if upper else 0.45 * (base or 0.3 * spine.length)
    last = base or first + 0.45 * (spine.length - first)
    between = np.flatnonzero((spine.along > first) & (spine.along < last))
    thin = (
        float(spine.along[between[int(np.argmin(radii[between]))]]) if len(between) else 0.5 * (first + last)
    )
    base = base or min(thin + 0.5 * (thin - first), 0.9 * spine.length)
    return thin, base, 0.55 * first + 0.45 * thin


def _back(body: Body) -> tuple[Branch, Branch, list[F64]] | None:
    """The line from a head to a tail, its trunk, and the ends that are on a side; None where there is no such line."""
    ends = [end for _, end in body.ends()]
    core = [end for end in ends if body.aside(end) == 0]
    head = body.take("Head", core, lambda end: float(end[2]) + 0.5 * float(end[1]))
    if head is None:
        return None
    tail = body.take("Tail", [end for end in core if end is not head], lambda end: -float(end[2]))
    if tail is None:
        behind = body.inside.places
        tail = behind[int(np.argmin(behind[:, 2] + 2 * np.abs(behind[:, 0] - body.middle)))]
    line = body.line(head, tail)
    thick = np.flatnonzero(line.radii > 0.6 * line.radii.max())
    return (
        line,
        cut(line, float(line.along[thick[0]]), float(line.along[thick[-1]])),
        [end for end in ends if body.aside(end) != 0],
    )


def _head_of(line: Branch, shoulders: float) -> float:
    """How far from the tip of a muzzle or bill the skull's middle is."""
    short = line.along < 0.75 * shoulders
    peaks = find_peaks(line.radii[short], prominence=0.1 * float(line.radii[short].max()))[0]
    return float(line.along[peaks[int(np.argmax(line.radii[peaks]))]]) if len(peaks) else 0.35 * shoulders


def _beast(body: Body) -> None:
    found = _back(body)
    if found is None:
        return
    line, trunk, sides = found
    low, tall = float(body.low[1]), float(body.high[1] - body.low[1])
    middle = float(trunk.points[:, 2].mean())
    legs: dict[tuple[str, str], Branch] = {}
    for side, way in SIDES:
        standing = [end for end in sides if body.aside(end) == way and end[1] < low + 0.2 * tall]
        for name, forward in (("Front foot", 1.0), ("Hind foot", -1.0)):
            some = [
                end
                for end in standing
                if (body.line(end).at(first_joint(body.line(end), trunk))[2] - middle) * forward > 0
            ]
            end = body.take(name + side, some, lambda end: -float(end[1]))
            if end is not None:
                legs[name, side] = body.line(end)
    roots = {key: leg.at(first_joint(leg, trunk)) for key, leg in legs.items()}
    front = [nearest_on(line, place) for (name, _), place in roots.items() if name == "Front foot"]
    hind = [nearest_on(line, place) for (name, _), place in roots.items() if name == "Hind foot"]
    first, last = nearest_on(line, trunk.points[0]), nearest_on(line, trunk.points[-1])
    withers = float(np.mean(front)) if front else first + 0.15 * (last - first)
    hips = float(np.mean(hind)) if hind else last - 0.1 * (last - first)
    chain(body, ("Hips", "Belly", "Ribs", "Withers"), "", line, hips, withers)
    skull = _head_of(line, first)
    chain(
        body,
        ("Neck 1", "Neck 2"),
        "Withers",
        line,
        withers + 0.65 * (skull - withers) * 0.6,
        skull + 0.35 * (withers - skull) * 0.8,
    )
    body.put("Skull", "Neck 2", line.at(skull))
    chain(body, ("Muzzle", "Nose"), "Skull", line, 0.5 * skull, 0.0)
    if "Tail" in body.found:
        chain(
            body,
            ("Tail 1", "Tail 2", "Tail 3", "Tail tip"),
            "Hips",
            line,
            0.5 * (last + hips) if last > hips else hips + 0.1 * (line.length - hips),
            line.length,
        )
    for side, _ in SIDES:
        if ("Hind foot", side) in legs:
            body.limb("Hip", "Hips", legs["Hind foot", side], trunk, HIND, "Hind paw", side)
        if ("Front foot", side) in legs:
            body.limb("Shoulder", "Withers", legs["Front foot", side], trunk, FORE, "Front paw", side)


def _bird(body: Body) -> None:
    found = _back(body)
    if found is None:
        return
    line, trunk, sides = found
    low, tall = float(body.low[1]), float(body.high[1] - body.low[1])
    feet: dict[str, Branch] = {}
    wings: dict[str, Branch] = {}
    for side, way in SIDES:
        some = [end for end in sides if body.aside(end) == way]
        foot = body.take(
            "Foot" + side, [end for end in some if end[1] < low + 0.15 * tall], lambda end: float(end[2])
        )
        wing = body.take(
            "Wing" + side,
            [end for end in some if end[1] >= low + 0.15 * tall],
            lambda end: abs(float(end[0])) - float(end[2]),
        )
        if foot is not None:
            feet[side] = body.line(foot)
        if wing is not None:
            wings[side] = body.line(wing)
    first, last = nearest_on(line, trunk.points[0]), nearest_on(line, trunk.points[-1])
    root = 0.5 * (first + last)
    body.put("Body", "", line.at(root))
    body.put("Shoulders", "Body", line.at(first))
    skull = _head_of(line, first)
    step = (first - skull) / 5
    chain(body, ("Neck 1", "Neck 2", "Neck 3", "Neck 4"), "Shoulders", line, first - step, skull + step)
    body.put("Skull", "Neck 4", line.at(skull))
    edge = np.flatnonzero(line.radii[line.along < skull] > 0.62 * float(line.radius(skull)))
    bill = float(line.along[edge[0]]) if len(edge) else 0.75 * skull
    chain(body, ("Bill root", "Bill tip"), "Skull", line, min(bill, 0.92 * skull), 0.0)
    if "Tail" in body.found:
        chain(body, ("Tail root", "Tail", "Tail tip"), "Body", line, last, line.length)
    for side, leg in feet.items():
        body.limb("Hip", "Body", leg, trunk, STILT, "Toe tip", side)
    for side, wing_line in wings.items():
        body.limb("Wing shoulder", "Shoulders", wing_line, trunk, WING, "Wing tip", side, 0.2)
        _folded(body, wing_line, side)


def _folded(body: Body, line: Branch, side: str) -> None:
    """Put a wing's wrist where the wing is foremost: where it is folded, its middle line does not go there."""
    if not body.has("Wing wrist" + side):
        return
    root, wrist = body.place("Wing shoulder" + side), body.place("Wing wrist" + side)
    places = body.inside.places
    beyond = np.abs(places[:, 0] - body.middle) > 0.5 * np.abs(root[0] + wrist[0] - 2 * body.middle)
    mine = np.flatnonzero(beyond & (np.sign(places[:, 0] - body.middle) == np.sign(wrist[0] - body.middle)))
    near = mine[np.linalg.norm(places[mine] - wrist, axis=1) < 0.4 * nearest_on(line, root)]
    if not len(near):
        return
    front = near[places[near, 2] > places[near, 2].max() - 1.2 * float(line.radius(nearest_on(line, wrist)))]
    place = places[front[int(np.argmax(body.inside.depth[front]))]]
    if place[2] > wrist[2]:
        number = next(k for k, one in enumerate(body.joints) if one[0] == "Wing wrist" + side)
        body.joints[number] = (*body.joints[number][:2], place)


def _serpent(body: Body) -> None:
    if not body.ways:
        return
    one = body.inside.places[body.ways[0][0]]
    ends = [one, _farthest(body.inside, one)]

    def head_like(end: F64) -> float:
        line = body.line(end)
        return float(end[1]) / body.size + float(line.radius(0.06 * body.size)) / float(
            body.inside.depth.max()
        )

    head = body.take("Head", ends, head_like)
    assert head is not None
    tail = body.take("Tail", ends, lambda end: float(np.linalg.norm(end - head)))
    assert tail is not None
    line = body.line(head, tail)
    skull = max(2.2 * float(line.radii[: max(len(line.radii) // 8, 2)].max()), 0.04 * line.length)
    names = ["Skull", "Neck 1", "Neck 2", *(f"Spine {k}" for k in range(1, SERPENT - 1)), "Tail tip"]
    chain(body, names, "", line, min(skull, 0.2 * line.length), line.length)
    body.put("Nose", "Skull", line.points[0])


def _farthest(inside: Inside, place: F64) -> F64:
    """The end that is farthest from a place (3,) along the clay."""
    ways = far_ends(inside, inside.nearest(place), 1)
    return inside.places[ways[0][0]] if ways else place


def _hand(body: Body) -> None:
    palm = body.inside.places[body.start]
    deep = float(body.inside.depth[body.start])
    lines = [(end, body.line(end)) for _, end in body.ends()]
    lines += [(body.inside.places[way[0]], body.line(body.inside.places[way[0]])) for way in body.ways]
    seen: dict[tuple[float, ...], tuple[F64, Branch]] = {tuple(end): (end, line) for end, line in lines}
    lines = list(seen.values())
    forearm = body.take(
        "Forearm",
        [end for end, line in lines if line.length > 2.5 * deep],
        lambda end: float(body.line(end).radius(0.3 * body.line(end).length)),
    )
    if forearm is None:
        return
    arm = body.line(forearm)
    trunk = cut(arm, 0.0, arm.length)
    out = palm - forearm
    out /= np.linalg.norm(out)
    fingers = []
    for end, line in lines:
        if np.linalg.norm(end - forearm) < deep:
            continue
        free = _knuckle(line, trunk)
        if free > 1.1 * deep and float(line.radius(0.5 * free)) < 0.8 * deep:
            fingers.append((end, line, free))
    fingers = sorted(fingers, key=lambda one: -one[2])[:5]
    if len(fingers) < 2:
        return
    thumb = body.take("Thumb", [end for end, _, _ in fingers], lambda end: -_base(fingers, end) @ out)
    assert thumb is not None
    rest = [one for one in fingers if np.linalg.norm(one[0] - thumb) > 1e-6]
    first = next((one for one in fingers if np.linalg.norm(one[0] - thumb) <= 1e-6), None)
    near = first[1].at(0.6 * first[2]) if first else thumb
    rest.sort(key=lambda one: float(np.linalg.norm(one[1].at(0.6 * one[2]) - near)))
    wrist = bend_at(arm, arm.length, Bend("Wrist", 0.42, 0.12, 0.2, 2.0), arm.length)
    body.put("Wrist", "", arm.at(wrist))
    body.put("Forearm", "Wrist", arm.points[0])
    body.put("Heel of hand", "Wrist", arm.at(wrist + 0.45 * (arm.length - wrist)))
    for name, (_, line, free) in zip(FINGERS[len(rest)], rest, strict=True):
        _finger(body, name, "Heel of hand", line, free, FINGER)
    if first is not None:
        _finger(body, "Thumb", "Wrist", first[1], first[2], THUMB)


def _finger(
    body: Body, name: str, parent: str, line: Branch, long: float, shares: Sequence[tuple[str, float]]
) -> None:
    """The joints of a finger, a length from its tip on."""
    # In the palm lines lead to its middle; bones go on straight.
    way = line.at(0.5 * long) - line.at(0.25 * long)
    straight = line.at(0.5 * long) + way / max(float(np.linalg.norm(way)), 1e-9) * 0.5 * long
    for word, share in shares:
        place = line.at((1.0 - share) * long)
        body.put(f"{name} {word}", parent, 0.5 * (place + straight) if share == 0 else place)
        parent = f"{name} {word}"
    body.put(f"{name} tip", parent, line.points[0])


def _knuckle(line: Branch, trunk: Branch) -> float:
    """How far from its tip a finger's knuckle is: where the clay around it grows into the palm."""
    free = free_part(line, trunk)
    if free <= 0:
        return 0.0
    slender = float(np.median(line.radii[line.along < 0.5 * free]))
    thick = GROWN * float(line.radii[-1]) + (1.0 - GROWN) * slender
    grown = line.along[(line.radii > thick) & (line.along > 0.4 * free)]
    return float(min([free, *grown[:1]]))


def _base(fingers: Sequence[tuple[F64, Branch, float]], end: F64) -> F64:
    """Where a finger leaves the palm, (3,)."""
    for other, line, free in fingers:
        if np.linalg.norm(other - end) < 1e-6:
            return line.at(free)
    return end


MAKERS: dict[str, Callable[[Body], None]] = {
    "biped": _biped,
    "beast": _beast,
    "bird": _bird,
    "serpent": _serpent,
    "hand": _hand,
}
