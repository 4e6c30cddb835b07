"""Landmarks and tapes: places on parts and the lengths between them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kneten.core.arrays import F64
from kneten.core.measure import anchored, at_share, length, surface_path
from kneten.document.scene import Part, Scene
from kneten.document.things import Landmark, Tape, marked, place_in_part


def place_of(mark: Landmark, scene: Scene) -> F64:
    """Where a landmark is in the scene, (3,)."""
    part = scene.part(mark.part)
    return part.transform.to_scene(place_in_part(mark, part)[None])[0]


def landmark(scene: Scene, name: str, part: Part, place: F64) -> Landmark:
    """A landmark at the place of a part nearest to a place (3,) of its own space; the name gets a number if taken."""
    taken = {mark.name for mark in scene.landmarks}
    stem, count = name, 2
    while name in taken:
        name, count = f"{stem} {count}", count + 1
    return marked(name, part, place)


@dataclass(frozen=True)
class Measured:
    """A tape's length and course in the scene.

    Attributes
    ----------
    path : (k, 3) float64
    marks : (m, 3) float64
        The places of its divisions.
    """

    length: float
    path: F64
    marks: F64


def measured(tape: Tape, scene: Scene) -> Measured:
    """Lay a tape. Over the surface only between two places of one part; otherwise through space."""
    ends = {mark.id: mark for mark in scene.landmarks}
    a, b = ends[tape.start], ends[tape.end]
    path = np.stack([place_of(a, scene), place_of(b, scene)])
    if tape.surface and a.part == b.part:
        part = scene.part(a.part)
        found = surface_path(
            part.mesh,
            anchored(part.mesh, place_in_part(a, part)),
            anchored(part.mesh, place_in_part(b, part)),
        )
        if len(found):
            path = part.transform.to_scene(found)
    marks = [at_share(path, share) for share in tape.divisions]
    return Measured(length(path), path, np.array(marks).reshape(-1, 3))
