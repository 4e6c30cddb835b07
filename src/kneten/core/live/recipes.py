"""All kinds of recipes, and how they are put into words for files."""

from __future__ import annotations

import math
from dataclasses import asdict
from typing import Any

from kneten.core.live.armature import Armature, Joint
from kneten.core.live.lathe import Lathe, LathePoint
from kneten.core.live.primitive import Primitive
from kneten.core.live.strand import Knot, Strand, Strands

Recipe = Primitive | Strands | Lathe | Armature


def recipe_words(recipe: Recipe) -> dict[str, Any]:
    """A recipe as plain words and numbers."""
    return {"kind": recipe.kind, **asdict(recipe)}


def recipe_from(words: dict[str, Any]) -> Recipe:
    """A recipe from a file. Raises `KeyError`, `TypeError` or `ValueError` when it makes no sense."""
    words = dict(words)
    kind = words.pop("kind")
    if not _finite(words):
        raise ValueError("a recipe holds numbers that are not finite")
    if kind == Primitive.kind:
        return Primitive(**{k: _tuples(v) for k, v in words.items()})
    if kind == Lathe.kind:
        points = tuple(LathePoint(**p) for p in words.pop("points"))
        return Lathe(points, **words)
    if kind == Armature.kind:
        joints = tuple(Joint(**{k: _tuples(v) for k, v in j.items()}) for j in words.pop("joints"))
        return Armature(joints, **words)
    if kind == Strands.kind:
        strands = tuple(
            Strand(
                tuple(Knot(**{k: _tuples(v) for k, v in knot.items()}) for knot in s["knots"]),
                bool(s["closed"]),
            )
            for s in words.pop("strands")
        )
        return Strands(strands, **{k: _tuples(v) for k, v in words.items()})
    raise ValueError(f"there is no live part of the kind {kind}")


def _tuples(value: Any) -> Any:
    """Lists of a file as the tuples they were."""
    return tuple(_tuples(v) for v in value) if isinstance(value, list) else value


def _finite(value: Any) -> bool:
    if isinstance(value, dict):
        return all(_finite(v) for v in value.values())
    if isinstance(value, list | tuple):
        return all(_finite(v) for v in value)
    return not isinstance(value, float) or math.isfinite(value)
