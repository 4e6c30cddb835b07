"""Armatures: balls joined by limbs, and what one does with them. The skin stands in `skin.py`."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial.transform import Rotation

from kneten.core.arrays import F64, Progress
from kneten.core.live.clay import Clay, RecipeError
from kneten.core.live.skin import PASSES, ROUGH_PASSES, skin

Change = Callable[[F64, float], tuple[F64, float]]
"""What happens to a ball's place and radius."""


@dataclass(frozen=True)
class Joint:
    """A ball.

    Attributes
    ----------
    key : int
        Its number in the armature; stays when others go.
    parent : int
        The ball it was dragged out of; -1 for the first.
    place : three floats
    radius : float
    twin : int
        The ball on the other side of x = 0; its own key when it lies in the middle, -1 when it has none.
    name : str
    """

    key: int
    parent: int
    place: tuple[float, float, float]
    radius: float
    twin: int = -1
    name: str = ""


@dataclass(frozen=True)
class Armature:
    """Balls, limbs and how they are skinned.

    Attributes
    ----------
    joints : tuple of Joint
    edge : float
        Mean edge length of the skin in millimetres.
    blend : float
        How softly limbs run into each other, as a share of their thickness.
    """

    joints: tuple[Joint, ...] = (Joint(0, -1, (0.0, 0.0, 0.0), 20.0, 0),)
    edge: float = 4.0
    blend: float = 0.14

    kind = "armature"

    def made(self, progress: Progress | None = None, rough: bool = False) -> Clay:
        """The skin; a rough one is less even. Raises `RecipeError` when there is nothing to skin."""
        if not self.joints:
            raise RecipeError("an armature needs at least one ball")
        if not self.edge > 0:
            raise RecipeError("the skin's edge length must be greater than zero")
        passes = ROUGH_PASSES if rough else PASSES
        return skin(*self.arrays(), self.edge, self.blend, self.symmetric(), progress or Progress(), passes)

    def arrays(self) -> tuple[F64, F64, list[tuple[int, int]]]:
        """Places (n, 3), radii (n,), and limbs as pairs of rows."""
        row = {joint.key: i for i, joint in enumerate(self.joints)}
        limbs = [(row[j.parent], row[j.key]) for j in self.joints if j.parent in row]
        return (
            np.array([j.place for j in self.joints], np.float64),
            np.array([j.radius for j in self.joints], np.float64),
            limbs,
        )

    def symmetric(self) -> bool:
        """Whether every ball has a twin exactly across x = 0."""
        by_key = {j.key: j for j in self.joints}
        for joint in self.joints:
            twin = by_key.get(joint.twin)
            if twin is None or twin.radius != joint.radius:
                return False
            x, y, z = joint.place
            if twin.place != (-x, y, z) and not (x == 0 and twin is joint):
                return False
        return True

    # -- asking ---------------------------------------------------------------------------------

    def joint(self, key: int) -> Joint:
        """The ball with this key. Raises `KeyError`."""
        for joint in self.joints:
            if joint.key == key:
                return joint
        raise KeyError(key)

    def below(self, key: int) -> set[int]:
        """The ball and everything that hangs on it."""
        found = {key}
        while True:
            more = {j.key for j in self.joints if j.parent in found} - found
            if not more:
                return found
            found |= more

    # -- changing -------------------------------------------------------------------------------

    def drag_out(
        self, key: int, place: tuple[float, float, float], radius: float, both: bool = True
    ) -> tuple[Armature, int]:
        """A new ball out of another, on both sides where that is wanted; and its key."""
        parent = self.joint(key)
        new = max(j.key for j in self.joints) + 1
        x, y, z = place
        if not both or parent.twin < 0:
            joint = Joint(new, key, place, radius)
            return replace(self, joints=(*self.joints, joint)), new
        if abs(x) < radius * 0.4 and parent.twin == key:
            joint = Joint(new, key, (0.0, y, z), radius, new)
            return replace(self, joints=(*self.joints, joint)), new
        pair = (
            Joint(new, key, place, radius, new + 1),
            Joint(new + 1, parent.twin, (-x, y, z), radius, new),
        )
        return replace(self, joints=(*self.joints, *pair)), new

    def moved(
        self, key: int, place: tuple[float, float, float], subtree: bool, both: bool = True
    ) -> Armature:
        """One ball, or all that hangs on it, moved so that the ball stands at a place."""
        way = np.array(place) - np.array(self.joint(key).place)
        keys = self.below(key) if subtree else {key}
        return self._changed(keys, lambda p, r: (p + way, r), both)

    def turned(self, key: int, axis: F64, degrees: float, both: bool = True) -> Armature:
        """All that hangs on a ball turned about it, around an axis (3,)."""
        spin = Rotation.from_rotvec(np.radians(degrees) * axis / np.linalg.norm(axis))
        pivot = np.array(self.joint(key).place)
        return self._changed(self.below(key) - {key}, lambda p, r: (spin.apply(p - pivot) + pivot, r), both)

    def scaled(
        self, key: int, factor: float, subtree: bool, both: bool = True, sizes: bool = True
    ) -> Armature:
        """A ball made larger; or all that hangs on it spread about it, with or without its balls' sizes. Raises `RecipeError`."""
        if not np.isfinite(factor) or factor <= 0:
            raise RecipeError("a size must be greater than zero")
        pivot = np.array(self.joint(key).place)
        keys = self.below(key) if subtree else {key}

        def grow(p: F64, r: float) -> tuple[F64, float]:
            return (pivot + (p - pivot) * factor if subtree else p), r * factor if sizes else r

        return self._changed(keys, grow, both)

    def inserted(self, key: int, share: float = 0.5) -> tuple[Armature, int]:
        """A new ball in the limb that leads to a ball, on both sides; and its key. Raises `RecipeError`."""
        joint = self.joint(key)
        if joint.parent < 0:
            raise RecipeError("the first ball has no limb to put a ball into")
        new = max(j.key for j in self.joints) + 1
        pairs = [(joint, new)]
        twin = self.joint(joint.twin) if joint.twin >= 0 else None
        if twin is not None and twin.key != joint.key:
            pairs.append((twin, new + 1))
        joints = list(self.joints)
        for child, own in pairs:
            parent = self.joint(child.parent)
            a, b = np.array(parent.place), np.array(child.place)
            x, y, z = (float(v) for v in a + (b - a) * share)
            other = own if len(pairs) == 1 else new + new + 1 - own
            radius = parent.radius + (child.radius - parent.radius) * share
            if joint.twin < 0:
                other = -1
            joints.append(Joint(own, child.parent, (x, y, z), radius, other))
            at = next(i for i, j in enumerate(joints) if j.key == child.key)
            joints[at] = replace(joints[at], parent=own)
        return replace(self, joints=tuple(joints)), new

    def without(self, key: int, subtree: bool = False) -> Armature:
        """A ball taken out on both sides; what hung on it hangs on its parent, or goes too. Raises `RecipeError`."""
        joint = self.joint(key)
        gone = {key} | ({joint.twin} if joint.twin >= 0 else set())
        if subtree:
            for one in list(gone):
                gone |= self.below(one)
        roots = [j for j in self.joints if j.parent < 0]
        if any(root.key in gone for root in roots) or len(gone) >= len(self.joints):
            raise RecipeError("the first ball stays; delete the part to take all of it away")
        parents = {j.key: j.parent for j in self.joints}

        def up(parent: int) -> int:
            while parent in gone:
                parent = parents[parent]
            return parent

        left = (replace(j, parent=up(j.parent)) for j in self.joints if j.key not in gone)
        return replace(self, joints=tuple(left))

    def attached(self, key: int, parent: int) -> Armature:
        """A ball, with all that hangs on it, hung on another; twins follow. Raises `RecipeError` for loops."""
        if parent in self.below(key):
            raise RecipeError("a limb cannot hang on itself")
        joint, other = self.joint(key), self.joint(parent)
        wanted = {key: parent}
        if joint.twin >= 0 and joint.twin != key and other.twin >= 0:
            wanted[joint.twin] = other.twin
        joints = (replace(j, parent=wanted.get(j.key, j.parent)) for j in self.joints)
        return replace(self, joints=tuple(joints))

    def _changed(self, keys: Iterable[int], change: Change, both: bool) -> Armature:
        new = {}
        for joint in self.joints:
            if joint.key in keys:
                place, radius = change(np.array(joint.place), joint.radius)
                x, y, z = (float(v) for v in place)
                if both and joint.twin == joint.key:
                    x = 0.0
                new[joint.key] = replace(joint, place=(x, y, z), radius=float(radius))
        if both:
            for joint in list(new.values()):
                if joint.twin >= 0 and joint.twin not in new:
                    x, y, z = joint.place
                    new[joint.twin] = replace(self.joint(joint.twin), place=(-x, y, z), radius=joint.radius)
                elif joint.twin >= 0 and joint.twin != joint.key and joint.twin > joint.key:
                    # Both sides were named: the first one leads.
                    x, y, z = joint.place
                    new[joint.twin] = replace(new[joint.twin], place=(-x, y, z), radius=joint.radius)
        return replace(self, joints=tuple(new.get(j.key, j) for j in self.joints))
