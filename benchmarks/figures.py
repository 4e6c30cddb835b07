"""Each figure: what is measured, and against what."""

from __future__ import annotations

import os
import statistics
import tempfile
from collections.abc import Callable, Iterator
from functools import lru_cache
from pathlib import Path

import numpy as np

from benchmarks.blocking import boolean, cutting, fusing, previews
from benchmarks.carrying import carrying
from benchmarks.dabs import VIEW, Dabs, Presses, clay, dab_radius
from benchmarks.delivering import hollowing, lods, measuring
from benchmarks.density import decimating, live_dabs
from benchmarks.desk import at_the_desk
from benchmarks.fur import furring
from benchmarks.hands import Hand, hands
from benchmarks.laying import baking, unwrapping
from benchmarks.levels import dialling, stepping
from benchmarks.measure import Figure, median_time, paired
from benchmarks.painting import painting
from benchmarks.plain import PlainClay
from benchmarks.posing import posing
from benchmarks.quads import quads
from benchmarks.rigging import rigging
from benchmarks.scattering import scattering
from benchmarks.shaping import shaping
from benchmarks.showing import showing
from benchmarks.start import starting
from benchmarks.texels import texel_dabs
from kneten.core import arrays
from kneten.core.arrays import Progress
from kneten.core.brushes.tool import Dab
from kneten.core.brushes.toolbox import TOOLS
from kneten.core.camera import Camera
from kneten.core.changes import Change
from kneten.core.falloff import curve_table
from kneten.core.grain import Grain, heights
from kneten.core.mesh import Mesh
from kneten.core.picking import pick
from kneten.core.press import Press
from kneten.core.primitives import ball
from kneten.core.remesh import forecast, remesh, soup_of, triangulate
from kneten.core.stroke import Stroke
from kneten.core.subdivide import Step, subdivide
from kneten.core.topology import build_topology
from kneten.document.project import Project
from kneten.document.project_file import save_snapshot, snapshot
from kneten.document.scene import Part, Scene
from kneten.formats.pieces import Piece
from kneten.formats.ply import read_ply, write_ply
from kneten.formats.stl import read_stl, write_stl
from kneten.render.rects import screen_rect
from kneten.render.renderer import Renderer
from kneten.render.still import headless_context

BROAD_UNDO = 4.0
TWO_PROCESSORS = 0.65


@lru_cache(maxsize=3)
def pressing() -> Iterator[Figure]:
    """A dab of Press, stamped and rolled: against one of Raise, and in a large part against a small one."""
    small, large = clay(250_000), clay(8_000_000)
    radius = dab_radius(small)
    for name, rolled in (("press", False), ("rolled press", True)):
        few, lift = Presses(small, radius, rolled), Dabs(small.copy(), radius)
        a, b = paired(few, lift, 21)
        per = a / few.count / (b / lift.count)
        note = f"{a * 1e3:.2f} ms ({few.count:,} vertices) / {b * 1e3:.2f} ms ({lift.count:,})"
        yield Figure(f"{name} dab / Raise dab, per vertex", per, 1.3, "ratio", True, note)
        many = Presses(large, dab_radius(large), rolled)
        a, b = paired(many, few, 21)
        per = a / many.count / (b / few.count)
        note = f"{a * 1e3:.2f} ms ({many.count:,} vertices) / {b * 1e3:.2f} ms ({few.count:,})"
        yield Figure(f"{name} dab, 8 M part / 250 k part", per, 1.3, "ratio", True, note)
        for stroke in (few.stroke, lift.stroke, many.stroke):
            stroke.cancel()


def graining() -> Iterator[Figure]:
    """Grain in space and of a press, against a dab of Raise."""
    mesh = clay(250_000)
    lift = Dabs(mesh.copy(), dab_radius(mesh))
    y, x = np.mgrid[0:1024, 0:1024] / 1024
    press = Press((np.sin(40 * x) * np.cos(40 * y)).astype(np.float32), True)
    for kind in ("clouds", "cracks", "press"):
        grain = Grain(kind=kind, scale=12.0)
        a, b = paired(
            lambda _, grain=grain: heights(grain, press, mesh.positions, mesh.normals, 0.5), lift, 11
        )  # type: ignore[misc]
        per = a / mesh.n_vertices / (b / lift.count)
        note = f"{a / mesh.n_vertices * 1e9:.0f} ns / {b / lift.count * 1e9:.0f} ns a vertex"
        yield Figure(f"grain of {kind} / Raise dab, per vertex", per, 8.0, "ratio", True, note)
    lift.stroke.cancel()


