"""Where a stroke has its likes: mirrored, and turned all round."""

from __future__ import annotations

import functools
import itertools
from dataclasses import dataclass, replace

import numpy as np

from kneten.core.arrays import F64
from kneten.core.brushes.tool import Dab
from kneten.core.twins import turn_about

Axes = tuple[bool, bool, bool]


@dataclass(frozen=True)
class Twin:
    """Where a dab has its like: `linear` (3, 3) times the place, plus `shift` (3,)."""

    linear: F64
    shift: F64

    @property
    def matrix(self) -> F64:
        """The same as a (4, 4) matrix."""
        whole = np.eye(4)
        whole[:3, :3], whole[:3, 3] = self.linear, self.shift
        return whole

    @property
    def turns_over(self) -> bool:
        """Whether it mirrors, so that what turns right here turns left there."""
        return bool(np.linalg.det(self.linear) < 0)


def twins_of(symmetry: Axes, radial: tuple[int, int] = (0, 1), place: F64 | None = None) -> list[Twin]:
    """The places a stroke works at: its own first, then its mirror images, each of them turned about an axis.

    Parameters
    ----------
    symmetry : three bools
        Mirror across x = 0, y = 0, z = 0.
    radial : pair of int
        Axis and number of turned copies all round; 1 for none.
    place : (4, 4) float64, optional
        Brings the part's space to the one whose planes and axes are meant; the part's own when left out.
    """
    found = _twins(tuple(symmetry), tuple(radial))
    if place is None:
        return list(found)
    back = np.linalg.inv(place)
    wholes = [back @ twin.matrix @ place for twin in found]
    return [Twin(whole[:3, :3], whole[:3, 3]) for whole in wholes]


@functools.lru_cache(64)
def _twins(symmetry: Axes, radial: tuple[int, int]) -> tuple[Twin, ...]:
    # The ring asks with every event of a stroke.
    choices = [(1.0, -1.0) if on else (1.0,) for on in symmetry]
    mirrors = [np.diag(signs) for signs in itertools.product(*choices)]
    axis, count = radial
    turns = [np.eye(3)]
    for k in range(1, max(count, 1)):
        turns.append(turn_about(axis, 2 * np.pi * k / count))
    return tuple(Twin(turn @ mirror, np.zeros(3)) for turn in turns for mirror in mirrors)


def mirrored(dab: Dab, twin: Twin) -> Dab:
    """The same dab at its like's place."""
    linear, shift = twin.linear, twin.shift
    held = dab.strip
    if held is not None:
        way = np.stack([held.way[:, 0] @ linear.T + shift, held.way[:, 1] @ linear.T], 1)
        held = replace(held, way=way)
    return replace(
        dab,
        centre=linear @ dab.centre + shift,
        along=linear @ dab.along,
        view=linear @ dab.view,
        up=linear @ dab.up,
        flipped=twin.turns_over,
        strip=held,
    )
