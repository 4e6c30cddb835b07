"""All kinds of recipes, and how they are put into words for files."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from kneten.core.live.armature import Armature
from kneten.core.live.lathe import Lathe
from kneten.core.live.primitive import Primitive
from kneten.core.live.strand import Strands
from kneten.core.scatter.numbers import Row, Scatter
from kneten.core.words import thing_from, words_of

OnItsOwn = Primitive | Strands | Lathe | Armature
"""What is made of nothing but its numbers."""

Laid = Row | Scatter
"""What is made of its numbers and other parts; `document/laying.py` makes it."""

Recipe = OnItsOwn | Laid

KINDS: dict[str, type[Recipe]] = {
    kind.kind: kind for kind in (Primitive, Lathe, Armature, Strands, Row, Scatter)
}


def recipe_words(recipe: Recipe) -> dict[str, Any]:
    """A recipe as plain words and numbers."""
    return {"kind": recipe.kind, **words_of(recipe)}


def recipe_from(words: dict[str, Any]) -> Recipe:
    """A recipe from a file. Raises `KeyError` or `ValueError` when it makes no sense."""
    kind = KINDS.get(words["kind"])
    if kind is None:
        raise ValueError(f"there is no live part of the kind {words['kind']}")
    recipe = thing_from(kind, words)
    if isinstance(recipe, Armature):
        _check_limbs(recipe)
    if isinstance(recipe, Laid):
        recipe.check()
    return recipe


def with_parts_named(recipe: Recipe | None, names: Mapping[str, str]) -> Recipe | None:
    """A recipe that names other parts, where these have other ids now."""
    if not isinstance(recipe, Laid):
        return recipe
    sources = tuple(names.get(key, key) for key in recipe.sources)
    named = replace(recipe, ground=names.get(recipe.ground, recipe.ground), sources=sources)
    return replace(named, of=names.get(named.of, named.of)) if isinstance(named, Row) else named


def _check_limbs(armature: Armature) -> None:
    """Every ball hangs on another, in the end on the first. Raises `ValueError`."""
    parents = {joint.key: joint.parent for joint in armature.joints}
    if len(parents) < len(armature.joints) or any(joint.radius <= 0 for joint in armature.joints):
        raise ValueError("the balls of an armature have no size, or two have one number")
    if any(joint.twin not in parents and joint.twin != -1 for joint in armature.joints):
        raise ValueError("a ball of an armature has a twin that is not there")
    sure: set[int] = {-1}
    for key in parents:
        way = []
        while key not in sure:
            if key not in parents or key in way:
                raise ValueError("the balls of an armature do not hang together")
            way.append(key)
            key = parents[key]
        sure.update(way)