def dab_size() -> Iterator[Figure]:
    """A dab of 30,000 vertices: in a part of 8 M vertices against one of 250 k."""
    small, large = clay(250_000), clay(8_000_000)
    few, many = Dabs(small, dab_radius(small)), Dabs(large, dab_radius(large))
    a, b = paired(many, few, 21)
    note = f"{a * 1e3:.2f} ms ({many.count:,} vertices) / {b * 1e3:.2f} ms ({few.count:,})"
    per = a / many.count / (b / few.count)
    yield Figure("dab, 8 M part / 250 k part", per, 1.3, "ratio", True, note)
    many.stroke.cancel()
    few.stroke.cancel()


def dab_broad() -> Iterator[Figure]:
    """A dab of 500,000 vertices on two processors, against the same on one; told for the tools used most at that size."""
    if (os.cpu_count() or 1) < 2:
        return
    mesh = clay(2_000_000)
    every = arrays.PROCESSORS
    try:
        for key in ("raise", "smooth", "inflate", "flatten", "pull"):
            hand = Hand(mesh, TOOLS[key], count=500_000)

            def on(processors: int, hand: Hand = hand) -> Callable[[int], None]:
                def run(i: int) -> None:
                    arrays.PROCESSORS = processors
                    hand(i)

                return run

            # The best of each: two virtual processors may share one real one for seconds on end.
            two, one = paired(on(2), on(1), 15, min)
            note = f"{two * 1e3:.0f} ms / {one * 1e3:.0f} ms ({hand.stroke.n_reached:,} vertices)"
            name = f"{TOOLS[key].name}, two processors / one"
            yield Figure(name, two / one, TWO_PROCESSORS, "ratio", True, note)
            hand.stroke.cancel()
    finally:
        arrays.PROCESSORS = every


def dab_plain() -> Iterator[Figure]:
    """The same dab in plain vectorised NumPy."""
    mesh = clay(250_000)
    compiled = Dabs(mesh, dab_radius(mesh))
    plain = PlainClay(mesh)
    falloff = curve_table(TOOLS["raise"].defaults.falloff)

    def in_numpy(i: int) -> None:
        angle = 0.05 + 0.004 * i
        centre = np.array([np.sin(angle), 0.1, np.cos(angle)])
        centre *= 100.0 / np.linalg.norm(centre)
        plain.dab("raise", Dab(centre, VIEW, VIEW, compiled.radius, 0.2, 0.12), falloff)

    # Dabs of a stroke follow each other: five of ours, then one of NumPy's, and again.
    ours, theirs = [], []
    for turn in range(12):
        ours.append(median_time(lambda i, turn=turn: compiled(turn * 6 + i), 5, 1))
        theirs.append(median_time(lambda i, turn=turn: in_numpy(turn), 1, 0))
    a, b = statistics.median(theirs[1:]), statistics.median(ours[1:])
    ratio = statistics.median(a / b for a, b in zip(theirs[1:], ours[1:], strict=True))
    note = f"{a * 1e3:.1f} ms / {b * 1e3:.2f} ms, {b / compiled.count * 1e9:.0f} ns per vertex"
    yield Figure("dab, plain NumPy / compiled", ratio, 15, "times as fast", False, note)
    compiled.stroke.cancel()


def frames() -> Iterator[Figure]:
    """A stroke's frame at 1280x800 on 2 M triangles; picking; turning."""
    mesh = clay(1_000_000)
    part = Part("Ball", mesh)
    scene = Scene((part,))
    camera = Camera(distance=520.0)
    context = headless_context()
    renderer = Renderer(context)
    renderer.resize(1280, 800)
    tool = TOOLS["raise"]
    stroke = Stroke(mesh, tool, tool.defaults)

    def one_pick(i: int) -> None:
        pick(mesh, np.array([-30.0 + i * 0.5, 10.0, 500.0]), VIEW)

    def partial(i: int) -> None:
        hit = pick(mesh, np.array([-30.0 + i * 0.5, 10.0, 500.0]), VIEW)
        assert hit is not None
        stroke.dab(Dab(hit.point, np.array([1.0, 0.0, 0.0]), VIEW, 10.0, 0.3, 0.12))
        rects = [screen_rect(camera, part, box, 1280, 800) for box in stroke.boxes]
        stroke.boxes.clear()
        renderer.draw(scene, camera, rects=[r for r in rects if r is not None])
        context.finish()

    def full(i: int) -> None:
        renderer.draw(scene, camera)
        context.finish()

    def turning(i: int) -> None:
        renderer.draw(scene, camera.turned(i * 3.0, 0.0, np.zeros(3)), moving=True)
        context.finish()

    full(0)
    whole = median_time(full, 5, 1)
    part_time = median_time(partial, 25)
    note = f"{part_time * 1e3:.1f} ms / {whole * 1e3:.0f} ms"
    yield Figure("stroke frame, partial / full redraw", part_time / whole, 1 / 8, "ratio", True, note)
    pick_time = median_time(one_pick, 101)
    note = f"{pick_time * 1e3:.3f} ms / {part_time * 1e3:.1f} ms"
    yield Figure("pick / stroke frame", pick_time / part_time, 1 / 20, "ratio", True, note)
    turn_time = median_time(turning, 25)
    note = f"{turn_time * 1e3:.1f} ms a frame"
    yield Figure("turning 2 M triangles", 1 / turn_time, 15, "frames/s", False, note)
    stroke.cancel()
    renderer.release()
    context.release()


