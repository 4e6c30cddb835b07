"""What files hold, between a format and the project."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from kneten.core.arrays import F32, I32, U8, AnyArray
from kneten.core.ordering import corner_limits, first_twice
from kneten.core.repeated import repeated_faces
from kneten.formats.skins import Skin
from kneten.formats.targets import Targets


class FormatError(Exception):
    """A file cannot be read or written. The text says what is wrong with it."""


@dataclass(frozen=True, eq=False)
class Piece:
    """One object of a file.

    Attributes
    ----------
    positions : (n, 3) float32
        In the file's order.
    faces : (f, 4) int32
        -1 as the last corner of a triangle.
    colour : (n, 4) uint8 or None
        sRGB and opacity.
    material : (n, 4) uint8 or None
        Roughness, metalness, subsurface, wet.
    skin : Skin or None
        The skeleton that it hangs on, and how.
    targets : Targets or None
        What shapes do to it.
    uv : (f, 8) float32 or None
        Where each corner of each face lies in the picture plane, v upwards.
    normals : (n, 3) float32 or None
        For files that hold them.
    tangents : (f, 4, 4) float32 or None
        Of each corner of each face, where a map needs them.
    maps : dict
        PNG pictures by what they are: colour, normal, occlusion, and the file's own mix of roughness and metalness.
    cage : bool
        It is meant to be subdivided where it goes to.
    creases : (f, 4) uint8 or None
        How sharp the edge from each corner to the next stays then: see `Mesh`.
    own : tuple of str
        What it has besides that only projects of Kneten can hold, in words.
    """

    name: str
    positions: F32
    faces: I32
    colour: U8 | None = None
    own: tuple[str, ...] = ()
    material: U8 | None = None
    skin: Skin | None = None
    targets: Targets | None = None
    uv: F32 | None = None
    normals: F32 | None = None
    tangents: F32 | None = None
    maps: Mapping[str, bytes] = field(default_factory=dict)
    cage: bool = False
    creases: U8 | None = None


@dataclass
class Pieces:
    """A file's objects, and what its reader wants the user to know."""

    pieces: list[Piece] = field(default_factory=list)
    notices: list[str] = field(default_factory=list)


MOST_OBJECTS = 5_000
"""Objects of one file at most: each becomes a part, with its own line in the list."""

MOST_CORNERS = 1_200_000_000
"""Corners of all faces of a file at most: what a machine of 64 GB can hold as clay."""

LONGEST_NUMBER = 64
"""Characters of a number in a text at most. NumPy gives every word of a table as much room as the longest takes."""


def numbers_of(words: list[bytes], kind: type) -> AnyArray:
    """Words of a text file as numbers, (n,). Raises `FormatError` where one is none."""
    longest = max(map(len, words), default=0)
    if longest > LONGEST_NUMBER:
        raise FormatError(f"it holds a word of {longest:,} characters where a number should stand")
    try:
        return np.array(words, dtype="S").astype(kind)
    except (ValueError, OverflowError) as error:
        raise FormatError(f"it holds something that is not a number ({error})") from error


def check_objects(count: int) -> None:
    """Raise `FormatError` when there are more objects than make sense as parts."""
    if count > MOST_OBJECTS:
        raise FormatError(
            f"it holds {count:,} objects; {MOST_OBJECTS:,} is the most: join some where it comes from"
        )


def finite_positions(values: AnyArray) -> F32:
    """Positions (n, 3) as float32. Raises `FormatError` where one is not a usable number."""
    with np.errstate(over="ignore", invalid="ignore"):
        positions = np.ascontiguousarray(values, np.float32)
    # Along the rows of (n, 3) NumPy takes ten times as long: only to say where.
    finite = np.isfinite(positions)
    if not finite.all():
        bad = np.flatnonzero(~finite.all(axis=1))
        raise FormatError(f"vertex {bad[0] + 1} has a position that is not a finite number")
    return positions


