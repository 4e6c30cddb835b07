"""How things hold on to loose clay while a stroke takes the triangles away that they lie in."""

from __future__ import annotations

from typing import Any

from kneten.document.kinds import THINGS
from kneten.document.scene import Scene


class Grip:
    """Where the things on some parts were before a stroke.

    Parameters
    ----------
    part_ids : set of str
        The part that is sculpted and its linked copies.
    """

    def __init__(self, scene: Scene, part_ids: set[str]) -> None:
        self._ids = part_ids
        self._before: dict[tuple[str, str], Any] = {}
        for name, kind in THINGS.items():
            if kind.grip is None:
                continue
            for thing in scene.things(name):
                if getattr(thing, kind.on) in part_ids:
                    part = scene.part(getattr(thing, kind.on))
                    self._before[name, thing.id] = kind.grip[0](thing, part)

    def mended(self, scene: Scene) -> Scene | None:
        """The scene with what has lost its triangles held by those that are there now; None where nothing has."""
        torn = False
        for name, kind in THINGS.items():
            if kind.grip is None:
                continue
            things = []
            for thing in scene.things(name):
                before = self._before.get((name, thing.id))
                again = thing
                if before is not None and getattr(thing, kind.on) in self._ids:
                    again = kind.grip[1](thing, scene.part(getattr(thing, kind.on)), before)
                torn |= again is not thing
                things.append(again)
            if torn:
                scene = scene.with_things(name, tuple(things))
        return scene if torn else None