def subdividing() -> Iterator[Figure]:
    """New vertices and faces, per face made, against trimesh's loop subdivision.

    trimesh gives just these; the whole operation with its rings, patches and normals is in the note.
    """
    import trimesh

    mesh = clay(250_000)
    small = clay(24_000)
    triangles = np.concatenate([small.topology.faces[:, :3], small.topology.faces[:, [0, 2, 3]]]).astype(
        np.int64
    )
    soup = trimesh.Trimesh(small.positions, triangles, process=False)
    made = [0, 0]

    def ours(i: int) -> None:
        step = Step.of(mesh.topology)
        step.refine(mesh.topology, mesh.positions, True, np.float32)
        made[0] = len(step.faces(mesh.topology))

    def theirs(i: int) -> None:
        made[1] = len(soup.subdivide_loop(1).faces)

    a, b = paired(ours, theirs, 3)
    per = (b / made[1]) / (a / made[0])
    whole = median_time(lambda i: subdivide(mesh, Progress()), 3, 1)
    note = f"{a * 1e3:.0f} ms for {made[0]:,} faces; {b * 1e3:.0f} ms for {made[1]:,}; "
    note += f"ready to sculpt in {whole * 1e3:.0f} ms"
    yield Figure("subdivide, per face, against trimesh", per, 20, "times as fast", False, note)


def remeshing() -> Iterator[Figure]:
    """Remeshing to a grid of 256 cubed against marching cubes alone on such a grid."""
    from skimage.measure import marching_cubes

    mesh = clay(250_000)
    soup = soup_of([mesh])
    step = 200.0 / 250
    edge = step * forecast(soup.positions, soup.triangles, edge=1.0).edge
    edge /= forecast(soup.positions, soup.triangles, edge=1.0).step
    axis = np.linspace(-102.0, 102.0, 256, dtype=np.float32)
    grid = np.sqrt(axis[:, None, None] ** 2 + axis[:, None] ** 2 + axis**2) - 100.0

    def ours(i: int) -> None:
        remesh(soup, edge, Progress())

    def theirs(i: int) -> None:
        marching_cubes(grid, 0.0)

    a, b = paired(ours, theirs, 3)
    points = forecast(soup.positions, soup.triangles, edge=edge).grid_points
    note = f"{a * 1e3:.0f} ms ({points:,} points) / {b * 1e3:.0f} ms ({grid.size:,})"
    yield Figure("remesh at 256 cubed / marching cubes", a / b, 3, "ratio", True, note)


def memory() -> Iterator[Figure]:
    """Bytes on the CPU for each vertex, the worst kind: triangles, with colours."""
    mesh = clay(1_000_000)
    positions, faces = mesh.source_arrays()
    triangles = np.concatenate([faces[:, :3], faces[:, [0, 2, 3]]])
    colour = np.full((len(positions), 4), 255, np.uint8)
    cut = Mesh.from_faces(positions, triangles, colour)
    note = f"{cut.nbytes / 1e6:.0f} MB for {cut.n_vertices:,} vertices, {cut.topology.n_faces:,} triangles"
    yield Figure("memory of a part", cut.nbytes / cut.n_vertices, 120, "bytes/vertex", True, note)


