"""Presses on the disk: the cache of our own, made when first wanted, and the user's folder of open files."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import re
import shutil
from dataclasses import asdict, dataclass, replace
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import platformdirs
from PIL import Image

import kneten.core.presses
from kneten.core.press import Press
from kneten.core.press_edits import Edits
from kneten.core.presses.library import library
from kneten.core.words import thing_from
from kneten.document.presses import AnyPress
from kneten.document.things import KeptDeep, KeptPress, kept_deep, kept_press
from kneten.formats.heights import (
    HeightsError,
    read_deep,
    read_heights,
    words_of_exr,
    write_deep,
    write_heights,
)

NOTES = "kneten"
"""The text of a PNG that has in it what Kneten knows of a press."""


@dataclass(frozen=True)
class Told:
    """What a file of the user's folder tells of its press, besides the edits."""

    name: str
    family: str
    low: float
    high: float
    tiles: bool
    id: str


@cache
def cache_folder() -> Path:
    """Where presses of our own lie that were made here: a folder for this exact state of what draws them."""
    digest = hashlib.sha256()
    for path in sorted(Path(kneten.core.presses.__file__).parent.glob("*.py")):
        digest.update(path.read_bytes())
    base = os.environ.get("KNETEN_CACHE") or platformdirs.user_cache_dir("kneten")
    return Path(base) / "presses" / digest.hexdigest()[:16]


def own_press(key: str) -> Press:
    """A press of our own: from the cache, or made and put there. Raises `KeyError` for an unknown one."""
    entry = library()[key]
    if entry.deep:
        # As quickly drawn as read.
        return entry.made()
    path = cache_folder() / f"{key}.png"
    with contextlib.suppress(OSError, ValueError, KeyError, SyntaxError):
        with Image.open(path) as image:
            low, high = json.loads(image.info[NOTES])
            steps = np.asarray(image)
        if steps.dtype == np.uint16 and steps.ndim == 2:
            share = steps.astype(np.float32) / np.float32(65535)
            return Press(np.float32(low) + np.float32(high - low) * share, entry.tiles)
    made = entry.made()
    # A full disk is no reason not to have it.
    with contextlib.suppress(OSError):
        if not path.parent.exists():
            for old in path.parent.parent.glob("*"):
                shutil.rmtree(old, ignore_errors=True)
            path.parent.mkdir(parents=True, exist_ok=True)
        low, high = float(made.heights.min()), float(made.heights.max())
        write_heights(path, made.heights, [(NOTES, json.dumps([low, high]))])
    return made


def user_folder() -> Path:
    """Where the user's presses lie: pictures that any program can read."""
    base = os.environ.get("KNETEN_STATE") or platformdirs.user_data_dir("kneten")
    return Path(base) / "presses"


def write_press(press: AnyPress, folder: Path) -> Path:
    """Write a press into a folder, over an earlier state of it. Raises `OSError`."""
    folder.mkdir(parents=True, exist_ok=True)
    stem = " ".join(re.sub(r'[\\/:*?"<>|\x00-\x1f]', " ", press.name).split()).strip(". ")[:60] or "Press"
    ending = ".png" if isinstance(press, KeptPress) else ".exr"
    path = folder / f"{stem} {press.id[:8]}{ending}"
    for old in folder.glob(f"*{press.id[:8]}{ending}"):
        if old != path:
            old.unlink(missing_ok=True)
    if not isinstance(press, KeptPress):
        named = {"name": press.name, "family": press.family, "id": press.id}
        write_deep(path, press.picture, [(NOTES, json.dumps(named))])
        return path
    told: dict[str, Any] = {
        "name": press.name, "family": press.family, "low": press.low, "high": press.high, "tiles": press.tiles,
        "id": press.id, "edits": asdict(press.edits),
    }  # fmt: skip
    write_heights(path, press.picture, [(NOTES, json.dumps(told))])
    return path


def read_deep_press(path: Path) -> KeptDeep:
    """A deep press out of the user's folder, or from any EXR file of three channels. Raises `HeightsError`."""
    plain = kept_deep(path.stem, read_deep(path))
    try:
        told = json.loads(words_of_exr(path, NOTES) or "{}")
        return replace(plain, name=str(told["name"]), family=str(told["family"]), id=str(told["id"]))
    except (ValueError, TypeError, KeyError):
        return plain


def read_press(path: Path) -> KeptPress:
    """A press out of the user's folder, or from any picture. Raises `HeightsError`."""
    picture = read_heights(path)
    told: dict[str, Any] = {}
    if path.suffix.lower() == ".png":
        with contextlib.suppress(OSError, ValueError, KeyError, TypeError), Image.open(path) as image:
            told = json.loads(image.info[NOTES])
    plain = kept_press(path.stem, picture)
    if not isinstance(told, dict) or not told:
        return plain
    try:
        edits = thing_from(Edits, told.pop("edits"))
        words = thing_from(Told, told)
    except (ValueError, KeyError, TypeError) as error:
        raise HeightsError(f"{path.name} has notes in it that make no sense ({error}).") from error
    return KeptPress(
        words.name,
        plain.width,
        plain.steps,
        words.family,
        words.low,
        words.high,
        words.tiles,
        edits,
        words.id,
    )


def forget_file(press_id: str) -> None:
    """Take a press out of the user's folder."""
    for path in user_folder().glob(f"*{press_id[:8]}.*"):
        with contextlib.suppress(OSError):
            path.unlink()
