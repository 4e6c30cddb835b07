"""All presses of our own."""

from __future__ import annotations

from functools import cache

from kneten.core.presses import cloth, creatures, deep, grown, made, skins
from kneten.core.presses.entry import ENTRIES, FAMILIES, Entry

ROOMS = (skins, creatures, grown, cloth, made, deep)
"""The modules that draw them."""


@cache
def library() -> dict[str, Entry]:
    """All of them by key, family by family."""
    ordered = sorted(ENTRIES.values(), key=lambda entry: FAMILIES.index(entry.family))
    return {entry.key: entry for entry in ordered}