def saving() -> Iterator[Figure]:
    """Saving a project against numpy.save of the same arrays, both through to the disk."""
    project = Project(Scene((Part("Ball", clay(1_000_000)),)))
    taken = snapshot(project)
    with tempfile.TemporaryDirectory() as folder:
        target = Path(folder) / "a.kneten"

        def ours(i: int) -> None:
            save_snapshot(target, taken)

        def theirs(i: int) -> None:
            for k, array in enumerate(taken.content.arrays.values()):
                with open(Path(folder) / f"{k}.npy", "wb") as file:
                    np.save(file, array)
                    file.flush()
                    os.fsync(file.fileno())

        a, b = paired(ours, theirs, 5)
        size = target.stat().st_size / 1e6
    note = f"{a * 1e3:.0f} ms / {b * 1e3:.0f} ms for {size:.0f} MB"
    yield Figure("save / numpy.save", a / b, 2, "ratio", True, note)


def undoing() -> Iterator[Figure]:
    """Undo of a stroke against the stroke's own dabs."""
    mesh = clay(1_000_000)
    dabs = Dabs(mesh, dab_radius(mesh, 8_000))
    dabs(0)
    whole = 20 * median_time(dabs, 20, 0)
    change = dabs.stroke.finish()
    assert change is not None
    state = [change]

    def swap(i: int) -> None:
        state[0] = state[0].swap(mesh)

    once = median_time(swap, 6)
    note = f"{once * 1e3:.1f} ms / {whole * 1e3:.0f} ms for 20 dabs, {len(change.places):,} vertices"
    yield Figure("undo / the stroke's dabs", once / whole, 1, "ratio", True, note)
    yield from undoing_broadly()


def undoing_broadly() -> Iterator[Figure]:
    """Undo of a stroke over half a million vertices against copying what it changed there and back."""
    mesh = clay(2_000_000)
    half = np.flatnonzero(mesh.positions[:, 2] > 50.0).astype(np.int32)
    state = [Change("positions", half, mesh.positions[half] * np.float32(1.001))]

    def swap(i: int) -> None:
        state[0] = state[0].swap(mesh)

    def copy(i: int) -> None:
        found = mesh.positions[half]
        mesh.positions[half] = state[0].values
        mesh.positions[half] = found

    a, b = paired(swap, copy, 5)
    note = f"{a * 1e3:.0f} ms / {b * 1e3:.0f} ms for {len(half):,} vertices"
    yield Figure("undo of a broad stroke / its copy", a / b, BROAD_UNDO, "ratio", True, note)


def reading() -> Iterator[Figure]:
    """A million triangles from binary STL, welded, and PLY, checked, against a library that takes them as they are."""
    import trimesh

    positions, faces = ball(100.0, 290)
    triangles = np.full((2 * len(faces), 4), -1, np.int32)
    triangles[:, :3] = triangulate(faces)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "ball.stl"
        with path.open("wb") as file:
            write_stl(file, [Piece("ball", positions, triangles)], False, Progress())
        ours, theirs = paired(
            lambda _: read_stl(path, Progress()), lambda _: trimesh.load(path, process=False), 3
        )
        other = Path(folder) / "ball.ply"
        with other.open("wb") as file:
            write_ply(file, Piece("ball", positions, triangles), False, Progress())

        def read_whole(_: int) -> None:
            piece = read_ply(other, Progress()).pieces[0]
            build_topology(piece.faces, piece.positions)

        ply = paired(read_whole, lambda _: trimesh.load(other, process=False), 7)
    yield Figure(
        "stl, read and welded / read", ours / theirs, 2, "ratio", True, f"{ours:.2f} s / {theirs:.2f} s"
    )
    ours, theirs = ply
    yield Figure(
        "ply, read, checked, with topology / read",
        ours / theirs,
        8,
        "ratio",
        True,
        f"{ours:.2f} s / {theirs:.2f} s",
    )


FIGURES: dict[str, Callable[[], Iterator[Figure]]] = {
    "memory": memory,
    "dab-plain": dab_plain,
    "frames": frames,
    "press": pressing,
    "paint": painting,
    "grain": graining,
    "scatter": scattering,
    "fur": furring,
    "show": showing,
    "pose": posing,
    "rig": rigging,
    "shapes": shaping,
    "undo": undoing,
    "save": saving,
    "subdivide": subdividing,
    "remesh": remeshing,
    "dab-size": dab_size,
    "dab-broad": dab_broad,
    "boolean": boolean,
    "cut": cutting,
    "fuse": fusing,
    "preview": previews,
    "tools": hands,
    "live": live_dabs,
    "decimate": decimating,
    "levels": stepping,
    "carry": carrying,
    "quads": quads,
    "unwrapping": unwrapping,
    "baking": baking,
    "texels": texel_dabs,
    "detail-levels": lods,
    "walls": measuring,
    "hollowing": hollowing,
    "layer": dialling,
    "start": starting,
    "desk": at_the_desk,
    "read": reading,
}
