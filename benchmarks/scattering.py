"""Rows and scatter against a library's points, and following their clay against being made anew."""

from __future__ import annotations

import warnings
from collections.abc import Iterator

import trimesh

from benchmarks.measure import Figure, paired
from kneten.core.arrays import Progress
from kneten.core.mesh import Mesh
from kneten.core.primitives import ball
from kneten.core.remesh import triangulate
from kneten.core.scatter.laying import laid_clay, laid_positions
from kneten.core.scatter.numbers import Scatter
from kneten.core.scatter.pieces import own_piece
from kneten.core.scatter.sites import Ground, headings, placed


def scattering() -> Iterator[Figure]:
    """Pieces that do not meet, on a million triangles, against a library's points of a least distance; and that they follow."""
    mesh = Mesh.from_faces(*ball(100.0, 290))
    body = trimesh.Trimesh(mesh.positions, triangulate(mesh.topology.faces), process=False)
    scatter = Scatter(size=3.05, sources=("rivet",), most=10_000, flow="chance")
    piece = own_piece("rivet")
    sites = placed(Ground(mesh), scatter, [piece], Progress())

    def points(_: int) -> None:
        # Its faces' areas are kept with it: a changed body has none.
        body._cache.clear()
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            trimesh.sample.sample_surface_even(body, 10_000)

    a, b = paired(lambda _: placed(Ground(mesh), scatter, [piece], Progress()), points, 7)
    note = f"{len(sites):,} pieces: {a:.2f} s / {b:.2f} s"
    yield Figure("scatter of 10,000 pieces / even points, trimesh", a / b, 3.0, "ratio", True, note)
    heads = headings(scatter, sites.spots.places(mesh), sites.spots.normals(mesh), sites.spins, None)
    n = len(sites) * len(piece.positions)
    follow, anew = paired(
        lambda _: laid_positions(mesh, sites, heads, scatter, [piece]),
        lambda _: laid_clay(mesh, sites, heads, scatter, [piece]).mesh(),
        7,
    )
    note = f"{n:,} vertices: {follow * 1e3:.0f} ms / {anew * 1e3:.0f} ms"
    yield Figure("pieces that follow their clay / made anew", follow / anew, 0.6, "ratio", True, note)
