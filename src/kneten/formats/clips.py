"""Clips of files and the motions and poses of a project, each told as the other."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from kneten.core.arrays import F32, F64
from kneten.core.pose.keys import DIAL, SHIFT, TURN, Keys, Track
from kneten.core.pose.rig import Rig
from kneten.core.pose.shapes import LEAST_DIAL, MOST_DIAL, driven_dials
from kneten.core.words import FAR
from kneten.document.driving import shapes_of, turns_in
from kneten.document.motions import Coded, Moment, bring_motions, kept_motion, told_to_others
from kneten.document.project import Project
from kneten.document.rigging import as_kept, poses_of, rig_of
from kneten.document.scene import Part, Scene
from kneten.document.things import KeptMotion

NOTHING = 1e-6
"""Shares between dials that are alike."""


@dataclass(frozen=True, eq=False)
class DialClip:
    """The dials of an object's shapes over time.

    Attributes
    ----------
    key : str
        The same for all of a file that is played together.
    name : str
    times : (m,) float64
        Seconds.
    values : (m, s) float64
    own : str
        Which of Kneten's own motions it is; "" for others.
    """

    key: str
    name: str
    times: F64
    values: F64
    own: str = ""


# -- out ------------------------------------------------------------------------------------------


@dataclass(frozen=True, eq=False)
class Take:
    """A pose or a motion of a body, moment by moment.

    Attributes
    ----------
    key : str
        That no other has.
    times : (m,) float64
        Seconds; one for a pose.
    moments : list of Moment
    own : str
        Which of Kneten's own motions it is; "" for others.
    """

    key: str
    name: str
    times: F64
    moments: Sequence[Moment]
    own: str = ""


def bodies_of(parts: Sequence[Part], scene: Scene) -> list[Part]:
    """The parts that poses and motions are told of: of those with one rig the one that has such, else the first."""
    told = {one.part for name in ("poses", "motions") for one in scene.things(name)}
    first: dict[str, Part] = {}
    others = []
    for part in parts:
        rig = rig_of(part)
        if rig is None:
            others += [part] if part.id in told else []
            continue
        known = first.get(rig.id)
        if known is None or (known.id not in told and part.id in told):
            first[rig.id] = part
    return [*first.values(), *others]


def takes_of(part: Part, scene: Scene) -> list[Take]:
    """The poses that are kept of a body, and its motions."""
    rig, found = rig_of(part), []
    if rig is not None:
        for kept in poses_of(scene, part):
            found.append(Take(kept.id, kept.name, np.zeros(1), [Moment(kept.name, {}, as_kept(rig, kept))]))
        rig = rig.at_rest()
    for key, motion in told_to_others(scene, part):
        times = motion.times()
        moments = [motion.at(scene, rig, at / motion.seconds) for at in times]
        own = key if isinstance(motion, Coded) else ""
        found.append(Take(f"{part.id}/{key}", motion.name, times, moments, own))
    return found


def dial_clips(ids: Sequence[str], scene: Scene, takes: Mapping[str, Sequence[Take]]) -> tuple[DialClip, ...]:
    """What takes, by the ids of their bodies, do to some shapes, also by way of joints that these follow; those that leave all as they are are left out."""
    held = shapes_of(scene)
    shapes = {key: one.shape for key, one in held.items()}
    now = {key: one.dial for key, one in held.items()}
    turns = turns_in({part.id: part.stack for part in scene.parts if part.stack is not None})
    found = []
    for some in takes.values():
        for take in some:
            rows = []
            for moment in take.moments:
                posed = dict(turns)
                if moment.rig is not None:
                    posed[moment.rig.id] = {joint.name: joint.turn for joint in moment.rig.joints}
                asked = now | dict(moment.dials)
                asked |= driven_dials(shapes, asked, posed)
                rows.append([asked[key] for key in ids])
            values = np.array(rows, np.float64)
            if np.abs(values - [now[key] for key in ids]).max(initial=0.0) > NOTHING:
                found.append(DialClip(take.key, take.name, take.times, values, take.own))
    return tuple(found)


# -- in -------------------------------------------------------------------------------------------


@dataclass(frozen=True, eq=False)
class ReadMotion:
    """What a clip that was read says of one object.

    Attributes
    ----------
    key : str
        Of the clip: what has the same is one motion.
    name : str
    joints : sequence of (Track, (m,) float64, (m, 3) float64)
        Keys of its joints.
    dials : dict
        Seconds (m,) and values (m,) of shapes, by their names.
    """

    key: str
    name: str
    joints: Sequence[tuple[Track, F64, F64]] = ()
    dials: Mapping[str, tuple[F64, F64]] = field(default_factory=dict)

    def __len__(self) -> int:
        """How many keys the track with most has."""
        return max(
            [len(at) for _, at, _ in self.joints] + [len(at) for at, _ in self.dials.values()], default=0
        )


def joint_tracks(
    names: Sequence[str], times: F32, turns: F64, shifts: F64
) -> list[tuple[Track, F64, F64]] | None:
    """Keys of joints that move: turns and shifts (m, k, 3). None where one goes too far to be worked with."""
    if not (np.abs(shifts) <= FAR).all():
        return None
    seconds, found = times.astype(np.float64), []
    for kind, values in ((TURN, turns), (SHIFT, shifts)):
        for k, name in enumerate(names):
            if np.abs(values[:, k]).max() > 0:
                found.append((Track(kind, name), seconds, values[:, k]))
    return found


def bring_clips(
    project: Project,
    read: Sequence[tuple[Part, Rig | None, Sequence[ReadMotion]]],
    ids: Mapping[str, str],
    name: str,
) -> None:
    """Keep the motions that were read of parts: those of one clip are one. Part of the step that brings the parts.

    Parameters
    ----------
    ids : dict
        From the names of shapes in the file to their ids here.
    """
    made: dict[str, tuple[str, str, dict[Track, tuple[F64, F64]]]] = {}
    # A body is what has joints: it comes first.
    for part, _, motions in sorted(read, key=lambda one: one[1] is None):
        for motion in motions:
            _, _, tracks = made.setdefault(motion.key, (motion.name, part.id, {}))
            for track, at, value in motion.joints:
                tracks.setdefault(track, (at, value))
            for title, (at, dials) in motion.dials.items():
                value = np.zeros((len(at), 3))
                value[:, 0] = np.clip(dials, LEAST_DIAL, MOST_DIAL)
                if title in ids:
                    tracks.setdefault(Track(DIAL, ids[title]), (at, value))
    kept: list[KeptMotion] = []
    for title, part_id, tracks in made.values():
        keys = Keys.of((track, at, value) for track, (at, value) in tracks.items())
        if keys.tracks:
            kept.append(kept_motion(title, part_id, keys))
    bring_motions(project, kept, name)
