"""Motions that a body or a face can be shown in: those made by code, and those that are kept of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from kneten.core.arrays import F64
from kneten.core.pose import motions
from kneten.core.pose.keys import Keys
from kneten.core.pose.rig import Rig
from kneten.core.pose.shapes import LEAST_DIAL, MOST_DIAL
from kneten.document.driving import shapes_of
from kneten.document.project import Project
from kneten.document.rigging import pose_rigs, posed_alike, rig_of
from kneten.document.scene import Part, Scene
from kneten.document.shapes import dial
from kneten.document.things import KeptMotion

SHORTEST = 0.5
"""Seconds that a round takes at least, whatever its keys say."""

PACE = 24
"""Pictures a second, where a motion made by code is told moment by moment."""


@dataclass(frozen=True, eq=False)
class Moment:
    """How a face is dialled and a body is posed.

    Attributes
    ----------
    words : str
    dials : dict of str to float
        Of shapes, by their ids; others stay as they are.
    rig : Rig or None
        How the body is posed; as it is where there is none.
    """

    words: str
    dials: Mapping[str, float] = field(default_factory=dict)
    rig: Rig | None = None


class Coded:
    """A motion made by code."""

    def __init__(self, key: str) -> None:
        self._key = key
        self.name = motions.MOTIONS[key].name
        self.seconds = motions.MOTIONS[key].seconds

    def lacking(self, scene: Scene, rig: Rig | None) -> str:
        """Why it would show nothing; "" where it shows something."""
        return NO_JOINTS if rig is None else motions.lacking(rig, self._key)

    def at(self, scene: Scene, rig: Rig | None, phase: float) -> Moment:
        """The body at a phase of the round, 0 to 1, from how its rig is posed."""
        return Moment(
            moment_words(self.name, phase), {}, None if rig is None else motions.moved(rig, self._key, phase)
        )

    def times(self) -> F64:
        """Seconds (m,) at which it is told to others, the first and the last alike."""
        return np.linspace(0, self.seconds, round(self.seconds * PACE) + 1)


class ByKeys:
    """A motion that is kept."""

    def __init__(self, kept: KeptMotion) -> None:
        self.kept = kept
        self.name = kept.name
        self.seconds = max(kept.keys.seconds, SHORTEST)

    def lacking(self, scene: Scene, rig: Rig | None) -> str:
        """Why it would show nothing; "" where it shows something."""
        keys = self.kept.keys
        names = set() if rig is None else {joint.name for joint in rig.joints}
        if names & set(keys.joints()) or self._free(scene) & set(keys.dials()):
            return ""
        if keys.joints():
            return f"{self.name} moves {', '.join(keys.joints()[:3])}: no joint of this body is called so."
        return f"The shapes that {self.name} moves are not there any more."

    def at(self, scene: Scene, rig: Rig | None, phase: float) -> Moment:
        """The body and its shapes at a phase of the round, 0 to 1."""
        keys = self.kept.keys
        seconds, free = phase * self.seconds, self._free(scene)
        _, _, dials = keys.told(seconds)
        some = {key: min(max(value, LEAST_DIAL), MOST_DIAL) for key, value in dials.items() if key in free}
        posed = keys.posed(rig, seconds) if rig is not None and keys.joints() else None
        return Moment(moment_words(self.name, phase), some, posed)

    def times(self) -> F64:
        """Seconds (m,) at which it has keys."""
        return self.kept.keys.moments()

    def _free(self, scene: Scene) -> set[str]:
        return {key for key, one in shapes_of(scene).items() if not one.shape.drivers}


Played = Coded | ByKeys


def moment_words(name: str, phase: float) -> str:
    """A moment of a motion, for the user."""
    return f"{name} at {100 * phase:.0f} %"


NO_JOINTS = "The part in hand has no rig: take one from its armature, or place joints."


def motions_of(scene: Scene, part: Part | None) -> tuple[KeptMotion, ...]:
    """The motions that are kept of a part, and of the shapes that it takes part in."""
    if part is None:
        return ()
    layers = () if part.stack is None else part.stack.layers
    own = {layer.shape.id for layer in layers if layer.shape is not None}
    return tuple(one for one in scene.things("motions") if one.part == part.id or own & set(one.keys.dials()))


def played(scene: Scene, part: Part | None, key: str) -> Played | None:
    """The motion of a key: of one made by code, or the id of one that is kept of a part; None where there is none."""
    if key in motions.MOTIONS:
        return Coded(key)
    return next((ByKeys(one) for one in motions_of(scene, part) if one.id == key), None)


def told_to_others(scene: Scene, part: Part) -> list[tuple[str, Played]]:
    """The motions that files are told of a part, with keys: those made by code that its joints know, and those kept of it itself."""
    rig = rig_of(part)
    coded = [(key, Coded(key)) for key in motions.MOTIONS]
    found: list[tuple[str, Played]] = [(key, one) for key, one in coded if not one.lacking(scene, rig)]
    return found + [(one.id, ByKeys(one)) for one in scene.things("motions") if one.part == part.id]


# -- changes --------------------------------------------------------------------------------------


def take_moment(project: Project, part: Part, moment: Moment, name: str) -> None:
    """Pose a body and dial its shapes as a moment has them: one step."""
    with project.at_once(name):
        if moment.rig is not None and rig_of(part) is not None:
            pose_rigs(project, posed_alike(project.scene, part, moment.rig), name)
        if moment.dials:
            dial(project, moment.dials, name)


def bring_motions(project: Project, made: Sequence[KeptMotion], name: str) -> None:
    """Keep motions that were read, under names that no other of the project's has: part of the step that brings their parts."""
    if not made:
        return
    scene = project.scene
    taken = {one.name for one in scene.things("motions")}
    kept = []
    for one in made:
        title = next(
            n for k in range(1, 9999) if (n := f"{one.name} {k}" if k > 1 else one.name) not in taken
        )
        taken.add(title)
        kept.append(replace(one, name=title))
    project.change(name, scene.with_things("motions", (*scene.things("motions"), *kept)))


def forget_motion(project: Project, kept: KeptMotion) -> None:
    """Forget a motion: one step."""
    scene = project.scene
    left = tuple(one for one in scene.things("motions") if one.id != kept.id)
    project.change(f"Forget {kept.name}", scene.with_things("motions", left))


def kept_motion(name: str, part: str, keys: Keys) -> KeptMotion:
    """Keep keys as a motion of a part, whose id is given."""
    return KeptMotion(name, part, keys.tracks, keys.which, keys.at, keys.value)
