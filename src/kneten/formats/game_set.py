"""A game set: one folder with levels of detail, maps, skeleton, shapes, clips and variants, and a page that says what is in it."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from kneten.core.arrays import F32, AnyArray, Progress
from kneten.core.detail_levels import FEWEST, DetailLevel, Hung, detail_levels
from kneten.core.maps.surfaces import Low
from kneten.core.mesh import Mesh
from kneten.core.topology import MeshError
from kneten.document.arrays_file import ProjectFileError, explain, replacing
from kneten.document.game import recoloured, shared_out
from kneten.document.game_wish import GameWish, Variant
from kneten.formats.gltf_judge import judged
from kneten.formats.gltf_write import FIXED_MAPS, write_gltf
from kneten.formats.page import Table, file_stem, page, size_text, write_numbers, write_text
from kneten.formats.pieces import FormatError, Piece

SMALLEST_MAP = 64
"""Texels each way of a map at least: each level of detail has maps half as large as the one before."""


@dataclass(frozen=True)
class SetFile:
    """One file of a set.

    Attributes
    ----------
    path : Path
    triangles, draws, size : int
        Zero triangles: a picture.
    error : float
        How far its surface lies off the finest, in mm.
    judge : str
        What the open validator says; "" where it could not be asked.
    sound : bool
        Whether it found no error.
    """

    path: Path
    triangles: int
    draws: int
    size: int
    error: float = 0.0
    judge: str = ""
    sound: bool = True


@dataclass(frozen=True, eq=False)
class GameSet:
    """What was written.

    Attributes
    ----------
    folder : Path
    files : tuple of SetFile
    faults : tuple of str
    numbers : dict
    """

    folder: Path
    files: tuple[SetFile, ...]
    faults: tuple[str, ...]
    numbers: dict[str, Any]


def rest_mesh(piece: Piece) -> Mesh:
    """An object as it rests, as clay."""
    points = piece.positions
    if piece.targets is not None:
        points = piece.targets.rest
    elif piece.skin is not None:
        points = piece.skin.rest
    return Mesh.from_faces(points, piece.faces, piece.colour, material=piece.material, uv=piece.uv)


def hung_on(piece: Piece, mesh: Mesh) -> Hung:
    """What hangs on an object's vertices, in the order of the mesh made of it."""
    order = mesh.topology.source_vertex
    skin, targets = piece.skin, piece.targets
    moves = () if targets is None else tuple(move[order] for move in targets.moves)
    if skin is None:
        return Hung(moves=moves)
    return Hung(skin.which[order], skin.share[order], moves)


def as_piece(piece: Piece, level: DetailLevel, maps: dict[str, bytes]) -> Piece:
    """A level of detail of an object."""
    mesh, hung = level.mesh, level.hung
    skin, targets = piece.skin, piece.targets
    if skin is not None and hung.which is not None and hung.share is not None:
        skin = replace(skin, rest=mesh.positions, which=hung.which, share=hung.share)
    if targets is not None:
        targets = replace(targets, rest=mesh.positions, moves=hung.moves)
    dressed = bool(maps) and mesh.uv is not None
    tangents = Low.of(mesh).of_faces() if dressed and "normal" in maps else None
    return Piece(
        piece.name, mesh.positions, mesh.topology.faces, mesh.colour, (), mesh.material, skin, targets, mesh.uv,
        _upright(mesh.normals), tangents, maps if dressed else {},
    )  # fmt: skip


def _upright(normals: F32) -> F32:
    """Normals (n, 3) of length one; up where clay that was made very coarse has none."""
    length = np.linalg.norm(normals, axis=1)
    up = np.array([0, 1, 0], np.float32)
    out = np.where((length > 1e-6)[:, None], normals, up)
    return np.asarray(out / np.linalg.norm(out, axis=1, keepdims=True), np.float32)


