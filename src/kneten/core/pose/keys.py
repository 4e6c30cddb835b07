"""Motions by keys: how joints turn and shift, and how far dials go, at moments between which they go on evenly.

A turn goes from key to key by the shorter way, at an even pace: the spherical way between two turns of Shoemake
("Animating rotation with quaternion curves", 1985). Shifts and dials go straight.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property
from typing import Self

import numpy as np
from scipy.spatial.transform import Rotation

from kneten.core.arrays import F32, F64, I32, AnyArray
from kneten.core.pose.rig import NOWHERE, Rig, Vector, as_vector

TURN, SHIFT, DIAL = "turn", "shift", "dial"

KINDS = (TURN, SHIFT, DIAL)

SAME = 1e-4
"""Degrees, mm or shares of a dial between keys that are all alike."""


@dataclass(frozen=True)
class Track:
    """What keys are of.

    Attributes
    ----------
    kind : str
        One of `KINDS`.
    of : str
        The name of a joint, or the id of a shape.
    """

    kind: str
    of: str


@dataclass(frozen=True, eq=False)
class Keys:
    """The keys of a motion.

    Attributes
    ----------
    tracks : tuple of Track
    which : (n,) int32
        The track of each key; those of a track lie together, in the order of the tracks.
    at : (n,) float32
        Seconds, ascending within a track.
    value : (n, 3) float32
        Axis times degrees of a turn; mm of a shift; a dial is the first of the three.
    """

    tracks: tuple[Track, ...]
    which: I32
    at: F32
    value: F32

    @classmethod
    def of(cls, tracks: Iterable[tuple[Track, F64, F64]]) -> Self:
        """From tracks with their seconds (m,) and values (m, 3); keys that say nothing are left out."""
        kept: list[Track] = []
        which, ats, values = [], [], []
        for track, at, value in tracks:
            telling = _telling(value)
            which.append(np.full(int(telling.sum()), len(kept), np.int32))
            ats.append(at[telling].astype(np.float32))
            values.append(value[telling].astype(np.float32))
            kept.append(track)
        if not kept:
            return cls((), np.empty(0, np.int32), np.empty(0, np.float32), np.empty((0, 3), np.float32))
        return cls(tuple(kept), np.concatenate(which), np.concatenate(ats), np.concatenate(values))

    def check(self) -> None:
        """Raise `ValueError` where they make no motion."""
        count = len(self.tracks)
        fits = 0 < count == len(set(self.tracks)) and all(one.kind in KINDS for one in self.tracks)
        if not fits or not np.array_equal(np.unique(self.which), np.arange(count)):
            raise ValueError("its tracks and its keys do not fit")
        later = np.diff(self.which) > 0
        if (np.diff(self.which) < 0).any() or not (np.diff(self.at)[~later] > 0).all() or (self.at < 0).any():
            raise ValueError("its keys are not in order")

    @property
    def seconds(self) -> float:
        """How long one round takes."""
        return float(self.at.max(initial=0.0))

    @cached_property
    def _ends(self) -> I32:
        """Where the keys of each track begin and end, (tracks + 1,)."""
        return np.searchsorted(self.which, np.arange(len(self.tracks) + 1)).astype(np.int32)

    def moments(self) -> F64:
        """All seconds (m,) at which any track has a key, ascending."""
        return np.unique(self.at).astype(np.float64)

    def values(self, seconds: float) -> F64:
        """What each track says at a moment, (tracks, 3): before its first key as there, after its last one as there."""
        first, end = self._ends[:-1], self._ends[1:]
        # A key more than lie before the moment; within its own track always.
        after = first + np.add.reduceat(self.at <= seconds, first, dtype=np.int32)
        above, below = np.clip(after, first, end - 1), np.clip(after - 1, first, end - 1)
        wide = np.maximum(self.at[above] - self.at[below], 1e-9)
        share = np.clip((seconds - self.at[below]) / wide, 0.0, 1.0)[:, None]
        low, high = self.value[below].astype(np.float64), self.value[above].astype(np.float64)
        out = low + share * (high - low)
        turns = np.array([one.kind == TURN for one in self.tracks])
        if turns.any():
            one, other = (Rotation.from_rotvec(np.radians(some[turns])) for some in (low, high))
            way = (one.inv() * other).as_rotvec() * share[turns]
            out[turns] = np.degrees((one * Rotation.from_rotvec(way)).as_rotvec())
        return out

    def posed(self, rig: Rig, seconds: float) -> Rig:
        """A rig as it is at a moment; joints without keys rest."""
        turns, shifts, _ = self.told(seconds)
        names = dict.fromkeys([*turns, *shifts])
        return rig.with_moves({name: (turns.get(name, NOWHERE), shifts.get(name, NOWHERE)) for name in names})

    def told(self, seconds: float) -> tuple[dict[str, Vector], dict[str, Vector], dict[str, float]]:
        """The turns and shifts of joints, by their names, and the dials of shapes, by their ids, at a moment."""
        found: dict[str, dict[str, Vector]] = {kind: {} for kind in KINDS}
        for track, value in zip(self.tracks, self.values(seconds), strict=True):
            found[track.kind][track.of] = as_vector(value)
        dials = {key: value[0] for key, value in found[DIAL].items()}
        return found[TURN], found[SHIFT], dials

    def joints(self) -> list[str]:
        """The names of the joints that have keys."""
        return list(dict.fromkeys(one.of for one in self.tracks if one.kind != DIAL))

    def dials(self) -> list[str]:
        """The ids of the shapes that have keys."""
        return [one.of for one in self.tracks if one.kind == DIAL]


def _telling(value: F64) -> AnyArray:
    """Which of keys in a row (m, 3) are not like both their neighbours; where all are alike, the first alone."""
    telling = np.ones(len(value), bool)
    if np.ptp(value, axis=0).max() < SAME:
        telling[1:] = False
        return telling
    still = (np.diff(value.astype(np.float32), axis=0) == 0).all(axis=1)
    telling[1:-1] = ~(still[:-1] & still[1:])
    return telling
