"""What a part has besides its form that a new mesh cannot take along: said before."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from kneten.document.painting import has_paint
from kneten.document.scene import Part

Reshapes = Literal["", "drops", "drops layers", "keeps paint", "keeps paint and UVs"]
"""Whether work gives parts a mesh of another shape, and what becomes of layers and UVs: all are dropped, layers alone, or paint stays on layers."""

Held = dict[str, str]
"""What each part holds in levels and layers, in words, by the part's id."""


def held_by(parts: Iterable[Part], paint_stays: bool = False, uv_stays: bool = True) -> Held:
    """Levels, layers and UVs of parts; parts that have none are missing, as are layers that have nothing but paint that stays."""
    found = {}
    for part in parts:
        laid = part.mesh.uv is not None and not uv_stays
        if part.stack is None or part.stack.plain:
            if laid:
                found[part.id] = "UVs"
            continue
        levels = len(part.stack.levels)
        lost = [layer for layer in part.stack.layers if layer.has_form or layer.grain is not None]
        bare = [layer for layer in part.stack.layers if not has_paint(layer, part.stack, part)]
        layers = len({layer.id for layer in (*lost, *bare)}) if paint_stays else len(part.stack.layers)
        words = [f"{levels} levels"] if levels > 1 else []
        if layers:
            words.append(f"{layers} layer{'s' if layers > 1 else ''}")
        if laid:
            words.append("UVs")
        if words:
            found[part.id] = " and ".join([", ".join(words[:-1]), words[-1]] if len(words) > 1 else words)
    return found


def foretold(name: str, parts: Iterable[Part], reshapes: Reshapes = "drops") -> str:
    """What is said before work that gives parts a mesh of another shape; "" when nothing is lost."""
    parts = list(parts)
    paint_stays = reshapes.startswith("keeps paint")
    held = held_by(parts, paint_stays, reshapes in ("drops layers", "keeps paint and UVs"))
    known = [f"{part.name}'s {held[part.id]}" for part in parts if part.id in held]
    if not known:
        return ""
    also = " Paint goes along on its layers." if paint_stays else ""
    return f"{name}: {', '.join(known)} cannot go along to the new mesh.{also} Cancel to keep them; undo brings them back."
