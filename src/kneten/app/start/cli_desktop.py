"""Commands for the desktop around Kneten: they load no more than they need, for a file manager asks for many pictures."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from kneten.app.start.orders import Parser, UsageError, finished
from kneten.document.arrays_file import ProjectFileError


def install_desktop(words: list[str]) -> None:
    """`install-desktop`: menu entry, icons and file type for this user."""
    Parser(prog="kneten install-desktop", description="Put Kneten on the desktop.").parse_args(words)
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from kneten.app.start import desktop

    files = desktop.install()
    print(f"Installed {len(files)} files under {desktop.data_home()}.")


def thumbnail(words: list[str]) -> None:
    """`thumbnail PROJECT OUT.png SIZE`: for file managers."""
    parser = Parser(prog="kneten thumbnail", description="A project's picture for file managers.")
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


COMMANDS: dict[str, Callable[[list[str]], object]] = {
    "install-desktop": install_desktop,
    "thumbnail": thumbnail,
}


def run(command: str, words: list[str]) -> int:
    """Run a command; returns the exit status, as `orders.finished` tells it."""
    return finished(COMMANDS[command], words, (ProjectFileError,))
