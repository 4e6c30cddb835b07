"""What Kneten does without a window: convert files, draw stills."""

from __future__ import annotations

import argparse
import os
import re
import sys
from dataclasses import replace
from pathlib import Path

from kneten.core.camera import VIEWS
from kneten.document.arrays_file import ProjectFileError, replacing
from kneten.document.look import LOOKS
from kneten.document.project import Project
from kneten.document.project_file import ENDING, open_project, save_project
from kneten.formats.exchange import UNITS, Space, pieces_of, read_file, usual_space, write_file
from kneten.formats.pieces import FormatError
from kneten.render.still import StillError, encoded, render_still
from kneten.render.style import KILN, PORCELAIN, Style


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
    parser.add_argument("--look", choices=("saved", *LOOKS), default="saved", help="default: as saved")
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
    look = project.settings.look
    if given.look != "saved":
        look = replace(look, kind=given.look)
    style = Style(ground, look, matcaps=project.settings.matcaps, clear_ground=clear)
    image = render_still(project.scene, camera, width, height, style)
    with replacing(given.target) as file:
        file.write(encoded(image, "PNG" if ending == ".png" else "JPEG"))


def install_desktop(words: list[str]) -> None:
    """`install-desktop`: menu entry, icons and file type for this user."""
    _Parser(prog="kneten install-desktop", description="Put Kneten on the desktop.").parse_args(words)
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from kneten.app.start import desktop

    files = desktop.install()
    print(f"Installed {len(files)} files under {desktop.data_home()}.")


def thumbnail(words: list[str]) -> None:
    """`thumbnail PROJECT OUT.png SIZE`: for file managers."""
    parser = _Parser(prog="kneten thumbnail", description="A project's picture for file managers.")
    parser.add_argument("project", type=Path, metavar="PROJECT")
    parser.add_argument("target", type=Path, metavar="OUT")
    parser.add_argument("size", type=int, nargs="?", default=256)
    given = parser.parse_args(words)
    if not 8 <= given.size <= 4096:
        raise UsageError("a thumbnail's side is between 8 and 4096 pixels")
    if not given.project.exists():
        raise UsageError(f"{given.project} is not there")
    from kneten.app.start import desktop

    desktop.thumbnail(given.project, given.target, given.size)


COMMANDS = {
    "convert": convert,
    "still": still,
    "install-desktop": install_desktop,
    "thumbnail": thumbnail,
}


def run(command: str, words: list[str]) -> int:
    """Run a command; errors are one line on stderr and exit status 2."""
    try:
        COMMANDS[command](words)
    except (FormatError, ProjectFileError, StillError, UsageError) as error:
        text = " ".join(str(error).split())
        print(f"kneten: {text}", file=sys.stderr)
        return 2
    except MemoryError:
        print("kneten: there is not enough memory for this file", file=sys.stderr)
        return 2
    return 0
