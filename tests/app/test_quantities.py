"""Numbers as people type them."""

from __future__ import annotations

import contextlib

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kneten.app.fields.quantities import QuantityError, count_text, parse_quantity
from kneten.app.view.modes import CLOSE, polyline


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("12", "", 12),
        ("2,5", "", 2.5),
        ("2.5 cm", "mm", 25),
        ("1in", "cm", 2.54),
        ("10mm + 1 cm", "mm", 20),
        ("3*(4+1)", "", 15),
        ("-(2)", "", -2),
        ("150k", "", 150_000),
        ("1.5M", "", 1_500_000),
        ("40 %", "", 0.4),
        ("1m", "m", 1),
    ],
)
def test_understood(text: str, unit: str, value: float) -> None:
    assert parse_quantity(text, unit) == pytest.approx(value)


@pytest.mark.parametrize(
    "text",
    ["", "  ", "abc", "1+", "2 cm", "1/0", "9e999", "__import__('os')", "x" * 200, "1 2", "2**9", "True"],
)
def test_refused_with_a_reason(text: str) -> None:
    with pytest.raises(QuantityError) as caught:
        parse_quantity(text)
    assert len(str(caught.value)) > 5


@given(st.text(max_size=30))
def test_any_text_gives_a_number_or_a_reason(text: str) -> None:
    with contextlib.suppress(QuantityError):
        assert isinstance(parse_quantity(text, "mm"), float)


def test_counts_are_short() -> None:
    assert [count_text(n) for n in (950, 9_800, 98_306, 2_500_000)] == ["950", "9\u202f800", "98k", "2.50 M"]


def test_a_line_keeps_the_points_that_are_seen() -> None:
    points = np.column_stack([np.linspace(0, 100, 4001), np.zeros(4001)])
    shape = polyline(points)
    assert shape.count() <= 100 / CLOSE + 2
    assert (shape[0].x(), shape[shape.count() - 1].x()) == (0, 100)
    xs = np.array([shape[k].x() for k in range(shape.count())])
    assert np.diff(xs).max() <= 2 * CLOSE
    wide = np.array([[0.0, 0.0], [50.0, 0.0], [50.0, 80.0]])
    assert [(p.x(), p.y()) for p in polyline(wide)] == [tuple(p) for p in wide]
    assert polyline(wide[:0]).count() == 0
