"""What Kneten does without a window: convert files, draw stills."""

from __future__ import annotations

import argparse
import re
import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np

from kneten.app.start import cli_sets
from kneten.app.start.many import MANY, many, spread_pictures
from kneten.app.start.orders import Parser, Saying, UsageError, finished, tell
from kneten.app.work.memory import short_of_memory
from kneten.app.work.picture_files import draw_and_write, write_still
from kneten.core.arrays import Progress
from kneten.core.camera import VIEWS, Camera
from kneten.core.light.turntable import Turntable
from kneten.core.maps.bake import LARGEST, MAPS, SMALLEST, BakeWish, bytes_for, checked
from kneten.core.maps.surfaces import Cage
from kneten.core.quads.retopologise import FEWEST, QuadWish
from kneten.core.remesh import area_sums
from kneten.core.topology import MeshError
from kneten.core.uv.islands import islands_of_uv
from kneten.core.uv.measure import fullness, measured
from kneten.core.uv.pack import PackWish
from kneten.document.arrays_file import ProjectFileError, replacing
from kneten.document.look import LOOKS
from kneten.document.mapping import baked_part
from kneten.document.picturing import shot_named, shots_of
from kneten.document.project import Project
from kneten.document.project_file import ENDING, open_project, save_project
from kneten.document.retopology import laid_quads, land_in_place, with_guides
from kneten.document.unwrapping import cage_of, laid_flat, land
from kneten.formats.exchange import (
    ENDINGS,
    bring,
    pieces_of,
    read_rigged,
    usual_space,
    with_maps,
    with_skins,
    write_file,
)
from kneten.formats.maps import write_maps
from kneten.formats.pictures import FILMS, picture_ending, write_film
from kneten.formats.pieces import FormatError
from kneten.formats.space import UNITS, Space
from kneten.library import KnetenError
from kneten.render.filming import finished as developed
from kneten.render.filming import turntable_frames
from kneten.render.handover import MOST_SAMPLES, Order
from kneten.render.still import PASSES, StillError
from kneten.render.style import KILN, PORCELAIN, Style
from kneten.render.tracing import TraceError, Tracing


def _load(path: Path, space: Space | None) -> tuple[Project, list[str]]:
    if path.suffix.lower() == ENDING:
        return open_project(path), []
    taken, notices = read_rigged(path, space)
    project = Project()
    bring(project, taken, "Import")
    return project, notices


def convert(words: list[str]) -> None:
    """`convert IN OUT`: formats by ending."""
    parser = Parser(prog="kneten convert", description="Change a file's format, by the endings.")
    parser.add_argument("source", type=Path, metavar="IN")
    parser.add_argument("target", type=Path, metavar="OUT")
    parser.add_argument("--unit", choices=UNITS, help="unit of IN (default: m for glTF, else mm)")
    parser.add_argument("--up", choices=("y", "z"), help="up axis of IN (default y)")
    parser.add_argument("--to-unit", choices=UNITS, help="unit of OUT (default: m for glTF, else mm)")
    parser.add_argument("--to-up", choices=("y", "z"), help="up axis of OUT (default y)")
    parser.add_argument("--ascii", action="store_true", help="write PLY and STL as text")
    given = parser.parse_args(words)
    usual = usual_space(given.source)
    space = Space(given.unit or usual.unit, given.up or usual.up)
    project, notices = _load(given.source, space)
    usual = usual_space(given.target)
    out = Space(given.to_unit or usual.unit, given.to_up or usual.up)
    _written(project, given.target, out, given.ascii, notices)


def _written(project: Project, target: Path, space: Space | None, ascii: bool, notices: list[str]) -> None:
    """Write what is shown of a project to a file, and say what could not go along."""
    if target.suffix.lower() == ENDING:
        save_project(project, target)
    else:
        out = space or usual_space(target)
        visible = [part for part in project.scene.parts if part.visible]
        pieces = with_skins(target, pieces_of(visible, out), visible, project.scene, out)
        pieces = with_maps(target, pieces, visible, project.scene)
        notices = [*notices, *write_file(target, pieces, ascii, None, out)]
    for text in notices:
        print(f"kneten: {text}", file=sys.stderr)


