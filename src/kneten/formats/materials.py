"""Materials as JSON, to be handed from one to another: their names, colours as #rrggbb, and shares from 0 to 1."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

from kneten.core.paint.ink import OF_MATERIAL, OPAQUE
from kneten.core.paint.materials import Preset
from kneten.formats.pieces import FormatError

MOST_BYTES = 4_000_000
"""What a file of materials is large at most: some twenty thousand of them."""


def write_materials(path: Path, presets: tuple[Preset, ...]) -> None:
    """Write materials to a file, atomically. Raises `FormatError`."""
    words = {
        "kneten": "materials",
        "version": 1,
        "materials": [
            {
                "name": preset.name,
                "colour": "#{:02x}{:02x}{:02x}".format(*preset.colour),
                **{
                    name: round(code / 255, 4)
                    for name, code in zip(OF_MATERIAL, preset.material, strict=True)
                },
                **({} if preset.opacity == OPAQUE else {"opacity": round(preset.opacity / 255, 4)}),
            }
            for preset in presets
        ],
    }
    beside = path.with_name(path.name + ".part")
    try:
        beside.write_text(json.dumps(words, indent=2, ensure_ascii=False) + "\n", "utf-8")
        beside.replace(path)
    except OSError as error:
        beside.unlink(missing_ok=True)
        raise FormatError(f"{path.name} could not be written: {error.strerror or error}.") from error


def read_materials(path: Path) -> tuple[Preset, ...]:
    """The materials in a file. Raises `FormatError`, whose text says what is wrong."""
    try:
        if path.stat().st_size > MOST_BYTES:
            raise FormatError(f"{path.name} is too large for a file of materials.")
        words = json.loads(path.read_text("utf-8"))
    except OSError as error:
        raise FormatError(f"{path.name} cannot be read: {error.strerror or error}.") from error
    except (ValueError, RecursionError) as error:
        raise FormatError(
            f"{path.name} is no JSON: choose a file that Kneten's materials were shared as."
        ) from error
    if not isinstance(words, dict) or words.get("kneten") != "materials":
        raise FormatError(f"{path.name} holds no materials: choose a file that they were shared as.")
    if words.get("version") != 1:
        raise FormatError(f"{path.name} was written by a newer Kneten: get that one to read it.")
    held = words.get("materials")
    if not isinstance(held, list) or not held:
        raise FormatError(f"{path.name} has no materials in it.")
    try:
        return tuple(_preset(one) for one in held)
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise FormatError(f"{path.name} has a material that is not usable: {error}.") from error


def _preset(words: dict[str, Any]) -> Preset:
    name, colour = str(words["name"]), str(words["colour"])
    if not re.fullmatch(r"#[0-9a-fA-F]{6}", colour):
        raise ValueError(f"{colour!r} is no colour such as #b06a54")
    codes = []
    for channel in (*OF_MATERIAL, "opacity"):
        share = float(words.get(channel, 1.0 if channel == "opacity" else 0.0))
        if not 0 <= share <= 1:
            raise ValueError(f"{channel} of {name} is not between 0 and 1")
        codes.append(round(255 * share))
    r, g, b = (int(colour[k : k + 2], 16) for k in (1, 3, 5))
    made = Preset(name, (r, g, b), (codes[0], codes[1], codes[2], codes[3]), opacity=codes[4])
    made.check()
    return made
