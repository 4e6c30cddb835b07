"""What a part has besides its form that a new mesh cannot take along: said before."""

from __future__ import annotations

from collections.abc import Iterable

from kneten.document.scene import Part

Held = dict[str, str]
"""What each part holds in levels and layers, in words, by the part's id."""


def held_by(parts: Iterable[Part]) -> Held:
    """Levels and layers of parts; parts that have neither are missing."""
    found = {}
    for part in parts:
        if part.stack is None or part.stack.plain:
            continue
        levels, layers = len(part.stack.levels), len(part.stack.layers)
        words = [f"{levels} levels"] if levels > 1 else []
        if layers:
            words.append(f"{layers} layer{'s' if layers > 1 else ''}")
        found[part.id] = " and ".join(words)
    return found


def foretold(name: str, parts: Iterable[Part]) -> str:
    """What is said before work that gives parts a mesh of another shape; "" when nothing is lost."""
    held = held_by(parts)
    known = [f"{part.name}'s {held[part.id]}" for part in parts if part.id in held]
    if not known:
        return ""
    return f"{name}: {', '.join(known)} cannot go along to the new mesh. Cancel to keep them; undo brings them back."
