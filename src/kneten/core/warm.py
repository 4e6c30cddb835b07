"""Gets the compiled kernels ready: each is run once on a tiny piece of clay, in the order of likely use.

`python -m kneten.core.warm` does it in as many processes as there are processors and prints what is done. What the
first stroke needs comes first; whoever waits for something waits for its steps only.
"""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import threading
from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace

import numpy as np

from kneten.core.arrays import Progress, kernel_folder
from kneten.core.brushes.tool import BrushSettings, Dab, Strip, Tool
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.carry import CarryWish, carried_over, deviation, offered_reach, source_of
from kneten.core.covered import covered
from kneten.core.culling import clip_planes, fit_cones, patch_triangles, seen_runs
from kneten.core.deform import deformed, relaxed
from kneten.core.fur.fibres import Fibres, rooted, write_fibres
from kneten.core.fur.leads import grown as lead_strands
from kneten.core.fur.numbers import FurNumbers
from kneten.core.geodesic import distances
from kneten.core.guides import held
from kneten.core.live.armature import Armature
from kneten.core.live.strand import Knot, Strand, Strands
from kneten.core.live_density import Density, densify
from kneten.core.loose import loosened
from kneten.core.loose_change import LooseLog
from kneten.core.maps.bake import BakeWish, baked
from kneten.core.maps.surfaces import Cage, High, Low
from kneten.core.masks import blurred, cavity, grown
from kneten.core.mesh import Mesh
from kneten.core.normals import normals_of_quads
from kneten.core.paint.ink import CHANNELS, Ink
from kneten.core.paint.layers import begun, packed_in, paint_of, together
from kneten.core.paint.packed import Paint
from kneten.core.paint.stroke import PaintStroke
from kneten.core.picking import pick
from kneten.core.pose.blend import Blend
from kneten.core.pose.chain import Pose, pulled
from kneten.core.pose.limb import find_cut, limb_beyond
from kneten.core.pose.rig import Joint, Rig
from kneten.core.pose.weights import found_weights
from kneten.core.press import Press
from kneten.core.presses.library import library
from kneten.core.presses.mixed import Mix, mixed
from kneten.core.primitives import ball
from kneten.core.quads.retopologise import QuadWish, retopologised
from kneten.core.rebuild import RebuildError, rebuilt
from kneten.core.regions import by_connection, region_colours
from kneten.core.relief import packed
from kneten.core.remesh import area_sums, remesh, soup_of
from kneten.core.restriction import handed_down
from kneten.core.scatter.laying import laid_positions
from kneten.core.scatter.numbers import Scatter
from kneten.core.scatter.pieces import own_piece
from kneten.core.scatter.sites import Ground, headings, placed
from kneten.core.scatter.walk import spots_of
from kneten.core.seen_heights import heights_seen
from kneten.core.stack import Layer, Stack
from kneten.core.stand_ins import stand_in
from kneten.core.stroke import Stroke
from kneten.core.subdivide import Step, subdivide
from kneten.core.twins import pairs_of
from kneten.core.uv.islands import Edges
from kneten.core.uv.pack import PackWish
from kneten.core.uv.pack import packed as packed_islands
from kneten.core.uv.seams import found_seams
from kneten.core.uv.unwrap import folded_free, unwrapped
from kneten.core.workspace import Workspace

FIRST = ("raise", "pull", "smooth")
MARK = "ready"

STROKE = frozenset({"picking", "drawing", "Raise"})
"""The steps that a first stroke needs."""

OPENING = frozenset({"picking", "drawing", "subdividing", "levels"})
"""The steps that opening a project needs, whatever it holds."""

