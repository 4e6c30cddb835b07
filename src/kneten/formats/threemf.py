"""3MF: what printers take: triangles in a real unit, several objects, colours.

The library (lib3mf) is loaded when a file is first read or written, and nothing else needs it.
"""

from __future__ import annotations

import ctypes
import locale
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from kneten.core.arrays import I32, U8, AnyArray, Progress
from kneten.core.remesh import triangulate
from kneten.formats.pieces import (
    FormatError,
    Piece,
    Pieces,
    check_objects,
    checked_faces,
    drop_degenerate,
    drop_repeated,
    finite_positions,
)

MILLIMETRES = {0: 0.001, 1: 1.0, 2: 10.0, 3: 25.4, 4: 304.8, 5: 1000.0}
"""What the units of the format are, by its numbers: micron, millimetre, centimetre, inch, foot, metre."""

UNIT_NUMBERS = {"mm": 1, "cm": 2, "in": 3, "m": 5}

DEEPEST = 16
"""Objects that are made of objects, one within the other, at most."""


def library() -> Any:
    """The library's package. Raises `FormatError` where it is not there."""
    try:
        import lib3mf
    except (ImportError, OSError) as error:
        raise FormatError(
            "3MF needs the package lib3mf, which is not there or does not start; all other formats work. "
            "Install it with: pip install lib3mf"
        ) from error
    return lib3mf


@contextmanager
def own_locale() -> Iterator[None]:
    """The library leaves the whole process with another locale, in which no name outside of ASCII can be read."""
    before = locale.setlocale(locale.LC_ALL)
    try:
        yield
    finally:
        locale.setlocale(locale.LC_ALL, before)


def _give(wrapper: Any, one: Any, name: str, *tables: tuple[Any, AnyArray]) -> None:
    """Hand rows of numbers to a function of the library as they lie in memory: its own methods would make an object of each."""
    told: list[Any] = []
    for kind, rows in tables:
        table = np.ascontiguousarray(rows)
        told += [ctypes.c_uint64(len(table)), (kind * len(table)).from_buffer(table)]
    wrapper.checkError(one, getattr(wrapper.lib, f"lib3mf_meshobject_{name}")(one._handle, *told))


def _taken(wrapper: Any, one: Any, name: str, kind: Any, number: type, count: int) -> AnyArray:
    """Rows of numbers (count, ...) that a function of the library fills."""
    table = (kind * max(count, 1))()
    need = ctypes.c_uint64(0)
    call = getattr(wrapper.lib, f"lib3mf_meshobject_{name}")
    wrapper.checkError(one, call(one._handle, ctypes.c_uint64(count), need, table))
    return np.frombuffer(table, number).reshape(max(count, 1), -1)[:count]


def _closed(triangles: AnyArray) -> bool:
    """Whether each edge of triangles (t, 3) is met once from each side."""
    a, b = (triangles[:, corners].astype(np.int64).ravel() for corners in ([0, 1, 2], [1, 2, 0]))
    wide = int(triangles.max(initial=0)) + 1
    there, back = np.sort(a * wide + b), np.sort(b * wide + a)
    return bool(len(there) and (there[1:] > there[:-1]).all() and np.array_equal(there, back))


def write_3mf(
    file: BinaryIO,
    pieces: Sequence[Piece],
    unit: str,
    progress: Progress,
    notes: dict[str, str] | None = None,
) -> None:
    """Write objects, their triangles in the order of their faces; `notes` are told of the whole, by the names the format has.

    Raises
    ------
    FormatError
        With words for the user.
    Cancelled
        Through `progress`.
    """
    with own_locale():
        _write(file, pieces, unit, progress, notes)


def _write(
    file: BinaryIO, pieces: Sequence[Piece], unit: str, progress: Progress, notes: dict[str, str] | None
) -> None:
    lib = library()
    wrapper = lib.Wrapper()
    try:
        model = wrapper.CreateModel()
        model.SetUnit(UNIT_NUMBERS[unit])
        about = model.GetMetaDataGroup()
        for name, text in {"Application": "Kneten", **(notes or {})}.items():
            about.AddMetaData("", name, text, "xs:string", False)
        for count, piece in enumerate(pieces):
            _object(lib, wrapper, model, piece)
            progress.report(0.7 * (count + 1) / len(pieces), "Writing")
        writer = model.QueryWriter("3mf")
        with tempfile.TemporaryDirectory() as folder:
            inner = Path(folder) / "clay.3mf"
            writer.WriteToFile(str(inner))
            progress.report(0.9, "Writing")
            with open(inner, "rb") as made:
                while block := made.read(1 << 22):
                    file.write(block)
    except lib.ELib3MFException as error:
        raise FormatError(f"the 3MF could not be written ({error})") from error


def _object(lib: Any, wrapper: Any, model: Any, piece: Piece) -> None:
    triangles = triangulate(piece.faces).astype(np.uint32)
    made = model.AddMeshObject()
    made.SetName(piece.name)
    _give(
        wrapper, made, "setgeometry",
        (lib.Position, piece.positions.astype(np.float32)), (lib.Triangle, triangles),
    )  # fmt: skip
    if not _closed(triangles):
        # The format has closed bodies and loose surfaces, and readers refuse one that says it is the other.
        made.SetType(lib.ObjectType.Surface)
    if piece.colour is not None and len(triangles):
        group = model.AddColorGroup()
        codes, which = np.unique(
            np.ascontiguousarray(piece.colour).view(np.uint32).ravel(), return_inverse=True
        )
        ids = np.array(
            [
                group.AddColor(wrapper.RGBAToColor(*row))
                for row in codes.view(np.uint8).reshape(-1, 4).tolist()
            ],
            np.uint32,
        )
        own = group.GetResourceID()
        rows = np.empty((len(triangles), 4), np.uint32)
        rows[:, 0] = own
        rows[:, 1:] = ids[which.reshape(-1)][triangles]
        _give(wrapper, made, "setalltriangleproperties", (lib.TriangleProperties, rows))
        made.SetObjectLevelProperty(own, int(ids[0]))
    model.AddBuildItem(made, wrapper.GetIdentityTransform())


