"""Numbers of regions, unique in a scene: parts can then be joined, split and copied without renumbering."""

from __future__ import annotations

from kneten.core.regions import FIRST_OWN, numbers_of
from kneten.document.scene import Scene

MOST = FIRST_OWN - 1
"""Regions are numbered in 16 bits; the last numbers are those of recipes."""


class RegionError(ValueError):
    """A region cannot be made; the message says why."""


def free_number(scene: Scene) -> int:
    """A number that no region of the scene has. Raises `RegionError` when all are taken."""
    numbers = [known.number for known in scene.region_names]
    for part in scene.parts:
        numbers += numbers_of(part.mesh)
    used = max((number for number in numbers if number <= MOST), default=0)
    if used >= MOST:
        raise RegionError(f"A project holds {MOST:,} regions at most; take some away first.")
    return used + 1
