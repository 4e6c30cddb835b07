"""Fur: writing all fibres against NumPy writing as many vertices, and the memory that they take."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from benchmarks.measure import Figure, paired
from kneten.core.arrays import Progress
from kneten.core.fur.fibres import Fibres, rooted, write_fibres
from kneten.core.fur.leads import grown
from kneten.core.fur.numbers import FurNumbers
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball

COUNT = 200_000


def furring() -> Iterator[Figure]:
    """200,000 fibres over a million triangles, written into new memory by both."""
    mesh = Mesh.from_faces(*ball(100.0, 290))
    numbers = FurNumbers(count=COUNT)
    _, leads = grown(mesh, None, 14.0, 30.0, 7.0, 1, Progress())
    roots = rooted(mesh, numbers, None, leads.roots)
    kept = Fibres.room(COUNT)
    write_fibres(mesh, numbers, roots, leads, kept)

    def ours(_: int) -> None:
        write_fibres(mesh, numbers, roots, leads, Fibres.room(COUNT))

    def plain(_: int) -> None:
        out = Fibres.room(COUNT)
        np.add(kept.places, 1, out=out.places)
        for into, values in ((out.ways, kept.ways), (out.outs, kept.outs), (out.colours, kept.colours)):
            into[:] = values

    a, b = paired(ours, plain, 15)
    note = f"{a * 1e3:.0f} ms / {b * 1e3:.0f} ms for {kept.nbytes / 1e6:.0f} MB of vertices, roots take {_held(roots) / 1e6:.0f} MB"
    yield Figure("200,000 fibres made / NumPy writing their vertices", a / b, 4.0, "ratio", True, note)


def _held(roots: object) -> int:
    return sum(value.nbytes for value in vars(roots).values() if isinstance(value, np.ndarray))
