"""One command over many files, or one long one in pieces: by processes here, or by the machines of a Dask scheduler.

A piece of work takes its files along and gives files back, so that the machines need share no folder; each needs Kneten.
"""

from __future__ import annotations

import argparse
import glob
import json
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np

from kneten.app.start.orders import UsageError, tell, warn
from kneten.core.arrays import U8
from kneten.document.arrays_file import replacing
from kneten.library import KnetenError

MANY = ("convert", "remesh", "decimate", "retopologise", "unwrap", "check", "print-set", "game-set")
"""Commands that take a pattern of files."""

WITHOUT_TARGET = ("check",)

FOLDERS = ("print-set", "game-set")
"""Those that write a folder for each file."""

TRIES = 4
"""Times at most that a piece is begun when the machine that has it is lost."""


@dataclass(frozen=True)
class Piece:
    """One piece of work.

    Attributes
    ----------
    words : tuple of str
        Of the command line; `{in}` stands for the folder of its files, `{out}` for that of what it makes.
    files : dict
        What it needs, by name.
    """

    words: tuple[str, ...]
    files: dict[str, bytes] = field(default_factory=dict)


@dataclass(frozen=True)
class Done:
    """What came of a piece: its status, what it said, and the files that it made."""

    status: int
    result: dict[str, Any]
    said: str
    files: dict[str, bytes]


def done(piece: Piece) -> Done:
    """Do a piece of work in a process of its own, in folders of its own."""
    with tempfile.TemporaryDirectory(prefix="kneten-") as name:
        given, made = Path(name, "in"), Path(name, "out")
        given.mkdir()
        made.mkdir()
        for title, data in piece.files.items():
            (given / title).write_bytes(data)
        words = [word.replace("{in}", str(given)).replace("{out}", str(made)) for word in piece.words]
        ended = subprocess.run(
            [sys.executable, "-m", "kneten", *words, "--json"], capture_output=True, text=True, check=False
        )
        lines = ended.stdout.strip().splitlines()
        try:
            result = json.loads(lines[-1]) if lines else {}
        except ValueError:
            result = {}
        files = {
            str(one.relative_to(made)): one.read_bytes() for one in sorted(made.rglob("*")) if one.is_file()
        }
    said = " ".join(result.get("notices", [])) or ended.stderr.strip()[-400:]
    return Done(ended.returncode, result, said, files)


def spread(pieces: Sequence[Piece], jobs: int, farm: str) -> Iterator[Done]:
    """Do pieces of work, in their order, by so many processes, or by the machines of a scheduler.

    Raises
    ------
    KnetenError
        When the scheduler cannot be reached, or all machines that had a piece were lost.
    """
    if not farm:
        with ThreadPoolExecutor(max(jobs, 1)) as pool:
            yield from pool.map(done, pieces)
        return
    try:
        from distributed import Client
    except ImportError as error:
        raise KnetenError("a farm needs the package distributed: pip install 'kneten[farm]'") from error
    try:
        client: Any = Client(farm, timeout="10s")  # type: ignore[no-untyped-call]
    except (OSError, ValueError) as error:
        raise KnetenError(f"the scheduler {farm} cannot be reached ({error})") from error
    try:
        # A machine that is lost takes its piece with it: another one begins it anew.
        futures = client.map(done, pieces, retries=TRIES, pure=False)
        for future in futures:
            try:
                yield future.result()
            except Exception as error:
                raise KnetenError(
                    f"a piece of the work was lost with the machines that had it ({error})"
                ) from error
    finally:
        client.close()