def read_3mf(path: Path, progress: Progress) -> Pieces:
    """Read the objects of a file where they stand on the plate, in millimetres. Raises `FormatError`."""
    with own_locale():
        return _read(path, progress)


def _read(path: Path, progress: Progress) -> Pieces:
    lib = library()
    wrapper = lib.Wrapper()
    result = Pieces()
    try:
        model = wrapper.CreateModel()
        reader = model.QueryReader("3mf")
        reader.SetStrictModeActive(False)
        reader.ReadFromFile(str(path))
        warned = reader.GetWarningCount()
        if warned:
            result.notices.append(
                f"{warned} places of it do not keep to the standard; they were read as far as they make sense."
            )
        factor = MILLIMETRES[int(_number(model.GetUnit()))]
        items = model.GetBuildItems()
        found: list[tuple[Any, AnyArray]] = []
        while items.MoveNext():
            item = items.GetCurrent()
            matrix = _matrix(item.GetObjectTransform()) if item.HasObjectTransform() else np.eye(4)
            _gather(item.GetObjectResource(), matrix, found, 0)
        check_objects(len(found))
        for count, (one, matrix) in enumerate(found):
            result.pieces.append(_piece(lib, model, one, matrix, factor, result))
            progress.report((count + 1) / len(found), "Reading")
    except lib.ELib3MFException as error:
        raise FormatError(f"it is no 3MF file, or is damaged ({error})") from error
    if not result.pieces:
        raise FormatError("there is nothing on its plate")
    return result


def _number(value: Any) -> int:
    return int(getattr(value, "value", value))


def _matrix(transform: Any) -> AnyArray:
    """How the format says where something stands, as rows (4, 4)."""
    matrix = np.eye(4)
    matrix[:, :3] = np.array([[transform.Fields[row][k] for k in range(3)] for row in range(4)])
    return matrix


def _gather(one: Any, matrix: AnyArray, found: list[tuple[Any, AnyArray]], deep: int) -> None:
    """The meshes that an object is made of, each with its place."""
    if deep > DEEPEST:
        raise FormatError("its objects contain each other")
    if one.IsMeshObject():
        found.append((one, matrix))
    elif one.IsComponentsObject():
        for number in range(one.GetComponentCount()):
            part = one.GetComponent(number)
            own = _matrix(part.GetTransform()) if part.HasTransform() else np.eye(4)
            _gather(part.GetObjectResource(), own @ matrix, found, deep + 1)


def _piece(lib: Any, model: Any, one: Any, matrix: AnyArray, factor: float, result: Pieces) -> Piece:
    count, many = one.GetVertexCount(), one.GetTriangleCount()
    wrapper = one._wrapper
    points = _taken(wrapper, one, "getvertices", lib.Position, np.float32, count)
    table = _taken(wrapper, one, "gettriangleindices", lib.Triangle, np.uint32, many)
    faces: I32 = np.full((many, 4), -1, np.int32)
    faces[:, :3] = table
    if np.linalg.det(matrix[:3, :3]) < 0:
        faces[:, [1, 2]] = faces[:, [2, 1]]
    placed = finite_positions((points.astype(np.float64) @ matrix[:3, :3] + matrix[3, :3]) * factor)
    colour = _colours(lib, model, one, faces, len(placed))
    faces = checked_faces(faces, len(placed))
    faces = drop_repeated(drop_degenerate(faces, result.notices), result.notices, len(placed))
    if not len(faces):
        raise FormatError("there are no faces")
    return Piece(one.GetName() or "Part", placed, faces, colour)


def _colours(lib: Any, model: Any, one: Any, faces: I32, n: int) -> U8 | None:
    """What vertices are painted with, (n, 4); of several that meet in one the last."""
    rows = _taken(
        one._wrapper, one, "getalltriangleproperties", lib.TriangleProperties, np.uint32, len(faces)
    )
    palette: dict[int, dict[int, tuple[int, ...]]] = {}
    groups = model.GetColorGroups()
    while groups.MoveNext():
        group = groups.GetCurrentColorGroup()
        own: dict[int, tuple[int, ...]] = {}
        for number in group.GetAllPropertyIDs():
            shade = group.GetColor(number)
            own[number] = (shade.Red, shade.Green, shade.Blue, shade.Alpha)
        palette[group.GetResourceID()] = own
    bases = model.GetBaseMaterialGroups()
    while bases.MoveNext():
        group = bases.GetCurrentBaseMaterialGroup()
        own = {}
        for number in group.GetAllPropertyIDs():
            shade = group.GetDisplayColor(number)
            own[number] = (shade.Red, shade.Green, shade.Blue, shade.Alpha)
        palette[group.GetResourceID()] = own
    known = [key for key in palette if (rows[:, 0] == key).any()] if len(rows) else []
    if not known:
        return None
    out = np.full((n, 4), 255, np.uint8)
    for key in known:
        at = rows[:, 0] == key
        shades = palette[key]
        numbers = np.array(sorted(shades), np.int64)
        table = np.array([shades[k] for k in numbers.tolist()], np.uint8)
        for k in range(3):
            which = np.clip(np.searchsorted(numbers, rows[at, 1 + k]), 0, len(numbers) - 1)
            out[faces[at, k]] = table[which]
    return out
