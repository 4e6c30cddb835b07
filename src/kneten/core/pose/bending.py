"""What a pose of a part is to its layers, whatever bends it."""

from __future__ import annotations

from typing import Protocol

from kneten.core.arrays import F32, I32


class Bending(Protocol):
    """Something that turns the clay of a part's lowest level, vertex by vertex, and can be undone."""

    @property
    def nbytes(self) -> int:
        """Bytes of its arrays."""

    @property
    def still(self) -> bool:
        """Whether it leaves the clay where it is."""

    def posed(self, positions: F32, share: float, back: bool = False) -> F32:
        """Places (n, 3) of all of a part posed by a share; with `back` brought back from that."""

    def turned(self, rows: I32, moves: F32, share: float, back: bool = False) -> F32:
        """Moves (k, 3) of vertices `rows`, ascending (k,), as they are once these are posed; with `back` as they were before."""
