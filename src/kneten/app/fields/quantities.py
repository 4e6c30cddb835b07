"""Numbers as people type them: units, arithmetic, comma or point."""

from __future__ import annotations

import ast
import math
import operator
import re
from collections.abc import Callable

from kneten.formats.space import UNITS

_OPERATORS: dict[type[ast.operator], Callable[[float, float], float]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: operator.truediv,
}
_SIGNS: dict[type[ast.unaryop], Callable[[float], float]] = {ast.USub: operator.neg, ast.UAdd: operator.pos}
_WITH_UNIT = re.compile(r"(\d+(?:\.\d+)?|\.\d+)\s*(mm|cm|m|in|%|k|M)(?![A-Za-z])")
_GROUPS = re.compile(r"(?<=\d)[\s\u00a0\u2009\u202f'’](?=\d{3}(?!\d))")
"""What stands between the thousands of a large number."""

_OTHER = {"%": 0.01, "k": 1e3, "M": 1e6}


_mark = "."


def use_comma(on: bool) -> None:
    """Show numbers with a comma; both are understood always."""
    global _mark
    _mark = "," if on else "."


def fixed_text(value: float, decimals: int) -> str:
    """A number with so many places after the comma or point."""
    text = f"{value:.{decimals}f}"
    if text.startswith("-") and not float(text):
        text = text[1:]
    return text.replace(".", _mark)


def number_text(value: float, digits: int = 3) -> str:
    """A number with so many meaningful digits."""
    return f"{value:.{digits}g}".replace(".", _mark)


class QuantityError(ValueError):
    """What was typed is not a number. The text says why."""


def parse_quantity(text: str, unit: str = "") -> float:
    """Read a typed number.

    Parameters
    ----------
    text : str
        Such as ``12``, ``12 000``, ``2,5 cm``, ``3*(4+1)``, ``150k``, ``40 %``.
    unit : str
        The unit of the field (mm, cm, m, in), or empty where lengths make no sense. Lengths typed in
        another unit are converted to it.

    Raises
    ------
    QuantityError
    """
    cleaned = _GROUPS.sub("", text.strip()).replace(",", ".")
    if not cleaned:
        raise QuantityError("type a number")
    if len(cleaned) > 80:
        raise QuantityError("that is too long for a number")

    def convert(match: re.Match[str]) -> str:
        number, mark = match.groups()
        if mark in UNITS:
            if unit not in UNITS:
                raise QuantityError(f"{mark} makes no sense here")
            return f"({number}*{UNITS[mark] / UNITS[unit]!r})"
        return f"({number}*{_OTHER[mark]!r})"

    try:
        tree = ast.parse(_WITH_UNIT.sub(convert, cleaned), mode="eval")
        value = float(_value(tree.body))
    except (SyntaxError, TypeError, KeyError, ZeroDivisionError, RecursionError) as error:
        raise QuantityError(f"“{text.strip()}” is not a number") from error
    except OverflowError as error:
        raise QuantityError("that number is too large") from error
    if not math.isfinite(value):
        raise QuantityError("that number is too large")
    return value


def _value(node: ast.expr) -> float:
    if isinstance(node, ast.Constant) and isinstance(node.value, int | float):
        if isinstance(node.value, bool):
            raise KeyError(bool)
        return float(node.value)
    if isinstance(node, ast.UnaryOp):
        return _SIGNS[type(node.op)](_value(node.operand))
    if isinstance(node, ast.BinOp):
        return _OPERATORS[type(node.op)](_value(node.left), _value(node.right))
    raise KeyError(type(node))


def count_text(n: int) -> str:
    """A count in few characters: 98k, 1.2 M; its thousands are kept in one line."""
    if n < 10_000:
        return f"{n:,}".replace(",", "\u202f")
    if n < 1_000_000:
        return f"{n / 1000:.0f}k"
    return f"{n / 1e6:.2f} M"


def length_text(millimetres: float, unit: str = "mm") -> str:
    """A length in the user's unit."""
    places = {"mm": 1, "cm": 2, "in": 2, "m": 4}.get(unit, 1)
    return f"{fixed_text(millimetres / UNITS.get(unit, 1.0), places)} {unit}"
