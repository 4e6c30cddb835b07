"""Timing, and the shape of a figure."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Figure:
    """A measured value beside its bar.

    Attributes
    ----------
    most : bool
        The bar is the most allowed; otherwise the least.
    note : str
        The two sides of a ratio in plain numbers.
    """

    name: str
    value: float
    bar: float
    unit: str
    most: bool
    note: str

    @property
    def holds(self) -> bool:
        return self.value <= self.bar if self.most else self.value >= self.bar


def median_time(run: Callable[[int], object], times: int, warm: int = 2) -> float:
    """Median seconds of `run(i)`; the first `warm` calls do not count."""
    taken = []
    for i in range(times + warm):
        begin = time.perf_counter()
        run(i)
        taken.append(time.perf_counter() - begin)
    return statistics.median(taken[warm:])


def paired(
    one: Callable[[int], object],
    other: Callable[[int], object],
    times: int,
    middle_of: Callable[[list[float]], float] = statistics.median,
) -> tuple[float, float]:
    """Median (or other) seconds of two runs taken in turns, so that a slow moment of the machine hits both."""
    first, second = [], []
    for i in range(times + 1):
        begin = time.perf_counter()
        one(i)
        middle = time.perf_counter()
        other(i)
        end = time.perf_counter()
        if i:
            first.append(middle - begin)
            second.append(end - middle)
    return middle_of(first), middle_of(second)
