"""Gets the compiled kernels ready: each is run once on a tiny piece of clay, the first tools first.

`python -m kneten.core.warm` does it in a process of its own and prints how far it is.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from dataclasses import replace

import numpy as np

from kneten.core.arrays import Progress, kernel_folder
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.carry import CarryWish, carried_over, deviation, offered_reach, source_of
from kneten.core.culling import clip_planes, fit_cones, patch_triangles, seen_runs, stand_in
from kneten.core.deform import deformed, relaxed
from kneten.core.geodesic import distances
from kneten.core.guides import held
from kneten.core.live.armature import Armature
from kneten.core.live.strand import Knot, Strand, Strands
from kneten.core.live_density import Density, densify
from kneten.core.loose import loosened
from kneten.core.loose_change import LooseLog
from kneten.core.masks import blurred, cavity, grown
from kneten.core.mesh import Mesh
from kneten.core.normals import normals_of_quads
from kneten.core.picking import pick
from kneten.core.primitives import ball
from kneten.core.rebuild import RebuildError, rebuilt
from kneten.core.regions import by_connection, region_colours
from kneten.core.remesh import area_sums, remesh, soup_of
from kneten.core.stack import Layer, Stack
from kneten.core.stroke import Stroke
from kneten.core.subdivide import subdivide
from kneten.core.twins import pairs_of

FIRST = ("raise", "pull", "smooth")
MARK = "ready"


def warmed() -> bool:
    """Whether an earlier start has compiled everything for this state of the code."""
    return (kernel_folder() / MARK).exists()


def _steps() -> Iterator[tuple[str, Callable[[], object]]]:
    mesh = Mesh.from_faces(*ball(1.0, 4))
    shape = mesh.topology
    triangles, _ = patch_triangles(shape)
    away = np.array([0.1, 0.2, 5.0])
    yield "picking", lambda: pick(mesh, away, np.array([0.0, 0.0, -1.0]))

    def draw() -> None:
        which = np.arange(shape.n_patches, dtype=np.int32)
        cones = np.empty((shape.n_patches, 4), np.float32)
        fit_cones(mesh.positions, shape.faces, shape.patch_faces, which, cones)
        planes = clip_planes(np.eye(4), -1, 1, -1, 1)
        seen_runs(mesh.boxes, mesh.clusters, cones, planes, np.append(away, 1.0), True)
        stand_in(mesh.positions, triangles, 1000, mesh.bounds())

        normals_of_quads(mesh.positions, shape, np.zeros_like(mesh.positions))

    yield "drawing", draw
    for key in (*FIRST, *(key for key in TOOLS if key not in FIRST)):
        for variant, *_ in TOOLS[key].variants or (("",),):
            yield TOOLS[key].name, lambda key=key, variant=variant: _stroke(key, variant)  # type: ignore[misc]
    coloured = Mesh.from_faces(*ball(1.0, 4), np.full((98, 4), 200, np.uint8), np.zeros(98, np.float32))
    yield "subdividing", lambda: subdivide(coloured, Progress())

    def new_mesh() -> None:
        area_sums(mesh.positions, shape.faces)
        remesh(soup_of([coloured]), 0.3, Progress())

    yield "remeshing", new_mesh

    def masks() -> None:
        distances(mesh, np.zeros(1, np.int32), np.zeros(1))
        blurred(mesh, np.zeros(mesh.n_vertices, np.float32))
        grown(mesh, np.zeros(mesh.n_vertices, np.float32), 1)
        cavity(mesh)
        mesh.regions = np.ones(shape.n_faces, np.uint16)
        region_colours(mesh, np.arange(shape.n_patches, dtype=np.int32))
        by_connection(mesh)

    yield "masks and regions", masks

    def forms() -> None:
        free = np.ones(mesh.n_vertices, np.float32)
        points = mesh.positions.astype(np.float64)
        deformed(points, points, free, "bend", 1, 10.0, 1.0, points.min(axis=0), points.max(axis=0))
        relaxed(mesh, free, 1)
        pairs_of(mesh, 0)

    yield "deformers", forms

    def density() -> None:
        loose = loosened(coloured)
        log = LooseLog(loose)
        centre = np.array([0.0, 0.0, 1.0])
        densify(loose, log, centre, 0.8, Density(0.08))
        densify(loose, log, centre, 0.8, Density(0.4, refine=False))
        change = log.change()
        assert change is not None
        change.swap(loose)
        held(mesh, centre[None])

    yield "live density", density

    def bodies() -> None:
        knots = tuple(Knot((float(x), 0.0, 0.0), 0.3) for x in range(3))
        Strands((Strand(knots),)).made()
        Armature(edge=Armature().joints[0].radius / 3).made()

    yield "bodies", bodies

    def levels() -> None:
        stack, fine = Stack.of(mesh).added(mesh, Progress())
        fine.positions[::2] *= 1.01
        stack, low = stack.stepped(fine, 0)
        low.positions[0] *= 1.01
        stack.stepped(low, 1)
        with contextlib.suppress(RebuildError):
            rebuilt(fine, Progress())

    yield "levels", levels

    def carrying() -> None:
        layer = Layer("One")
        source = source_of(
            coloured, replace(Stack.of(coloured), layers=(layer,)), 1.1 * np.eye(4), Progress()
        )
        target = Mesh.from_faces(*ball(0.9, 2))
        offered_reach(source.mesh, target)
        # Far enough for some, so that those without a match are met too.
        made = carried_over(source, target, Stack.of(target), CarryWish(0.21, levels=1), Progress())
        deviation(source.mesh, made.mesh, Progress())

    yield "carrying over", carrying


def _stroke(key: str, variant: str = "") -> None:
    """One stroke with every switch on, to its end."""
    # Dense enough for Smooth to work in cells, which it does from some hundred vertices on.
    positions, faces = ball(1.0, 24)
    mesh = Mesh.from_faces(positions, faces, mask=np.zeros(len(positions), np.float32))
    tool = TOOLS[key]
    view = np.array([0.0, 0.0, -1.0])
    held = replace(tool.defaults, front_only=True, connected_only=True, variant=variant)
    stroke = Stroke(mesh, tool, held, (True, False, False))
    centre = np.array([0.3, 0.0, 0.95])
    if tool.holds:
        stroke.grab(centre, 0.6, view)
        stroke.drag(np.array([0.0, 0.0, 0.1]), 0.6)
    else:
        for travel in (0.1, 2.0):
            dab = Dab(centre, np.array([0.1, 0.0, 0.0]), view, 0.6, 0.5, 0.1, travel, variant)
            stroke.dab(dab)
    change = stroke.finish()
    if change is not None:
        change.swap(mesh)


def warm_here(report: Callable[[float, str], object] = lambda fraction, name: None) -> None:
    """Compile, or load what is compiled, in this process."""
    steps = list(_steps())
    for count, (name, run) in enumerate(steps):
        report(count / len(steps), name)
        run()
    kernel_folder().mkdir(parents=True, exist_ok=True)
    (kernel_folder() / MARK).touch()


if __name__ == "__main__":
    warm_here(lambda fraction, name: print(f"{fraction:.3f} {name}", flush=True))