ORDER = ("Raise", "picking", "drawing", "subdividing", "levels", "live density")
"""What is compiled first. The longest begins early: nothing shortens it. The tools share most of Raise's kernels, and
would only compile them a second time beside it."""


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
        covered(mesh, Progress())

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
        work = Workspace(loose)
        densify(loose, work, log, centre, 0.8, Density(0.08))
        densify(loose, work, log, centre, 0.8, Density(0.4, refine=False))
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

    def presses() -> None:
        for name in ("pores-fine", "scales-round", "scratches", "goose-bumps"):
            library()[name].draw()
        mixed(Mix())
        heights_seen([(mesh, np.eye(4))], np.zeros(3), np.eye(3), (2.0, 2.0), 16)

    yield "presses", presses

    def laying() -> None:
        scatter = Scatter(size=0.4, sources=("rivet",), most=20)
        sites = placed(Ground(mesh), scatter, [own_piece("rivet")], Progress())
        places, normals = sites.spots.places(mesh), sites.spots.normals(mesh)
        heads = headings(scatter, places, normals, sites.spins, None)
        laid_positions(mesh, sites, heads, scatter, [own_piece("rivet")])
        spots_of(mesh, sites.spots.corners(mesh), sites.spots.shares)

    yield "rows and scatter", laying

    def furring() -> None:
        fur = FurNumbers(count=50)
        leads = lead_strands(mesh, None, 0.2, 30.0, 0.4, 1, Progress())[1]
        roots = rooted(mesh, fur, None, leads.roots)
        write_fibres(mesh, fur, roots, leads, Fibres.room(50))

    yield "fur", furring

    def posing() -> None:
        # Long enough to have a limb.
        limb = Mesh.from_faces(mesh.positions * np.array([1, 6, 1], np.float32), mesh.topology.faces)
        face = int(np.argmin(np.abs(limb.positions[limb.topology.faces[:, 0], 1] - 1.5)))
        point = limb.positions[limb.topology.faces[face]].astype(np.float64).mean(axis=0)
        cut = find_cut(limb, face, point)
        found, hinge = limb_beyond(limb, cut)
        hinges = (replace(hinge, bend=(30.0, 0.0, 0.0), twist=10.0),)
        Pose((found,), hinges).posed(limb.positions, 1.0)
        pulled(found, hinges, found.line[-1].astype(np.float64), found.last, np.ones(3), 1)
        joints = (Joint("A", -1, (0.0, -2.0, 0.0)), Joint("B", 0, (0.0, 2.0, 0.0)))
        Rig(joints, *found_weights(limb, joints)).posed(limb.positions, 1.0)
        Blend(limb.positions, [packed(limb.positions)]).at([0.5])

    yield "posing", posing

    def quads() -> None:
        dense = Mesh.from_faces(*ball(1.0, 12))
        retopologised(dense, QuadWish(100, symmetry=0), Progress())

    yield "quads", quads

    def flat() -> None:
        low = Mesh.from_faces(*ball(1.0, 4))
        edges = Edges.of(low.topology)
        made = unwrapped(
            low, found_seams(low, edges, np.zeros(len(edges.ends), bool), 4.0, Progress()), Progress()
        )
        low.uv = packed_islands(low, made.islands, made.uv, PackWish(), Progress())[0]
        folded_free(low)
        wish = BakeWish(("normal", "occlusion"), 64, rays=4)
        baked(Low.of(low), High([low]), Cage(0.1, 0.1), wish, Progress())
        fine = subdivide(low, Progress())
        handed_down(Step.of(low.topology), low.topology, fine)

    yield "flat", flat


def _stroke(key: str, variant: str = "") -> None:
    """One stroke with every switch on, to its end."""
    # Dense enough for Smooth to work in cells, which it does from some hundred vertices on.
    positions, faces = ball(1.0, 24)
    mesh = Mesh.from_faces(positions, faces, mask=np.zeros(len(positions), np.float32))
    tool = TOOLS[key]
    view = np.array([0.0, 0.0, -1.0])
    held = replace(tool.defaults, front_only=True, variant=variant)
    pressed = tool.presses or key == "mask"
    press = Press(np.eye(8, dtype=np.float32), True) if pressed else None
    if tool.changes == "paint":
        _painting(mesh, tool, held)
        return
    stroke = Stroke(mesh, tool, held, (True, False, False), press=press)
    centre = np.array([0.3, 0.0, 0.95])
    if tool.holds:
        stroke.grab(centre, 0.6, view)
        stroke.drag(np.array([0.0, 0.0, 0.1]), 0.6)
    else:
        for travel in (0.1, 2.0):
            dab = Dab(centre, np.array([0.1, 0.0, 0.0]), view, 0.6, 0.5, 0.1, travel, variant)
            stroke.dab(dab)
        if tool.presses:
            way = np.array([[[x, 0.0, 0.95], [1.0, 0.0, 0.0]] for x in (0.1, 0.3, 0.5)])
            stroke.dab(replace(dab, strip=Strip(way, np.array([0.0, 0.3, 0.6]))))
            # What would fold is evened.
            tall = replace(held, tip=replace(held.tip, height=4.0))
            spikes = Stroke(mesh, tool, tall, press=Press(np.eye(64, dtype=np.float32), True))
            spikes.dab(replace(dab, strength=1.0, spacing=1.0))
            spikes.cancel()
    change = stroke.finish()
    if change is not None:
        change.swap(mesh)


