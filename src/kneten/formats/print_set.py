"""A print set: one folder with files for the printer, each looked through, and a page that says what is in it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from kneten.core.arrays import F32, Progress
from kneten.core.printing.numbers import MATERIALS
from kneten.document.arrays_file import ProjectFileError, explain, replacing
from kneten.document.print_wish import PrintWish
from kneten.document.printing import Checked
from kneten.formats.page import Table, file_stem, page, size_text, write_numbers, write_text
from kneten.formats.pieces import FormatError, Piece
from kneten.formats.space import Space
from kneten.formats.stl import write_stl
from kneten.formats.threemf import write_3mf

PLATE = Space("mm", "z")


@dataclass(frozen=True, eq=False)
class PrintSet:
    """What was written.

    Attributes
    ----------
    folder : Path
    files : tuple of Path
    faults : tuple of str
        What is wrong with it, in words.
    numbers : dict
        All that the page says.
    """

    folder: Path
    files: tuple[Path, ...]
    faults: tuple[str, ...]
    numbers: dict[str, Any]


def print_pieces(bodies: Sequence[Checked]) -> list[Piece]:
    """Bodies as they lie on the plate: z up, their lowest place at nought, their middle at the middle."""
    lows = np.min([body.mesh.positions.min(axis=0) for body in bodies], axis=0)
    highs = np.max([body.mesh.positions.max(axis=0) for body in bodies], axis=0)
    shift = np.array([-(lows[0] + highs[0]) / 2, -lows[1], -(lows[2] + highs[2]) / 2])
    found = []
    for body in bodies:
        positions, faces = body.mesh.source_arrays()
        placed: F32 = PLATE.out_of(positions.astype(np.float64) + shift)
        colour = body.mesh.colour
        told = None if colour is None else body.mesh.in_source_order(colour)
        found.append(Piece(body.name, placed, faces, told))
    return found


def write_print_set(
    folder: Path,
    name: str,
    bodies: Sequence[Checked],
    wish: PrintWish,
    progress: Progress,
    pictures: Mapping[str, bytes] | None = None,
) -> PrintSet:
    """Write a set to a folder, which is made where there is none.

    Parameters
    ----------
    bodies : sequence of Checked
        In millimetres of the print.
    pictures : dict
        PNG by what they show.

    Raises
    ------
    FormatError
        With words for the user.
    Cancelled
        Through `progress`.
    """
    if not bodies:
        raise FormatError("there is nothing to print: no part is visible")
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FormatError(explain(error, folder)) from error
    stem = file_stem(name)
    pieces = print_pieces(bodies)
    files: list[Path] = []
    notes = {
        "Title": name,
        "Designer": "Kneten",
        "Description": f"{len(pieces)} bodies in {MATERIALS[wish.material][0]}",
    }
    try:
        with replacing(folder / f"{stem}.3mf") as file:
            write_3mf(file, pieces, "mm", progress, notes)
        files.append(folder / f"{stem}.3mf")
        names: set[str] = set()
        for count, piece in enumerate(pieces):
            progress.report(count / len(pieces), f"Writing {piece.name}")
            own = file_stem(piece.name)
            own = next(n for k in range(1, 9999) if (n := own if k == 1 else f"{own}_{k}") not in names)
            names.add(own)
            path = folder / f"{stem}_{own}.stl"
            with replacing(path) as file:
                write_stl(file, [piece], False, progress)
            files.append(path)
    except ProjectFileError as error:
        raise FormatError(str(error)) from error
    faults = tuple(words for body in bodies for words in body.words(wish))
    told = _numbers(name, bodies, wish, files)
    write_numbers(folder / f"{stem}.json", told)
    write_text(folder / f"{stem}.html", _page(name, bodies, wish, files, faults, pictures))
    return PrintSet(folder, (*files, folder / f"{stem}.json", folder / f"{stem}.html"), faults, told)


def _numbers(name: str, bodies: Sequence[Checked], wish: PrintWish, files: Sequence[Path]) -> dict[str, Any]:
    least = [body.walls.least for body in bodies if np.isfinite(body.walls.least)]
    return {
        "name": name,
        "unit": "mm",
        "material": MATERIALS[wish.material][0],
        "weight_g": round(sum(body.facts.weight for body in bodies), 2),
        "price": round(sum(body.price for body in bodies), 2),
        "layers": layers_of(bodies, wish),
        "least_thickness_mm": round(min(least), 3) if least else None,
        "bodies": [
            {
                "name": body.name,
                "size_mm": [round(side, 2) for side in body.facts.size],
                "volume_cm3": round(body.facts.volume, 3),
                "surface_cm2": round(body.facts.surface, 2),
                "weight_g": round(body.facts.weight, 2),
                "price": round(body.price, 2),
                "closed": not body.mesh.topology.has_border,
                "flaw": body.flaw,
                "thinnest_mm": round(body.walls.least, 3) if np.isfinite(body.walls.least) else None,
                "too_thin": round(body.walls.thin, 5),
                "overhang": round(body.facts.overhang, 4),
                "lean_degrees": round(body.facts.lean, 2),
                "triangles": body.mesh.topology.n_triangles,
            }
            for body in bodies
        ],
        "files": {path.name: path.stat().st_size for path in files},
    }


def layers_of(bodies: Sequence[Checked], wish: PrintWish) -> int:
    """How many layers the highest of them takes, where they stand."""
    low = min(float(body.mesh.positions[:, 1].min()) for body in bodies)
    high = max(float(body.mesh.positions[:, 1].max()) for body in bodies)
    return max(int(np.ceil((high - low) / wish.layer - 1e-6)), 1)


def _page(
    name: str,
    bodies: Sequence[Checked],
    wish: PrintWish,
    files: Sequence[Path],
    faults: Sequence[str],
    pictures: Mapping[str, bytes] | None,
) -> str:
    rows, bad = [], set()
    for number, body in enumerate(bodies):
        told = body.facts
        thin = f"{body.walls.least:.2f}" if np.isfinite(body.walls.least) else "–"
        stands = f"{told.lean:.0f}°" if told.stands else "no"
        rows.append(
            (
                body.name, " x ".join(f"{side:.1f}" for side in told.size), f"{told.volume:.2f}", f"{told.weight:.1f}",
                f"{body.price:.2f}", thin, f"{100 * told.overhang:.0f} %", stands, body.flaw or "closed, sound",
            )
        )  # fmt: skip
        if not body.good:
            bad.add(number)
    tables = [
        Table(
            "Bodies",
            ("Body", "Size, mm", "cm³#", "g#", "Price#", "Thinnest, mm#", "Overhang#", "Tips at#", "Mesh"),
            tuple(rows),
            f"{MATERIALS[wish.material][0]}, {MATERIALS[wish.material][1]:g} g/cm³, {wish.price:g} for each cm³. Overhang: farther "
            f"than {wish.angle:g}° from upright. {layers_of(bodies, wish):,} layers of {wish.layer:g} mm.",
            frozenset(bad),
        ),
        Table(
            "Files",
            ("File", "Size#"),
            tuple((path.name, size_text(path.stat().st_size)) for path in files),
            "3MF has all bodies where they stand, in millimetres; STL has one each.",
        ),
    ]
    if faults:
        every = range(len(faults))
        tables.insert(
            0, Table("To be mended", ("What",), tuple((text,) for text in faults), "", frozenset(every))
        )
    whole = sum(body.facts.weight for body in bodies)
    lead = f"{len(bodies)} bodies, {whole:.1f} g, {sum(body.price for body in bodies):.2f}."
    return page(name, lead, tables, pictures)
