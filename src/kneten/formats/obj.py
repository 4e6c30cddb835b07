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
    places: list[bytes] = []
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
        elif head == b"vt":
            places.append(line[2:])
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
    uv = _places(face_lines, places, len(faces), result) if places else None
    progress.report(0.9, "Reading")
    marks = objects or groups
    if len(marks) <= 1:
        name = decode_name(marks[0][1], result.notices) if marks else path.stem
        clean = drop_repeated(drop_degenerate(faces, result.notices), result.notices)
        own_uv = _kept(uv, faces, clean, result)
        result.pieces.append(Piece(name, positions, checked_faces(clean, len(positions)), colour, uv=own_uv))
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
        own_uv = None if uv is None else _kept(uv[first:last], faces[first:last], own, result)
        used, place = np.unique(own[own >= 0], return_inverse=True)
        own[own >= 0] = place
        own_colour = None if colour is None else colour[used]
        result.pieces.append(Piece(name or path.stem, positions[used], own, own_colour, uv=own_uv))
        progress.report(0.9 + 0.1 * last / len(faces), "Reading")
    return result


PLACE = re.compile(rb"^-?\d+/(-?\d+)")


def _places(lines: list[bytes], places: list[bytes], count: int, result: Pieces) -> AnyArray | None:
    """Where the corners of faces lie in the picture plane, (f, 8); None where not all of them say so."""
    words = [line.split() for line in lines]
    found = [PLACE.match(word) for row in words for word in row]
    if not all(found):
        if any(found):
            result.notices.append("Only some faces have UVs; they were left out.")
        return None
    number = np.array([int(match[1]) for match in found if match], np.int64)
    table = numbers_of([word for line in places for word in [*line.split(), b"0", b"0"][:2]], np.float64).reshape(-1, 2)  # fmt: skip
    number = np.where(number < 0, number + len(table), number - 1)
    if number.min(initial=0) < 0 or number.max(initial=0) >= len(table) or not np.isfinite(table).all():
        result.notices.append("Its UVs do not fit its faces; they were left out.")
        return None
    sizes = np.array([len(row) for row in words])
    # The same cutting of large faces as for their vertices, of the corners' own numbers.
    corners = faces_from_runs(np.arange(len(number)), sizes, [])
    if len(corners) != count:
        return None
    uv = table[number][np.maximum(corners, 0)] * (corners >= 0)[:, :, None]
    return np.ascontiguousarray(uv.reshape(-1, 8), np.float32)


def _kept(uv: AnyArray | None, faces: AnyArray, clean: AnyArray, result: Pieces) -> AnyArray | None:
    """The UVs of faces of which some may have been left out since."""
    if uv is None or len(faces) == len(clean):
        return uv
    result.notices.append("Faces were left out, and UVs with them.")
    return None


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
    offset, laid = 1, 1
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
        at = None
        if piece.uv is not None:
            at, number = np.unique(piece.uv.reshape(-1, 2), axis=0, return_inverse=True)
            file.write("".join(f"vt {u:.9g} {v:.9g}\n" for u, v in at.tolist()).encode())
            own = np.concatenate(
                [piece.faces.astype(np.int64) + offset, number.reshape(-1, 4) + laid], axis=1
            )
            laid += len(at)
        for first in range(0, len(piece.faces), ROWS):
            if at is not None:
                text = "".join(
                    f"f {a}/{p} {b}/{q} {c}/{r} {d}/{s}\n" if d >= offset else f"f {a}/{p} {b}/{q} {c}/{r}\n"
                    for a, b, c, d, p, q, r, s in own[first : first + ROWS].tolist()
                )
                file.write(text.encode())
                progress.report((index + 0.75) / len(pieces), "Writing")
                continue
            block = piece.faces[first : first + ROWS].astype(np.int64) + offset
            text = "".join(
                f"f {a} {b} {c} {d}\n" if d >= offset else f"f {a} {b} {c}\n" for a, b, c, d in block.tolist()
            )
            file.write(text.encode())
            progress.report((index + 0.75) / len(pieces), "Writing")
        offset += n


def _word(name: str) -> str:
    return " ".join(name.split()) or "part"