def retopologise(words: list[str]) -> None:
    """`retopologise IN OUT --faces N`: every part as quads."""
    parser = Parser(prog="kneten retopologise", description="Make clean quads of clay of any density.")
    parser.add_argument("source", type=Path, metavar="IN")
    parser.add_argument("target", type=Path, metavar="OUT")
    parser.add_argument("--faces", type=int, required=True, help="quads of all parts together")
    parser.add_argument("--symmetry", choices=("x", "y", "z"), help="exactly symmetric across this axis")
    parser.add_argument(
        "--curvature", type=int, default=50, help="denser where round, in percent (default 50)"
    )
    parser.add_argument("--sharp", action="store_true", help="sharp edges stay sharp")
    parser.add_argument("--regions", action="store_true", help="regions are bounded by loops of edges")
    given = parser.parse_args(words)
    if given.target.suffix.lower() not in (*ENDINGS, ENDING):
        raise UsageError(f"{given.target.name}: write it as one of {', '.join((*ENDINGS, ENDING))}")
    project, notices = _load(given.source, None)
    parts = [part for part in project.scene.parts if part.visible]
    areas = [
        area_sums(part.mesh.positions, part.mesh.topology.faces)[0] * part.transform.scale**2
        for part in parts
    ]
    if not sum(areas) > 0:
        raise UsageError(f"{given.source.name} has no surface to lay quads on")
    for part, area in zip(parts, areas, strict=True):
        count = max(round(given.faces * area / sum(areas)), FEWEST)
        axis = "xyz".index(given.symmetry) if given.symmetry else None
        wish = QuadWish(count, axis, given.curvature / 100, 0.0, given.sharp, given.regions)
        try:
            laid = laid_quads(part, (), with_guides(wish, project.scene, part), False, Saying())
        except MeshError as error:
            raise UsageError(f"{part.name}: {error}") from error
        land_in_place(project, part.id, laid)
        q = laid.quality
        tell(
            f"{part.name}: {q.faces:,} faces, {q.quads * 100:.1f} % quads, {q.irregular * 100:.1f} % irregular vertices, "
            f"mean shape {q.shape:.2f}"
        )
    _written(project, given.target, None, False, notices)


def unwrap(words: list[str]) -> None:
    """`unwrap IN OUT`: every part laid flat."""
    parser = Parser(prog="kneten unwrap", description="Lay every part flat, with UVs on one picture each.")
    parser.add_argument("source", type=Path, metavar="IN")
    parser.add_argument("target", type=Path, metavar="OUT")
    parser.add_argument(
        "--stretch", type=int, default=60, help="how far lengths may be off, in percent (default 60)"
    )
    parser.add_argument("--seams", action="store_true", help="cut along the project's seams only")
    parser.add_argument(
        "--size", type=int, default=2048, help="of the picture the margin is for (default 2048)"
    )
    parser.add_argument("--margin", type=int, default=8, help="texels between islands (default 8)")
    parser.add_argument("--tiles", type=int, default=1, help="pictures to spread over (default 1)")
    given = parser.parse_args(words)
    if given.target.suffix.lower() not in (".obj", ".glb", ".gltf", ENDING):
        raise UsageError(f"{given.target.name}: UVs are written as .obj, .glb, .gltf or {ENDING}")
    if given.stretch < 1 or not 1 <= given.margin <= 512 or not 1 <= given.tiles <= 64 or given.size < 64:
        raise UsageError(
            "--stretch, --margin, --tiles and --size are numbers above 0, and no more than makes sense"
        )
    project, notices = _load(given.source, None)
    wish = PackWish(given.size, given.margin, tiles=given.tiles)
    for part in [one for one in project.scene.parts if one.visible]:
        cage = cage_of(part)
        made = laid_flat(cage, wish, None if given.seams else 1 + given.stretch / 100, Saying())
        land(project, part, cage, made, "Unwrap")
        size, skew = measured(cage.with_uv(made.uv)).stretch()
        tell(
            f"{part.name}: {islands_of_uv(cage.with_uv(made.uv)).count:,} islands, lengths off by {100 * (size - 1):.0f} %, angles by "
            f"{100 * (skew - 1):.0f} %, {100 * fullness(cage.with_uv(made.uv)):.0f} % of the picture"
        )
    _written(project, given.target, None, False, notices)


