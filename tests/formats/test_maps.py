"""UVs and maps in files: read by independent libraries, and back again."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import OpenEXR
import png
import pytest
import trimesh

from kneten.core.arrays import Progress
from kneten.core.maps.bake import BakeWish
from kneten.core.regions import middles
from kneten.core.transform import Transform
from kneten.core.uv.pack import PackWish
from kneten.document.mapping import baked_part, keep
from kneten.document.project import Project
from kneten.document.scene import Part, Scene
from kneten.document.unwrapping import cage_of, laid_flat, land
from kneten.formats.exchange import pieces_of, read_file, with_maps, write_file
from kneten.formats.gltf_write import split_at_seams
from kneten.formats.maps import as_png, from_png, tile_number, write_maps
from kneten.formats.pieces import FormatError
from kneten.formats.space import Space
from tests.conftest import make_ball
from tests.judge import well_formed

DONE = Progress()
MM = Space("mm")


def laid(mirror: bool = False) -> Project:
    place = Transform(mirror=mirror)
    project = Project(Scene((Part("Ball", make_ball(50.0, 6), transform=place),)))
    part = project.scene.parts[0]
    cage = cage_of(part)
    land(project, part, cage, laid_flat(cage, PackWish(size=256), 1.5, DONE), "Unwrap")
    return project


def corners(positions: np.ndarray, faces: np.ndarray, uv: np.ndarray) -> set[tuple[float, ...]]:
    """Every corner: where it stands, and where it lies."""
    has = faces >= 0
    rows = np.concatenate([positions[faces[has]], uv.reshape(-1, 4, 2)[has]], axis=1)
    return {tuple(row) for row in np.round(rows, 3).tolist()}


@pytest.mark.parametrize("mirror", [False, True])
def test_obj_keeps_quads_and_the_place_of_every_corner(tmp_path: Path, mirror: bool) -> None:
    project = laid(mirror)
    parts = project.scene.parts
    (piece,) = pieces_of(parts, MM)
    write_file(tmp_path / "a.obj", [piece], False)
    ((_, mesh, _),), notices = read_file(tmp_path / "a.obj", MM)
    assert notices == []
    positions, faces = mesh.source_arrays()
    back = np.empty_like(mesh.uv)
    back[mesh.topology.source_face] = mesh.uv
    assert corners(positions, faces, back) == corners(piece.positions, piece.faces, piece.uv)  # type: ignore[arg-type]
    judge = trimesh.load(tmp_path / "a.obj", process=False)
    assert judge.visual.uv.min() >= -1e-6
    assert judge.visual.uv.max() <= 1 + 1e-6
    # Seen from outside, no island is turned over, mirrored parts' ones neither or all.
    assert len(np.unique(np.round(judge.visual.uv, 5), axis=0)) == len(
        np.unique(np.round(piece.uv.reshape(-1, 2), 5), axis=0)
    )  # type: ignore[union-attr]


def test_obj_dialects_with_places(tmp_path: Path) -> None:
    text = "v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nv 2 0 0\nvt 0 0\nvt 1 0 0\nvt 1 1\nvt 0 1\nvn 0 0 1\n"
    (tmp_path / "a.obj").write_text(text + "f 1/1/1 2/2/1 3/3/1 4/4/1\nf 2/-3 5/2 3/3\n")
    ((_, mesh, _),), _ = read_file(tmp_path / "a.obj", MM)
    assert mesh.uv.reshape(-1, 4, 2)[0].tolist() in [[[0, 0], [1, 0], [1, 1], [0, 1]]]
    for faces, words in (
        ("f 1/1 2/2 3/3 4/4\nf 2 5 3\n", "Only some"),
        ("f 1/1 2/2 3/9 4/4\n", "do not fit"),
    ):
        (tmp_path / "b.obj").write_text(text + faces)
        ((_, mesh, _),), notices = read_file(tmp_path / "b.obj", MM)
        assert mesh.uv is None
        assert any(words in notice for notice in notices)
    (tmp_path / "c.obj").write_text(text + "f 1//1 2//1 3//1\n")
    ((_, mesh, _),), notices = read_file(tmp_path / "c.obj", MM)
    assert mesh.uv is None
    assert notices == []


def test_what_cannot_hold_them_says_so(tmp_path: Path) -> None:
    pieces = pieces_of(laid().scene.parts, MM)
    for ending in (".ply", ".stl"):
        assert any("no UVs" in text for text in write_file(tmp_path / f"a{ending}", pieces, False))


@pytest.mark.parametrize("ending", [".glb", ".gltf"])
def test_gltf_has_places_tangents_and_pictures(tmp_path: Path, ending: str) -> None:
    project = laid()
    part = project.scene.parts[0]
    part.mesh.need("material")[:] = (51, 204, 0, 0)
    keys = ("normal", "occlusion", "colour", "roughness", "metalness")
    keep(project, baked_part(part, (), BakeWish(keys, 64, rays=4), None, DONE), as_png)
    path = tmp_path / f"a{ending}"
    pieces = with_maps(path, pieces_of(project.scene.parts, Space("m")), project.scene.parts, project.scene)
    write_file(path, pieces, False)
    judge = trimesh.load(path, force="mesh", process=False)
    material = judge.visual.material
    assert material.baseColorTexture.size == (64, 64)
    assert material.normalTexture is not None
    assert material.occlusionTexture is not None
    mixed = np.asarray(material.metallicRoughnessTexture)
    kept = {one.key: from_png(one.data) for one in project.scene.maps}
    assert np.array_equal(mixed[:, :, 1], kept["roughness"][:, :, 0])
    assert np.array_equal(mixed[:, :, 2], kept["metalness"][:, :, 0])
    ((_, mesh, _),), _ = read_file(path, Space("m"))
    triangles = np.concatenate([part.mesh.topology.faces[:, :3], part.mesh.topology.faces[:, [0, 2, 3]]])
    uv = part.mesh.uv.reshape(-1, 4, 2)  # type: ignore[union-attr]
    own = np.concatenate([uv[:, [0, 1, 2]], uv[:, [0, 2, 3]]])
    wanted = {tuple(row) for row in np.round(np.concatenate([part.mesh.positions[triangles], own], axis=2).reshape(-1, 5), 2).tolist()}  # fmt: skip
    has = mesh.topology.faces >= 0
    found = np.concatenate([mesh.positions[mesh.topology.faces[has]], mesh.uv.reshape(-1, 4, 2)[has]], axis=1)
    assert {tuple(row) for row in np.round(found, 2).tolist()} == wanted


def test_gltf_has_the_maps_of_all_tiles_in_one_picture(tmp_path: Path) -> None:
    project = laid()
    part = project.scene.parts[0]
    assert part.mesh.uv is not None
    moved = part.mesh.uv.reshape(-1, 4, 2).copy()
    back = middles(part.mesh)[:, 2] < 0
    moved[back] += (1, 0)
    part.mesh.uv = moved.reshape(-1, 8)
    part.mesh.need("colour")[:] = np.where(
        part.mesh.positions[:, 2:] < 0, (10, 20, 200, 255), (200, 20, 10, 255)
    )
    keep(
        project,
        baked_part(part, (), BakeWish(("normal", "colour", "roughness"), 64, rays=4), None, DONE),
        as_png,
    )
    path = tmp_path / "tiles.glb"
    write_file(
        path,
        with_maps(path, pieces_of(project.scene.parts, Space("m")), project.scene.parts, project.scene),
        False,
    )
    well_formed(path)
    judge = trimesh.load(path, force="mesh", process=False)
    picture = judge.visual.material.baseColorTexture
    assert picture.size == (128, 128)
    assert judge.visual.material.normalTexture.size == (128, 128)
    # Seen from outside: each side has its own colour where its corners lie in the picture.
    table = np.asarray(picture.convert("RGB"))
    middle = judge.visual.uv[judge.faces].mean(axis=1)
    seen = table[np.floor((1 - middle[:, 1]) * 128).astype(int), np.floor(middle[:, 0] * 128).astype(int)]
    far = judge.triangles_center[:, 2] / np.abs(judge.triangles_center[:, 2]).max()
    assert (seen[far < -0.3][:, 2] > 150).all()
    assert (seen[far > 0.3][:, 0] > 150).all()


def test_vertices_are_split_where_seams_run_and_nowhere_else() -> None:
    project = laid()
    (piece,) = with_maps(
        Path("a.glb"), pieces_of(project.scene.parts, MM), project.scene.parts, project.scene
    )
    split, uv, tangents = split_at_seams(piece)
    assert tangents is None
    cage = cage_of(project.scene.parts[0])
    assert len(split.positions) > len(piece.positions)
    assert len(split.positions) < len(piece.positions) + 4 * int(cage.edges.marked(cage.mesh.seams, cage.mesh.topology.faces).sum())  # type: ignore[arg-type] # fmt: skip
    assert uv is not None
    assert np.array_equal(split.positions[split.faces[:, 0]], piece.positions[piece.faces[:, 0]])


def test_maps_are_written_with_all_their_depth_and_the_scale_beside_them(tmp_path: Path) -> None:
    project = laid()
    part = project.scene.parts[0]
    fine = Part("Fine", make_ball(52.0, 24))
    wish = BakeWish(("normal", "displacement", "vector", "occlusion", "id"), 64, rays=4)
    made = baked_part(part, [fine], wish, None, DONE)
    files = write_maps(tmp_path / "maps", "Käse / 1", made, DONE)
    names = {path.name for path in files}
    assert {path.name for path in (tmp_path / "maps").iterdir()} == names
    page = json.loads(next(path for path in files if path.suffix == ".json").read_text())
    stem = next(path for path in files if path.suffix == ".json").name.removesuffix("_maps.json")
    tile = made.tiles[0]
    wide, high, rows, info = png.Reader(bytes=(tmp_path / "maps" / f"{stem}_normal.png").read_bytes()).read()
    assert (wide, high, info["bitdepth"], info["planes"]) == (64, 64, 16, 3)
    assert np.array_equal(np.array([list(row) for row in rows]).reshape(64, 64, 3), tile.pictures["normal"])
    with OpenEXR.File(str(tmp_path / "maps" / f"{stem}_displacement.exr")) as file:
        assert np.allclose(file.channels()["Y"].pixels, tile.pictures["displacement"][:, :, 0])
    with OpenEXR.File(str(tmp_path / "maps" / f"{stem}_vector.exr")) as file:
        assert file.channels()["RGB"].pixels.shape == (64, 64, 3)
    words = page["maps"][f"{stem}_displacement.png"]
    _, _, rows, info = png.Reader(bytes=(tmp_path / "maps" / f"{stem}_displacement.png").read_bytes()).read()
    codes = np.array([list(row) for row in rows]) / 65535
    lengths = words["black_mm"] + codes * (words["white_mm"] - words["black_mm"])
    assert np.abs(lengths - tile.pictures["displacement"][:, :, 0]).max() < 1e-3
    assert tile_number((0, 0)) == 1001
    assert tile_number((3, 2)) == 1024


def test_a_folder_that_cannot_be_written_is_said(tmp_path: Path) -> None:
    project = laid()
    made = baked_part(project.scene.parts[0], (), BakeWish(("normal",), 64), None, DONE)
    (tmp_path / "file").write_text("")
    with pytest.raises(FormatError):
        write_maps(tmp_path / "file", "Ball", made, DONE)
