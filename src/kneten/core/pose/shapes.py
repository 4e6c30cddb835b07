"""Shapes: expressions on layers, each with a dial, and what drives those that have none of their own.

A shape is one layer on each of the parts that take part in it, all under one id; the strength of these layers is its dial. A
correction has drivers: other shapes, or joints. How far each of them is on its way to where the correction was made is
read off a curve, and the product of these is its dial. So a correction of two shapes is wholly there where both are, and
fades as either leaves.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from kneten.core.pose.rig import NOWHERE, Vector
from kneten.core.words import FAR

LEAST_DIAL, MOST_DIAL = -0.5, 1.5

NAUGHT = 1e-6
"""Dials nearer to zero than this are at rest."""

RISING = ((0.0, 0.0), (1.0, 1.0))
"""The curve of a correction: not there at rest, wholly there where it was made, and no more than that beyond."""

MOST_POINTS = 32


class ShapeError(ValueError):
    """A shape that cannot be made or dialled, with the reason in words."""


@dataclass(frozen=True)
class Driver:
    """What a shape follows.

    Attributes
    ----------
    source : str
        Id of another shape; or the name of a joint, where `rig` is given.
    points : tuple of pairs
        The curve: how far the source is on its way, ascending, and how much of the shape there is then.
    rig : str
        Id of the joint's rig; "" for a shape.
    towards : three floats
        How the joint is turned where it is at 1: axis times degrees.
    soft : bool
        The curve begins and ends each of its pieces gently.
    """

    source: str
    points: tuple[tuple[float, float], ...] = RISING
    rig: str = ""
    towards: Vector = NOWHERE
    soft: bool = False

    @property
    def usable(self) -> bool:
        """Whether it has a curve that says one value for each place, and somewhere to turn to."""
        ats = [at for at, _ in self.points]
        return (
            2 <= len(ats) <= MOST_POINTS
            and all(a < b for a, b in pairwise(ats))
            and all(abs(value) <= FAR for point in self.points for value in point)
            and (not self.rig or any(self.towards))
        )

    def way(self, turn: Vector) -> float:
        """How far a joint that is turned so is on its way: the share of `towards` that lies in its turn."""
        aim = np.array(self.towards)
        return float(np.dot(turn, aim) / np.dot(aim, aim))

    def amount(self, at: float) -> float:
        """How much of the shape there is with the source so far on its way."""
        ats, values = zip(*self.points, strict=True)
        if not self.soft or not ats[0] < at < ats[-1]:
            return float(np.interp(at, ats, values))
        k = int(np.searchsorted(ats, at)) - 1
        share = (at - ats[k]) / (ats[k + 1] - ats[k])
        share = share * share * (3 - 2 * share)
        return float(values[k] + share * (values[k + 1] - values[k]))


@dataclass(frozen=True)
class Shape:
    """What makes a layer one of a shape.

    Attributes
    ----------
    id : str
        The same on all parts.
    action : str
        Which of `actions.ACTIONS` it is; "" for none of them.
    drivers : tuple of Driver
        What it follows; none for a shape with a dial of its own.
    meant : tuple of str
        Kinds of finds, of `shape_check.KINDS`, that are meant so and not told of.
    """

    id: str
    action: str = ""
    drivers: tuple[Driver, ...] = ()
    meant: tuple[str, ...] = ()

    @property
    def usable(self) -> bool:
        """Whether it has a name of its own and drivers that can be read."""
        own = [one.source for one in self.drivers if not one.rig]
        return bool(self.id) and self.id not in own and all(one.usable for one in self.drivers)


def driven_dials(
    shapes: Mapping[str, Shape],
    dials: Mapping[str, float],
    turns: Mapping[str, Mapping[str, Vector]],
) -> dict[str, float]:
    """The dials of all shapes that have drivers, by id.

    Parameters
    ----------
    dials : dict
        Of all others.
    turns : dict
        How the joints of each rig are turned, degrees, by the rig's id and their names; those that are missing rest.

    Raises
    ------
    ShapeError
        When shapes drive each other in a circle.
    """
    out: dict[str, float] = {}
    asked: set[str] = set()

    def dial(key: str) -> float:
        shape = shapes.get(key)
        if shape is None:
            return 0.0
        if not shape.drivers:
            return dials.get(key, 0.0)
        if key not in out:
            if key in asked:
                raise ShapeError("Shapes cannot drive each other in a circle.")
            asked.add(key)
            value = 1.0
            for one in shape.drivers:
                turn = turns.get(one.rig, {}).get(one.source, NOWHERE)
                value *= one.amount(one.way(turn) if one.rig else dial(one.source))
            out[key] = min(max(value, LEAST_DIAL), MOST_DIAL)
        return out[key]

    for key, shape in shapes.items():
        if shape.drivers:
            dial(key)
    return out


def following(shapes: Mapping[str, Shape], sources: set[str]) -> set[str]:
    """The shapes that are driven by some, also by way of others, without these."""
    found: set[str] = set()
    while True:
        more = {
            key
            for key, shape in shapes.items()
            if key not in found and any(not d.rig and d.source in sources | found for d in shape.drivers)
        }
        if not more:
            return found - sources
        found |= more
