"""What Kneten does without a window: convert files, draw stills."""

from __future__ import annotations

import argparse
import re
import sys
from dataclasses import replace
from pathlib import Path

from kneten.core.camera import VIEWS
from kneten.document.arrays_file import ProjectFileError, replacing
from kneten.document.project import Project
from kneten.document.project_file import ENDING, open_project, save_project
from kneten.formats.exchange import UNITS, Space, pieces_of, read_file, usual_space, write_file
from kneten.formats.pieces import FormatError
from kneten.render.renderer import KILN, PORCELAIN
from kneten.render.still import StillError, encoded, render_still


class UsageError(Exception):
    """The words of a command line make no sense."""


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> None:  # type: ignore[override]
        raise UsageError(message)


def _load(path: Path, space: Space | None) -> tuple[Project, list[str]]:
    if path.suffix.lower() == ENDING:
        return open_project(path), []
    meshes, notices = read_file(path, space)
    project = Project()
    project.add_meshes("Import", meshes)
    return project, notices


def convert(words: list[str]) -> None:
    """`convert IN OUT`: formats by ending."""
    parser = _Parser(prog="kneten convert", description="Change a file's format, by the endings.")
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
    if given.target.suffix.lower() == ENDING:
        save_project(project, given.target)
    else:
        usual = usual_space(given.target)
        out = Space(given.to_unit or usual.unit, given.to_up or usual.up)
        visible = [part for part in project.scene.parts if part.visible]
        notices += write_file(given.target, pieces_of(visible, out), given.ascii)
    for text in notices:
        print(f"kneten: {text}", file=sys.stderr)


def still(words: list[str]) -> None:
    """`still PROJECT OUT.png`: a clean picture."""
    parser = _Parser(prog="kneten still", description="Draw a project without a window.")
    parser.add_argument("project", type=Path, metavar="PROJECT")
    parser.add_argument("target", type=Path, metavar="OUT")
    parser.add_argument("--size", default="1920x1080", help="such as 1920x1080")
    parser.add_argument("--view", choices=("saved", *VIEWS), default="saved", help="default: as saved")
    parser.add_argument("--transparent", action="store_true", help="no ground (PNG)")
    parser.add_argument("--theme", choices=("kiln", "porcelain"), default="kiln", help="whose ground")
    given = parser.parse_args(words)
    match = re.fullmatch(r"(\d{1,6})x(\d{1,6})", given.size)
    if match is None:
        raise UsageError(f"--size {given.size}: write it as 1920x1080")
    width, height = int(match[1]), int(match[2])
    ending = given.target.suffix.lower()
    if ending not in (".png", ".jpg", ".jpeg"):
        raise UsageError(f"{given.target.name}: stills are written as .png or .jpg")
    project, _ = _load(given.project, None)
    camera = project.settings.camera
    if given.view != "saved" or given.project.suffix.lower() != ENDING:
        name = "front" if given.view == "saved" else given.view
        camera = replace(camera, angle=28.0).seen_from(name)
        camera = camera.framing(*project.scene.bounds(), width / max(height, 1))
    ground = PORCELAIN if given.theme == "porcelain" else KILN
    clear = given.transparent and ending == ".png"
    image = render_still(project.scene, camera, width, height, ground, clear)
    with replacing(given.target) as file:
        file.write(encoded(image, "PNG" if ending == ".png" else "JPEG"))


def run(command: str, words: list[str]) -> int:
    """Run a command; errors are one line on stderr and exit status 2."""
    try:
        {"convert": convert, "still": still}[command](words)
    except (FormatError, ProjectFileError, StillError, UsageError) as error:
        text = " ".join(str(error).split())
        print(f"kneten: {text}", file=sys.stderr)
        return 2
    except MemoryError:
        print("kneten: there is not enough memory for this file", file=sys.stderr)
        return 2
    return 0