def smaller(data: bytes, times: int) -> bytes:
    """A picture (PNG) at a half, a quarter, ... of its size."""
    if times <= 1:
        return data
    with Image.open(io.BytesIO(data)) as image:
        wide, high = (max(side // times, min(side, SMALLEST_MAP)) for side in image.size)
        out = io.BytesIO()
        image.resize((wide, high), Image.Resampling.BOX).save(out, "PNG", compress_level=6)
    return out.getvalue()


def _varied_picture(data: bytes, variant: Variant) -> bytes:
    with Image.open(io.BytesIO(data)) as image:
        table: AnyArray = np.asarray(image.convert("RGB"))
    out = io.BytesIO()
    Image.fromarray(recoloured(table, variant)).save(out, "PNG", compress_level=6)
    return out.getvalue()


def game_levels(
    pieces: Sequence[Piece], wish: GameWish, progress: Progress
) -> list[list[tuple[Piece, float]]]:
    """All objects at each level of detail, with how far each lies off; the first is as it is where it is coarse enough already.

    Raises `FormatError` where one cannot be made coarser, and `Cancelled` through `progress`.
    """
    meshes = [rest_mesh(piece) for piece in pieces]
    counts = [mesh.topology.n_triangles for mesh in meshes]
    shares = [shared_out(counts, wanted) for wanted in wish.counts]
    found: list[list[tuple[Piece, float]]] = [[] for _ in wish.counts]
    for number, (piece, mesh) in enumerate(zip(pieces, meshes, strict=True)):
        progress.report(number / len(pieces), f"Levels of detail of {piece.name}")
        now = DetailLevel(mesh, hung_on(piece, mesh), 0.0)
        for level, share in enumerate(shares):
            maps = {key: smaller(data, 2**level) for key, data in piece.maps.items()}
            wanted = max(share[number], FEWEST)
            if wanted < now.mesh.topology.n_triangles:
                try:
                    (made,) = detail_levels(now.mesh, now.hung, [wanted], progress)
                except MeshError as error:
                    raise FormatError(f"{piece.name}: {error}") from error
                now = DetailLevel(made.mesh, made.hung, now.error + made.error)
            found[level].append((as_piece(piece, now, maps), now.error))
    return found


def write_game_set(
    folder: Path, name: str, pieces: Sequence[Piece], wish: GameWish, millimetres: float, progress: Progress
) -> GameSet:
    """Write a set to a folder, which is made where there is none.

    Parameters
    ----------
    pieces : sequence of Piece
        As GLB holds them, with skins, shapes and maps.
    millimetres : float
        In each unit of the pieces' places.

    Raises
    ------
    FormatError
        With words for the user.
    Cancelled
        Through `progress`.
    """
    if not pieces:
        raise FormatError("there is nothing to deliver: no part is visible")
    try:
        folder.mkdir(parents=True, exist_ok=True)
        (folder / "maps").mkdir(exist_ok=True)
    except OSError as error:
        raise FormatError(explain(error, folder)) from error
    stem = file_stem(name)
    levels = game_levels(pieces, wish, progress)
    files: list[SetFile] = []
    try:
        for number, level in enumerate(levels):
            progress.report(number / len(levels), f"Writing level {number}")
            some = [one for one, _ in level]
            off = max(error for _, error in level) * millimetres
            mapped = [_with_variants(one, wish.variants) for one in some]
            files.append(_glb(folder / f"{stem}_lod{number}.glb", mapped, off, wish.packed, progress))
        for variant in wish.variants:
            # What is painted on vertices alone cannot be exchanged in one file.
            if any("colour" not in one.maps and one.colour is not None for one, _ in levels[0]):
                some = [_varied(one, variant) for one, _ in levels[0]]
                path = folder / f"{stem}_lod0_{file_stem(variant.name)}.glb"
                files.append(_glb(path, some, files[0].error, wish.packed, progress))
        for piece in pieces:
            for key, data in piece.maps.items():
                path = folder / "maps" / f"{file_stem(piece.name)}_{key}.png"
                with replacing(path) as file:
                    file.write(data)
                files.append(SetFile(path, 0, 0, len(data)))
    except ProjectFileError as error:
        raise FormatError(str(error)) from error
    whole = sum(rest_mesh(piece).topology.n_triangles for piece in pieces)
    faults = _faults(files, wish)
    told = _numbers(name, pieces, files, wish, whole, faults)
    write_numbers(folder / f"{stem}.json", told)
    write_text(folder / f"{stem}.html", _page(name, pieces, files, wish, whole, faults))
    return GameSet(folder, tuple(files), faults, told)


def _with_variants(piece: Piece, variants: Sequence[Variant]) -> Piece:
    if "colour" not in piece.maps or not variants:
        return piece
    more = {
        one.name: _varied_picture(piece.maps["colour"], one) for one in variants if one.name not in FIXED_MAPS
    }
    return replace(piece, maps={**piece.maps, **more})


def _varied(piece: Piece, variant: Variant) -> Piece:
    maps = dict(piece.maps)
    if "colour" in maps:
        maps["colour"] = _varied_picture(maps["colour"], variant)
    colour = None if piece.colour is None else recoloured(piece.colour, variant)
    return replace(piece, colour=colour, maps=maps)


def _glb(path: Path, pieces: list[Piece], error: float, packed: bool, progress: Progress) -> SetFile:
    with replacing(path) as file:
        write_gltf(file, pieces, True, progress, packed)
    said = judged(path)
    triangles = sum(int((piece.faces[:, 3] >= 0).sum()) + len(piece.faces) for piece in pieces)
    return SetFile(
        path, triangles, len(pieces), path.stat().st_size, error,
        "" if said is None else said.text, said is None or said.errors == 0,
    )  # fmt: skip


def _faults(files: Sequence[SetFile], wish: GameWish) -> tuple[str, ...]:
    first = files[0]
    found = []
    for limit, has, what in (
        (wish.most_triangles, first.triangles, "triangles"),
        (wish.most_bytes, first.size, "bytes"),
        (wish.most_draws, first.draws, "draw calls"),
    ):
        if limit and has > limit:
            found.append(f"{first.path.name} has {has:,} {what}; the budget is {limit:,}")
    found += [f"{one.path.name}: {one.judge}" for one in files if not one.sound]
    return tuple(found)


def _contents(pieces: Sequence[Piece]) -> dict[str, list[str]]:
    """What is in the files besides meshes, by kind."""
    skeletons = {id(one.skin.skeleton): one.skin.skeleton for one in pieces if one.skin is not None}.values()
    shapes = dict.fromkeys(name for one in pieces if one.targets is not None for name in one.targets.names)
    clips = dict.fromkeys(clip.name for one in skeletons for clip in one.clips)
    maps = dict.fromkeys(key for one in pieces for key in one.maps)
    return {
        "joints": [name for one in skeletons for name in one.names],
        "shapes": list(shapes), "clips": list(clips), "maps": list(maps),
    }  # fmt: skip


def _numbers(
    name: str,
    pieces: Sequence[Piece],
    files: Sequence[SetFile],
    wish: GameWish,
    whole: int,
    faults: Sequence[str],
) -> dict[str, Any]:
    return {
        "name": name,
        "triangles_before": whole,
        **_contents(pieces),
        "variants": [one.name for one in wish.variants],
        "budget": {"triangles": wish.most_triangles, "bytes": wish.most_bytes, "draws": wish.most_draws},
        "files": [
            {
                "name": one.path.name, "bytes": one.size, "triangles": one.triangles, "draws": one.draws,
                "error_mm": round(one.error, 4), "validator": one.judge or None,
            }
            for one in files
        ],
        "faults": list(faults),
    }  # fmt: skip


def _page(
    name: str,
    pieces: Sequence[Piece],
    files: Sequence[SetFile],
    wish: GameWish,
    whole: int,
    faults: Sequence[str],
) -> str:
    meshes = [one for one in files if one.triangles]
    rows = tuple(
        (
            one.path.name,
            f"{one.triangles:,}",
            str(one.draws),
            size_text(one.size),
            f"{one.error:.2f}",
            one.judge or "not asked",
        )
        for one in meshes
    )
    bad = frozenset(k for k, one in enumerate(meshes) if not one.sound)
    tables = [
        Table(
            "Levels of detail",
            ("File", "Triangles#", "Draw calls#", "Size#", "Off, mm#", "Open validator"),
            rows,
            "",
            bad,
        )
    ]
    first = meshes[0]
    budget = (
        (
            "Triangles",
            f"{whole:,}",
            f"{first.triangles:,}",
            f"{wish.most_triangles:,}" if wish.most_triangles else "–",
        ),
        ("Size", "–", size_text(first.size), size_text(wish.most_bytes) if wish.most_bytes else "–"),
        ("Draw calls", str(len(pieces)), str(first.draws), str(wish.most_draws) if wish.most_draws else "–"),
    )
    tables.append(Table("Budget of the first level", ("", "Before#", "Now#", "At most#"), budget))
    held = _contents(pieces)
    words = {"joints": "Joints", "shapes": "Shapes", "clips": "Clips", "maps": "Maps"}
    inside = tuple(
        (title, str(len(held[key])), ", ".join(held[key][:40]) or "none") for key, title in words.items()
    )
    inside += (("Variants", str(len(wish.variants)), ", ".join(one.name for one in wish.variants) or "none"),)
    tables.append(Table("Within", ("", "How many#", "Which"), inside))
    pictures = [one for one in files if not one.triangles]
    if pictures:
        told = tuple((f"maps/{one.path.name}", size_text(one.size)) for one in pictures)
        tables.append(Table("Maps", ("File", "Size#"), told))
    if faults:
        tables.insert(
            0,
            Table(
                "To be mended", ("What",), tuple((one,) for one in faults), "", frozenset(range(len(faults)))
            ),
        )
    return page(name, f"{len(pieces)} objects, {len(meshes)} files of meshes.", tables)
