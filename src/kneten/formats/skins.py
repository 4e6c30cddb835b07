"""Rigs as files hold them: one skeleton in the scene's axes, skins of parts that hang on it, poses and motions as clips."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from scipy.spatial.transform import Rotation

from kneten.core.arrays import F32, F64, U8
from kneten.core.mesh import Mesh
from kneten.core.pose.rig import Joint, Rig, as_vector
from kneten.core.pose.weights import weights_above
from kneten.core.transform import Transform
from kneten.core.words import FAR
from kneten.document.opening import stack_of
from kneten.document.rigging import rig_layer, rig_of, with_twins
from kneten.document.scene import Part
from kneten.document.things import JointMove, KeptPose
from kneten.formats.clips import ReadMotion, Take, joint_tracks
from kneten.formats.space import Space

NEAR = 1e-3
"""Mm between joints that lie on each other in a file."""

TURNED = 1e-4
"""Degrees and mm below which a joint that was read rests."""


@dataclass(frozen=True, eq=False)
class Clip:
    """Joints that move over time.

    Attributes
    ----------
    times : (m,) float32
        Seconds.
    turns : (m, k, 4) float64
        Quaternions x, y, z, w of all joints.
    shifts : (m, k, 3) float64
    key : str
        That no other clip of the file has.
    own : str
        Which of Kneten's own motions it is; "" for others.
    """

    name: str
    times: F32
    turns: F64
    shifts: F64
    key: str
    own: str = ""


@dataclass(frozen=True, eq=False)
class Skeleton:
    """Joints in a file's space; at rest their axes are the file's.

    Attributes
    ----------
    names : tuple of str
    parents : tuple of int
        -1 for none; what a joint hangs on comes before it.
    places : (k, 3) float64
        At rest.
    turns : (k, 4) float64
        As they are turned now: quaternions x, y, z, w.
    shifts : (k, 3) float64
        How far each is moved now, in the axes of what it hangs on.
    clips : tuple of Clip
    """

    name: str
    names: tuple[str, ...]
    parents: tuple[int, ...]
    places: F64
    turns: F64
    shifts: F64
    clips: tuple[Clip, ...] = field(default=())


@dataclass(frozen=True, eq=False)
class Skin:
    """How an object hangs on a skeleton.

    Attributes
    ----------
    skeleton : Skeleton
        The same for all that hang on it.
    rest : (n, 3) float32
        Where its vertices are at rest, in the file's space.
    which : (n, 4) uint8
    share : (n, 4) float32
        Joints and weights of its vertices.
    """

    skeleton: Skeleton
    rest: F32
    which: U8
    share: F32


def moves_in(rig: Rig, place: Transform, space: Space, share: float = 1.0) -> tuple[F64, F64]:
    """The turns (k, 4) of a rig's joints, posed by a share, and their shifts (k, 3), in a file's space."""
    axes = place.axes()
    # An axis of turning goes the other way round in a mirror.
    axial = axes * np.sign(np.linalg.det(axes))
    turns = np.array([joint.turn for joint in rig.joints]) * share @ axial.T
    shifts = np.array([joint.shift for joint in rig.joints]) * share @ axes.T * place.scale
    quaternions = Rotation.from_rotvec(np.radians(space.swapped(turns))).as_quat()
    return np.asarray(quaternions), space.out_of(shifts).astype(np.float64)


def clips_of(part: Part, takes: Sequence[Take], space: Space) -> tuple[Clip, ...]:
    """The poses and motions of a body as clips of its joints."""
    found = []
    for take in takes:
        rigs = [moment.rig for moment in take.moments if moment.rig is not None]
        if len(rigs) == len(take.times):
            moves = [moves_in(rig, part.transform, space) for rig in rigs]
            turns, shifts = (np.array([one[k] for one in moves]) for k in (0, 1))
            found.append(Clip(take.name, take.times.astype(np.float32), turns, shifts, take.key, take.own))
    return tuple(found)


def skins_of(parts: Sequence[Part], takes: Mapping[str, Sequence[Take]], space: Space) -> dict[str, Skin]:
    """The skins of parts that have a rig, by their id, vertices in source order; what is played of bodies is given by their ids."""
    skeletons: dict[str, Skeleton] = {}
    found = {}
    # Bodies first: what their joints do is told of them.
    for part in sorted(parts, key=lambda one: one.id not in takes):
        rig, layer = rig_of(part), rig_layer(part)
        if rig is None or layer is None:
            continue
        stack = stack_of(part)
        share = stack.strength(layer)
        if rig.id not in skeletons:
            turns, shifts = moves_in(rig, part.transform, space, share)
            skeletons[rig.id] = Skeleton(
                part.name,
                tuple(joint.name for joint in rig.joints),
                tuple(joint.parent for joint in rig.joints),
                space.out_of(part.transform.to_scene(rig.places)).astype(np.float64),
                turns,
                shifts,
                clips_of(part, takes.get(part.id, ()), space),
            )
        steps = [level.step for level in stack.levels[1 : stack.level + 1]]
        shapes = [level.topology for level in stack.levels]
        which, weights = weights_above(rig, shapes, [step for step in steps if step is not None])
        rest = rig.posed_some(part.mesh.positions, which, weights, share, back=True)
        order = part.mesh.in_source_order
        found[part.id] = Skin(
            skeletons[rig.id],
            space.out_of(part.transform.to_scene(order(rest).astype(np.float64))),
            order(which),
            order(weights),
        )
    return found


def rig_from(skin: Skin, space: Space, mesh: Mesh, key: str) -> Rig:
    """A skin that was read as the rig of a mesh made of it, in its axes; `key` is the rig's id. Raises `ValueError` where it stands too far off."""
    skeleton = skin.skeleton
    places = space.into(skeleton.places.astype(np.float32)).astype(np.float64)
    turns, shifts = _moves_from(skeleton.turns, skeleton.shifts, space)
    for k, parent in enumerate(skeleton.parents):
        if parent >= 0 and np.linalg.norm(places[k] - places[parent]) < 1e-6:
            # Some programs have joints on joints: so near it makes no difference.
            places[k, 1] += NEAR
    joints = tuple(
        Joint(name, parent, as_vector(place), turn=as_vector(turn), shift=as_vector(shift))
        for name, parent, place, turn, shift in zip(
            skeleton.names, skeleton.parents, places, turns, shifts, strict=True
        )
    )
    source = mesh.topology.source_vertex
    size = float(np.linalg.norm(np.ptp(mesh.positions, axis=0)))
    numbers = np.abs(np.concatenate([places, shifts]))
    rig = Rig(with_twins(joints, size), skin.which[source], skin.share[source], key)
    if not (numbers <= FAR).all() or not (np.abs(rig.posed(mesh.positions, 1.0)) <= FAR).all():
        raise ValueError("a joint stands too far off to be worked with")
    return rig


