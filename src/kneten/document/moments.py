"""A face or body tried moment by moment, on the way of a shape or through a motion: where skin gives, and when most."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from kneten.core.arrays import F32, Progress
from kneten.core.pose.rig import as_vector
from kneten.core.pose.shape_check import Around, Find, left_behind, strained
from kneten.core.pose.shapes import ShapeError
from kneten.core.stack import Stack
from kneten.document.driving import driven, shapes_of
from kneten.document.motions import Moment, Played
from kneten.document.opening import stack_of
from kneten.document.rigging import posed_alike, rig_layer, rig_of
from kneten.document.scene import Part, Scene
from kneten.document.shape_checks import ShapeFind, find_words
from kneten.document.shapes import dialled, found

BY_ITSELF = tuple(np.linspace(-0.5, 1.5, 9).tolist())
"""Dials at which a shape is tried."""

ON_ITS_WAY = tuple(np.linspace(0.0, 1.25, 11).tolist())
"""How far what a correction follows goes, and a little beyond where it was made."""

MOMENTS = 16
"""Of a motion's round."""

FINDS = 40
"""That are told of, the worst ones."""


@dataclass(frozen=True, eq=False)
class MomentFind(ShapeFind):
    """Something that goes wrong, at the moment at which it is worst."""

    moment: Moment = field(default_factory=lambda: Moment(""))


def moments_of_shape(scene: Scene, shape_id: str, body: Part) -> list[Moment]:
    """The way of a shape: its dial's, or that of what it follows. Raises `ShapeError` where that is not there any more."""
    one = found(scene, shape_id)
    if not one.shape.drivers:
        return [Moment(f"{one.name} at {100 * at:.0f} %", {shape_id: at}) for at in BY_ITSELF]
    held, rig = shapes_of(scene), rig_of(body)
    out = []
    for at in ON_ITS_WAY:
        dials, posed = {}, rig
        for driver in one.shape.drivers:
            most = max(driver.points, key=lambda point: point[1])[0]
            if not driver.rig:
                if driver.source not in held or held[driver.source].shape.drivers:
                    raise ShapeError(f"{one.name} follows a correction: try that one.")
                dials[driver.source] = at * most
                continue
            names = [] if rig is None or rig.id != driver.rig else [joint.name for joint in rig.joints]
            if driver.source not in names:
                raise ShapeError(f"The joint that {one.name} follows is not there any more.")
            assert posed is not None
            turn = as_vector(at * most * np.array(driver.towards))
            posed = posed.with_joint(names.index(driver.source), turn=turn)
        turned = any(driver.rig for driver in one.shape.drivers)
        out.append(Moment(f"{100 * at:.0f} % of the way to {one.name}", dials, posed if turned else None))
    return out


def moments_of_motion(scene: Scene, body: Part, motion: Played) -> list[Moment]:
    """A motion's round."""
    rig = rig_of(body)
    return [motion.at(scene, rig, k / MOMENTS) for k in range(MOMENTS)]


class Moments:
    """A body's or a face's clay, copied, to be tried at several moments."""

    def __init__(self, scene: Scene, body: Part, parts: Sequence[Part]) -> None:
        self._scene, self._body, self.parts = scene, body, list(parts)
        self._stacks = {part.id: stack_of(part).taken(part.mesh.positions) for part in parts}

    def _forms(self, moment: Moment) -> dict[str, F32]:
        """The parts' clay (n, 3) at a moment."""
        made: dict[str, Stack] = dict(self._stacks)
        for part, change in dialled(self._scene, moment.dials):
            if part.id in made:
                made[part.id] = change(made[part.id])
        if moment.rig is not None:
            for key, own in posed_alike(self._scene, self._body, moment.rig).items():
                layer = rig_layer(self._scene.part(key)) if key in made else None
                if layer is not None:
                    made[key] = made[key].with_layer(replace(layer, pose=own, strength=1.0, shown=True))
        stacks = driven(self._scene, [(part, made[part.id]) for part in self.parts])
        return {part.id: stack.form(stack.level) for part, stack in stacks if part.id in made}

    def _rest(self) -> Moment:
        rig = rig_of(self._body)
        dials = {key: 0.0 for key, one in shapes_of(self._scene).items() if not one.shape.drivers}
        return Moment("At rest", dials, None if rig is None else rig.at_rest())

    def at_rest(self) -> dict[str, Around]:
        """The parts at rest, by their ids, with what lies around each vertex."""
        rest = self._forms(self._rest())
        return {part.id: Around(part.mesh.topology, rest[part.id]) for part in self.parts}

    def tried(self, moments: Sequence[Moment], progress: Progress) -> list[ShapeFind]:
        """Where skin is stretched, squashed or left behind, each place at the moment at which it is worst; the worst first.

        Raises
        ------
        Cancelled
            Through `progress`.
        """
        progress.report(0.0, "At rest")
        around = self.at_rest()
        worst: list[tuple[Find, Part, Moment, F32]] = []
        for k, moment in enumerate(moments):
            progress.report((k + 1) / (len(moments) + 1), moment.words)
            now = self._forms(moment)
            for part in self.parts:
                moves = now[part.id] - around[part.id].rest
                for find in left_behind(around[part.id], moves) + strained(around[part.id], moves):
                    _put(worst, find, part, moment, now[part.id])
        worst.sort(key=lambda one: -one[0].amount * one[1].transform.scale)
        return [_told(*one) for one in worst[:FINDS]]


def _put(
    worst: list[tuple[Find, Part, Moment, F32]], find: Find, part: Part, moment: Moment, now: F32
) -> None:
    """Keep a find where nothing worse is known of the same place."""
    same = [
        one
        for one in worst
        if one[1].id == part.id and one[0].kind == find.kind and len(np.intersect1d(one[0].rows, find.rows))
    ]
    if any(one[0].amount >= find.amount for one in same):
        return
    for one in same:
        worst.remove(one)
    worst.append((find, part, moment, now))


def _told(find: Find, part: Part, moment: Moment, now: F32) -> MomentFind:
    scale = part.transform.scale
    place = part.transform.to_scene(now[find.worst][None].astype(np.float64))[0]
    words = find_words(moment.words, find, part)
    return MomentFind(
        tuple(moment.dials), part.id, replace(find, amount=find.amount * scale), place, words, moment
    )
