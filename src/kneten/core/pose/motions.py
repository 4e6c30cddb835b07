"""Motions to test a rig with: walk, breathe, look about, reach, stand; told for parts of a body, found by the names of joints.

All loop. Bodies face along +z, their left is +x, and +y is up, as armatures are made. A joint turns about these axes
after what it hangs on, so that a body in any rest pose moves alike.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation

from kneten.core.pose.rig import Rig, Vector, as_vector

WORDS: dict[str, tuple[str, ...]] = {
    "hip": ("hip", "thigh", "upper leg", "hind hip"),
    "knee": ("knee", "shin", "lower leg"),
    "hock": ("hock",),
    "foot": ("ankle", "foot"),
    "spine": ("spine", "waist", "chest", "breast", "belly", "collar", "shoulders"),
    "neck": ("neck",),
    "head": ("skull", "head"),
    "arm": ("shoulder", "wing shoulder", "upper arm", "fore shoulder"),
    "elbow": ("elbow", "wing elbow", "forearm", "lower arm"),
    "tail": ("tail", "tail root", "tail tip"),
    "jaw": ("jaw",),
}
"""What joints of each part of a body are called, without side and number."""

Parts = dict[tuple[str, str], list[int]]
"""Joints by part of the body and side ("left", "right", ""), those nearer to the body first."""


@dataclass(frozen=True)
class Motion:
    """A motion that loops.

    Attributes
    ----------
    name : str
    seconds : float
        How long one round takes.
    needs : tuple of str
        Parts of the body without which it would show nothing.
    """

    name: str
    seconds: float
    needs: tuple[str, ...]


MOTIONS: dict[str, Motion] = {
    "stand": Motion("Stand", 4.0, ("spine", "neck", "head")),
    "breathe": Motion("Breathe", 3.5, ("spine",)),
    "look": Motion("Look about", 5.0, ("neck", "head")),
    "reach": Motion("Reach", 4.0, ("arm",)),
    "walk": Motion("Walk", 1.4, ("hip",)),
}


def parts_of(rig: Rig) -> Parts:
    """Which joints are which part of the body, by their names."""
    found: Parts = {}
    for k, joint in enumerate(rig.joints):
        name = re.sub(r"[\d_.-]+", " ", joint.name.lower())
        side = next((one for one in ("left", "right") if one in name.split()), "")
        bare = " ".join(word for word in name.split() if word not in ("left", "right"))
        for part, words in WORDS.items():
            if bare in words and rig.children[k]:
                found.setdefault((part, side), []).append(k)
    return found


def lacking(rig: Rig, key: str) -> str:
    """Why a motion would show nothing on a rig; "" where it shows something."""
    motion, parts = MOTIONS[key], {part for part, _ in parts_of(rig)}
    if any(need in parts for need in motion.needs):
        return ""
    names = " or ".join(sorted({WORDS[need][0] for need in motion.needs}))
    return f"{motion.name} looks for joints called {names}: name those of this body."


def moved(rig: Rig, key: str, phase: float) -> Rig:
    """The rig in a motion at a phase, 0 to 1; joints that it knows nothing of keep their turn, and all turn on from it."""
    parts = parts_of(rig)
    turns: dict[int, Rotation] = {}

    def turn(part: str, side: str, axis: int, degrees: float) -> None:
        some = parts.get((part, side), [])
        for k in some:
            # A neck of many joints turns no farther than one of one.
            vector = np.eye(3)[axis] * np.radians(degrees) / len(some)
            turns[k] = Rotation.from_rotvec(vector) * turns.get(k, Rotation.identity())

    height = float(np.ptp(rig.places[:, 1])) if len(rig.places) else 0.0
    lift = MAKE[key](turn, 2 * np.pi * phase)
    out = rig
    for k, more in turns.items():
        own = more * Rotation.from_rotvec(np.radians(rig.joints[k].turn))
        out = out.with_turn(k, np.degrees(own.as_rotvec()))
    if lift:
        root = out.joints[0]
        shift: Vector = as_vector(np.add(root.shift, (0.0, lift * height, 0.0)))
        out = out.with_joint(0, shift=shift)
    return out


Turn = Callable[[str, str, int, float], None]

X, Y, Z = 0, 1, 2


def _walk(turn: Turn, a: float) -> float:
    for side, way in (("left", 1.0), ("right", -1.0)):
        swing = way * np.sin(a)
        # The knee bends while the leg comes forward.
        bent = 48.0 * max(way * np.cos(a), 0.0) ** 1.5 + 6.0
        turn("hip", side, X, -26.0 * swing - 0.25 * bent)
        turn("knee", side, X, bent)
        turn("hock", side, X, -0.8 * bent)
        turn("foot", side, X, 12.0 * swing)
        turn("arm", side, X, 18.0 * swing)
        turn("elbow", side, X, -10.0 - 8.0 * max(-swing, 0.0))
    turn("spine", "", Y, 6.0 * np.sin(a))
    turn("neck", "", Y, -4.0 * np.sin(a))
    turn("neck", "", X, 4.0 * np.cos(2 * a))
    turn("tail", "", Y, 10.0 * np.sin(a))
    return float(-0.012 * (1 - np.cos(2 * a)))


def _stand(turn: Turn, a: float) -> float:
    turn("spine", "", Z, 1.5 * np.sin(a))
    turn("spine", "", X, 1.0 - np.cos(2 * a))
    turn("neck", "", Y, 5.0 * np.sin(a))
    turn("head", "", Z, 3.0 * np.sin(2 * a))
    turn("tail", "", Y, 8.0 * np.sin(2 * a))
    for side, way in (("left", 1.0), ("right", -1.0)):
        turn("arm", side, Z, way * 1.5 * np.sin(a))
    return 0.0


def _breathe(turn: Turn, a: float) -> float:
    deep = 0.5 - 0.5 * np.cos(a)
    turn("spine", "", X, -4.0 * deep)
    turn("neck", "", X, 2.5 * deep)
    for side, way in (("left", 1.0), ("right", -1.0)):
        turn("arm", side, Z, way * 3.0 * deep)
    return 0.0


def _look(turn: Turn, a: float) -> float:
    turn("neck", "", Y, 38.0 * np.sin(a))
    turn("head", "", Y, 16.0 * np.sin(a))
    turn("head", "", X, 10.0 * np.sin(2 * a))
    turn("spine", "", Y, 5.0 * np.sin(a))
    return 0.0


def _reach(turn: Turn, a: float) -> float:
    far = 0.5 - 0.5 * np.cos(a)
    turn("arm", "right", X, -75.0 * far)
    turn("elbow", "right", X, -30.0 * np.sin(a) ** 2)
    turn("spine", "", X, 8.0 * far)
    turn("spine", "", Y, 10.0 * far)
    turn("head", "", X, -8.0 * far)
    return 0.0


MAKE: dict[str, Callable[[Turn, float], float]] = {
    "stand": _stand,
    "breathe": _breathe,
    "look": _look,
    "reach": _reach,
    "walk": _walk,
}
"""What turns what at an angle of the round; each gives how far the body rises, of its height."""