def bake(words: list[str]) -> None:
    """`bake HIGH LOW FOLDER --maps ...`: maps for LOW that have what HIGH has."""
    parser = Parser(
        prog="kneten bake", description="Bake maps: what fine clay has, told to coarser by its UVs."
    )
    parser.add_argument("high", type=Path, metavar="HIGH")
    parser.add_argument("low", type=Path, metavar="LOW")
    parser.add_argument("folder", type=Path, metavar="FOLDER")
    parser.add_argument("--maps", default="normal,occlusion", help=f"of {', '.join(MAPS)}")
    parser.add_argument(
        "--size", type=int, default=2048, help=f"{SMALLEST} to {LARGEST} texels (default 2048)"
    )
    parser.add_argument(
        "--samples", type=int, choices=(1, 2, 4), default=1, help="along each side of a texel"
    )
    parser.add_argument("--rays", type=int, default=16, help="for occlusion (default 16)")
    parser.add_argument("--padding", type=int, default=16, help="texels beyond islands (default 16)")
    parser.add_argument(
        "--reach", type=float, default=0.0, help="how far rays look, in mm; measured where it is 0"
    )
    given = parser.parse_args(words)
    wish = BakeWish(
        tuple(key.strip() for key in given.maps.split(",") if key.strip()),
        given.size, given.samples, max(given.rays, 1), padding=max(given.padding, 0),
    )  # fmt: skip
    low, _ = _load(given.low, None)
    high = low if given.high == given.low else _load(given.high, None)[0]
    sources = [part for part in high.scene.parts if part.visible]
    for part in [one for one in low.scene.parts if one.visible]:
        own = high is low
        cage = Cage(given.reach, given.reach) if given.reach > 0 else None
        try:
            checked(part.mesh, wish)
            if short := short_of_memory("Baking", bytes_for(wish, part.mesh.topology.n_faces, sum(one.mesh.topology.n_faces for one in sources))):  # fmt: skip
                raise UsageError(short)
            made = baked_part(part, [] if own else sources, wish, cage, Saying())
        except MeshError as error:
            raise UsageError(f"{part.name}: {error}") from error
        for path in write_maps(given.folder, part.name, made, Progress()):
            tell(str(path), file=str(path))
        if made.missed:
            print(
                f"kneten: {part.name}: rays met nothing for {100 * made.missed:.1f} % of its faces",
                file=sys.stderr,
            )


def _size(text: str) -> tuple[int, int]:
    match = re.fullmatch(r"(\d{1,6})x(\d{1,6})", text)
    if match is None:
        raise UsageError(f"--size {text}: write it as 1920x1080")
    return int(match[1]), int(match[2])


def _picture_words(parser: Parser, size: str | None) -> None:
    """What all commands that make pictures of a project can be told."""
    parser.add_argument("project", type=Path, metavar="PROJECT")
    parser.add_argument("target", type=Path, metavar="OUT")
    parser.add_argument("--size", default=size, help="such as 1920x1080; default: of the camera's shape")
    parser.add_argument("--camera", help="the name of one of the project's cameras")
    parser.add_argument("--view", choices=("saved", *VIEWS), default="saved", help="default: as saved")
    parser.add_argument("--look", choices=("saved", *LOOKS), default="saved", help="default: as saved")
    parser.add_argument("--theme", choices=("kiln", "porcelain"), default="kiln", help="whose ground")


def _asked(given: argparse.Namespace) -> tuple[Project, Camera, tuple[int, int], Style]:
    """The project, and what is to be seen of it. Raises `UsageError`."""
    project, _ = _load(given.project, None)
    camera, through, aspect = project.settings.camera, project.settings.through, 16 / 9
    if given.camera is not None:
        shot = shot_named(project.scene, given.camera)
        if shot is None:
            names = ", ".join(one.name for one in shots_of(project.scene)) or "none"
            raise UsageError(f"--camera {given.camera}: the project's cameras are: {names}")
        camera, through, aspect = shot.camera, shot.id, shot.aspect
    width, height = _size(given.size) if given.size else (1920, max(round(1920 / aspect), 1))
    if given.camera is None and (given.view != "saved" or given.project.suffix.lower() != ENDING):
        name = "front" if given.view == "saved" else given.view
        camera = replace(camera, angle=28.0).seen_from(name)
        camera = camera.framing(*project.scene.bounds(), width / max(height, 1))
    ground = PORCELAIN if given.theme == "porcelain" else KILN
    look = project.settings.look
    if given.look != "saved":
        look = replace(look, kind=given.look)
    style = Style(ground, look, matcaps=project.settings.matcaps)
    return project, camera, (width, height), developed(style, project.scene, through)


def still(words: list[str]) -> None:
    """`still PROJECT OUT.png`: a clean picture."""
    parser = Parser(prog="kneten still", description="Draw a project without a window.")
    _picture_words(parser, None)
    parser.add_argument("--transparent", action="store_true", help="no ground (PNG, WebP, EXR)")
    parser.add_argument("--fine", action="store_true", help="PNG with 16 bits for each colour")
    parser.add_argument(
        "--passes", default="", help="of " + ",".join(PASSES) + ": in one EXR, or in files beside"
    )
    given = parser.parse_args(words)
    ending = picture_ending(given.target)
    passes = [name.strip() for name in given.passes.split(",") if name.strip()]
    for name in passes:
        if name not in PASSES:
            raise UsageError(f"--passes {name}: there are {', '.join(PASSES)}")
    project, camera, size, style = _asked(given)
    style = replace(style, clear_ground=given.transparent and ending not in (".jpg", ".jpeg"))
    draw_and_write(given.target, project.scene, camera, size, style, passes, given.fine)


