"""PLY: ASCII and binary (both byte orders), vertices with colours, faces of any size."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from kneten.core.arrays import F64, I32, I64, U8, Progress, in_parts, inlined, kernel
from kneten.formats.pieces import (
    FormatError,
    Piece,
    Pieces,
    checked_faces,
    drop_degenerate,
    drop_repeated,
    faces_from_runs,
    finite_positions,
    numbers_of,
)

TYPES = {
    **dict.fromkeys(("char", "int8"), "i1"),
    **dict.fromkeys(("uchar", "uint8"), "u1"),
    **dict.fromkeys(("short", "int16"), "i2"),
    **dict.fromkeys(("ushort", "uint16"), "u2"),
    **dict.fromkeys(("int", "int32"), "i4"),
    **dict.fromkeys(("uint", "uint32"), "u4"),
    **dict.fromkeys(("float", "float32"), "f4"),
    **dict.fromkeys(("double", "float64"), "f8"),
}
KINDS = ("ascii", "binary_little_endian", "binary_big_endian")


@dataclass
class Property:
    """A column of an element; `count` is the type of a list's length, or empty."""

    name: str
    kind: str
    count: str = ""


@dataclass
class Element:
    """A table of the file."""

    name: str
    rows: int
    columns: list[Property]


def _header(data: bytes) -> tuple[str, list[Element], int]:
    end = data.find(b"end_header")
    if not data.startswith(b"ply") or end < 0:
        raise FormatError("it does not begin with a PLY header")
    newline = data.find(b"\n", end)
    if newline < 0:
        raise FormatError("it ends within its header")
    kind = ""
    elements: list[Element] = []
    for line in data[:end].decode("latin-1").splitlines()[1:]:
        words = line.split()
        if not words or words[0] in ("comment", "obj_info"):
            continue
        try:
            if words[0] == "format":
                kind = words[1]
            elif words[0] == "element":
                elements.append(Element(words[1], int(words[2]), []))
            elif words[0] == "property" and words[1] == "list":
                elements[-1].columns.append(Property(words[4], TYPES[words[3]], TYPES[words[2]]))
            elif words[0] == "property":
                elements[-1].columns.append(Property(words[2], TYPES[words[1]]))
        except (IndexError, KeyError, ValueError) as error:
            raise FormatError(f"its header has a line that makes no sense: {line!r}") from error
    if kind not in KINDS:
        raise FormatError(f"its PLY kind is {kind or 'missing'!r}; known are {', '.join(KINDS)}")
    for element in elements:
        # Every row takes at least a byte.
        if element.rows < 0 or element.rows > len(data):
            raise FormatError(
                f"it says it has {element.rows:,} rows of {element.name}, but is only {len(data):,} bytes long"
            )
    return kind, elements, newline + 1


@kernel
def _list_runs(tokens: F64, at: int, rows: int, before: int, after: int, starts: I64, sizes: I64) -> int:
    """Walk rows of `before` numbers, a counted list, and `after` numbers. Returns the end, or -1."""
    for r in range(rows):
        at += before
        if at >= tokens.shape[0]:
            return -1
        n = int(tokens[at])
        if n < 0 or at + 1 + n + after > tokens.shape[0]:
            return -1
        starts[r] = at + 1
        sizes[r] = n
        at += 1 + n + after
    return at


@inlined
def _whole(data: U8, at: int, width: int, big: bool, signed: bool) -> int:
    """The whole number of up to four bytes that begins at `at`."""
    value = 0
    for k in range(width):
        value |= int(data[at + (width - 1 - k if big else k)]) << (8 * k)
    if signed and value >> (8 * width - 1):
        value -= 1 << (8 * width)
    return value


@kernel
def _packed_runs(
    data: U8, at: int, count: tuple[int, bool, bool], row: tuple[int, int, int], starts: I64, sizes: I64
) -> int:
    """The same for rows of bytes: `row` is (before, bytes of a corner, after), `count` how `_whole` reads a length."""
    before, width, after = row
    for r in range(starts.shape[0]):
        at += before
        if at + count[0] > data.shape[0]:
            return -1
        n = _whole(data, at, count[0], count[1], count[2])
        at += count[0]
        if n < 0 or at + n * width + after > data.shape[0]:
            return -1
        starts[r] = at
        sizes[r] = n
        at += n * width + after
    return at