def checked_faces(faces: I32, n_vertices: int) -> I32:
    """The faces (f, 4), if all their corners exist. Raises `FormatError`."""
    if len(faces) == 0:
        raise FormatError("there are no faces")
    low, _, high = corner_limits(faces)
    if low < 0 or high >= n_vertices:
        corners = faces.copy()
        corners[:, 3] = np.maximum(corners[:, 3], 0)
        bad = np.flatnonzero((corners < 0).any(axis=1) | (corners >= n_vertices).any(axis=1))
        worst = int(faces[bad[0]].max())
        raise FormatError(
            f"face {bad[0] + 1} names vertex {worst + 1}, but there are {n_vertices:,} vertices"
        )
    return faces


def faces_from_runs(corners: AnyArray, sizes: AnyArray, notices: list[str]) -> I32:
    """Faces (f, 4) from one long run of corners (k,) and the number of corners of each polygon (p,). Raises `FormatError`.

    Triangles and quads stay; larger polygons are cut into a fan of triangles.
    """
    sizes = np.asarray(sizes, np.int64)
    if len(sizes) == 0:
        return np.empty((0, 4), np.int32)
    if sizes.min() < 3:
        raise FormatError(f"face {int(sizes.argmin()) + 1} has fewer than three corners")
    if corners.max(initial=0) > 2**31 - 2 or corners.min(initial=0) < 2 - 2**31:
        raise FormatError("a face names a vertex that is not there")
    if sizes[0] <= 4 and (sizes == sizes[0]).all():
        faces = np.full((len(sizes), 4), -1, np.int32)
        faces[:, : sizes[0]] = corners.reshape(len(sizes), -1)
        return faces
    starts = np.cumsum(sizes) - sizes
    faces = np.full((len(sizes), 4), -1, np.int32)
    for k in range(3):
        faces[:, k] = corners[starts + k]
    quads = sizes == 4
    faces[quads, 3] = corners[starts[quads] + 3]
    large = np.flatnonzero(sizes > 4)
    if len(large) == 0:
        return faces
    notices.append(f"{len(large):,} faces with more than four corners were cut into triangles.")
    pieces = []
    before = 0
    for f in large.tolist():
        pieces.append(faces[before:f])
        run = corners[starts[f] : starts[f] + sizes[f]]
        fan = np.full((sizes[f] - 2, 4), -1, np.int32)
        fan[:, 0] = run[0]
        fan[:, 1] = run[1:-1]
        fan[:, 2] = run[2:]
        pieces.append(fan)
        before = f + 1
    return np.concatenate([*pieces, faces[before:]])


def drop_degenerate(faces: I32, notices: list[str]) -> I32:
    """Leave out faces (f, 4) that name a vertex twice: they have no surface and break edges."""
    if first_twice(faces) < 0:
        return faces
    twice = _twice(faces)
    d = faces[:, 3]
    notices.append(f"{int(twice.sum()):,} faces without surface were left out.")
    # A quad with two neighbouring corners in one is a triangle.
    kept = faces.copy()
    for k in range(4):
        n = (k + 1) % 4
        pair = (d >= 0) & (faces[:, k] == faces[:, n])
        others = [j for j in range(4) if j != n]
        kept[pair, :3] = faces[pair][:, others]
        kept[pair, 3] = -1
    return kept[~_twice(kept)]


def _twice(faces: I32) -> AnyArray:
    """Which faces (f, 4) name a vertex twice."""
    a, b, c, d = faces.T
    some = (a == b) | (b == c) | (a == c)
    # Of a triangle the last one is no vertex.
    return some if d.max(initial=-1) < 0 else some | ((d >= 0) & ((d == a) | (d == b) | (d == c)))


def drop_repeated(faces: I32, notices: list[str], n_vertices: int | None = None) -> I32:
    """Leave out faces (f, 4) that are there already, whatever corner they begin with.

    With `n_vertices`, where it is known how many there are, their corners need not be looked through for it.
    """
    again = repeated_faces(faces, n_vertices)
    if not (count := int(np.count_nonzero(again))):
        return faces
    notices.append(f"{count:,} faces that were there already were left out.")
    return faces[again == 0]


def decode_name(raw: bytes, notices: list[str]) -> str:
    """A name from a file; names that are not UTF-8 are read as Latin-1, and the user is told."""
    try:
        return raw.decode("utf-8").strip()
    except UnicodeDecodeError:
        text = "A name in the file is not UTF-8; it was read as Latin-1. Check the part names."
        if text not in notices:
            notices.append(text)
        return raw.decode("latin-1").strip()
