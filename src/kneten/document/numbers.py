"""Numbers of regions, unique in a scene: parts can then be joined, split and copied without renumbering."""

from __future__ import annotations

from kneten.core.regions import numbers_of
from kneten.document.scene import Scene

MOST = 65_535
"""Regions are numbered in 16 bits."""


class RegionError(ValueError):
    """A region cannot be made; the message says why."""


def free_number(scene: Scene) -> int:
    """A number that no region of the scene has. Raises `RegionError` when all are taken."""
    used = max((max(numbers_of(part.mesh), default=0) for part in scene.parts), default=0)
    used = max([used, *(known.number for known in scene.region_names)])
    if used >= MOST:
        raise RegionError(f"A project holds {MOST:,} regions at most; take some away first.")
    return used + 1
