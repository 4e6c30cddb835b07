"""What a part has besides its form that a new mesh cannot take along: said before."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from kneten.document.painting import has_paint
from kneten.document.scene import Part

Reshapes = Literal["", "drops", "keeps paint"]
"""Whether work gives parts a mesh of another shape, and what becomes of layers: all are dropped, or paint stays on them."""

Held = dict[str, str]
"""What each part holds in levels and layers, in words, by the part's id."""


def held_by(parts: Iterable[Part], paint_stays: bool = False) -> Held:
    """Levels and layers of parts; parts that have neither are missing, as are layers that have nothing but paint that stays."""
    found = {}
    for part in parts:
        if part.stack is None or part.stack.plain:
            continue
        levels = len(part.stack.levels)
        lost = [layer for layer in part.stack.layers if layer.has_form or layer.grain is not None]
        bare = [layer for layer in part.stack.layers if not has_paint(layer, part.stack, part)]
        layers = len({layer.id for layer in (*lost, *bare)}) if paint_stays else len(part.stack.layers)
        words = [f"{levels} levels"] if levels > 1 else []
        if layers:
            words.append(f"{layers} layer{'s' if layers > 1 else ''}")
        if words:
            found[part.id] = " and ".join(words)
    return found


def foretold(name: str, parts: Iterable[Part], paint_stays: bool = False) -> str:
    """What is said before work that gives parts a mesh of another shape; "" when nothing is lost.

    With `paint_stays` paint goes along, layer by layer.
    """
    held = held_by(parts, paint_stays)
    known = [f"{part.name}'s {held[part.id]}" for part in parts if part.id in held]
    if not known:
        return ""
    also = " Paint goes along on its layers." if paint_stays else ""
    return f"{name}: {', '.join(known)} cannot go along to the new mesh.{also} Cancel to keep them; undo brings them back."