def many(command: str, words: list[str]) -> int | None:
    """Run a command for each file of a pattern; None where its words name one file."""
    found, rest, jobs, farm = _taken_apart(words)
    if not found:
        return None
    if command not in WITHOUT_TARGET and not rest:
        raise UsageError(f"{command} needs to know where to: a folder, or a name with {{name}} in it")
    target = "" if command in WITHOUT_TARGET else rest.pop(0)
    pieces, titles = [], []
    for path in found:
        place = [] if not target else [_placed(command, target, path)]
        titles.append(Path(place[0]) if place else path)
        inner = [f"{{out}}/{titles[-1].name}"] if place else []
        pieces.append(Piece((command, f"{{in}}/{path.name}", *inner, *rest), {path.name: path.read_bytes()}))
    worst = 0
    for path, title, one in zip(found, titles, spread(pieces, jobs, farm), strict=True):
        worst = max(worst, one.status)
        for name, data in one.files.items():
            at = title.parent / name
            at.parent.mkdir(parents=True, exist_ok=True)
            with replacing(at) as file:
                file.write(data)
        if one.status:
            warn(f"{path.name}: {one.result.get('error') or one.said}")
        tell(
            f"{path.name}: {'done' if not one.status else 'not done'}",
            results={"in": str(path), **one.result},
        )
    return worst


def _taken_apart(words: list[str]) -> tuple[list[Path], list[str], int, str]:
    """The files of a pattern, the other words, and who does the work; no files where there is no pattern. Raises `UsageError`."""
    parser = argparse.ArgumentParser(add_help=False, allow_abbrev=False)
    parser.add_argument("--jobs", type=int, default=0)
    parser.add_argument("--farm", default="")
    try:
        given, rest = parser.parse_known_args(words)
    except SystemExit as error:
        raise UsageError("--jobs is a number, --farm the address of a scheduler") from error
    first = next((word for word in rest if not word.startswith("-")), "")
    spreads = given.jobs or given.farm
    if not first or (not any(mark in first for mark in "*?[") and not spreads):
        return [], words, 1, ""
    found = [Path(name) for name in sorted(glob.glob(first, recursive=True)) if Path(name).is_file()]
    if not found:
        raise KnetenError(f"no file is called like {first}")
    rest.remove(first)
    return found, rest, given.jobs or 1, given.farm


def _placed(command: str, target: str, path: Path) -> str:
    """Where what becomes of a file goes. Raises `UsageError`."""
    if "{name}" in target:
        return target.replace("{name}", path.stem)
    if command in FOLDERS:
        return str(Path(target) / path.stem)
    if target.endswith("/") or Path(target).is_dir():
        return str(Path(target) / path.name)
    raise UsageError(f"{target}: for many files it has to be a folder, or have {{name}} in it")


def spread_pictures(words: list[str], project: Path, count: int, jobs: int, farm: str) -> Iterator[U8]:
    """The pictures of a turntable, (h, w, 3) each, drawn in pieces; `words` are those of its command."""
    each = max(-(-count // max(4 * jobs, 8)), 1)
    ends = [*range(0, count, each), count]
    try:
        data = {project.name: project.read_bytes()}
    except OSError as error:
        raise KnetenError(f"{project} cannot be read ({error})") from error
    own = [word for word in _without(words, ("--jobs", "--farm")) if word not in ("--json",)]
    at = own.index(str(project)) if str(project) in own else 0
    own[at] = f"{{in}}/{project.name}"
    target = next(k for k, word in enumerate(own) if k > at and not word.startswith("-"))
    own[target] = "{out}/pictures.npy"
    pieces = [Piece(("turntable", *own, "--only", f"{a}:{b}"), data) for a, b in pairwise(ends)]
    for one in spread(pieces, jobs, farm):
        if one.status or "pictures.npy" not in one.files:
            raise KnetenError(one.result.get("error") or one.said or "a piece of the film was not drawn")
        with tempfile.NamedTemporaryFile(suffix=".npy") as file:
            file.write(one.files["pictures.npy"])
            file.flush()
            yield from np.load(file.name)


def _without(words: list[str], names: Sequence[str]) -> list[str]:
    """Words without some options and their values."""
    out, skip = [], False
    for word in words:
        if skip:
            skip = False
        elif word in names:
            skip = True
        elif not any(word.startswith(f"{name}=") for name in names):
            out.append(word)
    return out
