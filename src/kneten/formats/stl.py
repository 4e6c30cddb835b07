"""STL, ASCII and binary: loose triangles, welded where corners are equal to the bit."""

from __future__ import annotations

import re
from pathlib import Path
from typing import BinaryIO

import numpy as np

from kneten.core.arrays import AnyArray, Progress
from kneten.core.remesh import triangulate
from kneten.core.weld import welded
from kneten.formats.pieces import (
    FormatError,
    Piece,
    Pieces,
    check_objects,
    checked_faces,
    decode_name,
    drop_degenerate,
    drop_repeated,
    finite_positions,
    numbers_of,
)

ROW = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("unused", "<u2")])


def read_stl(path: Path, progress: Progress) -> Pieces:
    """Read a file. Raises `FormatError`, `OSError`."""
    data = path.read_bytes()
    result = Pieces()
    if _is_text(data):
        for name, corners in _text_solids(data, result):
            result.pieces.append(_weld(name or path.stem, corners, result))
            progress.report(0.9, "Reading")
        return result
    if len(data) < 84:
        raise FormatError("it is too short for an STL file")
    count = int.from_bytes(data[80:84], "little")
    need = 84 + count * ROW.itemsize
    if count == 0:
        raise FormatError("there are no faces")
    if len(data) < need:
        raise FormatError(
            f"it says it has {count:,} triangles ({need:,} bytes) but is {len(data):,} bytes long: it was cut short"
        )
    rows = np.frombuffer(data, ROW, count, 84)
    result.pieces.append(_weld(path.stem, rows["corners"].reshape(-1, 3), result))
    return result


def _is_text(data: bytes) -> bool:
    # Some binary files begin with "solid" too; only text has a facet or an end soon after.
    if data.lstrip()[:5].lower() != b"solid":
        return False
    return b"facet" in data[:1000].lower() or b"endsolid" in data[:1000].lower()


def _text_solids(data: bytes, result: Pieces) -> list[tuple[str, AnyArray]]:
    if b"endsolid" not in data.lower():
        raise FormatError("its last solid has no end: it was cut short")
    solids = []
    for block in re.split(rb"(?im)^[ \t]*endsolid[^\n]*$", data):
        head = re.search(rb"(?im)^[ \t]*solid([^\n]*)$", block)
        if head is None:
            continue
        numbers = re.findall(rb"(?i)vertex\s+(\S+)\s+(\S+)\s+(\S+)", block)
        if len(numbers) % 3 or len(re.findall(rb"(?i)endfacet", block)) * 3 != len(numbers):
            raise FormatError("a triangle does not have three corners")
        if not numbers:
            continue
        corners = numbers_of([word for row in numbers for word in row], np.float64).reshape(-1, 3)
        solids.append((decode_name(head.group(1), result.notices), corners))
        check_objects(len(solids))
    if not solids:
        raise FormatError("there are no faces")
    return solids


def _weld(name: str, corners: AnyArray, result: Pieces) -> Piece:
    flat = finite_positions(corners)
    first, which = welded(flat)
    positions = flat[first] + np.float32(0.0)
    faces = np.full((len(flat) // 3, 4), -1, np.int32)
    faces[:, :3] = which.reshape(-1, 3)
    faces = drop_repeated(drop_degenerate(faces, result.notices), result.notices, len(positions))
    return Piece(name, positions, checked_faces(faces, len(positions)))


def write_stl(file: BinaryIO, pieces: list[Piece], ascii_text: bool, progress: Progress) -> None:
    """Write triangles; binary files hold all objects as one solid."""
    blocks = []
    for index, piece in enumerate(pieces):
        corners = piece.positions[triangulate(piece.faces)]
        normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        length = np.linalg.norm(normals, axis=1, keepdims=True)
        normals = np.divide(normals, length, out=np.zeros_like(normals), where=length > 0)
        if ascii_text:
            name = " ".join(piece.name.split())
            file.write(f"solid {name}\n".encode())
            for first in range(0, len(corners), 20_000):
                block = zip(
                    normals[first : first + 20_000].tolist(),
                    corners[first : first + 20_000].reshape(-1, 9).tolist(),
                    strict=True,
                )
                file.write("".join(_facet(n, c) for n, c in block).encode())
                progress.report((index + first / len(corners)) / len(pieces), "Writing")
            file.write(f"endsolid {name}\n".encode())
            continue
        rows = np.zeros(len(corners), ROW)
        rows["normal"] = normals
        rows["corners"] = corners
        blocks.append(rows)
    if not ascii_text:
        total = sum(len(rows) for rows in blocks)
        file.write(b"Kneten".ljust(80) + total.to_bytes(4, "little"))
        for rows in blocks:
            file.write(rows.tobytes())
            progress.report(0.9, "Writing")


def _facet(n: list[float], c: list[float]) -> str:
    lines = [f"facet normal {n[0]:.6g} {n[1]:.6g} {n[2]:.6g}\n outer loop\n"]
    lines += [f"  vertex {c[k]:.9g} {c[k + 1]:.9g} {c[k + 2]:.9g}\n" for k in (0, 3, 6)]
    return "".join([*lines, " endloop\nendfacet\n"])