def poses_from(skeleton: Skeleton, space: Space, part: str) -> list[KeptPose]:
    """The clips of one key that were read, as kept poses of a part, whose id is given."""
    found = []
    for clip in skeleton.clips:
        if len(clip.times) > 1:
            continue
        turns, shifts = _moves_from(clip.turns[0], clip.shifts[0], space)
        if not (np.abs(shifts) <= FAR).all():
            continue
        moves = tuple(
            JointMove(name, as_vector(turn), as_vector(shift))
            for name, turn, shift in zip(skeleton.names, turns, shifts, strict=True)
            if np.abs(turn).max() > TURNED or np.abs(shift).max() > TURNED
        )
        found.append(KeptPose(clip.name, part, moves))
    return found


def motions_from(skeleton: Skeleton, space: Space) -> list[ReadMotion]:
    """The clips of several keys that were read."""
    found = []
    for clip in skeleton.clips:
        if len(clip.times) == 1:
            continue
        moves = [_moves_from(*one, space) for one in zip(clip.turns, clip.shifts, strict=True)]
        turns, shifts = (np.array([one[k] for one in moves]) for k in (0, 1))
        tracks = joint_tracks(skeleton.names, clip.times, turns, shifts)
        if tracks is not None:
            found.append(ReadMotion(clip.key, clip.name, tracks))
    return found


def _moves_from(turns: F64, shifts: F64, space: Space) -> tuple[F64, F64]:
    degrees = np.degrees(Rotation.from_quat(turns).as_rotvec())
    turned = space.unswapped(np.where(np.abs(degrees) > TURNED, degrees, 0.0))
    shifted = space.into(shifts.astype(np.float32)).astype(np.float64)
    return turned, np.where(np.abs(shifted) > TURNED, shifted, 0.0)
