"""A brush that lays its paint only where the form is of some kind: in hollows, on edges, on what faces up."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kneten.core.arrays import F32, I32
from kneten.core.paint.wash import Wash, share_of


class ByForm:
    """How much of a brush's paint each vertex of a part takes.

    Parameters
    ----------
    wash : Wash
        Its limits; how much it covers and its colour are the brush's.
    measure : (n,) float32
        What it goes by, as `wash.measured` gives it.
    """

    def __init__(self, wash: Wash, measure: F32) -> None:
        self._wash, self._measure = replace(wash, strength=1.0), measure

    def at(self, vertices: I32) -> tuple[None, F32]:
        """No light of its own, and how much is laid on some vertices, (k,)."""
        if not len(vertices):
            return None, np.empty(0, np.float32)
        return None, share_of(self._wash, self._measure[vertices])