def turntable(words: list[str]) -> None:
    """`turntable PROJECT OUT.webm`: a film of it going round."""
    parser = Parser(prog="kneten turntable", description="Film a project as it goes round.")
    _picture_words(parser, "1280x720")
    usual = Turntable()
    parser.add_argument(
        "--frames", type=int, default=usual.pictures, help=f"pictures, default {usual.pictures}"
    )
    parser.add_argument(
        "--fps", type=float, default=usual.pace, help=f"pictures a second, default {usual.pace:g}"
    )
    parser.add_argument(
        "--turns", type=int, default=usual.turns, help="whole turns; less than 0: the other way"
    )
    parser.add_argument("--ease", type=float, default=usual.ease, help="0 an even turn, 1 from rest to rest")
    parser.add_argument("--jobs", type=int, default=1, help="pictures are drawn by so many processes")
    parser.add_argument(
        "--farm", default="", help="or by the machines of a Dask scheduler, such as tcp://host:8786"
    )
    parser.add_argument("--only", default="", help=argparse.SUPPRESS)
    given = parser.parse_args(words)
    if given.only:
        _some_pictures(given)
        return
    if given.target.suffix.lower() not in FILMS:
        raise UsageError(f"{given.target.name}: films are written as {' or '.join(FILMS)}")
    table = Turntable(given.frames, given.fps, given.turns, given.ease)
    try:
        table.check()
    except ValueError as error:
        raise UsageError(str(error)) from error
    if given.jobs > 1 or given.farm:
        pictures = spread_pictures(words, given.project, table.pictures, given.jobs, given.farm)
        write_film(given.target, pictures, table.pace)
        return
    project, camera, size, style = _asked(given)
    write_film(
        given.target, turntable_frames(project.scene, camera, table, size, style, Saying()), table.pace
    )


def _some_pictures(given: argparse.Namespace) -> None:
    """Some of a turntable's pictures, one after the other in a file."""
    first, last = (int(word) for word in given.only.split(":"))
    table = Turntable(given.frames, given.fps, given.turns, given.ease)
    project, camera, size, style = _asked(given)
    frames = list(turntable_frames(project.scene, camera, table, size, style, Saying(), range(first, last)))
    with replacing(given.target) as file:
        np.save(file, np.stack(frames))


def render(words: list[str]) -> None:
    """`render PROJECT OUT.png`: a ray-traced picture."""
    parser = Parser(
        prog="kneten render", description="Trace light in a project: slower than a still, and truer."
    )
    _picture_words(parser, None)
    much = parser.add_mutually_exclusive_group()
    much.add_argument("--samples", type=int, help="for each pixel, default 64")
    much.add_argument("--seconds", type=float, help="as many samples as these allow")
    parser.add_argument("--no-denoise", action="store_true", help="leave its noise in")
    parser.add_argument("--seed", type=int, default=0, help="the same seed gives the same picture")
    parser.add_argument("--transparent", action="store_true", help="no ground (PNG, WebP, EXR)")
    given = parser.parse_args(words)
    ending = picture_ending(given.target)
    if given.seconds is not None and not 0 < given.seconds <= 1e6:
        raise UsageError(f"--seconds {given.seconds}: more than 0 are needed")
    project, camera, size, style = _asked(given)
    style = replace(style, clear_ground=given.transparent and ending not in (".jpg", ".jpeg"))
    samples = given.samples if given.samples is not None else MOST_SAMPLES if given.seconds else 64
    try:
        order = Order(size, samples, given.seed, clean=not given.no_denoise)
        tracing = Tracing(project.scene, camera, style, order)
    except ValueError as error:
        raise UsageError(str(error)) from error
    try:
        tracing.begin()
        if given.seconds is not None:
            tracing.wait(given.seconds)
            while tracing.now.samples == 0 and not tracing.done:
                tracing.wait(0.2)
            tracing.enough()
        now = tracing.wait()
        write_still(given.target, tracing.still(now), clear=style.clear_ground)
        for notice in tracing.notices:
            print(f"kneten: {notice}", file=sys.stderr)
    finally:
        tracing.end()


COMMANDS: dict[str, Callable[[list[str]], object]] = {
    "convert": convert,
    "retopologise": retopologise,
    "unwrap": unwrap,
    "bake": bake,
    "still": still,
    "turntable": turntable,
    "render": render,
    **cli_sets.COMMANDS,
}


def run(command: str, words: list[str]) -> int:
    """Run a command; returns the exit status, as `orders.finished` tells it."""

    def one(words: list[str]) -> object:
        done: object = many(command, words) if command in MANY else None
        return COMMANDS[command](words) if done is None else done

    return finished(one, words, (FormatError, ProjectFileError, StillError, TraceError, KnetenError))
