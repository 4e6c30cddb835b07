"""Wavefront OBJ: vertices (with colours after the position), faces, objects and groups."""

from __future__ import annotations

import codecs
import itertools
import re
from pathlib import Path
from typing import BinaryIO

import numpy as np

from kneten.core.arrays import AnyArray, Progress
from kneten.formats.pieces import (
    FormatError,
    Piece,
    Pieces,
    check_objects,
    checked_faces,
    decode_name,
    drop_degenerate,
    drop_repeated,
    faces_from_runs,
    finite_positions,
    numbers_of,
)

REFERENCE_TAIL = re.compile(rb"/[^\s]*")
ROWS = 50_000


def read_obj(path: Path, progress: Progress) -> Pieces:
    """Read a file. Raises `FormatError`, `OSError`."""
    # Some programs on other systems begin every text with a mark of its encoding.
    data = path.read_bytes().removeprefix(codecs.BOM_UTF8)
    data = data.replace(b"\\\r\n", b" ").replace(b"\\\n", b" ")
    result = Pieces()
    vertex_lines: list[bytes] = []
    face_lines: list[bytes] = []
    seen_before: list[int] = []
    objects: list[tuple[int, bytes]] = []
    groups: list[tuple[int, bytes]] = []
    lines = data.split(b"\n")
    for count, line in enumerate(lines):
        head = line[:2]
        if head in (b"v ", b"v\t"):
            vertex_lines.append(line[2:])
        elif head in (b"f ", b"f\t"):
            face_lines.append(line[2:])
            seen_before.append(len(vertex_lines))
        elif head in (b"o ", b"o\t"):
            objects.append((len(face_lines), line[2:]))
        elif head in (b"g ", b"g\t"):
            groups.append((len(face_lines), line[2:]))
        if count % ROWS == 0:
            progress.report(0.5 * count / len(lines), "Reading")
    if not vertex_lines:
        raise FormatError("there are no vertices; is this an OBJ file?")
    if not face_lines:
        raise FormatError("there are no faces")
    positions, colour = _vertices(vertex_lines)
    progress.report(0.7, "Reading")
    faces, face_of = _faces(face_lines, seen_before, result)
    checked_faces(faces, len(positions))
    progress.report(0.9, "Reading")
    marks = objects or groups
    if len(marks) <= 1:
        name = decode_name(marks[0][1], result.notices) if marks else path.stem
        clean = drop_repeated(drop_degenerate(faces, result.notices), result.notices)
        result.pieces.append(Piece(name, positions, checked_faces(clean, len(positions)), colour))
        return result
    starts = [0] if marks[0][0] > 0 else []
    names = [path.stem] if starts else []
    starts += [at for at, _ in marks]
    names += [decode_name(raw, result.notices) for _, raw in marks]
    # Faces stand in the order of their lines: each object's are one run.
    ends = np.searchsorted(face_of, [*starts, len(face_lines)]).tolist()
    check_objects(sum(a < b for a, b in itertools.pairwise(ends)))
    for (first, last), name in zip(itertools.pairwise(ends), names, strict=True):
        own = drop_repeated(drop_degenerate(faces[first:last], result.notices), result.notices)
        if len(own) == 0:
            continue
        used, place = np.unique(own[own >= 0], return_inverse=True)
        own[own >= 0] = place
        own_colour = None if colour is None else colour[used]
        result.pieces.append(Piece(name or path.stem, positions[used], own, own_colour))
        progress.report(0.9 + 0.1 * last / len(faces), "Reading")
    return result


def _six(words: list[bytes]) -> bytes:
    if len(words) < 6:
        return b" ".join([*words[:3], b"1 1 1"])
    return b" ".join(words[:6] if len(words) == 6 else [*words[:3], *words[4:7]])


def _vertices(lines: list[bytes]) -> tuple[AnyArray, AnyArray | None]:
    sizes = np.array([len(line.split()) for line in lines])
    if sizes.min() < 3:
        raise FormatError(f"vertex {int(sizes.argmin()) + 1} has fewer than three numbers")
    if sizes.min() != sizes.max():
        # Objects with and without colours in one file: the latter are white.
        lines = [_six(line.split()) for line in lines]
    table = numbers_of(b" ".join(lines).split(), np.float64).reshape(len(lines), -1)
    colour = None
    if table.shape[1] >= 6:
        # x y z r g b, or x y z w r g b
        rgb = table[:, 3:6] if table.shape[1] == 6 else table[:, 4:7]
        colour = np.full((len(table), 4), 255, np.uint8)
        colour[:, :3] = np.rint(np.clip(np.nan_to_num(rgb), 0, 1) * 255)
    return finite_positions(table[:, :3]), colour


def _faces(lines: list[bytes], seen: list[int], result: Pieces) -> tuple[AnyArray, AnyArray]:
    plain = REFERENCE_TAIL.sub(b"", b"\n".join(lines)).split(b"\n")
    sizes = np.array([len(line.split()) for line in plain])
    corners = numbers_of(b" ".join(plain).split(), np.int64)
    if (corners == 0).any():
        raise FormatError("a face names vertex 0, but OBJ counts from 1")
    # Negative numbers count back from the newest vertex.
    back = np.repeat(np.array(seen), sizes)
    corners = np.where(corners < 0, corners + back, corners - 1)
    if (corners < 0).any():
        raise FormatError("a face counts back beyond the first vertex")
    faces = faces_from_runs(corners, sizes, result.notices)
    large = sizes > 4
    face_of = np.repeat(np.arange(len(sizes)), np.where(large, sizes - 2, 1))
    return faces, face_of


def write_obj(file: BinaryIO, pieces: list[Piece], progress: Progress) -> None:
    """Write objects with names, quads as quads, and colours where there are any."""
    file.write(b"# Kneten\n")
    offset = 1
    for index, piece in enumerate(pieces):
        file.write(f"o {_word(piece.name)}\n".encode())
        n = len(piece.positions)
        for first in range(0, n, ROWS):
            rows = piece.positions[first : first + ROWS].tolist()
            if piece.colour is None:
                text = "".join(f"v {x:.9g} {y:.9g} {z:.9g}\n" for x, y, z in rows)
            else:
                rgb = (piece.colour[first : first + ROWS, :3] / 255.0).tolist()
                text = "".join(
                    f"v {p[0]:.9g} {p[1]:.9g} {p[2]:.9g} {c[0]:.6g} {c[1]:.6g} {c[2]:.6g}\n"
                    for p, c in zip(rows, rgb, strict=True)
                )
            file.write(text.encode())
            progress.report((index + 0.5 * (first + ROWS) / max(n, ROWS)) / len(pieces), "Writing")
        for first in range(0, len(piece.faces), ROWS):
            block = piece.faces[first : first + ROWS].astype(np.int64) + offset
            text = "".join(
                f"f {a} {b} {c} {d}\n" if d >= offset else f"f {a} {b} {c}\n" for a, b, c, d in block.tolist()
            )
            file.write(text.encode())
            progress.report((index + 0.75) / len(pieces), "Writing")
        offset += n


def _word(name: str) -> str:
    return " ".join(name.split()) or "part"