def _painting(mesh: Mesh, tool: Tool, held: BrushSettings) -> None:
    """A dab on a layer over others of all ways to blend that differ in what is compiled."""
    stack = begun(Stack.of(mesh), mesh)
    some = Paint.of(np.full((mesh.n_vertices, 9), 90, np.uint8))
    layers = (
        Layer("multiply", paint=some, blend="multiply"),
        Layer("hue", paint=some, blend="hue"),
        Layer("hand"),
    )
    stack = replace(stack, layers=layers, hand=layers[-1].id)
    mesh.paint = paint_of(stack, stack.hand)
    stroke = PaintStroke(mesh, tool, held, Ink(channels=tuple(CHANNELS)), stack, (True, False, False))
    stroke.dab(Dab(np.array([0.3, 0.0, 0.95]), np.zeros(3), np.array([0.0, 0.0, -1.0]), 0.6, 0.5, 0.1))
    stroke.cancel()
    together(packed_in(stack, mesh), list(layers[:2]), [1.0, 1.0])


def step_names() -> list[str]:
    """The names of all steps, in the order in which they are done."""
    tools = [TOOLS[key].name for key in (*FIRST, *(key for key in TOOLS if key not in FIRST))]
    return list(dict.fromkeys([*ORDER, *tools, *(name for name, _ in _steps())]))


def warm_here(
    report: Callable[[float, str], object] = lambda fraction, name: None, names: Iterable[str] | None = None
) -> None:
    """Compile, or load what is compiled, in this process; all steps, or those named."""
    wanted = None if names is None else set(names)
    steps = [(name, run) for name, run in _steps() if wanted is None or name in wanted]
    for count, (name, run) in enumerate(steps):
        report(count / len(steps), name)
        run()
    if wanted is None:
        _mark()


def _mark() -> None:
    kernel_folder().mkdir(parents=True, exist_ok=True)
    (kernel_folder() / MARK).touch()


def warm_aside(done: Callable[[float, str], object], processes: int | None = None) -> None:
    """Compile everything in processes of their own; `done` is told each step that is over.

    Raises
    ------
    RuntimeError
        When a step could not be compiled; the others are.
    """
    left = step_names()
    total, over = len(left), 0
    failed: list[str] = []
    lock = threading.Lock()

    def work() -> None:
        nonlocal over
        command = [sys.executable, "-m", "kneten.core.warm", "--worker"]
        with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as worker:
            assert worker.stdin is not None
            assert worker.stdout is not None
            while True:
                with lock:
                    if not left:
                        break
                    name = left.pop(0)
                print(name, file=worker.stdin, flush=True)
                answer = worker.stdout.readline()
                with lock:
                    over += 1
                    if answer.strip() != name:
                        failed.append(name)
                    done(over / total, name)
                if not answer:
                    break
            worker.stdin.close()

    threads = [threading.Thread(target=work) for _ in range(processes or os.cpu_count() or 1)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    if failed or left:
        raise RuntimeError(f"could not be compiled: {', '.join([*failed, *left])}")
    _mark()


def _serve() -> None:
    """Do the steps whose names come in, one to a line."""
    for line in sys.stdin:
        name = line.strip()
        warm_here(names=(name,))
        print(name, flush=True)


if __name__ == "__main__":
    if sys.argv[1:] == ["--worker"]:
        _serve()
    else:
        warm_aside(lambda fraction, name: print(f"{fraction:.3f} {name}", flush=True))
