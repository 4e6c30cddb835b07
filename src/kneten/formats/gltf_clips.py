"""Clips of glTF 2.0: what animations say of nodes over time."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation, Slerp

from kneten.core.arrays import F64, AnyArray
from kneten.core.pose.motions import MOTIONS
from kneten.formats.pieces import FormatError

WIDE = {"rotation": 4, "translation": 3, "scale": 3}
"""Numbers in a key of each path but weights."""

MOST_MOMENTS = 4_000
"""Of a clip that are read at most: more than two minutes, thirty a second."""

MOST_NUMBERS = 400_000
"""Moments times joints of a clip that are read at most."""

BENDS = 48
"""Moments a second at which a curve that bends is taken."""

STEP = 1e-3
"""Seconds in which what jumps does so."""

OWN = "kneten_motion"
"""In the extras of a clip: which of Kneten's own motions it is. What it has itself it does not read again."""

LONGEST = 36_000.0
"""Seconds of a clip at most: ten hours."""


@dataclass(frozen=True, eq=False)
class Curve:
    """How a value of a node goes over time.

    Attributes
    ----------
    at : (m,) float64
        Seconds, ascending.
    value : (m, w) float64
    way : str
        LINEAR, STEP or CUBICSPLINE.
    before, after : (m, w) float64
        Slopes of a curve that bends.
    round : bool
        Of turns, quaternions.
    """

    at: F64
    value: F64
    way: str
    before: F64
    after: F64
    round: bool

    def moments(self) -> F64:
        """The seconds (m,) at which it must be asked so that nothing is lost when it goes straight between them."""
        if self.way == "STEP" and len(self.at) > 1:
            return np.concatenate([self.at, self.at[1:] - np.minimum(STEP, np.diff(self.at) / 2)])
        if self.way == "CUBICSPLINE" and len(self.at) > 1:
            more = np.arange(self.at[0], self.at[-1], max(1 / BENDS, np.ptp(self.at) / MOST_MOMENTS))
            return np.concatenate([self.at, more])
        return self.at

    def sampled(self, times: F64) -> F64:
        """Its values at some seconds (t,), (t, w)."""
        at = np.clip(times, self.at[0], self.at[-1])
        k = np.clip(np.searchsorted(self.at, at, side="right") - 1, 0, max(len(self.at) - 2, 0))
        if len(self.at) == 1 or self.way == "STEP":
            k = np.searchsorted(self.at, at, side="right") - 1
            out = self.value[k]
        elif self.way == "CUBICSPLINE":
            wide = self.at[k + 1] - self.at[k]
            s = ((at - self.at[k]) / wide)[:, None]
            wide = wide[:, None]
            out = (
                (2 * s**3 - 3 * s**2 + 1) * self.value[k]
                + (s**3 - 2 * s**2 + s) * wide * self.after[k]
                + (3 * s**2 - 2 * s**3) * self.value[k + 1]
                + (s**3 - s**2) * wide * self.before[k + 1]
            )
        elif self.round:
            return np.asarray(self._turns(at).as_quat())
        else:
            s = ((at - self.at[k]) / (self.at[k + 1] - self.at[k]))[:, None]
            out = self.value[k] * (1 - s) + self.value[k + 1] * s
        if self.round:
            out = out / np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-12)
        return np.asarray(out)

    @cached_property
    def _turns(self) -> Slerp:
        return Slerp(self.at, Rotation.from_quat(self.value))


@dataclass(frozen=True, eq=False)
class ReadClip:
    """An animation.

    Attributes
    ----------
    key : str
        That no other of the file has.
    name : str
    curves : dict
        By the numbers of nodes and what of them: rotation, translation, scale, weights.
    """

    key: str
    name: str
    curves: Mapping[tuple[int, str], Curve] = field(default_factory=dict)

    def moments(self, nodes: Collection[int], paths: Iterable[str], wide: int = 1) -> F64:
        """The seconds (m,) at which some nodes must be asked, from the clip's beginning; empty where it says nothing of them. `wide` things are told at each."""
        paths = set(paths)
        some = [
            curve.moments() for (node, path), curve in self.curves.items() if node in nodes and path in paths
        ]
        if not some:
            return np.empty(0)
        found = np.unique(np.concatenate(some))
        most = max(min(MOST_MOMENTS, MOST_NUMBERS // max(wide, 1)), 2)
        return found if len(found) <= most else np.linspace(found[0], found[-1], most)

    @cached_property
    def begins(self) -> float:
        """When its first key is, seconds."""
        return min((float(curve.at[0]) for curve in self.curves.values()), default=0.0)


def read_clips(words: dict[str, Any], accessor: Callable[[int], AnyArray]) -> list[ReadClip]:
    """The animations of a file's description, whose arrays (n, w) `accessor` gives, without Kneten's own motions. Raises `FormatError`."""
    found = []
    for number, one in enumerate(words.get("animations", [])):
        extras = one.get("extras")
        if isinstance(extras, dict) and extras.get(OWN) in MOTIONS:
            continue
        curves = {}
        for channel in one["channels"]:
            target = channel["target"]
            path = target["path"]
            if "node" not in target or path not in (*WIDE, "weights"):
                # An extension has other targets; the standard has readers leave these out.
                continue
            if not 0 <= target["node"] < len(words.get("nodes", [])):
                raise FormatError("a clip moves a node that is not there")
            curves[target["node"], path] = _curve(one["samplers"][channel["sampler"]], path, accessor)
        found.append(ReadClip(str(number), str(one.get("name") or f"Clip {number + 1}"), curves))
    return found


def _curve(sampler: dict[str, Any], path: str, accessor: Callable[[int], AnyArray]) -> Curve:
    at = accessor(sampler["input"]).astype(np.float64).reshape(-1)
    value = accessor(sampler["output"]).astype(np.float64)
    way = sampler.get("interpolation", "LINEAR")
    if way not in ("LINEAR", "STEP", "CUBICSPLINE"):
        raise FormatError(f"a clip goes from key to key by {str(way)[:20]}, which glTF 2.0 does not know")
    if (
        not len(at)
        or not np.isfinite(at).all()
        or not (np.diff(at) > 0).all()
        or not 0 <= at[0] <= at[-1] <= LONGEST
    ):
        raise FormatError("the times of a clip are not in order")
    each = 3 if way == "CUBICSPLINE" else 1
    if not np.isfinite(value).all() or value.size % (len(at) * each):
        raise FormatError("the keys of a clip do not fit its times")
    value = value.reshape(len(at), each, -1)
    if not value.shape[2] or value.shape[2] != WIDE.get(path, value.shape[2]):
        raise FormatError("the keys of a clip do not fit its times")
    before, middle, after = value[:, 0], value[:, each // 2], value[:, each - 1]
    if path == "rotation" and (np.linalg.norm(middle, axis=1) < 1e-6).any():
        raise FormatError("a clip turns a node by nothing that is a turn")
    return Curve(at, middle, way, before, after, path == "rotation")
