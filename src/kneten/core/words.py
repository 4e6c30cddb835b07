"""Plain frozen dataclasses as words and numbers for files, and back, checked."""

from __future__ import annotations

import math
from typing import Any, TypeVar

import msgspec

T = TypeVar("T")

FAR = 1e9
"""Millimetres: nothing lies further from the middle, a thousand kilometres. float32 has no trouble there."""


def words_of(thing: object) -> dict[str, Any]:
    """A dataclass as a dictionary of what JSON knows; dataclasses within it as well."""
    words = msgspec.to_builtins(thing)
    assert isinstance(words, dict)
    return words


def thing_from(kind: type[T], words: object) -> T:
    """A dataclass from words: every value of its declared type, every number finite.

    Names that the class does not know are passed over: a newer file may have more.

    Raises
    ------
    ValueError
        Says which value does not fit.
    """
    if not all_finite(words):
        raise ValueError(f"a {kind.__name__.lower()} holds a number that is not usable")
    try:
        return msgspec.convert(words, kind)
    except msgspec.ValidationError as error:
        raise ValueError(f"a {kind.__name__.lower()} does not fit: {error}") from error


def all_finite(value: object) -> bool:
    """Whether all numbers within lists and dictionaries are finite, and no greater than 1e15."""
    if isinstance(value, dict):
        return all(all_finite(v) for v in value.values())
    if isinstance(value, list | tuple):
        return all(all_finite(v) for v in value)
    if isinstance(value, bool) or not isinstance(value, int | float):
        return True
    return math.isfinite(value) and abs(value) <= 1e15