def read_ply(path: Path, progress: Progress) -> Pieces:
    """Read a file. Raises `FormatError`, `OSError`."""
    data = path.read_bytes()
    kind, elements, at = _header(data)
    result = Pieces()
    tables: dict[str, dict[str, Any]] = {}
    reader = _Ascii(data, at) if kind == "ascii" else _Binary(data, at, kind)
    for element in elements:
        tables[element.name] = reader.read(element)
        progress.report(0.8 * len(tables) / len(elements), "Reading")
    vertex = tables.get("vertex", {})
    if not all(axis in vertex for axis in "xyz") or len(vertex["x"]) == 0:
        raise FormatError("there are no vertices with x, y and z")
    positions = finite_positions(np.stack([vertex["x"], vertex["y"], vertex["z"]], axis=1))
    face = tables.get("face", {})
    corners = face.get("vertex_indices", face.get("vertex_index"))
    if corners is None or len(corners[-1]) == 0:
        raise FormatError("there are no faces (a point cloud cannot be sculpted)")
    faces = corners[0] if len(corners) == 1 else faces_from_runs(corners[0], corners[1], result.notices)
    faces = drop_degenerate(checked_faces(faces, len(positions)), result.notices)
    faces = drop_repeated(faces, result.notices, len(positions))
    if not len(faces):
        raise FormatError("there are no faces")
    result.pieces.append(Piece(path.stem, positions, faces, _colour(vertex)))
    return result


def _colour(vertex: dict[str, Any]) -> U8 | None:
    if not all(name in vertex for name in ("red", "green", "blue")):
        return None
    colour = np.full((len(vertex["x"]), 4), 255, np.uint8)
    for k, name in enumerate(("red", "green", "blue", "alpha")):
        if name in vertex:
            values = np.nan_to_num(np.asarray(vertex[name], np.float64))
            if vertex.get(f"kind of {name}", "u1").startswith("f"):
                values = values * 255
            colour[:, k] = np.rint(np.clip(values, 0, 255))
    return colour


class _Ascii:
    def __init__(self, data: bytes, at: int) -> None:
        self.tokens = numbers_of(data[at:].split(), np.float64)
        self.at = 0

    def read(self, element: Element) -> dict[str, Any]:
        lists = [i for i, column in enumerate(element.columns) if column.count]
        rows = element.rows
        if len(lists) > 1:
            raise FormatError(f"its {element.name} table has several lists, which is not supported")
        if lists:
            before, after = lists[0], len(element.columns) - lists[0] - 1
            starts, sizes = np.zeros(rows, np.int64), np.zeros(rows, np.int64)
            end = _list_runs(self.tokens, self.at, rows, before, after, starts, sizes)
            if end < 0:
                raise FormatError(f"it ends within its {element.name} table: it was cut short")
            total = int(sizes.sum())
            at = np.repeat(starts - np.cumsum(sizes) + sizes, sizes) + np.arange(total)
            self.at = end
            return {element.columns[before].name: (self.tokens[at].astype(np.int64), sizes)}
        width = len(element.columns)
        block = self.tokens[self.at : self.at + rows * width]
        if len(block) < rows * width:
            raise FormatError(f"it ends within its {element.name} table: it was cut short")
        self.at += rows * width
        table = block.reshape(rows, width)
        found: dict[str, Any] = {}
        for k, column in enumerate(element.columns):
            found[column.name] = table[:, k]
            found[f"kind of {column.name}"] = column.kind
        return found


