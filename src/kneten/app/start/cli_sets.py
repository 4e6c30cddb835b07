"""Commands on meshes and sets, by the library: remesh, decimate, check, print-set, game-set."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np

from kneten import library
from kneten.app.start.orders import Parser, Saying, UsageError, tell, warn
from kneten.core.printing.numbers import MATERIALS
from kneten.document.game_wish import GameWish, Variant
from kneten.document.print_wish import PrintWish
from kneten.document.project_file import ENDING
from kneten.formats.exchange import ENDINGS


def _target(path: Path) -> Path:
    if path.suffix.lower() not in (*ENDINGS, ENDING):
        raise UsageError(f"{path.name}: write it as one of {', '.join((*ENDINGS, ENDING))}")
    return path


def _saved(project: library.Project, target: Path) -> None:
    """Write it, and say what could not go along."""
    if target.suffix.lower() == ENDING:
        project.save(target)
    else:
        for text in project.export(target):
            warn(text)
    tell(file=str(target))


def _shown(project: library.Project) -> list[library.Part]:
    return [part for part in project.parts if part.visible]


def remesh(words: list[str]) -> None:
    """`remesh IN OUT --edge MM | --vertices N`: every part anew of even quads."""
    parser = Parser(
        prog="kneten remesh", description="Make clay anew of even quads; shells that overlap merge."
    )
    parser.add_argument("source", type=Path, metavar="IN")
    parser.add_argument("target", type=Path, metavar="OUT")
    much = parser.add_mutually_exclusive_group(required=True)
    much.add_argument("--edge", type=float, help="mean edge length in mm")
    much.add_argument("--vertices", type=int, help="of each part, about")
    parser.add_argument("--keep-edges", action="store_true", help="sharp edges stay sharp")
    given = parser.parse_args(words)
    if (given.edge is not None and not given.edge > 0) or (given.vertices is not None and given.vertices < 8):
        raise UsageError("--edge is a length above 0, --vertices at least 8")
    target, project = _target(given.target), library.open(given.source)
    for part in _shown(project):
        part.remesh(given.edge, given.vertices, given.keep_edges, Saying().report)
        tell(f"{part.name}: {part.vertices:,} vertices", parts={"name": part.name, "vertices": part.vertices})
    _saved(project, target)


def decimate(words: list[str]) -> None:
    """`decimate IN OUT --triangles N | --share S | --error MM`: coarser meshes."""
    parser = Parser(
        prog="kneten decimate",
        description="Make meshes coarser where it is seen least; UVs and colours stay.",
    )
    parser.add_argument("source", type=Path, metavar="IN")
    parser.add_argument("target", type=Path, metavar="OUT")
    much = parser.add_mutually_exclusive_group(required=True)
    much.add_argument("--triangles", type=int, help="of all parts together")
    much.add_argument("--share", type=float, help="of the triangles there are, in percent")
    much.add_argument("--error", type=float, help="how far the surface may move, in mm")
    given = parser.parse_args(words)
    for value in (given.triangles, given.share, given.error):
        if value is not None and not value > 0:
            raise UsageError("--triangles, --share and --error are numbers above 0")
    target, project = _target(given.target), library.open(given.source)
    parts = _shown(project)
    whole = sum(part.triangles for part in parts)
    wanted = given.triangles or (round(whole * given.share / 100) if given.share else 0)
    for part in parts:
        before = part.triangles
        own = max(round(before * wanted / max(whole, 1)), 4) if wanted else 0
        if not wanted or own < before:
            part.decimate(own, given.error or 0.0, report=Saying().report)
        tell(
            f"{part.name}: {before:,} triangles, now {part.triangles:,}",
            parts={"name": part.name, "before": before, "triangles": part.triangles},
        )
    _saved(project, target)


def _print_words(parser: Parser) -> None:
    """What prints can be told."""
    usual = PrintWish()
    size = parser.add_mutually_exclusive_group()
    size.add_argument("--height", type=float, help="of the whole print, in mm")
    size.add_argument("--scale", type=float, help="one of so many: 6 for a sixth")
    parser.add_argument(
        "--material", choices=tuple(MATERIALS), default=usual.material, help=f"default {usual.material}"
    )
    parser.add_argument("--price", type=float, default=usual.price, help="of a cubic centimetre")
    parser.add_argument(
        "--thinnest", type=float, default=usual.thinnest, help=f"mm that hold, default {usual.thinnest:g}"
    )
    parser.add_argument(
        "--overhang", type=float, default=usual.angle, help=f"degrees from upright, default {usual.angle:g}"
    )
    parser.add_argument(
        "--layer", type=float, default=usual.layer, help=f"mm of a layer, default {usual.layer:g}"
    )
    parser.add_argument("--one-body", action="store_true", help="join all visible parts first")


def _print_wish(given: object) -> dict[str, object]:
    told = vars(given)
    wish: dict[str, object] = {
        "material": told["material"], "price": told["price"], "thinnest": told["thinnest"], "angle": told["overhang"],
        "layer": told["layer"],
    }  # fmt: skip
    if told["height"] is not None:
        wish |= {"sizing": "height", "height": told["height"]}
    elif told["scale"] is not None:
        wish |= {"sizing": "ratio", "ratio": told["scale"]}
    try:
        PrintWish(**wish).check()  # type: ignore[arg-type]
    except ValueError as error:
        raise UsageError(str(error)) from error
    return wish


def check(words: list[str]) -> int:
    """`check IN`: whether it can be printed; 1 where something stands against it."""
    parser = Parser(
        prog="kneten check",
        description="Look whether all that is visible is closed, thick enough, and stands.",
    )
    parser.add_argument("source", type=Path, metavar="IN")
    _print_words(parser)
    given = parser.parse_args(words)
    wish = _print_wish(given)
    project = library.open(given.source)
    if given.one_body:
        project.one_body(report=Saying().report)
    bodies = project.check(Saying().report, **wish)
    faults = [text for body in bodies for text in body.words(PrintWish(**wish))]  # type: ignore[arg-type]
    for body in bodies:
        told, least = body.facts, body.walls.least
        size = " x ".join(f"{side:.1f}" for side in told.size)
        tell(
            f"{body.name}: {size} mm, {told.volume:.2f} cm³, {told.weight:.1f} g",
            bodies={
                "name": body.name, "size_mm": [round(side, 3) for side in told.size], "volume_cm3": told.volume,
                "weight_g": told.weight, "price": body.price, "flaw": body.flaw, "stands": told.stands,
                "thinnest_mm": float(least) if np.isfinite(least) else None, "too_thin": body.walls.thin,
                "overhang": told.overhang,
            },
        )  # fmt: skip
    for text in faults:
        warn(text)
    return 1 if faults else 0


def print_set(words: list[str]) -> int:
    """`print-set IN FOLDER`: 3MF, STL and a page; 1 where something has to be mended."""
    parser = Parser(
        prog="kneten print-set", description="Check all that is visible, and write files for the printer."
    )
    parser.add_argument("source", type=Path, metavar="IN")
    parser.add_argument("folder", type=Path, metavar="FOLDER")
    _print_words(parser)
    given = parser.parse_args(words)
    wish = _print_wish(given)
    project = library.open(given.source)
    if given.one_body:
        project.one_body(report=Saying().report)
    made = project.print_set(given.folder, Saying().report, **wish)
    for path in made.files:
        tell(str(path), files=str(path))
    for text in made.faults:
        warn(text)
    tell(numbers=made.numbers)
    return 1 if made.faults else 0


def game_set(words: list[str]) -> int:
    """`game-set IN FOLDER`: levels of detail, maps, skeleton, shapes, clips; 1 where the budget does not hold."""
    usual = GameWish()
    parser = Parser(
        prog="kneten game-set", description="Write levels of detail with all that hangs on them, and a page."
    )
    parser.add_argument("source", type=Path, metavar="IN")
    parser.add_argument("folder", type=Path, metavar="FOLDER")
    parser.add_argument(
        "--levels", default="", help="triangles of each, such as 8000,4000,2000; default: as the project says"
    )
    parser.add_argument(
        "--hue",
        action="append",
        default=[],
        metavar="NAME:DEGREES",
        help="a variant in other colours; several are possible",
    )
    parser.add_argument("--packed", action="store_true", help="numbers as small as an open extension allows")
    parser.add_argument(
        "--most-triangles", type=int, default=usual.most_triangles, help="of the first level; 0 for no limit"
    )
    parser.add_argument("--most-bytes", type=int, default=usual.most_bytes, help="of its file")
    parser.add_argument("--most-draws", type=int, default=usual.most_draws, help="draw calls")
    given = parser.parse_args(words)
    wish: dict[str, object] = {
        "packed": given.packed, "most_triangles": given.most_triangles, "most_bytes": given.most_bytes,
        "most_draws": given.most_draws,
    }  # fmt: skip
    try:
        if given.levels:
            wish["counts"] = tuple(int(word) for word in given.levels.split(","))
        if given.hue:
            pairs = [text.rpartition(":") for text in given.hue]
            wish["variants"] = tuple(Variant(name, float(degrees)) for name, _, degrees in pairs)
        GameWish(**wish).check()  # type: ignore[arg-type]
    except ValueError as error:
        raise UsageError(str(error)) from error
    made = library.open(given.source).game_set(given.folder, Saying().report, **wish)
    for one in made.files:
        tell(str(one.path), files=str(one.path))
    for text in made.faults:
        warn(text)
    tell(numbers=made.numbers)
    return 1 if made.faults else 0


COMMANDS: dict[str, Callable[[list[str]], object]] = {
    "remesh": remesh,
    "decimate": decimate,
    "check": check,
    "print-set": print_set,
    "game-set": game_set,
}
