"""The first start on a bare machine: how soon a stroke can be made, and how soon everything is compiled."""

from __future__ import annotations

import os
import tempfile
import time
from collections.abc import Iterator

from benchmarks.measure import Figure
from kneten.core.warm import OPENING, STROKE, warm_aside


def starting() -> Iterator[Figure]:
    """Until what a first stroke needs is compiled, against until all is; into a cache of its own."""
    before = os.environ.get("KNETEN_CACHE")
    began = time.perf_counter()
    seen: set[str] = set()
    at: dict[str, float] = {}

    def done(fraction: float, name: str) -> None:
        seen.add(name)
        for what, steps in (("stroke", STROKE), ("opening", OPENING)):
            if steps <= seen:
                at.setdefault(what, time.perf_counter() - began)

    with tempfile.TemporaryDirectory() as folder:
        os.environ["KNETEN_CACHE"] = folder
        try:
            warm_aside(done)
        finally:
            if before is None:
                del os.environ["KNETEN_CACHE"]
            else:
                os.environ["KNETEN_CACHE"] = before
    whole = time.perf_counter() - began
    note = f"{at['stroke']:.0f} s / {whole:.0f} s; opening a project after {at['opening']:.0f} s"
    yield Figure("first stroke / all kernels", at["stroke"] / whole, 0.25, "ratio", True, note)
