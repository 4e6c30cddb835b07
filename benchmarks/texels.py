"""Painting on pictures: a dab of texels against a dab of vertices, and what a skin takes of memory."""

from __future__ import annotations

import tracemalloc
from collections.abc import Iterator

from benchmarks.dabs import clay, dab_radius
from benchmarks.laying import halves
from benchmarks.measure import Figure, paired
from benchmarks.painting import Paints
from kneten.core.arrays import Progress
from kneten.core.maps.skin import skin_of
from kneten.core.maps.surfaces import High
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.uv.pack import PackWish, packed
from kneten.core.uv.unwrap import unwrapped

SIZE = 2048


def laid_ball() -> Mesh:
    """A ball in two islands that fill their picture."""
    mesh = Mesh.from_faces(*ball(100.0, 40))
    edges, cut = halves(mesh)
    made = unwrapped(mesh, cut, Progress(), edges)
    mesh.uv, _ = packed(mesh, made.islands, made.uv, PackWish(SIZE), Progress())
    return mesh


def texel_dabs() -> Iterator[Figure]:
    """A dab of paint over 30,000 texels of a skin, against one over 30,000 vertices of plain clay."""
    high = High([laid_ball()])
    tracemalloc.start()
    skin = skin_of(high, SIZE)
    held = tracemalloc.get_traced_memory()[0]
    tracemalloc.stop()
    plain = clay(250_000)
    few = Paints(plain, dab_radius(plain), False)
    # As many texels as vertices: their areas are as the numbers of both are.
    radius = dab_radius(plain) * (250_000 / skin.n_vertices) ** 0.5
    many = Paints(skin, radius, False)
    a, b = paired(many, few, 21)
    per = a / many.count / (b / few.count)
    note = (
        f"{a * 1e3:.2f} ms ({many.count:,} texels) / {b * 1e3:.2f} ms ({few.count:,} vertices); a skin of {SIZE} has {skin.n_vertices:,} "
        f"texels and takes {held / skin.n_vertices:.0f} bytes for each"
    )
    yield Figure("texel dab / vertex dab, of paint", per, 2, "ratio", True, note)
