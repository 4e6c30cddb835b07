"""Poses as words and arrays, and back: limbs with hinges, and rigs."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import DTypeLike

from kneten.core.arrays import AnyArray
from kneten.core.pose.bending import Bending
from kneten.core.pose.chain import Hinge, Limb, Pose
from kneten.core.pose.rig import WEIGHTS, Joint, Rig, wrong_joints
from kneten.core.words import FAR, thing_from, words_of

Read = Callable[..., AnyArray]
"""Gives an array by its name, its kind of numbers and its shape, -1 for any length."""


def pose_words(held: Bending | None, add: Callable[[AnyArray], str]) -> dict[str, Any] | None:
    """All about a pose; each of its arrays, (k,) or (k, columns), is handed to `add`, which gives its name."""
    if held is None:
        return None
    if isinstance(held, Rig):
        joints = [words_of(joint) for joint in held.joints]
        return {"joints": joints, "which": add(held.which), "share": add(held.share), "id": held.id}
    assert isinstance(held, Pose)
    limbs = [
        {
            "rows": add(one.rows),
            "stations": add(one.station),
            "line": add(one.line),
            "first": one.first,
            "step": one.step,
            "across": one.across.tolist(),
            "mirrored": one.mirrored,
        }
        for one in held.limbs
    ]
    return {"limbs": limbs, "hinges": [words_of(one) for one in held.hinges]}


def pose_from(words: dict[str, Any], name: str, n: int, array: Read) -> Bending:
    """The pose of a layer called `name` over `n` vertices. Raises `ValueError` where it does not fit them."""
    return (
        _rig_from(words, name, n, array)
        if words.get("joints") is not None
        else _limbs_from(words, name, n, array)
    )


def _rig_from(words: dict[str, Any], name: str, n: int, array: Read) -> Rig:
    joints = tuple(thing_from(Joint, one) for one in words["joints"])
    why = wrong_joints(joints)
    if why:
        raise ValueError(f"the rig of layer {name} cannot be used: {why}")
    which, share = _read(array, words["which"], np.uint8, n), _read(array, words["share"], np.float32, n)
    sums = share.sum(axis=1)
    if n and (
        int(which.max()) >= len(joints) or not (share >= 0).all() or not (np.abs(sums - 1) < 1e-3).all()
    ):
        raise ValueError(f"the weights of layer {name} are not usable")
    return Rig(joints, which, share, str(words.get("id", "")))


def _read(array: Read, name: str, kind: DTypeLike, n: int) -> AnyArray:
    return array(name, kind, n, WEIGHTS)


def _limbs_from(words: dict[str, Any], name: str, n: int, array: Read) -> Pose:
    limbs = []
    for one in words["limbs"]:
        rows = array(one["rows"], np.int32, -1)
        station = array(one["stations"], np.float32, len(rows))
        line = array(one["line"], np.float32, -1, 3)
        first, step = float(one["first"]), float(one["step"])
        across = np.array([float(value) for value in one["across"]])
        sorted_ = not len(rows) or (rows[0] >= 0 and rows[-1] < n and (np.diff(rows) > 0).all())
        numbers = all((np.abs(values) <= FAR).all() for values in (station, line, across))
        if not sorted_ or not numbers or len(line) < 2 or across.shape != (3,) or not 0 < step <= FAR:
            raise ValueError(f"the pose of layer {name} does not fit its part")
        limbs.append(Limb(rows, station, line, first, step, across, bool(one["mirrored"])))
    hinges = tuple(thing_from(Hinge, one) for one in words["hinges"])
    stations = [hinge.at for hinge in hinges]
    if not hinges or not limbs or stations != sorted(stations) or not all(one.usable for one in hinges):
        raise ValueError(f"the pose of layer {name} is not usable")
    return Pose(tuple(limbs), hinges)