class _Binary:
    def __init__(self, data: bytes, at: int, kind: str) -> None:
        self.data = np.frombuffer(data, np.uint8)
        self.at = at
        self.order = "<" if kind == "binary_little_endian" else ">"

    def _cut(self, element: Element) -> FormatError:
        return FormatError(f"it ends within its {element.name} table: it was cut short")

    def read(self, element: Element) -> dict[str, Any]:
        lists = [i for i, column in enumerate(element.columns) if column.count]
        rows = element.rows
        if not lists:
            kind = np.dtype([(c.name, self.order + c.kind) for c in element.columns])
            end = self.at + rows * kind.itemsize
            if end > len(self.data):
                raise self._cut(element)
            table = self.data[self.at : end].view(kind) if rows else np.empty(0, kind)
            self.at = end
            found: dict[str, Any] = {}
            for column in element.columns:
                found[column.name] = table[column.name]
                found[f"kind of {column.name}"] = column.kind
            return found
        if len(lists) > 1:
            raise FormatError(f"its {element.name} table has several lists, which is not supported")
        return self._lists(element, lists[0])

    def _lists(self, element: Element, at: int) -> dict[str, Any]:
        """The corners of faces and how many each has, or only the faces themselves, (f, 4) int32."""
        column = element.columns[at]
        before = sum(np.dtype(c.kind).itemsize for c in element.columns[:at])
        after = sum(np.dtype(c.kind).itemsize for c in element.columns[at + 1 :])
        width = np.dtype(column.kind).itemsize
        rows = element.rows
        if column.count[0] == "f":
            raise FormatError(f"its {element.name} table counts in {column.count}: lists have whole lengths")
        alike = self._alike(element, column, before, after)
        if alike is not None:
            return {column.name: (alike,)}
        starts, sizes = np.zeros(rows, np.int64), np.zeros(rows, np.int64)
        end = _packed_runs(
            self.data, self.at, self._words(column.count), (before, width, after), starts, sizes
        )
        if end < 0:
            raise self._cut(element)
        self.at = end
        total = int(sizes.sum())
        # The bytes of all corners, wherever their rows lie.
        within = np.arange(total) - np.repeat(np.cumsum(sizes) - sizes, sizes)
        first = np.repeat(starts, sizes) + within * width
        raw = self.data[first[:, None] + np.arange(width)]
        corners = np.ascontiguousarray(raw).view(self.order + column.kind)[:, 0]
        return {column.name: (corners.astype(np.int64), sizes)}

    def _words(self, kind: str) -> tuple[int, bool, bool]:
        """How `_whole` reads a number: bytes, the greatest first, with a sign."""
        return int(kind[1]), self.order == ">", kind[0] == "i"

    def _alike(self, element: Element, column: Property, before: int, after: int) -> I32 | None:
        """Faces that are all triangles or all quads, copied as a table; None where they are not."""
        count, one = np.dtype(self.order + column.count), np.dtype(self.order + column.kind)
        first = self.data[self.at + before : self.at + before + count.itemsize]
        if not element.rows or len(first) < count.itemsize or one.kind == "f":
            return None
        n = int(first.view(count)[0])
        size = before + count.itemsize + n * one.itemsize + after
        if n not in (3, 4) or self.at + element.rows * size > len(self.data):
            return None
        row = np.dtype({
            "names": ["n", "v"], "formats": [count, (one, n)], "offsets": [before, before + count.itemsize], "itemsize": size,
        })  # fmt: skip
        table = self.data[self.at : self.at + element.rows * size].view(row)
        faces = np.empty((element.rows, 4), np.int32)
        same: list[bool] = []

        def fill(first: int, last: int) -> None:
            some = table[first:last]
            same.append(bool((some["n"] == n).all()))
            # What is too large for 32 bits turns negative here, and is refused as a vertex that is not there.
            faces[first:last, :n] = some["v"]
            faces[first:last, n:] = -1

        in_parts(element.rows, fill)
        if not all(same):
            return None
        self.at += element.rows * size
        return faces


def write_ply(file: BinaryIO, piece: Piece, ascii_text: bool, progress: Progress) -> None:
    """Write one object; quads stay quads."""
    n = len(piece.positions)
    kind = "ascii" if ascii_text else "binary_little_endian"
    head = [f"ply\nformat {kind} 1.0\ncomment Kneten\nelement vertex {n}"]
    head += [f"property float {axis}" for axis in "xyz"]
    columns = [(axis, "<f4") for axis in "xyz"]
    if piece.colour is not None:
        names = ("red", "green", "blue", "alpha")
        head += [f"property uchar {name}" for name in names]
        columns += [(name, "u1") for name in names]
    head.append(f"element face {len(piece.faces)}")
    head.append("property list uchar int vertex_indices\nend_header\n")
    file.write("\n".join(head).encode())
    if ascii_text:
        _write_ascii(file, piece, progress)
        return
    table = np.empty(n, np.dtype(columns))
    for k, axis in enumerate("xyz"):
        table[axis] = piece.positions[:, k]
    if piece.colour is not None:
        for k, name in enumerate(("red", "green", "blue", "alpha")):
            table[name] = piece.colour[:, k]
    file.write(table.tobytes())
    progress.report(0.5, "Writing")
    quad = piece.faces[:, 3] >= 0
    row = np.empty(len(quad), np.dtype([("n", "u1"), ("v", "<i4", 4)]))
    row["n"] = np.where(quad, 4, 3)
    row["v"] = piece.faces
    raw = row.view(np.uint8).reshape(len(quad), 17)
    keep = np.ones((len(quad), 17), bool)
    keep[~quad, 13:] = False
    file.write(raw[keep].tobytes())
    progress.report(1.0, "Writing")


def _write_ascii(file: BinaryIO, piece: Piece, progress: Progress) -> None:
    block = 50_000
    for first in range(0, len(piece.positions), block):
        rows = piece.positions[first : first + block].tolist()
        tails = [""] * len(rows)
        if piece.colour is not None:
            tails = [f" {r} {g} {b} {a}" for r, g, b, a in piece.colour[first : first + block].tolist()]
        file.write(
            "".join(
                f"{x:.9g} {y:.9g} {z:.9g}{tail}\n" for (x, y, z), tail in zip(rows, tails, strict=True)
            ).encode()
        )
        progress.report(0.5 * first / len(piece.positions), "Writing")
    for first in range(0, len(piece.faces), block):
        faces = piece.faces[first : first + block].tolist()
        file.write(
            "".join(f"4 {a} {b} {c} {d}\n" if d >= 0 else f"3 {a} {b} {c}\n" for a, b, c, d in faces).encode()
        )
        progress.report(0.5 + 0.5 * first / len(piece.faces), "Writing")
